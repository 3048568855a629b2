package web_test

import (
	"context"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"tansu/client"
	"tansu/internal/chesttest"
)

// A key is made in the console, used by an app, rotated, and its page says who needs the old version. The key itself is nowhere.
func TestAKeyIsMadeRotatedAndFollowed(t *testing.T) {
	b := open(t)
	_, token := b.chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	app := b.chest.Client(t, token)
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod", "Create a key …")
	b.do(press("Create a key …"), chromedp.WaitReady(`dialog[open] option[value=ed25519]`),
		keys(`dialog input[name=name]`, "boarding-pass-key"), chromedp.SetValue(`dialog select[name=type]`, "ed25519"),
		see("The usual choice for signatures"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Create the key", "dialog"), see("never leaves the chest"), see("tansu key sign ticketing-prod/boarding-pass-key"))
	if eval[bool](b, `[...document.querySelectorAll("button")].some((b) => b.innerText.startsWith("Reveal"))`) {
		t.Error("the page offers to show the key")
	}
	ctx := context.Background()
	signed, err := app.Sign(ctx, "ticketing-prod/boarding-pass-key", "", []byte("line 4"))
	if err != nil {
		t.Fatal(err)
	}
	b.do(press("Rotate …"), chromedp.WaitVisible(`dialog[open]`), press("Rotate", "dialog"), chromedp.WaitNotPresent(`dialog[open]`), see("@2"),
		press("Show who used it"), see("app:ticket-api"))
	if users := eval[string](b, `document.querySelector('section[aria-label="Who uses which version"] tbody').innerText`); !strings.Contains(users,
		"@1") || !strings.Contains(users, "sign") {
		t.Errorf("who uses it: %s", users)
	}
	if valid, err := app.Verify(ctx, "ticketing-prod/boarding-pass-key", "", []byte("line 4"), signed.Signature); err != nil || !valid {
		t.Errorf("after it was rotated: %v, %v", valid, err)
	}
	b.do(press("Show who can sign with it"), see("consumer"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.visit("/drawers/ticketing-prod", "ed25519")
	h, err := b.chest.Client(t, b.chest.Steward).History(ctx, "ticketing-prod", "boarding-pass-key")
	if err != nil || len(h.Versions) != 2 || h.Item.Key == nil || h.Item.Key.GivenOut {
		t.Errorf("what was made: %+v, %v", h, err)
	}
	if _, err := app.UseKey(ctx, "ticketing-prod/boarding-pass-key", client.KeyUse{Op: "encrypt"}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("it encrypts: %v", err)
	}
	b.clean()
}

// Which versions of a key decrypt is chosen in the console, once it has told who still needs the old ones.
func TestWhichVersionsDecryptIsChosen(t *testing.T) {
	b := open(t)
	_, token := b.chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	app, steward := b.chest.Client(t, token), b.chest.Client(t, b.chest.Steward)
	ctx, key := context.Background(), "ticketing-prod/claims"
	if _, err := steward.CreateItem(ctx, "ticketing-prod", client.NewItem{Name: "claims",
		Key: &client.NewKeyFacts{Type: "ml-kem-768-x25519"}}); err != nil {
		t.Fatal(err)
	}
	sealed, err := app.Encrypt(ctx, key, []byte("cabin 4"), nil)
	if err == nil {
		_, err = steward.AddVersion(ctx, "ticketing-prod", "claims", 0, client.NewVersion{})
	}
	if err == nil {
		_, err = app.Decrypt(ctx, key, sealed, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod/claims", "with every version")
	b.do(press("Change …"), chromedp.WaitVisible(`dialog[open]`), see("@1: once by"), see("app:ticket-api"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(chromedp.SetValue(`dialog select[name=from]`, "2"), press("Save", "dialog"), chromedp.WaitNotPresent(`dialog[open]`),
		see("from version 2 on"))
	if _, err := app.Decrypt(ctx, key, sealed, nil); chesttest.Code(err) != "not_servable" {
		t.Errorf("an old version still decrypts: %v", err)
	}
	b.clean()
}
