package service

import (
	"bytes"
	"fmt"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// mostAlike bounds how many items with the likeness of a value are compared with it.
const mostAlike = 500

// trimmed is a value without line breaks at its end, which make no other value of it.
func trimmed(v secretvalue.Value) []byte { return bytes.TrimRight(v.Reveal(), "\r\n") }

// alsoIn says in which other items a value is stored already, among those whose value the caller may read: about others
// it would be a way to find out their value by asking. Each that is named is in the trail as compared.
func (s *Service) alsoIn(st *state, c Caller, a *attempt, item string, value secretvalue.Value, v NewVersion) (notes []string) {
	if v.Recipe != "" || len(v.Fields) > 0 {
		return nil
	}
	for _, h := range s.holding(st, c, a, access.ReadValue, item, value, mostNamed) {
		name := reference.Reference{Drawer: h.d.row.Name, Item: h.it.row.Name, Version: h.number}.String()
		notes = append(notes, "the same value is stored in "+name+": whoever may read one of them knows the other, and both have to be replaced together")
		a.comparedEqual(h, "a new value of "+a.entry.Target)
	}
	return notes
}

// mostNamed is how many items with the same value a note names.
const mostNamed = 5

// holding is an item, and its version, that holds a value.
type holding struct {
	d      *drawer
	it     *item
	number int
}

// holding lists other items that hold a value, among those on which the caller may do something, at most so many.
func (s *Service) holding(st *state, c Caller, a *attempt, action access.Action, except string, value secretvalue.Value, most int) (list []holding) {
	ids, err := s.records.Alike(st.root.Likeness(trimmed(value)), mostAlike)
	if err != nil {
		s.options.Log.Error("versions cannot be read", "error", err)
		return nil
	}
	for _, id := range ids {
		rows, err := s.records.ItemByID(id)
		if err != nil || id == except || len(list) == most {
			continue
		}
		if d, it := st.mayDo(c, a, action, rows); it != nil {
			if number := s.versionWith(d, it, value); number != 0 {
				list = append(list, holding{d, it, number})
			}
		}
	}
	return list
}

// comparedEqual puts into the trail that an item was compared, and with what it is equal.
func (a *attempt) comparedEqual(h holding, with string) {
	entry := a.entry
	entry.Action, entry.Target, entry.Version, entry.Outcome, entry.Detail = compareValue, h.d.row.Name+"/"+h.it.row.Name, h.number, trail.Allowed, "equal to "+with
	a.more = append(a.more, entry)
}

// mayDo is an item and its drawer, if the caller may do something on it; nil otherwise.
func (st *state) mayDo(c Caller, a *attempt, action access.Action, rows store.Shelved) (*drawer, *item) {
	for name, d := range st.drawers {
		if d.row.ID != rows.Item.Drawer || rows.Item.ShreddedAt != 0 {
			continue
		}
		it, err := newItem(d, rows)
		if err == nil && st.decide(c.id, action, c.context(a.entry.At), name, it.row.Name).Allowed {
			return d, it
		}
	}
	return nil, nil
}

// versionWith is the newest version of an item of one text that has a value; 0 for none.
func (s *Service) versionWith(d *drawer, it *item, value secretvalue.Value) int {
	for i := len(it.versions) - 1; i >= 0; i-- {
		row := it.versions[i]
		if row.ShreddedAt != 0 || row.Fields != "" {
			continue
		}
		content, err := s.openVersion(d, it, row.Number)
		if err != nil {
			continue
		}
		same := secretvalue.New(trimmed(secretvalue.New(content))).Equal(secretvalue.New(trimmed(value)))
		clear(content)
		if same {
			return row.Number
		}
	}
	return 0
}

// publicNotes point out that something that everybody can see looks like a value.
func (n NewVersion) publicNotes() (notes []string) {
	if secretvalue.LooksLikeValue(n.Note) {
		notes = append(notes, "the note has something in it that looks like a value, and everybody who lists the item sees it")
	}
	return notes
}

// Same answers whether two references hold the same value, without showing it. It takes for each what comparing takes:
// the right to read it, or to write it.
func (s *Service) Same(c Caller, ref, other reference.Reference) (same bool, err error) {
	first, err := s.toCompare(c, ref)
	if err != nil {
		return false, err
	}
	second, err := s.toCompare(c, other)
	if err != nil {
		return false, err
	}
	limits := []limit{{"compare " + c.id + " " + first.entry.Target, guesses, guessTime}}
	if err := s.take(first, limits); err != nil {
		return false, err
	}
	err = s.view(func(st *state) error {
		one, err := s.decrypt(st, c, ref, first.entry.At, toCompare)
		if err != nil {
			return err
		}
		defer one.Content.Wipe()
		two, err := s.decrypt(st, c, other, first.entry.At, toCompare)
		if err != nil {
			return err
		}
		defer two.Content.Wipe()
		first.entry.Version, second.entry.Version = one.Reference.Version, two.Reference.Version
		same = one.Content.Equal(two.Content)
		return nil
	})
	if err != nil {
		return false, first.fail(err)
	}
	s.throttle.refund(limits) // both are stored: nobody guesses by it
	for _, one := range []struct {
		a    *attempt
		with reference.Reference
	}{{first, other}, {second, ref}} {
		one.a.entry.Detail = fmt.Sprintf("%s %s", map[bool]string{true: "equal to", false: "not equal to"}[same], one.with)
	}
	second.entry.Outcome = trail.Allowed
	first.more = []trail.Entry{second.entry}
	return answer(first, same)
}
