// Command screenshots takes the pictures in docs/screenshots: the console of a demo chest, in headless Chromium.
//
//	go run ./scripts/screenshots [-dark] [-width 1280] [-only name] [-all] DIR
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"

	"tansu/client"
	"tansu/internal/demo"
	"tansu/internal/server"
	"tansu/internal/web"
)

var (
	dark  = flag.Bool("dark", false, "take them in the night theme")
	width = flag.Int("width", 1280, "of the window, in pixels")
	only  = flag.String("only", "", "take this one alone")
	all   = flag.Bool("all", false, "take those too that docs do not show, to look at")
)

func main() {
	flag.Parse()
	if err := run(flag.Arg(0)); err != nil {
		log.Fatal(err)
	}
}

// step is one thing done in the page.
type step = chromedp.Action[chromedp.Void]

type page struct {
	name, path, ready string
	steps             []step
	extra             bool // not for docs/screenshots
	stepsAfter        bool // the steps come after ready, not before
}

func run(dir string) error {
	made, err := os.MkdirTemp("", "tansu-screenshots-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(made) }()
	console, err := web.Handler()
	if err != nil {
		return err
	}
	clock := &demo.Clock{}
	clock.Set(90 * 24 * time.Hour)
	chest, err := demo.Start(demo.Options{Dir: made, Listen: "127.0.0.1:0", Transport: server.PlainHTTP, Console: console,
		Version: "0.1.0", Backups: true},
		clock)
	if err != nil {
		return err
	}
	defer func() { _ = chest.Stop() }()
	password, _, err := demo.Fill(chest, demo.Pipeline)
	if err != nil {
		return err
	}
	receipt, err := newestReceipt(chest.URL(), string(password.Reveal()))
	if err != nil {
		return err
	}
	shots := []page{
		{name: "signin", extra: true, ready: `input[name=person]`},
		{name: "chest", ready: `.chest`, steps: signIn("security-duty", string(password.Reveal()))},
		{name: "drawer", path: "/drawers/harbour-gates-prod", ready: `tbody`},
		{name: "item", path: "/drawers/ticketing-prod/db-password", ready: `tbody`},
		{name: "use", extra: true, stepsAfter: true, path: "/drawers/ticketing-prod/db-password", ready: `tbody`,
			steps: []step{chromedp.Click(`//summary[contains(., "How to use it")]`), chromedp.WaitVisible(`details pre`),
				chromedp.Click(`//button[.="Python"]`), chromedp.ScrollIntoView(`details pre`)}},
		{name: "due", path: "/due", ready: `tbody`},
		{name: "end", extra: true, stepsAfter: true, path: "/drawers/ticketing-prod/db-password", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Change …")]`), chromedp.WaitVisible(`dialog[open]`)}},
		{name: "account", extra: true, path: "/account", ready: `tbody`},
		{name: "due-access", extra: true, stepsAfter: true, path: "/due", ready: `tbody`,
			steps: []step{chromedp.WaitVisible(`#access-ends`), chromedp.ScrollIntoView(`#addresses, #access-ends`)}},
		{name: "ruled", extra: true, path: "/drawers/ticketing-prod", ready: `tbody`},
		{name: "rules", extra: true, stepsAfter: true, path: "/drawers/ticketing-prod", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Rules …")]`), chromedp.WaitVisible(`dialog[open]`), agedSixty,
				chromedp.Click(`//button[contains(., "Preview")]`), chromedp.WaitVisible(`dialog tbody`)}},
		{name: "stricter", extra: true, stepsAfter: true, path: "/drawers/ticketing-prod/db-password", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Item rules")]`), chromedp.WaitVisible(`dialog[open]`)}},
		{name: "compare", extra: true, stepsAfter: true, path: "/drawers/ticketing-prod/db-password", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Compare two")]`), chromedp.WaitVisible(`dialog[open]`)}},
		{name: "moved", extra: true, path: "/drawers/fleet-telemetry-prod/chart-server-key", ready: `tbody`},
		{name: "put", extra: true, stepsAfter: true, path: "/drawers/ticketing-prod/db-password", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Add a version")]`), chromedp.WaitVisible(`dialog[open]`)}},
		{name: "put-login", extra: true, stepsAfter: true, path: "/drawers/ticketing-prod", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Put a secret in")]`), chromedp.WaitVisible(`dialog[open]`),
				chromedp.SendKeys(`dialog select`, "login"), chromedp.WaitVisible(`//label[contains(., "User")]`)}},
		{name: "key", extra: true, stepsAfter: true, path: "/drawers/ticketing-prod/boarding-pass-key", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Show who used it")]`),
				chromedp.WaitVisible(`//section[@aria-label="Who uses which version"]//tbody`)}},
		{name: "key-new", extra: true, stepsAfter: true, path: "/drawers/ticketing-prod", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Create a key")]`), chromedp.WaitReady(`dialog[open] option[value=ed25519]`)}},
		{name: "authority", extra: true, path: gates + "/gate-authority", ready: `//section[@aria-labelledby="issued"]//tbody`},
		{name: "authority-issued", extra: true, stepsAfter: true, path: gates + "/gate-authority",
			ready: `//section[@aria-labelledby="issued"]//tbody`, steps: []step{chromedp.ScrollIntoView(`#versions`)}},
		{name: "revoke", extra: true, stepsAfter: true, path: gates + "/gate-authority", ready: `//section[@aria-labelledby="issued"]//tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Revoke …")]`), chromedp.WaitVisible(`dialog[open]`)}},
		{name: "profile-new", extra: true, stepsAfter: true, path: gates + "/gate-authority",
			ready: `//section[@aria-labelledby="issued"]//tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "New profile …")]`), chromedp.WaitVisible(`dialog[open]`)}},
		{name: "certificate", extra: true, path: gates + "/gate-south", ready: `tbody`},
		{name: "profile", extra: true, path: gates + "/gate-panel", ready: `tbody`},
		{name: "profile-tokens", extra: true, path: "/drawers/ticketing-prod/car-deck-pass", ready: `tbody`},
		{name: "profile-of-key", extra: true, stepsAfter: true, path: "/drawers/ticketing-prod/boarding-pass-key",
			ready: `section[aria-labelledby="profiles"] tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "New profile …")]`), chromedp.WaitVisible(`dialog[open]`)}},
		{name: "key-signs", extra: true, stepsAfter: true, path: gates + "/gate-ssh-key", ready: `section[aria-labelledby="profiles"] tbody`,
			steps: []step{chromedp.ScrollIntoView(`#profiles`)}},
		{name: "profile-ssh", extra: true, path: gates + "/gate-login", ready: `tbody`},
		{name: "certificate-new", extra: true, stepsAfter: true, path: gates, ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Certificate …")]`), chromedp.WaitVisible(`dialog[open]`)}},
		{name: "login", extra: true, path: "/drawers/ticketing-prod/mail-relay-login", ready: `tbody`},
		{name: "search", extra: true, path: "/search?q=owner:person:ticketing-lead+password", ready: `tbody`},
		{name: "empty", extra: true, path: "/drawers/timetable-dev", ready: `.panel`},
		{name: "access", path: "/access", ready: `tbody`},
		{name: "give", extra: true, stepsAfter: true, path: "/access/app:nightly-ledger", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Give access …")]`),
				chromedp.SendKeys(`input[name=scope]`, "ticketing-prod/*"), chromedp.Click(`dialog button[type=submit]`),
				chromedp.WaitVisible(`dialog tbody`)}},
		{name: "matrix", stepsAfter: true, path: "/access/matrix", ready: `.panel`,
			steps: []step{chromedp.Click(`.panel button`), chromedp.WaitVisible(`tbody`)}},
		{name: "cell", extra: true, stepsAfter: true, path: "/access/matrix", ready: `.panel`,
			steps: []step{chromedp.Click(`.panel button`), chromedp.WaitVisible(`tbody`),
				chromedp.Click(`//button[contains(@aria-label, "platform-oncall in fuel")]`), chromedp.WaitVisible(`dialog tbody`)}},
		{name: "grants", extra: true, path: "/access/grants", ready: `tbody`},
		{name: "roles", extra: true, path: "/access/roles", ready: `.panel`},
		{name: "ask", extra: true, stepsAfter: true, path: "/access/ask", ready: `form`,
			steps: []step{chromedp.SendKeys(`input[name=subject]`, "app:nightly-ledger"),
				chromedp.SendKeys(`input[name=target]`, "ticketing-prod/db-password"),
				chromedp.Click(`//form//button[.="Ask"]`), chromedp.WaitVisible(`section[aria-label=Answer]`)}},
		{name: "allow", stepsAfter: true, path: "/refusals", ready: `tbody`,
			steps: []step{chromedp.Click(`(//table//button[contains(., "Allow …")])[1]`), chromedp.WaitVisible(`dialog[open]`),
				chromedp.Click(`dialog button[type=submit]`), chromedp.WaitVisible(`//button[.="Give it"]`)}},
		{name: "find", extra: true, stepsAfter: true, path: "/", ready: `.chest`,
			steps: []step{chromedp.Click(`//header//button[contains(., "Find")]`), chromedp.SendKeys(`dialog input`, "ticket"),
				chromedp.WaitVisible(`[role=option]`)}},
		{name: "tighten", path: "/access/tighten", ready: `tbody`},
		{name: "finding", extra: true, stepsAfter: true, path: "/access/tighten", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Narrow")][1]`), chromedp.WaitVisible(`dialog tbody`)}},
		{name: "policy", stepsAfter: true, path: "/access/policy", ready: `textarea`,
			steps: []step{edited, chromedp.Click(`//button[contains(., "Compare")]`), chromedp.WaitVisible(`.panel tbody`)}},
		{name: "policy-problem", extra: true, stepsAfter: true, path: "/access/policy", ready: `textarea`,
			steps: []step{misspelt, chromedp.Click(`//button[contains(., "Compare")]`), chromedp.WaitVisible(`[role=alert]`)}},
		{name: "identity", extra: true, path: "/access/app:nightly-ledger", ready: `tbody`},
		{name: "manifest", extra: true, stepsAfter: true, path: "/access/app:nightly-ledger", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Check a manifest")]`), chromedp.WaitVisible(`dialog textarea`),
				chromedp.SendKeys(`dialog textarea`, ledgerManifest), chromedp.Click(`//dialog//button[contains(., "Check it")]`),
				chromedp.WaitVisible(`dialog tbody`), chromedp.ScrollIntoView(`dialog tbody`)}},
		{name: "paths", extra: true, stepsAfter: true, path: "/drawers/fuel-billing-prod/ledger-db-password", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Find ways")]`), chromedp.WaitVisible(`section h3`),
				chromedp.ScrollIntoView(`(//section//h3)[last()]/following-sibling::ul`)}},
		{name: "trail", path: "/trail", ready: `tbody`},
		{name: "entry", extra: true, path: "/trail/100", ready: `section ol`},
		{name: "verify", extra: true, stepsAfter: true, path: "/trail/verify", ready: `main pre`,
			steps: []step{chromedp.Click(`//button[contains(., "Verify now")]`), chromedp.WaitVisible(`//p[@role="status"]`)}},
		{name: "upkeep", extra: true, path: "/trail/upkeep", ready: `#archives`},
		{name: "reads", path: "/trail/reads", ready: `#by-day ~ div table`},
		{name: "exposure", stepsAfter: true, path: "/drawers/ticketing-prod/db-password@2/exposure", ready: `form`,
			steps: []step{chromedp.Click(`//button[contains(., "Show impact")]`), chromedp.WaitVisible(`#replace`)}},
		{name: "live", extra: true, stepsAfter: true, path: "/trail", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Live view")]`), chromedp.WaitVisible(`section[aria-label="Live view"] table`)}},
		{name: "operation", path: "/operation", ready: `#backups ~ * tbody, section tbody`},
		{name: "method", extra: true, stepsAfter: true, path: "/operation", ready: `section tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Add a method")]`), chromedp.WaitVisible(`dialog[open] input[name=custodian]`)}},
		{name: "backups", extra: true, stepsAfter: true, path: "/operation", ready: `section tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Rehearse restoring")]`), chromedp.WaitVisible(`//*[contains(., "restoring works")]`),
				chromedp.ScrollIntoView(`#backups`)}},
		{name: "master-key-new", extra: true, stepsAfter: true, path: "/operation", ready: `#master-keys`,
			steps: []step{chromedp.Click(`//button[contains(., "Add a master key")]`), chromedp.WaitVisible(`dialog[open] input[type=file]`)}},
		{name: "rotate", extra: true, stepsAfter: true, path: "/drawers/crew-rota-prod", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Rotate its key")]`), chromedp.WaitVisible(`dialog[open] select`)}},
		{name: "withdraw", extra: true, stepsAfter: true, path: "/operation", ready: `#master-keys ~ * tbody, section tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Withdraw …")]`), chromedp.WaitVisible(`dialog[open] dl`)}},
		{name: "refusals", path: "/refusals", ready: `tbody`},
		{name: "receipt", path: "/receipts/" + receipt, ready: `section dl`},
		{name: "reveal", extra: true, path: "/drawers/ticketing-staging/db-password", ready: `input[name=person], tbody`,
			steps: append(as("ticketing-lead", string(password.Reveal()), chest.URL()+"/drawers/ticketing-staging/db-password"),
				chromedp.Click(`//button[contains(., "Reveal")]`), chromedp.WaitVisible(`[data-value]`))},
		{name: "leaving", extra: true, stepsAfter: true, path: "/drawers/ticketing-staging", ready: `tbody`,
			steps: []step{chromedp.Click(`//button[contains(., "Export …")]`), chromedp.WaitVisible(`dialog[open]`)}},
		{name: "own-access", extra: true, path: "/access", ready: `tbody`},
		{name: "closed", extra: true, path: "/drawers/fuel-billing-prod", ready: `.panel`},
		{name: "missing", extra: true, path: "/drawers/ticketing-prodd", ready: `[role=alert]`},
	}
	return take(chest.URL(), dir, shots)
}

// gates is the drawer with the certificates.
const gates = "/drawers/harbour-gates-prod"

// edited widens a grant in the policy's text, and misspelt breaks it, as typing would.
var (
	edited   = typed(`.replace("scope: ticketing-prod/db-password", "scope: ticketing-prod/*").replace(/ {2}- id: [^ ]+\n {4}subject: app:map-printer(\n {4}.*)+/, "")`)
	misspelt = typed(`.replace("role: consumer", "role: consumr").replace("scope: fuel", "scop: fuel")`)
)

const ledgerManifest = "manifest: 1\napp: nightly-ledger\ndrawers: { production: fuel-billing-prod, staging: ticketing-staging " +
	"}\nneeds:\n  - { variable: PGPASSWORD, reference: ledger-db-password }\n  - { variable: SALES_PASSWORD, reference: " +
	"ticketing-prod/db-password }\n  - { file: gates.key, variable: GATES_KEY, reference: harbour-gates-prod/radio-key }\n"

// agedSixty fills in a rule that touches most of what is there.
var agedSixty = chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
	_, err := chromedp.Evaluate[string](`document.querySelector("input[name=from]").value = "";
		document.querySelector("input[name=max_age]").value = "60d"`)(ctx, t)
	return err
})

func typed(change string) step {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := chromedp.Evaluate[bool](`(() => { const area = document.querySelector("textarea");
			Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(area, area.value`+change+`);
			return area.dispatchEvent(new Event("input", { bubbles: true })); })()`)(ctx, t)
		return err
	})
}

func signIn(person, password string) []step {
	return []step{
		chromedp.WaitVisible(`input[name=person]`),
		chromedp.SendKeys(`input[name=person]`, person), chromedp.SendKeys(`input[name=password]`, password),
		chromedp.Click(`button[type=submit]`), chromedp.WaitVisible(`header`),
	}
}

// as signs whoever is there out and somebody else in.
func as(person, password, back string) []step {
	steps := []step{chromedp.Click(`//button[contains(., "Sign out")]`)}
	steps = append(steps, signIn(person, password)...)
	return append(steps, chromedp.Navigate(back), chromedp.WaitVisible(`tbody`))
}

func newestReceipt(address, password string) (string, error) {
	c, err := client.New(client.Options{Address: address})
	if err != nil {
		return "", err
	}
	session, err := c.SignIn(context.Background(), "audit-desk", password, "")
	if err != nil {
		return "", err
	}
	if c, err = client.New(client.Options{Address: address, Token: session.Token}); err != nil {
		return "", err
	}
	found, err := c.Trail(context.Background(), client.TrailFilter{Outcome: "refused", Subject: "app:ticket-api", Limit: 1})
	if err != nil || len(found.Entries) == 0 {
		return "", fmt.Errorf("find a receipt: %w", err)
	}
	return found.Entries[0].Receipt, nil
}

func take(address, dir string, shots []page) error {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-quic", true))
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	defer stop()
	ctx, cancel := chromedp.NewContext(allocator)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(int64(*width), 800)); err != nil {
		return err
	}
	for _, shot := range shots {
		picture, err := capture(ctx, address, shot)
		if err != nil {
			return fmt.Errorf("%s: %w", shot.name, err)
		}
		if *only != "" && *only != shot.name || shot.extra && !*all {
			continue
		}
		if err := os.WriteFile(filepath.Join(dir, shot.name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// drawn waits until the fonts are there, after which nothing moves any more.
var drawn = chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
	_, err := chromedp.Evaluate[bool](`document.fonts.ready.then(() => new Promise((r) => setTimeout(() => r(true), 200)))`,
		chromedp.EvalAwaitPromise)(ctx, t)
	return err
})

// still waits until the fonts are there, and ends whatever fades in; what turns for ever, such as a spinner, turns on.
var still = chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
	_, err := chromedp.Evaluate[bool](`document.fonts.ready.then(() => { document.getAnimations()
		.filter((a) => a.effect.getComputedTiming().endTime !== Infinity).forEach((a) => a.finish()); return true; })`,
		chromedp.EvalAwaitPromise)(ctx, t)
	return err
})

func capture(ctx context.Context, address string, shot page) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.Navigate(address+shot.path)); err != nil {
		return nil, err
	}
	if *dark {
		if _, err := chromedp.Run(ctx, chromedp.Evaluate[string](`localStorage.setItem("theme", "lacquer");
			document.documentElement.dataset.theme = "lacquer"`)); err != nil {
			return nil, err
		}
	}
	steps := append(shot.steps, chromedp.WaitVisible(shot.ready))
	if shot.stepsAfter {
		steps = append([]step{chromedp.WaitVisible(shot.ready), drawn}, shot.steps...)
	}
	if err := chromedp.Do(ctx, steps...); err != nil {
		shown, _ := chromedp.Run(context.WithoutCancel(ctx), chromedp.Evaluate[string](`document.body.innerText`))
		return nil, fmt.Errorf("%w; the page shows: %s", err, shown)
	}
	if err := chromedp.Do(ctx, still); err != nil {
		return nil, err
	}
	return chromedp.Run(ctx, chromedp.CaptureScreenshot())
}
