package cli_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "modernc.org/sqlite" // for editing the file behind the service's back

	"tansu/internal/chesttest"
)

// stop ends a service and waits for it.
func stop(t *testing.T, process interface{ Wait() error }, signal func() error) {
	t.Helper()
	if err := signal(); err != nil {
		t.Fatal(err)
	}
	_ = process.Wait()
}

// Set aside over the network, brought back only on the machine, with the unlock material; and what was edited in the
// file meanwhile is named by the offline check, by the start, and by nothing served.
func TestStewardComesBackOnTheMachineAndAnEditedFileIsNamed(t *testing.T) {
	u := user{t.TempDir()}
	base := t.TempDir()
	dir, key := filepath.Join(base, "chest"), filepath.Join(base, "key")
	var founded struct {
		Code string `json:"enrolment_code"`
	}
	decode(t, u.ok(t, "", "init", "--dir", dir, "--key-file", key, "-o", "json"), &founded)
	address, process := u.serve(t, "--dir", dir, "--key-file", key)
	u.ok(t, "", "connect", address, "--authority", filepath.Join(dir, "authority.crt"))
	enrolled := u.run(t, founded.Code+"\n"+chesttest.Password+"\n", "enrol")
	if enrolled.code != 0 {
		t.Fatal(enrolled.talk)
	}
	if r := u.run(t, "", "drawer", "add", "d", "--env", "staging"); r.code != 0 || strings.Count(r.talk, "working as the steward") != 1 {
		t.Errorf("as the steward: %d %s", r.code, r.talk)
	}
	var duty struct {
		Credential struct{ Secret string }
	}
	decode(t, u.ok(t, "", "person", "add", "security-duty", "-o", "json"), &duty)
	u.ok(t, "", "grant", "give", "person:security-duty", "gatekeeper", "**")
	d := user{t.TempDir()}
	d.ok(t, "", "connect", address, "--authority", filepath.Join(dir, "authority.crt"))
	d.ok(t, duty.Credential.Secret+"\n"+chesttest.Password+"\n", "enrol")
	u.ok(t, "", "steward", "set-aside")
	if r := u.run(t, "", "person", "list"); r.code != 3 {
		t.Errorf("after being set aside: %d %s", r.code, r.talk)
	}
	if r := d.run(t, "", "person", "list"); strings.Contains(r.talk, "working as the steward") {
		t.Errorf("somebody else is told that they are the steward: %s", r.talk)
	}
	if r := u.run(t, "", "steward", "bring-back", "--dir", dir, "--key-file", key); r.code != 1 || !strings.Contains(r.talk, "in use") {
		t.Errorf("while the service runs: %d %s", r.code, r.talk)
	}
	stop(t, process, func() error { return process.Process.Signal(syscall.SIGTERM) })
	if r := u.run(t, "wrong\n", "steward", "bring-back", "--dir", dir); r.code == 0 {
		t.Error("without the key file")
	}
	var back struct {
		Code string `json:"enrolment_code"`
	}
	decode(t, u.ok(t, "", "steward", "bring-back", "--dir", dir, "--key-file", key, "-o", "json"), &back)
	u.ok(t, "", "examine", "--dir", dir, "--key-file", key)
	address, process = u.serve(t, "--dir", dir, "--key-file", key)
	u.ok(t, "", "connect", address, "--authority", filepath.Join(dir, "authority.crt"))
	if r := u.run(t, chesttest.Password+"\n", "sign-in", "steward"); r.code != 3 {
		t.Errorf("the old password: %d %s", r.code, r.talk)
	}
	u.ok(t, back.Code+"\n"+chesttest.Password+"\n", "enrol")
	if got := u.ok(t, "", "trail", "--action", "bring_steward_back"); !strings.Contains(got, "machine") {
		t.Errorf("the trail: %s", got)
	}
	u.ok(t, "", "examine")

	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "chest.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	if _, err := db.Exec("UPDATE grants SET role = 'consumer' WHERE role = 'gatekeeper'"); err != nil {
		t.Fatal(err)
	}
	if r := u.run(t, "", "examine"); r.code == 0 || !strings.Contains(r.talk, "something other than Tansu wrote to the database") {
		t.Errorf("examined while it runs: %d %s%s", r.code, r.out, r.talk)
	}
	stop(t, process, func() error { return process.Process.Signal(syscall.SIGTERM) })
	if r := u.run(t, "", "examine", "--dir", dir, "--key-file", key); r.code != 1 ||
		!strings.Contains(r.out, "of table grants is not what was stored") {
		t.Errorf("examined on the machine: %d %s%s", r.code, r.out, r.talk)
	}
	if r := u.run(t, "", "serve", "--dir", dir, "--key-file", key, "--listen", "127.0.0.1:0"); r.code != 1 ||
		!strings.Contains(r.talk, "of table grants is not what was stored") {
		t.Errorf("started on it: %d %s", r.code, r.talk)
	}
}

// A pipeline checks a policy without a chest, by the exit code, and every problem has its place in the file.
func TestPolicyFilesOnTheCommandLine(t *testing.T) {
	u, _ := signedIn(t)
	file := filepath.Join(t.TempDir(), "access.yaml")
	u.ok(t, "", "drawer", "add", "fuel-billing-prod", "--env", "production")
	u.ok(t, "", "app", "add", "nightly-ledger")
	u.ok(t, "", "policy", "export", "--to", file)
	alone := user{t.TempDir()} // has no chest
	alone.ok(t, "", "policy", "check", file)
	write := func(edit func(string) string) {
		t.Helper()
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(edit(string(text))), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(func(text string) string {
		return strings.Replace(text, "grants:\n", "grants:\n  - {subject: app:nightly-ledger, role: consumer, scope: fuel-billing-prod/**}\n",
			1) +
			"expectations:\n  - {exactly: [app:nightly-ledger], can: read_value, scope: fuel-billing-prod/**}\n"
	})
	alone.ok(t, "", "policy", "check", file)
	if r := u.run(t, "", "policy", "check", file, "--live"); r.code != 3 || !strings.Contains(r.out, "app:nightly-ledger cannot") {
		t.Errorf("against the chest before it is applied: %d %s%s", r.code, r.out, r.talk)
	}
	if got := u.ok(t, "", "policy", "diff", file); !strings.Contains(got, "+ gains  read_value use_key  fuel-billing-prod") {
		t.Errorf("diff: %s", got)
	}
	u.ok(t, "", "policy", "apply", file, "--stamp")
	u.ok(t, "", "policy", "check", file, "--live")
	if got := u.ok(t, "", "policy", "apply", file); !strings.Contains(got, "No difference") {
		t.Errorf("applied again: %s", got)
	}
	u.ok(t, "", "policy", "export", "--to", file)
	if text, err := os.ReadFile(file); err != nil || strings.Count(string(text), "expectations:") != 1 {
		t.Errorf("an export loses the expectations: %s, %v", text, err)
	}
	u.ok(t, "", "policy", "check", file, "--live")
	write(func(text string) string { return strings.Replace(text, "role: consumer", "role: consumr", 1) })
	if r := alone.run(t, "", "policy", "check", file); r.code != 2 || !strings.Contains(r.talk, file+":") ||
		!strings.Contains(r.talk, "did you mean consumer?") {
		t.Errorf("a problem: %d %s", r.code, r.talk)
	}
	write(func(text string) string {
		return strings.Replace(strings.Replace(text, "role: consumr", "role: viewer", 1), "exactly: [app:nightly-ledger]",
			"exactly: [app:rota-sync]", 1)
	})
	if r := alone.run(t, "", "policy", "check", file); r.code != 3 || !strings.Contains(r.out, "app:rota-sync cannot") {
		t.Errorf("an expectation that fails: %d %s%s", r.code, r.out, r.talk)
	}
	if r := u.run(t, "", "policy", "check", filepath.Join(t.TempDir(), "none.yaml")); r.code != 1 {
		t.Errorf("a file that is not there: %d %s", r.code, r.talk)
	}
	alone.ok(t, "", "policy", "schema")
}

// What lies in a dotenv file is moved in, checked and used by an application, and nothing of it is ever shown.
func TestDotenvFileIsMovedInAndUsed(t *testing.T) {
	u, chest := signedIn(t)
	u.ok(t, "", "drawer", "add", "ticketing-staging", "--env", "staging")
	file := filepath.Join(t.TempDir(), ".env")
	if err := os.WriteFile(file, []byte("DB_PASSWORD='canary in a file'\nAPI_KEY=another-canary\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	preview := u.ok(t, "", "import", "ticketing-staging", file, "--preview")
	done := u.run(t, "", "import", "ticketing-staging", file)
	if done.code != 0 || !strings.Contains(preview, "2 new. Nothing was put in") || !strings.Contains(done.out, "2 new.") ||
		!strings.Contains(done.talk, "its history keeps every value") || strings.Contains(preview+done.out+done.talk, "canary") {
		t.Errorf("%s\n%d %s%s", preview, done.code, done.out, done.talk)
	}
	if r := u.run(t, "", "import", "ticketing-staging", file); r.code != 5 || !strings.Contains(r.out, "2 exists. Nothing was put in") {
		t.Errorf("again: %d %s%s", r.code, r.out, r.talk)
	}
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-staging/**"})
	if value, _, err := chest.Client(t, token).Read(t.Context(), "ticketing-staging/db-password"); err != nil ||
		string(value) != "canary in a file" {
		t.Errorf("%q, %v", value, err)
	}
	if r := u.run(t, "", "import", "ticketing-staging", filepath.Join(t.TempDir(), "notes.txt")); r.code != 2 ||
		!strings.Contains(r.talk, "--format") {
		t.Errorf("a file that says nothing: %d %s", r.code, r.talk)
	}
}

// A proposal is done by its own id: what the list says meanwhile of somebody else does not change what is meant.
func TestTightenDoesTheFindingThatWasRead(t *testing.T) {
	later := time.Now().Add(time.Hour).UTC().Format(time.RFC3339) // what was given before it has had its time to be used
	u, _ := signedIn(t)
	u.ok(t, "", "drawer", "add", "ticketing-prod", "--env", "production")
	u.ok(t, "", "app", "add", "map-printer")
	u.ok(t, "", "grant", "give", "app:map-printer", "consumer", "ticketing-prod/**")
	type finding struct{ ID, Kind, Subject string }
	unused := func() (list []finding) {
		decode(t, u.ok(t, "", "tighten", "--since", later, "-o", "json"), &list)
		return list
	}
	id := ""
	for _, f := range unused() {
		if f.Subject == "app:map-printer" && f.Kind == "unused_grant" {
			id = f.ID
		}
	}
	if id == "" {
		t.Fatal("the grant is not found to be unused")
	}
	// An app earlier in the alphabet moves the list.
	u.ok(t, "", "app", "add", "accounts-export")
	u.ok(t, "", "grant", "give", "app:accounts-export", "consumer", "ticketing-prod/**")
	u.ok(t, "", "tighten", "--since", later, "--do", id, "--yes")
	if got := u.ok(t, "", "grant", "list", "--subject", "app:accounts-export"); !strings.Contains(got, "ticketing-prod") {
		t.Errorf("another app lost its access: %s", got)
	}
	r := u.run(t, "", "tighten", "--since", later, "--do", id, "--yes")
	if r.code != 2 || !strings.Contains(r.talk, "any more") {
		t.Errorf("done twice: %d %s", r.code, r.talk)
	}
	if r := u.run(t, "", "tighten", "--do", "1", "--yes"); r.code != 2 {
		t.Errorf("by its number: %d %s", r.code, r.talk)
	}
}

// Two environments of one application, whose files differ, are adopted one after the other, and both run; what is no secret is no item.
func TestTwoEnvironmentsAreAdopted(t *testing.T) {
	u, chest := signedIn(t)
	u.ok(t, "", "drawer", "add", "ticketing-staging", "--env", "staging")
	u.ok(t, "", "drawer", "add", "ticketing-prod", "--env", "production")
	dir := t.TempDir()
	put := func(name, content string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	manifest := filepath.Join(dir, "tansu.yaml")
	staging := put(".env", "DB_PASSWORD=staging-canary\nDEBUG_TOKEN=debug-canary\nLEVEL=debug\nPORT=5001\n")
	preview := u.run(t, "", "adopt", staging, "staging=ticketing-staging", "--manifest", manifest, "--preview")
	if preview.code != 0 || !strings.Contains(preview.talk, "--plain LEVEL,PORT") || !strings.Contains(preview.talk, "DB_PASSWORD") {
		t.Errorf("the preview: %d %s%s", preview.code, preview.out, preview.talk)
	}
	if _, err := os.Stat(manifest); err == nil {
		t.Error("a preview wrote the manifest")
	}
	if r := u.run(t, "", "adopt", staging, "staging=ticketing-staging", "--manifest", manifest, "--plain", "LEVEL,NAME,ZONE"); r.code != 2 ||
		!strings.Contains(r.talk, "NAME") || !strings.Contains(r.talk, "ZONE") {
		t.Errorf("names that are not in the file: %d %s", r.code, r.talk)
	}
	u.ok(t, "", "adopt", staging, "staging=ticketing-staging", "--manifest", manifest, "--plain", "LEVEL,PORT")
	production := put(".env.production", "DB_PASSWORD=prod-canary\nFUEL_KEY=fuel-canary\nLEVEL=warn\nPORT=5001\n")
	u.ok(t, "", "adopt", production, "production=ticketing-prod", "--manifest", manifest)
	if got := u.ok(t, "", "list", "ticketing-prod"); strings.Contains(got, "level") || !strings.Contains(got, "fuel-key") {
		t.Errorf("what is no secret is an item: %s", got)
	}
	secret, _ := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-staging/**"},
		chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	app := user{t.TempDir()}
	app.ok(t, "", "connect", chest.URL(), "--authority", filepath.Join(chest.Dir, "chest", "authority.crt"))
	app.ok(t, secret+"\n", "sign-in", "app:ticket-api")
	show := `test "$DB_PASSWORD" = "$1" && echo "$LEVEL $PORT ${DEBUG_TOKEN:+debug} ${FUEL_KEY:+fuel}"`
	for environment, want := range map[string][2]string{"staging": {"staging-canary", "debug 5001 debug \n"},
		"production": {"prod-canary", "warn 5001  fuel\n"}} {
		u.ok(t, "", "preflight", "--manifest", manifest, "--in", environment, "--as", "app:ticket-api")
		if got := app.ok(t, "", "run", "--manifest", manifest, "--in", environment, "--", "sh", "-c", show, "sh", want[0]); got != want[1] {
			t.Errorf("in %s: %q", environment, got)
		}
	}
	if r := app.run(t, "", "run", "--manifest", manifest, "--in", "staging", "--", "no-such-program"); r.code != 127 {
		t.Errorf("a program that is not there: %d %s", r.code, r.talk)
	}
	// Values that are not taken over are said, and are no success.
	other := put(".env.other", "DB_PASSWORD=another-canary\n")
	r := u.run(t, "", "adopt", other, "other=ticketing-prod", "--manifest", manifest)
	if r.code != 5 || !strings.Contains(r.talk, "were not put in") {
		t.Errorf("another value for an item that is there: %d %s", r.code, r.talk)
	}
	mixed := put(".env.mixed", "DB_PASSWORD=another-canary\nRADIO_KEY=radio-canary\n")
	r = u.run(t, "", "adopt", mixed, "mixed=ticketing-prod", "--manifest", manifest)
	if r.code != 5 || !strings.Contains(r.talk, "--each puts") {
		t.Errorf("new beside what exists: %d %s", r.code, r.talk)
	}
	r = u.run(t, "", "adopt", mixed, "mixed=ticketing-prod", "--manifest", manifest, "--each")
	if r.code != 5 || !strings.Contains(u.ok(t, "", "list", "ticketing-prod"), "radio-key") {
		t.Errorf("what is new alone: %d %s", r.code, r.talk)
	}
	each := put("more.env", "NEW_ONE=canary-one\nDB_PASSWORD=another-canary\n")
	r = u.run(t, "", "import", "ticketing-prod", each, "--format", "dotenv", "--each")
	if r.code != 5 || !strings.Contains(r.talk, "Not all of") {
		t.Errorf("an import of a part: %d %s", r.code, r.talk)
	}
	for _, name := range []string{"db_password", "db.password"} {
		r := u.run(t, "v", "put", "ticketing-prod/"+name)
		if r.code != 5 || !strings.Contains(r.talk, "ticketing-prod/db-password already exists") {
			t.Errorf("%s beside db-password: %d %s", name, r.code, r.talk)
		}
	}
	if r := u.run(t, "v", "put", "ticketing-prod/db-password", "--new-version", "--shape", "login"); r.code != 2 {
		t.Errorf("a shape for a new version: %d %s", r.code, r.talk)
	}
}
