package service

import (
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// TrailPage is part of the trail, newest first. Next is the filter's Before for the page after it, 0 at the end.
type TrailPage struct {
	Entries []trail.Entry
	Next    uint64
}

// Trail lists entries that the filter selects and the caller may read: those about a drawer or item need the action
// read_trail there, all others need it on the chest.
func (s *Service) Trail(c Caller, f store.Filter, most int) (page TrailPage, err error) {
	a, err := s.allowOverview(c, overTrail)
	if err != nil {
		return page, err
	}
	may := s.mayReadEntry(c, access.ReadTrail)
	var failed error
	err = s.records.Entries(f, func(e trail.Entry) bool {
		allowed, err := may(e)
		if err != nil {
			failed = err
			return false
		}
		if !allowed {
			return true
		}
		if len(page.Entries) == most {
			page.Next = page.Entries[most-1].Seq
			return false
		}
		page.Entries = append(page.Entries, e)
		return true
	})
	if failed != nil {
		return TrailPage{}, failed
	}
	if err != nil {
		return TrailPage{}, a.fail(err)
	}
	return answer(a, page)
}

// mayReadEntry returns a function that decides for one entry.
func (s *Service) mayReadEntry(c Caller, action access.Action) func(trail.Entry) (bool, error) {
	now := s.now()
	return func(e trail.Entry) (allowed bool, err error) {
		err = s.view(func(st *state) error {
			allowed = st.decideOn(e, c.id, action, now).Allowed
			return nil
		})
		return allowed, err
	}
}

// decideOn decides whether a subject may do an action on what an entry is about: a whole scope when it is about giving
// access, else a drawer, an item or the chest.
func (st *state) decideOn(e trail.Entry, subject string, action access.Action, now time.Time) access.Decision {
	if scope, err := reference.ParsePattern(e.Target); err == nil && e.Action == access.GrantAccess.String() {
		return st.policy.DecideScope(subject, action, scope, now)
	}
	return st.policy.Decide(access.Request{Subject: subject, Action: action, Target: targetOf(e), Now: now})
}

// targetOf returns the segments of an entry's target: those of a drawer or item, none for everything else.
func targetOf(e trail.Entry) []string {
	segments := strings.Split(e.Target, "/")
	if len(segments) > 2 {
		return nil
	}
	for _, segment := range segments {
		if reference.CheckName(segment) != nil {
			return nil
		}
	}
	return segments
}

// Receipt is what is known of one refusal.
type Receipt struct {
	Entry      trail.Entry
	AllowedNow bool    // whether the same question would be answered with yes now
	GrantNow   string  // the grant that allows it now
	Remedy     *Remedy // the smallest grant that would allow it; nil when none would, or none is needed any more
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
	if err := s.explain(&r); err != nil {
		return Receipt{}, err
	}
	return answer(a, r)
}

// explain asks the refused question again, now.
func (s *Service) explain(r *Receipt) error {
	return s.view(func(st *state) error {
		var decision access.Decision
		subject := st.subjects[r.Entry.Subject]
		if action, known := access.ParseAction(r.Entry.Action); known && (r.Entry.Target != "" || action&(access.Register|access.Operate) != 0) {
			decision = st.decideOn(r.Entry, subject, action, s.now())
			r.Remedy = remedyFor(r.Entry.Subject, action, r.Entry.Target)
		}
		for _, o := range overviews {
			if o.name == r.Entry.Action {
				decision = st.policy.Anywhere(subject, o.actions, s.now())
				r.Remedy = o.remedy(r.Entry.Subject)
			}
		}
		r.AllowedNow, r.GrantNow = decision.Allowed, decision.Grant
		if decision.Allowed || decision.Reason == access.Denied {
			r.Remedy = nil
		}
		return nil
	})
}
