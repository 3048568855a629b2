package store

import (
	"cmp"
	"context"
	"crypto/subtle"
	"database/sql"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/klauspost/compress/s2"

	"tansu/internal/core/trail"
)

// ErrExists says that a row with the same name or id is there already.
var ErrExists = errors.New("exists already")

// ErrStale says that a row has changed since it was read.
var ErrStale = errors.New("changed since it was read")

// ErrNotRecorded says that the file could not be written: nothing was changed and nothing may be served.
var ErrNotRecorded = errors.New("the trail cannot be written")

// ErrNotBound says that rows cannot be written because the chest is locked.
var ErrNotBound = errors.New("the chest is locked")

// Sealer authenticates rows; the root key provides it while the chest is unlocked.
type Sealer interface {
	RowMAC(content []byte) [32]byte
	RowTally(content []byte) [32]byte
}

// Work is one thing to be made durable: an entry and, if Change is set, the change it tells of.
type Work struct {
	Entry trail.Entry // Seq is given by the writer
	// Derived says that the change only works out what entries say that are there already, and has no entry of its own.
	Derived bool
	// More are further entries of the same work, recorded with it and after it: one for each of many things changed.
	More []trail.Entry
	// Change runs inside the transaction, on any submitter's goroutine. An error undoes it alone, leaves the entry out
	// and is what Submit returns.
	Change func(*Tx) error
	// Committed runs after the commit and before Submit returns, on any submitter's goroutine, in the order of commits:
	// the place to bring memory in line with the file.
	Committed func()

	err  error
	told chan turn
}

// turn is what a submitted work waits for.
type turn int

const (
	done turn = iota // the work is durable, or failed
	lead             // the one that submitted it commits what is waiting
)

// writer changes the file. Who submits a work while nobody writes takes the lead: it commits what is waiting and hands
// the lead to one of those that came meanwhile. A lone client's work therefore never changes goroutines.
type writer struct {
	db      *sqlx.DB
	queue   queue
	insert  *sqlx.Stmt         // adds a row of entries
	changes map[string]changes // by table
	content *sqlx.Stmt         // inserts one
	derived struct {           // what the index of the trail takes
		posting, setPosting *sqlx.Stmt
		use, fold           *sqlx.NamedStmt
	}
	index index

	mu     sync.Mutex // guards sealer and tally against Bind and Unbind
	sealer Sealer
	tally  tally

	trouble atomic.Pointer[trouble] // since when nothing could be written; nil while it can

	bound atomic.Pointer[Sealer] // the sealer, for readers, who must not wait for a commit

	seq     uint64
	encoder trail.Encoder
	buffer  []byte
	rows    []recorded // those of the batch that is being written
}

// queue is the works that wait for a commit.
type queue struct {
	mu       sync.Mutex
	works    []*Work
	led      bool          // somebody commits
	room     *sync.Cond    // says that works were taken, or that nobody commits any more
	sizes    [2]int        // of the last two batches
	expected int           // how many works the leader waits for; 0 while it does not
	come     chan struct{} // tells the leader that as many are there
	closed   bool
}

// trouble is why the file cannot be written.
type trouble struct {
	since time.Time
	err   error
}

// Trouble says why the last works could not be made durable, and since when; nil if they were.
func (w *writer) Trouble() (since time.Time, err error) {
	if t := w.trouble.Load(); t != nil {
		return t.since, t.err
	}
	return time.Time{}, nil
}

// Probe writes something and takes it back, to find out whether the file can be written. What changes nothing at all SQLite
// does not write.
func (w *writer) Probe() error {
	return w.Submit(&Work{Derived: true, Change: func(tx *Tx) error {
		_, err := tx.tx.Exec("UPDATE indexed SET goal = goal + 1; UPDATE indexed SET goal = goal - 1")
		return err
	}})
}

// tally is the XOR of every row's share: it changes when any row is changed, added, removed or put back.
type tally struct {
	sum      [32]byte
	revision int64
}

func (t *tally) toggle(share [32]byte) { subtle.XORBytes(t.sum[:], t.sum[:], share[:]) }

// content is what the tally's own MAC covers.
func (t *tally) content() []byte { return fmt.Appendf(nil, "tally\x00%d\x00%x", t.revision, t.sum) }

// The most works in one transaction; it bounds how long one commit takes.
const maxBatch = 512

// The most works that wait for a commit; who submits another one waits until some are taken.
const maxWaiting = maxBatch

// The most entries in one row; it bounds what is read to find one of them.
const maxRow = 256

func (w *writer) start() (err error) {
	var last entryRow
	switch err := w.db.Get(&last, "SELECT first, bodies, packed FROM entries ORDER BY first DESC LIMIT 1"); {
	case errors.Is(err, sql.ErrNoRows):
	case err != nil:
		return fmt.Errorf("read the end of the trail: %w", err)
	default:
		w.seq = last.First + uint64(len(last.split())) - 1
	}
	for statement, text := range map[**sqlx.Stmt]string{
		&w.insert:             "INSERT INTO entries (first, bodies, packed) VALUES (?, ?, ?)",
		&w.content:            "INSERT INTO contents (version, ciphertext) VALUES (?, ?)",
		&w.derived.posting:    "SELECT places FROM postings WHERE key = ? AND block = ?",
		&w.derived.setPosting: "INSERT OR REPLACE INTO postings (key, block, places) VALUES (?, ?, ?)",
	} {
		if *statement, err = w.db.Preparex(text); err != nil {
			return fmt.Errorf("prepare: %w", err)
		}
	}
	if w.derived.use, err = w.db.PrepareNamed(`INSERT INTO uses (` + useColumns + `) VALUES (:kind, :key, :other, :seq, :at, :detail, :count, :first_seq, :first_at)
		ON CONFLICT (kind, key, other) DO UPDATE SET seq = excluded.seq, at = excluded.at, detail = excluded.detail, count = count + excluded.count
		WHERE excluded.seq > seq`); err != nil {
		return fmt.Errorf("prepare: %w", err)
	}
	if w.derived.fold, err = w.db.PrepareNamed(`INSERT INTO folds (key, sample, count, since, last) VALUES (:key, :sample, :count, :since, :last)
		ON CONFLICT (key) DO UPDATE SET count = count + excluded.count, last = excluded.last`); err != nil {
		return fmt.Errorf("prepare: %w", err)
	}
	w.changes = make(map[string]changes)
	for _, row := range []Row{Identity{}, Member{}, Credential{}, Token{}, Grant{}, Drawer{}, DrawerKey{}, Item{}, Version{}, Role{}, Request{}, Alias{}, Calendar{}} {
		prepared, err := prepare(w.db, row)
		if err != nil {
			return fmt.Errorf("prepare: %w", err)
		}
		w.changes[row.table()] = prepared
	}
	w.queue.room, w.queue.come = sync.NewCond(&w.queue.mu), make(chan struct{}, 1)
	return nil
}

// stop lets what is queued be written; it may be called again.
func (w *writer) stop() {
	q := &w.queue
	q.mu.Lock()
	defer q.mu.Unlock()
	q.closed = true
	for q.led {
		q.room.Wait()
	}
}

var signals = sync.Pool{New: func() any { return make(chan turn, 1) }}

// Submit makes the work durable and returns when it is. On [ErrNotRecorded] nothing has happened.
func (w *writer) Submit(work *Work) error {
	work.told = signals.Get().(chan turn)
	defer func() { signals.Put(work.told) }()
	leads, err := w.queue.add(work)
	if err != nil {
		return err
	}
	if leads || <-work.told == lead {
		w.lead()
	}
	return work.err
}

// add puts a work at the end of the queue. It reports whether nobody leads, so that who submits it has to.
func (q *queue) add(work *Work) (leads bool, err error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for len(q.works) >= maxWaiting && !q.closed {
		q.room.Wait()
	}
	if q.closed {
		return false, fmt.Errorf("%w: the store is closed", ErrNotRecorded)
	}
	q.works = append(q.works, work)
	if q.expected != 0 && len(q.works) >= q.expected {
		q.expected = 0
		q.come <- struct{}{}
	}
	leads, q.led = !q.led, true
	return leads, nil
}

// lead commits what is waiting, the leader's own work among it, and hands the lead on.
func (w *writer) lead() {
	defer func() {
		if cause := recover(); cause != nil {
			end(cause)
		}
	}()
	batch := w.queue.take()
	w.commit(batch)
	for _, work := range batch {
		if work.err == nil && work.Committed != nil {
			work.Committed()
		}
	}
	w.queue.handOn()
	for _, work := range batch[1:] { // the first one is the leader's
		work.told <- done
	}
}

// end ends the process after a panic amid a commit, whatever the leader's caller would make of it: memory and file may
// differ from then on, and the next start goes by the file.
func end(cause any) {
	stack := debug.Stack()
	go panic(fmt.Sprintf("%v\n\n%s", cause, stack))
	select {}
}

// patience is how long a leader waits for company: about as long as a commit takes.
const patience = 300 * time.Microsecond

// take takes what is waiting. When there was company lately, it waits a moment for about half of those who are there, whom
// the last two batches were: while they are written, the others are answered and ask again, so that neither the disk nor the
// processors wait for each other. A lone client is never kept waiting.
func (q *queue) take() []*Work {
	q.mu.Lock()
	defer q.mu.Unlock()
	if expected := min((q.sizes[0]+q.sizes[1])/2, maxBatch); expected > 1 && len(q.works) < expected {
		q.expected = expected
		q.mu.Unlock()
		select {
		case <-q.come:
		case <-time.After(patience):
		}
		q.mu.Lock()
		if q.expected == 0 { // told, if perhaps too late
			select {
			case <-q.come:
			default:
			}
		}
		q.expected = 0
	}
	size := min(len(q.works), maxBatch)
	batch := slices.Clone(q.works[:size])
	q.works = slices.Delete(q.works, 0, size)
	q.sizes[0], q.sizes[1] = q.sizes[1], size
	q.room.Broadcast()
	return batch
}

// handOn makes the work that waits longest lead, or nobody if none waits.
func (q *queue) handOn() {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.led = len(q.works) > 0; q.led {
		q.works[0].told <- lead
		return
	}
	q.room.Broadcast()
}

// commit makes a batch durable in one transaction, and sets each work's err.
func (w *writer) commit(batch []*Work) {
	w.mu.Lock()
	defer w.mu.Unlock()
	seq, before := w.seq, w.tally
	w.rows, w.buffer = nil, w.buffer[:0]
	if err := w.write(batch); err == nil {
		w.index.note(w.rows)
		if slices.ContainsFunc(batch, func(work *Work) bool { return work.err == nil }) {
			w.trouble.Store(nil)
		}
	} else {
		w.trouble.CompareAndSwap(nil, &trouble{time.Now(), err})
		w.seq, w.tally = seq, before
		for _, work := range batch {
			if work.err == nil {
				work.err = fmt.Errorf("%w: %w", ErrNotRecorded, err)
			}
		}
	}
}

func (w *writer) write(batch []*Work) error {
	if slices.ContainsFunc(batch, func(work *Work) bool { return work.Change != nil }) {
		return w.transaction(func(tx *sqlx.Tx) error { return w.writeChanges(tx, batch) })
	}
	for _, work := range batch {
		w.entriesOf(work)
	}
	w.closeRow()
	if len(w.rows) == 1 { // a statement by itself is a transaction, and costs a lone reader half of what one around it costs
		return w.rows[0].insert(w.insert)
	}
	return w.transaction(w.writeRows)
}

func (w *writer) transaction(write func(*sqlx.Tx) error) error {
	tx, err := w.db.BeginTxx(context.Background(), nil)
	if err != nil {
		return err
	}
	if err := write(tx); err != nil {
		_ = tx.Rollback()
		return err
	}
	return tx.Commit()
}

func (w *writer) writeChanges(tx *sqlx.Tx, batch []*Work) (err error) {
	before := w.tally
	for _, work := range batch {
		if work.Change != nil {
			if work.err, err = w.change(tx, work.Change); err != nil {
				return err
			}
		}
		if work.err == nil && !work.Derived {
			w.entriesOf(work)
		}
	}
	w.closeRow()
	if w.tally != before {
		if err := w.writeTally(tx); err != nil {
			return err
		}
	}
	return w.writeRows(tx)
}

func (w *writer) writeRows(tx *sqlx.Tx) error {
	for _, row := range w.rows {
		if err := row.insert(tx.Stmtx(w.insert)); err != nil {
			return err
		}
	}
	return nil
}

func (r recorded) insert(statement *sqlx.Stmt) error {
	if r.Packed != nil {
		_, err := statement.Exec(r.First, "", r.Packed)
		return err
	}
	_, err := statement.Exec(r.First, r.Bodies, nil)
	return err
}

// entriesOf numbers and adds the entries of a work.
func (w *writer) entriesOf(work *Work) {
	w.entry(&work.Entry)
	for i := range work.More {
		w.entry(&work.More[i])
	}
}

// entry numbers an entry and adds it to the row that is being made, or to a new one.
func (w *writer) entry(e *trail.Entry) {
	w.seq++
	e.Seq = w.seq
	last := len(w.rows) - 1
	if last < 0 || len(w.rows[last].entries) == maxRow || (e.Seq-1)%blockSize == 0 {
		w.closeRow()
		w.rows = append(w.rows, recorded{entryRow: entryRow{First: e.Seq}})
		last = len(w.rows) - 1
	}
	w.buffer = append(w.encoder.Append(w.buffer, e), '\n')
	w.rows[last].entries = append(w.rows[last].entries, e)
}

// closeRow ends the row that is being made, if there is one.
func (w *writer) closeRow() {
	if len(w.buffer) == 0 {
		return
	}
	row := &w.rows[len(w.rows)-1]
	row.Bodies = string(w.buffer)
	if len(w.buffer) >= packFrom {
		row.Packed = s2.Encode(nil, w.buffer)
	}
	w.buffer = w.buffer[:0]
}

// change runs one change so that it can be undone alone. The first error is the change's own, the second one means
// that the whole transaction is lost.
func (w *writer) change(tx *sqlx.Tx, change func(*Tx) error) (refused, fatal error) {
	if _, err := tx.Exec("SAVEPOINT work"); err != nil {
		return nil, err
	}
	before := w.tally
	t := &Tx{tx: tx, writer: w}
	if refused = change(t); refused == nil {
		refused = t.indexWords()
	}
	if refused != nil {
		w.tally = before
		if _, err := tx.Exec("ROLLBACK TO work"); err != nil {
			return nil, err
		}
	}
	if _, err := tx.Exec("RELEASE work"); err != nil {
		return nil, err
	}
	if refused != nil && !errors.Is(refused, ErrExists) && !errors.Is(refused, ErrStale) && !errors.Is(refused, ErrNotBound) {
		refused = fmt.Errorf("%w: %w", ErrNotRecorded, refused)
	}
	return refused, nil
}

func (w *writer) writeTally(tx *sqlx.Tx) error {
	w.tally.revision++
	mac := w.sealer.RowMAC(w.tally.content())
	_, err := tx.Exec("UPDATE chest SET tally = ?, tally_revision = ?, tally_mac = ?", w.tally.sum[:], w.tally.revision, mac[:])
	return err
}

// ForgetJournal moves everything from SQLite's journal into the database file and empties the journal, so that what was
// overwritten there (secure_delete is on) is in neither. Readers that are slow can make it wait for up to five seconds.
func (w *writer) ForgetJournal() error {
	var busy, pages, moved int
	if err := w.db.QueryRow("PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &pages, &moved); err != nil {
		return fmt.Errorf("empty the journal: %w", err)
	}
	if busy != 0 {
		return errors.New("empty the journal: a reader kept it busy")
	}
	return nil
}

// Tx is the transaction a change runs in. It must not be used after the change has returned.
type Tx struct {
	tx     *sqlx.Tx
	writer *writer
	added  [2]int64 // the first and the last row of items that are new; there are no others between them
	said   []string // items about which something else is said than before, by their ids
}

const toWords = ` INTO items_words (rowid, name, description, owner, labels, shape, created_by)
	SELECT rowid, name, description, owner, labels, shape, created_by FROM items WHERE `

// indexWords makes what is said about items findable. It is done once for all items of a change, because each statement
// that touches the index by itself costs much more.
func (tx *Tx) indexWords() error {
	if tx.added[0] != 0 {
		if _, err := tx.tx.Exec("INSERT"+toWords+"rowid BETWEEN ? AND ?", tx.added[0], tx.added[1]); err != nil {
			return err
		}
	}
	for part := range slices.Chunk(tx.said, pageSize) {
		statement, ids, err := sqlx.In("INSERT OR REPLACE"+toWords+"id IN (?)", part)
		if err != nil {
			return err
		}
		if _, err := tx.tx.Exec(statement, ids...); err != nil {
			return err
		}
	}
	return nil
}

// read reads the one value that a statement finds; it stays as it is if there is none.
func (tx *Tx) read(statement *sqlx.Stmt, into any, arguments ...any) error {
	if err := tx.tx.Stmtx(statement).Get(into, arguments...); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	return nil
}

// Insert stores a new row with revision 1 and returns it as stored. A row with the same id or name is [ErrExists].
func Insert[R Row](tx *Tx, row R) (R, error) {
	sealed, content, err := tx.sealed(row, 1)
	if err != nil {
		return row, err
	}
	result, err := tx.tx.NamedStmt(tx.writer.changes[row.table()].insert).Exec(sealed)
	if isConstraint(err) {
		return row, ErrExists
	}
	if err != nil {
		return row, err
	}
	tx.writer.tally.toggle(tx.writer.sealer.RowTally(content))
	if _, is := sealed.(Item); is {
		at, err := result.LastInsertId()
		if err != nil {
			return row, err
		}
		tx.added = [2]int64{cmp.Or(tx.added[0], at), at}
	}
	return sealed.(R), nil
}

// Update replaces a row and returns it as stored; both have the same id. If the stored row is not before any more, it
// is [ErrStale].
func Update[R Row](tx *Tx, before, after R) (R, error) {
	sealed, content, err := tx.sealed(after, before.seal().Revision+1)
	if err != nil {
		return after, err
	}
	if err := tx.one(tx.writer.changes[after.table()].update, sealed); err != nil {
		return after, err
	}
	if was, is := any(before).(Item); is && was.said() != any(after).(Item).said() {
		tx.said = append(tx.said, was.ID)
	}
	tx.writer.tally.toggle(tx.writer.sealer.RowTally(authenticated(before)))
	tx.writer.tally.toggle(tx.writer.sealer.RowTally(content))
	return sealed.(R), nil
}

// Delete removes a row. If the stored row is not row any more, it is [ErrStale].
func Delete[R Row](tx *Tx, row R) error {
	if tx.writer.sealer == nil {
		return ErrNotBound
	}
	if err := tx.one(tx.writer.changes[row.table()].remove, row); err != nil {
		return err
	}
	tx.writer.tally.toggle(tx.writer.sealer.RowTally(authenticated(row)))
	return nil
}

// InsertContent stores the ciphertext of a version that was inserted in the same transaction.
func (tx *Tx) InsertContent(version string, ciphertext []byte) error {
	_, err := tx.tx.Stmtx(tx.writer.content).Exec(version, ciphertext)
	return err
}

// ReplaceContent stores another ciphertext for a version: of the same bytes, for another place.
func (tx *Tx) ReplaceContent(version string, ciphertext []byte) error {
	_, err := tx.tx.Exec("UPDATE contents SET ciphertext = ? WHERE version = ?", ciphertext, version)
	return err
}

// DeleteContent removes the ciphertext of a version; that it has none is no error.
func (tx *Tx) DeleteContent(version string) error {
	_, err := tx.tx.Exec("DELETE FROM contents WHERE version = ?", version)
	return err
}

// InsertChest stores what a new chest is.
func (tx *Tx) InsertChest(c Chest) error {
	_, err := tx.tx.NamedExec(`INSERT INTO chest (one, id, created_at, slot_method, slot_salt, slot_passes, slot_memory_kib,
		slot_threads, slot_wrapped, authority_certificate, authority_sealed, tally, tally_revision, tally_mac)
		VALUES (1, :id, :created_at, :slot_method, :slot_salt, :slot_passes, :slot_memory_kib, :slot_threads, :slot_wrapped,
		:authority_certificate, :authority_sealed, x'', 0, x'')`, c)
	return err
}

// sealed gives a row its revision and its MAC, and returns besides what the MAC covers.
func (tx *Tx) sealed(row Row, revision int64) (sealed Row, content []byte, err error) {
	if tx.writer.sealer == nil {
		return nil, nil, ErrNotBound
	}
	row = row.withSeal(Seal{Revision: revision})
	content = authenticated(row)
	mac := tx.writer.sealer.RowMAC(content)
	return row.withSeal(Seal{Revision: revision, MAC: mac[:]}), content, nil
}

func (tx *Tx) one(statement *sqlx.NamedStmt, row Row) error {
	result, err := tx.tx.NamedStmt(statement).Exec(row)
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
