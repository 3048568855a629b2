// Package access decides whether a subject may do an action on a target.
//
// The default is no. A grant is the only thing that changes that: a subject, a role (a set of actions), a scope (a
// pattern over targets) and an end. A grant that denies wins over every grant that allows. A decision is a pure
// function of its inputs and does not depend on the order of the grants.
//
// Grants are kept by subject, so that a decision costs as much as the subject has grants, however many others there are.
package access

import (
	"time"

	"tansu/internal/core/reference"
)

// Effect is what a grant does.
type Effect string

// The effects.
const (
	Allow Effect = "allow"
	Deny  Effect = "deny"
)

// Grant gives a subject the actions of a role on the targets of a scope until an end.
type Grant struct {
	ID      string
	Subject string // the identity's id, not its name: a name used again must not inherit grants
	Effect  Effect
	Role    Role
	Scope   reference.Pattern
	End     time.Time // exclusive; zero means that it never ends
}

func (g *Grant) ended(now time.Time) bool { return !g.End.IsZero() && !now.Before(g.End) }

// Policy holds grants by subject. It is not safe for concurrent use while it is being changed.
type Policy map[string][]Grant

// Add puts a grant in.
func (p Policy) Add(g Grant) { p[g.Subject] = append(p[g.Subject], g) }

// Remove takes the grant of that id and subject out.
func (p Policy) Remove(subject, id string) {
	kept := make([]Grant, 0, len(p[subject]))
	for _, g := range p[subject] {
		if g.ID != id {
			kept = append(kept, g)
		}
	}
	p[subject] = kept
}

// Request is the question.
type Request struct {
	Subject string
	Action  Action
	Target  []string // segments: none for the chest, drawer, or drawer and item
	Now     time.Time
}

// Reason says why an answer is no.
type Reason string

// The reasons.
const (
	NoGrant    Reason = "no_grant"    // nothing gives this action on this target
	GrantEnded Reason = "grant_ended" // something did, and its end has passed
	Denied     Reason = "denied"      // a deny grant applies
)

// Decision is the answer. Grant is the id of the grant that allowed or denied, or of the one that ended.
type Decision struct {
	Allowed bool
	Grant   string
	Reason  Reason
}

// Decide answers a request. It allocates nothing.
func (p Policy) Decide(r Request) Decision {
	decision := Decision{Reason: NoGrant}
	for i := range p[r.Subject] {
		g := &p[r.Subject][i]
		if g.Role.Actions&r.Action == 0 || !g.Scope.Matches(r.Target...) {
			continue
		}
		switch {
		case g.ended(r.Now):
			if !decision.Allowed && decision.Reason == NoGrant {
				decision.Grant, decision.Reason = g.ID, GrantEnded
			}
		case g.Effect == Deny:
			return Decision{Grant: g.ID, Reason: Denied}
		case !decision.Allowed:
			decision = Decision{Allowed: true, Grant: g.ID}
		}
	}
	return decision
}

// Reaches reports whether any grant gives the subject the action on a drawer or on something in it. It decides only
// whether the drawer's name may be shown; what is in it is decided one by one.
func (p Policy) Reaches(subject string, action Action, drawer string, now time.Time) Decision {
	decision := p.Decide(Request{Subject: subject, Action: action, Target: []string{drawer}, Now: now})
	if decision.Allowed || p.deniedWhole(subject, action, drawer, now) {
		return decision
	}
	for _, g := range p[subject] {
		if g.Effect == Allow && g.Role.Actions&action != 0 && !g.ended(now) && g.Scope.Touches(drawer) {
			return Decision{Allowed: true, Grant: g.ID}
		}
	}
	return decision
}

// deniedWhole reports whether a deny grant covers a whole drawer.
func (p Policy) deniedWhole(subject string, action Action, drawer string, now time.Time) bool {
	whole, err := reference.ParsePattern(drawer + "/**")
	if err != nil {
		return true
	}
	for _, g := range p[subject] {
		if g.Effect == Deny && g.Role.Actions&action != 0 && !g.ended(now) && g.Scope.Covers(whole) {
			return true
		}
	}
	return false
}

// DecideScope answers whether the subject may do the action on everything a scope selects: one grant must cover all of
// it, and no deny grant may reach into it. It is the question behind giving a grant to somebody else.
func (p Policy) DecideScope(subject string, action Action, scope reference.Pattern, now time.Time) Decision {
	decision := Decision{Reason: NoGrant}
	for _, g := range p[subject] {
		if g.Role.Actions&action == 0 || g.ended(now) {
			continue
		}
		if g.Effect == Deny && g.Scope.Intersects(scope) {
			return Decision{Grant: g.ID, Reason: Denied}
		}
		if g.Effect == Allow && !decision.Allowed && g.Scope.Covers(scope) {
			decision = Decision{Allowed: true, Grant: g.ID}
		}
	}
	return decision
}

// Anywhere reports whether the subject has a grant with one of the actions on anything at all.
func (p Policy) Anywhere(subject string, actions Action, now time.Time) Decision {
	for _, g := range p[subject] {
		if g.Effect == Allow && g.Role.Actions&actions != 0 && !g.ended(now) {
			return Decision{Allowed: true, Grant: g.ID}
		}
	}
	return Decision{Reason: NoGrant}
}
