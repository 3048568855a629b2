package policytext

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
)

// reader walks the nodes of a YAML file and gathers problems.
type reader struct {
	zones    Zones
	problems Problems
}

func (r *reader) bad(at *yaml.Node, format string, arguments ...any) {
	r.problems = append(r.problems, Problem{At{at.Line, at.Column}, fmt.Sprintf(format, arguments...)})
}

var yamlLine = regexp.MustCompile(`^yaml: (?:line (\d+): )?(.*)$`)

func (r *reader) document(text []byte) *Document {
	d := &Document{}
	if len(text) > MaxSize {
		r.problems = append(r.problems, Problem{At{1, 1}, fmt.Sprintf("the file has %d bytes; the most is %d", len(text), MaxSize)})
		return d
	}
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	var root, second yaml.Node
	if err := decoder.Decode(&root); err != nil {
		r.syntax(err)
		return d
	}
	if err := decoder.Decode(&second); !errors.Is(err, io.EOF) {
		r.problems = append(r.problems, Problem{At{max(second.Line, 1), 1}, "a policy is one YAML document, and there is a second one"})
		return d
	}
	if !r.plain(&root) {
		return d
	}
	r.mapping(root.Content[0], fields{
		"tansu_policy": func(n *yaml.Node) {
			if n.Value != strconv.Itoa(Version) {
				r.bad(n, "tansu_policy is %.20q; this program knows version %d", n.Value, Version)
			}
		},
		"based_on":     r.text(&d.BasedOn),
		"teams":        r.list(func(n *yaml.Node) { d.Teams = append(d.Teams, r.team(n)) }),
		"roles":        r.list(func(n *yaml.Node) { d.Roles = append(d.Roles, r.role(n)) }),
		"grants":       r.list(func(n *yaml.Node) { d.Grants = append(d.Grants, renamed(d, r.grant(n))) }),
		"drawers":      r.list(func(n *yaml.Node) { d.Drawers = append(d.Drawers, r.drawer(n)) }),
		"expectations": r.list(func(n *yaml.Node) { d.Expectations = append(d.Expectations, r.expectation(n)) }),
	}, "tansu_policy", "teams", "roles", "grants", "drawers")
	return d
}

// renamed is a grant with the name that its role has now, of which a note is made once.
func renamed(d *Document, g Grant) Grant {
	if now := access.RoleName(g.Role); now != g.Role {
		if len(d.Notes) == 0 {
			d.Notes = append(d.Notes, fmt.Sprintf("the role %s is called %s now; the file still has the old name, which is taken", g.Role, now))
		}
		g.Role = now
	}
	return g
}

// syntax says where the YAML itself is broken; its parser knows only the line, and sometimes not even that.
func (r *reader) syntax(err error) {
	if errors.Is(err, io.EOF) {
		r.problems = append(r.problems, Problem{At{1, 1}, "the file is empty"})
		return
	}
	found := yamlLine.FindStringSubmatch(err.Error())
	if found == nil {
		found = []string{"", "1", err.Error()}
	}
	line, _ := strconv.Atoi(found[1])
	r.problems = append(r.problems, Problem{At{max(line, 1), 1}, "this is not YAML: " + found[2]})
}

// plain refuses aliases, with which a short text can stand for a huge one, and tags, which nothing here has.
func (r *reader) plain(n *yaml.Node) bool {
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		r.bad(n, "anchors and aliases are not allowed: write it out")
		return false
	}
	if n.Style&yaml.TaggedStyle != 0 {
		r.bad(n, "tags are not allowed")
		return false
	}
	for _, child := range n.Content {
		if !r.plain(child) {
			return false
		}
	}
	return true
}

// fields are the fields of a mapping and what reads each.
type fields map[string]func(*yaml.Node)

func (r *reader) mapping(n *yaml.Node, known fields, required ...string) {
	if n.Kind != yaml.MappingNode {
		r.bad(n, "here belongs a mapping with the fields %s", strings.Join(names(known), ", "))
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		read, there := known[key.Value]
		switch {
		case !there:
			hint := ""
			if near := reference.Nearest(key.Value, names(known)); near != "" {
				hint = "; did you mean " + near + "?"
			}
			r.bad(key, "there is no field %.40q here%s The fields are %s", key.Value, orDot(hint), strings.Join(names(known), ", "))
		case seen[key.Value]:
			r.bad(key, "the field %s is there twice", key.Value)
		default:
			read(value)
		}
		seen[key.Value] = true
	}
	for _, name := range required {
		if !seen[name] {
			r.bad(n, "the field %s is missing", name)
		}
	}
}

func orDot(hint string) string {
	if hint == "" {
		return "."
	}
	return hint
}

func names(f fields) []string {
	var list []string
	for name := range f {
		list = append(list, name)
	}
	slices.Sort(list)
	return list
}

func (r *reader) text(into *string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
			r.bad(n, "here belongs a text")
			return
		}
		*into = n.Value
	}
}

// checked reads a text that a function must accept.
func (r *reader) checked(into *string, check func(string) error) func(*yaml.Node) {
	return func(n *yaml.Node) {
		before := len(r.problems)
		r.text(into)(n)
		if len(r.problems) > before {
			return
		}
		if err := check(n.Value); err != nil {
			r.bad(n, "%s", err)
		}
	}
}

func (r *reader) flag(into *bool) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Tag != "!!bool" {
			r.bad(n, "here belongs true or false")
			return
		}
		*into = n.Value == "true"
	}
}

// list reads a sequence; an empty field is an empty one.
func (r *reader) list(each func(*yaml.Node)) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
			return
		}
		if n.Kind != yaml.SequenceNode {
			r.bad(n, "here belongs a list")
			return
		}
		for _, element := range n.Content {
			each(element)
		}
	}
}

// texts reads a list of texts, each of which a function must accept.
func (r *reader) texts(into *[]string, check func(string) error) func(*yaml.Node) {
	return r.list(func(n *yaml.Node) {
		var text string
		r.checked(&text, check)(n)
		*into = append(*into, text)
	})
}

func (r *reader) labels(into *map[string]string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.MappingNode {
			r.bad(n, "here belongs a mapping of labels, such as {team: ticketing}")
			return
		}
		*into = map[string]string{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			if _, twice := (*into)[n.Content[i].Value]; twice {
				r.bad(n.Content[i], "the label %s is there twice", n.Content[i].Value)
			}
			(*into)[n.Content[i].Value] = n.Content[i+1].Value
		}
		if _, err := reference.LabelsOf(*into); err != nil {
			r.bad(n, "%s", err)
		}
	}
}

func subjectCheck(text string) error { _, err := reference.ParseSubject(text); return err }

func scopeCheck(text string) error { _, err := access.ParseScope(text); return err }

func actionCheck(text string) error {
	if _, known := access.ParseAction(text); !known {
		return fmt.Errorf("%.40q is not an action; the actions are %s", text, strings.Join(access.AllActions.Names(), ", "))
	}
	return nil
}

// roleActionCheck also takes what all uses of a key together were called before.
func roleActionCheck(text string) error {
	if text == access.FormerUseKey {
		return nil
	}
	return actionCheck(text)
}

func oneOf(allowed ...string) func(string) error {
	return func(text string) error {
		if !slices.Contains(allowed, text) {
			return fmt.Errorf("%.40q is not allowed here; allowed: %s", text, strings.Join(allowed, ", "))
		}
		return nil
	}
}

func short(most int) func(string) error {
	return func(text string) error {
		if len(text) > most || strings.ContainsFunc(text, func(r rune) bool { return r < 0x20 || r == 0x7f }) {
			return fmt.Errorf("a single line of at most %d bytes belongs here", most)
		}
		return nil
	}
}

func at(n *yaml.Node) At { return At{n.Line, n.Column} }

func (r *reader) team(n *yaml.Node) Team {
	t := Team{At: at(n)}
	r.mapping(n, fields{"name": r.checked(&t.Name, reference.CheckName), "description": r.checked(&t.Description, short(500)),
		"members": r.texts(&t.Members, subjectCheck)}, "name")
	return t
}

func (r *reader) role(n *yaml.Node) Role {
	role := Role{At: at(n)}
	r.mapping(n, fields{"name": r.checked(&role.Name, reference.CheckName), "description": r.checked(&role.Description, short(500)),
		"actions": r.texts(&role.Actions, roleActionCheck)}, "name", "actions")
	return role
}

func (r *reader) grant(n *yaml.Node) Grant {
	g := Grant{At: at(n)}
	r.mapping(n, fields{
		"id":      r.text(&g.ID),
		"subject": r.checked(&g.Subject, subjectCheck),
		"effect":  r.checked(&g.Effect, oneOf(string(access.Allow), string(access.Deny))),
		"role":    r.text(&g.Role),
		"scope":   r.checked(&g.Scope, scopeCheck),
		"from":    r.texts(&g.From, func(text string) error { _, err := access.ParseNetworks([]string{text}); return err }),
		"hours":   r.checked(&g.Hours, func(text string) error { _, err := access.ParseHours(text, r.zones); return err }),
		"via":     r.texts(&g.Via, oneOf(access.Ways...)),
		"until": r.checked(&g.Until, func(text string) error {
			if _, err := time.Parse(time.RFC3339, text); err != nil && text != Never {
				return fmt.Errorf(`%.40q is neither a time such as 2027-02-21T08:00:00Z nor "never"`, text)
			}
			return nil
		}),
		"needs_reason": r.flag(&g.NeedsReason),
		"reason":       r.checked(&g.Reason, short(200)),
	}, "subject", "role", "scope")
	return g
}

func (r *reader) drawer(n *yaml.Node) Drawer {
	d := Drawer{At: at(n)}
	r.mapping(n, fields{
		"name":   r.checked(&d.Name, reference.CheckName),
		"labels": r.labels(&d.Labels),
		"approval": func(n *yaml.Node) {
			d.Approval = &Approval{}
			r.mapping(n, fields{"items": r.texts(&d.Approval.Items, itemPatternCheck),
				"of": r.checked(&d.Approval.Of, oneOf(OfEveryone, OfPersons))}, "items")
		},
		"items": r.list(func(n *yaml.Node) {
			it := Item{At: at(n)}
			r.mapping(n, fields{"name": r.checked(&it.Name, reference.CheckName), "labels": r.labels(&it.Labels)}, "name", "labels")
			d.Items = append(d.Items, it)
		}),
	}, "name")
	return d
}

// itemPatternCheck accepts what can follow a drawer in a pattern.
func itemPatternCheck(text string) error {
	if _, err := reference.ParsePattern("d/" + text); err != nil || strings.Contains(text, "/") {
		return fmt.Errorf(`%.80q is not a pattern over item names, such as db-* or *`, text)
	}
	return nil
}

// checkNames looks at what depends on other parts of the file.
func (r *reader) checkNames(d *Document) {
	teams, roles, drawers, ids := map[string]At{}, map[string]At{}, map[string]At{}, map[string]At{}
	once := func(seen map[string]At, what, name string, where At) {
		if before, twice := seen[name]; twice {
			r.problems = append(r.problems, Problem{where, fmt.Sprintf("%s %s is on line %d already", what, name, before.Line)})
		}
		seen[name] = where
	}
	for _, t := range d.Teams {
		once(teams, "team", t.Name, t.At)
	}
	for _, t := range d.Teams {
		r.checkMembers(d, t, teams)
	}
	for _, role := range d.Roles {
		once(roles, "role", role.Name, role.At)
		if _, builtIn := access.FindRole(access.RoleName(role.Name)); builtIn {
			r.problems = append(r.problems, Problem{role.At, role.Name + " is a built-in role, which cannot be changed"})
		}
		if len(role.Actions) == 0 {
			r.problems = append(r.problems, Problem{role.At, "role " + role.Name + " has no actions"})
		}
	}
	for _, g := range d.Grants {
		if g.ID != "" {
			once(ids, "grant", g.ID, g.At)
		}
		if _, known := d.Find(g.Role); !known {
			r.problems = append(r.problems, Problem{g.At, fmt.Sprintf("there is no role %.60q%s", g.Role, didYouMean(g.Role, d.roleNames()))})
		}
		r.checkTeam(g.Subject, g.At, teams)
	}
	for _, drawer := range d.Drawers {
		once(drawers, "drawer", drawer.Name, drawer.At)
	}
	for _, e := range d.Expectations {
		for _, subject := range append(slices.Clone(e.Exactly), e.Subject) {
			r.checkTeam(subject, e.At, teams)
		}
	}
}

func (r *reader) checkMembers(d *Document, t Team, teams map[string]At) {
	for _, member := range t.Members {
		r.checkTeam(member, t.At, teams)
		inner, isTeam := strings.CutPrefix(member, reference.Team+":")
		if !isTeam {
			continue
		}
		for _, other := range d.Teams {
			if other.Name == inner && slices.ContainsFunc(other.Members, func(m string) bool { return strings.HasPrefix(m, reference.Team+":") }) {
				r.problems = append(r.problems, Problem{t.At,
					fmt.Sprintf("team %s has %s in it, which has teams in it itself: teams nest once", t.Name, member)})
			}
		}
	}
}

// checkTeam complains about a team that the file does not have; persons and apps are known to the chest alone.
func (r *reader) checkTeam(subject string, where At, teams map[string]At) {
	name, isTeam := strings.CutPrefix(subject, reference.Team+":")
	if _, known := teams[name]; isTeam && !known {
		var all []string
		for team := range teams {
			all = append(all, team)
		}
		r.problems = append(r.problems, Problem{where, fmt.Sprintf("there is no %s in this file%s", subject, didYouMean(name, all))})
	}
}

func (d *Document) roleNames() (list []string) {
	for _, role := range access.Roles {
		list = append(list, role.Name)
	}
	for _, role := range d.Roles {
		list = append(list, role.Name)
	}
	return list
}

func didYouMean(name string, known []string) string {
	if near := reference.Nearest(name, known); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}
