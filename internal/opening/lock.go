package opening

import (
	"errors"
	"slices"
	"strings"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/throttle"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Status is what anyone may know of a chest.
type Status struct {
	Chest    string
	Unlocked bool
	Methods  []string // how it can be unlocked: envelope methods, each once
	Records  bool     // the last thing that was to be recorded could be
	Shares   []Handed // shares that were handed in, and are not enough yet
	Problems []Problem
}

// Status returns it.
func (s *Opening) Status() Status {
	_, trouble := s.records.Trouble()
	status := Status{Chest: s.heart.ID(), Unlocked: s.heart.Newest() != nil, Records: trouble == nil, Shares: s.handed(),
		Problems: s.problems()}
	slots, _, err := s.slots()
	if err != nil {
		s.heart.Log().Error("the unlock methods cannot be read", "error", err)
	}
	for _, slot := range slots {
		if !slices.Contains(status.Methods, slot.Method) {
			status.Methods = append(status.Methods, slot.Method)
		}
	}
	return status
}

// Ready reports why the service cannot serve values now, or nil.
func (s *Opening) Ready() error {
	if _, err := s.heart.Look(); err != nil {
		return err
	}
	if err := within(s.records.Ready); err != nil {
		return &chest.Error{Code: chest.Internal, Detail: "the database does not answer", Err: err}
	}
	if err := s.readable(); err != nil {
		return err
	}
	// Who balances load sends nothing to a service that is not ready, so that it has to find out by itself that it is again.
	if since, err := s.records.Trouble(); err != nil && within(s.records.Probe) != nil {
		return &chest.Error{Code: chest.NotRecorded, Err: err,
			Detail: "nothing can be recorded since " + since.UTC().Format(time.RFC3339) + ", so that nothing is served; the log says why"}
	}
	return nil
}

// Unlock opens the root key, checks every row that decides access, and starts serving. It needs no identity: who holds
// the unlock material may unlock. Wrong material costs as much time as the right one.
func (s *Opening) Unlock(origin chest.Origin, material secretvalue.Value) error {
	s.turn.Lock()
	defer s.turn.Unlock()
	if s.heart.Newest() != nil {
		return errUnlocked()
	}
	a := s.heart.Attempt(chest.Anonymous(origin, envelope.MethodOf(material)), "unlock", "")
	limits := unlockLimits(origin)
	if err := a.Take(limits); err != nil {
		return err
	}
	slots, row, err := s.slots()
	if err != nil {
		return a.Fail(err)
	}
	found, err := openWith(row, slots, envelope.MethodOf(material), material)
	if errors.Is(err, envelope.ErrWrongMaterial) {
		return a.Refuse(wrongMaterial(slots))
	}
	if err != nil {
		return a.Fail(err)
	}
	defer found.erase()
	a.Refund(limits)
	return s.open(a, found)
}

func errUnlocked() error {
	return &chest.Error{Code: chest.AlreadyUnlocked, Detail: "the chest is unlocked already"}
}

// wrongMaterial says that some material opens none of some slots, in the words of what they are.
func wrongMaterial(slots []entity.Slot) *chest.Error {
	has := func(method string) bool {
		return slices.ContainsFunc(slots, func(slot entity.Slot) bool { return slot.Method == method })
	}
	detail := envelope.ErrWrongMaterial.Error()
	switch {
	case !has(envelope.MethodKeyFile) && !has(envelope.MethodHardware):
		detail = "wrong passphrase"
	case !has(envelope.MethodPassphrase):
		detail = "wrong key file"
	}
	return &chest.Error{Code: chest.WrongMaterial, Detail: detail, Reason: "wrong_material"}
}

func unlockLimits(origin chest.Origin) []throttle.Limit {
	return []throttle.Limit{{Key: "unlock " + throttle.Neighbours(origin.Addr), Most: 10, Window: 10 * time.Minute}}
}

// open checks what is in the file, and lets it decide.
func (s *Opening) open(a *chest.Attempt, found opened) error {
	root := found.root
	rows, err := s.records.Bind(root)
	if err == nil {
		err = s.trail.SetVerifierKey(root)
	}
	if err == nil {
		err = s.compare(a)
	}
	if err != nil {
		return a.Fail(s.staysLocked(root, err))
	}
	if found.slot, err = bound(rows, found.slot.ID, a.Entry.At); err != nil {
		return a.Fail(s.staysLocked(root, err))
	}
	a.Entry.Credential, a.Entry.Detail = found.slot.ID, strings.TrimSpace("by "+found.slot.Name+" "+a.Entry.Detail)
	if err := found.used(a); err != nil {
		return a.Fail(s.staysLocked(root, err))
	}
	if err := s.endAgain(a, rows); err != nil {
		return a.Fail(s.staysLocked(root, err))
	}
	renameRoles(a, rows)
	if err := a.Recorded(); err != nil {
		s.records.Unbind()
		root.Erase()
		return err
	}
	if err := s.records.ForgetRestored(); err != nil {
		return s.staysLocked(root, err)
	}
	asStored(a, rows)
	if s.options.OnUnlock != nil {
		s.options.OnUnlock(root)
	}
	if s.options.Fetch != nil {
		s.options.Fetch(root, rows.MasterKeys)
	}
	if err := s.heart.Open(root, rows, a.Entry.At); err != nil {
		s.heart.Close() // what hardware has opened
		return s.staysLocked(root, err)
	}
	s.heart.Log().Info("chest unlocked", "chest", s.heart.ID(), "by", found.slot.Name)
	s.checkBehind()
	return nil
}

// bound is the slot that was used, as it is known to have been stored.
func bound(rows *store.Snapshot, id string, now time.Time) (slot entity.Slot, err error) {
	for _, row := range rows.Slots {
		if row.ID == id && !ended(row, now) {
			return row, nil
		}
	}
	return slot, errors.New("the unlock method was changed meanwhile")
}

func (s *Opening) staysLocked(root *envelope.Root, err error) error {
	s.records.Unbind()
	root.Erase()
	s.heart.Log().Error("the chest stays locked", "error", err)
	return &chest.Error{Code: chest.Internal, Detail: "the chest stays locked: " + err.Error(), Err: err}
}

// StartedLocked says in the status that what the service was started with did not open the chest, until something else does.
func (s *Opening) StartedLocked(err error) {
	s.heart.Log().Error("the chest was not unlocked at the start, and waits for another method", "error", err)
	s.found.set("start", Problem{What: "the key file that the service was started with did not open the chest", Since: s.heart.Now(),
		Next: "unlock it by another method: tansu unlock, or tansu unlock --share; the log of the service says what is wrong"})
}

// Lock erases the keys from memory. Nothing is served until the next unlock.
func (s *Opening) Lock(c chest.Caller) error {
	a, err := s.heart.Allow(c, access.Operate)
	if err != nil {
		return err
	}
	a.Entry.Action = "lock"
	s.endExamination()
	s.turn.Lock()
	defer s.turn.Unlock()
	if err := a.Done(); err != nil {
		return err
	}
	s.close()
	s.heart.Log().Info("chest locked", "by", c.Subject())
	return nil
}

// Stop signs a last checkpoint and erases the keys, at the end of the process. Nothing may be called after it.
func (s *Opening) Stop() {
	s.endExamination()
	s.turn.Lock()
	defer s.turn.Unlock()
	s.close()
	s.trail.StopWitnesses()
}

// close forgets the keys. It is called with the turn.
func (s *Opening) close() {
	s.endBehind()
	s.kept.forget()
	s.trail.LastCheckpoint()
	s.heart.Close()
}
