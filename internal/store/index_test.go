package store

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tansu/internal/core/trail"
	"tansu/internal/entryrow"
)

// many makes entries that differ in all that they are found by.
func many(random *rand.Rand, n int) (list []trail.Entry) {
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	for i := range n {
		at = at.Add(time.Duration(random.IntN(20)-2) * time.Second) // the clock steps back now and then
		e := trail.Entry{At: at, Subject: fmt.Sprintf("app:a%d", random.IntN(5)), Action: []string{"read_value", "list"}[random.IntN(2)],
			Target:  []string{"", "d1", "d2", fmt.Sprintf("d1/i%d", random.IntN(300)), fmt.Sprintf("d2/i%d", random.IntN(3))}[random.IntN(5)],
			Outcome: trail.Allowed, Grant: fmt.Sprintf("gr_%d", random.IntN(9)), Addr: fmt.Sprintf("192.0.2.%d", random.IntN(4)),
			RequestID: fmt.Sprint("r", random.IntN(n))}
		if random.IntN(10) == 0 {
			e.Outcome, e.Reason, e.Grant, e.Receipt = trail.Refused, []string{"no_grant", "denied"}[random.IntN(2)], "", fmt.Sprint("rc", i)
		}
		list = append(list, e)
	}
	return list
}

// wants reports whether a filter selects an entry, by looking at nothing but the entry.
func wants(f Filter, e trail.Entry) bool {
	same := func(wanted, is string) bool { return wanted == "" || wanted == is }
	return same(f.Subject, e.Subject) && same(f.Action, e.Action) && same(f.Outcome, string(e.Outcome)) && same(f.Reason, e.Reason) &&
		same(f.Grant, e.Grant) &&
		same(f.Addr, e.Addr) && same(f.RequestID, e.RequestID) && same(f.Receipt, e.Receipt) &&
		(!f.Receipts || e.Receipt != "" || e.Count != 0) &&
		(f.Target == "" || f.Target == e.Target || strings.HasPrefix(e.Target, f.Target+"/")) &&
		(f.Since.IsZero() || !e.At.Before(f.Since)) && (f.Until.IsZero() || e.At.Before(f.Until)) && (f.Before == 0 || e.Seq < f.Before)
}

func randomFilter(random *rand.Rand, like trail.Entry) (f Filter) {
	one := func() bool { return random.IntN(4) == 0 }
	if one() {
		f.Subject = like.Subject
	}
	if one() {
		f.Action = like.Action
	}
	if one() {
		f.Target = like.Target
	}
	if one() {
		f.Outcome = string(like.Outcome)
	}
	if one() {
		f.Reason = like.Reason
	}
	if one() {
		f.Grant = like.Grant
	}
	if one() {
		f.Addr = like.Addr
	}
	if one() {
		f.RequestID = like.RequestID
	}
	if one() {
		f.Receipt = like.Receipt
	}
	f.Receipts = one()
	if one() {
		f.Since = like.At.Add(-time.Duration(random.IntN(3000)) * time.Second)
	}
	if one() {
		f.Until = like.At.Add(time.Duration(random.IntN(3000)) * time.Second)
	}
	if one() {
		f.Before = like.Seq + uint64(random.IntN(50))
	}
	return f
}

// submitMany records entries in works of odd sizes.
func submitMany(t *testing.T, s *Store, list []trail.Entry) {
	t.Helper()
	for len(list) > 0 {
		n := min(1+len(list)%977, len(list))
		must(t, s.Submit(&Work{Entry: list[0], More: list[1:n]}))
		list = list[n:]
	}
}

// What the index finds is what looking at every entry finds, over several blocks, while it grows, and after a restart.
func TestIndexFindsWhatIsThere(t *testing.T) {
	s, dir := newStore(t)
	random := rand.New(rand.NewPCG(7, 7))
	var all []trail.Entry
	gather := func() {
		all = nil
		must(t, s.Bodies(1, func(_ uint64, body string) bool {
			e, err := trail.Decode([]byte(body))
			must(t, err)
			all = append(all, e)
			return true
		}))
	}
	for round, n := range []int{50, 1000, entryrow.BlockSize, 30} {
		submitMany(t, s, many(random, n))
		if round == 2 {
			must(t, s.Close())
			var err error
			s, err = Open(dir)
			must(t, err)
		}
		gather()
		for range 40 {
			f := randomFilter(random, all[random.IntN(len(all))])
			var want, got []uint64
			for _, e := range slices.Backward(all) {
				if wants(f, e) {
					want = append(want, e.Seq)
				}
			}
			must(t, s.Entries(f, func(e trail.Entry) bool { got = append(got, e.Seq); return true }))
			if !slices.Equal(got, want) {
				t.Fatalf("round %d, %+v: got %d entries %v, want %d %v", round, f, len(got), got[:min(9, len(got))], len(want),
					want[:min(9, len(want))])
			}
		}
	}
	root, err := s.Root(uint64(len(all)))
	must(t, err)
	var edge trail.Edge
	must(t, s.Bodies(1, func(_ uint64, body string) bool { edge.Add(trail.LeafHash(body)); return true }))
	if root != edge.Root() {
		t.Error("the root is another one than that of the entries")
	}
	must(t, s.Close())
}

func byTarget(e trail.Entry) []Use {
	return []Use{{Kind: "read", Key: e.Target, Other: e.Subject, Detail: fmt.Sprint(e.Seq)}}
}

// A crash between the steps of a part leaves an index that counts everything once when it goes on, wherever it came.
func TestIndexGoesOnAfterACrash(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 8))
	for _, steps := range []int{0, 1, 12, 24, 36} {
		s, dir := newStore(t)
		s.CountUses(byTarget)
		must(t, s.CatchUp())
		submitMany(t, s, many(random, 900))
		// The steps of one part, of which some were done when the crash came.
		p, err := s.part(s.index.seq + 1)
		must(t, err)
		groups := p.groups()
		all, err := s.postingsOf(p, groups)
		must(t, err)
		all = append(all, s.usesOf(groups)...)
		if len(all) <= 36 {
			t.Fatalf("there are %d steps only", len(all))
		}
		goal := statement{text: "UPDATE indexed SET goal = ?", arguments: []any{p.last()}}
		if steps > 0 {
			must(t, s.Submit(&Work{derived: append([]statement{goal}, all[:steps]...)}))
		}
		must(t, s.Close())
		s, err = Open(dir)
		must(t, err)
		s.CountUses(byTarget)
		submitMany(t, s, many(random, 300))
		count, want, last := map[string]int64{}, map[string]int64{}, map[string]uint64{}
		must(t, s.Entries(Filter{}, func(e trail.Entry) bool {
			key := e.Target + " " + e.Subject
			want[key]++
			last[key] = max(last[key], e.Seq)
			return true
		}))
		uses, err := s.Uses(UseFilter{Kind: "read"})
		must(t, err)
		for _, use := range uses {
			key := use.Key + " " + use.Other
			count[key] = use.Count
			if use.Seq != last[key] || use.Detail != fmt.Sprint(last[key]) || use.First > use.Seq {
				t.Errorf("after %d steps: %+v, the last one is %d", steps, use, last[key])
			}
		}
		for key := range want {
			if count[key] != want[key] {
				t.Fatalf("after %d steps: %s is counted %d times, and is there %d times", steps, key, count[key], want[key])
			}
		}
		n := 0
		must(t, s.Entries(Filter{Subject: "app:a1"}, func(trail.Entry) bool { n++; return true }))
		total := 0
		must(t, s.Entries(Filter{}, func(e trail.Entry) bool {
			if e.Subject == "app:a1" {
				total++
			}
			return true
		}))
		if n != total {
			t.Errorf("after %d steps: %d found, %d are there", steps, n, total)
		}
		must(t, s.Close())
	}
}

// Many may ask at once, while entries are recorded.
func TestIndexIsAskedWhileItGrows(t *testing.T) {
	s, _ := newStore(t)
	var group sync.WaitGroup
	for part := range 4 {
		group.Go(func() {
			for n := range 100 {
				e := trail.Entry{At: time.Unix(int64(n), 0), Subject: fmt.Sprint("app:a", part), Action: "read_value", Outcome: trail.Allowed}
				if err := s.Submit(&Work{Entry: e}); err != nil {
					t.Error(err)
				}
				seen := 0
				if err := s.Entries(Filter{Subject: e.Subject}, func(trail.Entry) bool { seen++; return true }); err != nil || seen != n+1 {
					t.Errorf("%d entries of %d, %v", seen, n+1, err)
				}
			}
		})
	}
	group.Wait()
}

// A trail that was cut off behind its index is not gone on with.
func TestCutTrailIsNotGoneOnWith(t *testing.T) {
	s, dir := newStore(t)
	submitMany(t, s, many(rand.New(rand.NewPCG(9, 9)), 20))
	must(t, s.CatchUp())
	must(t, s.Close())
	edit(t, dir, "DELETE FROM entries WHERE first = (SELECT max(first) FROM entries)")
	s, err := Open(dir)
	must(t, err)
	defer func() { _ = s.Close() }()
	if err := s.CatchUp(); err == nil || !strings.Contains(err.Error(), "its end was cut off") {
		t.Error(err)
	}
}
