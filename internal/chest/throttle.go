package chest

import (
	"hash/maphash"
	"net/netip"
	"sync"
	"time"
)

// How often in an hour it may be asked whether something that cannot be read is a certain value: by one about one item, by one about all
// of them, and by all about one item. Whatever the question is called and however the value gets there, it counts here, so that nobody
// finds a value out by asking.
const (
	guessesOfOne  = 5
	guessesByOne  = 20
	guessesAtItem = 20
	guessesAtAll  = 60 // questions about all items at once, such as a report of what else holds an exposed value
	guessWindow   = time.Hour
)

// Guess counts a question whose answer tells whether an item that the caller may not read holds a value; when there were too many, it is
// refused. The item is an id; empty for a question about all of them at once. What turns out to be no guess is given back
// ([Attempt.Refund]).
func (a *Attempt) Guess(item string) (limits []Limit, err error) {
	limits = []Limit{{"guess by " + a.Caller.ID, guessesByOne, guessWindow}, {"guess by " + a.Caller.ID + " at " + item, guessesOfOne,
		guessWindow},
		{"guess at " + item, guessesAtItem, guessWindow}}
	if item == "" {
		limits = []Limit{{"guess at all by " + a.Caller.ID, guessesAtAll, guessWindow}}
	}
	return limits, a.Take(limits)
}

// throttle limits failed attempts to prove who one is. An attempt is counted before it is checked and taken back when
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
type throttle struct {
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

func newThrottle() *throttle {
	return &throttle{counts: map[string]*failures{}, seed: maphash.MakeSeed()}
}

// of is the count of a key, in which nothing is counted yet if it is new or its window is over.
func (t *throttle) of(l Limit, now time.Time) *failures {
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

// take counts an attempt if every limit has room. Otherwise it returns how long to wait and whether this is the first
// attempt turned away since a limit was used up, which is the one worth recording.
func (t *throttle) take(now time.Time, limits []Limit) (wait time.Duration, first bool) {
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

// refund takes back an attempt that turned out to be good.
func (t *throttle) refund(now time.Time, limits []Limit) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, l := range limits {
		if f := t.of(l, now); f.number > 0 {
			f.number--
		}
	}
}

// mostCounts bounds memory.
const mostCounts = 100_000

// forget drops the counts that have begun longest ago than any window is, and reports whether that made room.
func (t *throttle) forget(now time.Time) bool {
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
