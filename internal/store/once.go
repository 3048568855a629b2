package store

import (
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// Once is what a change is known by to whoever asked for it, so that it is not made a second time.
type Once struct {
	ID      []byte `db:"id"`      // a hash of who asked, and under which key
	Request string `db:"request"` // the request's id, in the trail
	At      int64  `db:"at"`      // microseconds since 1970
}

// ErrDone says that a change was made before under the same key.
var ErrDone = errors.New("it was done before, under this key")

// KeepOnce is for how long it is known what was done under a key.
const KeepOnce = 24 * time.Hour

// write puts it beside the change that it is of.
func (o *Once) write(tx *sqlx.Tx) error {
	_, err := tx.NamedExec("INSERT INTO done_once (id, request, at) VALUES (:id, :request, :at)", o)
	if isConstraint(err) {
		return ErrDone
	}
	return err
}

// Done finds what was done under a key; nil for nothing.
func (s *Store) Done(id []byte) (*Once, error) {
	var list []Once
	if err := s.read.Select(&list, "SELECT id, request, at FROM done_once WHERE id = ?", id); err != nil {
		return nil, fmt.Errorf("read what was done: %w", err)
	}
	if len(list) == 0 {
		return nil, nil
	}
	return &list[0], nil
}

// ForgetDone forgets what was done under keys before a time, in microseconds since 1970.
func (s *Store) ForgetDone(before int64) error {
	var there bool
	if err := s.read.Get(&there, "SELECT EXISTS (SELECT 1 FROM done_once WHERE at < ?)", before); err != nil || !there {
		return err
	}
	return s.derive("DELETE FROM done_once WHERE at < ?", before)
}
