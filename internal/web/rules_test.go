package web_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/go-jose/go-jose/v4"

	"tansu/client"
	"tansu/internal/chesttest"
)

// A curator sees what a rule would do before it does it, sets it, and finds what it does in the calendar.
func TestRulesAndTheCalendarInTheConsole(t *testing.T) {
	b := open(t)
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod", "db-password")
	b.do(press("Rules …"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=max_age]`, "20"),
		press("Preview", "dialog"), see("is not a length of time"),
		keys(`dialog input[name=max_age]`, "d"), press("Preview", "dialog"), see("ticketing-prod/db-password"),
		see("too old"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Set the rules", "dialog"), see("served for 20d after it is made"), see("in 20 days"))
	b.do(press("Rotate its key"), chromedp.WaitVisible(`dialog[open]`), press("Rotate", "dialog"), see("It is under key 2"))
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	b.do(press("Item rules …"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=max_age]`, "10d"),
		press("Set the rules", "dialog"), see("served for 10d after it is made"))
	b.do(press("Change …"), chromedp.WaitVisible(`dialog[open]`), see("Its value stays as it is"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(chromedp.Click(`dialog input[type=checkbox]`), chromedp.SetValue(`dialog input[name=not_after]`, "2031-03-01T08:00"),
		press("Save", "dialog"), chromedp.WaitNotPresent(`dialog[open]`))
	if h, err := b.chest.Client(t, b.chest.Steward).History(b.ctx, "ticketing-prod", "db-password"); err != nil ||
		h.Versions[0].NotAfter.Year() != 2031 {
		t.Errorf("the end that was set in the console: %+v, %v", h.Versions, err)
	}
	b.do(press("Item rules …"), chromedp.WaitVisible(`dialog[open]`), press("Make it for use only …", "dialog"),
		press("Make it for use only, for good"),
		see("no person is ever shown it"), chromedp.WaitNotPresent(`//button[contains(., "Reveal")]`))
	b.visit("/due", "Calendar subscription")
	b.do(see("ends"), press("Create an address"), see("It is shown only once"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.clean()
}

// A plaintext file is moved in after a look at what becomes of each line, and an item gets a better name.
func TestAFileIsMovedInAndAnItemRenamed(t *testing.T) {
	b := open(t)
	steward := b.chest.Client(t, b.chest.Steward)
	file := filepath.Join(t.TempDir(), "values.yaml")
	if err := os.WriteFile(file, []byte("smtp_key: hidden-in-the-file\ndb-password: another\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/drawers/ticketing-prod", "db-password")
	b.do(press("Import …"), chromedp.WaitVisible(`dialog[open]`), chromedp.SetUploadFiles(`dialog input[type=file]`, []string{file}),
		see("smtp_key"), see("exists"),
		chromedp.Click(`dialog input[name=replace]`), see("changed"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Import", "dialog"), see("Left to do"), press("Close", "dialog"))
	if h, err := steward.History(b.ctx, "ticketing-prod", "smtp-key"); err != nil || h.Item.Current != 1 {
		t.Errorf("%+v, %v", h, err)
	}
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	b.do(press("Compare two"), chromedp.WaitVisible(`dialog[open]`), see("What differs"), see("7 bytes"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Close", "dialog"))
	b.visit("/drawers/ticketing-prod/smtp-key", "Versions")
	name := `//dialog//input[@name="name"]`
	b.do(press("Rename or move"), chromedp.WaitVisible(`dialog[open]`), chromedp.SetValue(name, "mail-relay-key"), press("Move", "dialog"),
		see("Old names that still work"), see("nobody uses it"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("End it now"), chromedp.WaitVisible(`dialog[open]`), press("End it", "dialog"),
		chromedp.WaitNotPresent(`//h2[contains(., "Old names")]`))
	if _, err := steward.History(b.ctx, "ticketing-prod", "smtp-key"); err == nil {
		t.Error("the old name still works")
	}
	b.clean()
}

// What is taken out in the console opens with the recipient's key alone, and a private key is not sent anywhere.
func TestACopyIsTakenOutForARecipient(t *testing.T) {
	b := open(t)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	private := jose.JSONWebKey{Key: key, Algorithm: string(jose.ECDH_ES_A256KW), Use: "enc"}
	files := map[string]jose.JSONWebKey{"moving.key": private, "moving.key.pub": private.Public()}
	dir := t.TempDir()
	for name, jwk := range files {
		text, err := jwk.MarshalJSON()
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, name), text, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	b.chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "consumer", Scope: "**"}, chesttest.Grant{Role: "curator", Scope: "**"})
	b.visit("/", "Sign in")
	b.signIn("ticketing-lead")
	b.visit("/drawers/ticketing-prod", "db-password")
	eval[bool](b, hook)
	b.do(press("Export …"), chromedp.WaitVisible(`dialog[open]`),
		chromedp.SetUploadFiles(`dialog input[type=file]`, []string{filepath.Join(dir, "moving.key")}), see("is not a public key"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(chromedp.SetUploadFiles(`dialog input[type=file]`, []string{filepath.Join(dir, "moving.key.pub")}),
		chromedp.WaitEnabled(`//dialog//button[contains(., "Export")]`), press("Export", "dialog"),
		see("1 values are in ticketing-prod.jwe"))
	sealed, err := jose.ParseEncryptedCompact(b.saved(), []jose.KeyAlgorithm{jose.ECDH_ES_A256KW},
		[]jose.ContentEncryption{jose.A256GCM})
	if err != nil {
		t.Fatal(err)
	}
	text, err := sealed.Decrypt(key)
	if err != nil || !strings.Contains(string(text), "canary-in-the-browser") {
		t.Errorf("%q, %v", text, err)
	}
	page, err := b.chest.Client(t, b.chest.Steward).Trail(b.ctx, client.TrailFilter{Subject: "person:ticketing-lead", Action: "read_value"})
	if err != nil || len(page.Entries) != 1 {
		t.Errorf("%d reads are in the trail, %v", len(page.Entries), err)
	}
	b.clean()
}

// A person changes their password, and ends the sessions that they left open elsewhere.
func TestOwnPasswordAndSessionsInTheConsole(t *testing.T) {
	b := open(t)
	elsewhere := b.chest.Client(t, b.chest.Person(t, "harbour-master"))
	b.visit("/", "Sign in")
	b.signIn("harbour-master")
	b.visit("/account", "Where you are signed in")
	b.do(see("the command line"), see("this one"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("End …"), press("End it", "dialog"), chromedp.WaitNotPresent(`//td//button`))
	if _, err := elsewhere.Me(b.ctx); chesttest.Code(err) != "unauthenticated" {
		t.Errorf("the other session: %v", err)
	}
	const fresh = "seven lanterns over wet planks"
	b.do(keys(`input[name=password]`, chesttest.Password), keys(`input[name=new_password]`, fresh),
		keys(`input[name=again]`, "another"), press("Change password"), see("do not match"),
		chromedp.SetValue(`input[name=again]`, fresh), press("Change password"), see("Your password is changed"))
	if _, err := b.chest.Client(t, "").SignIn(b.ctx, "harbour-master", fresh, ""); err != nil {
		t.Error(err)
	}
	b.clean()
}
