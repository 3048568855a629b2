package service

import (
	"strings"

	"tansu/internal/core/access"
	"tansu/internal/store"
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
func (s *Service) Roles(c Caller) (list []Role, err error) {
	a := s.attempt(c, "list_roles", "")
	err = s.view(func(st *state) error {
		for _, role := range st.allRoles() {
			list = append(list, st.describeRole(role))
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return answer(a, list)
}

func (st *state) describeRole(role access.Role) Role {
	_, custom := st.roles[role.Name]
	r := Role{Name: role.Name, Summary: role.Summary, Actions: role.Actions.Names(), BuiltIn: !custom}
	for _, g := range st.grants {
		if g.Role == role.Name && g.EndedAt == 0 {
			r.InUse++
		}
	}
	return r
}

// row checks a role's input.
func (n NewRole) row() (store.Role, error) {
	if err := checkName("name", n.Name); err != nil {
		return store.Role{}, err
	}
	if _, builtIn := access.FindRole(n.Name); builtIn {
		return store.Role{}, invalid("name", "%s is a built-in role, which cannot be changed", n.Name)
	}
	if err := checkText("description", n.Description, MaxDescription); err != nil {
		return store.Role{}, err
	}
	var actions access.Action
	for _, name := range n.Actions {
		action, known := access.ParseAction(name)
		if !known {
			return store.Role{}, invalid("actions", "%.40q is not an action; the actions are %v", name, access.AllActions.Names())
		}
		actions |= action
	}
	if actions == 0 {
		return store.Role{}, invalid("actions", "a role has at least one action; the actions are %v", access.AllActions.Names())
	}
	return store.Role{Name: n.Name, Description: n.Description, Actions: strings.Join(actions.Names(), " ")}, nil
}

// AddRole makes a custom role, which gives nothing until it is granted. It takes the right to give anything.
func (s *Service) AddRole(c Caller, n NewRole) (r Role, notes []string, err error) {
	row, err := n.row()
	if err != nil {
		return r, nil, err
	}
	a, err := s.allowGrant(c, everything)
	if err != nil {
		return r, nil, err
	}
	row.ID, row.CreatedAt, row.CreatedBy = newID("ro_"), micros(a.entry.At), c.name
	a.entry.Target, a.entry.Detail = "", "make role "+n.Name+": "+row.Actions
	err = a.change("role "+n.Name, func(tx *store.Tx) (err error) { row, err = store.Insert(tx, row); return err },
		func(st *state) {
			_ = st.putRole(row) // nothing is granted it yet
			r, notes = st.describeRole(roleOf(row)), roleNotes(roleOf(row))
		})
	return r, notes, err
}

// roleNotes says what is unusual about a role.
func roleNotes(role access.Role) (notes []string) {
	const manages = access.ChangeRules | access.GrantAccess | access.Register | access.Shred
	if role.Actions&(access.ReadValue|access.UseKey) != 0 && role.Actions&manages != 0 {
		notes = append(notes, "this role both manages and reads; duties are better kept apart")
	}
	return notes
}

// ChangeRole changes what a custom role can do, at once and for everyone who has it.
func (s *Service) ChangeRole(c Caller, n NewRole) (r Role, notes []string, err error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	a, before, after, err := s.changingRole(c, n)
	if err != nil {
		return r, nil, err
	}
	err = a.change("role "+n.Name, func(tx *store.Tx) (err error) { after, err = store.Update(tx, before, after); return err },
		func(st *state) {
			_ = st.putRole(after) // its grants were parsed when they came in
			r, notes = st.describeRole(roleOf(after)), roleNotes(roleOf(after))
		})
	return r, notes, err
}

// changingRole decides on a change of a role: nobody widens their own access by it.
func (s *Service) changingRole(c Caller, n NewRole) (a *attempt, before, after store.Role, err error) {
	checked, err := n.row()
	if err != nil {
		return nil, before, after, err
	}
	if a, err = s.allowGrant(c, everything); err != nil {
		return nil, before, after, err
	}
	a.entry.Target, a.entry.Detail = "", "change role "+n.Name+": "+checked.Actions
	var own, steward bool
	err = s.view(func(st *state) error {
		known := false
		if before, known = st.roles[n.Name]; !known {
			return notFound("custom role "+n.Name, "")
		}
		after = before
		after.Description, after.Actions = checked.Description, checked.Actions
		shadow := st.shadow()
		if err := shadow.putRole(after); err != nil {
			return err
		}
		steward = st.isSteward(c, a.entry.At)
		own, err = st.widens(c, shadow, a.entry.At)
		return err
	})
	if err != nil {
		return nil, before, after, a.fail(err)
	}
	if own && !steward {
		return nil, before, after, a.refuse(&Error{Code: Refused, Reason: ownAccess,
			Detail: "you, or an app you own, hold this role, and nobody widens their own access; another gatekeeper can change it"})
	}
	return a, before, after, nil
}

func (s *Service) previewRole(c Caller, n NewRole) (d Difference, err error) {
	a, _, after, err := s.changingRole(c, n)
	if err != nil {
		return d, err
	}
	return s.preview(a, func(_, shadow *state) ([]string, error) { return roleNotes(roleOf(after)), shadow.putRole(after) })
}

// RemoveRole removes a custom role that no grant has any more.
func (s *Service) RemoveRole(c Caller, name string) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	a, err := s.allowGrant(c, everything)
	if err != nil {
		return err
	}
	a.entry.Target, a.entry.Detail = "", "remove role "+name
	var row store.Role
	err = s.view(func(st *state) error {
		known := false
		if row, known = st.roles[name]; !known {
			return notFound("custom role "+name, "")
		}
		if used := st.describeRole(roleOf(row)).InUse; used > 0 {
			return &Error{Code: Exists, Detail: "role " + name + " is in use: end its grants first (tansu grant list)"}
		}
		return nil
	})
	if err != nil {
		return a.fail(err)
	}
	return a.change("role "+name, func(tx *store.Tx) error { return store.Delete(tx, row) }, func(st *state) { st.dropRole(row) })
}
