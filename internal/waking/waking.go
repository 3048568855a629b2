// Package waking knows who waits for something to change, and wakes those whom a change may concern.
package waking

import (
	"sync"

	"tansu/internal/store"
)

// Waiting is those who wait for values to change, by the marks that their answers rest on: a change wakes those whose answers it may
// have changed, and nobody else. Each then looks for itself.
type Waiting struct {
	mu     sync.Mutex
	byMark map[store.Mark]map[*Waiter]struct{}
	all    map[*Waiter]struct{}
	by     map[string]int // of each identity
}

// Waiter is woken through a channel that holds one call: more of them while it looks are one.
type Waiter struct {
	calls chan struct{}
	who   string
	marks []store.Mark
}

// mostWaiting is how many wait at once.
const mostWaiting = 20_000

// Calls tells a waiter to look again.
func (w *Waiter) Calls() <-chan struct{} { return w.calls }

// Add lets somebody wait; false when there is no room for them.
func (w *Waiting) Add(who string, most int) (*Waiter, bool) {
	one := &Waiter{calls: make(chan struct{}, 1), who: who}
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.all) >= mostWaiting || w.by[who] >= most {
		return nil, false
	}
	if w.by == nil {
		w.by, w.all, w.byMark = map[string]int{}, map[*Waiter]struct{}{}, map[store.Mark]map[*Waiter]struct{}{}
	}
	w.by[who]++
	w.all[one] = struct{}{}
	return one, true
}

// Remove lets somebody wait no more.
func (w *Waiting) Remove(one *Waiter) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.unmark(one)
	delete(w.all, one)
	if w.by[one.who]--; w.by[one.who] == 0 {
		delete(w.by, one.who)
	}
}

// RestOn says what a waiter's answers rest on now.
func (w *Waiting) RestOn(one *Waiter, marks []store.Mark) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.unmark(one)
	one.marks = marks
	for _, mark := range marks {
		if w.byMark[mark] == nil {
			w.byMark[mark] = map[*Waiter]struct{}{}
		}
		w.byMark[mark][one] = struct{}{}
	}
}

// unmark is called with the lock.
func (w *Waiting) unmark(one *Waiter) {
	for _, mark := range one.marks {
		delete(w.byMark[mark], one)
		if len(w.byMark[mark]) == 0 {
			delete(w.byMark, mark)
		}
	}
}

// Wake calls those whose answers a change may have changed.
func (w *Waiting) Wake(touched []store.Mark) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.all) == 0 {
		return
	}
	for _, mark := range touched {
		if mark.What == store.MarkSubject && mark.ID == "" { // what many may do
			call(w.all)
			return
		}
		call(w.byMark[mark])
	}
}

func call(waiters map[*Waiter]struct{}) {
	for one := range waiters {
		select {
		case one.calls <- struct{}{}:
		default:
		}
	}
}
