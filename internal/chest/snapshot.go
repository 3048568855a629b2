package chest

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/credential"
	"tansu/internal/core/envelope"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/drawerkeys"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Snapshot is everything that decides access at one instant. It is never changed once it is the newest one, so that whoever takes
// it needs no lock, and two looks in one request agree. Items are not in it but are found through it: see [Snapshot.Find].
type Snapshot struct {
	chest    *Chest
	position uint64 // one more at each change
	root     *envelope.Root
	since    time.Time // when the chest was unlocked

	Policy access.Policy

	identities  table[entity.Identity] // by id
	bySubject   table[entity.Identity] // by kind and name
	owned       table[entity.Identity] // by owner, then subject
	looks       table[entity.Identity] // by kind, then what its name looks like, then name
	members     table[entity.Member]   // by team, then identity
	memberships table[entity.Member]   // by identity, then team
	credentials table[entity.Credential]
	byHash      table[entity.Credential]
	byHolder    table[entity.Credential] // by identity, then id
	tokens      table[entity.Token]
	sessions    table[entity.Token] // by identity, then when it was made
	tokensFor   table[entity.Token] // by credential, then id
	grants      table[entity.Grant]
	given       table[entity.Grant] // those that nobody has ended, by subject, then id
	past        table[entity.Grant] // those that somebody has ended, the same way
	inRole      table[entity.Grant] // those that nobody has ended, by role, then id
	roles       table[entity.Role]  // custom ones, by name
	requests    table[entity.Request]
	asked       table[entity.Request] // open ones, by asker, then id
	answers     table[entity.Request] // the last answer to each question: subject, action, target
	approved    table[int64]          // until when a subject may read, or shred, what needs approval: kind, subject, target
	drawers     table[Drawer]         // by name
	drawersByID table[Drawer]
	aliases     table[entity.Alias] // by drawer, then name
	aliasesOf   table[entity.Alias] // by item, then id
	calendars   table[entity.Calendar]
	calendarsOf table[entity.Calendar] // by identity, then id
	issued      table[entity.Issued]   // by authority, then serial number
	slots       table[entity.Slot]
	shares      table[entity.Share]
	masters     table[drawerkeys.Master]
	shredded    []entity.Drawer // what is left of drawers

	without []Rule            // in a draft that is only tried: rules that do not hold in it
	tried   map[itemKey]*Item // in a draft that is only tried: items as it would make them
}

// Drawer is a drawer with its keys. It is never changed: a change puts another one in its place.
type Drawer struct {
	Row      entity.Drawer
	Labels   reference.Labels
	Schedule lifecycle.Schedule // of rules
	drawerkeys.Set
	approval []reference.Pattern // over drawer/item
}

// NoKey stands where the wrapped key of something shredded was.
var NoKey = drawerkeys.NoKey

func newSnapshot(c *Chest, root *envelope.Root, rows *store.Snapshot) (*Snapshot, error) {
	st := &Snapshot{
		chest: c, root: root, position: c.memory.position(),
		identities: newTable[entity.Identity](), bySubject: newTable[entity.Identity](), owned: newTable[entity.Identity](),
		looks:   newTable[entity.Identity](),
		members: newTable[entity.Member](), memberships: newTable[entity.Member](),
		credentials: newTable[entity.Credential](), byHash: newTable[entity.Credential](), byHolder: newTable[entity.Credential](),
		tokens: newTable[entity.Token](), sessions: newTable[entity.Token](), tokensFor: newTable[entity.Token](),
		grants: newTable[entity.Grant](), given: newTable[entity.Grant](), past: newTable[entity.Grant](), inRole: newTable[entity.Grant](),
		roles: newTable[entity.Role](), requests: newTable[entity.Request](), asked: newTable[entity.Request](),
		answers: newTable[entity.Request](), approved: newTable[int64](),
		drawers: newTable[Drawer](), drawersByID: newTable[Drawer](),
		aliases: newTable[entity.Alias](), aliasesOf: newTable[entity.Alias](),
		calendars: newTable[entity.Calendar](), calendarsOf: newTable[entity.Calendar](),
		slots: newTable[entity.Slot](), shares: newTable[entity.Share](), issued: newTable[entity.Issued](),
		masters: newTable[drawerkeys.Master](),
	}
	d := st.draft()
	put(d, rows.Identities)
	put(d, rows.Members)
	put(d, rows.Credentials)
	put(d, rows.Tokens)
	put(d, rows.Roles)
	put(d, rows.Requests)
	put(d, rows.Drawers)
	put(d, rows.Aliases)
	put(d, rows.Calendars)
	put(d, rows.Slots)
	put(d, rows.Shares)
	put(d, rows.Issued)
	put(d, rows.MasterKeys)
	for _, row := range rows.DrawerKeys {
		if err := d.putDrawerKey(row); err != nil {
			return nil, err
		}
	}
	if err := d.placeAll(rows.Grants); err != nil {
		return nil, err
	}
	if d.problem != nil {
		return nil, d.problem
	}
	return d.finish(), nil
}

func put[R entity.Row](d *Draft, rows []R) {
	for _, row := range rows {
		d.put(nil, row)
	}
}

// Position is the number of changes that led to it.
func (st *Snapshot) Position() uint64 { return st.position }

// Since is when the chest was unlocked.
func (st *Snapshot) Since() time.Time { return st.since }

// Root is the root key, which may be erased at any time: it then authenticates and opens nothing.
func (st *Snapshot) Root() *envelope.Root { return st.root }

// Identity is an identity by its id; the zero row if there is none.
func (st *Snapshot) Identity(id string) entity.Identity { return st.identities.row(id) }

// IdentityOf finds an identity by its subject.
func (st *Snapshot) IdentityOf(subject string) (entity.Identity, bool) {
	row, found := st.bySubject.Get(subject)
	if !found {
		return entity.Identity{}, false
	}
	return *row, true
}

// Identities calls visit with all identities that follow a subject, in the order of subjects, until it returns false.
func (st *Snapshot) Identities(after string, visit func(subject string, row entity.Identity) bool) {
	st.bySubject.Ascend(after, func(subject string, row *entity.Identity) bool { return subject == after || visit(subject, *row) })
}

// CountIdentities counts them.
func (st *Snapshot) CountIdentities() int { return st.bySubject.Len() }

// Subjects lists the subjects of all identities.
func (st *Snapshot) Subjects() []string { return st.bySubject.Keys() }

// OwnedBy lists the identities that a subject owns, in the order of subjects.
func (st *Snapshot) OwnedBy(owner string) []entity.Identity { return st.owned.all(key(owner, "")) }

// Alike lists the subjects of the same kind whose names can be taken for a subject's: one edit apart, or the same at a glance.
func (st *Snapshot) Alike(subject string) (found []string) {
	kind, name, _ := strings.Cut(subject, ":")
	for _, row := range st.looks.all(key(kind, reference.Skeleton(name), "")) {
		if row.Name != name {
			found = append(found, SubjectOf(row))
		}
	}
	if len(name) <= 3 {
		return found
	}
	st.bySubject.under(kind+":", func(row *entity.Identity) bool {
		if reference.OneEdit(name, row.Name) && !slices.Contains(found, SubjectOf(*row)) {
			found = append(found, SubjectOf(*row))
		}
		return true
	})
	return found
}

// nearestSubject is the nearest name among those of all identities; empty when none is near.
func (st *Snapshot) nearestSubject(subject string) string {
	best, distance := "", 3
	st.bySubject.Scan(func(candidate string, _ *entity.Identity) bool {
		if d := reference.Edits(subject, candidate); d > 0 && d < distance {
			best, distance = candidate, d
		}
		return distance > 1
	})
	return best
}

// NearestSubject is the nearest name among those of all identities; empty when none is near.
func (st *Snapshot) NearestSubject(subject string) string { return st.nearestSubject(subject) }

// Member is the row that says that an identity is in a team, if it is.
func (st *Snapshot) Member(team, identity string) (entity.Member, bool) {
	row, is := st.members.Get(key(team, identity))
	if !is {
		return entity.Member{}, false
	}
	return *row, true
}

// MembersOf lists who is directly in a team, or, with an empty id, all memberships.
func (st *Snapshot) MembersOf(team string) []entity.Member {
	if team == "" {
		return st.members.all("")
	}
	return st.members.all(key(team, ""))
}

// MembershipsOf lists the teams that an identity is directly in.
func (st *Snapshot) MembershipsOf(identity string) []entity.Member {
	return st.memberships.all(key(identity, ""))
}

// TeamsOf lists the teams that an identity is in, directly or through another, as subjects.
func (st *Snapshot) TeamsOf(identity string) (teams []string) {
	for _, m := range st.MembershipsOf(identity) {
		teams = append(append(teams, SubjectOf(st.Identity(m.Team))), st.TeamsOf(m.Team)...)
	}
	slices.Sort(teams)
	return slices.Compact(teams)
}

// MemberNames lists who is directly in a team, as subjects.
func (st *Snapshot) MemberNames(team string) (names []string) {
	for _, m := range st.MembersOf(team) {
		names = append(names, SubjectOf(st.Identity(m.Identity)))
	}
	slices.Sort(names)
	return names
}

// Holders are those whom a grant of a subject reaches: the subject itself, or the members of a team and of the teams in
// it. The policy holds a team's grants with each member, so that a decision looks at one subject only.
func (st *Snapshot) Holders(subject string) []string {
	if st.Identity(subject).Kind != reference.Team {
		return []string{subject}
	}
	var members []string
	for _, m := range st.MembersOf(subject) {
		members = append(members, st.Holders(m.Identity)...)
	}
	slices.Sort(members)
	return slices.Compact(members)
}

// Credential is a credential by its id; the zero row if there is none.
func (st *Snapshot) Credential(id string) entity.Credential { return st.credentials.row(id) }

// CredentialBy finds a credential of a kind by its hash; the zero row when there is none.
func (st *Snapshot) CredentialBy(kind string, hash credential.Hash) entity.Credential {
	row := st.byHash.row(string(hash[:]))
	if row.Kind != kind || !hash.Matches(row.Hash) {
		return entity.Credential{}
	}
	return row
}

// CredentialWith finds a credential by its hash, of whatever kind.
func (st *Snapshot) CredentialWith(hash []byte) entity.Credential { return st.byHash.row(string(hash)) }

// CredentialsOf lists an identity's credentials.
func (st *Snapshot) CredentialsOf(identity string) []entity.Credential {
	if identity == "" {
		return nil
	}
	return st.byHolder.all(key(identity, ""))
}

// Token finds a token by its id.
func (st *Snapshot) Token(id string) (entity.Token, bool) {
	row, found := st.tokens.Get(id)
	if !found {
		return entity.Token{}, false
	}
	return *row, true
}

// TokensOf calls visit with an identity's tokens, the oldest first, until it returns false.
func (st *Snapshot) TokensOf(identity string, visit func(entity.Token) bool) {
	st.sessions.under(key(identity, ""), func(row *entity.Token) bool { return visit(*row) })
}

// TokensFor lists the tokens that were given for a credential.
func (st *Snapshot) TokensFor(credential string) []entity.Token {
	return st.tokensFor.all(key(credential, ""))
}

// AllTokensOf lists an identity's tokens.
func (st *Snapshot) AllTokensOf(identity string) []entity.Token {
	return st.sessions.all(key(identity, ""))
}

// Grant is a grant by its id, also one that has ended; the zero row if there is none.
func (st *Snapshot) Grant(id string) entity.Grant { return st.grants.row(id) }

// Grants calls visit with all grants that follow an id, also those that have ended, in the order of ids, until it returns false.
func (st *Snapshot) Grants(after string, visit func(entity.Grant) bool) {
	st.grants.Ascend(after, func(id string, row *entity.Grant) bool { return id == after || visit(*row) })
}

// Given calls visit with all grants that nobody has ended, by subject, until it returns false.
func (st *Snapshot) Given(visit func(entity.Grant) bool) {
	st.given.under("", func(row *entity.Grant) bool { return visit(*row) })
}

// GivenTo lists the grants of a subject itself that nobody has ended, and PastOf those that somebody has.
func (st *Snapshot) GivenTo(subject string) []entity.Grant { return st.given.all(key(subject, "")) }

// PastOf lists the grants of a subject itself that somebody has ended.
func (st *Snapshot) PastOf(subject string) []entity.Grant { return st.past.all(key(subject, "")) }

// InRole lists the grants of a role that nobody has ended.
func (st *Snapshot) InRole(role string) []entity.Grant { return st.inRole.all(key(role, "")) }

// Role finds a role, built-in or custom.
func (st *Snapshot) Role(name string) (access.Role, bool) {
	if role, known := access.FindRole(name); known {
		return role, true
	}
	row, known := st.roles.Get(name)
	if !known {
		return access.Role{}, false
	}
	return RoleOf(*row), true
}

// CustomRole is the row of a custom role.
func (st *Snapshot) CustomRole(name string) (entity.Role, bool) {
	row, known := st.roles.Get(name)
	if !known {
		return entity.Role{}, false
	}
	return *row, true
}

// CustomRoles lists their rows, in the order of names.
func (st *Snapshot) CustomRoles() []entity.Role { return st.roles.all("") }

// AllRoles lists the built-in and the custom ones.
func (st *Snapshot) AllRoles() []access.Role {
	roles := slices.Clone(access.Roles)
	for _, row := range st.CustomRoles() {
		roles = append(roles, RoleOf(row))
	}
	return roles
}

// RoleOf reads a role's row.
func RoleOf(row entity.Role) access.Role {
	role := access.Role{Name: row.Name, Summary: row.Description}
	for _, name := range strings.Fields(row.Actions) {
		action, _ := access.ParseActions(name)
		role.Actions |= action
	}
	return role
}

// Request is a request by its id; the zero row if there is none.
func (st *Snapshot) Request(id string) entity.Request { return st.requests.row(id) }

// Requests lists all of them, in the order of ids.
func (st *Snapshot) Requests() []entity.Request { return st.requests.all("") }

// OpenRequests lists those of an asker that nobody has answered, or, with an empty id, all of those.
func (st *Snapshot) OpenRequests(asker string) []entity.Request {
	if asker == "" {
		return st.asked.all("")
	}
	return st.asked.all(key(asker, ""))
}

// LastAnswer is the last answer to a question; the zero row if there was none.
func (st *Snapshot) LastAnswer(subject, action, target string) entity.Request {
	return st.answers.row(key(subject, action, target))
}

// DeclinedFor finds the last answer to a question, if it is a no.
func (st *Snapshot) DeclinedFor(subject, action, target string) (last entity.Request, declined bool) {
	last = st.LastAnswer(st.bySubject.row(subject).ID, action, target)
	return last, last.State == RequestDeclined
}

// ApprovedUntil is until when somebody else has agreed that a subject reads, or shreds, something that needs it.
func (st *Snapshot) ApprovedUntil(kind, subject, id string) int64 {
	return st.approved.row(key(kind, subject, id))
}

// Drawer is a drawer by its name, and DrawerByID by its id; nil if there is none.
func (st *Snapshot) Drawer(name string) *Drawer {
	d, _ := st.drawers.Get(name)
	return d
}

// DrawerByID is a drawer by its id; nil if there is none.
func (st *Snapshot) DrawerByID(id string) *Drawer {
	d, _ := st.drawersByID.Get(id)
	return d
}

// Drawers lists all drawers, in the order of names.
func (st *Snapshot) Drawers() []*Drawer { return st.drawers.Values() }

// DrawerNames lists the names of all drawers.
func (st *Snapshot) DrawerNames() []string { return st.drawers.Keys() }

// ShreddedDrawers lists what is left of drawers.
func (st *Snapshot) ShreddedDrawers() []entity.Drawer { return st.shredded }

// Alias finds what an old name in a drawer stands for, whether or not it still works.
func (st *Snapshot) Alias(drawer, name string) (entity.Alias, bool) {
	row, known := st.aliases.Get(key(drawer, name))
	if !known {
		return entity.Alias{}, false
	}
	return *row, true
}

// AliasesIn lists the old names in a drawer, and AliasesOf those of an item.
func (st *Snapshot) AliasesIn(drawer string) []entity.Alias { return st.aliases.all(key(drawer, "")) }

// AliasesOf lists the old names of an item.
func (st *Snapshot) AliasesOf(item string) []entity.Alias { return st.aliasesOf.all(key(item, "")) }

// CalendarBy finds a calendar address by its hash.
func (st *Snapshot) CalendarBy(hash []byte) (entity.Calendar, bool) {
	row, known := st.calendars.Get(string(hash))
	if !known {
		return entity.Calendar{}, false
	}
	return *row, true
}

// CalendarsOf lists the calendar addresses of a person.
func (st *Snapshot) CalendarsOf(identity string) []entity.Calendar {
	return st.calendarsOf.all(key(identity, ""))
}

// IssuedBy lists what an authority has signed, by serial number, and IssuedAs one of these.
func (st *Snapshot) IssuedBy(authority string) []entity.Issued { return st.issued.all(authority + "/") }

// IssuedAs finds what an authority has signed under a serial number.
func (st *Snapshot) IssuedAs(authority, serial string) (entity.Issued, bool) {
	row, known := st.issued.Get(authority + "/" + serial)
	if !known {
		return entity.Issued{}, false
	}
	return *row, true
}

// Slots lists the unlock methods, and Shares who holds shares of them.
func (st *Snapshot) Slots() []entity.Slot { return st.slots.all("") }

// Shares lists the shares of all methods.
func (st *Snapshot) Shares() []entity.Share { return st.shares.all("") }

// IsSteward reports whether a caller is a steward, who exists to appoint others.
func (st *Snapshot) IsSteward(c Caller, now time.Time) bool {
	return st.Policy.Holds(c.ID, access.Steward, c.Context(now))
}

// good reports whether a token still proves who shows it, at a moment: it is there and has not ended, its identity is active, and
// the credential that it was given for still proves something.
func (st *Snapshot) good(token string, now time.Time) bool {
	row, found := st.tokens.Get(token)
	if !found || Micros(now) >= row.NotAfter {
		return false
	}
	identity, known := st.identities.Get(row.Identity)
	if !known || identity.State != Active {
		return false
	}
	return st.Proves(*row, now)
}

// Proves reports whether what a token was given for still holds: the credential is there and has not ended, and no later generation
// of tokens of its identity has begun. A token that was given in the moment in which a password was replaced, and which therefore was
// not among those that were removed, proves nothing thereby.
func (st *Snapshot) Proves(row entity.Token, now time.Time) bool {
	if of, known := st.identities.Get(row.Identity); !known || of.Generation != row.Generation {
		return false
	}
	if row.Credential == "" {
		return true
	}
	used, there := st.credentials.Get(row.Credential)
	return there && (used.NotAfter == 0 || Micros(now) < used.NotAfter)
}

// StillGood reports whether a caller's token would be taken now.
func (c *Chest) StillGood(caller Caller) bool {
	st := c.Newest()
	return st != nil && st.good(caller.Token, c.now())
}

// GrantOf reads a grant's row.
func (st *Snapshot) GrantOf(row entity.Grant) (made access.Grant, err error) {
	role, known := st.Role(row.Role)
	if !known {
		return made, fmt.Errorf("there is no role %s", row.Role)
	}
	made = access.Grant{ID: row.ID, Subject: row.Subject, Effect: access.Effect(row.Effect), Role: role, End: FromMicros(row.NotAfter)}
	if made.Scope, err = access.ParseScope(row.Scope); err != nil {
		return made, err
	}
	made.Conditions, err = ConditionsOf(row).Parse()
	return made, err
}

// drawerOf reads a drawer's row; its keys are those of another one.
func drawerOf(row entity.Drawer, keys *Drawer) (*Drawer, error) {
	d := &Drawer{}
	if keys != nil {
		*d = *keys
	}
	var err error
	d.Row, d.approval = row, nil
	if d.Labels, err = reference.ParseLabels(row.Labels); err != nil {
		return nil, fmt.Errorf("drawer %s: %w", row.ID, err)
	}
	if d.Schedule, err = lifecycle.ParseSchedule(row.Rules); err != nil {
		return nil, fmt.Errorf("drawer %s: %w", row.ID, err)
	}
	for _, text := range strings.Fields(row.ApprovalItems) {
		pattern, err := reference.ParsePattern(row.Name + "/" + text)
		if err != nil {
			return nil, fmt.Errorf("drawer %s: %w", row.ID, err)
		}
		d.approval = append(d.approval, pattern)
	}
	return d, nil
}

// Everything is the scope of all items in a drawer.
func (d *Drawer) Everything() access.Scope {
	scope, err := access.ParseScope(d.Row.Name + "/**")
	if err != nil {
		panic(err) // names of drawers are checked before they are stored
	}
	return scope
}

// erase overwrites the keys.
func (st *Snapshot) erase() {
	for _, d := range st.Drawers() {
		for _, k := range d.Opened() {
			k.Erase()
		}
	}
	for _, m := range st.Masters() {
		if m.Key != nil {
			m.Key.Erase()
		}
	}
	st.root.Erase()
}

// SubjectOf writes an identity as a subject.
func SubjectOf(row entity.Identity) string { return row.Kind + ":" + row.Name }

// Micros and FromMicros are how rows hold times: microseconds since 1970, 0 for none.
func Micros(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}

// FromMicros reads what Micros wrote.
func FromMicros(m int64) time.Time {
	if m == 0 {
		return time.Time{}
	}
	return time.UnixMicro(m).UTC()
}

// States of an identity.
const (
	Active    = "active"
	Suspended = "suspended"
	SetAside  = "set_aside" // a steward who has handed the duties over; only the machine itself changes it back
)

// Kinds of request.
const (
	RequestGrant = "grant" // asks for a grant
	RequestRead  = "read"  // asks that one item may be read for a while, where its drawer's rules want a second person
	RequestShred = "shred" // asks that something may be shredded, where its drawer's rules want a second person
	RequestLift  = "lift"  // asks that a rule may be lifted which wants a second person
	RequestAct   = "act"   // asks that something may be issued with which the asker can act as an identity that has access
)

// States of a request.
const (
	RequestOpen      = "open"
	RequestAllowed   = "allowed"
	RequestDeclined  = "declined"
	RequestWithdrawn = "withdrawn"
)

// Founder is the name of the founding person, who exists to appoint others.
const Founder = "steward"

// EnrolmentLife is how long an enrolment code can be used.
const EnrolmentLife = 72 * time.Hour
