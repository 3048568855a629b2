// Package service holds the use cases of a chest: each authenticates, decides, acts and records, in that order, and
// returns only after what it tells of is durable.
//
// While the chest is unlocked, who may do what is in memory ([state]); items and ciphertexts are read from the file when
// they are not in bounded caches ([itemCache], [contentCache]), and so is the trail. Every change goes through the store's one writer together with its
// entry, and memory follows the commit.
package service

import (
	"cmp"
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

	"github.com/go-jose/go-jose/v4"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// Records is what the use cases need of a store; *store.Store is one. Its methods are safe for concurrent use.
type Records interface {
	Chest() (store.Chest, error)
	Bind(store.Sealer) (*store.Snapshot, error)
	Check(store.Sealer) error
	Unbind()
	Submit(*store.Work) error
	Content(version string) ([]byte, error)
	Item(drawer, name string) (store.Shelved, error)
	ItemsNamed(drawer string, names []string) (map[string]store.Shelved, error)
	Items(store.ItemFilter, func(store.Shelved) bool) error
	ItemByID(id string) (store.Shelved, error)
	WrappedUnder(drawer string, key, most int) ([]store.Version, int, error)
	Alike(likeness, most int) ([]string, error)
	Rare([]store.Said) (map[string][]int64, bool, error)
	CountItems(store.ItemFilter) (int, error)
	Names(drawer, near string, most int) ([]string, error)
	ForgetJournal() error
	Entries(store.Filter, func(trail.Entry) bool) error
	CountUses(func(trail.Entry) []store.Use)
	CatchUp() error
	Reindex() error
	Uses(store.UseFilter) ([]store.Use, error)
	Bodies(from uint64, visit func(seq uint64, body string) bool) error
	ChangedEntries(most int) ([]uint64, error)
	Size() uint64
	Last() uint64
	Root(size uint64) (trail.Hash, error)
	ProveEntry(size, seq uint64) (body string, hashes [][]byte, err error)
	ProveExtends(newer, older uint64) ([][]byte, error)
	Count(store.Fold) error
	Folds(before int64) ([]store.Fold, error)
	Unfold(key string, complete func(store.Fold) trail.Entry) error
	Archives() ([]store.Archive, error)
	ArchiveBefore(before int64) (store.Archive, bool, error)
	Archived(name string, visit func(trail.Entry) bool) error
	Checkpoints(from, to uint64, most int) ([]store.StoredCheckpoint, error)
	KeepCheckpoint(store.StoredCheckpoint) error
	ThinCheckpoints(before int64) error
	Ready() error
	Trouble() (since time.Time, err error)
	Probe() error
}

// Options of a service.
type Options struct {
	Now func() time.Time // the clock; nil means the machine's
	Log *slog.Logger     // nil means that nothing is logged
	// OnUnlock is called after each unlock with what opens the chest's certificate authority; nil means not at all.
	OnUnlock func(root *envelope.Root)
	// Witnesses are told each checkpoint, and asked at each unlock whether the trail is what it was.
	Witnesses []Witness
	// Restored lets the chest be unlocked although the trail is not what it was, because it was restored from a backup.
	Restored bool
	// ArchiveAfter is how long entries stay in the database before they are moved into archives; 0 for ever.
	ArchiveAfter time.Duration
	// Names are those that the chest's own certificate is for; assertions are made out to one of them. Nil for none.
	Names func() []string
	// IssuerKeys fetches the keys with which an outside issuer signs; nil for no such issuers.
	IssuerKeys func(ctx context.Context, issuer, authority, keyID string) ([]jose.JSONWebKey, error)
	// Outlets tells how far those are to which the trail is passed on; nil for none.
	Outlets func() []Follower
}

// Service is an open chest, locked or not. Its methods are safe for concurrent use.
type Service struct {
	records  Records
	options  Options
	chest    store.Chest
	contents *contentCache
	throttle *throttle
	folding  *folding
	spent    spent
	waiting  waiting
	hashing  chan struct{} // bounds how many password hashes run at once, and so their memory

	witnesses   *witnesses
	verifierKey atomic.Value // a string; set at the first unlock
	signing     sync.Mutex   // one checkpoint at a time
	thinned     time.Time    // when old checkpoints were thinned out; guarded by signing

	unlocking sync.Mutex   // one unlock or lock at a time
	changing  sync.Mutex   // one change of access or of an existing item at a time: what was checked before it still holds when it is made
	keys      sync.RWMutex // held for reading while something sealed under a drawer's key is on its way into the file, for writing while a key is destroyed
	mu        sync.RWMutex
	state     *state // nil while locked; guarded by mu, which is held as long as anything of it is used
}

// New opens the use cases over records. The chest is locked.
func New(records Records, options Options) (*Service, error) {
	chest, err := records.Chest()
	if err != nil {
		return nil, err
	}
	if options.Now == nil {
		options.Now = time.Now
	}
	if options.Log == nil {
		options.Log = slog.New(slog.DiscardHandler)
	}
	records.CountUses(usesOf)
	return &Service{
		records:  records,
		options:  options,
		chest:    chest,
		contents: newContentCache(64 << 20),
		throttle: newThrottle(),
		folding:  newFolding(),

		witnesses: newWitnesses(options.Witnesses, options.Log),
		hashing:   make(chan struct{}, 2),
	}, nil
}

func (s *Service) now() time.Time { return s.options.Now() }

// Origin is where a request came from.
type Origin struct {
	Addr      string // without port
	RequestID string
	Reason    string // stated by the caller; empty for none
	// Certificate is the SHA-256, in hex, of the certificate that the connection showed and has the key of; empty for none.
	Certificate string
}

// Caller is a proven identity and how it came.
type Caller struct {
	Origin
	id      string // of the identity
	name    string // as a subject
	via     string
	token   string // the id of the token it showed
	steward bool
	batch   *batch     // where what is attempted is recorded together; nil for each by itself
	addr    netip.Addr // its address, if that was read already
}

// batch is entries that become durable in one commit, before anything of what they tell of leaves the chest.
type batch struct{ entries []trail.Entry }

// context is what conditions of grants ask about.
func (c Caller) context(now time.Time) access.Context {
	if !c.addr.IsValid() {
		c.addr, _ = netip.ParseAddr(c.Addr) // what is no address is in no network
	}
	return access.Context{Now: now, Addr: c.addr, Via: c.via, Reason: c.Reason}
}

// Subject returns the caller as a subject: "person:audit-desk".
func (c Caller) Subject() string { return c.name }

// Steward reports whether the caller is a steward, who exists to appoint others.
func (c Caller) Steward() bool { return c.steward }

// Via returns how the caller proved itself.
func (c Caller) Via() string { return c.via }

// newID makes an identifier: a prefix that says of what, and 80 random bits.
func newID(prefix string) string {
	var random [10]byte
	_, _ = rand.Read(random[:])
	return prefix + strings.ToLower(base32.StdEncoding.EncodeToString(random[:]))
}

// newReceipt makes a receipt id, short enough to be read out: 50 random bits.
func newReceipt() string { return newID("")[:10] }

// attempt is one thing a caller tries: it becomes one entry.
type attempt struct {
	s     *Service
	entry trail.Entry
	// certificate is that of the connection, as in [Origin].
	certificate string
	more        []trail.Entry // of the single things that an attempt at many of them changes
	batch       *batch
}

// attempt starts the entry of something that is about to be decided.
func (s *Service) attempt(c Caller, action, target string) *attempt {
	return &attempt{s: s, batch: c.batch, certificate: c.Certificate, entry: trail.Entry{
		At: s.now(), Subject: c.name, Via: c.via, Action: action, Target: target, RequestID: c.RequestID, Addr: c.Addr, Stated: c.Reason,
	}}
}

// allow decides and, when the answer is no, records it and returns the refusal. The target's segments are what grants
// are matched with; the attempt's own target is what people read.
func (s *Service) allow(c Caller, action access.Action, target ...string) (*attempt, error) {
	a := s.attempt(c, action.String(), strings.Join(target, "/"))
	s.mu.RLock()
	if s.state == nil {
		s.mu.RUnlock()
		return nil, errLocked
	}
	if err := s.state.at(target...).err; err != nil { // nothing can be decided about what is not as it was stored
		s.mu.RUnlock()
		return nil, a.fail(err)
	}
	request := s.state.request(c.id, action, c.context(a.entry.At), target...)
	decision := s.state.policy.Decide(request)
	why := ""
	if !decision.Allowed {
		why = nearestMiss(s.state.policy, request)
	}
	s.mu.RUnlock()
	return a, a.decided(decision, action, why)
}

// nearestMiss says why the grant that came nearest does not fit, if one came near at all.
func nearestMiss(p access.Policy, request access.Request) string {
	decision, considered := p.Explain(request)
	for _, c := range considered {
		if c.Grant.ID == decision.Grant {
			return c.Reason
		}
	}
	return ""
}

// decided notes a decision about the attempt's target; a no is recorded at once and returned as an [*Error]. The
// sentence why says what kept the nearest grant from allowing it; it may be empty.
func (a *attempt) decided(decision access.Decision, action access.Action, why string) error {
	target := a.entry.Target
	if target == "" {
		target = "the chest"
	}
	if decision.Reason == access.ReasonNeeded {
		why += ": give --reason, or the header Tansu-Reason"
	}
	return a.answered(decision, action.Phrase()+" "+target, why, a.remedy(action))
}

// remedy is the smallest grant that would allow the action of an attempt.
func (a *attempt) remedy(action access.Action) (r *Remedy) {
	_ = a.s.view(func(st *state) error { r = st.remedyFor(a.entry.Subject, action, a.entry.Target); return nil })
	return r
}

// remedyFor is the smallest grant of an action on a target.
func (st *state) remedyFor(subject string, action access.Action, target string) *Remedy {
	if target == "" {
		target = "**"
	}
	return &Remedy{Subject: subject, Role: access.SmallestRole(st.allRoles(), action).Name, Scope: target}
}

// answered notes a decision; a no is recorded at once and returned as an [*Error]. What completes the sentence "may
// not …".
func (a *attempt) answered(decision access.Decision, what, why string, remedy *Remedy) error {
	a.entry.Grant = decision.Grant
	if decision.Allowed {
		return nil
	}
	refusal := &Refusal{Receipt: newReceipt(), Subject: a.entry.Subject, Action: a.entry.Action, Target: a.entry.Target, Reason: decision.Reason}
	if decision.Reason.Grantable() {
		refusal.Remedy = remedy
	}
	detail := refusal.sentence(what, why)
	_ = a.s.view(func(st *state) error {
		if last, declined := st.declinedFor(st.subjects[a.entry.Subject], a.entry.Action, a.entry.Target); declined {
			detail += "; " + noText(last)
		}
		return nil
	})
	return a.refuse(&Error{Code: Refused, Detail: detail, Reason: string(decision.Reason), Refusal: refusal})
}

func (r *Refusal) sentence(what, why string) string {
	text := r.Subject + " may not " + what + ": "
	switch r.Reason {
	case access.GrantEnded:
		text += "the grant that allowed it has ended"
	case access.ConditionFailed, access.ReasonNeeded:
		text += "a grant would allow it, but " + cmp.Or(why, "one of its conditions does not hold")
	case access.ApprovalNeeded:
		text += "a grant allows it, and its drawer asks for a second person to agree: tansu request ask " + r.Receipt + " --reason WHY"
	case access.Denied:
		text += "a grant denies it"
	default:
		text += "no grant gives it"
	}
	return text
}

// Reasons of refusals that no grant decides.
const (
	ownAccess   = "own_access"
	stewardOnly = "steward_only"
)

// refuse records a no and returns it. Whoever is known gets a receipt.
func (a *attempt) refuse(refusal *Error) error {
	a.more = nil // what would have been done was not
	a.entry.Outcome, a.entry.Reason = trail.Refused, refusal.Reason
	if refusal.Code == Refused && refusal.Refusal == nil {
		refusal.Refusal = &Refusal{Receipt: newReceipt(), Subject: a.entry.Subject, Action: a.entry.Action, Target: a.entry.Target, Reason: access.Reason(refusal.Reason)}
	}
	if refusal.Refusal != nil {
		a.entry.Receipt = refusal.Refusal.Receipt
	}
	if key, receipt, several := a.s.folding.take(a.entry); key != "" {
		return a.fold(key, receipt, several, refusal)
	}
	return a.record(refusal)
}

// fail records that something allowed was not possible and returns why. Input that could not be understood is not
// worth an entry of its own kind: its code is the reason.
func (a *attempt) fail(err error) error {
	a.more = nil // what would have been done was not
	var known *Error
	if !errors.As(err, &known) {
		known = &Error{Code: Internal, Detail: "something went wrong inside the chest; its log says what", Err: err}
	}
	a.entry.Outcome, a.entry.Reason = trail.Failed, string(known.Code)
	return a.record(known)
}

// done records success.
func (a *attempt) done() error {
	a.entry.Outcome = trail.Allowed
	return a.record(nil)
}

// answer records success and returns what is answered; nothing, if it could not be recorded.
func answer[T any](a *attempt, data T) (T, error) {
	if err := a.done(); err != nil {
		var none T
		return none, err
	}
	return data, nil
}

// record makes the entry durable and returns err, or that it could not be made durable. What is part of a batch is
// recorded with it.
func (a *attempt) record(err error) error {
	if a.batch != nil {
		a.batch.entries = append(append(a.batch.entries, a.entry), a.more...)
		return err
	}
	if lost := a.s.records.Submit(&store.Work{Entry: a.entry, More: a.more}); lost != nil {
		a.s.options.Log.Error("entry not recorded", "action", a.entry.Action, "error", lost)
		return storeError(lost, "")
	}
	return err
}

// change makes a change durable together with the entry of its success; apply brings memory in line, under the lock.
// When the change is not possible, that is recorded instead; what names the thing in the error.
func (a *attempt) change(what string, change func(*store.Tx) error, apply func(*state)) error {
	a.entry.Outcome = trail.Allowed
	err := a.s.records.Submit(&store.Work{Entry: a.entry, More: a.more, Change: change, Committed: func() {
		a.s.mu.Lock()
		defer a.s.mu.Unlock()
		if a.s.state != nil {
			apply(a.s.state)
		}
	}})
	if err == nil {
		a.s.waiting.wake(a.entry)
		return nil
	}
	if errors.Is(err, store.ErrNotRecorded) {
		a.s.options.Log.Error("change not recorded", "action", a.entry.Action, "error", err)
		return storeError(err, what)
	}
	return a.fail(storeError(err, what))
}

// view calls look with the rows in memory, which must not be kept.
func (s *Service) view(look func(*state) error) error {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.state == nil {
		return errLocked
	}
	return look(s.state)
}
