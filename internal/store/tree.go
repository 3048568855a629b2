package store

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"

	"golang.org/x/mod/sumdb/tlog"

	"tansu/internal/core/trail"
)

// StoredCheckpoint is a checkpoint as it was signed.
type StoredCheckpoint struct {
	Size uint64 `db:"size"`
	At   int64  `db:"at"` // in microseconds since 1970
	Note string `db:"note"`
}

// Size is the number of entries in the index, and so in the Merkle tree.
func (s *Store) Size() uint64 {
	s.index.turn.Lock()
	defer s.index.turn.Unlock()
	return s.index.seq
}

// Last is the number of the newest entry that is recorded.
func (s *Store) Last() uint64 {
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	return s.index.last
}

// hashReader reads the hashes of the tree.
func (s *Store) hashReader() tlog.HashReader {
	return tlog.HashReaderFunc(func(indexes []int64) (list []tlog.Hash, err error) {
		list = make([]tlog.Hash, len(indexes))
		for i, index := range indexes {
			if list[i], err = s.hash(index); err != nil {
				return nil, err
			}
		}
		return list, nil
	})
}

// Root is the root of the Merkle tree over the first entries, of which so many must be in the index.
func (s *Store) Root(size uint64) (trail.Hash, error) {
	if size == 0 {
		var none trail.Edge
		return none.Root(), nil
	}
	return tlog.TreeHash(int64(size), s.hashReader())
}

// ProveEntry returns the bytes of an entry and the proof that it is in the tree of some size.
func (s *Store) ProveEntry(size, seq uint64) (body string, hashes [][]byte, err error) {
	err = s.Bodies(seq, func(at uint64, found string) bool {
		if at == seq {
			body = found
		}
		return false
	})
	if err != nil {
		return "", nil, err
	}
	proof, err := tlog.ProveRecord(int64(size), int64(seq-1), s.hashReader())
	if err != nil {
		return "", nil, fmt.Errorf("prove entry %d: %w", seq, err)
	}
	return body, bytesOf(proof), nil
}

// ProveExtends proves that the tree of one size begins with that of a smaller one, which is not empty.
func (s *Store) ProveExtends(newer, older uint64) ([][]byte, error) {
	proof, err := tlog.ProveTree(int64(newer), int64(older), s.hashReader())
	if err != nil {
		return nil, fmt.Errorf("prove that %d entries follow %d: %w", newer, older, err)
	}
	return bytesOf(proof), nil
}

func bytesOf(hashes []tlog.Hash) (list [][]byte) {
	for _, h := range hashes {
		list = append(list, h[:])
	}
	return list
}

// Checkpoints lists those that are kept with a size from one to another, the newest first, at most so many.
func (s *Store) Checkpoints(from, to uint64, most int) (list []StoredCheckpoint, err error) {
	err = s.read.Select(&list, "SELECT size, at, note FROM checkpoints WHERE size BETWEEN ? AND ? ORDER BY size DESC LIMIT ?", from, to, most)
	if err != nil {
		return nil, fmt.Errorf("read checkpoints: %w", err)
	}
	return list, nil
}

// KeepCheckpoint stores a checkpoint; one of the same size stays as it is.
func (s *Store) KeepCheckpoint(c StoredCheckpoint) error {
	return s.derive("INSERT OR IGNORE INTO checkpoints (size, at, note) VALUES (?, ?, ?)", c.Size, c.At, c.Note)
}

// DropCheckpoint removes one, and DropCheckpoints those of more entries than so many.
func (s *Store) DropCheckpoint(size uint64) error {
	return s.derive("DELETE FROM checkpoints WHERE size = ?", size)
}

// DropCheckpoints removes checkpoints of more entries than so many.
func (s *Store) DropCheckpoints(beyond uint64) error {
	return s.derive("DELETE FROM checkpoints WHERE size > ?", beyond)
}

// ThinCheckpoints leaves, of the checkpoints made before a time, the last one of each hour.
func (s *Store) ThinCheckpoints(before int64) error {
	return s.derive("DELETE FROM checkpoints WHERE at < ?1 AND size NOT IN (SELECT max(size) FROM checkpoints WHERE at < ?1 GROUP BY at "+
		"/ 3600000000)", before)
}

// ChangedEntries lists entries in the file whose bytes are not those that were hashed when they were recorded, at most so
// many. Of rows of entries that are not there at all it says nothing.
func (s *Store) ChangedEntries(most int) (changed []uint64, err error) {
	var row hashRow
	size := s.Size()
	err = s.Bodies(1, func(seq uint64, body string) bool {
		if seq > size {
			return false
		}
		index := tlog.StoredHashIndex(0, int64(seq-1))
		if !row.has(index) {
			if row, err = s.hashRow(index); err != nil {
				return false
			}
		}
		if !row.has(index) || row.at(index) != trail.LeafHash(body) {
			changed = append(changed, seq)
		}
		return len(changed) < most
	})
	return changed, err
}

// ChangedHashes counts hashes of the Merkle tree in the file that are not those of the entries in it.
func (s *Store) ChangedHashes(ctx context.Context) (changed int, err error) {
	var edge trail.Edge
	var row hashRow
	var fresh []trail.Hash
	size, index := s.Size(), int64(0)
	stop := s.Bodies(1, func(seq uint64, body string) bool {
		if seq > size || ctx.Err() != nil {
			return false
		}
		fresh = edge.Grow(fresh[:0], trail.LeafHash(body))
		for _, h := range fresh {
			if !row.has(index) {
				if row, err = s.hashRow(index); errors.Is(err, sql.ErrNoRows) {
					err = nil
				} else if err != nil {
					return false
				}
			}
			if !row.has(index) || row.at(index) != h {
				changed++
			}
			index++
		}
		return true
	})
	return changed, cmp.Or(err, stop, ctx.Err())
}
