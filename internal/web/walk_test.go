package web_test

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"tansu/client"
	"tansu/internal/demo"
	"tansu/internal/server"
	"tansu/internal/web"
)

// openDemo starts the demo with a browser on it, and returns the password of everybody in it.
func openDemo(t *testing.T) (*browser, string) {
	t.Helper()
	console, err := web.Handler()
	if err != nil {
		t.Fatal(err)
	}
	clock := &demo.Clock{}
	clock.Set(90 * 24 * time.Hour)
	chest, err := demo.Start(demo.Options{Dir: t.TempDir(), Listen: "127.0.0.1:0", Transport: server.PlainHTTP, Console: console,
		Version: "0.1.0", Backups: true}, clock)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = chest.Stop() })
	password, _, err := demo.Fill(chest, demo.Pipeline)
	if err != nil {
		t.Fatal(err)
	}
	return openAt(t, chest.URL()), string(password.Reveal())
}

// as signs somebody in, whoever was there before.
func (b *browser) as(person, password string) {
	b.t.Helper()
	if eval[bool](b, `location.protocol !== "about:" && document.querySelector("header nav") !== null`) {
		b.do(press("Sign out"))
	} else {
		b.do(chromedp.Navigate(b.url + "/"))
	}
	b.do(chromedp.WaitVisible(`input[name=person]`), keys(`input[name=person]`, person),
		keys(`input[name=password]`, password), press("Sign in"), chromedp.WaitVisible(`header nav`))
}

// settled waits until the page of the address is there, and nothing on it is being fetched.
const settled = `(async () => { for (let quiet = 0, n = 0; quiet < 3 && n < 300; n++) {
	await new Promise((r) => setTimeout(r, 15));
	const busy = [...document.querySelectorAll("[role=status]")].some((s) => s.textContent.startsWith("Opening "));
	quiet = busy || document.querySelector("main h1")?.dataset.path !== location.pathname ? 0 : quiet + 1; }
	return document.querySelector("main h1")?.textContent ?? "" })()`

// go goes to a page within the console, and waits until it is there whole.
func (b *browser) goTo(path string) string {
	b.t.Helper()
	return eval[string](b, fmt.Sprintf(`(history.pushState({}, "", %q), dispatchEvent(new PopStateEvent("popstate")), true) && `,
		path)+settled)
}

// looks presses, one after the other, the buttons of a page that open something or ask something, and nothing that changes anything; and
// says what answered with a refusal, and what axe-core, if it is there, finds in a dialog in either theme.
const looks = `(async () => {
	const wait = () => new Promise((r) => setTimeout(r, 20));
	const idle = async () => { for (let n = 0; n < 100; n++) { await wait();
		if (![...document.querySelectorAll("[role=status]")].some((s) => s.textContent.startsWith("Opening "))) return; } };
	const found = [];
	const names = [...document.querySelectorAll("main button:not([disabled])")].map((b) => b.innerText.trim())
		.filter((n) => /…|^Show|^Find ways|^Would it|^Reveal/.test(n));
	for (const name of [...new Set(names)]) {
		const button = [...document.querySelectorAll("main button:not([disabled])")].find((b) => b.innerText.trim() === name);
		if (!button) continue;
		const before = new Set(document.querySelectorAll("[role=alert]"));
		button.click();
		await idle();
		for (const alert of document.querySelectorAll("[role=alert]")) if (!before.has(alert))
			found.push(name + ": " + alert.innerText.replaceAll("\n", " "));
		const dialog = document.querySelector("dialog[open]");
		if (dialog) {
			if (!dialog.querySelector("h2")) found.push(name + ": a dialog without a title");
			if (typeof axe === "object") for (const theme of ["paper", "lacquer"]) {
				document.documentElement.dataset.theme = theme;
				document.getAnimations().forEach((a) => { try { a.finish() } catch { a.cancel() } });
				for (const v of (await axe.run(dialog)).violations) found.push(name + " in " + theme + ": " + v.id + ": " + v.nodes[0].target);
			}
			dialog.dispatchEvent(new KeyboardEvent("keydown", { key: "Escape", bubbles: true, cancelable: true }));
			await wait();
			if (document.querySelector("dialog[open]")) found.push(name + ": Escape does not close it");
		}
	}
	return found; })()`

// A page that somebody looks at is no refusal, whoever they are; nor is what it offers.
func TestNoPageAndNothingItOffersIsRefused(t *testing.T) {
	b, password := openDemo(t)
	begun := time.Now().Add(-time.Second)
	pages := []string{"/", "/due", "/search?q=password", "/access", "/access/grants", "/access/roles", "/access/ask", "/access/matrix",
		"/access/tighten", "/access/policy", "/access/app:ticket-api", "/access/person:rota-trainee", "/access/person:ticketing-lead",
		"/access/team:harbour-crew",
		"/refusals", "/trail", "/trail/verify", "/trail/upkeep", "/trail/reads", "/trail/1", "/account", "/operation", "/drawers/ticketing-prod",
		"/drawers/ticketing-staging", "/drawers/fuel-billing-prod", "/drawers/crew-rota-prod", "/drawers/not-there",
		"/drawers/ticketing-prod/db-password", "/drawers/ticketing-staging/db-password", "/drawers/harbour-gates-prod/radio-key",
		"/drawers/ticketing-prod/not-there", "/drawers/ticketing-prod/mail-relay-login", "/drawers/fuel-billing-prod/ledger-db-password",
		"/drawers/harbour-gates-prod/ramp-controller-login", "/drawers/ticketing-prod/db-password@1/exposure",
		"/drawers/ticketing-prod/boarding-pass-key", "/drawers/ticketing-prod/passenger-data-key"}
	for _, person := range []string{"security-duty", "security-relief", "platform-oncall", "ticketing-lead", "harbour-master", "audit-desk",
		"rota-trainee"} {
		b.as(person, password)
		if person == "security-duty" || person == "platform-oncall" { // who opens most dialogs, and who asks for a second person
			b.axe() // which is there for each dialog, until somebody else signs in
		}
		for _, page := range pages {
			if title := b.goTo(page); title == "" {
				t.Errorf("%s, %s: there is no page", person, page)
			}
			for _, found := range eval[[]string](b, looks) {
				t.Errorf("%s, %s: %s", person, page, found)
			}
		}
	}
	ctx := context.Background()
	visitor, err := client.New(client.Options{Address: b.url})
	if err != nil {
		t.Fatal(err)
	}
	session, err := visitor.SignIn(ctx, "audit-desk", password, "test")
	if err != nil {
		t.Fatal(err)
	}
	auditor, err := client.New(client.Options{Address: b.url, Token: session.Token})
	if err != nil {
		t.Fatal(err)
	}
	trail, err := auditor.Trail(ctx, client.TrailFilter{Outcome: "refused", Since: begun, Limit: 500})
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, e := range trail.Entries {
		if e.Via == "console_session" {
			said = append(said, fmt.Sprintf("%s was refused %s on %q: %s", e.Subject, e.Action, e.Target, e.Reason))
		}
	}
	slices.Sort(said)
	for _, s := range slices.Compact(said) {
		t.Error(s)
	}
}
