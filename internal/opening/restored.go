package opening

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/store"
)

// compare holds the trail against what was signed of it, here and with witnesses, before the chest is unlocked. One that was restored goes
// on in another epoch.
func (s *Opening) compare(a *chest.Attempt) error {
	restored, err := s.records.Restored()
	if err != nil {
		return err
	}
	if restored != nil || s.options.Restored {
		return s.goOn(a, restored)
	}
	if err := s.records.CatchUp(); err != nil {
		return accepted(err)
	}
	if err := s.trail.ReadEpochs(); err != nil {
		return accepted(err)
	}
	if err := s.trail.Witnessed(); err != nil {
		return err
	}
	if s.records.Last() > atOnce {
		return nil // it is looked at behind the scenes
	}
	wrong, err := s.trail.ExamineTrail(context.Background())
	if err == nil && len(wrong) > 0 {
		err = accepted(errors.New(strings.Join(wrong[:min(len(wrong), 3)], "; ")))
	}
	return err
}

// accepted says how to start a chest although something is wrong with its trail.
func accepted(err error) error {
	return fmt.Errorf("%w. If that is accepted, start once with --restored, which is put into the trail", err)
}

// goOn accepts a trail that is not what it was: another epoch begins, of as many entries as are what was signed of them.
func (s *Opening) goOn(a *chest.Attempt, restored *store.Restored) error {
	if restored == nil || restored.BackupAt == 0 { // what is in a backup is compared with its manifest
		if err := s.records.Reindex(); err != nil {
			return err
		}
	}
	for _, step := range []func() error{s.records.CatchUp, s.trail.ReadEpochs} {
		if err := step(); err != nil {
			return err
		}
	}
	kept, problems, err := s.trail.Held(context.Background())
	if err != nil {
		return err
	}
	why := "accepted as restored by whoever started the service"
	switch {
	case restored == nil && len(problems) == 0:
		s.heart.Log().Warn("--restored was not needed: start without it, or the next rollback is accepted without a question")
		return nil
	case restored != nil:
		kept = min(kept, restored.Kept)
		if restored.BackupAt != 0 {
			why = "restored from a backup of " + chest.FromMicros(restored.BackupAt).Format(time.RFC3339)
		}
	}
	if len(problems) > 0 && restored == nil {
		why += ": " + strings.Join(problems[:min(len(problems), 3)], "; ")
	}
	e, err := s.trail.BeginEpoch(kept, fmt.Sprintf("%s; %d entries were kept", why, kept))
	if err != nil {
		return err
	}
	a.More = append(a.More, e)
	s.heart.Log().Warn("the trail goes on in another epoch", "kept", kept, "why", why)
	return nil
}

// endSessions ends all sessions and tokens of a chest that comes from a backup: some of them had been ended since.
func (s *Opening) endSessions(a *chest.Attempt, rows *store.Snapshot) {
	restored, err := s.records.Restored()
	if err != nil || restored == nil || restored.BackupAt == 0 {
		return
	}
	for _, token := range rows.Tokens {
		a.Change.Delete(token)
	}
	rows.Tokens = nil
}
