package service

import (
	"slices"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// Join puts a person or an app into a team; the team's grants reach it at once.
func (s *Service) Join(c Caller, team, member string) (d Identity, err error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	a, teamRow, row, err := s.membership(c, team, member, "join ")
	if err != nil {
		return d, err
	}
	if err := s.mayNest(teamRow, row); err != nil {
		return d, a.fail(err)
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

// mayNest keeps teams from nesting more than once, and so in a circle.
func (s *Service) mayNest(team, member store.Identity) error {
	if member.Kind != reference.Team {
		return nil
	}
	return s.view(func(st *state) error {
		if team.ID == member.ID {
			return invalid("member", "a team is not in itself")
		}
		for _, m := range st.members {
			if m.Team == member.ID && st.identities[m.Identity].Kind == reference.Team {
				return invalid("member", "%s has a team in it itself: teams nest once", subjectOf(member))
			}
			if m.Identity == team.ID {
				return invalid("member", "%s is in %s itself: teams nest once", subjectOf(team), subjectOf(st.identities[m.Team]))
			}
		}
		return nil
	})
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
	var denies bool
	err = s.view(func(st *state) error {
		denies = slices.ContainsFunc(sortedKeys(st.grants), func(id string) bool {
			return st.grants[id].Subject == teamRow.ID && st.grants[id].Effect == string(access.Deny)
		})
		denies = denies && st.benefits(c, row.ID)
		return nil
	})
	if err != nil {
		return d, err
	}
	if denies || row.ID == c.id {
		return d, a.refuse(&Error{Code: Refused, Reason: ownAccess, Detail: "nobody takes themselves or an app they own out of a team, which may deny as well as give; another gatekeeper can"})
	}
	err = a.change(member+" in "+team, func(tx *store.Tx) error { return store.Delete(tx, m) },
		func(st *state) {
			_ = st.leave(m) // the team's grants were parsed when they came in
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

// benefits reports whether what is given to a subject reaches the caller or an app that the caller controls.
func (st *state) benefits(c Caller, subject string) bool {
	return slices.ContainsFunc(st.holders(subject), func(holder string) bool { return holder == c.id || c.controls(st.identities[holder]) })
}

// controls reports whether an identity is the caller's own app: one that they own, or that they registered without
// saying who owns it.
func (c Caller) controls(row store.Identity) bool {
	return row.Owner == c.name || row.Owner == "" && row.Kind == reference.App && row.CreatedBy == c.name
}

// mayBenefit keeps who manages access from widening their own, or that of an app they own. The steward, with whom
// everything begins, is the one exception.
func (s *Service) mayBenefit(c Caller, a *attempt, subject store.Identity) error {
	var steward, own bool
	err := s.view(func(st *state) error {
		steward, own = st.isSteward(c, a.entry.At), st.benefits(c, subject.ID)
		return nil
	})
	if err != nil || steward || !own {
		return err
	}
	return a.refuse(&Error{Code: Refused, Reason: ownAccess,
		Detail: "nobody widens their own access or that of an app they own, also not through a team; another gatekeeper can: ask with tansu request grant"})
}
