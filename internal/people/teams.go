package people

import (
	"tansu/internal/chest"

	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/powers"
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
		if err := powers.Unless(a, powers.MayJoin(a.St, c, teamRow, row, a.Entry.At)); err != nil {
			return err
		}
		a.Change.Insert(entity.Member{ID: teamRow.ID + "/" + row.ID, Team: teamRow.ID, Identity: row.ID, CreatedAt: chest.Micros(a.Entry.At),
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
func mayNest(st *chest.Snapshot, team, member entity.Identity) error {
	if member.Kind != reference.Team {
		return nil
	}
	if team.ID == member.ID {
		return chest.Invalid("member", "a team is not in itself")
	}
	for _, m := range st.MembersOf(member.ID) {
		if st.Identity(m.Identity).Kind == reference.Team {
			return chest.Invalid("member", "%s contains a team itself: teams nest only once", chest.SubjectOf(member))
		}
	}
	for _, m := range st.MembershipsOf(team.ID) {
		return chest.Invalid("member", "%s is in %s itself: teams nest only once", chest.SubjectOf(team), chest.SubjectOf(st.Identity(m.Team)))
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
		if err := powers.Unless(a, powers.MayLeave(a.St, c, teamRow, row, a.Entry.At)); err != nil {
			return err
		}
		a.Change.Delete(m)
		if err := a.Commit(member + " in " + team); err != nil {
			return err
		}
		d = describeIdentity(a.After(), teamRow)
		return nil
	})
	return d, err
}

// membership decides on a change of a team and finds the team and the member.
func (s *People) membership(c chest.Caller, team, member, what string) (*chest.Attempt, entity.Identity, entity.Identity, error) {
	a, teamRow, err := s.toChange(c, team, what+member)
	if err != nil {
		return nil, teamRow, entity.Identity{}, err
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
