package service

import (
	"cmp"
	"errors"
	"fmt"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
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
	Remedy    *Remedy
	Version   int       // that is served
	NotAfter  time.Time // when that stops being usable; zero for never
	Changes   time.Time // when the answer changes by itself; zero for never
	Warning   string    // what works now and will not for long
}

// soon is the window left that is worth a warning.
const soon = 14 * 24 * time.Hour

// Check answers a preflight, in the order of its references. About oneself everybody may ask; about others, who may grant or
// read the trail there.
func (s *Service) Check(c Caller, p Preflight) ([]Check, error) {
	if len(p.References) == 0 || len(p.References) > MaxReferences {
		return nil, invalid("references", "references are 1 to %d", MaxReferences)
	}
	p.Subject = cmp.Or(p.Subject, c.name)
	c.batch = &batch{}
	checks := make([]Check, 0, len(p.References))
	var err error
	for _, ref := range p.References {
		var one Check
		if one, err = s.checkOne(c, p, ref); err != nil {
			break
		}
		checks = append(checks, one)
	}
	if lost := s.flush(c.batch); lost != nil {
		return nil, lost
	}
	if err != nil {
		return nil, err
	}
	return checks, nil
}

func (s *Service) checkOne(c Caller, p Preflight, ref reference.Reference) (ch Check, err error) {
	question := Question{Subject: p.Subject, Action: access.ReadValue.String(), Target: ref.Drawer + "/" + ref.Item, Addr: p.Addr, Via: p.Via, Reason: p.Reason}
	request, err := question.parse(s.now())
	if err != nil {
		return ch, err
	}
	a, err := s.allowAsk(c, p.Subject, request.Target.Names)
	if err != nil {
		return ch, err
	}
	row, err := s.knownSubject("subject", p.Subject)
	if err != nil {
		return ch, a.fail(err)
	}
	if p.Subject == c.name {
		request.Context = c.context(a.entry.At)
	}
	if err := s.view(func(st *state) error { ch = st.check(row, request, ref); return nil }); err != nil {
		return ch, err
	}
	return answer(a, ch)
}

// flush makes the entries of a batch durable.
func (s *Service) flush(b *batch) error {
	if len(b.entries) == 0 {
		return nil
	}
	if err := s.records.Submit(&store.Work{Entry: b.entries[0], More: b.entries[1:]}); err != nil {
		s.options.Log.Error("entries not recorded", "error", err)
		return storeError(err, "")
	}
	return nil
}

// check says what somebody would get. Who is not allowed to read learns nothing about what is there.
func (st *state) check(row store.Identity, request access.Request, ref reference.Reference) (ch Check) {
	ch.Reference = ref
	no := func(reason, detail string) Check {
		ch.Reason, ch.Detail = reason, detail
		return ch
	}
	request = st.request(row.ID, request.Action, request.Context, request.Target.Names...)
	decision := st.policy.Decide(request)
	switch {
	case row.State != stateActive:
		return no("identity_suspended", subjectOf(row)+" is suspended")
	case !decision.Allowed:
		if decision.Reason.Grantable() {
			ch.Remedy = st.remedyFor(subjectOf(row), access.ReadValue, ref.Drawer+"/"+ref.Item)
		}
		refusal := Refusal{Subject: subjectOf(row), Reason: decision.Reason, Receipt: "RECEIPT"}
		return no(string(decision.Reason), refusal.sentence("read it", nearestMiss(st.policy, request)))
	}
	found, err := st.serving(row.Kind, ref, request.Now)
	if err != nil {
		var why *Error
		if errors.As(err, &why) {
			return no(cmp.Or(why.Reason, string(why.Code)), err.Error())
		}
		return no("not_servable", err.Error())
	}
	if found.Home != "" { // a grant that denies the new name counts
		request = st.request(row.ID, request.Action, request.Context, targetOf(found.Home)...)
		if decision := st.policy.Decide(request); decision.Reason == access.Denied {
			refusal := Refusal{Subject: subjectOf(row), Reason: decision.Reason, Receipt: "RECEIPT"}
			return no(string(decision.Reason), "it is "+found.Home+" now: "+refusal.sentence("read it", nearestMiss(st.policy, request)))
		}
	}
	if problem := fieldProblem(found.item.row, found.item.versions[found.number-1], ref.Field); problem != "" {
		return no("no_field", problem)
	}
	ch.Served, ch.Version, ch.NotAfter, ch.Changes = true, found.number, found.Ends, found.Changes
	current, currentErr := found.item.life.Current(request.Now)
	switch {
	case found.Grace:
		ch.Warning = "it has ended, and a rule lets it be served for a while: replace it"
	case ref.Version != 0 && currentErr == nil && current != ref.Version:
		ch.Warning = fmt.Sprintf("version %d is asked for by its number, and version %d is current", ref.Version, current)
	case found.Home != "":
		ch.Warning = "it is called " + found.Home + " now"
	case !ch.NotAfter.IsZero() && ch.NotAfter.Sub(request.Now) < soon:
		ch.Warning = "it ends soon"
	}
	return ch
}

// fieldProblem says why a version has no such field; nothing is opened, for the names of fields are with the version.
func fieldProblem(row store.Item, version store.Version, field string) string {
	if field == "" {
		return ""
	}
	if shapeOf(row) == secretvalue.Text {
		return "it has no fields"
	}
	for _, info := range fieldInfos(version.Fields) {
		if info.Name == field {
			return ""
		}
	}
	return "it has no field " + field
}
