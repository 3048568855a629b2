package rights

import (
	"strings"
	"tansu/internal/chest"

	"tansu/internal/core/access"
	"tansu/internal/entity"
)

// Role is a role as others see it.
type Role struct {
	Name    string
	Summary string
	Actions []string
	BuiltIn bool
	InUse   int // grants of it that are not ended
}

// NewRole is what making or changing a custom role needs.
type NewRole struct {
	Name        string
	Description string
	Actions     []string
}

// Roles lists the built-in and the custom roles.
func (s *Rights) Roles(c chest.Caller) (list []Role, err error) {
	a := s.heart.Attempt(c, "list_roles", "")
	if err := a.Err(); err != nil {
		return nil, err
	}
	for _, role := range a.St.AllRoles() {
		list = append(list, describeRole(a.St, role))
	}
	return chest.Reply(a, list)
}

func describeRole(st *chest.Snapshot, role access.Role) Role {
	_, custom := st.CustomRole(role.Name)
	return Role{Name: role.Name, Summary: role.Summary, Actions: role.Actions.Names(), BuiltIn: !custom, InUse: len(st.InRole(role.Name))}
}

// row checks a role's input.
func (n NewRole) row() (entity.Role, error) {
	if err := chest.CheckName("name", n.Name); err != nil {
		return entity.Role{}, err
	}
	if n.Name == access.FormerCurator { // which policies of before still say
		return entity.Role{}, chest.Invalid("name", "%s is what the role %s was called before: choose another name", n.Name,
			access.RoleName(n.Name))
	}
	if _, builtIn := access.FindRole(access.RoleName(n.Name)); builtIn {
		return entity.Role{}, chest.Invalid("name", "%s is a built-in role, which cannot be changed", n.Name)
	}
	if err := chest.CheckText("description", n.Description, chest.MaxDescription); err != nil {
		return entity.Role{}, err
	}
	var actions access.Action
	for _, name := range n.Actions {
		action, known := access.ParseActions(name)
		if !known {
			return entity.Role{}, chest.Invalid("actions", "%.40q is not an action; the actions are %v", name, access.AllActions.Names())
		}
		actions |= action
	}
	if actions == 0 {
		return entity.Role{}, chest.Invalid("actions", "a role has at least one action; the actions are %v", access.AllActions.Names())
	}
	return entity.Role{Name: n.Name, Description: n.Description, Actions: strings.Join(actions.Names(), " ")}, nil
}

// AddRole makes a custom role, which gives nothing until it is granted. It takes the right to give anything.
func (s *Rights) AddRole(c chest.Caller, n NewRole) (r Role, notes []string, err error) {
	row, err := n.row()
	if err != nil {
		return r, nil, err
	}
	err = s.heart.Try(func() error {
		a, err := s.allowGrant(c, chest.Everything)
		if err != nil {
			return err
		}
		row.ID, row.CreatedAt, row.CreatedBy = chest.NewID("ro_"), chest.Micros(a.Entry.At), c.Name
		a.Entry.Target, a.Entry.Detail = "", "make role "+n.Name+": "+row.Actions
		a.Change.Insert(row)
		return a.Commit("role " + n.Name)
	})
	if err != nil {
		return r, nil, err
	}
	return s.roleNow(n.Name)
}

// roleNow describes a custom role after a change.
func (s *Rights) roleNow(name string) (r Role, notes []string, err error) {
	st, err := s.heart.Look()
	if err != nil {
		return r, nil, err
	}
	role, _ := st.Role(name)
	return describeRole(st, role), roleNotes(role), nil
}

// roleNotes says what is unusual about a role.
func roleNotes(role access.Role) (notes []string) {
	const manages = access.ChangeRules | access.GrantAccess | access.Register | access.Shred
	if role.Actions&access.Yields != 0 && role.Actions&manages != 0 {
		notes = append(notes, "this role both manages and reads; duties are better kept apart")
	}
	return notes
}

// ChangeRole changes what a custom role can do, at once and for everyone who has it.
func (s *Rights) ChangeRole(c chest.Caller, n NewRole) (r Role, notes []string, err error) {
	err = s.heart.Try(func() error {
		a, _, err := s.roleChange(c, n)
		if err != nil {
			return err
		}
		return a.Commit("role " + n.Name)
	})
	if err != nil {
		return r, nil, err
	}
	return s.roleNow(n.Name)
}

// roleChange decides on a change of a role, and puts it into the attempt's: nobody may widen their own access by it.
func (s *Rights) roleChange(c chest.Caller, n NewRole) (a *chest.Attempt, after entity.Role, err error) {
	checked, err := n.row()
	if err != nil {
		return nil, after, err
	}
	if a, err = s.allowGrant(c, chest.Everything); err != nil {
		return nil, after, err
	}
	a.Entry.Target, a.Entry.Detail = "", "change role "+n.Name+": "+checked.Actions
	before, known := a.St.CustomRole(n.Name)
	if !known {
		return nil, after, a.Fail(chest.Missing("custom role "+n.Name, ""))
	}
	after = before
	after.Description, after.Actions = checked.Description, checked.Actions
	a.Change.Update(before, after)
	trial := a.St.Trial()
	if err := trial.Apply(&a.Change); err != nil {
		return nil, after, a.Fail(err)
	}
	own, err := a.St.Widens(c.Ctx(), c, trial.Snapshot, a.Entry.At)
	if err != nil {
		return nil, after, a.Fail(err)
	}
	if own && !a.St.IsSteward(c, a.Entry.At) {
		return nil, after, a.Refuse(&chest.Error{Code: chest.Refused, Reason: chest.OwnAccess,
			Detail: "you, or an app you own, hold this role, and nobody may widen their own access; another gatekeeper can change it"})
	}
	return a, after, nil
}

// RemoveRole removes a custom role that no grant has any more.
func (s *Rights) RemoveRole(c chest.Caller, name string) error {
	return s.heart.Try(func() error {
		a, err := s.allowGrant(c, chest.Everything)
		if err != nil {
			return err
		}
		a.Entry.Target, a.Entry.Detail = "", "remove role "+name
		row, known := a.St.CustomRole(name)
		if !known {
			return a.Fail(chest.Missing("custom role "+name, ""))
		}
		if len(a.St.InRole(name)) > 0 {
			return a.Fail(&chest.Error{Code: chest.Exists, Detail: "role " + name + " is in use: end its grants first (tansu grant list)"})
		}
		a.Change.Delete(row)
		return a.Commit("role " + name)
	})
}
