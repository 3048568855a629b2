package store

import (
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

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
	return s.Submit(&Work{derived: []statement{{named: s.writer.derived.fold, arguments: []any{f}}}})
}

// Folds lists what is counted and not recorded yet, as far as it began before a time.
func (s *Store) Folds(before int64) (list []Fold, err error) {
	if err := s.read.Select(&list, "SELECT key, sample, count, since, last FROM folds WHERE since < ? ORDER BY key", before); err != nil {
		return nil, fmt.Errorf("read folded refusals: %w", err)
	}
	return list, nil
}

// Unfold records what was counted as one entry. When more was counted meanwhile it is [ErrStale], and nothing happens.
func (s *Store) Unfold(f Fold, e trail.Entry) error {
	return s.Submit(&Work{Entry: e, Change: &Change{folded: &f}})
}

// unfold takes out what was counted, if it still is that.
func (f *Fold) unfold(tx *sqlx.Tx) error {
	result, err := tx.Exec("DELETE FROM folds WHERE key = ? AND count = ?", f.Key, f.Count)
	if err != nil {
		return err
	}
	if removed, err := result.RowsAffected(); err != nil || removed != 1 {
		return errors.Join(ErrStale, err)
	}
	return nil
}
