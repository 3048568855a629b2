package trail

import "strings"

// Key is one thing that an entry says and can be found by, such as "subject app:ticket-api".
type Key string

// What entries are found by.
const (
	BySubject = "subject"
	ByTarget  = "target"
	Under     = "under" // the drawer of a target, or the target itself when it is not in a drawer
	ByAction  = "action"
	ByOutcome = "outcome" // those that are not Allowed
	ByReason  = "reason"
	ByGrant   = "grant"
	ByAddr    = "addr"
	ByReceipt = "receipt"
	ByItem    = "item"      // by its id, whatever it was called
	Receipted = "receipted" // with the value "yes": those that have a receipt, or stand for several that had
)

// KeyOf writes what entries are found by.
func KeyOf(what, value string) Key { return Key(what + " " + value) }

// Keys are all that an entry is found by.
func (e *Entry) Keys() []Key {
	keys := make([]Key, 0, 11)
	add := func(what, value string) {
		if value != "" {
			keys = append(keys, KeyOf(what, value))
		}
	}
	drawer, _, inDrawer := strings.Cut(e.Target, "/")
	add(BySubject, e.Subject)
	add(Under, drawer)
	if inDrawer {
		add(ByTarget, e.Target)
	}
	add(ByAction, e.Action)
	if e.Outcome != Allowed {
		add(ByOutcome, string(e.Outcome))
	}
	add(ByReason, e.Reason)
	add(ByGrant, e.Grant)
	add(ByAddr, e.Addr)
	add(ByItem, e.ItemID)
	if e.Receipt != "" {
		add(ByReceipt, e.Receipt)
	}
	if e.Receipt != "" || e.Count != 0 {
		add(Receipted, "yes")
	}
	return keys
}
