package record

import (
	"cmp"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"math"
	"time"

	"tansu/internal/chest"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// Witness keeps checkpoints where the owner of the chest's machine cannot change them, or at least where another hand is
// needed for it.
type Witness interface {
	// Keep takes a signed checkpoint. It may take its time, and is not called again before it returns.
	Keep(note string) error
	// Last returns the newest checkpoint that it keeps; empty when there is none or it does not tell.
	Last() (note string, err error)
	// String names it for people.
	String() string
}

// Checkpoint is a signed statement of what the trail was.
type Checkpoint struct {
	Size uint64
	At   time.Time
	Root trail.Hash
	Note string
}

// chest.Origin is what the chest's checkpoints are of.
func (s *Record) Origin() string { return trail.OriginOf(s.heart.ID()) }

// VerifierKey is what checkpoints of this chest are verified with; anyone may know it. It is empty before the first unlock.
func (s *Record) VerifierKey() string {
	key, _ := s.verifierKey.Load().(string)
	return key
}

// SetVerifierKey says whose checkpoints are the chest's, when its root key is known.
func (s *Record) SetVerifierKey(root *envelope.Root) error {
	key, err := trail.VerifierKey(s.Origin(), root.TrailKey().Public().(ed25519.PublicKey))
	if err == nil {
		s.verifierKey.Store(key)
	}
	return err
}

// SignDelivery signs what is passed on, and returns besides whose signature it is. It fails while the chest is locked.
func (s *Record) SignDelivery(content []byte) (signature []byte, keyID string, err error) {
	st, err := s.heart.Look()
	if err != nil {
		return nil, "", err
	}
	key := st.Root().DeliveryKey()
	defer clear(key)
	return ed25519.Sign(key, content), s.Origin(), nil
}

// DeliveryKey is what signatures of what is passed on are verified with, in base64; empty while the chest is locked.
func (s *Record) DeliveryKey() string {
	st := s.heart.Newest()
	if st == nil {
		return ""
	}
	key := st.Root().DeliveryKey()
	defer clear(key)
	return base64.StdEncoding.EncodeToString(key.Public().(ed25519.PublicKey))
}

// checkpoint signs what the trail is now, keeps it, and returns it; when nothing was recorded since the last one, that.
// The chest must be unlocked.
func (s *Record) checkpoint() (c Checkpoint, err error) {
	s.signing.Lock()
	defer s.signing.Unlock()
	if err := s.records.CatchUp(); err != nil {
		return c, err
	}
	size := s.records.Size()
	kept, err := s.records.Checkpoints(size, size, 1)
	if err != nil {
		return c, err
	}
	if len(kept) == 1 {
		return s.openKept(kept[0])
	}
	made := trail.Checkpoint{Origin: s.Origin(), Size: size, At: s.heart.Now().UTC().Truncate(time.Second), Epochs: s.epochs}
	if made.Root, err = s.records.Root(size); err != nil {
		return c, err
	}
	st, err := s.heart.Look()
	if err != nil {
		return c, err
	}
	key := st.Root().TrailKey()
	note, err := made.Sign(key)
	clear(key)
	if err == nil {
		_, err = trail.OpenCheckpoint(note, s.VerifierKey()) // of a chest that was locked meanwhile it does not verify
	}
	if err != nil {
		return c, err
	}
	if err := s.records.KeepCheckpoint(store.StoredCheckpoint{Size: size, At: chest.Micros(made.At), Note: note}); err != nil {
		return c, err
	}
	s.witnesses.tell(size, note)
	return Checkpoint{Size: size, At: made.At, Root: made.Root, Note: note}, nil
}

func (s *Record) openKept(kept store.StoredCheckpoint) (Checkpoint, error) {
	c, err := trail.OpenCheckpoint(kept.Note, s.VerifierKey())
	if err != nil {
		return Checkpoint{}, fmt.Errorf("the stored checkpoint of %d entries: %w", kept.Size, err)
	}
	return Checkpoint{Size: c.Size, At: c.At, Root: c.Root, Note: kept.Note}, nil
}

// keptWhole is how long every checkpoint is kept; of older ones, one an hour is.
const keptWhole = 24 * time.Hour

// Upkeep does what is due from time to time: it records the counts of
// refusals that were folded, signs a checkpoint, and thins out old ones. Nothing happens while the chest
// is locked.
func (s *Record) Upkeep() {
	if _, err := s.records.Trouble(); err != nil {
		_ = s.records.Probe() // it clears the trouble if there is none any more
	}
	if !s.unlocked() {
		return
	}
	err := s.unfold(false)
	if err == nil {
		_, err = s.checkpoint()
	}
	if err == nil {
		err = s.thin()
	}
	if err == nil {
		err = s.records.ForgetDone(chest.Micros(s.heart.Now().Add(-store.KeepOnce)))
	}
	if err == nil && s.options.ArchiveAfter > 0 {
		err = s.archive(s.heart.Now().Add(-s.options.ArchiveAfter))
	}
	if err != nil && s.unlocked() {
		s.heart.Log().Error("the upkeep of the trail did not end well", "error", err)
	}
}

// archive moves what was made before a time into archives, and says so in the trail.
func (s *Record) archive(before time.Time) error {
	for {
		a, moved, err := s.records.ArchiveBefore(chest.Micros(before))
		if err != nil || !moved {
			return err
		}
		e := trail.Entry{At: s.heart.Now(), Subject: "chest", Action: "archive_trail", Outcome: trail.Allowed,
			Detail: fmt.Sprintf("entries %d to %d are in %s", a.First, a.Last, a.Name)}
		if err := s.records.Submit(&store.Work{Entry: e}); err != nil {
			return err
		}
	}
}

// thin leaves fewer of the old checkpoints, once an hour.
func (s *Record) thin() error {
	s.signing.Lock()
	defer s.signing.Unlock()
	now := s.heart.Now()
	if now.Sub(s.thinned).Abs() < time.Hour {
		return nil
	}
	s.thinned = now
	return s.records.ThinCheckpoints(chest.Micros(now.Add(-keptWhole)))
}

// LastCheckpoint signs what the trail is before the keys are erased.
func (s *Record) LastCheckpoint() {
	if !s.unlocked() {
		return
	}
	err := s.unfold(true)
	if err == nil {
		_, err = s.checkpoint()
	}
	if err != nil {
		s.heart.Log().Error("no checkpoint was made", "error", err)
	}
}

// allowWholeTrail decides whether the caller may read all of the trail, which what is signed is about.
func (s *Record) allowWholeTrail(c chest.Caller, action, what string) (*chest.Attempt, error) {
	return s.heart.AllowWhole(c, action, what, access.ReadTrail)
}

// MakeCheckpoint signs what the trail is now, with the entry that says so.
func (s *Record) MakeCheckpoint(c chest.Caller) (made Checkpoint, err error) {
	a, err := s.allowWholeTrail(c, "make_checkpoint", "sign a checkpoint of the trail")
	if err != nil {
		return made, err
	}
	if err := a.Done(); err != nil {
		return made, err
	}
	if made, err = s.checkpoint(); err != nil {
		return made, s.broken(err)
	}
	return made, nil
}

// broken is what is answered when something is wrong with the trail itself.
func (s *Record) broken(err error) error {
	s.heart.Log().Error("the trail cannot be proved", "error", err)
	if errors.Is(err, store.ErrNotRecorded) {
		return chest.StoreError(err, "")
	}
	return &chest.Error{Code: chest.Internal, Detail: "the trail cannot be proved; the chest's log says why", Err: err}
}

// Checkpoints lists checkpoints that were made, the newest first, from a size downwards; 0 is from the newest.
func (s *Record) Checkpoints(c chest.Caller, from uint64, most int) (list []Checkpoint, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverTrail)
	if err != nil {
		return nil, err
	}
	a.Entry.Detail = "checkpoints"
	kept, err := s.records.Checkpoints(0, cmp.Or(from, math.MaxInt64), most)
	for _, k := range kept {
		var one Checkpoint
		if one, err = s.openKept(k); err != nil {
			break
		}
		list = append(list, one)
	}
	if err != nil {
		return nil, a.Fail(err)
	}
	return chest.Reply(a, list)
}

// Prove shows that an entry that the caller may read is in the trail, as a checkpoint of now says.
func (s *Record) Prove(c chest.Caller, seq uint64) (p trail.Proof, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverTrail)
	if err != nil {
		return p, err
	}
	a.Entry.Detail = fmt.Sprintf("the proof of entry %d", seq)
	point, err := s.checkpoint()
	if err != nil {
		return p, a.Fail(err)
	}
	none := chest.Missing(fmt.Sprintf("entry %d", seq), "")
	if seq == 0 || seq > point.Size {
		return p, a.Fail(none)
	}
	p = trail.Proof{Seq: seq, Checkpoint: point.Note}
	if p.Entry, p.Hashes, err = s.records.ProveEntry(point.Size, seq); err != nil {
		return p, a.Fail(err)
	}
	if p.Entry == "" {
		return p, a.Fail(&chest.Error{Code: chest.NotFound,
			Detail: fmt.Sprintf("entry %d is in an archive, and not in the database any more", seq)})
	}
	e, err := trail.Decode([]byte(p.Entry))
	if err != nil {
		return p, a.Fail(err)
	}
	if !a.MayReadEntry(access.ReadTrail)(e) {
		return p, a.Fail(none)
	}
	return chest.Reply(a, p)
}

// ProveExtends shows that the trail as a checkpoint of now says begins with what it was when it had a smaller size.
func (s *Record) ProveExtends(c chest.Caller, older uint64) (point Checkpoint, hashes [][]byte, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverTrail)
	if err != nil {
		return point, nil, err
	}
	a.Entry.Detail = fmt.Sprintf("the proof that it extends its first %d entries", older)
	if point, err = s.checkpoint(); err != nil {
		return point, nil, a.Fail(err)
	}
	if older == 0 || older > point.Size {
		return point, nil, a.Fail(chest.Invalid("from", "from is a size that the trail had: from 1 to %d", point.Size))
	}
	if hashes, err = s.records.ProveExtends(point.Size, older); err != nil {
		return point, nil, a.Fail(err)
	}
	return point, hashes, a.Done()
}

// ExportTrail writes the bytes of entries, one to a line, from one number up to what the newest checkpoint covers, which
// is made for it and returned first.
func (s *Record) ExportTrail(c chest.Caller, from uint64, begin func(Checkpoint) (io.Writer, error)) error {
	a, err := s.allowWholeTrail(c, "export_trail", "export the trail")
	if err != nil {
		return err
	}
	if err := a.Done(); err != nil {
		return err
	}
	point, err := s.checkpoint()
	if err != nil {
		return s.broken(err)
	}
	w, err := begin(point)
	if err != nil {
		return err
	}
	var failed error
	err = s.records.Bodies(from, func(seq uint64, body string) bool {
		if seq > point.Size {
			return false
		}
		_, failed = io.WriteString(w, body+"\n")
		return failed == nil
	})
	return cmp.Or(failed, err)
}
