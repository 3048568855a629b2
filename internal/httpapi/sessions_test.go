package httpapi_test

import (
	"testing"

	"tansu/internal/chesttest"
)

// People change their own password, with the present one, and see and end their sessions; nobody else's, and not by a session alone.
func TestOwnPasswordAndSessions(t *testing.T) {
	chest := chesttest.Start(t)
	first := chest.Client(t, chest.Person(t, "harbour-master"))
	second := chest.Client(t, chest.SignIn(t, "harbour-master"))
	other := chest.Client(t, chest.Person(t, "rota-trainee"))
	_, token := chest.App(t, "ticket-api")
	app := chest.Client(t, token)

	list, err := second.Sessions(ctx)
	if err != nil || len(list) != 2 || list[0].Current == list[1].Current {
		t.Fatalf("%+v, %v", list, err)
	}
	for _, s := range list {
		if err := other.EndSession(ctx, s.ID); chesttest.Code(err) != "not_found" {
			t.Errorf("somebody else's session is ended: %v", err)
		}
		if !s.Current {
			if err := second.EndSession(ctx, s.ID); err != nil {
				t.Error(err)
			}
		}
	}
	if _, err := first.Me(ctx); chesttest.Code(err) != "unauthenticated" {
		t.Errorf("an ended session works: %v", err)
	}

	const fresh = "seven lanterns over wet planks"
	for what, try := range map[string][2]string{"wrong": {"not this one at all", fresh},
		"weak": {chesttest.Password, "password1234"}, "none": {"", fresh}} {
		if _, err := second.ChangePassword(ctx, try[0], try[1]); err == nil {
			t.Errorf("%s: it is changed", what)
		}
	}
	if _, err := app.ChangePassword(ctx, "x", fresh); chesttest.Code(err) != "refused" {
		t.Errorf("an app gets a password: %v", err)
	}
	third := chest.Client(t, chest.SignIn(t, "harbour-master"))
	session, err := second.ChangePassword(ctx, chesttest.Password, fresh)
	if err != nil || session.Subject != "person:harbour-master" {
		t.Fatalf("%+v, %v", session, err)
	}
	if _, err := second.Me(ctx); chesttest.Code(err) != "unauthenticated" {
		t.Errorf("the session before the change works: %v", err)
	}
	if _, err := third.Me(ctx); chesttest.Code(err) != "unauthenticated" {
		t.Errorf("a session elsewhere outlives the password: %v", err)
	}
	if _, err := chest.Client(t, session.Token).Me(ctx); err != nil {
		t.Error(err)
	}
	if _, err := chest.Client(t, "").SignIn(ctx, "harbour-master", chesttest.Password, ""); chesttest.Code(err) != "sign_in_failed" {
		t.Errorf("the old password: %v", err)
	}
	if _, err := chest.Client(t, "").SignIn(ctx, "harbour-master", fresh, ""); err != nil {
		t.Errorf("the new password: %v", err)
	}
	// Whoever has a session cannot guess the password with it.
	now := chest.Client(t, session.Token)
	throttled := false
	for range 8 {
		_, err := now.ChangePassword(ctx, "not this one at all", "eight lanterns over dry planks")
		throttled = throttled || chesttest.Code(err) == "throttled"
	}
	if !throttled {
		t.Error("the current password can be guessed without end")
	}
}
