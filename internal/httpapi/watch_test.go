package httpapi_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
)

// Who waits for values is told of a new version, of what begins by itself, and of access that is taken, and of nothing else.
func TestWaitingForValuesToChange(t *testing.T) {
	chest := chesttest.Start(t)
	for _, item := range []string{"i", "quiet"} {
		chest.Fill(t, "d", item, "v")
	}
	chest.Fill(t, "e", "closed", "v")
	steward := chest.Client(t, chest.Steward)
	_, token := chest.App(t, "ticket-api")
	given := must[client.Given](t)(steward.Give(ctx, client.NewGrant{Subject: "app:ticket-api", Role: "consumer", Scope: "d/**"}))
	listening, stop := context.WithTimeout(ctx, 30*time.Second)
	defer stop()
	told, ended := make(chan client.Check), make(chan error, 1)
	go func() {
		ended <- chest.Client(t, token).WatchValues(listening, []string{"d/i", "d/quiet", "e/closed", "d/i@1"}, func(ch client.Check) error {
			select {
			case told <- ch:
			case <-listening.Done():
			}
			return nil
		})
	}()
	next := func() client.Check {
		t.Helper()
		select {
		case ch := <-told:
			return ch
		case err := <-ended:
			t.Fatalf("it ended: %v", err)
		}
		return client.Check{}
	}
	for _, want := range []struct {
		reference string
		version   int
	}{{"d/i", 1}, {"d/quiet", 1}, {"e/closed", 0}, {"d/i@1", 1}} {
		if ch := next(); ch.Reference != want.reference || ch.Version != want.version || ch.Served != (want.version > 0) {
			t.Errorf("at first: %+v", ch)
		}
	}
	must[client.Stored](t)(steward.AddVersion(ctx, "d", "i", 0, client.Content([]byte("w"))))
	if ch := next(); ch.Reference != "d/i" || ch.Version != 2 {
		t.Errorf("a new version: %+v", ch)
	}
	staged := client.Content([]byte("x"))
	staged.NotBefore = time.Now().Add(1500 * time.Millisecond)
	must[client.Stored](t)(steward.AddVersion(ctx, "d", "i", 0, staged))
	if ch := next(); ch.Reference != "d/i" || ch.Version != 3 {
		t.Errorf("a version that begins by itself: %+v", ch)
	}
	must[client.Given](t)(steward.Give(ctx, client.NewGrant{Subject: "app:ticket-api", Role: "consumer", Scope: "e/**"}))
	if ch := next(); ch.Reference != "e/closed" || !ch.Served {
		t.Errorf("access that was given: %+v", ch)
	}
	must[client.Grant](t)(steward.EndGrant(ctx, given.Grant.ID))
	for range 3 {
		if ch := next(); ch.Served || ch.Reason != "no_grant" {
			t.Errorf("access that was taken: %+v", ch)
		}
	}
	// It is recorded that somebody asked, and no value was read.
	if page := must[client.TrailPage](t)(steward.Trail(ctx, client.TrailFilter{Subject: "app:ticket-api"})); len(page.Entries) < 4 {
		t.Errorf("%d entries", len(page.Entries))
	} else {
		for _, e := range page.Entries {
			if e.Action == "read_value" {
				t.Errorf("a read: %+v", e)
			}
		}
	}
	// An identity that is suspended is told nothing more.
	if _, err := steward.SetState(ctx, "app:ticket-api", "suspended"); err != nil {
		t.Fatal(err)
	}
	var gone *client.Unreachable
	for {
		select {
		case <-told:
			continue
		case err := <-ended:
			if !errors.As(err, &gone) {
				t.Errorf("it ended with %v", err)
			}
		}
		break
	}
	if err := chest.Client(t, token).WatchValues(ctx, []string{"d/i"}, nil); chesttest.Code(err) != "unauthenticated" {
		t.Errorf("again: %v", err)
	}
}
