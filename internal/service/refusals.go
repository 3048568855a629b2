package service

import (
	"cmp"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// RefusalGroup is one question that was refused, however often it was asked.
type RefusalGroup struct {
	Subject string
	Owner   string // of the subject
	Action  string
	Target  string
	Reason  string // of the newest refusal
	Count   int
	First   time.Time
	Last    time.Time
	Receipt string // of the newest refusal
	Remedy  *Remedy
}

// mostRefusals bounds how many refusals are read to make groups of.
const mostRefusals = 20_000

// Refusals groups the refusals since a moment that are still refused now, newest first: the queue of a gatekeeper. It
// shows those about what the caller may grant on or read the trail of.
func (s *Service) Refusals(c Caller, since time.Time) (groups []RefusalGroup, err error) {
	a, err := s.allowOverview(c, overRefusals)
	if err != nil {
		return nil, err
	}
	ctx := c.context(a.entry.At)
	index, read := map[[3]string]int{}, 0
	err = s.records.Entries(store.Filter{Receipts: true, Since: since}, func(e trail.Entry) bool {
		key := [3]string{e.Subject, e.Action, e.Target}
		if n, known := index[key]; known {
			groups[n].Count += int(max(1, e.Count))
			groups[n].First = e.At
			groups[n].Receipt = cmp.Or(groups[n].Receipt, e.Receipt)
		} else if group, shown := s.group(c, e, ctx); shown {
			index[key] = len(groups)
			groups = append(groups, group)
		}
		read++
		return read < mostRefusals
	})
	if err != nil {
		return nil, a.fail(err)
	}
	return answer(a, groups)
}

// group begins a group with its newest refusal, if the caller may see it and it would be refused again.
func (s *Service) group(c Caller, e trail.Entry, ctx access.Context) (g RefusalGroup, shown bool) {
	r := Receipt{Entry: e}
	err := s.view(func(st *state) error {
		shown = e.Subject != unknown && e.Action != severalKinds && e.Reason != ownAccess && e.Reason != stewardOnly && !st.isDeclined(e) && (st.decideOn(e, c.id, access.GrantAccess, ctx).Allowed || st.decideOn(e, c.id, access.ReadTrail, ctx).Allowed)
		if shown {
			r.explain(st, ctx.Now)
			row, _ := st.identity(e.Subject)
			g.Owner = row.Owner
		}
		return nil
	})
	if err != nil || !shown || r.AllowedNow {
		return g, false
	}
	g.Subject, g.Action, g.Target, g.Reason, g.Count = e.Subject, e.Action, e.Target, e.Reason, int(max(1, e.Count))
	g.First, g.Last, g.Receipt, g.Remedy = e.At, e.At, e.Receipt, r.Remedy
	return g, true
}
