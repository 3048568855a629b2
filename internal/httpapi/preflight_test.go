package httpapi_test

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/core/reference"
)

// What a manifest needs is told for each environment; what is wrong in it is told with its line, and nothing of it is kept.
func TestAManifestIsRead(t *testing.T) {
	chest := chesttest.Start(t)
	_, token := chest.App(t, "ticket-api")
	read := func(text string) chesttest.Answer {
		body, err := json.Marshal(map[string]string{"text": text})
		if err != nil {
			t.Fatal(err)
		}
		return chest.Do(t, chesttest.Call{Method: "POST", Path: "/api/manifest", Token: token, Body: string(body)})
	}
	var needs client.ManifestNeeds
	answer := read("manifest: 1\napp: ticket-api\ndrawers: { production: ticketing-prod, staging: ticketing-staging }\nneeds:\n  - { " +
		"variable: DB, reference: db#password }\n  - { stdin: true, reference: shared/key }\n")
	if err := json.Unmarshal(answer.Body, &needs); err != nil || answer.Status != 200 {
		t.Fatalf("%d %s", answer.Status, answer.Body)
	}
	want := client.ManifestNeeds{App: "ticket-api", Environments: []client.EnvironmentNeeds{
		{Name: "production", Needs: []client.ManifestNeed{{Reference: "ticketing-prod/db#password", Delivery: "DB"},
			{Reference: "shared/key", Delivery: "standard input"}}},
		{Name: "staging", Needs: []client.ManifestNeed{{Reference: "ticketing-staging/db#password", Delivery: "DB"},
			{Reference: "shared/key", Delivery: "standard input"}}}}}
	if !reflect.DeepEqual(needs, want) {
		t.Errorf("%+v", needs)
	}
	for text, says := range map[string]string{"": "empty", "manifest: 1\nneeds:\n  - { variable: PATH, reference: d/i }\n": "line 3",
		"needs: [": "did not find", "manifest: 1\nneeds:\n  - { variable: V, reference: i }\n": "no drawer"} {
		if answer := read(text); answer.Status != 400 || !strings.Contains(string(answer.Body), says) {
			t.Errorf("%q: %d %s", text, answer.Status, answer.Body)
		}
	}
}

// A hundred of the longest references are one call.
func TestAHundredLongReferencesAreOneCall(t *testing.T) {
	chest := chesttest.Start(t)
	_, token := chest.App(t, "ticket-api")
	long := strings.Repeat("n", reference.MaxName)
	references := make([]string, 100)
	for i := range references {
		references[i] = fmt.Sprintf("%s/%s#%s", long, long[3:]+fmt.Sprintf("%03d", i), long)
		if _, err := reference.Parse(references[i]); err != nil {
			t.Fatal(err)
		}
	}
	app := chest.Client(t, token)
	if checks, err := app.Check(ctx, client.Preflight{References: references}); err != nil || len(checks) != 100 {
		t.Errorf("%d, %v", len(checks), err)
	}
	if outcomes, err := app.ReadValues(ctx, references...); err != nil || len(outcomes) != 100 {
		t.Errorf("%d, %v", len(outcomes), err)
	}
}

// A preflight says of each value what a read would say, opens none, and tells nobody what they may not know.
func TestPreflightSaysWhatAReadWouldSay(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	chest.Fill(t, "d", "held", "v")
	chest.Fill(t, "e", "other", "v")
	steward := chest.Client(t, chest.Steward)
	must[client.Stored](t)(steward.AddVersion(ctx, "d", "i", 0, client.Content([]byte("w"))))
	must[client.Stored](t)(steward.CreateItem(ctx, "d",
		client.NewItem{Name: "login", Shape: "login",
			Version: client.NewVersion{Fields: []client.NewField{{Name: "user", Value: "dQ==", Plain: true},
				{Name: "password", Value: "cGFzc3dvcmQtb2YtbG9naW4="}}}}))
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	app := chest.Client(t, token)
	asked := []string{"d/i", "d/i@1", "d/i@9", "d/none", "d/login#password", "d/login#pin", "d/i#field", "e/other", "e/none"}
	checks := must[[]client.Check](t)(app.Check(ctx, client.Preflight{References: asked}))
	for i, want := range []struct {
		served  bool
		reason  string
		version int
	}{{true, "", 2}, {true, "", 1}, {false, "not_found", 0}, {false, "not_found", 0}, {true, "", 1}, {false, "no_field", 0},
		{false, "no_field", 0}, {false, "no_grant", 0}, {false, "no_grant", 0}} {
		got := checks[i]
		if got.Reference != asked[i] || got.Served != want.served || got.Reason != want.reason || got.Version != want.version {
			t.Errorf("%s: got %+v, want %+v", asked[i], got, want)
		}
		outcome := must[[]client.Outcome](t)(app.ReadValues(ctx, asked[i]))[0]
		if (outcome.Value != nil) != got.Served {
			t.Errorf("%s: a read says %+v", asked[i], outcome.Problem)
		}
	}
	if !strings.Contains(checks[1].Warning, "version 2 is current") {
		t.Errorf("pinned by its number: %+v", checks[1])
	}
	if strings.ReplaceAll(checks[7].Detail, "other", "none") != checks[8].Detail || checks[7].Remedy == nil || checks[8].Remedy == nil {
		t.Errorf("what is there and what is not are told apart: %q, %q", checks[7].Detail, checks[8].Detail)
	}
	// The gatekeeper gets the same answers about the app; another app gets none.
	if about := must[[]client.Check](t)(steward.Check(ctx,
		client.Preflight{Subject: "app:ticket-api", References: asked})); !slices.EqualFunc(about, checks,
		func(a, b client.Check) bool { return a.Served == b.Served && a.Reason == b.Reason }) {
		t.Errorf("asked by the gatekeeper: %+v", about)
	}
	_, other := chest.App(t, "map-printer")
	if _, err := chest.Client(t, other).Check(ctx,
		client.Preflight{Subject: "app:ticket-api", References: asked[:1]}); chesttest.Code(err) != "refused" {
		t.Errorf("asked by a stranger: %v", err)
	}
	if _, err := app.Check(ctx, client.Preflight{}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("about nothing: %v", err)
	}
	// It is in the trail, and is no read.
	page := must[client.TrailPage](t)(chest.Client(t, chest.Steward).Trail(ctx,
		client.TrailFilter{Subject: "app:ticket-api", Action: "ask_access", Limit: 100}))
	if len(page.Entries) != len(asked) {
		t.Errorf("%d entries", len(page.Entries))
	}
}

func TestPreflightWarnsOfWhatEndsSoon(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	version := client.Content([]byte("w"))
	version.NotAfter = time.Now().Add(48 * time.Hour)
	must[client.Stored](t)(chest.Client(t, chest.Steward).AddVersion(ctx, "d", "i", 0, version))
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	checks := must[[]client.Check](t)(chest.Client(t, token).Check(ctx, client.Preflight{References: []string{"d/i"}}))
	if !checks[0].Served || checks[0].Warning != "it ends soon" || checks[0].NotAfter.IsZero() {
		t.Errorf("got %+v", checks[0])
	}
}

// Who asks by an old name is told what a read would tell: a denial of the new name counts.
func TestPreflightByAnOldName(t *testing.T) {
	r := startRuled(t)
	r.Fill(t, "e", "other", "x")
	both := r.Client(t, r.Person(t, "ticketing-lead", chesttest.Grant{Role: "curator", Scope: "**"},
		chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	must[client.Moved](t)(both.Move(ctx, "d", "i", client.NewPlace{Drawer: "e", Name: "moved", Alias: "10d"}))
	app, _ := r.at(t, 0)
	before := must[[]client.Check](t)(app.Check(ctx, client.Preflight{References: []string{"d/i"}}))[0]
	if !before.Served || before.Warning != "it is called e/moved now" {
		t.Errorf("before: %+v", before)
	}
	must[client.Given](t)(both.Give(ctx, client.NewGrant{Effect: "deny", Subject: "app:ticket-api", Role: "consumer", Scope: "e/**",
		NotAfter: time.Now().Add(time.Hour)}))
	after := must[[]client.Check](t)(app.Check(ctx, client.Preflight{References: []string{"d/i"}}))[0]
	if _, _, err := app.Read(ctx, "d/i"); after.Served || after.Reason != "denied" || chesttest.Code(err) != "refused" {
		t.Errorf("after: %+v; a read says %v", after, err)
	}
}
