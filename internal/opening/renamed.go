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
// that has the new name already gets another one, with its grants: nobody's access changes.
func renameRoles(a *chest.Attempt, rows *store.Snapshot) {
	now, renamed := access.RoleName(access.FormerCurator), 0
	for _, role := range rows.Roles {
		if role.Name != now {
			continue
		}
		other := role
		for other.Name = now + "-own"; slices.ContainsFunc(rows.Roles, func(r entity.Role) bool { return r.Name == other.Name }); {
			other.Name += "-own"
		}
		a.Change.Update(role, other)
		renamed += renameGrants(a, rows, now, other.Name)
		a.Entry.Detail += fmt.Sprintf("; the custom role %s is called %s now", now, other.Name)
	}
	renamed += renameGrants(a, rows, access.FormerCurator, now)
	if renamed > 0 {
		a.Entry.Detail = strings.TrimPrefix(a.Entry.Detail+fmt.Sprintf("; the role %s is called %s now, in %s", access.FormerCurator, now,
			reference.Counted(renamed, "grant")), "; ")
	}
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
	for i, row := range rows.Grants {
		if stored := store.Stored[entity.Grant](&a.Change, row.ID); stored.ID != "" {
			rows.Grants[i] = stored
		}
	}
	for i, row := range rows.Identities {
		if stored := store.Stored[entity.Identity](&a.Change, row.ID); stored.ID != "" {
			rows.Identities[i] = stored
		}
	}
	for i, row := range rows.Roles {
		if stored := store.Stored[entity.Role](&a.Change, row.ID); stored.ID != "" {
			rows.Roles[i] = stored
		}
	}
	for i, row := range rows.Slots {
		if stored := store.Stored[entity.Slot](&a.Change, row.ID); stored.ID != "" {
			rows.Slots[i] = stored
		}
	}
}
