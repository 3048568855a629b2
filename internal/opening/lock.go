package opening

import (
	"context"
	"errors"
	"strings"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/throttle"
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
func (s *Opening) Status() Status {
	_, trouble := s.records.Trouble()
	return Status{Chest: s.heart.ID(), Unlocked: s.heart.Newest() != nil, Method: s.heart.Row().SlotMethod, Records: trouble == nil}
}

// Ready reports why the service cannot serve values now, or nil.
func (s *Opening) Ready() error {
	if _, err := s.heart.Look(); err != nil {
		return err
	}
	if err := s.records.Ready(); err != nil {
		return &chest.Error{Code: chest.Internal, Detail: "the database does not answer", Err: err}
	}
	// Who balances load sends nothing to a service that is not ready, so that it has to find out by itself that it is again.
	if since, err := s.records.Trouble(); err != nil && s.records.Probe() != nil {
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
		return &chest.Error{Code: chest.AlreadyUnlocked, Detail: "the chest is unlocked already"}
	}
	row := s.heart.Row()
	a := s.heart.Attempt(chest.Anonymous(origin, row.SlotMethod), "unlock", "")
	limits := []throttle.Limit{{Key: "unlock " + throttle.Neighbours(origin.Addr), Most: 10, Window: 10 * time.Minute}}
	if err := a.Take(limits); err != nil {
		return err
	}
	root, err := slotOf(row).Open(row.ID, material)
	if errors.Is(err, envelope.ErrWrongMaterial) {
		return a.Refuse(&chest.Error{Code: chest.WrongMaterial, Detail: err.Error(), Reason: "wrong_material"})
	}
	if err != nil {
		return a.Fail(err)
	}
	a.Refund(limits)
	return s.open(a, root)
}

// slotOf is what opens a chest's root key.
func slotOf(row store.Chest) envelope.Slot {
	return envelope.Slot{Method: row.SlotMethod, Salt: row.SlotSalt, Wrapped: row.SlotWrapped,
		Costs: envelope.Stretch{Passes: row.SlotPasses, Memory: row.SlotMemory, Threads: row.SlotThreads}}
}

// open checks what is in the file, and lets it decide.
func (s *Opening) open(a *chest.Attempt, root *envelope.Root) error {
	rows, err := s.records.Bind(root)
	if err == nil {
		err = s.trail.SetVerifierKey(root)
	}
	if err == nil {
		err = s.compare(a)
	}
	if err != nil {
		s.records.Unbind()
		root.Erase()
		s.heart.Log().Error("the chest stays locked", "error", err)
		return a.Fail(&chest.Error{Code: chest.Internal, Detail: "the chest stays locked: " + err.Error(), Err: err})
	}
	if err := a.Recorded(); err != nil {
		s.records.Unbind()
		root.Erase()
		return err
	}
	if s.options.OnUnlock != nil {
		s.options.OnUnlock(root)
	}
	if err := s.heart.Open(root, rows, a.Entry.At); err != nil {
		s.records.Unbind()
		root.Erase()
		s.heart.Log().Error("the chest stays locked", "error", err)
		return &chest.Error{Code: chest.Internal, Detail: "the chest stays locked: " + err.Error(), Err: err}
	}
	s.heart.Log().Info("chest unlocked", "chest", s.heart.ID())
	s.checkBehind()
	return nil
}

// checkBehind looks at all items and versions while the chest serves. What is not as it was stored is not served, whoever asks for it
// first; here it is found before somebody does.
func (s *Opening) checkBehind() {
	stop := make(chan struct{})
	s.stop = stop
	s.behind.Go(func() {
		wrong := 0
		looked := s.records.CheckBuckets(stop, func(err error) {
			if wrong++; wrong <= 20 {
				s.heart.Log().Error("the database was changed outside Tansu", "error", err)
			}
		})
		if looked > 0 {
			s.heart.Log().Info("items and versions were looked at", "parts", looked, "wrong", wrong)
		}
	})
}

// endBehind ends it, before the keys are erased.
func (s *Opening) endBehind() {
	if s.stop != nil {
		close(s.stop)
		s.stop = nil
		s.behind.Wait()
	}
}

// compare holds the trail against what witnesses know.
func (s *Opening) compare(a *chest.Attempt) error {
	if s.options.Restored {
		if err := s.records.Reindex(); err != nil {
			return err
		}
	}
	err := s.trail.Witnessed()
	var rolledBack interface{ RolledBack() []string }
	switch {
	case errors.As(err, &rolledBack) && s.options.Restored:
		a.Entry.Detail = "restored, said who started it: " + strings.Join(rolledBack.RolledBack(), "; ")
		s.heart.Log().Warn("the trail is not what it was, and is accepted as restored", "error", err)
		return nil
	case err == nil && s.options.Restored:
		s.heart.Log().Warn("--restored was not needed: start without it, or the next rollback is accepted without a question")
	}
	return err
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
	s.endBehind()
	s.trail.LastCheckpoint()
	s.heart.Close()
	s.heart.Log().Info("chest locked", "by", c.Subject())
	return nil
}

// Stop signs a last checkpoint and erases the keys, at the end of the process. Nothing may be called after it.
func (s *Opening) Stop() {
	s.endExamination()
	s.turn.Lock()
	defer s.turn.Unlock()
	s.endBehind()
	s.trail.LastCheckpoint()
	s.heart.Close()
	s.trail.StopWitnesses()
}

// endExamination ends one that is under way, which takes as long as the chest is large, before something that must not wait for it.
func (s *Opening) endExamination() {
	if end := s.examining.Load(); end != nil {
		(*end)()
	}
}

// mostDamaged is how many values an examination names.
const mostDamaged = 20

// Examine checks every row that decides access, every value and the whole trail as they are in the file now. It returns what was
// changed outside Tansu, a sentence each; none when all is as it was stored.
func (s *Opening) Examine(c chest.Caller) (touched []string, err error) {
	a, err := s.heart.Allow(c, access.Operate)
	if err != nil {
		return nil, err
	}
	a.Entry.Action = "examine"
	s.turn.Lock() // so that the keys stay where they are
	defer s.turn.Unlock()
	ctx, end := context.WithCancel(c.Ctx())
	defer end()
	s.examining.Store(&end)
	defer s.examining.Store(nil)
	st, err := s.heart.Look()
	if err != nil {
		return nil, err
	}
	err = s.records.Check(ctx, st.Root())
	var tampered *store.TamperedError
	switch {
	case errors.As(err, &tampered):
		touched = tampered.Sentences()
		a.Entry.Detail = tampered.Error()
		s.heart.Log().Error("the database was changed outside Tansu", "error", err)
	case err != nil:
		return nil, a.Fail(err)
	}
	if len(touched) == 0 { // else what is found by these rows means nothing
		if touched, err = st.ExamineContents(ctx, mostDamaged); err != nil {
			return nil, a.Fail(err)
		}
		if len(touched) > 0 {
			a.Entry.Detail = "values are not what was stored"
			s.heart.Log().Error("values were changed outside Tansu", "problems", touched)
		}
	}
	problems, err := s.trail.ExamineTrail(ctx)
	if err != nil {
		return nil, a.Fail(err)
	}
	if len(problems) > 0 {
		a.Entry.Detail += " " + strings.Join(problems, "; ")
		s.heart.Log().Error("the trail was changed outside Tansu", "problems", problems)
	}
	return chest.Reply(a, append(touched, problems...))
}
