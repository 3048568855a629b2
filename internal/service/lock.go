package service

import (
	"errors"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// Status is what anyone may know of a chest.
type Status struct {
	Chest    string
	Unlocked bool
	Method   string // how it is unlocked: an envelope method
	Records  bool   // the last thing that was to be recorded could be
}

// Status returns it.
func (s *Service) Status() Status {
	s.mu.RLock()
	defer s.mu.RUnlock()
	_, trouble := s.records.Trouble()
	return Status{Chest: s.chest.ID, Unlocked: s.state != nil, Method: s.chest.SlotMethod, Records: trouble == nil}
}

// Ready reports why the service cannot serve values now, or nil.
func (s *Service) Ready() error {
	if !s.Status().Unlocked {
		return errLocked
	}
	if err := s.records.Ready(); err != nil {
		return &Error{Code: Internal, Detail: "the database does not answer", Err: err}
	}
	// Who balances load sends nothing to a service that is not ready, so that it has to find out by itself that it is again.
	if since, err := s.records.Trouble(); err != nil && s.records.Probe() != nil {
		return &Error{Code: NotRecorded, Detail: "nothing can be recorded since " + since.UTC().Format(time.RFC3339) + ", so that nothing is served; the log says why", Err: err}
	}
	return nil
}

// Unlock opens the root key, checks every row that decides access, and starts serving. It needs no identity: who holds
// the unlock material may unlock. Wrong material costs as much time as the right one.
func (s *Service) Unlock(origin Origin, material secretvalue.Value) error {
	s.unlocking.Lock()
	defer s.unlocking.Unlock()
	if s.Status().Unlocked {
		return &Error{Code: AlreadyUnlocked, Detail: "the chest is unlocked already"}
	}
	a := s.attempt(Caller{Origin: origin, name: unknown, via: s.chest.SlotMethod}, "unlock", "")
	limits := []limit{{"unlock " + origin.Addr, 10, 10 * time.Minute}}
	if err := s.take(a, limits); err != nil {
		return err
	}
	root, err := slotOf(s.chest).Open(s.chest.ID, material)
	if errors.Is(err, envelope.ErrWrongMaterial) {
		return a.refuse(&Error{Code: WrongMaterial, Detail: err.Error(), Reason: "wrong_material"})
	}
	if err != nil {
		return a.fail(err)
	}
	s.throttle.refund(limits)
	return s.open(a, root)
}

// slotOf is what opens a chest's root key.
func slotOf(chest store.Chest) envelope.Slot {
	return envelope.Slot{Method: chest.SlotMethod, Salt: chest.SlotSalt, Wrapped: chest.SlotWrapped,
		Costs: envelope.Stretch{Passes: chest.SlotPasses, Memory: chest.SlotMemory, Threads: chest.SlotThreads}}
}

func (s *Service) open(a *attempt, root *envelope.Root) error {
	snapshot, err := s.records.Bind(root)
	var st *state
	if err == nil {
		err = s.setVerifierKey(root)
	}
	if err == nil && s.options.Restored {
		err = s.records.Reindex()
	}
	if err == nil {
		err = s.witnessed()
	}
	var rolledBack *RollbackError
	if errors.As(err, &rolledBack) && s.options.Restored {
		a.entry.Detail = "restored, said who started it: " + strings.Join(rolledBack.Problems, "; ")
		s.options.Log.Warn("the trail is not what it was, and is accepted as restored", "error", err)
		err = nil
	}
	if err == nil && rolledBack == nil && s.options.Restored {
		s.options.Log.Warn("--restored was not needed: start without it, or the next rollback is accepted without a question")
	}
	if err == nil {
		st, err = newState(root, snapshot, newItemCache(s.records, s.now, s.options.Log))
	}
	if err != nil {
		s.records.Unbind()
		root.Erase()
		s.options.Log.Error("the chest stays locked", "error", err)
		return a.fail(&Error{Code: Internal, Detail: "the chest stays locked: " + err.Error(), Err: err})
	}
	if err := a.done(); err != nil {
		s.records.Unbind()
		root.Erase()
		return err
	}
	if s.options.OnUnlock != nil {
		s.options.OnUnlock(root)
	}
	st.since = a.entry.At
	s.mu.Lock()
	s.state = st
	s.mu.Unlock()
	s.options.Log.Info("chest unlocked", "chest", s.chest.ID)
	return nil
}

// Lock erases the keys from memory. Nothing is served until the next unlock.
func (s *Service) Lock(c Caller) error {
	a, err := s.allow(c, access.Operate)
	if err != nil {
		return err
	}
	a.entry.Action = "lock"
	s.unlocking.Lock()
	defer s.unlocking.Unlock()
	if err := a.done(); err != nil {
		return err
	}
	s.lastCheckpoint()
	s.forget()
	s.options.Log.Info("chest locked", "by", c.Subject())
	return nil
}

// Stop signs a last checkpoint and erases the keys, at the end of the process. Nothing may be called after it.
func (s *Service) Stop() {
	s.unlocking.Lock()
	defer s.unlocking.Unlock()
	s.lastCheckpoint()
	s.forget()
	s.witnesses.stop()
}

func (s *Service) forget() {
	s.mu.Lock()
	st := s.state
	s.state = nil
	s.mu.Unlock()
	s.records.Unbind()
	s.contents.empty()
	if st != nil {
		st.erase()
	}
}

// take counts an attempt to prove something. When there were too many, the first one turned away is recorded, and the others
// are counted: a flood must not fill the disk.
func (s *Service) take(a *attempt, limits []limit) error {
	wait, first := s.throttle.take(a.entry.At, limits)
	if wait == 0 {
		return nil
	}
	a.entry.Outcome = trail.Refused
	throttled := &Error{Code: Throttled, Reason: "too_many_failures", RetryAfter: wait,
		Detail: "too many failed attempts; try again in " + wait.Round(time.Second).String()}
	if !first {
		a.entry.Reason = throttled.Reason
		alike, _ := foldKeys(a.entry)
		return a.fold(alike, "", false, throttled)
	}
	return a.refuse(throttled)
}
