package httpapi_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v3"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/core/policytext"
)

// withAccess makes a chest with some of everything that a policy holds.
func withAccess(t *testing.T) (*chesttest.Chest, *client.Client) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	chest.Fill(t, "fuel-billing-prod", "ledger", "v")
	steward := chest.Client(t, chest.Steward)
	chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	chest.Person(t, "ticketing-lead")
	team(t, steward, "inner", "app:ticket-api")
	team(t, steward, "outer", "team:inner", "person:ticketing-lead")
	must[client.RoleStored](t)(steward.AddRole(ctx, client.NewRole{Name: "rotator", Actions: []string{"write_version"}}))
	must[client.Given](t)(steward.Give(ctx,
		client.NewGrant{Subject: "team:outer", Role: "rotator", Scope: "**[team=ticketing]", NeverEnds: true,
			Conditions: client.Conditions{Networks: []string{"10.1.0.0/16"}, Hours: "mon-fri 08:00-18:00 Europe/Lisbon", Via: []string{"app_token"},
				NeedsReason: true}}))
	must[client.Given](t)(steward.Give(ctx,
		client.NewGrant{Subject: "team:inner", Role: "viewer", Scope: "ticketing-prod/**", Effect: "deny"}))
	if err := label(steward, "ticketing-prod", client.Labels{"team": "ticketing"}); err != nil {
		t.Fatal(err)
	}
	if err := label(steward, "ticketing-prod/db-password", client.Labels{"tier": "database"}); err != nil {
		t.Fatal(err)
	}
	contents := must[client.DrawerContents](t)(steward.Drawer(ctx, "fuel-billing-prod"))
	must[client.Drawer](t)(steward.ChangeDrawer(ctx, "fuel-billing-prod", contents.Drawer.Revision,
		client.Described{Approval: &client.Approval{Items: []string{"led*"}, Of: "persons"}}))
	return chest, chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"},
		chesttest.Grant{Role: "curator", Scope: "fuel-billing-prod/**"}))
}

func TestExportedPolicyIsTheStateAndMeetsItsSchema(t *testing.T) {
	chest, gate := withAccess(t)
	text := must[string](t)(gate.Policy(ctx))
	d := must[client.PolicyDifference](t)(gate.DiffPolicy(ctx, text))
	if len(d.Steps) != 0 || len(d.Changes) != 0 || d.Stale || d.Lockout {
		t.Errorf("what was exported differs: %+v", d)
	}
	for _, fragment := range []string{"team:inner", "rotator", "**[team=ticketing]", "10.1.0.0/16", "until: never", "effect: deny",
		"tier: database", "led*"} {
		if !strings.Contains(text, fragment) {
			t.Errorf("%q is not in\n%s", fragment, text)
		}
	}
	var document any
	if err := yaml.Unmarshal([]byte(text), &document); err != nil {
		t.Fatal(err)
	}
	asJSON, err := json.Marshal(document)
	if err != nil {
		t.Fatal(err)
	}
	schema := policySchema(t)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(asJSON)))
	if err != nil {
		t.Fatal(err)
	}
	if err := schema.Validate(value); err != nil {
		t.Error(err)
	}
	for _, bad := range []string{`{"tansu_policy":1}`,
		`{"tansu_policy":1,"teams":[],"roles":[],"grants":[{"subject":"x","role":"r","scope":"**"}],"drawers":[]}`,
		`{"tansu_policy":1,"teams":[],"roles":[],"grants":[],"drawers":[],"expectations":[{"subject":"app:x","can":"list","cannot":"list","scope":"**"}]}`} {
		value, _ := jsonschema.UnmarshalJSON(strings.NewReader(bad))
		if schema.Validate(value) == nil {
			t.Errorf("the schema takes %s", bad)
		}
	}
	chest.Restart(t)
	gate = chest.Client(t, chest.SignIn(t, "security-duty"))
	if again := must[string](t)(gate.Policy(ctx)); again != text {
		t.Errorf("after a restart it is\n%s\nand was\n%s", again, text)
	}
}

func policySchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(policytext.Schema())))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("policy.schema.json", value); err != nil {
		t.Fatal(err)
	}
	schema, err := compiler.Compile("policy.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return schema
}

// A policy is applied whole, onto the state that was looked at, and takes effect at once.
func TestPolicyIsAppliedWholeOntoTheStateThatWasSeen(t *testing.T) {
	chest, gate := withAccess(t)
	lead := chest.Client(t, chest.SignIn(t, "ticketing-lead"))
	curator := chest.Client(t, chest.Person(t, "platform-oncall", chesttest.Grant{Role: "curator", Scope: "**"}))
	before := must[string](t)(gate.Policy(ctx))
	text := strings.Replace(before, "role: consumer\n", "role: rotator\n", 1)
	text = strings.Replace(text, "grants:\n",
		"grants:\n  - {subject: person:ticketing-lead, role: consumer, scope: fuel-billing-prod/**, reason: by the file}\n", 1)
	text = strings.Replace(text, "members: ['app:ticket-api']", "members: []", 1)
	text = strings.Replace(text, "approval:\n      items: [led*]\n      of: persons", "labels: {}", 1)
	d := must[client.PolicyDifference](t)(gate.DiffPolicy(ctx, text))
	words := map[string]string{}
	for _, c := range d.Changes {
		words[c.Subject] += "+" + strings.Join(c.Gained, ",") + "-" + strings.Join(c.Lost, ",") + "~" + strings.Join(c.Altered, ",") + "@" +
			strings.Join(c.Targets, ",")
	}
	if got := words["person:ticketing-lead"]; got != "+read_value,encrypt,decrypt,sign,verify-~@fuel-billing-prod/**" {
		t.Errorf("the lead: %s", got)
	}
	if got := words["app:ticket-api"]; got != "+-read_value,encrypt,decrypt,sign,verify~write_version@ticketing-prod/**" {
		t.Errorf("the app: %s", got)
	}
	if got := readCode(lead, "fuel-billing-prod/ledger"); got != "refused" {
		t.Errorf("looking at a difference changes something: %q", got)
	}
	if _, err := gate.ApplyPolicy(ctx, client.Applying{Policy: text, Onto: "0000000000000000"}); chesttest.Code(err) != "stale" {
		t.Errorf("onto another state: %v", err)
	}
	_, err := gate.ApplyPolicy(ctx, client.Applying{Policy: text})
	refused(t, "it lifts a rule that asks for two", err, "approval_needed")
	contents := must[client.DrawerContents](t)(gate.Drawer(ctx, "fuel-billing-prod"))
	_, err = gate.ChangeDrawer(ctx, "fuel-billing-prod", contents.Drawer.Revision, client.Described{Approval: &client.Approval{}})
	agree(t, err, gate, curator)
	applied := must[client.PolicyDifference](t)(gate.ApplyPolicy(ctx, client.Applying{Policy: text, Onto: d.Mark}))
	if got := readCode(lead, "fuel-billing-prod/ledger"); got != "" || applied.Mark == d.Mark {
		t.Errorf("after applying: %q, mark %s", got, applied.Mark)
	}
	if _, err := gate.ApplyPolicy(ctx, client.Applying{Policy: text}); chesttest.Code(err) != "stale" {
		t.Errorf("a stale file: %v", err)
	}
	again := must[client.PolicyDifference](t)(gate.ApplyPolicy(ctx, client.Applying{Policy: text, Onto: applied.Mark}))
	if len(again.Steps) != 0 || again.Mark != applied.Mark {
		t.Errorf("applying what is there already does %v", again.Steps)
	}
	if _, err := gate.ApplyPolicy(ctx, client.Applying{Policy: strings.Replace(text, "based_on:", "# based_on:",
		1)}); chesttest.Code(err) != "needs_revision" {
		t.Errorf("without saying onto what: %v", err)
	}
	chest.Restart(t)
	lead = chest.Client(t, chest.SignIn(t, "ticketing-lead"))
	if got := readCode(lead, "fuel-billing-prod/ledger"); got != "" {
		t.Errorf("after a restart: %q", got)
	}
}

// Whatever is wrong with a policy, nothing of it is done.
func TestPolicyThatIsRefusedChangesNothing(t *testing.T) {
	_, gate := withAccess(t)
	text := must[string](t)(gate.Policy(ctx))
	grants := func(more string) string { return strings.Replace(text, "grants:\n", "grants:\n"+more, 1) }
	without := func(subject string) string {
		var kept []string
		for _, part := range strings.SplitAfter(text, "\n  - id: ") {
			if !strings.Contains(part, "subject: "+subject+"\n") {
				kept = append(kept, part)
			}
		}
		return strings.Join(kept, "")
	}
	for what, c := range map[string]struct{ policy, code, says string }{
		"somebody who is not registered": {grants("  - {subject: app:ticket-apl, role: viewer, scope: \"**\"}\n"), "invalid_input",
			"did you mean app:ticket-api?"},
		"a drawer that is not there": {strings.Replace(text, "name: ticketing-prod\n", "name: ticketing-prd\n", 1), "invalid_input",
			"did you mean the drawer ticketing-prod?"},
		"an end in the past": {grants("  - {subject: app:ticket-api, role: viewer, scope: \"**\", until: " +
			"2020-01-01T00:00:00Z}\n"), "invalid_input", "not in the future"},
		"no YAML": {"grants: [", "invalid_input", "line 1"},
		"one's own access": {grants("  - {subject: person:security-duty, role: consumer, scope: nothing-yet/**}\n"), "refused",
			"widens your own access"},
		"one's own access by a team": {strings.Replace(text, "members: ['app:ticket-api']",
			"members: ['app:ticket-api', 'person:security-duty']", 1), "refused", "widens your own access"},
		"a new steward": {grants("  - {subject: person:ticketing-lead, role: steward, scope: \"**\", until: never}\n"),
			"refused", "only a steward"},
		"an expectation that fails": {text + "expectations:\n  - {exactly: [], can: read_value, scope: \"ticketing-prod/**\"}\n",
			"invalid_input", "app:ticket-api could"},
		"a drawer's rules without the right": {strings.Replace(text, "labels: {team: ticketing}", "labels: {team: other}", 1), "refused",
			"takes the right to"},
		"nobody left to give access": {without("person:security-duty"), "invalid_input", "nobody could give access any more"},
	} {
		if c.policy == text {
			t.Fatalf("%s: the file was not changed", what)
		}
		if what == "nobody left to give access" { // the steward can still give it
			c.policy = strings.Replace(c.policy, "role: steward", "role: viewer", 1)
		}
		_, err := gate.ApplyPolicy(ctx, client.Applying{Policy: c.policy})
		if chesttest.Code(err) != c.code || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: got %v, want %s, %q", what, err, c.code, c.says)
		}
		if after := must[string](t)(gate.Policy(ctx)); after != text {
			t.Fatalf("%s: it was refused and changed\n%s\nto\n%s", what, text, after)
		}
	}
}

// The mark changes with every act and not with time.
func TestMarkFollowsActsAndNotTime(t *testing.T) {
	chest, gate := withAccess(t)
	mark := func() string {
		return must[client.PolicyDifference](t)(gate.DiffPolicy(ctx, must[string](t)(gate.Policy(ctx)))).Mark
	}
	given := must[client.Given](t)(gate.Give(ctx,
		client.NewGrant{Subject: "app:ticket-api", Role: "viewer", Scope: "**", NotAfter: time.Now().Add(time.Minute)}))
	before := mark()
	chest.Clock.Set(-time.Hour)
	if mark() != before {
		t.Error("a grant that ended by itself changes the mark")
	}
	if strings.Contains(must[string](t)(gate.Policy(ctx)), given.Grant.ID) {
		t.Error("a grant that ended by itself is still exported")
	}
	must[client.Grant](t)(gate.EndGrant(ctx, given.Grant.ID))
	if mark() == before {
		t.Error("an act does not change the mark")
	}
}
