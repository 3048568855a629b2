package store

import (
	"context"
	"crypto/hmac"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"tansu/internal/core/trail"
	"tansu/internal/entity"

	"github.com/jmoiron/sqlx"
)

// Chest is the one row that says what the chest is and how its root key is opened. It holds nothing that opens it.
type Chest struct {
	ID                   string `db:"id"`
	CreatedAt            int64  `db:"created_at"`
	AuthorityCertificate []byte `db:"authority_certificate"`
	Seals
}

// Seals are what the keys of a chest are under.
type Seals struct {
	RootWrapped     []byte `db:"root_wrapped"` // under the unlock key; empty while the first slot wraps the root key itself
	BaseSealed      []byte `db:"base_sealed"`  // see envelope.Root
	AuthoritySealed []byte `db:"authority_sealed"`
}

// Chest reads the chest's row.
func (s *Store) Chest() (Chest, error) {
	var c Chest
	err := s.read.Get(&c, `SELECT id, created_at, authority_certificate, root_wrapped, base_sealed, authority_sealed FROM chest`)
	if err != nil {
		return Chest{}, fmt.Errorf("read chest: %w", err)
	}
	return c, nil
}

// Slots reads the unlock methods and who holds shares of them, as they are in the file, unchecked: what is there while the
// chest is locked.
func (s *Store) Slots() (slots []entity.Slot, shares []entity.Share, err error) {
	err = s.read.Select(&slots, "SELECT "+strings.Join(columns(entity.Slot{}), ", ")+" FROM slots ORDER BY created_at, id LIMIT 100")
	if err == nil {
		err = s.read.Select(&shares, "SELECT "+strings.Join(columns(entity.Share{}), ", ")+" FROM shares ORDER BY slot, number LIMIT 1000")
	}
	if err != nil {
		return nil, nil, fmt.Errorf("read the unlock methods: %w", err)
	}
	return slots, shares, nil
}

// SubjectOf is the subject of an identity as it is in the file, for whoever asks while the chest is locked.
func (s *Store) SubjectOf(identity string) (subject string, err error) {
	err = s.read.Get(&subject, "SELECT kind || ':' || name FROM identities WHERE id = ?", identity)
	return subject, err
}

// Restored says that the file comes from a backup, or that its trail was made whole, since it was unlocked last.
type Restored struct {
	Kept     uint64 `db:"kept"`      // entries of the trail
	Skipped  uint64 `db:"skipped"`   // numbers after them that are not used again
	BackupAt int64  `db:"backup_at"` // of when the backup is; 0 for none
	At       int64  `db:"at"`
}

// Restored returns it; nil for a file that is what it was.
func (s *Store) Restored() (*Restored, error) {
	var list []Restored
	if err := s.read.Select(&list, "SELECT kept, skipped, backup_at, at FROM restored"); err != nil {
		return nil, fmt.Errorf("read whether it was restored: %w", err)
	}
	if len(list) == 0 {
		return nil, nil
	}
	return &list[0], nil
}

// EndedSince is what was ended after the backup that the file comes from.
func (s *Store) EndedSince() (list []trail.End, err error) {
	if err := s.read.Select(&list, "SELECT seq, kind, id, version FROM ended_since ORDER BY seq, id"); err != nil {
		return nil, fmt.Errorf("read what was ended since: %w", err)
	}
	return list, nil
}

// ForgetRestored is called when the chest has gone on in another epoch, with what was ended again.
func (s *Store) ForgetRestored() error {
	return errors.Join(s.derive("DELETE FROM ended_since"), s.derive("DELETE FROM restored"))
}

// Snapshot is every row that decides access, checked, except items and versions: they are checked with the others and
// then left in the file, because there can be a million of them.
type Snapshot struct {
	Identities  []entity.Identity
	Members     []entity.Member
	Credentials []entity.Credential
	Tokens      []entity.Token
	Grants      []entity.Grant
	Drawers     []entity.Drawer
	DrawerKeys  []entity.DrawerKey
	Roles       []entity.Role
	Requests    []entity.Request
	Aliases     []entity.Alias
	Calendars   []entity.Calendar
	Slots       []entity.Slot
	Shares      []entity.Share
	Issued      []entity.Issued
	MasterKeys  []entity.MasterKey
}

// TamperedError says that the file was changed by something other than Tansu.
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

// Bind gives the store the keys that authenticate rows, reads and checks those that are kept in memory, and allows changes from then
// on. A row that is not as it was stored is a [*TamperedError], and nothing is bound. Items and versions are checked bucket by bucket,
// when something in one is first used, and behind the scenes ([Store.CheckBuckets]).
func (s *Store) Bind(sealer Sealer) (*Snapshot, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.noteOthers(); err != nil { // before it is looked through
		return nil, err
	}
	snapshot, l, stored, all, err := s.load(context.Background(), sealer, false)
	if err != nil {
		return nil, err
	}
	s.sealer = sealer
	if stored.Form < form {
		if err := s.upgrade(l, snapshot, stored, all); err != nil {
			s.sealer = nil
			return nil, err
		}
	} else {
		s.tally = tally{revision: stored.Revision}
		copy(s.tally.sum[:], stored.Sum)
		s.buckets.reset(all)
	}
	s.bound.Store(&sealer)
	return snapshot, nil
}

// Follow lets memory follow what is committed from now on. It is called after Bind, before anything else is submitted.
func (s *Store) Follow(memory Memory) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.memory = memory
}

// Check reads every row that decides access as it is in the file now and checks it as Bind does, without binding
// anything. What was changed is a [*TamperedError] that names all of it.
func (s *Store) Check(ctx context.Context, sealer Sealer) error {
	_, _, _, _, err := s.load(ctx, sealer, true)
	return err
}

// Found gives the store the keys of a chest that is being made, which has no rows yet.
func (s *Store) Found(sealer Sealer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sealer, s.tally = sealer, tally{}
	s.buckets.reset(map[string]bucket{})
	s.bound.Store(&sealer)
}

// Unbind forgets the keys; rows cannot be changed until the next Bind. Entries still can be appended.
func (s *Store) Unbind() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sealer, s.tally, s.memory = nil, tally{}, nil
	s.bound.Store(nil)
	s.buckets.reset(nil)
}

// load reads and checks rows, in one read transaction: those that are kept in memory, and if whole is set, or if they are tallied all
// together, items and versions, too.
func (s *Store) load(ctx context.Context, sealer Sealer, whole bool) (snapshot *Snapshot, l *loader, stored storedTally,
	all map[string]bucket, err error) {
	tx, err := s.read.BeginTxx(ctx, nil)
	if err != nil {
		return nil, nil, stored, nil, fmt.Errorf("read rows: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	if err := tx.Get(&stored, "SELECT tally, tally_revision, tally_mac, tally_form FROM chest"); err != nil {
		return nil, nil, stored, nil, fmt.Errorf("read tally: %w", err)
	}
	most, err := mostRows(tx)
	if err != nil {
		return nil, nil, stored, nil, err
	}
	l = &loader{ctx: ctx, tx: tx, most: most, sealer: sealer, touched: &TamperedError{}, sums: map[string]*sum{}}
	snapshot = &Snapshot{}
	err = errors.Join(
		load(l, &snapshot.Identities, "id"),
		load(l, &snapshot.Members, "id"),
		load(l, &snapshot.Credentials, "id"),
		load(l, &snapshot.Tokens, "id"),
		load(l, &snapshot.Grants, "created_at, id"),
		load(l, &snapshot.Drawers, "name"),
		load(l, &snapshot.DrawerKeys, "drawer, number"),
		load(l, &snapshot.Roles, "name"),
		load(l, &snapshot.Requests, "created_at, id"),
		load(l, &snapshot.Aliases, "id"),
		load(l, &snapshot.Calendars, "id"),
		load(l, &snapshot.Shares, "id"),
		load(l, &snapshot.Issued, "id"),
		load(l, &snapshot.MasterKeys, "id"),
	)
	if stored.Form >= 3 {
		err = errors.Join(err, load(l, &snapshot.Slots, "id"))
	} else if err == nil {
		snapshot.Slots, _, err = s.Slots() // from before they were under MACs
	}
	if whole || stored.Form == 1 {
		err = errors.Join(err, pass[entity.Item](l), pass[entity.Version](l))
	}
	if err != nil {
		return nil, nil, stored, nil, err
	}
	if all, err = l.buckets(stored.Form); err != nil {
		return nil, nil, stored, nil, err
	}
	l.compare(stored, all)
	if whole && stored.Form > 1 {
		l.compareBuckets(all)
	}
	if l.touched.Tally || len(l.touched.Rows) > 0 {
		return nil, nil, stored, nil, l.touched
	}
	return snapshot, l, stored, all, nil
}

// buckets reads and checks the sums of items and versions.
func (l *loader) buckets(form int) (all map[string]bucket, err error) {
	all = map[string]bucket{}
	if form == 1 {
		return all, nil
	}
	var list []bucket
	if err := l.tx.Select(&list, "SELECT id, sum, revision, mac FROM buckets"); err != nil {
		return nil, fmt.Errorf("read the sums of rows: %w", err)
	}
	for _, one := range list {
		mac := l.sealer.RowMAC(one.content())
		if !hmac.Equal(mac[:], one.MAC) {
			l.touched.Rows = append(l.touched.Rows, TouchedRow{"buckets", one.ID})
		}
		all[one.ID] = one
	}
	return all, nil
}

// compareBuckets holds the rows that are there against the sums of those that were stored.
func (l *loader) compareBuckets(all map[string]bucket) {
	for id, one := range all {
		if !l.sumOf(id).is(one, l.sealer) {
			l.touched.Tally = true
		}
	}
	for id := range l.sums {
		if _, stored := all[id]; id != "" && !stored {
			l.touched.Tally = true
		}
	}
}

// mostRows is more rows than a table of the file can have: a damaged page that leads to others again and again has no end otherwise.
func mostRows(tx *sqlx.Tx) (most int, err error) {
	const smallest = 16 // bytes; every row that is checked has a MAC of twice as many
	err = tx.Get(&most, "SELECT page_count * page_size / ? FROM pragma_page_count, pragma_page_size", smallest)
	if err != nil {
		err = fmt.Errorf("read the size of the file: %w", err)
	}
	return most, err
}

type loader struct {
	ctx     context.Context
	tx      *sqlx.Tx
	most    int // rows of a table
	sealer  Sealer
	sums    map[string]*sum // by bucket; the empty one is that of rows which are in memory
	first   firstForm
	touched *TamperedError
}

// sumOf is the sum of a bucket's rows, as far as they were read.
func (l *loader) sumOf(id string) *sum {
	if l.sums[id] == nil {
		l.sums[id] = &sum{}
	}
	return l.sums[id]
}

// load reads all rows of one table and notes those whose MAC is not theirs.
func load[R entity.Row](l *loader, rows *[]R, order string) error {
	var zero R
	query := "SELECT " + strings.Join(columns(zero), ", ") + " FROM (SELECT * FROM " + zero.Table() + " LIMIT ?) ORDER BY " + order
	if err := l.tx.SelectContext(l.ctx, rows, query, l.most); err != nil {
		return fmt.Errorf("read %s: %w", zero.Table(), err)
	}
	for _, row := range *rows {
		l.check(row)
	}
	return nil
}

// pass reads all rows of one table, checks them as load does, and keeps none. Reading and checking take about as long,
// and go on side by side.
func pass[R entity.Row](l *loader) error {
	var row R
	rows, err := l.tx.QueryxContext(l.ctx, "SELECT "+strings.Join(columns(row), ", ")+" FROM "+row.Table()+" LIMIT ?", l.most)
	if err != nil {
		return fmt.Errorf("read %s: %w", row.Table(), err)
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
		return fmt.Errorf("read %s: %w", row.Table(), err)
	}
	return nil
}

// split reads all rows, in parts of a page.
func split[R entity.Row](rows *sqlx.Rows, parts chan<- []R) error {
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
func (l *loader) check(row entity.Row) {
	content := authenticated(row)
	mac := macOf(l.sealer, row, content)
	if !hmac.Equal(mac[:], row.Stamp().MAC) {
		l.touched.Rows = append(l.touched.Rows, TouchedRow{row.Table(), idOf(row)})
	}
	share := tallyOf(l.sealer, row, content)
	l.first.toggle(share)
	l.sumOf(bucketOf(row)).add(share)
}

// idOf is the id of any row: they all have one, in a field of that name.
func idOf(row entity.Row) string { return reflect.ValueOf(row).FieldByName("ID").String() }

// CountContents counts the values that are stored.
func (s *Store) CountContents() (n int, err error) {
	err = s.read.Get(&n, "SELECT count(*) FROM contents")
	return n, err
}

// Ready reports whether the database answers.
func (s *Store) Ready() error {
	var one int
	return s.read.Get(&one, "SELECT 1")
}
