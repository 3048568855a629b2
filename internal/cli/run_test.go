package cli_test

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"tansu/internal/chesttest"
)

// in runs commands in a directory, as in an application's repository.
func (u user) in(t *testing.T, dir, stdin string, arguments ...string) result {
	t.Helper()
	t.Chdir(dir)
	return u.run(t, stdin, arguments...)
}

// The path of somebody who moves an application from a dotenv file: adopt it, see what is missing, run it, find what is left.
func TestFromADotenvFileToAProgramThatRunsWithoutIt(t *testing.T) {
	u, chest := signedIn(t)
	u.ok(t, "", "drawer", "add", "ticketing-staging", "--env", "staging")
	dir := t.TempDir()
	const password, token = "correct horse; 'battery'", "tok_4f9ab3a1c8e2d7"
	if err := os.WriteFile(filepath.Join(dir, ".env"), []byte("SHOP_DB_PASSWORD=\""+password+"\"\nSHOP_TOKEN="+token+"\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	if r := u.in(t, dir, "", "adopt", ".env", "staging=ticketing-staging", "--app", "ticket-api"); r.code != 0 ||
		strings.Contains(r.out+r.talk, token) {
		t.Fatalf("adopt: %+v", r)
	}
	manifest, err := os.ReadFile(filepath.Join(dir, "tansu.yaml"))
	if err != nil || strings.Contains(string(manifest), token) || !strings.Contains(string(manifest), "variable: SHOP_TOKEN") {
		t.Fatalf("the manifest is %q, %v", manifest, err)
	}
	if r := u.in(t, dir, "", "adopt", ".env", "staging=ticketing-staging"); r.code != 5 { // the values may be others
		t.Errorf("adopted twice: %+v", r)
	}

	// As the application, which lacks a grant at first. One step allows it.
	app := asApp(t, u, chest)
	if r := app.in(t, dir, "", "preflight"); r.code != 3 || !strings.Contains(r.out, "2 of 2 would not be served") ||
		!strings.Contains(r.out, "tansu grant give app:ticket-api consumer") {
		t.Errorf("preflight without a grant: %+v", r)
	}
	if r := app.in(t, dir, "", "run", "--", "touch", "started"); r.code != 3 || !strings.Contains(r.talk, "shop-token") {
		t.Errorf("run without a grant: %+v", r)
	}
	if _, err := os.Stat(filepath.Join(dir, "started")); err == nil {
		t.Error("the program was started although values are missing")
	}
	u.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "ticketing-staging/**")
	if r := app.in(t, dir, "", "preflight"); r.code != 0 || !strings.Contains(r.out, "All 2 would be served") {
		t.Errorf("preflight: %+v", r)
	}
	t.Setenv("SHOP_TOKEN", "from-before") // must not be found instead
	r := app.in(t, dir, "from our own input\n", "run", "--", "sh", "-c",
		`cat; test "$SHOP_TOKEN" = "`+token+`" && echo "it has $SHOP_DB_PASSWORD"; env | grep -c '^SHOP_TOKEN='; exit 9`)
	if r.code != 9 || r.out != "from our own input\nit has [masked: ticketing-staging/shop-db-password@1]\n1\n" {
		t.Errorf("run: %+v", r)
	}
	if r := app.in(t, dir, "", "run", "--show-values", "--", "sh", "-c", `echo "$SHOP_TOKEN"`); r.out != token+"\n" {
		t.Errorf("run with values shown: %+v", r)
	}

	// The file is still there: the leak check finds it, and nothing when it is gone.
	if r := app.in(t, dir, "", "leaks", "--sarif", filepath.Join(t.TempDir(), "x.sarif"), "."); r.code != 5 ||
		strings.Count(r.out, ".env:") != 2 || strings.Contains(r.out+r.talk, token) {
		t.Errorf("leaks: %+v", r)
	}
	if err := os.Remove(filepath.Join(dir, ".env")); err != nil {
		t.Fatal(err)
	}
	if r := app.in(t, dir, "", "leaks", "--drawer", "ticketing-staging", "."); r.code != 3 { // a consumer may not list
		t.Errorf("leaks of a drawer that cannot be listed: %+v", r)
	}
	if r := app.in(t, dir, "", "leaks", "."); r.code != 0 {
		t.Errorf("leaks without the file: %+v", r)
	}
}

// A pipeline that may read nothing looks for values by their fingerprints, without a chest. What could be guessed from them is left out.
func TestAPipelineFindsValuesThatItMayNotRead(t *testing.T) {
	u, chest := signedIn(t)
	const token, weak = "tk_q7Rz0vLkT2mWc9XyPb4JdN8sGh1Ea6Uf", "harbour-2026!"
	chest.Fill(t, "ticketing-prod", "token", token)
	chest.Fill(t, "ticketing-prod", "door", weak)
	dir, file := t.TempDir(), filepath.Join(t.TempDir(), "tansu.fingerprints")
	app := asApp(t, u, chest)
	u.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "ticketing-prod/**")
	u.ok(t, "", "grant", "give", "app:ticket-api", "viewer", "ticketing-prod/**")
	r := app.run(t, "", "fingerprints", "--drawer", "ticketing-prod", "--out", file)
	if r.code != 0 || !strings.Contains(r.talk, "ticketing-prod/door@1 is left out") || strings.Contains(r.talk, "token@1 is left out") {
		t.Fatalf("%+v", r)
	}
	content, err := os.ReadFile(file)
	if err != nil || strings.Contains(string(content), token) || strings.Contains(string(content), weak) {
		t.Fatalf("the file is %s, %v", content, err)
	}
	if err := os.WriteFile(filepath.Join(dir, "log"),
		[]byte("one\nAuthorization: Basic "+base64.StdEncoding.EncodeToString([]byte("job:"+token))+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := chest.Stop(); err != nil {
		t.Fatal(err)
	}
	stranger := user{t.TempDir()}
	if r := stranger.run(t, "", "leaks", "--fingerprints", file, dir); r.code != 5 || !strings.Contains(r.out, "log:2:") ||
		!strings.Contains(r.out, "ticketing-prod/token@1") || strings.Contains(r.out+r.talk, token) {
		t.Errorf("%+v", r)
	}
	if r := stranger.run(t, "", "leaks", "--fingerprints", file, t.TempDir()); r.code != 0 || !strings.Contains(r.out, "1 value in") {
		t.Errorf("where there is nothing: %+v", r)
	}
	if r := stranger.run(t, "", "leaks", "--fingerprints", filepath.Join(dir, "log"), dir); r.code != 2 {
		t.Errorf("a file that has none: %+v", r)
	}
}

// Who runs the same code at a desk is told where the deployed app may do more or less.
func TestPreflightComparesWithTheDeployedApp(t *testing.T) {
	steward, chest := signedIn(t)
	for _, item := range []string{"both", "mine", "its"} {
		chest.Fill(t, "d", item, "value-of-"+item)
	}
	chest.App(t, "ticket-board")
	chest.App(t, "other-app")
	for _, given := range [][2]string{{"app:ticket-board", "d/both"}, {"app:ticket-board", "d/its"}} {
		steward.ok(t, "", "grant", "give", given[0], "consumer", given[1])
	}
	chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "consumer", Scope: "d/both"}, chesttest.Grant{Role: "consumer", Scope: "d/mine"})
	steward.ok(t, "", "app", "describe", "ticket-board", "--owner", "person:ticketing-lead")
	lead := bareUser(t, chest)
	lead.ok(t, chesttest.Password+"\n", "sign-in", "ticketing-lead")
	dir := manifestIn(t, "  - { variable: A, reference: d/both }\n  - { variable: B, reference: d/mine }\n  - { variable: C, reference: "+
		"d/its }\napp: ticket-board\n")
	r := lead.in(t, dir, "", "preflight", "--compare")
	if r.code != 3 || strings.Contains(r.talk, "d/both:") ||
		!strings.Contains(r.talk, "d/mine: person:ticketing-lead would be served version 1, and app:ticket-board nothing") ||
		!strings.Contains(r.talk, "d/its: app:ticket-board would be served version 1") {
		t.Errorf("%+v", r)
	}
	other := manifestIn(t, "  - { variable: A, reference: d/both }\napp: other-app\n")
	if r := lead.in(t, other, "", "preflight", "--compare"); r.code != 3 || !strings.Contains(r.talk, "may not") {
		t.Errorf("about an app of somebody else: %+v", r)
	}
}

// asApp is somebody who is signed in as app:ticket-api.
func asApp(t *testing.T, steward user, chest *chesttest.Chest) user {
	t.Helper()
	chest.App(t, "ticket-api")
	var issued struct {
		Secret string `json:"secret"`
	}
	decode(t, steward.ok(t, "", "app", "new-credential", "ticket-api", "-o", "json"), &issued)
	app := user{t.TempDir()}
	app.ok(t, "", "connect", chest.URL(), "--authority", filepath.Join(chest.Dir, "chest", "authority.crt"))
	app.ok(t, issued.Secret+"\n", "sign-in", "app:ticket-api")
	return app
}

func TestValuesThatCannotBeHandedOverAreRefusedWithTheWayToDoIt(t *testing.T) {
	steward, chest := signedIn(t)
	chest.Fill(t, "d", "binary", "a\x00b")
	chest.Fill(t, "d", "large", strings.Repeat("x", 200<<10))
	u := asApp(t, steward, chest)
	steward.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "d/**")
	dir := t.TempDir()
	for _, c := range []struct{ needs, want string }{
		{"  - { variable: V, reference: d/binary }", "zero byte"},
		{"  - { variable: V, reference: d/large }", "hand it over as a file"},
		{"  - { variable: V, reference: d/binary }\n  - { variable: V, reference: d/large }", "there already"},
		{"  - { variable: V, reference: d/none }", "d/none"},
	} {
		if err := os.WriteFile(filepath.Join(dir, "tansu.yaml"), []byte("manifest: 1\nneeds:\n"+c.needs+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if r := u.in(t, dir, "", "run", "--", "touch", filepath.Join(dir, "started")); r.code == 0 || !strings.Contains(r.talk, c.want) {
			t.Errorf("%s: %+v", c.needs, r)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "tansu.yaml"),
		[]byte("manifest: 1\nneeds:\n  - { file: binary, variable: BINARY, reference: d/binary }\n  - { stdin: true, reference: d/large }\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	if r := u.in(t, dir, "", "run", "--", "sh", "-c", `wc -c; wc -c < "$BINARY"`); strings.Join(strings.Fields(r.out), " ") != "204800 3" {
		t.Errorf("handed over: %+v", r)
	}
	if _, err := os.Stat(filepath.Join(dir, "started")); err == nil {
		t.Error("something was started")
	}
}

// A program gets the new value by being started again when there is one, and goes on with what it has when it cannot be had.
func TestRunStartsAgainWhenAValueChanges(t *testing.T) {
	steward, chest := signedIn(t)
	chest.Fill(t, "d", "i", "four")
	u := asApp(t, steward, chest)
	steward.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "d/**")
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "tansu.yaml"), []byte("manifest: 1\nneeds: [{ variable: V, reference: d/i }]\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	started := filepath.Join(dir, "started")
	if err := syscall.Mkfifo(started, 0o600); err != nil {
		t.Fatal(err)
	}
	t.Chdir(dir)
	over := make(chan result, 1)
	go func() {
		over <- u.run(t, "", "run", "--on-change", "restart", "--", "sh", "-c", `echo ${#V} >> started; [ ${#V} = 9 ] && exit 7; exec sleep 1000`)
	}()
	if first, err := os.ReadFile(started); err != nil || string(first) != "4\n" {
		t.Fatalf("%q, %v", first, err)
	}
	steward.ok(t, "and nine!", "put", "d/i", "--new-version")
	if second, err := os.ReadFile(started); err != nil || string(second) != "9\n" {
		t.Fatalf("%q, %v", second, err)
	}
	if r := <-over; r.code != 7 || !strings.Contains(r.talk, "Started again") {
		t.Errorf("%+v", r)
	}
	if r := u.run(t, "", "run", "--on-change", "KILL", "--", "true"); r.code != 2 {
		t.Errorf("with a signal that cannot be caught: %+v", r)
	}
}

// A leak check passes only when it has looked at everything: every version, every file, whatever it is packed in, or with a reason.
func TestLeaksPassOnlyWhenAllWasLookedAt(t *testing.T) {
	u, chest := signedIn(t)
	chest.Fill(t, "gates", "radio-key", "canary of the first version")
	u.ok(t, "canary of the second version", "put", "gates/radio-key", "--new-version")
	chest.Fill(t, "gates", "pin", "123")
	app := asApp(t, u, chest)
	u.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "gates/**")
	dir := t.TempDir()
	write := func(name, content string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("tansu.yaml", "manifest: 1\nneeds:\n  - {variable: RADIO_KEY, reference: gates/radio-key}\n")
	write("logs/old.log", "it was canary of the first version then\n")
	if r := app.in(t, dir, "", "leaks", "logs"); r.code != 5 || !strings.Contains(r.out, "radio-key@1") || strings.Contains(r.out, "canary") {
		t.Errorf("a version before the current one: %+v", r)
	}
	write("logs/old.log", "nothing\n")
	if r := app.in(t, dir, "", "leaks", "logs"); r.code != 0 {
		t.Errorf("nothing: %+v", r)
	}
	write("logs/backup.7z", "7z\xbc\xaf\x27\x1c and more")
	if r := app.in(t, dir, "", "leaks", "logs"); r.code != 7 || !strings.Contains(r.out, "backup.7z") ||
		!strings.Contains(r.out, "Not everything") {
		t.Errorf("what was not opened: %+v", r)
	}
	write("tansu-leaks.yaml", "places: [{what: logs/*.7z, reason: looked through by hand}]\n")
	if r := app.in(t, dir, "", "leaks", "logs"); r.code != 0 || !strings.Contains(r.out, "1 ignored") {
		t.Errorf("with a reason: %+v", r)
	}
	write("tansu.yaml", "manifest: 1\nneeds:\n  - {variable: PIN, reference: gates/pin}\n")
	if r := app.in(t, dir, "", "leaks", "logs"); r.code != 7 || !strings.Contains(r.out, "too short") {
		t.Errorf("a value that is not looked for: %+v", r)
	}
	write("tansu-leaks.yaml", "values: [{what: gates/pin}]\n")
	if r := app.in(t, dir, "", "leaks", "logs"); r.code != 2 || !strings.Contains(r.talk, "reason") {
		t.Errorf("no reason: %+v", r)
	}
}
