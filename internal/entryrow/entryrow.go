// Package entryrow is how entries of the trail lie in the rows of the database: many in one, packed when that is worth it, and in blocks
// that the index and the archives go by.
package entryrow

import (
	"strings"

	"github.com/klauspost/compress/s2"
)

// BlockSize is how many entries share one place in the index; entry 1 is the first of block 0. The entries of one block
// are never in one row with those of another.
const BlockSize = 4096

// Most is how many entries are in one row at most; it bounds what is read to find one of them.
const Most = 256

// BlockOf is the block of an entry.
func BlockOf(seq uint64) int64 { return int64((seq - 1) / BlockSize) }

// Begins reports whether an entry is the first one of a block, with which a row begins.
func Begins(seq uint64) bool { return (seq-1)%BlockSize == 0 }

// Row is a row of entries: the number of the first one, and the lines, as they are or packed.
type Row struct {
	First  uint64 `db:"first"`
	Bodies string `db:"bodies"`
	Packed []byte `db:"packed"`
}

// packFrom is from how many bytes on a row is packed. Entries that are committed together say nearly the same: twenty take
// a sixth to a sixteenth of their bytes, and packing them takes 0.1 microseconds for each, which is less than writing more.
const packFrom = 1 << 10

// mostUnpacked is more than a row can hold; what says that it holds more is damaged.
const mostUnpacked = 64 << 20

// Packed is the packed form of lines that are worth it; nil for others.
func Packed(bodies []byte) []byte {
	if len(bodies) < packFrom {
		return nil
	}
	return s2.Encode(nil, bodies)
}

// Of makes the row of lines, of which the first one has a number.
func Of(first uint64, entries []string) Row {
	r := Row{First: first, Bodies: strings.Join(entries, "\n") + "\n"}
	if r.Packed = Packed([]byte(r.Bodies)); r.Packed != nil {
		r.Bodies = ""
	}
	return r
}

// damaged stands for a row that cannot be unpacked.
const damaged = "a row that cannot be unpacked"

// Lines returns the lines of a row. If a row was tampered with so that it cannot be unpacked, it is one line that is not an entry, so
// that going through the entries one by one shows which one is wrong.
func (r Row) Lines() []string {
	bodies := r.Bodies
	if r.Packed != nil {
		if size, err := s2.DecodedLen(r.Packed); err != nil || size > mostUnpacked {
			return []string{damaged}
		}
		unpacked, err := s2.Decode(nil, r.Packed)
		if err != nil {
			return []string{damaged}
		}
		bodies += string(unpacked)
	}
	return Split(bodies)
}

// Split returns the lines of a text of which each ends with a line break.
func Split(bodies string) []string { return strings.Split(strings.TrimSuffix(bodies, "\n"), "\n") }
