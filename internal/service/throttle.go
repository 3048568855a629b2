package service

import (
	"sync"
	"time"
)

// throttle limits failed attempts to prove who one is. An attempt is counted before it is checked and taken back when
// it was good, so that many at once get no more than one after another. Three counts must all have room:
//
//   - the address: one address may not try many names;
//   - the person from this address: one address may not try one name for long;
//   - the person from addresses and devices never seen: many addresses together may not try one name for ever.
//
// A device from which the person has signed in before carries a mark; an attempt with it counts only against a count
// of its own. So a stranger can use up what strangers have, and never keeps the owner of a marked device out.
type throttle struct {
	mu     sync.Mutex
	counts map[string]*failures
}

type failures struct {
	number int
	since  time.Time
	noted  bool
}

type limit struct {
	key    string
	most   int
	window time.Duration
}

func newThrottle() *throttle { return &throttle{counts: map[string]*failures{}} }

func signInLimits(subject, addr string, marked bool) []limit {
	if marked {
		return []limit{{"marked " + subject, 10, 10 * time.Minute}}
	}
	return []limit{
		{"addr " + addr, 20, 10 * time.Minute},
		{"pair " + subject + " " + addr, 5, 10 * time.Minute},
		{"person " + subject, 100, time.Hour},
	}
}

// take counts an attempt if every limit has room. Otherwise it returns how long to wait and whether this is the first
// attempt turned away since a limit was used up, which is the one worth recording.
func (t *throttle) take(now time.Time, limits []limit) (wait time.Duration, first bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, l := range limits {
		f := t.counts[l.key]
		if f != nil && f.number >= l.most && now.Sub(f.since) < l.window {
			wait = max(wait, f.since.Add(l.window).Sub(now))
			first = first || !f.noted
			f.noted = true
		}
	}
	if wait > 0 {
		return wait, first
	}
	for _, l := range limits {
		f := t.counts[l.key]
		if f == nil || now.Sub(f.since) >= l.window {
			f = &failures{since: now}
			t.counts[l.key] = f
		}
		f.number++
	}
	t.forget(now)
	return 0, false
}

// refund takes back an attempt that turned out to be good.
func (t *throttle) refund(limits []limit) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, l := range limits {
		if f := t.counts[l.key]; f != nil && f.number > 0 {
			f.number--
		}
	}
}

// mostCounts bounds memory.
const mostCounts = 100_000

// forget makes room when there is none: counts whose longest window is over go, and then some of the others. Half is free
// afterwards, so that it is not looked through again soon.
func (t *throttle) forget(now time.Time) {
	if len(t.counts) < mostCounts {
		return
	}
	for key, f := range t.counts {
		if now.Sub(f.since) >= time.Hour || len(t.counts) > mostCounts/2 {
			delete(t.counts, key)
		}
	}
}
