package web_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"tansu/client"
	"tansu/internal/chesttest"
)

// Somebody refused asks for it where they were refused; a gatekeeper says no with a reason, and then yes to another;
// the asker sees both.
func TestRequestGoesToAGatekeeperAndBack(t *testing.T) {
	b := open(t)
	b.chest.Fill(t, "ticketing-prod", "mail-login", "v")
	b.chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "**"})
	b.chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"})
	b.visit("/", "Sign in")
	b.signIn("ticketing-lead")
	for _, item := range []string{"db-password", "mail-login"} {
		b.visit("/drawers/ticketing-prod/"+item, "You may not read it")
		b.do(press("Request access"), chromedp.WaitReady(`dialog[open] option[value=consumer]`),
			keys(`dialog input[name=reason]`, "why "+item), press("Send the request", "dialog"),
			see("A gatekeeper sees it under Requests"))
	}
	b.visit("/refusals", "2 open")
	b.do(press("Sign out"))
	b.signIn("security-duty")
	b.visit("/refusals", "why mail-login")
	b.do(chromedp.Click(`//li[contains(., "why mail-login")]//button[contains(., "Decline")]`), chromedp.WaitVisible(`dialog[open]`),
		keys(`dialog input[name=reason]`, "mail is not yours"), press("Decline", "dialog"), see("declined: mail is not yours"))
	b.do(chromedp.Click(`//li[contains(., "why db-password")]//button[contains(., "Allow")]`), chromedp.WaitVisible(`dialog tbody`),
		see("to be consumer on ticketing-prod/db-password"), press("Allow", "dialog"), see("0 open"))
	b.do(press("Sign out"))
	b.signIn("ticketing-lead")
	b.visit("/refusals", "declined: mail is not yours")
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	b.do(press("Reveal"), chromedp.WaitVisible(`[data-value]`))
	b.visit("/drawers/ticketing-prod/mail-login", "You may not read it")
	b.clean()
}

// A grant is given after its consequences were shown; the matrix has it, with the reason at a press.
func TestGrantIsLookedAtBeforeItIsGiven(t *testing.T) {
	b := open(t)
	b.chest.App(t, "ticket-api")
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/access/app:ticket-api", "No access yet")
	b.do(press("Give access"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=scope]`, "ticketing-prd/**"),
		press("See what it changes", "dialog"), see("did you mean the drawer ticketing-prod?"),
		press("Back", "dialog"), keys(`dialog input[name=scope]`, "x"))
	eval[bool](b, `(() => { document.querySelector("dialog input[name=scope]").value = ""; return true })()`)
	b.do(keys(`dialog input[name=scope]`, "ticketing-prod/**"), press("See what it changes", "dialog"), see("gains"),
		press("Give it", "dialog"), see("In force now"))
	b.visit("/access/matrix", "Show the matrix")
	b.do(press("Show the matrix"), chromedp.WaitVisible(`tbody`),
		chromedp.Click(`//button[contains(@aria-label, "app:ticket-api in ticketing-prod")]`), chromedp.WaitVisible(`dialog tbody`),
		see("Grants that reach app:ticket-api"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.clean()
}

func TestPolicyIsComparedAndAppliedInTheConsole(t *testing.T) {
	b := open(t)
	b.chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/access/policy", "Policy file")
	b.do(chromedp.WaitVisible(`textarea`))
	change := func(from, to string) {
		t.Helper()
		eval[bool](b, `(() => { const area = document.querySelector("textarea");
			Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(area, area.value.replace("`+from+`", "`+to+`"));
			return area.dispatchEvent(new Event("input", { bubbles: true })); })()`)
	}
	change("role: consumer", "role: consumr")
	b.do(press("Compare"), chromedp.WaitVisible(`[role=alert]`), see("did you mean consumer?"))
	change("role: consumr", "role: viewer")
	b.do(press("Compare"), see("loses"), see("gains"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Apply it"), see("In force now"))
	grants, err := b.chest.Client(t, b.chest.Steward).Grants(b.ctx, "app:ticket-api")
	if err != nil || len(grants) != 2 {
		t.Fatalf("%+v, %v", grants, err)
	}
	for _, g := range grants {
		if g.InForce != (g.Role == "viewer") {
			t.Errorf("%+v", g)
		}
	}
	b.clean()
}

func TestTighteningIsDoneOnAYes(t *testing.T) {
	b := openAgo(t, 60*24*time.Hour)
	b.chest.App(t, "map-printer", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	b.chest.Clock.Set(0)
	b.chest.Steward = b.chest.SignIn(t, "steward")
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/access/tighten", "Grants never used")
	b.do(chromedp.Click(`//section[@aria-label="Grants never used"]//tr[contains(., "app:map-printer")]//button`),
		chromedp.WaitVisible(`dialog tbody`), see("loses"), press("Cancel", "dialog"))
	in := func() bool {
		grants, err := b.chest.Client(t, b.chest.Steward).Grants(b.ctx, "app:map-printer")
		if err != nil || len(grants) != 1 {
			t.Fatalf("%+v, %v", grants, err)
		}
		return grants[0].InForce
	}
	if !in() {
		t.Error("it was done without a yes")
	}
	b.do(chromedp.Click(`//section[@aria-label="Grants never used"]//tr[contains(., "app:map-printer")]//button`),
		chromedp.WaitVisible(`dialog tbody`), press("Do it", "dialog"), chromedp.WaitNotPresent(`dialog`))
	if in() {
		t.Error("it was not done")
	}
	b.clean()
}

// A grant that ends soon is renewed where its end is seen, by a tick and a press; nothing is ticked by itself.
func TestAGrantIsRenewedWhereItsEndIsSeen(t *testing.T) {
	b := open(t)
	b.chest.App(t, "map-printer")
	n := client.NewGrant{Subject: "app:map-printer", Role: "consumer", Scope: "ticketing-prod/**",
		NotAfter: time.Now().Add(3 * 24 * time.Hour)}
	if _, err := b.chest.Client(t, b.chest.Steward).Give(b.ctx, n); err != nil {
		t.Fatal(err)
	}
	b.visit("/", "Sign in")
	b.signIn("steward")
	row := `//section[@aria-labelledby="access-ends"]//tr[contains(., "app:map-printer")]`
	b.visit("/due", "Access and credentials")
	b.do(chromedp.WaitVisible(row+`[contains(., "in 3 days")]`),
		chromedp.WaitVisible(`//button[contains(., "Renew what you choose")][@disabled]`),
		chromedp.Click(row+`//input`), chromedp.Click(`//button[contains(., "Renew 1 grant")]`), see("Renewed: 1 grant"),
		chromedp.WaitVisible(row+`[contains(., "in 90 days")]`))
	b.clean()
}

// Many grants are reviewed and ended in one go where they are listed: those that a filter leaves, and no others. Renewing shortens nothing.
func TestGrantsAreEndedManyAtATimeWhereTheyAreListed(t *testing.T) {
	b := open(t)
	b.chest.App(t, "map-printer")
	steward := b.chest.Client(t, b.chest.Steward)
	for i := range 30 {
		n := client.NewGrant{Subject: "app:map-printer", Role: "consumer", Scope: fmt.Sprintf("ticketing-prod/old-%d", i),
			NotAfter: time.Now().Add(30 * 24 * time.Hour)}
		if i%2 == 0 {
			n.Scope = fmt.Sprintf("ticketing-prod/new-%d", i)
		}
		if _, err := steward.Give(b.ctx, n); err != nil {
			t.Fatal(err)
		}
	}
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/access/grants", "ticketing-prod/new-0")
	b.do(keys(`input[type=search]`, "prod/old-"), press("Choose the 15 found"), press("Renew 15 grants"),
		see("Renewed: 15 grants"),
		press("Choose the 15 found"), see("15 of those chosen last for 90 days"), press("End 15 grants"),
		see("What only these allow is refused"), press("End 15 grants", "dialog"), see("Nothing matches"))
	grants, err := steward.Grants(b.ctx, "app:map-printer")
	if err != nil {
		t.Fatal(err)
	}
	left := 0
	for _, g := range grants {
		if g.InForce && !strings.HasPrefix(g.Scope, "ticketing-prod/new-") {
			t.Errorf("%s is left", g.Scope)
		}
		if g.InForce {
			left++
		}
	}
	if left != 15 {
		t.Errorf("%d are left", left)
	}
	b.clean()
}

func TestStewardIsSetAsideInTheConsole(t *testing.T) {
	b := open(t)
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.do(press("Set the steward aside", "aside"), chromedp.WaitVisible(`dialog[open]`), press("Set aside", "dialog"),
		see("nobody else could run the chest"), press("Cancel", "dialog"))
	b.chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"})
	b.do(press("Set the steward aside", "aside"), chromedp.WaitVisible(`dialog[open]`), press("Set aside", "dialog"),
		chromedp.WaitVisible(`input[name=person]`))
	if identity, err := b.chest.Client(t, b.chest.SignIn(t, "security-duty")).Identity(b.ctx, "person:steward"); err != nil ||
		identity.State != "set_aside" {
		t.Errorf("%+v, %v", identity, err)
	}
	b.clean()
}

// Labels and the rule about a second person are shown where they count.
func TestRulesAreShownWhereTheyCount(t *testing.T) {
	b := open(t)
	steward := b.chest.Client(t, b.chest.Steward)
	contents, err := steward.Drawer(b.ctx, "ticketing-prod")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := steward.ChangeDrawer(b.ctx, "ticketing-prod", contents.Drawer.Revision,
		client.Described{Labels: client.Labels{"team": "ticketing"},
			Approval: &client.Approval{Items: []string{"db-*"}, Of: "persons"}}); err != nil {
		t.Fatal(err)
	}
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod", "A second person agrees")
	b.do(see("team=ticketing"))
	b.visit("/drawers/ticketing-prod/db-password", "A second person agrees")
	b.clean()
}

// A way to prove oneself without a secret is registered in the console, and what an app reads stands on its page.
func TestAnAppsPageShowsHowItProvesItselfAndWhatItReads(t *testing.T) {
	b := open(t)
	_, token := b.chest.App(t, "nightly-ledger", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	app := b.chest.Client(t, token)
	if _, _, err := app.Read(b.ctx, "ticketing-prod/db-password"); err != nil {
		t.Fatal(err)
	}
	if _, _, err := app.Read(b.ctx, "crew-rota-prod/token"); err == nil {
		t.Fatal("it reads anything")
	}
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/access/app:nightly-ledger", "ticketing-prod/db-password")
	b.do(press("Add a sign-in method"), chromedp.WaitVisible(`dialog[open] select[name=kind]`),
		keys(`dialog[open] select[name=kind]`, "issuer"),
		chromedp.WaitVisible(`dialog[open] textarea[name=claims]`),
		keys(`dialog[open] input[name=issuer]`, "https://pipeline.ferries.example"),
		keys(`dialog[open] input[name=audience]`, "tansu"),
		keys(`dialog[open] textarea[name=claims]`, "sub=job:ledger\nbranch=main"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Register it", "dialog"), press("Done", "dialog"),
		chromedp.WaitVisible(`//p[contains(., "tokens of") and contains(., "branch=main")]`), chromedp.WaitVisible(`//h3[.="Refused last"]`))
	b.do(press("Would it be served now?"), chromedp.WaitVisible(`//td[contains(., "version 1")]`))
	manifest := "manifest: 1\napp: nightly-ledger\ndrawers: { production: ticketing-prod, staging: ticketing-staging }\nneeds:\n  - { " +
		"variable: DB, reference: db-password }\n"
	b.do(press("Check a manifest …"), chromedp.WaitVisible(`dialog[open] textarea[name=manifest]`),
		keys(`dialog[open] textarea[name=manifest]`, "needs: ["),
		press("Check it", "dialog"), see("did not find"),
		keys(`dialog[open] textarea[name=manifest]`, strings.Repeat("\b", len("needs: ["))),
		keys(`dialog[open] textarea[name=manifest]`, manifest),
		press("Check it", "dialog"), see("All of it would be served now"), keys(`dialog[open] select`, "staging"),
		see("1 of 1 would not be served"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Close", "dialog"))
	b.do(chromedp.Click(`//li[contains(., "tokens of")]//button[contains(., "End")]`), chromedp.WaitVisible(`dialog[open]`),
		press("End it", "dialog"), chromedp.WaitNotPresent(`//p[contains(., "tokens of")]`))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
}
