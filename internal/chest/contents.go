package chest

import (
	"cmp"
	"context"
	"fmt"

	"tansu/internal/core/envelope"
	"tansu/internal/entity"
	"tansu/internal/pace"
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
	position := m.position() // before anything is read
	return st.chest.contents.Get(row.ID, func() (c warm.Content, err error) {
		if c.Ciphertext, err = st.chest.records.Content(row.ID); err == nil {
			c.Opener, err = envelope.NewOpener(d.KeyOf(row.DrawerKey), st.Place(d, it.Row, number), row.WrappedKey)
		}
		return c, err
	}, func() bool {
		m.mu.RLock()
		defer m.mu.RUnlock()
		return st.chest.newest.Load() != nil && !m.touchedSince(position, store.Mark{What: store.MarkItem, ID: it.Row.ID},
			store.Mark{What: store.MarkDrawer, ID: d.Row.ID})
	})
}

// ExamineContents opens every value that is stored, and names those that do not open: what was destroyed, or put where it does not
// belong; at most so many.
func (st *Snapshot) ExamineContents(ctx context.Context, most int) (damaged []string, err error) {
	for _, d := range st.Drawers() {
		err := st.Each(d, store.ItemFilter{}, func(it *Item) bool {
			for _, v := range it.Versions {
				if v.ShreddedAt == 0 && !st.opens(d, it, v) && len(damaged) < most {
					damaged = append(damaged, fmt.Sprintf("the value of version %d of %s/%s is not what was stored", v.Number, d.Row.Name, it.Row.Name))
				}
			}
			pace.Rest(ctx)
			return ctx.Err() == nil && len(damaged) < most
		})
		if err = cmp.Or(err, ctx.Err()); err != nil {
			return damaged, err
		}
	}
	return damaged, nil
}

// mostSampled is how many values are tried.
const mostSampled = 8

// SampleValues opens values of some items, the first of some drawers, until one opens. It returns how many it tried, and how many opened.
func (st *Snapshot) SampleValues() (tried, opened int) {
	for _, d := range st.Drawers() {
		err := st.Each(d, store.ItemFilter{}, func(it *Item) bool {
			for _, v := range it.Versions {
				if v.ShreddedAt != 0 {
					continue
				}
				tried++
				if found, err := st.Find(d, it.Row.Name); err == nil && found != nil && st.opens(d, found, v) { // as a read finds it
					opened++
				}
				return false
			}
			return tried < mostSampled
		})
		if err != nil { // its rows cannot be read, or are not as they were stored
			tried++
		}
		if opened > 0 || tried >= mostSampled {
			break
		}
	}
	return tried, opened
}

// opens reports whether the content of a version is what was stored, or the version is another one meanwhile.
func (st *Snapshot) opens(d *Drawer, it *Item, v entity.Version) bool {
	ciphertext, err := st.chest.records.Content(v.ID)
	if err == nil {
		var opener *envelope.Opener
		if opener, err = envelope.NewOpener(d.KeyOf(v.DrawerKey), st.Place(d, it.Row, v.Number), v.WrappedKey); err == nil {
			_, err = opener.Open(ciphertext)
		}
	}
	if err == nil {
		return true
	}
	now, lost := st.chest.records.ItemByID(it.Row.ID)
	return lost == nil && (now.Item.Drawer != it.Row.Drawer || len(now.Versions) < v.Number || now.Versions[v.Number-1].Revision != v.Revision)
}

// Place is where a version of an item is bound to.
func (st *Snapshot) Place(d *Drawer, row entity.Item, number int) envelope.Place {
	return envelope.Place{Chest: st.chest.ID(), Drawer: d.Row.ID, Item: row.ID, Kind: row.Kind, Number: number}
}
