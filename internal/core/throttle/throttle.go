// Package throttle limits how often something may be tried: signing in, or questions whose answers would let a value be guessed.
package throttle

import (
	"hash/maphash"
	"net/netip"
	"sync"
	"time"
)

// Throttle limits failed attempts to prove who one is. An attempt is counted before it is checked and taken back when
// it was good, so that many at once get no more than one after another. Three counts must all have room:
//
//   - the address: one address may not try many names;
//   - the person from this address: one address may not try one name for long;
//   - the person from addresses and devices never seen: many addresses together may not try one name for ever.
//
// A device from which the person has signed in before carries a mark; an attempt with it counts only against a count
// of its own. So a stranger can use up what strangers have, and never keeps the owner of a marked device out.
//
// Memory is bounded without forgetting: when there are too many counts that are not over, further keys share some, so that a flood of
// made-up names wipes nobody's count, and at worst two strangers share one for an hour.
type Throttle struct {
	mu     sync.Mutex
	counts map[string]*failures
	shared [1 << 12]failures
	seed   maphash.Seed
	looked time.Time // when old counts were looked for
}

type failures struct {
	number int
	since  time.Time
	noted  bool
}

// Limit is how many failed attempts of one kind there may be within a window.
type Limit struct {
	Key    string
	Most   int
	Window time.Duration
	Shared bool // it also counts what others do, so nobody is told how much of it is left
}

// Left is how much of a limit is left to whoever asks.
type Left struct {
	Limit
	Attempts int
	Resets   time.Duration // until there are as many as at first
}

// Neighbours is the network around an address whose addresses count as one: an IPv4 address by itself, and an IPv6 subnet of 64 bits,
// of which whoever has it has as many addresses as they want (RFC 4291, section 2.5.4). What is no address stands for itself.
func Neighbours(addr string) string {
	ip, err := netip.ParseAddr(addr)
	if err != nil {
		return addr
	}
	if ip = ip.Unmap().WithZone(""); ip.Is4() {
		return ip.String()
	}
	prefix, err := ip.Prefix(64)
	if err != nil {
		return addr
	}
	return prefix.String()
}

// New makes one in which nothing is counted.
func New() *Throttle {
	return &Throttle{counts: map[string]*failures{}, seed: maphash.MakeSeed()}
}

// of is the count of a key, in which nothing is counted yet if it is new or its window is over.
func (t *Throttle) of(l Limit, now time.Time) *failures {
	f := t.counts[l.Key]
	if f == nil {
		if len(t.counts) >= mostCounts && !t.forget(now) {
			f = &t.shared[maphash.String(t.seed, l.Key)%uint64(len(t.shared))]
		} else {
			f = &failures{since: now}
			t.counts[l.Key] = f
		}
	}
	if now.Sub(f.since) >= l.Window {
		*f = failures{since: now}
	}
	return f
}

// Take counts an attempt if every limit has room. Otherwise it returns how long to wait and whether this is the first
// attempt turned away since a limit was used up, which is the one worth recording.
func (t *Throttle) Take(now time.Time, limits []Limit) (wait time.Duration, first bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, l := range limits {
		if f := t.of(l, now); f.number >= l.Most {
			wait = max(wait, f.since.Add(l.Window).Sub(now))
			first = first || !f.noted
			f.noted = true
		}
	}
	if wait > 0 {
		return wait, first
	}
	for _, l := range limits {
		t.of(l, now).number++
	}
	return 0, false
}

// Refund takes back an attempt that turned out to be good.
func (t *Throttle) Refund(now time.Time, limits []Limit) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, l := range limits {
		if f := t.of(l, now); f.number > 0 {
			f.number--
		}
	}
}

// Left tells how much is left of that limit, of those that are not shared, of which the least is; of none if there are none.
func (t *Throttle) Left(now time.Time, limits []Limit) (least Left) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, l := range limits {
		if f := t.of(l, now); !l.Shared && (least.Most == 0 || l.Most-f.number < least.Attempts) {
			least = Left{l, max(0, l.Most-f.number), f.since.Add(l.Window).Sub(now)}
		}
	}
	return least
}

// mostCounts bounds memory.
const mostCounts = 100_000

// forget drops the counts that have begun longest ago than any window is, and reports whether that made room.
func (t *Throttle) forget(now time.Time) bool {
	if now.Sub(t.looked) < longestWindow/16 { // a flood must not have it looked through each time
		return false
	}
	t.looked = now
	for key, f := range t.counts {
		if now.Sub(f.since) >= longestWindow {
			delete(t.counts, key)
		}
	}
	return len(t.counts) < mostCounts
}

// longestWindow is the longest one of any limit.
const longestWindow = time.Hour
