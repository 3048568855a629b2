package shelf

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"tansu/internal/chest"
	"tansu/internal/usage"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/powers"
	"tansu/internal/store"
)

// Alias is a name that an item had before, under which it is still served.
type Alias struct {
	Reference string
	Until     time.Time
	By        string
	Users     []usage.Reader // who reads it under that name
}

// longestAlias bounds how long an old name goes on working.
const longestAlias = 400 * 24 * time.Hour

// unused refuses a name that is still in use as an old name of another item: its readers would get something else.
func unused(st *chest.Snapshot, d *chest.Drawer, name string, now time.Time) error {
	alias, works := st.WorkingAlias(d, name, now)
	if !works {
		return nil
	}
	return &chest.Error{Code: chest.Exists, Detail: fmt.Sprintf("%s/%s is still an old name of another item, until %s; end that first "+
		"(tansu item forget-name)",
		d.Row.Name, name, chest.FromMicros(alias.NotAfter).Format(time.RFC3339))}
}

// aliasesOf lists the names under which an item is served besides its own, and who reads it under them.
func (s *Shelf) aliasesOf(st *chest.Snapshot, it *chest.Item, now time.Time) (list []Alias, err error) {
	for _, alias := range st.AliasesOf(it.Row.ID) {
		d := st.DrawerByID(alias.Drawer)
		if d == nil || !now.Before(chest.FromMicros(alias.NotAfter)) {
			continue
		}
		one := Alias{Reference: d.Row.Name + "/" + alias.Name, Until: chest.FromMicros(alias.NotAfter), By: alias.CreatedBy}
		if one.Users, err = usage.Readers(s.records, "", []string{one.Reference}, now.Add(-lately)); err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	slices.SortFunc(list, func(x, y Alias) int { return x.Until.Compare(y.Until) })
	return list, nil
}

// lately is in which time somebody has read something who counts as its reader.
const lately = 90 * 24 * time.Hour

// NewPlace is where an item goes.
type NewPlace struct {
	To    reference.Reference // a drawer and a name
	Alias time.Duration       // how long the old name goes on working; 0 for not at all
}

// Moved is an item in its new place.
type Moved struct {
	Item
	Old     string
	Until   time.Time      // the old name works until then; zero when it does not any more
	Readers []usage.Reader // who read it under the old name in the last 90 days
}

// Move renames an item, or moves it to another drawer, where it is encrypted under that drawer's key. Its history goes
// with it. References to the old name break, unless they go on working for a while: then who may read the old one still
// may, under the old name.
func (s *Shelf) Move(c chest.Caller, ref reference.Reference, n NewPlace) (m Moved, err error) {
	if n.Alias < 0 || n.Alias > longestAlias {
		return m, chest.Invalid("alias", "an old name goes on working for at most %d days", int(longestAlias.Hours()/24))
	}
	if n.To == ref {
		return m, chest.Invalid("to", "that is where it is")
	}
	err = s.heart.Try(func() error {
		m = Moved{Old: ref.String()}
		a, err := s.heart.Allow(c, access.ChangeItem, ref.Drawer, ref.Item)
		if err != nil {
			return err
		}
		a.RestOnAccess()
		a.Entry.Action, a.Entry.Detail = "move_item", "to "+n.To.String()
		if _, err := s.heart.Allow(c, access.WriteVersion, n.To.Drawer, n.To.Item); err != nil {
			return err
		}
		if m.Readers, err = usage.Readers(s.records, "", []string{ref.String()}, a.Entry.At.Add(-lately)); err != nil {
			return a.Fail(err)
		}
		if err := mayOpenUp(a, ref, n.To); err != nil {
			return err
		}
		if from, to := a.St.At(ref.Drawer, ref.Item).Home, a.St.Drawer(n.To.Drawer); from != nil && to != nil && from != to {
			a.RestBeside(a.St.At(n.To.Drawer)) // its key may be another one
			if err := a.Leaves(from, to.KeyRow.Master); err != nil {
				return err
			}
		}
		if m.Until, err = move(a, ref, n); err != nil {
			return a.Fail(err)
		}
		if err := a.Commit("item " + n.To.String()); err != nil {
			return err
		}
		d, it, err := a.After().ItemOf(n.To)
		if err != nil {
			return err
		}
		m.Item = Describe(d, it, a.Entry.At)
		return nil
	})
	return m, err
}

// move puts a move into an attempt's change, and returns until when the old name works.
func move(a *chest.Attempt, ref reference.Reference, n NewPlace) (until time.Time, err error) {
	st, now := a.St, a.Entry.At
	from, it, err := st.ItemOf(ref)
	if err != nil {
		return until, st.Hint(a.Caller, ref, err, now)
	}
	to := st.Drawer(n.To.Drawer)
	if to == nil {
		return until, chest.Missing("drawer "+n.To.Drawer, st.NearestDrawer(a.Caller, n.To.Drawer, now))
	}
	if there, err := st.Find(to, n.To.Item); there != nil || err != nil {
		return until, errorOr(err, &chest.Error{Code: chest.Exists, Detail: "item " + n.To.String() +
			" exists already; its name is free when it is shredded"})
	}
	if err := cmp.Or(lookalike(st, to, n.To.Item, it.Row.ID, now), checkOwned(to, it.Row.Owner, now)); err != nil {
		return until, err
	}
	taken, _ := st.Alias(to.Row.ID, n.To.Item)
	if taken.ID != "" && taken.Item != it.Row.ID {
		if err := unused(st, to, n.To.Item, now); err != nil {
			return until, err
		}
	}
	left, _ := st.Alias(from.Row.ID, ref.Item)
	for _, ended := range []entity.Alias{taken, left} { // in whose place the item, or its old name, comes
		if ended.ID != "" {
			a.Change.Delete(ended)
		}
	}
	row := it.Row
	row.Drawer, row.Name = to.Row.ID, n.To.Item
	a.Change.Update(it.Row, row)
	if from != to {
		if err := rewrap(a, from, to, it, row); err != nil {
			return until, err
		}
	}
	if n.Alias > 0 {
		until = now.Add(n.Alias).Truncate(time.Second)
		a.Change.Insert(entity.Alias{ID: chest.NewID("al_"), Drawer: from.Row.ID, Name: ref.Item, Item: it.Row.ID, NotAfter: chest.Micros(until),
			CreatedAt: chest.Micros(now), CreatedBy: a.Caller.Name})
		a.Entry.Detail += ", the old name works until " + until.Format(time.RFC3339)
	}
	return until, nil
}

func errorOr(err error, otherwise *chest.Error) error {
	if err != nil {
		return err
	}
	return otherwise
}

// rewrap encrypts the versions for their new place. What is bound to a place is bound to its drawer, so that the bytes
// are encrypted anew.
func rewrap(a *chest.Attempt, from, to *chest.Drawer, it *chest.Item, row entity.Item) error {
	key, err := a.St.OpenKey(to, to.KeyNumber)
	if err != nil {
		return err
	}
	for _, v := range it.Versions {
		if v.ShreddedAt != 0 {
			continue
		}
		content, err := a.St.Content(from, it, v.Number)
		if err != nil {
			return err
		}
		sealed := envelope.SealVersion(key, a.St.Place(to, row, v.Number), content)
		clear(content)
		after := v
		after.WrappedKey, after.DrawerKey = sealed.WrappedKey, to.KeyNumber
		a.Change.Update(v, after)
		a.Change.PutContent(v.ID, sealed.Ciphertext)
	}
	return nil
}

// mayOpenUp keeps a move from being a way around grants: one that lets anybody do more with the item takes the right to
// give access to it, and nobody lets themselves do more by one.
func mayOpenUp(a *chest.Attempt, from, to reference.Reference) error {
	st, c, now := a.St, a.Caller, a.Entry.At
	home, it, err := st.ItemOf(from)
	if err != nil {
		return a.Fail(st.Hint(c, from, err, now))
	}
	old, next := st.Target(from.Drawer, from.Item), access.Target{Names: []string{to.Drawer, to.Item}}
	approval := true
	if d := st.Drawer(to.Drawer); d != nil {
		moved, err := chest.ItemFrom(d, store.Shelved{Item: renamedRow(it.Row, to.Item)})
		if err != nil {
			return a.Fail(err)
		}
		next.Labels, approval = moved.Labels, moved.Approval
		if chest.ApprovalLess(it.ApprovalOf(home), moved.ApprovalOf(d)) || it.Life.Rules.LoosensShredding(moved.Life.Rules, now) {
			if err := lifting(a, it.Row.ID, from.String()); err != nil {
				return err
			}
		}
	}
	var o powers.Opening
	st.Policy.Subjects(func(id string, _ []access.Grant) bool {
		more := st.Policy.Actions(id, next, now)&^st.Policy.Actions(id, old, now) | st.Policy.Firm(id, next, now)&^st.Policy.Firm(id, old, now)
		if it.Approval && !approval {
			more |= st.Policy.Actions(id, next, now) & access.Yields
		}
		if more != 0 {
			o.Opens = true
			o.Own = o.Own || st.Own(c, id)
		}
		return true
	})
	o.Steward = st.IsSteward(c, now)
	o.Decision = st.Decide(c.ID, access.GrantAccess, c.Context(now), from.Drawer, from.Item)
	return powers.MayOpen(a, o, from.String(), "let others do more with "+from.String()+" by moving it")
}

func renamedRow(row entity.Item, name string) entity.Item {
	row.Name = name
	return row
}

// EndAlias makes an old name stop working at once.
func (s *Shelf) EndAlias(c chest.Caller, ref reference.Reference) error {
	return s.heart.Try(func() error {
		a, err := s.heart.Allow(c, access.ChangeItem, ref.Drawer, ref.Item)
		if err != nil {
			return err
		}
		a.Entry.Action = "end_alias"
		var alias entity.Alias
		if d := a.St.Drawer(ref.Drawer); d != nil {
			alias, _ = a.St.Alias(d.Row.ID, ref.Item)
		}
		if alias.ID == "" {
			return a.Fail(chest.Missing("old name "+ref.String(), ""))
		}
		a.Change.Delete(alias)
		return a.Commit("old name " + ref.String())
	})
}
