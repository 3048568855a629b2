// Package usage is what entries of the trail tell about use: which grant was used for what, who read which item when, from which
// network, at which hour. It is counted once, as entries come, so that nobody has to read all of the trail to know.
package usage

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// What is counted. Uses with the same kind, key and other are counted together.
const (
	Grant       = "grant"           // a grant, and the action that it was used for
	GrantTarget = "grant_target"    // a grant, and what it was used on
	Presence    = "seen"            // a subject; the detail is how it came and from where
	Credential  = "credential"      // a credential that a token was issued for
	Read        = store.UseRead     // an item by the name it was read by, and the reader; the detail is which version
	ReadItem    = store.UseReadItem // the same by the item's id, whatever it was called
	Network     = "network"         // a reader, and the network it read from
	Clock       = "clock"           // a reader, and the hour of the day in UTC: "07"
	Key         = "key"             // a key by the item's id, and what it was used for, its version, and who used it: "sign 3 app:ticket-api"
	Hour        = "hour"            // a drawer, and an hour of one day with a reader: "2026-11-23T07 app:ticket-api"
)

// Records is what is asked of a store.
type Records interface {
	CatchUp() error
	Uses(store.UseFilter) ([]store.Use, error)
}

// Of is what an entry tells about uses. It looks at nothing else, so that counting again gives the same.
func Of(e trail.Entry) (list []store.Use) {
	if e.Outcome != trail.Allowed {
		return nil
	}
	add := func(kind, key, other, detail string) {
		list = append(list, store.Use{Kind: kind, Key: key, Other: other, Detail: detail})
	}
	if e.Via != "" && e.Subject != unknown && e.Addr != "" {
		add(Presence, e.Subject, "", e.Via+" "+e.Addr)
	}
	if id := credentialOf(e); id != "" && e.Action == "issue_token" {
		add(Credential, id, "", "")
	}
	if e.Action == access.ReadValue.String() {
		add(Read, e.Target, e.Subject, readingDetail(e))
		if e.ItemID != "" {
			add(ReadItem, e.ItemID, e.Subject, readingDetail(e))
		}
		add(Network, e.Subject, networkOf(e.Addr), "")
		add(Clock, e.Subject, e.At.UTC().Format("15"), "")
		drawer, _, _ := strings.Cut(e.Target, "/")
		add(Hour, drawer, e.At.UTC().Format("2006-01-02T15")+" "+e.Subject, "")
	}
	if action, known := access.ParseAction(e.Action); known && action&access.UseKey != 0 && e.ItemID != "" {
		add(Key, e.ItemID, fmt.Sprintf("%s %d %s", e.Action, e.Version, e.Subject), "")
		add(Read, e.Target, e.Subject, readingDetail(e)) // whoever uses a key reads it, as far as what is idle or old is concerned
		add(ReadItem, e.ItemID, e.Subject, readingDetail(e))
		add(Network, e.Subject, networkOf(e.Addr), "")
		add(Clock, e.Subject, e.At.UTC().Format("15"), "")
	}
	if e.Grant != "" {
		add(Grant, e.Grant, actionUsed(e), "")
		add(GrantTarget, e.Grant, e.Target, "")
	}
	return list
}

const unknown = "unknown"

// Entries of the first form say in their detail what later ones say in members of their own.
const (
	withCredential = "with "
	askedByNumber  = "pinned by its number"
)

// credentialOf is the credential that a token was issued for.
func credentialOf(e trail.Entry) string {
	if e.Form() == trail.FormIDs {
		return e.Credential
	}
	if id, found := strings.CutPrefix(e.Detail, withCredential); found && strings.HasPrefix(id, "cr_") {
		return id
	}
	return ""
}

// networkOf is the network around an address that counts as the same place: 256 IPv4 addresses, or one IPv6 subnet.
func networkOf(addr string) string {
	ip, err := netip.ParseAddr(addr)
	if err != nil {
		return addr
	}
	bits := 64
	if ip = ip.Unmap(); ip.Is4() {
		bits = 24
	}
	prefix, err := ip.WithZone("").Prefix(bits)
	if err != nil {
		return addr
	}
	return prefix.String()
}

// readingDetail is a version's number, with a mark if it was asked for by that.
func readingDetail(e trail.Entry) string {
	detail := strconv.Itoa(e.Version)
	if e.Pinned || e.Form() == trail.FormNames && strings.HasPrefix(e.Detail, askedByNumber) {
		detail += pinnedMark
	}
	return detail
}

const pinnedMark = "!"

// Reader is an app or a person who read an item's value, and which version last.
type Reader struct {
	Subject string
	Version int
	Last    time.Time
	Pinned  bool // asked for the version by its number
}

// ReaderOf reads a use of kind Read or ReadItem.
func ReaderOf(use store.Use) Reader {
	number, pinned := strings.CutSuffix(use.Detail, pinnedMark)
	version, _ := strconv.Atoi(number)
	return Reader{Subject: use.Other, Version: version, Last: time.UnixMicro(use.At).UTC(), Pinned: pinned}
}

// Readers lists who read an item since a moment, under whatever name, those of the oldest versions first: by its id, and, for reads from
// before ids were recorded, by some names.
func Readers(records Records, item string, names []string, since time.Time) (list []Reader, err error) {
	if err := records.CatchUp(); err != nil {
		return nil, err
	}
	var from int64
	if !since.IsZero() {
		from = since.UnixMicro()
	}
	newest := map[string]store.Use{}
	for _, f := range []store.UseFilter{{Kind: ReadItem, Keys: []string{item}, Since: from}, {Kind: Read, Keys: names, Since: from}} {
		if len(f.Keys) == 0 || f.Keys[0] == "" {
			continue
		}
		uses, err := records.Uses(f)
		if err != nil {
			return nil, err
		}
		for _, use := range uses {
			if use.Seq > newest[use.Other].Seq {
				newest[use.Other] = use
			}
		}
	}
	for _, use := range newest {
		list = append(list, ReaderOf(use))
	}
	slices.SortFunc(list, func(x, y Reader) int {
		return cmp.Or(cmp.Compare(x.Version, y.Version), strings.Compare(x.Subject, y.Subject))
	})
	return list, nil
}

// UpToDate lists what is counted of a kind, up to the newest entry.
func UpToDate(records Records, f store.UseFilter) ([]store.Use, error) {
	if err := records.CatchUp(); err != nil {
		return nil, err
	}
	return records.Uses(f)
}

// Seen is when and how somebody was last there; the zero Seen is never.
type Seen struct {
	At   time.Time
	Addr string
	Via  string
}

// SeenOf reads a use of kind Presence.
func SeenOf(use store.Use) Seen {
	via, addr, _ := strings.Cut(use.Detail, " ")
	return Seen{At: time.UnixMicro(use.At).UTC(), Addr: addr, Via: via}
}

// Rights are what each act on an item or a version takes.
var Rights = map[lifecycle.Act]access.Action{
	lifecycle.Suspend: access.ChangeItem, lifecycle.Resume: access.ChangeItem, lifecycle.Promote: access.ChangeItem,
	lifecycle.Hold: access.ChangeItem, lifecycle.Release: access.ChangeItem,
	lifecycle.Retire: access.Retire, lifecycle.Restore: access.Retire, lifecycle.Shred: access.Shred,
}

// actionUsed is the access action that an entry used: overviews and whole-chest acts have names of their own.
func actionUsed(e trail.Entry) string {
	switch e.Action {
	case "list_drawers":
		return access.List.String()
	case "list_public_keys":
		return access.SeeMetadata.String()
	case "list_identities", "list_refusals", "read_policy", "list_master_keys":
		return "" // any of several actions allows it, so that it proves the use of none
	case "lock", "examine", "list_unlock_methods", "add_unlock_method", "end_unlock_method", "rotate_root_key", "turn_root_key", "back_up",
		"list_backups", "rehearse_restore", "make_master_key", "change_master_key", "withdraw_master_key", "give_back_master_key",
		"destroy_master_key":
		return access.Operate.String()
	case "apply_policy", "answer_request":
		return access.GrantAccess.String()
	case "set_window", "move_item", "end_alias":
		return access.ChangeItem.String()
	case "rotate_key":
		return access.ChangeRules.String()
	case "shred_drawer":
		return access.Shred.String()
	case "export":
		return access.List.String()
	case "report_exposure", "mark_exposed":
		return access.ReadTrail.String()
	}
	if act, what, isAct := strings.Cut(e.Action, "_"); isAct && (what == "item" || what == "version") && Rights[lifecycle.Act(act)] != 0 {
		return Rights[lifecycle.Act(act)].String()
	}
	return e.Action
}
