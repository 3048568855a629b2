package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// ShreddedDrawer is what is left of a drawer.
type ShreddedDrawer struct {
	Name   string
	At     time.Time
	By     string
	Items  int
	Grants []string // scopes that still name it, and would hold for another drawer of its name
	// OldNames are references in it that led to items in other drawers, and end with it.
	OldNames []OldName
}

// OldName is a reference that worked after an item had gone to another place.
type OldName struct {
	Reference string
	Now       string // the item's own name, for who may list it; empty otherwise
}

// ShredDrawer destroys a drawer's key, and with it everything that was ever put into it: nobody reads it again from this
// database. All items must be retired or shredded, and the name typed must be the exact one.
func (s *Service) ShredDrawer(c Caller, name, typed string) (r ShreddedDrawer, err error) {
	if err := checkName("drawer", name); err != nil {
		return r, err
	}
	scope, err := access.ParseScope(name + "/**")
	if err != nil {
		return r, invalid("drawer", "%s", err)
	}
	a := s.attempt(c, "shred_drawer", name)
	var decision access.Decision
	err = s.view(func(st *state) error {
		decision = st.policy.DecideScope(c.id, access.Shred, scope, c.context(a.entry.At))
		return nil
	})
	if err != nil {
		return r, err
	}
	if err := a.answered(decision, "shred everything in "+name, "", &Remedy{Subject: c.name, Role: "keeper", Scope: name + "/**"}); err != nil {
		return r, err
	}
	if typed != name {
		return r, a.fail(invalid("name", "to shred it, type its exact name: %s", name))
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	s.keys.Lock()
	defer s.keys.Unlock()
	var shred drawerShredding
	agreed := true
	err = s.view(func(st *state) error {
		d := st.drawers[name]
		if d == nil {
			return notFound("drawer "+name, s.nearestDrawer(st, c, name, a.entry.At))
		}
		if d.schedule.At(a.entry.At).TwoToShred {
			agreed = st.agreed(c, name, a.entry.At)
		}
		for _, g := range st.grants {
			if parsed, err := access.ParseScope(g.Scope); g.EndedAt == 0 && err == nil && scope.Covers(parsed) {
				r.Grants = append(r.Grants, g.Scope)
			}
		}
		r.OldNames = st.leadingOut(c, d, a.entry.At)
		shred, err = st.planDrawer(d, a)
		return err
	})
	if err != nil {
		return r, a.fail(err)
	}
	if !agreed {
		return r, a.needsSecond(name)
	}
	r.Name, r.At, r.By, r.Items = name, a.entry.At, c.name, len(shred.items)
	a.entry.Detail = fmt.Sprintf("with %d items", r.Items)
	err = a.change("drawer "+name, shred.rows, func(st *state) {
		d := st.drawers[name]
		st.items.forgetDrawer(d)
		for _, it := range shred.items {
			for _, v := range it.Versions {
				s.contents.forget(v.ID)
			}
		}
		for key, alias := range st.aliases {
			if alias.Drawer == d.row.ID {
				delete(st.aliases, key)
			}
		}
		d.key.Erase()
		delete(st.drawers, name)
		st.shredded = append(st.shredded, shred.drawer)
	})
	if err != nil {
		return r, err
	}
	if err := s.records.ForgetJournal(); err != nil {
		s.options.Log.Warn("what was shredded may still be in the journal", "error", err)
	}
	return r, nil
}

// leadingOut lists the old names in a drawer by which items elsewhere are still read.
func (st *state) leadingOut(c Caller, d *drawer, now time.Time) (list []OldName) {
	for key := range st.aliases {
		if key[0] != d.row.ID {
			continue
		}
		home, it, err := st.renamed(d, key[1])
		if err != nil || it == nil || home == d {
			continue
		}
		old := OldName{Reference: d.row.Name + "/" + key[1]}
		if st.mayList(c, home, it, now) {
			old.Now = home.row.Name + "/" + it.row.Name
		}
		list = append(list, old)
	}
	slices.SortFunc(list, func(x, y OldName) int { return strings.Compare(x.Reference, y.Reference) })
	return list
}

// drawerShredding is what shredding a drawer does to rows.
type drawerShredding struct {
	before, drawer store.Drawer
	keys           []store.DrawerKey
	items          []store.Shelved // that are not shredded yet
	aliases        []store.Alias
}

func (st *state) planDrawer(d *drawer, a *attempt) (ds drawerShredding, err error) {
	ds.before, ds.drawer, ds.keys = d.row, d.row, []store.DrawerKey{d.keyRow}
	for _, old := range d.old {
		ds.keys = append(ds.keys, old.row)
	}
	ds.drawer.ShreddedAt, ds.drawer.ShreddedBy, ds.drawer.ShreddedName, ds.drawer.Name = micros(a.entry.At), a.entry.Subject, d.row.Name, d.row.ID
	for _, alias := range st.aliases {
		if alias.Drawer == d.row.ID {
			ds.aliases = append(ds.aliases, alias)
		}
	}
	var problem error
	err = st.all(d, func(it *item) {
		if it.life.RetiredAt.IsZero() && problem == nil {
			problem = &Error{Code: NotPossible, Detail: fmt.Sprintf("%s/%s is not retired: retire everything in it first, so that somebody who still needs it notices", d.row.Name, it.row.Name)}
		}
		ds.items = append(ds.items, store.Shelved{Item: it.row, Versions: it.versions})
		entry := a.entry
		entry.Action, entry.Target, entry.Outcome, entry.Detail = "shred_item", d.row.Name+"/"+it.row.Name, trail.Allowed, "with its drawer"
		a.more = append(a.more, entry)
	})
	if err == nil {
		err = problem
	}
	return ds, err
}

func (ds *drawerShredding) rows(tx *store.Tx) (err error) {
	if ds.drawer, err = store.Update(tx, ds.before, ds.drawer); err != nil {
		return err
	}
	for _, key := range ds.keys {
		destroyed := key
		destroyed.Wrapped = noKey
		if _, err := store.Update(tx, key, destroyed); err != nil {
			return err
		}
	}
	for _, alias := range ds.aliases {
		if err := store.Delete(tx, alias); err != nil {
			return err
		}
	}
	for _, it := range ds.items {
		after := it.Item
		after.ShreddedAt, after.ShreddedBy, after.ShreddedName, after.Name = ds.drawer.ShreddedAt, ds.drawer.ShreddedBy, it.Item.Name, it.Item.ID
		if _, err := store.Update(tx, it.Item, after); err != nil {
			return err
		}
		for _, v := range it.Versions {
			shredded := v
			shredded.ShreddedAt, shredded.WrappedKey = ds.drawer.ShreddedAt, noKey
			if v.ShreddedAt != 0 {
				continue
			}
			if _, err := store.Update(tx, v, shredded); err != nil {
				return err
			}
			if err := tx.DeleteContent(v.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// ShreddedDrawers lists what is left of drawers, for who may list everything.
func (s *Service) ShreddedDrawers(c Caller) (list []ShreddedDrawer, err error) {
	a, err := s.allowOverview(c, overDrawers)
	if err != nil {
		return nil, err
	}
	a.entry.Detail = "shredded ones"
	err = s.view(func(st *state) error {
		if !st.policy.DecideScope(c.id, access.List, everything, c.context(a.entry.At)).Allowed {
			return nil // names of drawers that somebody could not list are no news to them
		}
		for _, row := range st.shredded {
			list = append(list, ShreddedDrawer{Name: row.ShreddedName, At: fromMicros(row.ShreddedAt), By: row.ShreddedBy})
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return answer(a, list)
}
