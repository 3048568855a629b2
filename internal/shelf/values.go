package shelf

import (
	"errors"
	"time"

	"tansu/internal/chest"
	"tansu/internal/store"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
)

// Served is a value on its way to a caller.
type Served struct {
	Reference reference.Reference // with the version that was served
	Content   secretvalue.Value
	Shape     secretvalue.Shape
	Fields    secretvalue.Fields // all of them, when the whole was asked for of an item that has fields
	CreatedAt time.Time
	NotAfter  time.Time     // when the version stops being usable; zero for never
	Changes   time.Time     // when the same question may have another answer by itself; zero for never
	Access    time.Time     // when what allows the reader to read it ends; zero for never
	Grace     bool          // it has ended, and a rule lets it be served for a while
	KeepFor   time.Duration // how long an agent on a host may serve it while the chest is away; 0 for not at all
	Home      string        // where the item is now, when it was asked for by an old name; else empty
}

// ReadValue serves a value: decide, find the version, check its window, decrypt, record, answer. It returns content
// only after the entry is durable. An exact name needs no right to list; a caller without a grant learns nothing about
// what exists.
//
// The entry rests on all that the answer was decided on: if a change of it comes first, the read is decided again.
func (s *Shelf) ReadValue(c chest.Caller, ref reference.Reference) (served Served, err error) {
	served, err = s.readValue(c, ref)
	if errors.Is(err, store.ErrMoved) {
		err = s.heart.Try(func() error {
			served, err = s.readValue(c, ref)
			return err
		})
	}
	return served, err
}

func (s *Shelf) readValue(c chest.Caller, ref reference.Reference) (Served, error) {
	a := s.heart.Attempt(c, "read_value", ref.Drawer+"/"+ref.Item)
	a.Entry.Version, a.Entry.Field, a.Entry.Pinned = ref.Version, ref.Field, ref.Version != 0
	spot, err := a.Decide(access.ReadValue, ref.Drawer, ref.Item)
	if err != nil {
		return Served{}, err
	}
	served, err := s.serve(a, spot, ref)
	if err != nil {
		return Served{}, a.Fail(err)
	}
	served.Access, served.Changes = a.AccessEnds, earlier(served.Changes, a.AccessEnds)
	a.Entry.Version, a.Entry.Grace = served.Reference.Version, served.Grace
	if served.Home != "" {
		a.Entry.OldName, a.Entry.Detail = true, "now "+served.Home
	}
	if err := a.DeniedNow(access.ReadValue, served.Home); err != nil {
		served.Content.Wipe()
		return Served{}, err
	}
	if err := a.Done(); err != nil {
		served.Content.Wipe()
		return Served{}, err
	}
	return served, nil
}

// earlier is the earlier of two moments, each of which may be never, as zero.
func earlier(x, y time.Time) time.Time {
	if x.IsZero() || !y.IsZero() && y.Before(x) {
		return y
	}
	return x
}

// serve decrypts what a reader who is allowed to gets. At an item that nobody seems to have read for long it looks again when all reads
// are counted.
func (s *Shelf) serve(a *chest.Attempt, spot chest.Spot, ref reference.Reference) (Served, error) {
	served, err := decryptAt(a, spot, ref, toShow)
	var closed *chest.Error
	if !errors.As(err, &closed) || closed.Reason != string(lifecycle.Idle) {
		return served, err
	}
	if err := s.records.CatchUp(); err != nil {
		return served, err
	}
	return decrypt(a, ref, toShow)
}

// What one call may ask for, and how much it may get.
const (
	MaxReferences = 100
	mostInBatch   = 4 << 20 // bytes of content; what comes after is asked for again
)

// Outcome is a value, or why it is not served.
type Outcome struct {
	Served Served
	Err    error
}

// ReadValues serves several values, each decided by itself: some may be refused while others are served. All entries become
// durable in one commit, and no content is returned before.
func (s *Shelf) ReadValues(c chest.Caller, refs []reference.Reference) (outcomes []Outcome, err error) {
	if len(refs) == 0 || len(refs) > MaxReferences {
		return nil, chest.Invalid("references", "references are 1 to %d", MaxReferences)
	}
	outcomes, err = s.readValues(c, refs)
	if errors.Is(err, store.ErrMoved) {
		err = s.heart.Try(func() error {
			outcomes, err = s.readValues(c, refs)
			return err
		})
	}
	return outcomes, err
}

func (s *Shelf) readValues(c chest.Caller, refs []reference.Reference) ([]Outcome, error) {
	batch := chest.NewBatch(len(refs))
	c = c.Batched(batch, s.heart.Now())
	outcomes, size := make([]Outcome, len(refs)), 0
	wipe := func() {
		for i := range outcomes {
			outcomes[i].Served.Content.Wipe()
		}
	}
	for i, ref := range refs {
		if size > mostInBatch {
			outcomes[i].Err = &chest.Error{Code: chest.TooLarge, Detail: "the values before it fill this answer: ask for this one in another call"}
			continue
		}
		served, err := s.readValue(c, ref)
		if errors.Is(err, store.ErrMoved) || batch.Lost(err) {
			wipe()
			return nil, err
		}
		outcomes[i] = Outcome{served, err}
		size += len(served.Content.Reveal())
	}
	if err := s.heart.Flush(batch); err != nil {
		wipe()
		return nil, err
	}
	return outcomes, nil
}

// purpose is what a value is decrypted for.
type purpose int

const (
	toShow    purpose = iota // to the caller
	toCompare                // within the chest
)

// notYet reports whether the only reason not to serve a version is that it is staged or waits for its time, and the attempt's caller may
// write versions of the item.
func notYet(a *chest.Attempt, p chest.Spot, ref reference.Reference, err error) bool {
	var why *chest.Error
	return errors.As(err, &why) && (why.Reason == string(lifecycle.Staged) || why.Reason == string(lifecycle.Waiting)) && ref.Version != 0 &&
		a.St.Policy.Decide(a.St.QuestionAt(p, a.Caller.ID, access.WriteVersion, a.Caller.Context(a.Entry.At))).Allowed
}

// decrypt finds the version to serve and opens it.
func decrypt(a *chest.Attempt, ref reference.Reference, why purpose) (Served, error) {
	spot := a.St.At(ref.Drawer, ref.Item)
	a.RestOnSpot(spot)
	return decryptAt(a, spot, ref, why)
}

// decryptAt is decrypt for a reference that was looked up.
func decryptAt(a *chest.Attempt, p chest.Spot, ref reference.Reference, why purpose) (Served, error) {
	now, kind := a.Entry.At, reference.App // within the chest, everything may be used
	if why == toShow {
		kind = a.St.Identity(a.Caller.ID).Kind
	}
	found, err := p.Serving(kind, ref, now)
	if why == toCompare && notYet(a, p, ref, err) {
		err = nil // nobody is served it, and who put it in makes sure that it is right before it is
	}
	if err != nil {
		if found.Item == nil {
			err = a.St.Hint(a.Caller, ref, err, now)
		}
		return Served{}, err
	}
	it := found.Item
	content, err := a.St.Content(found.Drawer, it, found.Number)
	if err != nil {
		return Served{}, err
	}
	value, fields, err := choose(it.Row, ref, content)
	if err != nil {
		return Served{}, err
	}
	return Served{KeepFor: time.Duration(it.Life.Rules.At(now).HostKeeps), Home: found.Home, Changes: found.Changes, Grace: found.Grace,
		Reference: reference.Reference{Drawer: ref.Drawer, Item: ref.Item, Version: found.Number, Field: ref.Field}, Content: value,
		Fields: fields,
		Shape:  shapeOf(it.Row), CreatedAt: chest.FromMicros(it.Versions[found.Number-1].CreatedAt), NotAfter: found.Ends}, nil
}
