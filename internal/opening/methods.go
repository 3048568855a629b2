package opening

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/shares"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Method is an unlock method.
type Method struct {
	ID        string
	Name      string
	Kind      string    // an envelope method
	End       time.Time // zero for none
	Used      time.Time // when it unlocked the chest last; zero for never
	CreatedAt time.Time
	CreatedBy string
	Needed    int         // of the shares
	Holders   []Custodian // of the shares
}

// Custodian holds one share.
type Custodian struct {
	Subject string
	Number  int
	Taken   time.Time // zero while it waits for them
}

// Opens reports whether a method can unlock the chest for good: nothing about it ends, it is not lost with a machine or a token, and
// enough shares of it were taken.
func (m Method) Opens() bool {
	taken := 0
	for _, c := range m.Holders {
		if !c.Taken.IsZero() {
			taken++
		}
	}
	return m.End.IsZero() && m.Kind != envelope.MethodHardware && taken >= m.Needed
}

// NewMethod is an unlock method that is to be added.
type NewMethod struct {
	Name       string
	Kind       string
	Material   secretvalue.Value // of a passphrase or a key file
	Costs      envelope.Stretch  // of a passphrase; worked out when it is added
	Needed     int               // shares
	Custodians []string          // people, each of whom gets a share
	End        time.Time         // zero for none
	Replaces   string            // the id of one that ends when this one is there; empty for none
}

// stretchTime is how long one unlocking by passphrase should take.
const stretchTime = 500 * time.Millisecond

// Costs are those of a passphrase on this machine: one guess takes about half a second.
func Costs() envelope.Stretch {
	return envelope.Calibrate(stretchTime, uint8(min(runtime.NumCPU(), 255)), time.Now)
}

// Methods lists the unlock methods.
func (s *Opening) Methods(c chest.Caller) (list []Method, err error) {
	a, err := s.heart.Allow(c, access.Operate)
	if err != nil {
		return nil, err
	}
	a.Entry.Action = "list_unlock_methods"
	return chest.Reply(a, describe(a.St))
}

func describe(st *chest.Snapshot) (list []Method) {
	holders := map[string][]Custodian{}
	for _, share := range st.Shares() {
		holders[share.Slot] = append(holders[share.Slot], Custodian{Subject: chest.SubjectOf(st.Identity(share.Holder)), Number: share.Number,
			Taken: chest.FromMicros(share.TakenAt)})
	}
	for _, slot := range st.Slots() {
		m := Method{ID: slot.ID, Name: slot.Name, Kind: slot.Method, End: chest.FromMicros(slot.NotAfter), Used: chest.FromMicros(slot.UsedAt),
			CreatedAt: chest.FromMicros(slot.CreatedAt), CreatedBy: slot.CreatedBy, Holders: holders[slot.ID]}
		if set, err := setOf(slot); err == nil {
			m.Needed = set.Needed
		}
		slices.SortFunc(m.Holders, func(x, y Custodian) int { return cmp.Compare(x.Number, y.Number) })
		list = append(list, m)
	}
	slices.SortFunc(list, func(x, y Method) int { return cmp.Or(x.CreatedAt.Compare(y.CreatedAt), cmp.Compare(x.ID, y.ID)) })
	return list
}

// begin allows an operator to change what opens the chest, once they have shown what opens it now: who could add a passphrase without
// one could open any copy of the file with it. Nothing else of the kind goes on meanwhile; the caller gives the turn back.
func (s *Opening) begin(c chest.Caller, action string, material secretvalue.Value) (a *chest.Attempt, found opened, err error) {
	if a, err = s.heart.Allow(c, access.Operate); err != nil {
		return nil, found, err
	}
	a.Entry.Action = action
	limits := unlockLimits(c.Origin)
	if err := a.Take(limits); err != nil {
		return nil, found, err
	}
	row, err := s.records.Chest()
	if err != nil {
		return nil, found, a.Fail(err)
	}
	if material.Len() == 0 {
		found, err = s.kept.take(row, a.St, a.Entry.At)
	} else {
		found, err = openWith(row, inTime(a.St.Slots(), a.Entry.At), envelope.MethodOf(material), material)
	}
	if errors.Is(err, envelope.ErrWrongMaterial) {
		return nil, found, a.Refuse(wrongMaterial(a.St.Slots()))
	}
	if err != nil {
		return nil, found, a.Fail(err)
	}
	found.root.Erase() // the chest has it
	a.Refund(limits)
	a.Entry.Credential = found.slot.ID
	return a, found, nil
}

// AddMethod adds an unlock method. The current material is that of any other one.
func (s *Opening) AddMethod(c chest.Caller, n NewMethod, current secretvalue.Value) (m Method, err error) {
	s.turn.Lock()
	defer s.turn.Unlock()
	if err := chest.CheckName("name", n.Name); err != nil {
		return m, err
	}
	a, found, err := s.begin(c, "add_unlock_method", current)
	if err != nil {
		return m, err
	}
	defer found.erase()
	id := chest.NewID("sl_")
	if n.Kind == envelope.MethodPassphrase {
		n.Costs = Costs()
	}
	row, list, err := newSlot(a, found, id, n)
	if err != nil {
		return m, a.Fail(err)
	}
	a.Change.Insert(row)
	for _, share := range list {
		a.Change.Insert(share)
	}
	a.Entry.Detail = fmt.Sprintf("%s, by %s", n.Name, n.Kind)
	if n.Replaces != "" {
		// Shares that nobody has taken yet open nothing, should the service stop now.
		added := Method{Kind: n.Kind, End: n.End, Needed: n.Needed}
		ended, err := endSlot(a, n.Replaces, added.Opens())
		if err != nil {
			return m, a.Fail(err)
		}
		a.Entry.Detail += ", in the place of " + ended.Name
	}
	if err := s.commit(a, n.Name); err != nil {
		return m, err
	}
	return methodOf(a.After(), id), nil
}

func methodOf(st *chest.Snapshot, id string) Method {
	list := describe(st)
	if at := slices.IndexFunc(list, func(m Method) bool { return m.ID == id }); at >= 0 {
		return list[at]
	}
	return Method{}
}

// commit makes a change of what opens the chest durable, and what it has replaced unreadable.
func (s *Opening) commit(a *chest.Attempt, what string) error {
	if err := a.Commit(what); err != nil {
		return err
	}
	if err := s.records.ForgetJournal(); err != nil {
		s.heart.Log().Warn("what was replaced may be in the journal of the database for a while", "error", err)
	}
	return nil
}

func newSlot(a *chest.Attempt, found opened, id string, n NewMethod) (row entity.Slot, list []entity.Share, err error) {
	now := a.Entry.At
	count := 0
	for _, slot := range a.St.Slots() {
		if slot.Name == n.Name {
			return row, nil, &chest.Error{Code: chest.Exists, Detail: "there is an unlock method named " + n.Name}
		}
		if slot.ID != n.Replaces {
			count++
		}
	}
	if count >= mostSlots {
		return row, nil, &chest.Error{Code: chest.NotPossible, Detail: fmt.Sprintf("there are %d unlock methods: end one first", count)}
	}
	if !n.End.IsZero() && !n.End.After(now) {
		return row, nil, chest.Invalid("not_after", "the end is in the past")
	}
	var set shares.Set
	var split []shares.Share
	material := n.Material
	switch n.Kind {
	case envelope.MethodPassphrase:
		if err := envelope.CheckPassphrase(material); err != nil {
			return row, nil, chest.Invalid("material", "%s", err)
		}
	case envelope.MethodKeyFile, envelope.MethodHardware:
		if envelope.MethodOf(material) != n.Kind {
			return row, nil, chest.Invalid("material", "this is not a key file: tansu unlock-method add NAME --new-key-file FILE makes one")
		}
	case envelope.MethodShares:
		if material, set, split, err = shares.Split(n.Needed, len(n.Custodians)); err != nil {
			return row, nil, chest.Invalid("needed", "%s", err)
		}
		defer material.Wipe()
	default:
		return row, nil, chest.Invalid("kind", "kind must be passphrase, key_file, hardware or shares")
	}
	slot, err := envelope.NewSlot(a.St.Root().Chest(), found.unlock, n.Kind, material, n.Costs)
	if err != nil {
		return row, nil, err
	}
	row = rowOf(id, n.Name, slot, now, a.Caller.Subject())
	row.NotAfter = chest.Micros(n.End)
	if n.Kind != envelope.MethodShares {
		return row, nil, nil
	}
	public, err := json.Marshal(set)
	if err != nil {
		return row, nil, err
	}
	row.Shares = string(public)
	list, err = custodians(a, id, n.Custodians, split)
	return row, list, err
}

// custodians gives each of some people a share, which waits for them.
func custodians(a *chest.Attempt, slot string, subjects []string, split []shares.Share) (list []entity.Share, err error) {
	seen := map[string]bool{}
	for i, subject := range subjects {
		who, err := a.St.KnownSubject("custodians", subject)
		switch {
		case err != nil:
			return nil, err
		case who.Kind != reference.Person:
			return nil, chest.Invalid("custodians", "%s is not a person", subject)
		case who.State != chest.Active || who.Password == "":
			return nil, chest.Invalid("custodians", "%s has not enrolled, or is not active", subject)
		case seen[who.ID]:
			return nil, chest.Invalid("custodians", "%s is named twice: each custodian holds one share", subject)
		}
		seen[who.ID] = true
		a.RestOnSubject(who.ID)
		words := split[i].Words()
		list = append(list, entity.Share{ID: chest.NewID("sh_"), Slot: slot, Number: split[i].Number, Holder: who.ID,
			Sealed: a.St.Root().SealShare(slot, split[i].Number, words.Reveal()), CreatedAt: chest.Micros(a.Entry.At)})
		words.Wipe()
	}
	return list, nil
}

// EndMethod ends an unlock method. The current material is that of another one, which thereby is known to open the chest.
func (s *Opening) EndMethod(c chest.Caller, id string, current secretvalue.Value) error {
	s.turn.Lock()
	defer s.turn.Unlock()
	a, found, err := s.begin(c, "end_unlock_method", current)
	if err != nil {
		return err
	}
	defer found.erase()
	if found.slot.ID == id {
		return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: "show what opens the chest by another method, to prove that it still opens " +
			"without this one; to put another in the place of this one: tansu unlock-method replace"})
	}
	ended, err := endSlot(a, id, false)
	if err != nil {
		return a.Fail(err)
	}
	a.Entry.Detail = ended.Name
	return s.commit(a, "the unlock method")
}

// endSlot removes a slot, if another one than it opens the chest for good: one that is there, or one that is being added.
func endSlot(a *chest.Attempt, id string, added bool) (ended entity.Slot, err error) {
	stays := added
	for _, m := range describe(a.St) {
		stays = stays || m.ID != id && m.Opens()
	}
	for _, slot := range a.St.Slots() {
		if slot.ID == id {
			ended = slot
		}
	}
	switch {
	case ended.ID == "":
		return ended, chest.Missing("unlock method with the id "+id, "")
	case !stays:
		return ended, &chest.Error{Code: chest.NotPossible, Detail: "no other method would open the chest for good: each has an end, is lost " +
			"with hardware, or has shares that were not taken. Add the new one first, and end this one when its shares are taken"}
	}
	for _, share := range a.St.Shares() {
		if share.Slot == id {
			a.Change.Delete(share)
		}
	}
	a.Change.Delete(ended)
	return ended, nil
}

// RotateRoot puts another root key in the place of the one that the chest has: the keys of drawers, the key of the authority and shares
// that wait are under it, and rows that decide access are authenticated by it. It is one change, and so whole or not at all. The
// unlock methods stay as they are. It returns how many keys were wrapped anew.
func (s *Opening) RotateRoot(c chest.Caller, current secretvalue.Value) (wrapped int, err error) {
	s.turn.Lock()
	defer s.turn.Unlock()
	err = s.heart.Alone(func() error {
		a, found, err := s.begin(c, "rotate_root_key", current)
		if err != nil {
			return err
		}
		defer found.erase()
		wrapped, err = turn(a, found)
		if err != nil {
			return a.Fail(err)
		}
		a.Entry.Detail = fmt.Sprintf("%d keys were wrapped anew", wrapped)
		return s.commit(a, "the root key")
	})
	return wrapped, err
}

func turn(a *chest.Attempt, found opened) (wrapped int, err error) {
	old := a.St.Root()
	next := old.Turned()
	var keys []entity.DrawerKey
	for _, d := range a.St.Drawers() {
		keys = append(keys, d.AllKeys()...)
	}
	for _, row := range keys {
		if len(row.Wrapped) == len(chest.NoKey) { // shredded
			continue
		}
		after := row
		if after.Wrapped, err = old.RewrapDrawerKey(next, row.Drawer, row.Number, row.Wrapped); err != nil {
			return 0, err
		}
		a.Change.Update(row, after)
		wrapped++
	}
	for _, m := range a.St.Masters() {
		if len(m.Row.Sealed) == len(chest.NoKey) { // the chest keeps nothing of it
			continue
		}
		material, err := old.OpenMaster(m.Row.ID, m.Row.Sealed)
		if err != nil {
			return 0, err
		}
		after := m.Row
		after.Sealed = next.SealMaster(m.Row.ID, material)
		clear(material)
		a.Change.Update(m.Row, after)
		wrapped++
	}
	for _, share := range a.St.Shares() {
		if taken(share) {
			continue
		}
		words, err := old.OpenShare(share.Slot, share.Number, share.Sealed)
		if err != nil {
			return 0, err
		}
		after := share
		after.Sealed = next.SealShare(share.Slot, share.Number, words)
		clear(words)
		a.Change.Update(share, after)
		wrapped++
	}
	authority, err := old.OpenAuthority(found.seals.AuthoritySealed)
	if err != nil {
		return 0, err
	}
	defer clear(authority)
	a.Change.Turns = next
	a.Change.Seals = &store.Seals{RootWrapped: envelope.WrapRoot(found.unlock, next), BaseSealed: next.SealedBase(),
		AuthoritySealed: next.SealAuthority(authority)}
	return wrapped + 1, nil
}
