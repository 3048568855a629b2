package record

import (
	"strings"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/search"
	"tansu/internal/core/trail"
)

// otherActions are those in the trail that no grant gives by their own name; turn_root_key is what rotate_root_key was called before.
var otherActions = strings.Fields(`
	found unlock lock hand_in_share list_unlock_methods add_unlock_method end_unlock_method rotate_root_key turn_root_key
	list_own_shares take_share answer_again
	back_up list_backups rehearse_restore examine begin_epoch end_again clock_behind archive_trail bring_steward_back set_steward_aside
	sign_in sign_out enrol enrol_host authenticate issue_token revoke_token introspect_token change_password end_session
	list_drawers list_identities list_refusals list_grants list_requests list_roles list_calendars list_access_ends list_public_keys
	read_policy apply_policy tighten search ask_access ask_for answer_request withdraw_request see_receipt
	compare_value import export set_window move_item end_alias rotate_key shred_drawer report_exposure report_reads host_key
	make_calendar end_calendar read_calendar issue_authority revoke_certificate register_acme_account
	list_master_keys make_master_key change_master_key withdraw_master_key give_back_master_key destroy_master_key`)

// Actions are all that entries can have as their action.
func Actions() []string {
	list := append(access.AllActions.Names(), otherActions...)
	list = append(list, chest.SeveralKinds, trail.EntryLost, markExposed)
	for _, act := range lifecycle.Acts {
		list = append(list, string(act)+"_item", string(act)+"_version")
	}
	return list
}

// Outcomes are all that entries can have as their outcome.
var Outcomes = []string{string(trail.Allowed), string(trail.Refused), string(trail.Failed)}

// CheckTerm refuses a value of a key that no entry can have: that nothing was found would be taken for an answer.
func CheckTerm(key, value string) error {
	switch key {
	case "action":
		return search.Known(key, value, Actions())
	case "outcome":
		return search.Known(key, value, Outcomes)
	case "subject":
		kind, _, named := strings.Cut(value, ":")
		if !named && !strings.Contains(value, "*") {
			return search.Known(key, value, []string{chest.Unknown, "chest", "init", "machine"})
		}
		if named {
			return search.Known(key, kind, []string{reference.Person, reference.App, reference.Team})
		}
	}
	return nil
}
