package chest

import (
	"sync"
	"sync/atomic"
	"time"

	"tansu/internal/core/envelope"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// memory follows the store's writer: it says whether what a work rests on still holds, and puts the next snapshot in the place of
// the newest one when it is durable. The writer calls it, one call at a time.
type memory struct {
	chest *Chest
	next  atomic.Uint64 // the position of the newest snapshot; it goes on across locks

	// What is being written: only the writer touches it.
	draft *Draft
	fresh []moved // by the works of this batch
	// outgoing is the root key that a change being written puts another one in the place of.
	outgoing *envelope.Root
	recent   []moved // by those before, the newest last; only the writer changes it, under mu

	drafting sync.Mutex // a snapshot's tables are copied by one at a time

	mu    sync.RWMutex // guards recent for those who are not the writer, items and sizes
	items itemCache
	sizes map[string]Size // of drawers that somebody has asked about, by their ids
	floor uint64          // what was decided before this position is decided again; guarded by mu
}

// moved is what a change touched, and the position that it led to.
type moved struct {
	position uint64
	marks    []store.Mark
}

// mostRecent is how many changes are remembered one by one. What was decided before the oldest of them is decided again: a use
// case that took so long that this many changes were made meanwhile.
const mostRecent = 4096

// outgoingFor is how long a root key that was rotated is kept, for whoever took the snapshot before.
const outgoingFor = 10 * time.Second

func newMemory(c *Chest) *memory {
	m := &memory{chest: c, items: newItemCache(), sizes: map[string]Size{}}
	m.next.Store(1)
	return m
}

func (m *memory) position() uint64 { return m.next.Load() }

// begin makes a snapshot the first one after an unlock.
func (m *memory) begin(st *Snapshot) {
	m.mu.Lock()
	defer m.mu.Unlock()
	st.position = m.next.Add(1)
	m.floor, m.recent, m.draft, m.fresh = st.position, nil, nil, nil
	m.items.clear()
	clear(m.sizes)
}

// Admit reports whether nothing that a basis rests on has moved since its position.
func (m *memory) Admit(b store.Basis) error {
	if b.Position == 0 || len(m.fresh) == 0 && b.Position == m.next.Load() {
		return nil
	}
	if b.Position < m.floor || holds(m.recent, b) != nil || holds(m.fresh, b) != nil {
		return store.ErrMoved
	}
	return nil
}

// holds looks through changes, the newest first, back to the position of a basis.
func holds(changes []moved, b store.Basis) error {
	for i := len(changes) - 1; i >= 0 && changes[i].position > b.Position; i-- {
		for _, touched := range changes[i].marks {
			for _, mark := range b.Marks {
				if touched.What == mark.What && (touched.ID == mark.ID || touched.ID == "") {
					return store.ErrMoved
				}
			}
		}
	}
	return nil
}

// Take notes a change that was written.
func (m *memory) Take(c *store.Change) {
	if m.draft == nil {
		st := m.chest.newest.Load()
		if st == nil {
			return // a chest that is being made, or that was locked
		}
		m.drafting.Lock()
		m.draft = st.draft()
		m.drafting.Unlock()
	}
	d := m.draft
	d.touched = nil
	if root, is := c.Turns.(*envelope.Root); is {
		m.outgoing, d.root = d.root, root
	}
	for _, row := range c.Rows {
		d.put(row.Before, row.After)
	}
	if d.problem != nil {
		panic(d.problem) // memory and file would differ: the writer ends the process, and the next start goes by the file
	}
	d.position++
	m.fresh = append(m.fresh, moved{d.position, d.touched})
}

// Commit makes what was taken what decides access.
func (m *memory) Commit() {
	d := m.draft
	if d == nil {
		return
	}
	st, fresh := d.finish(), m.fresh
	m.draft, m.fresh = nil, nil
	st.tried = nil
	m.mu.Lock()
	if m.recent = append(m.recent, fresh...); len(m.recent) > 2*mostRecent {
		m.recent = append([]moved(nil), m.recent[len(m.recent)-mostRecent:]...)
		m.floor = max(m.floor, m.recent[0].position-1)
	}
	gone := m.items.follow(st, d.items)
	m.resize(d.items)
	m.next.Store(st.position)
	if m.chest.newest.Load() != nil { // else it was locked meanwhile
		m.chest.newest.Store(st)
	}
	m.mu.Unlock()
	m.chest.contents.Forget(gone)
	for _, id := range d.gone { // nor is what was opened by it
		m.chest.hand.Drop(id)
		m.chest.contents.Empty()
	}
	if old := m.outgoing; old != nil { // somebody may be signing with it: what outlasts it is the same
		m.outgoing = nil
		time.AfterFunc(outgoingFor, old.Erase)
	}
	for _, k := range d.retired {
		k.Erase()
	}
	m.tell(fresh)
}

func (m *memory) tell(fresh []moved) {
	m.chest.listening.RLock()
	defer m.chest.listening.RUnlock()
	for _, listener := range m.chest.listeners {
		for _, change := range fresh {
			listener(change.marks)
		}
	}
}

// Drop forgets what was taken, because it could not be made durable.
func (m *memory) Drop() { m.draft, m.fresh, m.outgoing = nil, nil, nil }

// forgetItems drops all items, when the chest is locked.
func (m *memory) forgetItems() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.items.clear()
}

// touchedSince reports whether a change after a position touched a mark. It is called with mu.
func (m *memory) touchedSince(position uint64, marks ...store.Mark) bool {
	return position < m.floor || holds(m.recent, store.Basis{Position: position, Marks: marks}) != nil
}

// Size is how many items a drawer has: all that are not shredded, and those of them that are retired.
type Size struct{ All, Retired int }

// resize brings sizes in line with changes of items. It is called with mu.
func (m *memory) resize(changes []itemChange) {
	count := func(row *entity.Item, by int) {
		size, known := m.sizes[row.Drawer]
		if !known || row.ShreddedAt != 0 {
			return
		}
		size.All += by
		if row.RetiredAt != 0 {
			size.Retired += by
		}
		m.sizes[row.Drawer] = size
	}
	for _, change := range changes {
		if change.before != nil {
			count(change.before, -1)
		}
		if change.after != nil {
			count(change.after, 1)
		}
	}
}

// SizeOf is how many items a drawer has. They are counted once, and followed from then on.
func (st *Snapshot) SizeOf(d *Drawer) (size Size, err error) {
	m := st.chest.memory
	m.mu.RLock()
	size, known := m.sizes[d.Row.ID]
	m.mu.RUnlock()
	if known {
		return size, nil
	}
	position := m.position() // before they are counted
	if size.All, size.Retired, err = st.chest.records.CountDrawer(d.Row.ID); err != nil {
		return size, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if now := st.chest.newest.Load(); now != nil && now.position == position {
		m.sizes[d.Row.ID] = size
	}
	return size, nil
}
