package service

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/store"
)

// NewRules are rules for a drawer, or for one item beyond those of its drawer.
type NewRules struct {
	Rules         lifecycle.Rules
	From          time.Time // when a drawer's begin; zero for at once
	AllowRefusals bool      // also when something that is served now stops being served at once
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
	at    time.Time
}

// warning is how long before an end something in a drawer can be due.
func (d *drawer) warning(now time.Time) time.Duration {
	return max(time.Duration(lifecycle.DefaultWarn), time.Duration(d.schedule.At(now).Warn), time.Duration(d.schedule.Next.Warn))
}

// candidates are the times by which an item is found that can be due within a span: see [store.ItemFilter]. Rules of an
// item's own count in its row already, except those about idle items and warnings, which are looked at with everything.
func (d *drawer) candidates(now time.Time, within time.Duration) (until, since int64) {
	until = micros(now.Add(within))
	age, idle := d.schedule.Shortest()
	if age != 0 {
		since = micros(now.Add(within - age))
	}
	if idle != 0 {
		since = max(since, micros(now.Add(within-idle)))
	}
	return until, since
}

// countReads brings what is known of reads up to date, when a rule asks for it.
func (s *Service) countReads() error {
	asks := false
	err := s.view(func(st *state) error {
		for _, d := range st.drawers {
			_, idle := d.schedule.Shortest()
			asks = asks || idle != 0
		}
		return nil
	})
	if err != nil || !asks {
		return err
	}
	return s.records.CatchUp()
}

// SetDrawerRules sets the rules of a drawer that still has a revision, or says what they would do.
func (s *Service) SetDrawerRules(c Caller, name string, revision int64, n NewRules) (r RulesReport, err error) {
	if err := checkName("drawer", name); err != nil {
		return r, err
	}
	if err := n.check(s.now()); err != nil {
		return r, err
	}
	a, err := s.allow(c, access.ChangeRules, name)
	if err != nil {
		return r, err
	}
	if err := s.countReads(); err != nil {
		return r, a.fail(err)
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	var before, after store.Drawer
	err = s.view(func(st *state) error {
		d := st.drawers[name]
		if d == nil {
			return notFound("drawer "+name, s.nearestDrawer(st, c, name, a.entry.At))
		}
		if err := checkRevision("drawer "+name, d.row.Revision, revision); err != nil {
			return err
		}
		schedule := n.schedule(d.schedule, a.entry.At)
		before, after = d.row, d.row
		after.Rules = schedule.Text()
		a.entry.Detail = "rules " + after.Rules
		return r.fill(st, c, d, schedule, a.entry.At)
	})
	if err == nil {
		err = r.surprise(n)
	}
	if err != nil {
		return r, a.fail(err)
	}
	if n.Preview {
		a.entry.Detail = "what rules would do: " + after.Rules
		return answer(a, r)
	}
	err = a.change("drawer "+name, func(tx *store.Tx) (err error) { after, err = store.Update(tx, before, after); return err },
		func(st *state) {
			_ = st.putDrawer(st.drawers[name], after) // its labels are as they were
			r.Drawer, _ = describeDrawer(st, st.drawers[name], c, a.entry.At)
		})
	r.Done = err == nil
	return r, err
}

// SetItemRules sets what an item demands beyond its drawer's rules.
func (s *Service) SetItemRules(c Caller, ref reference.Reference, revision int64, rules lifecycle.Rules) (it Item, err error) {
	if err := (NewRules{Rules: rules}).check(s.now()); err != nil {
		return it, err
	}
	if rules.Keep != 0 || rules.Owner != "" || rules.Recipe != "" {
		return it, invalid("rules", "an item can have a stricter max_age, warn, grace, host_keeps, idle, retire_for, needs_end and two_to_shred; the other rules are its drawer's")
	}
	a, err := s.allow(c, access.ChangeRules, ref.Drawer, ref.Item)
	if err != nil {
		return it, err
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	var before, after store.Item
	var versions []store.Version
	err = s.view(func(st *state) error {
		_, found, err := st.item(ref)
		if err != nil {
			return s.hint(st, c, ref, err, a.entry.At)
		}
		before, after, versions = found.row, found.row, found.versions
		after.Rules = ""
		if rules != (lifecycle.Rules{}) {
			text, err := json.Marshal(rules)
			if err != nil {
				return err
			}
			after.Rules = string(text)
		}
		a.entry.Detail = "rules of its own: " + after.Rules
		after = withHorizon(after, versions, a.entry.At)
		return checkRevision("item "+ref.String(), before.Revision, revision)
	})
	if err != nil {
		return it, a.fail(err)
	}
	err = a.change("item "+ref.String(), func(tx *store.Tx) (err error) { after, err = store.Update(tx, before, after); return err },
		func(st *state) {
			d := st.drawers[ref.Drawer]
			it = describeItem(d, st.keep(d, after, versions), a.entry.At)
		})
	return it, err
}

func (n NewRules) check(now time.Time) error {
	if field, problem := n.Rules.Check(); problem != "" {
		return invalid("rules."+field, "%s", problem)
	}
	if n.Rules.Recipe != "" {
		if _, err := secretvalue.Recipe(n.Rules.Recipe).Make(); err != nil {
			return invalid("rules.recipe", "%s", err)
		}
	}
	if !n.From.IsZero() && (!n.From.After(now) || n.From.After(now.AddDate(2, 0, 0))) {
		return invalid("from", "from is not within the next two years")
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
func (r *RulesReport) fill(st *state, c Caller, d *drawer, schedule lifecycle.Schedule, now time.Time) (err error) {
	r.at = now
	if r.Drawer, err = describeDrawer(st, d, c, now); err != nil {
		return err
	}
	rules := schedule.At(now)
	if !schedule.From.IsZero() {
		rules = schedule.Next
	}
	return st.all(d, func(it *item) {
		if !it.life.RetiredAt.IsZero() {
			return
		}
		own, _ := parseRules(it.row.Rules) // it was read a moment ago
		ruled := RuledItem{Reference: d.row.Name + "/" + it.row.Name, Effect: it.life.Under(schedule.And(own), now)}
		ruled.Ownerless = !owned(rules, it.row.Owner, d.row.Owner) && owned(d.schedule.At(now), it.row.Owner, d.row.Owner)
		if !ruled.Stops.IsZero() && !ruled.Stops.After(now) {
			r.Stops++
		}
		switch {
		case !ruled.Any() && !ruled.Ownerless:
		case len(r.Items) < mostRuled && st.mayList(c, d, it, now):
			r.Items = append(r.Items, ruled)
		default:
			r.More++
		}
	})
}

// surprise refuses rules that stop serving something at once, unless that is meant.
func (r *RulesReport) surprise(n NewRules) error {
	if n.Preview || n.AllowRefusals || r.Stops == 0 {
		return nil
	}
	var names []string
	for _, it := range r.Items {
		if !it.Stops.IsZero() && !it.Stops.After(r.at) && len(names) < 3 {
			names = append(names, it.Reference)
		}
	}
	return &Error{Code: NotPossible, Field: "allow_refusals", Detail: fmt.Sprintf("%d items would not be served any more at once (%s): let the rules begin later (from), or say that this is meant (allow_refusals)",
		r.Stops, strings.Join(names, ", "))}
}

// owned reports whether an item's owner, or else its drawer's, is one that the rules ask for.
func owned(r lifecycle.Rules, item, drawer string) bool {
	owner := item
	if owner == "" {
		owner = drawer
	}
	kind, _, _ := strings.Cut(owner, ":")
	return r.Owner == "" || owner != "" && (r.Owner == lifecycle.OwnedByAny || r.Owner == kind)
}

// checkRules refuses what the rules of a drawer do not allow for a new version.
func (v NewVersion) checkRules(d *drawer, life lifecycle.Item, now time.Time) error {
	rules := life.Rules.At(now)
	if rules.NeedsEnd && v.Window.NotAfter.IsZero() {
		return invalid("not_after", "the rules of %s demand an end: give not_after (--until)", d.row.Name)
	}
	if rules.MaxAge != 0 && v.Window.NotBefore.After(now.Add(time.Duration(rules.MaxAge))) {
		return invalid("not_before", "a version of %s is served for %s after it is made, so that this one would end before it begins", d.row.Name, rules.MaxAge)
	}
	if rules.Recipe == "" {
		return nil
	}
	recipes := []secretvalue.Recipe{v.Recipe}
	for _, f := range v.Fields {
		recipes = append(recipes, f.Recipe)
	}
	for _, recipe := range recipes {
		if recipe != "" && recipe != ByRule && recipe.Chance() < secretvalue.Recipe(rules.Recipe).Chance() {
			return invalid("generate", "%s leaves less to chance than the rules of %s ask for: %s", recipe, d.row.Name, rules.Recipe)
		}
	}
	return nil
}

// ByRule is the recipe that stands for the one that a drawer's rules name, or a good one when they name none.
const ByRule secretvalue.Recipe = "rule"

const goodRecipe secretvalue.Recipe = "characters:32"

// cooked is a new version in which the recipe of the rules is named.
func (v NewVersion) cooked(rules lifecycle.Rules) NewVersion {
	by := secretvalue.Recipe(rules.Recipe)
	if by == "" {
		by = goodRecipe
	}
	if v.Recipe == ByRule {
		v.Recipe = by
	}
	fields := make([]NewField, len(v.Fields))
	for i, f := range v.Fields {
		if fields[i] = f; f.Recipe == ByRule {
			fields[i].Recipe = by
		}
	}
	v.Fields = fields
	return v
}

// checkOwned refuses an item whose owner the rules do not allow.
func checkOwned(d *drawer, owner string, now time.Time) error {
	rules := d.schedule.At(now)
	if owned(rules, owner, d.row.Owner) {
		return nil
	}
	if rules.Owner == lifecycle.OwnedByAny {
		return invalid("owner", "the rules of %s demand an owner", d.row.Name)
	}
	return invalid("owner", "the rules of %s demand that a %s owns each item", d.row.Name, rules.Owner)
}
