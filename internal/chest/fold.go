package chest

import (
	"strings"
	"sync"
	"time"

	"tansu/internal/core/throttle"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// A flood of refusals must neither fill the disk nor hide what others do. So many that are alike, and so many of one
// subject from one address, have an entry each within a window; those beyond are counted, durably, before they are
// answered, and become one entry with the exact count when the window is over.
const (
	foldWindow     = 10 * time.Minute
	mostSame       = 10
	mostOfOne      = 1000
	foldedDetail   = "%d more like it, from %s to %s"
	foldedOfOne    = "%d more refusals of several kinds, from %s to %s"
	mostFoldCounts = 100_000
)

// SeveralKinds is the action of an entry that stands for refusals of several.
const SeveralKinds = "several"

// folding knows how many refusals were recorded lately.
type folding struct {
	mu     sync.Mutex
	counts map[string]*recently
}

type recently struct {
	since   time.Time
	number  int
	receipt string // of the newest that was recorded
}

func newFolding() *folding { return &folding{counts: map[string]*recently{}} }

// foldKeys are what a refusal counts as: one of those that are alike, and one of those of the same subject from the same
// address. No name has a NUL in it.
func foldKeys(e trail.Entry) (alike, ofOne string) {
	ofOne = e.Subject + "\x00" + throttle.Neighbours(e.Addr)
	return strings.Join([]string{ofOne, e.Action, e.Target, e.Reason, e.Grant}, "\x00"), ofOne
}

// take counts a refusal. It is to be recorded when the key is empty, and else counted under it; the receipt is that of the
// newest one like it. Several says that those under the key are of several kinds.
func (f *folding) take(e trail.Entry) (key, receipt string, several bool) {
	alike, ofOne := foldKeys(e)
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

func (f *folding) at(key string, now time.Time) *recently {
	r := f.counts[key]
	if r == nil || now.Sub(r.since).Abs() >= foldWindow {
		r = &recently{since: now}
		f.counts[key] = r
	}
	return r
}

// forget bounds memory: when it is full, what is over goes, and if that is not enough, some of the rest. Half is free then,
// so that it is not looked through again soon.
func (f *folding) forget(now time.Time) {
	if len(f.counts) < mostFoldCounts {
		return
	}
	for key, r := range f.counts {
		if now.Sub(r.since).Abs() >= foldWindow || len(f.counts) > mostFoldCounts/2 {
			delete(f.counts, key)
		}
	}
}

// fold counts a refusal that is not recorded by itself, durably.
func (a *Attempt) fold(key, receipt string, several bool, refusal *Error) error {
	sample := a.Entry
	sample.RequestID, sample.Receipt, sample.Stated = "", receipt, ""
	if several {
		sample.Action, sample.Target, sample.Reason, sample.Grant, sample.Detail = SeveralKinds, "", "too_many_refusals", "", ""
		refusal = &Error{Code: Throttled, Reason: "too_many_refusals", RetryAfter: foldWindow,
			Detail: "too many things were refused to you from this address; they are counted, and none is explained for a while"}
	} else if refusal.Refusal != nil {
		refusal.Refusal.Receipt = receipt
	}
	if lost := a.chest.records.Count(store.Fold{Key: key, Sample: string(sample.AppendCanonical(nil)), Count: 1, Since: Micros(a.Entry.At),
		Last: Micros(a.Entry.At)}); lost != nil {
		a.chest.log.Error("refusal not counted", "action", a.Entry.Action, "error", lost)
		return StoreError(lost, "")
	}
	return refusal
}
