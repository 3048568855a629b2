package shelf

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/policytext"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/drawerkeys"
	"tansu/internal/entity"
	"tansu/internal/powers"
	"tansu/internal/store"
)

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
	KeysOpen    bool     // anybody gets the public halves of its keys
	MasterKey   string   // that its key is under; empty for none
	KeyState    string   // of the master key: a state of drawerkeys
}

// NewDrawer is what making a drawer needs.
type NewDrawer struct {
	Name        string
	Environment string
	Description string
	Owner       string
	MasterKey   string // that its key is to be under; empty for none
}

// Described changes the description, owner, labels or approval of a drawer, or those of an item; nil leaves a field as it is.
type Described struct {
	Description *string
	Owner       *string
	Labels      map[string]string // all of them; nil leaves as it is
	Approval    *Approval         // of a drawer
	UseOnly     *bool             // of an item: no person is ever shown its value
	DecryptFrom *int              // of a key: the oldest version that decrypts; 0 for any
	KeysOpen    *bool             // of a drawer: anybody gets the public halves of its keys
}

// Approval is the rule of a drawer that somebody else must agree before certain values are read; without items there
// is none.
type Approval struct {
	Items []string // patterns over item names
	Of    string   // "everyone" or "persons"; empty for everyone
}

func (s *Shelf) describeDrawer(st *chest.Snapshot, d *chest.Drawer, c chest.Caller, now time.Time) (Drawer, error) {
	r := Drawer{Name: d.Row.Name, Environment: d.Row.Environment, Description: d.Row.Description, Owner: d.Row.Owner,
		Labels: d.Labels.Map(), Approval: Approval{Items: strings.Fields(d.Row.ApprovalItems), Of: d.Row.ApprovalOf},
		Rules: d.Schedule.At(now), KeysOpen: d.Row.KeysOpen,
		CreatedAt: chest.FromMicros(d.Row.CreatedAt), CreatedBy: d.Row.CreatedBy, Revision: d.Row.Revision}
	if m := st.MasterOf(d); m.Row.ID != "" {
		r.MasterKey, r.KeyState = m.Row.Name, m.State()
	}
	if d.Schedule.From.After(now) {
		r.NextRules, r.RulesFrom = d.Schedule.Next, d.Schedule.From
	}
	counted := store.ItemFilter{Drawer: d.Row.ID}
	whole := st.Policy.DecideScope(c.ID, access.List, d.Everything(), c.Context(now)).Allowed
	if whole { // then what is fine needs only be counted, and what is due looked at
		size, err := st.SizeOf(d)
		if err != nil {
			return r, err
		}
		r.Items = size.All - size.Retired
		counted.ServedUntil, counted.ServedSince = d.Candidates(now, warning(d, now))
	}
	return r, st.Each(d, counted, func(it *chest.Item) bool {
		if !it.Life.RetiredAt.IsZero() || !whole && !st.MayList(c, d, it, now) {
			return true // hidden
		}
		if !whole {
			r.Items++
		}
		switch _, state := itemState(it.Life, now); state {
		case chest.DueState:
			r.Due++
		case string(lifecycle.Ended), string(lifecycle.Waiting), string(lifecycle.Grace), string(lifecycle.Idle):
			r.Overdue++
		}
		return true
	})
}

// Retired says whether a list has retired items.
type Retired bool

// Whether retired items are listed.
const (
	WithoutRetired Retired = false
	WithRetired    Retired = true
)

// DrawerList is some drawers, in the order of names. Next is the last one of them, after which the next page begins; empty at the end.
type DrawerList struct {
	Drawers []Drawer
	Next    string
}

// Drawers lists the drawers in which the caller may list something: those that follow a name, at most so many; 0 for no limit.
func (s *Shelf) Drawers(c chest.Caller, after string, most int) (list DrawerList, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverDrawers)
	if err != nil {
		return list, err
	}
	if err := a.CountReads(); err != nil {
		return list, a.Fail(err)
	}
	for _, d := range a.St.Drawers() {
		if d.Row.Name <= after || !a.St.Reaches(c.ID, access.List, d.Row.Name, c.Context(a.Entry.At)).Allowed {
			continue
		}
		if most != 0 && len(list.Drawers) == most {
			list.Next = list.Drawers[most-1].Name
			break
		}
		described, err := s.describeDrawer(a.St, d, c, a.Entry.At)
		if err = cmp.Or(err, c.Ctx().Err()); err != nil {
			return list, a.Fail(err)
		}
		list.Drawers = append(list.Drawers, described)
	}
	return chest.Reply(a, list)
}

// CreateDrawer makes an empty drawer with a key of its own.
func (s *Shelf) CreateDrawer(c chest.Caller, n NewDrawer) (made Drawer, err error) {
	if err := chest.CheckName("name", n.Name); err != nil {
		return made, err
	}
	if !slices.Contains(chest.Environments, n.Environment) {
		return made, chest.Invalid("environment", "environment is not one of %v", chest.Environments)
	}
	if err := chest.CheckText("description", n.Description, chest.MaxDescription); err != nil {
		return made, err
	}
	err = s.heart.Try(func() error {
		a, err := s.heart.Allow(c, access.ChangeRules, n.Name)
		if err != nil {
			return err
		}
		a.Entry.Detail = "create drawer, " + n.Environment
		if n.Owner != "" {
			if _, err := a.St.KnownSubject("owner", n.Owner); err != nil {
				return a.Fail(err)
			}
		}
		for _, other := range reference.Lookalikes(n.Name) {
			if a.St.Drawer(other) != nil {
				return a.Fail(&chest.Error{Code: chest.Exists, Field: "name", Detail: "drawer " + other + " already exists, and people would take " +
					"one for the other: names of drawers differ by more than - and _ and ."})
			}
		}
		master, err := protector(a, n.MasterKey)
		if err != nil {
			return a.Fail(err)
		}
		row := entity.Drawer{ID: chest.NewID("dr_"), Name: n.Name, Environment: n.Environment, Description: n.Description, Owner: n.Owner,
			CreatedAt: chest.Micros(a.Entry.At), CreatedBy: c.Name}
		key := envelope.NewKey()
		defer key.Erase() // memory opens it again from what was stored
		a.Entry.DrawerID = row.ID
		a.Change.Insert(row)
		a.Change.Insert(drawerkeys.Wrap(a.St.Root(), master, entity.DrawerKey{Drawer: row.ID, Number: 1, CreatedAt: row.CreatedAt}, key))
		if err := a.Commit("drawer " + n.Name); err != nil {
			return err
		}
		made, err = s.drawerNow(a, row.ID)
		return err
	})
	return made, err
}

// drawerNow describes a drawer after a commit.
func (s *Shelf) drawerNow(a *chest.Attempt, id string) (Drawer, error) {
	st := a.After()
	d := st.DrawerByID(id)
	if d == nil {
		return Drawer{}, &chest.Error{Code: chest.Stale, Detail: "the drawer was changed, and somebody else shredded it right afterwards"}
	}
	return s.describeDrawer(st, d, a.Caller, a.Entry.At)
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
func (s *Shelf) Drawer(c chest.Caller, name string, retired Retired, after string, most int) (p DrawerPage, err error) {
	if err := chest.CheckName("drawer", name); err != nil {
		return p, err
	}
	if after != "" {
		if err := chest.CheckName("cursor", after); err != nil {
			return p, err
		}
	}
	a := s.heart.Attempt(c, access.List.String(), name)
	if err := a.Err(); err != nil {
		return p, err
	}
	if err := a.Decided(a.St.Reaches(c.ID, access.List, name, c.Context(a.Entry.At)), access.List, ""); err != nil {
		return p, err
	}
	if err := a.CountReads(); err != nil {
		return p, a.Fail(err)
	}
	found := a.St.Drawer(name)
	if found == nil {
		return p, a.Fail(chest.Missing("drawer "+name, a.St.NearestDrawer(c, name, a.Entry.At)))
	}
	a.Entry.DrawerID = found.Row.ID
	if p.Drawer, err = s.describeDrawer(a.St, found, c, a.Entry.At); err != nil {
		return p, a.Fail(err)
	}
	err = a.St.Each(found, store.ItemFilter{After: after}, func(it *chest.Item) bool {
		if !it.Life.RetiredAt.IsZero() && retired == WithoutRetired || !a.St.MayList(c, found, it, a.Entry.At) {
			return c.Ctx().Err() == nil
		}
		if len(p.Items) == most {
			p.Next = p.Items[most-1].Name
			return false
		}
		p.Items = append(p.Items, Describe(found, it, a.Entry.At))
		return true
	})
	if err = cmp.Or(err, c.Ctx().Err()); err != nil {
		return p, a.Fail(err)
	}
	return chest.Reply(a, p)
}

// ChangeDrawer changes the description, owner, labels or approval of a drawer if it still has the revision that the caller read.
func (s *Shelf) ChangeDrawer(c chest.Caller, name string, revision int64, changes Described) (d Drawer, err error) {
	if err := chest.CheckName("drawer", name); err != nil {
		return d, err
	}
	if err := changes.check(); err != nil {
		return d, err
	}
	if changes.UseOnly != nil || changes.DecryptFrom != nil {
		return d, chest.Invalid("use_only", "use_only and decrypt_from are said of an item, and not of a drawer")
	}
	err = s.heart.Try(func() error {
		a, err := s.heart.Allow(c, access.ChangeRules, name)
		if err != nil {
			return err
		}
		a.Entry.Detail = changes.detail()
		found := a.St.Drawer(name)
		if found == nil {
			return a.Fail(chest.Missing("drawer "+name, ""))
		}
		if err := cmp.Or(changes.checkOwner(a.St), checkRevision("drawer "+name, found.Row.Revision, revision)); err != nil {
			return a.Fail(err)
		}
		after := found.Row
		after.Description, after.Owner = changes.apply(found.Row.Description, found.Row.Owner)
		if changes.Labels != nil {
			after.Labels = chest.LabelText(changes.Labels)
		}
		if changes.Approval != nil {
			after.ApprovalItems, after.ApprovalOf = policytext.Approval{Items: changes.Approval.Items, Of: changes.Approval.Of}.Rows()
		}
		if changes.KeysOpen != nil {
			after.KeysOpen = *changes.KeysOpen
		}
		a.Change.Update(found.Row, after)
		if err := mayMove(a, changes, name+"/**"); err != nil {
			return err
		}
		if chest.ApprovalLoosened(found.Row, after) {
			if err := lifting(a, found.Row.ID, name); err != nil {
				return err
			}
		}
		if err := a.Commit("drawer " + name); err != nil {
			return err
		}
		d, err = s.drawerNow(a, found.Row.ID)
		d.Notes = changes.notes()
		return err
	})
	return d, err
}

// mostApprovals is how many patterns a drawer's rule about approval has.
const mostApprovals = 50

func (ch Described) check() error {
	if ch.Description == nil && ch.Owner == nil && ch.Labels == nil && ch.Approval == nil && ch.UseOnly == nil && ch.DecryptFrom == nil &&
		ch.KeysOpen == nil {
		return chest.Invalid("description", "nothing to change: give description, owner, labels, approval or keys_open of a drawer, use_only of "+
			"an item, or decrypt_from of a key")
	}
	if _, err := reference.LabelsOf(ch.Labels); err != nil {
		return chest.Invalid("labels", "%s", err)
	}
	if ch.Approval != nil {
		if len(ch.Approval.Items) > mostApprovals {
			return chest.Invalid("approval", "there are %d patterns; the most is %d", len(ch.Approval.Items), mostApprovals)
		}
		for _, text := range ch.Approval.Items {
			if _, err := reference.ParsePattern("d/" + text); err != nil || strings.ContainsAny(text, "/ ") {
				return chest.Invalid("approval", "%.80q is not a pattern over item names, such as db-* or *", text)
			}
		}
		if of := ch.Approval.Of; of != "" && of != policytext.OfEveryone && of != policytext.OfPersons {
			return chest.Invalid("approval", `approval is of "everyone" or "persons", not of %.40q`, of)
		}
	}
	if ch.Description != nil {
		return chest.CheckText("description", *ch.Description, chest.MaxDescription)
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
	for _, where := range slices.Sorted(maps.Keys(texts)) {
		if secretvalue.LooksLikeValue(texts[where]) {
			notes = append(notes, "the "+where+" looks as if it had a value in it, and everybody who lists it sees it")
		}
	}
	return notes
}

// detail says in the trail what was changed.
func (ch Described) detail() string {
	if ch.Labels == nil && ch.Approval == nil && ch.UseOnly == nil && ch.DecryptFrom == nil && ch.KeysOpen == nil {
		return "change its description or owner"
	}
	var parts []string
	if ch.UseOnly != nil && *ch.UseOnly {
		parts = append(parts, "it is for use only, shown to no person")
	}
	if ch.KeysOpen != nil {
		parts = append(parts, map[bool]string{true: "anybody gets public keys", false: "not anybody gets public keys"}[*ch.KeysOpen])
	}
	if ch.DecryptFrom != nil {
		parts = append(parts, fmt.Sprintf("versions before %d decrypt no more", *ch.DecryptFrom))
	}
	if ch.Labels != nil {
		parts = append(parts, "labels ["+chest.LabelText(ch.Labels)+"]")
	}
	if ch.Approval != nil {
		parts = append(parts, "approval of ["+strings.Join(ch.Approval.Items, " ")+"] by "+cmp.Or(ch.Approval.Of, policytext.OfEveryone))
	}
	return "change " + strings.Join(parts, ", ")
}

// mayMove keeps labels and rules from being a way around grants: a change that lets anybody do more takes the right to give access
// there, and nobody can use one to let themselves do more. It depends on all of the access state.
func mayMove(a *chest.Attempt, changes Described, scopeText string) error {
	if changes.Labels == nil && changes.Approval == nil {
		return nil
	}
	scope, err := access.ParseScope(scopeText)
	if err != nil {
		return a.Fail(err)
	}
	a.RestOnAccess()
	st, c, now := a.St, a.Caller, a.Entry.At
	after := st.Trial()
	if err := after.Apply(&a.Change); err != nil {
		return a.Fail(err)
	}
	was, becomes, err := st.Differing(c.Ctx(), after.Snapshot)
	if err != nil {
		return a.Fail(err)
	}
	var o powers.Opening
	for _, change := range access.Compare(st.Policy, after.Policy, was, becomes, now) {
		o.Opens = o.Opens || change.Gained != 0 || change.Altered != 0 && st.Loosens(change, after.Snapshot)
	}
	o.Steward = st.IsSteward(c, now)
	o.Decision = st.Policy.DecideScope(c.ID, access.GrantAccess, scope, c.Context(now))
	if o.Own, err = st.Widens(c.Ctx(), c, after.Snapshot, now); err != nil {
		return a.Fail(err)
	}
	return powers.MayOpen(a, o, scope.String(), "let others do more by labels or rules of "+scope.String())
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

func (ch Described) checkOwner(st *chest.Snapshot) error {
	if ch.Owner == nil {
		return nil
	}
	return st.KnownOwner(*ch.Owner)
}

func checkRevision(what string, has, asked int64) error {
	if has != asked && asked != chest.AnyRevision {
		return &chest.Error{Code: chest.Stale, Detail: fmt.Sprintf("%s has revision %d, not %d: somebody changed it; read it again", what, has,
			asked)}
	}
	return nil
}

// States are all the words of itemState.
var States = []string{"empty", chest.DueState, string(lifecycle.Usable), string(lifecycle.Waiting), string(lifecycle.Ended),
	string(lifecycle.Grace), string(lifecycle.Idle), string(lifecycle.Staged), string(lifecycle.Suspended), string(lifecycle.Retired),
	string(lifecycle.Shredded)}

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
		return current, chest.DueState
	}
	return current, string(lifecycle.Usable)
}
