package shelf

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/content"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/horizon"
)

// NewRules are rules for a drawer, or for one item beyond those of its drawer.
type NewRules struct {
	Rules         lifecycle.Rules
	From          time.Time // when a drawer's begin; zero for at once
	AllowRefusals bool      // also when something that is served now stops being served at once
	AllowAgain    bool      // also when something that is refused now would be served again
	Preview       bool      // only say what would happen
}

// RuledItem is what rules do to an item.
type RuledItem struct {
	Reference string
	lifecycle.Effect
	Ownerless bool // its owner is not one that the rules ask for
}

// RulesReport is what rules do, or would do.
type RulesReport struct {
	Done bool
	Drawer
	Items []RuledItem // only those that the caller may list
	More  int         // how many others there are
	Stops int         // how many items, of all, are not served any more at once
	Again int         // how many items, of all, have a version that is refused now and would be served again
	at    time.Time
}

// warning is how long before an end something in a drawer can be due.
func warning(d *chest.Drawer, now time.Time) time.Duration {
	return max(time.Duration(lifecycle.DefaultWarn), time.Duration(d.Schedule.At(now).Warn), time.Duration(d.Schedule.Next.Warn))
}

// SetDrawerRules sets the rules of a drawer that still has a revision, or says what they would do.
func (s *Shelf) SetDrawerRules(c chest.Caller, name string, revision int64, n NewRules) (r RulesReport, err error) {
	if err := chest.CheckName("drawer", name); err != nil {
		return r, err
	}
	if err := n.check(s.heart.Now()); err != nil {
		return r, err
	}
	err = s.heart.Try(func() error {
		r = RulesReport{}
		a, err := s.heart.Allow(c, access.ChangeRules, name)
		if err != nil {
			return err
		}
		if err := a.CountReads(); err != nil {
			return a.Fail(err)
		}
		d := a.St.Drawer(name)
		if d == nil {
			return a.Fail(chest.Missing("drawer "+name, a.St.NearestDrawer(c, name, a.Entry.At)))
		}
		if err := checkRevision("drawer "+name, d.Row.Revision, revision); err != nil {
			return a.Fail(err)
		}
		schedule := n.schedule(d.Schedule, a.Entry.At)
		after := d.Row
		after.Rules = schedule.Text()
		a.Entry.Detail = "rules " + after.Rules
		if r.Drawer, err = s.describeDrawer(a.St, d, c, a.Entry.At); err == nil {
			err = r.fill(a, d, schedule)
		}
		if err = cmp.Or(err, r.surprise(n)); err != nil {
			return a.Fail(err)
		}
		if n.Preview {
			a.Entry.Detail = "what rules would do: " + after.Rules
			return a.Done()
		}
		if d.Schedule.LoosensShredding(schedule, a.Entry.At) {
			if err := lifting(a, d.Row.ID, name); err != nil {
				return err
			}
		}
		a.Change.Update(d.Row, after)
		if err := a.Commit("drawer " + name); err != nil {
			return err
		}
		r.Done = true
		r.Drawer, err = s.drawerNow(a, d.Row.ID)
		return err
	})
	return r, err
}

// SetItemRules sets what an item demands beyond its drawer's rules: at once, and with no preview.
func (s *Shelf) SetItemRules(c chest.Caller, ref reference.Reference, revision int64, n NewRules) (it Item, err error) {
	rules := n.Rules
	if err := n.check(s.heart.Now()); err != nil {
		return it, err
	}
	if !n.From.IsZero() || n.Preview {
		return it, chest.Invalid("from", "rules of an item apply at once: from and preview are for those of its drawer")
	}
	if rules.Keep != 0 || rules.Owner != "" || rules.Recipe != "" {
		return it, chest.Invalid("rules", "an item can have a stricter max_age, warn, grace, host_keeps, idle, retire_for, needs_end and "+
			"two_to_shred; the other rules are its drawer's")
	}
	own := ""
	if rules != (lifecycle.Rules{}) {
		text, err := json.Marshal(rules)
		if err != nil {
			return it, err
		}
		own = string(text)
	}
	err = s.heart.Try(func() error {
		a, err := s.heart.Allow(c, access.ChangeRules, ref.Drawer, ref.Item)
		if err != nil {
			return err
		}
		d, found, err := a.St.ItemOf(ref)
		if err != nil {
			return a.Fail(a.St.Hint(c, ref, err, a.Entry.At))
		}
		if err := checkRevision("item "+ref.String(), found.Row.Revision, revision); err != nil {
			return a.Fail(err)
		}
		after := found.Row
		after.Rules = own
		a.Entry.Detail = "rules of its own: " + own
		before, _ := chest.ParseRules(found.Row.Rules) // it was read a moment ago
		if field := rules.NoEffect(d.Schedule.At(a.Entry.At), before); field != "" {
			return a.Fail(chest.Invalid("rules."+field, "%s would have no effect: of an item's rule and its drawer's, the stricter counts", field))
		}
		r := RulesReport{at: a.Entry.At}
		r.weigh(RuledItem{Reference: ref.Drawer + "/" + ref.Item,
			Effect: found.Life.Under(chest.ScheduleFor(found.Row, d.Schedule).And(rules), a.Entry.At)})
		if err := r.surprise(n); err != nil {
			return a.Fail(err)
		}
		if before.TwoToShred && !rules.TwoToShred {
			if err := lifting(a, found.Row.ID, ref.String()); err != nil {
				return err
			}
		}
		a.Change.Update(found.Row, horizon.Of(after, found.Versions, a.Entry.At))
		if err := a.Commit("item " + ref.String()); err != nil {
			return err
		}
		d, now, err := a.After().ItemOf(ref)
		if err != nil {
			return err
		}
		it = Describe(d, now, a.Entry.At)
		return nil
	})
	return it, err
}

func (n NewRules) check(now time.Time) error {
	if field, problem := n.Rules.Check(); problem != "" {
		return chest.Invalid("rules."+field, "%s", problem)
	}
	if n.Rules.Recipe != "" {
		if _, err := secretvalue.Recipe(n.Rules.Recipe).Make(); err != nil {
			return chest.Invalid("rules.recipe", "%s", err)
		}
	}
	if !n.From.IsZero() && (!n.From.After(now) || n.From.After(now.AddDate(2, 0, 0))) {
		return chest.Invalid("from", "from must be within the next two years")
	}
	return nil
}

// schedule is the rules of a drawer after a change: what is to begin later leaves those of now in force.
func (n NewRules) schedule(before lifecycle.Schedule, now time.Time) lifecycle.Schedule {
	if n.From.IsZero() {
		return lifecycle.Schedule{Now: n.Rules}
	}
	return lifecycle.Schedule{Now: before.At(now), From: n.From.UTC().Truncate(time.Second), Next: n.Rules}
}

// mostRuled is how many items a report names.
const mostRuled = 200

// fill says what a schedule does to the items of a drawer.
func (r *RulesReport) fill(a *chest.Attempt, d *chest.Drawer, schedule lifecycle.Schedule) (err error) {
	now := a.Entry.At
	r.at = now
	rules := schedule.At(now)
	if !schedule.From.IsZero() {
		rules = schedule.Next
	}
	return a.St.All(d, func(it *chest.Item) {
		if !it.Life.RetiredAt.IsZero() {
			return
		}
		own, _ := chest.ParseRules(it.Row.Rules) // it was read a moment ago
		ruled := RuledItem{Reference: d.Row.Name + "/" + it.Row.Name, Effect: it.Life.Under(chest.ScheduleFor(it.Row, schedule).And(own), now)}
		ruled.Ownerless = !rules.OwnedBy(it.Row.Owner, d.Row.Owner) && d.Schedule.At(now).OwnedBy(it.Row.Owner, d.Row.Owner)
		if a.St.MayList(a.Caller, d, it, now) {
			r.weigh(ruled)
		} else {
			hidden := RulesReport{at: now}
			hidden.weigh(ruled)
			r.Stops, r.Again, r.More = r.Stops+hidden.Stops, r.Again+hidden.Again, r.More+len(hidden.Items)
		}
	})
}

// weigh counts what rules do to an item, and names it when there is room.
func (r *RulesReport) weigh(it RuledItem) {
	if !it.Stops.IsZero() && !it.Stops.After(r.at) {
		r.Stops++
	}
	if len(it.Again) > 0 {
		r.Again++
	}
	switch {
	case !it.Any() && !it.Ownerless:
	case len(r.Items) < mostRuled:
		r.Items = append(r.Items, it)
	default:
		r.More++
	}
}

// surprise refuses rules that stop serving something at once, or serve again what is refused, unless that is meant.
func (r *RulesReport) surprise(n NewRules) error {
	if n.Preview {
		return nil
	}
	if r.Stops > 0 && !n.AllowRefusals {
		names := r.some(func(it RuledItem) bool { return !it.Stops.IsZero() && !it.Stops.After(r.at) })
		return &chest.Error{Code: chest.NotPossible, Field: "allow_refusals",
			Detail: fmt.Sprintf("%s would not be served any more at once%s: let the rules begin later (from), or say that this is meant "+
				"(allow_refusals)", reference.Counted(r.Stops, "item"), names)}
	}
	if r.Again > 0 && !n.AllowAgain {
		return &chest.Error{Code: chest.NotPossible, Field: "allow_again",
			Detail: fmt.Sprintf("%s with a version that is refused now, and would be served again%s: add a new version instead, or say that "+
				"this is meant (allow_again)", reference.Counted(r.Again, "item"), r.some(func(it RuledItem) bool { return len(it.Again) > 0 }))}
	}
	return nil
}

// some names up to three items that something is so of, in brackets; nothing when the caller may know of none.
func (r *RulesReport) some(is func(RuledItem) bool) string {
	var names []string
	for _, it := range r.Items {
		if is(it) && len(names) < 3 {
			names = append(names, it.Reference)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return " (" + strings.Join(names, ", ") + ")"
}

// checkRules refuses what the rules of a drawer do not allow for a new version.
func checkRules(v NewVersion, d *chest.Drawer, life lifecycle.Item, now time.Time) error {
	rules := life.Rules.At(now)
	if rules.NeedsEnd && v.Window.NotAfter.IsZero() {
		return chest.Invalid("not_after", "the rules of %s require an end: give one (not_after)", d.Row.Name)
	}
	if rules.MaxAge != 0 && v.Window.NotBefore.After(now.Add(time.Duration(rules.MaxAge))) {
		return chest.Invalid("not_before", "a version of %s is served for %s after it is made, so this one would end before it begins",
			d.Row.Name, rules.MaxAge)
	}
	if rules.Recipe == "" {
		return nil
	}
	recipes := []secretvalue.Recipe{v.Recipe}
	for _, f := range v.Fields {
		recipes = append(recipes, f.Recipe)
	}
	for _, recipe := range recipes {
		if recipe != "" && recipe != content.ByRule && recipe.Chance() < secretvalue.Recipe(rules.Recipe).Chance() {
			return chest.Invalid("generate", "%s is less random than the rules of %s require: %s", recipe, d.Row.Name, rules.Recipe)
		}
	}
	return nil
}

// checkOwned refuses an item whose owner the rules do not allow.
func checkOwned(d *chest.Drawer, owner string, now time.Time) error {
	rules := d.Schedule.At(now)
	if rules.OwnedBy(owner, d.Row.Owner) {
		return nil
	}
	if rules.Owner == lifecycle.OwnedByAny {
		return chest.Invalid("owner", "the rules of %s require an owner", d.Row.Name)
	}
	return chest.Invalid("owner", "the rules of %s require that a %s owns each item", d.Row.Name, rules.Owner)
}
