package main

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"tansu/internal/chest"
	names "tansu/internal/core/reference"
	"tansu/internal/core/search"
	"tansu/internal/core/secretvalue"
	"tansu/internal/people"
	"tansu/internal/rights"
	"tansu/internal/shelf"
	"tansu/internal/store"
)

// How many there are of what makes others wait.
const (
	hungryWatches = 3_000
	hungrySignIns = 400
	hungryEntries = 260_000
)

// hunger measures what others wait beside many watches, many sign-ins and a long trail.
func hunger(result map[string]any) error {
	return inProcess(func(s *scale) error {
		if _, err := s.vault.CreateDrawer(s.steward, shelf.NewDrawer{Name: "quay", Environment: "staging"}); err != nil {
			return err
		}
		for _, item := range []string{"anchor", "other"} {
			if _, _, err := s.vault.CreateItem(s.steward, names.Reference{Drawer: "quay", Item: item}, shelf.NewItem{},
				shelf.NewVersion{Content: secretvalue.FromString("value")}); err != nil {
				return err
			}
		}
		for _, part := range []func(map[string]any) error{s.besideWatches, s.besideSignIns, s.besideEntries} {
			if err := part(result); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *scale) told(result map[string]any, key string, times []time.Duration) {
	slices.Sort(times)
	result[key] = round(milliseconds(times[len(times)/2]))
	fmt.Printf("%-36s %10.2f ms, the slowest %.2f\n", key, milliseconds(times[len(times)/2]), milliseconds(times[len(times)-1]))
}

// caller is an app that is signed in, with a grant if it has a role.
func (s *scale) caller(name, role, scope string) (c chest.Caller, err error) {
	made, err := s.vault.Register(s.steward, people.NewIdentity{Kind: "app", Name: name, Owner: "person:steward"})
	if err != nil {
		return c, err
	}
	if role != "" {
		if _, _, err := s.vault.Give(s.steward, rights.NewGrant{Subject: "app:" + name, Role: role, Scope: scope}); err != nil {
			return c, err
		}
	}
	issued, err := s.vault.IssueToken(context.Background(), s.origin, people.AppProof{App: name,
		Secret: string(made.Credential.Secret.Reveal())})
	if err != nil {
		return c, err
	}
	return s.vault.Authenticate(s.origin, string(issued.Token.Reveal()))
}

func (s *scale) besideWatches(result map[string]any) error {
	watcher, err := s.caller("watcher", "consumer", "quay/**")
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	began := make(chan error, hungryWatches)
	for range hungryWatches {
		all.Go(func() {
			err := s.vault.WatchValues(ctx, watcher, []names.Reference{{Drawer: "quay", Item: "anchor"}}, shelf.Watcher{
				Begin:  func() error { began <- nil; return nil },
				Change: func(shelf.Check) error { return nil }, Pause: func() error { return nil }})
			if err != nil {
				began <- err
			}
		})
	}
	for range hungryWatches {
		if err := <-began; err != nil {
			stop()
			return err
		}
	}
	var times []time.Duration
	for n := range 9 {
		at := time.Now()
		_, _, err := s.vault.Give(s.steward, rights.NewGrant{Subject: "app:watcher", Role: "viewer", Scope: fmt.Sprintf("quay/x%d", n)})
		if err != nil {
			stop()
			return err
		}
		times = append(times, time.Since(at))
	}
	stop()
	all.Wait()
	s.told(result, "give_beside_3000_watches_ms", times)
	return nil
}

func (s *scale) besideSignIns(result map[string]any) error {
	made, err := s.vault.Register(s.steward, people.NewIdentity{Kind: "person", Name: "security-duty"})
	if err != nil {
		return err
	}
	password := secretvalue.FromString("a password of the bench")
	session, err := s.vault.Enrol(s.origin, string(made.Credential.Secret.Reveal()), password, people.ViaConsole)
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	start := make(chan struct{})
	for n := range hungrySignIns {
		all.Go(func() {
			<-start
			origin := chest.Origin{Addr: fmt.Sprintf("198.51.%d.%d", n/250, 1+n%250)}
			_, _ = s.vault.SignIn(origin, fmt.Sprintf("nobody-%d", n), password, "", people.ViaConsole)
		})
	}
	close(start)
	var times []time.Duration
	for range 5 {
		at := time.Now()
		if _, err := s.vault.SignIn(s.origin, "security-duty", password, session.Mark, people.ViaConsole); err != nil {
			return err
		}
		times = append(times, time.Since(at))
	}
	all.Wait()
	s.told(result, "sign_in_known_beside_400_ms", times)
	return nil
}

func (s *scale) besideEntries(result map[string]any) error {
	reader, err := s.caller("reader", "consumer", "quay/**")
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	for range 64 {
		all.Go(func() {
			for range hungryEntries / 64 {
				_, _ = s.vault.ReadValue(reader, names.Reference{Drawer: "quay", Item: "anchor"})
			}
		})
	}
	all.Wait()
	auditor, err := s.caller("auditor", "auditor", "quay/other")
	if err != nil {
		return err
	}
	if _, err := s.vault.ReadValue(reader, names.Reference{Drawer: "quay", Item: "other"}); err != nil {
		return err
	}
	var times []time.Duration
	for range 5 {
		at := time.Now()
		page, err := s.vault.Trail(auditor, store.Filter{}, search.Query{}, 100)
		if err != nil {
			return err
		}
		if len(page.Entries) == 0 {
			return fmt.Errorf("an auditor of one item finds nothing")
		}
		times = append(times, time.Since(at))
	}
	s.told(result, "narrow_auditor_of_260k_entries_ms", times)
	return nil
}
