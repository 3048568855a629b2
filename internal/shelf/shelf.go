// Package shelf is the room for what is kept: drawers and the items in them, versions and their values, the rules that they follow,
// moving, importing and shredding them, and serving values to those who may read them.
package shelf

import (
	"tansu/internal/chest"
	"tansu/internal/store"
	"tansu/internal/turns"
	"tansu/internal/usage"
	"tansu/internal/waking"
)

// Records is what the room asks of a store.
type Records interface {
	usage.Records
	ItemsNamed(drawer string, names []string) (map[string]store.Shelved, error)
	Rare([]store.Said) (map[string][]int64, bool, error)
	Alike(likeness, size, most int) ([]store.AlikeItem, error)
	WrappedUnder(drawer string, key int, after string, most int) (list []store.Shelved, last string, err error)
	CountUnder(drawer string, key int) (int, error)
	ForgetJournal() error
}

// Shelf is the room. Its methods are safe for concurrent use.
type Shelf struct {
	heart   *chest.Chest
	records Records
	waiting waking.Waiting
	making  *turns.Turns // of keys that take long
}

// New opens the room over a heart.
func New(heart *chest.Chest, records Records, making *turns.Turns) *Shelf {
	s := &Shelf{heart: heart, records: records, making: making}
	heart.Listen(s.waiting.Wake)
	return s
}

// compareValue is what comparing is called in the trail.
const compareValue = "compare_value"

// forgetJournal empties the journal of what was destroyed.
func (s *Shelf) forgetJournal() {
	if err := s.records.ForgetJournal(); err != nil {
		s.heart.Log().Warn("what was shredded may still be in the journal", "error", err)
	}
}
