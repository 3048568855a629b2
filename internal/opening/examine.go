package opening

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/inspect"
	"tansu/internal/pace"
	"tansu/internal/store"
)

// endExamination ends one that is under way, which takes as long as the chest is large, before something that must not wait for it.
func (s *Opening) endExamination() {
	if end := s.examining.Load(); end != nil {
		(*end)()
	}
}

// mostDamaged is how many values an examination names.
const mostDamaged = 20

// Examine looks at all that is in the data directory as it is now: every row that decides access, every value, the whole trail with its
// archives, the file itself, and the files beside it. It returns what is not as it should be, a sentence each; none when all is.
func (s *Opening) Examine(c chest.Caller) (wrong []string, err error) {
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
	if wrong, err = s.examine(ctx, st.Root(), st); err != nil {
		return nil, a.Fail(err)
	}
	if len(wrong) > 0 {
		a.Entry.Detail = strings.Join(wrong[:min(len(wrong), 5)], "; ")
		s.heart.Log().Error("the examination found faults", "faults", wrong)
	}
	return chest.Reply(a, wrong)
}

// ExamineStopped is Examine in a data directory that no service runs on, by whoever holds what opens the chest. Nothing is served and
// nothing is recorded.
func (s *Opening) ExamineStopped(ctx context.Context, material secretvalue.Value) (wrong []string, err error) {
	err = s.stopped(material, func(root *envelope.Root, st *chest.Snapshot) error {
		if err := s.trail.SetVerifierKey(root); err != nil {
			return err
		}
		_ = s.trail.ReadEpochs() // what keeps it from that is found below
		wrong, err = s.examine(ctx, root, st)
		return err
	})
	return wrong, err
}

// stopped opens a chest that no service runs on, for a look. There is no snapshot when its rows are not as they were stored.
func (s *Opening) stopped(material secretvalue.Value, look func(*envelope.Root, *chest.Snapshot) error) error {
	slots, row, err := s.slots()
	if err != nil {
		return err
	}
	found, err := openWith(row, slots, envelope.MethodOf(material), material)
	if err != nil {
		return err
	}
	defer found.root.Erase()
	found.erase()
	rows, err := s.records.Bind(found.root)
	var tampered *store.TamperedError
	switch {
	case errors.As(err, &tampered): // what is found by these rows means nothing
		return look(found.root, nil)
	case err != nil:
		return err
	}
	if err := s.heart.Open(found.root, rows, s.heart.Now()); err != nil {
		s.records.Unbind()
		return err
	}
	defer s.heart.Close()
	return look(found.root, s.heart.Newest())
}

// examine looks at everything. Without a snapshot, values are not looked at.
func (s *Opening) examine(ctx context.Context, root *envelope.Root, st *chest.Snapshot) (wrong []string, err error) {
	err = s.records.Check(ctx, root)
	var tampered *store.TamperedError
	if errors.As(err, &tampered) {
		wrong = tampered.Sentences()
	} else if err != nil {
		return nil, err
	}
	rest := func() { pace.Rest(ctx) }
	looks := []func() ([]string, error){
		func() ([]string, error) { return s.trail.ExamineTrail(ctx) },
		func() ([]string, error) { return s.records.CheckArchives(ctx) },
		func() ([]string, error) { return s.records.CheckFile(ctx, rest) },
		func() ([]string, error) { return s.records.CheckFiles(s.heart.Now()), nil },
	}
	if st != nil && len(wrong) == 0 {
		looks = append(looks, func() ([]string, error) {
			damaged, unseen, err := inspect.Contents(ctx, st, s.records, mostDamaged)
			return append(damaged, unseen...), err
		})
	}
	for _, look := range looks {
		found, err := look()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil { // a page that cannot be read
			found = append(found, "not everything could be looked at: "+err.Error())
		}
		wrong = append(wrong, found...)
	}
	return wrong, nil
}

// findings are what was found behind the scenes, by what was looked at.
type findings struct {
	mu    sync.Mutex
	kinds []string
	found map[string]Problem
}

func (f *findings) set(kind string, p Problem) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.found == nil {
		f.found = map[string]Problem{}
	}
	if _, known := f.found[kind]; !known {
		f.kinds = append(f.kinds, kind)
	}
	f.found[kind] = p
}

func (f *findings) clear() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.kinds, f.found = nil, nil
}

func (f *findings) all() (list []Problem) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, kind := range f.kinds {
		list = append(list, f.found[kind])
	}
	return list
}

// atOnce is the longest trail that is verified before a chest is unlocked, and not behind the scenes: it takes some tenths of a second.
const atOnce = 200_000

// gently is how many times as long as it works what goes on behind the scenes rests.
const gently = 4

// checkBehind looks at everything while the chest serves. Rows that are not as they were stored are not served, whoever asks for them
// first; here it is found before somebody does, and what no request would ever find, too.
func (s *Opening) checkBehind() {
	ctx, stop := context.WithCancel(context.Background())
	s.stop = stop
	s.found.clear()
	st := s.heart.Newest()
	s.behind.Go(func() {
		ctx := pace.Gently(ctx, gently)
		rest := func() { pace.Rest(ctx) }
		looked := s.records.CheckBuckets(ctx, rest, func(err error) { s.notAsStored("rows", []string{err.Error()}) })
		if s.records.Last() > atOnce && !s.options.Restored {
			if wrong, err := s.trail.ExamineTrail(ctx); err == nil && len(wrong) > 0 {
				s.notAsStored("trail", wrong)
				go s.lockFor(ctx)
				return
			}
		}
		for kind, look := range map[string]func() ([]string, error){
			"file":     func() ([]string, error) { return s.records.CheckFile(ctx, rest) },
			"archives": func() ([]string, error) { return s.records.CheckArchives(ctx) },
			"values": func() ([]string, error) {
				damaged, _, err := inspect.Contents(ctx, st, s.records, mostDamaged) // where it could not look is no fault
				return damaged, err
			},
		} {
			wrong, err := look()
			if ctx.Err() != nil {
				return
			}
			if err != nil {
				wrong = append(wrong, err.Error())
			}
			s.notAsStored(kind, wrong)
		}
		s.heart.Log().Info("everything in the database was looked at", "parts", looked, "faults", len(s.found.all()))
	})
}

// notAsStored says that something is not as it should be.
func (s *Opening) notAsStored(kind string, wrong []string) {
	if len(wrong) == 0 {
		return
	}
	s.heart.Log().Error("not everything is as it was stored", "what", kind, "faults", wrong[:min(len(wrong), mostDamaged)])
	what := map[string]string{"rows": "rows that decide access were changed outside Tansu, and are not served",
		"trail": "the trail is not what its checkpoints say, so that the chest is locked",
		"file":  "the database file is damaged", "archives": "archives of the trail are missing or damaged",
		"values": "values are not what was stored, and are not served"}[kind]
	s.found.set(kind, Problem{What: what, Since: s.heart.Now(), Next: "tansu examine names all of it; then put a backup in its place"})
}

// lockFor locks a chest whose trail turned out not to be what it was, unless that has been done already.
func (s *Opening) lockFor(ctx context.Context) {
	s.turn.Lock()
	defer s.turn.Unlock()
	if ctx.Err() != nil || s.heart.Newest() == nil {
		return
	}
	s.endBehind()
	s.kept.forget()
	s.heart.Close()
	s.heart.Log().Error("chest locked: its trail is not what it was")
}

// endBehind ends it, before the keys are erased.
func (s *Opening) endBehind() {
	if s.stop != nil {
		s.stop()
		s.stop = nil
		s.behind.Wait()
	}
}

// readyWithin is how long the database may take to answer.
const readyWithin = 2 * time.Second

// within asks the database something, and does not wait for it for long.
func within(ask func() error) error {
	answer := make(chan error, 1)
	go func() { answer <- ask() }()
	select {
	case err := <-answer:
		return err
	case <-time.After(readyWithin):
		return fmt.Errorf("no answer from the database within %s", readyWithin)
	}
}

// sampledFor is how long what came of trying some values is good.
const sampledFor = 10 * time.Second

// sample is what came of trying whether values can be read.
type sample struct {
	mu  sync.Mutex
	at  time.Time
	err error
}

// readable reports why no value can be read, although the chest is unlocked: it tries some, and one that opens is enough.
func (s *Opening) readable() error {
	st, err := s.heart.Look()
	if err != nil {
		return err
	}
	s.sample.mu.Lock()
	defer s.sample.mu.Unlock()
	if now := s.heart.Now(); now.Sub(s.sample.at) >= sampledFor {
		s.sample.at, s.sample.err = now, nil
		if tried, opened := inspect.Sample(st, s.records); tried > 0 && opened == 0 {
			s.sample.err = &chest.Error{Code: chest.Internal, Detail: fmt.Sprintf("none of %d values that were tried can be read: tansu examine "+
				"says why", tried)}
			s.heart.Log().Error("no value can be read", "tried", tried)
		}
	}
	return s.sample.err
}
