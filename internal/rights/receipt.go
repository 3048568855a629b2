package rights

import (
	"net/netip"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// Receipt is what is known of one refusal.
type Receipt struct {
	Entry       trail.Entry
	Description string // of who was refused
	Owner       string // who answers for them
	AllowedNow  bool   // whether the same question would be answered with yes now
	GrantNow    string // the grant that allows it now
	// NeedsApproval says that a grant allows it, and a second person has to agree.
	NeedsApproval bool
	Declined      string        // the last answer, if it was a no; empty for none
	Remedy        *chest.Remedy // the smallest grant that would allow it; nil when none would, or none is needed any more
	// Considered are the subject's grants, nearest first, and what kept each from allowing the question as it was asked.
	Considered []Considered
}

// Considered is a grant held against a question.
type Considered struct {
	Grant chest.GrantInfo
	Miss  string // what did not fit, in a sentence; empty when it fits
}

// Receipt explains a refusal to the one who was refused, to whoever may grant on its target, and to whoever reads the trail
// there. For anyone else it does not exist.
func (s *Rights) Receipt(c chest.Caller, id string) (r Receipt, err error) {
	a := s.heart.Attempt(c, "see_receipt", "")
	if err := a.Err(); err != nil {
		return r, err
	}
	var found bool
	err = s.records.Entries(store.Filter{Receipt: id}, func(e trail.Entry) bool {
		r.Entry, found = e, true
		return false
	})
	if err != nil {
		return r, a.Fail(err)
	}
	if found {
		a.Entry.Target = r.Entry.Target
		found = a.MayReadEntry(access.GrantAccess)(r.Entry) || a.MayReadEntry(access.ReadTrail)(r.Entry)
	}
	if !found && (r.Entry.Subject != c.Name || c.Name == chest.Unknown) {
		a.Entry.Target = ""
		return Receipt{}, a.Fail(chest.Missing("receipt "+id+" that you may see", ""))
	}
	r.explain(a.St, a.Caller, a.Entry.At)
	return chest.Reply(a, r)
}

// explain asks the refused question again, now and as it was asked, and says how the subject's grants fare.
func (r *Receipt) explain(st *chest.Snapshot, c chest.Caller, now time.Time) {
	if request, is := r.ask(st, now); is {
		r.Considered = considered(st, c, request, now)
	}
}

// ask asks the refused question again, now, and returns it as it was asked, if it is one that grants decide about.
func (r *Receipt) ask(st *chest.Snapshot, now time.Time) (request access.Request, is bool) {
	row, _ := st.IdentityOf(r.Entry.Subject)
	subject := row.ID
	r.Description, r.Owner = row.Description, row.Owner
	asked := r.asked()
	current := asked
	current.Now = now
	if r.Entry.Reason == chest.OwnAccess || r.Entry.Reason == chest.StewardOnly {
		return request, false // no grant decides it
	}
	var decision access.Decision
	action, known := access.ParseAction(r.Entry.Action)
	switch r.Entry.Action {
	case chest.AskAccess:
		action, known = access.ReadTrail, true // granting there would do as well, and gives more
	case compareValue:
		action, known = access.WriteVersion, true // as reading would
	}
	if known && (r.Entry.Target != "" || action&(access.Register|access.Operate) != 0) {
		decision = st.DecideOn(r.Entry, subject, action, current)
		r.Remedy = st.RemedyFor(r.Entry.Subject, action, r.Entry.Target)
		request, is = st.Question(subject, action, asked, chest.TargetOf(r.Entry.Target)...), true
	}
	if r.Entry.Action == chest.OverPolicy.Name {
		decision = st.Policy.DecideScope(subject, chest.OverPolicy.Actions, chest.Everything, current)
		r.Remedy = st.RemedyFor(r.Entry.Subject, access.ReadTrail, "")
	}
	for _, o := range chest.Overviews {
		if o.Name == r.Entry.Action {
			decision = st.Policy.Anywhere(subject, o.Actions, current)
			r.Remedy = o.Remedy(st, r.Entry.Subject)
		}
	}
	r.AllowedNow, r.GrantNow, r.NeedsApproval = decision.Allowed, decision.Grant, decision.Reason == access.ApprovalNeeded
	if last, declined := st.DeclinedFor(r.Entry.Subject, r.Entry.Action, r.Entry.Target); declined {
		r.Declined = chest.NoText(last)
	}
	if decision.Allowed || !decision.Reason.Grantable() {
		r.Remedy = nil
	}
	if !decision.Allowed {
		r.GrantNow = ""
	}
	return request, is
}

// asked is the context in which the refused question was asked.
func (r *Receipt) asked() access.Context {
	addr, _ := netip.ParseAddr(r.Entry.Addr) // what is no address is in no network
	return access.Context{Now: r.Entry.At, Addr: addr, Via: r.Entry.Via, Reason: r.Entry.Stated}
}

// mostConsidered bounds how many grants a refusal is explained by: those that come nearest.
const mostConsidered = 100

// considered describes how a subject's grants fare, those first that come nearest: those that are about the target, and of the others
// those that the caller may know of.
func considered(st *chest.Snapshot, c chest.Caller, request access.Request, now time.Time) (list []Considered) {
	_, all := st.Policy.Explain(request)
	for _, one := range all {
		if len(list) == mostConsidered {
			break
		}
		row := st.Grant(one.Grant.ID)
		if one.Grant.Scope.Matches(request.Target) || st.KnowsGrant(c, row, now) {
			list = append(list, Considered{Grant: st.DescribeGrant(row, now), Miss: one.Reason})
		}
	}
	return list
}
