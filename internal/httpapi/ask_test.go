package httpapi_test

import (
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
)

// A grant's conditions hold over the network as they do in the core: each in turn is not met, the refusal says which,
// the question asked beforehand has the same answer, and meeting it is all it takes.
func TestConditionsHoldOverTheNetwork(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward := chest.Client(t, chest.Steward)
	_, token := chest.App(t, "gate-controller")
	now := chest.Clock.Now().UTC()
	today := strings.ToLower(now.Format("Mon"))
	tomorrow := strings.ToLower(now.Add(24 * time.Hour).Format("Mon"))
	for _, c := range []struct {
		name, reason string
		unmet, met   client.Conditions
		says         string
	}{
		{"network", "", client.Conditions{Networks: []string{"10.1.0.0/16"}},
			client.Conditions{Networks: []string{"10.1.0.0/16", "127.0.0.0/8"}}, "network 10.1.0.0/16 does not contain 127.0.0.1"},
		{"hours", "", client.Conditions{Hours: tomorrow + " 00:00-24:00 UTC"}, client.Conditions{Hours: today + " 00:00-24:00 UTC"},
			"do not contain"},
		{"via", "", client.Conditions{Via: []string{"person_token"}}, client.Conditions{Via: []string{"person_token", "app_token"}},
			"not by app_secret"},
		{"reason", "month end", client.Conditions{NeedsReason: true}, client.Conditions{NeedsReason: true}, "it needs a stated reason"},
	} {
		give := func(conditions client.Conditions) string {
			given, err := steward.Give(ctx, client.NewGrant{Subject: "app:gate-controller", Role: "consumer", Scope: "d/i", Conditions: conditions})
			if err != nil {
				t.Fatalf("%s: %v", c.name, err)
			}
			return given.Grant.ID
		}
		read := func(reason string) chesttest.Answer {
			return chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/values/d/i", Token: token,
				Header: map[string]string{"Tansu-Reason": reason}})
		}
		ask := func(reason string) client.Verdict {
			v, err := steward.Ask(ctx, client.Question{Subject: "app:gate-controller", Action: "read_value", Target: "d/i", Addr: "127.0.0.1",
				Via: "app_secret", Reason: reason})
			if err != nil {
				t.Fatalf("%s: %v", c.name, err)
			}
			return v
		}
		unmet := give(c.unmet)
		refused := read("")
		if refused.Status != 403 || !strings.Contains(refused.Problem.Detail, c.says) {
			t.Errorf("%s, not met: %d %s", c.name, refused.Status, refused.Problem.Detail)
		}
		if refused.Problem.Remedy != nil {
			t.Errorf("%s, not met: a grant without the condition is proposed: %s", c.name, refused.Problem.Remedy.Command)
		}
		if v := ask(""); v.Allowed || v.Remedy != nil || v.Grant != unmet || len(v.Considered) == 0 ||
			!strings.Contains(v.Considered[0].Miss, c.says) {
			t.Errorf("%s, not met, asked before: %+v", c.name, v)
		}
		receipt, err := steward.Receipt(ctx, refused.Problem.Receipt)
		if err != nil || receipt.Remedy != nil || len(receipt.Considered) == 0 || !strings.Contains(receipt.Considered[0].Miss, c.says) {
			t.Errorf("%s, the receipt: %+v, %v", c.name, receipt, err)
		}
		met := give(c.met)
		if v := ask(c.reason); !v.Allowed {
			t.Errorf("%s, met, asked before: %+v", c.name, v)
		}
		if answer := read(c.reason); answer.Status != 200 {
			t.Errorf("%s, met: %d %s", c.name, answer.Status, answer.Problem.Detail)
		}
		for _, id := range []string{unmet, met} {
			if _, err := steward.EndGrant(ctx, id); err != nil {
				t.Fatal(err)
			}
		}
	}
	page, err := steward.Trail(ctx, client.TrailFilter{Subject: "app:gate-controller", Action: "read_value", Outcome: "allowed"})
	if err != nil || len(page.Entries) != 4 || page.Entries[0].Stated != "month end" {
		t.Errorf("the stated reason is not in the trail: %+v, %v", page.Entries, err)
	}
}

func TestConditionsThatMeanNothingAreRefusedByName(t *testing.T) {
	chest := chesttest.Start(t)
	for field, body := range map[string]string{
		"networks": `"networks":["10.1.0.1/16"]`, "hours": `"hours":"office hours"`, "via": `"via":["telepathy"]`,
	} {
		answer := chest.Do(t, chesttest.Call{Method: "POST", Path: "/api/grants", Token: chest.Steward,
			Body: `{"subject":"person:steward","role":"viewer","scope":"**",` + body + `}`})
		if answer.Status != 400 || answer.Problem.Field != field || !strings.Contains(answer.Problem.Detail, "allowed:") && field != "via" {
			t.Errorf("%s: %d %s %s", body, answer.Status, answer.Problem.Field, answer.Problem.Detail)
		}
	}
	long := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/drawers", Token: chest.Steward,
		Header: map[string]string{"Tansu-Reason": strings.Repeat("x", 201)}})
	if long.Status != 400 || long.Problem.Field != "Tansu-Reason" {
		t.Errorf("a long reason: %d %s", long.Status, long.Problem.Field)
	}
}

// Asking about others is for those who grant or audit there; about oneself everyone may ask.
func TestAskingIsForThoseConcerned(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	chest.Fill(t, "e", "i", "v")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	app := chest.Client(t, token)
	gate := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "gatekeeper", Scope: "d/**"}))
	question := client.Question{Subject: "app:ticket-api", Action: "read_value", Target: "d/i"}
	if v, err := app.Ask(ctx, question); err != nil || !v.Allowed {
		t.Errorf("about oneself: %+v, %v", v, err)
	}
	if v, err := gate.Ask(ctx, question); err != nil || !v.Allowed {
		t.Errorf("a gatekeeper there: %+v, %v", v, err)
	}
	question.Target = "e/i"
	if _, err := gate.Ask(ctx, question); chesttest.Code(err) != "refused" {
		t.Errorf("a gatekeeper elsewhere: %v", err)
	}
	if _, err := app.Ask(ctx, client.Question{Subject: "person:ticketing-lead", Action: "list",
		Target: "d"}); chesttest.Code(err) != "refused" {
		t.Errorf("an app about a person: %v", err)
	}
	holders, err := gate.Holders(ctx, "read_value", "d/i")
	if err != nil || len(holders) != 1 || holders[0].Subject != "app:ticket-api" || len(holders[0].Grants) != 1 {
		t.Errorf("who can read: %+v, %v", holders, err)
	}
	reach, err := chest.Client(t, chest.Steward).Reach(ctx, "app:ticket-api")
	if err != nil || len(reach) != 2 || reach[0].Target != "d" || reach[1].Target != "d/i" {
		t.Errorf("what it reaches: %+v, %v", reach, err)
	}
	if _, err := chest.Client(t, chest.Steward).SetState(ctx, "app:ticket-api", "suspended"); err != nil {
		t.Fatal(err)
	}
	question.Target = "d/i"
	if v, err := gate.Ask(ctx, question); err != nil || v.Allowed || v.Reason != "identity_suspended" {
		t.Errorf("of a suspended app: %+v, %v", v, err)
	}
}

// The queue shows each question once, with how often it was asked, only to those who may answer it, and only while it
// would still be refused.
func TestRefusalsAreAQueueForThoseWhoCanAnswer(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "i", "v")
	_, token := chest.App(t, "gate-controller")
	app, steward := chest.Client(t, token), chest.Client(t, chest.Steward)
	for range 3 {
		_, _, _ = app.Read(ctx, "ticketing-prod/i")
	}
	_, _, _ = app.Read(ctx, "fuel-billing-prod/i")
	narrow := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "gatekeeper", Scope: "ticketing-prod/**"}))
	seen, err := narrow.Refusals(ctx, time.Time{})
	if err != nil || len(seen) != 1 || seen[0].Count != 3 || seen[0].Target != "ticketing-prod/i" || seen[0].Remedy == nil {
		t.Fatalf("a gatekeeper of one drawer sees %+v, %v", seen, err)
	}
	if all, err := steward.Refusals(ctx, time.Time{}); err != nil || len(all) != 2 || all[0].Target != "fuel-billing-prod/i" {
		t.Errorf("the steward sees %+v, %v", all, err)
	}
	if _, err := app.Refusals(ctx, time.Time{}); chesttest.Code(err) != "refused" {
		t.Errorf("an app sees the queue: %v", err)
	}
	remedy := seen[0].Remedy
	if _, err := narrow.Give(ctx, client.NewGrant{Subject: remedy.Subject, Role: remedy.Role, Scope: remedy.Scope}); err != nil {
		t.Fatal(err)
	}
	if left, err := narrow.Refusals(ctx, time.Time{}); err != nil || len(left) != 0 {
		t.Errorf("after the answer: %+v, %v", left, err)
	}
	if none, err := steward.Refusals(ctx, chest.Clock.Now().Add(time.Minute)); err != nil || len(none) != 0 {
		t.Errorf("since later: %+v, %v", none, err)
	}
	if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/refusals?since=yesterday",
		Token: chest.Steward}); answer.Status != 400 || answer.Problem.Field != "since" {
		t.Errorf("a time in another form: %d %s", answer.Status, answer.Problem.Field)
	}
}
