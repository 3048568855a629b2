package ends

import (
	"cmp"
	"slices"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"time"
)

// DueItems lists the items of which nothing is served, or the served version ends within a span and no other follows by
// itself, as far as the caller may list them; what ended first comes first.
func (e *Ends) DueItems(c chest.Caller, within time.Duration) (list []chest.Due, err error) {
	if within < 0 || within > 3660*24*time.Hour {
		return nil, chest.Invalid("within", "within is not between 0 and ten years")
	}
	a, err := e.heart.AllowOverview(c, chest.OverDrawers)
	if err != nil {
		return nil, err
	}
	a.Entry.Detail = "what is due"
	if err := a.CountReads(); err != nil {
		return nil, a.Fail(err)
	}
	if list, err = dueItems(a, within); err != nil {
		return nil, a.Fail(err)
	}
	return chest.Reply(a, list)
}

// dueItems lists what is due to an attempt's caller.
func dueItems(a *chest.Attempt, within time.Duration) (list []chest.Due, err error) {
	mayList := func(d *chest.Drawer) bool { return a.St.Touches(a.Caller.ID, access.List, d.Row.Name) }
	err = a.EachDue(within, mayList, func(d *chest.Drawer, it *chest.Item) bool {
		if due, is := it.Due(a.Entry.At, within); is && a.St.MayList(a.Caller, d, it, a.Entry.At) {
			due.Reference, due.Owner = d.Row.Name+"/"+it.Row.Name, cmp.Or(it.Row.Owner, d.Row.Owner)
			list = append(list, due)
		}
		return true
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(list, func(x, y chest.Due) int {
		return cmp.Or(cmp.Compare(rank(x), rank(y)), x.NotAfter.Compare(y.NotAfter), cmp.Compare(x.Reference, y.Reference))
	})
	return list, nil
}

// rank puts what is not served any more before what will not be.
func rank(d chest.Due) int {
	if d.State == chest.DueState {
		return 1
	}
	return 0
}
