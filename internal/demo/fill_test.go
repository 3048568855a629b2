package demo

import (
	"context"
	"strings"
	"testing"
	"time"

	"tansu/client"
)

// The demo must have something to show on every page: what is due and overdue, refusals with receipts, a grant that was
// never used, an app that still reads an old version, people with much and with little access.
func TestDemoDataHasSomethingForEveryPage(t *testing.T) {
	clock := &Clock{}
	clock.Set(90 * 24 * time.Hour)
	chest, err := Start(Options{Dir: t.TempDir(), Listen: "127.0.0.1:0", Version: "test"}, clock)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = chest.Stop() }()
	password, secrets, err := Fill(chest, Pipeline)
	if err != nil {
		t.Fatal(err)
	}
	if d := time.Since(clock.Now()).Abs(); d > time.Minute || len(secrets) != len(apps) {
		t.Errorf("the clock is %s off afterwards, %d secrets", d, len(secrets))
	}
	ctx := context.Background()
	as := func(name string) *client.Client {
		s := &story{ctx: ctx, chest: chest}
		anyone, err := s.client("")
		if err != nil {
			t.Fatal(err)
		}
		session, err := anyone.SignIn(ctx, name, string(password.Reveal()), "")
		if err != nil {
			t.Fatal(err)
		}
		c, err := s.client(session.Token)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	duty, lead := as("security-duty"), as("ticketing-lead")
	much, err := duty.Drawers(ctx)
	if err != nil {
		t.Fatal(err)
	}
	little, err := lead.Drawers(ctx)
	if err != nil || len(much) != len(drawers) || len(little) != 2 {
		t.Errorf("%d and %d drawers are seen, %v", len(much), len(little), err)
	}
	var due, overdue, empty int
	for _, d := range much {
		due, overdue = due+d.Due, overdue+d.Overdue
		if d.Items == 0 {
			empty++
		}
	}
	if due == 0 || overdue == 0 || empty == 0 {
		t.Errorf("%d due, %d overdue, %d empty drawers", due, overdue, empty)
	}
	count := func(f client.TrailFilter) int {
		f.Limit = 500
		page, err := duty.Trail(ctx, f)
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, e := range page.Entries {
			if f.Subject != "app:nightly-ledger" || e.Version == 1 && strings.HasPrefix(e.Target, "ticketing-prod") {
				n++
			}
		}
		return n
	}
	for what, n := range map[string]int{
		"refusals":             count(client.TrailFilter{Outcome: "refused", Action: "read_value"}),
		"failed sign-ins":      count(client.TrailFilter{Outcome: "refused", Action: "sign_in"}),
		"reads of old version": count(client.TrailFilter{Subject: "app:nightly-ledger", Action: "read_value"}),
	} {
		if n == 0 {
			t.Errorf("there are no %s to show", what)
		}
	}
	if n := count(client.TrailFilter{Subject: "app:map-printer"}); n != 0 {
		t.Errorf("the unused grant is used: %d entries", n)
	}
}
