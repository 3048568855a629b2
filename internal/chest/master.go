package chest

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/drawerkeys"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Masters lists the master keys, in the order of names.
func (st *Snapshot) Masters() []drawerkeys.Master {
	list := st.masters.all("")
	slices.SortFunc(list, func(x, y drawerkeys.Master) int { return strings.Compare(x.Row.Name, y.Row.Name) })
	return list
}

// MasterNamed finds a master key by its name.
func (st *Snapshot) MasterNamed(name string) (m drawerkeys.Master, known bool) {
	st.masters.under("", func(one *drawerkeys.Master) bool {
		if known = one.Row.Name == name; known {
			m = *one
		}
		return !known
	})
	return m, known
}

// MasterOf is the master key that a drawer is under, by its newest key; the zero Master for none.
func (st *Snapshot) MasterOf(d *Drawer) drawerkeys.Master { return st.masters.row(d.KeyRow.Master) }

func (st *Snapshot) master(id string) (m drawerkeys.Master, known bool) {
	m = st.masters.row(id)
	return m, m.Row.ID != ""
}

// OpenKey is the key of a drawer with a number; while its master key is not at hand, an error says so.
func (st *Snapshot) OpenKey(d *Drawer, number int) (*envelope.Key, error) {
	if k := d.KeyOf(number); k != nil {
		return k, nil
	}
	row := st.masters.row(d.RowOf(number).Master).Row
	what := "nothing in " + d.Row.Name + " can be read or changed: its master key " + row.Name
	if row.WithdrawnAt != 0 {
		return nil, &Error{Code: NotServable, Reason: "key_withdrawn", Detail: what + " was withdrawn by " + row.WithdrawnBy + " on " +
			FromMicros(row.WithdrawnAt).Format("2006-01-02") + "; whoever has it can give it back"}
	}
	return nil, &Error{Code: Locked, Reason: "key_missing", Detail: what + " is not at hand since the chest was unlocked; whoever has it " +
		"can give it back"}
}

// Manages reports whether a caller may withdraw a master key, give it back, and take drawers from under it: its owner, a member of the
// team that is, and an operator of the chest.
func (st *Snapshot) Manages(c Caller, row entity.MasterKey, now time.Time) bool {
	owner, known := st.IdentityOf(row.Owner)
	return known && (owner.ID == c.ID || slices.Contains(st.Holders(owner.ID), c.ID)) ||
		st.Decide(c.ID, access.Operate, c.Context(now)).Allowed
}

// Leaves refuses to take something from under a master key to whoever may not withdraw that key: its owner could close it, and could not
// any more. To is the master key that it comes under, empty for none.
func (a *Attempt) Leaves(d *Drawer, to string) error {
	for _, row := range d.AllKeys() {
		from := a.St.masters.row(row.Master).Row
		if from.ID == "" || from.ID == to || a.St.Manages(a.Caller, from, a.Entry.At) {
			continue
		}
		return a.Refuse(&Error{Code: Refused, Reason: MasterKeyOwner, Detail: a.Entry.Subject + " may not take anything from under master key " +
			from.Name + ": only its owner, " + cmp.Or(from.Owner, "whom it does not have") + ", and operators of the chest may"})
	}
	return nil
}

// masterMark is touched by whatever a master key's use rests on: the key itself, and which drawers are under it.
func masterMark(id string) string { return "master key " + id }

// RestOnMaster lets it rest on a master key, and on which drawers are under it.
func (a *Attempt) RestOnMaster(id string) {
	a.basis.RestOn(store.MarkName, masterMark(id))
}

// Hold takes the material of a master key that is not stored; undo lets go of it again.
func (c *Chest) Hold(id string, material secretvalue.Value) (undo func()) {
	return c.hand.Hold(id, material)
}

// Borrow takes what another heart holds of that kind, for a look at a copy of the chest.
func (c *Chest) Borrow(other *Chest) { c.hand.Borrow(&other.hand) }

// putMaster follows a master key's row, and opens or closes the keys of the drawers under it.
func (d *Draft) putMaster(row entity.MasterKey, removed bool) error {
	d.touch(store.MarkName, masterMark(row.ID))
	d.touch(store.MarkAccess, "")
	before := d.masters.row(row.ID)
	if removed { // no drawer is under it
		d.masters.Delete(row.ID)
		d.forget(before)
		return nil
	}
	next, err := before.With(d.root, &d.chest.hand, row)
	if err != nil {
		return err
	}
	d.masters.Set(row.ID, &next)
	if (before.Key == nil) == (next.Key == nil) {
		return nil
	}
	for _, drawer := range d.Drawers() {
		if !drawer.IsUnder(row.ID) {
			continue
		}
		after, closed := *drawer, []*envelope.Key(nil)
		if after.Set, closed, err = drawer.Following(d.root, next); err != nil {
			return err
		}
		d.retired = append(d.retired, closed...)
		d.keepDrawer(&after)
		d.touch(store.MarkDrawer, drawer.Row.ID)
	}
	if next.Key == nil {
		d.forget(before)
	}
	return nil
}

// forget lets a master key that was at hand go, with what was opened by it.
func (d *Draft) forget(m drawerkeys.Master) {
	if m.Key != nil {
		d.retired = append(d.retired, m.Key)
	}
	d.gone = append(d.gone, m.Row.ID)
}
