package client_test

import (
	"context"
	"encoding/json"
	"errors"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/core/cryptokey"
)

// An application gives its secret once and reads for as long as it runs, whatever happens to its tokens meanwhile.
func TestApplicationKeepsReadingAcrossTokens(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "value")
	secret, _ := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	authority, err := chest.Authority()
	if err != nil {
		t.Fatal(err)
	}
	asked := 0
	app, err := client.New(client.Options{Address: chest.URL(), Authority: authority, App: "ticket-api",
		Secret: func() (string, error) { asked++; return secret, nil }})
	if err != nil {
		t.Fatal(err)
	}
	read := func(when string) {
		t.Helper()
		content, version, err := app.Read(context.Background(), "tansu:d/i")
		if err != nil || string(content) != "value" || version != 1 {
			t.Errorf("%s: %q version %d, %v", when, content, version, err)
		}
	}
	read("at first")
	read("again")
	if asked != 1 {
		t.Errorf("the secret was asked for %d times for two reads", asked)
	}
	chest.Clock.Set(-2 * time.Hour) // the token ends on the chest's clock, which the client cannot know
	read("after the token has ended")
	if asked != 2 {
		t.Errorf("the secret was asked for %d times, want 2", asked)
	}
}

func TestErrorsSayWhatHappened(t *testing.T) {
	chest := chesttest.Start(t)
	_, token := chest.App(t, "ticket-api")
	var problem *client.Problem
	if _, _, err := chest.Client(t, token).Read(context.Background(), "d/i"); !errors.As(err, &problem) || problem.Code != "refused" ||
		problem.Remedy == nil {
		t.Errorf("a refusal: %v", err)
	}
	if _, _, err := chest.Client(t, token).Read(context.Background(), "no-slash"); !errors.As(err, &problem) ||
		problem.Code != "invalid_input" {
		t.Errorf("a reference without a drawer: %v", err)
	}
	var unreachable *client.Unreachable
	stranger, err := client.New(client.Options{Address: chest.URL(), Token: token}) // does not know the authority
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := stranger.Read(context.Background(), "d/i"); !errors.As(err, &unreachable) {
		t.Errorf("an authority that is not pinned: %v", err)
	}
	for _, address := range []string{"", "chest.ferries.example", "ftp://chest.ferries.example"} {
		if _, err := client.New(client.Options{Address: address}); err == nil {
			t.Errorf("the address %q is taken", address)
		}
	}
}

// The thumbprint of each type of key is that of RFC 7638, and its public half is there as PEM where that has a form for it.
func TestPublicHalvesHaveTheirForms(t *testing.T) {
	for _, f := range cryptokey.Types() {
		if !f.Public {
			continue
		}
		key, err := cryptokey.New(f.Type, f.Operations[0])
		if err != nil {
			t.Fatal(err)
		}
		jwk, err := json.Marshal(key.Public().JWK("it_x.1"))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := client.Thumbprint(jwk); err != nil || got != key.Public().Thumbprint() {
			t.Errorf("%s: the thumbprint %s, %v", f.Type, got, err)
		}
		want, _ := key.Public().PEM()
		if got, err := client.PublicPEM(jwk); string(got) != string(want) || (err == nil) != (want != nil) {
			t.Errorf("%s as PEM: %s, %v", f.Type, got, err)
		}
	}
	if _, err := client.Thumbprint([]byte(`{"kty":"oct","k":"AAAA"}`)); err == nil {
		t.Error("a secret key has a thumbprint")
	}
}
