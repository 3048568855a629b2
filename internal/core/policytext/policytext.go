// Package policytext is the access state of a chest as one readable YAML file: teams, roles, grants, what drawers
// demand, and expectations that must hold.
//
// The file is the whole state, not a change to it: what it leaves out is ended, emptied or removed when it is applied.
// It says nothing of persons and apps themselves, which prove who they are and so cannot be written into being.
//
// Reading is strict, and finds every problem with its line and column rather than the first. It takes no I/O: time
// zones are loaded by a function that the caller gives.
package policytext

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
)

// Version is the version of the format.
const Version = 1

// MaxSize is the largest file, in bytes: some 200 000 grants with a reason each.
const MaxSize = 64 << 20

// Document is a policy file.
type Document struct {
	BasedOn      string // the mark of the access state that the file was exported from; empty for none
	Teams        []Team
	Roles        []Role
	Grants       []Grant
	Drawers      []Drawer
	Expectations []Expectation
	Notes        []string // about what the file says in an old way
}

// At is where something stands in the file, from 1. The zero At is for what comes from no file.
type At struct{ Line, Column int }

// Team is a team and who is in it.
type Team struct {
	At          `yaml:"-"`
	Name        string   `yaml:"name"`
	Description string   `yaml:"description,omitempty"`
	Members     []string `yaml:"members,omitempty,flow"`
}

// Role is a custom role.
type Role struct {
	At          `yaml:"-"`
	Name        string   `yaml:"name"`
	Description string   `yaml:"description,omitempty"`
	Actions     []string `yaml:"actions,flow"`
}

// Grant is a grant. One without an id is matched with one of the same content, or else is new.
type Grant struct {
	At          `yaml:"-"`
	ID          string   `yaml:"id,omitempty"`
	Subject     string   `yaml:"subject"`
	Effect      string   `yaml:"effect,omitempty"` // "allow" when left out, or "deny"
	Role        string   `yaml:"role"`
	Scope       string   `yaml:"scope"`
	From        []string `yaml:"from,omitempty,flow"` // networks
	Hours       string   `yaml:"hours,omitempty"`
	Via         []string `yaml:"via,omitempty,flow"`
	NeedsReason bool     `yaml:"needs_reason,omitempty"`
	Until       string   `yaml:"until,omitempty"` // RFC 3339, or "never"; 90 days from when it is applied when left out
	Reason      string   `yaml:"reason,omitempty"`
}

// Never is the end of a grant that has none.
const Never = "never"

// Drawer is what a drawer and its items have that decides access.
type Drawer struct {
	At       `yaml:"-"`
	Name     string            `yaml:"name"`
	Labels   map[string]string `yaml:"labels,omitempty,flow"`
	Approval *Approval         `yaml:"approval,omitempty"`
	Items    []Item            `yaml:"items,omitempty"` // those that have labels of their own
}

// Item is an item with labels of its own.
type Item struct {
	At     `yaml:"-"`
	Name   string            `yaml:"name"`
	Labels map[string]string `yaml:"labels,flow"`
}

// Approval says for which items of a drawer a second person must agree before their value is read, and whose reads.
type Approval struct {
	Items []string `yaml:"items,flow"`   // patterns over names
	Of    string   `yaml:"of,omitempty"` // "everyone" when left out, or "persons"
}

// Whose reads need approval.
const (
	OfEveryone = "everyone"
	OfPersons  = "persons"
)

// Rows writes the rule as rows hold it: the patterns with spaces between them, and whose reads; both empty for no rule.
func (a Approval) Rows() (items, of string) {
	if len(a.Items) == 0 {
		return "", ""
	}
	return strings.Join(a.Items, " "), cmp.Or(a.Of, OfEveryone)
}

// Problem is one thing that is wrong with a file.
type Problem struct {
	At
	Text string
}

func (p Problem) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", p.Line, p.Column, p.Text)
}

// Problems are all that is wrong with a file, in its order.
type Problems []Problem

func (p Problems) Error() string {
	texts := make([]string, len(p))
	for i, problem := range p {
		texts[i] = problem.Error()
	}
	return strings.Join(texts, "\n")
}

// Zones finds a time zone by its name; time.LoadLocation is one.
type Zones func(string) (*time.Location, error)

// Parse reads a file and checks all that can be known without a chest. An error is of type [Problems].
func Parse(text []byte, zones Zones) (*Document, error) {
	r := &reader{zones: zones}
	document := r.document(text)
	if len(r.problems) == 0 {
		r.checkNames(document)
	}
	if len(r.problems) > 0 {
		slices.SortStableFunc(r.problems, func(a, b Problem) int {
			if a.Line != b.Line {
				return a.Line - b.Line
			}
			return a.Column - b.Column
		})
		return nil, r.problems
	}
	return document, nil
}

// Format writes a document so that Parse reads it back.
func Format(d *Document) ([]byte, error) {
	var out bytes.Buffer
	out.WriteString(head)
	encoder := yaml.NewEncoder(&out)
	encoder.SetIndent(2)
	err := encoder.Encode(struct {
		Version      int           `yaml:"tansu_policy"`
		BasedOn      string        `yaml:"based_on,omitempty"`
		Teams        []Team        `yaml:"teams"`
		Roles        []Role        `yaml:"roles"`
		Grants       []Grant       `yaml:"grants"`
		Drawers      []Drawer      `yaml:"drawers"`
		Expectations []Expectation `yaml:"expectations,omitempty"`
	}{Version, d.BasedOn, d.Teams, d.Roles, d.Grants, d.Drawers, d.Expectations})
	if err != nil {
		return nil, fmt.Errorf("write policy: %w", err)
	}
	return out.Bytes(), nil
}

const head = `# Who may do what in this chest. The file is the whole access state: what it leaves out is ended when it is applied.
# See what it would change with: tansu policy diff FILE. Its form for editors: tansu policy schema.
`

// Find returns the role of a name: a built-in one, or one of the document.
func (d *Document) Find(name string) (access.Role, bool) {
	if role, known := access.FindRole(name); known {
		return role, true
	}
	for _, role := range d.Roles {
		if role.Name == name {
			return access.Role{Name: name, Actions: actionsOf(role.Actions), Summary: role.Description}, true
		}
	}
	return access.Role{}, false
}

func actionsOf(names []string) (actions access.Action) {
	for _, name := range names {
		action, _ := access.ParseActions(name) // checked when it was read
		actions |= action
	}
	return actions
}

// Members lists the persons and apps of a team, those of teams in it included.
func (d *Document) Members(team string) (members []string) {
	for _, t := range d.Teams {
		if reference.Team+":"+t.Name != team {
			continue
		}
		for _, member := range t.Members {
			if strings.HasPrefix(member, reference.Team+":") {
				members = append(members, d.Members(member)...)
			} else {
				members = append(members, member)
			}
		}
	}
	slices.Sort(members)
	return slices.Compact(members)
}

// Policy returns the document's grants by subject, those of a team with the team and with each of its members.
func (d *Document) Policy(zones Zones) access.Policy {
	policy := map[string][]access.Grant{}
	for i, g := range d.Grants {
		made, err := g.parse(d, zones)
		if err != nil {
			continue // not possible in a document that was parsed
		}
		if made.ID == "" {
			made.ID = fmt.Sprintf("grant %d of the file", i+1)
		}
		for _, subject := range append(d.Members(g.Subject), g.Subject) {
			made.Subject = subject
			policy[subject] = append(policy[subject], made)
		}
	}
	return access.PolicyOf(policy)
}

// parse makes the grant that decisions are made with. Without an end it ends never: the file does not say when it
// would be applied.
func (g Grant) parse(d *Document, zones Zones) (made access.Grant, err error) {
	role, known := d.Find(g.Role)
	if !known {
		return made, fmt.Errorf("there is no role %q", g.Role)
	}
	made = access.Grant{ID: g.ID, Subject: g.Subject, Effect: access.Allow, Role: role}
	if g.Effect != "" {
		made.Effect = access.Effect(g.Effect)
	}
	if made.Scope, err = access.ParseScope(g.Scope); err != nil {
		return made, err
	}
	if made.Conditions.Networks, err = access.ParseNetworks(g.From); err != nil {
		return made, err
	}
	if made.Conditions.Hours, err = access.ParseHours(g.Hours, zones); err != nil {
		return made, err
	}
	made.Conditions.Via, made.Conditions.NeedsReason = g.Via, g.NeedsReason
	if g.Until != "" && g.Until != Never {
		made.End, err = time.Parse(time.RFC3339, g.Until)
	}
	return made, err
}
