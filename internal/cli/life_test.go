package cli_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"tansu/client"
	"tansu/internal/chesttest"
)

// withDrawer is somebody who keeps the drawer d and may read it.
func withDrawer(t *testing.T) user {
	t.Helper()
	u, _ := signedIn(t)
	u.ok(t, "", "drawer", "add", "d", "--env", "staging")
	u.ok(t, "", "grant", "give", "person:steward", "consumer", "**")
	return u
}

// The life of a secret as its curator lives it, by the commands of the documentation and their exit codes.
func TestRulesMovesAndEndsOnTheCommandLine(t *testing.T) {
	u := withDrawer(t)
	u.ok(t, "first", "put", "d/db-password")
	if out := u.ok(t, "", "rules", "set", "d", "--max-age", "90d", "--keep", "1", "--preview"); !strings.Contains(out, "d/db-password") ||
		!strings.Contains(out, "nothing is changed") {
		t.Errorf("a preview: %s", out)
	}
	u.ok(t, "", "rules", "set", "d", "--max-age", "90d", "--warn", "80d")
	u.ok(t, "", "rules", "set", "d", "--keep", "1", "--needs-end")
	if out := u.ok(t, "", "rules", "show", "d"); !strings.Contains(out, "served for 90d") || !strings.Contains(out, "one version is kept") {
		t.Errorf("rules that were set one after the other: %s", out)
	}
	if r := u.run(t, "second", "put", "d/db-password", "--new-version"); r.code != 2 || !strings.Contains(r.talk, "require an end") {
		t.Errorf("a version without an end: %d %s", r.code, r.talk)
	}
	if r := u.run(t, "second", "put", "d/db-password", "--new-version", "--not-after", "30d"); r.code != 0 ||
		!strings.Contains(r.talk, "version 1 is shredded") {
		t.Errorf("a version too many: %d %s", r.code, r.talk)
	}
	if r := u.run(t, "", "due", "--within", "31d"); r.code != 5 || !strings.Contains(r.out, "d/db-password") {
		t.Errorf("due: %d %s", r.code, r.out)
	}
	u.ok(t, "", "rules", "set", "d/db-password", "--max-age", "20d")
	if out := u.ok(t, "", "rules", "show", "d/db-password"); !strings.Contains(out, "served for 20d") {
		t.Errorf("a stricter rule of its own: %s", out)
	}
	if out := u.ok(t, "", "item", "difference", "d/db-password@1", "d/db-password@2"); !strings.Contains(out, "shredded") ||
		!strings.Contains(out, "5 bytes") {
		t.Errorf("two versions side by side: %s", out)
	}
	u.ok(t, "", "item", "move", "d/db-password", "d/db-main-password", "--old-name-works", "30d")
	if out := u.ok(t, "", "read", "d/db-password"); out != "second" {
		t.Errorf("by the old name: %q", out)
	}
	if out := u.ok(t, "", "history", "d/db-main-password"); !strings.Contains(out, "also served as d/db-password") ||
		!strings.Contains(out, "person:steward") {
		t.Errorf("its history: %s", out)
	}
	u.ok(t, "", "item", "forget-name", "d/db-password")
	if r := u.run(t, "", "read", "d/db-password"); r.code != 4 {
		t.Errorf("the old name after it was ended: %d %s", r.code, r.talk)
	}
	for _, wrong := range [][]string{{"rules", "set", "d", "--max-age", "3w"}, {"rules", "set", "d", "--grace", "31d"},
		{"rules", "set", "d/db-main-password", "--keep", "2"}, {"rules", "set", "d", "--from", "yesterday"},
		{"item", "move", "d/db-main-password@1", "d/x"}, {"item", "difference", "d/db-main-password@1", "d/db-main-password@9"}, {"rules"}} {
		if r := u.run(t, "", wrong...); r.code != 2 {
			t.Errorf("%q: exit %d, %s", wrong, r.code, r.talk)
		}
	}
}

// A drawer is given out encrypted, opened by its key alone, moved into another one, and shredded.
func TestADrawerIsGivenOutAndShreddedOnTheCommandLine(t *testing.T) {
	u := withDrawer(t)
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	u.ok(t, "$x and \"y\"\n", "put", "d/odd")
	u.ok(t, "", "recipient", at("key"))
	u.ok(t, "", "recipient", at("other"))
	if info, err := os.Stat(at("key")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the private key: %v, %v", info.Mode(), err)
	}
	if r := u.run(t, "", "recipient", at("key")); r.code == 0 {
		t.Error("a key was written over another")
	}
	u.ok(t, "", "export", "d", "--for", at("key.pub"), "--out", at("d.jwe"))
	if content, err := os.ReadFile(at("d.jwe")); err != nil || strings.Contains(string(content), "odd") ||
		strings.Count(string(content), ".") != 4 {
		t.Errorf("the file is %q, %v", content, err)
	}
	if r := u.run(t, "", "open", at("d.jwe"), "--key", at("other")); r.code == 0 || r.out != "" {
		t.Errorf("opened by another key: %s", r.out)
	}
	u.ok(t, "", "open", at("d.jwe"), "--key", at("key"), "--out", at("d.env"))
	u.ok(t, "", "drawer", "add", "e", "--env", "staging")
	u.ok(t, "", "import", "e", at("d.env"), "--not-after", "90d")
	if out := u.ok(t, "", "check", "d/odd", "--same-as", "e/odd"); !strings.Contains(out, "Yes") {
		t.Errorf("there and back: %s", out)
	}
	for _, wrong := range [][]string{{"export", "d"}, {"export", "d", "--in-clear"},
		{"export", "d", "--for", at("key.pub"), "--in-clear", "--out", at("x")}, {"export", "d", "--for", at("d.env")},
		{"open", at("d.jwe"), "--key", at("key.pub")}} {
		if r := u.run(t, "", wrong...); r.code != 2 || r.out != "" {
			t.Errorf("%q: exit %d, %s%s", wrong, r.code, r.out, r.talk)
		}
	}
	u.ok(t, "", "drawer", "rotate-key", "e")
	u.ok(t, "", "check", "e/odd")
	u.ok(t, "", "item", "retire", "e/odd")
	if r := u.run(t, "", "drawer", "shred", "e", "--name", "d"); r.code != 2 {
		t.Errorf("another name: %d %s", r.code, r.talk)
	}
	u.ok(t, "", "drawer", "shred", "e", "--name", "e")
	if r := u.run(t, "", "list", "e"); r.code != 4 {
		t.Errorf("after it was shredded: %d %s", r.code, r.talk)
	}
}

// Whether somebody would get a value is answered without reading it, and a calendar's address is shown once.
func TestAskingBeforeAndTheCalendarOnTheCommandLine(t *testing.T) {
	u := withDrawer(t)
	u.ok(t, "v", "put", "d/soon", "--not-after", "7d", "--use-only")
	u.ok(t, "", "app", "add", "ticket-api")
	if r := u.run(t, "", "check", "d/soon", "--as", "app:ticket-api"); r.code != 3 || !strings.Contains(r.out, "No:") {
		t.Errorf("without a grant: %d %s", r.code, r.out)
	}
	u.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "d/soon")
	if out := u.ok(t, "", "check", "d/soon", "--as", "app:ticket-api"); !strings.Contains(out, "Version 1 would be served") {
		t.Errorf("with a grant: %s", out)
	}
	if r := u.run(t, "", "check", "d/soon", "--as", "person:steward"); r.code != 3 || !strings.Contains(r.out, "shown to no person") {
		t.Errorf("a person: %d %s", r.code, r.out)
	}
	u.ok(t, "", "item", "suspend", "d/soon")
	if r := u.run(t, "", "check", "d/soon", "--as", "app:ticket-api"); r.code != 3 || !strings.Contains(r.out, "suspended") {
		t.Errorf("suspended: %d %s", r.code, r.out)
	}
	var made client.Calendar
	if err := json.Unmarshal([]byte(u.ok(t, "", "calendar", "add", "--note", "phone", "-o", "json")), &made); err != nil || made.Path == "" {
		t.Fatalf("%+v, %v", made, err)
	}
	if out := u.ok(t, "", "calendar", "list"); !strings.Contains(out, made.ID) || strings.Contains(out, made.Path) {
		t.Errorf("the list: %s", out)
	}
	u.ok(t, "", "calendar", "end", made.ID)
	if r := u.run(t, "", "calendar", "end", made.ID); r.code != 4 {
		t.Errorf("ended twice: %d %s", r.code, r.talk)
	}
}

// What there is can be seen under the obvious words, and what is said about something is given with it.
func TestDrawersAndItemsAreSeenAndDescribed(t *testing.T) {
	u, chest := signedIn(t)
	u.ok(t, "", "drawer", "add", "gates", "--env", "production", "--owner", "person:steward", "--description", "Gates of the quays")
	u.ok(t, "v", "put", "gates/radio-key", "--labels", "tier=radio", "--description", "of the radio")
	u.ok(t, "", "describe", "gates", "--approval", "radio-*", "--labels", "team=harbour")
	for line, wants := range map[string][]string{"drawer list": {"gates"},
		"drawer show gates": {"Gates of the quays", "team=harbour", "radio-*",
			"no rules"}, "item list gates": {"radio-key"}, "item show gates/radio-key": {"tier=radio", "of the radio", "has to agree"}} {
		got := u.ok(t, "", strings.Fields(line)...)
		for _, want := range wants {
			if !strings.Contains(got, want) {
				t.Errorf("%s has no %q:\n%s", line, want, got)
			}
		}
	}
	u.ok(t, "w", "put", "gates/radio-key", "--new-version", "--description", "of the new radio")
	u.ok(t, "", "item", "set-end", "gates/radio-key", "--not-after", "2w")
	if got := u.ok(t, "", "item", "show", "gates/radio-key"); !strings.Contains(got, "of the new radio") || !strings.Contains(got, "current") {
		t.Errorf("%s", got)
	}
	if r := u.run(t, "", "item", "set-end", "gates/radio-key"); r.code != 2 {
		t.Errorf("no end: %d %s", r.code, r.talk)
	}
	u.ok(t, "", "item", "set-end", "gates/radio-key", "--never")
	u.ok(t, "", "--profile", "second", "connect", chest.URL(), "--authority", filepath.Join(chest.Dir, "chest", "authority.crt"))
	if got := u.ok(t, "", "profile", "list"); !strings.Contains(got, "*  default") || !strings.Contains(got, "second") {
		t.Errorf("profiles: %s", got)
	}
	u.ok(t, "", "profile", "use", "second")
	if r := u.run(t, "", "whoami"); r.code != 3 {
		t.Errorf("the second profile is not signed in: %d %s", r.code, r.talk)
	}
	u.ok(t, "", "profile", "use", "default")
	u.ok(t, "", "profile", "forget", "second")
	u.ok(t, "", "ask", "may", "person:steward", "register")
	for line, want := range map[string]string{"get gates/radio-key": "tansu read", "put gates/x --shape lgin": "the shapes are",
		"drawer lst":   "drawer list",
		"drawer add x": "missing: --env", "rules set gates --max-age 1fortnight": "1y, 2w"} {
		if r := u.run(t, "", strings.Fields(line)...); r.code != 2 || !strings.Contains(r.talk, want) {
			t.Errorf("%s: %d %s", line, r.code, r.talk)
		}
	}
	if r := u.run(t, "Ferry2026!", "put", "gates/pin"); r.code != 0 || !strings.Contains(r.talk, "easy to guess") {
		t.Errorf("a weak value: %d %s", r.code, r.talk)
	}
	u.ok(t, "", "manual", "--dir", filepath.Join(t.TempDir(), "man"))
}

// Every command that a report proposes does what it is proposed for, on the state that made it propose it.
func TestProposedCommandsWork(t *testing.T) {
	u, chest := signedIn(t)
	dir := t.TempDir()
	file := filepath.Join(dir, "new")
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	u.ok(t, "", "drawer", "add", "gates", "--env", "production")
	u.ok(t, "", "drawer", "add", "ruled", "--env", "production")
	u.ok(t, "", "rules", "set", "ruled", "--recipe", "characters:32")
	u.ok(t, "old value of the radio", "put", "gates/radio-key")
	u.ok(t, "old value by a rule", "put", "ruled/session-key")
	u.ok(t, "old password of relay\n", "put", "gates/relay", "--shape", "login", "--plain", "user=svc", "--field", "password")
	u.ok(t, "old password of db\n", "put", "gates/db", "--shape", "connection", "--plain", "engine=postgresql", "--plain", "host=h", "--plain",
		"user=svc", "--field", "password")
	u.ok(t, "", "put", "gates/deploy", "--shape", "ssh_key", "--field-file", "private="+file)
	u.ok(t, "", "put", "gates/keystore", "--shape", "file", "--field-file", "content="+file)
	u.ok(t, "first\nsecond\n", "put", "gates/pair", "--shape", "fields", "--field", "one", "--field", "two", "--plain", "note=said")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "**"})
	app := chest.Client(t, token)
	items := []string{"gates/radio-key", "ruled/session-key", "gates/relay", "gates/db", "gates/deploy", "gates/keystore", "gates/pair"}
	for _, item := range items {
		if _, _, err := app.Read(t.Context(), item); err != nil {
			t.Fatal(err)
		}
	}
	var x struct {
		Replace []struct{ Reference, Command string }
	}
	decode(t, u.ok(t, "", "exposure", "gates/radio-key@1", "-o", "json"), &x)
	done := map[string]bool{}
	for _, r := range x.Replace {
		done[r.Reference] = true
		words := strings.Fields(strings.ReplaceAll(r.Command, "FILE", file))
		stdin := "a new value for it\n"
		if strings.HasSuffix(r.Command, "--field one --field two") {
			stdin = "a new first\na new second\n"
		}
		if got := u.run(t, stdin, words[1:]...); words[0] != "tansu" || got.code != 0 {
			t.Errorf("%s: %d %s%s", r.Command, got.code, got.out, got.talk)
		}
	}
	for _, item := range append(items, "gates/radio-key@1") {
		if !done[item] {
			t.Errorf("%s is not among what is to be replaced: %+v", item, x.Replace)
		}
	}
	if _, _, err := app.Read(t.Context(), "gates/radio-key@1"); chesttest.Code(err) != "not_servable" {
		t.Errorf("what is exposed is still served: %v", err)
	}
	// What could be tighter, and what a refusal proposes.
	u.ok(t, "", "app", "add", "map-printer", "--owner", "person:steward")
	u.ok(t, "", "grant", "give", "app:map-printer", "consumer", "gates/**")
	var findings []struct {
		Command string
		Kind    string
	}
	later := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	decode(t, u.ok(t, "", "tighten", "--since", later, "-o", "json"), &findings)
	for _, f := range findings {
		if f.Kind != "unused_grant" {
			continue // the others leave a word open for a person to choose
		}
		if got := u.run(t, "", strings.Fields(f.Command)[1:]...); got.code != 0 {
			t.Errorf("%s: %d %s", f.Command, got.code, got.talk)
		}
	}
	_, _, err = app.Read(t.Context(), "gates/radio-key")
	var problem *client.Problem
	if !errors.As(err, &problem) || problem.Receipt == "" {
		t.Fatalf("%v", err)
	}
	var receipt struct{ Remedy struct{ Command string } }
	decode(t, u.ok(t, "", "receipt", problem.Receipt, "-o", "json"), &receipt)
	shell := exec.Command("sh", "-c", receipt.Remedy.Command)
	shell.Env = append(u.command("whoami").Env, "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
	if out, err := shell.CombinedOutput(); err != nil {
		t.Errorf("%s: %v %s", receipt.Remedy.Command, err, out)
	}
	if _, _, err := app.Read(t.Context(), "gates/radio-key"); err != nil {
		t.Errorf("after the remedy: %v", err)
	}
}

// Values that are easy to guess or used twice are found among those that one may read, and never shown.
func TestWeakAndRepeatedValuesAreFound(t *testing.T) {
	u := withDrawer(t)
	const good = "Zq8-tide-7Kp-lantern-93x"
	u.ok(t, good, "put", "d/first")
	if r := u.run(t, "", "weak", "d"); r.code != 0 {
		t.Errorf("nothing stands out: %d %s%s", r.code, r.out, r.talk)
	}
	u.ok(t, good+"\n", "put", "d/second")
	u.ok(t, "Ferry2026!", "put", "d/pin")
	r := u.run(t, "", "weak", "d")
	if r.code != 5 || !strings.Contains(r.out, "d/second") || !strings.Contains(r.out, "easy to guess") ||
		strings.Contains(r.out+r.talk, good) || strings.Contains(r.out+r.talk, "Ferry2026") {
		t.Errorf("%d %s%s", r.code, r.out, r.talk)
	}
	u.ok(t, "", "item", "retire", "d/pin")
	u.ok(t, "", "item", "retire", "d/second")
	u.ok(t, "", "item", "suspend", "d/first")
	if r := u.run(t, "", "weak", "d"); r.code != 7 {
		t.Errorf("what is not served: %d %s%s", r.code, r.out, r.talk)
	}
}
