package service

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// Kinds of request.
const (
	requestGrant = "grant" // asks for a grant
	requestRead  = "read"  // asks that one item may be read for a while, where its drawer's rules want a second person
	requestShred = "shred" // asks that something may be shredded, where its drawer's rules want a second person
)

// States of a request.
const (
	requestOpen      = "open"
	requestAllowed   = "allowed"
	requestDeclined  = "declined"
	requestWithdrawn = "withdrawn"
)

// Bounds of a read that a second person has agreed to.
const (
	readApproval     = time.Hour
	longestApproval  = 24 * time.Hour
	mostOpenRequests = 20 // of one asker
)

// Request is what somebody asks somebody else to allow, and the answer.
type Request struct {
	ID         string
	Kind       string
	Asker      string
	Subject    string // for whom
	Action     string
	Target     string // a scope for a grant, an item for a read
	Reason     string
	Receipt    string // of the refusal that it began with; empty for none
	Grant      *NewGrant
	State      string
	Answer     string
	AnsweredAt time.Time
	AnsweredBy string
	GrantID    string    // the grant that was given
	Until      time.Time // how long a read is allowed
	CreatedAt  time.Time
}

// NewRequest asks for what a receipt says was refused, or for a grant. It has one of the two.
type NewRequest struct {
	Receipt string
	Grant   *NewGrant
	Reason  string
}

// Answer to a request.
type Answer struct {
	Allow   bool
	Because string    // needed for a no
	Until   time.Time // the end of the grant or the read; zero for 90 days or an hour
}

func describeRequest(st *state, row store.Request) Request {
	n, _ := proposalOf(row) // checked when it was stored
	return Request{ID: row.ID, Kind: row.Kind, Asker: subjectOf(st.identities[row.Asker]), Subject: subjectOf(st.identities[row.Subject]),
		Action: row.Action, Target: row.Target, Reason: row.Reason, Receipt: row.Receipt, Grant: n, State: row.State, Answer: row.Answer,
		AnsweredAt: fromMicros(row.AnsweredAt), AnsweredBy: row.AnsweredBy, GrantID: row.GrantID, Until: fromMicros(row.Until), CreatedAt: fromMicros(row.CreatedAt)}
}

// proposalOf reads the grant that a request asks for; nil when it asks for none.
func proposalOf(row store.Request) (*NewGrant, error) {
	if row.Proposal == "" {
		return nil, nil
	}
	var n NewGrant
	err := json.Unmarshal([]byte(row.Proposal), &n)
	return &n, err
}

// scopeOf is the scope on which the answer to a request is given.
func scopeOf(row store.Request) (access.Scope, error) {
	if n, err := proposalOf(row); err == nil && n != nil {
		return access.ParseScope(n.Scope)
	}
	if row.Target == "" {
		return everything, nil
	}
	target, _, _ := strings.Cut(row.Target, "@") // a version to be shredded is of an item
	return access.ParseScope(target)
}

// AskFor makes a request. One can ask for what oneself or an app that one owns was refused; and for any grant for oneself,
// for such an app, or, as who may give it, for a subject whose access one may not widen alone.
func (s *Service) AskFor(c Caller, n NewRequest) (r Request, err error) {
	if (n.Receipt == "") == (n.Grant == nil) {
		return r, invalid("receipt", "a request is for what a receipt says was refused, or for a grant: give one of the two")
	}
	if n.Reason == "" {
		return r, invalid("reason", "a request states its reason, for who answers it")
	}
	if err := checkText("reason", n.Reason, MaxNote); err != nil {
		return r, err
	}
	a := s.attempt(c, "ask_for", "")
	row := store.Request{ID: newID("rq_"), Asker: c.id, Reason: n.Reason, State: requestOpen, CreatedAt: micros(a.entry.At)}
	if n.Grant != nil {
		err = s.askForGrant(c, a, &row, *n.Grant)
	} else {
		err = s.askByReceipt(c, &row, n.Receipt)
	}
	a.entry.Target = row.Target
	if err != nil {
		return r, a.fail(err)
	}
	if err := s.view(func(st *state) error { return st.checkNewRequest(row) }); err != nil {
		return r, a.fail(err)
	}
	a.entry.Detail = "request " + row.ID
	err = a.change("request", func(tx *store.Tx) (err error) { row, err = store.Insert(tx, row); return err },
		func(st *state) {
			st.putRequest(row)
			r = describeRequest(st, row)
		})
	return r, err
}

// askByReceipt fills in a request for what was refused.
func (s *Service) askByReceipt(c Caller, row *store.Request, id string) error {
	receipt := Receipt{}
	found := false
	err := s.records.Entries(store.Filter{Receipt: id}, func(e trail.Entry) bool {
		receipt.Entry, found = e, true
		return false
	})
	if err != nil {
		return err
	}
	return s.view(func(st *state) error {
		subject, known := st.identity(receipt.Entry.Subject)
		if !found || !known || subject.ID != c.id && subject.Owner != c.name {
			return notFound("receipt "+id+" of a refusal of yours or of an app that you own", "")
		}
		if receipt.Entry.Reason == string(access.ApprovalNeeded) && strings.HasPrefix(receipt.Entry.Action, "shred_") {
			row.Kind, row.Subject, row.Action, row.Target, row.Receipt = requestShred, subject.ID, receipt.Entry.Action, versioned(receipt.Entry), id
			return nil
		}
		receipt.explain(st, s.now())
		row.Subject, row.Action, row.Target, row.Receipt = subject.ID, receipt.Entry.Action, receipt.Entry.Target, id
		switch {
		case receipt.AllowedNow:
			return &Error{Code: Exists, Detail: "there is nothing to ask for: it would be allowed now"}
		case receipt.NeedsApproval:
			row.Kind = requestRead
			return nil
		case receipt.Entry.Reason == ownAccess || receipt.Entry.Reason == stewardOnly:
			return invalid("receipt", "no one grant answers this refusal; ask for the grant itself: tansu request grant")
		}
		row.Kind = requestGrant
		action, known := access.ParseAction(receipt.Entry.Action)
		if !known {
			action = access.ReadTrail
		}
		remedy := st.remedyFor(receipt.Entry.Subject, action, receipt.Entry.Target)
		return proposing(row, NewGrant{Subject: remedy.Subject, Role: remedy.Role, Scope: remedy.Scope})
	})
}

// askForGrant fills in a request for a grant.
func (s *Service) askForGrant(c Caller, a *attempt, row *store.Request, n NewGrant) error {
	checked, err := s.newGrantRow(c.name, n)
	if err != nil {
		return err
	}
	scope, err := access.ParseScope(n.Scope)
	if err != nil {
		return invalid("scope", "%s", err)
	}
	if n.Replaces != "" {
		return invalid("replaces", "a request asks for one grant more, not for one instead of another")
	}
	if _, err := reference.ParseSubject(n.Subject); err != nil {
		return invalid("subject", "%s", err)
	}
	return s.view(func(st *state) error {
		subject, known := st.identity(n.Subject)
		giver := st.policy.DecideScope(c.id, access.GrantAccess, scope, c.context(a.entry.At)).Allowed
		if !known || subject.ID != c.id && subject.Owner != c.name && !giver {
			return invalid("subject", "%s is neither you nor an app that you own", n.Subject)
		}
		if checked.Role == access.Steward {
			return invalid("role", "a steward is appointed by a steward, not by request")
		}
		row.Kind, row.Subject, row.Action, row.Target = requestGrant, subject.ID, access.GrantAccess.String(), n.Scope
		return proposing(row, n)
	})
}

func proposing(row *store.Request, n NewGrant) error {
	text, err := json.Marshal(n)
	row.Proposal = string(text)
	return err
}

// checkNewRequest keeps one asker from asking the same twice, or without end.
func (st *state) checkNewRequest(row store.Request) error {
	open := 0
	for _, other := range st.requests {
		if other.State != requestOpen || other.Asker != row.Asker {
			continue
		}
		open++
		if other.Kind == row.Kind && other.Subject == row.Subject && other.Action == row.Action && other.Target == row.Target && other.Proposal == row.Proposal {
			return &Error{Code: Exists, Detail: "request " + other.ID + " asks for that already, and is open"}
		}
	}
	if open >= mostOpenRequests {
		return &Error{Code: Throttled, Detail: fmt.Sprintf("you have %d open requests; withdraw one first", open), RetryAfter: time.Hour}
	}
	return nil
}

// Requests lists what the caller has asked for or is asked to answer, and all that is about themselves or their apps;
// the open ones first, the newest first.
func (s *Service) Requests(c Caller) (list []Request, err error) {
	a := s.attempt(c, "list_requests", "")
	err = s.view(func(st *state) error {
		for _, row := range st.requests {
			if st.maySeeRequest(c, row, a.entry.At) {
				list = append(list, describeRequest(st, row))
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(list, func(x, y Request) int {
		return cmp.Or(cmp.Compare(btoi(y.State == requestOpen), btoi(x.State == requestOpen)), y.CreatedAt.Compare(x.CreatedAt), cmp.Compare(x.ID, y.ID))
	})
	return answer(a, list)
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (st *state) maySeeRequest(c Caller, row store.Request, now time.Time) bool {
	if row.Asker == c.id || row.Subject == c.id || st.identities[row.Subject].Owner == c.name {
		return true
	}
	scope, err := scopeOf(row)
	return err == nil && st.policy.DecideScope(c.id, rightToAnswer(row), scope, c.context(now)).Allowed ||
		st.decide(c.id, access.ReadTrail, c.context(now), targetOf(row.Target)...).Allowed
}

// AnswerRequest allows or declines an open request. Whoever asked, or would gain by it, does not answer it.
func (s *Service) AnswerRequest(c Caller, id string, answer Answer) (r Request, err error) {
	if err := checkText("because", answer.Because, MaxNote); err != nil {
		return r, err
	}
	if !answer.Allow && answer.Because == "" {
		return r, invalid("because", "a no says why, for who asked")
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	a, before, err := s.openRequest(c, id)
	if err != nil {
		return r, err
	}
	var own bool
	if err := s.view(func(st *state) error { own = before.Asker == c.id || st.benefits(c, before.Subject); return nil }); err != nil {
		return r, err
	}
	if own {
		return r, a.refuse(&Error{Code: Refused, Reason: ownAccess, Detail: "nobody answers what they asked for or would gain by; another gatekeeper can"})
	}
	after := before
	after.State, after.Answer, after.AnsweredAt, after.AnsweredBy = requestDeclined, answer.Because, micros(a.entry.At), c.name
	a.entry.Detail = "decline request " + id
	var given store.Grant
	if answer.Allow {
		after.State, a.entry.Detail = requestAllowed, "allow request "+id
		if before.Kind != requestGrant {
			after.Until, err = readUntil(answer.Until, a.entry.At)
			a.entry.Detail += " until " + fromMicros(after.Until).Format(time.RFC3339)
		} else {
			given, err = s.grantAsked(c, before, answer.Until)
			after.GrantID = given.ID
			a.entry.Detail += fmt.Sprintf(": %s on %s, grant %s", given.Role, given.Scope, given.ID)
		}
		if err != nil {
			return r, a.fail(err)
		}
	}
	err = a.change("request "+id, func(tx *store.Tx) (err error) {
		if given.ID != "" {
			if given, err = store.Insert(tx, given); err != nil {
				return err
			}
		}
		after, err = store.Update(tx, before, after)
		return err
	}, func(st *state) {
		if given.ID != "" {
			_ = st.putGrant(given) // it was checked when it was made
		}
		st.putRequest(after)
		r = describeRequest(st, after)
	})
	return r, err
}

// rightToAnswer is what answering a request takes: to shred for who is asked to agree to it, else to give access.
func rightToAnswer(row store.Request) access.Action {
	if row.Kind == requestShred {
		return access.Shred
	}
	return access.GrantAccess
}

// toShred stands before a target to whose shredding somebody agreed.
const toShred = "shred "

// agreed reports whether somebody else has agreed to the shredding of something by the caller.
func (st *state) agreed(c Caller, target string, now time.Time) bool {
	return micros(now) < st.approved[[2]string{c.id, toShred + target}]
}

// needsSecond refuses a shredding to which nobody has agreed yet.
func (a *attempt) needsSecond(target string) error {
	receipt := newReceipt()
	refusal := &Refusal{Receipt: receipt, Subject: a.entry.Subject, Action: a.entry.Action, Target: a.entry.Target, Reason: access.ApprovalNeeded}
	return a.refuse(&Error{Code: Refused, Reason: string(access.ApprovalNeeded), Refusal: refusal,
		Detail: "the rules of the drawer ask for a second person who agrees to shredding " + target + ": tansu request ask " + receipt + " --reason WHY; then shred it again"})
}

// versioned is the target of an entry with the version it was about.
func versioned(e trail.Entry) string {
	if e.Version == 0 {
		return e.Target
	}
	return fmt.Sprintf("%s@%d", e.Target, e.Version)
}

// openRequest finds an open request for who may answer it; for anyone else it does not exist.
func (s *Service) openRequest(c Caller, id string) (a *attempt, row store.Request, err error) {
	a = s.attempt(c, "answer_request", "")
	err = s.view(func(st *state) error {
		row = st.requests[id]
		scope, err := scopeOf(row)
		if row.ID == "" || err != nil {
			return notFound("request "+id+" that you may answer", "")
		}
		decision := st.policy.DecideScope(c.id, rightToAnswer(row), scope, c.context(a.entry.At))
		a.entry.Grant = decision.Grant
		if !decision.Allowed {
			return notFound("request "+id+" that you may answer", "")
		}
		a.entry.Target = row.Target
		if row.State != requestOpen {
			return &Error{Code: Stale, Detail: "request " + id + " is " + row.State + " already"}
		}
		return nil
	})
	if err != nil {
		return nil, row, a.fail(err)
	}
	return a, row, nil
}

// readUntil is the end of an agreed read.
func readUntil(until, now time.Time) (int64, error) {
	switch {
	case until.IsZero():
		return micros(now.Add(readApproval)), nil
	case !until.After(now):
		return 0, invalid("until", "until is not in the future")
	case until.Sub(now) > longestApproval:
		return 0, invalid("until", "a read is agreed to for 24 hours at most")
	}
	return micros(until), nil
}

// grantAsked makes the grant that a request asks for.
func (s *Service) grantAsked(c Caller, r store.Request, until time.Time) (row store.Grant, err error) {
	n, err := proposalOf(r)
	if err != nil || n == nil {
		return row, invalid("allow", "there is no one grant that allows it: what denies it has to end first")
	}
	n.Reason = cmp.Or(n.Reason, "request "+r.ID)
	if !until.IsZero() {
		n.NotAfter, n.NeverEnds = until, false
	}
	if row, err = s.newGrantRow(c.name, *n); err != nil {
		return row, err
	}
	row.Subject = r.Subject
	return row, nil
}

// Withdraw takes back an open request of the caller's own.
func (s *Service) Withdraw(c Caller, id string) (r Request, err error) {
	a := s.attempt(c, "withdraw_request", "")
	var before store.Request
	err = s.view(func(st *state) error {
		before = st.requests[id]
		if before.ID == "" || before.Asker != c.id || before.State != requestOpen {
			return notFound("open request "+id+" of yours", "")
		}
		return nil
	})
	if err != nil {
		return r, a.fail(err)
	}
	a.entry.Target, a.entry.Detail = before.Target, "request "+id
	after := before
	after.State, after.AnsweredAt, after.AnsweredBy = requestWithdrawn, micros(a.entry.At), c.name
	err = a.change("request "+id, func(tx *store.Tx) (err error) { after, err = store.Update(tx, before, after); return err },
		func(st *state) {
			st.putRequest(after)
			r = describeRequest(st, after)
		})
	return r, err
}

// DeclineRefusal says no to what a receipt says was refused, before anybody asks for it. It takes it off the queue, and
// whoever is refused again is told.
func (s *Service) DeclineRefusal(c Caller, id, because string) (r Request, err error) {
	if because == "" {
		return r, invalid("because", "a no says why, for who was refused")
	}
	if err := checkText("because", because, MaxNote); err != nil {
		return r, err
	}
	receipt, err := s.Receipt(c, id)
	if err != nil {
		return r, err
	}
	a := s.attempt(c, "answer_request", receipt.Entry.Target)
	row := store.Request{ID: newID("rq_"), Kind: requestGrant, Action: receipt.Entry.Action, Target: receipt.Entry.Target, Receipt: id,
		State: requestDeclined, Answer: because, AnsweredAt: micros(a.entry.At), AnsweredBy: c.name, CreatedAt: micros(a.entry.At)}
	var decision access.Decision
	err = s.view(func(st *state) error {
		subject, known := st.identity(receipt.Entry.Subject)
		if !known {
			return invalid("receipt", "nobody known was refused there")
		}
		row.Asker, row.Subject = subject.ID, subject.ID
		decision = st.decideOn(receipt.Entry, c.id, access.GrantAccess, c.context(a.entry.At))
		return nil
	})
	if err != nil {
		return r, a.fail(err)
	}
	if err := a.answered(decision, "answer for "+cmp.Or(row.Target, "the chest"), "", a.remedy(access.GrantAccess)); err != nil {
		return r, err
	}
	a.entry.Detail = "decline receipt " + id
	err = a.change("request", func(tx *store.Tx) (err error) { row, err = store.Insert(tx, row); return err },
		func(st *state) {
			st.putRequest(row)
			r = describeRequest(st, row)
		})
	return r, err
}

// declinedFor finds the last answer to a question, if it is a no.
func (st *state) declinedFor(subject, action, target string) (last store.Request, declined bool) {
	last = st.answers[[3]string{subject, action, target}]
	return last, last.State == requestDeclined
}

// isDeclined reports whether a refusal has been answered with a no.
func (st *state) isDeclined(e trail.Entry) bool {
	_, declined := st.declinedFor(st.subjects[e.Subject], e.Action, e.Target)
	return declined
}
