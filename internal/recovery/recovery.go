// Package recovery is the room for what brings a chest back: backups that are made while it is used, when they are due, and rehearsals of
// restoring them.
package recovery

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"tansu/internal/backup"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// Options of the room. Without a destination nothing is backed up.
type Options struct {
	Dir        string // the data directory
	To         backup.Destination
	Recipients backup.Recipients
	Every      time.Duration // between two backups; 0 for none by itself
	FullEvery  time.Duration // between two full ones
	Keep       int           // full backups, each with those that add to it; 0 for all
	Rehearse   time.Duration // between two rehearsals; 0 for none by itself
	Scratch    string        // where a rehearsal is done; the system's directory for temporary files if it is empty
}

// Records is what the room asks of the chest's store.
type Records interface {
	Chest() (store.Chest, error)
	Last() uint64
	Submit(*store.Work) error
}

// Recovery is the room. Its methods are safe for concurrent use.
type Recovery struct {
	heart   *chest.Chest
	records Records
	options Options

	turn sync.Mutex // one backup or rehearsal at a time

	mu    sync.Mutex
	state state
	now   string // what is going on; empty for nothing
}

// New opens the room over a heart.
func New(heart *chest.Chest, records Records, o Options) (*Recovery, error) {
	r := &Recovery{heart: heart, records: records, options: o}
	if o.To == nil {
		return r, nil
	}
	var err error
	r.state, err = readState(o.Dir)
	return r, err
}

// Backup is one that was made, or was tried.
type Backup struct {
	Number  int
	AddsTo  string // the name of the one that it adds to; empty for a full one
	Name    string
	Made    time.Time
	Last    uint64 // the newest entry in it
	Size    int64  // bytes
	Took    time.Duration
	Problem string // why there is none; empty for one that is there
	Key     []byte // sealed under the root key, for rehearsals
}

// Rehearsal is one that was done.
type Rehearsal struct {
	Number   int // of the backup
	At       time.Time
	Took     time.Duration
	Entries  uint64   // that verified
	Values   int      // that opened
	Lost     uint64   // entries that came after the backup
	Problems []string // none when it is good
}

// Overview is what somebody who looks after backups sees.
type Overview struct {
	To         string // empty when none are made
	Every      time.Duration
	FullEvery  time.Duration
	Keep       int
	Rehearse   time.Duration
	Next       time.Time // when the next one is due; zero for none
	Now        string    // what is going on
	Backups    []Backup  // newest first
	Rehearsals []Rehearsal
}

// Backups shows them.
func (r *Recovery) Backups(c chest.Caller) (o Overview, err error) {
	a, err := r.heart.Allow(c, access.Operate)
	if err != nil {
		return o, err
	}
	a.Entry.Action = "list_backups"
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.options.To != nil {
		o = Overview{To: r.options.To.String(), Every: r.options.Every, FullEvery: r.options.FullEvery, Keep: r.options.Keep,
			Rehearse: r.options.Rehearse, Now: r.now}
		o.Backups, o.Rehearsals = r.state.newestFirst()
		if r.options.Every > 0 {
			o.Next = r.state.lastTried().Add(r.options.Every)
		}
	}
	return chest.Reply(a, o)
}

// errNowhere says that no backups are made.
func errNowhere() error {
	return &chest.Error{Code: chest.NotPossible, Detail: "this service makes no backups: start it with tansu serve --backup-to DIR " +
		"--backup-recipient FILE.pub"}
}

// Backup makes one now; a full one, or one that adds to the last.
func (r *Recovery) Backup(c chest.Caller, full bool) (b Backup, err error) {
	a, err := r.heart.Allow(c, access.Operate)
	if err != nil {
		return b, err
	}
	a.Entry.Action = "back_up"
	if r.options.To == nil {
		return b, a.Fail(errNowhere())
	}
	if b, err = r.make(c.Ctx(), full); err != nil {
		return b, a.Fail(&chest.Error{Code: chest.NotPossible, Detail: "no backup was made: " + err.Error(), Err: err})
	}
	a.Entry.Detail = b.Name
	return chest.Reply(a, b)
}

// make makes one, and says in the state what came of it.
func (r *Recovery) make(ctx context.Context, full bool) (b Backup, err error) {
	r.turn.Lock()
	defer r.turn.Unlock()
	st, err := r.heart.Look()
	if err != nil {
		return b, err
	}
	defer r.doing("a backup is being made")()
	began := time.Now()
	r.mu.Lock()
	r.state.Number++ // on the disk before anything has it: what is cut off leaves a number that is not used again
	number, last, err := r.state.Number, r.state.lastFull(), writeState(r.options.Dir, r.state)
	r.mu.Unlock()
	if err != nil {
		return b, err
	}
	order := backup.Order{Dir: r.options.Dir, Number: number, Recipients: r.options.Recipients, Now: r.heart.Now(), Rest: r.busy()}
	if !full && last.Number != 0 && order.Now.Sub(last.Made) < r.options.FullEvery {
		order.Base = r.base()
	}
	b = Backup{Number: number, Made: order.Now}
	err = r.options.To.Check()
	if err == nil {
		err = r.write(ctx, order, &b, st)
	}
	b.Took = time.Since(began)
	if ctx.Err() != nil { // the service stops, or whoever asked has gone
		return b, ctx.Err()
	}
	if err != nil {
		b.Problem = err.Error()
		r.heart.Log().Error("no backup was made", "error", err)
	} else {
		r.heart.Log().Info("backup made", "name", b.Name, "bytes", b.Size, "took", b.Took.Round(time.Millisecond).String())
	}
	return b, errors.Join(err, r.keep(ctx, b))
}

func (r *Recovery) write(ctx context.Context, order backup.Order, b *Backup, st *chest.Snapshot) error {
	reader, writer := io.Pipe()
	type result struct {
		made backup.Made
		err  error
	}
	headers, done := make(chan backup.Header, 1), make(chan result, 1)
	go func() {
		made, err := backup.Make(ctx, order, func(h backup.Header) (io.Writer, error) {
			headers <- h
			return writer, nil
		})
		_ = writer.CloseWithError(err)
		done <- result{made, err}
	}()
	var header backup.Header
	select {
	case header = <-headers:
	case failed := <-done:
		return failed.err
	}
	b.Name, b.AddsTo, b.Last = header.Name(), header.AddsTo, header.Last
	err := r.options.To.Put(ctx, b.Name, func(out io.Writer) error {
		_, err := io.Copy(out, reader)
		return err
	})
	_ = reader.CloseWithError(errors.Join(err, io.ErrClosedPipe))
	made := <-done
	if err = errors.Join(err, made.err); err != nil {
		return err
	}
	if r.heart.Newest() == nil { // its root key may have been erased
		return chest.ErrLocked
	}
	b.Size, b.Made = made.made.Size, header.Made
	b.Key = st.Root().SealBackupKey(b.Number, made.made.Key[:])
	return writeSeen(r.options.Dir, made.made.Seen)
}

// keep notes a backup, and removes those that are not kept any more.
func (r *Recovery) keep(ctx context.Context, b Backup) error {
	r.mu.Lock()
	r.state.Backups = append(r.state.Backups, b)
	gone := r.state.thin(r.options.Keep)
	err := writeState(r.options.Dir, r.state)
	r.mu.Unlock()
	if b.Problem == "" {
		header := backup.Header{Chest: r.heart.ID(), Number: b.Number, AddsTo: b.AddsTo, Made: b.Made, Last: b.Last}
		if failed := backup.Listed(ctx, r.options.To, header, gone); failed != nil { // what is to go stays until it is out of the list
			return errors.Join(err, fmt.Errorf("it is there, and the list of backups could not be written: %w", failed))
		}
	}
	for _, name := range gone {
		if removed := r.options.To.Remove(ctx, name); removed != nil {
			r.heart.Log().Warn("an old backup stays", "name", name, "error", removed)
		}
	}
	return err
}

// base is what the last backup had; nil if that is not known, or if it was cut off before it was noted, so that the next one is a full one.
func (r *Recovery) base() *backup.Seen {
	seen := readSeen(r.options.Dir)
	r.mu.Lock()
	defer r.mu.Unlock()
	if seen == nil || !slices.ContainsFunc(r.state.good(), func(b Backup) bool { return b.Name == seen.Name }) {
		return nil
	}
	return seen
}

// doing says what is going on until the function that it returns is called.
func (r *Recovery) doing(what string) func() {
	set := func(text string) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.now = text
	}
	set(what)
	return func() { set("") }
}

// busyFrom is from how many entries a second on a backup makes room for those who read and write, and restShare how many times as long
// as it works it rests then.
const (
	busyFrom  = 200
	restShare = 9
)

// busy makes what a backup calls between two parts: it rests while the chest is busy.
func (r *Recovery) busy() func(context.Context) {
	last, looked := r.records.Last(), time.Now()
	return func(ctx context.Context) {
		now, worked := r.records.Last(), time.Since(looked)
		if rate := float64(now-last) / worked.Seconds(); rate >= busyFrom {
			select {
			case <-ctx.Done():
			case <-time.After(min(restShare*worked, time.Second)):
			}
		}
		last, looked = r.records.Last(), time.Now()
	}
}

// MakeDue makes what is due. It is called from time to time, by one at a time, and may take long.
func (r *Recovery) MakeDue(ctx context.Context) {
	if r.options.To == nil || r.heart.Newest() == nil {
		return
	}
	now := r.heart.Now()
	r.mu.Lock()
	backupDue := r.options.Every > 0 && now.Sub(r.state.lastTried()) >= r.options.Every
	rehearsalDue := r.options.Rehearse > 0 && len(r.state.good()) > 0 && now.Sub(r.state.lastRehearsed()) >= r.options.Rehearse
	r.mu.Unlock()
	if backupDue {
		b, err := r.make(ctx, false)
		r.note("back_up", b.Name, err)
	}
	if rehearsalDue && ctx.Err() == nil {
		done, err := r.rehearse(ctx, 0)
		if err == nil && len(done.Problems) > 0 {
			err = errors.New(done.Problems[0])
		}
		r.note("rehearse_restore", fmt.Sprintf("backup %d", done.Number), err)
	}
}

// note puts what was done by itself into the trail.
func (r *Recovery) note(action, what string, err error) {
	e := trail.Entry{At: r.heart.Now(), Subject: "chest", Action: action, Outcome: trail.Allowed, Detail: what}
	if err != nil {
		e.Outcome, e.Detail = trail.Failed, err.Error()
	}
	if lost := r.records.Submit(&store.Work{Entry: e}); lost != nil {
		r.heart.Log().Error("entry not recorded", "action", action, "error", lost)
	}
}
