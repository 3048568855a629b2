package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// rights are what each act takes.
var rights = map[lifecycle.Act]access.Action{
	lifecycle.Suspend: access.ChangeItem, lifecycle.Resume: access.ChangeItem, lifecycle.Promote: access.ChangeItem,
	lifecycle.Hold: access.ChangeItem, lifecycle.Release: access.ChangeItem,
	lifecycle.Retire: access.Retire, lifecycle.Restore: access.Retire, lifecycle.Shred: access.Shred,
}

// Act does something with an item or, when the reference has a version, with that version; it is effective at once. To
// shred, the name typed must be the exact reference: it destroys the data keys, and nothing brings them back.
func (s *Service) Act(c Caller, ref reference.Reference, act lifecycle.Act, typed string) (it Item, versions []Version, err error) {
	right, known := rights[act]
	if !known {
		return it, nil, invalid("act", "%.40q is not an act; the acts are %v", act, lifecycle.Acts)
	}
	a, err := s.allow(c, right, ref.Drawer, ref.Item)
	if err != nil {
		return it, nil, err
	}
	a.entry.Action, a.entry.Version = string(act)+"_item", ref.Version
	if ref.Version != 0 {
		a.entry.Action = string(act) + "_version"
	}
	if act == lifecycle.Shred && typed != ref.String() {
		return it, nil, a.fail(invalid("name", "to shred it, type its exact name: %s", ref))
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	var change itemChange
	agreed := true
	err = s.view(func(st *state) error {
		_, found, err := st.item(ref)
		if err != nil {
			return s.hint(st, c, ref, err, a.entry.At)
		}
		if act == lifecycle.Shred && found.life.Rules.At(a.entry.At).TwoToShred {
			agreed = st.agreed(c, ref.String(), a.entry.At)
		}
		change, err = found.plan(act, ref.Version, a)
		return err
	})
	if err != nil {
		return it, nil, a.fail(err)
	}
	if !agreed {
		return it, nil, a.needsSecond(ref.String())
	}
	err = a.change("item "+ref.String(), change.rows, func(st *state) {
		d := st.drawers[ref.Drawer]
		for _, v := range change.versions {
			if v.ShreddedAt != 0 {
				s.contents.forget(v.ID)
			}
		}
		st.items.forget(d, ref.Item)
		changed := st.keep(d, change.item, change.all)
		if change.item.ShreddedAt != 0 {
			st.items.forget(d, change.item.Name)
		}
		it, versions = describeItem(d, changed, a.entry.At), changed.history(a.entry.At)
	})
	if err != nil {
		return it, nil, err
	}
	if act == lifecycle.Shred {
		if err := s.records.ForgetJournal(); err != nil {
			s.options.Log.Warn("what was shredded may still be in the journal", "error", err)
		}
	}
	return it, versions, nil
}

// noKey stands where the wrapped key of a shredded version was. It is not empty, because drivers differ about empty bytes.
var noKey = []byte{0}

// itemChange is what an act does to rows.
type itemChange struct {
	before, item  store.Item
	was, versions []store.Version // those that change
	all           []store.Version // as they are afterwards
}

// plan works out what an act does to an item's rows.
func (it *item) plan(act lifecycle.Act, version int, a *attempt) (ch itemChange, err error) {
	after, err := it.life.Do(act, version, a.entry.At)
	if err != nil {
		return ch, &Error{Code: NotPossible, Detail: err.Error(), Err: err}
	}
	ch.before, ch.item, ch.all = it.row, it.row, slices.Clone(it.versions)
	ch.item.Held, ch.item.Suspended, ch.item.RetiredAt = after.Held, after.Suspended, micros(after.RetiredAt)
	if after.Shredded {
		// The row stays as history and gives its name free; ids have a character that names of items may have too, but
		// eighty random bits that nobody chooses.
		ch.item.ShreddedAt, ch.item.ShreddedBy = micros(a.entry.At), a.entry.Subject
		ch.item.ShreddedName, ch.item.Name = it.row.Name, it.row.ID
	}
	for i, v := range after.Versions {
		if v == it.life.Versions[i] {
			continue
		}
		row := it.versions[i]
		row.Staged, row.Suspended = v.Staged, v.Suspended
		if v.Shredded {
			row.ShreddedAt, row.WrappedKey = micros(a.entry.At), noKey
		}
		ch.was, ch.versions = append(ch.was, it.versions[i]), append(ch.versions, row)
		ch.all[i] = row
	}
	if !after.Used.Equal(it.life.Used) {
		ch.item.AwakeAt = micros(after.Used)
	}
	ch.item = withHorizon(ch.item, ch.all, a.entry.At)
	return ch, nil
}

// rows stores the change. The item's row gets a new revision whatever changes, so that writers who read it before notice.
func (ch *itemChange) rows(tx *store.Tx) (err error) {
	if ch.item, err = store.Update(tx, ch.before, ch.item); err != nil {
		return err
	}
	for i := range ch.versions {
		if ch.versions[i], err = store.Update(tx, ch.was[i], ch.versions[i]); err != nil {
			return err
		}
		ch.all[ch.versions[i].Number-1] = ch.versions[i]
		if ch.versions[i].ShreddedAt != 0 {
			if err := tx.DeleteContent(ch.versions[i].ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// pruning is the versions that a rule does not keep any more when one is added.
type pruning struct{ was, becomes []store.Version }

// prune works out which versions a rule does not keep, and puts those rows, without keys, in the place of theirs.
func prune(d *drawer, row store.Item, versions []store.Version, a *attempt) (p pruning) {
	own, _ := parseRules(row.Rules)
	life := lifeOf(store.Shelved{Item: row, Versions: versions}, d.schedule.And(own))
	for _, number := range life.Surplus(a.entry.At) {
		after := versions[number-1]
		p.was = append(p.was, after)
		after.ShreddedAt, after.WrappedKey = micros(a.entry.At), noKey
		p.becomes = append(p.becomes, after)
		versions[number-1] = after
		entry := a.entry
		entry.Action, entry.Version, entry.Outcome = "shred_version", number, trail.Allowed
		entry.Detail = fmt.Sprintf("by a rule of the drawer: %d versions are kept", life.Rules.At(a.entry.At).Keep)
		a.more = append(a.more, entry)
	}
	return p
}

func (p *pruning) rows(tx *store.Tx, versions []store.Version) (err error) {
	for i := range p.becomes {
		if p.becomes[i], err = store.Update(tx, p.was[i], p.becomes[i]); err != nil {
			return err
		}
		versions[p.becomes[i].Number-1] = p.becomes[i]
		if err := tx.DeleteContent(p.becomes[i].ID); err != nil {
			return err
		}
	}
	return nil
}

func (p *pruning) notes() (notes []string) {
	for _, v := range p.becomes {
		notes = append(notes, fmt.Sprintf("version %d is shredded, because a rule of the drawer keeps fewer versions", v.Number))
	}
	return notes
}

// forget drops what memory has of the ciphertexts.
func (p *pruning) forget(s *Service) {
	for _, v := range p.becomes {
		s.contents.forget(v.ID)
	}
}

// forgetJournal empties the journal of what was shredded.
func (p *pruning) forgetJournal(s *Service, err error) {
	if len(p.becomes) == 0 || err != nil {
		return
	}
	if err := s.records.ForgetJournal(); err != nil {
		s.options.Log.Warn("what was shredded may still be in the journal", "error", err)
	}
}

// history describes an item's versions, newest first.
func (it *item) history(now time.Time) (versions []Version) {
	for number := len(it.versions); number > 0; number-- {
		versions = append(versions, describeVersion(it, number, now))
	}
	return versions
}

// Reader is an app or a person who read an item's value, and which version last.
type Reader struct {
	Subject string
	Version int
	Last    time.Time
	Pinned  bool // asked for the version by its number
}

// Readers lists who read an item's value since a moment, those of the oldest versions first.
func (s *Service) Readers(c Caller, ref reference.Reference, since time.Time) (list []Reader, err error) {
	a, err := s.allow(c, access.SeeMetadata, ref.Drawer, ref.Item)
	if err != nil {
		return nil, err
	}
	a.entry.Detail = "who reads it"
	err = s.view(func(st *state) error {
		if _, _, err := st.readItem(ref); err != nil {
			return s.hint(st, c, ref, err, a.entry.At)
		}
		return nil
	})
	if err != nil {
		return nil, a.fail(err)
	}
	if list, err = s.readersOf(ref.String(), since); err != nil {
		return nil, a.fail(err)
	}
	return answer(a, list)
}

// readersOf lists who read an item under a name since a moment.
func (s *Service) readersOf(target string, since time.Time) (list []Reader, err error) {
	uses, err := s.uses(store.UseFilter{Kind: useRead, Keys: []string{target}, Since: micros(since)})
	for _, use := range uses {
		list = append(list, readingOf(use))
	}
	slices.SortFunc(list, func(x, y Reader) int {
		if x.Version != y.Version {
			return x.Version - y.Version
		}
		return strings.Compare(x.Subject, y.Subject)
	})
	return list, err
}

// byNumber notes in an entry that a version was asked for by its number, and so keeps being read after a change.
const byNumber = "asked for by its number"

// Shredded is what is left of an item.
type Shredded struct {
	Name     string
	At       time.Time
	By       string
	Versions int
}

// Shredded lists what was shredded in a drawer, newest first, for who may list the drawer.
func (s *Service) Shredded(c Caller, drawer string) (list []Shredded, err error) {
	if err := checkName("drawer", drawer); err != nil {
		return nil, err
	}
	a, err := s.allow(c, access.List, drawer)
	if err != nil {
		return nil, err
	}
	err = s.view(func(st *state) error {
		if st.drawers[drawer] == nil {
			return notFound("drawer "+drawer, s.nearestDrawer(st, c, drawer, a.entry.At))
		}
		return st.each(st.drawers[drawer], store.ItemFilter{Shredded: true}, func(it *item) bool {
			list = append(list, Shredded{Name: it.row.ShreddedName, At: fromMicros(it.row.ShreddedAt), By: it.row.ShreddedBy, Versions: len(it.versions)})
			return true
		})
	})
	if err != nil {
		return nil, a.fail(err)
	}
	slices.SortFunc(list, func(x, y Shredded) int { return y.At.Compare(x.At) })
	return answer(a, list)
}
