package opening

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/cert"
	"tansu/internal/core/trail"
	"tansu/internal/drawerkeys"
	"tansu/internal/entity"
	"tansu/internal/horizon"
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

// endAgain ends what was ended after the backup that a chest comes from: all sessions and tokens, since nobody knows which, and what a
// later trail said. There is an entry for each that is named, in the commit of the unlock.
func (s *Opening) endAgain(a *chest.Attempt, rows *store.Snapshot) error {
	restored, err := s.records.Restored()
	if err != nil || restored == nil || restored.BackupAt == 0 {
		return err
	}
	for _, token := range rows.Tokens {
		a.Change.Delete(token)
	}
	rows.Tokens = nil
	ends, err := s.records.EndedSince()
	if err != nil {
		return err
	}
	again := ending{a, rows, s.records, map[string]store.Shelved{}}
	for _, end := range ends {
		target, err := again.end(end)
		if err != nil {
			return err
		}
		if target == "" { // it came after the backup, or is ended in it
			continue
		}
		e := trail.Entry{At: a.Entry.At, Subject: "chest", Action: EndAgain, Target: target, Outcome: trail.Allowed, Version: end.Version,
			RequestID: a.Entry.RequestID, Detail: fmt.Sprintf("%s, as entry %d of before the restore said", end.Kind, end.Seq)}
		switch end.Kind {
		case trail.OfGrant:
			e.Given = end.ID
		case trail.OfCredential:
			e.Credential = end.ID
		case trail.OfItem, trail.OfVersion:
			e.ItemID, e.DrawerID = end.ID, again.items[end.ID].Item.Drawer
		}
		a.More = append(a.More, e)
	}
	if err := again.putItems(); err != nil {
		return err
	}
	if len(a.More) > 1 {
		a.Entry.Detail += fmt.Sprintf("; ended again, as a later trail says: %d", len(a.More)-1)
	}
	return nil
}

// EndAgain is the action of entries that say what a restored chest has ended again.
const EndAgain = "end_again"

// ending ends things in the rows of a chest that is being unlocked.
type ending struct {
	a       *chest.Attempt
	rows    *store.Snapshot
	records Records
	items   map[string]store.Shelved // as they are to be
}

// end ends one, and returns what it is called; nothing for one that is not there, or is ended.
func (n *ending) end(end trail.End) (target string, err error) {
	a, rows := n.a, n.rows
	switch end.Kind {
	case trail.OfIdentity:
		return n.suspend(end.ID), nil
	case trail.OfMembership:
		team, member, _ := strings.Cut(end.ID, " ")
		of, who := n.identity(team), n.identity(member)
		if drop(a, &rows.Members, func(m entity.Member) bool { return m.Team == of.ID && m.Identity == who.ID }) {
			return team, nil
		}
	case trail.OfGrant:
		at := slices.IndexFunc(rows.Grants, func(g entity.Grant) bool { return g.ID == end.ID })
		if at < 0 || rows.Grants[at].EndedAt != 0 || rows.Grants[at].Effect != string(access.Allow) {
			return "", nil
		}
		after := rows.Grants[at]
		after.EndedAt, after.EndedBy = chest.Micros(a.Entry.At), "chest"
		a.Change.Update(rows.Grants[at], after)
		return end.ID, nil
	case trail.OfCredential:
		if drop(a, &rows.Credentials, func(c entity.Credential) bool { return c.ID == end.ID }) {
			return end.ID, nil
		}
	case trail.OfCalendar:
		if drop(a, &rows.Calendars, func(c entity.Calendar) bool { return c.ID == end.ID }) {
			return end.ID, nil
		}
	case trail.OfCertificate:
		return n.revoke(end.ID), nil
	case trail.OfMasterKey:
		return n.withdraw(end.ID), nil
	case trail.OfItem, trail.OfVersion:
		return n.suspendItem(end)
	}
	return "", nil
}

// drop removes a row.
func drop[R entity.Row](a *chest.Attempt, rows *[]R, is func(R) bool) bool {
	at := slices.IndexFunc(*rows, is)
	if at < 0 {
		return false
	}
	a.Change.Delete((*rows)[at])
	*rows = slices.Delete(*rows, at, at+1)
	return true
}

// revoke revokes a certificate. One that was issued after the backup is not known any more, and it is not known when it ends: it stays on
// the list of what is revoked for as long as a certificate can last.
func (n *ending) revoke(id string) string {
	authority, serial, _ := strings.Cut(id, "/")
	at := slices.IndexFunc(n.rows.Issued, func(row entity.Issued) bool { return row.ID == id })
	switch {
	case at < 0:
		n.a.Change.Insert(entity.Issued{ID: id, Authority: authority, Serial: serial, CreatedAt: chest.Micros(n.a.Entry.At), CreatedBy: "chest",
			NotBefore: chest.Micros(n.a.Entry.At), NotAfter: chest.Micros(n.a.Entry.At.Add(cert.MostLife)),
			RevokedAt: chest.Micros(n.a.Entry.At), RevokedBy: "chest", Reason: "unspecified"})
	case n.rows.Issued[at].RevokedAt != 0:
		return ""
	default:
		after := n.rows.Issued[at]
		after.RevokedAt, after.RevokedBy, after.Reason = chest.Micros(n.a.Entry.At), "chest", "unspecified"
		n.a.Change.Update(n.rows.Issued[at], after)
	}
	return "certificate " + serial
}

// withdraw takes a master key away again: whoever withdrew it after the backup has it still.
func (n *ending) withdraw(id string) string {
	for _, row := range n.rows.MasterKeys {
		if row.ID != id || row.WithdrawnAt != 0 || row.Origin == drawerkeys.Made {
			continue
		}
		after := row
		after.WithdrawnAt, after.WithdrawnBy = chest.Micros(n.a.Entry.At), "chest"
		if row.Origin == drawerkeys.Brought {
			after.Sealed = drawerkeys.NoKey
		}
		n.a.Change.Update(row, after)
		return "master key " + row.Name
	}
	return ""
}

func (n *ending) identity(subject string) (found entity.Identity) {
	for _, row := range n.rows.Identities {
		if chest.SubjectOf(row) == subject {
			found = row
		}
	}
	return found
}

func (n *ending) suspend(subject string) string {
	before := n.identity(subject)
	if before.ID == "" || before.State != chest.Active {
		return ""
	}
	after := before
	after.State = chest.Suspended
	after.Generation++
	n.a.Change.Update(before, after)
	return subject
}

// suspendItem suspends what was suspended, retired or shredded: nothing of it is served, and whoever decides about it shreds it again.
func (n *ending) suspendItem(end trail.End) (string, error) {
	it, known := n.items[end.ID]
	if !known {
		var err error
		if it, err = n.records.ItemByID(end.ID); err != nil || it.Item.ID == "" {
			return "", err
		}
		it.Versions = slices.Clone(it.Versions)
	}
	name := it.Item.Name
	for _, d := range n.rows.Drawers {
		if d.ID == it.Item.Drawer {
			name = d.Name + "/" + name
		}
	}
	switch {
	case it.Item.ShreddedAt != 0 || end.Version > len(it.Versions):
		return "", nil
	case end.Version == 0:
		if it.Item.Suspended {
			return "", nil
		}
		it.Item.Suspended = true
	default:
		v := &it.Versions[end.Version-1]
		if v.Suspended || v.ShreddedAt != 0 {
			return "", nil
		}
		v.Suspended = true
		name += fmt.Sprintf("@%d", end.Version)
	}
	n.items[end.ID] = it
	return name, nil
}

// putItems puts the items and versions that are suspended into the change: each row once.
func (n *ending) putItems() error {
	for id, after := range n.items {
		before, err := n.records.ItemByID(id)
		if err != nil {
			return err
		}
		n.a.Change.Update(before.Item, horizon.Of(after.Item, after.Versions, n.a.Entry.At))
		for i, v := range after.Versions {
			if v.Suspended != before.Versions[i].Suspended {
				n.a.Change.Update(before.Versions[i], v)
			}
		}
	}
	return nil
}
