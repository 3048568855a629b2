package httpapi_test

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/server"
)

const day = 24 * time.Hour

// giveFor gives a role for some time.
func giveFor(t *testing.T, c *client.Client, subject, role, scope string, lasts time.Duration) client.Grant {
	t.Helper()
	n := client.NewGrant{Subject: subject, Role: role, Scope: scope, NotAfter: time.Now().Add(lasts)}
	return must[client.Given](t)(c.Give(ctx, n)).Grant
}

// The steward is set aside only when somebody else can run the chest, now and for a while.
func TestDutiesAreHandedOverForAWhile(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	chest.Person(t, "security-duty")
	must[client.RoleStored](t)(steward.AddRole(ctx, client.NewRole{Name: "registrar", Actions: []string{"list", "register"}}))
	for _, c := range []struct {
		role  string
		lasts time.Duration
		code  string
	}{
		{"registrar", 400 * day, "not_handed_over"}, // who can register, and can give nothing
		{"gatekeeper", 20 * time.Second, "not_handed_over"},
		{"gatekeeper", 29 * day, "not_handed_over"},
		{"gatekeeper", 31 * day, ""},
	} {
		giveFor(t, steward, "person:security-duty", c.role, "**", c.lasts)
		if _, err := steward.SetStewardsAside(ctx); chesttest.Code(err) != c.code {
			t.Errorf("%s for %v: %v", c.role, c.lasts, err)
		}
	}
}

// What somebody can give access by does not end within what is looked ahead by anybody's hand, in whichever way.
func TestTheLastWayToGiveAccessIsNotCutShort(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	must[client.RoleStored](t)(steward.AddRole(ctx, client.NewRole{Name: "door", Actions: []string{"list", "grant", "register"}}))
	tokens := map[string]string{}
	for _, name := range []string{"security-duty", "harbour-master"} {
		tokens[name] = chest.Person(t, name)
	}
	lasting := must[client.Given](t)(steward.Give(ctx, client.NewGrant{Subject: "person:security-duty", Role: "door", Scope: "**"}))
	if !lasting.Grant.NotAfter.IsZero() {
		t.Fatalf("what gives access to everything ends by itself: %v", lasting.Grant)
	}
	short := giveFor(t, steward, "person:harbour-master", "gatekeeper", "**", 20*day)
	must[[]string](t)(steward.SetStewardsAside(ctx))
	master := chest.Client(t, tokens["harbour-master"])
	for what, try := range map[string]func() error{
		"ended": func() error { _, err := master.EndGrant(ctx, lasting.Grant.ID); return err },
		"given for a shorter time": func() error {
			_, err := master.RenewGrant(ctx, lasting.Grant.ID, client.Renewal{NotAfter: time.Now().Add(10 * day)})
			return err
		},
		"denied": func() error {
			_, err := master.Give(ctx, client.NewGrant{Subject: "person:security-duty", Effect: "deny", Role: "door", Scope: "d/**"})
			return err
		},
		"its role made less": func() error {
			_, err := master.ChangeRole(ctx, client.NewRole{Name: "door", Actions: []string{"list"}})
			return err
		},
		"its holder suspended": func() error { _, err := master.SetState(ctx, "person:security-duty", "suspended"); return err },
	} {
		err := try()
		if chesttest.Code(err) != "not_handed_over" || !strings.Contains(err.Error(), short.ID) {
			t.Errorf("%s: %v", what, err)
		}
	}
	// With more time for the other one, each of them is theirs to decide.
	security := chest.Client(t, tokens["security-duty"])
	must[client.Given](t)(security.RenewGrant(ctx, short.ID, client.Renewal{}))
	if _, err := master.EndGrant(ctx, lasting.Grant.ID); err != nil {
		t.Errorf("ended when another one lasts: %v", err)
	}
}

// Who has to do with an end sees it before it comes: whose it is, who answers for them, and who can renew it; nobody else does.
func TestEndsOfAccessAreForewarned(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	steward := chest.Client(t, chest.Steward)
	lead := chest.Client(t, chest.Person(t, "ticketing-lead"))
	other := chest.Client(t, chest.Person(t, "rota-lead"))
	gate := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "ticketing-prod/**"}))
	_, token := chest.App(t, "ticket-api")
	app := chest.Client(t, token)
	owner := "person:ticketing-lead"
	must[client.Identity](t)(steward.ChangeIdentity(ctx, "app:ticket-api", client.IdentityChanges{Owner: &owner}))
	soon := giveFor(t, steward, "app:ticket-api", "consumer", "ticketing-prod/**", 9*day)
	giveFor(t, steward, "app:ticket-api", "consumer", "ticketing-prod/*", 3*day) // which the other one outlasts in everything
	denial := must[client.Given](t)(steward.Give(ctx, client.NewGrant{Subject: "app:ticket-api", Effect: "deny", Role: "consumer",
		Scope: "ticketing-prod/pin-*", NotAfter: time.Now().Add(10 * day)})).Grant
	forever := must[client.Given](t)(steward.Give(ctx, client.NewGrant{Subject: "app:ticket-api", Effect: "deny", Role: "consumer",
		Scope: "crew-rota-prod/**"})).Grant
	if !forever.NotAfter.IsZero() {
		t.Errorf("a denial ends by itself: %v", forever)
	}
	for name, c := range map[string]*client.Client{"the app itself": app, "who answers for it": lead, "who can renew it": gate,
		"a stranger": other} {
		var kinds []string
		for _, end := range must[[]client.AccessEnd](t)(c.AccessEnds(ctx, 14*day)) {
			if end.Subject == "app:ticket-api" {
				kinds = append(kinds, end.Kind+" "+end.ID)
				if end.May != (c == gate) {
					t.Errorf("%s: may renew is %v", name, end.May)
				}
			}
		}
		want := []string{"grant " + soon.ID, "denial " + denial.ID}
		if c == other {
			want = nil
		}
		if !slices.Equal(kinds, want) {
			t.Errorf("%s sees %v, not %v", name, kinds, want)
		}
	}
	if ends := must[[]client.AccessEnd](t)(gate.AccessEnds(ctx, day)); len(ends) != 0 {
		t.Errorf("within a day: %+v", ends)
	}
	if _, err := lead.RenewGrant(ctx, soon.ID, client.Renewal{}); chesttest.Code(err) != "not_found" && chesttest.Code(err) != "refused" {
		t.Errorf("renewed by whoever may not give it: %v", err)
	}
	if _, err := gate.RenewGrant(ctx, soon.ID, client.Renewal{NotAfter: time.Now().Add(-day)}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("renewed until yesterday: %v", err)
	}
	renewed := must[client.Given](t)(gate.RenewGrant(ctx, soon.ID, client.Renewal{})).Grant
	left := time.Until(renewed.NotAfter)
	if left < 89*day || left > 91*day || renewed.Role != "consumer" || renewed.Scope != "ticketing-prod/**" {
		t.Errorf("renewed: %+v", renewed)
	}
	if _, err := gate.RenewGrant(ctx, soon.ID, client.Renewal{}); chesttest.Code(err) != "not_found" {
		t.Errorf("the old one, again: %v", err)
	}
	if ends := must[[]client.AccessEnd](t)(gate.AccessEnds(ctx, 14*day)); len(ends) != 1 || ends[0].Kind != "denial" {
		t.Errorf("afterwards: %+v", ends)
	}
	v, err := app.ReadValue(ctx, "ticketing-prod/db-password")
	if err != nil || !v.Access.Equal(renewed.NotAfter) || !v.Until.Equal(renewed.NotAfter) {
		t.Errorf("a read afterwards: until %v, access until %v, %v", v.Until, v.Access, err)
	}
}

// The steps of founding, and then nobody does anything but what they are told to, for 400 days: nobody is locked out, and whatever ended
// was in the list of what is due before.
func TestFourHundredDaysAfterFounding(t *testing.T) {
	chest := chesttest.StartIn(t, filepath.Join(t.TempDir(), "demo"), server.PlainHTTP, 400*day)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"}, chesttest.Grant{Role: "operator", Scope: "**"})
	secret, _ := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	must[[]string](t)(chest.Client(t, chest.Steward).SetStewardsAside(ctx))
	warned := map[string]bool{}
	renewals := 0
	for left := 400 * day; left >= 0; left -= 7 * day {
		chest.Clock.Set(left)
		gate := chest.Client(t, chest.SignIn(t, "security-duty"))
		for _, end := range must[[]client.AccessEnd](t)(gate.AccessEnds(ctx, 14*day)) {
			if !end.NotAfter.After(chest.Clock.Now()) && !warned[end.ID] {
				t.Errorf("%s of %s ended unwarned", end.About, end.Subject)
			}
			if warned[end.ID] = true; end.May && end.Kind == "grant" {
				must[client.Given](t)(gate.RenewGrant(ctx, end.ID, client.Renewal{}))
				renewals++
			}
		}
		token, _, err := chest.Client(t, "").AppToken(ctx, "ticket-api", secret)
		if err != nil {
			t.Fatal(err)
		}
		app := chest.Client(t, token)
		if code := readCode(app, "ticketing-prod/db-password"); code != "" {
			t.Fatalf("the app is locked out %d days before the end: %s", left/day, code)
		}
		if status := must[client.Status](t)(gate.Status(ctx)); slices.ContainsFunc(status.Problems, func(p client.Trouble) bool {
			return strings.Contains(p.What, "give access")
		}) {
			t.Fatalf("nobody could give access: %+v", status.Problems)
		}
	}
	if renewals < 4 {
		t.Errorf("%d grants were renewed in 400 days", renewals)
	}
}
