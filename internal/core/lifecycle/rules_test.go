package lifecycle

import (
	"slices"
	"testing"
	"time"
)

const day = 24 * time.Hour

// made is an item whose versions were made so long before noon, without windows.
func made(ages ...time.Duration) (it Item) {
	for _, age := range ages {
		it.Versions = append(it.Versions, Version{Created: noon.Add(-age)})
	}
	return it
}

func ruled(it Item, r Rules) Item {
	it.Rules.Now = r
	return it
}

func TestRulesDecideWhatIsServed(t *testing.T) {
	old := made(100 * day)
	coming := old
	coming.Rules = Schedule{From: noon.Add(3 * day), Next: Rules{MaxAge: Span(90 * day)}}
	read := ruled(old, Rules{Idle: Span(30 * day)})
	read.Used = noon.Add(-29 * day)
	both := ruled(made(100*day, 95*day), Rules{MaxAge: Span(96 * day), Grace: Span(10 * day)})
	own := ruled(old, Rules{MaxAge: Span(200 * day)})
	own.Rules = own.Rules.And(Rules{MaxAge: Span(90 * day)})
	ended := made(10 * day)
	ended.Versions[0].NotAfter = noon.Add(-day)
	for _, c := range []struct {
		name  string
		item  Item
		state State
	}{
		{"no rule, no end", old, Usable},
		{"too old", ruled(old, Rules{MaxAge: Span(90 * day)}), Ended},
		{"old enough to the second", ruled(old, Rules{MaxAge: Span(100 * day)}), Ended},
		{"a second younger", ruled(old, Rules{MaxAge: Span(100*day + time.Second)}), Usable},
		{"too old for a rule of its own", own, Ended},
		{"a rule that starts later decides nothing yet", coming, Usable},
		{"in grace", ruled(old, Rules{MaxAge: Span(99 * day), Grace: Span(2 * day)}), Usable},
		{"grace is over", ruled(old, Rules{MaxAge: Span(98 * day), Grace: Span(2 * day)}), Ended},
		{"a window's end has grace too", ruled(ended, Rules{Grace: Span(2 * day)}), Usable},
		{"nobody ever read it", ruled(old, Rules{Idle: Span(30 * day)}), Idle},
		{"somebody read it in time", read, Usable},
		{"a usable version goes before one in grace", both, Usable},
	} {
		if got := c.item.State(noon); got != c.state {
			t.Errorf("%s: got %s, want %s", c.name, got, c.state)
		}
	}
	if current, _ := both.Current(noon); current != 2 || both.VersionAt(1, noon) != Grace {
		t.Errorf("current is %d, version 1 is %s", current, both.VersionAt(1, noon))
	}
	if coming.State(noon.Add(3*day-time.Second)) != Usable || coming.State(noon.Add(3*day)) != Ended {
		t.Error("a rule does not start at its second")
	}
	resumed, err := ruled(old, Rules{Idle: Span(30 * day)}).Do(Resume, 0, noon)
	if err != nil || resumed.State(noon) != Usable || resumed.State(noon.Add(30*day)) != Idle {
		t.Errorf("an idle item is %s after it was resumed, %v", resumed.State(noon), err)
	}
	kept := ruled(old, Rules{RetireFor: Span(7 * day)})
	kept.RetiredAt = noon.Add(-6 * day)
	if _, err := kept.Do(Shred, 0, noon); err == nil {
		t.Error("it was shredded before its time")
	}
	if _, err := kept.Do(Shred, 0, noon.Add(day)); err != nil {
		t.Error(err)
	}
}

func TestEndsAreToldInAdvance(t *testing.T) {
	it := ruled(made(80*day), Rules{MaxAge: Span(90 * day)})
	if stops, due := it.Due(noon, 9*day); due || !stops.Equal(noon.Add(10*day)) {
		t.Errorf("%s, %v", stops, due)
	}
	if !it.DueAt(noon) || ruled(it, Rules{MaxAge: Span(90 * day), Warn: Span(5 * day)}).DueAt(noon) {
		t.Error("the warning time does not decide what is due")
	}
	followed := it
	followed.Versions = append(slices.Clone(it.Versions), Version{Created: noon, Window: Window{NotBefore: noon.Add(day)}})
	if followed.DueAt(noon) {
		t.Error("it is due although another version follows by itself")
	}
	if next := followed.Changes(noon); !next.Equal(noon.Add(day)) {
		t.Errorf("what is served changes at %s", next)
	}
}

func TestVersionsBeyondThoseKeptAreSurplusUnlessTheyAreNeeded(t *testing.T) {
	it := ruled(made(5*day, 4*day, 3*day, 2*day, day), Rules{Keep: 2})
	it.Held = 1
	it.Versions[1].Shredded, it.Versions[2].Staged = true, true
	if got := it.Surplus(noon); got != nil {
		t.Errorf("got %v: 1 is held, 2 is shredded, 3 waits, 4 and 5 are kept", got)
	}
	it.Held, it.Versions[2].Staged = 0, false
	if got := it.Surplus(noon); !slices.Equal(got, []int{1, 3}) {
		t.Errorf("got %v", got)
	}
}

func TestTheEffectOfRulesIsToldBefore(t *testing.T) {
	it := made(100*day, 50*day, 20*day)
	s := Schedule{Now: Rules{MaxAge: Span(30 * day), NeedsEnd: true, Keep: 2}}
	want := Effect{Stops: noon.Add(10 * day), Because: Ended, Due: true, Surplus: []int{1}, NoEnd: true}
	if got := it.Under(s, noon); got.Stops != want.Stops || got.Because != want.Because || got.Due != want.Due ||
		!slices.Equal(got.Surplus, want.Surplus) || got.NoEnd != want.NoEnd {
		t.Errorf("got %+v, want %+v", got, want)
	}
	later := Schedule{From: noon.Add(40 * day), Next: s.Now}
	if got := it.Under(later, noon); !got.Stops.Equal(later.From) {
		t.Errorf("a rule that starts later stops it at %s", got.Stops)
	}
	if got := ruled(it, s.Now).Under(s, noon); got.Any() {
		t.Errorf("the same rules do %+v", got)
	}
	if got := it.Under(Schedule{Now: Rules{Idle: Span(10 * day)}}, noon); !got.Stops.Equal(noon) || got.Because != Idle {
		t.Errorf("got %+v", got)
	}
}

// The horizon, which is worked out when an item changes, must never be later than the moment when it really becomes due.
func TestHorizonIsNeverTooLate(t *testing.T) {
	random := newRandom(7)
	for range 3000 {
		it := randomItem(random)
		until, since, ok := it.Horizon(noon)
		for _, rules := range []Rules{{}, {MaxAge: Span(30 * time.Hour)}} {
			it := ruled(it, rules)
			bound := until
			if rules.MaxAge != 0 && ok {
				if age := later(since, rules.MaxAge); bound.IsZero() || age.Before(bound) {
					bound = age
				}
			}
			if !ok {
				bound = noon
			}
			if stops := it.stops(noon); !stops.IsZero() && (bound.IsZero() || stops.Before(bound)) && stops.After(noon) {
				t.Fatalf("%+v stops at %s, and its horizon is %s", it, stops, bound)
			}
		}
	}
}

func TestSpans(t *testing.T) {
	for text, want := range map[string]time.Duration{"90d": 90 * day, "12h": 12 * time.Hour, "1d12h": 36 * time.Hour, "30m": 30 * time.Minute,
		"45s": 45 * time.Second, "1y": 365 * day,
		"1y2w3d": 382 * day, "0s": 0, "36500d": 36500 * day} {
		if got, err := ParseSpan(text); err != nil || time.Duration(got) != want {
			t.Errorf("%s: got %s, %v", text, got, err)
		}
	}
	for _, text := range []string{"", "90", "d", "-1d", "1.5h", "1h1d", "1d1d", "36501d", "99999999999d", "9999999s9999999999s",
		"1 d", "101y", "1w1y", "1mo", "٣d", "+1d"} {
		if got, err := ParseSpan(text); err == nil {
			t.Errorf("%q is read as %s", text, got)
		}
	}
}

func FuzzParseSpan(f *testing.F) {
	f.Add("90d")
	f.Add("1d2h3m4s")
	f.Fuzz(func(t *testing.T, text string) {
		span, err := ParseSpan(text)
		if err != nil {
			return
		}
		if again, err := ParseSpan(span.String()); err != nil || again != span || span < 0 || span > MostSpan {
			t.Errorf("%q is %d, written %s, read as %d, %v", text, span, span, again, err)
		}
	})
}

// Ends at the edges of calendars: a day is 24 hours, whatever clocks and calendars do, and no sum runs over.
func TestAgesAcrossOddDays(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Skip("this machine knows no time zones")
	}
	for _, c := range []struct {
		name      string
		made, end time.Time
	}{
		{"over a leap day", time.Date(2028, 2, 28, 12, 0, 0, 0, time.UTC), time.Date(2028, 2, 29, 12, 0, 0, 0, time.UTC)},
		{"over the night of 23 hours", time.Date(2027, 3, 27, 12, 0, 0, 0, berlin), time.Date(2027, 3, 28, 13, 0, 0, 0, berlin)},
		{"over the night of 25 hours", time.Date(2027, 10, 30, 12, 0, 0, 0, berlin), time.Date(2027, 10, 31, 11, 0, 0, 0, berlin)},
		{"over the last year of four digits", time.Date(9999, 12, 31, 12, 0, 0, 0, time.UTC), time.Date(10000, 1, 1, 12, 0, 0, 0, time.UTC)},
	} {
		it := ruled(Item{Versions: []Version{{Created: c.made}}}, Rules{MaxAge: Span(day)})
		if it.State(c.end.Add(-time.Second)) != Usable || it.State(c.end) != Ended {
			t.Errorf("%s: it ends at %s, not at %s", c.name, it.Ends(1, c.made), c.end)
		}
	}
	forEver := ruled(made(0), Rules{MaxAge: MostSpan})
	if forEver.State(noon.AddDate(99, 0, 0)) != Usable {
		t.Error("a hundred years are over too soon")
	}
}
