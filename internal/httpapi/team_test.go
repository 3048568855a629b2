package httpapi_test

import (
	"testing"

	"tansu/client"
	"tansu/internal/chesttest"
)

// team makes a team, or fails the test.
func team(t *testing.T, c *client.Client, name string, members ...string) {
	t.Helper()
	if _, err := c.Register(ctx, client.NewIdentity{Kind: "team", Name: name}); err != nil {
		t.Fatal(err)
	}
	for _, member := range members {
		if _, err := c.Join(ctx, "team:"+name, member); err != nil {
			t.Fatal(err)
		}
	}
}

// A team's grants reach its members from the moment they join until the moment they leave, also those given before and
// after, and also after a restart.
func TestTeamGrantsReachMembersAtOnce(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	_, token := chest.App(t, "gate-controller")
	app, steward := chest.Client(t, token), chest.Client(t, chest.Steward)
	team(t, steward, "harbour-crew")
	read := func(c *client.Client) string {
		_, _, err := c.Read(ctx, "d/i")
		return chesttest.Code(err)
	}
	given, err := steward.Give(ctx, client.NewGrant{Subject: "team:harbour-crew", Role: "consumer", Scope: "d/**"})
	if err != nil {
		t.Fatal(err)
	}
	if got := read(app); got != "refused" {
		t.Errorf("before joining: %q", got)
	}
	joined, err := steward.Join(ctx, "team:harbour-crew", "app:gate-controller")
	if err != nil || len(joined.Members) != 1 {
		t.Fatalf("%+v, %v", joined, err)
	}
	if got := read(app); got != "" {
		t.Errorf("after joining: %q", got)
	}
	if me, err := app.Me(ctx); err != nil || len(me.Grants) != 1 || me.Grants[0].Subject != "team:harbour-crew" {
		t.Errorf("one's own grants: %+v, %v", me.Grants, err)
	}
	if grants, err := steward.Grants(ctx, "app:gate-controller"); err != nil || len(grants) != 1 || grants[0].Subject != "team:harbour-crew" {
		t.Errorf("the grants that reach it: %+v, %v", grants, err)
	}
	holders, err := steward.Holders(ctx, "read_value", "d/i")
	if err != nil || len(holders) != 1 || holders[0].Subject != "app:gate-controller" || holders[0].Grants[0].Subject != "team:harbour-crew" {
		t.Errorf("who can read: %+v, %v", holders, err)
	}
	if _, err := steward.Join(ctx, "team:harbour-crew", "app:gate-controller"); chesttest.Code(err) != "exists" {
		t.Errorf("joining twice: %v", err)
	}
	chest.Restart(t)
	app, steward = chest.Client(t, token), chest.Client(t, chest.Steward)
	if got := read(app); got != "" {
		t.Errorf("after a restart: %q", got)
	}
	if _, err := steward.Leave(ctx, "team:harbour-crew", "app:gate-controller"); err != nil {
		t.Fatal(err)
	}
	if got := read(app); got != "refused" {
		t.Errorf("after leaving: %q", got)
	}
	if _, err := steward.Join(ctx, "team:harbour-crew", "app:gate-controller"); err != nil {
		t.Fatal(err)
	}
	if _, err := steward.EndGrant(ctx, given.Grant.ID); err != nil {
		t.Fatal(err)
	}
	if got := read(app); got != "refused" {
		t.Errorf("after the grant's end: %q", got)
	}
}

// A denial of a team wins over what a member has, and a team is no way around the rule about one's own access.
func TestTeamsAreNoWayAroundOnesOwnAccess(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward := chest.Client(t, chest.Steward)
	gate := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	chest.Person(t, "harbour-master")
	if _, err := steward.Register(ctx, client.NewIdentity{Kind: "app", Name: "own-app", Owner: "person:security-duty"}); err != nil {
		t.Fatal(err)
	}
	team(t, steward, "with-me", "person:security-duty")
	team(t, steward, "with-my-app", "app:own-app")
	team(t, steward, "readers")
	if _, err := steward.Give(ctx, client.NewGrant{Subject: "team:readers", Role: "consumer", Scope: "**"}); err != nil {
		t.Fatal(err)
	}
	denial, err := steward.Give(ctx, client.NewGrant{Subject: "team:with-me", Role: "consumer", Scope: "d/**", Effect: "deny"})
	if err != nil {
		t.Fatal(err)
	}
	for what, attempt := range map[string]func() error{
		"give to a team one is in": func() error {
			_, err := gate.Give(ctx, client.NewGrant{Subject: "team:with-me", Role: "consumer", Scope: "**"})
			return err
		},
		"give to a team of one's app": func() error {
			_, err := gate.Give(ctx, client.NewGrant{Subject: "team:with-my-app", Role: "consumer", Scope: "**"})
			return err
		},
		"join oneself":                 func() error { _, err := gate.Join(ctx, "team:readers", "person:security-duty"); return err },
		"join one's app":               func() error { _, err := gate.Join(ctx, "team:readers", "app:own-app"); return err },
		"leave a team that is denied":  func() error { _, err := gate.Leave(ctx, "team:with-me", "person:security-duty"); return err },
		"end the denial of one's team": func() error { _, err := gate.EndGrant(ctx, denial.Grant.ID); return err },
	} {
		if err := attempt(); chesttest.Code(err) != "refused" {
			t.Errorf("%s: got %v, want a refusal", what, err)
		}
	}
	if _, err := gate.Join(ctx, "team:readers", "person:harbour-master"); err != nil {
		t.Errorf("somebody else: %v", err)
	}
	if _, err := steward.Give(ctx, client.NewGrant{Subject: "person:security-duty", Role: "consumer", Scope: "**"}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := gate.Read(ctx, "d/i"); chesttest.Code(err) != "refused" {
		t.Errorf("a team's denial does not win: %v", err)
	}
}

func TestTeamsRefuseWhatMakesNoSense(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	team(t, steward, "crew")
	team(t, steward, "inner")
	team(t, steward, "innermost")
	for _, pair := range [][2]string{{"team:inner", "team:innermost"}} {
		if _, err := steward.Join(ctx, pair[0], pair[1]); err != nil {
			t.Fatal(err)
		}
	}
	_, _ = chest.App(t, "gate-controller")
	for what, c := range map[string]struct {
		attempt func() error
		code    string
	}{
		"teams nested twice": {func() error { _, err := steward.Join(ctx, "team:crew", "team:inner"); return err }, "invalid_input"},
		"twice from inside":  {func() error { _, err := steward.Join(ctx, "team:innermost", "team:crew"); return err }, "invalid_input"},
		"teams in a circle":  {func() error { _, err := steward.Join(ctx, "team:innermost", "team:inner"); return err }, "invalid_input"},
		"a team in itself":   {func() error { _, err := steward.Join(ctx, "team:crew", "team:crew"); return err }, "invalid_input"},
		"a member of an app": {func() error { _, err := steward.Join(ctx, "app:gate-controller", "person:steward"); return err },
			"invalid_input"},
		"somebody unknown":     {func() error { _, err := steward.Join(ctx, "team:crew", "app:gate-controler"); return err }, "invalid_input"},
		"a team unknown":       {func() error { _, err := steward.Join(ctx, "team:crow", "app:gate-controller"); return err }, "not_found"},
		"leaving from outside": {func() error { _, err := steward.Leave(ctx, "team:crew", "app:gate-controller"); return err }, "not_found"},
		"a secret for a team": {func() error { _, err := steward.IssueCredential(ctx, "team:crew", client.NewCredential{}); return err },
			"invalid_input"},
		"suspending a team": {func() error { _, err := steward.SetState(ctx, "team:crew", "suspended"); return err }, "invalid_input"},
		"a team that is there": {func() error {
			_, err := steward.Register(ctx, client.NewIdentity{Kind: "team", Name: "crew"})
			return err
		}, "exists"},
	} {
		if err := c.attempt(); chesttest.Code(err) != c.code {
			t.Errorf("%s: got %v, want %s", what, err, c.code)
		}
	}
	if _, _, err := chest.Client(t, "").AppToken(ctx, "crew", "x"); chesttest.Code(err) != "invalid_client" {
		t.Errorf("a team gets a token: %v", err)
	}
}
