package recovery

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"time"

	"tansu/internal/backup"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/trail"
	"tansu/internal/inspect"
	"tansu/internal/store"
)

// Rehearse restores a backup into a directory of its own, looks at all that is in it, and removes it: rows, the trail, and each value,
// which nobody sees. 0 is the newest backup.
func (r *Recovery) Rehearse(c chest.Caller, number int) (done Rehearsal, err error) {
	a, err := r.heart.Allow(c, access.Operate)
	if err != nil {
		return done, err
	}
	a.Entry.Action = "rehearse_restore"
	if r.options.To == nil {
		return done, a.Fail(errNowhere())
	}
	if done, err = r.rehearse(c.Ctx(), number); err != nil {
		return done, a.Fail(err)
	}
	a.Entry.Detail = fmt.Sprintf("backup %d", done.Number)
	if len(done.Problems) > 0 {
		a.Entry.Detail += ": " + done.Problems[0]
	}
	return chest.Reply(a, done)
}

func (r *Recovery) rehearse(ctx context.Context, number int) (done Rehearsal, err error) {
	r.turn.Lock()
	defer r.turn.Unlock()
	st, err := r.heart.Look()
	if err != nil {
		return done, err
	}
	defer r.doing("restoring is being rehearsed")()
	r.mu.Lock()
	list := r.state.good()
	r.mu.Unlock()
	if len(list) == 0 {
		return done, &chest.Error{Code: chest.NotPossible, Detail: "there is no backup yet: tansu backup now makes one"}
	}
	number = cmp.Or(number, list[len(list)-1].Number)
	at := slices.IndexFunc(list, func(b Backup) bool { return b.Number == number })
	if at < 0 {
		return done, chest.Missing(fmt.Sprintf("backup %d", number), "")
	}
	began := time.Now()
	done = Rehearsal{Number: number, At: r.heart.Now().UTC().Truncate(time.Second)}
	if err := r.restore(ctx, st.Root(), list, list[at], &done); err != nil {
		if ctx.Err() != nil {
			return done, ctx.Err()
		}
		done.Problems = append(done.Problems, err.Error())
	}
	done.Took = time.Since(began)
	if last := r.records.Last(); last > done.Entries {
		done.Lost = last - done.Entries
	}
	if len(done.Problems) > 0 {
		r.heart.Log().Error("the rehearsal of restoring found faults", "backup", number, "faults", done.Problems)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.state.Rehearsals = append(r.state.Rehearsals, done)
	return done, writeState(r.options.Dir, r.state)
}

// restore makes files of a backup and looks at them.
func (r *Recovery) restore(ctx context.Context, root *envelope.Root, list []Backup, wanted Backup, done *Rehearsal) (err error) {
	scratch, err := os.MkdirTemp(r.options.Scratch, "tansu-rehearsal-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(scratch)) }()
	sealed := map[int][]byte{}
	var sources []backup.Source
	for _, b := range list {
		sealed[b.Number] = b.Key
		sources = append(sources, backup.Source{Name: b.Name,
			Header: backup.Header{Chest: r.heart.ID(), Number: b.Number, AddsTo: b.AddsTo, Made: b.Made},
			Open:   func() (io.ReadCloser, error) { return r.options.To.Open(ctx, b.Name) }})
	}
	chain, err := backup.Chain(sources, wanted.Name)
	if err != nil {
		return err
	}
	keys := func(h backup.Header) (key backup.Key, err error) {
		opened, err := root.OpenBackupKey(h.Number, sealed[h.Number])
		if err != nil || len(opened) != len(key) {
			return key, fmt.Errorf("the key of backup %d that is kept for rehearsals does not open it: its recipients' keys do", h.Number)
		}
		defer clear(opened)
		return backup.Key(opened), nil
	}
	var manifest backup.Manifest
	dir := filepath.Join(scratch, "chest")
	if err := backup.Unpack(dir, chain, keys, &manifest); err != nil {
		return err
	}
	return r.look(ctx, dir, root.Copy(), done)
}

// look opens what was restored, and looks at all of it. The root key is its own to erase.
func (r *Recovery) look(ctx context.Context, dir string, root *envelope.Root, done *Rehearsal) (err error) {
	defer root.Erase()
	records, err := store.Open(dir)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, records.Close()) }()
	if err := r.sameRoot(records); err != nil {
		return err
	}
	rows, err := records.Bind(root)
	if err != nil {
		return err
	}
	heart, err := chest.New(records, chest.Options{Now: r.heart.Now})
	if err != nil {
		return err
	}
	heart.Borrow(r.heart)
	if err := heart.Open(root, rows, r.heart.Now()); err != nil {
		records.Unbind()
		return err
	}
	defer heart.Close()
	damaged, unseen, err := inspect.Contents(ctx, heart.Newest(), records, mostDamaged)
	if err != nil {
		return err
	}
	done.Problems = append(append(done.Problems, damaged...), unseen...)
	if done.Values, err = records.CountContents(); err != nil {
		return err
	}
	broken, err := records.CheckFile(ctx, func() {})
	if err != nil {
		return err
	}
	done.Problems = append(done.Problems, broken...)
	return verify(records, root, done)
}

// sameRoot says that a backup is of before the root key was rotated: what unlocks the chest opens it, and the chest has forgotten its key.
func (r *Recovery) sameRoot(restored *store.Store) error {
	then, err := restored.Chest()
	if err != nil {
		return err
	}
	now, err := r.records.Chest()
	if err == nil && !bytes.Equal(then.RootWrapped, now.RootWrapped) {
		err = errors.New("it was made before the root key was rotated: only what unlocks the chest opens it, and a rehearsal does not have that")
	}
	return err
}

// mostDamaged is how many values are named.
const mostDamaged = 20

// verify holds the trail against the checkpoints that are in it.
func verify(records *store.Store, root *envelope.Root, done *Rehearsal) error {
	signing := root.TrailKey()
	defer clear(signing)
	key, err := trail.VerifierKey(trail.OriginOf(root.Chest()), signing.Public().(ed25519.PublicKey))
	if err != nil {
		return err
	}
	kept, err := records.Checkpoints(0, math.MaxInt64, math.MaxInt32)
	if err != nil {
		return err
	}
	var points []trail.Checkpoint
	for _, k := range kept {
		c, err := trail.OpenCheckpoint(k.Note, key)
		if err != nil {
			return fmt.Errorf("the checkpoint of %d entries: %w", k.Size, err)
		}
		points = append(points, c)
	}
	reader, writer := io.Pipe()
	go func() {
		err := records.Bodies(1, func(_ uint64, body string) bool {
			_, err := io.WriteString(writer, body+"\n")
			return err == nil
		})
		_ = writer.CloseWithError(err)
	}()
	report, err := trail.Verify(reader, points, nil)
	_ = reader.Close()
	if err != nil {
		return err
	}
	done.Entries, done.Problems = report.Size, append(done.Problems, report.Problems...)
	return nil
}
