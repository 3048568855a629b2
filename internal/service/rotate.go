package service

import (
	"fmt"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/store"
)

// oldKey is a key of a drawer in whose place another has come.
type oldKey struct {
	key *envelope.Key
	row store.DrawerKey
}

// rotate puts a key in the place of the one that new versions are wrapped under.
func (d *drawer) rotate(key *envelope.Key, row store.DrawerKey) {
	if d.key != nil {
		if d.old == nil {
			d.old = map[int]oldKey{}
		}
		d.old[d.keyNumber] = oldKey{d.key, d.keyRow}
	}
	d.key, d.keyNumber, d.keyRow = key, row.Number, row
}

// keyOf is the key with a number.
func (d *drawer) keyOf(number int) *envelope.Key {
	if old, is := d.old[number]; is {
		return old.key
	}
	return d.key
}

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
// everything can be read and written meanwhile. When nothing is under the old key any more, it is destroyed.
func (s *Service) RotateKey(c Caller, drawer string, budget time.Duration) (r Rotation, err error) {
	if err := checkName("drawer", drawer); err != nil {
		return r, err
	}
	a, err := s.allow(c, access.ChangeRules, drawer)
	if err != nil {
		return r, err
	}
	a.entry.Action = "rotate_key"
	if err := s.beginRotation(c, a, drawer); err != nil {
		return r, err
	}
	for stop := time.Now().Add(budget); ; {
		if r, err = s.rewrapSome(a, drawer); err != nil || r.Done || time.Now().After(stop) {
			return r, err
		}
	}
}

// beginRotation makes the new key, unless a rotation is under way.
func (s *Service) beginRotation(c Caller, a *attempt, drawer string) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	key := envelope.NewKey()
	var row store.DrawerKey
	underWay := false
	err := s.view(func(st *state) error {
		d := st.drawers[drawer]
		if d == nil {
			return notFound("drawer "+drawer, s.nearestDrawer(st, c, drawer, a.entry.At))
		}
		underWay = len(d.old) > 0
		number := d.keyNumber + 1
		row = store.DrawerKey{ID: fmt.Sprintf("%s/%d", d.row.ID, number), Drawer: d.row.ID, Number: number, CreatedAt: micros(a.entry.At),
			Wrapped: st.root.WrapDrawerKey(d.row.ID, number, key)}
		return nil
	})
	if err != nil {
		return a.fail(err)
	}
	if underWay {
		return nil
	}
	a.entry.Detail = fmt.Sprintf("key %d", row.Number)
	return a.change("drawer "+drawer, func(tx *store.Tx) (err error) { row, err = store.Insert(tx, row); return err },
		func(st *state) { st.drawers[drawer].rotate(key, row) })
}

// rewrapSome wraps some versions anew, or, when none is left, destroys the old keys.
func (s *Service) rewrapSome(a *attempt, drawer string) (r Rotation, err error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	s.keys.Lock() // what is counted as under the old key is all there is
	defer s.keys.Unlock()
	var was, becomes []store.Version
	var ended []oldKey
	err = s.view(func(st *state) error {
		d := st.drawers[drawer]
		if d == nil {
			return notFound("drawer "+drawer, "")
		}
		r.Key = d.keyNumber
		for number, old := range d.old {
			if was, r.Left, err = s.records.WrappedUnder(d.row.ID, number, rewrapped); err != nil {
				return err
			}
			if len(was) == 0 {
				ended = append(ended, old)
				continue
			}
			becomes, err = s.rewrapAll(d, old.key, was)
			return err
		}
		return nil
	})
	if err != nil {
		return r, a.fail(err)
	}
	if len(was) == 0 {
		return s.endRotation(a, drawer, r.Key, ended)
	}
	r.Left -= len(was)
	a.entry.Detail = fmt.Sprintf("key %d, %d versions left", r.Key, r.Left)
	return r, a.change("drawer "+drawer, func(tx *store.Tx) error {
		for i := range becomes {
			if _, err := store.Update(tx, was[i], becomes[i]); err != nil {
				return err
			}
		}
		return nil
	}, func(st *state) { st.items.forgetDrawer(st.drawers[drawer]) })
}

func (s *Service) rewrapAll(d *drawer, old *envelope.Key, versions []store.Version) ([]store.Version, error) {
	becomes := make([]store.Version, len(versions))
	for i, v := range versions {
		place := s.place(d, store.Item{ID: v.Item, Kind: kindSecret}, v.Number)
		wrapped, err := envelope.RewrapVersion(old, d.key, place, v.WrappedKey)
		if err != nil {
			return nil, err
		}
		becomes[i] = v
		becomes[i].WrappedKey, becomes[i].DrawerKey = wrapped, d.keyNumber
	}
	return becomes, nil
}

// endRotation destroys keys that nothing is under any more.
func (s *Service) endRotation(a *attempt, drawer string, key int, ended []oldKey) (Rotation, error) {
	r := Rotation{Key: key, Done: true}
	a.entry.Detail = fmt.Sprintf("key %d, finished", key)
	err := a.change("drawer "+drawer, func(tx *store.Tx) error {
		for _, old := range ended {
			destroyed := old.row
			destroyed.Wrapped = noKey
			if _, err := store.Update(tx, old.row, destroyed); err != nil {
				return err
			}
		}
		return nil
	}, func(st *state) {
		for _, old := range ended {
			delete(st.drawers[drawer].old, old.row.Number)
			old.key.Erase()
		}
	})
	if err != nil {
		return r, err
	}
	if err := s.records.ForgetJournal(); err != nil {
		s.options.Log.Warn("the old key may still be in the journal", "error", err)
	}
	return r, nil
}
