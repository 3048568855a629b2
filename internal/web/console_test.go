package web_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/server"
)

// browser is one tab of headless Chromium on a chest, and what it complained of.
type browser struct {
	t     *testing.T
	ctx   context.Context
	chest *chesttest.Chest
	url   string

	mu       sync.Mutex
	problems []string // errors in the page, content that was refused, requests to anywhere else
}

type step = chromedp.Action[chromedp.Void]

// stepTime is how long one step may take before the test gives up.
const stepTime = 90 * time.Second

// open starts a chest with the drawer ticketing-prod and a browser on it.
func open(t *testing.T) *browser { return openAgo(t, 0) }

// openAgo is open with a chest that was founded some time ago, and is at that time still.
func openAgo(t *testing.T, ago time.Duration) *browser {
	t.Helper()
	chest := chesttest.StartIn(t, filepath.Join(t.TempDir(), "demo"), server.PlainHTTP, ago)
	chest.Fill(t, "ticketing-prod", "db-password", "canary-in-the-browser")
	b := openAt(t, chest.URL())
	b.chest = chest
	return b
}

// openAt opens a browser on whatever serves the console at an address.
func openAt(t *testing.T, url string) *browser {
	t.Helper()
	b := &browser{t: t, url: url}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-quic", true))
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(stop)
	ctx, cancel := chromedp.NewContext(allocator)
	t.Cleanup(cancel)
	b.ctx = ctx
	if err := chromedp.Listen(ctx, b.listen); err != nil {
		t.Fatalf("start Chromium: %v", err)
	}
	if _, err := chromedp.Call(ctx, log.Enable, struct{}{}); err != nil {
		t.Fatal(err)
	}
	b.do(chromedp.EmulateViewport(1280, 800))
	return b
}

func (b *browser) listen(event any) {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch e := event.(type) {
	case *log.EventEntryAdded:
		// An answer of 4xx is what some tests ask for, and signing out clears what the browser keeps; everything else is a defect.
		if strings.HasPrefix(e.Entry.Text, "Clear-Site-Data header") && e.Entry.Level == "info" {
			return
		}
		if e.Entry.Source != "network" && e.Entry.Level != "verbose" {
			b.problems = append(b.problems, e.Entry.Text)
		}
	case *runtime.EventExceptionThrown:
		b.problems = append(b.problems, "exception: "+e.ExceptionDetails.Text)
	case *network.EventRequestWillBeSent:
		if !strings.HasPrefix(e.Request.URL, b.url+"/") && !strings.HasPrefix(e.Request.URL, "data:image/") {
			b.problems = append(b.problems, "request to "+e.Request.URL)
		}
	}
}

// clean fails the test if the page complained of anything.
func (b *browser) clean() {
	b.t.Helper()
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, problem := range b.problems {
		b.t.Errorf("the page: %s", problem)
	}
	b.problems = nil
}

func (b *browser) do(steps ...step) {
	b.t.Helper()
	for n, s := range steps {
		ctx, cancel := context.WithTimeout(b.ctx, stepTime)
		err := chromedp.Do(ctx, s)
		cancel()
		if err != nil {
			b.t.Fatalf("step %d: %v; the page shows: %s", n+1, err, b.text())
		}
	}
}

// keys types into a field. The library's own SendKeys reads the attributes of a node while they may be changing, which the race detector
// notices.
func keys(field, text string) step {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := chromedp.Focus(field, chromedp.NodeVisible)(ctx, t); err != nil {
			return err
		}
		_, err := chromedp.KeyEvent(text)(ctx, t)
		return err
	})
}

// eval runs an expression in the page.
func eval[T any](b *browser, expression string) T {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, stepTime)
	defer cancel()
	value, err := chromedp.Run(ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
	if err != nil {
		b.t.Fatalf("%.80s: %v", expression, err)
	}
	return value
}

func (b *browser) text() string {
	ctx, cancel := context.WithTimeout(b.ctx, stepTime)
	defer cancel()
	text, _ := chromedp.Run(ctx, chromedp.Evaluate[string](`document.body.innerText`))
	return text
}

func (b *browser) html() string { return eval[string](b, `document.documentElement.outerHTML`) }

func (b *browser) visit(path, ready string) {
	b.t.Helper()
	b.do(chromedp.Navigate(b.url+path), see(ready))
}

// see waits for a text on the page.
func see(text string) step {
	return chromedp.WaitVisible(fmt.Sprintf(`//body//*[contains(normalize-space(.), %q)]`, text))
}

// press clicks a button, of the whole page or inside an element.
func press(button string, inside ...string) step {
	return chromedp.Click(fmt.Sprintf(`//%sbutton[contains(normalize-space(.), %q) and not(@disabled)]`,
		strings.Join(append(inside, ""), "//"), button))
}

func (b *browser) signIn(person string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible(`input[name=person]`), keys(`input[name=person]`, person),
		keys(`input[name=password]`, chesttest.Password), press("Sign in"), chromedp.WaitVisible(`header nav`))
}

// axe runs axe-core's rules of WCAG 2.2 AA and returns what they find.
func (b *browser) axe() string {
	b.t.Helper()
	if !eval[bool](b, `typeof axe === "object"`) {
		source, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
		if err != nil {
			b.t.Fatalf("%v: run make test, which installs it", err)
		}
		eval[bool](b, string(source)+"; true")
	}
	// What is still fading in has other colours than what people read.
	return eval[string](b, `document.getAnimations().forEach((a) => { try { a.finish() } catch { a.cancel() } }); axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"] }).then((r) =>
		r.violations.flatMap((v) => v.nodes.map((n) => v.id + ": " + n.target.join(" ") + ": " + n.failureSummary)).join("\n"))`)
}

// Looking at a page asks nothing about others: that is an act of its own, and in the trail.
func TestWhoCanReadIsAskedWhenPressed(t *testing.T) {
	b := open(t)
	b.chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	b.visit("/", "Sign in")
	b.signIn("steward")
	asked := func() int {
		page, err := b.chest.Client(t, b.chest.Steward).Trail(b.ctx, client.TrailFilter{Action: "ask_access"})
		if err != nil {
			t.Fatal(err)
		}
		return len(page.Entries)
	}
	b.visit("/access/app:ticket-api", "Sign-in methods")
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	if asked() != 0 {
		t.Error("looking at a page asks about access")
	}
	b.do(press("Show who can read it"), see("consumer on ticketing-prod/**"))
	b.visit("/access/app:ticket-api", "Sign-in methods")
	b.do(press("Show everything it can access"), see("read value, use key"))
	if asked() != 2 {
		t.Errorf("asked %d times", asked())
	}
	b.clean()
}

// Every page, in both themes and in a narrow window: nothing that axe-core finds, nothing wider than the window, no
// error, nothing refused by the content policy, no request to anywhere else.
func TestPagesAreAccessibleInBothThemesAndNarrow(t *testing.T) {
	b := open(t)
	secret, token := b.chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	_ = secret
	refused := b.chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/values/fuel-billing-prod/ledger", Token: token})
	if _, err := b.chest.Client(t, b.chest.Steward).CreateDrawer(b.ctx,
		client.NewDrawer{Name: strings.Repeat("long-name-", 6) + "prod", Environment: "production"}); err != nil {
		t.Fatal(err)
	}
	if _, err := b.chest.Client(t, b.chest.Steward).Register(b.ctx, client.NewIdentity{Kind: "team", Name: "harbour-crew"}); err != nil {
		t.Fatal(err)
	}
	b.chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "ticketing-prod/**"})
	pages := []struct{ path, ready string }{
		{"/", "The chest"}, {"/drawers/ticketing-prod", "db-password"}, {"/drawers/" + strings.Repeat("long-name-", 6) + "prod", "Nothing in it"},
		{"/drawers/ticketing-prod/db-password", "Versions"}, {"/drawers/nothing", "Not found"}, {"/access", "Apps"},
		{"/access/app:ticket-api", "Sign-in methods"}, {"/access/team:harbour-crew", "Add a member"},
		{"/trail", "127.0.0.1"}, {"/refusals", "Wanted to"}, {"/receipts/" + refused.Problem.Receipt, "What was refused"},
		{"/search?q=password", "db-password"}, {"/access/matrix", "Show the matrix"}, {"/access/tighten", "Drawers with a single manager"},
		{"/access/grants", "Given to"}, {"/access/roles", "built in"}, {"/access/ask", "Circumstances to assume"},
		{"/trail/reads", "No anomalies"}, {"/trail/upkeep", "Archives"}, {"/due", "Calendar subscription"},
		{"/account", "Where you are signed in"}, {"/drawers/ticketing-prod/db-password@1/exposure", "Show impact"},
		{"/access/policy", "Download"}, {"/operation", "No backups are made"}, {"/nowhere", "no such page"},
	}
	b.visit("/", "Sign in")
	look := func(what string) {
		t.Helper()
		if found := b.axe(); found != "" {
			t.Errorf("%s: %s", what, found)
		}
	}
	narrow := func(what string) {
		t.Helper()
		if wide := eval[int](b, `document.documentElement.scrollWidth - window.innerWidth`); wide > 0 {
			t.Errorf("%s is %d pixels wider than the window", what, wide)
		}
	}
	look("sign-in")
	b.signIn("steward")
	for _, p := range pages {
		b.goTo(p.path)
		b.do(see(p.ready))
		for _, theme := range []string{"paper", "lacquer"} {
			eval[bool](b, fmt.Sprintf(`(document.documentElement.dataset.theme = %q, true)`, theme))
			look(p.path + " in " + theme)
		}
		narrow(p.path)
		b.do(chromedp.EmulateViewport(390, 800))
		narrow(p.path + " at 390")
		b.do(chromedp.EmulateViewport(1280, 800))
	}
	b.clean()
}

// Somebody without a mouse signs in, opens a drawer and an item, and gets on.
func TestConsoleWorksFromTheKeyboard(t *testing.T) {
	b := open(t)
	b.visit("/", "Sign in")
	b.do(chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := chromedp.Evaluate[bool](`document.querySelector("input[name=person]").focus(); true`)(ctx, target)
		return err
	}), chromedp.KeyEvent("steward"), chromedp.KeyEvent("\t"), chromedp.KeyEvent(chesttest.Password), chromedp.KeyEvent("\r"),
		chromedp.WaitVisible(`.chest`))
	b.tabTo("ticketing-prod")
	b.do(chromedp.KeyEvent("\r"), see("db-password"))
	b.tabTo("db-password")
	b.do(chromedp.KeyEvent("\r"), see("Versions"))
	b.tabTo("Add a version")
	b.do(chromedp.KeyEvent("\r"), chromedp.WaitVisible(`dialog[open]`), chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(`dialog[open]`))
	b.focusIs("Add a version")
	b.clean()
}

// tabTo waits for a link or button with the text, and presses Tab until the focus is on it.
func (b *browser) tabTo(text string) {
	b.t.Helper()
	eval[bool](b, fmt.Sprintf(`(async () => { for (;;) {
		if ([...document.querySelectorAll("a, button")].some((e) => e.textContent.includes(%q) && e.checkVisibility())) return true;
		await new Promise((r) => setTimeout(r, 20)); } })()`, text))
	for range 40 {
		if focus := eval[string](b, `document.activeElement.matches("a, button") ? document.activeElement.textContent : ""`); strings.Contains(focus, text) {
			return
		}
		b.do(chromedp.KeyEvent("\t"))
	}
	b.t.Fatalf("Tab does not reach %q", text)
}

func TestRevealedValueHidesByItselfAndIsInTheTrail(t *testing.T) {
	b := open(t)
	b.chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "**"}, chesttest.Grant{Role: "consumer", Scope: "**"})
	const canary = "canary-in-the-browser"
	b.visit("/", "Sign in")
	b.signIn("ticketing-lead")
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	if strings.Contains(b.html(), canary) {
		t.Fatal("the value is in the page before it was asked for")
	}
	for what, hide := range map[string]string{
		"pressing Hide":          `document.querySelector("[data-value]").closest("div.panel").querySelector("button").click(); true`,
		"time":                   `{ const real = Date.now; Date.now = () => real() + 21000; } true`,
		"another window":         `Object.defineProperty(document, "hidden", { value: true, configurable: true }); document.dispatchEvent(new Event("visibilitychange")); delete document.hidden; true`,
		"leaving for the drawer": `document.querySelector("main a").click(); true`,
	} {
		b.visit("/drawers/ticketing-prod/db-password", "Versions")
		b.do(press("Reveal"), chromedp.WaitVisible(`[data-value]`))
		if got := eval[string](b, `document.querySelector("[data-value]").textContent`); got != canary {
			t.Errorf("shown: %q", got)
		}
		eval[bool](b, hide)
		b.do(chromedp.WaitNotPresent(`[data-value]`))
		if strings.Contains(b.html(), canary) {
			t.Errorf("after %s the value is still in the page", what)
		}
		if stored := eval[string](b, `JSON.stringify([localStorage, sessionStorage, document.cookie])`); strings.Contains(stored, canary) ||
			strings.Contains(stored, "tansu_person") {
			t.Errorf("the browser keeps %s", stored)
		}
	}
	page, err := b.chest.Client(t, b.chest.Steward).Trail(b.ctx, client.TrailFilter{Subject: "person:ticketing-lead", Action: "read_value"})
	if err != nil || len(page.Entries) != 4 || page.Entries[0].Via != "console_session" {
		t.Errorf("%d reads are in the trail, %v", len(page.Entries), err)
	}
	b.clean()
}

// A refusal in the console becomes a receipt, and a gatekeeper fixes it there.
func TestRefusalIsExplainedAndFixedInTheConsole(t *testing.T) {
	b := open(t)
	lead := b.chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "**"})
	b.chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"}, chesttest.Grant{Role: "auditor", Scope: "**"})
	b.visit("/", "Sign in")
	b.signIn("ticketing-lead")
	b.visit("/drawers/ticketing-prod/db-password", "You may not read it")
	if _, _, err := b.chest.Client(t, lead).Read(b.ctx, "ticketing-prod/db-password"); chesttest.Code(err) != "refused" {
		t.Fatalf("the command line: %v", err)
	}
	b.do(press("Sign out"))
	b.signIn("security-duty")
	b.visit("/refusals", "person:ticketing-lead")
	b.do(chromedp.Click(`tbody tr td a[href^="/receipts/"]`), see("It would still be refused"))
	b.visit("/refusals", "person:ticketing-lead")
	b.do(see("to be consumer on ticketing-prod/db-password"), press("Allow …"), chromedp.WaitVisible(`dialog[open]`),
		press("See what it changes", "dialog"), see("gains"), press("Give it", "dialog"),
		see("In force now"), press("Done", "dialog"), see("Settled"))
	b.do(press("Sign out"))
	b.signIn("ticketing-lead")
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	b.do(press("Reveal"), chromedp.WaitVisible(`[data-value]`))
	b.clean()
}

// A grant that asks for a reason gets it in the same place, without a second try elsewhere.
func TestConsoleAsksForTheReasonThatAGrantWants(t *testing.T) {
	b := open(t)
	b.chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "**"})
	_, err := b.chest.Client(t, b.chest.Steward).Give(b.ctx,
		client.NewGrant{Subject: "person:ticketing-lead", Role: "consumer", Scope: "**", Conditions: client.Conditions{NeedsReason: true}})
	if err != nil {
		t.Fatal(err)
	}
	b.visit("/", "Sign in")
	b.signIn("ticketing-lead")
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	b.do(press("Reveal"), keys(`input[name=reason]`, "complaint 4711"), press("Reveal with this reason"),
		chromedp.WaitVisible(`[data-value]`))
	page, err := b.chest.Client(t, b.chest.Steward).Trail(b.ctx, client.TrailFilter{Action: "read_value", Outcome: "allowed"})
	if err != nil || len(page.Entries) != 1 || page.Entries[0].Stated != "complaint 4711" {
		t.Errorf("the trail has %+v, %v", page.Entries, err)
	}
	b.clean()
}

func TestSecretIsMaskedWhileItIsTypedAndNeverInThePage(t *testing.T) {
	b := open(t)
	const typed = "typed-into-the-console"
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod", "db-password")
	b.do(press("Put a secret in"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "new-token"),
		keys(`dialog input[name=value]`, typed))
	if kind := eval[string](b, `document.querySelector("dialog input[name=value]").type`); kind != "password" {
		t.Errorf("the value is typed into a field of type %q", kind)
	}
	b.do(press("Put it in"), see("Versions"))
	if strings.Contains(b.html(), typed) {
		t.Error("the value is in the page")
	}
	if _, err := b.chest.Client(t, b.chest.Steward).Give(b.ctx,
		client.NewGrant{Subject: "person:steward", Role: "consumer", Scope: "**"}); err != nil {
		t.Fatal(err)
	}
	if got, _, err := b.chest.Client(t, b.chest.Steward).Read(b.ctx, "ticketing-prod/new-token"); err != nil || string(got) != typed {
		t.Errorf("stored %q, %v", got, err)
	}
	b.visit("/drawers/ticketing-prod", "db-password")
	b.do(press("Put a secret in"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "Bad Name"),
		keys(`dialog input[name=value]`, typed),
		press("Put it in"), chromedp.WaitVisible(`dialog input[name=name]:invalid`)) // the form knows the chest's limits
	b.clean()
}

func TestAppSecretIsShownOnce(t *testing.T) {
	b := open(t)
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/access", "Apps")
	b.do(press("Register an app"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "gate-controller"),
		press("Register", `dialog`), see("shown only once"))
	if !strings.Contains(b.html(), "tansu_appsecret_") {
		t.Error("the secret is not shown")
	}
	b.do(press("Done"), chromedp.WaitNotPresent(`dialog[open]`), see("gate-controller"))
	if strings.Contains(b.html(), "tansu_appsecret_") {
		t.Error("the secret is still in the page")
	}
	b.clean()
}

// Whoever sees the secret of somebody else's app may not give it access: so the secret is left to the owner unless it is chosen, and the
// app's page says why nothing is offered there.
func TestTheSecretOfAnAppIsLeftToItsOwner(t *testing.T) {
	b := open(t)
	b.chest.Person(t, "ticketing-lead")
	b.chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"})
	b.visit("/", "Sign in")
	b.signIn("security-duty")
	register := func(name string, steps ...step) {
		b.visit("/access", "Register an app")
		b.do(press("Register an app"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, name),
			keys(`dialog input[name=owner]`, "person:ticketing-lead"))
		b.do(append(steps, press("Register", `dialog`), see("may do nothing yet"))...)
	}
	register("ticket-api")
	if strings.Contains(b.html(), "tansu_appsecret_") {
		t.Error("whoever registers it sees its secret")
	}
	b.visit("/access/app:ticket-api", "Give access …")
	register("gate-controller", chromedp.SetValue(`dialog select[name=sign_in]`, "secret"))
	if !strings.Contains(b.html(), "tansu_appsecret_") {
		t.Error("the secret that was chosen is not shown")
	}
	b.visit("/access/app:gate-controller", "You cannot give access here")
	if eval[bool](b, `[...document.querySelectorAll("button")].some((b) => b.innerText.includes("Give access"))`) {
		t.Error("what would be refused is offered")
	}
	b.clean()
}

func TestTeamIsMadeAndFilledInTheConsole(t *testing.T) {
	b := open(t)
	b.chest.App(t, "gate-controller")
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/access", "Teams")
	b.do(press("Create a team"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "harbour-crew"),
		press("Register", `dialog`), see("may do nothing yet"))
	b.visit("/access/team:harbour-crew", "It has no members")
	b.do(keys(`input[name=member]`, "app:gate-controler"), press("Add"), see("did you mean app:gate-controller?"))
	eval[bool](b, `document.querySelector("input[name=member]").value = ""; true`)
	b.do(keys(`input[name=member]`, "app:gate-controller"), press("Add"),
		chromedp.WaitVisible(`a[href="/access/app:gate-controller"]`))
	b.do(press("Remove …"), chromedp.WaitVisible(`dialog[open]`), press("Remove", "dialog"), see("It has no members"))
	b.clean()
}

func TestEndedSessionComesBackToTheSamePage(t *testing.T) {
	b := open(t)
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod", "db-password")
	b.chest.Clock.Set(-9 * time.Hour)
	b.do(chromedp.Click(`//a[contains(., "db-password")]`), see("Your session has ended"),
		keys(`dialog input[name=password]`, chesttest.Password), chromedp.Click(`dialog button[type=submit]`), see("Versions"))
	b.clean()
}

func TestLockedChestIsUnlockedInTheConsole(t *testing.T) {
	b := open(t)
	if _, err := b.chest.Client(t, b.chest.Steward).Lock(b.ctx); err != nil {
		t.Fatal(err)
	}
	b.visit("/", "The chest is locked")
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	wrong := filepath.Join(t.TempDir(), "wrong")
	if err := os.WriteFile(wrong, []byte("nonsense"), 0o600); err != nil {
		t.Fatal(err)
	}
	b.do(chromedp.SetUploadFiles(`input[type=file]`, []string{wrong}), press("Unlock"), see("wrong key file"),
		chromedp.SetUploadFiles(`input[type=file]`, []string{filepath.Join(b.chest.Dir, "unlock.key")}), press("Unlock"),
		chromedp.WaitVisible(`input[name=person]`))
	b.clean()
}

func TestPersonWithoutAGrantIsToldWhatToDo(t *testing.T) {
	b := open(t)
	b.chest.Person(t, "rota-trainee")
	b.visit("/", "Sign in")
	b.signIn("rota-trainee")
	b.do(see("You may not see any drawer"), press("Request access"), chromedp.WaitVisible(`dialog[open]`), press("Cancel", "dialog"))
	b.visit("/access", "Your own grants")
	b.clean()
}

// Custodians hand their shares in at the page of a locked chest, each without seeing another's; with the last one that is needed it opens.
// Who takes a share in the console sees it once.
func TestCustodiansUnlockInTheConsole(t *testing.T) {
	b := open(t)
	file, err := os.ReadFile(filepath.Join(b.chest.Dir, "unlock.key"))
	if err != nil {
		t.Fatal(err)
	}
	duty := b.chest.Client(t, b.chest.Person(t, "security-duty"))
	b.chest.Person(t, "audit-desk")
	steward := b.chest.Client(t, b.chest.Steward)
	if _, err := steward.AddUnlockMethod(b.ctx, client.NewUnlockMethod{Name: "custodians", Kind: "shares", Needed: 2,
		Custodians: []string{"person:security-duty", "person:audit-desk"}, Current: string(file)}); err != nil {
		t.Fatal(err)
	}
	shares, err := duty.Shares(b.ctx)
	if err != nil || len(shares) != 1 {
		t.Fatal(shares, err)
	}
	first, err := duty.TakeShare(b.ctx, shares[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	b.visit("/", "Sign in")
	b.signIn("audit-desk")
	b.visit("/operation", "Waiting for you")
	b.do(press("Take it"), see("It is shown only once"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	second := eval[string](b, `[...document.querySelectorAll("[role=status] p:nth-of-type(2) span")].map((s) => s.textContent).join("-")`)
	b.do(press("I have written it down"), see("You took it"))
	if strings.Contains(b.html(), second[:23]) {
		t.Error("a share is in the page after it was written down")
	}
	if _, err := steward.Lock(b.ctx); err != nil {
		t.Fatal(err)
	}
	b.visit("/", "The chest is locked")
	b.do(chromedp.Click(`input[value=shares]`), chromedp.WaitVisible(`textarea`))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(keys(`textarea`, "not a share at all"), press("Submit"), see("there is a mistake in it"))
	eval[bool](b, `document.querySelector("form").reset() ?? true`)
	b.do(keys(`textarea`, first.Words), press("Submit"), see("1 of 2 shares"))
	b.do(keys(`textarea`, second), press("Submit"), chromedp.WaitVisible(`header nav`)) // a session outlasts a lock
	b.clean()
}
