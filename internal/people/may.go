package people

import (
	"slices"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
)

// May lists what callers may do, for a user interface that offers only that. It decides nothing: each act is decided when it is done.
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
const ofItems = access.List | access.SeeMetadata | access.Yields | access.WriteVersion | access.ChangeItem |
	access.Retire | access.Shred

// There is what a caller may do on a drawer or an item. Reason are those of the actions that want a stated reason, Approval those
// that a second person has to agree to first, and Unmet those that a grant of the caller's would allow if one of its conditions
// held.
type There struct {
	Actions, Reason, Approval access.Action
	Unmet                     []Unmet
	UseOnly                   bool   // they may read the item, and no person is ever shown its value
	Requested                 string // an open request of theirs, for themselves, about exactly this; empty for none
}

// Unmet is an action, and the condition that does not hold.
type Unmet struct {
	Action access.Action
	Why    string
}

// MayThere says what the caller may do on a drawer or an item, if there is one of that name; a read that a second person has to agree to
// counts, and so does, of a drawer, what they may do to something in it. It is no entry, as it says what the caller's own grants are.
func (s *People) MayThere(c chest.Caller, target string) (may There, err error) {
	names := chest.TargetOf(target)
	if names == nil {
		return may, chest.Invalid("target", "%.140q is neither a drawer nor an item, such as ticketing-prod or ticketing-prod/db-password",
			target)
	}
	st, err := s.heart.Look()
	if err != nil {
		return may, err
	}
	plain := c.Context(s.heart.Now())
	ctx := plain
	ctx.Reason = "stated"
	for action := range access.AllActions.Each() {
		request := st.Question(c.ID, action, ctx, names...)
		switch decision := st.Policy.Decide(request); {
		case decision.Reason == access.ApprovalNeeded:
			may.Actions |= action
			may.Approval |= action
		case decision.Allowed:
			may.Actions |= action
			if request.Context = plain; st.Policy.Decide(request).Reason == access.ReasonNeeded {
				may.Reason |= action
			}
		case decision.Reason == access.ConditionFailed:
			may.Unmet = append(may.Unmet, Unmet{Action: action, Why: st.NearestMiss(request, decision)})
		}
	}
	for _, row := range st.OpenRequests(c.ID) {
		if row.Subject == c.ID && row.Target == target {
			may.Requested = row.ID
		}
	}
	if may.Actions&access.ReadValue != 0 && st.Identity(c.ID).Kind == reference.Person {
		spot := st.At(names...)
		if spot.Item != nil {
			kept, _ := spot.Item.Row.KeptFrom(reference.Person)
			may.UseOnly = kept != ""
		}
	}
	if len(names) == 1 {
		for action := range ofItems.Each() {
			if st.Touches(c.ID, action, names[0]) && st.Reaches(c.ID, action, names[0], ctx).Allowed {
				may.Actions |= action
			}
		}
	}
	return may, nil
}
