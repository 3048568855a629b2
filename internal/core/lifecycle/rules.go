package lifecycle

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Rules are what a drawer demands of its items, or stricter an item of itself. The zero Rules demand nothing.
type Rules struct {
	MaxAge    Span   `json:"max_age,omitzero"`    // a version is served this long after it was made
	NeedsEnd  bool   `json:"needs_end,omitempty"` // a new version must have a not_after
	Warn      Span   `json:"warn,omitzero"`       // it is due this long before its end; 0 for DefaultWarn
	Grace     Span   `json:"grace,omitzero"`      // it is served this long after its end, and each read is marked
	Idle      Span   `json:"idle,omitzero"`       // an item that nobody read for so long is not served until it is resumed
	Keep      int    `json:"keep,omitempty"`      // the versions that are kept; older ones are shredded when one is added
	Owner     string `json:"owner,omitempty"`     // who must own an item: one of Owners, or empty for nobody
	Recipe    string `json:"recipe,omitempty"`    // values are made up by it
	RetireFor Span   `json:"retire_for,omitzero"` // an item is retired this long before it can be shredded
	// an agent on a host may keep a value, and serve it by itself for so long while the chest is away
	HostKeeps  Span `json:"host_keeps,omitzero"`
	TwoToShred bool `json:"two_to_shred,omitempty"` // a second person must agree to shredding
}

// DefaultWarn is how long before its end a version is due when no rule says otherwise.
const DefaultWarn = Span(14 * 24 * time.Hour)

// MostGrace bounds how long something may be served after its end.
const MostGrace = Span(30 * 24 * time.Hour)

// MostHostKeeps bounds how long an agent may serve what it keeps while it hears nothing from the chest.
const MostHostKeeps = Span(7 * 24 * time.Hour)

// The kinds of owners that a rule can ask for.
const (
	OwnedByAny    = "any"
	OwnedByPerson = "person"
	OwnedByTeam   = "team"
)

// Owners are all of them.
var Owners = []string{OwnedByAny, OwnedByPerson, OwnedByTeam}

// Check says what is wrong with rules, naming the field.
func (r Rules) Check() (field, problem string) {
	for _, span := range []struct {
		field string
		span  Span
	}{{"max_age", r.MaxAge}, {"warn", r.Warn}, {"grace", r.Grace}, {"idle", r.Idle}, {"retire_for", r.RetireFor},
		{"host_keeps", r.HostKeeps}} {
		if span.span < 0 || span.span > MostSpan {
			return span.field, fmt.Sprintf("%s is not between 0 and %s", span.field, MostSpan)
		}
	}
	switch {
	case r.Grace > MostGrace:
		return "grace", fmt.Sprintf("grace is at most %s: whoever needs longer needs a later end", MostGrace)
	case r.HostKeeps > MostHostKeeps:
		return "host_keeps", fmt.Sprintf("host_keeps is at most %s: for so long, what is revoked may still be served on a host that hears "+
			"of nothing", MostHostKeeps)
	case r.MaxAge != 0 && r.Warn >= r.MaxAge:
		return "warn", "warn is not shorter than max_age, so that everything would always be due"
	case r.Keep < 0 || r.Keep > 1000:
		return "keep", "keep is not between 0, for all, and 1000"
	case r.Owner != "" && !slices.Contains(Owners, r.Owner):
		return "owner", fmt.Sprintf("owner is not one of %v", Owners)
	}
	return "", ""
}

// And returns what both rules demand, the stricter of each. A warning is the earlier one.
func (r Rules) And(o Rules) Rules {
	shorter := func(a, b Span) Span {
		if a == 0 || b != 0 && b < a {
			return b
		}
		return a
	}
	r.MaxAge, r.Idle = shorter(r.MaxAge, o.MaxAge), shorter(r.Idle, o.Idle)
	if o.Grace != 0 && o.Grace < r.Grace {
		r.Grace = o.Grace
	}
	if o.HostKeeps != 0 && o.HostKeeps < r.HostKeeps {
		r.HostKeeps = o.HostKeeps
	}
	r.Warn, r.RetireFor = max(r.Warn, o.Warn), max(r.RetireFor, o.RetireFor)
	r.NeedsEnd, r.TwoToShred = r.NeedsEnd || o.NeedsEnd, r.TwoToShred || o.TwoToShred
	return r
}

// OwnedBy reports whether an item's owner, or else its drawer's, is one that the rules ask for. They are subjects.
func (r Rules) OwnedBy(item, drawer string) bool {
	owner := cmp.Or(item, drawer)
	kind, _, _ := strings.Cut(owner, ":")
	return r.Owner == "" || owner != "" && (r.Owner == OwnedByAny || r.Owner == kind)
}

// One is a single rule of those that an item can have for itself.
type One struct {
	Field string
	Alone Rules // demands this, and nothing else
}

// Each returns the rules that an item can have for itself and that demand something, one by one.
func (r Rules) Each() (each []One) {
	for _, one := range []One{{"max_age", Rules{MaxAge: r.MaxAge}}, {"needs_end", Rules{NeedsEnd: r.NeedsEnd}}, {"warn", Rules{Warn: r.Warn}},
		{"grace", Rules{Grace: r.Grace}}, {"idle", Rules{Idle: r.Idle}}, {"retire_for", Rules{RetireFor: r.RetireFor}},
		{"host_keeps", Rules{HostKeeps: r.HostKeeps}}, {"two_to_shred", Rules{TwoToShred: r.TwoToShred}}} {
		if one.Alone != (Rules{}) {
			each = append(each, one)
		}
	}
	return each
}

// NoEffect is the field of a rule that is given to an item anew and has no effect, because its drawer's demands as much; empty for none.
func (r Rules) NoEffect(drawer, before Rules) string {
	for _, one := range r.Each() {
		if drawer.And(one.Alone) == drawer && !slices.Contains(before.Each(), one) {
			return one.Field
		}
	}
	return ""
}

// warn is how long before its end a version is due.
func (r Rules) warn() time.Duration {
	if r.Warn == 0 {
		return time.Duration(DefaultWarn)
	}
	return time.Duration(r.Warn)
}

// Schedule is the rules in force and, from a time, those that take their place, so that a new rule surprises nobody.
type Schedule struct {
	Now  Rules     `json:"now"`
	From time.Time `json:"from,omitzero"` // zero for never
	Next Rules     `json:"next,omitzero"`
}

// At returns the rules at a moment.
func (s Schedule) At(now time.Time) Rules {
	if !s.From.IsZero() && !now.Before(s.From) {
		return s.Next
	}
	return s.Now
}

// And returns a schedule of which each part is stricter by some rules.
func (s Schedule) And(r Rules) Schedule {
	s.Now = s.Now.And(r)
	if !s.From.IsZero() {
		s.Next = s.Next.And(r)
	}
	return s
}

// ageEnd is when a version made at a time is too old, as it looks at a moment; zero for never.
func (s Schedule) ageEnd(made, now time.Time) time.Time {
	return s.end(later(made, s.Now.MaxAge), later(made, s.Next.MaxAge), now)
}

// idleEnd is when an item that was last used at a time has been idle for too long, as it looks at a moment.
func (s Schedule) idleEnd(used, now time.Time) time.Time {
	return s.end(later(used, s.Now.Idle), later(used, s.Next.Idle), now)
}

// end chooses between the ends that the rules of now and the coming ones would set. Nothing ends by a rule before the
// rule begins, and a rule that is no more in force ends nothing any more.
func (s Schedule) end(present, coming, now time.Time) time.Time {
	if s.From.IsZero() || now.Before(s.From) && !present.IsZero() && !present.After(s.From) {
		return present
	}
	if !coming.IsZero() && coming.Before(s.From) {
		return s.From
	}
	return coming
}

func later(t time.Time, s Span) time.Time {
	if s == 0 || t.IsZero() {
		return time.Time{}
	}
	return t.Add(time.Duration(s))
}

// Shortest returns the shortest maximum age and idle time that a schedule ever has; zero for none.
func (s Schedule) Shortest() (age, idle time.Duration) {
	both := s.Now
	if !s.From.IsZero() {
		both = both.And(s.Next)
	}
	return time.Duration(both.MaxAge), time.Duration(both.Idle)
}

// LoosensShredding reports whether something that two must agree to shred could be shredded by one, or by a rule that keeps fewer
// versions, under another schedule.
func (s Schedule) LoosensShredding(after Schedule, now time.Time) bool {
	for _, at := range []time.Time{now, s.From, after.From} {
		was, is := s.At(at), after.At(at)
		if !at.IsZero() && was.TwoToShred && (!is.TwoToShred || is.Keep != 0 && (was.Keep == 0 || is.Keep < was.Keep)) {
			return true
		}
	}
	return false
}

// Zero reports whether nothing is demanded, now or later.
func (s Schedule) Zero() bool { return s == Schedule{} }

// ParseSchedule reads a schedule as a row holds it; empty text is the zero Schedule.
func ParseSchedule(text string) (s Schedule, err error) {
	if text == "" {
		return s, nil
	}
	err = json.Unmarshal([]byte(text), &s)
	return s, err
}

// Text writes a schedule as a row holds it.
func (s Schedule) Text() string {
	if s.Zero() {
		return ""
	}
	text, err := json.Marshal(s)
	if err != nil {
		panic(err) // a schedule holds only numbers, texts and times
	}
	return string(text)
}

// Span is a length of time as people write it: "90d", "12h", "30m", "45s", or several of these from long to short,
// "1d12h". A day is 24 hours, whatever the clocks do, a week 7 days and a year 365.
type Span time.Duration

// MostSpan is the longest span: a hundred years of 365 days.
const MostSpan = Span(100 * 365 * 24 * time.Hour)

var spanUnits = []struct {
	name string
	unit time.Duration
}{{"y", 365 * 24 * time.Hour}, {"w", 7 * 24 * time.Hour}, {"d", 24 * time.Hour}, {"h", time.Hour}, {"m", time.Minute}, {"s", time.Second}}

// largestWritten is the first of spanUnits that String uses: years and weeks are read, and written in days.
const largestWritten = 2

// ParseSpan reads a span.
func ParseSpan(text string) (Span, error) {
	bad := fmt.Errorf("%.40q is not a length of time, such as 1y, 2w, 90d, 12h, 30m or 1d12h", text)
	rest, total, least := text, time.Duration(0), -1
	for rest != "" {
		digits := 0
		for digits < len(rest) && rest[digits] >= '0' && rest[digits] <= '9' {
			digits++
		}
		if digits == 0 || digits > 9 || digits == len(rest) {
			return 0, bad
		}
		number, _ := strconv.Atoi(rest[:digits])
		unit := slices.IndexFunc(spanUnits, func(u struct {
			name string
			unit time.Duration
		}) bool {
			return u.name == rest[digits:digits+1]
		})
		if unit <= least || int64(number) > int64(time.Duration(MostSpan)/spanUnits[unit].unit) {
			return 0, bad
		}
		least = unit
		total += time.Duration(number) * spanUnits[unit].unit
		rest = rest[digits+1:]
	}
	if text == "" || total > time.Duration(MostSpan) {
		return 0, bad
	}
	return Span(total), nil
}

func (s Span) String() string {
	if s == 0 {
		return "0s"
	}
	var text strings.Builder
	rest := time.Duration(s)
	for _, u := range spanUnits[largestWritten:] {
		if n := rest / u.unit; n > 0 {
			fmt.Fprintf(&text, "%d%s", n, u.name)
			rest -= n * u.unit
		}
	}
	return text.String()
}

// MarshalText writes a span as ParseSpan reads it.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads what ParseSpan reads.
func (s *Span) UnmarshalText(text []byte) (err error) {
	*s, err = ParseSpan(string(text))
	return err
}

// Surplus lists the versions that are more than a rule keeps, oldest first: those before the newest so many, except the
// current one, one that is held, and those that still wait for their time or for somebody to promote them.
func (it Item) Surplus(now time.Time) (numbers []int) {
	keep := it.Rules.At(now).Keep
	if keep == 0 {
		return nil
	}
	current, _ := it.Current(now)
	for i := 0; i < len(it.Versions)-keep; i++ {
		state := it.VersionAt(i+1, now)
		if i+1 != current && i+1 != it.Held && !it.Versions[i].Shredded && state != Waiting && state != Staged {
			numbers = append(numbers, i+1)
		}
	}
	return numbers
}

// Effect is what other rules do to an item. Its parts are empty where nothing changes.
type Effect struct {
	Stops   time.Time // from then on nothing is served any more, because of the rules; zero for not within a year
	Because State     // Ended or Idle
	Due     bool      // it becomes due at once
	Surplus []int     // versions that are shredded when the next one is added
	NoEnd   bool      // the current version has no end, and the next one must have one
	Again   []int     // versions that are refused now, and would be served again
}

// Any reports whether the rules do anything to the item.
func (e Effect) Any() bool {
	return !e.Stops.IsZero() || e.Due || len(e.Surplus) > 0 || e.NoEnd || len(e.Again) > 0
}

// Under says what becomes of an item when a schedule takes the place of its own: what it does now and within a year,
// compared with what would happen anyway.
func (it Item) Under(s Schedule, now time.Time) (e Effect) {
	other := it
	other.Rules = s
	starts := now
	if !s.From.IsZero() && s.From.After(now) {
		starts = s.From
	}
	was, will := it.stops(now), other.stops(now)
	if !will.IsZero() && (was.IsZero() || will.Before(was)) && will.Before(starts.AddDate(1, 0, 0)) {
		e.Stops, e.Because = will, other.State(will)
	}
	e.Due = other.DueAt(starts) && !it.DueAt(starts)
	before := it.Surplus(starts)
	for _, number := range other.Surplus(starts) {
		if !slices.Contains(before, number) {
			e.Surplus = append(e.Surplus, number)
		}
	}
	for number := 1; number <= len(it.Versions); number++ {
		if it.Servable(number, starts) != nil && other.Servable(number, starts) == nil {
			e.Again = append(e.Again, number)
		}
	}
	current, err := other.Current(starts)
	e.NoEnd = s.At(starts).NeedsEnd && !it.Rules.At(starts).NeedsEnd && err == nil && it.Versions[current-1].NotAfter.IsZero()
	return e
}

// stops is when nothing of the item is served any more if nobody does anything; now when that is so already, and zero
// for never.
func (it Item) stops(now time.Time) time.Time {
	for range 2*len(it.Versions) + 4 { // each turn goes past the end of a version, or of its grace, or of the rules
		if _, err := it.Current(now); err != nil {
			return now
		}
		next := it.Changes(now)
		if next.IsZero() {
			return time.Time{}
		}
		now = next
	}
	return now
}
