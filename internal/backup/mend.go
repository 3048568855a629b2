package backup

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"tansu/internal/archive"
	"tansu/internal/core/trail"
	"tansu/internal/entryrow"
)

// Margin is how many numbers beyond the newest that is known are not used again by a chest whose end was lost: what was recorded after
// the last checkpoint that a witness has, which is ten seconds at most, may have been passed on to somebody.
const Margin = 10_000

// Mended says what was done to a trail that was not whole.
type Mended struct {
	Kept    uint64 // entries before the first one that is lost
	Skipped uint64 // numbers that say now that what they were is lost
	Last    uint64
}

// mendTrail puts an entry that says so in the place of each one that is missing, damaged or out of its place, and goes on with them up
// to a number. What was ended since is for the next unlock to end again. The trail then has every number once. It is one transaction, with
// the note of it in the file, by which another epoch begins at the next unlock. Nobody else has the file open.
func mendTrail(db *sqlx.DB, dir string, to uint64, ends []trail.End, backupAt, now time.Time) (m Mended, err error) {
	from, err := firstInDatabase(db, dir)
	if err != nil {
		return m, err
	}
	tx, err := db.Beginx()
	if err != nil {
		return m, err
	}
	defer func() { _ = tx.Rollback() }()
	t := mending{tx: tx, now: now, next: from, kept: 0}
	if err := t.rows(); err != nil {
		return m, err
	}
	if err := t.lose(t.next, max(to+1, t.next)); err != nil {
		return m, err
	}
	m = Mended{Kept: t.kept, Skipped: t.lost, Last: t.next - 1}
	if t.lost == 0 {
		m.Kept = m.Last
	}
	if t.lost == 0 && backupAt.IsZero() {
		return m, tx.Commit() // what stood where it does not belong is gone
	}
	at := int64(0)
	if !backupAt.IsZero() {
		at = backupAt.UnixMicro()
	}
	if _, err := tx.Exec(`INSERT INTO restored (one, kept, skipped, backup_at, at) VALUES (1, ?, ?, ?, ?) ON CONFLICT (one) DO UPDATE SET
		kept = min(kept, excluded.kept), skipped = skipped + excluded.skipped, backup_at = max(backup_at, excluded.backup_at), at = excluded.at`,
		m.Kept, m.Skipped, at, now.UnixMicro()); err != nil {
		return m, fmt.Errorf("note that it was restored: %w", err)
	}
	for _, end := range ends {
		_, err := tx.NamedExec("INSERT OR REPLACE INTO ended_since (seq, kind, id, version) VALUES (:seq, :kind, :id, :version)", end)
		if err != nil {
			return m, fmt.Errorf("note what was ended since: %w", err)
		}
	}
	return m, tx.Commit()
}

// firstInDatabase is the number with which what is in the database should begin, after what is in archives.
func firstInDatabase(db *sqlx.DB, dir string) (first uint64, err error) {
	archives, err := archive.List(dir)
	if err != nil {
		return 0, err
	}
	next := uint64(1)
	for _, a := range archives {
		if a.First <= next {
			next = max(next, a.Last+1)
		}
	}
	var there uint64
	if err := db.Get(&there, "SELECT coalesce(min(first), 0) FROM entries"); err != nil {
		return 0, fmt.Errorf("read the trail: %w", err)
	}
	if there > 0 && there < next { // archived, and not removed yet
		return there, nil
	}
	return next, nil
}

// mending goes through the rows of a trail.
type mending struct {
	tx   *sqlx.Tx
	now  time.Time
	next uint64 // the number that should come
	kept uint64 // entries before the first one that is lost
	lost uint64
}

// rowsAtOnce is how many rows are read in one query.
const rowsAtOnce = 256

func (t *mending) rows() error {
	after := int64(-1)
	var ahead []entryrow.Row
	for {
		var page []entryrow.Row
		err := t.tx.Select(&page, "SELECT first, bodies, packed FROM entries WHERE first > ? ORDER BY first LIMIT ?", after, rowsAtOnce)
		if err != nil {
			return fmt.Errorf("read the trail: %w", err)
		}
		ahead = append(ahead, page...)
		if len(page) > 0 {
			after = int64(page[len(page)-1].First)
		}
		last := len(page) < rowsAtOnce
		for len(ahead) > 1 || last && len(ahead) > 0 {
			end := uint64(0) // where the next row begins
			if len(ahead) > 1 {
				end = ahead[1].First
			}
			if err := t.row(ahead[0], end); err != nil {
				return err
			}
			ahead = ahead[1:]
		}
		if last {
			return nil
		}
	}
}

// row keeps what is good in a row, and puts entries that say so in the place of the rest.
func (t *mending) row(r entryrow.Row, end uint64) error {
	if r.First < t.next {
		_, err := t.tx.Exec("DELETE FROM entries WHERE first = ?", r.First)
		return err
	}
	if err := t.lose(t.next, r.First); err != nil {
		return err
	}
	lines, changed := r.Lines(), false
	if end != 0 && r.First+uint64(len(lines)) > end {
		lines, changed = lines[:end-r.First], true
	}
	for i, line := range lines {
		seq := r.First + uint64(i)
		if e, err := trail.Decode([]byte(line)); err == nil && e.Seq == seq {
			continue
		}
		t.losing(seq)
		lost := trail.Lost(seq, t.now)
		lines[i], changed = string(lost.AppendCanonical(nil)), true
	}
	t.next = r.First + uint64(len(lines))
	if !changed {
		return nil
	}
	return t.write(r.First, lines)
}

func (t *mending) losing(seq uint64) {
	if t.lost == 0 {
		t.kept = seq - 1
	}
	t.lost++
}

// lose puts entries that say so from one number up to another, which it leaves.
func (t *mending) lose(from, to uint64) error {
	var lines []string
	first := from
	for seq := from; seq < to; seq++ {
		if len(lines) == entryrow.Most || len(lines) > 0 && entryrow.Begins(seq) {
			if err := t.write(first, lines); err != nil {
				return err
			}
			first, lines = seq, nil
		}
		t.losing(seq)
		lost := trail.Lost(seq, t.now)
		lines = append(lines, string(lost.AppendCanonical(nil)))
	}
	t.next = max(t.next, to)
	if len(lines) == 0 {
		return nil
	}
	return t.write(first, lines)
}

func (t *mending) write(first uint64, lines []string) error {
	const put = "INSERT OR REPLACE INTO entries (first, bodies, packed) VALUES (:first, :bodies, :packed)"
	_, err := t.tx.NamedExec(put, entryrow.Of(first, lines))
	return err
}

// Mend makes the trail of a stopped chest whole, as far as that can be, before it is started as restored: nothing is done where nothing
// is missing. Known are the numbers of entries that somebody outside has seen.
func Mend(dir string, known []uint64, now time.Time) (m Mended, err error) {
	db, err := openFile(dir)
	if err != nil {
		return m, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	var last uint64
	if err := db.Get(&last, "SELECT max(coalesce((SELECT max(size) FROM checkpoints), 0), (SELECT seq FROM indexed))"); err != nil {
		return m, fmt.Errorf("read the trail: %w", err)
	}
	var there uint64
	if err := db.Get(&there, "SELECT coalesce(max(first), 0) FROM entries"); err != nil {
		return m, fmt.Errorf("read the trail: %w", err)
	}
	to := max(last, slices.Max(append(known, 0)))
	if to > there+entryrow.Most {
		to += Margin
	}
	return mendTrail(db, dir, min(to, there+mostSkipped), nil, time.Time{}, now)
}

// mostSkipped bounds what a forged note of a witness could make of a trail.
const mostSkipped = 50_000_000
