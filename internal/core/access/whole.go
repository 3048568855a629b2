package access

import (
	"slices"
	"time"
)

// The functions here are about scopes as a whole, so that they also hold for what does not exist yet.

// Could returns a grant by which the subject may do the action on something that the scope selects, under some
// circumstances, or "" when there is none. It errs towards naming one.
func (p Policy) Could(subject string, action Action, scope Scope, now time.Time) (grant string) {
	grants := p.Of(subject)
	for i := range grants {
		g := &grants[i]
		if g.Effect != Allow || g.Role.Actions&action == 0 || g.Ended(now) || !g.Scope.Intersects(scope) {
			continue
		}
		denied := slices.ContainsFunc(grants, func(d Grant) bool {
			return d.Effect == Deny && d.Role.Actions&action != 0 && d.Conditions.none() && lasts(d.End, g.End) &&
				(d.Scope.Covers(scope) || d.Scope.Covers(g.Scope))
		})
		if !denied {
			grant = first(grant, g.ID)
		}
	}
	return grant
}

// Surely reports whether one grant gives the subject all of some actions on everything that the scope selects, whatever its
// conditions, and no deny grant reaches into it.
func (p Policy) Surely(subject string, actions Action, scope Scope, now time.Time) bool {
	surely := false
	grants := p.Of(subject)
	for i := range grants {
		g := &grants[i]
		switch {
		case g.Role.Actions&actions == 0 || g.Ended(now):
		case g.Effect == Deny && g.Scope.Intersects(scope):
			return false
		case g.Effect == Allow && g.Role.Actions&actions == actions && g.Scope.Covers(scope):
			surely = true
		}
	}
	return surely
}

// Wider reports whether a subject whose grants become those of after may do anything that those of before did not
// give. It errs towards yes.
func Wider(before, after []Grant) bool {
	for i := range after {
		if after[i].Effect == Allow && coveredBy(&after[i], before) == nil {
			return true
		}
	}
	for i := range before {
		if before[i].Effect == Deny && coveredBy(&before[i], after) == nil {
			return true
		}
	}
	return false
}

// coveredBy finds a grant of the same effect that does at least what g does.
func coveredBy(g *Grant, others []Grant) *Grant {
	for i := range others {
		o := &others[i]
		sameTerms := o.Conditions.none() || o.Conditions.String() == g.Conditions.String()
		if o.Effect == g.Effect && o.Role.Actions&g.Role.Actions == g.Role.Actions && o.Scope.Covers(g.Scope) && sameTerms &&
			lasts(o.End, g.End) {
			return o
		}
	}
	return nil
}

// CoveredBy returns the id of one of the subject's grants that already does all that g would, or "".
func (p Policy) CoveredBy(g Grant) string {
	if o := coveredBy(&g, p.Of(g.Subject)); o != nil {
		return o.ID
	}
	return ""
}

// lasts reports whether what has one end holds at least as long as what has the other; zero is for ever.
func lasts(end, other time.Time) bool {
	return end.IsZero() || !other.IsZero() && !end.Before(other)
}
