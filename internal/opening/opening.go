// Package opening is the room for the chest as a whole: it is founded, unlocked and locked here, examined for what was changed behind
// its back, and, on its own machine, opened without a service.
package opening

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/trail"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Records is what the room asks of a store.
type Records interface {
	Chest() (store.Chest, error)
	Slots() ([]entity.Slot, []entity.Share, error)
	SubjectOf(identity string) (string, error)
	ForgetJournal() error
	CheckFile(context.Context, func()) ([]string, error)
	CheckArchives(context.Context) ([]string, error)
	CheckFiles(now time.Time) []string
	Bind(store.Sealer) (*store.Snapshot, error)
	Unbind()
	Check(context.Context, store.Sealer) error
	Reindex() error
	CatchUp() error
	Restored() (*store.Restored, error)
	EndedSince() ([]trail.End, error)
	ItemByID(id string) (store.Shelved, error)
	Content(version string) ([]byte, error)
	ForgetRestored() error
	CheckBuckets(ctx context.Context, rest func(), found func(error)) int
	Last() uint64
	Ready() error
	Trouble() (since time.Time, err error)
	Probe() error
}

// Trail is what opening asks of the room that keeps the trail.
type Trail interface {
	// SetVerifierKey says whose checkpoints are the chest's.
	SetVerifierKey(root *envelope.Root) error
	// ReadEpochs finds the epochs that the trail has begun.
	ReadEpochs() error
	// Witnessed compares the trail with what witnesses know; what is not as it was is a [*record.RollbackError].
	Witnessed() error
	// Held holds the whole trail against all that was signed of it, and returns up to which entry it is that.
	Held(context.Context) (kept uint64, problems []string, err error)
	// BeginEpoch lets it go on in another epoch, and returns the entry with which that begins.
	BeginEpoch(kept uint64, why string) (trail.Entry, error)
	// LastCheckpoint signs what the trail is before the keys are erased, and StopWitnesses tells whoever keeps it, for a bounded time.
	LastCheckpoint()
	StopWitnesses()
	// ExamineTrail lists what is wrong with the trail.
	ExamineTrail(context.Context) (problems []string, err error)
}

// Options of the room.
type Options struct {
	// OnUnlock is called after each unlock with what opens the chest's certificate authority; nil means not at all.
	OnUnlock func(root *envelope.Root)
	// Fetch is called at each unlock, before anything is served, to have hardware open what it keeps of master keys; nil means not at all.
	Fetch func(root *envelope.Root, rows []entity.MasterKey)
	// Restored lets the chest be unlocked although the trail is not what it was, because it was restored from a backup.
	Restored bool
	// Problems tells what other rooms know to be wrong; nil for nothing.
	Problems func() []Problem
}

// Opening is the room. Its methods are safe for concurrent use.
type Opening struct {
	heart   *chest.Chest
	records Records
	trail   Trail
	options Options
	turn    sync.Mutex // one unlock or lock at a time

	examining atomic.Pointer[context.CancelFunc] // ends the examination that is under way, which holds the turn

	ceremonies ceremonies // shares that were handed in
	sample     sample     // of values, for whoever asks whether it is ready
	found      findings   // what the looks behind the scenes have found
	kept       proof      // what opened the chest's keys a moment ago, by shares; guarded by turn

	stop   context.CancelFunc // ends what goes on behind the scenes; made at each unlock, and guarded by turn
	behind sync.WaitGroup
}

// New opens the room over a heart.
func New(heart *chest.Chest, records Records, trail Trail, o Options) *Opening {
	return &Opening{heart: heart, records: records, trail: trail, options: o}
}
