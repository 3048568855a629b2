package service

import (
	"errors"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
)

// Served is a value on its way to a caller.
type Served struct {
	Reference reference.Reference // with the version that was served
	Content   secretvalue.Value
	Shape     secretvalue.Shape
	Fields    secretvalue.Fields // all of them, when the whole was asked for of an item that has fields
	CreatedAt time.Time
	NotAfter  time.Time     // when the version stops being usable; zero for never
	Changes   time.Time     // when the same question may have another answer by itself; zero for never
	Grace     bool          // it has ended, and a rule lets it be served for a while
	KeepFor   time.Duration // how long an agent on a host may serve it while the chest is away; 0 for not at all
	Home      string        // where the item is now, when it was asked for by an old name; else empty
}

// ReadValue serves a value: decide, find the version, check its window, decrypt, record, answer. It returns content
// only after the entry is durable. An exact name needs no right to list; a caller without a grant learns nothing about
// what exists, because the decision comes before any look-up.
func (s *Service) ReadValue(c Caller, ref reference.Reference) (Served, error) {
	a := attempt{s: s, batch: c.batch}
	a.entry.At, a.entry.Subject, a.entry.Via = s.now(), c.name, c.via
	a.entry.Action, a.entry.Target = "read_value", reference.Reference{Drawer: ref.Drawer, Item: ref.Item}.String()
	a.entry.RequestID, a.entry.Addr, a.entry.Stated, a.entry.Version = c.RequestID, c.Addr, c.Reason, ref.Version

	s.mu.RLock()
	st := s.state
	if st == nil {
		s.mu.RUnlock()
		return Served{}, errLocked
	}
	place := st.at(ref.Drawer, ref.Item)
	if place.err != nil {
		s.mu.RUnlock()
		return Served{}, a.fail(place.err)
	}
	request := st.requestAt(place, c.id, access.ReadValue, c.context(a.entry.At))
	decision := st.policy.Decide(request)
	if !decision.Allowed {
		why := nearestMiss(st.policy, request)
		s.mu.RUnlock()
		return Served{}, a.decided(decision, access.ReadValue, why)
	}
	served, err := s.decryptAt(st, place, c, ref, a.entry.At, toShow)
	s.mu.RUnlock()
	if idle, closed := err.(*Error); closed && idle.Reason == string(lifecycle.Idle) {
		served, err = s.decryptAwake(c, ref, a.entry.At)
	}

	a.entry.Grant = decision.Grant
	if err == nil && served.Home != "" {
		if denied := s.deniedAt(c, served.Home, a.entry.At); denied.Reason == access.Denied {
			served.Content.Wipe()
			a.entry.Detail = "an old name of " + served.Home
			return Served{}, a.decided(denied, access.ReadValue, "")
		}
	}
	if err != nil {
		var damaged *Error
		if !errors.As(err, &damaged) {
			s.options.Log.Error("value cannot be decrypted", "target", a.entry.Target, "error", err)
		}
		return Served{}, a.fail(err)
	}
	a.entry.Version = served.Reference.Version
	if ref.Version != 0 {
		a.entry.Detail = byNumber
	}
	if ref.Field != "" {
		a.entry.Detail += " field " + ref.Field
	}
	if served.Grace {
		a.entry.Detail += inGrace
	}
	if served.Home != "" {
		a.entry.Detail += " by an old name, now " + served.Home
	}
	if err := a.done(); err != nil {
		served.Content.Wipe()
		return Served{}, err
	}
	return served, nil
}

// What one call may ask for, and how much it may get.
const (
	MaxReferences = 100
	mostInBatch   = 4 << 20 // bytes of content; what comes after is asked for again
)

// Outcome is a value, or why it is not served.
type Outcome struct {
	Served Served
	Err    error
}

// ReadValues serves several values, each decided by itself: some may be refused while others are served. All entries become
// durable in one commit, and no content is returned before.
func (s *Service) ReadValues(c Caller, refs []reference.Reference) ([]Outcome, error) {
	if len(refs) == 0 || len(refs) > MaxReferences {
		return nil, invalid("references", "references are 1 to %d", MaxReferences)
	}
	c.batch, c.addr = &batch{entries: make([]trail.Entry, 0, len(refs))}, c.context(s.now()).Addr
	outcomes, size := make([]Outcome, len(refs)), 0
	wipe := func() {
		for i := range outcomes {
			outcomes[i].Served.Content.Wipe()
		}
	}
	for i, ref := range refs {
		if size > mostInBatch {
			outcomes[i].Err = &Error{Code: TooLarge, Detail: "the values before it fill this answer: ask for it in another call"}
			continue
		}
		served, err := s.ReadValue(c, ref)
		if err == errLocked {
			wipe()
			return nil, err
		}
		outcomes[i] = Outcome{served, err}
		size += len(served.Content.Reveal())
	}
	if err := s.flush(c.batch); err != nil {
		wipe()
		return nil, err
	}
	return outcomes, nil
}

// deniedAt decides about a value under the name that it has now, for who asked by an old one: who was allowed that one may
// go on, unless a grant denies them the new one.
func (s *Service) deniedAt(c Caller, home string, now time.Time) (d access.Decision) {
	_ = s.view(func(st *state) error {
		d = st.decide(c.id, access.ReadValue, c.context(now), targetOf(home)...)
		return nil
	})
	return d
}

// purpose is what a value is decrypted for.
type purpose int

const (
	toShow    purpose = iota // to the caller
	toCompare                // within the chest
)

// inGrace marks in the trail a read after the end of what was read.
const inGrace = " in grace"

// decryptAwake looks again at an item that nobody seems to have read for long, when all reads are counted.
func (s *Service) decryptAwake(c Caller, ref reference.Reference, now time.Time) (served Served, err error) {
	if err := s.records.CatchUp(); err != nil {
		return served, err
	}
	err = s.view(func(st *state) error { served, err = s.decrypt(st, c, ref, now, toShow); return err })
	return served, err
}

// serving is the version that answers a reference, found without opening anything.
type serving struct {
	drawer *drawer
	item   *item
	number int
	Home   string    // where the item is now, when it was asked for by an old name; else empty
	Ends   time.Time // when the version stops being usable; zero for never
	// Changes is when the same question may have another answer by itself; zero for never.
	Changes time.Time
	Grace   bool // it has ended, and a rule lets it be served for a while
}

// serving finds what a reader who is allowed to gets now. Nobody but an app is shown what is for use only.
func (st *state) serving(kind string, ref reference.Reference, now time.Time) (found serving, err error) {
	return st.at(ref.Drawer, ref.Item).serving(kind, ref, now)
}

func (p spot) serving(kind string, ref reference.Reference, now time.Time) (found serving, err error) {
	d, it, err := p.readItem()
	if err != nil {
		return found, err
	}
	found = serving{drawer: d, item: it, number: ref.Version}
	if it.row.UseOnly && kind != reference.App {
		return found, &Error{Code: NotServable, Reason: "use_only", Detail: ref.String() + " is for use by applications only, and shown to no person: compare it (tansu check --equals), or let an application use it"}
	}
	if found.number == 0 {
		found.number, err = it.life.Current(now)
	} else if found.number > len(it.versions) {
		return found, notFound("version "+ref.String(), "")
	} else {
		err = it.life.Servable(found.number, now)
	}
	if err != nil {
		var closed *lifecycle.NotServable
		if errors.As(err, &closed) {
			err = &Error{Code: NotServable, Reason: string(closed.State), Detail: ref.String() + ": " + closed.Error()}
		}
		return found, err
	}
	found.Ends, found.Grace = it.life.Ends(found.number, now), it.life.VersionAt(found.number, now) == lifecycle.Grace
	found.Changes = found.Ends
	if ref.Version == 0 || found.Grace {
		found.Changes = it.life.Changes(now)
	}
	if d.row.Name != ref.Drawer || it.row.Name != ref.Item {
		found.Home = d.row.Name + "/" + it.row.Name
	}
	return found, nil
}

// decrypt finds the version to serve and opens it. The caller holds the lock on the state.
func (s *Service) decrypt(st *state, c Caller, ref reference.Reference, now time.Time, why purpose) (Served, error) {
	return s.decryptAt(st, st.at(ref.Drawer, ref.Item), c, ref, now, why)
}

// decryptAt is decrypt for a reference that was looked up.
func (s *Service) decryptAt(st *state, p spot, c Caller, ref reference.Reference, now time.Time, why purpose) (Served, error) {
	kind := reference.App // within the chest, everything may be used
	if why == toShow {
		kind = st.identities[c.id].Kind
	}
	found, err := p.serving(kind, ref, now)
	if err != nil {
		if found.item == nil {
			err = s.hint(st, c, ref, err, now)
		}
		return Served{}, err
	}
	it := found.item
	content, err := s.openVersion(found.drawer, it, found.number)
	if err != nil {
		return Served{}, err
	}
	value, fields, err := choose(it.row, ref, content)
	if err != nil {
		return Served{}, err
	}
	return Served{KeepFor: time.Duration(it.life.Rules.At(now).HostKeeps), Home: found.Home, Changes: found.Changes, Grace: found.Grace, Reference: reference.Reference{Drawer: ref.Drawer, Item: ref.Item, Version: found.number, Field: ref.Field}, Content: value, Fields: fields, Shape: shapeOf(it.row),
		CreatedAt: fromMicros(it.versions[found.number-1].CreatedAt), NotAfter: found.Ends}, nil
}
