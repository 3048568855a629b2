package record

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/trail"
	"tansu/internal/pace"
	"tansu/internal/store"
)

// RollbackError says that the trail is not what it was when it was last witnessed.
type RollbackError struct{ Problems []string }

// RolledBack lists what is not as it was.
func (e *RollbackError) RolledBack() []string { return e.Problems }

func (e *RollbackError) Error() string {
	return strings.Join(e.Problems, "; ") + ". If the database was restored from a backup on purpose, start once with --restored, which " +
		"is put into the trail"
}

// ReadEpochs finds the epochs that the trail has begun.
func (s *Record) ReadEpochs() error {
	var epochs []uint64
	err := s.records.Entries(store.Filter{Action: trail.BeginEpoch}, func(e trail.Entry) bool {
		epochs = append(epochs, e.Kept)
		return true
	})
	slices.Reverse(epochs)
	s.signing.Lock()
	defer s.signing.Unlock()
	s.epochs = epochs
	return err
}

// BeginEpoch lets the trail go on in another epoch, of which so many entries were kept, and returns the entry with which it begins. What
// was signed of entries that were not kept, or not by this chest, is forgotten here; who keeps it elsewhere finds what to make of it in
// the checkpoints to come.
func (s *Record) BeginEpoch(kept uint64, why string) (e trail.Entry, err error) {
	if err := s.records.DropCheckpoints(kept); err != nil {
		return e, err
	}
	points, err := s.records.Checkpoints(0, kept, math.MaxInt32)
	if err != nil {
		return e, err
	}
	for _, p := range points {
		if _, bad := trail.OpenCheckpoint(p.Note, s.VerifierKey()); bad != nil {
			if err := s.records.DropCheckpoint(p.Size); err != nil {
				return e, err
			}
		}
	}
	s.signing.Lock()
	defer s.signing.Unlock()
	s.epochs = append(slices.Clone(s.epochs), kept)
	return trail.Entry{At: s.heart.Now(), Subject: "chest", Action: trail.BeginEpoch, Outcome: trail.Allowed, Epoch: len(s.epochs) + 1,
		Kept: kept, Detail: why}, nil
}

// history is what the trail says of itself, to hold checkpoints against.
func (s *Record) history() trail.Checkpoint {
	s.signing.Lock()
	defer s.signing.Unlock()
	return trail.Checkpoint{Origin: s.Origin(), Epochs: slices.Clone(s.epochs)}
}

// Witnessed compares the trail with the newest checkpoint that the database has, and with those that witnesses have.
func (s *Record) Witnessed() error {
	if err := s.records.CatchUp(); err != nil {
		return &RollbackError{[]string{err.Error()}} // the index does not go on where entries are missing
	}
	size, history := s.records.Size(), s.history()
	var problems []string
	look := func(from, note string) error {
		c, err := trail.OpenCheckpoint(note, s.VerifierKey())
		if err != nil {
			problems = append(problems, fmt.Sprintf("the newest checkpoint of %s is not of this chest: %v", from, err))
			return nil
		}
		kept, err := history.Comparable(c)
		switch {
		case err != nil:
			problems = append(problems, fmt.Sprintf("%v, as %s knows", err, from))
			return nil
		case !kept: // of an earlier epoch; that it was lost is in the trail
			return nil
		case c.Size > size:
			problems = append(problems, fmt.Sprintf("the trail ends at entry %d, and at %s it had %d, as %s knows: its end was cut off, or an "+
				"older copy of the database was put in its place", size, c.At.Format(time.RFC3339), c.Size, from))
			return nil
		}
		root, err := s.records.Root(c.Size)
		if err == nil && root != c.Root {
			problems = append(problems, fmt.Sprintf("something among the first %d entries of the trail is not what it was at %s, as %s knows",
				c.Size, c.At.Format(time.RFC3339), from))
		}
		return err
	}
	kept, err := s.records.Checkpoints(0, math.MaxInt64, 1)
	if err != nil {
		return err
	}
	for _, c := range kept {
		if err := look("the database", c.Note); err != nil {
			return err
		}
	}
	for _, w := range s.options.Witnesses {
		note, err := w.Last()
		if err != nil {
			s.heart.Log().Error("a witness cannot be asked", "witness", w.String(), "error", err)
			continue
		}
		if note == "" && len(kept) > 0 {
			s.heart.Log().Warn("a witness knows nothing of this chest: it is new, or what it knew has vanished", "witness", w.String())
		}
		if note != "" {
			if err := look(w.String(), note); err != nil {
				return err
			}
		}
	}
	if len(problems) > 0 {
		return &RollbackError{problems}
	}
	return nil
}

// Held holds the whole trail against all checkpoints that are there, here and with witnesses, and returns up to which entry it is what
// they say.
func (s *Record) Held(ctx context.Context) (kept uint64, problems []string, err error) {
	points, problems, err := s.points(math.MaxInt64)
	if err != nil {
		return 0, nil, err
	}
	for _, w := range s.options.Witnesses {
		if note, err := w.Last(); err == nil && note != "" {
			if c, err := trail.OpenCheckpoint(note, s.VerifierKey()); err == nil {
				points = append(points, c)
			}
		}
	}
	report, err := s.verify(ctx, points, math.MaxInt64)
	if len(report.Problems) == 0 {
		report.Covered.Size = report.Size
	}
	return report.Covered.Size, append(problems, report.Problems...), err
}

// points opens the checkpoints in the database of up to so many entries, and says which do not open.
func (s *Record) points(most uint64) (points []trail.Checkpoint, problems []string, err error) {
	kept, err := s.records.Checkpoints(0, most, math.MaxInt32)
	for _, k := range kept {
		c, err := trail.OpenCheckpoint(k.Note, s.VerifierKey())
		if err != nil {
			problems = append(problems, fmt.Sprintf("the checkpoint of %d entries: %v", k.Size, err))
			continue
		}
		points = append(points, c)
	}
	return points, problems, err
}

// verify reads the trail up to an entry and compares it with checkpoints.
func (s *Record) verify(ctx context.Context, points []trail.Checkpoint, size uint64) (trail.Report, error) {
	reader, writer := io.Pipe()
	go func() {
		err := s.records.Bodies(1, func(seq uint64, body string) bool {
			if seq > size {
				return false
			}
			pace.Rest(ctx)
			_, err := io.WriteString(writer, body+"\n")
			return err == nil && ctx.Err() == nil
		})
		_ = writer.CloseWithError(cmp.Or(err, ctx.Err()))
	}()
	report, err := trail.Verify(reader, points, nil)
	_ = reader.Close()
	return report, err
}

// mostChanged is how many changed entries an examination names.
const mostChanged = 20

// ExamineTrail compares the trail in the database with every checkpoint that is in it, and with those of witnesses, and returns what is
// wrong.
func (s *Record) ExamineTrail(ctx context.Context) (problems []string, err error) {
	var rolledBack *RollbackError
	if err := s.Witnessed(); errors.As(err, &rolledBack) {
		problems = rolledBack.Problems
	} else if err != nil {
		return nil, err
	}
	if err := s.records.CatchUp(); err != nil {
		return problems, nil // what is missing was said
	}
	size := s.records.Size()
	points, unsigned, err := s.points(size)
	if err != nil {
		return nil, err
	}
	report, err := s.verify(ctx, points, size)
	if err != nil {
		return nil, err
	}
	problems = append(append(problems, unsigned...), report.Problems...)
	if report.Size < size {
		problems = append(problems, fmt.Sprintf("the trail in the database ends at entry %d, and %d were recorded", report.Size, size))
	}
	if len(problems) > 0 {
		changed, err := s.records.ChangedEntries(mostChanged)
		if err != nil {
			return nil, err
		}
		for _, seq := range changed {
			problems = append(problems, fmt.Sprintf("entry %d of the trail is not what was recorded", seq))
		}
		return problems, nil
	}
	switch changed, err := s.records.ChangedHashes(ctx); {
	case err != nil:
		return nil, err
	case changed > 0:
		problems = append(problems, fmt.Sprintf("%d hashes of the trail are not those of its entries, which are as they were recorded: "+
			"start with --restored to work them out again", changed))
	}
	return problems, nil
}
