package chest

import (
	"net/netip"
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

func newThrottle() *throttle { return &throttle{counts: map[string]*failures{}} }

// take counts an attempt if every limit has room. Otherwise it returns how long to wait and whether this is the first
// attempt turned away since a limit was used up, which is the one worth recording.
func (t *throttle) take(now time.Time, limits []Limit) (wait time.Duration, first bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, l := range limits {
		f := t.counts[l.Key]
		if f != nil && f.number >= l.Most && now.Sub(f.since) < l.Window {
			wait = max(wait, f.since.Add(l.Window).Sub(now))
			first = first || !f.noted
			f.noted = true
		}
	}
	if wait > 0 {
		return wait, first
	}
	for _, l := range limits {
		f := t.counts[l.Key]
		if f == nil || now.Sub(f.since) >= l.Window {
			f = &failures{since: now}
			t.counts[l.Key] = f
		}
		f.number++
	}
	t.forget(now)
	return 0, false
}

// refund takes back an attempt that turned out to be good.
func (t *throttle) refund(limits []Limit) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, l := range limits {
		if f := t.counts[l.Key]; f != nil && f.number > 0 {
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
