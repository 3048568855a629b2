package lifecycle

import (
	"errors"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strconv"
	"testing"
	"time"
)

var (
	noon   = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	before = noon.Add(-time.Hour)
	after  = noon.Add(time.Hour)
)

func windows(list ...Window) (it Item) {
	for _, w := range list {
		it.Versions = append(it.Versions, Version{Window: w})
	}
	return it
}

func TestWindowIncludesItsBeginAndNotItsEnd(t *testing.T) {
	for _, c := range []struct {
		name    string
		version Version
		want    State
	}{
		{"open on both sides", Version{}, Usable},
		{"begins now", Version{Window: Window{NotBefore: noon}}, Usable},
		{"begins later", Version{Window: Window{NotBefore: after}}, Waiting},
		{"ends now", Version{Window: Window{NotAfter: noon}}, Ended},
		{"ends later", Version{Window: Window{NotBefore: before, NotAfter: after}}, Usable},
		{"has ended", Version{Window: Window{NotAfter: before}}, Ended},
		{"staged", Version{Staged: true}, Staged},
		{"staged and to begin later", Version{Staged: true, Window: Window{NotBefore: after}}, Staged},
		{"staged until its end", Version{Staged: true, Window: Window{NotAfter: before}}, Ended},
		{"suspended", Version{Suspended: true, Staged: true}, Suspended},
		{"shredded", Version{Suspended: true, Shredded: true}, Shredded},
		{"in the last year that is written with four digits",
			Version{Window: Window{NotAfter: time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)}}, Usable},
		{"in another zone", Version{Window: Window{NotBefore: noon.In(time.FixedZone("", 5*3600))}}, Usable},
	} {
		if got := c.version.At(noon); got != c.want {
			t.Errorf("%s: got %s, want %s", c.name, got, c.want)
		}
	}
	if err := (Window{NotBefore: noon, NotAfter: noon}).Check(); err == nil {
		t.Error("an empty window is allowed")
	}
}

func TestCurrentIsTheNewestUsableVersionOrTheHeldOne(t *testing.T) {
	held := windows(Window{}, Window{}, Window{})
	held.Held = 2
	heldEnded := windows(Window{NotAfter: before}, Window{})
	heldEnded.Held = 1
	staged := windows(Window{}, Window{})
	staged.Versions[1].Staged = true
	suspended := windows(Window{})
	suspended.Suspended = true
	retired := windows(Window{})
	retired.RetiredAt = before
	for _, c := range []struct {
		name    string
		item    Item
		want    int
		problem *NotServable
	}{
		{"of two open ones the newer", windows(Window{}, Window{}), 2, nil},
		{"one that begins later is passed over", windows(Window{}, Window{NotBefore: after}), 1, nil},
		{"an ended one is passed over", windows(Window{}, Window{NotAfter: before}), 1, nil},
		{"a staged one is passed over", staged, 1, nil},
		{"a held one stays current", held, 2, nil},
		{"a held one that has ended is not replaced behind one's back", heldEnded, 1,
			&NotServable{Version: 1, State: Ended, When: before, Next: 2}},
		{"none is left", windows(Window{NotAfter: before}, Window{NotBefore: after}), 0,
			&NotServable{Version: 2, State: Waiting, When: after, From: after}},
		{"there is none", Item{}, 0, &NotServable{State: Usable}},
		{"a suspended item", suspended, 0, &NotServable{State: Suspended}},
		{"a retired item", retired, 0, &NotServable{State: Retired, When: before}},
	} {
		got, err := c.item.Current(noon)
		var problem *NotServable
		errors.As(err, &problem)
		if got != c.want || (problem == nil) != (c.problem == nil) || problem != nil && *problem != *c.problem {
			t.Errorf("%s: got %d, %v; want %d, %v", c.name, got, err, c.want, c.problem)
		}
	}
}

// Random histories: whatever is done in whatever order while the clock goes forth and back, what is served is one
// version, usable at that moment; what is shredded stays so; versions are only added; and an act that is not possible
// changes nothing.
func TestRandomHistoriesKeepTheRules(t *testing.T) {
	done := map[Act]int{}
	for turn := range histories() {
		random := newRandom(uint64(turn))
		it, now := Item{Rules: randomRules(random)}, noon
		for range 40 {
			now = now.Add(time.Duration(random.IntN(120)-40) * time.Minute)
			was := it
			was.Versions = append([]Version(nil), it.Versions...)
			if len(it.Versions) == 0 || random.IntN(6) == 0 {
				it.Versions = append(append([]Version(nil), it.Versions...), randomVersion(random, now))
			} else {
				act := Acts[random.IntN(len(Acts))]
				changed, err := it.Do(act, random.IntN(len(it.Versions)+2)-random.IntN(2), now)
				if !reflect.DeepEqual(it, was) && len(was.Versions) > 0 {
					t.Fatalf("%s changed the item that it was asked about: %+v to %+v", act, was, it)
				}
				if err != nil && !reflect.DeepEqual(changed, it) {
					t.Fatalf("%v, and yet %+v became %+v", err, it, changed)
				}
				if err == nil {
					done[act]++
					if reflect.DeepEqual(changed, it) {
						t.Fatalf("%s did nothing to %+v and said nothing", act, it)
					}
				}
				it = changed
			}
			check(t, was, it, now)
		}
	}
	for _, act := range Acts {
		if done[act] == 0 {
			t.Errorf("%s was never possible", act)
		}
	}
}

// histories is how many are tried: what takes a few seconds, or TANSU_HISTORIES of them (make properties).
func histories() int {
	if n, err := strconv.Atoi(os.Getenv("TANSU_HISTORIES")); err == nil {
		return n
	}
	return 2000
}

func newRandom(seed uint64) *rand.Rand { return rand.New(rand.NewPCG(23, seed)) }

func randomVersion(random *rand.Rand, now time.Time) Version {
	v := Version{Staged: random.IntN(4) == 0, Created: now}
	if random.IntN(2) == 0 {
		v.NotBefore = now.Add(time.Duration(random.IntN(200)-100) * time.Minute)
	}
	if random.IntN(2) == 0 {
		v.NotAfter = now.Add(time.Duration(random.IntN(200)-50) * time.Minute)
	}
	return v
}

func randomItem(random *rand.Rand) (it Item) {
	for range 1 + random.IntN(5) {
		it.Versions = append(it.Versions, randomVersion(random, noon.Add(-time.Duration(random.IntN(3000))*time.Minute)))
	}
	slices.SortFunc(it.Versions, func(a, b Version) int { return a.Created.Compare(b.Created) })
	return it
}

func randomRules(random *rand.Rand) (s Schedule) {
	some := func(most int) Span {
		if random.IntN(3) > 0 {
			return 0
		}
		return Span(time.Duration(random.IntN(most)) * time.Minute)
	}
	s.Now = Rules{MaxAge: some(300), Grace: some(100), Idle: some(600), RetireFor: some(60), Keep: random.IntN(3)}
	if random.IntN(2) == 0 {
		s.From, s.Next = noon.Add(time.Duration(random.IntN(400)-100)*time.Minute), Rules{MaxAge: some(300), Grace: some(100), Idle: some(600)}
	}
	return s
}

func check(t *testing.T, was, it Item, now time.Time) {
	t.Helper()
	current, err := it.Current(now)
	if err == nil {
		v := it.Versions[current-1]
		r := it.Rules.At(now)
		end := v.NotAfter
		if old := v.Created.Add(time.Duration(r.MaxAge)); r.MaxAge != 0 {
			if old.Before(it.Rules.From) && !now.Before(it.Rules.From) {
				old = it.Rules.From // nothing ends by a rule before the rule begins
			}
			if end.IsZero() || end.After(old) {
				end = old
			}
		}
		inside := (v.NotBefore.IsZero() || !now.Before(v.NotBefore)) && (end.IsZero() || now.Before(end.Add(time.Duration(r.Grace))))
		if slices.Contains(it.Surplus(now), current) {
			t.Fatalf("the current version %d is surplus in %+v", current, it)
		}
		if !inside || v.Staged || v.Suspended || v.Shredded || it.Suspended || it.Shredded || !it.RetiredAt.IsZero() || it.Held != 0 &&
			it.Held != current {
			t.Fatalf("version %d is current at %s in %+v", current, now, it)
		}
		for later := current; later < len(it.Versions) && it.Held == 0; later++ {
			if it.VersionAt(later+1, now) == Usable {
				t.Fatalf("version %d is usable and newer than the current %d in %+v", later+1, current, it)
			}
		}
	}
	if len(it.Versions) < len(was.Versions) || was.Shredded && !it.Shredded {
		t.Fatalf("%+v became %+v", was, it)
	}
	for i, v := range was.Versions {
		if v.Shredded && !it.Versions[i].Shredded || v.Window != it.Versions[i].Window {
			t.Fatalf("version %d of %+v became %+v", i+1, was, it.Versions[i])
		}
	}
}

func TestActsSayWhyTheyAreNotPossible(t *testing.T) {
	staged := windows(Window{}, Window{})
	staged.Versions[1].Staged = true
	retired := windows(Window{})
	retired.RetiredAt = before
	for _, c := range []struct {
		item    Item
		act     Act
		version int
		want    string
	}{
		{windows(Window{}), Hold, 0, "cannot hold the item: say which version"},
		{windows(Window{}), Hold, 2, "cannot hold version 2: it has 1 version"},
		{staged, Hold, 2, "cannot hold version 2: it is staged"},
		{staged, Promote, 1, "cannot promote version 1: it is not staged"},
		{windows(Window{}), Shred, 1, "cannot shred version 1: it is the current one; let another one be current first"},
		{windows(Window{}), Shred, 0, "cannot shred the item: retire it first, so that somebody who still needs it notices"},
		{retired, Suspend, 0, "cannot suspend the item: the item is retired; restore it first"},
		{windows(Window{}), Retire, 1, "cannot retire version 1: that is done with the item and not with a version"},
		{windows(Window{}), Release, 0, "cannot release the item: no version is held"},
		{windows(Window{}), "fly", 0, "cannot fly the item: there is no such act"},
	} {
		if _, err := c.item.Do(c.act, c.version, noon); err == nil || err.Error() != c.want {
			t.Errorf("got %v, want %s", err, c.want)
		}
	}
}
