package chest

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/policytext"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Item is an item with all that decides about it. It is never changed: a change puts another one in its place.
type Item struct {
	Row      entity.Item
	Labels   reference.Labels // its own over its drawer's
	Approval bool             // whether its drawer's rules ask for a second person
	Versions []entity.Version // element i is version i+1
	Life     lifecycle.Item   // the same, as what decides
	CanIdle  bool             // whether a rule looks at when it was last read
	Read     time.Time        // when that was, if it was asked for
	drawer   *Drawer          // that it was made with
}

type itemKey struct{ drawer, name string } // the drawer's id

// itemCache keeps items, up to a number of rows, so that a warm read needs no file. It is guarded by memory.mu. What is put in by a
// reader was read at a position; it is not put in if a change has touched it since.
type itemCache struct {
	limit   int // rows
	rows    int
	entries map[itemKey]*Item
	ids     map[string]itemKey // where each is
}

// cachedRows bounds the cache. A row takes about 700 bytes with what hangs on it.
const cachedRows = 40_000

func newItemCache() itemCache {
	return itemCache{limit: cachedRows, entries: map[itemKey]*Item{}, ids: map[string]itemKey{}}
}

func (c *itemCache) clear() {
	clear(c.entries)
	clear(c.ids)
	c.rows = 0
}

func (c *itemCache) put(k itemKey, it *Item) {
	c.drop(k)
	c.entries[k], c.ids[it.Row.ID] = it, k
	c.rows += it.weight()
	// Go visits a map in random order: what is dropped is random, which needs no bookkeeping on a hit.
	for victim := range c.entries {
		if c.rows <= c.limit {
			break
		}
		c.drop(victim)
	}
}

func (c *itemCache) drop(k itemKey) {
	if old := c.entries[k]; old != nil {
		c.rows -= old.weight()
		delete(c.entries, k)
		delete(c.ids, old.Row.ID)
	}
}

// follow brings what is kept in line with changes that were committed, and lists the versions whose contents may not be kept.
func (c *itemCache) follow(st *Snapshot, changes []itemChange) (gone []string) {
	for _, change := range changes {
		for _, v := range change.versions {
			gone = append(gone, v.ID)
		}
		base, known := c.base(change)
		if change.before != nil {
			c.drop(itemKey{change.before.Drawer, change.before.Name})
		}
		if !known {
			continue
		}
		k := itemKey{base.Item.Drawer, base.Item.Name}
		c.drop(k)
		d := st.DrawerByID(base.Item.Drawer)
		if d == nil || base.Item.ShreddedAt != 0 {
			continue
		}
		if it, err := newItem(d, base); err == nil {
			c.put(k, it)
		}
	}
	return gone
}

// base is an item's rows after a change, if they are known without the file.
func (c *itemCache) base(change itemChange) (rows store.Shelved, known bool) {
	if change.before != nil || change.after == nil { // it was there before
		k, kept := c.ids[change.id]
		if !kept {
			return rows, false
		}
		rows.Item, rows.Versions = c.entries[k].Row, slices.Clone(c.entries[k].Versions)
		c.drop(k)
	}
	if change.after != nil {
		rows.Item = *change.after
	}
	for _, v := range change.versions {
		switch {
		case v.Number <= len(rows.Versions):
			rows.Versions[v.Number-1] = v
		case v.Number == len(rows.Versions)+1:
			rows.Versions = append(rows.Versions, v)
		default:
			return rows, false
		}
	}
	return rows, true
}

// Awake is the item with when it was last read.
func (it *Item) Awake(read time.Time) *Item {
	awake := *it
	if awake.Read = read; read.After(it.Life.Used) {
		awake.Life.Used = read
	}
	return &awake
}

// awake is an item with what is known of when it was last read, if a rule about idle items asks for it.
func (st *Snapshot) awake(it *Item) (*Item, error) {
	if !it.CanIdle {
		return it, nil
	}
	read, err := st.chest.LastRead(it.Row.ID, it.drawer.Row.Name+"/"+it.Row.Name)
	if err != nil {
		st.chest.log.Error("reads cannot be counted", "item", it.Row.ID, "error", err)
		return nil, ErrDamaged
	}
	return it.Awake(read), nil
}

func (it *Item) weight() int { return 1 + len(it.Versions) }

// newItem is an item as its rows and its drawer make it.
func newItem(d *Drawer, rows store.Shelved) (*Item, error) {
	own, err := reference.ParseLabels(rows.Item.Labels)
	if err != nil {
		return nil, fmt.Errorf("item %s: %w", rows.Item.ID, err)
	}
	it := &Item{Row: rows.Item, Labels: own.Over(d.Labels), Versions: rows.Versions, drawer: d}
	it.Approval = slices.ContainsFunc(d.approval, func(p reference.Pattern) bool { return p.Matches(d.Row.Name, rows.Item.Name) })
	ownRules, err := ParseRules(rows.Item.Rules)
	if err != nil {
		return nil, fmt.Errorf("item %s: %w", rows.Item.ID, err)
	}
	it.Life = LifeOf(rows, ScheduleFor(rows.Item, d.Schedule).And(ownRules))
	_, idle := it.Life.Rules.Shortest()
	it.CanIdle = idle != 0
	return it, nil
}

// ItemFrom is an item as rows that are not stored yet would make it in a drawer.
func ItemFrom(d *Drawer, rows store.Shelved) (*Item, error) { return newItem(d, rows) }

// ParseRules reads the rules of an item's own.
func ParseRules(text string) (r lifecycle.Rules, err error) {
	if text == "" {
		return r, nil
	}
	err = json.Unmarshal([]byte(text), &r)
	return r, err
}

// ScheduleFor is as much of a drawer's schedule as concerns an item.
func ScheduleFor(row entity.Item, drawer lifecycle.Schedule) lifecycle.Schedule {
	if row.Lasting() {
		return drawer.Lasting()
	}
	return drawer
}

// LifeOf is what decides about an item.
func LifeOf(rows store.Shelved, rules lifecycle.Schedule) lifecycle.Item {
	life := lifecycle.Item{Versions: make([]lifecycle.Version, len(rows.Versions)), Held: rows.Item.Held, Suspended: rows.Item.Suspended,
		RetiredAt: FromMicros(rows.Item.RetiredAt), Shredded: rows.Item.ShreddedAt != 0, Rules: rules, Used: FromMicros(rows.Item.AwakeAt)}
	for i, v := range rows.Versions {
		life.Versions[i] = lifecycle.Version{Window: lifecycle.Window{NotBefore: FromMicros(v.NotBefore), NotAfter: FromMicros(v.NotAfter)},
			Created: FromMicros(v.CreatedAt), Staged: v.Staged, Suspended: v.Suspended, Shredded: v.ShreddedAt != 0}
	}
	return life
}

// Find looks an item up by its name; nil when there is none.
func (st *Snapshot) Find(d *Drawer, name string) (*Item, error) {
	k := itemKey{d.Row.ID, name}
	if it := st.tried[k]; it != nil {
		return it, nil
	}
	m := st.chest.memory
	m.mu.RLock()
	it := m.items.entries[k]
	m.mu.RUnlock()
	if it != nil && it.drawer == d {
		return st.awake(it)
	}
	rows := store.Shelved{}
	position := m.position() // before the rows are read
	if it != nil {
		rows = store.Shelved{Item: it.Row, Versions: it.Versions}
	} else {
		var err error
		if rows, err = st.chest.records.Item(d.Row.ID, name); err != nil {
			st.chest.log.Error("an item cannot be read", "item", d.Row.Name+"/"+name, "error", err)
			return nil, ErrDamaged
		}
		if rows.Item.ID == "" {
			return nil, nil
		}
	}
	fresh, err := newItem(d, rows)
	if err != nil {
		st.chest.log.Error("an item cannot be read", "item", d.Row.Name+"/"+name, "error", err)
		return nil, ErrDamaged
	}
	if st.tried == nil {
		m.keep(st, k, it, fresh, position)
	}
	return st.awake(fresh)
}

// keep puts an item that was read into the cache, unless a change has touched it since, or its drawer is another one by now.
func (m *memory) keep(st *Snapshot, k itemKey, before, fresh *Item, position uint64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := st.chest.newest.Load()
	if now == nil || now.DrawerByID(k.drawer) != fresh.drawer || m.items.entries[k] != before {
		return
	}
	if before == nil && m.touchedSince(position, store.Mark{What: store.MarkItem, ID: fresh.Row.ID},
		store.Mark{What: store.MarkName, ID: key(k.drawer, k.name)}) {
		return
	}
	m.items.put(k, fresh)
}

// Each calls visit with a drawer's items that a filter selects, in the order of names, until it returns false. A trial is looked
// at with what it tries. Without an error all were visited that visit asked for.
func (st *Snapshot) Each(d *Drawer, f store.ItemFilter, visit func(*Item) bool) error {
	f.Drawer = d.Row.ID
	if _, idle := d.Schedule.Shortest(); idle != 0 {
		f.ReadIn = d.Row.Name
	}
	var problem error
	err := st.chest.records.Items(f, func(rows store.Shelved) bool {
		it := st.tried[itemKey{d.Row.ID, rows.Item.Name}]
		if it == nil {
			if it, problem = newItem(d, rows); problem != nil {
				return false
			}
		}
		if f.ReadIn != "" {
			it = it.Awake(FromMicros(rows.ReadAt))
		} else if it, problem = st.awake(it); problem != nil {
			return false
		}
		return visit(it)
	})
	if err == nil {
		err = problem
	}
	if err != nil {
		st.chest.log.Error("items cannot be read", "drawer", d.Row.Name, "error", err)
		return ErrDamaged
	}
	return nil
}

// All is Each with every item that is not shredded.
func (st *Snapshot) All(d *Drawer, visit func(*Item)) error {
	return st.Each(d, store.ItemFilter{}, func(it *Item) bool { visit(it); return true })
}

// Renamed finds the item that once had a name, and where it is now; nil when there is none.
func (st *Snapshot) Renamed(old *Drawer, name string, now time.Time) (*Drawer, *Item, error) {
	alias, known := st.WorkingAlias(old, name, now)
	if !known {
		return nil, nil, nil
	}
	rows, err := st.chest.records.ItemByID(alias.Item)
	if err != nil {
		st.chest.log.Error("an item cannot be read", "item", alias.Item, "error", err)
		return nil, nil, ErrDamaged
	}
	if d := st.DrawerByID(rows.Item.Drawer); d != nil && rows.Item.ShreddedAt == 0 {
		it, err := st.Find(d, rows.Item.Name)
		return d, it, err
	}
	return nil, nil, nil
}

// NameOf says where something is now, by its id: an item, with a version if the id has one, a drawer or an identity; empty if it is
// not there any more.
func (st *Snapshot) NameOf(id string) string {
	if d := st.DrawerByID(id); d != nil {
		return d.Row.Name
	}
	if row := st.Identity(id); row.ID != "" {
		return SubjectOf(row)
	}
	item, version, versioned := strings.Cut(id, "@")
	rows, err := st.chest.records.ItemByID(item)
	d := st.DrawerByID(rows.Item.Drawer)
	if err != nil || d == nil || rows.Item.ShreddedAt != 0 {
		return ""
	}
	if versioned {
		return d.Row.Name + "/" + rows.Item.Name + "@" + version
	}
	return d.Row.Name + "/" + rows.Item.Name
}

// WorkingAlias finds the alias that an old name is, if it still works at a moment.
func (st *Snapshot) WorkingAlias(d *Drawer, name string, now time.Time) (entity.Alias, bool) {
	alias, known := st.Alias(d.Row.ID, name)
	return alias, known && now.Before(FromMicros(alias.NotAfter))
}

// Named finds an item by its name or by one that it had before, and the drawer that it is in.
func (st *Snapshot) Named(d *Drawer, name string) (*Drawer, *Item, error) {
	it, err := st.Find(d, name)
	if it != nil || err != nil {
		return d, it, err
	}
	return st.Renamed(d, name, st.chest.now())
}

// Spot is what is where names point: looked up once, and then decided about and served.
type Spot struct {
	Names []string // of a drawer, or a drawer and an item; none for the chest
	Asked *Drawer  // the drawer of that name; nil if there is none
	Home  *Drawer  // where the item is now, which another name of it may not say
	Item  *Item    // nil if there is none, or none was asked for
	Err   error    // the item cannot be read, so that nothing may be decided about it
	st    *Snapshot
}

// At finds what is where names point.
func (st *Snapshot) At(names ...string) Spot {
	p := Spot{Names: names, st: st}
	if len(names) > 0 {
		p.Asked = st.Drawer(names[0])
	}
	if p.Asked != nil && len(names) == 2 {
		p.Home, p.Item, p.Err = st.Named(p.Asked, names[1])
	}
	return p
}

// For is At for a question of whether a subject may do something there. Where no grant of the subject could allow it, it does not look:
// what is there changes nothing about the answer, and nothing about the time that it takes.
func (st *Snapshot) For(subject string, actions access.Action, names ...string) Spot {
	if !st.Policy.CouldAllow(subject, actions, names) {
		return Spot{Names: names}
	}
	return st.At(names...)
}

// Target is a spot as what decides: its labels. One that does not exist has none.
func (p Spot) Target() access.Target {
	t := access.Target{Names: p.Names}
	switch {
	case p.Item != nil:
		t.Labels = p.Item.Labels
	case p.Asked != nil:
		t.Labels = p.Asked.Labels
	}
	return t
}

// Target finds out about a target what decides.
func (st *Snapshot) Target(names ...string) access.Target { return st.At(names...).Target() }

// RestOn adds what was looked at here to a basis.
func (p Spot) RestOn(b *store.Basis) {
	switch {
	case p.Asked == nil:
		return
	case p.Item == nil && len(p.Names) == 2:
		b.RestOn(store.MarkName, key(p.Asked.Row.ID, p.Names[1]))
	case p.Item != nil:
		b.RestOn(store.MarkItem, p.Item.Row.ID)
		if p.Home != p.Asked || p.Item.Row.Name != p.Names[1] {
			b.RestOn(store.MarkName, key(p.Asked.Row.ID, p.Names[1]))
			b.RestOn(store.MarkDrawer, p.Home.Row.ID)
		}
	}
	b.RestOn(store.MarkDrawer, p.Asked.Row.ID)
}

// ReadItem is the item at a spot; the error is a NotFound for somebody who may know what exists in the drawer.
func (p Spot) ReadItem() (*Drawer, *Item, error) {
	switch {
	case p.Asked == nil:
		return nil, nil, Missing("drawer "+p.Names[0], "")
	case p.Err == nil && p.Item == nil:
		return p.Asked, nil, Missing("item "+p.Names[0]+"/"+p.Names[1], "")
	}
	return p.Home, p.Item, p.Err
}

// ReadItem finds an item by its name, or by one that it had before and that still works.
func (st *Snapshot) ReadItem(ref reference.Reference) (*Drawer, *Item, error) {
	return st.At(ref.Drawer, ref.Item).ReadItem()
}

// ItemOf finds an item by its name; the error is a NotFound for somebody who may know what exists in the drawer. An old name
// is for reading only: whatever changes an item names it as it is called now.
func (st *Snapshot) ItemOf(ref reference.Reference) (*Drawer, *Item, error) {
	d, it, err := st.ReadItem(ref)
	if err == nil && (d.Row.Name != ref.Drawer || it.Row.Name != ref.Item) {
		return nil, nil, Invalid("reference", "%s/%s is an old name of %s/%s: use that name", ref.Drawer, ref.Item, d.Row.Name, it.Row.Name)
	}
	return d, it, err
}

// Request makes the question whether a subject may do an action on a target: everything that decides it is in there.
func (st *Snapshot) Question(subject string, action access.Action, ctx access.Context, names ...string) access.Request {
	return st.QuestionAt(st.For(subject, action, names...), subject, action, ctx)
}

// QuestionAt is Question about a spot that was found.
func (st *Snapshot) QuestionAt(p Spot, subject string, action access.Action, ctx access.Context) access.Request {
	return access.Request{Subject: subject, Action: action, Target: p.Target(), Context: ctx,
		Approval: st.approval(p, subject, action, ctx.Now)}
}

// Decide answers whether a subject may do an action on a target now.
func (st *Snapshot) Decide(subject string, action access.Action, ctx access.Context, names ...string) access.Decision {
	return st.Policy.Decide(st.Question(subject, action, ctx, names...))
}

// approval says whether somebody else must agree to a use of an item's value, and has.
func (st *Snapshot) approval(p Spot, subject string, action access.Action, now time.Time) access.Approval {
	if action&access.Yields == 0 || len(p.Names) != 2 || p.Asked == nil {
		return access.NotNeeded
	}
	if p.Err != nil {
		return access.Missing // what cannot be looked at is not given out
	}
	return p.Item.ApprovalFor(st, p.Home, subject, action, now)
}

// ApprovalFor says whether somebody else must agree to a subject's use of an item's value, and has.
func (it *Item) ApprovalFor(st *Snapshot, d *Drawer, subject string, action access.Action, now time.Time) access.Approval {
	if it == nil || !it.Approval || action&access.Yields == 0 || d.Row.ApprovalOf == policytext.OfPersons &&
		st.Identity(subject).Kind == reference.App {
		return access.NotNeeded
	}
	if Micros(now) < st.ApprovedUntil(RequestRead, subject, it.Row.ID) {
		return access.Given
	}
	return access.Missing
}

// Target is an item as what decides.
func (it *Item) Target(d *Drawer) access.Target {
	return access.Target{Names: []string{d.Row.Name, it.Row.Name}, Labels: it.Labels}
}

// MayList reports whether a caller may list an item that was found.
func (st *Snapshot) MayList(c Caller, d *Drawer, it *Item, now time.Time) bool {
	return st.Policy.Decide(access.Request{Subject: c.ID, Action: access.List, Target: it.Target(d), Context: c.Context(now)}).Allowed
}

// Reaches reports whether a subject may do the action on a drawer or on something in it.
func (st *Snapshot) Reaches(subject string, action access.Action, drawer string, ctx access.Context) access.Decision {
	d := st.Drawer(drawer)
	target := access.Target{Names: []string{drawer}}
	if d != nil {
		target.Labels = d.Labels
	}
	decision := st.Policy.Reaches(subject, action, target, ctx)
	if decision.Allowed || d == nil || !st.labelled(subject) {
		return decision
	}
	// Items without labels of their own have those of the drawer, about which the decision is.
	_ = st.Each(d, store.ItemFilter{Labelled: true}, func(it *Item) bool { // what cannot be read is not reached
		within := st.Policy.Decide(access.Request{Subject: subject, Action: action, Target: it.Target(d), Context: ctx})
		if within.Allowed {
			decision = within
		}
		return !within.Allowed
	})
	return decision
}

// Touches reports whether a subject has a grant that could give an action in a drawer; if not, nothing in it has to be looked at.
func (st *Snapshot) Touches(subject string, action access.Action, drawer string) bool {
	return slices.ContainsFunc(st.Policy.Of(subject), func(g access.Grant) bool {
		return g.Effect == access.Allow && g.Role.Actions&action != 0 && g.Scope.Touches(drawer)
	})
}

// labelled reports whether a subject has a grant that asks for labels.
func (st *Snapshot) labelled(subject string) bool {
	return slices.ContainsFunc(st.Policy.Of(subject), func(g access.Grant) bool { return g.Scope.Labelled() })
}

// NearNames lists names of items around one, in which a hint is looked for.
func (st *Snapshot) NearNames(d *Drawer, name string) []string {
	names, err := st.chest.records.Names(d.Row.ID, name, 1000)
	if err != nil {
		st.chest.log.Error("names cannot be read", "drawer", d.Row.Name, "error", err)
	}
	return names
}

// nearestItem is the name nearest to one among the items that a subject may list.
func (st *Snapshot) nearestItem(c Caller, d *Drawer, name string, now time.Time) string {
	var visible []string
	for _, candidate := range st.NearNames(d, name) {
		// Only what is near anyway is looked at, so that a hint costs a few look-ups.
		if strings.EqualFold(candidate, name) || reference.Nearest(name, []string{candidate}) != "" {
			if st.Decide(c.ID, access.List, c.Context(now), d.Row.Name, candidate).Allowed {
				visible = append(visible, candidate)
			}
		}
	}
	return reference.Nearest(name, visible)
}

// NearestDrawer is the nearest name among the drawers that the caller may see.
func (st *Snapshot) NearestDrawer(c Caller, name string, now time.Time) string {
	var visible []string
	for _, candidate := range reference.Near(name, st.DrawerNames()) {
		if st.Reaches(c.ID, access.List, candidate, c.Context(now)).Allowed {
			visible = append(visible, candidate)
		}
	}
	return reference.Nearest(name, visible)
}

// Hint adds the nearest reference that the caller may see to a NotFound.
func (st *Snapshot) Hint(c Caller, ref reference.Reference, err error, now time.Time) error {
	d := st.Drawer(ref.Drawer)
	if d == nil {
		if near := st.NearestDrawer(c, ref.Drawer, now); near != "" {
			return Missing("drawer "+ref.Drawer, near)
		}
		return err
	}
	if near := st.nearestItem(c, d, ref.Item, now); near != "" {
		return Missing("item "+ref.Drawer+"/"+ref.Item, ref.Drawer+"/"+near)
	}
	return err
}

// LastRead is when an item in a drawer was last read, as far as reads are counted.
func (a *Attempt) LastRead(d *Drawer, it *Item) (time.Time, error) {
	return a.chest.LastRead(it.Row.ID, d.Row.Name+"/"+it.Row.Name)
}

// LastRead is when an item was last read, under whatever name, as far as reads are counted; zero for never. Reads that were recorded
// before entries had ids are found by the name that it has now.
func (c *Chest) LastRead(item, target string) (last time.Time, err error) {
	for _, f := range []store.UseFilter{{Kind: store.UseReadItem, Keys: []string{item}}, {Kind: store.UseRead, Keys: []string{target}}} {
		uses, err := c.records.Uses(f)
		if err != nil {
			return last, err
		}
		for _, use := range uses {
			if at := FromMicros(use.At); at.After(last) {
				last = at
			}
		}
	}
	return last, nil
}

// TargetOf returns the segments of a target in an entry: those of a drawer or item, none for everything else.
func TargetOf(target string) []string {
	segments := strings.Split(target, "/")
	if len(segments) > 2 {
		return nil
	}
	for _, segment := range segments {
		if reference.CheckName(segment) != nil {
			return nil
		}
	}
	return segments
}
