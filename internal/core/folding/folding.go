// Package folding decides which refusals are recorded one by one. A flood of them must neither fill the disk nor hide what others do: so
// many that are alike, and so many of one subject from one address, have an entry each within a window; those beyond are counted,
// durably, before they are answered, and become one entry with the exact count when the window is over.
package folding

import (
	"strings"
	"sync"
	"time"

	"tansu/internal/core/throttle"
	"tansu/internal/core/trail"
)

// Window is how long refusals that are alike are counted before they become one entry.
const Window = 10 * time.Minute

const (
	mostSame       = 10
	mostOfOne      = 1000
	mostFoldCounts = 100_000
)

// Folding knows how many refusals were recorded lately.
type Folding struct {
	mu     sync.Mutex
	counts map[string]*recently
}

type recently struct {
	since   time.Time
	number  int
	receipt string // of the newest that was recorded
}

// New knows of none.
func New() *Folding { return &Folding{counts: map[string]*recently{}} }

// Keys are what a refusal counts as: one of those that are alike, and one of those of the same subject from the same
// address. No name has a NUL in it.
func Keys(e trail.Entry) (alike, ofOne string) {
	ofOne = e.Subject + "\x00" + throttle.Neighbours(e.Addr)
	return strings.Join([]string{ofOne, e.Action, e.Target, e.Reason, e.Grant}, "\x00"), ofOne
}

// Take counts a refusal. It is to be recorded when the key is empty, and else counted under it; the receipt is that of the
// newest one like it. Several says that those under the key are of several kinds.
func (f *Folding) Take(e trail.Entry) (key, receipt string, several bool) {
	alike, ofOne := Keys(e)
	f.mu.Lock()
	defer f.mu.Unlock()
	f.forget(e.At)
	o := f.at(ofOne, e.At)
	if f.counts[alike] == nil && o.number >= mostOfOne {
		return ofOne, "", true // nothing is kept of it: a flood of names must not fill memory either
	}
	a := f.at(alike, e.At)
	switch {
	case a.number >= mostSame:
		return alike, a.receipt, false
	case o.number >= mostOfOne:
		return ofOne, "", true
	}
	a.number++
	o.number++
	a.receipt = e.Receipt
	return "", "", false
}

func (f *Folding) at(key string, now time.Time) *recently {
	r := f.counts[key]
	if r == nil || now.Sub(r.since).Abs() >= Window {
		r = &recently{since: now}
		f.counts[key] = r
	}
	return r
}

// forget bounds memory: when it is full, what is over goes, and if that is not enough, some of the rest. Half is free then,
// so that it is not looked through again soon.
func (f *Folding) forget(now time.Time) {
	if len(f.counts) < mostFoldCounts {
		return
	}
	for key, r := range f.counts {
		if now.Sub(r.since).Abs() >= Window || len(f.counts) > mostFoldCounts/2 {
			delete(f.counts, key)
		}
	}
}
