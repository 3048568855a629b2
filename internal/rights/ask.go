package rights

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
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
	Remedy     *chest.Remedy
	Considered []Considered
	Version    int    // of an item's value that would be read: what is served; 0 when nothing is
	NotServed  string // why nothing is served, although it is allowed
}

// Holder is a subject that has an action on a target.
type Holder struct {
	Subject string
	State   string
	Grants  []chest.GrantInfo // that give it; their conditions say when
	Unless  []chest.GrantInfo // that deny it under conditions
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
		return request, chest.Invalid("action", "%.40q is not an action; the actions are %v", q.Action, access.AllActions.Names())
	}
	if q.Via != "" && !slices.Contains(access.Ways, q.Via) {
		return request, chest.Invalid("via", "%.40q is not a way of proof; the ways are %v", q.Via, access.Ways)
	}
	request.Action = action
	request.Context = access.Context{Now: now, Via: q.Via, Reason: q.Reason}
	if !q.At.IsZero() {
		request.Now = q.At
	}
	if q.Addr != "" {
		if request.Addr, err = netip.ParseAddr(q.Addr); err != nil {
			return request, chest.Invalid("addr", "%.60q is not an address, such as 10.2.3.4", q.Addr)
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
	if target := chest.TargetOf(strings.TrimPrefix(text, reference.Scheme)); target != nil {
		return target, nil
	}
	return nil, chest.Invalid("target", "%.140q is neither a drawer nor an item, such as ticketing-prod or ticketing-prod/db-password", text)
}

// Ask answers whether a subject may do an action on a target under given circumstances, and why.
func (s *Rights) Ask(c chest.Caller, q Question) (v Verdict, err error) {
	request, err := q.parse(s.heart.Now())
	if err != nil {
		return v, err
	}
	a := s.heart.Attempt(c, chest.AskAccess, strings.Join(request.Target.Names, "/"))
	if err := a.AllowAsk(q.Subject, request.Target.Names); err != nil {
		return v, err
	}
	row, err := a.St.KnownSubject("subject", q.Subject)
	if err != nil {
		return v, a.Fail(err)
	}
	st := a.St
	spot := st.For(row.ID, request.Action, request.Target.Names...)
	request = st.QuestionAt(spot, row.ID, request.Action, request.Context)
	decision := st.Policy.Decide(request)
	v = Verdict{Allowed: decision.Allowed && row.State == chest.Active, Grant: decision.Grant, Reason: string(decision.Reason),
		Considered: considered(st, c, request, a.Entry.At)}
	if decision.Allowed && row.State != chest.Active {
		v.Reason = "identity_suspended"
	} else if !decision.Allowed && decision.Reason.Grantable() {
		v.Remedy = st.RemedyFor(q.Subject, request.Action, q.Target)
	}
	if v.Allowed && request.Action&access.Yields != 0 && len(request.Target.Names) == 2 {
		v.Version, v.NotServed = wouldServe(spot, row, request)
	}
	return chest.Reply(a, v)
}

// wouldServe says what somebody who is allowed to read a value would get, or to use a key would use, without opening it.
func wouldServe(spot chest.Spot, row entity.Identity, request access.Request) (version int, problem string) {
	kind := row.Kind
	if request.Action != access.ReadValue {
		wanted := entity.KindKey
		if request.Action == access.Issue {
			wanted = entity.KindProfile
		}
		if kind = entity.Within; spot.Item != nil && spot.Item.Row.Kind != wanted {
			return 0, spot.Item.Row.Name + " is a " + spot.Item.Row.Kind + ", and no " + wanted
		}
	}
	found, err := spot.Serving(kind, reference.Reference{Drawer: request.Target.Names[0], Item: request.Target.Names[1]}, request.Now)
	if err != nil {
		return 0, err.Error()
	}
	return found.Number, ""
}

// Holders lists who has an action on a target.
func (s *Rights) Holders(c chest.Caller, actionName, targetText string) (list []Holder, err error) {
	request, err := Question{Action: actionName, Target: targetText}.parse(s.heart.Now())
	if err != nil {
		return nil, err
	}
	a := s.heart.Attempt(c, chest.AskAccess, strings.Join(request.Target.Names, "/"))
	if err := a.AllowAsk("", request.Target.Names); err != nil {
		return nil, err
	}
	listed := map[string]bool{}
	for _, target := range namesOf(a.St, request, a.Entry.At) {
		for _, h := range a.St.Policy.Holders(request.Action, target, a.Entry.At) {
			if listed[h.Subject] {
				continue
			}
			listed[h.Subject] = true
			row := a.St.Identity(h.Subject)
			list = append(list, Holder{Subject: chest.SubjectOf(row), State: row.State, Grants: a.St.DescribeGrants(h.Grants, a.Entry.At),
				Unless: a.St.DescribeGrants(h.Unless, a.Entry.At)})
		}
	}
	slices.SortFunc(list, func(x, y Holder) int { return cmp.Compare(x.Subject, y.Subject) })
	return chest.Reply(a, list)
}

// namesOf is a target under its own name and, when it is an item whose value is asked about, under those that it had before
// and that still work.
func namesOf(st *chest.Snapshot, request access.Request, now time.Time) []access.Target {
	names := request.Target.Names
	spot := st.At(names...)
	targets := []access.Target{spot.Target()}
	if spot.Item == nil || request.Action&access.Yields == 0 {
		return targets
	}
	for _, alias := range st.AliasesOf(spot.Item.Row.ID) {
		if d := st.DrawerByID(alias.Drawer); d != nil && now.Before(chest.FromMicros(alias.NotAfter)) {
			targets = append(targets, access.Target{Names: []string{d.Row.Name, alias.Name}, Labels: spot.Item.Labels})
		}
	}
	return targets
}

// Reach lists everything that exists now and that a subject may do something with.
func (s *Rights) Reach(c chest.Caller, subject string) (list []Reach, err error) {
	a := s.heart.Attempt(c, chest.AskAccess, "")
	if err := a.AllowAsk(subject, nil); err != nil {
		return nil, err
	}
	row, err := a.St.KnownSubject("subject", subject)
	if err != nil {
		return nil, a.Fail(err)
	}
	st, now := a.St, a.Entry.At
	add := func(name string, grants []access.Grant, target access.Target) {
		actions := access.ActionsOf(grants, target, now)
		if name != "" {
			actions &^= ofChest
		}
		if actions != 0 {
			list = append(list, Reach{Target: name, Actions: actions.Names()})
		}
	}
	add("", st.Policy.Of(row.ID), access.Target{})
	byDrawer := access.NewByDrawer(st.Policy.Of(row.ID))
	for _, d := range st.Drawers() {
		grants := byDrawer.Touching(d.Row.Name)
		if len(grants) == 0 {
			continue
		}
		add(d.Row.Name, grants, access.Target{Names: []string{d.Row.Name}, Labels: d.Labels})
		err := st.Each(d, store.ItemFilter{}, func(it *chest.Item) bool {
			add(d.Row.Name+"/"+it.Row.Name, grants, it.Target(d))
			return c.Ctx().Err() == nil
		})
		if err = cmp.Or(err, c.Ctx().Err()); err != nil {
			return nil, a.Fail(err)
		}
	}
	return chest.Reply(a, list)
}

// ofChest are actions that are decided on the chest and on no drawer.
const ofChest = access.Operate | access.Register
