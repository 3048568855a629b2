package service

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/credential"
	"tansu/internal/core/envelope"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// state is everything that decides access, in memory. It is guarded by Service.mu; rows in it are replaced, never
// changed in place.
type state struct {
	root        *envelope.Root
	policy      access.Policy
	identities  map[string]store.Identity // by id
	members     map[string]store.Member   // by id
	subjects    map[string]string         // id by subject
	credentials map[string]store.Credential
	byHash      map[string]string // credential id by hash
	tokens      map[string]store.Token
	grants      map[string]store.Grant
	drawers     map[string]*drawer // by name
}

type drawer struct {
	row       store.Drawer
	key       *envelope.Key
	keyNumber int
	items     map[string]*item // by name
}

type item struct {
	row      store.Item
	versions []store.Version // element i is version i+1
	windows  lifecycle.Versions
}

func (it *item) add(v store.Version) {
	it.versions = append(it.versions, v)
	it.windows = append(it.windows, lifecycle.Window{NotBefore: fromMicros(v.NotBefore), NotAfter: fromMicros(v.NotAfter)})
}

func newState(root *envelope.Root, snapshot *store.Snapshot) (*state, error) {
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
		drawers:     map[string]*drawer{},
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
	for _, row := range snapshot.Grants {
		if err := st.putGrant(row); err != nil {
			return nil, err
		}
	}
	return st, st.fill(snapshot)
}

// fill puts drawers, their keys, items and versions in place.
func (st *state) fill(snapshot *store.Snapshot) error {
	drawers, items := map[string]*drawer{}, map[string]*item{}
	for _, row := range snapshot.Drawers {
		drawers[row.ID] = &drawer{row: row, items: map[string]*item{}}
		st.drawers[row.Name] = drawers[row.ID]
	}
	for _, row := range snapshot.DrawerKeys {
		key, err := st.root.UnwrapDrawerKey(row.Drawer, row.Number, row.Wrapped)
		if err != nil {
			return fmt.Errorf("open the key of drawer %s: %w", row.Drawer, err)
		}
		d := drawers[row.Drawer]
		d.key, d.keyNumber = key, row.Number
	}
	for _, row := range snapshot.Items {
		items[row.ID] = &item{row: row}
		drawers[row.Drawer].items[row.Name] = items[row.ID]
	}
	for _, row := range snapshot.Versions {
		it := items[row.Item]
		if row.Number != len(it.versions)+1 {
			return fmt.Errorf("item %s has a gap before version %d", row.Item, row.Number)
		}
		it.add(row)
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

// putGrant brings the policy in line with a grant's row; an ended grant leaves it.
func (st *state) putGrant(row store.Grant) error {
	role, known := access.FindRole(row.Role)
	scope, err := reference.ParsePattern(row.Scope)
	if err != nil || !known {
		return fmt.Errorf("grant %s has a role or scope that this program does not know", row.ID)
	}
	conditions, err := conditionsOf(row).parse()
	if err != nil {
		return fmt.Errorf("grant %s: %w", row.ID, err)
	}
	st.grants[row.ID] = row
	for _, holder := range st.holders(row.Subject) {
		st.policy.Remove(holder, row.ID)
		if row.EndedAt == 0 {
			st.policy.Add(access.Grant{ID: row.ID, Subject: holder, Effect: access.Effect(row.Effect), Role: role,
				Scope: scope, Conditions: conditions, End: fromMicros(row.NotAfter)})
		}
	}
	return nil
}

// holders are those whom a grant of a subject reaches: the subject itself, or the members of a team. The policy holds a
// team's grants with each member, so that a decision looks at one subject only.
func (st *state) holders(subject string) []string {
	if st.identities[subject].Kind != reference.Team {
		return []string{subject}
	}
	var members []string
	for _, m := range st.members {
		if m.Team == subject {
			members = append(members, m.Identity)
		}
	}
	return members
}

// join and leave bring the policy in line with a member's row.
func (st *state) join(row store.Member) error {
	st.members[row.ID] = row
	return st.regrant(row.Team)
}

func (st *state) leave(row store.Member) {
	delete(st.members, row.ID)
	for id, g := range st.grants {
		if g.Subject == row.Team {
			st.policy.Remove(row.Identity, id)
		}
	}
}

func (st *state) regrant(team string) error {
	for _, g := range st.grants {
		if g.Subject == team {
			if err := st.putGrant(g); err != nil {
				return err
			}
		}
	}
	return nil
}

// teamsOf lists the teams that an identity is in, as subjects, and membersOf who is in a team.
func (st *state) teamsOf(identity string) (teams []string) {
	for _, m := range st.members {
		if m.Identity == identity {
			teams = append(teams, subjectOf(st.identities[m.Team]))
		}
	}
	slices.Sort(teams)
	return teams
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

// item finds an item; the error is a NotFound for somebody who may know what exists in the drawer.
func (st *state) item(ref reference.Reference) (*drawer, *item, error) {
	d := st.drawers[ref.Drawer]
	if d == nil {
		return nil, nil, notFound("drawer "+ref.Drawer, "")
	}
	it := d.items[ref.Item]
	if it == nil {
		return d, nil, notFound("item "+ref.Drawer+"/"+ref.Item, "")
	}
	return d, it, nil
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
