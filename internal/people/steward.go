package people

import (
	"fmt"
	"slices"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
)

// SetStewardsAside ends the time of every steward: they cannot sign in any more, and nothing that comes over the
// network brings them back. Somebody else must be able to give access and register first.
func (s *People) SetStewardsAside(c chest.Caller) (aside []string, err error) {
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(c, "set_steward_aside", "").RestOnAccess()
		if err := a.Err(); err != nil {
			return err
		}
		if !a.St.IsSteward(c, a.Entry.At) {
			return a.Refuse(&chest.Error{Code: chest.Refused, Reason: chest.StewardOnly, Detail: "only a steward sets the steward aside"})
		}
		stewards := stewardsOf(a.St, a.Entry.At)
		if !handedOver(a.St, stewards, a.Entry.At) {
			return a.Fail(&chest.Error{Code: chest.NotHandedOver,
				Detail: "nobody else could run the chest: first make a person gatekeeper on ** and let them enrol"})
		}
		if !handedOver(a.St, stewards, a.Entry.At.Add(chest.Ahead)) {
			return a.Fail(&chest.Error{Code: chest.NotHandedOver, Detail: fmt.Sprintf("nobody else could run the chest for as long as %d days: "+
				"first renew the grant of gatekeeper on ** (tansu due, tansu grant renew)", chest.Ahead/(24*time.Hour))})
		}
		aside = nil
		for _, id := range stewards {
			before := a.St.Identity(id)
			if before.State == chest.SetAside {
				continue
			}
			after := before
			after.State = chest.SetAside
			aside = append(aside, chest.SubjectOf(before))
			endTokens(a, &after)
			a.Change.Update(before, after)
		}
		slices.Sort(aside)
		a.Entry.Detail = fmt.Sprintf("set aside: %v", aside)
		return a.Commit("the steward")
	})
	return aside, err
}

// stewardsOf lists everybody whom a grant of the role steward reaches, whatever its conditions.
func stewardsOf(st *chest.Snapshot, now time.Time) (ids []string) {
	for _, row := range st.InRole(access.Steward) {
		if row.Effect == string(access.Allow) && chest.InForce(row, now) {
			ids = append(ids, st.Holders(row.Subject)...)
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// handedOver reports whether an active person with a password, other than some, can give access to everything and register people.
func handedOver(st *chest.Snapshot, stewards []string, now time.Time) (is bool) {
	st.Policy.Subjects(func(id string, _ []access.Grant) bool {
		is = !slices.Contains(stewards, id) && isPerson(st.Identity(id)) &&
			st.Policy.Surely(id, access.GrantAccess|access.Register, chest.Everything, now)
		return !is
	})
	return is
}
