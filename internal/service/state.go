package service

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/credential"
	"tansu/internal/core/envelope"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/policytext"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// state is everything that decides access, in memory. It is guarded by Service.mu; rows in it are replaced, never
// changed in place.
type state struct {
	root        *envelope.Root
	since       time.Time // when the chest was unlocked
	policy      access.Policy
	identities  map[string]store.Identity // by id
	members     map[string]store.Member   // by id
	subjects    map[string]string         // id by subject
	credentials map[string]store.Credential
	byHash      map[string]string // credential id by hash
	tokens      map[string]store.Token
	grants      map[string]store.Grant
	placed      map[string][]string   // of each grant in the policy: with whom it stands there
	roles       map[string]store.Role // custom ones, by name
	requests    map[string]store.Request
	answers     map[[3]string]store.Request // the last answer to each question: subject, action, target
	approved    map[[2]string]int64         // until when a subject may read a target that needs approval, by their ids and names
	drawers     map[string]*drawer          // by name
	aliases     map[[2]string]store.Alias   // by the drawer's id and the name
	calendars   map[string]store.Calendar   // by hash
	shredded    []store.Drawer              // what is left of drawers
	items       *itemCache
	tried       map[itemKey]*item // in a shadow, items as a change would make them; nil in the state itself
}

type drawer struct {
	row       store.Drawer
	key       *envelope.Key
	keyNumber int
	keyRow    store.DrawerKey
	old       map[int]oldKey // keys that some versions still are under, by number, while a rotation is not finished
	labels    reference.Labels
	approval  []reference.Pattern // over drawer/item
	schedule  lifecycle.Schedule  // of rules
}

func newState(root *envelope.Root, snapshot *store.Snapshot, items *itemCache) (*state, error) {
	st := &state{
		root:        root,
		policy:      access.Policy{},
		identities:  map[string]store.Identity{},
		members:     map[string]store.Member{},
		subjects:    map[string]string{},
		credentials: map[string]store.Credential{},
		byHash:      map[string]string{},
		tokens:      map[string]store.Token{},
		grants:      map[string]store.Grant{},
		placed:      map[string][]string{},
		roles:       map[string]store.Role{},
		requests:    map[string]store.Request{},
		answers:     map[[3]string]store.Request{},
		approved:    map[[2]string]int64{},
		drawers:     map[string]*drawer{},
		aliases:     map[[2]string]store.Alias{},
		calendars:   map[string]store.Calendar{},
		items:       items,
	}
	for _, row := range snapshot.Identities {
		st.putIdentity(row)
	}
	for _, row := range snapshot.Members {
		st.members[row.ID] = row
	}
	for _, row := range snapshot.Credentials {
		st.putCredential(row)
	}
	for _, row := range snapshot.Tokens {
		st.tokens[row.ID] = row
	}
	for _, row := range snapshot.Roles {
		st.roles[row.Name] = row
	}
	for _, row := range snapshot.Requests {
		st.putRequest(row)
	}
	for _, row := range snapshot.Grants {
		if err := st.putGrant(row); err != nil {
			return nil, err
		}
	}
	return st, st.fill(snapshot)
}

// fill puts drawers and their keys in place.
func (st *state) fill(snapshot *store.Snapshot) error {
	drawers := map[string]*drawer{}
	for _, row := range snapshot.Aliases {
		st.aliases[[2]string{row.Drawer, row.Name}] = row
	}
	for _, row := range snapshot.Calendars {
		st.calendars[string(row.Hash)] = row
	}
	for _, row := range snapshot.Drawers {
		if row.ShreddedAt != 0 {
			st.shredded = append(st.shredded, row)
			continue
		}
		drawers[row.ID] = &drawer{}
		st.drawers[row.Name] = drawers[row.ID]
		if err := drawers[row.ID].put(row); err != nil {
			return err
		}
	}
	for _, row := range snapshot.DrawerKeys {
		if drawers[row.Drawer] == nil {
			continue // shredded, and its key with it
		}
		if bytes.Equal(row.Wrapped, noKey) {
			continue // nothing is under it any more
		}
		key, err := st.root.UnwrapDrawerKey(row.Drawer, row.Number, row.Wrapped)
		if err != nil {
			return fmt.Errorf("open the key of drawer %s: %w", row.Drawer, err)
		}
		drawers[row.Drawer].rotate(key, row)
	}
	return nil
}

func (st *state) putIdentity(row store.Identity) {
	st.identities[row.ID] = row
	st.subjects[subjectOf(row)] = row.ID
}

func (st *state) putCredential(row store.Credential) {
	st.credentials[row.ID] = row
	st.byHash[string(row.Hash)] = row.ID
}

func (st *state) dropCredential(row store.Credential) {
	delete(st.credentials, row.ID)
	delete(st.byHash, string(row.Hash))
}

func (st *state) dropTokens(rows []store.Token) {
	for _, row := range rows {
		delete(st.tokens, row.ID)
	}
}

// putDrawer brings a drawer in line with its row, and what is in it with it.
func (st *state) putDrawer(d *drawer, row store.Drawer) error {
	if err := d.put(row); err != nil {
		return err
	}
	st.items.forgetDrawer(d)
	return nil
}

// put brings a drawer in line with its row.
func (d *drawer) put(row store.Drawer) (err error) {
	d.row = row
	if d.labels, err = reference.ParseLabels(row.Labels); err != nil {
		return fmt.Errorf("drawer %s: %w", row.ID, err)
	}
	if d.schedule, err = lifecycle.ParseSchedule(row.Rules); err != nil {
		return fmt.Errorf("drawer %s: %w", row.ID, err)
	}
	d.approval = nil
	for _, text := range strings.Fields(row.ApprovalItems) {
		pattern, err := reference.ParsePattern(row.Name + "/" + text)
		if err != nil {
			return fmt.Errorf("drawer %s: %w", row.ID, err)
		}
		d.approval = append(d.approval, pattern)
	}
	return nil
}

// target finds out about a target what decides: its labels. One that does not exist has none.
func (st *state) target(names ...string) access.Target { return st.at(names...).target() }

// spot is what is where names point: looked up once, and then decided about and served.
type spot struct {
	names []string // of a drawer, or a drawer and an item; none for the chest
	asked *drawer  // the drawer of that name; nil if there is none
	home  *drawer  // where the item is now, which another name of it may not say
	item  *item    // nil if there is none, or none was asked for
	err   error    // the item cannot be read, so that nothing may be decided about it
}

func (st *state) at(names ...string) spot {
	p := spot{names: names}
	if len(names) > 0 {
		p.asked = st.drawers[names[0]]
	}
	if p.asked != nil && len(names) == 2 {
		p.home, p.item, p.err = st.named(p.asked, names[1])
	}
	return p
}

func (p spot) target() access.Target {
	t := access.Target{Names: p.names}
	switch {
	case p.item != nil:
		t.Labels = p.item.labels
	case p.asked != nil:
		t.Labels = p.asked.labels
	}
	return t
}

// request makes the question whether a subject may do an action on a target: everything that decides it is in there.
func (st *state) request(subject string, action access.Action, ctx access.Context, names ...string) access.Request {
	return st.requestAt(st.at(names...), subject, action, ctx)
}

func (st *state) requestAt(p spot, subject string, action access.Action, ctx access.Context) access.Request {
	return access.Request{Subject: subject, Action: action, Target: p.target(), Context: ctx, Approval: st.approval(p, subject, action, ctx.Now)}
}

// approval says whether somebody else must agree to a use of an item's value, and has.
func (st *state) approval(p spot, subject string, action access.Action, now time.Time) access.Approval {
	if action&(access.ReadValue|access.UseKey) == 0 || len(p.names) != 2 || p.asked == nil {
		return access.NotNeeded
	}
	if p.err != nil {
		return access.Missing // what cannot be looked at is not given out
	}
	return p.item.approvalFor(st, p.home, subject, action, now)
}

func (it *item) approvalFor(st *state, d *drawer, subject string, action access.Action, now time.Time) access.Approval {
	if it == nil || !it.approval || action&(access.ReadValue|access.UseKey) == 0 || d.row.ApprovalOf == policytext.OfPersons && st.identities[subject].Kind == reference.App {
		return access.NotNeeded
	}
	if micros(now) < st.approved[[2]string{subject, d.row.Name + "/" + it.row.Name}] {
		return access.Given
	}
	return access.Missing
}

// named finds an item by its name or by one that it had before, and the drawer that it is in.
func (st *state) named(d *drawer, name string) (*drawer, *item, error) {
	it, err := st.find(d, name)
	if it != nil || err != nil {
		return d, it, err
	}
	return st.renamed(d, name)
}

// decide answers whether a subject may do an action on a target now.
func (st *state) decide(subject string, action access.Action, ctx access.Context, names ...string) access.Decision {
	return st.policy.Decide(st.request(subject, action, ctx, names...))
}

// reaches reports whether a subject may do the action on a drawer or on something in it.
func (st *state) reaches(subject string, action access.Action, drawer string, ctx access.Context) access.Decision {
	decision := st.policy.Reaches(subject, action, st.target(drawer), ctx)
	if decision.Allowed || st.drawers[drawer] == nil || !st.labelled(subject) {
		return decision
	}
	// Items without labels of their own have those of the drawer, about which the decision is.
	d := st.drawers[drawer]
	_ = st.each(d, store.ItemFilter{Labelled: true}, func(it *item) bool { // what cannot be read is not reached
		within := st.policy.Decide(access.Request{Subject: subject, Action: action, Target: it.target(d), Context: ctx})
		if within.Allowed {
			decision = within
		}
		return !within.Allowed
	})
	return decision
}

// labelled reports whether a subject has a grant that asks for labels.
func (st *state) labelled(subject string) bool {
	return slices.ContainsFunc(st.policy[subject], func(g access.Grant) bool { return g.Scope.Labelled() })
}

// role finds a role, built-in or custom, and allRoles lists them.
func (st *state) role(name string) (access.Role, bool) {
	if role, known := access.FindRole(name); known {
		return role, true
	}
	row, known := st.roles[name]
	return roleOf(row), known
}

func (st *state) allRoles() []access.Role {
	roles := slices.Clone(access.Roles)
	for _, name := range sortedKeys(st.roles) {
		roles = append(roles, roleOf(st.roles[name]))
	}
	return roles
}

func roleOf(row store.Role) access.Role {
	role := access.Role{Name: row.Name, Summary: row.Description}
	for _, name := range strings.Fields(row.Actions) {
		action, _ := access.ParseAction(name)
		role.Actions |= action
	}
	return role
}

// putRole and dropRole bring the policy in line with a custom role's row.
func (st *state) putRole(row store.Role) error {
	st.roles[row.Name] = row
	return st.regrant(func(g store.Grant) bool { return g.Role == row.Name })
}

func (st *state) dropRole(row store.Role) { delete(st.roles, row.Name) }

// putGrant brings the policy in line with a grant's row; an ended grant leaves it.
func (st *state) putGrant(row store.Grant) error {
	for _, holder := range st.placed[row.ID] {
		st.policy.Remove(holder, row.ID)
	}
	delete(st.placed, row.ID)
	st.grants[row.ID] = row
	if row.EndedAt != 0 {
		return nil
	}
	made, err := st.grantOf(row)
	if err != nil {
		return fmt.Errorf("grant %s: %w", row.ID, err)
	}
	for _, holder := range st.holders(row.Subject) {
		made.Subject = holder
		st.policy.Add(made)
		st.placed[row.ID] = append(st.placed[row.ID], holder)
	}
	return nil
}

// grantOf reads a grant's row.
func (st *state) grantOf(row store.Grant) (made access.Grant, err error) {
	role, known := st.role(row.Role)
	if !known {
		return made, fmt.Errorf("there is no role %s", row.Role)
	}
	made = access.Grant{ID: row.ID, Subject: row.Subject, Effect: access.Effect(row.Effect), Role: role, End: fromMicros(row.NotAfter)}
	if made.Scope, err = access.ParseScope(row.Scope); err != nil {
		return made, err
	}
	made.Conditions, err = conditionsOf(row).parse()
	return made, err
}

// holders are those whom a grant of a subject reaches: the subject itself, or the members of a team and of the teams in
// it. The policy holds a team's grants with each member, so that a decision looks at one subject only.
func (st *state) holders(subject string) []string {
	if st.identities[subject].Kind != reference.Team {
		return []string{subject}
	}
	var members []string
	for _, m := range st.members {
		if m.Team == subject {
			members = append(members, st.holders(m.Identity)...)
		}
	}
	slices.Sort(members)
	return slices.Compact(members)
}

// join and leave bring the policy in line with a member's row.
func (st *state) join(row store.Member) error {
	st.members[row.ID] = row
	return st.regrantTeam(row.Team)
}

func (st *state) leave(row store.Member) error {
	delete(st.members, row.ID)
	return st.regrantTeam(row.Team)
}

// regrantTeam places the grants of a team, and of the teams it is in, anew.
func (st *state) regrantTeam(team string) error {
	teams := []string{team}
	for _, m := range st.members {
		if m.Identity == team {
			teams = append(teams, m.Team)
		}
	}
	return st.regrant(func(g store.Grant) bool { return slices.Contains(teams, g.Subject) })
}

func (st *state) regrant(which func(store.Grant) bool) error {
	for _, g := range st.grants {
		if which(g) {
			if err := st.putGrant(g); err != nil {
				return err
			}
		}
	}
	return nil
}

// putRequest keeps a request, and what it allows.
func (st *state) putRequest(row store.Request) {
	st.requests[row.ID] = row
	if asked := [3]string{row.Subject, row.Action, row.Target}; row.AnsweredAt > st.answers[asked].AnsweredAt {
		st.answers[asked] = row
	}
	key := [2]string{row.Subject, row.Target}
	if row.Kind == requestShred {
		key[1] = toShred + row.Target
	}
	if row.Kind != requestGrant && row.State == requestAllowed && row.Until > st.approved[key] {
		st.approved[key] = row.Until
	}
}

// teamsOf lists the teams that an identity is in, directly or through another, as subjects, and membersOf who is
// directly in a team.
func (st *state) teamsOf(identity string) (teams []string) {
	for _, m := range st.members {
		if m.Identity == identity {
			teams = append(teams, subjectOf(st.identities[m.Team]))
			teams = append(teams, st.teamsOf(m.Team)...)
		}
	}
	slices.Sort(teams)
	return slices.Compact(teams)
}

func (st *state) membersOf(team string) (members []string) {
	for _, m := range st.members {
		if m.Team == team {
			members = append(members, subjectOf(st.identities[m.Identity]))
		}
	}
	slices.Sort(members)
	return members
}

// erase overwrites the keys.
func (st *state) erase() {
	for _, d := range st.drawers {
		if d.key != nil {
			d.key.Erase()
		}
		for _, old := range d.old {
			old.key.Erase()
		}
	}
	st.root.Erase()
}

// credential finds a credential of a kind by its hash; the zero row when there is none.
func (st *state) credential(kind string, hash credential.Hash) store.Credential {
	row := st.credentials[st.byHash[string(hash[:])]]
	if row.Kind != kind || !hash.Matches(row.Hash) {
		return store.Credential{}
	}
	return row
}

// identity finds an identity by subject.
func (st *state) identity(subject string) (store.Identity, bool) {
	row, found := st.identities[st.subjects[subject]]
	return row, found
}

// item finds an item by its name; the error is a NotFound for somebody who may know what exists in the drawer. An old name
// is for reading only: whatever changes an item names it as it is called now.
func (st *state) item(ref reference.Reference) (*drawer, *item, error) {
	d, it, err := st.readItem(ref)
	if err == nil && (d.row.Name != ref.Drawer || it.row.Name != ref.Item) {
		return nil, nil, invalid("reference", "%s/%s is an old name of %s/%s: do it with that", ref.Drawer, ref.Item, d.row.Name, it.row.Name)
	}
	return d, it, err
}

// readItem finds an item by its name, or by one that it had before and that still works.
func (st *state) readItem(ref reference.Reference) (*drawer, *item, error) {
	return st.at(ref.Drawer, ref.Item).readItem()
}

func (p spot) readItem() (*drawer, *item, error) {
	switch {
	case p.asked == nil:
		return nil, nil, notFound("drawer "+p.names[0], "")
	case p.err == nil && p.item == nil:
		return p.asked, nil, notFound("item "+p.names[0]+"/"+p.names[1], "")
	}
	return p.home, p.item, p.err
}

func subjectOf(row store.Identity) string { return row.Kind + ":" + row.Name }

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// micros and fromMicros are how rows hold times: microseconds since 1970, 0 for none.
func micros(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}

func fromMicros(m int64) time.Time {
	if m == 0 {
		return time.Time{}
	}
	return time.UnixMicro(m).UTC()
}
