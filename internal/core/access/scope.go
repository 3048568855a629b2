package access

import (
	"strings"

	"tansu/internal/core/reference"
)

// Target is what is asked about: no names for the chest, a drawer, or a drawer and an item. Labels are the target's
// own and, of an item, those of its drawer that it does not set itself.
type Target struct {
	Names  []string
	Labels reference.Labels
}

// String writes the target as a reference; the chest is empty.
func (t Target) String() string { return strings.Join(t.Names, "/") }

// Scope selects targets: those that a pattern selects and, if it names labels, that have all of these. It is written
// as a pattern with the labels in brackets: "ticketing-*/**[tier=database]", or "**[team=ticketing]" for the labels
// alone. The zero Scope selects nothing. A Scope is immutable and safe for concurrent use.
type Scope struct {
	pattern reference.Pattern
	labels  reference.Labels
}

// ParseScope reads a scope. The error is a [*reference.InvalidError].
func ParseScope(text string) (Scope, error) {
	before, rest, labelled := strings.Cut(text, "[")
	pattern, err := reference.ParsePattern(before)
	if err != nil {
		return Scope{}, err
	}
	if !labelled {
		return Scope{pattern: pattern}, nil
	}
	inside, closed := strings.CutSuffix(rest, "]")
	if !closed || inside == "" {
		return Scope{}, &reference.InvalidError{What: "scope", Text: text, Problem: "has brackets without labels in them at its end",
			Form: "a pattern, then labels such as [team=ticketing,tier=database]"}
	}
	labels, err := reference.ParseLabels(inside)
	return Scope{pattern: pattern, labels: labels}, err
}

// String writes the scope so that ParseScope reads it back.
func (s Scope) String() string {
	if len(s.labels) == 0 {
		return s.pattern.String()
	}
	return s.pattern.String() + "[" + s.labels.String() + "]"
}

// Labelled reports whether the scope asks for labels.
func (s Scope) Labelled() bool { return len(s.labels) > 0 }

// Matches reports whether the scope selects the target; it allocates nothing.
func (s Scope) Matches(t Target) bool { return s.matches(&t) }

// matches is Matches for where it counts: the hot path copies neither.
func (s *Scope) matches(t *Target) bool {
	return (len(s.labels) == 0 || t.Labels.Has(s.labels)) && s.pattern.Selects(t.Names)
}

// Covers reports whether every target that other selects is selected by s too. It is sound and errs towards false.
func (s Scope) Covers(other Scope) bool {
	return s.pattern.Covers(other.pattern) && other.labels.Has(s.labels)
}

// Intersects reports whether some target could be selected by both.
func (s Scope) Intersects(other Scope) bool {
	return s.pattern.Intersects(other.pattern) && !s.labels.Excludes(other.labels)
}

// Touches reports whether the scope could select a drawer of some name, or anything in it, whatever the labels.
func (s Scope) Touches(drawer string) bool { return s.pattern.Touches(drawer) }

// Drawer is the one drawer in which everything is that the scope selects; empty when there may be several.
func (s Scope) Drawer() string { return s.pattern.Drawer() }

// Labels are what the scope asks for besides a name, as text; empty for none.
func (s Scope) Labels() string { return s.labels.String() }

// Whole reports whether the scope selects a drawer of some name and everything in it, whatever the labels.
func (s Scope) Whole(drawer string) bool {
	return len(s.labels) == 0 && s.pattern.Whole(drawer)
}

// touches reports whether the scope could select the drawer or anything in it. With labels it looks at the drawer's
// own: what is in it may have others, and is asked about one by one.
func (s Scope) touches(drawer Target) bool {
	return s.pattern.Touches(drawer.Names[0]) && drawer.Labels.Has(s.labels)
}

// wholeDrawer reports whether the scope selects the drawer and all in it, as far as the drawer's own labels say.
func (s Scope) wholeDrawer(drawer Target) bool {
	whole, err := reference.ParsePattern(drawer.Names[0] + "/**")
	return err != nil || s.pattern.Covers(whole) && drawer.Labels.Has(s.labels)
}
