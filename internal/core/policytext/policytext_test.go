package policytext

import (
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

const whole = `tansu_policy: 1
based_on: 3f9a0c
teams:
  - name: harbour-crew
    description: Opens and closes the gates
    members: [person:harbour-master, team:radio]
  - {name: radio, members: [app:gate-controller]}
roles:
  - {name: rotator, description: "puts new versions in", actions: [see_metadata, write_version]}
grants:
  - {subject: team:harbour-crew, role: consumer, scope: "harbour-gates-prod/**", from: [10.1.0.0/16], until: 2027-02-21T08:00:00Z}
  - {subject: person:ticketing-lead, role: rotator, scope: "**[team=ticketing]", hours: mon-fri 08:00-18:00 Europe/Lisbon, via: [person_token], needs_reason: true, until: never, reason: on duty}
  - {id: gr_1, subject: app:gate-controller, effect: deny, role: consumer, scope: "harbour-gates-prod/ramp-*", until: never}
drawers:
  - name: harbour-gates-prod
    labels: {team: harbour}
    approval: {items: [ramp-*], of: persons}
    items:
      - {name: radio-key, labels: {tier: radio}}
`

func parse(t *testing.T, text string) *Document {
	t.Helper()
	d, err := Parse([]byte(text), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func TestFormatReadsBack(t *testing.T) {
	d := parse(t, whole+`expectations:
  - {subject: app:gate-controller, cannot: read_value, scope: "ticketing-*/**"}
  - {exactly: [], can: read_value, scope: "fuel-billing-prod/**"}
`)
	text, err := Format(d)
	if err != nil {
		t.Fatal(err)
	}
	again := parse(t, string(text))
	forget(d)
	forget(again)
	if !reflect.DeepEqual(d, again) {
		t.Errorf("written as\n%s\nit reads as %+v, not %+v", text, again, d)
	}
}

// forget drops where things stood.
func forget(d *Document) {
	for i := range d.Teams {
		d.Teams[i].At = At{}
	}
	for i := range d.Roles {
		d.Roles[i].At = At{}
	}
	for i := range d.Grants {
		d.Grants[i].At = At{}
	}
	for i := range d.Drawers {
		d.Drawers[i].At = At{}
		for j := range d.Drawers[i].Items {
			d.Drawers[i].Items[j].At = At{}
		}
	}
	for i := range d.Expectations {
		d.Expectations[i].At = At{}
		if len(d.Expectations[i].Exactly) == 0 {
			d.Expectations[i].Exactly = nil
		}
	}
}

func TestProblemsNameLineAndColumn(t *testing.T) {
	for _, c := range []struct{ name, from, to, want string }{
		{"a misspelt field", "needs_reason: true", "needs_raeson: true",
			`line 12, column 145: there is no field "needs_raeson" here; did you mean needs_reason?`},
		{"a role that is not there", "role: rotator,", "role: rotater,", `line 12, column 5: there is no role "rotater"; did you mean rotator?`},
		{"a scope that cannot be read", `"harbour-gates-prod/**", from`, `"harbour-gates-prod//", from`, "line 11, column 57: pattern"},
		{"a network with bits outside", "10.1.0.0/16", "10.1.0.1/16", `line 11, column 89: "10.1.0.1/16" is not a network`},
		{"an end that is no time", "until: never, reason", "until: soon, reason", `line 12, column 172: "soon" is neither`},
		{"an unknown action", "[see_metadata, write_version]", "[see_metadata, writes]", `line 9, column 82: "writes" is not an action`},
		{"a team that is not there", "team:radio]", "team:rado]", "line 4, column 5: there is no team:rado in this file; did you mean radio?"},
		{"teams in teams in teams", "{name: radio, members: [app:gate-controller]}", "{name: radio, members: [team:harbour-crew]}",
			"teams nest once"},
		{"a team in itself", "{name: radio, members: [app:gate-controller]}", "{name: radio, members: [team:radio]}", "teams nest once"},
		{"the same team twice", "name: radio,", "name: harbour-crew,", "line 7, column 5: team harbour-crew is on line 4 already"},
		{"a built-in role", "name: rotator,", "name: curator,", "line 9, column 5: curator is a built-in role"},
		{"a field twice", "teams:\n", "teams: []\nteams:\n", "line 4, column 1: the field teams is there twice"},
		{"an alias", "[app:gate-controller]", "&a [app:gate-controller]", "anchors and aliases are not allowed"},
		{"a tag", "true, until", "!!str true, until", "tags are not allowed"},
		{"a text for a flag", "needs_reason: true", "needs_reason: yes please", "here belongs true or false"},
		{"another version", "tansu_policy: 1", "tansu_policy: 2", `line 1, column 15: tansu_policy is "2"`},
		{"a field that is missing", "role: consumer, scope: \"harbour-gates-prod/**\", ", "role: consumer, ",
			"line 11, column 5: the field scope is missing"},
		{"broken YAML", "grants:\n", "grants: [\n", "this is not YAML"},
		{"two documents", "teams:\n", "---\nteams:\n", "there is a second one"},
		{"an approval over paths", "[ramp-*]", "[a/b]", "line 17, column 24: \"a/b\" is not a pattern over item names"},
	} {
		text := strings.Replace(whole, c.from, c.to, 1)
		if text == whole {
			t.Fatalf("%s: %q is not in the file", c.name, c.from)
		}
		_, err := Parse([]byte(text), time.LoadLocation)
		var problems Problems
		if !errors.As(err, &problems) || !strings.Contains(problems.Error(), c.want) {
			t.Errorf("%s: got %v, want %q", c.name, err, c.want)
		}
	}
	if _, err := Parse([]byte("tansu_policy: 1\nteams: []\nroles: []\ngrants: [{}]\ndrawers: [{}]\n"),
		time.LoadLocation); strings.Count(err.Error(), "\n") != 3 {
		t.Errorf("not every problem is told: %v", err)
	}
}

func TestExpectations(t *testing.T) {
	for _, c := range []struct{ expect, want string }{
		{`{subject: app:gate-controller, cannot: read_value, scope: "ticketing-*/**"}`, ""},
		{`{subject: app:gate-controller, cannot: read_value, scope: "harbour-*/**"}`,
			"app:gate-controller could, by consumer of team:harbour-crew on harbour-gates-prod/** (line 11)"},
		{`{subject: app:gate-controller, cannot: read_value, scope: "harbour-gates-prod/ramp-*"}`, ""}, // denied
		{`{subject: app:gate-controller, can: read_value, scope: "harbour-gates-prod/radio-*"}`, ""},
		{`{subject: app:gate-controller, can: read_value, scope: "harbour-gates-prod/**"}`, "a denial reaches into it"},
		{`{subject: team:radio, cannot: read_value, scope: "**"}`, "app:gate-controller could"},
		{`{exactly: [person:harbour-master, app:gate-controller], can: read_value, scope: "harbour-gates-prod/**"}`, ""},
		{`{exactly: [team:harbour-crew], can: read_value, scope: "harbour-gates-prod/**"}`, ""},
		{`{exactly: [person:harbour-master], can: read_value, scope: "harbour-gates-prod/**"}`, "app:gate-controller could"},
		{`{exactly: [team:harbour-crew, app:rota-sync], can: read_value, scope: "harbour-gates-prod/**"}`, "app:rota-sync cannot"},
		{`{exactly: [], can: read_value, scope: "fuel-billing-prod/**"}`, ""},
		{`{subject: person:ticketing-lead, cannot: write_version, scope: "**[team=rota]"}`, ""},
		{`{subject: person:ticketing-lead, cannot: write_version, scope: "rota/**"}`, "person:ticketing-lead could"}, // it might be labelled so
	} {
		d := parse(t, whole+"expectations:\n  - "+c.expect+"\n")
		failures := d.Check(time.LoadLocation, now)
		if len(failures) == 0 != (c.want == "") || len(failures) == 1 && !strings.Contains(failures[0].Why, c.want) {
			t.Errorf("%s: got %+v, want %q", c.expect, failures, c.want)
		}
	}
	for _, bad := range []string{`{subject: app:x, scope: "**"}`, `{can: list, scope: "**"}`,
		`{subject: app:x, can: list, cannot: list, scope: "**"}`, `{exactly: [app:x], cannot: list, scope: "**"}`,
		`{subject: app:x, exactly: [], can: list, scope: "**"}`} {
		if _, err := Parse([]byte(whole+"expectations:\n  - "+bad+"\n"), time.LoadLocation); err == nil {
			t.Errorf("%s is taken", bad)
		}
	}
	ended := parse(t, strings.Replace(whole, "2027-02-21", "2026-02-21",
		1)+"expectations:\n  - {exactly: [], can: read_value, scope: \"harbour-gates-prod/**\"}\n")
	if failures := ended.Check(time.LoadLocation, now); len(failures) != 0 {
		t.Errorf("an ended grant counts: %+v", failures)
	}
}

func FuzzParsePolicy(f *testing.F) {
	f.Add(whole)
	f.Add("tansu_policy: 1\nteams: []\nroles: []\ngrants: []\ndrawers: []\n")
	f.Add("a: [&x 1, *x]")
	utc := func(string) (*time.Location, error) { return time.UTC, nil }
	f.Fuzz(func(t *testing.T, text string) {
		d, err := Parse([]byte(text), utc)
		if err != nil {
			return
		}
		_ = d.Check(utc, now)
		written, err := Format(d)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Parse(written, utc); err != nil {
			t.Fatalf("%q is written as\n%s\nwhich does not read: %v", text, written, err)
		}
	})
}

func TestAFormerRoleNameIsTakenWithANote(t *testing.T) {
	d, err := Parse([]byte("tansu_policy: 1\nteams: []\nroles: []\ndrawers: []\ngrants:\n"+
		"  - {subject: person:security-duty, role: keeper, scope: '**'}\n  - {subject: person:harbour-master, role: keeper, scope: 'd/**'}\n"),
		time.LoadLocation)
	if err != nil || len(d.Grants) != 2 || d.Grants[1].Role != "curator" || len(d.Notes) != 1 || !strings.Contains(d.Notes[0], "curator") {
		t.Errorf("%+v, %v", d, err)
	}
	if _, err := Parse([]byte("tansu_policy: 1\nteams: []\ngrants: []\ndrawers: []\nroles:\n  - {name: keeper, actions: [list]}\n"),
		time.LoadLocation); err == nil {
		t.Error("a custom role gets the former name of a built-in one")
	}
}
