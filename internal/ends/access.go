package ends

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/entity"
	"tansu/internal/powers"
)

// Kinds of what ends.
const (
	KindGrant      = "grant"
	KindDenial     = "denial" // access opens again when it ends
	KindCredential = "credential"
	KindApproval   = "approval" // to read one thing
	KindMethod     = "unlock_method"
	KindCalendar   = "calendar"
)

// AccessEnd is something other than a value that ends, or has ended a moment ago.
type AccessEnd struct {
	Kind     string
	ID       string
	Subject  string // whose it is; empty for an unlock method
	About    string // "consumer on ticketing-prod/**", or a kind and a name
	NotAfter time.Time
	Owner    string // who answers for the subject
	May      bool   // the caller may put another end to it
	Last     bool   // nobody could give access from then on
}

// past is how long something that has ended is still listed: whoever was away sees why an app has stopped.
const past = 14 * 24 * time.Hour

// AccessEnds lists what of access ends within a span, as far as the caller has to do with it: what is theirs, or of an app they answer for,
// and what they could renew. A grant that another one outlasts in everything is left out, for nobody notices its end. What ends first
// comes first.
func (e *Ends) AccessEnds(c chest.Caller, within time.Duration) (list []AccessEnd, err error) {
	if within < 0 || within > 3660*24*time.Hour {
		return nil, chest.Invalid("within", "within is not between 0 and ten years")
	}
	a := e.heart.Attempt(c, "list_access_ends", "")
	if err := a.Err(); err != nil {
		return nil, err
	}
	return chest.Reply(a, accessEnds(a, within))
}

// finder collects what ends.
type finder struct {
	*chest.Attempt
	until time.Time
	last  access.Last
	list  []AccessEnd
}

// accessEnds lists what ends to an attempt's caller.
func accessEnds(a *chest.Attempt, within time.Duration) []AccessEnd {
	f := finder{Attempt: a, until: a.Entry.At.Add(within), last: a.St.LastGiver(a.Entry.At)}
	a.St.Given(func(row entity.Grant) bool {
		f.grant(row)
		return a.Caller.Ctx().Err() == nil
	})
	registers := a.St.Decide(a.Caller.ID, access.Register, a.Caller.Context(a.Entry.At)).Allowed
	a.St.Identities("", func(subject string, row entity.Identity) bool {
		if row.State == chest.Active && (registers || row.ID == a.Caller.ID || a.St.AnswersFor(a.Caller, subject)) {
			for _, cr := range a.St.CredentialsOf(row.ID) {
				f.add(AccessEnd{Kind: KindCredential, ID: cr.ID, Subject: subject, About: strings.ReplaceAll(cr.Kind, "_", " "),
					NotAfter: chest.FromMicros(cr.NotAfter), Owner: row.Owner, May: registers})
			}
		}
		return true
	})
	for _, r := range a.St.Requests() {
		if r.State == chest.RequestAllowed && r.GrantID == "" && (r.Subject == a.Caller.ID || r.Asker == a.Caller.ID) {
			f.add(AccessEnd{Kind: KindApproval, ID: r.ID, Subject: chest.SubjectOf(a.St.Identity(r.Subject)), About: r.Target,
				NotAfter: chest.FromMicros(r.Until)})
		}
	}
	if a.St.Decide(a.Caller.ID, access.Operate, a.Caller.Context(a.Entry.At)).Allowed {
		for _, slot := range a.St.Slots() {
			f.add(AccessEnd{Kind: KindMethod, ID: slot.ID, About: slot.Name + ", by " + methodText(slot.Method),
				NotAfter: chest.FromMicros(slot.NotAfter), May: true})
		}
	}
	for _, row := range a.St.CalendarsOf(a.Caller.ID) {
		f.add(AccessEnd{Kind: KindCalendar, ID: row.ID, Subject: a.Caller.Name, About: cmp.Or(row.Note, "a calendar's address"),
			NotAfter: chest.FromMicros(row.NotAfter)})
	}
	slices.SortFunc(f.list, func(x, y AccessEnd) int {
		return cmp.Or(x.NotAfter.Compare(y.NotAfter), cmp.Compare(x.Subject, y.Subject), cmp.Compare(x.ID, y.ID))
	})
	return f.list
}

func methodText(method string) string {
	switch method {
	case envelope.MethodKeyFile:
		return "a key file"
	case envelope.MethodPassphrase:
		return "a passphrase"
	}
	return method
}

// add takes what ends within the span, or has ended a moment ago.
func (f *finder) add(end AccessEnd) {
	if !end.NotAfter.IsZero() && end.NotAfter.Before(f.until) && end.NotAfter.After(f.Entry.At.Add(-past)) {
		f.list = append(f.list, end)
	}
}

func (f *finder) grant(row entity.Grant) {
	now := f.Entry.At
	if row.NotAfter == 0 || row.NotAfter >= chest.Micros(f.until) || row.NotAfter <= chest.Micros(now.Add(-past)) {
		return
	}
	subject := f.St.Identity(row.Subject)
	name := chest.SubjectOf(subject)
	scope, err := access.ParseScope(row.Scope)
	gives := err == nil && f.St.Policy.DecideScope(f.Caller.ID, access.GrantAccess, scope, f.Caller.Context(now)).Allowed
	own := f.St.KnowsGrant(f.Caller, row, now) && (row.Subject == f.Caller.ID || !gives && f.memberOf(row.Subject))
	if subject.State != chest.Active || !gives && !own && !f.St.AnswersFor(f.Caller, name) || f.outlasted(row) {
		return
	}
	end := AccessEnd{Kind: KindGrant, ID: row.ID, Subject: name, About: row.Role + " on " + row.Scope,
		NotAfter: chest.FromMicros(row.NotAfter),
		Owner:    subject.Owner, Last: row.ID == f.last.Grant, May: gives && powers.MayGive(f.St, f.Caller, row.Subject, row, now).None()}
	if row.Effect == string(access.Deny) {
		end.Kind = KindDenial
	}
	f.add(end)
}

func (f *finder) memberOf(team string) bool { return slices.Contains(f.St.Holders(team), f.Caller.ID) }

// outlasted reports whether other grants do all that one does for everybody who has it, and for longer.
func (f *finder) outlasted(row entity.Grant) bool {
	made, err := f.St.GrantOf(row)
	if err != nil || made.Effect == access.Deny {
		return false
	}
	for _, holder := range f.St.Holders(row.Subject) {
		others := slices.DeleteFunc(slices.Clone(f.St.Policy.Of(holder)), func(g access.Grant) bool {
			return g.ID == row.ID || g.Effect == access.Deny || !g.End.IsZero() && !g.End.After(made.End)
		})
		if access.Wider(others, []access.Grant{made}) {
			return false
		}
	}
	return len(f.St.Holders(row.Subject)) > 0
}
