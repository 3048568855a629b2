package access

import (
	"cmp"
	"slices"
	"time"
)

// Last is the end of the last way to do something.
type Last struct {
	At    time.Time // nobody can from then on; zero for no end
	Grant string    // that ends then; empty when nobody can now
}

// Before reports whether a way ends earlier than another one.
func (l Last) Before(other Last) bool {
	return !l.At.IsZero() && (other.At.IsZero() || l.At.Before(other.At))
}

// Within reports whether the way ends within a span from now.
func (l Last) Within(span time.Duration, now time.Time) bool {
	return !l.At.IsZero() && l.At.Sub(now) < span
}

// Someone reports whether one of the subjects that count may surely do some actions on everything that a scope selects.
func (p Policy) Someone(counts func(subject string) bool, actions Action, scope Scope, now time.Time) (someone bool) {
	p.Subjects(func(id string, _ []Grant) bool {
		someone = counts(id) && p.Surely(id, actions, scope, now)
		return !someone
	})
	return someone
}

// LastOf finds when the last of the subjects that count cannot do some actions any more, if nobody does anything about it.
func (p Policy) LastOf(counts func(subject string) bool, actions Action, scope Scope, now time.Time) Last {
	if !p.Someone(counts, actions, scope, now) {
		return Last{At: now}
	}
	var ends []Last
	p.Subjects(func(id string, grants []Grant) bool {
		if !counts(id) {
			return true
		}
		for _, g := range grants {
			if g.Effect == Allow && g.Role.Actions&actions == actions && now.Before(g.End) && g.Scope.Covers(scope) {
				ends = append(ends, Last{g.End, g.ID})
			}
		}
		return true
	})
	slices.SortFunc(ends, func(x, y Last) int { return cmp.Or(x.At.Compare(y.At), cmp.Compare(x.Grant, y.Grant)) })
	for _, end := range ends {
		if !p.Someone(counts, actions, scope, end.At) {
			return end
		}
	}
	return Last{}
}
