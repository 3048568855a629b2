// Package record is the room for what happened: the trail and its proof, the witnesses and archives that keep it, what is unusual in
// it, and what it means when a value got out.
package record

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"tansu/internal/archive"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/folding"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/store"
	"tansu/internal/usage"
)

// Records is what the room asks of a store.
type Records interface {
	usage.Records
	Entries(store.Filter, func(trail.Entry) bool) error
	Bodies(from uint64, visit func(seq uint64, body string) bool) error
	ChangedEntries(most int) ([]uint64, error)
	ChangedHashes(context.Context) (int, error)
	Size() uint64
	Last() uint64
	Root(size uint64) (trail.Hash, error)
	ProveEntry(size, seq uint64) (body string, hashes [][]byte, err error)
	ProveExtends(newer, older uint64) ([][]byte, error)
	Folds(before int64) ([]store.Fold, error)
	Unfold(store.Fold, trail.Entry) error
	Archives() ([]archive.File, error)
	ForgetDone(before int64) error
	ArchiveBefore(before int64) (archive.File, bool, error)
	Archived(name string, visit func(trail.Entry) bool) error
	Checkpoints(from, to uint64, most int) ([]store.StoredCheckpoint, error)
	KeepCheckpoint(store.StoredCheckpoint) error
	ThinCheckpoints(before int64) error
	DropCheckpoint(size uint64) error
	DropCheckpoints(beyond uint64) error
	Submit(*store.Work) error
	Trouble() (since time.Time, err error)
	Probe() error
}

// Alike finds the items that hold a value: what an exposure report asks the shelf.
type Alike interface {
	// SameValue lists versions, other than those of an item, that hold a value, among items on which the attempt's caller may do
	// something, at most so many; each is put into the trail as compared with something. It counts those that may hold it and cannot be
	// opened.
	SameValue(a *chest.Attempt, action access.Action, except string, value secretvalue.Value, most int, with string) (list []chest.Serving,
		closed int)
}

// Options of the room.
type Options struct {
	// Witnesses are told each checkpoint, and asked at each unlock whether the trail is what it was.
	Witnesses []Witness
	// ArchiveAfter is how long entries stay in the database before they are moved into archives; 0 for ever.
	ArchiveAfter time.Duration
	// Outlets tells how far those are to which the trail is passed on; nil for none.
	Outlets func() []Follower
}

// Record is the room. Its methods are safe for concurrent use.
type Record struct {
	watching seats // in the live view
	heart    *chest.Chest
	records  Records
	alike    Alike
	options  Options

	witnesses   *witnesses
	verifierKey atomic.Value // a string; set at the first unlock
	signing     sync.Mutex   // one checkpoint at a time
	epochs      []uint64     // see trail.Checkpoint; guarded by signing
	thinned     time.Time    // when old checkpoints were thinned out; guarded by signing
}

// New opens the room over a heart.
func New(heart *chest.Chest, records Records, alike Alike, o Options) *Record {
	return &Record{heart: heart, records: records, alike: alike, options: o, witnesses: newWitnesses(o.Witnesses, heart.Log())}
}

// unlocked reports whether the chest is.
func (s *Record) unlocked() bool { return s.heart.Newest() != nil }

// unfold records what was counted in windows that are over, or in all.
func (s *Record) unfold(all bool) error {
	before := s.heart.Now().Add(-folding.Window)
	if all {
		before = s.heart.Now().Add(folding.Window)
	}
	list, err := s.records.Folds(chest.Micros(before))
	for _, f := range list {
		if err == nil {
			if err = s.records.Unfold(f, s.unfolded(f)); errors.Is(err, store.ErrStale) {
				err = nil // more was counted meanwhile: it is recorded the next time
			}
		}
	}
	return err
}

// unfolded is the entry that stands for all that were counted.
func (s *Record) unfolded(f store.Fold) trail.Entry {
	e, err := trail.Decode([]byte(f.Sample))
	if err != nil { // it was written by this program
		e = trail.Entry{Subject: chest.Unknown, Action: chest.SeveralKinds, Outcome: trail.Refused, Reason: "too_many_refusals"}
	}
	detail := "%d more like it, from %s to %s"
	if e.Action == chest.SeveralKinds {
		detail = "%d more refusals of several kinds, from %s to %s"
	}
	if e.Receipt != "" {
		detail += ", receipt " + e.Receipt
	}
	e.At, e.Count, e.Receipt = s.heart.Now(), f.Count, ""
	e.Detail = fmt.Sprintf(detail, f.Count, chest.FromMicros(f.Since).Format(time.RFC3339), chest.FromMicros(f.Last).Format(time.RFC3339))
	return e
}
