package shelf

import (
	"context"
	"time"

	"tansu/internal/chest"
	"tansu/internal/store"
	"tansu/internal/waking"

	"tansu/internal/core/reference"
)

// How many of one identity wait at once, so that nobody uses up the room of others.
const (
	mostByOne  = 6_000
	mostByNone = 16 // of one that may do nothing at all
)

// Watcher is who waits for values to change. An error says that nobody listens any more.
type Watcher struct {
	Begin  func() error      // when it is decided that the caller may ask
	Change func(Check) error // the answer for one reference: all of them at first, and then those that are other ones
	Pause  func() error      // when all was told for now
}

// lookedAfter is how often a watcher is told that the chest is still there, and its token and all answers are looked at: what is
// watched by an old name is told of then.
const lookedAfter = 10 * time.Second

// WatchValues tells somebody what would come of reading some values, as [Service.Check] does, and again whenever that is
// something else: a new version, an end, a grant that was given or taken. No value is opened for it. It goes on until the
// context ends, nobody listens any more, or the caller's token is no good any more.
func (s *Shelf) WatchValues(ctx context.Context, c chest.Caller, refs []reference.Reference, w Watcher) error {
	most := mostByOne
	if st, err := s.heart.Look(); err == nil && len(st.Policy.Of(c.ID)) == 0 {
		most = mostByNone
	}
	one, room := s.waiting.Add(c.ID, most)
	if !room {
		return &chest.Error{Code: chest.Throttled, Detail: "too many callers are waiting for changes: try again later", RetryAfter: time.Minute}
	}
	defer s.waiting.Remove(one)
	if err := s.markAll(one, c, refs); err != nil {
		return err
	}
	told, err := s.Check(c, Preflight{References: refs})
	if err != nil {
		return err
	}
	if err := w.Begin(); err != nil {
		return err
	}
	for _, ch := range told {
		if err := w.Change(ch); err != nil {
			return err
		}
	}
	after := time.NewTicker(lookedAfter)
	defer after.Stop()
	for {
		if err := w.Pause(); err != nil {
			return err
		}
		turn := time.NewTimer(s.nextTurn(told))
		select {
		case <-ctx.Done():
		case <-one.Calls():
		case <-turn.C:
		case <-after.C:
		}
		turn.Stop()
		if ctx.Err() != nil || !s.heart.StillGood(c) {
			return nil
		}
		if err := s.tellChanges(c, one, refs, told, w.Change); err != nil {
			return err
		}
	}
}

// longest is how long a watcher waits for a change by itself before it looks again.
const longest = time.Hour

// nextTurn is how long it takes until one of the answers changes by itself.
func (s *Shelf) nextTurn(told []Check) time.Duration {
	now, wait := s.heart.Now(), longest
	for _, ch := range told {
		if !ch.Changes.IsZero() {
			wait = min(wait, max(ch.Changes.Sub(now), time.Second))
		}
	}
	return wait
}

// markAll lets a waiter be woken by what its answers rest on now.
func (s *Shelf) markAll(one *waking.Waiter, c chest.Caller, refs []reference.Reference) error {
	st, err := s.heart.Look()
	if err != nil {
		return err
	}
	var b store.Basis
	b.RestOn(store.MarkSubject, c.ID)
	b.RestOn(store.MarkProof, c.Token)
	for _, ref := range refs {
		if st.Drawer(ref.Drawer) == nil {
			b.RestOn(store.MarkName, ref.Drawer)
		}
		st.At(ref.Drawer, ref.Item).RestOn(&b)
	}
	s.waiting.RestOn(one, b.Marks)
	return nil
}

// tellChanges looks again, and tells what is another answer than before.
func (s *Shelf) tellChanges(c chest.Caller, one *waking.Waiter, refs []reference.Reference, told []Check, tell func(Check) error) error {
	if err := s.markAll(one, c, refs); err != nil {
		return nil // locked meanwhile: whoever listens comes back
	}
	st, err := s.heart.Look()
	if err != nil {
		return nil
	}
	row, ctx := st.Identity(c.ID), c.Context(s.heart.Now())
	for i, ref := range refs {
		before, now := told[i], check(st, row, ctx, ref)
		told[i] = now
		if now.Served != before.Served || now.Version != before.Version || now.Reason != before.Reason ||
			now.Revoked != before.Revoked || !now.NotAfter.Equal(before.NotAfter) {
			if err := tell(now); err != nil {
				return err
			}
		}
	}
	return nil
}
