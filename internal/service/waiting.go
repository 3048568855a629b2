package service

import (
	"context"
	"strings"
	"sync"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/trail"
)

// waiting is those who wait for a value to change. A change wakes who waits for that item, and one that decides about more
// than an item wakes everybody: each then looks for itself whether its answers are other ones.
type waiting struct {
	mu       sync.Mutex
	byTarget map[string]map[*waiter]struct{} // by drawer/item
	count    int
	by       map[string]int // of each identity
}

// waiter is woken through a channel that holds one call: more of them while it looks are one.
type waiter struct {
	calls   chan struct{}
	who     string
	targets []string
}

// How many wait at once, in all and of one identity, so that nobody uses up the room of others.
const (
	mostWaiting = 20_000
	mostByOne   = 6_000
)

func (w *waiting) add(who string, targets []string) (*waiter, bool) {
	one := &waiter{make(chan struct{}, 1), who, targets}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.count >= mostWaiting || w.by[who] >= mostByOne {
		return nil, false
	}
	if w.by == nil {
		w.by = map[string]int{}
	}
	w.by[who]++
	if w.byTarget == nil {
		w.byTarget = map[string]map[*waiter]struct{}{}
	}
	for _, target := range targets {
		if w.byTarget[target] == nil {
			w.byTarget[target] = map[*waiter]struct{}{}
		}
		w.byTarget[target][one] = struct{}{}
	}
	w.count++
	return one, true
}

func (w *waiting) remove(one *waiter) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, target := range one.targets {
		delete(w.byTarget[target], one)
		if len(w.byTarget[target]) == 0 {
			delete(w.byTarget, target)
		}
	}
	w.count--
	if w.by[one.who]--; w.by[one.who] == 0 {
		delete(w.by, one.who)
	}
}

// wake calls those whose answers an entry's change may have changed.
func (w *waiting) wake(entries ...trail.Entry) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.count == 0 {
		return
	}
	for _, e := range entries {
		switch {
		case proves[e.Action]:
		case ofItem(e):
			call(w.byTarget[e.Target])
		default:
			for _, some := range w.byTarget {
				call(some)
			}
			return
		}
	}
}

// proves are changes that end nothing and open nothing but the way in; who loses a token finds out when the connection is
// looked after.
var proves = map[string]bool{"issue_token": true, "sign_in": true, "sign_out": true, "enrol": true, "revoke_token": true}

// ofItem reports whether a change is about one item under its own name.
func ofItem(e trail.Entry) bool {
	return e.Action == access.WriteVersion.String() && strings.Contains(e.Target, "/") || strings.HasSuffix(e.Action, "_version")
}

func call(waiters map[*waiter]struct{}) {
	for one := range waiters {
		select {
		case one.calls <- struct{}{}:
		default:
		}
	}
}

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
func (s *Service) WatchValues(ctx context.Context, c Caller, refs []reference.Reference, w Watcher) error {
	targets := make([]string, len(refs))
	for i, ref := range refs {
		targets[i] = ref.Drawer + "/" + ref.Item
	}
	one, room := s.waiting.add(c.id, targets)
	if !room {
		return &Error{Code: Throttled, Detail: "too many wait for changes: ask again later", RetryAfter: time.Minute}
	}
	defer s.waiting.remove(one)
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
		case <-one.calls:
		case <-turn.C:
		case <-after.C:
		}
		turn.Stop()
		if ctx.Err() != nil || !s.stillGood(c) {
			return nil
		}
		if err := s.tellChanges(c, refs, told, w.Change); err != nil {
			return err
		}
	}
}

// longest is how long a watcher waits for a change by itself before it looks again.
const longest = time.Hour

// nextTurn is how long it takes until one of the answers changes by itself.
func (s *Service) nextTurn(told []Check) time.Duration {
	now, wait := s.now(), longest
	for _, ch := range told {
		if !ch.Changes.IsZero() {
			wait = min(wait, max(ch.Changes.Sub(now), time.Second))
		}
	}
	return wait
}

// tellChanges looks again, and tells what is another answer than before.
func (s *Service) tellChanges(c Caller, refs []reference.Reference, told []Check, tell func(Check) error) error {
	for i, ref := range refs {
		var now Check
		err := s.view(func(st *state) error {
			at := s.now()
			request := access.Request{Subject: c.id, Action: access.ReadValue, Target: access.Target{Names: []string{ref.Drawer, ref.Item}}, Context: c.context(at)}
			now = st.check(st.identities[c.id], request, ref)
			return nil
		})
		if err != nil {
			return nil // locked meanwhile: whoever listens comes back
		}
		before := told[i]
		told[i] = now
		if now.Served != before.Served || now.Version != before.Version || now.Reason != before.Reason || !now.NotAfter.Equal(before.NotAfter) {
			if err := tell(now); err != nil {
				return err
			}
		}
	}
	return nil
}
