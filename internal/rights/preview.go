package rights

import "tansu/internal/chest"

// Proposal is a change of access that can be looked at before it is made. It has one of its parts.
type Proposal struct {
	Give *NewGrant
	End  string // the id of a grant
	Role *NewRole
}

// Preview says what a change would do, without doing it. It takes the right to make the change.
func (s *Rights) Preview(c chest.Caller, p Proposal) (d chest.Difference, err error) {
	switch {
	case p.Give != nil && p.End == "" && p.Role == nil:
		return s.previewGive(c, *p.Give)
	case p.Give == nil && p.End != "" && p.Role == nil:
		return s.previewEnd(c, p.End)
	case p.Give == nil && p.End == "" && p.Role != nil:
		return s.previewRole(c, *p.Role)
	}
	return d, chest.Invalid("give", "a proposal is give, end or role")
}

func (s *Rights) previewGive(c chest.Caller, n NewGrant) (d chest.Difference, err error) {
	a, row, replaced, err := s.giving(c, n)
	if err != nil {
		return d, err
	}
	notes, err := grantNotes(a, row, replaced.ID)
	if err != nil {
		return d, a.Fail(err)
	}
	return preview(a, notes)
}

func (s *Rights) previewEnd(c chest.Caller, id string) (d chest.Difference, err error) {
	a, before, err := s.endable(c, id)
	if err != nil {
		return d, err
	}
	a.Change.Update(before, ended(before, a))
	return preview(a, nil)
}

func (s *Rights) previewRole(c chest.Caller, n NewRole) (d chest.Difference, err error) {
	a, after, err := s.roleChange(c, n)
	if err != nil {
		return d, err
	}
	return preview(a, roleNotes(chest.RoleOf(after)))
}

// preview says what an attempt's change would do, and records that it was looked at instead of making it.
func preview(a *chest.Attempt, notes []string) (d chest.Difference, err error) {
	a.Entry.Action, a.Entry.Detail, a.Entry.Given = chest.AskAccess, "what would change: "+a.Entry.Detail, ""
	after := a.St.Trial()
	if err := after.Apply(&a.Change); err != nil {
		return d, a.Fail(err)
	}
	if d, err = a.St.Compare(a.Caller.Ctx(), after.Snapshot, a.Entry.At); err != nil {
		return d, a.Fail(err)
	}
	d.Notes = notes
	return chest.Reply(a, d)
}
