// Package masters is the room for master keys: keys that drawers are under as well as under the root key. They are made by the chest,
// brought by their owner, or sealed by a key in a PKCS #11 token; who has one can withdraw it, which closes the drawers, and give it back.
package masters

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/drawerkeys"
	"tansu/internal/entity"
	"tansu/internal/hardware"
	"tansu/internal/store"
	"tansu/internal/usage"
)

// Records is what the room asks of a store.
type Records interface {
	usage.Records
	ForgetJournal() error
}

// Masters is the room. Its methods are safe for concurrent use.
type Masters struct {
	heart   *chest.Chest
	records Records
	tokens  map[string]string // PKCS #11 URIs by the names that the service's operator has given them
}

// New opens the room over a heart.
func New(heart *chest.Chest, records Records, tokens map[string]string) *Masters {
	return &Masters{heart: heart, records: records, tokens: tokens}
}

// Key is a master key as others see it.
type Key struct {
	Row     entity.MasterKey
	State   string   // of drawerkeys
	Manages bool     // whether whoever asked may withdraw it, give it back, and take drawers from under it
	Drawers []string // under it, those that they may list
	More    int      // drawers under it that they may not list
	Items   int      // in all of these
	// Who read or used something in these drawers in the last seven days: by name where they may read the trail; only of one key.
	Readers     []string
	MoreReaders int
}

// NewKey is a master key that is to be made.
type NewKey struct {
	Name        string
	Origin      string // of drawerkeys
	Description string
	Owner       string            // empty for whoever makes it
	Material    secretvalue.Value // of one that is brought
	InMemory    bool              // it is never stored, and is given again after each unlock
	Token       string            // the name of the token, of one that is in a token
}

// overMasters may be asked by whoever chooses what a drawer is under. Owners may without.
var overMasters = chest.Overview{Name: "list_master_keys", What: "see master keys", Actions: access.ChangeRules | access.Operate}

// List lists the master keys, in the order of names.
func (s *Masters) List(c chest.Caller) (list []Key, err error) {
	a := s.heart.Attempt(c, overMasters.Name, "")
	if err := a.Err(); err != nil {
		return nil, err
	}
	for _, m := range a.St.Masters() {
		list = append(list, s.describe(a, m))
	}
	if !slices.ContainsFunc(list, func(k Key) bool { return k.Manages }) {
		decision := a.St.Policy.Anywhere(c.ID, overMasters.Actions, c.Context(a.Entry.At))
		if err := a.Answered(decision, overMasters.What, "", a.Remedy(access.Operate)); err != nil {
			return nil, err
		}
	}
	return chest.Reply(a, list)
}

// One is a master key that the caller manages, with whom it would concern if it were withdrawn.
func (s *Masters) One(c chest.Caller, id string) (k Key, err error) {
	a, m, err := s.managed(c, "list_master_keys", id)
	if err != nil {
		return k, err
	}
	k = s.describe(a, m)
	if err := s.concerned(a, m, &k); err != nil {
		return k, a.Fail(err)
	}
	return chest.Reply(a, k)
}

func (s *Masters) describe(a *chest.Attempt, m drawerkeys.Master) (k Key) {
	k = Key{Row: m.Row, State: m.State(), Manages: a.St.Manages(a.Caller, m.Row, a.Entry.At)}
	k.Row.Sealed = nil
	for _, d := range a.St.Drawers() {
		switch {
		case !d.IsUnder(m.Row.ID):
			continue
		case a.St.Reaches(a.Caller.ID, access.List, d.Row.Name, a.Caller.Context(a.Entry.At)).Allowed:
			k.Drawers = append(k.Drawers, d.Row.Name)
		default:
			k.More++
		}
		if size, err := a.St.SizeOf(d); err == nil {
			k.Items += size.All
		}
	}
	if !k.Manages { // what they may not list does not concern them
		k.More, k.Items = 0, 0
	}
	return k
}

// lately is how far back those are looked for who would miss what is in the drawers.
const lately = 7 * 24 * time.Hour

// concerned finds who read or used something in the drawers under a master key: reads are counted by drawers, uses of keys by keys.
func (s *Masters) concerned(a *chest.Attempt, m drawerkeys.Master, k *Key) error {
	if err := s.records.CatchUp(); err != nil {
		return err
	}
	named, others := map[string]bool{}, map[string]bool{}
	for _, d := range a.St.Drawers() {
		if !d.IsUnder(m.Row.ID) {
			continue
		}
		var keys []string
		err := a.St.Each(d, store.ItemFilter{}, func(it *chest.Item) bool {
			if it.Row.Kind != entity.KindSecret {
				keys = append(keys, it.Row.ID)
			}
			return a.Caller.Ctx().Err() == nil
		})
		if err = cmp.Or(err, a.Caller.Ctx().Err()); err != nil {
			return err
		}
		to := others
		if a.St.Decide(a.Caller.ID, access.ReadTrail, a.Caller.Context(a.Entry.At), d.Row.Name).Allowed {
			to = named
		}
		for kind, of := range map[string][]string{usage.Hour: {d.Row.Name}, usage.Key: keys} {
			if len(of) == 0 {
				continue // which would be all there are
			}
			uses, err := s.records.Uses(store.UseFilter{Kind: kind, Keys: of, Since: chest.Micros(a.Entry.At.Add(-lately))})
			if err != nil {
				return err
			}
			for _, use := range uses {
				to[use.Other[strings.LastIndex(use.Other, " ")+1:]] = true // when, or what for and with which version, and then who
			}
		}
	}
	for subject := range named {
		k.Readers = append(k.Readers, subject)
		delete(others, subject)
	}
	slices.Sort(k.Readers)
	k.MoreReaders = len(others)
	return nil
}

// managed begins an act on a master key by whoever may do it: its owner, or an operator.
func (s *Masters) managed(c chest.Caller, action, id string) (a *chest.Attempt, m drawerkeys.Master, err error) {
	a = s.heart.Attempt(c, action, "").RestOnAccess()
	if err := a.Err(); err != nil {
		return a, m, err
	}
	for _, m := range a.St.Masters() {
		if m.Row.ID == id && a.St.Manages(c, m.Row, a.Entry.At) {
			a.Entry.Detail, a.Entry.ItemID = m.Row.Name, id
			a.RestOnMaster(id)
			return a, m, nil
		}
	}
	if _, err := a.Decide(access.Operate); err != nil { // whoever manages none learns nothing of which there are
		return a, m, err
	}
	return a, m, a.Fail(chest.Missing("master key with the id "+id, ""))
}

// Make makes a master key, or takes one that is brought. It takes the right to operate the chest.
func (s *Masters) Make(c chest.Caller, n NewKey) (k Key, err error) {
	if err := n.check(); err != nil {
		return k, err
	}
	id := chest.NewID("mk_")
	material := n.Material
	if n.Origin != drawerkeys.Brought {
		material = envelope.NewMasterMaterial()
		defer material.Wipe()
	}
	sealed := drawerkeys.NoKey
	err = s.heart.Try(func() error {
		a, err := s.heart.Allow(c, access.Operate)
		if err != nil {
			return err
		}
		a.Entry.Action, a.Entry.Detail, a.Entry.ItemID = "make_master_key", n.Name+", "+n.Origin, id
		if _, taken := a.St.MasterNamed(n.Name); taken {
			return a.Fail(&chest.Error{Code: chest.Exists, Field: "name", Detail: "there is a master key named " + n.Name})
		}
		if len(a.St.Masters()) >= mostKeys {
			return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: fmt.Sprintf("there are %d master keys: destroy one that no drawer is under",
				mostKeys)})
		}
		row := entity.MasterKey{ID: id, Name: n.Name, Origin: n.Origin, Description: n.Description, Owner: n.Owner, Token: n.Token,
			InMemory: n.InMemory, Fingerprint: envelope.MasterFingerprint(a.St.Root().Chest(), material),
			CreatedAt: chest.Micros(a.Entry.At), CreatedBy: c.Name}
		if row.Owner == "" {
			row.Owner = c.Name
		}
		if _, err := a.St.KnownSubject("owner", row.Owner); err != nil {
			return a.Fail(err)
		}
		row.Sealed = drawerkeys.NoKey
		switch {
		case n.Origin == drawerkeys.Token:
			if len(sealed) == len(drawerkeys.NoKey) { // once, and not again when it is tried again: it may take a second
				if sealed, err = s.seal(n.Token, material); err != nil {
					return a.Fail(err)
				}
			}
			row.Sealed = a.St.Root().SealMaster(id, sealed)
		case !n.InMemory:
			row.Sealed = a.St.Root().SealMaster(id, material.Reveal())
		}
		a.Change.Insert(row)
		return s.commit(a, row, material, &k)
	})
	return k, err
}

// commit makes a row durable while the material of one that is not stored is held for it.
func (s *Masters) commit(a *chest.Attempt, row entity.MasterKey, material secretvalue.Value, k *Key) error {
	undo := func() {}
	if row.InMemory || row.Origin == drawerkeys.Token {
		undo = s.heart.Hold(row.ID, material)
	}
	if err := a.Commit("master key " + row.Name); err != nil {
		undo()
		return err
	}
	for _, m := range a.After().Masters() {
		if m.Row.ID == row.ID {
			*k = s.describe(a, m)
		}
	}
	return nil
}

// mostKeys is how many master keys a chest has at most: each is looked at with each drawer.
const mostKeys = 200

func (n NewKey) check() error {
	if err := chest.CheckName("name", n.Name); err != nil {
		return err
	}
	if err := chest.CheckText("description", n.Description, chest.MaxDescription); err != nil {
		return err
	}
	if n.Owner != "" {
		if err := chest.CheckSubject("owner", n.Owner); err != nil {
			return err
		}
	}
	switch n.Origin {
	case drawerkeys.Brought:
		if err := envelope.CheckMaster(n.Material); err != nil {
			return chest.Invalid("material", "%s", err)
		}
	case drawerkeys.Made, drawerkeys.Token:
		if n.Material.Len() > 0 {
			return chest.Invalid("material", "only a key that is brought has material: this one is made here")
		}
		if n.InMemory {
			return chest.Invalid("in_memory", "only a key that is brought can be kept in memory alone: nobody else has this one")
		}
	default:
		return chest.Invalid("origin", "origin is made, brought or token")
	}
	if (n.Token != "") != (n.Origin == drawerkeys.Token) {
		return chest.Invalid("token", "a key of the origin token has the name of a token, and no other has")
	}
	return nil
}

// Changes are what can be said anew of a master key; nil leaves it as it is.
type Changes struct{ Name, Description, Owner *string }

// Change says something anew of a master key that still has a revision.
func (s *Masters) Change(c chest.Caller, id string, revision int64, ch Changes) (k Key, err error) {
	err = s.heart.Try(func() error {
		a, m, err := s.managed(c, "change_master_key", id)
		if err != nil {
			return err
		}
		row := m.Row
		if row.Revision != revision {
			return a.Fail(&chest.Error{Code: chest.Stale, Detail: "the master key was changed by somebody else; read it again"})
		}
		if ch.Name != nil && *ch.Name != row.Name {
			if err := chest.CheckName("name", *ch.Name); err != nil {
				return a.Fail(err)
			}
			if _, taken := a.St.MasterNamed(*ch.Name); taken {
				return a.Fail(&chest.Error{Code: chest.Exists, Field: "name", Detail: "there is a master key named " + *ch.Name})
			}
			row.Name = *ch.Name
			a.Entry.Detail += ", now " + row.Name
		}
		if ch.Description != nil {
			if err := chest.CheckText("description", *ch.Description, chest.MaxDescription); err != nil {
				return a.Fail(err)
			}
			row.Description = *ch.Description
		}
		if ch.Owner != nil {
			if _, err := a.St.KnownSubject("owner", *ch.Owner); err != nil {
				return a.Fail(err)
			}
			row.Owner = *ch.Owner
			a.Entry.Detail += ", owned by " + row.Owner
		}
		a.Change.Update(m.Row, row)
		return s.commit(a, row, secretvalue.Value{}, &k)
	})
	return k, err
}

// Withdraw takes a master key away: the chest forgets it, and what is in the drawers under it can be read and changed by nobody until it is
// given back. The name that was typed must be the exact one.
func (s *Masters) Withdraw(c chest.Caller, id, typed string) (k Key, err error) {
	err = s.heart.Try(func() error {
		a, m, err := s.managed(c, "withdraw_master_key", id)
		if err != nil {
			return err
		}
		row := m.Row
		switch {
		case typed != row.Name:
			return a.Fail(chest.Invalid("name", "to withdraw it, type its exact name: %s", row.Name))
		case row.WithdrawnAt != 0:
			return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: "master key " + row.Name + " is withdrawn already"})
		case row.Origin == drawerkeys.Made:
			return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: "the chest made master key " + row.Name + ", and nobody else has it: " +
				"withdrawn, it could never be given back. Put its drawers under another one, and destroy it"})
		}
		row.WithdrawnAt, row.WithdrawnBy = chest.Micros(a.Entry.At), c.Name
		if row.Origin == drawerkeys.Brought {
			row.Sealed = drawerkeys.NoKey
		}
		a.Change.Update(m.Row, row)
		before := s.describe(a, m)
		a.Entry.Detail = fmt.Sprintf("%s, over %s", row.Name, reference.Counted(len(before.Drawers)+before.More, "drawer"))
		eachDrawer(a, m)
		if err := a.Commit("master key " + row.Name); err != nil {
			return err
		}
		k = before
		for _, m := range a.After().Masters() {
			if m.Row.ID == id {
				k = s.describe(a, m)
			}
		}
		return nil
	})
	if err == nil {
		s.forgetJournal()
	}
	return k, err
}

// GiveBack gives a master key back that was withdrawn, or is not at hand since the chest was unlocked: by its material, which must be the
// same, or from its token. InMemory says whether the chest keeps it in memory alone from now on; nil for as before.
func (s *Masters) GiveBack(c chest.Caller, id string, material secretvalue.Value, inMemory *bool) (k Key, err error) {
	err = s.heart.Try(func() error {
		a, m, err := s.managed(c, "give_back_master_key", id)
		if err != nil {
			return err
		}
		row := m.Row
		if m.Key != nil {
			return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: "master key " + row.Name + " is at hand already"})
		}
		row.WithdrawnAt, row.WithdrawnBy, row.GivenAt = 0, "", chest.Micros(a.Entry.At)
		if row.Origin == drawerkeys.Token {
			if material.Len() > 0 || inMemory != nil {
				return a.Fail(chest.Invalid("material", "master key %s comes from its token: give nothing", row.Name))
			}
			if material, err = s.fromToken(a.St.Root(), row); err != nil {
				return a.Fail(err)
			}
			defer material.Wipe()
		}
		if err := envelope.CheckMaster(material); err != nil {
			return a.Fail(chest.Invalid("material", "%s", err))
		}
		if print := envelope.MasterFingerprint(a.St.Root().Chest(), material); print != row.Fingerprint {
			return a.Fail(chest.Invalid("material", "this is another key: its fingerprint is %s, and that of master key %s is %s", print, row.Name,
				row.Fingerprint))
		}
		if row.Origin == drawerkeys.Brought {
			if inMemory != nil {
				row.InMemory = *inMemory
			}
			row.Sealed = drawerkeys.NoKey
			if !row.InMemory {
				row.Sealed = a.St.Root().SealMaster(id, material.Reveal())
			}
		}
		if err := opensAll(a, row, material); err != nil {
			return a.Fail(err)
		}
		a.Change.Update(m.Row, row)
		eachDrawer(a, m)
		return s.commit(a, row, material, &k)
	})
	return k, err
}

// opensAll finds a drawer that does not open with the material of its master key before anything is written.
func opensAll(a *chest.Attempt, row entity.MasterKey, material secretvalue.Value) error {
	root := a.St.Root()
	m := drawerkeys.Master{Row: row, Key: envelope.MasterKey(root.Chest(), row.ID, material)}
	defer m.Key.Erase()
	for _, d := range a.St.Drawers() {
		if err := d.OpensBy(root, m); err != nil {
			return err
		}
	}
	return nil
}

// eachDrawer records what is done to a master key with each drawer under it, so that it is found by these.
func eachDrawer(a *chest.Attempt, m drawerkeys.Master) {
	for _, d := range a.St.Drawers() {
		if d.IsUnder(m.Row.ID) {
			entry := a.Entry
			entry.Target, entry.DrawerID, entry.ItemID = d.Row.Name, d.Row.ID, ""
			entry.Outcome, entry.Detail = trail.Allowed, "master key "+m.Row.Name
			a.More = append(a.More, entry)
		}
	}
}

// Destroy forgets a master key for good, when no drawer is under it any more.
func (s *Masters) Destroy(c chest.Caller, id, typed string) error {
	err := s.heart.Try(func() error {
		a, m, err := s.managed(c, "destroy_master_key", id)
		if err != nil {
			return err
		}
		k := s.describe(a, m)
		switch {
		case typed != m.Row.Name:
			return a.Fail(chest.Invalid("name", "to destroy it, type its exact name: %s", m.Row.Name))
		case len(k.Drawers)+k.More > 0:
			return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: fmt.Sprintf("%s under master key %s, and would be lost; take them from "+
				"under it first: tansu master-key replace %s --no-master-key", areUnder(k), m.Row.Name, m.Row.Name)})
		}
		a.Change.Delete(m.Row)
		return a.Commit("master key " + m.Row.Name)
	})
	if err == nil {
		s.forgetJournal()
	}
	return err
}

// areUnder names the drawers under a key: "a, b and 2 other drawers are".
func areUnder(k Key) string {
	text := strings.Join(k.Drawers, ", ")
	if k.More > 0 && text != "" {
		text += " and "
	}
	if k.More > 0 {
		text += reference.Counted(k.More, "drawer") + " that you may not list"
	}
	if len(k.Drawers)+k.More == 1 {
		return text + " is"
	}
	return text + " are"
}

// forgetJournal makes what was replaced unreadable in the journal of the database, too.
func (s *Masters) forgetJournal() {
	if err := s.records.ForgetJournal(); err != nil {
		s.heart.Log().Warn("what was replaced may be in the journal of the database for a while", "error", err)
	}
}

// purpose keeps what a token seals for this apart from what it seals for unlocking.
const purpose = "tansu master key"

func (s *Masters) seal(token string, material secretvalue.Value) ([]byte, error) {
	uri, known := s.tokens[token]
	if !known {
		return nil, chest.Invalid("token", "the service was started without a token named %.60q: tansu serve --pkcs11-token NAME=URI", token)
	}
	sealed, err := hardware.SealBlob(uri, purpose, material)
	if err != nil {
		return nil, &chest.Error{Code: chest.NotPossible, Detail: "token " + token + ": " + err.Error(), Err: err}
	}
	return sealed, nil
}

func (s *Masters) fromToken(root *envelope.Root, row entity.MasterKey) (none secretvalue.Value, err error) {
	uri, known := s.tokens[row.Token]
	if !known {
		return none, &chest.Error{Code: chest.NotPossible, Detail: "the service was started without token " + row.Token + ", which master key " +
			row.Name + " is in: tansu serve --pkcs11-token " + row.Token + "=URI"}
	}
	blob, err := root.OpenMaster(row.ID, row.Sealed)
	if err != nil {
		return none, err
	}
	material, err := hardware.OpenBlob(uri, purpose, blob)
	if err != nil {
		return none, &chest.Error{Code: chest.NotPossible, Detail: "token " + row.Token + ": " + err.Error(), Err: err}
	}
	return material, nil
}

// Fetch has tokens open the master keys that they keep, all at once, when the chest is unlocked. One that does not answer leaves its key
// missing, and the drawers under it closed.
func (s *Masters) Fetch(root *envelope.Root, rows []entity.MasterKey) {
	var wait sync.WaitGroup
	for _, row := range rows {
		if row.Origin != drawerkeys.Token || row.WithdrawnAt != 0 {
			continue
		}
		wait.Go(func() {
			material, err := s.fromToken(root, row)
			if err == nil && envelope.MasterFingerprint(root.Chest(), material) != row.Fingerprint {
				err = fmt.Errorf("the token gave another key than master key %s", row.Name)
			}
			if err != nil {
				s.heart.Log().Error("a master key is not at hand, and nothing in the drawers under it is served", "master_key", row.Name,
					"error", err)
				return
			}
			defer material.Wipe()
			s.heart.Hold(row.ID, material)
		})
	}
	wait.Wait()
}

// Missing says since when a master key is not at hand that nobody has withdrawn; zero for none.
func (s *Masters) Missing() time.Time {
	st := s.heart.Newest()
	if st == nil {
		return time.Time{}
	}
	for _, m := range st.Masters() {
		if m.State() == drawerkeys.Missing {
			return st.Since()
		}
	}
	return time.Time{}
}
