package rights

import (
	"cmp"
	"tansu/internal/chest"
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
	Remedy  *chest.Remedy
	MayGive bool // whether the caller may give the remedy
}

// mostRefusals bounds how many refusals are read to make groups of.
const mostRefusals = 20_000

// Refusals groups the refusals since a moment that are still refused now, newest first: the queue of a gatekeeper. It
// shows those about what the caller may grant on or read the trail of. What was refused of the chest as a whole, and questions about
// access, are in the trail and not here: what would allow them is far more than was wanted, and is asked for in words.
func (s *Rights) Refusals(c chest.Caller, since time.Time) (groups []RefusalGroup, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverRefusals)
	if err != nil {
		return nil, err
	}
	ask := asked{a: a, now: map[[3]string]bool{}}
	index, read := map[[3]string]int{}, 0
	err = s.records.Entries(store.Filter{Receipts: true, Since: since}, func(e trail.Entry) bool {
		key := [3]string{e.Subject, e.Action, e.Target}
		if n, known := index[key]; known {
			groups[n].Count += int(max(1, e.Count))
			groups[n].First = e.At
			groups[n].Receipt = cmp.Or(groups[n].Receipt, e.Receipt)
		} else if group, shown := ask.group(e); shown {
			index[key] = len(groups)
			groups = append(groups, group)
		}
		read++
		return read < mostRefusals && c.Ctx().Err() == nil
	})
	if err = cmp.Or(err, c.Ctx().Err()); err != nil {
		return nil, a.Fail(err)
	}
	return chest.Reply(a, groups)
}

// asked asks refused questions again, each once.
type asked struct {
	a   *chest.Attempt
	now map[[3]string]bool // which were found not to be shown
}

// group begins a group with its newest refusal, if the caller may see it and it would be refused again.
func (q *asked) group(e trail.Entry) (g RefusalGroup, shown bool) {
	key := [3]string{e.Subject, e.Action, e.Target}
	if q.now[key] {
		return g, false
	}
	st, c := q.a.St, q.a.Caller
	ctx := c.Context(q.a.Entry.At)
	_, declined := st.DeclinedFor(e.Subject, e.Action, e.Target)
	shown = e.Target != "" && e.Action != chest.AskAccess && e.Action != access.GrantAccess.String() &&
		e.Subject != chest.Unknown && e.Action != chest.SeveralKinds && e.Reason != chest.OwnAccess && e.Reason != chest.StewardOnly &&
		!declined &&
		(st.DecideOn(e, c.ID, access.GrantAccess, ctx).Allowed || st.DecideOn(e, c.ID, access.ReadTrail, ctx).Allowed)
	r := Receipt{Entry: e}
	if shown {
		r.ask(st, ctx.Now)
	}
	if !shown || r.AllowedNow {
		q.now[key] = true
		return g, false
	}
	row, _ := st.IdentityOf(e.Subject)
	g.Owner = row.Owner
	g.Subject, g.Action, g.Target, g.Reason, g.Count = e.Subject, e.Action, e.Target, e.Reason, int(max(1, e.Count))
	g.First, g.Last, g.Receipt, g.Remedy = e.At, e.At, e.Receipt, r.Remedy
	if r.Remedy != nil && e.Subject != c.Name {
		scope, err := access.ParseScope(r.Remedy.Scope)
		g.MayGive = err == nil && st.Policy.DecideScope(c.ID, access.GrantAccess, scope, ctx).Allowed
	}
	return g, true
}
