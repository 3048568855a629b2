package shelf

import (
	"bytes"
	"fmt"

	"tansu/internal/chest"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/throttle"
	"tansu/internal/core/trail"
)

// mostAlike bounds how many items with the likeness of a value are compared with it.
const mostAlike = 64

// trimmed is a value without line breaks at its end, which do not make it a different value.
func trimmed(v secretvalue.Value) []byte { return bytes.TrimRight(v.Reveal(), "\r\n") }

// alsoIn names other items that already hold a value, among those that the caller may read: naming others would confirm guesses at
// their values. Each one that is named is recorded in the trail as compared.
func (s *Shelf) alsoIn(a *chest.Attempt, item string, value secretvalue.Value, v NewVersion) (notes []string) {
	if v.Recipe != "" || len(v.Fields) > 0 {
		return nil
	}
	same, _ := s.holding(a, access.ReadValue, item, value, mostNamed)
	for _, h := range same {
		name := h.reference().String()
		notes = append(notes, "the same value is stored in "+name+": whoever may read one of them knows the other, and both have to be "+
			"replaced together")
		comparedEqual(a, h, "a new value of "+a.Entry.Target)
	}
	return notes
}

// mostNamed is how many items with the same value a note names.
const mostNamed = 5

// holding is an item, and its version, that holds a value.
type holding struct {
	Drawer *chest.Drawer
	Item   *chest.Item
	Number int
}

// reference names it, with its version.
func (h holding) reference() reference.Reference {
	return reference.Reference{Drawer: h.Drawer.Row.Name, Item: h.Item.Row.Name, Version: h.Number}
}

// holding lists other items that hold a value, up to a limit, among those on which the attempt's caller may do an action, and counts those
// that may hold it, and cannot be opened because their master key is away.
func (s *Shelf) holding(a *chest.Attempt, action access.Action, except string, value secretvalue.Value, most int) (list []holding,
	closed int) {
	wanted := trimmed(value)
	candidates, err := s.records.Alike(a.St.Root().Likeness(wanted), len(wanted), mostAlike)
	if err != nil {
		s.heart.Log().Error("versions cannot be read", "error", err)
		return nil, 0
	}
	for _, one := range candidates {
		d := a.St.DrawerByID(one.Drawer)
		if d == nil || one.ID == except || len(list) == most {
			continue
		}
		it, err := a.St.Find(d, one.Name)
		if err != nil || it == nil || it.Row.ID != one.ID {
			continue
		}
		target := access.Request{Subject: a.Caller.ID, Action: action, Target: it.Target(d), Context: a.Caller.Context(a.Entry.At),
			Approval: it.ApprovalFor(a.St, d, a.Caller.ID, action, a.Entry.At)}
		kept, _ := it.Row.KeptFrom(a.St.Identity(a.Caller.ID).Kind)
		if !a.St.Policy.Decide(target).Allowed || action == access.ReadValue && kept != "" { // whom it is not shown, nothing is confirmed to
			continue
		}
		if d.Key() == nil {
			closed++
		} else if number := versionWith(a.St, d, it, value); number != 0 {
			list = append(list, holding{d, it, number})
		}
	}
	return list, closed
}

// SameValue lists versions of other items that hold a value and are served, among those on which the attempt's caller may do something,
// at most so many; each is put into the trail as compared with something. It counts those that may hold it and cannot be opened.
func (s *Shelf) SameValue(a *chest.Attempt, action access.Action, except string, value secretvalue.Value, most int,
	with string) (list []chest.Serving, closed int) {
	same, closed := s.holding(a, action, except, value, most)
	for _, h := range same {
		if h.Item.Life.Servable(h.Number, a.Entry.At) == nil {
			list = append(list, chest.Serving{Drawer: h.Drawer, Item: h.Item, Number: h.Number})
			comparedEqual(a, h, with)
		}
	}
	return list, closed
}

// comparedEqual records in the trail that an item was compared, and with what it is equal.
func comparedEqual(a *chest.Attempt, h holding, with string) {
	entry := a.Entry
	entry.Action, entry.Target, entry.Version, entry.Outcome, entry.Detail = compareValue, h.Drawer.Row.Name+"/"+h.Item.Row.Name, h.Number,
		trail.Allowed, "equal to "+with
	entry.ItemID, entry.DrawerID = h.Item.Row.ID, h.Drawer.Row.ID
	a.More = append(a.More, entry)
}

// versionWith is the newest version with a value, of an item without fields; 0 for none.
func versionWith(st *chest.Snapshot, d *chest.Drawer, it *chest.Item, value secretvalue.Value) int {
	for i := len(it.Versions) - 1; i >= 0; i-- {
		row := it.Versions[i]
		if row.ShreddedAt != 0 || row.Fields != "" {
			continue
		}
		content, err := st.Content(d, it, row.Number)
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

// guessing counts a comparison as a guess at each item that the caller may not read: a writer could store guesses and compare them.
func guessing(a *chest.Attempt, items map[reference.Reference]string) (limits []throttle.Limit, err error) {
	for ref, item := range items {
		if knows(a, ref) {
			continue
		}
		more, err := a.Guess(item)
		if err != nil {
			return limits, err
		}
		limits = append(limits, more...)
	}
	return limits, nil
}

// Same answers whether two references hold the same value, without showing it. It takes for each what comparing takes:
// the right to read it, or to write it.
func (s *Shelf) Same(c chest.Caller, ref, other reference.Reference) (same bool, err error) {
	first, item, err := s.toCompare(c, ref)
	if err != nil {
		return false, err
	}
	second, otherItem, err := s.toCompare(c, other)
	if err != nil {
		return false, err
	}
	limits, err := guessing(first, map[reference.Reference]string{ref: item, other: otherItem})
	if err != nil {
		return false, err
	}
	one, err := decrypt(first, ref, toCompare)
	if err != nil {
		return false, first.Fail(err)
	}
	defer one.Content.Wipe()
	two, err := decrypt(second, other, toCompare)
	if err != nil {
		return false, first.Fail(err)
	}
	defer two.Content.Wipe()
	first.Entry.Version, second.Entry.Version = one.Reference.Version, two.Reference.Version
	same = one.Content.Equal(two.Content)
	if same { // which tells a writer nothing but that they had written it
		first.Refund(limits)
	}
	for _, one := range []struct {
		a    *chest.Attempt
		with reference.Reference
	}{{first, other}, {second, ref}} {
		one.a.Entry.Detail = fmt.Sprintf("%s %s", map[bool]string{true: "equal to", false: "not equal to"}[same], one.with)
	}
	second.Entry.Outcome = trail.Allowed
	first.More = []trail.Entry{second.Entry}
	return chest.Reply(first, same)
}
