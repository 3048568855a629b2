package httpapi_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/server"
)

func keyFile(t *testing.T, chest *chesttest.Chest) string {
	t.Helper()
	content, err := os.ReadFile(filepath.Join(chest.Dir, "unlock.key"))
	if err != nil {
		t.Fatal(err)
	}
	return string(content)
}

// lock locks the chest, which is reached by whoever could unlock it only.
func lock(t *testing.T, chest *chesttest.Chest) *client.Client {
	t.Helper()
	must[client.Status](t)(chest.Client(t, chest.Steward).Lock(ctx))
	return chest.Client(t, "")
}

// What was chosen at founding can be replaced: a passphrase is added, opens the chest, and what the chest was founded with ends; the last
// method cannot, and nothing is changed by whoever does not show what opens the chest.
func TestWhatOpensTheChestCanBeReplaced(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward, file := chest.Client(t, chest.Steward), keyFile(t, chest)
	founding := must[[]client.UnlockMethod](t)(steward.UnlockMethods(ctx))[0]
	if founding.Name != "founding" || founding.Kind != "key_file" || founding.Used.IsZero() {
		t.Errorf("the founding method is %+v", founding)
	}
	passphrase := client.NewUnlockMethod{Name: "night-shift", Kind: "passphrase", Material: "a passphrase for tests", Current: file}
	wrong := passphrase
	wrong.Current = "not what opens it"
	if _, err := steward.AddUnlockMethod(ctx, wrong); chesttest.Code(err) != "wrong_material" {
		t.Errorf("without what opens it now: %v", err)
	}
	wrong.Current = ""
	if _, err := steward.AddUnlockMethod(ctx, wrong); chesttest.Code(err) != "invalid_input" {
		t.Errorf("with nothing: %v", err)
	}
	narrow := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "consumer", Scope: "**"}))
	if _, err := narrow.AddUnlockMethod(ctx, passphrase); chesttest.Code(err) != "refused" {
		t.Errorf("by whoever is no operator: %v", err)
	}
	if err := steward.EndUnlockMethod(ctx, founding.ID, file); chesttest.Code(err) != "not_possible" {
		t.Errorf("the only one ends: %v", err)
	}
	ending := passphrase
	ending.Name, ending.NotAfter = "short", chest.Clock.Now().Add(24*time.Hour)
	must[client.UnlockMethod](t)(steward.AddUnlockMethod(ctx, ending))
	if err := steward.EndUnlockMethod(ctx, founding.ID, "a passphrase for tests"); chesttest.Code(err) != "not_possible" {
		t.Errorf("the only one without an end ends: %v", err)
	}
	if status := must[client.Status](t)(steward.Status(ctx)); len(status.Problems) != 1 ||
		!strings.Contains(status.Problems[0].What, "short ends on") {
		t.Errorf("nothing forewarns of the end: %+v", status.Problems)
	}
	made := must[client.UnlockMethod](t)(steward.AddUnlockMethod(ctx, passphrase))
	anyone := lock(t, chest)
	must[client.Status](t)(anyone.Unlock(ctx, "a passphrase for tests"))
	steward = chest.Client(t, chest.SignIn(t, "steward"))
	if err := steward.EndUnlockMethod(ctx, founding.ID, file); chesttest.Code(err) != "not_possible" {
		t.Errorf("it is ended by itself: %v", err)
	}
	if err := steward.EndUnlockMethod(ctx, founding.ID, "a passphrase for tests"); err != nil {
		t.Error(err)
	}
	chest.Steward = chest.SignIn(t, "steward")
	anyone = lock(t, chest)
	if _, err := anyone.Unlock(ctx, file); chesttest.Code(err) != "wrong_material" {
		t.Errorf("what was ended opens it: %v", err)
	}
	chest.Clock.Set(-48 * time.Hour) // "short" has ended
	must[client.Status](t)(anyone.Unlock(ctx, "a passphrase for tests"))
	steward = chest.Client(t, chest.SignIn(t, "steward"))
	for _, m := range must[[]client.UnlockMethod](t)(steward.UnlockMethods(ctx)) {
		if m.ID == made.ID && m.Used.IsZero() {
			t.Error("it is not said when a method was used")
		}
	}
	if wrong := must[[]string](t)(steward.Examine(ctx)); len(wrong) > 0 {
		t.Errorf("examined: %v", wrong)
	}
}

// Two of three custodians open the chest: each takes their own share, once; they hand them in without signing in; what is wrong is known
// to be wrong, and whose it is; and when somebody leaves, all are replaced.
func TestCustodiansOpenTheChestTogether(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward, file := chest.Client(t, chest.Steward), keyFile(t, chest)
	names := []string{"security-duty", "harbour-master", "audit-desk"}
	people := map[string]*client.Client{}
	var subjects []string
	for _, name := range names {
		people[name] = chest.Client(t, chest.Person(t, name))
		subjects = append(subjects, "person:"+name)
	}
	method := client.NewUnlockMethod{Name: "custodians", Kind: "shares", Needed: 2, Custodians: subjects, Current: file}
	for what, bad := range map[string]func(*client.NewUnlockMethod){
		"one is enough":           func(n *client.NewUnlockMethod) { n.Needed = 1 },
		"more than there are":     func(n *client.NewUnlockMethod) { n.Needed = 4 },
		"somebody twice":          func(n *client.NewUnlockMethod) { n.Custodians = []string{subjects[0], subjects[0]} },
		"somebody who is nobody":  func(n *client.NewUnlockMethod) { n.Custodians = []string{subjects[0], "person:nobody"} },
		"a team":                  func(n *client.NewUnlockMethod) { n.Custodians = []string{subjects[0], "team:x"} },
		"a kind that there isn't": func(n *client.NewUnlockMethod) { n.Kind = "stars" },
	} {
		n := method
		bad(&n)
		if _, err := steward.AddUnlockMethod(ctx, n); chesttest.Code(err) != "invalid_input" {
			t.Errorf("%s: %v", what, err)
		}
	}
	made := must[client.UnlockMethod](t)(steward.AddUnlockMethod(ctx, method))
	founding := must[[]client.UnlockMethod](t)(steward.UnlockMethods(ctx))[0]
	words := map[string]string{}
	for i, name := range names {
		waiting := must[[]client.Custody](t)(people[name].Shares(ctx))
		if len(waiting) != 1 || waiting[0].Number != i+1 || !waiting[0].Taken.IsZero() {
			t.Fatalf("%s has %+v", name, waiting)
		}
		if i > 0 {
			if _, err := people[names[0]].TakeShare(ctx, waiting[0].ID); chesttest.Code(err) != "not_found" {
				t.Errorf("somebody takes another one's share: %v", err)
			}
		}
		words[name] = must[client.TakenShare](t)(people[name].TakeShare(ctx, waiting[0].ID)).Words
		if _, err := people[name].TakeShare(ctx, waiting[0].ID); chesttest.Code(err) != "not_possible" {
			t.Errorf("a share is taken twice: %v", err)
		}
	}
	anyone := lock(t, chest)
	typo := words["security-duty"][:10] + "zz" + words["security-duty"][12:]
	if _, err := anyone.HandIn(ctx, typo); chesttest.Code(err) != "wrong_material" || !strings.Contains(err.Error(), "mistake") {
		t.Errorf("a share with a mistake: %v", err)
	}
	for range 2 { // the same one twice is one
		status := must[client.Status](t)(anyone.HandIn(ctx, words["audit-desk"]))
		if status.State != "locked" || len(status.Shares) != 1 || status.Shares[0].Have != 1 || status.Shares[0].Needed != 2 {
			t.Fatalf("after one share: %+v", status)
		}
	}
	spoken := strings.ToUpper(strings.ReplaceAll(words["security-duty"], "-", " "))
	if status := must[client.Status](t)(anyone.HandIn(ctx, spoken)); status.State != "unlocked" {
		t.Fatalf("after two shares: %+v", status)
	}

	// shares stand in for what opens it, once; and what they are replaced by is all that opens it then
	chest.Steward = chest.SignIn(t, "steward")
	steward = chest.Client(t, chest.Steward)
	must[client.Status](t)(anyone.HandIn(ctx, words["harbour-master"]))
	must[client.Status](t)(anyone.HandIn(ctx, words["audit-desk"]))
	must[client.UnlockMethod](t)(steward.AddUnlockMethod(ctx, client.NewUnlockMethod{Name: "custodians-2", Kind: "shares", Needed: 2,
		Custodians: subjects[:2], Replaces: made.ID}))
	if err := steward.EndUnlockMethod(ctx, founding.ID, ""); chesttest.Code(err) != "invalid_input" {
		t.Errorf("shares stand in for two changes: %v", err)
	}
	for _, name := range names[:2] {
		must[client.TakenShare](t)(people[name].TakeShare(ctx, must[[]client.Custody](t)(people[name].Shares(ctx))[0].ID))
	}
	anyone = lock(t, chest)
	if _, err := anyone.HandIn(ctx, words["audit-desk"]); chesttest.Code(err) != "wrong_material" ||
		!strings.Contains(err.Error(), "replaced") {
		t.Errorf("a share that was replaced: %v", err)
	}
	must[client.Status](t)(anyone.Unlock(ctx, file))
	page := must[client.TrailPage](t)(chest.Client(t, chest.SignIn(t, "steward")).Trail(ctx, client.TrailFilter{Limit: 500}))
	for _, e := range page.Entries {
		for _, share := range words {
			if strings.Contains(fmt.Sprint(e), share[:23]) {
				t.Errorf("a share is in entry %d", e.Seq)
			}
		}
	}
}

// Another root key: everything goes on, also beside readers and writers, and the old one opens nothing in the file.
func TestRootKeyIsTurned(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward, file := chest.Client(t, chest.Steward), keyFile(t, chest)
	_, token := chest.App(t, "rota-sync", chesttest.Grant{Role: "consumer", Scope: "d/**"},
		chesttest.Grant{Role: "depositor", Scope: "d/**"})
	app := chest.Client(t, token)
	before := rootOf(t, chest, file)
	var n int
	beside(1, func() {
		n++
		if code := readCode(app, "d/i"); code != "" {
			t.Errorf("a read beside it: %s", code)
		}
		if _, err := app.CreateItem(ctx, "d", client.NewItem{Name: fmt.Sprint("i-", n), Version: client.Content([]byte("w"))}); err != nil {
			t.Errorf("a write beside it: %v", err)
		}
		if _, err := steward.CreateDrawer(ctx, client.NewDrawer{Name: fmt.Sprint("d-", n), Environment: "staging"}); err != nil {
			t.Errorf("a new drawer beside it: %v", err)
		}
	}, func() {
		for range 5 {
			if _, err := steward.RotateRootKey(ctx, file); err != nil {
				t.Error(err)
			}
		}
	})
	if wrong := must[[]string](t)(steward.Examine(ctx)); len(wrong) > 0 {
		t.Errorf("examined: %v", wrong)
	}
	after := rootOf(t, chest, file)
	for _, row := range chest.Rows(t, "SELECT drawer, number, wrapped FROM drawer_keys") {
		drawer, number, wrapped := row[0].(string), int(row[1].(int64)), row[2].([]byte)
		if _, err := before.UnwrapDrawerKey(drawer, number, wrapped); err == nil {
			t.Errorf("the old root key opens the key of drawer %s", drawer)
		}
		if _, err := after.UnwrapDrawerKey(drawer, number, wrapped); err != nil {
			t.Errorf("the new root key does not open the key of drawer %s: %v", drawer, err)
		}
	}
	if _, err := before.OpenAuthority(chest.Rows(t, "SELECT authority_sealed FROM chest")[0][0].([]byte)); err == nil {
		t.Error("the old root key opens the key of the authority")
	}
	chest.Restart(t)
	if code := readCode(chest.Client(t, token), "d/i"); code != "" {
		t.Errorf("after a restart: %s", code)
	}
	steward = chest.Client(t, chest.SignIn(t, "steward"))
	if wrong := must[[]string](t)(steward.Examine(ctx)); len(wrong) > 0 {
		t.Errorf("examined after a restart: %v", wrong)
	}
	must[client.Rotation](t)(steward.RotateKey(ctx, "d", nil))
	if code := readCode(chest.Client(t, token), "d/i"); code != "" {
		t.Errorf("after its drawer's key was turned, too: %s", code)
	}
	if _, err := steward.RotateRootKey(ctx, "not what opens it"); chesttest.Code(err) != "wrong_material" {
		t.Errorf("by whoever does not open it: %v", err)
	}
}

// rootOf is the root key that somebody has who had a copy of the file, and what opens it.
func rootOf(t *testing.T, chest *chesttest.Chest, material string) *envelope.Root {
	t.Helper()
	row := chest.Rows(t, "SELECT chest.id, salt, wrapped, root_wrapped, base_sealed FROM chest, slots WHERE name = 'founding'")[0]
	id := row[0].(string)
	unlock, err := envelope.Slot{Method: envelope.MethodKeyFile, Salt: row[1].([]byte), Wrapped: row[2].([]byte)}.Open(id,
		secretvalue.FromString(material))
	if err != nil {
		t.Fatal(err)
	}
	base, _ := row[4].([]byte)
	root, err := envelope.OpenRoot(id, unlock, row[3].([]byte), bytes.Clone(base))
	if err != nil {
		t.Fatal(err)
	}
	return root
}

// Whoever writes the file gains nothing by it: a method that had ended does not open the chest again when its row is put back, and an end
// that is taken from a row is noticed.
func TestEndedMethodPutBackIsNoticed(t *testing.T) {
	for what, edit := range map[string]func(ended string) string{
		"put back":    func(ended string) string { return "INSERT INTO slots VALUES (" + ended + ")" },
		"without end": func(string) string { return "UPDATE slots SET not_after = 0 WHERE name = 'short'" },
		"in the place of another": func(ended string) string {
			return "INSERT OR REPLACE INTO slots VALUES (" + strings.Replace(ended, "'night-shift'", "'short'", 1) + ")"
		},
	} {
		chest := chesttest.Start(t)
		steward, file := chest.Client(t, chest.Steward), keyFile(t, chest)
		made := must[client.UnlockMethod](t)(steward.AddUnlockMethod(ctx, client.NewUnlockMethod{Name: "night-shift", Kind: "passphrase",
			Material: "a passphrase for tests", Current: file}))
		must[client.UnlockMethod](t)(steward.AddUnlockMethod(ctx, client.NewUnlockMethod{Name: "short", Kind: "passphrase",
			Material: "another passphrase for tests", Current: file, NotAfter: chest.Clock.Now().Add(time.Hour)}))
		ended := chest.Rows(t, "SELECT quote(id) || ',' || quote(name) || ',' || quote(method) || ',' || quote(salt) || ',' || passes || ',' || "+
			"memory_kib || ',' || threads || ',' || quote(wrapped) || ',' || quote(shares) || ',' || not_after || ',' || used_at || ',' || "+
			"created_at || ',' || quote(created_by) || ',' || revision || ',' || quote(mac) FROM slots WHERE name = 'night-shift'")[0][0].(string)
		if err := steward.EndUnlockMethod(ctx, made.ID, file); err != nil {
			t.Fatal(err)
		}
		if err := chest.Stop(); err != nil {
			t.Fatal(err)
		}
		chest.Edit(t, edit(ended))
		chest.Clock.Set(-2 * time.Hour) // "short" has ended
		if err := chest.Reopen(t, func(o *server.Options) { o.KeyFile = "" }); err != nil {
			t.Fatal(err)
		}
		for _, material := range []string{"a passphrase for tests", "another passphrase for tests", file} {
			if _, err := chest.Client(t, "").Unlock(ctx, material); err == nil {
				t.Errorf("%s: the chest opens", what)
			}
		}
		if !strings.Contains(chest.Log.String(), "changed outside Tansu") {
			t.Errorf("%s: the log does not say that the file was changed", what)
		}
	}
}
