package opening

import (
	"testing"

	"tansu/internal/chest"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// A custom role of a name that every chest has a role of now goes on under another one, with its grants.
func TestACustomRoleKeepsWhatItCanDo(t *testing.T) {
	rows := &store.Snapshot{Roles: []entity.Role{{ID: "ro_1", Name: "subscriber"}, {ID: "ro_2", Name: "subscriber-own"},
		{ID: "ro_3", Name: "sealer"}},
		Grants: []entity.Grant{{ID: "gr_1", Role: "subscriber"}, {ID: "gr_2", Role: "sealer"}, {ID: "gr_3", Role: "consumer"}}}
	a := &chest.Attempt{}
	renameRoles(a, rows)
	role, grant := store.Stored[entity.Role](&a.Change, "ro_1"), store.Stored[entity.Grant](&a.Change, "gr_1")
	if role.Name != "subscriber-own-own" || grant.Role != role.Name || len(a.Change.Rows) != 2 {
		t.Errorf("%+v, %+v, %d changes", role, grant, len(a.Change.Rows))
	}
	if a.Entry.Detail != "the custom role subscriber is called subscriber-own-own now" {
		t.Errorf("the entry says %q", a.Entry.Detail)
	}
}
