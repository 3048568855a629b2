package shelf

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/content"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Preflight asks about all values that somebody needs, at once and before anything runs.
type Preflight struct {
	Subject    string // empty for the caller
	References []reference.Reference
	// The circumstances, as for [Question]; those of the caller when the subject is.
	Addr   string
	Via    string
	Reason string
}

// Check is what would come of reading one value now. No value is opened for it.
type Check struct {
	Reference reference.Reference
	Served    bool
	Reason    string // why not: a stable code
	Detail    string // the same in a sentence
	Remedy    *chest.Remedy
	Version   int       // that is served
	NotAfter  time.Time // when that stops being usable; zero for never
	Changes   time.Time // when the answer changes by itself; zero for never
	Access    time.Time // when what allows it ends; zero for never
	Warning   string    // what works now and will not for long
	Revoked   string    // of a certificate: why its authority has revoked it; empty for not at all

	Environment string // that of the drawer it is in, when it would be served
}

// soon is the window left that is worth a warning.
const soon = 14 * 24 * time.Hour

// Check answers a preflight, in the order of its references. About oneself everybody may ask; about others, who may grant or
// read the trail there.
func (s *Shelf) Check(c chest.Caller, p Preflight) ([]Check, error) {
	if len(p.References) == 0 || len(p.References) > MaxReferences {
		return nil, chest.Invalid("references", "references are 1 to %d", MaxReferences)
	}
	p.Subject = cmp.Or(p.Subject, c.Name)
	batch := chest.NewBatch(len(p.References))
	c = c.Batched(batch, s.heart.Now())
	checks := make([]Check, 0, len(p.References))
	var err error
	for _, ref := range p.References {
		var one Check
		if one, err = s.checkOne(c, p, ref); err != nil {
			break
		}
		checks = append(checks, one)
	}
	if lost := s.heart.Flush(batch); lost != nil && !errors.Is(lost, store.ErrMoved) {
		return nil, lost
	} else if lost != nil {
		return s.Check(c.Batched(nil, s.heart.Now()), p) // something of it has changed: it is looked at again
	}
	if err != nil {
		return nil, err
	}
	return checks, nil
}

func (s *Shelf) checkOne(c chest.Caller, p Preflight, ref reference.Reference) (ch Check, err error) {
	a := s.heart.Attempt(c, chest.AskAccess, ref.Drawer+"/"+ref.Item)
	if err := a.AllowAsk(p.Subject, []string{ref.Drawer, ref.Item}); err != nil {
		return ch, err
	}
	row, err := a.St.KnownSubject("subject", p.Subject)
	if err != nil {
		return ch, a.Fail(err)
	}
	ctx := c.Context(a.Entry.At)
	if p.Subject != c.Name {
		if ctx, err = p.context(a.Entry.At); err != nil {
			return ch, err
		}
	}
	return chest.Reply(a, check(a.St, row, ctx, ref))
}

// context is the circumstances that are asked about.
func (p Preflight) context(now time.Time) (ctx access.Context, err error) {
	ctx = access.Context{Now: now, Via: p.Via, Reason: p.Reason}
	if p.Via != "" && !slices.Contains(access.Ways, p.Via) {
		return ctx, chest.Invalid("via", "%.40q is not a way of proof; the ways are %v", p.Via, access.Ways)
	}
	if p.Addr != "" {
		if ctx.Addr, err = netip.ParseAddr(p.Addr); err != nil {
			return ctx, chest.Invalid("addr", "%.60q is not an address, such as 10.2.3.4", p.Addr)
		}
	}
	return ctx, nil
}

// check says what somebody would get. Who is not allowed to read learns nothing about what is there.
func check(st *chest.Snapshot, row entity.Identity, ctx access.Context, ref reference.Reference) (ch Check) {
	ch.Reference = ref
	no := func(reason, detail string) Check {
		ch.Reason, ch.Detail = reason, detail
		return ch
	}
	refused := func(request access.Request, decision access.Decision, before string) Check {
		refusal := chest.Refusal{Subject: chest.SubjectOf(row), Reason: decision.Reason, Receipt: "RECEIPT"}
		return no(string(decision.Reason), before+refusal.Sentence("read it", st.NearestMiss(request, decision)))
	}
	spot := st.For(row.ID, access.ReadValue, ref.Drawer, ref.Item)
	request := st.QuestionAt(spot, row.ID, access.ReadValue, ctx)
	decision := st.Policy.Decide(request)
	switch {
	case row.State != chest.Active:
		return no("identity_suspended", chest.SubjectOf(row)+" is suspended")
	case !decision.Allowed:
		if decision.Reason.Grantable() {
			ch.Remedy = st.RemedyFor(chest.SubjectOf(row), access.ReadValue, ref.Drawer+"/"+ref.Item)
		}
		return refused(request, decision, "")
	}
	found, err := spot.Serving(row.Kind, ref, ctx.Now)
	if err != nil {
		var why *chest.Error
		if errors.As(err, &why) {
			return no(cmp.Or(why.Reason, string(why.Code)), err.Error())
		}
		return no("not_servable", err.Error())
	}
	if found.Home != "" { // a grant that denies the new name counts
		request = st.Question(row.ID, access.ReadValue, ctx, chest.TargetOf(found.Home)...)
		if decision := st.Policy.Decide(request); decision.Reason == access.Denied {
			return refused(request, decision, "it is "+found.Home+" now: ")
		}
	}
	if problem := fieldProblem(found.Item.Row, found.Item.Versions[found.Number-1], ref.Field); problem != "" {
		return no("no_field", problem)
	}
	ch.Served, ch.Version, ch.NotAfter, ch.Access = true, found.Number, found.Ends, decision.Ends
	ch.Environment = found.Drawer.Row.Environment
	ch.Changes = earlier(found.Changes, decision.Ends)
	ch.Warning = warningOf(found, ref, ctx.Now)
	if facts := certrow.Of(found.Item.Versions[found.Number-1].Facts); facts != nil && facts.Revoked != "" {
		ch.Revoked, ch.Warning = facts.Revoked, "it was revoked ("+strings.ReplaceAll(facts.Revoked, "_", " ")+"): renew it (tansu cert renew)"
	}
	if left := decision.Ends.Sub(ctx.Now); ch.Warning == "" && !decision.Ends.IsZero() && left < soon {
		ch.Warning = "access to it ends soon: somebody who may give it can renew it (tansu grant renew)"
	}
	return ch
}

// warningOf says what works now and will not for long; empty for nothing.
func warningOf(found chest.Serving, ref reference.Reference, now time.Time) string {
	current, err := found.Item.Life.Current(now)
	switch {
	case found.Grace:
		return "it has ended, and a rule lets it be served for a while: replace it"
	case ref.Version != 0 && err == nil && current != ref.Version:
		return fmt.Sprintf("version %d is pinned by its number, and version %d is current", ref.Version, current)
	case found.Home != "":
		return "it is called " + found.Home + " now"
	case !found.Ends.IsZero() && found.Ends.Sub(now) < soon:
		return "it ends soon"
	}
	return ""
}

// fieldProblem says why a version has no such field; nothing is opened, for the names of fields are with the version.
func fieldProblem(row entity.Item, version entity.Version, field string) string {
	if field == "" {
		return ""
	}
	if shapeOf(row).Plain() {
		return "it has no fields"
	}
	for _, info := range content.Infos(version.Fields) {
		if info.Name == field {
			return ""
		}
	}
	return "it has no field " + field
}
