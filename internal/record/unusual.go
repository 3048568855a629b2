package record

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/usage"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// Unusual is something that is done for the first time, or more often than before.
type Unusual struct {
	Kind    string // of the constants
	Subject string
	Target  string // an item, a drawer; empty when it is about all
	At      time.Time
	Seq     uint64 // of the entry; 0 when it is about many
	Detail  string
}

// The kinds of what is unusual.
const (
	UnusualFirst   = "first_read"  // of an item, by who was there before
	UnusualNetwork = "new_network" // that a reader was never seen on
	UnusualHour    = "new_hour"    // of the day, at which a reader never read
	UnusualBurst   = "burst"       // many times more reads in an hour than before
	UnusualEnding  = "ending"      // reads of what is about to end
	UnusualGone    = "gone"        // reads of what is not served any more: retired, ended, suspended, shredded
	UnusualGuess   = "guessing"    // a value that somebody may not read was asked for until no more questions were answered
	UnusualClock   = "clock"       // the machine's clock was set back
	UnusualProof   = "proof"       // a code or an assertion that was used a second time
)

// settled is how long somebody has been there before something of theirs can be unusual.
const settled = 24 * time.Hour

// What is many, and how much more than before: reads in an hour.
const (
	burstAtLeast = 100
	burstTimes   = 10
)

// Unusual lists what was unusual since a moment, newest first, about what the caller may read the trail of.
func (s *Record) Unusual(c chest.Caller, since time.Time) (list []Unusual, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverTrail)
	if err != nil {
		return nil, err
	}
	a.Entry.Detail = "what is unusual"
	if err := s.records.CatchUp(); err != nil {
		return nil, a.Fail(err)
	}
	was := map[string]time.Time{}
	seen, err := s.records.Uses(store.UseFilter{Kind: usage.Presence})
	for _, use := range seen {
		was[use.Key] = chest.FromMicros(use.FirstAt)
	}
	old := func(subject string, at time.Time) bool {
		return !was[subject].IsZero() && at.Sub(was[subject]) >= settled
	}
	firsts := func(kind string, make func(store.Use) Unusual) {
		var uses []store.Use
		if err == nil {
			uses, err = s.records.Uses(store.UseFilter{Kind: kind, Began: chest.Micros(since)})
		}
		for _, use := range uses {
			u := make(use)
			if u.At, u.Seq = chest.FromMicros(use.FirstAt), use.First; old(u.Subject, u.At) {
				list = append(list, u)
			}
		}
	}
	firsts(usage.Read, func(use store.Use) Unusual {
		return Unusual{Kind: UnusualFirst, Subject: use.Other, Target: use.Key, Detail: "never read before by " + use.Other}
	})
	firsts(usage.Network, func(use store.Use) Unusual {
		return Unusual{Kind: UnusualNetwork, Subject: use.Key, Detail: "from " + use.Other + ", where it was never seen"}
	})
	firsts(usage.Clock, func(use store.Use) Unusual {
		return Unusual{Kind: UnusualHour, Subject: use.Key, Detail: "between " + use.Other + ":00 and " + use.Other +
			":59 UTC, when it never read"}
	})
	hours, err2 := s.records.Uses(store.UseFilter{Kind: usage.Hour})
	if err = cmp.Or(err, err2); err != nil {
		return nil, a.Fail(err)
	}
	list = append(list, bursts(hours, since)...)
	for _, reason := range []string{"code_used_twice", "assertion_replayed"} {
		seen := s.records.Entries(store.Filter{Reason: reason, Since: since}, func(e trail.Entry) bool {
			list = append(list, Unusual{Kind: UnusualProof, Subject: e.Subject, At: e.At, Seq: e.Seq, Detail: "from " + e.Addr + ": " +
				cmp.Or(e.Detail, "an assertion was used a second time")})
			return true
		})
		err = errors.Join(err, seen)
	}
	err = errors.Join(err, s.records.Entries(store.Filter{Reason: "too_many_failures", Since: since}, func(e trail.Entry) bool {
		if e.Action == "compare_value" {
			list = append(list, Unusual{Kind: UnusualGuess, Subject: e.Subject, Target: e.Target, At: e.At, Seq: e.Seq,
				Detail: "kept guessing its value until no more answers were given"})
		}
		return true
	}))
	err = errors.Join(err, s.records.Entries(store.Filter{Action: "clock_behind", Since: since}, func(e trail.Entry) bool {
		list = append(list, Unusual{Kind: UnusualClock, Subject: e.Subject, At: e.At, Seq: e.Seq, Detail: e.Detail})
		return true
	}))
	gone, err2 := s.goneReads(since)
	if err = errors.Join(err, err2); err != nil {
		return nil, a.Fail(err)
	}
	list = append(list, gone...)
	list = append(list, endingReads(a)...)
	ctx := c.Context(a.Entry.At)
	list = slices.DeleteFunc(list, func(u Unusual) bool {
		return !a.St.Decide(c.ID, access.ReadTrail, ctx, chest.TargetOf(u.Target)...).Allowed
	})
	slices.SortStableFunc(list, func(p, q Unusual) int { return q.At.Compare(p.At) })
	return chest.Reply(a, list)
}

// bursts finds hours since a moment with many times more reads than the median hour before in which somebody read a drawer.
func bursts(hours []store.Use, since time.Time) (list []Unusual) {
	counts := map[[2]string][]store.Use{}
	for _, use := range hours {
		_, subject, _ := strings.Cut(use.Other, " ")
		counts[[2]string{use.Key, subject}] = append(counts[[2]string{use.Key, subject}], use)
	}
	for who, all := range counts {
		slices.SortFunc(all, func(x, y store.Use) int { return strings.Compare(x.Other, y.Other) })
		for i, use := range all {
			if i == 0 || use.At < chest.Micros(since) || use.Count < burstAtLeast {
				continue
			}
			before := make([]int64, i)
			for j := range before {
				before[j] = all[j].Count
			}
			slices.Sort(before)
			if usual := before[i/2]; use.Count >= burstTimes*usual {
				list = append(list, Unusual{Kind: UnusualBurst, Subject: who[1], Target: who[0], At: chest.FromMicros(use.FirstAt),
					Detail: fmt.Sprintf("%d reads in an hour, and %d are usual", use.Count, usual)})
			}
		}
	}
	return list
}

// mostGone bounds how many attempts are looked at.
const mostGone = 10_000

// goneReads finds who has asked for what is not served any more since a moment: what was retired, has ended, or was suspended.
func (s *Record) goneReads(since time.Time) (list []Unusual, err error) {
	places, looked := map[[2]string]int{}, 0
	counts := []int{}
	err = s.records.Entries(store.Filter{Action: access.ReadValue.String(), Outcome: string(trail.Failed), Reason: string(chest.NotServable),
		Since: since}, func(e trail.Entry) bool {
		who := [2]string{e.Subject, e.Target}
		if _, known := places[who]; !known { // the newest comes first
			places[who] = len(list)
			list, counts = append(list, Unusual{Kind: UnusualGone, Subject: e.Subject, Target: e.Target, At: e.At, Seq: e.Seq}), append(counts, 0)
		}
		counts[places[who]]++
		looked++
		return looked < mostGone
	})
	for i := range list {
		often := "once"
		if counts[i] > 1 {
			often = fmt.Sprintf("%d times", counts[i])
		}
		list[i].Detail = "asked for " + often + ", and not served: retired, suspended, ended, or not begun yet"
	}
	return list, err
}

// endsSoon is what counts as about to end when no rule says it.
const endsSoon = 7 * 24 * time.Hour

// endingReads finds items that end soon, or are served in grace, and were read in the last days all the same.
func endingReads(a *chest.Attempt) (list []Unusual) {
	now := a.Entry.At
	all := func(*chest.Drawer) bool { return true }
	_ = a.EachDue(endsSoon, all, func(d *chest.Drawer, it *chest.Item) bool { // what cannot be read is logged
		due, is := it.Due(now, endsSoon)
		if !is || due.State != chest.DueState && due.State != string(lifecycle.Grace) {
			return true
		}
		read, err := a.LastRead(d, it)
		if err == nil && now.Sub(read) < endsSoon {
			list = append(list, Unusual{Kind: UnusualEnding, Target: d.Row.Name + "/" + it.Row.Name, At: read, Detail: "it ends at " +
				due.NotAfter.Format(time.RFC3339) + ", and is still read"})
		}
		return true
	})
	return list
}

// Activity is how often somebody read a drawer in an hour.
type Activity struct {
	Hour    time.Time
	Drawer  string
	Subject string
	Count   int64
}

// Activity lists reads by hour, drawer and reader since a moment, about drawers that the caller may read the trail of.
func (s *Record) Activity(c chest.Caller, since time.Time) (list []Activity, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverTrail)
	if err != nil {
		return nil, err
	}
	a.Entry.Detail = "reads by hour"
	hours, err := usage.UpToDate(s.records, store.UseFilter{Kind: usage.Hour, Since: chest.Micros(since)})
	if err != nil {
		return nil, a.Fail(err)
	}
	may := map[string]bool{}
	for _, use := range hours {
		if _, known := may[use.Key]; !known {
			may[use.Key] = a.St.Decide(c.ID, access.ReadTrail, c.Context(a.Entry.At), chest.TargetOf(use.Key)...).Allowed
		}
		text, subject, _ := strings.Cut(use.Other, " ")
		hour, err := time.Parse("2006-01-02T15", text)
		if err == nil && may[use.Key] {
			list = append(list, Activity{hour, use.Key, subject, use.Count})
		}
	}
	slices.SortFunc(list, func(x, y Activity) int {
		return cmp.Or(x.Hour.Compare(y.Hour), strings.Compare(x.Drawer, y.Drawer), strings.Compare(x.Subject, y.Subject))
	})
	return chest.Reply(a, list)
}
