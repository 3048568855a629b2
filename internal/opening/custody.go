package opening

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/shares"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Custody is a share of the caller's.
type Custody struct {
	ID     string
	Method string // its name
	Number int
	Needed int
	Count  int
	Taken  time.Time // zero while it waits
}

// MyShares lists the shares that the caller holds, or that wait for them.
func (s *Opening) MyShares(c chest.Caller) (list []Custody, err error) {
	a := s.heart.Attempt(c, "list_own_shares", "")
	if err := a.Err(); err != nil {
		return nil, err
	}
	for _, share := range a.St.Shares() {
		if share.Holder == c.ID {
			list = append(list, custodyOf(a.St, share))
		}
	}
	return chest.Reply(a, list)
}

func custodyOf(st *chest.Snapshot, share entity.Share) Custody {
	custody := Custody{ID: share.ID, Number: share.Number, Taken: chest.FromMicros(share.TakenAt)}
	for _, slot := range st.Slots() {
		if slot.ID == share.Slot {
			set, _ := setOf(slot)
			custody.Method, custody.Needed, custody.Count = slot.Name, set.Needed, set.Count
		}
	}
	return custody
}

// taken reports whether a share is not kept any more.
func taken(share entity.Share) bool { return len(share.Sealed) == len(chest.NoKey) }

// TakeShare gives the caller their share, once: it is not kept anywhere else from then on.
func (s *Opening) TakeShare(c chest.Caller, id string) (words secretvalue.Value, custody Custody, err error) {
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(c, "take_share", "")
		if err := a.Err(); err != nil {
			return err
		}
		at := slices.IndexFunc(a.St.Shares(), func(share entity.Share) bool { return share.ID == id && share.Holder == c.ID })
		if at < 0 {
			return a.Fail(chest.Missing("share of yours with the id "+id, ""))
		}
		share := a.St.Shares()[at]
		if taken(share) {
			return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: fmt.Sprintf("you took it on %s, and it is shown once: if it is lost, "+
				"an operator makes new shares (tansu unlock-method replace)", chest.FromMicros(share.TakenAt).Format("2006-01-02"))})
		}
		content, err := a.St.Root().OpenShare(share.Slot, share.Number, share.Sealed)
		if err != nil {
			return a.Fail(err)
		}
		after := share
		after.Sealed, after.TakenAt = chest.NoKey, chest.Micros(a.Entry.At)
		a.Change.Update(share, after)
		a.Entry.Credential = share.Slot
		if err := s.commit(a, "the share"); err != nil {
			return err
		}
		words, custody = secretvalue.New(content), custodyOf(a.After(), after)
		return nil
	})
	return words, custody, err
}

// Handed says how many of the shares that are needed were handed in.
type Handed struct {
	Method string
	Have   int
	Needed int
	Since  time.Time
}

// shareLife is how long a share that was handed in is kept without another one.
const shareLife = 15 * time.Minute

// ceremonies are shares that were handed in, by the slot that they are for. They are only in memory.
type ceremonies struct {
	mu  sync.Mutex
	all map[string]*ceremony
}

type ceremony struct {
	method string
	needed int
	shares []shares.Share
	since  time.Time
	last   time.Time
}

// add adds a share, and returns all of the slot if they are enough; they are forgotten then.
func (cs *ceremonies) add(slot entity.Slot, set shares.Set, share shares.Share, now time.Time) (all []shares.Share, have int) {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	cs.forgetOld(now)
	if cs.all == nil {
		cs.all = map[string]*ceremony{}
	}
	c := cs.all[slot.ID]
	if c == nil {
		c = &ceremony{method: slot.Name, needed: set.Needed, since: now}
		cs.all[slot.ID] = c
	}
	c.last = now
	if !slices.ContainsFunc(c.shares, func(other shares.Share) bool { return other.Number == share.Number }) {
		c.shares = append(c.shares, share)
	}
	if len(c.shares) < set.Needed {
		return nil, len(c.shares)
	}
	delete(cs.all, slot.ID)
	return c.shares, len(c.shares)
}

func (cs *ceremonies) forgetOld(now time.Time) {
	for id, c := range cs.all {
		if now.Sub(c.last) >= shareLife {
			delete(cs.all, id)
		}
	}
}

// handed lists what was handed in and is not enough yet.
func (s *Opening) handed() (list []Handed) {
	cs := &s.ceremonies
	cs.mu.Lock()
	defer cs.mu.Unlock()
	cs.forgetOld(s.heart.Now())
	for _, c := range cs.all {
		list = append(list, Handed{Method: c.method, Have: len(c.shares), Needed: c.needed, Since: c.since})
	}
	slices.SortFunc(list, func(x, y Handed) int { return x.Since.Compare(y.Since) })
	return list
}

// HandIn takes a custodian's share. With the last one that is needed the chest is unlocked; one that is unlocked already takes
// shares in the place of material for one change of what opens it, within some minutes. It needs no identity.
func (s *Opening) HandIn(origin chest.Origin, text secretvalue.Value) (have Handed, err error) {
	s.turn.Lock()
	defer s.turn.Unlock()
	a := s.heart.Attempt(chest.Anonymous(origin, envelope.MethodShares), "hand_in_share", "")
	limits := unlockLimits(origin)
	if err := a.Take(limits); err != nil {
		return have, err
	}
	share, err := shares.Parse(text)
	if err != nil {
		return have, a.Refuse(&chest.Error{Code: chest.WrongMaterial, Detail: err.Error(), Reason: "no_share"})
	}
	slot, set, holder, err := s.setWith(share)
	if err != nil {
		return have, a.Fail(err)
	}
	if slot.ID == "" {
		return have, a.Refuse(&chest.Error{Code: chest.WrongMaterial, Reason: "wrong_share",
			Detail: "this share belongs to no method that opens the chest now: it is from another chest, or was replaced"})
	}
	a.Entry.Credential = slot.ID
	if err := set.Check(share); err != nil {
		return have, a.Refuse(&chest.Error{Code: chest.WrongMaterial, Reason: "wrong_share",
			Detail: fmt.Sprintf("share %d, of %s, is not the one that was given out", share.Number, holder)})
	}
	a.Refund(limits)
	enough, count := s.ceremonies.add(slot, set, share, a.Entry.At)
	have = Handed{Method: slot.Name, Have: count, Needed: set.Needed, Since: a.Entry.At}
	a.Entry.Detail = fmt.Sprintf("share %d, of %s: %d of %d", share.Number, holder, count, set.Needed)
	if enough == nil {
		return have, a.Recorded()
	}
	material, err := set.Join(enough)
	if err != nil {
		return have, a.Fail(err)
	}
	defer material.Wipe()
	row, err := s.records.Chest()
	if err != nil {
		return have, a.Fail(err)
	}
	found, err := openWith(row, []entity.Slot{slot}, envelope.MethodShares, material)
	if errors.Is(err, envelope.ErrWrongMaterial) {
		return have, a.Refuse(wrongMaterial(nil))
	}
	if err != nil {
		return have, a.Fail(err)
	}
	if s.heart.Newest() == nil {
		defer found.erase()
		a.Entry.Action = "unlock"
		return have, s.open(a, found)
	}
	found.root.Erase()
	if err := a.Recorded(); err != nil {
		found.erase()
		return have, err
	}
	s.kept.keep(found, a.Entry.At)
	return have, nil
}

// setWith finds the slot that a share is of, and who holds it.
func (s *Opening) setWith(share shares.Share) (slot entity.Slot, set shares.Set, holder string, err error) {
	slots, held, err := s.records.Slots()
	if err != nil {
		return slot, set, "", err
	}
	for _, one := range inTime(slots, s.heart.Now()) {
		of, err := setOf(one)
		if err != nil || one.Method != envelope.MethodShares || of.ID() != share.Set {
			continue
		}
		holder = "nobody"
		for _, h := range held {
			if h.Slot == one.ID && h.Number == share.Number {
				holder = s.nameOf(h.Holder)
			}
		}
		return one, of, holder, nil
	}
	return slot, set, "", nil
}

func (s *Opening) nameOf(identity string) string {
	subject, err := s.records.SubjectOf(identity)
	if err != nil {
		return "somebody"
	}
	return subject
}

// proof is what shares have opened while the chest was unlocked, for one change within some minutes.
type proof struct {
	found opened
	until time.Time
	timer *time.Timer
}

const proofLife = 10 * time.Minute

func (p *proof) keep(found opened, now time.Time) {
	p.forget()
	p.found, p.until = found, now.Add(proofLife)
	p.timer = time.AfterFunc(proofLife, found.erase)
}

func (p *proof) forget() {
	if p.timer != nil {
		p.timer.Stop()
		p.found.erase()
		*p = proof{}
	}
}

// take gives it to who changes something, once. What opens nothing any more is [envelope.ErrWrongMaterial].
func (p *proof) take(row store.Chest, st *chest.Snapshot, now time.Time) (found opened, err error) {
	if p.timer == nil || !p.timer.Stop() || now.After(p.until) {
		return found, chest.Invalid("current", "current is missing: the passphrase or key file of any unlock method, or hand in shares "+
			"first (tansu unlock --share)")
	}
	found, *p = p.found, proof{}
	if !slices.ContainsFunc(st.Slots(), func(slot entity.Slot) bool { return slot.ID == found.slot.ID }) {
		found.erase()
		return opened{}, envelope.ErrWrongMaterial
	}
	found.seals = row.Seals
	if found.root, err = envelope.OpenRoot(row.ID, found.unlock, row.RootWrapped, row.BaseSealed); err != nil {
		found.erase()
	}
	return found, err
}
