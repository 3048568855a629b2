package httpapi_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
)

func must[T any](t *testing.T) func(T, error) T {
	return func(value T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return value
	}
}

func give(t *testing.T, c *client.Client, subject, role, scope string) client.Given {
	t.Helper()
	return must[client.Given](t)(c.Give(ctx, client.NewGrant{Subject: subject, Role: role, Scope: scope}))
}

// label sets the labels of a drawer or an item.
func label(c *client.Client, target string, labels client.Labels) error {
	drawer, item, isItem := strings.Cut(target, "/")
	if isItem {
		history, err := c.History(ctx, drawer, item)
		if err != nil {
			return err
		}
		_, err = c.ChangeItem(ctx, drawer, item, history.Item.Revision, client.Described{Labels: labels})
		return err
	}
	contents, err := c.Drawer(ctx, drawer)
	if err != nil {
		return err
	}
	_, err = c.ChangeDrawer(ctx, drawer, contents.Drawer.Revision, client.Described{Labels: labels})
	return err
}

func readCode(c *client.Client, ref string) string {
	_, _, err := c.Read(ctx, ref)
	return chesttest.Code(err)
}

// A scope by labels follows the labels from the moment they change; the drawer's count for what is in it, unless an
// item says otherwise; and it shows the drawer's name to whoever may list something in it.
func TestLabelScopesFollowTheLabels(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	chest.Fill(t, "ticketing-prod", "mail-login", "v")
	steward := chest.Client(t, chest.Steward)
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "**[tier=database]"},
		chesttest.Grant{Role: "viewer", Scope: "**[tier=database]"})
	app := chest.Client(t, token)
	check := func(when, db, mail string, drawers int) {
		t.Helper()
		list, _ := app.Drawers(ctx)
		if a, b := readCode(app, "ticketing-prod/db-password"), readCode(app, "ticketing-prod/mail-login"); a != db || b != mail ||
			len(list) != drawers {
			t.Errorf("%s: %q and %q, %d drawers", when, a, b, len(list))
		}
	}
	check("without labels", "refused", "refused", 0)
	for _, step := range []struct {
		target   string
		labels   client.Labels
		db, mail string
		drawers  int
	}{
		{"ticketing-prod/db-password", client.Labels{"tier": "database"}, "", "refused", 1},
		{"ticketing-prod", client.Labels{"tier": "database", "team": "ticketing"}, "", "", 1},
		{"ticketing-prod/mail-login", client.Labels{"tier": "mail"}, "", "refused", 1},
		{"ticketing-prod/db-password", client.Labels{}, "", "refused", 1},
		{"ticketing-prod", client.Labels{}, "refused", "refused", 0},
	} {
		if err := label(steward, step.target, step.labels); err != nil {
			t.Fatal(err)
		}
		check(fmt.Sprint(step.target, step.labels), step.db, step.mail, step.drawers)
	}
	if answer := chest.Do(t, chesttest.Call{Method: "PATCH", Path: "/api/drawers/ticketing-prod", Token: chest.Steward,
		Body: `{"labels":{"a b":"c"}}`, Header: map[string]string{"If-Match": `"r1"`}}); answer.Problem.Field != "labels" {
		t.Errorf("a label that is no name: %+v", answer.Problem)
	}
}

// Labels and rules are no way around grants: who manages items cannot open them, to themselves or to others, by saying
// something else about them.
func TestLabelsAndRulesAreNoWayAroundGrants(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward := chest.Client(t, chest.Steward)
	curator := chest.Client(t, chest.Person(t, "platform-oncall", chesttest.Grant{Role: "curator", Scope: "**"},
		chesttest.Grant{Role: "consumer", Scope: "**[mine=yes]"}))
	reasoned := chest.Client(t, chest.Person(t, "harbour-master", chesttest.Grant{Role: "curator", Scope: "**"},
		chesttest.Grant{Role: "gatekeeper", Scope: "**"}, chesttest.Grant{Role: "consumer", Scope: "**[free=yes]"}))
	must[client.Given](t)(steward.Give(ctx,
		client.NewGrant{Subject: "person:harbour-master", Role: "consumer", Scope: "d/**", Conditions: client.Conditions{NeedsReason: true}}))
	other := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "curator", Scope: "**"}))
	both := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "curator", Scope: "**"},
		chesttest.Grant{Role: "gatekeeper", Scope: "**"}, chesttest.Grant{Role: "consumer", Scope: "e/**"}))
	chest.Fill(t, "e", "i", "v")
	for what, attempt := range map[string]func() error{
		"label an item for oneself":  func() error { return label(curator, "d/i", client.Labels{"mine": "yes"}) },
		"label a drawer for oneself": func() error { return label(curator, "d", client.Labels{"mine": "yes"}) },
		"label a condition away":     func() error { return label(reasoned, "d/i", client.Labels{"free": "yes"}) },
		"label an item for somebody": func() error { return label(other, "d/i", client.Labels{"mine": "yes"}) },
		"a new role that is built in": func() error {
			_, err := curator.AddRole(ctx, client.NewRole{Name: "x", Actions: []string{"list"}})
			return err
		},
		"the whole policy without a right": func() error { _, err := curator.Policy(ctx); return err },
	} {
		if err := attempt(); chesttest.Code(err) != "refused" {
			t.Errorf("%s: %v", what, err)
		}
	}
	if got := readCode(curator, "d/i"); got != "refused" {
		t.Errorf("it could be read: %q", got)
	}
	if err := label(curator, "d/i", client.Labels{"colour": "red"}); err != nil {
		t.Errorf("a label that no grant asks for: %v", err)
	}
	if err := label(both, "d/i", client.Labels{"mine": "yes"}); err != nil {
		t.Errorf("by whoever may give access: %v", err)
	}
	approval := func(c *client.Client, items ...string) error {
		contents := must[client.DrawerContents](t)(steward.Drawer(ctx, "e"))
		_, err := c.ChangeDrawer(ctx, "e", contents.Drawer.Revision,
			client.Described{Approval: &client.Approval{Items: append([]string{}, items...), Of: "everyone"}})
		return err
	}
	if err := approval(both, "*"); err != nil {
		t.Fatalf("a stricter rule: %v", err)
	}
	if err := approval(both); chesttest.Code(err) != "refused" {
		t.Errorf("a reader lifts the rule that they are under: %v", err)
	}
	if err := approval(other); chesttest.Code(err) != "refused" {
		t.Errorf("a curator lifts the rule for others: %v", err)
	}
}

func TestCustomRolesApplyAtOnceAndWidenNobodysOwn(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward := chest.Client(t, chest.Steward)
	gate := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	reader := chest.Client(t, chest.Person(t, "ticketing-lead"))
	role := func(actions ...string) client.NewRole { return client.NewRole{Name: "rotator", Actions: actions} }
	must[client.RoleStored](t)(gate.AddRole(ctx, role("see_metadata")))
	if stored := must[client.RoleStored](t)(gate.AddRole(ctx,
		client.NewRole{Name: "both", Actions: []string{"read_value", "grant"}})); len(stored.Notes) != 1 {
		t.Errorf("a role that manages and reads is not pointed out: %+v", stored)
	}
	give(t, gate, "person:ticketing-lead", "rotator", "d/**")
	if got := readCode(reader, "d/i"); got != "refused" {
		t.Errorf("before: %q", got)
	}
	preview := must[client.Difference](t)(gate.Preview(ctx,
		client.Proposal{Role: &client.NewRole{Name: "rotator", Actions: []string{"read_value"}}}))
	if len(preview.Changes) != 1 || preview.Changes[0].Gained[0] != "read_value" || preview.Changes[0].Lost[0] != "see_metadata" ||
		preview.Changes[0].Targets[0] != "d/**" {
		t.Errorf("the preview says %+v", preview)
	}
	if got := readCode(reader, "d/i"); got != "refused" {
		t.Errorf("a preview changes something: %q", got)
	}
	must[client.RoleStored](t)(gate.ChangeRole(ctx, role("read_value", "use_key")))
	if got := readCode(reader, "d/i"); got != "" {
		t.Errorf("after: %q", got)
	}
	if err := gate.RemoveRole(ctx, "rotator"); chesttest.Code(err) != "exists" {
		t.Errorf("a role in use is removed: %v", err)
	}
	give(t, steward, "person:security-duty", "rotator", "d/**")
	if _, err := gate.ChangeRole(ctx, role("read_value", "use_key", "shred")); chesttest.Code(err) != "refused" {
		t.Errorf("one's own role is widened: %v", err)
	}
	must[client.RoleStored](t)(gate.ChangeRole(ctx, role("use_key"))) // narrower is everybody's right
	for what, n := range map[string]client.NewRole{
		"a built-in name": {Name: "consumer", Actions: []string{"list"}}, "no action": {Name: "x"},
		"an unknown action": {Name: "x", Actions: []string{"fly"}},
	} {
		if _, err := gate.AddRole(ctx, n); chesttest.Code(err) != "invalid_input" {
			t.Errorf("%s: %v", what, err)
		}
	}
	chest.Restart(t)
	reader = chest.Client(t, chest.SignIn(t, "ticketing-lead"))
	if got := readCode(reader, "d/i"); got != "refused" {
		t.Errorf("after a restart: %q", got)
	}
}

// A member of a team in a team has the outer one's grants, and loses them in the instant in which any link is cut.
func TestNestedTeamsReachThrough(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward := chest.Client(t, chest.Steward)
	_, token := chest.App(t, "gate-controller")
	app := chest.Client(t, token)
	team(t, steward, "inner", "app:gate-controller")
	team(t, steward, "outer", "team:inner")
	give(t, steward, "team:outer", "consumer", "d/**")
	for _, link := range [][2]string{{"team:inner", "app:gate-controller"}, {"team:outer", "team:inner"}} {
		if got := readCode(app, "d/i"); got != "" {
			t.Errorf("with all links: %q", got)
		}
		must[client.Identity](t)(steward.Leave(ctx, link[0], link[1]))
		if got := readCode(app, "d/i"); got != "refused" {
			t.Errorf("without %v: %q", link, got)
		}
		must[client.Identity](t)(steward.Join(ctx, link[0], link[1]))
	}
	must[client.Identity](t)(steward.SetState(ctx, "app:gate-controller", "suspended"))
	if got := readCode(app, "d/i"); got != "unauthenticated" {
		t.Errorf("an open token of a suspended app: %q", got)
	}
}

// From a refusal to a yes or a no, by request: both see the state, and nobody answers for themselves.
func TestRequestsAreAnsweredBySomebodyElse(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	chest.Fill(t, "e", "i", "v")
	lead := chest.Client(t, chest.Person(t, "ticketing-lead"))
	gate := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	elsewhere := chest.Client(t, chest.Person(t, "security-relief", chesttest.Grant{Role: "gatekeeper", Scope: "e/**"}))
	refused := func(c *client.Client, ref string) string {
		t.Helper()
		_, _, err := c.Read(ctx, ref)
		problem, ok := err.(*client.Problem)
		if !ok || problem.Receipt == "" {
			t.Fatalf("not refused: %v", err)
		}
		return problem.Receipt
	}
	receipt := refused(lead, "d/i")
	if _, err := gate.AskFor(ctx, client.NewRequest{Receipt: receipt, Reason: "x"}); chesttest.Code(err) != "not_found" {
		t.Errorf("somebody else's receipt: %v", err)
	}
	if _, err := lead.AskFor(ctx, client.NewRequest{Receipt: receipt}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("without a reason: %v", err)
	}
	asked := must[client.Request](t)(lead.AskFor(ctx, client.NewRequest{Receipt: receipt, Reason: "the month's end"}))
	if asked.State != "open" || asked.Grant == nil || asked.Grant.Scope != "d/i" {
		t.Errorf("asked: %+v", asked)
	}
	if _, err := lead.AskFor(ctx, client.NewRequest{Receipt: receipt, Reason: "again"}); chesttest.Code(err) != "exists" {
		t.Errorf("asked twice: %v", err)
	}
	outright := client.NewGrant{Subject: "person:ticketing-lead", Role: asked.Grant.Role, Scope: "d/i", NotAfter: time.Now().Add(time.Hour)}
	if _, err := lead.AskFor(ctx, client.NewRequest{Grant: &outright, Reason: "again, until another day"}); chesttest.Code(err) != "exists" {
		t.Errorf("asked for twice, outright: %v", err)
	}
	if list := must[[]client.Request](t)(elsewhere.Requests(ctx)); len(list) != 0 {
		t.Errorf("a gatekeeper of something else sees %+v", list)
	}
	for name, c := range map[string]*client.Client{"the asker": lead, "a gatekeeper of something else": elsewhere} {
		if _, err := c.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true}); chesttest.Code(err) != "not_found" {
			t.Errorf("%s answers: %v", name, err)
		}
	}
	if _, err := gate.AnswerRequest(ctx, asked.ID, client.Answer{}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("a no without a reason: %v", err)
	}
	until := time.Now().Add(48 * time.Hour).Truncate(time.Second)
	answered := must[client.Request](t)(gate.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true, Until: until}))
	if got := readCode(lead, "d/i"); got != "" || answered.GrantID == "" {
		t.Errorf("after a yes: %q, %+v", got, answered)
	}
	if grants := must[[]client.Grant](t)(gate.Grants(ctx, "person:ticketing-lead")); len(grants) != 1 || !grants[0].NotAfter.Equal(until) ||
		grants[0].CreatedBy != "person:security-duty" {
		t.Errorf("the grant: %+v", grants)
	}
	if list := must[[]client.Request](t)(lead.Requests(ctx)); len(list) != 1 || list[0].State != "allowed" ||
		list[0].AnsweredBy != "person:security-duty" {
		t.Errorf("the asker sees %+v", list)
	}
	if _, err := gate.AnswerRequest(ctx, asked.ID, client.Answer{Because: "no"}); chesttest.Code(err) != "stale" {
		t.Errorf("answered twice: %v", err)
	}

	// A no takes the refusal off the queue, and is told to whoever is refused again.
	receipt = refused(lead, "e/i")
	if _, err := elsewhere.DeclineRefusal(ctx, receipt, "not yours"); err != nil {
		t.Fatal(err)
	}
	if queue := must[[]client.RefusalGroup](t)(elsewhere.Refusals(ctx, time.Time{})); len(queue) != 0 {
		t.Errorf("the queue still has %+v", queue)
	}
	if _, _, err := lead.Read(ctx, "e/i"); !strings.Contains(err.Error(), "person:security-relief declined on") ||
		!strings.Contains(err.Error(), "not yours") {
		t.Errorf("the refused is not told: %v", err)
	}

	// Who may give access, and not to themselves, asks somebody else.
	if _, err := gate.Give(ctx, client.NewGrant{Subject: "person:security-duty", Role: "consumer",
		Scope: "e/**"}); chesttest.Code(err) != "refused" {
		t.Fatal(err)
	}
	own := must[client.Request](t)(gate.AskFor(ctx,
		client.NewRequest{Grant: &client.NewGrant{Subject: "person:security-duty", Role: "consumer", Scope: "e/**"}, Reason: "incident 212"}))
	if _, err := gate.AnswerRequest(ctx, own.ID, client.Answer{Allow: true}); chesttest.Code(err) != "refused" {
		t.Errorf("a gatekeeper answers their own request: %v", err)
	}
	must[client.Request](t)(elsewhere.AnswerRequest(ctx, own.ID, client.Answer{Allow: true}))
	if got := readCode(gate, "e/i"); got != "" {
		t.Errorf("after the other gatekeeper's yes: %q", got)
	}
	if _, err := lead.AskFor(ctx, client.NewRequest{Grant: &client.NewGrant{Subject: "person:security-relief", Role: "consumer", Scope: "**"},
		Reason: "x"}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("asked for somebody else: %v", err)
	}
	withdrawn := must[client.Request](t)(lead.AskFor(ctx,
		client.NewRequest{Grant: &client.NewGrant{Subject: "person:ticketing-lead", Role: "viewer", Scope: "e/**"}, Reason: "x"}))
	if r := must[client.Request](t)(lead.Withdraw(ctx, withdrawn.ID)); r.State != "withdrawn" {
		t.Errorf("%+v", r)
	}
}

// What a drawer's rules say nobody reads alone takes a grant and, for a bounded time, a second person's yes.
func TestReadingWithASecondPerson(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "ledger", "v")
	chest.Fill(t, "d", "other", "v")
	steward := chest.Client(t, chest.Steward)
	gate := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	oncall := chest.Client(t, chest.Person(t, "platform-oncall", chesttest.Grant{Role: "consumer", Scope: "d/**"},
		chesttest.Grant{Role: "gatekeeper", Scope: "d/**"}))
	_, token := chest.App(t, "nightly-ledger", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	app := chest.Client(t, token)
	rule := func(of string, items ...string) {
		t.Helper()
		contents := must[client.DrawerContents](t)(steward.Drawer(ctx, "d"))
		must[client.Drawer](t)(steward.ChangeDrawer(ctx, "d", contents.Drawer.Revision,
			client.Described{Approval: &client.Approval{Items: items, Of: of}}))
	}
	rule("persons", "ledger*")
	if a, b, c := readCode(oncall, "d/ledger"), readCode(oncall, "d/other"), readCode(app, "d/ledger"); a != "refused" || b != "" || c != "" {
		t.Fatalf("a person %q, another item %q, an app %q", a, b, c)
	}
	_, _, err := oncall.Read(ctx, "d/ledger")
	problem := err.(*client.Problem)
	if problem.Reason != "approval_needed" || problem.Remedy != nil ||
		!strings.Contains(problem.Detail, "tansu request ask "+problem.Receipt) {
		t.Errorf("the refusal says %+v", problem)
	}
	if v := must[client.Verdict](t)(gate.Ask(ctx,
		client.Question{Subject: "person:platform-oncall", Action: "read_value", Target: "d/ledger"})); v.Allowed ||
		v.Reason != "approval_needed" {
		t.Errorf("asked before: %+v", v)
	}
	asked := must[client.Request](t)(oncall.AskFor(ctx, client.NewRequest{Receipt: problem.Receipt, Reason: "the night run stopped"}))
	if asked.Kind != "read" {
		t.Errorf("%+v", asked)
	}
	if _, err := oncall.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true}); chesttest.Code(err) != "refused" {
		t.Errorf("the reader agrees with themselves: %v", err)
	}
	if _, err := gate.AnswerRequest(ctx, asked.ID,
		client.Answer{Allow: true, Until: time.Now().Add(30 * time.Hour)}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("for longer than a day: %v", err)
	}
	must[client.Request](t)(gate.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true, Until: time.Now().Add(2 * time.Hour)}))
	if got := readCode(oncall, "d/ledger"); got != "" {
		t.Errorf("after the yes: %q", got)
	}
	page := must[client.TrailPage](t)(steward.Trail(ctx, client.TrailFilter{Action: "answer_request"}))
	if len(page.Entries) == 0 || page.Entries[0].Subject != "person:security-duty" || !strings.Contains(page.Entries[0].Detail, asked.ID) {
		t.Errorf("the trail does not have the yes: %+v", page.Entries)
	}
	chest.Clock.Set(-3 * time.Hour)
	if got := readCode(oncall, "d/ledger"); got != "refused" {
		t.Errorf("after its end: %q", got)
	}
	rule("everyone", "*")
	if got := readCode(app, "d/ledger"); got != "refused" && got != "unauthenticated" {
		t.Errorf("an app under a rule for everyone: %q", got)
	}
}

func TestStewardIsSetAsideAndOnlyTheMachineBringsThemBack(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	if _, err := steward.SetStewardsAside(ctx); chesttest.Code(err) != "not_handed_over" {
		t.Errorf("nobody else could run it: %v", err)
	}
	if _, err := steward.Register(ctx, client.NewIdentity{Kind: "person", Name: "half-way"}); err != nil {
		t.Fatal(err)
	}
	give(t, steward, "person:half-way", "gatekeeper", "**")
	if _, err := steward.SetStewardsAside(ctx); chesttest.Code(err) != "not_handed_over" {
		t.Errorf("the successor has not enrolled: %v", err)
	}
	gate := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	if _, err := gate.SetStewardsAside(ctx); chesttest.Code(err) != "refused" {
		t.Errorf("somebody else sets the steward aside: %v", err)
	}
	chest.Person(t, "second-steward")
	must[client.Given](t)(steward.Give(ctx,
		client.NewGrant{Subject: "person:second-steward", Role: "steward", Scope: "**", NeverEnds: true,
			Conditions: client.Conditions{Networks: []string{"10.1.0.0/16"}}}))
	aside := must[[]string](t)(steward.SetStewardsAside(ctx))
	if len(aside) != 2 || aside[0] != "person:second-steward" || aside[1] != "person:steward" {
		t.Errorf("%v", aside)
	}
	if _, err := steward.Me(ctx); chesttest.Code(err) != "unauthenticated" {
		t.Errorf("an open session goes on: %v", err)
	}
	if _, err := steward.SignIn(ctx, "steward", chesttest.Password, ""); chesttest.Code(err) != "sign_in_failed" {
		t.Errorf("the steward signs in: %v", err)
	}
	grants := must[[]client.Grant](t)(gate.Grants(ctx, "person:security-duty"))
	for what, attempt := range map[string]func() error{
		"the last gatekeeper is suspended":     func() error { _, err := gate.SetState(ctx, "person:security-duty", "suspended"); return err },
		"the last gatekeeper's grant is ended": func() error { _, err := gate.EndGrant(ctx, grants[0].ID); return err },
	} {
		if err := attempt(); chesttest.Code(err) != "not_handed_over" {
			t.Errorf("%s: %v", what, err)
		}
	}
	for what, attempt := range map[string]func() error{
		"activate": func() error { _, err := gate.SetState(ctx, "person:steward", "active"); return err },
		"a code": func() error {
			_, err := gate.IssueCredential(ctx, "person:steward", client.NewCredential{})
			return err
		},
		"a steward": func() error {
			_, err := gate.Give(ctx, client.NewGrant{Subject: "person:half-way", Role: "steward", Scope: "**"})
			return err
		},
	} {
		if err := attempt(); chesttest.Code(err) != "refused" {
			t.Errorf("%s over the network: %v", what, err)
		}
	}
}

func TestAnAppHasTwoSecretsAtMostAndOneCanEnd(t *testing.T) {
	chest := chesttest.Start(t)
	steward, anyone := chest.Client(t, chest.Steward), chest.Client(t, "")
	registered := must[client.Registered](t)(steward.Register(ctx,
		client.NewIdentity{Kind: "app", Name: "ticket-api", Purpose: "sells tickets", Environment: "production", Owner: "person:steward"}))
	second := must[client.Issued](t)(steward.IssueCredential(ctx, "app:ticket-api", client.NewCredential{NotAfter: time.Now().Add(time.Hour)}))
	if _, err := steward.IssueCredential(ctx, "app:ticket-api", client.NewCredential{}); chesttest.Code(err) != "exists" {
		t.Errorf("a third secret: %v", err)
	}
	for _, secret := range []string{registered.Credential.Secret, second.Secret} {
		if _, _, err := anyone.AppToken(ctx, "ticket-api", secret); err != nil {
			t.Error(err)
		}
	}
	seen := must[client.Identity](t)(steward.Identity(ctx, "app:ticket-api"))
	if seen.Purpose != "sells tickets" || seen.Environment != "production" || len(seen.Credentials) != 2 ||
		seen.Credentials[0].LastUsed.IsZero() || seen.Credentials[1].LastUsed.IsZero() || seen.Seen.Addr != "127.0.0.1" {
		t.Errorf("%+v", seen)
	}
	chest.Clock.Set(-2 * time.Hour)
	if _, _, err := anyone.AppToken(ctx, "ticket-api", second.Secret); err == nil {
		t.Error("a secret works after its end")
	}
	must[client.Issued](t)(steward.IssueCredential(ctx, "app:ticket-api", client.NewCredential{})) // the ended one makes room
}

func TestWhatIsLeftBehindIsHandedOver(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	chest.Person(t, "summer-relief", chesttest.Grant{Role: "viewer", Scope: "**"})
	chest.Person(t, "harbour-master")
	must[client.Registered](t)(steward.Register(ctx, client.NewIdentity{Kind: "app", Name: "map-printer", Owner: "person:summer-relief"}))
	must[client.Drawer](t)(steward.CreateDrawer(ctx, client.NewDrawer{Name: "d", Environment: "staging", Owner: "person:summer-relief"}))
	must[client.Stored](t)(steward.CreateItem(ctx, "d",
		client.NewItem{Name: "i", Owner: "person:summer-relief", Version: client.Content([]byte("v"))}))
	must[client.Identity](t)(steward.SetState(ctx, "person:summer-relief", "suspended"))
	owned := must[client.Owned](t)(steward.Owned(ctx, "person:summer-relief"))
	if len(owned.Apps) != 1 || len(owned.Drawers) != 1 || len(owned.Items) != 1 || len(owned.Grants) != 1 {
		t.Errorf("%+v", owned)
	}
	findings := must[[]client.Finding](t)(steward.Tighten(ctx, time.Time{}))
	left := 0
	for _, f := range findings {
		if f.Kind == "owner_left" {
			left++
		}
	}
	if left != 3 {
		t.Errorf("the report has %d of 3 things whose owner left: %+v", left, findings)
	}
	for _, to := range []string{"person:summer-relief", "person:nobody", "app:map-printer"} {
		if _, err := steward.HandOver(ctx, "person:summer-relief", to); chesttest.Code(err) != "invalid_input" {
			t.Errorf("to %s: %v", to, err)
		}
	}
	must[client.Owned](t)(steward.HandOver(ctx, "person:summer-relief", "person:harbour-master"))
	if owned := must[client.Owned](t)(steward.Owned(ctx, "person:harbour-master")); len(owned.Apps) != 1 || len(owned.Drawers) != 1 ||
		len(owned.Items) != 1 {
		t.Errorf("after handing over: %+v", owned)
	}
}

// The report comes from what was used, proposes what is narrower, and a grant takes another's place in one instant.
func TestTighteningComesFromUse(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	chest.Fill(t, "e", "i", "v")
	secret, _ := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "**"})
	chest.App(t, "map-printer", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	chest.Clock.Set(-60 * 24 * time.Hour)
	steward := chest.Client(t, chest.SignIn(t, "steward"))
	token, _, err := chest.Client(t, "").AppToken(ctx, "ticket-api", secret)
	if err != nil {
		t.Fatal(err)
	}
	app := chest.Client(t, token)
	if got := readCode(app, "d/i"); got != "" {
		t.Fatal(got)
	}
	find := func(kind, subject string) *client.Finding {
		t.Helper()
		for _, f := range must[[]client.Finding](t)(steward.Tighten(ctx, time.Time{})) {
			if f.Kind == kind && f.Subject == subject {
				return &f
			}
		}
		return nil
	}
	if f := find("unused_grant", "app:map-printer"); f == nil || !f.End || f.Command == "" {
		t.Errorf("the unused grant: %+v", f)
	}
	if f := find("unseen", "app:map-printer"); f == nil || !f.Suspend {
		t.Errorf("who was never there: %+v", f)
	}
	if f := find("unused_grant", "app:ticket-api"); f != nil {
		t.Errorf("a used grant: %+v", f)
	}
	wide := find("wide_scope", "app:ticket-api")
	if wide == nil || wide.Instead == nil || wide.Instead.Scope != "d/i" {
		t.Fatalf("the wide scope: %+v", wide)
	}
	must[client.Given](t)(steward.Give(ctx, *wide.Instead))
	if a, b := readCode(app, "d/i"), readCode(app, "e/i"); a != "" || b != "refused" {
		t.Errorf("after narrowing: %q and %q", a, b)
	}
	if f := find("wide_scope", "app:ticket-api"); f != nil {
		t.Errorf("it is still proposed: %+v", f)
	}
}

// Giving says first what is unusual: nothing new, nothing there, a name that looks like another, more than was asked.
func TestNotesOfAGrant(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	steward := chest.Client(t, chest.Steward)
	chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	registered := must[client.Registered](t)(steward.Register(ctx, client.NewIdentity{Kind: "app", Name: "ticket-apl"}))
	if notes := strings.Join(registered.Notes, "; "); !strings.Contains(notes, "looks like app:ticket-api") ||
		!strings.Contains(notes, "no owner") {
		t.Errorf("registering says %q", notes)
	}
	lead := chest.Client(t, chest.Person(t, "ticketing-lead"))
	_, _, err := lead.Read(ctx, "ticketing-prod/db-password")
	must[client.Request](t)(lead.AskFor(ctx, client.NewRequest{Receipt: err.(*client.Problem).Receipt, Reason: "x"}))
	for _, c := range []struct{ subject, role, scope, want string }{
		{"app:ticket-api", "consumer", "ticketing-prod/db-*", "gives nothing new"},
		{"app:ticket-api", "consumer", "ticketing-prd/**", "did you mean the drawer ticketing-prod?"},
		{"app:ticket-api", "viewer", "ticketing-prod/**", "looks like app:ticket-apl"},
		{"person:ticketing-lead", "consumer", "ticketing-prod/**", "more than was asked for"},
	} {
		n := client.NewGrant{Subject: c.subject, Role: c.role, Scope: c.scope, NotAfter: time.Now().Add(time.Hour)}
		if d := must[client.Difference](t)(steward.Preview(ctx, client.Proposal{Give: &n})); !strings.Contains(strings.Join(d.Notes, "; "),
			c.want) {
			t.Errorf("%v: the preview says %v", c, d.Notes)
		}
	}
	given := give(t, steward, "app:ticket-api", "viewer", "**")
	ended := must[client.Difference](t)(steward.Preview(ctx, client.Proposal{End: given.Grant.ID}))
	if len(ended.Changes) == 0 || len(ended.Changes[0].Lost) != 2 {
		t.Errorf("ending it would change %+v", ended)
	}
}

func TestMatrixSaysWhoReachesWhat(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	chest.Fill(t, "d", "j", "v")
	chest.Fill(t, "e", "i", "v")
	chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/i"})
	audit := chest.Client(t, chest.Person(t, "audit-desk", chesttest.Grant{Role: "auditor", Scope: "d/**"}))
	m := must[client.Matrix](t)(audit.Matrix(ctx))
	if len(m.Drawers) != 1 || m.Drawers[0] != "d" {
		t.Fatalf("an auditor of one drawer sees %v", m.Drawers)
	}
	for _, row := range m.Rows {
		if row.Subject == "app:ticket-api" &&
			(strings.Join(row.Cells[0].Actions, " ") != "read_value encrypt decrypt sign verify" || len(row.Cells[0].Partial) != 5) {
			t.Errorf("%+v", row)
		}
	}
}

// What is refused under a name of its own is explained by its receipt, too, and the remedy that it names helps.
func TestReceiptsOfWholeStateAndComparisonHelp(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward := chest.Client(t, chest.Steward)
	lead := chest.Client(t, chest.Person(t, "ticketing-lead"))
	for what, attempt := range map[string]func() error{
		"the policy":   func() error { _, err := lead.Policy(ctx); return err },
		"a comparison": func() error { _, err := lead.Equals(ctx, "d/i", []byte("v")); return err },
	} {
		problem, refused := attempt().(*client.Problem)
		if !refused || problem.Remedy == nil {
			t.Fatalf("%s: %v", what, problem)
		}
		before := must[client.Receipt](t)(steward.Receipt(ctx, problem.Receipt))
		if before.AllowedNow || before.Remedy == nil || *before.Remedy != *problem.Remedy {
			t.Fatalf("%s: the receipt says %+v, the refusal %+v", what, before.Remedy, problem.Remedy)
		}
		give(t, steward, before.Remedy.Subject, before.Remedy.Role, before.Remedy.Scope)
		if err := attempt(); err != nil {
			t.Errorf("%s after the remedy: %v", what, err)
		}
		if after := must[client.Receipt](t)(steward.Receipt(ctx, problem.Receipt)); !after.AllowedNow {
			t.Errorf("%s: the receipt does not notice", what)
		}
	}
}
