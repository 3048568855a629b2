package service

import (
	"fmt"
	"net/netip"
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
	Declined      string  // the last answer, if it was a no; empty for none
	Remedy        *Remedy // the smallest grant that would allow it; nil when none would, or none is needed any more
	// Considered are the subject's grants, nearest first, and what kept each from allowing the question as it was asked.
	Considered []Considered
}

// Considered is a grant held against a question.
type Considered struct {
	Grant Grant
	Miss  string // what did not fit, in a sentence; empty when it fits
}

// Receipt explains a refusal to the one who was refused, to who may grant on its target, and to who reads the trail
// there. For anyone else it does not exist.
func (s *Service) Receipt(c Caller, id string) (r Receipt, err error) {
	a := s.attempt(c, "see_receipt", "")
	var found bool
	err = s.records.Entries(store.Filter{Receipt: id}, func(e trail.Entry) bool {
		r.Entry, found = e, true
		return false
	})
	if err != nil {
		return r, a.fail(err)
	}
	if found {
		a.entry.Target = r.Entry.Target
		found, err = s.mayReadEntry(c, access.GrantAccess)(r.Entry)
		if err == nil && !found {
			found, err = s.mayReadEntry(c, access.ReadTrail)(r.Entry)
		}
		if err != nil {
			return Receipt{}, err
		}
	}
	if !found && (r.Entry.Subject != c.name || c.name == unknown) {
		a.entry.Target = ""
		return Receipt{}, a.fail(notFound("receipt "+id+" that you may see", ""))
	}
	if err := s.view(func(st *state) error { r.explain(st, s.now()); return nil }); err != nil {
		return Receipt{}, err
	}
	return answer(a, r)
}

// explain asks the refused question again, now and as it was asked.
func (r *Receipt) explain(st *state, now time.Time) {
	subject := st.subjects[r.Entry.Subject]
	r.Description, r.Owner = st.identities[subject].Description, st.identities[subject].Owner
	asked := r.asked()
	current := asked
	current.Now = now
	if r.Entry.Reason == ownAccess || r.Entry.Reason == stewardOnly {
		return // no grant decides it
	}
	var decision access.Decision
	action, known := access.ParseAction(r.Entry.Action)
	switch r.Entry.Action {
	case askAccess:
		action, known = access.ReadTrail, true // granting there would do as well, and gives more
	case compareValue:
		action, known = access.WriteVersion, true // as reading would
	}
	if known && (r.Entry.Target != "" || action&(access.Register|access.Operate) != 0) {
		decision = st.decideOn(r.Entry, subject, action, current)
		r.Remedy = st.remedyFor(r.Entry.Subject, action, r.Entry.Target)
		r.Considered = st.considered(st.request(subject, action, asked, targetOf(r.Entry.Target)...), now)
	}
	if r.Entry.Action == overPolicy.name {
		decision = st.policy.DecideScope(subject, overPolicy.actions, everything, current)
		r.Remedy = st.remedyFor(r.Entry.Subject, access.ReadTrail, "")
	}
	for _, o := range overviews {
		if o.name == r.Entry.Action {
			decision = st.policy.Anywhere(subject, o.actions, current)
			r.Remedy = o.remedy(st, r.Entry.Subject)
		}
	}
	r.AllowedNow, r.GrantNow, r.NeedsApproval = decision.Allowed, decision.Grant, decision.Reason == access.ApprovalNeeded
	if last, declined := st.declinedFor(subject, r.Entry.Action, r.Entry.Target); declined {
		r.Declined = noText(last)
	}
	if decision.Allowed || !decision.Reason.Grantable() {
		r.Remedy = nil
	}
	if !decision.Allowed {
		r.GrantNow = ""
	}
}

// asked is the context in which the refused question was asked.
func (r *Receipt) asked() access.Context {
	addr, _ := netip.ParseAddr(r.Entry.Addr) // what is no address is in no network
	return access.Context{Now: r.Entry.At, Addr: addr, Via: r.Entry.Via, Reason: r.Entry.Stated}
}

// considered describes how a subject's grants fare, those first that come nearest.
func (st *state) considered(request access.Request, now time.Time) (list []Considered) {
	_, all := st.policy.Explain(request)
	for _, c := range all {
		list = append(list, Considered{Grant: describeGrant(st, st.grants[c.Grant.ID]).inForce(now), Miss: c.Reason})
	}
	return list
}

// noText says an answer that was a no.
func noText(r store.Request) string {
	return fmt.Sprintf("%s said no on %s: %s", r.AnsweredBy, fromMicros(r.AnsweredAt).Format("2006-01-02"), r.Answer)
}
