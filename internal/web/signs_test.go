package web_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"golang.org/x/crypto/ssh"

	"tansu/client"
)

// A key's page says what it signs for others: a profile of tokens is made, changed and used there, and one of SSH.
func TestAKeySignsForOthers(t *testing.T) {
	b := open(t)
	ctx := context.Background()
	steward := b.chest.Client(t, b.chest.Steward)
	made := client.NewItem{Name: "pass-key", Key: &client.NewKeyFacts{Type: "ed25519"}}
	if _, err := steward.CreateItem(ctx, "ticketing-prod", made); err != nil {
		t.Fatal(err)
	}
	for _, profile := range []string{"car-pass", "gate-login"} {
		grant := client.NewGrant{Subject: "person:steward", Role: "subscriber", Scope: "ticketing-prod/" + profile}
		if _, err := steward.Give(ctx, grant); err != nil {
			t.Fatal(err)
		}
	}
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod/pass-key", "Profiles: what it signs for others")
	b.do(press("New profile …"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "car-pass"),
		keys(`dialog input[name=issuer]`, "https://tickets.example"), keys(`dialog input[name=audiences]`, "gate-*"),
		keys(`dialog textarea[name=claims]`, "deck"), press("Create the profile", "dialog"), see("is not the name of a claim"),
		chromedp.SetValue(`dialog textarea[name=claims]`, "deck=car\ndeck=foot"),
		chromedp.SetValue(`dialog textarea[name=always]`, "level=3"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Create the profile", "dialog"), see("What its tokens may say"), see("car, foot"), see("whoever asks"),
		press("Change …"), chromedp.WaitVisible(`dialog[open]`), chromedp.SetValue(`dialog input[name=longest]`, "5m"),
		press("Change it", "dialog"), chromedp.WaitNotPresent(`dialog[open]`), see("5m"), see("car, foot"))
	b.do(press("Issue a token …"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=audiences]`, "fuel-desk"),
		keys(`dialog textarea[name=claims]`, "deck=car"), press("Issue it", "dialog"), see("none of the audiences"),
		chromedp.SetValue(`dialog input[name=audiences]`, "gate-3"), press("Issue it", "dialog"), see("nobody can take it back"),
		see("person:steward"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	if strings.Contains(b.html(), "eyJ") { // as every token begins
		t.Error("the token is in the page's source")
	}
	b.do(press("Close", "dialog"))

	b.visit("/drawers/ticketing-prod/pass-key", "car-pass")
	b.do(press("New profile …"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "gate-login"),
		chromedp.SetValue(`dialog select`, "user"), chromedp.WaitVisible(`dialog input[name=principals]`),
		keys(`dialog input[name=principals]`, "deploy"), press("Create the profile", "dialog"), see("What may be in its certificates"),
		see("permit-pty"))
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	b.do(press("Issue a certificate …"), chromedp.WaitVisible(`dialog[open]`),
		chromedp.SetValue(`dialog textarea[name=public_key]`, string(ssh.MarshalAuthorizedKey(key))), keys(`dialog input[name=names]`, "root"),
		press("Issue it", "dialog"), see("none of the principals"), chromedp.SetValue(`dialog input[name=names]`, "deploy"),
		press("Issue it", "dialog"), see("It is public"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.visit("/drawers/ticketing-prod/pass-key", "Issued certificates")
	b.do(see("deploy"), see("SSH user"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.clean()
}
