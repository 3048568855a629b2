package chest

import (
	"errors"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// Serving is the version that answers a reference, found without opening anything.
type Serving struct {
	Drawer *Drawer
	Item   *Item
	Number int
	Home   string    // where the item is now, when it was asked for by an old name; else empty
	Ends   time.Time // when the version stops being usable; zero for never
	// Changes is when the same question may have another answer by itself; zero for never.
	Changes time.Time
	Grace   bool // it has ended, and a rule lets it be served for a while
}

// Serving finds what a reader of some kind who is allowed to gets now. Nobody but an app is shown what is for use only.
func (p Spot) Serving(kind string, ref reference.Reference, now time.Time) (found Serving, err error) {
	d, it, err := p.ReadItem()
	if err != nil {
		return found, err
	}
	found = Serving{Drawer: d, Item: it, Number: ref.Version}
	if reason, why := it.Row.KeptFrom(kind); reason != "" {
		return found, &Error{Code: NotServable, Reason: reason, Detail: ref.String() + " " + why}
	}
	if found.Number == 0 {
		found.Number, err = it.Life.Current(now)
	} else if found.Number > len(it.Versions) {
		return found, Missing("version "+ref.String(), "")
	} else {
		err = it.Life.Servable(found.Number, now)
	}
	if err == nil {
		_, err = p.st.OpenKey(d, it.Versions[found.Number-1].DrawerKey)
	}
	if err != nil {
		var closed *lifecycle.NotServable
		if errors.As(err, &closed) {
			err = &Error{Code: NotServable, Reason: string(closed.State), Detail: ref.String() + ": " + closed.Error()}
		}
		return found, err
	}
	found.Ends, found.Grace = it.Life.Ends(found.Number, now), it.Life.VersionAt(found.Number, now) == lifecycle.Grace
	found.Changes = found.Ends
	if ref.Version == 0 || found.Grace {
		found.Changes = it.Life.Changes(now)
	}
	if d.Row.Name != ref.Drawer || it.Row.Name != ref.Item {
		found.Home = d.Row.Name + "/" + it.Row.Name
	}
	return found, nil
}

// Serving finds what a reader of some kind who is allowed to gets now.
func (st *Snapshot) Serving(kind string, ref reference.Reference, now time.Time) (Serving, error) {
	return st.At(ref.Drawer, ref.Item).Serving(kind, ref, now)
}

// DecideOn decides whether a subject may do an action on what an entry is about: a whole scope when it is about giving
// access, else a drawer, an item or the chest.
func (st *Snapshot) DecideOn(e trail.Entry, subject string, action access.Action, ctx access.Context) access.Decision {
	if e.Action == access.GrantAccess.String() {
		if scope, err := access.ParseScope(e.Target); err == nil {
			return st.Policy.DecideScope(subject, action, scope, ctx)
		}
	}
	return st.Decide(subject, action, ctx, TargetOf(e.Target)...)
}

// MayReadEntry returns a function that decides for one entry whether the attempt's caller may do an action on what it is about.
func (a *Attempt) MayReadEntry(action access.Action) func(trail.Entry) bool {
	ctx := a.Caller.Context(a.Entry.At)
	var target string
	var allowed, known bool // entries about the same follow each other
	return func(e trail.Entry) bool {
		if e.Action == access.GrantAccess.String() {
			return a.St.DecideOn(e, a.Caller.ID, action, ctx).Allowed
		}
		if !known || e.Target != target {
			target, known, allowed = e.Target, true, a.St.DecideOn(e, a.Caller.ID, action, ctx).Allowed
		}
		return allowed
	}
}

// AnswersFor reports whether a caller, or a team of theirs, owns an app.
func (st *Snapshot) AnswersFor(c Caller, subject string) bool {
	row, _ := st.IdentityOf(subject)
	return row.Kind == reference.App && st.Owns(c, row)
}

// AskAccess is what asking is called in the trail.
const AskAccess = "ask_access"

// AllowAsk decides whether the attempt's caller may ask about access to a target: who may grant there or read the trail there
// may, about an app who answers for it, and about oneself everyone.
func (a *Attempt) AllowAsk(subject string, target []string) error {
	if a.err != nil {
		return a.err
	}
	a.Entry.Detail = subject
	if subject == a.Caller.Name || a.St.AnswersFor(a.Caller, subject) {
		return nil
	}
	var decision access.Decision
	for _, action := range []access.Action{access.GrantAccess, access.ReadTrail} {
		if !decision.Allowed {
			decision = a.St.Decide(a.Caller.ID, action, a.Caller.Context(a.Entry.At), target...)
		}
	}
	what := a.Entry.Target
	if what == "" {
		what = "the chest"
	}
	return a.Answered(decision, "ask about access to "+what, "", a.Remedy(access.ReadTrail))
}

// DueState is the state of what is served now and will not be soon; all others are of lifecycle.
const DueState = "due"

// Due is an item that somebody has to look at.
type Due struct {
	Reference string
	Owner     string // of the item, or else of its drawer
	State     string // DueState while something is served until NotAfter, else a state of lifecycle: nothing is served
	Version   int    // that is served until NotAfter; 0 when none is
	NotAfter  time.Time
	Next      time.Time // when the next version begins by itself; zero for never
}

// Due says whether somebody has to look at an item. One that is retired is meant to serve nothing.
func (it *Item) Due(now time.Time, within time.Duration) (d Due, is bool) {
	if len(it.Life.Versions) == 0 || !it.Life.RetiredAt.IsZero() {
		return d, false
	}
	current, err := it.Life.Current(now)
	var closed *lifecycle.NotServable
	if errors.As(err, &closed) {
		newest := len(it.Life.Versions)
		return Due{State: string(closed.State), NotAfter: it.Life.Ends(newest, now), Next: closed.From}, true
	}
	stops, is := it.Life.Due(now, within)
	d = Due{State: DueState, Version: current, NotAfter: stops}
	if it.Life.VersionAt(current, now) == lifecycle.Grace {
		d.State = string(lifecycle.Grace)
	}
	return d, is
}

// Candidates are the times by which an item is found that can be due within a span: see [store.ItemFilter]. Rules of an
// item's own count in its row already, except those about idle items and warnings, which are looked at with everything.
func (d *Drawer) Candidates(now time.Time, within time.Duration) (until, since int64) {
	until = Micros(now.Add(within))
	age, idle := d.Schedule.Shortest()
	if age != 0 {
		since = Micros(now.Add(within - age))
	}
	if idle != 0 {
		since = max(since, Micros(now.Add(within-idle)))
	}
	return until, since
}

// EachDue calls visit with the items that can be due within a span, among those in drawers that are asked for, until it returns false. In
// drawers whose rules look at ages or at reads it looks one by one; all others are one range.
func (a *Attempt) EachDue(within time.Duration, asked func(*Drawer) bool, visit func(*Drawer, *Item) bool) error {
	now, goes := a.Entry.At, true
	special := map[string]bool{}
	each := func(d *Drawer, it *Item) bool {
		goes = visit(d, it) && a.Caller.Ctx().Err() == nil
		return goes
	}
	for _, d := range a.St.Drawers() {
		if age, idle := d.Schedule.Shortest(); age == 0 && idle == 0 {
			continue
		}
		special[d.Row.ID] = true
		if !goes || !asked(d) {
			continue
		}
		until, since := d.Candidates(now, within)
		err := a.St.Each(d, store.ItemFilter{ServedUntil: until, ServedSince: since, ReadIn: d.Row.Name},
			func(it *Item) bool { return each(d, it) })
		if err != nil {
			return err
		}
	}
	if !goes {
		return a.Caller.Ctx().Err()
	}
	var problem error
	err := a.chest.records.ItemsDue(Micros(now.Add(within)), func(rows store.Shelved) bool {
		d := a.St.DrawerByID(rows.Item.Drawer)
		if d == nil || special[rows.Item.Drawer] || !asked(d) {
			return a.Caller.Ctx().Err() == nil
		}
		it, err := newItem(d, rows)
		if err == nil {
			it, err = a.St.awake(it)
		}
		if problem = err; err != nil {
			return false
		}
		return each(d, it)
	})
	if err == nil {
		err = problem
	}
	if err != nil {
		a.chest.log.Error("what is due cannot be read", "error", err)
		return ErrDamaged
	}
	return a.Caller.Ctx().Err()
}

// CountReads brings what is known of reads up to date, when a rule asks for it.
func (a *Attempt) CountReads() error {
	if a.err != nil {
		return a.err
	}
	for _, d := range a.St.Drawers() {
		if _, idle := d.Schedule.Shortest(); idle != 0 {
			return a.chest.records.CatchUp()
		}
	}
	return nil
}

// Environments are those that a drawer, or an app, can be for.
var Environments = []string{"production", "staging", "development"}
