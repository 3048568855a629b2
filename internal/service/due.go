package service

import (
	"cmp"
	"slices"
	"time"

	"tansu/internal/core/lifecycle"
	"tansu/internal/store"
)

// Due is an item that somebody has to look at.
type Due struct {
	Reference string
	Owner     string // of the item, or else of its drawer
	State     string // "due" while something is served until NotAfter, else a state of lifecycle: nothing is served
	Version   int    // that is served until NotAfter; 0 when none is
	NotAfter  time.Time
	Next      time.Time // when the next version begins by itself; zero for never
}

// DueItems lists the items of which nothing is served, or the served version ends within a span and no other follows by
// itself, as far as the caller may list them; what ended first comes first.
func (s *Service) DueItems(c Caller, within time.Duration) (list []Due, err error) {
	if within < 0 || within > 3660*24*time.Hour {
		return nil, invalid("within", "within is not between 0 and ten years")
	}
	a, err := s.allowOverview(c, overDrawers)
	if err != nil {
		return nil, err
	}
	a.entry.Detail = "what is due"
	if err := s.countReads(); err != nil {
		return nil, a.fail(err)
	}
	err = s.view(func(st *state) error {
		for name, d := range st.drawers {
			until, since := d.candidates(a.entry.At, within)
			err := st.each(d, store.ItemFilter{ServedUntil: until, ServedSince: since}, func(it *item) bool {
				if due, is := it.due(a.entry.At, within); is && st.mayList(c, d, it, a.entry.At) {
					due.Reference, due.Owner = name+"/"+it.row.Name, cmp.Or(it.row.Owner, d.row.Owner)
					list = append(list, due)
				}
				return true
			})
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, a.fail(err)
	}
	slices.SortFunc(list, func(x, y Due) int {
		return cmp.Or(cmp.Compare(btoi(x.State == dueState), btoi(y.State == dueState)), x.NotAfter.Compare(y.NotAfter), cmp.Compare(x.Reference, y.Reference))
	})
	return answer(a, list)
}

const dueState = "due"

// due says whether somebody has to look at an item. One that is retired is meant to serve nothing.
func (it *item) due(now time.Time, within time.Duration) (d Due, is bool) {
	if len(it.life.Versions) == 0 || !it.life.RetiredAt.IsZero() {
		return d, false
	}
	current, err := it.life.Current(now)
	if closed, ok := err.(*lifecycle.NotServable); ok {
		newest := len(it.life.Versions)
		return Due{State: string(closed.State), NotAfter: it.life.Ends(newest, now), Next: closed.From}, true
	}
	stops, is := it.life.Due(now, within)
	d = Due{State: dueState, Version: current, NotAfter: stops}
	if it.life.VersionAt(current, now) == lifecycle.Grace {
		d.State = string(lifecycle.Grace)
	}
	return d, is
}
