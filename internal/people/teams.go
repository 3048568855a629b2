package people

import (
	"slices"
	"tansu/internal/chest"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// Join puts a person or an app into a team; the team's grants reach it at once.
func (s *People) Join(c chest.Caller, team, member string) (d Identity, err error) {
	err = s.heart.Try(func() error {
		a, teamRow, row, err := s.membership(c, team, member, "join ")
		if err != nil {
			return err
		}
		if err := mayNest(a.St, teamRow, row); err != nil {
			return a.Fail(err)
		}
		if err := mayBenefit(a, row); err != nil {
			return err
		}
		a.Change.Insert(store.Member{ID: teamRow.ID + "/" + row.ID, Team: teamRow.ID, Identity: row.ID, CreatedAt: chest.Micros(a.Entry.At),
			CreatedBy: c.Name})
		if err := a.Commit(member + " in " + team); err != nil {
			return err
		}
		d = describeIdentity(a.After(), teamRow)
		return nil
	})
	return d, err
}

// mayNest keeps teams from nesting more than once, and so in a circle.
func mayNest(st *chest.Snapshot, team, member store.Identity) error {
	if member.Kind != reference.Team {
		return nil
	}
	if team.ID == member.ID {
		return chest.Invalid("member", "a team is not in itself")
	}
	for _, m := range st.MembersOf(member.ID) {
		if st.Identity(m.Identity).Kind == reference.Team {
			return chest.Invalid("member", "%s has a team in it itself: teams nest once", chest.SubjectOf(member))
		}
	}
	for _, m := range st.MembershipsOf(team.ID) {
		return chest.Invalid("member", "%s is in %s itself: teams nest once", chest.SubjectOf(team), chest.SubjectOf(st.Identity(m.Team)))
	}
	return nil
}

// Leave takes a member out of a team; the team's grants do not reach it any more, at once.
func (s *People) Leave(c chest.Caller, team, member string) (d Identity, err error) {
	err = s.heart.Try(func() error {
		a, teamRow, row, err := s.membership(c, team, member, "leave ")
		if err != nil {
			return err
		}
		m, is := a.St.Member(teamRow.ID, row.ID)
		if !is {
			return a.Fail(chest.Missing(member+" in "+team, ""))
		}
		denies := slices.ContainsFunc(a.St.GivenTo(teamRow.ID), func(g store.Grant) bool { return g.Effect == string(access.Deny) })
		if denies && a.St.Benefits(c, row.ID) || row.ID == c.ID {
			return a.Refuse(&chest.Error{Code: chest.Refused, Reason: chest.OwnAccess,
				Detail: "nobody takes themselves or an app they own out of a team, which may deny as well as give; another gatekeeper can"})
		}
		a.Change.Delete(m)
		if err := staysOpen(a); err != nil {
			return err
		}
		if err := a.Commit(member + " in " + team); err != nil {
			return err
		}
		d = describeIdentity(a.After(), teamRow)
		return nil
	})
	return d, err
}

// staysOpen keeps an attempt's change from leaving nobody who can give access, where somebody could before.
func staysOpen(a *chest.Attempt) error {
	after := a.St.Trial()
	if err := after.Apply(&a.Change); err != nil {
		return a.Fail(err)
	}
	return a.StaysOpen(after.Snapshot)
}

// membership decides on a change of a team and finds the team and the member.
func (s *People) membership(c chest.Caller, team, member, what string) (*chest.Attempt, store.Identity, store.Identity, error) {
	a, teamRow, err := s.toChange(c, team, what+member)
	if err != nil {
		return nil, teamRow, store.Identity{}, err
	}
	if teamRow.Kind != reference.Team {
		return nil, teamRow, teamRow, a.Fail(chest.Invalid("subject", "%s is not a team", team))
	}
	row, err := a.St.KnownSubject("member", member)
	if err != nil {
		return nil, teamRow, row, a.Fail(err)
	}
	return a, teamRow, row, nil
}

// mayBenefit keeps who manages access from widening their own, or that of an app they own. The steward, with whom
// everything begins, is the one exception.
func mayBenefit(a *chest.Attempt, subject store.Identity) error {
	if a.St.IsSteward(a.Caller, a.Entry.At) || !a.St.Benefits(a.Caller, subject.ID) {
		return nil
	}
	return a.Refuse(&chest.Error{Code: chest.Refused, Reason: chest.OwnAccess, Detail: WidensOwn})
}

// WidensOwn says why nobody gives anything to themselves.
const WidensOwn = "nobody widens their own access or that of an app they own, also not through a team; another gatekeeper can: ask " +
	"with tansu request grant"
