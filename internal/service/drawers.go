package service

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/policytext"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/store"
)

// Environments a drawer can be for.
var environments = []string{"production", "staging", "development"}

// Drawer is a drawer as others see it. Items, Due and Overdue count what the caller may list.
type Drawer struct {
	Name        string
	Environment string
	Description string
	Owner       string
	Labels      map[string]string
	Approval    Approval
	Rules       lifecycle.Rules // in force
	NextRules   lifecycle.Rules // that take their place
	RulesFrom   time.Time       // then; zero for never
	CreatedAt   time.Time
	CreatedBy   string
	Revision    int64
	Items       int
	Due         int      // items whose current version ends within 14 days
	Overdue     int      // items without a usable version
	Notes       []string // what is unusual about what was just said about it
}

// NewDrawer is what making a drawer needs.
type NewDrawer struct {
	Name        string
	Environment string
	Description string
	Owner       string
}

// Described are changes to what is said about a drawer or an item; nil leaves as it is.
type Described struct {
	Description *string
	Owner       *string
	Labels      map[string]string // all of them; nil leaves as it is
	Approval    *Approval         // of a drawer
	UseOnly     *bool             // of an item: no person is ever shown its value
}

// Approval is the rule of a drawer that somebody else must agree before certain values are read; without items there
// is none.
type Approval struct {
	Items []string // patterns over item names
	Of    string   // "everyone" or "persons"; empty for everyone
}

func describeDrawer(st *state, d *drawer, c Caller, now time.Time) (Drawer, error) {
	r := Drawer{Name: d.row.Name, Environment: d.row.Environment, Description: d.row.Description, Owner: d.row.Owner,
		Labels: d.labels.Map(), Approval: Approval{Items: strings.Fields(d.row.ApprovalItems), Of: d.row.ApprovalOf}, Rules: d.schedule.At(now),
		CreatedAt: fromMicros(d.row.CreatedAt), CreatedBy: d.row.CreatedBy, Revision: d.row.Revision}
	if d.schedule.From.After(now) {
		r.NextRules, r.RulesFrom = d.schedule.Next, d.schedule.From
	}
	counted := store.ItemFilter{Drawer: d.row.ID}
	whole := st.policy.DecideScope(c.id, access.List, d.everything(), c.context(now)).Allowed
	if whole { // then what is fine needs only be counted, and what is due looked at
		all, err := st.items.records.CountItems(counted)
		if err != nil {
			return r, err
		}
		retired, err := st.items.records.CountItems(store.ItemFilter{Drawer: d.row.ID, Retired: true})
		if err != nil {
			return r, err
		}
		r.Items = all - retired
		counted.ServedUntil, counted.ServedSince = d.candidates(now, d.warning(now))
	}
	return r, st.each(d, counted, func(it *item) bool {
		if !it.life.RetiredAt.IsZero() || !whole && !st.mayList(c, d, it, now) {
			return true // hidden
		}
		if !whole {
			r.Items++
		}
		switch _, state := itemState(it.life, now); state {
		case dueState:
			r.Due++
		case string(lifecycle.Ended), string(lifecycle.Waiting), string(lifecycle.Grace), string(lifecycle.Idle):
			r.Overdue++
		}
		return true
	})
}

// everything is the scope of all items in a drawer.
func (d *drawer) everything() access.Scope {
	scope, err := access.ParseScope(d.row.Name + "/**")
	if err != nil {
		panic(err) // names of drawers are checked before they are stored
	}
	return scope
}

// Retired says whether a list has retired items.
type Retired bool

// Whether retired items are listed.
const (
	WithoutRetired Retired = false
	WithRetired    Retired = true
)

// Drawers lists the drawers in which the caller may list something.
func (s *Service) Drawers(c Caller) (list []Drawer, err error) {
	a, err := s.allowOverview(c, overDrawers)
	if err != nil {
		return nil, err
	}
	if err := s.countReads(); err != nil {
		return nil, a.fail(err)
	}
	err = s.view(func(st *state) error {
		for _, name := range sortedKeys(st.drawers) {
			if st.reaches(c.id, access.List, name, c.context(a.entry.At)).Allowed {
				d, err := describeDrawer(st, st.drawers[name], c, a.entry.At)
				if err != nil {
					return err
				}
				list = append(list, d)
			}
		}
		return nil
	})
	if err != nil {
		return nil, a.fail(err)
	}
	return answer(a, list)
}

// CreateDrawer makes an empty drawer with a key of its own.
func (s *Service) CreateDrawer(c Caller, n NewDrawer) (made Drawer, err error) {
	if err := checkName("name", n.Name); err != nil {
		return made, err
	}
	if !slices.Contains(environments, n.Environment) {
		return made, invalid("environment", "environment is not one of %v", environments)
	}
	if err := checkText("description", n.Description, MaxDescription); err != nil {
		return made, err
	}
	a, err := s.allow(c, access.ChangeRules, n.Name)
	if err != nil {
		return made, err
	}
	a.entry.Detail = "create drawer, " + n.Environment
	if n.Owner != "" {
		if _, err := s.knownSubject("owner", n.Owner); err != nil {
			return made, a.fail(err)
		}
	}
	row := store.Drawer{ID: newID("dr_"), Name: n.Name, Environment: n.Environment, Description: n.Description, Owner: n.Owner,
		CreatedAt: micros(a.entry.At), CreatedBy: c.name}
	key := envelope.NewKey()
	keyRow := store.DrawerKey{ID: row.ID + "/1", Drawer: row.ID, Number: 1, CreatedAt: row.CreatedAt}
	err = s.view(func(st *state) error { keyRow.Wrapped = st.root.WrapDrawerKey(row.ID, 1, key); return nil })
	if err != nil {
		return made, err
	}
	change := func(tx *store.Tx) (err error) {
		if row, err = store.Insert(tx, row); err != nil {
			return err
		}
		keyRow, err = store.Insert(tx, keyRow)
		return err
	}
	err = a.change("drawer "+n.Name, change, func(st *state) {
		st.drawers[n.Name] = &drawer{key: key, keyNumber: 1, keyRow: keyRow}
		_ = st.drawers[n.Name].put(row)                                 // it has no labels yet
		made, _ = describeDrawer(st, st.drawers[n.Name], c, a.entry.At) // nor items
	})
	return made, err
}

// DrawerPage is a drawer and some of the items in it, in the order of names. Next is the name after which the next page
// begins; empty at the end. What is added or taken away meanwhile moves nothing from one page to another.
type DrawerPage struct {
	Drawer
	Items []Item
	Next  string
}

// Drawer describes one drawer and lists a page of the items in it that the caller may list, those that are retired only
// if they are asked for; after is the Next of the page before, or empty.
func (s *Service) Drawer(c Caller, name string, retired Retired, after string, most int) (p DrawerPage, err error) {
	if err := checkName("drawer", name); err != nil {
		return p, err
	}
	if after != "" {
		if err := checkName("cursor", after); err != nil {
			return p, err
		}
	}
	a := s.attempt(c, access.List.String(), name)
	var decision access.Decision
	err = s.view(func(st *state) error {
		decision = st.reaches(c.id, access.List, name, c.context(a.entry.At))
		return nil
	})
	if err != nil {
		return p, err
	}
	if err := a.decided(decision, access.List, ""); err != nil {
		return p, err
	}
	if err := s.countReads(); err != nil {
		return p, a.fail(err)
	}
	err = s.view(func(st *state) error {
		found := st.drawers[name]
		if found == nil {
			return notFound("drawer "+name, s.nearestDrawer(st, c, name, a.entry.At))
		}
		if p.Drawer, err = describeDrawer(st, found, c, a.entry.At); err != nil {
			return err
		}
		return st.each(found, store.ItemFilter{After: after}, func(it *item) bool {
			if !it.life.RetiredAt.IsZero() && retired == WithoutRetired || !st.mayList(c, found, it, a.entry.At) {
				return true
			}
			if len(p.Items) == most {
				p.Next = p.Items[most-1].Name
				return false
			}
			p.Items = append(p.Items, describeItem(found, it, a.entry.At))
			return true
		})
	})
	if err != nil {
		return p, a.fail(err)
	}
	return answer(a, p)
}

// ChangeDrawer changes what is said about a drawer if it still has the revision that the caller read.
func (s *Service) ChangeDrawer(c Caller, name string, revision int64, changes Described) (d Drawer, err error) {
	if err := checkName("drawer", name); err != nil {
		return d, err
	}
	if err := changes.check(); err != nil {
		return d, err
	}
	a, err := s.allow(c, access.ChangeRules, name)
	if err != nil {
		return d, err
	}
	a.entry.Detail = changes.detail()
	if err := s.checkOwner(changes); err != nil {
		return d, a.fail(err)
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	var before store.Drawer
	err = s.view(func(st *state) error {
		if st.drawers[name] == nil {
			return notFound("drawer "+name, "")
		}
		before = st.drawers[name].row
		return checkRevision("drawer "+name, before.Revision, revision)
	})
	if err != nil {
		return d, a.fail(err)
	}
	after := before
	after.Description, after.Owner = changes.apply(before.Description, before.Owner)
	if changes.Labels != nil {
		after.Labels = labelText(changes.Labels)
	}
	if changes.Approval != nil {
		after.ApprovalItems, after.ApprovalOf = approvalText(&policytext.Approval{Items: changes.Approval.Items, Of: changes.Approval.Of})
	}
	if err := s.mayMove(c, a, changes, name+"/**", func(st *state) error { return st.putDrawer(st.drawers[name], after) }); err != nil {
		return d, err
	}
	err = a.change("drawer "+name, func(tx *store.Tx) (err error) { after, err = store.Update(tx, before, after); return err },
		func(st *state) {
			_ = st.putDrawer(st.drawers[name], after) // labels were checked above
			d, err = describeDrawer(st, st.drawers[name], c, a.entry.At)
			d.Notes = changes.notes()
		})
	return d, err
}

// mostApprovals is how many patterns a drawer's rule about approval has.
const mostApprovals = 50

func (ch Described) check() error {
	if ch.Description == nil && ch.Owner == nil && ch.Labels == nil && ch.Approval == nil && ch.UseOnly == nil {
		return invalid("description", "nothing to change: give description, owner, labels, approval of a drawer, or use_only of an item")
	}
	if _, err := reference.LabelsOf(ch.Labels); err != nil {
		return invalid("labels", "%s", err)
	}
	if ch.Approval != nil {
		if len(ch.Approval.Items) > mostApprovals {
			return invalid("approval", "there are %d patterns; the most is %d", len(ch.Approval.Items), mostApprovals)
		}
		for _, text := range ch.Approval.Items {
			if _, err := reference.ParsePattern("d/" + text); err != nil || strings.ContainsAny(text, "/ ") {
				return invalid("approval", "%.80q is not a pattern over item names, such as db-* or *", text)
			}
		}
		if of := ch.Approval.Of; of != "" && of != policytext.OfEveryone && of != policytext.OfPersons {
			return invalid("approval", `approval is of "everyone" or "persons", not of %.40q`, of)
		}
	}
	if ch.Description != nil {
		return checkText("description", *ch.Description, MaxDescription)
	}
	return nil
}

// notes point out that something that everybody who may list it can see looks like a value.
func (ch Described) notes() (notes []string) {
	texts := map[string]string{}
	if ch.Description != nil {
		texts["description"] = *ch.Description
	}
	for key, value := range ch.Labels {
		texts["label "+key] = value
	}
	for _, where := range sortedKeys(texts) {
		if secretvalue.LooksLikeValue(texts[where]) {
			notes = append(notes, "the "+where+" looks as if it had a value in it, and everybody who lists it sees it")
		}
	}
	return notes
}

// detail says in the trail what was changed.
func (ch Described) detail() string {
	if ch.Labels == nil && ch.Approval == nil && ch.UseOnly == nil {
		return "change what is said about it"
	}
	var parts []string
	if ch.UseOnly != nil && *ch.UseOnly {
		parts = append(parts, "it is for use only, shown to no person")
	}
	if ch.Labels != nil {
		parts = append(parts, "labels ["+labelText(ch.Labels)+"]")
	}
	if ch.Approval != nil {
		parts = append(parts, "approval of ["+strings.Join(ch.Approval.Items, " ")+"] by "+cmp.Or(ch.Approval.Of, policytext.OfEveryone))
	}
	return "change " + strings.Join(parts, ", ")
}

// mayMove keeps labels and rules from being a way around grants: a change of them that lets anybody do more takes the
// right to give access there, and nobody lets themselves do more by one.
func (s *Service) mayMove(c Caller, a *attempt, changes Described, scopeText string, change func(*state) error) error {
	if changes.Labels == nil && changes.Approval == nil {
		return nil
	}
	scope, err := access.ParseScope(scopeText)
	if err != nil {
		return a.fail(err)
	}
	var o opening
	err = s.view(func(st *state) error {
		after := st.shadow()
		if err := change(after); err != nil {
			return err
		}
		was, becomes, err := st.places(after)
		if err != nil {
			return err
		}
		for _, change := range access.Compare(st.policy, after.policy, was, becomes, a.entry.At) {
			o.opens = o.opens || change.Gained != 0 || change.Altered != 0 && st.loosens(change, after)
		}
		o.steward = st.isSteward(c, a.entry.At)
		o.decision = st.policy.DecideScope(c.id, access.GrantAccess, scope, c.context(a.entry.At))
		o.own, err = st.widens(c, after, a.entry.At)
		return err
	})
	if err != nil {
		return a.fail(err)
	}
	return a.mayOpen(o, scope.String(), "let others do more by labels or rules of "+scope.String())
}

// opening is what a change that is not a grant does to who may do what.
type opening struct {
	opens    bool            // somebody can do more by it
	own      bool            // who makes it can, or an app of theirs
	steward  bool            // who makes it is a steward
	decision access.Decision // whether they may give access there
}

// mayOpen refuses a change that opens something up to who makes it, or to others without the right to give access to the
// target. What is missing is that right: that is what the entry and its receipt are about then.
func (a *attempt) mayOpen(o opening, target, what string) error {
	switch {
	case !o.opens:
		return nil
	case o.own && !o.steward:
		return a.refuse(&Error{Code: Refused, Reason: ownAccess, Detail: "this lets you, or an app you own, do more than before; another gatekeeper can do it"})
	case o.decision.Allowed:
		return nil
	}
	a.entry.Action, a.entry.Target = access.GrantAccess.String(), target
	return a.answered(o.decision, what, "", a.remedy(access.GrantAccess))
}

func (ch Described) apply(description, owner string) (string, string) {
	if ch.Description != nil {
		description = *ch.Description
	}
	if ch.Owner != nil {
		owner = *ch.Owner
	}
	return description, owner
}

func (s *Service) checkOwner(ch Described) error {
	if ch.Owner == nil || *ch.Owner == "" {
		return nil
	}
	_, err := s.knownSubject("owner", *ch.Owner)
	return err
}

func checkRevision(what string, has, asked int64) error {
	if has != asked {
		return &Error{Code: Stale, Detail: fmt.Sprintf("%s has revision %d, not %d: somebody changed it; read it again", what, has, asked)}
	}
	return nil
}

// itemState says which version of an item is current, 0 for none, and what the item is in one word.
func itemState(life lifecycle.Item, now time.Time) (current int, state string) {
	if len(life.Versions) == 0 {
		return 0, "empty"
	}
	current, err := life.Current(now)
	if err != nil {
		return 0, string(life.State(now))
	}
	if life.VersionAt(current, now) == lifecycle.Grace {
		return current, string(lifecycle.Grace)
	}
	if life.DueAt(now) {
		return current, dueState
	}
	return current, string(lifecycle.Usable)
}
