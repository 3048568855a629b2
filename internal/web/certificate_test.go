package web_test

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"

	"tansu/client"
)

// An authority and a profile are made in the console, a certificate is issued and renewed, and one is revoked; then a key waits for the
// certificate of an authority elsewhere.
func TestCertificatesAreMadeRenewedAndRevoked(t *testing.T) {
	b := open(t)
	ctx := context.Background()
	steward := b.chest.Client(t, b.chest.Steward)
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod", "Certificate …")
	b.do(press("Certificate …"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "quay-authority"),
		keys(`dialog input[name=subject]`, "Quays"), keys(`dialog input[name=within]`, "ferries.example"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Create it", "dialog"), see("An authority: it signs certificates"), see("Its key never leaves the chest"),
		see("ferries.example"))
	b.do(press("New profile …"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "quay-server"),
		keys(`dialog input[name=names]`, "*.ferries.example"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Create the profile", "dialog"), see("What may be in its certificates"), see("*.ferries.example"), see("subscriber"))
	if _, err := steward.Give(ctx, client.NewGrant{Subject: "person:steward", Role: "subscriber",
		Scope: "ticketing-prod/quay-server"}); err != nil {
		t.Fatal(err)
	}
	b.visit("/drawers/ticketing-prod/quay-server", "Issue a certificate …")
	b.do(press("Issue a certificate …"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=names]`, "quay-1.elsewhere.example"),
		keys(`dialog input[name=into]`, "quay-1"), press("Issue it", "dialog"), see("none of the names that the profile gives"),
		chromedp.SetValue(`dialog input[name=names]`, "quay-1.ferries.example"), press("Issue it", "dialog"), see("The certificate that is served"),
		see("quay-1.ferries.example"), see("tansu cert keep ticketing-prod/quay-1"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Renew …"), chromedp.WaitVisible(`dialog[open]`), press("Renew", "dialog"), chromedp.WaitNotPresent(`dialog[open]`), see("@2"))
	b.visit("/drawers/ticketing-prod/quay-authority", "2 good")
	b.do(press("Revoke …"), chromedp.WaitVisible(`dialog[open]`), chromedp.SetValue(`dialog select[name=reason]`, "superseded"),
		press("Revoke for good", "dialog"), chromedp.WaitNotPresent(`dialog[open]`), see("1 revoked"), see("superseded"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.visit("/drawers/ticketing-prod/quay-1", "Revoked: superseded")
	list, _, err := steward.Issued(ctx, "ticketing-prod", "quay-authority", client.IssuedFilter{State: "revoked"})
	if err != nil || len(list) != 1 || list[0].Reason != "superseded" || list[0].Place != "ticketing-prod/quay-1" {
		t.Errorf("%+v, %v", list, err)
	}

	b.visit("/drawers/ticketing-prod", "Certificate …")
	b.do(press("Certificate …"), chromedp.WaitVisible(`dialog[open]`), chromedp.SetValue(`dialog select`, "requested"), see("Several with a space between"),
		keys(`dialog input[name=name]`, "web"), keys(`dialog input[name=names]`, "tickets.ferries.example"), press("Create it", "dialog"),
		see("A key without its certificate"), see("for the certificate of tickets.ferries.example"))
	h, err := steward.History(ctx, "ticketing-prod", "web")
	if err != nil || h.Item.Certificate == nil {
		t.Fatal(err)
	}
	made, err := steward.IssueCertificate(ctx, "ticketing-prod", "quay-server", client.Order{Request: h.Versions[0].Certificate.Request})
	if err != nil {
		t.Fatal(err)
	}
	b.do(press("Put the answer in …"), chromedp.WaitVisible(`dialog[open]`), chromedp.SetValue(`dialog textarea`, made.Certificate),
		press("Put it in", "dialog"), see("The certificate that is served"))
	b.clean()
}
