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

// Ways are the ways in which a subject can have proved itself.
var Ways = []string{viaApp, ViaCLI, ViaConsole}

// parse checks conditions.
func (n Conditions) parse() (parsed access.Conditions, err error) {
	if parsed.Networks, err = access.ParseNetworks(n.Networks); err != nil {
		return parsed, invalid("networks", "%s", err)
	}
	if parsed.Hours, err = access.ParseHours(n.Hours, time.LoadLocation); err != nil {
		return parsed, invalid("hours", "%s", err)
	}
	for _, way := range n.Via {
		if !slices.Contains(Ways, way) {
			return parsed, invalid("via", "%.40q is not a way of proof; the ways are %v", way, Ways)
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

// Grants lists the grants that the caller may see, of one subject and the teams it is in if it is not empty: their own, those whose whole scope they may give, and all of them
// for who reads the whole trail.
func (s *Service) Grants(c Caller, subject string) (list []Grant, err error) {
	a := s.attempt(c, "list_grants", "")
	err = s.view(func(st *state) error {
		auditor := st.policy.Decide(access.Request{Subject: c.id, Action: access.ReadTrail, Context: c.context(a.entry.At)})
		a.entry.Grant = auditor.Grant
		teams := st.teamsOf(st.subjects[subject])
		for _, row := range st.grants {
			scope, err := reference.ParsePattern(row.Scope)
			if err != nil {
				return err
			}
			if row.Subject != c.id && st.members[row.Subject+"/"+c.id].ID == "" && !auditor.Allowed && !st.policy.DecideScope(c.id, access.GrantAccess, scope, c.context(a.entry.At)).Allowed {
				continue
			}
			if d := describeGrant(st, row); subject == "" || d.Subject == subject || slices.Contains(teams, d.Subject) {
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
	now := s.now()
	row, err := n.row(c, now)
	if err != nil {
		return g, nil, err
	}
	scope, err := reference.ParsePattern(n.Scope)
	if err != nil {
		return g, nil, invalid("scope", "%s", err)
	}
	a, err := s.allowGrant(c, scope)
	if err != nil {
		return g, nil, err
	}
	subject, err := s.knownSubject("subject", n.Subject)
	if err != nil {
		return g, nil, a.fail(err)
	}
	row.Subject = subject.ID
	if err := s.mayGive(c, a, subject, row); err != nil {
		return g, nil, err
	}
	a.entry.Target, a.entry.Detail = n.Subject, fmt.Sprintf("%s %s %s on %s, grant %s", row.Effect, n.Subject, row.Role, row.Scope, row.ID)
	err = a.change("grant", func(tx *store.Tx) (err error) { row, err = store.Insert(tx, row); return err },
		func(st *state) {
			_ = st.putGrant(row) // role and scope were checked above
			g, notes = describeGrant(st, row).inForce(now), st.notes(subject, row, scope)
			if subject.ID == c.id {
				notes = append(notes, "you gave this to yourself, which only a steward can: the steward exists to appoint others")
			}
		})
	return g, notes, err
}

// row checks the input of a grant.
func (n NewGrant) row(c Caller, now time.Time) (store.Grant, error) {
	if _, known := access.FindRole(n.Role); !known {
		var names []string
		for _, role := range access.Roles {
			names = append(names, role.Name)
		}
		return store.Grant{}, invalid("role", "there is no role %q; the roles are %v", n.Role, names)
	}
	effect := cmp.Or(n.Effect, string(access.Allow))
	if effect != string(access.Allow) && effect != string(access.Deny) {
		return store.Grant{}, invalid("effect", `effect is neither "allow" nor "deny"`)
	}
	if err := checkText("reason", n.Reason, maxNote); err != nil {
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
	return store.Grant{ID: newID("gr_"), Effect: effect, Role: n.Role, Scope: n.Scope, Reason: n.Reason,
		NotAfter: micros(end), CreatedAt: micros(now), CreatedBy: c.name, Networks: strings.Join(n.Networks, " "), Hours: n.Hours,
		Via: strings.Join(n.Via, " "), NeedsReason: n.NeedsReason}, nil
}

// allowGrant decides whether the caller may give and end grants on a scope.
func (s *Service) allowGrant(c Caller, scope reference.Pattern) (*attempt, error) {
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
		return a.refuse(&Error{Code: Refused, Reason: "steward_only", Detail: "only a steward appoints another"})
	}
	return nil
}

// notes says what is unusual about a new grant.
func (st *state) notes(subject store.Identity, row store.Grant, scope reference.Pattern) (notes []string) {
	if row.NotAfter == 0 {
		notes = append(notes, "this grant never ends")
	}
	if subject.State != stateActive {
		notes = append(notes, subjectOf(subject)+" is suspended")
	}
	for name, d := range st.drawers {
		if scope.Matches(name) {
			return notes
		}
		for itemName := range d.items {
			if scope.Matches(name, itemName) {
				return notes
			}
		}
	}
	return append(notes, "nothing that exists now is in this scope")
}

// End ends a grant at once.
func (s *Service) End(c Caller, id string) (g Grant, err error) {
	var before store.Grant
	if err := s.view(func(st *state) error { before = st.grants[id]; return nil }); err != nil {
		return g, err
	}
	scope, err := reference.ParsePattern(before.Scope)
	if before.ID == "" || err != nil {
		scope, _ = reference.ParsePattern("**") // who may give anything may know which grants exist
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
	if err := s.view(func(st *state) error { own = slices.Contains(st.holders(before.Subject), c.id); return nil }); err != nil {
		return g, err
	}
	if own && before.Effect == string(access.Deny) {
		return g, a.refuse(&Error{Code: Refused, Reason: "own_access", Detail: "nobody ends what denies themselves; another gatekeeper can"})
	}
	after := before
	after.EndedAt, after.EndedBy = micros(a.entry.At), c.name
	err = a.change("grant", func(tx *store.Tx) (err error) { after, err = store.Update(tx, before, after); return err },
		func(st *state) {
			_ = st.putGrant(after) // it came from there
			g = describeGrant(st, after)
		})
	return g, err
}
