package store

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"

	"tansu/internal/core/trail"
	"tansu/internal/entity"
	"tansu/internal/entryrow"
)

// ErrExists says that a row with the same name or id is there already.
var ErrExists = errors.New("exists already")

// ErrStale says that a row has changed since it was read.
var ErrStale = errors.New("changed since it was read")

// ErrNotRecorded says that the file could not be written: nothing was changed and nothing may be served.
var ErrNotRecorded = errors.New("the trail cannot be written")

// ErrNotBound says that rows cannot be written because the chest is locked.
var ErrNotBound = errors.New("the chest is locked")

// ErrMoved says that what a work was decided on no longer holds: it has to be decided again.
var ErrMoved = errors.New("what this rests on has changed meanwhile")

// Sealer authenticates rows; the root key provides it while the chest is unlocked.
type Sealer interface {
	RowMAC(content []byte) [32]byte
	RowTally(content []byte) [32]byte
	// ManyMAC and ManyTally are those of items and versions, which another root key leaves as they are.
	ManyMAC(content []byte) [32]byte
	ManyTally(content []byte) [32]byte
}

// macOf and tallyOf are a row's MAC and its share of a tally.
func macOf(s Sealer, row entity.Row, content []byte) [32]byte {
	if bucketOf(row) != "" {
		return s.ManyMAC(content)
	}
	return s.RowMAC(content)
}

func tallyOf(s Sealer, row entity.Row, content []byte) [32]byte {
	if bucketOf(row) != "" {
		return s.ManyTally(content)
	}
	return s.RowTally(content)
}

// Work is one thing to be made durable: entries, and the change that they tell of. It is a value: nothing in it is called by the
// writer, so that what the file becomes, what memory becomes, and what another machine could be sent follow from it alone.
type Work struct {
	Entry trail.Entry // Seq is given by the writer
	// More are further entries of the same work, recorded with it and after it: one for each of many things changed.
	More   []trail.Entry
	Change *Change // nil for entries alone
	Basis  Basis   // what it was decided on; the zero Basis for what does not depend on anything

	derived []statement // instead of entries and a change: what is worked out from entries that are there
	err     error
	told    chan turn
}

// Memory follows the file: what decides access, as of the last commit. The writer calls it, one call at a time.
type Memory interface {
	// Admit reports whether what a work rests on still holds, after the works that were taken since the last commit; if not,
	// the error is [ErrMoved].
	Admit(Basis) error
	// Take notes a change that was written, and Commit makes all that were taken what memory is; Drop forgets them, because
	// they could not be made durable.
	Take(*Change)
	Commit()
	Drop()
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
	db        *sqlx.DB
	queue     queue
	insert    *sqlx.Stmt          // adds a row of entries
	written   *sqlx.Stmt          // asks for SQLite's count of what other connections have written
	others    int64               // that count, as of when all rows were checked
	path      string              // of the file
	file      os.FileInfo         // what was there when it was opened
	latest    time.Time           // of the newest entry that was there then; zero for none
	changes   map[string]*changes // by table
	content   upsert
	setBucket *sqlx.Stmt
	derived   struct { // what the index of the trail takes
		posting, setHashes, setBlock *sqlx.Stmt
		setPosting, use              upsert
		fold                         *sqlx.NamedStmt
	}
	index   index
	buckets buckets

	mu     sync.Mutex // guards sealer, tally and memory against Bind and Unbind
	sealer Sealer
	tally  tally
	fresh  map[string]bucket // those that the batch being written has changed
	turned map[string]bucket // all of them, when it rotates the root key
	memory Memory

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
	large    []*Work       // each in a transaction of its own, by turns with the others, who do not wait for two of them in a row
	turn     bool          // the last transaction was of others, so that a large one comes next
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

// Latest is when the newest entry was made that was in the file when it was opened; zero for none.
func (w *writer) Latest() time.Time { return w.latest }

// Probe writes something and takes it back, to find out whether the file can be written. What changes nothing at all SQLite
// does not write.
func (w *writer) Probe() error {
	return w.derive("UPDATE indexed SET goal = goal + 1; UPDATE indexed SET goal = goal - 1")
}

// The most works in one transaction; it bounds how long one commit takes.
const maxBatch = 512

// The most works that wait for a commit; who submits another one waits until some are taken.
const maxWaiting = maxBatch

func (w *writer) start() (err error) {
	var last entryrow.Row
	switch err := w.db.Get(&last, "SELECT first, bodies, packed FROM entries ORDER BY first DESC LIMIT 1"); {
	case errors.Is(err, sql.ErrNoRows):
	case err != nil:
		return fmt.Errorf("read the end of the trail: %w", err)
	default:
		bodies := last.Lines()
		w.seq = last.First + uint64(len(bodies)) - 1
		if e, err := trail.Decode([]byte(bodies[len(bodies)-1])); err == nil {
			w.latest = e.At
		}
	}
	if err := w.noteOthers(); err != nil {
		return err
	}
	for statement, text := range map[**sqlx.Stmt]string{
		&w.insert:            "INSERT INTO entries (first, bodies, packed) VALUES (?, ?, ?)",
		&w.written:           "PRAGMA data_version",
		&w.setBucket:         "INSERT OR REPLACE INTO buckets (id, sum, revision, mac) VALUES (?, ?, ?, ?)",
		&w.derived.posting:   "SELECT places FROM postings WHERE key = ? AND block = ?",
		&w.derived.setHashes: "INSERT OR REPLACE INTO hashes (first, hashes) VALUES (?, ?)",
		&w.derived.setBlock: `INSERT INTO blocks (number, earliest, latest, requests) VALUES (?, ?, ?, ?) ON CONFLICT (number) DO UPDATE
			SET earliest = min(earliest, excluded.earliest), latest = max(latest, excluded.latest),
				requests = CAST(requests || excluded.requests AS BLOB)`,
	} {
		if *statement, err = w.db.Preparex(text); err != nil {
			return fmt.Errorf("prepare: %w", err)
		}
	}
	if w.content, err = w.prepareUpsert("INSERT INTO contents (version, ciphertext)",
		"ON CONFLICT (version) DO UPDATE SET ciphertext = excluded.ciphertext"); err != nil {
		return fmt.Errorf("prepare: %w", err)
	}
	if w.derived.setPosting, err = w.prepareUpsert("INSERT OR REPLACE INTO postings (key, block, places)", ""); err != nil {
		return fmt.Errorf("prepare: %w", err)
	}
	if w.derived.use, err = w.prepareUpsert("INSERT INTO uses ("+useColumns+")", `ON CONFLICT (kind, key, other) DO UPDATE SET seq = excluded.seq,
		at = excluded.at, detail = excluded.detail, count = count + excluded.count WHERE excluded.seq > seq`); err != nil {
		return fmt.Errorf("prepare: %w", err)
	}
	if w.derived.fold, err = w.db.PrepareNamed(`INSERT INTO folds (key, sample, count, since, last) VALUES (:key, :sample, :count, :since, :last)
		ON CONFLICT (key) DO UPDATE SET count = count + excluded.count, last = excluded.last`); err != nil {
		return fmt.Errorf("prepare: %w", err)
	}
	w.changes = make(map[string]*changes)
	for _, row := range everyKind {
		prepared, err := prepare(w.db, row)
		if err != nil {
			return fmt.Errorf("prepare: %w", err)
		}
		w.changes[row.Table()] = prepared
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
	if err := w.seal(work.Change); err != nil {
		return err
	}
	work.told = signals.Get().(chan turn)
	defer func() { signals.Put(work.told) }()
	leads, err := w.queue.add(work)
	if err != nil {
		return err
	}
	if leads || <-work.told == lead {
		w.lead(work)
	}
	return work.err
}

// add puts a work at the end of the queue. It reports whether nobody leads, so that who submits it has to.
func (q *queue) add(work *Work) (leads bool, err error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for len(q.works)+len(q.large) >= maxWaiting && !q.closed {
		q.room.Wait()
	}
	if q.closed {
		return false, fmt.Errorf("%w: the store is closed", ErrNotRecorded)
	}
	if work.large() {
		q.large = append(q.large, work)
	} else {
		q.works = append(q.works, work)
	}
	if q.expected != 0 && len(q.works) >= q.expected {
		q.expected = 0
		q.come <- struct{}{}
	}
	leads, q.led = !q.led, true
	return leads, nil
}

// largeFrom is from how many rows and contents on, or columns of what is worked out from entries, a work takes so long that others are
// not put into one transaction with it.
const (
	largeFrom        = 64
	largeFromColumns = 256
)

func (work *Work) large() bool {
	columns := 0
	for _, s := range work.derived {
		columns += len(s.arguments)
	}
	return columns >= largeFromColumns ||
		work.Change != nil && (work.Change.Turns != nil || len(work.Change.Rows)+len(work.Change.Contents) >= largeFrom)
}

// lead commits what is waiting, the leader's own work among it, and hands the lead on.
func (w *writer) lead(own *Work) {
	defer func() {
		if cause := recover(); cause != nil {
			end(cause)
		}
	}()
	batch := w.queue.take(own)
	w.commit(batch)
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
// processors wait for each other. A lone client is never kept waiting. A large work is taken alone.
func (q *queue) take(own *Work) []*Work {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.turn = !own.large()
	if own.large() { // it is the first of its kind: who comes first leads
		q.large = q.large[1:]
		q.room.Broadcast()
		return []*Work{own}
	}
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

// handOn makes the work that waits longest lead, by turns a large one and another, or nobody if none waits.
func (q *queue) handOn() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.led = true
	switch {
	case len(q.large) > 0 && (q.turn || len(q.works) == 0):
		q.large[0].told <- lead
	case len(q.works) > 0:
		q.works[0].told <- lead
	default:
		q.led = false
		q.room.Broadcast()
	}
}

// commit makes a batch durable in one transaction, and sets each work's err.
func (w *writer) commit(batch []*Work) {
	w.mu.Lock()
	defer w.mu.Unlock()
	seq, before, sealer := w.seq, w.tally, w.sealer
	w.turned = nil
	w.rows, w.buffer, w.fresh = nil, w.buffer[:0], map[string]bucket{}
	if err := w.write(batch); err == nil {
		w.buckets.put(w.fresh)
		if w.turned != nil {
			w.buckets.put(w.turned)
			now := w.sealer
			w.bound.Store(&now)
		}
		if w.memory != nil {
			w.memory.Commit()
		}
		w.index.note(w.rows)
		if slices.ContainsFunc(batch, func(work *Work) bool { return work.err == nil }) {
			w.trouble.Store(nil)
		}
	} else {
		if !errors.Is(err, errUndone) {
			w.trouble.CompareAndSwap(nil, &trouble{time.Now(), err})
		}
		w.seq, w.tally, w.sealer = seq, before, sealer
		if w.memory != nil {
			w.memory.Drop()
		}
		for _, work := range batch {
			if work.err == nil {
				work.err = fmt.Errorf("%w: %w", ErrNotRecorded, err)
			}
		}
	}
}

func (w *writer) write(batch []*Work) error {
	if slices.ContainsFunc(batch, func(work *Work) bool { return work.Change != nil || work.derived != nil }) {
		return w.transaction(func(tx *sqlx.Tx) error { return w.writeChanges(tx, batch) })
	}
	for _, work := range batch {
		if work.err = w.admit(work); work.err == nil {
			w.entriesOf(work)
		}
	}
	w.closeRow()
	switch len(w.rows) {
	case 0:
		return nil
	case 1: // a statement by itself is a transaction, and costs a lone reader half of what one around it costs
		if err := w.undisturbed(w.written); err != nil {
			return err
		}
		return cmp.Or(w.insertRow(w.insert, w.rows[0]), w.undisturbed(w.written)) // and nobody was in between
	}
	return w.transaction(w.writeRows)
}

// admit reports whether a work may still be taken, as those before it in the batch leave things.
func (w *writer) admit(work *Work) error {
	switch {
	case work.derived != nil || work.Basis.Position == 0:
		return nil
	case w.memory == nil:
		return ErrNotBound // it was decided before the chest was locked
	}
	return w.memory.Admit(work.Basis)
}

func (w *writer) transaction(write func(*sqlx.Tx) error) error {
	defer func() {
		for _, c := range w.changes {
			c.keep(w.db)
		}
	}()
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
		if work.err = w.admit(work); work.err != nil {
			continue
		}
		if work.Change != nil || work.derived != nil {
			if work.err, err = w.change(tx, work, len(batch) == 1); err != nil {
				return err
			}
		}
		if work.err == nil && work.derived == nil {
			w.entriesOf(work)
		}
		if work.err == nil && work.Change != nil && w.memory != nil {
			w.memory.Take(work.Change)
		}
	}
	w.closeRow()
	if w.tally != before || len(w.fresh) > 0 {
		if err := w.writeTally(tx); err != nil {
			return err
		}
	}
	return w.writeRows(tx)
}

func (w *writer) writeRows(tx *sqlx.Tx) error {
	for _, row := range w.rows {
		if err := w.insertRow(tx.Stmtx(w.insert), row); err != nil {
			return err
		}
	}
	if len(w.rows) == 0 {
		return nil
	}
	return w.undisturbed(tx.Stmtx(w.written))
}

// undisturbed fails when something else has written to the file since all of it was checked: a row that somebody has put back as it once
// was has a good MAC, and a trigger does what it likes; and when the file that is open is not the one in the directory any more, so that
// what is written to it is lost when it is closed. In a transaction nothing else can write meanwhile. A row of entries by itself may
// be there then although it is said that it could not be written: nothing leaves for it.
func (w *writer) undisturbed(written *sqlx.Stmt) error {
	var now int64
	if err := written.Get(&now); err != nil {
		return fmt.Errorf("read the version of the data: %w", err)
	}
	if now != w.others {
		return ErrOthers
	}
	if there, err := os.Stat(w.path); err != nil || !os.SameFile(there, w.file) {
		return ErrSwapped
	}
	return nil
}

// noteOthers takes the file as it is now for one that nobody else has written to: it is about to be looked through.
func (w *writer) noteOthers() error {
	if err := w.db.Get(&w.others, "PRAGMA data_version"); err != nil {
		return fmt.Errorf("read the version of the data: %w", err)
	}
	return nil
}

// insertRow adds a row of entries, and counts what the database says it has added.
func (w *writer) insertRow(statement *sqlx.Stmt, r recorded) error {
	bodies := r.Bodies
	if r.Packed != nil {
		bodies = ""
	}
	result, err := statement.Exec(r.First, bodies, r.Packed)
	if err != nil {
		return err
	}
	if added, err := result.RowsAffected(); err != nil || added != 1 {
		return errors.Join(ErrOthers, err)
	}
	return nil
}

// ErrOthers says that the file was written to by something other than this program.
var ErrOthers = errors.New("something other than Tansu wrote to the database while it was open: stop it, and examine the file before " +
	"it is started again (tansu examine --dir)")

// ErrSwapped says that the file was removed, or another one was put in its place.
var ErrSwapped = errors.New("the database in the directory is no longer the one that is open: it was removed, or another one was " +
	"put in its place; stop the service, and start it with the right one")

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
	if last < 0 || len(w.rows[last].entries) == entryrow.Most || entryrow.Begins(e.Seq) {
		w.closeRow()
		w.rows = append(w.rows, recorded{Row: entryrow.Row{First: e.Seq}})
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
	row.Packed = entryrow.Packed(w.buffer)
	w.buffer = w.buffer[:0]
}

// errUndone says that nothing was written because the only work of a transaction is not possible, and not because of the file.
var errUndone = errors.New("the only change was not possible")

// change makes one change so that it can be undone alone; one that is alone in its transaction is undone with it. The first error is the
// change's own, the second one means that the whole transaction is lost.
func (w *writer) change(tx *sqlx.Tx, work *Work, alone bool) (refused, fatal error) {
	if !alone {
		if _, err := tx.Exec("SAVEPOINT work"); err != nil {
			return nil, err
		}
	}
	if work.derived != nil {
		refused = runAll(tx, work.derived)
	} else {
		refused = w.make(tx, work.Change)
	}
	if refused != nil && !errors.Is(refused, ErrExists) && !errors.Is(refused, ErrStale) && !errors.Is(refused, ErrNotBound) &&
		!errors.Is(refused, ErrDone) {
		refused = fmt.Errorf("%w: %w", ErrNotRecorded, refused)
	}
	switch {
	case alone && refused != nil && !errors.Is(refused, ErrNotRecorded):
		return refused, errUndone
	case alone:
		return refused, refused
	case refused != nil:
		if _, err := tx.Exec("ROLLBACK TO work"); err != nil {
			return nil, err
		}
	}
	if _, err := tx.Exec("RELEASE work"); err != nil {
		return nil, err
	}
	return refused, nil
}

// ForgetJournal removes what was overwritten from all that is beside the database: copies from before it was brought up to date, and
// SQLite's journal. It moves everything from the journal into the database file and empties the journal, so that what was
// overwritten there (secure_delete is on) is in neither. Readers that are slow can make it wait for up to five seconds.
func (s *Store) ForgetJournal() error {
	return errors.Join(s.RemoveCopies(time.Now()), s.emptyJournal())
}

func (w *writer) emptyJournal() error {
	var busy, pages, moved int
	if err := w.db.QueryRow("PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &pages, &moved); err != nil {
		return fmt.Errorf("empty the journal: %w", err)
	}
	if busy != 0 {
		return errors.New("empty the journal: a reader kept it busy")
	}
	return nil
}
