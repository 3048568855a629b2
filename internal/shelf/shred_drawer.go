package shelf

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/reference"

	"tansu/internal/core/access"
	"tansu/internal/core/trail"
	"tansu/internal/entity"
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
	Now       string // the item's own name, for whoever may list it; empty otherwise
}

// ShredDrawer destroys a drawer's key, and with it chest.Everything that was ever put into it: nobody reads it again from this
// database. All items must be retired or shredded, and the name typed must be the exact one.
func (s *Shelf) ShredDrawer(c chest.Caller, name, typed string) (r ShreddedDrawer, err error) {
	if err := chest.CheckName("drawer", name); err != nil {
		return r, err
	}
	scope, err := access.ParseScope(name + "/**")
	if err != nil {
		return r, chest.Invalid("drawer", "%s", err)
	}
	err = s.heart.Try(func() error {
		r, err = s.shredDrawer(c, name, typed, scope)
		return err
	})
	if err != nil {
		return ShreddedDrawer{}, err
	}
	s.forgetJournal()
	return r, nil
}

func (s *Shelf) shredDrawer(c chest.Caller, name, typed string, scope access.Scope) (r ShreddedDrawer, err error) {
	a := s.heart.Attempt(c, "shred_drawer", name).RestOnAccess()
	if err := a.Err(); err != nil {
		return r, err
	}
	decision := a.St.Policy.DecideScope(c.ID, access.Shred, scope, c.Context(a.Entry.At))
	remedy := &chest.Remedy{Subject: c.Name, Role: access.SmallestRole(a.St.AllRoles(), access.Shred).Name, Scope: name + "/**"}
	if err := a.Answered(decision, "shred everything in "+name, "", remedy); err != nil {
		return r, err
	}
	if typed != name {
		return r, a.Fail(chest.Invalid("name", "to shred it, type its exact name: %s", name))
	}
	d := a.St.Drawer(name)
	if d == nil {
		return r, a.Fail(chest.Missing("drawer "+name, a.St.NearestDrawer(c, name, a.Entry.At)))
	}
	a.RestOnSpot(a.St.At(name))
	a.St.Given(func(g entity.Grant) bool {
		if parsed, err := access.ParseScope(g.Scope); err == nil && scope.Covers(parsed) {
			r.Grants = append(r.Grants, g.Scope)
		}
		return true
	})
	r.OldNames = leadingOut(a, d)
	items, two, err := emptyDrawer(a, d)
	if err != nil {
		return r, a.Fail(err)
	}
	if two || d.Schedule.At(a.Entry.At).TwoToShred {
		if err := seconded(a, d.Row.ID, name); err != nil {
			return r, err
		}
	}
	r.Name, r.At, r.By, r.Items = name, a.Entry.At, c.Name, items
	a.Entry.Detail = "with " + reference.Counted(items, "item")
	return r, a.Commit("drawer " + name)
}

// leadingOut lists the old names in a drawer by which items elsewhere are still read.
func leadingOut(a *chest.Attempt, d *chest.Drawer) (list []OldName) {
	for _, alias := range a.St.AliasesIn(d.Row.ID) {
		home, it, err := a.St.Renamed(d, alias.Name, a.Entry.At)
		if err != nil || it == nil || home == d {
			continue
		}
		old := OldName{Reference: d.Row.Name + "/" + alias.Name}
		if a.St.MayList(a.Caller, home, it, a.Entry.At) {
			old.Now = home.Row.Name + "/" + it.Row.Name
		}
		list = append(list, old)
	}
	slices.SortFunc(list, func(x, y OldName) int { return strings.Compare(x.Reference, y.Reference) })
	return list
}

// emptyDrawer puts the shredding of a drawer and of all that is in it into an attempt's change, and counts the items; two says that
// the rules of one of them ask for two.
func emptyDrawer(a *chest.Attempt, d *chest.Drawer) (count int, two bool, err error) {
	at, by := chest.Micros(a.Entry.At), a.Entry.Subject
	row := d.Row
	row.ShreddedAt, row.ShreddedBy, row.ShreddedName, row.Name = at, by, d.Row.Name, d.Row.ID
	for _, k := range append(d.OldKeys(), d.KeyRow) {
		destroyed := k
		destroyed.Wrapped = chest.NoKey
		a.Change.Update(k, destroyed)
	}
	for _, alias := range a.St.AliasesIn(d.Row.ID) {
		a.Change.Delete(alias)
	}
	var problem error
	err = a.St.All(d, func(it *chest.Item) {
		if it.Life.RetiredAt.IsZero() && problem == nil {
			problem = &chest.Error{Code: chest.NotPossible, Detail: fmt.Sprintf("%s/%s is not retired: retire everything in it first, so that "+
				"somebody who still needs it notices", d.Row.Name, it.Row.Name)}
		}
		count++
		two = two || it.Life.Rules.At(a.Entry.At).TwoToShred
		after := it.Row
		after.ShreddedAt, after.ShreddedBy, after.ShreddedName, after.Name = at, by, it.Row.Name, it.Row.ID
		a.Change.Update(it.Row, after)
		for _, v := range it.Versions {
			if v.ShreddedAt == 0 {
				shredded := v
				shredded.ShreddedAt, shredded.WrappedKey = at, chest.NoKey
				a.Change.Update(v, shredded)
				a.Change.DropContent(v.ID)
			}
		}
		entry := a.Entry
		entry.Action, entry.Target, entry.Outcome, entry.Detail = "shred_item", d.Row.Name+"/"+it.Row.Name, trail.Allowed, "with its drawer"
		entry.ItemID, entry.DrawerID = it.Row.ID, d.Row.ID
		a.More = append(a.More, entry)
	})
	a.Change.Update(d.Row, row)
	return count, two, cmp.Or(err, problem)
}

// ShreddedDrawers lists what is left of drawers, for whoever may list everything.
func (s *Shelf) ShreddedDrawers(c chest.Caller) (list []ShreddedDrawer, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverDrawers)
	if err != nil {
		return nil, err
	}
	a.Entry.Detail = "shredded ones"
	// names that somebody could not list are no news to them
	if a.St.Policy.DecideScope(c.ID, access.List, chest.Everything, c.Context(a.Entry.At)).Allowed {
		for _, row := range a.St.ShreddedDrawers() {
			list = append(list, ShreddedDrawer{Name: row.ShreddedName, At: chest.FromMicros(row.ShreddedAt), By: row.ShreddedBy})
		}
	}
	return chest.Reply(a, list)
}
