// Package lifecycle decides which version of an item may be served at a moment, and what may become of an item and its
// versions.
//
// A version has a window: it may be served from not_before, included, to not_after, excluded (the X.509 terms, with an
// exclusive end so that two windows can follow each other without a gap). It can besides be staged, until somebody
// promotes it; suspended, until somebody resumes it; and shredded, for ever. The current version is the newest one that
// is usable, unless somebody holds a certain one; then it is that one or none.
//
// Rules of the drawer ([Rules]) can end a version by its age before its window does, let it be served for a while after
// its end, and stop serving an item that nobody reads.
//
// An item can be suspended, retired (hidden and not served, for a while), and shredded. All of it is values and pure
// functions: an act returns the item as it is afterwards, or an error and nothing. Nothing here reads a clock.
package lifecycle

import (
	"fmt"
	"slices"
	"tansu/internal/core/reference"
	"time"
)

// Window is when a version may be served; a zero time leaves that side open.
type Window struct {
	NotBefore time.Time
	NotAfter  time.Time
}

// Check reports whether the window makes sense.
func (w Window) Check() error {
	if !w.NotBefore.IsZero() && !w.NotAfter.IsZero() && !w.NotBefore.Before(w.NotAfter) {
		return fmt.Errorf("not_before %s is not before not_after %s", w.NotBefore.Format(time.RFC3339), w.NotAfter.Format(time.RFC3339))
	}
	return nil
}

// State is what a version or an item is at a moment, in one word.
type State string

// The states.
const (
	Usable    State = "usable"
	Waiting   State = "waiting"   // not_before is still to come
	Ended     State = "ended"     // not_after has passed, or it is older than its rules allow
	Grace     State = "grace"     // ended, and still served for a while by a rule
	Idle      State = "idle"      // of an item: nobody read it for as long as a rule says, so that nothing is served
	Staged    State = "staged"    // nobody has promoted it yet
	Suspended State = "suspended" // switched off by a person, for now
	Retired   State = "retired"   // of an item: hidden, for a grace period
	Shredded  State = "shredded"  // its data key is destroyed
)

// Version is what decides whether one version may be served.
type Version struct {
	Window
	Created   time.Time
	Staged    bool
	Suspended bool
	Shredded  bool
}

// At returns the state of a version at a moment, rules aside; the one that lasts longest is named.
func (v Version) At(now time.Time) State {
	switch {
	case v.Shredded:
		return Shredded
	case v.Suspended:
		return Suspended
	case !v.NotAfter.IsZero() && !now.Before(v.NotAfter):
		return Ended
	case v.Staged:
		return Staged
	case !v.NotBefore.IsZero() && now.Before(v.NotBefore):
		return Waiting
	}
	return Usable
}

// Item is what decides about an item: its versions, oldest first, so that element i is version i+1.
type Item struct {
	Versions  []Version
	Held      int // the version that somebody holds as the current one; 0 for none
	Suspended bool
	RetiredAt time.Time // zero while it is not retired
	Shredded  bool
	Rules     Schedule
	Used      time.Time // when it was last read, or resumed; zero for never
}

// NotServable says why no version, or not the one asked for, can be served.
type NotServable struct {
	Version int       // the version asked for, held, or else the newest; 0 when it is about the item as a whole
	State   State     // Usable when the item has no version at all
	When    time.Time // when a window begins or ended, or the item was retired
	Next    int       // the newest version that is usable now, for whoever asks for it by its number; 0 for none
	From    time.Time // when the next version begins to be usable by itself; zero for never
}

func (e *NotServable) Error() string {
	text := e.what()
	switch {
	case e.Next != 0:
		text += fmt.Sprintf("; version %d is usable", e.Next)
	case !e.From.IsZero() && !e.From.Equal(e.When):
		text += "; the next is usable from " + e.From.UTC().Format(time.RFC3339)
	}
	return text
}

func (e *NotServable) what() string {
	subject := fmt.Sprintf("version %d", e.Version)
	if e.Version == 0 {
		subject = "the item"
	}
	when := e.When.UTC().Format(time.RFC3339)
	switch e.State {
	case Waiting:
		return subject + " may not be served before " + when
	case Ended:
		return subject + " may not be served since " + when
	case Idle:
		return subject + " is not served since " + when + ", because nobody had read it for as long as a rule of its drawer says; resume it"
	case Staged:
		return subject + " is staged and waits for somebody to promote it"
	case Suspended:
		return subject + " is suspended"
	case Retired:
		return subject + " is retired since " + when
	case Shredded:
		return subject + " is shredded"
	}
	return "the item has no version yet"
}

// Current returns the number of the version that is served when none is asked for, or a [*NotServable].
func (it Item) Current(now time.Time) (int, error) {
	if err := it.whole(now); err != nil {
		return 0, err
	}
	if it.Held != 0 {
		return it.Held, it.Servable(it.Held, now)
	}
	if newest := it.newest(Usable, now); newest != 0 {
		return newest, nil
	}
	if newest := it.newest(Grace, now); newest != 0 {
		return newest, nil
	}
	if len(it.Versions) == 0 {
		return 0, &NotServable{State: Usable}
	}
	return 0, it.Servable(len(it.Versions), now)
}

// Servable returns nil when the numbered version may be served, or a [*NotServable]. The number is 1 to len(it.Versions).
func (it Item) Servable(number int, now time.Time) error {
	if err := it.whole(now); err != nil {
		return err
	}
	state := it.VersionAt(number, now)
	if state == Usable || state == Grace {
		return nil
	}
	problem := &NotServable{Version: number, State: state, Next: it.newest(Usable, now), From: it.nextBegin(now)}
	switch state {
	case Waiting:
		problem.When = it.Versions[number-1].NotBefore
	case Ended:
		problem.When = it.Ends(number, now)
	}
	return problem
}

// Ends is when the numbered version stops being usable: the end of its window, or what its rules say about its age, as it
// looks at a moment; zero for never.
func (it Item) Ends(number int, now time.Time) time.Time {
	v := it.Versions[number-1]
	if age := it.Rules.ageEnd(v.Created, now); !age.IsZero() && (v.NotAfter.IsZero() || age.Before(v.NotAfter)) {
		return age
	}
	return v.NotAfter
}

// VersionAt returns the state of the numbered version at a moment, rules included.
func (it Item) VersionAt(number int, now time.Time) State {
	v := it.Versions[number-1]
	v.NotAfter = it.Ends(number, now)
	state := v.At(now)
	if grace := it.Rules.At(now).Grace; state == Ended && grace != 0 && !v.Staged && !now.Before(v.NotBefore) &&
		now.Before(v.NotAfter.Add(time.Duration(grace))) {
		return Grace
	}
	return state
}

// used is from when on an item counts as idle: it was read, resumed or given a new version then.
func (it Item) used() (used time.Time) {
	used = it.Used
	if newest := len(it.Versions); newest > 0 && it.Versions[newest-1].Created.After(used) {
		used = it.Versions[newest-1].Created
	}
	return used
}

// Changes is the next moment after now at which what is served can become something else by itself; zero for never.
func (it Item) Changes(now time.Time) (next time.Time) {
	consider := func(t time.Time) {
		if t.After(now) && (next.IsZero() || t.Before(next)) {
			next = t
		}
	}
	for i, v := range it.Versions {
		if v.Shredded {
			continue
		}
		consider(v.NotBefore)
		if end := it.Ends(i+1, now); !end.IsZero() {
			consider(end)
			consider(end.Add(time.Duration(it.Rules.Now.Grace)))
			consider(end.Add(time.Duration(it.Rules.Next.Grace)))
		}
	}
	consider(it.Rules.From)
	consider(it.Rules.idleEnd(it.used(), now))
	return next
}

// DueAt reports whether what is served at a moment ends within the warning time of its rules and nothing follows.
func (it Item) DueAt(now time.Time) bool {
	_, due := it.Due(now, it.Rules.At(now).warn())
	return due
}

// Due says when nothing is served any more of an item of which something is served now, and whether that is within a
// span.
func (it Item) Due(now time.Time, within time.Duration) (stops time.Time, due bool) {
	if current, err := it.Current(now); err != nil {
		return stops, false
	} else if it.VersionAt(current, now) == Grace {
		return it.Ends(current, now), true
	}
	plain := it
	plain.Rules.Now.Grace, plain.Rules.Next.Grace = 0, 0
	stops = plain.stops(now)
	return stops, !stops.IsZero() && !stops.After(now.Add(within))
}

// whole says why nothing of the item is served.
func (it Item) whole(now time.Time) error {
	switch {
	case it.Shredded:
		return &NotServable{State: Shredded}
	case !it.RetiredAt.IsZero():
		return &NotServable{State: Retired, When: it.RetiredAt}
	case it.Suspended:
		return &NotServable{State: Suspended}
	}
	if idle := it.Rules.idleEnd(it.used(), now); !idle.IsZero() && !now.Before(idle) {
		return &NotServable{State: Idle, When: idle}
	}
	return nil
}

func (it Item) newest(state State, now time.Time) int {
	for number := len(it.Versions); number > 0; number-- {
		if it.VersionAt(number, now) == state {
			return number
		}
	}
	return 0
}

// nextBegin is when the first of the waiting versions begins.
func (it Item) nextBegin(now time.Time) (from time.Time) {
	for i, v := range it.Versions {
		if it.VersionAt(i+1, now) == Waiting && (from.IsZero() || v.NotBefore.Before(from)) {
			from = v.NotBefore
		}
	}
	return from
}

// Horizon says until when something of the item is served if nobody does anything, zero for always, and when the oldest
// of the versions that are served until then was made. It is not ok when nothing is served now.
// It errs towards the earlier one where rules are about to change.
func (it Item) Horizon(now time.Time) (until, since time.Time, ok bool) {
	// Each turn goes to the end of the version that is current then, so there are no more turns than versions.
	for {
		current, err := it.Current(now)
		if err != nil {
			return now, since, ok
		}
		v := it.Versions[current-1]
		if !ok || v.Created.Before(since) {
			since, ok = v.Created, true
		}
		end := it.Ends(current, now)
		if end.IsZero() || !end.After(now) { // no end, or in grace
			return end, since, true
		}
		now = end
	}
}

// State returns what the item is as a whole at a moment: Usable when something is served.
func (it Item) State(now time.Time) State {
	_, err := it.Current(now)
	if problem, closed := err.(*NotServable); closed {
		return problem.State
	}
	return Usable
}

// Act is something that a person does with an item or with one of its versions.
type Act string

// The acts. Those marked "or version" take a version's number or 0 for the item; the others take what they say.
const (
	Suspend Act = "suspend" // item or version
	Resume  Act = "resume"  // item, also an idle one, or version
	Promote Act = "promote" // a staged version
	Hold    Act = "hold"    // a version that is usable now
	Release Act = "release" // the item: nothing is held any more
	Retire  Act = "retire"  // the item
	Restore Act = "restore" // the item
	Shred   Act = "shred"   // item or version; the item must be retired first
)

// Acts are all of them, in the order of their declaration.
var Acts = []Act{Suspend, Resume, Promote, Hold, Release, Retire, Restore, Shred}

// ActError says why an act is not possible; the item is as it was.
type ActError struct {
	Act     Act
	Version int
	Problem string
}

func (e *ActError) Error() string {
	if e.Version == 0 {
		return fmt.Sprintf("cannot %s the item: %s", e.Act, e.Problem)
	}
	return fmt.Sprintf("cannot %s version %d: %s", e.Act, e.Version, e.Problem)
}

// Do returns the item as it is after an act at a moment, or an [*ActError]. The item itself does not change.
func (it Item) Do(act Act, version int, now time.Time) (Item, error) {
	after := it
	after.Versions = slices.Clone(it.Versions)
	problem := after.do(act, version, now)
	if problem != "" {
		return it, &ActError{act, version, problem}
	}
	return after, nil
}

func (it *Item) do(act Act, version int, now time.Time) (problem string) {
	switch {
	case it.Shredded:
		return "it is shredded"
	case version < 0 || version > len(it.Versions):
		return "it has " + reference.Counted(len(it.Versions), "version")
	case version == 0 && (act == Promote || act == Hold):
		return "say which version"
	case version != 0 && (act == Release || act == Retire || act == Restore):
		return "that is done with the item and not with a version"
	case !it.RetiredAt.IsZero() && act != Restore && act != Shred:
		return "the item is retired; restore it first"
	}
	if version == 0 {
		return it.doWhole(act, now)
	}
	return it.doVersion(act, version, now)
}

func (it *Item) doWhole(act Act, now time.Time) string {
	switch act {
	case Suspend:
		return set(&it.Suspended, true, "it is suspended already")
	case Resume:
		if idle := it.Rules.idleEnd(it.used(), now); !it.Suspended && !idle.IsZero() && !now.Before(idle) {
			it.Used = now
			return ""
		}
		return set(&it.Suspended, false, "it is not suspended")
	case Release:
		if it.Held == 0 {
			return "no version is held"
		}
		it.Held = 0
	case Retire:
		it.RetiredAt = now
	case Restore:
		if it.RetiredAt.IsZero() {
			return "it is not retired"
		}
		it.RetiredAt = time.Time{}
	case Shred:
		if it.RetiredAt.IsZero() {
			return "retire it first, so that somebody who still needs it notices"
		}
		if until := later(it.RetiredAt, it.Rules.At(now).RetireFor); now.Before(until) {
			return "a rule of its drawer keeps it retired until " + until.UTC().Format(time.RFC3339) + " first"
		}
		it.Shredded, it.Held = true, 0
		for i := range it.Versions {
			it.Versions[i].Shredded = true
		}
	default:
		return "there is no such act"
	}
	return ""
}

func (it *Item) doVersion(act Act, number int, now time.Time) string {
	v := &it.Versions[number-1]
	if v.Shredded {
		return "it is shredded"
	}
	switch act {
	case Suspend:
		return set(&v.Suspended, true, "it is suspended already")
	case Resume:
		return set(&v.Suspended, false, "it is not suspended")
	case Promote:
		return set(&v.Staged, false, "it is not staged")
	case Hold:
		if state := it.VersionAt(number, now); state != Usable {
			return "it is " + string(state)
		}
		if it.Held == number {
			return "it is held already"
		}
		it.Held = number
	case Shred:
		if current, err := it.Current(now); err == nil && current == number {
			return "it is the current one; let another one be current first"
		}
		v.Shredded = true
		if it.Held == number {
			it.Held = 0
		}
	default:
		return "there is no such act"
	}
	return ""
}

// set changes a flag that must change.
func set(flag *bool, to bool, already string) string {
	if *flag == to {
		return already
	}
	*flag = to
	return ""
}
