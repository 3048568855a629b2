package shelf

import (
	"cmp"
	"fmt"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/drawerkeys"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Rotation is how far the change of a drawer's key has come.
type Rotation struct {
	Key  int // the number of the key that new versions are under
	Left int // versions that are still under an older one
	Done bool
}

// rewrapped is how many versions are wrapped anew in one transaction: few enough that nobody waits long behind it.
const rewrapped = 500

// RotateKey gives a drawer another key and wraps the data keys of its versions under it, for at most as long as it is
// told to; called again, it goes on where it stopped, also after a restart. What the data keys encrypt stays as it is, and
// everything can be read and written meanwhile. When nothing is under the old key any more, it is destroyed. The new key is under the
// master key that has a name, with "" under none, and with nil as the one before.
func (s *Shelf) RotateKey(c chest.Caller, drawer string, under *string, budget time.Duration) (r Rotation, err error) {
	if err := chest.CheckName("drawer", drawer); err != nil {
		return r, err
	}
	if err := s.heart.Try(func() error { return s.beginRotation(c, drawer, under) }); err != nil {
		return r, err
	}
	var w wrapping
	for stop := time.Now().Add(budget); ; {
		err := s.heart.Try(func() error {
			r, err = s.rewrapSome(c, drawer, &w)
			return err
		})
		if err != nil || r.Done {
			return r, err
		}
		if time.Now().After(stop) {
			r.Left, err = s.leftUnder(drawer)
			return r, err
		}
	}
}

// wrapping is how far one call has come: the name of the last item that it looked at.
type wrapping struct{ after string }

// leftUnder counts the versions of a drawer that still are under an old key.
func (s *Shelf) leftUnder(drawer string) (left int, err error) {
	st, err := s.heart.Look()
	if err != nil || st.Drawer(drawer) == nil {
		return 0, err
	}
	for _, old := range st.Drawer(drawer).OldKeys() {
		count, err := s.records.CountUnder(old.Drawer, old.Number)
		if err != nil {
			return 0, err
		}
		left += count
	}
	return left, nil
}

func (s *Shelf) allowRotation(c chest.Caller, drawer string) (*chest.Attempt, *chest.Drawer, error) {
	a, err := s.heart.Allow(c, access.ChangeRules, drawer)
	if err != nil {
		return nil, nil, err
	}
	a.Entry.Action = "rotate_key"
	d := a.St.Drawer(drawer)
	if d == nil {
		return nil, nil, a.Fail(chest.Missing("drawer "+drawer, a.St.NearestDrawer(c, drawer, a.Entry.At)))
	}
	return a, d, nil
}

// beginRotation makes the new key, unless a rotation is under way.
func (s *Shelf) beginRotation(c chest.Caller, drawer string, under *string) error {
	a, d, err := s.allowRotation(c, drawer)
	if err != nil {
		return err
	}
	master := a.St.MasterOf(d)
	if under != nil {
		if master, err = protector(a, *under); err != nil {
			return a.Fail(err)
		}
		if err := a.Leaves(d, master.Row.ID); err != nil {
			return err
		}
	}
	if len(d.OldKeys()) > 0 {
		if master.Row.ID != d.KeyRow.Master {
			return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: "a rotation of the key of " + drawer +
				" is under way: let it finish first, without saying what the key is under"})
		}
		return nil
	}
	if _, err := a.St.OpenKey(d, d.KeyNumber); err != nil { // the old key has to be opened for it
		return a.Fail(err)
	}
	key := envelope.NewKey()
	defer key.Erase() // memory opens it again from what was stored
	row := drawerkeys.Wrap(a.St.Root(), master, entity.DrawerKey{Drawer: d.Row.ID, Number: d.KeyNumber + 1,
		CreatedAt: chest.Micros(a.Entry.At)}, key)
	a.Change.Insert(row)
	a.Entry.Detail = fmt.Sprintf("key %d", row.Number)
	if row.Master != "" {
		a.Entry.Detail += " under " + master.Row.Name
	}
	return a.Commit("drawer " + drawer)
}

// protector is the master key with a name that something new is to be under, and lets the attempt rest on it; the zero Master for no name.
func protector(a *chest.Attempt, name string) (m drawerkeys.Master, err error) {
	if name == "" {
		return m, nil
	}
	m, known := a.St.MasterNamed(name)
	switch {
	case !known:
		return m, chest.Invalid("master_key", "there is no master key named %.60q", name)
	case m.Key == nil:
		return m, chest.Invalid("master_key", "master key %s is not at hand: it was withdrawn, or not given since the chest was unlocked", name)
	}
	a.RestOnMaster(m.Row.ID)
	return m, nil
}

// rewrapSome wraps some versions anew, or, when none is left, destroys the old keys. What is sealed under the old key meanwhile rests
// on the drawer as it was before the rotation began, and is not stored.
func (s *Shelf) rewrapSome(c chest.Caller, drawer string, w *wrapping) (r Rotation, err error) {
	a, d, err := s.allowRotation(c, drawer)
	if err != nil {
		return r, err
	}
	r.Key = d.KeyNumber
	for _, old := range d.OldKeys() {
		for {
			was, last, err := s.records.WrappedUnder(d.Row.ID, old.Number, w.after, rewrapped)
			if err != nil {
				return r, a.Fail(err)
			}
			count, err := rewrapAll(a, d, old.Number, was)
			if err != nil {
				return r, a.Fail(err)
			}
			if count > 0 {
				a.Entry.Detail = fmt.Sprintf("key %d, %s", r.Key, reference.Counted(count, "version"))
				if err := a.Commit("drawer " + drawer); err != nil {
					return r, err
				}
				w.after = last
				return r, nil
			}
			if last == "" {
				break
			}
			w.after = last
		}
		// What was moved in before the place that this call began at, or added meanwhile, is under the new key: but it is counted again.
		if left, err := s.records.CountUnder(d.Row.ID, old.Number); err != nil || left > 0 {
			w.after = ""
			r.Left = left
			return r, err
		}
		w.after = ""
		destroyed := old
		destroyed.Wrapped = chest.NoKey
		a.Change.Update(old, destroyed)
	}
	a.Entry.Detail = fmt.Sprintf("key %d, finished", r.Key)
	if err := a.Commit("drawer " + drawer); err != nil {
		return r, err
	}
	r.Done = true
	s.forgetJournal()
	return r, nil
}

func rewrapAll(a *chest.Attempt, d *chest.Drawer, old int, items []store.Shelved) (count int, err error) {
	from, problem := a.St.OpenKey(d, old)
	to, err := a.St.OpenKey(d, d.KeyNumber)
	if err = cmp.Or(problem, err); err != nil {
		return 0, err
	}
	for _, it := range items {
		for _, v := range it.Versions {
			wrapped, err := envelope.RewrapVersion(from, to, a.St.Place(d, it.Item, v.Number), v.WrappedKey)
			if err != nil {
				return 0, err
			}
			after := v
			after.WrappedKey, after.DrawerKey = wrapped, d.KeyNumber
			a.Change.Update(v, after)
			count++
		}
	}
	return count, nil
}
