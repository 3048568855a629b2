package store

import (
	"bytes"
	"crypto/hmac"
	"errors"
	"fmt"
	"reflect"
	"strings"

	"github.com/jmoiron/sqlx"
)

// Chest is the one row that says what the chest is and how its root key is opened. It holds nothing that opens it.
type Chest struct {
	ID                   string `db:"id"`
	CreatedAt            int64  `db:"created_at"`
	SlotMethod           string `db:"slot_method"`
	SlotSalt             []byte `db:"slot_salt"`
	SlotPasses           uint32 `db:"slot_passes"`
	SlotMemory           uint32 `db:"slot_memory_kib"`
	SlotThreads          uint8  `db:"slot_threads"`
	SlotWrapped          []byte `db:"slot_wrapped"`
	AuthorityCertificate []byte `db:"authority_certificate"`
	AuthoritySealed      []byte `db:"authority_sealed"`
}

// Chest reads the chest's row.
func (s *Store) Chest() (Chest, error) {
	var c Chest
	err := s.read.Get(&c, `SELECT id, created_at, slot_method, slot_salt, slot_passes, slot_memory_kib, slot_threads,
		slot_wrapped, authority_certificate, authority_sealed FROM chest`)
	if err != nil {
		return Chest{}, fmt.Errorf("read chest: %w", err)
	}
	return c, nil
}

// Snapshot is every row that decides access, checked, except items and versions: they are checked with the others and
// then left in the file, because there can be a million of them.
type Snapshot struct {
	Identities  []Identity
	Members     []Member
	Credentials []Credential
	Tokens      []Token
	Grants      []Grant
	Drawers     []Drawer
	DrawerKeys  []DrawerKey
	Roles       []Role
	Requests    []Request
	Aliases     []Alias
	Calendars   []Calendar
}

// TamperedError says that the file was changed by something else than Tansu.
type TamperedError struct {
	Rows  []TouchedRow // rows that are not what was stored; none when rows were added whole, removed or put back
	Tally bool         // the rows taken together are not those that were stored
}

// TouchedRow is a row that is not what was stored.
type TouchedRow struct{ Table, ID string }

// mostTouched is how many touched rows an error names.
const mostTouched = 20

func (e *TamperedError) Error() string {
	return "the database was changed outside Tansu: " + strings.Join(e.Sentences(), ", ")
}

// Sentences names each row that was touched, up to 20 of them.
func (e *TamperedError) Sentences() (list []string) {
	if len(e.Rows) == 0 {
		return []string{"rows that decide access were removed or put back as they once were"}
	}
	for i, row := range e.Rows {
		if i == mostTouched {
			return append(list, fmt.Sprintf("and %d more", len(e.Rows)-i))
		}
		list = append(list, fmt.Sprintf("row %s of table %s is not what was stored", row.ID, row.Table))
	}
	return list
}

// Bind gives the store the keys that authenticate rows, reads and checks them all, and allows changes from then on. A
// row that is not as it was stored is a [*TamperedError], and nothing is bound.
func (s *Store) Bind(sealer Sealer) (*Snapshot, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	snapshot, t, err := s.load(sealer)
	if err != nil {
		return nil, err
	}
	s.sealer, s.tally = sealer, t
	s.bound.Store(&sealer)
	return snapshot, nil
}

// Check reads every row that decides access as it is in the file now and checks it as Bind does, without binding
// anything. What was changed is a [*TamperedError] that names all of it.
func (s *Store) Check(sealer Sealer) error {
	_, _, err := s.load(sealer)
	return err
}

// Found gives the store the keys of a chest that is being made, which has no rows yet.
func (s *Store) Found(sealer Sealer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sealer, s.tally = sealer, tally{}
	s.bound.Store(&sealer)
}

// Unbind forgets the keys; rows cannot be changed until the next Bind. Entries still can be appended.
func (s *Store) Unbind() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sealer, s.tally = nil, tally{}
	s.bound.Store(nil)
}

// load reads and checks all rows, in one read transaction.
func (s *Store) load(sealer Sealer) (*Snapshot, tally, error) {
	var snapshot Snapshot
	var t tally
	tx, err := s.read.Beginx()
	if err != nil {
		return nil, t, fmt.Errorf("read rows: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	l := loader{tx: tx, sealer: sealer, tally: &t, touched: &TamperedError{}}
	err = errors.Join(
		load(l, &snapshot.Identities, "id"),
		load(l, &snapshot.Members, "id"),
		load(l, &snapshot.Credentials, "id"),
		load(l, &snapshot.Tokens, "id"),
		load(l, &snapshot.Grants, "created_at, id"),
		load(l, &snapshot.Drawers, "name"),
		load(l, &snapshot.DrawerKeys, "drawer, number"),
		pass[Item](l),
		pass[Version](l),
		load(l, &snapshot.Roles, "name"),
		load(l, &snapshot.Requests, "created_at, id"),
		load(l, &snapshot.Aliases, "id"),
		load(l, &snapshot.Calendars, "id"),
	)
	if err != nil {
		return nil, t, err
	}
	var stored struct {
		Sum      []byte `db:"tally"`
		Revision int64  `db:"tally_revision"`
		MAC      []byte `db:"tally_mac"`
	}
	if err := tx.Get(&stored, "SELECT tally, tally_revision, tally_mac FROM chest"); err != nil {
		return nil, t, fmt.Errorf("read tally: %w", err)
	}
	t.revision = stored.Revision
	mac := sealer.RowMAC(t.content())
	l.touched.Tally = !bytes.Equal(stored.Sum, t.sum[:]) || !hmac.Equal(stored.MAC, mac[:])
	if l.touched.Tally || len(l.touched.Rows) > 0 {
		return nil, t, l.touched
	}
	return &snapshot, t, nil
}

type loader struct {
	tx      *sqlx.Tx
	sealer  Sealer
	tally   *tally
	touched *TamperedError
}

// load reads all rows of one table and notes those whose MAC is not theirs.
func load[R Row](l loader, rows *[]R, order string) error {
	var zero R
	query := "SELECT " + strings.Join(columns(zero), ", ") + " FROM " + zero.table() + " ORDER BY " + order
	if err := l.tx.Select(rows, query); err != nil {
		return fmt.Errorf("read %s: %w", zero.table(), err)
	}
	for _, row := range *rows {
		l.check(row)
	}
	return nil
}

// pass reads all rows of one table, checks them as load does, and keeps none. Reading and checking take about as long,
// and go on side by side.
func pass[R Row](l loader) error {
	var row R
	rows, err := l.tx.Queryx("SELECT " + strings.Join(columns(row), ", ") + " FROM " + row.table())
	if err != nil {
		return fmt.Errorf("read %s: %w", row.table(), err)
	}
	defer func() { _ = rows.Close() }()
	parts, checked := make(chan []R, 4), make(chan struct{})
	go func() {
		defer close(checked)
		for part := range parts {
			for _, row := range part {
				l.check(row)
			}
		}
	}()
	err = split(rows, parts)
	close(parts)
	<-checked
	if err != nil {
		return fmt.Errorf("read %s: %w", row.table(), err)
	}
	return nil
}

// split reads all rows, in parts of a page.
func split[R Row](rows *sqlx.Rows, parts chan<- []R) error {
	part := make([]R, 0, pageSize)
	for rows.Next() {
		var row R
		if err := rows.StructScan(&row); err != nil {
			return err
		}
		if part = append(part, row); len(part) == pageSize {
			parts <- part
			part = make([]R, 0, pageSize)
		}
	}
	parts <- part
	return rows.Err()
}

// check notes a row whose MAC is not its own, and counts it.
func (l loader) check(row Row) {
	content := authenticated(row)
	mac := l.sealer.RowMAC(content)
	if !hmac.Equal(mac[:], row.seal().MAC) {
		l.touched.Rows = append(l.touched.Rows, TouchedRow{row.table(), idOf(row)})
	}
	l.tally.toggle(l.sealer.RowTally(content))
}

// idOf is the id of any row: they all have one, in a field of that name.
func idOf(row Row) string { return reflect.ValueOf(row).FieldByName("ID").String() }

// Ready reports whether the database answers.
func (s *Store) Ready() error {
	var one int
	return s.read.Get(&one, "SELECT 1")
}
