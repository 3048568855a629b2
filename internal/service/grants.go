package service

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// grantLife is how long a grant lasts when nobody says otherwise.
const grantLife = 90 * 24 * time.Hour

// Grant is a grant as others see it.
type Grant struct {
	ID        string
	Subject   string
	Effect    string
	Role      string
	Scope     string
	Reason    string
	CreatedAt time.Time
	CreatedBy string
	NotAfter  time.Time // zero for never
	EndedAt   time.Time // zero while nobody has ended it
	EndedBy   string
	InForce   bool
	Conditions
}

// Conditions are what must hold besides a grant's subject, role and scope, as text; empty ones always hold.
type Conditions struct {
	Networks    []string // CIDR
	Hours       string   // "mon-fri 08:00-18:00 Europe/Lisbon"
	Via         []string // ways of proof, as in Ways
	NeedsReason bool
}

// parse checks conditions.
func (n Conditions) parse() (parsed access.Conditions, err error) {
	if parsed.Networks, err = access.ParseNetworks(n.Networks); err != nil {
		return parsed, invalid("networks", "%s", err)
	}
	if parsed.Hours, err = access.ParseHours(n.Hours, time.LoadLocation); err != nil {
		return parsed, invalid("hours", "%s", err)
	}
	for _, way := range n.Via {
		if !slices.Contains(access.Ways, way) {
			return parsed, invalid("via", "%.40q is not a way of proof; the ways are %v", way, access.Ways)
		}
	}
	parsed.Via, parsed.NeedsReason = n.Via, n.NeedsReason
	return parsed, nil
}

// conditionsOf reads a row's.
func conditionsOf(row store.Grant) Conditions {
	return Conditions{Networks: strings.Fields(row.Networks), Hours: row.Hours, Via: strings.Fields(row.Via), NeedsReason: row.NeedsReason}
}

// NewGrant is what giving a grant needs.
type NewGrant struct {
	Subject  string
	Effect   string // empty for allow
	Role     string
	Scope    string
	Reason   string
	NotAfter time.Time // zero for 90 days from now, unless NeverEnds
	// NeverEnds asks for a grant without end, on purpose.
	NeverEnds bool
	// Replaces is the id of a grant of the same subject that ends in the same instant; empty for none.
	Replaces string
	Conditions
}

func describeGrant(st *state, row store.Grant) Grant {
	return Grant{ID: row.ID, Subject: subjectOf(st.identities[row.Subject]), Effect: row.Effect, Role: row.Role, Scope: row.Scope,
		Reason: row.Reason, CreatedAt: fromMicros(row.CreatedAt), CreatedBy: row.CreatedBy, NotAfter: fromMicros(row.NotAfter),
		EndedAt: fromMicros(row.EndedAt), EndedBy: row.EndedBy, Conditions: conditionsOf(row)}
}

// inForce completes a grant's description with what depends on the moment.
func (g Grant) inForce(now time.Time) Grant {
	g.InForce = g.EndedAt.IsZero() && (g.NotAfter.IsZero() || now.Before(g.NotAfter))
	return g
}

// Grants lists the grants that the caller may see, of one subject and the teams it is in if it is not empty: their own,
// those whose whole scope they may give, and all of them for who reads the whole trail.
func (s *Service) Grants(c Caller, subject string) (list []Grant, err error) {
	a := s.attempt(c, "list_grants", "")
	err = s.view(func(st *state) error {
		ctx := c.context(a.entry.At)
		auditor := st.decide(c.id, access.ReadTrail, ctx)
		a.entry.Grant = auditor.Grant
		own, teams := append(st.teamsOf(c.id), c.name), st.teamsOf(st.subjects[subject])
		for _, row := range st.grants {
			d := describeGrant(st, row)
			if subject != "" && d.Subject != subject && !slices.Contains(teams, d.Subject) {
				continue
			}
			scope, err := access.ParseScope(row.Scope)
			if err != nil {
				return err
			}
			if auditor.Allowed || slices.Contains(own, d.Subject) || st.policy.DecideScope(c.id, access.GrantAccess, scope, ctx).Allowed {
				list = append(list, d.inForce(a.entry.At))
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(list, func(x, y Grant) int {
		return cmp.Or(cmp.Compare(x.Subject, y.Subject), x.CreatedAt.Compare(y.CreatedAt), cmp.Compare(x.ID, y.ID))
	})
	return answer(a, list)
}

// Give adds a grant, in force from the moment it returns. The notes point out what is unusual about it.
func (s *Service) Give(c Caller, n NewGrant) (g Grant, notes []string, err error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	a, row, err := s.giving(c, n)
	if err != nil {
		return g, nil, err
	}
	var replaced store.Grant
	if n.Replaces != "" {
		if replaced, err = s.toReplace(c, a, row, n.Replaces); err != nil {
			return g, nil, err
		}
	}
	err = s.view(func(st *state) error { notes, err = st.notes(c, row, replaced.ID, a.entry.At); return err })
	if err != nil {
		return g, nil, a.fail(err)
	}
	ended := replaced
	ended.EndedAt, ended.EndedBy = micros(a.entry.At), c.name
	err = a.change("grant", func(tx *store.Tx) (err error) {
		if replaced.ID != "" {
			if ended, err = store.Update(tx, replaced, ended); err != nil {
				return err
			}
		}
		row, err = store.Insert(tx, row)
		return err
	}, func(st *state) {
		if replaced.ID != "" {
			_ = st.putGrant(ended)
		}
		_ = st.putGrant(row) // role and scope were checked above
		g = describeGrant(st, row).inForce(a.entry.At)
	})
	return g, notes, err
}

// giving checks a new grant, decides whether the caller may give it, and makes its row.
func (s *Service) giving(c Caller, n NewGrant) (*attempt, store.Grant, error) {
	row, err := s.newGrantRow(c.name, n)
	if err != nil {
		return nil, row, err
	}
	scope, err := access.ParseScope(n.Scope)
	if err != nil {
		return nil, row, invalid("scope", "%s", err)
	}
	a, err := s.allowGrant(c, scope)
	if err != nil {
		return nil, row, err
	}
	subject, err := s.knownSubject("subject", n.Subject)
	if err != nil {
		return nil, row, a.fail(err)
	}
	row.Subject, row.Scope = subject.ID, scope.String()
	if err := s.mayGive(c, a, subject, row); err != nil {
		return nil, row, err
	}
	a.entry.Target, a.entry.Detail = n.Subject, fmt.Sprintf("%s %s %s on %s, grant %s", row.Effect, n.Subject, row.Role, row.Scope, row.ID)
	return a, row, nil
}

// toReplace finds the grant that a new one takes the place of.
func (s *Service) toReplace(c Caller, a *attempt, row store.Grant, id string) (before store.Grant, err error) {
	err = s.view(func(st *state) error {
		before = st.grants[id]
		if before.ID == "" || before.EndedAt != 0 || before.Subject != row.Subject || before.Effect != row.Effect {
			return invalid("replaces", "%.40q is not a grant of the same subject and effect that is not ended", id)
		}
		scope, err := access.ParseScope(before.Scope)
		if err != nil {
			return err
		}
		if !st.policy.DecideScope(c.id, access.GrantAccess, scope, c.context(a.entry.At)).Allowed {
			return invalid("replaces", "you may not end grant %s", id)
		}
		return nil
	})
	if err != nil {
		return before, a.fail(err)
	}
	a.entry.Detail += " instead of " + id
	return before, nil
}

// newGrantRow checks the input of a grant; its subject is filled in later.
func (s *Service) newGrantRow(by string, n NewGrant) (store.Grant, error) {
	now := s.now()
	var names []string
	err := s.view(func(st *state) error {
		for _, role := range st.allRoles() {
			names = append(names, role.Name)
		}
		return nil
	})
	if err != nil {
		return store.Grant{}, err
	}
	if !slices.Contains(names, n.Role) {
		return store.Grant{}, invalid("role", "there is no role %.60q; the roles are %v", n.Role, names)
	}
	effect := cmp.Or(n.Effect, string(access.Allow))
	if effect != string(access.Allow) && effect != string(access.Deny) {
		return store.Grant{}, invalid("effect", `effect is neither "allow" nor "deny"`)
	}
	if err := checkText("reason", n.Reason, MaxNote); err != nil {
		return store.Grant{}, err
	}
	if _, err := n.Conditions.parse(); err != nil {
		return store.Grant{}, err
	}
	end := n.NotAfter
	switch {
	case n.NeverEnds && !end.IsZero():
		return store.Grant{}, invalid("not_after", "not_after is set and never_ends too; give one of them")
	case n.NeverEnds:
		end = time.Time{}
	case end.IsZero():
		end = now.Add(grantLife)
	case !end.After(now):
		return store.Grant{}, invalid("not_after", "not_after is not in the future")
	}
	end = end.Truncate(time.Second) // what people read and write in a policy
	return store.Grant{ID: newID("gr_"), Effect: effect, Role: n.Role, Scope: n.Scope, Reason: n.Reason,
		NotAfter: micros(end), CreatedAt: micros(now), CreatedBy: by, Networks: strings.Join(n.Networks, " "), Hours: n.Hours,
		Via: strings.Join(n.Via, " "), NeedsReason: n.NeedsReason}, nil
}

// allowGrant decides whether the caller may give and end grants on a scope.
func (s *Service) allowGrant(c Caller, scope access.Scope) (*attempt, error) {
	a := s.attempt(c, access.GrantAccess.String(), scope.String())
	var decision access.Decision
	err := s.view(func(st *state) error {
		decision = st.policy.DecideScope(c.id, access.GrantAccess, scope, c.context(a.entry.At))
		return nil
	})
	if err != nil {
		return nil, err
	}
	return a, a.decided(decision, access.GrantAccess, "")
}

// everything is the scope of the whole chest.
var everything, _ = access.ParseScope("**")

// mayGive keeps a gatekeeper from widening their own access, and lets only a steward appoint another.
func (s *Service) mayGive(c Caller, a *attempt, subject store.Identity, row store.Grant) error {
	if row.Effect == string(access.Deny) {
		return nil
	}
	if err := s.mayBenefit(c, a, subject); err != nil {
		return err
	}
	var steward bool
	if err := s.view(func(st *state) error { steward = st.isSteward(c, a.entry.At); return nil }); err != nil {
		return err
	}
	if row.Role == access.Steward && !steward {
		return a.refuse(&Error{Code: Refused, Reason: stewardOnly, Detail: "only a steward appoints another"})
	}
	return nil
}

// notes says what is unusual about a new grant that may take the place of another.
func (st *state) notes(c Caller, row store.Grant, replaces string, now time.Time) (notes []string, err error) {
	add := func(format string, arguments ...any) { notes = append(notes, fmt.Sprintf(format, arguments...)) }
	made, err := st.grantOf(row)
	if err != nil {
		return nil, err
	}
	subject := st.identities[row.Subject]
	if row.NotAfter == 0 {
		add("this grant never ends")
	}
	if subject.State != stateActive {
		add("%s is %s", subjectOf(subject), subject.State)
	}
	if !st.selectsSomething(made.Scope) {
		add("nothing that exists now is in this scope%s", st.nearScope(row.Scope))
	}
	holders := st.holders(row.Subject)
	if len(holders) == 0 {
		add("%s has nobody in it", subjectOf(subject))
	}
	covering := map[string]bool{}
	for _, holder := range holders {
		made.Subject = holder
		covering[st.policy.CoveredBy(made)] = true
	}
	if id := onlyKey(covering); id != "" && id != replaces {
		add("it gives nothing new: grant %s does all that already", id)
	} else if id := st.outlasted(made, holders, now); id != "" && id != replaces {
		add("until %s it gives nothing new: grant %s does all that", fromMicros(st.grants[id].NotAfter).Format("2006-01-02"), id)
	}
	if smaller := st.askedFor(row, made, now); smaller != "" {
		add("%s", smaller)
	}
	if drawer := st.otherEnvironment(subject, made.Scope); drawer != "" {
		add("%s runs in %s, and %s is for %s", subjectOf(subject), subject.Environment, drawer, st.drawers[drawer].row.Environment)
	}
	for _, name := range st.alike(subjectOf(subject)) {
		add("%s looks like %s: make sure that it is the one you mean", subjectOf(subject), name)
	}
	if slices.Contains(holders, c.id) {
		add("you gave this to yourself, which only a steward can: the steward exists to appoint others")
	}
	for _, cr := range st.credentials {
		if cr.Identity == subject.ID && cr.Kind == kindAppSecret && cr.CreatedBy == c.name && made.Role.Actions&access.ReadValue != 0 {
			add("you issued a secret of %s yourself: whoever still has it can read this", subjectOf(subject))
			break
		}
	}
	return notes, nil
}

// outlasted finds a grant that does all that a new one does, and ends before it.
func (st *state) outlasted(made access.Grant, holders []string, now time.Time) string {
	found := map[string]bool{}
	made.End = now.Add(time.Nanosecond)
	for _, holder := range holders {
		made.Subject = holder
		found[st.policy.CoveredBy(made)] = true
	}
	return onlyKey(found)
}

// onlyKey returns the key of a map that has exactly one.
func onlyKey(m map[string]bool) string {
	for key := range m {
		if len(m) == 1 {
			return key
		}
	}
	return ""
}

func (st *state) selectsSomething(scope access.Scope) bool {
	for name, d := range st.drawers {
		if scope.Matches(st.target(name)) {
			return true
		}
		if st.selectsItem(scope, d) {
			return true
		}
	}
	return false
}

func (st *state) selectsItem(scope access.Scope, d *drawer) (selects bool) {
	_ = st.each(d, store.ItemFilter{}, func(it *item) bool { // what cannot be read is no reason for a note
		selects = scope.Matches(it.target(d))
		return !selects
	})
	return selects
}

// otherEnvironment finds a drawer in a scope that is for another environment than the one that an app runs in.
func (st *state) otherEnvironment(subject store.Identity, scope access.Scope) string {
	for _, name := range sortedKeys(st.drawers) {
		d := st.drawers[name]
		if subject.Environment == "" || d.row.Environment == subject.Environment {
			continue
		}
		if scope.Matches(st.target(name)) || st.selectsItem(scope, d) {
			return name
		}
	}
	return ""
}

// nearScope hints at a drawer or item whose name a scope without wildcards almost has.
func (st *state) nearScope(scope string) string {
	drawer, rest, found := strings.Cut(scope, "/")
	if st.drawers[drawer] == nil {
		if near := reference.Nearest(drawer, sortedKeys(st.drawers)); near != "" {
			return "; did you mean the drawer " + near + "?"
		}
		return ""
	}
	if near := reference.Nearest(rest, st.nearNames(st.drawers[drawer], rest)); found && near != "" {
		return "; did you mean " + drawer + "/" + near + "?"
	}
	return ""
}

// askedFor says that a grant gives more than somebody asked for in an open request that it would answer.
func (st *state) askedFor(row store.Grant, made access.Grant, now time.Time) string {
	for _, id := range sortedKeys(st.requests) {
		r := st.requests[id]
		n, err := proposalOf(r)
		if r.State != requestOpen || r.Subject != row.Subject || err != nil || n == nil {
			continue
		}
		asked, err := access.ParseScope(n.Scope)
		role, known := st.role(n.Role)
		if err == nil && known && made.Scope.Covers(asked) && made.Role.Actions&role.Actions == role.Actions && (!asked.Covers(made.Scope) || made.Role.Actions != role.Actions) {
			return fmt.Sprintf("it gives more than was asked for: request %s asks for %s on %s only (tansu request allow %s)", id, n.Role, n.Scope, id)
		}
	}
	return ""
}

// End ends a grant at once.
func (s *Service) End(c Caller, id string) (g Grant, err error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	var before store.Grant
	if err := s.view(func(st *state) error { before = st.grants[id]; return nil }); err != nil {
		return g, err
	}
	scope, err := access.ParseScope(before.Scope)
	if before.ID == "" || err != nil {
		scope = everything // who may give anything may know which grants exist
	}
	a, err := s.allowGrant(c, scope)
	if err != nil {
		return g, err
	}
	a.entry.Detail = "end grant " + id
	if before.ID == "" || before.EndedAt != 0 {
		return g, a.fail(notFound("grant "+id+" that is not ended", ""))
	}
	var own bool
	if err := s.view(func(st *state) error { own = st.benefits(c, before.Subject); return nil }); err != nil {
		return g, err
	}
	if own && before.Effect == string(access.Deny) {
		return g, a.refuse(&Error{Code: Refused, Reason: ownAccess, Detail: "nobody ends what denies themselves or an app they own; another gatekeeper can"})
	}
	after := before
	after.EndedAt, after.EndedBy = micros(a.entry.At), c.name
	if err := s.staysOpen(a, func(st *state) error { return st.putGrant(after) }); err != nil {
		return g, err
	}
	err = a.change("grant", func(tx *store.Tx) (err error) { after, err = store.Update(tx, before, after); return err },
		func(st *state) {
			_ = st.putGrant(after) // it came from there
			g = describeGrant(st, after)
		})
	return g, err
}
