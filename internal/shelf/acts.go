package shelf

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/usage"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/trail"
	"tansu/internal/entity"
	"tansu/internal/horizon"
	"tansu/internal/store"
)

// Act does something with an item or, when the reference has a version, with that version; it is effective at once. To
// shred, the name typed must be the exact reference: it destroys the data keys, and nothing brings them back.
func (s *Shelf) Act(c chest.Caller, ref reference.Reference, act lifecycle.Act, typed string) (it Item, versions []Version, err error) {
	right, known := usage.Rights[act]
	if !known {
		return it, nil, chest.Invalid("act", "%.40q is not an act; the acts are %v", act, lifecycle.Acts)
	}
	err = s.heart.Try(func() error {
		a, err := s.heart.Allow(c, right, ref.Drawer, ref.Item)
		if err != nil {
			return err
		}
		a.Entry.Action, a.Entry.Version = string(act)+"_item", ref.Version
		if ref.Version != 0 {
			a.Entry.Action = string(act) + "_version"
		}
		if act == lifecycle.Shred && typed != ref.String() {
			return a.Fail(chest.Invalid("name", "to shred it, type its exact name: %s", ref))
		}
		d, found, err := a.St.ItemOf(ref)
		if err != nil {
			return a.Fail(a.St.Hint(c, ref, err, a.Entry.At))
		}
		if err := actOn(a, found, act, ref.Version); err != nil {
			return a.Fail(err)
		}
		if act == lifecycle.Shred && found.Life.Rules.At(a.Entry.At).TwoToShred {
			id := found.Row.ID
			if ref.Version != 0 {
				id += "@" + strconv.Itoa(ref.Version)
			}
			if err := seconded(a, id, ref.String()); err != nil {
				return err
			}
		}
		if err := a.Commit("item " + ref.String()); err != nil {
			return err
		}
		if after, _ := a.After().Find(d, ref.Item); after != nil && after.Row.ID == found.Row.ID {
			found = after
		} else if found, err = shreddedItem(a, d, found); err != nil {
			return err
		}
		it, versions = Describe(d, found, a.Entry.At), history(found, a.Entry.At)
		return nil
	})
	if err != nil {
		return Item{}, nil, err
	}
	if act == lifecycle.Shred {
		s.forgetJournal()
	}
	return it, versions, nil
}

// shreddedItem is an item as a change left it, when it is not to be found by its name any more.
func shreddedItem(a *chest.Attempt, d *chest.Drawer, was *chest.Item) (*chest.Item, error) {
	rows := store.Shelved{Item: store.Stored[entity.Item](&a.Change, was.Row.ID), Versions: slices.Clone(was.Versions)}
	for i, v := range rows.Versions {
		if after := store.Stored[entity.Version](&a.Change, v.ID); after.ID != "" {
			rows.Versions[i] = after
		}
	}
	return chest.ItemFrom(d, rows)
}

// seconded refuses to shred something to which nobody else has agreed, where the rules ask for that.
func seconded(a *chest.Attempt, id, name string) error {
	return a.Seconded(chest.RequestShred, id, "the rules of the drawer ask for a second person who agrees to shredding "+name)
}

// actOn puts what an act does to an item's rows into an attempt's change. The item's row gets a new revision whatever changes, so that
// writers who read it before notice.
func actOn(a *chest.Attempt, it *chest.Item, act lifecycle.Act, version int) error {
	after, err := it.Life.Do(act, version, a.Entry.At)
	if err != nil {
		return &chest.Error{Code: chest.NotPossible, Detail: err.Error(), Err: err}
	}
	if act == lifecycle.Promote && certrow.Of(it.Versions[version-1].Facts).Waits() {
		return &chest.Error{Code: chest.NotPossible, Detail: "this version is a key whose certificate was requested, and has not come: put the " +
			"answer in (tansu cert answer)"}
	}
	row, versions := it.Row, slices.Clone(it.Versions)
	row.Held, row.Suspended, row.RetiredAt = after.Held, after.Suspended, chest.Micros(after.RetiredAt)
	if after.Shredded {
		// The row stays as history and gives its name free; ids have a character that names of items may have too, but
		// eighty random bits that nobody chooses.
		row.ShreddedAt, row.ShreddedBy = chest.Micros(a.Entry.At), a.Entry.Subject
		row.ShreddedName, row.Name = it.Row.Name, it.Row.ID
	}
	var changed []int
	for i, v := range after.Versions {
		if v == it.Life.Versions[i] {
			continue
		}
		versions[i].Staged, versions[i].Suspended = v.Staged, v.Suspended
		if v.Shredded {
			versions[i].ShreddedAt, versions[i].WrappedKey = chest.Micros(a.Entry.At), chest.NoKey
		}
		changed = append(changed, i)
	}
	if !after.Used.Equal(it.Life.Used) {
		row.AwakeAt = chest.Micros(after.Used)
	}
	a.Change.Update(it.Row, horizon.Of(row, versions, a.Entry.At))
	for _, i := range changed {
		a.Change.Update(it.Versions[i], versions[i])
		if versions[i].ShreddedAt != 0 {
			a.Change.DropContent(versions[i].ID)
		}
	}
	return nil
}

// prune shreds the versions of an item that a rule does not keep any more when one is added: it puts those rows, without keys, in the
// place of theirs, and into the attempt's change, with an entry for each.
func prune(a *chest.Attempt, d *chest.Drawer, row entity.Item, versions []entity.Version) (notes []string) {
	own, _ := chest.ParseRules(row.Rules)
	life := chest.LifeOf(store.Shelved{Item: row, Versions: versions}, chest.ScheduleFor(row, d.Schedule).And(own))
	for _, number := range life.Surplus(a.Entry.At) {
		if row.KeyType != "" && number >= row.DecryptFrom { // what it encrypted would be lost
			return append(notes, "a rule of the drawer keeps fewer versions; of a key, those stay that still decrypt (tansu key decrypt-from)")
		}
		before := versions[number-1]
		after := before
		after.ShreddedAt, after.WrappedKey = chest.Micros(a.Entry.At), chest.NoKey
		versions[number-1] = after
		a.Change.Update(before, after)
		a.Change.DropContent(after.ID)
		entry := a.Entry
		entry.Action, entry.Target, entry.Version, entry.Outcome = "shred_version", d.Row.Name+"/"+row.Name, number, trail.Allowed
		entry.ItemID, entry.DrawerID = row.ID, d.Row.ID
		entry.Detail = fmt.Sprintf("by a rule of the drawer: %d versions are kept", life.Rules.At(a.Entry.At).Keep)
		a.More = append(a.More, entry)
		notes = append(notes, fmt.Sprintf("version %d is shredded, because a rule of the drawer keeps fewer versions", number))
	}
	return notes
}

// history describes an item's versions, newest first.
func history(it *chest.Item, now time.Time) []Version {
	current, _ := itemState(it.Life, now)
	versions := make([]Version, 0, len(it.Versions))
	for number := len(it.Versions); number > 0; number-- {
		versions = append(versions, describeVersion(it, number, current, now))
	}
	return versions
}

// Readers lists who read an item's value since a moment, those of the oldest versions first: under whatever name it was read.
func (s *Shelf) Readers(c chest.Caller, ref reference.Reference, since time.Time) (list []usage.Reader, err error) {
	a, err := s.heart.Allow(c, access.SeeMetadata, ref.Drawer, ref.Item)
	if err != nil {
		return nil, err
	}
	a.Entry.Detail = "who reads it"
	d, it, err := a.St.ReadItem(ref)
	if err != nil {
		return nil, a.Fail(a.St.Hint(c, ref, err, a.Entry.At))
	}
	if list, err = usage.Readers(s.records, it.Row.ID, []string{d.Row.Name + "/" + it.Row.Name}, since); err != nil {
		return nil, a.Fail(err)
	}
	return chest.Reply(a, list)
}

// Shredded is what is left of an item.
type Shredded struct {
	Name     string
	At       time.Time
	By       string
	Versions int
}

// Shredded lists what was shredded in a drawer, newest first, for whoever may list the drawer.
func (s *Shelf) Shredded(c chest.Caller, drawer string) (list []Shredded, err error) {
	if err := chest.CheckName("drawer", drawer); err != nil {
		return nil, err
	}
	a, err := s.heart.Allow(c, access.List, drawer)
	if err != nil {
		return nil, err
	}
	d := a.St.Drawer(drawer)
	if d == nil {
		return nil, a.Fail(chest.Missing("drawer "+drawer, a.St.NearestDrawer(c, drawer, a.Entry.At)))
	}
	err = a.St.Each(d, store.ItemFilter{Shredded: true}, func(it *chest.Item) bool {
		list = append(list, Shredded{Name: it.Row.ShreddedName, At: chest.FromMicros(it.Row.ShreddedAt), By: it.Row.ShreddedBy,
			Versions: len(it.Versions)})
		return true
	})
	if err != nil {
		return nil, a.Fail(err)
	}
	slices.SortFunc(list, func(x, y Shredded) int { return y.At.Compare(x.At) })
	return chest.Reply(a, list)
}
