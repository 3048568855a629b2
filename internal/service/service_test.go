package service_test

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/opening"
	"tansu/internal/people"
	"tansu/internal/rights"
	"tansu/internal/service"
	"tansu/internal/shelf"
	"tansu/internal/store"
)

// broken is a store whose writes can be made to fail, and whose ciphertexts can be swapped.
type broken struct {
	*store.Store
	failing bool
	swapped []byte // given for every content when set
	last    trail.Entry
	before  func(*store.Work) // runs before a work is submitted
}

func (b *broken) Submit(work *store.Work) error {
	b.last = work.Entry
	if b.before != nil {
		b.before(work)
	}
	if b.failing {
		return fmt.Errorf("%w: the disk is gone", store.ErrNotRecorded)
	}
	return b.Store.Submit(work)
}

func (b *broken) Content(version string) ([]byte, error) {
	if b.swapped != nil {
		return b.swapped, nil
	}
	return b.Store.Content(version)
}

var origin = chest.Origin{Addr: "192.0.2.1", RequestID: "test"}

// open makes an unlocked service over a broken store, with a value in d/i that the returned caller may read.
func open(t testing.TB) (*service.Service, *broken, chest.Caller) {
	t.Helper()
	records, err := store.Create(filepath.Join(t.TempDir(), "chest"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = records.Close() })
	material := envelope.NewKeyFile(envelope.MethodKeyFile)
	founded, err := opening.Found(records, opening.Founding{Method: envelope.MethodKeyFile, Material: material, Hosts: []string{"localhost"}})
	if err != nil {
		t.Fatal(err)
	}
	b := &broken{Store: records}
	s, err := service.New(b, service.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Unlock(origin, material); err != nil {
		t.Fatal(err)
	}
	session, err := s.Enrol(origin, string(founded.Enrolment.Reveal()), secretvalue.FromString("a password for tests"), people.ViaCLI)
	if err != nil {
		t.Fatal(err)
	}
	steward, err := s.Authenticate(origin, string(session.Token.Reveal()))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.CreateDrawer(steward, shelf.NewDrawer{Name: "d", Environment: "staging"}); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"i", "j"} {
		ref := reference.Reference{Drawer: "d", Item: name}
		if _, _, err := s.CreateItem(steward, ref, shelf.NewItem{},
			shelf.NewVersion{Content: secretvalue.FromString("value of " + name)}); err != nil {
			t.Fatal(err)
		}
	}
	if _, _, err := s.Give(steward, rights.NewGrant{Subject: "person:steward", Role: "consumer", Scope: "d/**"}); err != nil {
		t.Fatal(err)
	}
	return s, b, steward
}

func codeOf(err error) chest.Code {
	var known *chest.Error
	if errors.As(err, &known) {
		return known.Code
	}
	return ""
}

// If it cannot be recorded, it is not served, whatever it is.
func TestNothingIsServedThatCannotBeRecorded(t *testing.T) {
	s, b, steward := open(t)
	item := reference.Reference{Drawer: "d", Item: "i"}
	b.failing = true
	served, err := s.ReadValue(steward, item)
	if codeOf(err) != chest.NotRecorded || served.Content.Len() != 0 {
		t.Errorf("a read: %d bytes, %v", served.Content.Len(), err)
	}
	for what, attempt := range map[string]func() error{
		"a refused read": func() error { _, err := s.ReadValue(steward, reference.Reference{Drawer: "e", Item: "i"}); return err },
		"a missing item": func() error {
			_, err := s.ReadValue(steward, reference.Reference{Drawer: "d", Item: "none"})
			return err
		},
		"drawers": func() error { list, err := s.Drawers(steward, "", 0); return without(len(list.Drawers), err) },
		"a drawer": func() error {
			page, err := s.Drawer(steward, "d", shelf.WithoutRetired, "", 10)
			return without(len(page.Items), err)
		},
		"a history": func() error { _, list, err := s.History(steward, item); return without(len(list), err) },
		"identities": func() error {
			page, err := s.Identities(steward, people.IdentityFilter{})
			return without(len(page.Identities), err)
		},
		"the trail": func() error {
			page, err := s.Trail(steward, store.Filter{}, nil, 10)
			return without(len(page.Entries), err)
		},
		"a sign-in": func() error {
			_, err := s.SignIn(origin, "steward", secretvalue.FromString("a password for tests"), "", people.ViaCLI)
			return err
		},
		"a wrong token": func() error { _, err := s.Authenticate(origin, "nonsense"); return err },
		"a registration": func() error {
			_, err := s.Register(steward, people.NewIdentity{Kind: "app", Name: "x"})
			return err
		},
		"a lock": func() error { return s.Lock(steward) },
	} {
		if err := attempt(); codeOf(err) != chest.NotRecorded {
			t.Errorf("%s: got %v, want not_recorded", what, err)
		}
	}
	b.failing = false
	if served, err := s.ReadValue(steward, item); err != nil || string(served.Content.Reveal()) != "value of i" {
		t.Errorf("afterwards: %v", err)
	}
	if _, err := s.Identity(steward, "app:x"); codeOf(err) != chest.NotFound {
		t.Errorf("the registration that was not recorded is there: %v", err)
	}
}

// without lets an error stand only if no data came with it.
func without(data int, err error) error {
	if data > 0 {
		return fmt.Errorf("%d elements came with %w", data, errors.New("an error"))
	}
	return err
}

// A ciphertext that somebody moved from another item does not open, and the attempt is in the trail.
func TestMovedCiphertextIsNotServed(t *testing.T) {
	s, b, steward := open(t)
	var err error
	served, err := s.ReadValue(steward, reference.Reference{Drawer: "d", Item: "j"})
	if err != nil || string(served.Content.Reveal()) != "value of j" {
		t.Fatal(err)
	}
	for what, swapped := range map[string][]byte{"nonsense": bytes.Repeat([]byte{1}, 60), "nothing": {}} {
		b.swapped = swapped
		served, err := s.ReadValue(steward, reference.Reference{Drawer: "d", Item: "i"})
		if codeOf(err) != chest.Internal || served.Content.Len() != 0 {
			t.Errorf("%s: %d bytes, %v", what, served.Content.Len(), err)
		}
		if b.last.Outcome != trail.Failed || b.last.Target != "d/i" {
			t.Errorf("%s: the entry is %+v", what, b.last)
		}
	}
}

// An error that reaches a caller must not carry what is below it.
func TestErrorsDoNotCarryTheirCauses(t *testing.T) {
	s, b, steward := open(t)
	b.failing = true
	_, err := s.ReadValue(steward, reference.Reference{Drawer: "d", Item: "i"})
	if err == nil || strings.Contains(err.Error(), "the disk is gone") {
		t.Errorf("got %v", err)
	}
}

func TestSignedOutTokenIsWorthNothing(t *testing.T) {
	s, _, steward := open(t)
	session, err := s.SignIn(origin, "steward", secretvalue.FromString("a password for tests"), "", people.ViaCLI)
	if err != nil {
		t.Fatal(err)
	}
	second, err := s.Authenticate(origin, string(session.Token.Reveal()))
	if err != nil {
		t.Fatal(err)
	}
	if err := s.SignOut(second); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Authenticate(origin, string(session.Token.Reveal())); codeOf(err) != chest.Unauthenticated {
		t.Errorf("got %v", err)
	}
	if _, err := s.Me(steward); err != nil {
		t.Errorf("the other session: %v", err)
	}
	if d := time.Until(session.End); d < 7*time.Hour || d > 9*time.Hour {
		t.Errorf("a session lasts %s", d)
	}
}
