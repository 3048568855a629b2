package chest

import (
	"tansu/internal/core/envelope"
	"tansu/internal/entity"
	"tansu/internal/store"
	"tansu/internal/warm"
)

// Content decrypts a version of an item.
func (st *Snapshot) Content(d *Drawer, it *Item, number int) ([]byte, error) {
	sealed, err := st.sealed(d, it, number)
	if err != nil {
		return nil, err
	}
	return sealed.Opener.Open(sealed.Ciphertext)
}

// Made returns what was made of a version's bytes, which are erased afterwards; it is kept with them, and forgotten when they are.
func (st *Snapshot) Made(d *Drawer, it *Item, number int, make func([]byte) (any, error)) (any, error) {
	sealed, err := st.sealed(d, it, number)
	if err != nil {
		return nil, err
	}
	return sealed.Made(make)
}

// sealed finds what a version's bytes are decrypted from.
func (st *Snapshot) sealed(d *Drawer, it *Item, number int) (warm.Content, error) {
	row, m := it.Versions[number-1], st.chest.memory
	key, err := st.OpenKey(d, row.DrawerKey)
	if err != nil {
		return warm.Content{}, err
	}
	position := m.position() // before anything is read
	return st.chest.contents.Get(row.ID, func() (c warm.Content, err error) {
		if c.Ciphertext, err = st.chest.records.Content(row.ID); err == nil {
			c.Opener, err = envelope.NewOpener(key, st.Place(d, it.Row, number), row.WrappedKey)
		}
		return c, err
	}, func() bool {
		m.mu.RLock()
		defer m.mu.RUnlock()
		return st.chest.newest.Load() != nil && !m.touchedSince(position, store.Mark{What: store.MarkItem, ID: it.Row.ID},
			store.Mark{What: store.MarkDrawer, ID: d.Row.ID})
	})
}

// Place is where a version of an item is bound to.
func (st *Snapshot) Place(d *Drawer, row entity.Item, number int) envelope.Place {
	return envelope.Place{Chest: st.chest.ID(), Drawer: d.Row.ID, Item: row.ID, Kind: row.Kind, Number: number}
}
