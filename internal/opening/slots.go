package opening

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/shares"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// opened is what some material opened: a slot, the unlock key in it, and the root key under that.
type opened struct {
	slot   entity.Slot
	unlock *envelope.Key
	root   *envelope.Root
	seals  store.Seals // as they are stored

	// Of a chest from before there were unlock keys: what is to be sealed under the material when it is used for the first time.
	firstForm bool
	material  secretvalue.Value
	chest     string
}

// erase forgets the unlock key. The root key is its caller's.
func (o opened) erase() {
	if o.unlock != nil {
		o.unlock.Erase()
	}
}

// slots reads the unlock methods that have not ended, and the chest that they open.
func (s *Opening) slots() (list []entity.Slot, row store.Chest, err error) {
	if row, err = s.records.Chest(); err == nil {
		list, _, err = s.records.Slots()
	}
	return inTime(list, s.heart.Now()), row, err
}

func inTime(slots []entity.Slot, now time.Time) []entity.Slot {
	return slices.DeleteFunc(slots, func(slot entity.Slot) bool { return ended(slot, now) })
}

func ended(slot entity.Slot, now time.Time) bool {
	return slot.NotAfter != 0 && chest.Micros(now) >= slot.NotAfter
}

func slotOf(row entity.Slot) envelope.Slot {
	return envelope.Slot{Method: row.Method, Salt: row.Salt, Wrapped: row.Wrapped,
		Costs: envelope.Stretch{Passes: row.Passes, Memory: row.Memory, Threads: row.Threads}}
}

// mostSlots is how many unlock methods a chest has at once: each wrong passphrase is tried on all that are passphrases.
const mostSlots = 8

// openWith tries some material on all slots of its method. What opens none is [envelope.ErrWrongMaterial].
func openWith(row store.Chest, slots []entity.Slot, method string, material secretvalue.Value) (o opened, err error) {
	tried := 0
	for _, slot := range slots {
		if slot.Method != method || tried == mostSlots {
			continue
		}
		tried++
		o = opened{slot: slot, seals: row.Seals, chest: row.ID}
		if len(row.RootWrapped) == 0 {
			o.root, err = slotOf(slot).OpenFirstForm(row.ID, material)
			o.firstForm, o.material = true, material
		} else if o.unlock, err = slotOf(slot).Open(row.ID, material); err == nil {
			o.root, err = envelope.OpenRoot(row.ID, o.unlock, row.RootWrapped, row.BaseSealed)
		}
		if !errors.Is(err, envelope.ErrWrongMaterial) {
			return o, err
		}
	}
	return opened{}, envelope.ErrWrongMaterial
}

// used adds to an attempt that the slot was used, and gives a chest of the first form its unlock key.
func (o opened) used(a *chest.Attempt) error {
	after := o.slot
	after.UsedAt = chest.Micros(a.Entry.At)
	if o.firstForm {
		unlock := envelope.NewKey()
		defer unlock.Erase()
		slot, err := envelope.NewSlot(o.chest, unlock, o.slot.Method, o.material,
			envelope.Stretch{Passes: o.slot.Passes, Memory: o.slot.Memory, Threads: o.slot.Threads})
		if err != nil {
			return err
		}
		after.Salt, after.Wrapped = slot.Salt, slot.Wrapped
		a.Change.Seals = &store.Seals{RootWrapped: envelope.WrapRoot(unlock, o.root), BaseSealed: []byte{},
			AuthoritySealed: o.seals.AuthoritySealed}
	}
	a.Change.Update(o.slot, after)
	return nil
}

// setOf reads what is public of a slot's shares; the zero set if it has none.
func setOf(slot entity.Slot) (set shares.Set, err error) {
	if slot.Shares == "" {
		return set, nil
	}
	if err := json.Unmarshal([]byte(slot.Shares), &set); err != nil {
		return set, fmt.Errorf("read what is stored of the shares of %s: %w", slot.Name, err)
	}
	return set, nil
}

// rowOf is the row of a new slot.
func rowOf(id, name string, slot envelope.Slot, now time.Time, by string) entity.Slot {
	return entity.Slot{ID: id, Name: name, Method: slot.Method, Salt: slot.Salt, Passes: slot.Costs.Passes, Memory: slot.Costs.Memory,
		Threads: slot.Costs.Threads, Wrapped: slot.Wrapped, CreatedAt: chest.Micros(now), CreatedBy: by}
}
