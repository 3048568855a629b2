package store

import "fmt"

// Position is up to which entry an outlet has passed the trail on; 0 for one that never did.
func (s *Store) Position(outlet string) (seq uint64, err error) {
	if err := s.read.Get(&seq, "SELECT coalesce((SELECT seq FROM outlets WHERE name = ?), 0)", outlet); err != nil {
		return 0, fmt.Errorf("read the position of an outlet: %w", err)
	}
	return seq, nil
}

// SetPosition keeps it.
func (s *Store) SetPosition(outlet string, seq uint64) error {
	return s.derive("INSERT OR REPLACE INTO outlets (name, seq) VALUES (?, ?)", outlet, seq)
}
