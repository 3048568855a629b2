package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// itemCache keeps items in memory, up to a number of rows, so that a warm read needs no file. What it does not have is
// read and checked when it is needed. Items in it are never changed: a change puts a new one in.
//
// Looking up happens under the service's lock for reading, and putting in after a change under its lock for writing, so
// that an item read before a change cannot come in after it.
type itemCache struct {
	records Records
	now     func() time.Time
	log     *slog.Logger
	mu      sync.RWMutex
	limit   int // rows
	rows    int
	entries map[itemKey]*item
}

type itemKey struct {
	drawer *drawer
	name   string
}

// cachedRows bounds the cache. A row takes about 700 bytes with what hangs on it.
const cachedRows = 40_000

func newItemCache(records Records, now func() time.Time, log *slog.Logger) *itemCache {
	return &itemCache{records: records, now: now, log: log, limit: cachedRows, entries: map[itemKey]*item{}}
}

func (c *itemCache) get(key itemKey) *item {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.entries[key]
}

func (c *itemCache) put(d *drawer, it *item) {
	c.mu.Lock()
	defer c.mu.Unlock()
	key := itemKey{d, it.row.Name}
	c.drop(key)
	c.entries[key] = it
	c.rows += it.weight()
	// Go visits a map in random order: what is dropped is random, which needs no bookkeeping on a hit.
	for victim := range c.entries {
		if c.rows <= c.limit {
			break
		}
		c.drop(victim)
	}
}

// drop is called with the lock.
func (c *itemCache) drop(key itemKey) {
	if old := c.entries[key]; old != nil {
		c.rows -= old.weight()
		delete(c.entries, key)
	}
}

func (c *itemCache) forget(d *drawer, name string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.drop(itemKey{d, name})
}

// forgetDrawer drops all items of a drawer, whose rules and labels they were read with.
func (c *itemCache) forgetDrawer(d *drawer) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for key := range c.entries {
		if key.drawer == d {
			c.drop(key)
		}
	}
}

type item struct {
	row      store.Item
	labels   reference.Labels // its own over its drawer's
	approval bool             // whether its drawer's rules ask for a second person
	versions []store.Version  // element i is version i+1
	life     lifecycle.Item   // the same, as what decides
	canIdle  bool             // whether a rule looks at when it was last read
	read     time.Time        // when that was, if it was asked for
}

// awake is the item with when it was last read.
func (it *item) awake(read time.Time) *item {
	awake := *it
	if awake.read = read; read.After(it.life.Used) {
		awake.life.Used = read
	}
	return &awake
}

// awake is an item with what is known of when it was last read, if a rule about idle items asks for it.
func (st *state) awake(d *drawer, it *item) (*item, error) {
	if !it.canIdle {
		return it, nil
	}
	read, err := lastRead(st.items.records, d.row.Name+"/"+it.row.Name)
	if err != nil {
		st.items.log.Error("reads cannot be counted", "item", d.row.Name+"/"+it.row.Name, "error", err)
		return nil, errDamaged
	}
	return it.awake(read), nil
}

func (it *item) weight() int { return 1 + len(it.versions) }

// newItem is an item as its rows and its drawer make it.
func newItem(d *drawer, rows store.Shelved) (*item, error) {
	own, err := reference.ParseLabels(rows.Item.Labels)
	if err != nil {
		return nil, fmt.Errorf("item %s: %w", rows.Item.ID, err)
	}
	it := &item{row: rows.Item, labels: own.Over(d.labels), versions: rows.Versions}
	it.approval = slices.ContainsFunc(d.approval, func(p reference.Pattern) bool { return p.Matches(d.row.Name, rows.Item.Name) })
	ownRules, err := parseRules(rows.Item.Rules)
	if err != nil {
		return nil, fmt.Errorf("item %s: %w", rows.Item.ID, err)
	}
	it.life = lifeOf(rows, d.schedule.And(ownRules))
	_, idle := it.life.Rules.Shortest()
	it.canIdle = idle != 0
	return it, nil
}

// parseRules reads the rules of an item's own.
func parseRules(text string) (r lifecycle.Rules, err error) {
	if text == "" {
		return r, nil
	}
	err = json.Unmarshal([]byte(text), &r)
	return r, err
}

// lifeOf is what decides about an item.
func lifeOf(rows store.Shelved, rules lifecycle.Schedule) lifecycle.Item {
	life := lifecycle.Item{Versions: make([]lifecycle.Version, len(rows.Versions)), Held: rows.Item.Held, Suspended: rows.Item.Suspended,
		RetiredAt: fromMicros(rows.Item.RetiredAt), Shredded: rows.Item.ShreddedAt != 0, Rules: rules, Used: fromMicros(rows.Item.AwakeAt)}
	for i, v := range rows.Versions {
		life.Versions[i] = lifecycle.Version{Window: lifecycle.Window{NotBefore: fromMicros(v.NotBefore), NotAfter: fromMicros(v.NotAfter)},
			Created: fromMicros(v.CreatedAt), Staged: v.Staged, Suspended: v.Suspended, Shredded: v.ShreddedAt != 0}
	}
	return life
}

// withHorizon completes an item's row with what lets it be found when it is due.
func withHorizon(row store.Item, versions []store.Version, now time.Time) store.Item {
	own, _ := parseRules(row.Rules) // they were written by this program
	until, since, ok := lifeOf(store.Shelved{Item: row, Versions: versions}, lifecycle.Schedule{Now: own}).Horizon(now)
	if own.Idle != 0 && ok { // nobody may have read it since
		if idle := now.Add(time.Duration(own.Idle)); until.IsZero() || idle.Before(until) {
			until = idle
		}
	}
	if !until.IsZero() {
		until = until.Add(-time.Duration(own.Warn))
	}
	row.ServedUntil, row.ServedSince = micros(until), micros(since)
	switch {
	case !ok:
		row.ServedUntil, row.ServedSince = 0, 0
	case until.IsZero():
		row.ServedUntil = store.Always
	}
	return row
}

// errDamaged says that an item cannot be looked at, so that nothing is decided about it.
var errDamaged = &Error{Code: Internal, Detail: "the item cannot be read as it was stored, so nothing is served; the chest's log says what is wrong"}

// find looks an item up by its name; nil when there is none. The caller holds the service's lock.
func (st *state) find(d *drawer, name string) (*item, error) {
	key := itemKey{d, name}
	if it := st.tried[key]; it != nil {
		return it, nil
	}
	if it := st.items.get(key); it != nil {
		return st.awake(d, it)
	}
	rows, err := st.items.records.Item(d.row.ID, name)
	if err == nil && rows.Item.ID == "" {
		return nil, nil
	}
	var it *item
	if err == nil {
		it, err = newItem(d, rows)
	}
	if err != nil {
		st.items.log.Error("an item cannot be read", "item", d.row.Name+"/"+name, "error", err)
		return nil, errDamaged
	}
	st.items.put(d, it)
	return st.awake(d, it)
}

// each calls visit with a drawer's items that a filter selects, in the order of names, until it returns false. A state on
// which changes are tried is looked at with them. Without an error all were visited that visit asked for.
func (st *state) each(d *drawer, f store.ItemFilter, visit func(*item) bool) error {
	f.Drawer = d.row.ID
	if _, idle := d.schedule.Shortest(); idle != 0 {
		f.ReadIn = d.row.Name
	}
	var problem error
	err := st.items.records.Items(f, func(rows store.Shelved) bool {
		it := st.tried[itemKey{d, rows.Item.Name}]
		if it == nil {
			if it, problem = newItem(d, rows); problem != nil {
				return false
			}
		}
		if f.ReadIn != "" {
			it = it.awake(fromMicros(rows.ReadAt))
		} else if it, problem = st.awake(d, it); problem != nil {
			return false
		}
		return visit(it)
	})
	if err = errors.Join(err, problem); err != nil {
		st.items.log.Error("items cannot be read", "drawer", d.row.Name, "error", err)
		return errDamaged
	}
	return nil
}

// all is each with every item that is not shredded.
func (st *state) all(d *drawer, visit func(*item)) error {
	return st.each(d, store.ItemFilter{}, func(it *item) bool { visit(it); return true })
}

// keep remembers an item as it is now, and returns it.
func (st *state) keep(d *drawer, row store.Item, versions []store.Version) *item {
	it, err := newItem(d, store.Shelved{Item: row, Versions: versions})
	if err != nil {
		panic(err) // labels are checked before they are stored
	}
	if st.tried != nil {
		st.tried[itemKey{d, row.Name}] = it
	} else {
		st.items.put(d, it)
	}
	if now, err := st.awake(d, it); err == nil {
		return now
	}
	return it
}

// revise brings an item in line with its row, the versions staying as they are.
func (st *state) revise(d *drawer, row store.Item) error {
	it, err := st.find(d, row.Name)
	if err != nil || it == nil {
		return err
	}
	if _, err := reference.ParseLabels(row.Labels); err != nil {
		return fmt.Errorf("item %s: %w", row.ID, err)
	}
	st.keep(d, row, it.versions)
	return nil
}

// nearNames lists names of items around one, in which a hint is looked for.
func (st *state) nearNames(d *drawer, name string) []string {
	names, err := st.items.records.Names(d.row.ID, name, 1000)
	if err != nil {
		st.items.log.Error("names cannot be read", "drawer", d.row.Name, "error", err)
	}
	return names
}

// nearestItem is the name nearest to one among the items that a subject may list.
func (st *state) nearestItem(c Caller, d *drawer, name string, now time.Time) string {
	var visible []string
	for _, candidate := range st.nearNames(d, name) {
		// Only what is near anyway is looked at, so that a hint costs a few look-ups.
		if strings.EqualFold(candidate, name) || reference.Nearest(name, []string{candidate}) != "" {
			if st.decide(c.id, access.List, c.context(now), d.row.Name, candidate).Allowed {
				visible = append(visible, candidate)
			}
		}
	}
	return reference.Nearest(name, visible)
}

// targetOf is an item as what decides.
func (it *item) target(d *drawer) access.Target {
	return access.Target{Names: []string{d.row.Name, it.row.Name}, Labels: it.labels}
}

// mayList reports whether a caller may list an item that was found.
func (st *state) mayList(c Caller, d *drawer, it *item, now time.Time) bool {
	return st.policy.Decide(access.Request{Subject: c.id, Action: access.List, Target: it.target(d), Context: c.context(now)}).Allowed
}
