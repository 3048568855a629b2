// Package access decides whether a subject may do an action on a target.
//
// The default is no. A grant is the only thing that changes that: a subject, a role (a set of actions), a scope (a
// pattern over targets, or their labels), conditions (networks, hours, how the subject proved itself, a stated reason) and an end. A
// grant that denies wins over every grant that allows. A decision is a pure function of its inputs and does not depend
// on the order of the grants.
//
// A decision and its explanation are one evaluation: [Policy.Explain] is [Policy.Decide] that also keeps what it saw.
//
// Grants are kept by subject, so that a decision costs as much as the subject has grants, however many others there are.
package access

import (
	"cmp"
	"slices"
	"time"

	"github.com/tidwall/btree"
)

// Effect is what a grant does.
type Effect string

// The effects.
const (
	Allow Effect = "allow"
	Deny  Effect = "deny"
)

// Grant gives a subject the actions of a role on the targets of a scope, under conditions, until an end.
type Grant struct {
	ID         string
	Subject    string // the identity's id, not its name: a name used again must not inherit grants
	Effect     Effect
	Role       Role
	Scope      Scope
	Conditions Conditions
	End        time.Time // exclusive; zero means that it never ends
}

// Miss is the first thing in a grant that does not fit a request. The zero Miss means that it fits.
type Miss string

// The misses, in the order in which they are looked for. A failing condition has its own name.
const (
	MissRole  Miss = "role"  // the role lacks the action
	MissScope Miss = "scope" // the scope does not select the target
	MissEnd   Miss = "end"   // it has ended
)

// miss is the one place where a grant is compared with a request; selects says whether its scope selects the target.
func (g *Grant) miss(actions Action, ctx *Context, selects bool) Miss {
	switch {
	case g.Role.Actions&actions == 0:
		return MissRole
	case !selects:
		return MissScope
	case g.Ended(ctx.Now):
		return MissEnd
	}
	if ctx.Anyhow && !g.Conditions.none() {
		if g.Effect == Allow {
			return ""
		}
		return Miss(Stated)
	}
	return Miss(g.Conditions.failing(ctx))
}

// Ended reports whether a grant has ended at a moment.
func (g *Grant) Ended(now time.Time) bool { return !g.End.IsZero() && !now.Before(g.End) }

// Policy holds grants by subject, as an immutable value: a change makes another one, which shares with it what stays as it is, and
// costs what it changes. The zero Policy has no grants. It is safe for concurrent use.
type Policy struct{ bySubject *btree.Map[string, []Grant] }

// PolicyOf makes a policy of many grants at once. The slices are the policy's from then on.
func PolicyOf(grants map[string][]Grant) Policy {
	p := Policy{new(btree.Map[string, []Grant])}
	for subject, list := range grants {
		p.bySubject.Set(subject, list)
	}
	return p
}

// Of lists a subject's grants, which the caller must not change.
func (p Policy) Of(subject string) []Grant {
	if p.bySubject == nil {
		return nil
	}
	grants, _ := p.bySubject.Get(subject)
	return grants
}

// Subjects calls visit with each subject and its grants, in the order of subjects, until it returns false.
func (p Policy) Subjects(visit func(subject string, grants []Grant) bool) {
	if p.bySubject != nil {
		p.bySubject.Scan(visit)
	}
}

// Draft is a policy that is being changed. It must not be used by several goroutines at once.
type Draft struct {
	Policy
	own map[string]bool // subjects whose lists this draft has made, so that it may add to them where they are
}

// Draft begins a change. The policy must not be drafted by several goroutines at once; it may be read meanwhile.
func (p Policy) Draft() *Draft {
	if p.bySubject == nil {
		return &Draft{PolicyOf(nil), map[string]bool{}}
	}
	return &Draft{Policy{p.bySubject.Copy()}, map[string]bool{}}
}

// Add puts a grant in.
func (d *Draft) Add(g Grant) {
	grants := d.Of(g.Subject)
	if !d.own[g.Subject] { // others may hold it, and it stays as it is
		grants = append(make([]Grant, 0, len(grants)+1), grants...)
	}
	d.Replace(g.Subject, append(grants, g))
}

// Remove takes the grant of that id and subject out.
func (d *Draft) Remove(subject, id string) {
	had := d.Of(subject)
	if !slices.ContainsFunc(had, func(g Grant) bool { return g.ID == id }) {
		return
	}
	kept := make([]Grant, 0, len(had))
	for _, g := range had {
		if g.ID != id {
			kept = append(kept, g)
		}
	}
	d.Replace(subject, kept)
}

// Replace gives a subject other grants than it had; the slice is the draft's from then on.
func (d *Draft) Replace(subject string, grants []Grant) {
	d.own[subject] = true
	if len(grants) == 0 {
		d.bySubject.Delete(subject)
		return
	}
	d.bySubject.Set(subject, grants)
}

// Request is the question.
type Request struct {
	Subject string
	Action  Action
	Target  Target
	Context
	Approval Approval
}

// Approval says whether a second person must agree to the action, beyond the grant, and has.
type Approval int

// The approvals.
const (
	NotNeeded Approval = iota
	Missing
	Given
)

// Reason says why an answer is no.
type Reason string

// The reasons.
const (
	NoGrant         Reason = "no_grant"         // nothing gives this action on this target
	GrantEnded      Reason = "grant_ended"      // something did, and its end has passed
	ConditionFailed Reason = "condition_failed" // something would, if one of its conditions held
	ReasonNeeded    Reason = "reason_needed"    // something would, if a reason were stated
	Denied          Reason = "denied"           // a deny grant applies
	ApprovalNeeded  Reason = "approval_needed"  // a grant allows it, and a second person has to agree
)

// Grantable reports whether one more grant is the answer to a no. A condition that does not hold was put there on
// purpose, and a grant without it would undo it: that is for a person to decide, not to be proposed.
func (r Reason) Grantable() bool { return r == NoGrant || r == GrantEnded }

// Decision is the answer. Grant is the id of the grant that allowed or denied, or of the one that came nearest.
type Decision struct {
	Allowed bool
	Grant   string
	Reason  Reason
	Miss    Miss // of the nearest grant, when the answer is no for want of one
	// Ends is when the last of the grants that allow it ends, conditions aside; zero when one of them has no end.
	Ends time.Time
}

// Considered is a grant that was held against a request, and how it fared.
type Considered struct {
	Grant  Grant
	Miss   Miss   // empty when it fits
	Reason string // the miss in a sentence; empty when it fits
}

// CouldAllow reports whether a grant of the subject could allow one of the actions on what has these names, whatever is there: its labels,
// the grant's end and its conditions do not count. Where it says no, the answer to a request is no without a look at what is there.
func (p Policy) CouldAllow(subject string, actions Action, names []string) bool {
	grants := p.Of(subject)
	for i := range grants {
		if g := &grants[i]; g.Effect == Allow && g.Role.Actions&actions != 0 && g.Scope.pattern.Selects(names) {
			return true
		}
	}
	return false
}

// Decide answers a request. It allocates nothing.
func (p Policy) Decide(r Request) Decision { return p.decide(&r, nil) }

// Why says in a sentence what keeps a grant of the request's subject from fitting the request; empty when it fits, or is not there.
func (p Policy) Why(r Request, grant string) string {
	grants := p.Of(r.Subject)
	for i := range grants {
		if g := &grants[i]; g.ID == grant {
			return g.why(g.miss(r.Action, &r.Context, g.Scope.matches(&r.Target)), &r)
		}
	}
	return ""
}

// Explain answers a request and returns the subject's grants, those that came nearest first.
func (p Policy) Explain(r Request) (Decision, []Considered) {
	considered := []Considered{}
	decision := p.decide(&r, &considered)
	slices.SortStableFunc(considered, func(a, b Considered) int {
		return cmp.Or(cmp.Compare(distance[a.Miss], distance[b.Miss]), cmp.Compare(a.Grant.ID, b.Grant.ID))
	})
	return decision, considered
}

// distance orders misses: a grant that fails a condition is nearer than one that has ended, and so on.
var distance = map[Miss]int{"": 0, Miss(Stated): 1, Miss(Proof): 2, Miss(Time): 3, Miss(Network): 4, MissEnd: 5, MissScope: 6, MissRole: 7}

// decide is the evaluation. Among grants that miss, the nearest and then the one with the smallest id is kept, so that
// the answer does not depend on their order.
func (p Policy) decide(r *Request, considered *[]Considered) Decision {
	decision := Decision{Reason: NoGrant}
	var allowed, denied string
	var ends time.Time
	grants := p.Of(r.Subject)
	for i := range grants {
		g := &grants[i]
		miss := MissRole
		if g.Role.Actions&r.Action != 0 { // most grants end here, without a look at their scope
			miss = g.miss(r.Action, &r.Context, g.Scope.matches(&r.Target))
		}
		if considered != nil {
			*considered = append(*considered, Considered{Grant: *g, Miss: miss, Reason: g.why(miss, r)})
		}
		switch {
		case miss == "" && g.Effect == Deny:
			denied = first(denied, g.ID)
		case miss == "":
			if allowed == "" || g.End.IsZero() || !ends.IsZero() && g.End.After(ends) {
				ends = g.End
			}
			allowed = first(allowed, g.ID)
		case g.Effect == Allow:
			decision.nearer(miss, g.ID)
		}
	}
	switch {
	case denied != "":
		return Decision{Grant: denied, Reason: Denied}
	case allowed != "" && r.Approval == Missing:
		return Decision{Grant: allowed, Reason: ApprovalNeeded}
	case allowed != "":
		return Decision{Allowed: true, Grant: allowed, Ends: ends}
	}
	return decision
}

// first returns the smaller of two ids, of which a may be empty.
func first(a, b string) string {
	if a == "" || b < a {
		return b
	}
	return a
}

// nearer keeps a missed grant if it came nearer than what is kept. A grant of another scope or role is not near.
func (d *Decision) nearer(miss Miss, id string) {
	if miss == MissRole || miss == MissScope {
		return
	}
	if d.Grant != "" && (distance[miss] > distance[d.Miss] || distance[miss] == distance[d.Miss] && id > d.Grant) {
		return
	}
	d.Grant, d.Miss, d.Reason = id, miss, ConditionFailed
	switch miss {
	case MissEnd:
		d.Reason = GrantEnded
	case Miss(Stated):
		d.Reason = ReasonNeeded
	}
}

// why says a miss in a sentence.
func (g *Grant) why(miss Miss, r *Request) string {
	switch miss {
	case "":
		return ""
	case MissRole:
		return "role " + g.Role.Name + " does not include " + r.Action.String()
	case MissScope:
		return "scope " + g.Scope.String() + " does not select it"
	case MissEnd:
		return "it ended at " + g.End.UTC().Format(time.RFC3339)
	}
	return g.Conditions.why(Condition(miss), &r.Context)
}

// Reaches reports whether any grant gives the subject the action on a drawer or on something in it. It decides only
// whether the drawer's name may be shown; what is in it is decided one by one.
func (p Policy) Reaches(subject string, action Action, drawer Target, ctx Context) Decision {
	decision := p.Decide(Request{Subject: subject, Action: action, Target: drawer, Context: ctx})
	if decision.Allowed || p.deniedWhole(subject, action, drawer, &ctx) {
		return decision
	}
	grants := p.Of(subject)
	for i := range grants {
		if g := &grants[i]; g.Effect == Allow && g.miss(action, &ctx, g.Scope.touches(drawer)) == "" {
			return Decision{Allowed: true, Grant: g.ID}
		}
	}
	return decision
}

// deniedWhole reports whether a deny grant covers a whole drawer.
func (p Policy) deniedWhole(subject string, action Action, drawer Target, ctx *Context) bool {
	grants := p.Of(subject)
	for i := range grants {
		if g := &grants[i]; g.Effect == Deny && g.miss(action, ctx, g.Scope.wholeDrawer(drawer)) == "" {
			return true
		}
	}
	return false
}

// DecideScope answers whether the subject may do the action on everything a scope selects: one grant must cover all of
// it, and no deny grant may reach into it. It is the question behind giving a grant to somebody else.
func (p Policy) DecideScope(subject string, action Action, scope Scope, ctx Context) Decision {
	decision := Decision{Reason: NoGrant}
	grants := p.Of(subject)
	for i := range grants {
		g := &grants[i]
		if g.Effect == Deny {
			if g.miss(action, &ctx, g.Scope.Intersects(scope)) == "" {
				return Decision{Grant: g.ID, Reason: Denied}
			}
			continue
		}
		switch miss := g.miss(action, &ctx, g.Scope.Covers(scope)); {
		case decision.Allowed:
		case miss == "":
			decision = Decision{Allowed: true, Grant: g.ID}
		default:
			decision.nearer(miss, g.ID)
		}
	}
	return decision
}

// Anywhere reports whether the subject has a grant with one of the actions on anything at all.
func (p Policy) Anywhere(subject string, actions Action, ctx Context) Decision {
	decision := Decision{Reason: NoGrant}
	grants := p.Of(subject)
	for i := range grants {
		g := &grants[i]
		if g.Effect != Allow {
			continue
		}
		miss := g.miss(actions, &ctx, true)
		if miss == "" {
			return Decision{Allowed: true, Grant: g.ID}
		}
		decision.nearer(miss, g.ID)
	}
	return decision
}

// Holds reports whether a grant of a role is in force for the subject, on anything, its conditions included.
func (p Policy) Holds(subject, role string, ctx Context) bool {
	grants := p.Of(subject)
	for i := range grants {
		g := &grants[i]
		if g.Effect == Allow && g.Role.Name == role && g.miss(g.Role.Actions, &ctx, true) == "" {
			return true
		}
	}
	return false
}

// Holder is a subject that has an action on a target, and the grants that give it.
type Holder struct {
	Subject string
	Grants  []string // ids of those that allow and are in force; their conditions may still not hold
	Unless  []string // ids of deny grants that apply under conditions
}

// Holders returns who has the action on a target at a moment, whatever the conditions: those are in the grants. A
// subject that a grant without conditions denies is left out.
func (p Policy) Holders(action Action, target Target, now time.Time) []Holder {
	var holders []Holder
	p.Subjects(func(subject string, grants []Grant) bool {
		holder := Holder{Subject: subject}
		denied := false
		for i := range grants {
			g := &grants[i]
			if g.Role.Actions&action == 0 || !g.Scope.matches(&target) || g.Ended(now) {
				continue
			}
			switch {
			case g.Effect == Allow:
				holder.Grants = append(holder.Grants, g.ID)
			case g.Conditions.none():
				denied = true
			default:
				holder.Unless = append(holder.Unless, g.ID)
			}
		}
		if len(holder.Grants) > 0 && !denied {
			slices.Sort(holder.Grants)
			holders = append(holders, holder)
		}
		return true
	})
	return holders
}

// Firm returns those of a subject's actions on a target that it has without any condition.
func (p Policy) Firm(subject string, target Target, now time.Time) Action {
	return FirmOf(p.Of(subject), target, now)
}

// FirmOf is [Policy.Firm] of some grants.
func FirmOf(grants []Grant, target Target, now time.Time) Action {
	var allowed, denied Action
	for i := range grants {
		g := &grants[i]
		switch {
		case !g.Scope.matches(&target) || g.Ended(now):
		case g.Effect == Deny:
			denied |= g.Role.Actions
		case g.Conditions.none():
			allowed |= g.Role.Actions
		}
	}
	return allowed &^ denied
}

// Actions returns the actions that a subject has on a target at a moment, whatever the conditions.
func (p Policy) Actions(subject string, target Target, now time.Time) Action {
	return ActionsOf(p.Of(subject), target, now)
}

// ActionsOf is [Policy.Actions] of some grants.
func ActionsOf(grants []Grant, target Target, now time.Time) Action {
	var allowed, denied Action
	for i := range grants {
		g := &grants[i]
		if !g.Scope.matches(&target) || g.Ended(now) {
			continue
		}
		switch {
		case g.Effect == Allow:
			allowed |= g.Role.Actions
		case g.Conditions.none():
			denied |= g.Role.Actions
		}
	}
	return allowed &^ denied
}

// ByDrawer is grants by the drawers in which they can give something, for questions about many drawers.
type ByDrawer struct {
	one     map[string][]Grant // of which everything is in one drawer
	several []Grant
}

// NewByDrawer sorts grants by drawers.
func NewByDrawer(grants []Grant) ByDrawer {
	b := ByDrawer{one: map[string][]Grant{}}
	for _, g := range grants {
		if drawer := g.Scope.Drawer(); drawer != "" {
			b.one[drawer] = append(b.one[drawer], g)
		} else {
			b.several = append(b.several, g)
		}
	}
	return b
}

// Touching are the grants that could give something on a drawer or in it, which the caller must not change.
func (b ByDrawer) Touching(drawer string) []Grant {
	grants := slices.Clip(b.one[drawer])
	for _, g := range b.several {
		if g.Scope.Touches(drawer) {
			grants = append(grants, g)
		}
	}
	return grants
}
