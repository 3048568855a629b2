package web_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"tansu/client"
	"tansu/internal/chesttest"
)

// A curator holds an older version, retires the item, finds it again, and shreds it by typing its name.
func TestItemsLifeInTheConsole(t *testing.T) {
	b := open(t)
	steward := b.chest.Client(t, b.chest.Steward)
	if _, err := steward.AddVersion(b.ctx, "ticketing-prod", "db-password", 0, client.Content([]byte("second"))); err != nil {
		t.Fatal(err)
	}
	_, token := b.chest.App(t, "nightly-ledger", chesttest.Grant{Role: "consumer", Scope: "**"})
	app := b.chest.Client(t, token)
	if _, _, err := app.Read(b.ctx, "ticketing-prod/db-password@1"); err != nil {
		t.Fatal(err)
	}
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	b.do(press("Show who read it"), see("1 of 1"), see("pinned to a version"))
	b.do(chromedp.Click(`//tr[contains(., "@1")]//button[contains(., "Hold")]`), chromedp.WaitVisible(`dialog[open]`),
		press("Hold", "dialog"), see("held"), chromedp.WaitVisible(`//tr[contains(., "@1")][contains(., "held")]`))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Release"), chromedp.WaitVisible(`dialog[open]`), press("Release", "dialog"),
		chromedp.WaitVisible(`//tr[contains(., "@2")][contains(., "current")]`))
	restore := chromedp.WaitVisible(`//button[contains(normalize-space(.), "Restore")]`) // then no version has buttons any more
	retire := []step{press("Retire …"), chromedp.WaitVisible(`dialog[open]`), press("Retire", "dialog"), restore}
	b.do(retire...)
	b.do(press("Restore"))
	b.do(retire...)
	b.do(press("Shred"), chromedp.WaitVisible(`dialog[open]`),
		keys(`dialog input[name=name]`, "ticketing-prod/db"), press("Shred", "dialog"), see("type its exact name"),
		keys(`dialog input[name=name]`, "-password"))
	b.visit("/drawers/ticketing-prod", "Nothing in it")
	b.do(chromedp.Click(`input[type=checkbox]`), see("retired"))
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	b.do(press("Shred"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "ticketing-prod/db-password"),
		press("Shred", "dialog"), see("Not found"))
	b.clean()
}

// A login is put in with a password that nobody has seen, and revealed field by field.
func TestLoginIsMadeUpInTheConsole(t *testing.T) {
	b := open(t)
	b.visit("/", "Sign in")
	b.signIn("steward")
	if _, err := b.chest.Client(t, b.chest.Steward).Give(b.ctx,
		client.NewGrant{Subject: "person:steward", Role: "consumer", Scope: "**"}); err != nil {
		t.Fatal(err)
	}
	b.visit("/drawers/ticketing-prod", "db-password")
	b.do(press("Put a secret in"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "mail-relay"),
		keys(`//label[contains(., "What it is")]/following-sibling::select`, "login"),
		keys(`dialog input[name="field:user"]`, "svc-mail"),
		keys(`dialog select[name="recipe:password"]`, "Password: generate a UUID"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Put it in", "dialog"), see("login: user and password"), press("Reveal"), see("svc-mail"))
	value, _, err := b.chest.Client(t, b.chest.Steward).Read(b.ctx, "ticketing-prod/mail-relay#password")
	if err != nil || len(value) != 36 {
		t.Errorf("%d bytes, %v", len(value), err)
	}
	b.clean()
}

// Whatever has a name is found from any page, by the keyboard; items also by what is known of them.
func TestEverythingIsFoundFromAnyPage(t *testing.T) {
	b := open(t)
	b.chest.App(t, "ticket-api")
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/trail", "Audit trail")
	b.do(chromedp.KeyEvent("/"), chromedp.WaitVisible(`dialog[open] input`), chromedp.KeyEvent("ticket"),
		chromedp.WaitVisible(`//*[@role="option"][contains(., "app:ticket-api")]`),
		chromedp.WaitVisible(`//*[@role="option"][contains(., "ticketing-prod")]`))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(chromedp.KeyEvent("-api"), chromedp.WaitNotPresent(`//*[@role="option"][contains(., "drawer")]`), chromedp.KeyEvent("\r"),
		see("Sign-in methods"))
	b.focusIs("app:ticket-api")
	if title := eval[string](b, `document.title`); !strings.HasPrefix(title, "app:ticket-api") {
		t.Errorf("the window is called %q", title)
	}
	b.visit("/search?q=passw+drawer:ticket*", "Search items")
	b.do(chromedp.WaitVisible(`a[href="/drawers/ticketing-prod/db-password"]`))
	b.do(keys(`input[name=q]`, " colour:red"), press("Search"), see("the keys are drawer, name"))
	b.clean()
}

// An empty chest leads its steward through what keeps it from being lost, and says what is done.
func TestANewChestLeadsItsSteward(t *testing.T) {
	b := open(t)
	done := func() int {
		return eval[int](b, `document.querySelectorAll('section[aria-label="The first hours of this chest"] .text-success').length`)
	}
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.do(see("Appoint two gatekeepers"))
	if n := done(); n != 0 {
		t.Errorf("%d steps of a new chest are done", n)
	}
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	for _, name := range []string{"security-duty", "security-relief"} {
		b.chest.Person(t, name, chesttest.Grant{Role: "gatekeeper", Scope: "**"})
	}
	b.visit("/", "Appoint two gatekeepers")
	b.do(chromedp.WaitVisible(`//li[contains(., "Appoint two gatekeepers")]//*[contains(@class, "text-success")]`))
	if n := done(); n != 2 {
		t.Errorf("%d steps are done", n)
	}
	b.clean()
}

// An item's page shows how a program gets it, in the reader's language.
func TestAnItemsPageShowsHowToUseIt(t *testing.T) {
	b := open(t)
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	b.do(chromedp.Click(`//summary[contains(., "How to use it")]`), see("variable: DB_PASSWORD"), press("Python", "details"),
		see("urllib.request"), see("/api/values/ticketing-prod/db-password"))
	if wide := eval[int](b, `document.documentElement.scrollWidth - window.innerWidth`); wide > 0 {
		t.Errorf("it is %d pixels wider than the window", wide)
	}
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.clean()
}
