package service

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// Question is a question about access, asked before anything is done.
type Question struct {
	Subject string
	Action  string
	Target  string // a drawer or an item; empty for the chest
	// The circumstances; At zero means now, the others empty.
	At     time.Time
	Addr   string
	Via    string
	Reason string
}

// Verdict is the answer to a question.
type Verdict struct {
	Allowed    bool
	Grant      string // that allows or denies it
	Reason     string // why not
	Remedy     *Remedy
	Considered []Considered
	Version    int    // of an item's value that would be read: what is served; 0 when nothing is
	NotServed  string // why nothing is served, although it is allowed
}

// Holder is a subject that has an action on a target.
type Holder struct {
	Subject string
	State   string
	Grants  []Grant // that give it; their conditions say when
	Unless  []Grant // that deny it under conditions
}

// Reach is what a subject may do on one target.
type Reach struct {
	Target  string
	Actions []string
}

// parse checks a question and makes the request of it; the subject's id is filled in later.
func (q Question) parse(now time.Time) (request access.Request, err error) {
	action, known := access.ParseAction(q.Action)
	if !known {
		return request, invalid("action", "%.40q is not an action; the actions are %v", q.Action, access.AllActions.Names())
	}
	if q.Via != "" && !slices.Contains(access.Ways, q.Via) {
		return request, invalid("via", "%.40q is not a way of proof; the ways are %v", q.Via, access.Ways)
	}
	request.Action = action
	request.Context = access.Context{Now: now, Via: q.Via, Reason: q.Reason}
	if !q.At.IsZero() {
		request.Now = q.At
	}
	if q.Addr != "" {
		if request.Addr, err = netip.ParseAddr(q.Addr); err != nil {
			return request, invalid("addr", "%.60q is not an address, such as 10.2.3.4", q.Addr)
		}
	}
	request.Target.Names, err = parseTarget(q.Target)
	return request, err
}

// parseTarget reads a drawer, an item, or nothing for the chest.
func parseTarget(text string) ([]string, error) {
	if text == "" {
		return nil, nil
	}
	if target := targetOf(strings.TrimPrefix(text, reference.Scheme)); target != nil {
		return target, nil
	}
	return nil, invalid("target", "%.140q is neither a drawer nor an item, such as ticketing-prod or ticketing-prod/db-password", text)
}

// askAccess is what asking is called in the trail.
const askAccess = "ask_access"

// allowAsk decides whether the caller may ask about access to a target: who may grant there or read the trail there
// may, about an app who answers for it, and about oneself everyone.
func (s *Service) allowAsk(c Caller, subject string, target []string) (*attempt, error) {
	a := s.attempt(c, askAccess, strings.Join(target, "/"))
	a.entry.Detail = subject
	if subject == c.name || s.answersFor(c, subject) {
		return a, nil
	}
	var decision access.Decision
	err := s.view(func(st *state) error {
		for _, action := range []access.Action{access.GrantAccess, access.ReadTrail} {
			if !decision.Allowed {
				decision = st.decide(c.id, action, c.context(a.entry.At), target...)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	what := "ask about access to " + cmp.Or(a.entry.Target, "the chest")
	return a, a.answered(decision, what, "", a.remedy(access.ReadTrail))
}

// answersFor reports whether the caller, or a team of theirs, owns an app.
func (s *Service) answersFor(c Caller, subject string) (is bool) {
	_ = s.view(func(st *state) error {
		row, _ := st.identity(subject)
		is = row.Kind == reference.App && row.Owner != "" && (row.Owner == c.name || slices.Contains(st.teamsOf(c.id), row.Owner))
		return nil
	})
	return is
}

// Ask answers whether a subject may do an action on a target under given circumstances, and why.
func (s *Service) Ask(c Caller, q Question) (v Verdict, err error) {
	request, err := q.parse(s.now())
	if err != nil {
		return v, err
	}
	a, err := s.allowAsk(c, q.Subject, request.Target.Names)
	if err != nil {
		return v, err
	}
	row, err := s.knownSubject("subject", q.Subject)
	if err != nil {
		return v, a.fail(err)
	}
	err = s.view(func(st *state) error {
		request = st.request(row.ID, request.Action, request.Context, request.Target.Names...)
		decision := st.policy.Decide(request)
		v = Verdict{Allowed: decision.Allowed && row.State == stateActive, Grant: decision.Grant, Reason: string(decision.Reason),
			Considered: st.considered(request, a.entry.At)}
		if decision.Allowed && row.State != stateActive {
			v.Reason = "identity_suspended"
		} else if !decision.Allowed && decision.Reason.Grantable() {
			v.Remedy = st.remedyFor(q.Subject, request.Action, q.Target)
		}
		if v.Allowed && request.Action == access.ReadValue && len(request.Target.Names) == 2 {
			v.Version, v.NotServed = st.wouldServe(row, request)
		}
		return nil
	})
	if err != nil {
		return v, err
	}
	return answer(a, v)
}

// wouldServe says what somebody who is allowed to read a value would get, without opening it.
func (st *state) wouldServe(row store.Identity, request access.Request) (version int, problem string) {
	found, err := st.serving(row.Kind, reference.Reference{Drawer: request.Target.Names[0], Item: request.Target.Names[1]}, request.Now)
	if err != nil {
		return 0, err.Error()
	}
	return found.number, ""
}

// Holders lists who has an action on a target.
func (s *Service) Holders(c Caller, actionName, targetText string) (list []Holder, err error) {
	request, err := Question{Action: actionName, Target: targetText}.parse(s.now())
	if err != nil {
		return nil, err
	}
	a, err := s.allowAsk(c, "", request.Target.Names)
	if err != nil {
		return nil, err
	}
	err = s.view(func(st *state) error {
		for _, target := range st.namesOf(request, a.entry.At) {
			for _, h := range st.policy.Holders(request.Action, target, a.entry.At) {
				row := st.identities[h.Subject]
				at := slices.IndexFunc(list, func(other Holder) bool { return other.Subject == subjectOf(row) })
				if at < 0 {
					list = append(list, Holder{Subject: subjectOf(row), State: row.State, Grants: st.describeGrants(h.Grants, a.entry.At), Unless: st.describeGrants(h.Unless, a.entry.At)})
				}
			}
		}
		slices.SortFunc(list, func(x, y Holder) int { return cmp.Compare(x.Subject, y.Subject) })
		return nil
	})
	if err != nil {
		return nil, err
	}
	return answer(a, list)
}

// namesOf is a target under its own name and, when it is an item whose value is asked about, under those that it had before
// and that still work.
func (st *state) namesOf(request access.Request, now time.Time) []access.Target {
	names := request.Target.Names
	targets := []access.Target{st.target(names...)}
	if len(names) != 2 || request.Action&(access.ReadValue|access.UseKey) == 0 {
		return targets
	}
	_, it, err := st.readItem(reference.Reference{Drawer: names[0], Item: names[1]})
	if err != nil {
		return targets
	}
	for _, alias := range st.aliasesOf(it, now) {
		targets = append(targets, st.target(targetOf(alias.Reference)...))
	}
	return targets
}

func (st *state) describeGrants(ids []string, now time.Time) (list []Grant) {
	for _, id := range ids {
		list = append(list, describeGrant(st, st.grants[id]).inForce(now))
	}
	return list
}

// Reach lists everything that exists now and that a subject may do something with.
func (s *Service) Reach(c Caller, subject string) (list []Reach, err error) {
	a, err := s.allowAsk(c, subject, nil)
	if err != nil {
		return nil, err
	}
	row, err := s.knownSubject("subject", subject)
	if err != nil {
		return nil, a.fail(err)
	}
	err = s.view(func(st *state) error {
		add := func(name string, target access.Target) {
			actions := st.policy.Actions(row.ID, target, a.entry.At)
			if name != "" {
				actions &^= ofChest
			}
			if actions != 0 {
				list = append(list, Reach{Target: name, Actions: actions.Names()})
			}
		}
		add("", st.target())
		for _, drawer := range sortedKeys(st.drawers) {
			add(drawer, st.target(drawer))
			d := st.drawers[drawer]
			if err := st.all(d, func(it *item) { add(drawer+"/"+it.row.Name, it.target(d)) }); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, a.fail(err)
	}
	return answer(a, list)
}

// ofChest are actions that are decided on the chest and on no drawer.
const ofChest = access.Operate | access.Register

// Matrix is who may do what in which drawer.
type Matrix struct {
	Drawers []string
	Rows    []MatrixRow
}

// MatrixRow is one person or app; its cells are in the order of the drawers.
type MatrixRow struct {
	Subject string
	State   string
	Cells   []MatrixCell
}

// MatrixCell is what a subject may do in a drawer, on the drawer or on anything in it.
type MatrixCell struct {
	Actions    []string
	Conditions []string // those of the actions that are only given under conditions or with approval
	Partial    []string // those that are not given on everything in the drawer
}

// Matrix lists every person and app against every drawer on which the caller may grant or read the trail.
func (s *Service) Matrix(c Caller) (m Matrix, err error) {
	a, err := s.allowOverview(c, overIdentities)
	if err != nil {
		return m, err
	}
	a.entry.Action, a.entry.Detail = askAccess, "everybody, on every drawer"
	st, err := s.copied()
	if err != nil {
		return m, err
	}
	if err := m.fill(st, c, a.entry.At); err != nil {
		return m, a.fail(err)
	}
	return answer(a, m)
}

func (m *Matrix) fill(st *state, c Caller, now time.Time) error {
	ctx := c.context(now)
	for _, name := range sortedKeys(st.drawers) {
		if st.decide(c.id, access.GrantAccess, ctx, name).Allowed || st.decide(c.id, access.ReadTrail, ctx, name).Allowed {
			m.Drawers = append(m.Drawers, name)
		}
	}
	for _, subject := range sortedKeys(st.subjects) {
		row := st.identities[st.subjects[subject]]
		if row.Kind == reference.Team {
			continue
		}
		r := MatrixRow{Subject: subject, State: row.State}
		for _, name := range m.Drawers {
			cell, err := st.cell(row.ID, name, now)
			if err != nil {
				return err
			}
			r.Cells = append(r.Cells, cell)
		}
		m.Rows = append(m.Rows, r)
	}
	return nil
}

func (st *state) cell(subject, drawer string, now time.Time) (MatrixCell, error) {
	target := st.target(drawer)
	some, firm := st.policy.Actions(subject, target, now), st.policy.Firm(subject, target, now)
	all, first := access.AllActions, true
	d := st.drawers[drawer]
	err := st.all(d, func(it *item) {
		target := it.target(d)
		actions := st.policy.Actions(subject, target, now)
		sure := st.policy.Firm(subject, target, now)
		if it.approvalFor(st, d, subject, access.ReadValue, now) != access.NotNeeded {
			sure &^= access.ReadValue | access.UseKey
		}
		some |= actions
		firm |= sure
		if first {
			all, first = actions, false
		}
		all &= actions
	})
	if first { // nothing in it
		all = some
	}
	some &^= ofChest
	return MatrixCell{Actions: some.Names(), Conditions: (some &^ firm).Names(), Partial: (some &^ all).Names()}, err
}
