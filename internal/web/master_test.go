package web_test

import (
	"context"
	"crypto/rand"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
)

// A master key is brought in the console, a drawer is put under it, it is withdrawn, which the drawer's page says, and given back.
func TestADrawerIsClosedAndOpenedByItsMasterKey(t *testing.T) {
	b := open(t)
	file := func(name string) string {
		material := make([]byte, 32)
		_, _ = rand.Read(material)
		path := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(path, material, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	right, wrong := file("crew.masterkey"), file("another")
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/operation", "No master keys")
	b.do(press("Add a master key …"), chromedp.WaitVisible(`dialog[open]`), keys(`dialog input[name=name]`, "crew"),
		chromedp.SetUploadFiles(`dialog input[type=file]`, []string{filepath.Join(b.chest.Dir, "unlock.key")}), press("Add it", "dialog"),
		see("a master key is 32 bytes, and this is"), chromedp.SetUploadFiles(`dialog input[type=file]`, []string{right}))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Add it", "dialog"), chromedp.WaitNotPresent(`dialog[open]`), see("at hand"), see("Destroy …"))

	b.visit("/drawers/ticketing-prod", "Rotate its key …")
	b.do(press("Rotate its key …"), chromedp.WaitVisible(`dialog[open] select`), chromedp.SetValue(`dialog select`, "crew"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Rotate", "dialog"), chromedp.WaitNotPresent(`dialog[open]`), see("Under master key crew"), see("It is under key 2"))

	b.visit("/operation", "at hand")
	b.do(press("Withdraw …"), chromedp.WaitVisible(`dialog[open]`), see("1 drawer with 1 item"), keys(`dialog input[name=name]`, "Crew"),
		press("Withdraw", "dialog"), see("type its exact name"), chromedp.SetValue(`dialog input[name=name]`, "crew"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Withdraw", "dialog"), chromedp.WaitNotPresent(`dialog[open]`), see("withdrawn"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.visit("/", "Appoint two gatekeepers")
	b.do(chromedp.WaitVisible(`//a[contains(., "closed")]`))
	b.visit("/drawers/ticketing-prod", "Nothing in it can be read or changed until that is given back")
	if found := b.axe(); found != "" {
		t.Error(found)
	}

	b.visit("/operation", "Give back …")
	b.do(press("Give back …"), chromedp.WaitVisible(`dialog[open]`), chromedp.SetUploadFiles(`dialog input[type=file]`, []string{wrong}),
		press("Give it back", "dialog"), see("this is another key"), chromedp.SetUploadFiles(`dialog input[type=file]`, []string{right}),
		press("Give it back", "dialog"), chromedp.WaitNotPresent(`dialog[open]`), see("at hand"))
	if got, err := b.chest.Client(t, b.chest.Steward).Drawer(context.Background(), "ticketing-prod"); err != nil ||
		got.Drawer.MasterKeyState != "at_hand" {
		t.Errorf("%+v, %v", got.Drawer, err)
	}
	b.clean()
}
