package keys

import (
	"encoding/json"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/keyrow"
)

// listPublic is what asking for public halves is called in the trail.
const listPublic = "list_public_keys"

// fresh is how long what strangers are told of a drawer is kept: they cost nothing, however often they ask.
const fresh = 10 * time.Second

// published are the public halves of a drawer, as of a snapshot and a moment.
type published struct {
	st  *chest.Snapshot
	at  time.Time
	set []json.RawMessage
}

// OpenPublic lists the public halves of a drawer's keys for anybody, if the drawer says so; else it says that there are none of that name.
// It is no entry in the trail: whatever is public may be kept and passed on.
func (k *Keys) OpenPublic(drawer string) ([]json.RawMessage, error) {
	st, err := k.heart.Look()
	if err != nil {
		return nil, err
	}
	d := st.Drawer(drawer)
	if d == nil || !d.Row.KeysOpen {
		return nil, &chest.Error{Code: chest.NotFound, Detail: "there are no public keys of that name"}
	}
	now := k.heart.Now()
	k.mu.Lock()
	kept := k.open[d.Row.ID]
	k.mu.Unlock()
	if kept.st == st && now.Sub(kept.at) < fresh {
		return kept.set, nil
	}
	set, err := k.public(st, d, now, func(*chest.Item) bool { return true })
	if err != nil {
		return nil, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.open[d.Row.ID] = published{st, now, set}
	return set, nil
}

// Public lists the public halves of those keys of a drawer that the caller may see.
func (k *Keys) Public(c chest.Caller, drawer string) (set []json.RawMessage, err error) {
	if err := chest.CheckName("drawer", drawer); err != nil {
		return nil, err
	}
	a := k.heart.Attempt(c, listPublic, drawer)
	if err := a.Err(); err != nil {
		return nil, err
	}
	d, ctx := a.St.Drawer(drawer), c.Context(a.Entry.At)
	may := a.St.Reaches(c.ID, access.SeeMetadata, drawer, ctx)
	if d != nil && d.Row.KeysOpen {
		may.Allowed = true
	}
	if err := a.Answered(may, "see the public keys of "+drawer, "", a.Remedy(access.SeeMetadata)); err != nil {
		return nil, err
	}
	if d == nil {
		return nil, a.Fail(chest.Missing("drawer "+drawer, a.St.NearestDrawer(c, drawer, a.Entry.At)))
	}
	set, err = k.public(a.St, d, a.Entry.At, func(it *chest.Item) bool {
		return d.Row.KeysOpen || a.St.Policy.Decide(access.Request{Subject: c.ID, Action: access.SeeMetadata, Target: it.Target(d),
			Context: ctx}).Allowed
	})
	if err != nil {
		return nil, a.Fail(err)
	}
	return chest.Reply(a, set)
}

// public lists the public halves, those that are staged or wait for their time among them: a verifier knows them before anything is signed
// with them. What is suspended, ended or retired is not among them, and what it signed is trusted no more.
func (k *Keys) public(st *chest.Snapshot, d *chest.Drawer, now time.Time, may func(*chest.Item) bool) (set []json.RawMessage, err error) {
	names, err := k.records.KeyNames(d.Row.ID)
	if err != nil {
		return nil, err
	}
	set = []json.RawMessage{}
	for _, name := range names {
		_, it, err := st.ReadItem(reference.Reference{Drawer: d.Row.Name, Item: name})
		if err != nil {
			return nil, err
		}
		if it.Row.KeyType == "" || it.Row.Suspended || it.Row.RetiredAt != 0 || !may(it) {
			continue
		}
		for number := len(it.Versions); number > 0; number-- {
			switch it.Life.VersionAt(number, now) {
			case lifecycle.Usable, lifecycle.Grace, lifecycle.Staged, lifecycle.Waiting:
				if jwk := keyrow.Published(it.Row.ID, it.Versions[number-1]); jwk != "" {
					set = append(set, json.RawMessage(jwk))
				}
			}
		}
	}
	return set, nil
}
