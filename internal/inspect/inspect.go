// Package inspect opens values to see whether they are what was stored. Nobody is shown them.
package inspect

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/entity"
	"tansu/internal/pace"
	"tansu/internal/store"
)

// Records is where the ciphertexts are.
type Records interface {
	Content(version string) ([]byte, error)
	ItemByID(id string) (store.Shelved, error)
}

// Contents opens every value that is stored, and names those that do not open: what was destroyed, or put where it does not
// belong; at most so many. It says where it could not look, because a master key is not at hand.
func Contents(ctx context.Context, st *chest.Snapshot, records Records, most int) (damaged, unseen []string, err error) {
	for _, d := range st.Drawers() {
		closed := 0
		var why error
		err := st.Each(d, store.ItemFilter{}, func(it *chest.Item) bool {
			for _, v := range it.Versions {
				if v.ShreddedAt != 0 {
					continue
				}
				if _, shut := st.OpenKey(d, v.DrawerKey); shut != nil {
					closed, why = closed+1, shut
				} else if !opens(st, records, d, it, v) && len(damaged) < most {
					damaged = append(damaged, fmt.Sprintf("the value of version %d of %s/%s is not what was stored", v.Number, d.Row.Name, it.Row.Name))
				}
			}
			pace.Rest(ctx)
			return ctx.Err() == nil && len(damaged) < most
		})
		if err = cmp.Or(err, ctx.Err()); err != nil {
			return damaged, unseen, err
		}
		if known := (*chest.Error)(nil); errors.As(why, &known) {
			unseen = append(unseen, fmt.Sprintf("%d values were not looked at: %s", closed, known.Detail))
		}
	}
	return damaged, unseen, nil
}

// mostSampled is how many values are tried.
const mostSampled = 8

// Sample opens values of some items, the first of some drawers, until one opens. It returns how many it tried, and how many opened.
func Sample(st *chest.Snapshot, records Records) (tried, opened int) {
	for _, d := range st.Drawers() {
		err := st.Each(d, store.ItemFilter{}, func(it *chest.Item) bool {
			for _, v := range it.Versions {
				if _, shut := st.OpenKey(d, v.DrawerKey); v.ShreddedAt != 0 || shut != nil {
					continue
				}
				tried++
				if found, err := st.Find(d, it.Row.Name); err == nil && found != nil && opens(st, records, d, found, v) { // as a read finds it
					opened++
				}
				return false
			}
			return tried < mostSampled
		})
		if err != nil { // its rows cannot be read, or are not as they were stored
			tried++
		}
		if opened > 0 || tried >= mostSampled {
			break
		}
	}
	return tried, opened
}

// opens reports whether the content of a version is what was stored, or the version is another one meanwhile.
func opens(st *chest.Snapshot, records Records, d *chest.Drawer, it *chest.Item, v entity.Version) bool {
	ciphertext, err := records.Content(v.ID)
	if err == nil {
		var opener *envelope.Opener
		if opener, err = envelope.NewOpener(d.KeyOf(v.DrawerKey), st.Place(d, it.Row, v.Number), v.WrappedKey); err == nil {
			_, err = opener.Open(ciphertext)
		}
	}
	if err == nil {
		return true
	}
	now, lost := records.ItemByID(it.Row.ID)
	return lost == nil && (now.Item.Drawer != it.Row.Drawer || len(now.Versions) < v.Number || now.Versions[v.Number-1].Revision != v.Revision)
}
