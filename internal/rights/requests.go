package rights

import (
	"cmp"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/throttle"
	"tansu/internal/core/trail"
	"tansu/internal/entity"
	"tansu/internal/powers"
	"tansu/internal/store"
)

// Bounds of a read that a second person has agreed to.
const (
	readApproval     = time.Hour
	longestApproval  = 24 * time.Hour
	mostOpenRequests = 20 // of one asker
	mostAsked        = 60 // by one asker in an hour, whatever became of them
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
	MayAnswer  bool // whether the caller may decline it, and MayAllow whether they may allow it
	MayAllow   bool
}

// NewRequest asks for what a receipt says was refused, for a grant, or to read an item whose reads a second person has to agree to. It has
// one of the three.
type NewRequest struct {
	Receipt string
	Grant   *NewGrant
	Read    string // the item
	Reason  string
}

// Answer to a request.
type Answer struct {
	Allow   bool
	Because string    // needed for a no
	Until   time.Time // the end of the grant or the read; zero for 90 days or an hour
}

func describeRequest(st *chest.Snapshot, row entity.Request) Request {
	n, _ := proposalOf(row) // checked when it was stored
	return Request{ID: row.ID, Kind: row.Kind, Asker: chest.SubjectOf(st.Identity(row.Asker)),
		Subject: chest.SubjectOf(st.Identity(row.Subject)),
		Action:  row.Action, Target: row.Target, Reason: row.Reason, Receipt: row.Receipt, Grant: n, State: row.State, Answer: row.Answer,
		AnsweredAt: chest.FromMicros(row.AnsweredAt), AnsweredBy: row.AnsweredBy, GrantID: row.GrantID, Until: chest.FromMicros(row.Until),
		CreatedAt: chest.FromMicros(row.CreatedAt)}
}

// proposalOf reads the grant that a request asks for; nil when it asks for none.
func proposalOf(row entity.Request) (*NewGrant, error) {
	if row.Proposal == "" {
		return nil, nil
	}
	var n NewGrant
	err := json.Unmarshal([]byte(row.Proposal), &n)
	n.Role = access.RoleName(n.Role)
	return &n, err
}

// scopeOf is the scope on which the answer to a request is given.
func scopeOf(row entity.Request) (access.Scope, error) {
	if n, err := proposalOf(row); err == nil && n != nil {
		return access.ParseScope(n.Scope)
	}
	if row.Target == "" || row.Kind == chest.RequestAct {
		return chest.Everything, nil
	}
	target, _, _ := strings.Cut(row.Target, "@") // a version to be shredded is of an item
	return access.ParseScope(target)
}

// AskFor makes a request. One can ask for what oneself or an app that one owns was refused; and for any grant for oneself,
// for such an app, or, as who may give it, for a subject whose access one may not widen alone.
func (s *Rights) AskFor(c chest.Caller, n NewRequest) (r Request, err error) {
	if btoi(n.Receipt != "")+btoi(n.Grant != nil)+btoi(n.Read != "") != 1 {
		return r, chest.Invalid("receipt",
			"a request is for what a receipt says was refused, for a grant, or to read an item: give one of the three")
	}
	if n.Reason == "" {
		return r, chest.Invalid("reason", "a request needs a reason, for whoever answers it")
	}
	if err := chest.CheckText("reason", n.Reason, chest.MaxNote); err != nil {
		return r, err
	}
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(c, "ask_for", "").RestOnAccess()
		if err := a.Err(); err != nil {
			return err
		}
		if err := a.Take([]throttle.Limit{{Key: "ask " + c.ID, Most: mostAsked, Window: time.Hour}}); err != nil {
			return err
		}
		row := entity.Request{ID: chest.NewID("rq_"), Asker: c.ID, Reason: n.Reason, State: chest.RequestOpen,
			CreatedAt: chest.Micros(a.Entry.At)}
		var err error
		switch {
		case n.Grant != nil:
			err = askForGrant(a, &row, *n.Grant)
		case n.Read != "":
			err = askToRead(a, &row, n.Read)
		default:
			err = s.askByReceipt(a, &row, n.Receipt)
		}
		if a.Entry.Target = row.Target; err == nil {
			err = checkNewRequest(a.St, row)
		}
		if err != nil {
			return a.Fail(err)
		}
		a.Entry.Detail = "request " + row.ID
		a.Change.Insert(row)
		if err := a.Commit("request"); err != nil {
			return err
		}
		r = describeRequest(a.After(), row)
		return nil
	})
	return r, err
}

// askByReceipt fills in a request for what was refused.
func (s *Rights) askByReceipt(a *chest.Attempt, row *entity.Request, id string) error {
	receipt := Receipt{}
	found := false
	err := s.records.Entries(store.Filter{Receipt: id}, func(e trail.Entry) bool {
		receipt.Entry, found = e, true
		return false
	})
	if err != nil {
		return err
	}
	subject, known := a.St.IdentityOf(receipt.Entry.Subject)
	if !found || !known || subject.ID != a.Caller.ID && !a.St.Owns(a.Caller, subject) {
		return chest.Missing("receipt "+id+" of a refusal of yours or of an app that you own", "")
	}
	row.Subject, row.Action, row.Target, row.Receipt = subject.ID, receipt.Entry.Action, receipt.Entry.Target, id
	if receipt.Entry.Reason == string(access.ApprovalNeeded) {
		if row.Kind = seconding(receipt.Entry.Action); row.Kind != chest.RequestRead {
			row.Target = versioned(receipt.Entry)
			row.TargetID = aboutWhat(a.St, receipt.Entry, row.Kind == chest.RequestShred)
			return nil
		}
	}
	receipt.explain(a.St, a.Caller, a.Entry.At)
	switch {
	case receipt.AllowedNow:
		return &chest.Error{Code: chest.Exists, Detail: "there is nothing to request: it would be allowed now"}
	case receipt.NeedsApproval:
		row.Kind, row.TargetID = chest.RequestRead, aboutWhat(a.St, receipt.Entry, false)
		return nil
	case receipt.Entry.Reason == chest.OwnAccess || receipt.Entry.Reason == chest.StewardOnly:
		return chest.Invalid("receipt", "no one grant answers this refusal; ask for the grant itself: tansu request grant")
	}
	row.Kind = chest.RequestGrant
	action, known := access.ParseAction(receipt.Entry.Action)
	if !known {
		action = access.ReadTrail
	}
	remedy := a.St.RemedyFor(receipt.Entry.Subject, action, receipt.Entry.Target)
	return proposing(row, NewGrant{Subject: remedy.Subject, Role: remedy.Role, Scope: remedy.Scope})
}

// askToRead fills in a request to read an item that the asker may read once a second person agrees.
func askToRead(a *chest.Attempt, row *entity.Request, item string) error {
	names := chest.TargetOf(item)
	if len(names) != 2 {
		return chest.Invalid("read", "%.140q is not an item, such as ticketing-prod/db-password", item)
	}
	ctx := a.Caller.Context(a.Entry.At)
	ctx.Reason = row.Reason
	switch decision := a.St.Decide(a.Caller.ID, access.ReadValue, ctx, names...); {
	case decision.Allowed:
		return &chest.Error{Code: chest.Exists, Detail: "there is nothing to request: no second person has to agree, or one has already"}
	case decision.Reason != access.ApprovalNeeded:
		return chest.Invalid("read", "you may not read %s even if a second person agrees; ask for the grant: tansu request grant", item)
	}
	d, it, err := a.St.At(names...).ReadItem()
	if err != nil {
		return err
	}
	row.Kind, row.Subject, row.Action = chest.RequestRead, a.Caller.ID, access.ReadValue.String()
	row.Target, row.TargetID = d.Row.Name+"/"+it.Row.Name, it.Row.ID // as it is called now
	return nil
}

// seconding is the kind of request that asks a second person to agree to an act that was tried.
func seconding(action string) string {
	switch {
	case strings.HasPrefix(action, "shred_"):
		return chest.RequestShred
	case action == access.ChangeRules.String() || action == "move_item":
		return chest.RequestLift
	case action == access.Register.String():
		return chest.RequestAct
	}
	return chest.RequestRead
}

// aboutWhat is the id of what an entry is about, with the version if that matters; empty if there is nothing of that name.
func aboutWhat(st *chest.Snapshot, e trail.Entry, version bool) string {
	switch row, known := st.IdentityOf(e.Target); {
	case known:
		return row.ID
	case e.ItemID != "" && version && e.Version != 0:
		return fmt.Sprintf("%s@%d", e.ItemID, e.Version)
	case e.ItemID != "":
		return e.ItemID
	}
	return e.DrawerID
}

// askForGrant fills in a request for a grant.
func askForGrant(a *chest.Attempt, row *entity.Request, n NewGrant) error {
	checked, err := newGrantRow(a.St, a.Caller.Name, n, a.Entry.At)
	if err != nil {
		return err
	}
	scope, err := access.ParseScope(n.Scope)
	if err != nil {
		return chest.Invalid("scope", "%s", err)
	}
	if n.Replaces != "" {
		return chest.Invalid("replaces", "a request asks for one more grant, not for one instead of another")
	}
	if err := chest.CheckSubject("subject", n.Subject); err != nil {
		return err
	}
	subject, known := a.St.IdentityOf(n.Subject)
	giver := a.St.Policy.DecideScope(a.Caller.ID, access.GrantAccess, scope, a.Caller.Context(a.Entry.At)).Allowed
	if !known || subject.ID != a.Caller.ID && !a.St.Owns(a.Caller, subject) && !giver {
		return chest.Invalid("subject", "%s is neither you nor an app that you own", n.Subject)
	}
	if checked.Role == access.Steward {
		return chest.Invalid("role", "a steward is appointed by a steward, not by request")
	}
	row.Kind, row.Subject, row.Action, row.Target = chest.RequestGrant, subject.ID, access.GrantAccess.String(), n.Scope
	return proposing(row, n)
}

func proposing(row *entity.Request, n NewGrant) error {
	text, err := json.Marshal(n)
	row.Proposal = string(text)
	return err
}

// checkNewRequest keeps one asker from asking the same twice, or without end.
func checkNewRequest(st *chest.Snapshot, row entity.Request) error {
	open := 0
	for _, other := range st.OpenRequests(row.Asker) {
		open++
		if other.Kind == row.Kind && other.Subject == row.Subject && sameWish(other, row) {
			return &chest.Error{Code: chest.Exists, Detail: "request " + other.ID + " asks for that already, and is open"}
		}
	}
	if open >= mostOpenRequests {
		return &chest.Error{Code: chest.Throttled, Detail: fmt.Sprintf("you have %d open requests; withdraw one first", open),
			RetryAfter: time.Hour}
	}
	return nil
}

// sameWish reports whether two requests want the same thing. A grant is the same whatever its end and its reason, which are for whoever
// answers, and whether it was requested outright or by the receipt of a refusal.
func sameWish(x, y entity.Request) bool {
	one, errOne := proposalOf(x)
	two, errTwo := proposalOf(y)
	if errOne != nil || errTwo != nil || one == nil || two == nil {
		return x.Action == y.Action && x.Target == y.Target && x.Proposal == y.Proposal
	}
	for _, n := range []*NewGrant{one, two} {
		n.Reason, n.NotAfter, n.NeverEnds = "", time.Time{}, false
	}
	return reflect.DeepEqual(one, two)
}

// Requests lists what the caller has asked for or is asked to answer, and all that is about themselves or their apps;
// the open ones first, the newest first.
func (s *Rights) Requests(c chest.Caller) (list []Request, err error) {
	a := s.heart.Attempt(c, "list_requests", "")
	if err := a.Err(); err != nil {
		return nil, err
	}
	for _, row := range a.St.Requests() {
		if maySeeRequest(a, row) {
			r := describeRequest(a.St, row)
			scope, err := scopeOf(row)
			r.MayAnswer = err == nil && row.State == chest.RequestOpen && powers.MayAgree(a.St, c, row.Asker, row.Subject).None() &&
				a.St.Policy.DecideScope(c.ID, rightToAnswer(row), scope, c.Context(a.Entry.At)).Allowed
			r.MayAllow = r.MayAnswer && maySecond(a, row).None()
			list = append(list, r)
		}
	}
	slices.SortFunc(list, func(x, y Request) int {
		return cmp.Or(cmp.Compare(btoi(y.State == chest.RequestOpen), btoi(x.State == chest.RequestOpen)), y.CreatedAt.Compare(x.CreatedAt),
			cmp.Compare(x.ID, y.ID))
	})
	return chest.Reply(a, list)
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

func maySeeRequest(a *chest.Attempt, row entity.Request) bool {
	if row.Asker == a.Caller.ID || row.Subject == a.Caller.ID || a.St.Owns(a.Caller, a.St.Identity(row.Subject)) {
		return true
	}
	ctx := a.Caller.Context(a.Entry.At)
	scope, err := scopeOf(row)
	return err == nil && a.St.Policy.DecideScope(a.Caller.ID, rightToAnswer(row), scope, ctx).Allowed ||
		a.St.Decide(a.Caller.ID, access.ReadTrail, ctx, chest.TargetOf(row.Target)...).Allowed
}

// AnswerRequest allows or declines an open request. Whoever asked, or would gain by it, does not answer it.
func (s *Rights) AnswerRequest(c chest.Caller, id string, answer Answer) (r Request, err error) {
	if err := chest.CheckText("because", answer.Because, chest.MaxNote); err != nil {
		return r, err
	}
	if !answer.Allow && answer.Because == "" {
		return r, chest.Invalid("because", "declining needs a reason, for whoever asked")
	}
	err = s.heart.Try(func() error {
		a, before, err := s.openRequest(c, id)
		if err != nil {
			return err
		}
		if err := powers.Unless(a, powers.MayAgree(a.St, c, before.Asker, before.Subject)); err != nil {
			return err
		}
		after := before
		after.State, after.Answer, after.AnsweredAt, after.AnsweredBy = chest.RequestDeclined, answer.Because, chest.Micros(a.Entry.At), c.Name
		a.Entry.Detail = "decline request " + id
		if answer.Allow {
			if err := powers.Unless(a, maySecond(a, before)); err != nil {
				return err
			}
			if err := allowed(a, before, &after, answer.Until); err != nil {
				return a.Fail(err)
			}
		}
		a.Change.Update(before, after)
		if err := a.Commit("request " + id); err != nil {
			return err
		}
		r = describeRequest(a.After(), store.Stored[entity.Request](&a.Change, id))
		return nil
	})
	return r, err
}

// maySecond checks whether the caller may allow a request: they must be able to give what the asker would get.
func maySecond(a *chest.Attempt, asked entity.Request) powers.Lack {
	if asked.Kind == chest.RequestAct {
		return powers.MayLetAct(a.St, a.Caller, a.St.Identity(asked.TargetID), asked.Asker, a.Entry.At)
	}
	if n, err := proposalOf(asked); err == nil && n != nil {
		return powers.MayGive(a.St, a.Caller, asked.Subject, entity.Grant{Role: n.Role, Effect: n.Effect}, a.Entry.At)
	}
	return powers.Lack{}
}

// allowed puts the yes to a request into an attempt's change: a grant, or a time in which something may be read or shredded.
func allowed(a *chest.Attempt, before entity.Request, after *entity.Request, until time.Time) (err error) {
	after.State, a.Entry.Detail = chest.RequestAllowed, "allow request "+before.ID
	if before.Kind != chest.RequestGrant {
		if now := a.St.NameOf(before.TargetID); now != before.Target {
			return &chest.Error{Code: chest.Stale, Detail: fmt.Sprintf("what was %s when it was asked for is %s now: let it be asked for again",
				before.Target, cmp.Or(now, "not there any more"))}
		}
		after.Until, err = readUntil(until, a.Entry.At)
		a.Entry.Detail += " until " + chest.FromMicros(after.Until).Format(time.RFC3339)
		return err
	}
	given, err := grantAsked(a, before, until)
	if err != nil {
		return err
	}
	after.GrantID, a.Entry.Given = given.ID, given.ID
	a.Entry.Detail += fmt.Sprintf(": %s on %s, grant %s", given.Role, given.Scope, given.ID)
	a.Change.Insert(given)
	return nil
}

// rightToAnswer is the action that answering a request takes: for an act that needs a second person, the same as for the first;
// otherwise the right to give access.
func rightToAnswer(row entity.Request) access.Action {
	switch row.Kind {
	case chest.RequestShred:
		return access.Shred
	case chest.RequestLift:
		return access.ChangeRules
	case chest.RequestAct:
		return access.Register
	}
	return access.GrantAccess
}

// versioned is the target of an entry with the version it was about.
func versioned(e trail.Entry) string {
	if e.Version == 0 {
		return e.Target
	}
	return fmt.Sprintf("%s@%d", e.Target, e.Version)
}

// openRequest finds an open request for whoever may answer it; for anyone else it does not exist.
func (s *Rights) openRequest(c chest.Caller, id string) (a *chest.Attempt, row entity.Request, err error) {
	a = s.heart.Attempt(c, "answer_request", "").RestOnAccess()
	if err := a.Err(); err != nil {
		return nil, row, err
	}
	row = a.St.Request(id)
	scope, err := scopeOf(row)
	if row.ID == "" || err != nil {
		return nil, row, a.Fail(chest.Missing("request "+id+" that you may answer", ""))
	}
	decision := a.St.Policy.DecideScope(c.ID, rightToAnswer(row), scope, c.Context(a.Entry.At))
	a.Entry.Grant = decision.Grant
	if !decision.Allowed {
		return nil, row, a.Fail(chest.Missing("request "+id+" that you may answer", ""))
	}
	if a.Entry.Target = row.Target; row.State != chest.RequestOpen {
		return nil, row, a.Fail(&chest.Error{Code: chest.Stale, Detail: "request " + id + " is " + row.State + " already"})
	}
	return a, row, nil
}

// readUntil is the end of an agreed read.
func readUntil(until, now time.Time) (int64, error) {
	switch {
	case until.IsZero():
		return chest.Micros(now.Add(readApproval)), nil
	case !until.After(now):
		return 0, chest.Invalid("until", "until is not in the future")
	case until.Sub(now) > longestApproval:
		return 0, chest.Invalid("until", "approval to read lasts 24 hours at most")
	}
	return chest.Micros(until), nil
}

// grantAsked makes the grant that a request asks for.
func grantAsked(a *chest.Attempt, r entity.Request, until time.Time) (row entity.Grant, err error) {
	n, err := proposalOf(r)
	if err != nil || n == nil {
		return row, chest.Invalid("allow", "there is no one grant that allows it: what denies it has to end first")
	}
	n.Reason = cmp.Or(n.Reason, "request "+r.ID)
	if !until.IsZero() {
		n.NotAfter, n.NeverEnds = until, false
	}
	if row, err = newGrantRow(a.St, a.Caller.Name, *n, a.Entry.At); err != nil {
		return row, err
	}
	row.Subject = r.Subject
	return row, nil
}

// Withdraw takes back an open request of the caller's own.
func (s *Rights) Withdraw(c chest.Caller, id string) (r Request, err error) {
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(c, "withdraw_request", "").RestOnAccess()
		if err := a.Err(); err != nil {
			return err
		}
		before := a.St.Request(id)
		if before.ID == "" || before.Asker != c.ID || before.State != chest.RequestOpen {
			return a.Fail(chest.Missing("open request "+id+" of yours", ""))
		}
		a.Entry.Target, a.Entry.Detail = before.Target, "request "+id
		after := before
		after.State, after.AnsweredAt, after.AnsweredBy = chest.RequestWithdrawn, chest.Micros(a.Entry.At), c.Name
		a.Change.Delete(before) // nobody has answered it: the trail has that it was there
		if err := a.Commit("request " + id); err != nil {
			return err
		}
		r = describeRequest(a.After(), after)
		return nil
	})
	return r, err
}

// DeclineRefusal declines what a receipt says was refused, before anybody requests it. The refusal leaves the queue, and whoever is
// refused the same again is told why.
func (s *Rights) DeclineRefusal(c chest.Caller, id, because string) (r Request, err error) {
	if because == "" {
		return r, chest.Invalid("because", "declining needs a reason, for whoever was refused")
	}
	if err := chest.CheckText("because", because, chest.MaxNote); err != nil {
		return r, err
	}
	receipt, err := s.Receipt(c, id)
	if err != nil {
		return r, err
	}
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(c, "answer_request", receipt.Entry.Target).RestOnAccess()
		if err := a.Err(); err != nil {
			return err
		}
		subject, known := a.St.IdentityOf(receipt.Entry.Subject)
		if !known {
			return a.Fail(chest.Invalid("receipt", "no known subject was refused there"))
		}
		row := entity.Request{ID: chest.NewID("rq_"), Kind: chest.RequestGrant, Asker: subject.ID, Subject: subject.ID,
			Action: receipt.Entry.Action,
			Target: receipt.Entry.Target, Receipt: id, State: chest.RequestDeclined, Answer: because, AnsweredAt: chest.Micros(a.Entry.At),
			AnsweredBy: c.Name, CreatedAt: chest.Micros(a.Entry.At)}
		decision := a.St.DecideOn(receipt.Entry, c.ID, access.GrantAccess, c.Context(a.Entry.At))
		if err := a.Answered(decision, "answer for "+cmp.Or(row.Target, "the chest"), "", a.Remedy(access.GrantAccess)); err != nil {
			return err
		}
		a.Entry.Detail = "decline receipt " + id
		a.Change.Insert(row)
		if err := a.Commit("request"); err != nil {
			return err
		}
		r = describeRequest(a.After(), row)
		return nil
	})
	return r, err
}
