package usage

import (
	"testing"

	"tansu/internal/core/access"
	"tansu/internal/core/trail"
)

// What a grant was used for counts as the use of one of its actions, whatever the act is called in the trail: else it would be proposed to
// take away what is used.
func TestEveryActCountsAsTheUseOfAnAction(t *testing.T) {
	for name, want := range map[string]access.Action{"set_window": access.ChangeItem, "move_item": access.ChangeItem,
		"end_alias":    access.ChangeItem,
		"hold_version": access.ChangeItem, "retire_item": access.Retire, "shred_drawer": access.Shred, "rotate_key": access.ChangeRules,
		"export": access.List, "mark_exposed": access.ReadTrail, "report_exposure": access.ReadTrail, "back_up": access.Operate,
		"rehearse_restore": access.Operate, "list_backups": access.Operate, "rotate_root_key": access.Operate,
		"add_unlock_method": access.Operate,
		"end_unlock_method": access.Operate, "list_unlock_methods": access.Operate, "apply_policy": access.GrantAccess,
		"read_value": access.ReadValue} {
		counted := ""
		entry := trail.Entry{Action: name, Outcome: trail.Allowed, Grant: "gr_x", Subject: "person:harbour-master", Target: "d/i"}
		for _, use := range Of(entry) {
			if use.Kind == Grant {
				counted = use.Other
			}
		}
		if counted != want.String() {
			t.Errorf("%s counts as %q, want %s", name, counted, want)
		}
	}
}
