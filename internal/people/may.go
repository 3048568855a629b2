package people

import (
	"slices"

	"tansu/internal/chest"
	"tansu/internal/core/access"
)

// May is what callers may do, for whoever shows them only that. It decides nothing: each act is decided when it is done.
type May struct {
	Chest      access.Action // on the chest as a whole
	Somewhere  access.Action // on anything at all
	Everything access.Action // on everything
	Owns       []string      // the apps and teams that they answer for, themselves or as one of a team
}

// mayOf looks at a caller's grants as they are now. Actions that only want a stated reason count as allowed.
func mayOf(st *chest.Snapshot, c chest.Caller, ctx access.Context) (m May) {
	ctx.Reason = "stated"
	for action := range access.AllActions.Each() {
		if st.Decide(c.ID, action, ctx).Allowed {
			m.Chest |= action
		}
		if st.Policy.Anywhere(c.ID, action, ctx).Allowed {
			m.Somewhere |= action
		}
		if st.Policy.DecideScope(c.ID, action, chest.Everything, ctx).Allowed {
			m.Everything |= action
		}
	}
	for _, owner := range append([]string{c.Name}, st.TeamsOf(c.ID)...) {
		for _, row := range st.OwnedBy(owner) {
			m.Owns = append(m.Owns, chest.SubjectOf(row))
		}
	}
	slices.Sort(m.Owns)
	return m
}

// ofItems are the actions on what is in a drawer.
const ofItems = access.List | access.SeeMetadata | access.ReadValue | access.UseKey | access.WriteVersion | access.ChangeItem |
	access.Retire | access.Shred

// MayThere says what the caller may do on a drawer or an item, if there is one of that name; a read that a second person has to agree to
// counts, and so does, of a drawer, what they may do to something in it. It is no entry, as it says what the caller's own grants are.
func (s *People) MayThere(c chest.Caller, target string) (may access.Action, err error) {
	names := chest.TargetOf(target)
	if names == nil {
		return 0, chest.Invalid("target", "%.140q is neither a drawer nor an item, such as ticketing-prod or ticketing-prod/db-password", target)
	}
	st, err := s.heart.Look()
	if err != nil {
		return 0, err
	}
	ctx := c.Context(s.heart.Now())
	ctx.Reason = "stated"
	for action := range access.AllActions.Each() {
		decision := st.Decide(c.ID, action, ctx, names...)
		if decision.Allowed || decision.Reason == access.ApprovalNeeded {
			may |= action
		}
	}
	if len(names) == 1 {
		for action := range ofItems.Each() {
			if st.Touches(c.ID, action, names[0]) && st.Reaches(c.ID, action, names[0], ctx).Allowed {
				may |= action
			}
		}
	}
	return may, nil
}
