package chest

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/folding"
	"tansu/internal/core/throttle"
	"tansu/internal/core/trail"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Attempt is one act of a caller, from the decision to the entry in the trail. It is decided on one snapshot, and keeps what the
// decision depends on, so that the writer can check that this still holds. An act on many things adds an entry for each of them.
type Attempt struct {
	St     *Snapshot // nil while the chest is locked
	Entry  trail.Entry
	More   []trail.Entry // of the single things that an attempt at many of them changes
	Change store.Change
	Caller Caller

	// AccessEnds is when what allows it ends, if it was decided to be allowed; zero for never.
	AccessEnds time.Time

	// LockOut lets a change leave nobody who can give access: the caller has said that it is meant.
	LockOut bool

	chest *Chest
	err   error // why nothing can be decided; nil
	basis store.Basis
	marks [6]store.Mark
}

// Attempt begins the entry of something that is about to be decided, on the newest snapshot.
func (c *Chest) Attempt(caller Caller, action, target string) *Attempt {
	a := &Attempt{}
	c.begin(a, caller, action, target)
	return a
}

func (c *Chest) begin(a *Attempt, caller Caller, action, target string) {
	a.chest, a.St, a.Caller = c, c.newest.Load(), caller
	a.Entry = trail.Entry{At: c.now(), Subject: caller.Name, SubjectID: caller.ID, Via: caller.Proof, Action: action, Target: target,
		RequestID: caller.RequestID, Addr: caller.Addr, Stated: caller.Reason}
	a.basis.Marks = a.marks[:0]
	switch {
	case a.St == nil:
		a.err = ErrLocked
		return
	case caller.Token != "":
		if a.St != caller.seen && !a.St.good(caller.Token, a.Entry.At) {
			a.err = &Error{Code: Unauthenticated, Detail: "the token is no longer valid: sign in again", Reason: "token_unknown"}
		}
		a.basis.RestOn(store.MarkProof, caller.Token)
	}
	a.basis.Position = a.St.position
	if caller.ID != "" {
		a.basis.RestOn(store.MarkSubject, caller.ID)
	}
}

// Look calls look with the attempt's snapshot.
func (a *Attempt) Look(look func(*Snapshot) error) error {
	if a.err != nil {
		return a.err
	}
	return look(a.St)
}

// Err is why nothing can be decided: the chest is locked, or the token that was shown is not good any more.
func (a *Attempt) Err() error { return a.err }

// RestOnAccess lets the attempt rest on all that decides access to anything.
func (a *Attempt) RestOnAccess() *Attempt {
	a.basis.RestOn(store.MarkAccess, "")
	return a
}

// Since lets it rest on what was so at an earlier position, as [Chest.Position] gave it.
func (a *Attempt) Since(position uint64) { a.basis.Position = min(a.basis.Position, position) }

// RestOnSubject lets it rest on what an identity may do, RestOnProof on a token or a credential, RestOnSpot on a drawer or an item.
func (a *Attempt) RestOnSubject(id string) { a.basis.RestOn(store.MarkSubject, id) }

// RestOnProof lets it rest on a token or a credential.
func (a *Attempt) RestOnProof(id string) { a.basis.RestOn(store.MarkProof, id) }

// RestOnSpot lets it rest on a drawer or an item, and fills in their ids.
func (a *Attempt) RestOnSpot(p Spot) {
	p.RestOn(&a.basis)
	if p.Asked != nil {
		a.Entry.DrawerID = p.Asked.Row.ID
	}
	if p.Item != nil {
		a.Entry.ItemID, a.Entry.DrawerID = p.Item.Row.ID, p.Home.Row.ID
	}
}

// RestBeside lets it rest on something that it is not about: its entry says nothing of that.
func (a *Attempt) RestBeside(p Spot) { p.RestOn(&a.basis) }

// DeniedNow refuses what was asked for by an old name, where a grant denies it by the name that the thing has today. Home is that name, as
// [Serving] has it; empty where it was asked for by no other.
func (a *Attempt) DeniedNow(action access.Action, home string) error {
	if home == "" {
		return nil
	}
	decision := a.St.Decide(a.Caller.ID, action, a.Caller.Context(a.Entry.At), TargetOf(home)...)
	if decision.Reason == access.Denied {
		return a.Decided(decision, action, "")
	}
	return nil
}

// Allow decides and, when the answer is no, records it and returns the refusal. The target's segments are what grants
// are matched with; the attempt's own target is what people read.
func (c *Chest) Allow(caller Caller, action access.Action, target ...string) (*Attempt, error) {
	a := c.Attempt(caller, action.String(), strings.Join(target, "/"))
	_, err := a.Decide(action, target...)
	return a, err
}

// Decide decides about what is at a target, rests the attempt on it, and notes the decision as [Attempt.Decided] does.
func (a *Attempt) Decide(action access.Action, target ...string) (Spot, error) {
	if a.err != nil {
		return Spot{}, a.err
	}
	spot := a.St.For(a.Caller.ID, action, target...)
	a.RestOnSpot(spot)
	if spot.Err != nil { // nothing can be decided about what is not as it was stored
		return spot, a.Fail(spot.Err)
	}
	return spot, a.decideAt(spot, action)
}

func (a *Attempt) decideAt(spot Spot, action access.Action) error {
	request := a.St.QuestionAt(spot, a.Caller.ID, action, a.Caller.Context(a.Entry.At))
	decision := a.St.Policy.Decide(request)
	why := ""
	if !decision.Allowed {
		why = a.St.NearestMiss(request, decision)
	}
	return a.Decided(decision, action, why)
}

// NearestMiss says why the grant that came nearest does not fit, if one came near at all.
func (st *Snapshot) NearestMiss(request access.Request, decision access.Decision) string {
	if decision.Grant == "" {
		return ""
	}
	return st.Policy.Why(request, decision.Grant)
}

// Decided notes a decision about the attempt's target; a no is recorded at once and returned as an [*Error]. The
// sentence why says what kept the nearest grant from allowing it; it may be empty.
func (a *Attempt) Decided(decision access.Decision, action access.Action, why string) error {
	if decision.Allowed {
		a.Entry.Grant, a.AccessEnds = decision.Grant, decision.Ends
		return nil
	}
	target := a.Entry.Target
	if target == "" {
		target = "the chest"
	}
	if decision.Reason == access.ReasonNeeded {
		why += ": give --reason, or the header Tansu-Reason"
	}
	return a.Answered(decision, action.Phrase()+" "+target, why, a.Remedy(action))
}

// Remedy is the smallest grant that would allow the action of an attempt.
func (a *Attempt) Remedy(action access.Action) *Remedy {
	if a.St == nil {
		return nil
	}
	return a.St.RemedyFor(a.Entry.Subject, action, a.Entry.Target)
}

// RemedyFor is the smallest grant of an action on a target.
func (st *Snapshot) RemedyFor(subject string, action access.Action, target string) *Remedy {
	if target == "" {
		target = "**"
	}
	return &Remedy{Subject: subject, Role: access.SmallestRole(st.AllRoles(), action).Name, Scope: target}
}

// Answered notes a decision; a no is recorded at once and returned as an [*Error]. What completes the sentence "may
// not …".
func (a *Attempt) Answered(decision access.Decision, what, why string, remedy *Remedy) error {
	a.Entry.Grant = decision.Grant
	if decision.Allowed {
		return nil
	}
	refusal := &Refusal{Receipt: NewReceipt(), Subject: a.Entry.Subject, Action: a.Entry.Action, Target: a.Entry.Target,
		Reason: decision.Reason}
	if decision.Reason.Grantable() {
		refusal.Remedy = remedy
	}
	detail := refusal.Sentence(what, why)
	if a.St != nil {
		if last, declined := a.St.DeclinedFor(a.Entry.Subject, a.Entry.Action, a.Entry.Target); declined {
			detail += "; " + NoText(last)
		}
	}
	return a.Refuse(&Error{Code: Refused, Detail: detail, Reason: string(decision.Reason), Refusal: refusal})
}

// NoText says an answer that was a no.
func NoText(r entity.Request) string {
	return fmt.Sprintf("%s declined on %s: %s", r.AnsweredBy, FromMicros(r.AnsweredAt).Format("2006-01-02"), r.Answer)
}

// Sentence says a refusal; what completes "may not …".
func (r *Refusal) Sentence(what, why string) string {
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
	OwnAccess      = "own_access"
	StewardOnly    = "steward_only"
	NotConfirmed   = "not_confirmed"
	MasterKeyOwner = "master_key_owner"
)

// Refuse records a no and returns it. Whoever is known gets a receipt.
func (a *Attempt) Refuse(refusal *Error) error {
	a.More = nil // what would have been done was not
	a.Entry.Outcome, a.Entry.Reason = trail.Refused, refusal.Reason
	if refusal.Code == Refused && refusal.Refusal == nil {
		refusal.Refusal = &Refusal{Receipt: NewReceipt(), Subject: a.Entry.Subject, Action: a.Entry.Action, Target: a.Entry.Target,
			Reason: access.Reason(refusal.Reason)}
	}
	if refusal.Refusal != nil {
		a.Entry.Receipt = refusal.Refusal.Receipt
	}
	if key, receipt, several := a.chest.folding.Take(a.Entry); key != "" {
		return a.fold(key, receipt, several, refusal)
	}
	return a.record(refusal)
}

// Fail records that something allowed was not possible and returns why. Input that could not be understood is not
// worth an entry of its own kind: its code is the reason.
func (a *Attempt) Fail(err error) error {
	if errors.Is(err, store.ErrMoved) {
		return err // it is tried again
	}
	a.More = nil // what would have been done was not
	var known *Error
	switch is := errors.As(err, &known); {
	case is:
	case a.chest.newest.Load() == nil:
		return ErrLocked // and the keys were erased under it
	case a.St != nil && a.overtaken():
		return store.ErrMoved // what was read and what it was decided on may be of two moments
	default:
		known = &Error{Code: Internal, Detail: "something went wrong inside the chest; its log says what", Err: err}
		a.chest.log.Error("something went wrong", "action", a.Entry.Action, "target", a.Entry.Target, "error", err)
	}
	if known == ErrLocked || a.err != nil && known.Code == Unauthenticated {
		return known // nothing can be said of who asked
	}
	a.Entry.Outcome, a.Entry.Reason = trail.Failed, string(known.Code)
	return a.record(known)
}

// Done records success. It is durable when it returns, or it is an error.
func (a *Attempt) Done() error {
	if a.err != nil {
		return a.err
	}
	a.Entry.Outcome = trail.Allowed
	return a.record(nil)
}

// Recorded is Done, or Commit, for what is tried while the chest is locked.
func (a *Attempt) Recorded() error {
	a.Entry.Outcome = trail.Allowed
	if a.Change.Empty() {
		return a.record(nil)
	}
	if err := a.submit(&store.Work{Entry: a.Entry, More: a.More, Change: &a.Change}); err != nil {
		a.chest.log.Error("entry not recorded", "action", a.Entry.Action, "error", err)
		return StoreError(err, "")
	}
	return nil
}

// Reply records success and returns what is answered; nothing, if it could not be recorded.
func Reply[T any](a *Attempt, data T) (T, error) {
	if err := a.Done(); err != nil {
		var none T
		return none, err
	}
	return data, nil
}

// record makes the entry durable and returns err, or that it could not be made durable. What is part of a batch is
// recorded with it.
func (a *Attempt) record(err error) error {
	if b := a.Caller.batch; b != nil {
		b.entries = append(append(b.entries, a.Entry), a.More...)
		b.rest(a.basis)
		return err
	}
	work := store.Work{Entry: a.Entry, More: a.More}
	if a.Entry.Outcome != trail.Refused { // a no that has become a yes meanwhile is still one that was said
		work.Basis = a.basis
	}
	lost := a.submit(&work)
	switch {
	case lost == nil:
		return err
	case errors.Is(lost, store.ErrMoved):
		return lost
	case errors.Is(lost, store.ErrNotBound):
		return ErrLocked
	}
	a.chest.lost(a.Entry.Action, lost)
	return StoreError(lost, "")
}

// submit makes a work durable. The index of the trail keeps the work's entries for a while: the work lets go of all else, so that they
// do not keep the attempt with them, and its snapshot.
func (a *Attempt) submit(work *store.Work) error {
	err := a.chest.records.Submit(work)
	work.Change, work.Basis = nil, store.Basis{}
	return err
}

// rest lets a batch rest on what one of its attempts does. The oldest position counts.
func (b *Batch) rest(basis store.Basis) {
	if b.basis.Position == 0 || basis.Position < b.basis.Position {
		b.basis.Position = basis.Position
	}
	for _, mark := range basis.Marks {
		b.basis.RestOn(mark.What, mark.ID)
	}
}

// Commit makes the attempt's change durable together with the entry of its success. When what it rests on has moved, it is
// [store.ErrMoved], and the use case is to be tried again ([Chest.Try]). When the change is not possible, that is recorded instead;
// what names the thing in the error.
func (a *Attempt) Commit(what string) error {
	if a.err != nil {
		return a.err
	}
	if a.Change.Empty() {
		return a.Done()
	}
	if err := a.staysOpen(); err != nil {
		return a.Fail(err)
	}
	a.Entry.Outcome, a.Change.Once = trail.Allowed, a.Caller.Once
	err := a.submit(&store.Work{Entry: a.Entry, More: a.More, Change: &a.Change, Basis: a.basis})
	switch {
	case err == nil, errors.Is(err, store.ErrMoved):
		return err
	case (errors.Is(err, store.ErrStale) || errors.Is(err, store.ErrExists)) && a.overtaken():
		return store.ErrMoved // by something that it did not know that it rests on
	case errors.Is(err, store.ErrNotRecorded):
		a.chest.lost(a.Entry.Action, err)
		return StoreError(err, what)
	}
	return a.Fail(StoreError(err, what))
}

// overtaken reports whether the snapshot that it was decided on is not the newest one any more.
func (a *Attempt) overtaken() bool {
	now := a.chest.newest.Load()
	return now != nil && now.position != a.St.position
}

// After is the snapshot after a commit, or a later one; it is what is answered from.
func (a *Attempt) After() *Snapshot {
	if now := a.chest.newest.Load(); now != nil {
		return now
	}
	return a.St // it was locked a moment ago
}

// Take counts an attempt to prove something. When there were too many, the first one turned away is recorded, and the others
// are counted: a flood must not fill the disk.
func (a *Attempt) Take(limits []throttle.Limit) error {
	wait, first := a.chest.throttle.Take(a.Entry.At, limits)
	a.tellLeft(limits)
	if wait == 0 {
		return nil
	}
	a.Entry.Outcome = trail.Refused
	throttled := &Error{Code: Throttled, Reason: "too_many_failures", RetryAfter: wait,
		Detail: "too many failed attempts; try again in " + wait.Round(time.Second).String()}
	if !first {
		a.Entry.Reason = throttled.Reason
		alike, _ := folding.Keys(a.Entry)
		return a.fold(alike, "", false, throttled)
	}
	return a.Refuse(throttled)
}

// Refund takes back attempts that turned out to be good.
func (a *Attempt) Refund(limits []throttle.Limit) {
	a.chest.throttle.Refund(a.Entry.At, limits)
	a.tellLeft(limits)
}

func (a *Attempt) tellLeft(limits []throttle.Limit) {
	if a.Caller.Left != nil {
		*a.Caller.Left = a.chest.throttle.Left(a.Entry.At, limits)
	}
}

// Overview is a question about the chest as a whole whose answer is cut to what the caller may see: it takes one of
// the actions on anything at all.
type Overview struct {
	Name    string // in the trail
	What    string // completes "may not …"
	Actions access.Action
}

// The overviews.
var (
	OverDrawers    = Overview{"list_drawers", "list any drawer", access.List}
	OverIdentities = Overview{"list_identities", "see people and apps", access.Register | access.GrantAccess | access.ReadTrail}
	OverTrail      = Overview{"read_trail", "read any of the trail", access.ReadTrail}
	OverRefusals   = Overview{"list_refusals", "see what was refused", access.GrantAccess | access.ReadTrail}
	OverPolicy     = Overview{"read_policy", "see the whole access state", access.GrantAccess | access.ReadTrail}
	Overviews      = []Overview{OverDrawers, OverIdentities, OverTrail, OverRefusals}
)

// Remedy is a grant that would allow it. There is none for listing drawers: on which one is for a gatekeeper to say.
func (o Overview) Remedy(st *Snapshot, subject string) *Remedy {
	if o.Actions == access.List {
		return nil
	}
	return st.RemedyFor(subject, access.ReadTrail, "")
}

// AllowOverview decides on an overview.
func (c *Chest) AllowOverview(caller Caller, o Overview) (*Attempt, error) {
	a := c.Attempt(caller, o.Name, "")
	if a.err != nil {
		return nil, a.err
	}
	decision := a.St.Policy.Anywhere(caller.ID, o.Actions, caller.Context(a.Entry.At))
	return a, a.Answered(decision, o.What, "", o.Remedy(a.St, caller.Name))
}

// Everything is the scope of the whole chest.
var Everything, _ = access.ParseScope("**")

// AllowWhole decides about something that takes an action on everything.
func (c *Chest) AllowWhole(caller Caller, action, what string, actions access.Action) (*Attempt, error) {
	a := c.Attempt(caller, action, "")
	if a.err != nil {
		return nil, a.err
	}
	decision := a.St.Policy.DecideScope(caller.ID, actions, Everything, caller.Context(a.Entry.At))
	return a, a.Answered(decision, what, "", a.Remedy(access.ReadTrail))
}

// KnownOwner refuses an owner that does not exist; an empty one means no owner.
func (st *Snapshot) KnownOwner(subject string) error {
	if subject == "" {
		return nil
	}
	_, err := st.KnownSubject("owner", subject)
	return err
}

// KnownSubject finds an identity for somebody who may know which there are; a near name is pointed out. With a field
// set, the error is about that field of the input.
func (st *Snapshot) KnownSubject(field, subject string) (row entity.Identity, err error) {
	if err := CheckSubject(field, subject); err != nil {
		return row, err
	}
	row, found := st.IdentityOf(subject)
	if found {
		return row, nil
	}
	missing := Missing(subject, st.nearestSubject(subject))
	if field != "" {
		missing = Invalid(field, "%s", missing.Detail)
	}
	return row, missing
}
