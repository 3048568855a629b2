package store

import (
	"fmt"

	"tansu/internal/core/trail"
)

// EntriesAfter calls visit with the entries that follow a number, oldest first, until visit returns false or none is
// left.
func (s *Store) EntriesAfter(seq uint64, visit func(trail.Entry) bool) error {
	rows, err := s.read.Queryx("SELECT body FROM entries WHERE seq > ? ORDER BY seq", seq)
	if err != nil {
		return fmt.Errorf("read trail: %w", err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var body []byte
		if err := rows.Scan(&body); err != nil {
			return fmt.Errorf("read trail: %w", err)
		}
		entry, err := trail.Decode(body)
		if err != nil {
			return err
		}
		if !visit(entry) {
			return nil
		}
	}
	return rows.Err()
}
