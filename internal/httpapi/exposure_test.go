package httpapi_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/exposuretext"
)

// A report names who read the version and who could have at some time since, also by a grant that has ended, and lists what to
// replace in order.
func TestExposureIsReported(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "the exposed value of this test")
	chest.Fill(t, "d", "other", "read by the same app")
	chest.Fill(t, "e", "copy", "the exposed value of this test")
	chest.Fill(t, "e", "apart", "nothing to do with it")
	steward := chest.Client(t, chest.Steward)
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	chest.App(t, "rota-sync", chesttest.Grant{Role: "consumer", Scope: "d/i"})
	chest.App(t, "map-printer", chesttest.Grant{Role: "consumer", Scope: "e/apart"})
	auditor := chest.Client(t, chest.Person(t, "audit-desk", chesttest.Grant{Role: "auditor", Scope: "**"}))
	app := chest.Client(t, token)
	must[client.Value](t)(app.ReadValue(ctx, "d/i"))
	exposed := time.Now()
	must[client.Value](t)(app.ReadValue(ctx, "d/i"))
	must[client.Value](t)(app.ReadValue(ctx, "d/other"))
	// A grant that ends afterwards could have been used.
	for _, g := range must[[]client.Grant](t)(steward.Grants(ctx, "app:rota-sync")) {
		if _, err := steward.EndGrant(ctx, g.ID); err != nil {
			t.Fatal(err)
		}
	}
	x := must[client.Exposure](t)(auditor.Exposure(ctx, "d/i@1",
		client.NewExposure{Since: exposed, Reason: "seen in a build log", Mark: true}))
	if len(x.Readers) != 1 || x.Readers[0].Subject != "app:ticket-api" || x.Readers[0].Count != 2 || x.Readers[0].After != 1 || !x.Current ||
		!x.Serves {
		t.Errorf("%+v", x)
	}
	holders := ""
	for _, h := range x.Holders {
		holders += fmt.Sprintf("%s %v %v, ", h.Subject, h.Did, h.Still)
	}
	if !strings.Contains(holders, "app:ticket-api true true") || !strings.Contains(holders, "app:rota-sync false false") ||
		strings.Contains(holders, "map-printer") {
		t.Errorf("who could have: %s", holders)
	}
	order := ""
	for _, r := range x.Replace {
		order += r.Reference + " "
	}
	if order != "d/i d/i@1 e/copy d/other " {
		t.Errorf("what to replace: %s", order)
	}
	page := must[client.TrailPage](t)(auditor.Trail(ctx, client.TrailFilter{Query: "action:mark_exposed build"}))
	if len(page.Entries) != 1 || page.Entries[0].Target != "d/i" || page.Entries[0].Version != 1 ||
		page.Entries[0].Stated != "seen in a build log" {
		t.Errorf("the trail has %+v", page.Entries)
	}
	text := exposuretext.Markdown(x)
	for _, want := range []string{"# Exposure of `d/i@1`", "**It is still served**", "1. `d/i`", "3. `e/copy`: it has the same value",
		"| `app:ticket-api` | 1 | 2 |"} {
		if !strings.Contains(text, want) {
			t.Errorf("the report lacks %q:\n%s", want, text)
		}
	}
	if strings.Contains(text, "the exposed value") {
		t.Error("the report shows the value")
	}
	answer := chest.Do(t, chesttest.Call{Method: "POST", Path: "/api/drawers/d/items/i@1/exposure", Token: chest.Steward, Body: `{}`,
		Header: map[string]string{"Accept": "text/markdown"}})
	if answer.Status != 200 || !strings.HasPrefix(string(answer.Body), "# Exposure") {
		t.Errorf("%d %.60s", answer.Status, answer.Body)
	}

	// Who may read the trail of the one item hears nothing of others.
	part := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "auditor", Scope: "d/i"}))
	x = must[client.Exposure](t)(part.Exposure(ctx, "d/i@1", client.NewExposure{}))
	for _, r := range x.Replace {
		if !strings.HasPrefix(r.Reference, "d/i") {
			t.Errorf("they hear of %s", r.Reference)
		}
	}
	for reference, code := range map[string]string{"d/i": "invalid_input", "d/i@9": "not_found", "e/copy@1": "refused"} {
		if _, err := part.Exposure(ctx, reference, client.NewExposure{}); chesttest.Code(err) != code {
			t.Errorf("%s: %v", reference, err)
		}
	}
	if _, err := auditor.Exposure(ctx, "d/i@1", client.NewExposure{Since: time.Now().Add(time.Hour)}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("in the future: %v", err)
	}
}

// What is done for the first time by whoever is there for long, and what is done far more often, is pointed out; a newcomer's first
// day is not.
func TestUnusualReadsArePointedOut(t *testing.T) {
	chest := chesttest.Start(t)
	for _, item := range []string{"i", "j"} {
		chest.Fill(t, "d", item, "v")
	}
	secret, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	steward := chest.Client(t, chest.Steward)
	// and was never there
	newcomer := must[client.Registered](t)(steward.Register(ctx, client.NewIdentity{Kind: "app", Name: "rota-sync"})).Credential.Secret
	must[client.Given](t)(steward.Give(ctx, client.NewGrant{Subject: "app:rota-sync", Role: "consumer", Scope: "d/**"}))
	chest.Person(t, "audit-desk", chesttest.Grant{Role: "auditor", Scope: "e/**"})
	auditor := func() *client.Client { return chest.Client(t, chest.SignIn(t, "steward")) }
	read := func(c *client.Client, reference string) { must[client.Value](t)(c.ReadValue(ctx, reference)) }
	read(chest.Client(t, token), "d/i")
	if list := must[[]client.Unusual](t)(auditor().Unusual(ctx, time.Time{})); len(list) != 0 {
		t.Errorf("on the first day: %+v", list)
	}
	later := 3*24*time.Hour + 5*time.Hour
	chest.Clock.Set(-later)
	since := time.Now().Add(later - time.Hour)
	signIn := func(name, secret string) *client.Client {
		token, _, err := chest.Client(t, "").AppToken(ctx, name, secret)
		if err != nil {
			t.Fatal(err)
		}
		return chest.Client(t, token)
	}
	app := signIn("ticket-api", secret)
	read(app, "d/i")
	read(app, "d/j")
	for range 150 {
		read(app, "d/j")
	}
	read(signIn("rota-sync", newcomer), "d/i")
	must[client.History](t)(auditor().Act(ctx, "d", "i", client.Act{Act: "retire"}))
	for range 2 {
		if _, err := app.ReadValue(ctx, "d/i"); chesttest.Code(err) != "not_servable" {
			t.Errorf("what was retired: %v", err)
		}
	}
	kinds := map[string]string{}
	for _, u := range must[[]client.Unusual](t)(auditor().Unusual(ctx, since)) {
		kinds[u.Kind+" "+u.Subject] += u.Target + " "
	}
	if kinds["first_read app:ticket-api"] != "d/j " || kinds["burst app:ticket-api"] != "d " || kinds["new_hour app:ticket-api"] == "" ||
		kinds["gone app:ticket-api"] != "d/i " {
		t.Errorf("%v", kinds)
	}
	for kind := range kinds {
		if strings.HasSuffix(kind, "rota-sync") {
			t.Errorf("a newcomer is unusual: %v", kinds)
		}
	}
	total := int64(0)
	for _, h := range must[[]client.Activity](t)(auditor().Activity(ctx, time.Time{})) {
		if h.Subject == "app:ticket-api" && h.Drawer == "d" {
			total += h.Count
		}
	}
	if total != 153 {
		t.Errorf("%d reads are counted", total)
	}
	part := chest.Client(t, chest.SignIn(t, "audit-desk"))
	if list := must[[]client.Activity](t)(part.Activity(ctx, time.Time{})); len(list) != 0 {
		t.Errorf("the auditor of another drawer sees %+v", list)
	}
	if list := must[[]client.Unusual](t)(part.Unusual(ctx, time.Time{})); len(list) != 0 {
		t.Errorf("the auditor of another drawer sees %+v", list)
	}
}

var errEnough = errors.New("enough")

// The live view shows what is recorded, as it is recorded, to whoever may read it, and ends with the token.
func TestTrailIsWatchedAsItGrows(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	chest.Fill(t, "e", "i", "v")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "**"})
	app := chest.Client(t, token)
	watcher := chest.Client(t, chest.Person(t, "audit-desk", chesttest.Grant{Role: "auditor", Scope: "d/**"}))
	watching, stop := context.WithTimeout(ctx, 20*time.Second)
	defer stop()
	read := func() {
		for watching.Err() == nil { // until the view has begun, and then until it has seen enough
			must[client.Value](t)(app.ReadValue(ctx, "e/i"))
			must[client.Value](t)(app.ReadValue(ctx, "d/i"))
		}
	}
	done := make(chan struct{})
	go func() { defer close(done); read() }()
	seen := 0
	err := watcher.Watch(watching, "action:read_value -subject:person:*", func(e client.Entry) error {
		if e.Target != "d/i" || e.Subject != "app:ticket-api" {
			t.Errorf("it shows %+v", e)
		}
		if seen++; seen == 5 {
			return errEnough
		}
		return nil
	})
	stop()
	<-done
	if !errors.Is(err, errEnough) {
		t.Fatal(err)
	}
	steward := chest.Client(t, chest.Steward)
	ended := make(chan error)
	go func() {
		ended <- watcher.Watch(ctx, "", func(client.Entry) error {
			_, err := steward.SetState(ctx, "person:audit-desk", "suspended")
			return err
		})
	}()
	for {
		select {
		case err := <-ended:
			var lost *client.Unreachable
			if !errors.As(err, &lost) {
				t.Errorf("after the watcher was suspended: %v", err)
			}
			return
		default:
			must[client.Value](t)(app.ReadValue(ctx, "d/i"))
		}
	}
}

// A chest stops at once although somebody watches its trail.
func TestAWatcherDoesNotKeepTheChestFromStopping(t *testing.T) {
	chest := chesttest.Start(t)
	watcher, steward := chest.Client(t, chest.Steward), chest.Client(t, chest.Steward)
	watching, over := make(chan struct{}), make(chan error)
	var once sync.Once
	go func() {
		over <- watcher.Watch(ctx, "", func(client.Entry) error { once.Do(func() { close(watching) }); return nil })
	}()
	for begun := false; !begun; {
		must[[]client.Drawer](t)(steward.Drawers(ctx))
		select {
		case <-watching:
			begun = true
		default:
		}
	}
	if err := chest.Stop(); err != nil { // it waits, and says so, for what does not end
		t.Error(err)
	}
	if err := <-over; err == nil {
		t.Error("the watcher is not told")
	}
}
