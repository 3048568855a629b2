package store

import (
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"tansu/internal/entity"

	"github.com/jmoiron/sqlx"
)

// Change is what a work does to rows and contents. It is made by whoever decides, and from the moment it is submitted it is the
// store's; after a commit its rows are as they were stored. The order of rows is that in which they are written.
type Change struct {
	Rows     []RowChange
	Contents []ContentChange
	Founds   *Chest // of a chest that is being made
	Seals    *Seals // in the place of those that are stored
	Turns    Sealer // what authenticates rows from then on: the root key was rotated
	Once     *Once  // what it is known by to whoever asked for it; nil for nothing

	folded *Fold // refusals that were counted and become the work's entry
	sealer Sealer
	shares map[string]*sum // what it changes of the tally, and of buckets
}

// RowChange is one row: a new one, one in the place of another with the same id, or one that is removed.
type RowChange struct {
	Before entity.Row // nil for a new one
	After  entity.Row // nil for one that is removed
}

// ContentChange is the ciphertext of a version, in the place of the one that was there; nil removes it.
type ContentChange struct {
	Version    string
	Ciphertext []byte
}

// Insert adds a new row. One with the same id or name is [ErrExists].
func (c *Change) Insert(row entity.Row) { c.Rows = append(c.Rows, RowChange{After: row}) }

// Update puts a row in the place of another with the same id. If the stored row is not before any more, it is [ErrStale].
func (c *Change) Update(before, after entity.Row) { c.Rows = append(c.Rows, RowChange{before, after}) }

// Delete removes a row. If the stored row is not row any more, it is [ErrStale].
func (c *Change) Delete(row entity.Row) { c.Rows = append(c.Rows, RowChange{Before: row}) }

// PutContent stores the ciphertext of a version, and DropContent removes it; that there is none is no error.
func (c *Change) PutContent(version string, ciphertext []byte) {
	c.Contents = append(c.Contents, ContentChange{version, ciphertext})
}

// DropContent removes the ciphertext of a version.
func (c *Change) DropContent(version string) { c.PutContent(version, nil) }

// Empty reports whether it changes nothing.
func (c *Change) Empty() bool {
	return len(c.Rows) == 0 && len(c.Contents) == 0 && c.Founds == nil && c.Seals == nil && c.Turns == nil && c.folded == nil
}

// Stored returns the row of an id as it was stored by a change; the zero row if there is none of that kind.
func Stored[R entity.Row](c *Change, id string) (found R) {
	for _, row := range c.Rows {
		if r, is := row.After.(R); is && idOf(r) == id {
			found = r
		}
	}
	return found
}

// seal gives each row its revision and its MAC, before anybody waits for it. It is done again for one that is submitted again.
func (w *writer) seal(c *Change) error {
	if c == nil || len(c.Rows) == 0 {
		return nil
	}
	bound := w.bound.Load()
	if bound == nil {
		return ErrNotBound
	}
	sealer := *bound
	if c.Turns != nil {
		sealer = c.Turns
	}
	c.sealWith(sealer)
	return nil
}

func (c *Change) sealWith(sealer Sealer) {
	c.sealer, c.shares = sealer, map[string]*sum{}
	of := func(row entity.Row) *sum {
		id := bucketOf(row)
		if c.shares[id] == nil {
			c.shares[id] = &sum{}
		}
		return c.shares[id]
	}
	for i := range c.Rows {
		row := &c.Rows[i]
		revision := int64(1)
		if row.Before != nil {
			of(row.Before).sub(tallyOf(sealer, row.Before, authenticated(row.Before)))
			revision = row.Before.Stamp().Revision + 1
		}
		if row.After != nil {
			after := row.After.WithSeal(entity.Seal{Revision: revision})
			content := authenticated(after)
			mac := macOf(sealer, after, content)
			row.After = after.WithSeal(entity.Seal{Revision: revision, MAC: mac[:]})
			of(row.After).add(tallyOf(sealer, after, content))
		}
	}
}

// make writes a change in a transaction.
func (w *writer) make(tx *sqlx.Tx, c *Change) error {
	if c.Turns != nil {
		if err := w.turn(tx, c.Turns); err != nil {
			return err
		}
	}
	switch {
	case len(c.Rows) == 0:
	case w.sealer == nil:
		return ErrNotBound // it was locked meanwhile
	case w.sealer != c.sealer: // the root key was rotated meanwhile
		c.sealWith(w.sealer)
	}
	if c.Seals != nil {
		if _, err := tx.NamedExec("UPDATE chest SET root_wrapped = :root_wrapped, base_sealed = :base_sealed, "+
			"authority_sealed = :authority_sealed", *c.Seals); err != nil {
			return err
		}
	}
	if c.Founds != nil {
		if err := insertChest(tx, *c.Founds); err != nil {
			return err
		}
	}
	if c.Once != nil {
		if err := c.Once.write(tx); err != nil {
			return err
		}
	}
	var words wordChanges
	for rows := c.Rows; len(rows) > 0; {
		alike := newAlike(rows)
		if len(alike) == rowsTogether {
			if err := w.insertRows(tx, alike, &words); err != nil {
				return err
			}
			rows = rows[len(alike):]
			continue
		}
		if err := w.makeRow(tx, rows[0], &words); err != nil {
			return err
		}
		rows = rows[1:]
	}
	if err := w.makeContents(tx, c.Contents); err != nil {
		return err
	}
	if c.folded != nil {
		if err := c.folded.unfold(tx); err != nil {
			return err
		}
	}
	if err := words.index(tx); err != nil {
		return err
	}
	w.count(c.shares)
	return nil
}

func (w *writer) makeRow(tx *sqlx.Tx, row RowChange, words *wordChanges) error {
	switch {
	case row.After == nil:
		return one(tx, w.changes[row.Before.Table()].remove, row.Before)
	case row.Before != nil:
		kind := w.changes[row.After.Table()]
		statement, err := kind.update(tx, row.Before, row.After)
		if err != nil {
			return err
		}
		if err := one(tx, statement, row.After); err != nil {
			return err
		}
		was, isItem := row.Before.(entity.Item)
		if after, is := row.After.(entity.Item); isItem && is && said(was) != said(after) {
			words.said = append(words.said, was.ID)
		}
		return nil
	}
	result, err := tx.NamedStmt(w.changes[row.After.Table()].insert).Exec(row.After)
	return words.inserted(result, err, row.After, 1)
}

// rowsTogether is how many new rows of one table, which follow each other in a change, are inserted by one statement.
const rowsTogether = 32

// newAlike are the first rows, at most as many as are inserted at once, if they are new ones of one table.
func newAlike(rows []RowChange) []RowChange {
	n := 0
	for n < min(len(rows), rowsTogether) && rows[n].Before == nil && rows[n].After.Table() == rows[0].After.Table() {
		n++
	}
	return rows[:n]
}

func (w *writer) insertRows(tx *sqlx.Tx, rows []RowChange, words *wordChanges) error {
	kind := w.changes[rows[0].After.Table()]
	arguments := make([]any, 0, len(rows)*len(kind.columns))
	for _, row := range rows {
		arguments = kind.arguments(arguments, row.After)
	}
	result, err := tx.Stmtx(kind.insertMany).Exec(arguments...)
	return words.inserted(result, err, rows[0].After, int64(len(rows)))
}

// makeContents writes contents, in their order: those that follow each other and are put by as few statements as that takes.
func (w *writer) makeContents(tx *sqlx.Tx, contents []ContentChange) error {
	var puts [][]any
	for _, c := range contents {
		if c.Ciphertext != nil {
			puts = append(puts, []any{c.Version, c.Ciphertext})
			continue
		}
		if err := runAll(tx, w.content.of(puts)); err != nil {
			return err
		}
		puts = nil
		if _, err := tx.Exec("DELETE FROM contents WHERE version = ?", c.Version); err != nil {
			return err
		}
	}
	return runAll(tx, w.content.of(puts))
}

// one runs a statement that must change exactly one row.
func one(tx *sqlx.Tx, statement *sqlx.NamedStmt, row entity.Row) error {
	result, err := tx.NamedStmt(statement).Exec(row)
	if isConstraint(err) {
		return ErrExists
	}
	if err != nil {
		return err
	}
	if changed, err := result.RowsAffected(); err != nil || changed != 1 {
		return errors.Join(ErrStale, err)
	}
	return nil
}

// wordChanges are the items of one change that are to be made findable by what is said about them. It is done once for all,
// because each statement that touches that index by itself costs much more.
type wordChanges struct {
	first, last int64    // rows of items that are new; there are no others between them
	said        []string // items about which something else is said than before, by their ids
}

// inserted notes what came of inserting some rows of one table: the rows of items follow each other.
func (c *wordChanges) inserted(result sql.Result, err error, row entity.Row, n int64) error {
	if isConstraint(err) {
		return ErrExists
	}
	if err != nil {
		return err
	}
	if added, err := result.RowsAffected(); err != nil || added != n {
		return errors.Join(ErrOthers, err)
	}
	if _, is := row.(entity.Item); !is {
		return nil
	}
	last, err := result.LastInsertId()
	if c.first == 0 {
		c.first = last - n + 1
	}
	c.last = last
	return err
}

const toWords = ` INTO items_words (rowid, name, description, owner, labels, shape, created_by)
	SELECT rowid, name, description, owner, labels, shape, created_by FROM items WHERE `

func (c *wordChanges) index(tx *sqlx.Tx) error {
	if c.first != 0 {
		if _, err := tx.Exec("INSERT"+toWords+"rowid BETWEEN ? AND ?", c.first, c.last); err != nil {
			return err
		}
	}
	for part := range slices.Chunk(c.said, pageSize) {
		statement, ids, err := sqlx.In("INSERT OR REPLACE"+toWords+"id IN (?)", part)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(statement, ids...); err != nil {
			return err
		}
	}
	return nil
}

// insertChest stores what a new chest is.
func insertChest(tx *sqlx.Tx, c Chest) error {
	_, err := tx.NamedExec(`INSERT INTO chest (one, id, created_at, authority_certificate, root_wrapped, base_sealed, authority_sealed, tally,
		tally_revision, tally_mac, tally_form)
		VALUES (1, :id, :created_at, :authority_certificate, :root_wrapped, :base_sealed, :authority_sealed, x'', 0, x'', 3)`, c)
	return err
}

// upsert puts rows in, one by one or many with one statement.
type upsert struct{ one, many *sqlx.Stmt }

// prepareUpsert prepares an insertion, the columns in parentheses at its end, with what to do about rows that are there already.
func (w *writer) prepareUpsert(insert, conflict string) (u upsert, err error) {
	row := ", (?" + strings.Repeat(", ?", strings.Count(insert, ",")) + ")"
	if u.one, err = w.db.Preparex(insert + " VALUES " + row[2:] + " " + conflict); err != nil {
		return u, err
	}
	u.many, err = w.db.Preparex(insert + " VALUES " + strings.Repeat(row, rowsTogether)[2:] + " " + conflict)
	return u, err
}

// of are the statements that put rows in, which have other keys each.
func (u upsert) of(rows [][]any) (steps []statement) {
	for ; len(rows) >= rowsTogether; rows = rows[rowsTogether:] {
		steps = append(steps, statement{prepared: u.many, arguments: slices.Concat(rows[:rowsTogether]...)})
	}
	for _, row := range rows {
		steps = append(steps, statement{prepared: u.one, arguments: row})
	}
	return steps
}

// statement is a write to what is worked out from entries, or to what is kept beside them: a text or a prepared one, and what
// is put into it.
type statement struct {
	text      string
	prepared  *sqlx.Stmt
	named     *sqlx.NamedStmt // takes the one argument by its fields
	arguments []any
}

func (s statement) run(tx *sqlx.Tx) (err error) {
	switch {
	case s.named != nil:
		_, err = tx.NamedStmt(s.named).Exec(s.arguments[0])
	case s.prepared != nil:
		_, err = tx.Stmtx(s.prepared).Exec(s.arguments...)
	default:
		_, err = tx.Exec(s.text, s.arguments...)
	}
	return err
}

func runAll(tx *sqlx.Tx, list []statement) error {
	for _, s := range list {
		if err := s.run(tx); err != nil {
			return fmt.Errorf("%s: %w", s.text, err)
		}
	}
	return nil
}

// derive runs one statement through the writer.
func (w *writer) derive(text string, arguments ...any) error {
	return w.Submit(&Work{derived: []statement{{text: text, arguments: arguments}}})
}
