package opening

import (
	"errors"
	"fmt"
	"strings"

	"tansu/internal/chest"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/store"
)

// Taken is a version out of a chest that no service runs on.
type Taken struct {
	Reference   reference.Reference // with the version
	Shape       secretvalue.Shape
	Description string
	Content     secretvalue.Value  // of a text
	Fields      secretvalue.Fields // of another shape
}

// TakeOut gives versions out of a chest that no service runs on, such as one that was made of a backup, to whoever holds what opens it: of
// each item that is named the version that is named, or the newest, and of each drawer that is named the newest version of each item.
func (s *Opening) TakeOut(material secretvalue.Value, names []string) (list []Taken, err error) {
	err = s.stopped(material, func(_ *envelope.Root, st *chest.Snapshot) error {
		if st == nil {
			return errors.New("rows were changed outside Tansu: tansu examine names them")
		}
		for _, name := range names {
			taken, err := takeOut(st, name)
			if err != nil {
				return err
			}
			list = append(list, taken...)
		}
		return nil
	})
	return list, err
}

func takeOut(st *chest.Snapshot, name string) (list []Taken, err error) {
	if strings.Contains(name, "/") {
		ref, err := reference.Parse(name)
		if err != nil {
			return nil, err
		}
		d, it, err := st.ReadItem(ref)
		if err != nil {
			return nil, err
		}
		one, err := version(st, d, it, ref.Version)
		return []Taken{one}, err
	}
	d := st.Drawer(name)
	if d == nil {
		return nil, chest.Missing("drawer "+name, "")
	}
	failed := st.Each(d, store.ItemFilter{}, func(it *chest.Item) bool {
		var one Taken
		if it.Row.RetiredAt != 0 {
			return true
		}
		if one, err = version(st, d, it, 0); err == nil {
			list = append(list, one)
		}
		return err == nil
	})
	return list, errors.Join(err, failed)
}

func version(st *chest.Snapshot, d *chest.Drawer, it *chest.Item, number int) (taken Taken, err error) {
	for n := len(it.Versions); number == 0 && n > 0; n-- {
		if it.Versions[n-1].ShreddedAt == 0 {
			number = n
		}
	}
	ref := reference.Reference{Drawer: d.Row.Name, Item: it.Row.Name, Version: number}
	taken = Taken{Reference: ref, Shape: secretvalue.Shape(it.Row.Shape), Description: it.Row.Description}
	if number == 0 || number > len(it.Versions) || it.Versions[number-1].ShreddedAt != 0 {
		return taken, fmt.Errorf("%s is not in the backup", taken.Reference)
	}
	content, err := st.Content(d, it, number)
	if err != nil {
		return taken, fmt.Errorf("%s cannot be opened: %w", taken.Reference, err)
	}
	if taken.Shape == secretvalue.Key {
		given, err := cryptokey.Given(cryptokey.Type(it.Row.KeyType), content)
		taken.Shape, taken.Content = secretvalue.Text, secretvalue.New(given)
		return taken, err
	}
	if taken.Shape == "" {
		taken.Shape = secretvalue.Text
	}
	if taken.Shape.Plain() {
		taken.Content = secretvalue.New(content)
		return taken, nil
	}
	taken.Fields, err = secretvalue.Decode(content)
	return taken, err
}
