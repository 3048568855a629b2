package access

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Place is a target in an access state, and of whose reads its drawer's rules ask for a second person's approval; empty
// for nobody's.
type Place struct {
	Target
	Approval string
}

// Change is what becomes of one subject on one target. A set of actions is in one of the three.
type Change struct {
	Subject string
	Target  Target // as it is afterwards
	Gained  Action
	Lost    Action
	Altered Action // kept, but under other conditions, until another end, or with or without a second person
}

// Compare says what changes for whom when one access state takes the place of another: on targets that exist, at a
// moment, whatever the conditions. Both lists name the same targets in the same order; their labels and approvals may
// differ. Subjects whose grants are the same on both sides cost one look at these grants, and a target that no
// differing grant selects costs nothing more.
func Compare(before, after Policy, was, becomes []Place, now time.Time) []Change {
	var moved []int
	for i := range was {
		if was[i].Approval != becomes[i].Approval || was[i].Labels.String() != becomes[i].Labels.String() {
			moved = append(moved, i)
		}
	}
	var changes []Change
	for _, subject := range subjectsOf(before, after) {
		had, has := before.Of(subject), after.Of(subject)
		if len(moved) == 0 && same(had, has) {
			continue
		}
		differing := difference(had, has)
		if len(differing) == 0 && len(moved) == 0 {
			continue
		}
		for _, i := range affected(differing, moved, was, becomes) {
			change := Change{Subject: subject, Target: becomes[i].Target}
			change.compare(standingOf(had, was[i], now), standingOf(has, becomes[i], now))
			if change.Gained|change.Lost|change.Altered != 0 {
				changes = append(changes, change)
			}
		}
	}
	return changes
}

// DifferingScopes lists the scopes of the grants that are in one of two policies only, each once. When there are very many it is the
// scope of everything.
func DifferingScopes(before, after Policy) (scopes []Scope) {
	seen := map[string]bool{}
	for _, subject := range subjectsOf(before, after) {
		had, has := before.Of(subject), after.Of(subject)
		if same(had, has) {
			continue
		}
		for _, g := range difference(had, has) {
			if text := g.Scope.pattern.String(); !seen[text] {
				seen[text] = true
				scopes = append(scopes, g.Scope)
			}
		}
		if len(scopes) > mostScopes {
			everything, _ := ParseScope("**")
			return []Scope{everything}
		}
	}
	return scopes
}

// mostScopes is how many scopes are held against each drawer, before looking at all drawers is sooner done.
const mostScopes = 200

// subjectsOf lists all subjects of two policies, in order.
func subjectsOf(a, b Policy) (list []string) {
	add := func(subject string, _ []Grant) bool { list = append(list, subject); return true }
	a.Subjects(add)
	b.Subjects(add)
	slices.Sort(list)
	return slices.Compact(list)
}

// same reports whether two lists share their memory, as the lists of a policy and of a draft of it do.
func same(a, b []Grant) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }

// difference lists the grants that are on one side only.
func difference(before, after []Grant) (differing []*Grant) {
	count := make(map[string]int, len(before))
	for i := range before {
		count[before[i].content()]++
	}
	for i := range after {
		if content := after[i].content(); count[content] > 0 {
			count[content]--
		} else {
			differing = append(differing, &after[i])
		}
	}
	for i := range before {
		if content := before[i].content(); count[content] > 0 {
			count[content]--
			differing = append(differing, &before[i])
		}
	}
	return differing
}

// content says everything about a grant that decides, and not its id.
func (g *Grant) content() string {
	var b strings.Builder
	b.WriteString(string(g.Effect))
	for _, part := range []string{g.Role.Name, g.Scope.String(), g.terms()} {
		b.WriteByte('\x00')
		b.WriteString(part)
	}
	b.WriteByte('\x00')
	b.WriteString(g.Role.Actions.String())
	return b.String()
}

// terms says under which conditions and until when a grant holds; empty for always.
func (g *Grant) terms() string {
	if g.End.IsZero() {
		return g.Conditions.String()
	}
	return g.Conditions.String() + g.End.UTC().Format(time.RFC3339)
}

// affected lists the targets, by index, that a differing grant selects on either side, and those that moved.
func affected(differing []*Grant, moved []int, was, becomes []Place) []int {
	if len(differing) == 0 {
		return moved
	}
	var chosen []int
	drawer, reached := "", []*Grant(nil)
	for i := range was {
		candidates := differing
		if len(was[i].Names) > 0 { // the places of a drawer stand together: look at its grants once
			if was[i].Names[0] != drawer {
				drawer, reached = was[i].Names[0], nil
				for _, g := range differing {
					if g.Scope.pattern.Touches(drawer) {
						reached = append(reached, g)
					}
				}
			}
			candidates = reached
		}
		selects := func(g *Grant) bool { return g.Scope.Matches(was[i].Target) || g.Scope.Matches(becomes[i].Target) }
		if slices.Contains(moved, i) || slices.ContainsFunc(candidates, selects) {
			chosen = append(chosen, i)
		}
	}
	return chosen
}

// standing is what one subject may do on one target: which actions, and on which terms each.
type standing struct {
	actions Action
	terms   map[Action]string // empty text is without terms
}

func standingOf(grants []Grant, place Place, now time.Time) standing {
	var allowed, denied Action
	terms := map[Action][]string{}
	for i := range grants {
		g := &grants[i]
		if g.Ended(now) || !g.Scope.Matches(place.Target) {
			continue
		}
		text := g.terms()
		switch {
		case g.Effect == Allow:
			allowed |= g.Role.Actions
		case g.Conditions.none():
			denied |= g.Role.Actions
			continue
		default:
			text = "unless " + text
		}
		for bit := List; bit <= Operate; bit <<= 1 {
			if g.Role.Actions&bit != 0 {
				terms[bit] = append(terms[bit], text)
			}
		}
	}
	s := standing{actions: allowed &^ denied, terms: make(map[Action]string, len(terms))}
	for bit, texts := range terms {
		slices.Sort(texts)
		texts = slices.Compact(texts)
		if texts[0] == "" { // one grant without terms makes the others' superfluous, but not what denies
			texts = slices.DeleteFunc(texts, func(t string) bool { return !strings.HasPrefix(t, "unless ") })
		}
		if bit == ReadValue && place.Approval != "" {
			texts = append(texts, "with approval of "+place.Approval)
		}
		s.terms[bit] = strings.Join(texts, "\x00")
	}
	return s
}

func (c *Change) compare(before, after standing) {
	c.Gained = after.actions &^ before.actions
	c.Lost = before.actions &^ after.actions
	for bit := List; bit <= Operate; bit <<= 1 {
		if before.actions&after.actions&bit != 0 && before.terms[bit] != after.terms[bit] {
			c.Altered |= bit
		}
	}
}

// Summary is the same change on several targets of one subject.
type Summary struct {
	Subject               string
	Gained, Lost, Altered Action
	Targets               []string // references; "drawer/**" for a drawer with all that is in it, "" for the chest
}

// Summarise puts together what changes alike. The places are those that were compared.
func Summarise(changes []Change, places []Place) []Summary {
	inside := map[string]int{} // how many places each drawer has, itself included
	for _, p := range places {
		if len(p.Names) > 0 {
			inside[p.Names[0]]++
		}
	}
	type kind struct {
		subject               string
		gained, lost, altered Action
	}
	targets := map[kind][]Target{}
	var order []kind
	for _, c := range changes {
		k := kind{c.Subject, c.Gained, c.Lost, c.Altered}
		if targets[k] == nil {
			order = append(order, k)
		}
		targets[k] = append(targets[k], c.Target)
	}
	summaries := make([]Summary, 0, len(order))
	for _, k := range order {
		summaries = append(summaries, Summary{Subject: k.subject, Gained: k.gained, Lost: k.lost, Altered: k.altered,
			Targets: collapse(targets[k], inside)})
	}
	slices.SortStableFunc(summaries, func(a, b Summary) int { return cmp.Compare(a.Subject, b.Subject) })
	return summaries
}

// collapse writes a drawer of which every place is there as one.
func collapse(targets []Target, inside map[string]int) (texts []string) {
	there := map[string]int{}
	for _, t := range targets {
		if len(t.Names) > 0 {
			there[t.Names[0]]++
		}
	}
	written := map[string]bool{}
	for _, t := range targets {
		text := t.String()
		if len(t.Names) > 0 && inside[t.Names[0]] > 1 && there[t.Names[0]] == inside[t.Names[0]] {
			text = t.Names[0] + "/**"
		}
		if !written[text] {
			written[text] = true
			texts = append(texts, text)
		}
	}
	return texts
}
