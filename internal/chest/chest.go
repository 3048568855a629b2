// Package chest is the heart: what decides access at one instant as one immutable value, and the one way in which it becomes
// another one.
//
// A use case takes a [Snapshot] once and works on it without locks. What it wants done is a value, gathered in an [Attempt]: the
// entry, the rows to put and remove, and what the decision rests on. The store's one writer asks [memory] whether that still
// holds; if something it rests on has moved since, the use case is tried again on the newest snapshot ([Chest.Try]). What the
// file becomes, what memory becomes, and what could be sent to another machine follow from that value alone.
//
// A read is an attempt, too: it adds an entry. So nothing is served by a right that had ended when its entry was written.
package chest

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"log/slog"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/folding"
	"tansu/internal/core/reference"
	"tansu/internal/core/steady"
	"tansu/internal/core/throttle"
	"tansu/internal/core/trail"
	"tansu/internal/drawerkeys"
	"tansu/internal/entity"
	"tansu/internal/store"
	"tansu/internal/warm"
)

// Records is what the heart needs of a store; *store.Store is one. Its methods are safe for concurrent use.
type Records interface {
	Chest() (store.Chest, error)
	Bind(store.Sealer) (*store.Snapshot, error)
	Follow(store.Memory)
	Unbind()
	Latest() time.Time
	Submit(*store.Work) error
	Count(store.Fold) error
	Content(version string) ([]byte, error)
	Item(drawer, name string) (store.Shelved, error)
	Items(store.ItemFilter, func(store.Shelved) bool) error
	ItemByID(id string) (store.Shelved, error)
	ItemsDue(until int64, visit func(store.Shelved) bool) error
	CountDrawer(drawer string) (all, retired int, err error)
	Names(drawer, near string, most int) ([]string, error)
	CatchUp() error
	Uses(store.UseFilter) ([]store.Use, error)
	ForgetJournal() error
}

// Options of a chest.
type Options struct {
	Now func() time.Time // the clock; nil means the machine's
	Log *slog.Logger     // nil means that nothing is logged
	// TrustClock trusts the machine's clock although the last entry has a later time.
	TrustClock bool
}

// Chest is what decides access, locked or not. Its methods are safe for concurrent use.
type Chest struct {
	records  Records
	id       string
	now      func() time.Time // does not run back
	clock    *steady.Clock
	log      *slog.Logger
	throttle *throttle.Throttle
	folding  *folding.Folding
	contents *warm.Cache
	hand     drawerkeys.Hand // what is not stored of master keys

	newest atomic.Pointer[Snapshot] // nil while locked; the writer replaces it, and anybody may keep what they took
	memory *memory
	alone  sync.RWMutex // held for reading around each try of a change; for writing by one that was overtaken too often

	losses losses

	listening sync.RWMutex
	listeners []func([]store.Mark)
}

// New opens the heart over records. The chest is locked.
func New(records Records, o Options) (*Chest, error) {
	row, err := records.Chest()
	if err != nil {
		return nil, err
	}
	c := &Chest{records: records, id: row.ID, log: o.Log, throttle: throttle.New(), folding: folding.New(),
		contents: warm.New(64 << 20)}
	if c.log == nil {
		c.log = slog.New(slog.DiscardHandler)
	}
	c.startClock(o)
	c.memory = newMemory(c)
	return c, nil
}

// ID returns the chest's id, Now its time, and Log its log.
func (c *Chest) ID() string { return c.id }

// startClock makes time no earlier than what was recorded last. A clock that is not the machine's runs only when it is set.
func (c *Chest) startClock(o Options) {
	if o.Now == nil {
		c.clock = steady.New(time.Now, nil)
	} else {
		c.clock = steady.New(o.Now, func() time.Duration { return 0 })
	}
	c.now = c.clock.Now
	c.clock.Tell(func(behind time.Duration) { go c.sayBehind(behind, "was set back by ") })
	if latest, behind := c.records.Latest(), time.Duration(0); o.TrustClock {
		c.log.Warn("the clock is taken to be right", "newest_entry", latest)
	} else if behind = c.clock.Since(latest); behind > steady.Slack {
		c.log.Error("the machine's clock is behind what was recorded last: time goes on from there", "behind", behind.Round(time.Second).String(),
			"newest_entry", latest)
	}
}

// sayBehind puts into log and trail that the machine's clock is behind.
func (c *Chest) sayBehind(behind time.Duration, how string) {
	what := "the machine's clock " + how + behind.Round(time.Second).String() + "; time goes on from where it was"
	c.log.Error(what)
	err := c.records.Submit(&store.Work{Entry: trail.Entry{At: c.now(), Subject: "chest", Action: "clock_behind", Outcome: trail.Allowed,
		Detail: what}})
	if err != nil {
		c.log.Error("entry not recorded", "action", "clock_behind", "error", err)
	}
}

// Now is the chest's clock, which does not run back.
func (c *Chest) Now() time.Time { return c.now() }

// ClockBehind is by how much the machine's clock is behind the chest's.
func (c *Chest) ClockBehind() time.Duration { return c.clock.Behind() }

// Log is the chest's log.
func (c *Chest) Log() *slog.Logger { return c.log }

// Newest is what decides access now; nil while the chest is locked. It stays as it is for whoever took it.
func (c *Chest) Newest() *Snapshot { return c.newest.Load() }

// Look is Newest, or an error while the chest is locked.
func (c *Chest) Look() (*Snapshot, error) {
	if st := c.newest.Load(); st != nil {
		return st, nil
	}
	return nil, ErrLocked
}

// View calls look with the newest snapshot.
func (c *Chest) View(look func(*Snapshot) error) error {
	st, err := c.Look()
	if err != nil {
		return err
	}
	return look(st)
}

// Listen adds somebody who is told, after each commit, which marks it touched. It is called before anything is unlocked, and the
// listener must not take long.
func (c *Chest) Listen(listener func([]store.Mark)) {
	c.listening.Lock()
	defer c.listening.Unlock()
	c.listeners = append(c.listeners, listener)
}

// Open makes rows what decides access, under a root key that is the chest's from then on. It serves at once.
func (c *Chest) Open(root *envelope.Root, rows *store.Snapshot, at time.Time) error {
	st, err := newSnapshot(c, root, rows)
	if err != nil {
		return err
	}
	st.since = at
	c.memory.begin(st)
	c.records.Follow(c.memory)
	c.newest.Store(st)
	return nil
}

// Close forgets what decides access and erases the keys, once nobody is using them. Nothing is served until the next Open.
func (c *Chest) Close() {
	st := c.newest.Swap(nil)
	c.records.Unbind() // it waits for a commit that is under way
	c.newest.Store(nil)
	c.memory.forgetItems()
	c.contents.Empty()
	c.hand.Empty()
	if st != nil {
		st.erase()
	}
}

// Origin is where a request came from.
type Origin struct {
	Addr      string // without port
	RequestID string
	Reason    string // stated by the caller; empty for none
	// Certificate is the SHA-256, in hex, of the certificate that the connection showed and has the key of; empty for none.
	Certificate string
	// Asking ends when whoever asked does not wait for an answer any more; nil for never.
	Asking context.Context
	Left   *throttle.Left // receives how many attempts are left; nil if nobody wants to know
	Once   *store.Once    // the idempotency key of the request; nil for none
}

// Ctx is the context of a question: it ends when nobody waits for the answer any more.
func (o Origin) Ctx() context.Context {
	if o.Asking == nil {
		return context.Background()
	}
	return o.Asking
}

// Caller is a proven identity and how it came.
type Caller struct {
	Origin
	ID    string // of the identity
	Name  string // as a subject
	Proof string // how it proved itself, as entries hold it
	Token string // the id of the token it showed; empty for whoever is trusted for one thing only

	// Anyhow assumes that all conditions of grants hold: for questions about what could be possible.
	Anyhow bool

	steward bool
	batch   *Batch // where what is attempted is recorded together; nil for each by itself
	addr    netip.Addr
	seen    *Snapshot // in which the token was good
}

// Position is how far changes have come, for what is to rest on there being none of some since.
func (c *Chest) Position() uint64 { return c.memory.position() }

// Anonymous is somebody who has not proved who they are, as entries name them. A name that was only claimed is never recorded:
// people type passwords into name fields.
func Anonymous(origin Origin, via string) Caller {
	return Caller{Origin: origin, Name: Unknown, Proof: via}
}

// Unknown is the subject of entries about somebody who has not proved who they are.
const Unknown = "unknown"

// Proven is the caller whose token was good in a snapshot.
func Proven(origin Origin, st *Snapshot, identity entity.Identity, token entity.Token, now time.Time) Caller {
	c := Caller{Origin: origin, ID: identity.ID, Name: SubjectOf(identity), Proof: token.Via, Token: token.ID, seen: st}
	c.steward = identity.Kind == reference.Person && st.IsSteward(c, now)
	return c
}

// Subject returns the caller as a subject: "person:audit-desk".
func (c Caller) Subject() string { return c.Name }

// Steward reports whether the caller is a steward, who exists to appoint others.
func (c Caller) Steward() bool { return c.steward }

// Via returns how the caller proved itself.
func (c Caller) Via() string { return c.Proof }

// Batched is the caller with a batch that all its attempts are recorded in.
func (c Caller) Batched(b *Batch, now time.Time) Caller {
	c.batch, c.addr = b, c.Context(now).Addr
	return c
}

// Context is what conditions of grants ask about.
func (c Caller) Context(now time.Time) access.Context {
	if !c.addr.IsValid() {
		c.addr, _ = netip.ParseAddr(c.Addr) // what is no address is in no network
	}
	return access.Context{Now: now, Addr: c.addr, Via: c.Proof, Reason: c.Reason, Anyhow: c.Anyhow}
}

// NewID makes an identifier: a prefix that says of what, and 80 random bits.
func NewID(prefix string) string {
	var random [10]byte
	_, _ = rand.Read(random[:])
	return prefix + strings.ToLower(base32.StdEncoding.EncodeToString(random[:]))
}

// idsTogether is how many ids that are made together begin alike.
const idsTogether = 32

// NewIDs returns a maker of ids for many things that are made in one go. Each few of them begin alike, in the three characters by which
// the store sums items, so that what is made together lies together in the file and is not strewn over all of it; the rest is as
// random as that of [NewID]. Not safe for concurrent use.
func NewIDs(prefix string) func() string {
	start, made := "", 0
	return func() string {
		id := NewID("")
		if made%idsTogether == 0 {
			start = id[:3]
		}
		made++
		return prefix + start + id[3:]
	}
}

// NewReceipt makes a receipt id, short enough to be read out: 50 random bits.
func NewReceipt() string { return NewID("")[:10] }

// Batch collects entries that become durable in one commit, before any of the values that they record leaves the chest.
type Batch struct {
	entries []trail.Entry
	basis   store.Basis
}

// NewBatch makes room for some entries.
func NewBatch(entries int) *Batch { return &Batch{entries: make([]trail.Entry, 0, entries)} }

// Flush makes the entries of a batch durable. On an error that is [store.ErrMoved] it is to be made anew.
func (c *Chest) Flush(b *Batch) error {
	if len(b.entries) == 0 {
		return nil
	}
	err := c.records.Submit(&store.Work{Entry: b.entries[0], More: b.entries[1:], Basis: b.basis})
	if err != nil && !errors.Is(err, store.ErrMoved) {
		c.log.Error("entries not recorded", "error", err)
		return StoreError(err, "")
	}
	return err
}

// tries is how often a use case is tried before it goes alone.
const tries = 4

// Try runs a use case, again while what it rests on moves under it. One that is overtaken too often goes alone: no other change is
// made meanwhile.
func (c *Chest) Try(try func() error) error {
	for range tries {
		if err := c.beside(try); !errors.Is(err, store.ErrMoved) {
			return err
		}
	}
	c.alone.Lock()
	defer c.alone.Unlock()
	err := try()
	if errors.Is(err, store.ErrMoved) {
		return &Error{Code: Stale, Detail: "what this rests on keeps changing; try again", Err: err}
	}
	return err
}

// Alone runs something beside which no change is decided: what is under way is waited for.
func (c *Chest) Alone(run func() error) error {
	c.alone.Lock()
	defer c.alone.Unlock()
	return run()
}

func (c *Chest) beside(try func() error) error {
	c.alone.RLock()
	defer c.alone.RUnlock()
	return try()
}

// Lost reports whether an error ends a whole batch and not one of its attempts: the chest was locked, or the token is no longer valid.
func (b *Batch) Lost(err error) bool {
	var known *Error
	return errors.As(err, &known) && (known == ErrLocked || known.Code == Unauthenticated)
}
