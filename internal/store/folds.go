package store

import (
	"fmt"

	"tansu/internal/core/trail"
)

// Fold is refusals that are alike, which are counted together. Times are in microseconds since 1970.
type Fold struct {
	Key    string `db:"key"`
	Sample string `db:"sample"` // an entry as each of them would have been, encoded
	Count  int64  `db:"count"`
	Since  int64  `db:"since"` // the first
	Last   int64  `db:"last"`  // the newest
}

// Count makes one more refusal durable without an entry of its own.
func (s *Store) Count(f Fold) error {
	return s.Submit(&Work{Derived: true, Change: func(tx *Tx) error {
		_, err := tx.tx.NamedStmt(tx.writer.derived.fold).Exec(f)
		return err
	}})
}

// Folds lists what is counted and not recorded yet, as far as it began before a time.
func (s *Store) Folds(before int64) (list []Fold, err error) {
	if err := s.read.Select(&list, "SELECT key, sample, count, since, last FROM folds WHERE since < ? ORDER BY key", before); err != nil {
		return nil, fmt.Errorf("read folded refusals: %w", err)
	}
	return list, nil
}

// Unfold records what was counted under a key as one entry, which complete makes of the count as it is at that moment.
// Nothing happens when nothing is counted.
func (s *Store) Unfold(key string, complete func(Fold) trail.Entry) error {
	work := &Work{}
	work.Change = func(tx *Tx) error {
		var f Fold
		if err := tx.tx.Get(&f, "DELETE FROM folds WHERE key = ? RETURNING key, sample, count, since, last", key); err != nil {
			return err
		}
		work.Entry = complete(f)
		return nil
	}
	return s.Submit(work)
}
