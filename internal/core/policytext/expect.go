package policytext

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
)

// Expectation is something that must hold, now and after every change. It has one of four forms:
//
//	{subject: app:gate-controller, cannot: read_value, scope: "ticketing-*/**"}
//	{subject: app:ticket-api, can: read_value, scope: ticketing-prod/**}
//	{exactly: [app:nightly-ledger, team:billing], can: read_value, scope: fuel-billing-prod/**}
//	{alone: [], can: read_value, scope: fuel-billing-prod/**}
//
// The last one names who, of those who cannot, may be able to come to it without anybody's help, by what they may do to access; only a
// chest can say who could. The others are about the file's own grants.
//
// It is about everything that the scope selects, whether it exists yet or not, and about whatever circumstances: who
// could read under some condition can read.
type Expectation struct {
	At      `yaml:"-"`
	Subject string   `yaml:"subject,omitempty"`
	Exactly []string `yaml:"exactly,omitempty,flow"`
	Alone   []string `yaml:"alone,omitempty,flow"`
	Can     string   `yaml:"can,omitempty"`
	Cannot  string   `yaml:"cannot,omitempty"`
	Scope   string   `yaml:"scope"`
}

func (r *reader) expectation(n *yaml.Node) Expectation {
	e := Expectation{At: at(n)}
	exactly, alone := false, false
	r.mapping(n, fields{
		"subject": r.checked(&e.Subject, subjectCheck),
		"exactly": func(n *yaml.Node) { exactly = true; r.texts(&e.Exactly, subjectCheck)(n) },
		"alone":   func(n *yaml.Node) { alone = true; r.texts(&e.Alone, subjectCheck)(n) },
		"can":     r.checked(&e.Can, actionCheck),
		"cannot":  r.checked(&e.Cannot, actionCheck),
		"scope":   r.checked(&e.Scope, scopeCheck),
	}, "scope")
	switch {
	case btoi(exactly)+btoi(alone)+btoi(e.Subject != "") != 1:
		r.bad(n, "an expectation is about one subject, about exactly these, or about those who come to it alone: give one of the three")
	case (e.Can == "") == (e.Cannot == ""):
		r.bad(n, "an expectation says what its subject can or cannot do: give one of the two")
	case (exactly || alone) && e.Cannot != "":
		r.bad(n, "exactly and alone go with can")
	}
	if alone && e.Alone == nil {
		e.Alone = []string{}
	}
	if exactly && e.Exactly == nil {
		e.Exactly = []string{}
	}
	return e
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// MarshalYAML writes "exactly nobody" as an empty list and does not leave it out.
func (e Expectation) MarshalYAML() (any, error) {
	type plain Expectation
	if e.Subject != "" {
		return plain(e), nil
	}
	if e.Alone != nil {
		return struct {
			Alone []string `yaml:"alone,flow"`
			Can   string   `yaml:"can"`
			Scope string   `yaml:"scope"`
		}{e.Alone, e.Can, e.Scope}, nil
	}
	return struct {
		Exactly []string `yaml:"exactly,flow"`
		Can     string   `yaml:"can"`
		Scope   string   `yaml:"scope"`
	}{e.Exactly, e.Can, e.Scope}, nil
}

// String writes the expectation as a sentence.
func (e Expectation) String() string {
	switch {
	case e.Alone != nil:
		return fmt.Sprintf("only [%s] come to %s %s alone", strings.Join(e.Alone, ", "), e.Can, e.Scope)
	case e.Subject == "":
		return fmt.Sprintf("exactly [%s] can %s %s", strings.Join(e.Exactly, ", "), e.Can, e.Scope)
	case e.Can != "":
		return fmt.Sprintf("%s can %s %s", e.Subject, e.Can, e.Scope)
	}
	return fmt.Sprintf("%s cannot %s %s", e.Subject, e.Cannot, e.Scope)
}

// Failure is an expectation that does not hold, and why.
type Failure struct {
	Expectation Expectation
	Why         string
}

// Check returns the document's expectations that its own grants do not meet at a moment.
func (d *Document) Check(zones Zones, now time.Time) []Failure { return d.CheckAgainst(d, zones, now) }

// Alone counts the expectations about who comes to something alone, which only a chest can tell.
func (d *Document) Alone() (n int) {
	for _, e := range d.Expectations {
		n += btoi(e.Alone != nil)
	}
	return n
}

// CheckAgainst returns the document's expectations that the grants of another one do not meet: that of a chest as it
// is, for example.
func (d *Document) CheckAgainst(state *Document, zones Zones, now time.Time) (failures []Failure) {
	policy := state.Policy(zones)
	for _, e := range d.Expectations {
		action, _ := access.ParseAction(e.Can + e.Cannot) // one of them is empty; checked when they were read
		scope, err := access.ParseScope(e.Scope)
		if err != nil || e.Alone != nil {
			continue
		}
		if why := e.failing(state, policy, action, scope, now); why != "" {
			failures = append(failures, Failure{e, why})
		}
	}
	return failures
}

func (e Expectation) failing(state *Document, policy access.Policy, action access.Action, scope access.Scope, now time.Time) string {
	switch {
	case e.Subject == "":
		return e.others(state, policy, action, scope, now)
	case e.Can != "":
		if !policy.Surely(e.Subject, action, scope, now) {
			return "no one grant gives it on all of that, or a denial reaches into it"
		}
		return ""
	}
	for _, subject := range append(state.Members(e.Subject), e.Subject) {
		if grant := policy.Could(subject, action, scope, now); grant != "" {
			return fmt.Sprintf("%s could, by %s", subject, state.grantText(grant))
		}
	}
	return ""
}

// others names who can and should not, and who should and cannot.
func (e Expectation) others(state *Document, policy access.Policy, action access.Action, scope access.Scope, now time.Time) string {
	var expected, whys []string
	for _, subject := range e.Exactly {
		if strings.HasPrefix(subject, reference.Team+":") {
			expected = append(expected, state.Members(subject)...)
		} else {
			expected = append(expected, subject)
		}
	}
	for _, subject := range sortedSubjects(policy) {
		if strings.HasPrefix(subject, reference.Team+":") || slices.Contains(expected, subject) {
			continue
		}
		if grant := policy.Could(subject, action, scope, now); grant != "" {
			whys = append(whys, fmt.Sprintf("%s could, by %s", subject, state.grantText(grant)))
		}
	}
	for _, subject := range expected {
		if policy.Could(subject, action, scope, now) == "" {
			whys = append(whys, subject+" cannot")
		}
	}
	return strings.Join(whys, "; ")
}

func sortedSubjects(policy access.Policy) (subjects []string) {
	policy.Subjects(func(subject string, _ []access.Grant) bool { subjects = append(subjects, subject); return true })
	return subjects
}

// grantText names a grant so that somebody finds it in the file.
func (d *Document) grantText(id string) string {
	for i, g := range d.Grants {
		if g.ID == id || id == fmt.Sprintf("grant %d of the file", i+1) {
			text := fmt.Sprintf("%s of %s on %s", g.Role, g.Subject, g.Scope)
			switch {
			case g.Line > 0:
				text += fmt.Sprintf(" (line %d)", g.Line)
			case g.ID != "":
				text += " (grant " + g.ID + ")"
			}
			return text
		}
	}
	return id
}

// WithExpectations copies the expectations of an old policy file, with their comments, into the policy that replaces it: a chest has
// no expectations of its own.
func WithExpectations(fresh, file []byte) []byte {
	var block []string
	in := false
	for line := range strings.Lines(string(file)) {
		if indented := line[0] == ' ' || line[0] == '\t' || line[0] == '-' || line[0] == '#' || line == "\n"; !indented {
			in = strings.HasPrefix(line, "expectations:")
		}
		if in {
			block = append(block, line)
		}
	}
	if len(block) == 0 {
		return fresh
	}
	return append(bytes.TrimRight(fresh, "\n"), "\n"+strings.TrimRight(strings.Join(block, ""), "\n")+"\n"...)
}
