package chest

import (
	"cmp"
	"context"
	"fmt"
	"sync"

	"tansu/internal/core/envelope"
	"tansu/internal/entity"
	"tansu/internal/pace"
	"tansu/internal/store"
)

// content is what a version's bytes are decrypted from: what the file holds of them, and their data key.
type content struct {
	ciphertext []byte
	opener     *envelope.Opener
}

// openerSize is about how many bytes an opener takes.
const openerSize = 1 << 10

func (c content) size() int { return len(c.ciphertext) + openerSize }

// contentCache keeps contents in memory up to a number of bytes, so that a warm read needs no file and opens one key less.
// It holds keys, and is emptied when the chest is locked.
type contentCache struct {
	mu      sync.RWMutex
	limit   int
	size    int
	entries map[string]content
}

func newContentCache(limit int) *contentCache {
	return &contentCache{limit: limit, entries: map[string]content{}}
}

// get returns the content of a version, reading it on a miss. What is read is kept if it still may be.
func (c *contentCache) get(version string, read func() (content, error), may func() bool) (content, error) {
	c.mu.RLock()
	kept, found := c.entries[version]
	c.mu.RUnlock()
	if found {
		return kept, nil
	}
	fresh, err := read()
	if err != nil {
		return content{}, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, found := c.entries[version]; found || !may() {
		return fresh, nil
	}
	c.entries[version] = fresh
	c.size += fresh.size()
	// Go visits a map in random order: what is dropped is random, which needs no bookkeeping on a hit.
	for victim, old := range c.entries {
		if c.size <= c.limit {
			break
		}
		delete(c.entries, victim)
		c.size -= old.size()
	}
	return fresh, nil
}

// forget drops the contents of versions that are shredded or moved, or whose keys are wrapped anew.
func (c *contentCache) forget(versions []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, version := range versions {
		if old, found := c.entries[version]; found {
			c.size -= old.size()
			delete(c.entries, version)
		}
	}
}

// Content decrypts a version of an item.
func (st *Snapshot) Content(d *Drawer, it *Item, number int) ([]byte, error) {
	row, m := it.Versions[number-1], st.chest.memory
	position := m.position() // before anything is read
	sealed, err := st.chest.contents.get(row.ID, func() (c content, err error) {
		if c.ciphertext, err = st.chest.records.Content(row.ID); err == nil {
			c.opener, err = envelope.NewOpener(d.KeyOf(row.DrawerKey), st.Place(d, it.Row, number), row.WrappedKey)
		}
		return c, err
	}, func() bool {
		m.mu.RLock()
		defer m.mu.RUnlock()
		return st.chest.newest.Load() != nil && !m.touchedSince(position, store.Mark{What: store.MarkItem, ID: it.Row.ID},
			store.Mark{What: store.MarkDrawer, ID: d.Row.ID})
	})
	if err != nil {
		return nil, err
	}
	return sealed.opener.Open(sealed.ciphertext)
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

// empty drops everything.
func (c *contentCache) empty() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.entries)
	c.size = 0
}
