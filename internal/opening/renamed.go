package opening

import (
	"fmt"
	"slices"
	"strings"
	"tansu/internal/core/reference"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// renameRoles gives grants of a role that has another name now that name, in the same commit in which a chest is unlocked. A custom role
// that has the name of one that every chest has now gets another one, with its grants: nobody's access changes.
func renameRoles(a *chest.Attempt, rows *store.Snapshot) {
	now, renamed := access.RoleName(access.FormerCurator), 0
	for _, role := range rows.Roles {
		if !slices.ContainsFunc(access.Roles, func(r access.Role) bool { return r.Name == role.Name }) {
			continue
		}
		other := role
		for other.Name = role.Name + "-own"; slices.ContainsFunc(rows.Roles, func(r entity.Role) bool { return r.Name == other.Name }); {
			other.Name += "-own"
		}
		a.Change.Update(role, other)
		moved := renameGrants(a, rows, role.Name, other.Name)
		if role.Name == now {
			renamed += moved
		}
		a.Entry.Detail += fmt.Sprintf("; the custom role %s is called %s now", role.Name, other.Name)
	}
	renamed += renameGrants(a, rows, access.FormerCurator, now)
	if renamed > 0 {
		a.Entry.Detail += fmt.Sprintf("; the role %s is called %s now, in %s", access.FormerCurator, now, reference.Counted(renamed, "grant"))
	}
	a.Entry.Detail = strings.TrimPrefix(a.Entry.Detail, "; ")
}

func renameGrants(a *chest.Attempt, rows *store.Snapshot, from, to string) (renamed int) {
	for _, g := range rows.Grants {
		if g.Role == from {
			rename(a, g, to)
			renamed++
		}
	}
	return renamed
}

// rename gives a grant another role's name, also one that the same commit ends.
func rename(a *chest.Attempt, g entity.Grant, to string) {
	for i, c := range a.Change.Rows {
		if after, is := c.After.(entity.Grant); is && after.ID == g.ID {
			after.Role = to
			a.Change.Rows[i].After = after
			return
		}
	}
	after := g
	after.Role = to
	a.Change.Update(g, after)
}

// asStored puts rows as a commit stored them in the place of those that it changed.
func asStored(a *chest.Attempt, rows *store.Snapshot) {
	rows.Grants = storedIn(a, rows.Grants, func(r entity.Grant) string { return r.ID })
	rows.Identities = storedIn(a, rows.Identities, func(r entity.Identity) string { return r.ID })
	rows.Roles = storedIn(a, rows.Roles, func(r entity.Role) string { return r.ID })
	rows.Slots = storedIn(a, rows.Slots, func(r entity.Slot) string { return r.ID })
	rows.MasterKeys = storedIn(a, rows.MasterKeys, func(r entity.MasterKey) string { return r.ID })
	rows.Issued = storedIn(a, rows.Issued, func(r entity.Issued) string { return r.ID })
}

func storedIn[R entity.Row](a *chest.Attempt, rows []R, id func(R) string) []R {
	at := map[string]int{}
	for i, row := range rows {
		at[id(row)] = i
	}
	for _, change := range a.Change.Rows {
		after, is := change.After.(R)
		i, known := at[id(after)]
		switch {
		case is && known:
			rows[i] = after
		case is:
			rows = append(rows, after)
		}
	}
	return rows
}
