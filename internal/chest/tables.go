package chest

import (
	"strings"

	"github.com/tidwall/btree"
)

// table is rows by a key, in the order of keys. A table in a snapshot is never changed: a draft has a copy, which shares with it
// what stays as it is, so that a change costs what it changes.
type table[R any] struct{ *btree.Map[string, *R] }

func newTable[R any]() table[R] { return table[R]{new(btree.Map[string, *R])} }

func (t table[R]) copied() table[R] { return table[R]{t.Copy()} }

// row is a row by its key; the zero row if there is none.
func (t table[R]) row(key string) (row R) {
	if found, is := t.Get(key); is {
		row = *found
	}
	return row
}

// put keeps a row, or removes it.
func (t table[R]) put(key string, row *R, removed bool) {
	if removed {
		t.Delete(key)
	} else {
		t.Set(key, row)
	}
}

// under calls visit with the rows whose keys begin with a prefix, in order, until it returns false.
func (t table[R]) under(prefix string, visit func(*R) bool) {
	t.Ascend(prefix, func(key string, row *R) bool { return strings.HasPrefix(key, prefix) && visit(row) })
}

// all lists the rows whose keys begin with a prefix.
func (t table[R]) all(prefix string) (rows []R) {
	t.under(prefix, func(row *R) bool { rows = append(rows, *row); return true })
	return rows
}

// sep is between the parts of a key that has several. No id and no name has it.
const sep = "\x00"

// key is a key of several parts.
func key(parts ...string) string { return strings.Join(parts, sep) }
