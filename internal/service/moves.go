package service

import (
	"fmt"
	"slices"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// Alias is a name that an item had before, under which it is still served.
type Alias struct {
	Reference string
	Until     time.Time
	By        string
	Users     []Reader // who reads it under that name
}

// longestAlias bounds how long an old name goes on working.
const longestAlias = 400 * 24 * time.Hour

// aliasOf finds the alias that an old name is, if it still works at a moment.
func (st *state) aliasOf(d *drawer, name string, now time.Time) (store.Alias, bool) {
	alias, known := st.aliases[[2]string{d.row.ID, name}]
	return alias, known && now.Before(fromMicros(alias.NotAfter))
}

// unused refuses a name that still is an old one of an item: whoever reads it would get something else.
func (st *state) unused(d *drawer, name string, now time.Time) error {
	alias, works := st.aliasOf(d, name, now)
	if !works {
		return nil
	}
	return &Error{Code: Exists, Detail: fmt.Sprintf("%s/%s is still an old name of another item, until %s; end that first (tansu item forget-name)",
		d.row.Name, name, fromMicros(alias.NotAfter).Format(time.RFC3339))}
}

// renamed finds the item that once had a name, and where it is now; nil when there is none.
func (st *state) renamed(old *drawer, name string) (*drawer, *item, error) {
	alias, known := st.aliasOf(old, name, st.items.now())
	if !known {
		return nil, nil, nil
	}
	rows, err := st.items.records.ItemByID(alias.Item)
	if err != nil {
		st.items.log.Error("an item cannot be read", "item", alias.Item, "error", err)
		return nil, nil, errDamaged
	}
	for _, d := range st.drawers {
		if d.row.ID == rows.Item.Drawer && rows.Item.ShreddedAt == 0 {
			it, err := st.find(d, rows.Item.Name)
			return d, it, err
		}
	}
	return nil, nil, nil
}

// aliasesOf lists the names under which an item is served besides its own.
func (st *state) aliasesOf(it *item, now time.Time) (list []Alias) {
	for _, alias := range st.aliases {
		if alias.Item != it.row.ID || !now.Before(fromMicros(alias.NotAfter)) {
			continue
		}
		for name, d := range st.drawers {
			if d.row.ID == alias.Drawer {
				list = append(list, Alias{Reference: name + "/" + alias.Name, Until: fromMicros(alias.NotAfter), By: alias.CreatedBy})
			}
		}
	}
	slices.SortFunc(list, func(x, y Alias) int { return x.Until.Compare(y.Until) })
	return list
}

// NewPlace is where an item goes.
type NewPlace struct {
	To    reference.Reference // a drawer and a name
	Alias time.Duration       // how long the old name goes on working; 0 for not at all
}

// Moved is an item in its new place.
type Moved struct {
	Item
	Old     string
	Until   time.Time // the old name works until then; zero when it does not any more
	Readers []Reader  // who read it under the old name in the last 90 days
}

// Move renames an item, or moves it to another drawer, where it is encrypted under that drawer's key. Its history goes
// with it. References to the old name break, unless they go on working for a while: then who may read the old one still
// may, under the old name.
func (s *Service) Move(c Caller, ref reference.Reference, n NewPlace) (m Moved, err error) {
	if n.Alias < 0 || n.Alias > longestAlias {
		return m, invalid("alias", "an old name goes on working for at most %d days", int(longestAlias.Hours()/24))
	}
	if n.To == ref {
		return m, invalid("to", "that is where it is")
	}
	a, err := s.allow(c, access.ChangeItem, ref.Drawer, ref.Item)
	if err != nil {
		return m, err
	}
	a.entry.Action, a.entry.Detail = "move_item", "to "+n.To.String()
	if _, err := s.allow(c, access.WriteVersion, n.To.Drawer, n.To.Item); err != nil {
		return m, err
	}
	if m.Readers, err = s.readersOf(ref.String(), a.entry.At.Add(-90*24*time.Hour)); err != nil {
		return m, a.fail(err)
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	if err := s.mayOpenUp(c, a, ref, n.To); err != nil {
		return m, err
	}
	var mv moving
	err = s.view(func(st *state) (err error) { mv, err = s.planMove(st, c, ref, n, a); return err })
	if err != nil {
		return m, a.fail(err)
	}
	err = a.change("item "+n.To.String(), mv.rows, func(st *state) {
		from, to := st.drawers[ref.Drawer], st.drawers[n.To.Drawer]
		st.items.forget(from, ref.Item)
		for _, ended := range mv.ended {
			delete(st.aliases, [2]string{ended.Drawer, ended.Name})
		}
		if mv.alias.ID != "" {
			st.aliases[[2]string{mv.alias.Drawer, mv.alias.Name}] = mv.alias
			m.Until = fromMicros(mv.alias.NotAfter)
		}
		for _, v := range mv.versions {
			s.contents.forget(v.ID)
		}
		m.Item = describeItem(to, st.keep(to, mv.item, mv.versions), a.entry.At)
	})
	m.Old = ref.String()
	return m, err
}

// moving is what a move does to rows.
type moving struct {
	before, item  store.Item
	was, versions []store.Version
	contents      map[string][]byte // by version, when it goes to another drawer
	alias         store.Alias       // without an id for none
	ended         []store.Alias     // in whose place the item, or its old name, comes
}

func (s *Service) planMove(st *state, c Caller, ref reference.Reference, n NewPlace, a *attempt) (mv moving, err error) {
	from, it, err := st.item(ref)
	if err != nil {
		return mv, s.hint(st, c, ref, err, a.entry.At)
	}
	to := st.drawers[n.To.Drawer]
	if to == nil {
		return mv, notFound("drawer "+n.To.Drawer, s.nearestDrawer(st, c, n.To.Drawer, a.entry.At))
	}
	if there, err := st.find(to, n.To.Item); there != nil || err != nil {
		return mv, errorOr(err, &Error{Code: Exists, Detail: "item " + n.To.String() + " exists already; its name is free when it is shredded"})
	}
	alias := st.aliases[[2]string{to.row.ID, n.To.Item}]
	if alias.ID != "" && alias.Item != it.row.ID {
		if err := st.unused(to, n.To.Item, a.entry.At); err != nil {
			return mv, err
		}
	}
	for _, ended := range []store.Alias{alias, st.aliases[[2]string{from.row.ID, ref.Item}]} {
		if ended.ID != "" {
			mv.ended = append(mv.ended, ended)
		}
	}
	if err := checkOwned(to, it.row.Owner, a.entry.At); err != nil {
		return mv, err
	}
	mv.before, mv.item, mv.was, mv.versions = it.row, it.row, it.versions, slices.Clone(it.versions)
	mv.item.Drawer, mv.item.Name = to.row.ID, n.To.Item
	if from != to {
		if err := s.rewrap(from, to, it, &mv); err != nil {
			return mv, err
		}
	}
	if n.Alias > 0 {
		mv.alias = store.Alias{ID: newID("al_"), Drawer: from.row.ID, Name: ref.Item, Item: it.row.ID, NotAfter: micros(a.entry.At.Add(n.Alias).Truncate(time.Second)),
			CreatedAt: micros(a.entry.At), CreatedBy: c.name}
		a.entry.Detail += ", the old name works until " + fromMicros(mv.alias.NotAfter).Format(time.RFC3339)
	}
	return mv, nil
}

func errorOr(err error, otherwise *Error) error {
	if err != nil {
		return err
	}
	return otherwise
}

// rewrap encrypts the versions for their new place. What is bound to a place is bound to its drawer, so that the bytes
// are encrypted anew.
func (s *Service) rewrap(from, to *drawer, it *item, mv *moving) error {
	mv.contents = map[string][]byte{}
	for i, v := range it.versions {
		if v.ShreddedAt != 0 {
			continue
		}
		content, err := s.openVersion(from, it, v.Number)
		if err != nil {
			return err
		}
		sealed := envelope.SealVersion(to.key, s.place(to, mv.item, v.Number), content)
		clear(content)
		mv.versions[i].WrappedKey, mv.versions[i].DrawerKey = sealed.WrappedKey, to.keyNumber
		mv.contents[v.ID] = sealed.Ciphertext
	}
	return nil
}

func (mv *moving) rows(tx *store.Tx) (err error) {
	for _, ended := range mv.ended {
		if err := store.Delete(tx, ended); err != nil {
			return err
		}
	}
	if mv.item, err = store.Update(tx, mv.before, mv.item); err != nil {
		return err
	}
	for i := range mv.versions {
		content, moves := mv.contents[mv.versions[i].ID]
		if !moves {
			continue
		}
		if mv.versions[i], err = store.Update(tx, mv.was[i], mv.versions[i]); err != nil {
			return err
		}
		if err := tx.ReplaceContent(mv.versions[i].ID, content); err != nil {
			return err
		}
	}
	if mv.alias.ID != "" {
		mv.alias, err = store.Insert(tx, mv.alias)
	}
	return err
}

// mayOpenUp keeps a move from being a way around grants: one that lets anybody do more with the item takes the right to
// give access to it, and nobody lets themselves do more by one.
func (s *Service) mayOpenUp(c Caller, a *attempt, from, to reference.Reference) error {
	var o opening
	err := s.view(func(st *state) error {
		_, it, err := st.item(from)
		if err != nil {
			return err
		}
		old, new := st.target(from.Drawer, from.Item), st.target(to.Drawer, to.Item)
		approval := true
		if d := st.drawers[to.Drawer]; d != nil {
			moved, err := newItem(d, store.Shelved{Item: renamedRow(it.row, to.Item)})
			if err != nil {
				return err
			}
			new.Labels, approval = moved.labels, moved.approval
		}
		for id, row := range st.identities {
			more := st.policy.Actions(id, new, a.entry.At)&^st.policy.Actions(id, old, a.entry.At) | st.policy.Firm(id, new, a.entry.At)&^st.policy.Firm(id, old, a.entry.At)
			if it.approval && !approval {
				more |= st.policy.Actions(id, new, a.entry.At) & (access.ReadValue | access.UseKey)
			}
			if more != 0 {
				o.opens = true
				o.own = o.own || id == c.id || c.controls(row)
			}
		}
		o.steward = st.isSteward(c, a.entry.At)
		o.decision = st.decide(c.id, access.GrantAccess, c.context(a.entry.At), from.Drawer, from.Item)
		return nil
	})
	if err != nil {
		return a.fail(err)
	}
	return a.mayOpen(o, from.String(), "let others do more with "+from.String()+" by moving it")
}

func renamedRow(row store.Item, name string) store.Item {
	row.Name = name
	return row
}

// EndAlias makes an old name stop working at once.
func (s *Service) EndAlias(c Caller, ref reference.Reference) error {
	a, err := s.allow(c, access.ChangeItem, ref.Drawer, ref.Item)
	if err != nil {
		return err
	}
	a.entry.Action = "end_alias"
	s.changing.Lock()
	defer s.changing.Unlock()
	var alias store.Alias
	err = s.view(func(st *state) error {
		if d := st.drawers[ref.Drawer]; d != nil {
			alias = st.aliases[[2]string{d.row.ID, ref.Item}]
		}
		if alias.ID == "" {
			return notFound("old name "+ref.String(), "")
		}
		return nil
	})
	if err != nil {
		return a.fail(err)
	}
	return a.change("old name "+ref.String(), func(tx *store.Tx) error { return store.Delete(tx, alias) },
		func(st *state) { delete(st.aliases, [2]string{alias.Drawer, alias.Name}) })
}
