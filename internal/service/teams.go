package service

import (
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// Join puts a person or an app into a team; the team's grants reach it at once.
func (s *Service) Join(c Caller, team, member string) (d Identity, err error) {
	a, teamRow, row, err := s.membership(c, team, member, "join ")
	if err != nil {
		return d, err
	}
	if row.Kind == reference.Team {
		return d, a.fail(invalid("member", "a team has persons and apps as members, not teams"))
	}
	if err := s.mayBenefit(c, a, row); err != nil {
		return d, err
	}
	m := store.Member{ID: teamRow.ID + "/" + row.ID, Team: teamRow.ID, Identity: row.ID, CreatedAt: micros(a.entry.At), CreatedBy: c.name}
	err = a.change(member+" in "+team, func(tx *store.Tx) (err error) { m, err = store.Insert(tx, m); return err },
		func(st *state) {
			_ = st.join(m) // the team's grants were parsed when they came in
			d = describeIdentity(st, teamRow)
		})
	return d, err
}

// Leave takes a member out of a team; the team's grants do not reach it any more, at once.
func (s *Service) Leave(c Caller, team, member string) (d Identity, err error) {
	a, teamRow, row, err := s.membership(c, team, member, "leave ")
	if err != nil {
		return d, err
	}
	var m store.Member
	if err := s.view(func(st *state) error { m = st.members[teamRow.ID+"/"+row.ID]; return nil }); err != nil {
		return d, err
	}
	if m.ID == "" {
		return d, a.fail(notFound(member+" in "+team, ""))
	}
	if row.ID == c.id {
		return d, a.refuse(&Error{Code: Refused, Reason: "own_access", Detail: "nobody changes which teams they are in; another gatekeeper can"})
	}
	err = a.change(member+" in "+team, func(tx *store.Tx) error { return store.Delete(tx, m) },
		func(st *state) {
			st.leave(m)
			d = describeIdentity(st, teamRow)
		})
	return d, err
}

// membership decides on a change of a team and finds the team and the member.
func (s *Service) membership(c Caller, team, member, what string) (*attempt, store.Identity, store.Identity, error) {
	a, teamRow, err := s.toChange(c, team, what+member)
	if err != nil {
		return nil, teamRow, store.Identity{}, err
	}
	if teamRow.Kind != reference.Team {
		return nil, teamRow, teamRow, a.fail(invalid("subject", "%s is not a team", team))
	}
	row, err := s.knownSubject("member", member)
	if err != nil {
		return nil, teamRow, row, a.fail(err)
	}
	return a, teamRow, row, nil
}

// mayBenefit keeps who manages access from widening their own, or that of an app they own. The steward, with whom
// everything begins, is the one exception.
func (s *Service) mayBenefit(c Caller, a *attempt, subject store.Identity) error {
	var steward, member, owned bool
	err := s.view(func(st *state) error {
		steward = st.isSteward(c, a.entry.At)
		for _, holder := range st.holders(subject.ID) {
			member = member || holder == c.id
			owned = owned || st.identities[holder].Owner == c.name
		}
		return nil
	})
	switch {
	case err != nil:
		return err
	case steward:
		return nil
	case member:
		return a.refuse(&Error{Code: Refused, Reason: "own_access", Detail: "nobody gives access to themselves, also not through a team; another gatekeeper can"})
	case owned:
		return a.refuse(&Error{Code: Refused, Reason: "own_access", Detail: "nobody gives access to an app they own; another gatekeeper can"})
	}
	return nil
}
