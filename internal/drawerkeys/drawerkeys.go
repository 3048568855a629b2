// Package drawerkeys holds what opens drawers, in memory: the keys of each drawer, and the master keys that some of them are under as well
// as under the root key. A key whose master key is not at hand is known by its row, and opens nothing.
package drawerkeys

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"sync"

	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
)

// NoKey stands where the wrapped key of something shredded was, or what the chest keeps nothing of. It is not empty, because drivers differ
// about empty bytes.
var NoKey = []byte{0}

// Origins of master keys.
const (
	Made    = "made"    // by the chest, which alone has it
	Brought = "brought" // by its owner, who has it too
	Token   = "token"   // sealed by a key in a PKCS #11 token of the service's machine
)

// States of a master key.
const (
	AtHand    = "at_hand"
	Withdrawn = "withdrawn" // somebody has taken it away
	Missing   = "missing"   // it is not stored and was not given since the chest was unlocked, or its token did not answer
)

// Master is a master key. It is never changed: a change puts another one in its place.
type Master struct {
	Row entity.MasterKey
	Key *envelope.Key // nil while it is not at hand
}

// State is one of the states.
func (m Master) State() string {
	switch {
	case m.Row.WithdrawnAt != 0:
		return Withdrawn
	case m.Key == nil:
		return Missing
	}
	return AtHand
}

// With is a master key with another row; hand has what is not stored of it. One that is withdrawn has no key any more.
func (m Master) With(root *envelope.Root, hand *Hand, row entity.MasterKey) (next Master, err error) {
	next = Master{Row: row, Key: m.Key}
	switch {
	case row.WithdrawnAt != 0:
		next.Key = nil
	case next.Key != nil:
	case row.InMemory || row.Origin == Token:
		next.Key = hand.key(root.Chest(), row.ID)
	default:
		material, err := root.OpenMaster(row.ID, row.Sealed)
		if err != nil {
			return m, fmt.Errorf("open master key %s: %w", row.ID, err)
		}
		value := secretvalue.New(material)
		defer value.Wipe()
		next.Key = envelope.MasterKey(root.Chest(), row.ID, value)
	}
	return next, nil
}

// Hand holds the material of master keys that are not stored, from when it is given to when the chest is locked or they are withdrawn. Safe
// for concurrent use.
type Hand struct {
	mu   sync.Mutex
	held map[string]secretvalue.Value
}

// Hold takes the material of a master key, and returns what puts back what was there before.
func (h *Hand) Hold(id string, material secretvalue.Value) (undo func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	before, had := h.held[id]
	h.set(id, material)
	return func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if delete(h.held, id); had {
			h.held[id] = before
		}
	}
}

// set keeps a copy.
func (h *Hand) set(id string, material secretvalue.Value) {
	if h.held == nil {
		h.held = map[string]secretvalue.Value{}
	}
	h.held[id] = secretvalue.New(bytes.Clone(material.Reveal()))
}

// Borrow takes what another hand holds.
func (h *Hand) Borrow(other *Hand) {
	other.mu.Lock()
	defer other.mu.Unlock()
	h.mu.Lock()
	defer h.mu.Unlock()
	for id, material := range other.held {
		h.set(id, material)
	}
}

// key is a key of its own each time, so that whoever erases one does not erase another's.
func (h *Hand) key(chest, id string) *envelope.Key {
	h.mu.Lock()
	defer h.mu.Unlock()
	material, is := h.held[id]
	if !is {
		return nil
	}
	return envelope.MasterKey(chest, id, material)
}

// Drop lets go of the material of a master key, and Empty of that of all.
func (h *Hand) Drop(id string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.held[id].Wipe()
	delete(h.held, id)
}

// Empty lets go of everything.
func (h *Hand) Empty() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, material := range h.held {
		material.Wipe()
	}
	h.held = nil
}

// Set is the keys of one drawer. It is never changed: a change puts another one in its place.
type Set struct {
	KeyNumber int // of the key that new versions are under
	KeyRow    entity.DrawerKey
	key       *envelope.Key // nil while its master key is not at hand
	old       map[int]one   // keys that some versions still are under, by number, while a rotation is not finished
}

// one is a drawer key that was replaced by a newer one.
type one struct {
	key *envelope.Key
	row entity.DrawerKey
}

// Key is the key that new versions are under, and KeyOf the one with a number; nil while its master key is not at hand.
func (s Set) Key() *envelope.Key { return s.key }

// KeyOf is the key with a number.
func (s Set) KeyOf(number int) *envelope.Key {
	if old, is := s.old[number]; is {
		return old.key
	}
	return s.key
}

// RowOf is the row of the key with a number.
func (s Set) RowOf(number int) entity.DrawerKey {
	if old, is := s.old[number]; is {
		return old.row
	}
	return s.KeyRow
}

// OldKeys are the rows of keys that some versions still are under, while a rotation is not finished.
func (s Set) OldKeys() (rows []entity.DrawerKey) {
	for _, number := range slices.Sorted(maps.Keys(s.old)) {
		rows = append(rows, s.old[number].row)
	}
	return rows
}

// AllKeys are the rows of all keys of the drawer.
func (s Set) AllKeys() []entity.DrawerKey { return append(s.OldKeys(), s.KeyRow) }

// Opened are all keys of the drawer that are open.
func (s Set) Opened() (all []*envelope.Key) {
	for _, row := range s.AllKeys() {
		if k := s.KeyOf(row.Number); k != nil {
			all = append(all, k)
		}
	}
	return all
}

// IsUnder reports whether a key of the drawer is under a master key.
func (s Set) IsUnder(master string) bool {
	if s.KeyRow.Master == master {
		return true
	}
	for _, old := range s.old {
		if old.row.Master == master {
			return true
		}
	}
	return false
}

// OpensBy reports why a key of the drawer does not open with a master key that it is under; nothing is kept of it.
func (s Set) OpensBy(root *envelope.Root, m Master) error {
	masters := func(string) (Master, bool) { return m, true }
	for _, row := range s.AllKeys() {
		if row.Master != m.Row.ID {
			continue
		}
		opened, err := open(root, masters, row)
		if err != nil {
			return err
		}
		opened.Erase()
	}
	return nil
}

// Opener finds a master key by its id; false when there is none.
type Opener func(id string) (Master, bool)

// WithKey is a set with another row of a key: a new one takes the place of the one that new versions are under, and one that is destroyed
// goes; it is returned, to be erased.
func (s Set) WithKey(root *envelope.Root, masters Opener, row entity.DrawerKey) (next Set, destroyed *envelope.Key, err error) {
	next = s
	next.old = maps.Clone(s.old)
	if bytes.Equal(row.Wrapped, NoKey) {
		gone := next.old[row.Number].key
		delete(next.old, row.Number)
		return next, gone, nil
	}
	if row.Number == s.KeyNumber { // the same key, under another root key
		next.KeyRow = row
		return next, nil, nil
	}
	if old, is := next.old[row.Number]; is {
		next.old[row.Number] = one{old.key, row}
		return next, nil, nil
	}
	opened, err := open(root, masters, row)
	if err != nil {
		return s, nil, err
	}
	if s.KeyNumber != 0 {
		if next.old == nil {
			next.old = map[int]one{}
		}
		next.old[s.KeyNumber] = one{s.key, s.KeyRow}
	}
	next.key, next.KeyNumber, next.KeyRow = opened, row.Number, row
	return next, nil, nil
}

// Following is a set whose keys under a master key are open or closed as that is at hand or not; what was closed is returned, to be erased.
func (s Set) Following(root *envelope.Root, m Master) (next Set, closed []*envelope.Key, err error) {
	masters := func(string) (Master, bool) { return m, true }
	next = s
	next.old = maps.Clone(s.old)
	follow := func(row entity.DrawerKey, k *envelope.Key) *envelope.Key {
		switch {
		case row.Master != m.Row.ID:
		case m.Key == nil && k != nil:
			closed = append(closed, k)
			return nil
		case m.Key != nil && k == nil:
			opened, problem := open(root, masters, row)
			if err == nil {
				err = problem
			}
			return opened
		}
		return k
	}
	next.key = follow(s.KeyRow, s.key)
	for number, old := range s.old {
		next.old[number] = one{follow(old.row, old.key), old.row}
	}
	return next, closed, err
}

// open opens a drawer key; nil while its master key is not at hand.
func open(root *envelope.Root, masters Opener, row entity.DrawerKey) (opened *envelope.Key, err error) {
	if row.Master == "" {
		opened, err = root.UnwrapDrawerKey(row.Drawer, row.Number, row.Wrapped)
	} else if m, known := masters(row.Master); !known {
		err = fmt.Errorf("there is no master key %s", row.Master)
	} else if m.Key != nil {
		opened, err = root.UnwrapDrawerKeyUnder(m.Key, row.Drawer, row.Number, row.Wrapped)
	}
	if err != nil {
		return nil, fmt.Errorf("open the key of drawer %s: %w", row.Drawer, err)
	}
	return opened, nil
}

// Wrap makes the row of a new key of a drawer, under a master key that is at hand, or under the root key alone for the zero Master.
func Wrap(root *envelope.Root, m Master, row entity.DrawerKey, key *envelope.Key) entity.DrawerKey {
	row.ID = fmt.Sprintf("%s/%d", row.Drawer, row.Number)
	if row.Master = m.Row.ID; row.Master == "" {
		row.Wrapped = root.WrapDrawerKey(row.Drawer, row.Number, key)
	} else {
		row.Wrapped = root.WrapDrawerKeyUnder(m.Key, row.Drawer, row.Number, key)
	}
	return row
}
