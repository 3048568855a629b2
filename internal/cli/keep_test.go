package cli_test

import (
	"crypto/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"tansu/client"
	"tansu/internal/chesttest"
)

// operated is a chest that its user runs: a key file opens it, and backups go to a directory.
type operated struct {
	user
	address            string
	dir, key, backups  string
	recipient, witness string
	process            interface{ Wait() error }
	end                func() error
}

func operate(t *testing.T) *operated {
	t.Helper()
	base := t.TempDir()
	o := &operated{user: user{t.TempDir()}, dir: filepath.Join(base, "chest"), key: filepath.Join(base, "unlock.key"),
		backups: filepath.Join(base, "backups"), recipient: filepath.Join(base, "backup.key"), witness: filepath.Join(base, "checkpoints")}
	if err := os.Mkdir(o.backups, 0o700); err != nil {
		t.Fatal(err)
	}
	var founded struct {
		Code string `json:"enrolment_code"`
	}
	decode(t, o.ok(t, "", "init", "--dir", o.dir, "--key-file", o.key, "-o", "json"), &founded)
	o.ok(t, "", "recipient", o.recipient, "--post-quantum")
	o.start(t)
	o.ok(t, founded.Code+"\n"+chesttest.Password+"\n", "enrol")
	return o
}

func (o *operated) start(t *testing.T) {
	t.Helper()
	address, process := o.serve(t, "--dir", o.dir, "--key-file", o.key, "--witness", o.witness,
		"--backup-to", o.backups, "--backup-recipient", o.recipient+".pub", "--backup-every", "0", "--rehearse-every", "0")
	o.address, o.process, o.end = address, process, func() error { return process.Process.Signal(syscall.SIGTERM) }
	o.ok(t, "", "connect", address, "--authority", filepath.Join(o.dir, "authority.crt"))
}

// What the page on recovery tells an operator to do, followed: a value comes back by itself, and then the whole chest.
func TestWhatIsLostComesBackOutOfABackup(t *testing.T) {
	o := operate(t)
	o.ok(t, "", "drawer", "add", "ticketing-prod", "--env", "production")
	o.ok(t, "", "grant", "give", "person:steward", "consumer", "**")
	o.ok(t, "what it was", "put", "ticketing-prod/db-password")
	o.ok(t, "gone by mistake", "put", "ticketing-prod/harbour-pin")
	o.ok(t, "", "backup", "now")
	o.ok(t, "what it is", "put", "ticketing-prod/db-password", "--new-version")
	o.ok(t, "", "drawer", "add", "berths", "--env", "production")

	wrongKey := filepath.Join(t.TempDir(), "another.key")
	o.ok(t, "", "recipient", wrongKey)
	for _, c := range []struct {
		name, key, item string
		code            int
		says            string
	}{
		{"what unlocks, as a recipient's key", o.key, "ticketing-prod/db-password", 2, "unlock.key"},
		{"another recipient's key", wrongKey, "ticketing-prod/db-password", 1, "backup"},
		{"an item that is not in it", o.recipient, "ticketing-prod/db-passwort", 1, "in the backup: there is no item"},
		{"a version that came later", o.recipient, "ticketing-prod/db-password@2", 1, "@2 is not in the backup"},
		{"a drawer that came later", o.recipient, "berths", 1, "in the backup: there is no drawer"},
	} {
		r := o.run(t, "", "backup", "take-out", o.backups, "--key", c.key, "--key-file", o.key, "--item", c.item)
		if r.code != c.code || !strings.Contains(r.talk, c.says) {
			t.Errorf("%s: exit %d, %s", c.name, r.code, r.talk)
		}
	}
	if got := o.ok(t, "", "read", "ticketing-prod/db-password"); got != "what it is" {
		t.Fatalf("read %q after nothing was brought back", got)
	}
	said := o.ok(t, "", "backup", "take-out", o.backups, "--key", o.recipient, "--key-file", o.key, "--item", "ticketing-prod/db-password")
	if !strings.Contains(said, "ticketing-prod/db-password@3") || strings.Contains(said, "what it was") {
		t.Errorf("said %s", said)
	}
	if got := o.ok(t, "", "read", "ticketing-prod/db-password"); got != "what it was" {
		t.Errorf("read %q after it was brought back", got)
	}
	if got := o.ok(t, "", "history", "ticketing-prod/db-password"); !strings.Contains(got, "out of the backup of") {
		t.Errorf("the history does not say where it is from: %s", got)
	}

	stop(t, o.process, o.end)
	old := o.dir
	if r := o.run(t, "", "restore", o.backups, "--key", o.recipient, "--dir", old); r.code != 1 || !strings.Contains(r.talk, "not empty") {
		t.Errorf("over the old one: exit %d, %s", r.code, r.talk)
	}
	o.dir = filepath.Join(t.TempDir(), "restored")
	o.ok(t, "", "restore", o.backups, "--key", o.recipient, "--dir", o.dir, "--witness", o.witness)
	o.start(t)
	if r := o.run(t, "", "list"); r.code != 3 {
		t.Errorf("a session of before: exit %d, %s", r.code, r.talk)
	}
	o.ok(t, chesttest.Password+"\n", "sign-in", "steward")
	if got := o.ok(t, "", "read", "ticketing-prod/harbour-pin"); got != "gone by mistake" {
		t.Errorf("read %q out of the restored chest", got)
	}
	if r := o.run(t, "", "read", "ticketing-prod/db-password@3"); r.code != 4 && r.code != 3 {
		t.Errorf("what came after the backup: exit %d, %s", r.code, r.talk)
	}
	exported := filepath.Join(t.TempDir(), "trail.jsonl")
	o.ok(t, "", "trail", "export", "--out", exported, "--key", exported+".key")
	if got := o.ok(t, "", "trail", "verify", exported, "--key", exported+".key", "--checkpoint", exported+".checkpoint", "--checkpoint",
		o.witness); !strings.Contains(got, "restored") {
		t.Errorf("verified, and nothing is said of what was lost: %s", got)
	}
	o.ok(t, "", "backup", "now")
	if files, err := filepath.Glob(filepath.Join(o.backups, "*.tansu-backup")); err != nil || len(files) != 2 {
		t.Errorf("%v, %v: the backup of before has gone, or there is no new one", files, err)
	}
	o.ok(t, "", "backup", "rehearse")
	if wrong := o.ok(t, "", "examine"); !strings.Contains(wrong, "as it was stored") {
		t.Errorf("examined: %s", wrong)
	}
	if r := o.run(t, "", "status"); r.code != 0 {
		t.Errorf("status: exit %d, %s", r.code, r.out)
	}
}

// From one key file to two of three custodians, the root key turned, and back to a chest that only shares open.
func TestCustodiansOpenAChestByTheCommandLine(t *testing.T) {
	o := operate(t)
	o.ok(t, "", "drawer", "add", "ticketing-prod", "--env", "production")
	o.ok(t, "", "grant", "give", "person:steward", "consumer", "**")
	o.ok(t, "still here", "put", "ticketing-prod/db-password")
	custodians := map[string]user{}
	for _, name := range []string{"harbour-master", "audit-desk"} {
		var added struct {
			Credential struct{ Secret string }
		}
		decode(t, o.ok(t, "", "person", "add", name, "-o", "json"), &added)
		u := user{t.TempDir()}
		u.ok(t, "", "connect", o.address, "--authority", filepath.Join(o.dir, "authority.crt"))
		u.ok(t, added.Credential.Secret+"\n"+chesttest.Password+"\n", "enrol")
		custodians[name] = u
	}
	custodians["steward"] = o.user
	shares := []string{"--shares", "2", "--custodian", "steward", "--custodian", "harbour-master", "--custodian", "audit-desk"}
	if r := o.run(t, "not what opens it\n", append([]string{"unlock-method", "add", "custodians"}, shares...)...); r.code != 3 {
		t.Errorf("added without what opens it: exit %d, %s", r.code, r.talk)
	}
	o.ok(t, "", append([]string{"unlock-method", "add", "custodians", "--key-file", o.key}, shares...)...)
	words := map[string]string{}
	for name, u := range custodians {
		if name == "audit-desk" { // who keeps it encrypted to a key pair
			key := filepath.Join(t.TempDir(), "my.key")
			u.ok(t, "", "recipient", key, "--post-quantum")
			if r := u.run(t, "", "share", "take", "--for", key); r.code != 2 { // the private half: nothing is taken
				t.Errorf("to a private key: exit %d, %s", r.code, r.talk)
			}
			sealed := key + ".share"
			if err := os.WriteFile(sealed, []byte(u.ok(t, "", "share", "take", "--for", key+".pub")), 0o600); err != nil {
				t.Fatal(err)
			}
			words[name] = u.ok(t, "", "open", sealed, "--key", key)
		} else {
			words[name] = u.ok(t, "", "share", "take")
		}
		if r := u.run(t, "", "share", "take"); r.code == 0 {
			t.Errorf("%s took a share twice", name)
		}
	}
	o.ok(t, "", "root-key", "rotate", "--key-file", o.key)
	if r := o.run(t, "", "unlock-method", "end", "custodians", "--key-file", filepath.Join(t.TempDir(), "none")); r.code == 0 {
		t.Error("ended without what opens it")
	}
	if r := o.run(t, "", "unlock-method", "end", "founding", "--key-file", o.key); r.code == 0 {
		t.Error("the key file ended itself")
	}
	for _, name := range []string{"harbour-master", "audit-desk"} {
		custodians[name].ok(t, words[name], "unlock", "--share")
	}
	o.ok(t, "", "unlock-method", "end", "founding", "--by-shares")
	stop(t, o.process, o.end)

	address, _ := o.serve(t, "--dir", o.dir)
	for _, u := range custodians {
		u.ok(t, "", "connect", address, "--authority", filepath.Join(o.dir, "authority.crt"))
	}
	if r := o.run(t, "", "status"); r.code != 6 {
		t.Errorf("status of a locked chest: exit %d, %s", r.code, r.out)
	}
	if r := o.run(t, "", "unlock", "--key-file", o.key); r.code != 3 {
		t.Errorf("the key file that was ended: exit %d, %s", r.code, r.talk)
	}
	if r := o.run(t, words["steward"][:40]+"\n", "unlock", "--share"); r.code == 0 {
		t.Error("half a share was taken")
	}
	if got := o.ok(t, words["steward"], "unlock", "--share"); !strings.Contains(got, "1 of 2") {
		t.Errorf("the first share: %s", got)
	}
	if r := o.run(t, words["steward"], "unlock", "--share"); strings.Contains(r.out, "is unlocked") {
		t.Error("one custodian's share opened the chest twice over")
	}
	if got := custodians["audit-desk"].ok(t, words["audit-desk"], "unlock", "--share"); !strings.Contains(got, "is unlocked") {
		t.Errorf("the second share: %s", got)
	}
	o.ok(t, chesttest.Password+"\n", "sign-in", "steward")
	if got := o.ok(t, "", "read", "ticketing-prod/db-password"); got != "still here" {
		t.Errorf("read %q", got)
	}
}

// What was ended after a backup is ended again in the chest that is restored from it, as far as the trail says so: nobody who was suspended
// comes back with it, no grant, key or membership that was taken away, and nothing that was suspended or shredded is served. What was ended
// and begun again is not ended, and what keeps somebody out is not taken away.
func TestRestoredChestEndsAgainWhatWasEnded(t *testing.T) {
	o := operate(t)
	o.ok(t, "", "drawer", "add", "ticketing-prod", "--env", "production")
	o.ok(t, "", "grant", "give", "person:steward", "consumer", "**")
	o.ok(t, "", "grant", "give", "person:steward", "operator", "**")
	for _, item := range []string{"db-password", "harbour-pin", "mail-key", "signing-key"} {
		o.ok(t, "kept "+item, "put", "ticketing-prod/"+item)
	}
	o.ok(t, "kept db-password 2", "put", "ticketing-prod/db-password", "--new-version")
	apps := map[string]string{}
	for _, name := range []string{"gone", "back", "keyless", "barred"} {
		var made struct{ Credential struct{ ID string } }
		decode(t, o.ok(t, "", "app", "add", name, "--owner", "person:steward", "-o", "json"), &made)
		apps[name] = made.Credential.ID
	}
	o.ok(t, "", "team", "add", "crew")
	o.ok(t, "", "team", "join", "crew", "app:back")
	give := func(arguments ...string) string {
		var given struct{ Grant struct{ ID string } }
		decode(t, o.ok(t, "", append([]string{"grant", "give", "-o", "json"}, arguments...)...), &given)
		return given.Grant.ID
	}
	first, second := give("app:gone", "consumer", "ticketing-prod/*"), give("team:crew", "consumer", "ticketing-prod/*")
	third := give("app:back", "consumer", "ticketing-prod/mail-key")
	bar := give("app:barred", "consumer", "ticketing-prod/*", "--deny")
	o.ok(t, "", "authority", "create", "ticketing-prod/authority", "--subject", "Ferries")
	o.ok(t, "", "authority", "profile", "ticketing-prod/server", "--authority", "authority", "--names", "*.ferries.example")
	o.ok(t, "", "grant", "give", "person:steward", "subscriber", "ticketing-prod/server")
	issue := func(item string) string {
		var made client.MadeCertificate
		decode(t, o.ok(t, "", "cert", "issue", "ticketing-prod/server", "--names", "quay.ferries.example", "--into", "ticketing-prod/"+item,
			"-o", "json"), &made)
		return made.Facts.Serial
	}
	before, good := issue("quay-1"), issue("quay-2")
	masterKeys := map[string]string{}
	for _, name := range []string{"away", "home"} {
		material := make([]byte, 32)
		_, _ = rand.Read(material)
		masterKeys[name] = filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(masterKeys[name], material, 0o600); err != nil {
			t.Fatal(err)
		}
		o.ok(t, "", "master-key", "bring", name, "--from", masterKeys[name])
		o.ok(t, "", "drawer", "add", "crew-"+name, "--env", "production", "--master-key", name)
		o.ok(t, "who sails", "put", "crew-"+name+"/rota")
	}
	o.ok(t, "", "backup", "now")

	after := issue("quay-3")
	o.ok(t, "", "authority", "revoke", "ticketing-prod/authority", before)
	o.ok(t, "", "authority", "revoke", "ticketing-prod/authority", after)
	for name, file := range masterKeys {
		o.ok(t, "", "master-key", "withdraw", name, "--name", name)
		if name == "home" {
			o.ok(t, "", "master-key", "give-back", name, "--from", file)
		}
	}
	o.ok(t, "", "app", "suspend", "gone")
	o.ok(t, "", "app", "suspend", "back")
	o.ok(t, "", "app", "resume", "back")
	o.ok(t, "", "app", "end-credential", "keyless", apps["keyless"])
	o.ok(t, "", "team", "leave", "crew", "app:back")
	o.ok(t, "", "grant", "end", first)
	exported := filepath.Join(t.TempDir(), "policy.txt")
	policy := o.ok(t, "", "policy", "export")
	entries := strings.Split(policy, "\n  - ")
	left := slices.DeleteFunc(slices.Clone(entries), func(one string) bool { return strings.Contains(one, "prod/mail-key") })
	kept := strings.Join(left, "\n  - ")
	if kept == policy {
		t.Fatalf("the policy does not have the grant: %s", policy)
	}
	if err := os.WriteFile(exported, []byte(kept), 0o600); err != nil {
		t.Fatal(err)
	}
	o.ok(t, "", "policy", "apply", exported)
	o.ok(t, "", "item", "suspend", "ticketing-prod/harbour-pin")
	o.ok(t, "", "item", "suspend", "ticketing-prod/mail-key")
	o.ok(t, "", "item", "resume", "ticketing-prod/mail-key")
	o.ok(t, "", "item", "shred", "ticketing-prod/db-password@1", "--name", "ticketing-prod/db-password@1")
	o.ok(t, "", "item", "retire", "ticketing-prod/signing-key")
	o.ok(t, "", "drawer", "add", "berths", "--env", "production")
	later := filepath.Join(t.TempDir(), "trail.jsonl")
	o.ok(t, "", "trail", "export", "--out", later, "--key", later+".key")
	stop(t, o.process, o.end)

	o.dir = filepath.Join(t.TempDir(), "restored")
	if r := o.run(t, "", "restore", o.backups, "--key", o.recipient, "--dir", o.dir, "--later-trail", o.recipient); r.code == 0 {
		t.Errorf("restored by what is no trail: %s", r.out)
	}
	content, err := os.ReadFile(later)
	if err != nil {
		t.Fatal(err)
	}
	another := filepath.Join(t.TempDir(), "another.jsonl")
	if err := os.WriteFile(another, []byte(strings.ReplaceAll(string(content), `"addr":"127.0.0.1"`, `"addr":"127.0.0.9"`)),
		0o600); err != nil {
		t.Fatal(err)
	}
	if r := o.run(t, "", "restore", o.backups, "--key", o.recipient, "--dir", o.dir, "--later-trail", another); r.code == 0 ||
		!strings.Contains(r.talk, "not of this chest") {
		t.Errorf("restored by another chest's trail: exit %d, %s%s", r.code, r.out, r.talk)
	}
	said := o.ok(t, "", "restore", o.backups, "--key", o.recipient, "--dir", o.dir, "--witness", o.witness, "--later-trail", later)
	for _, line := range []string{"11 things ended", "berths", "db-password", "suspended until you shred it again"} {
		if !strings.Contains(said, line) {
			t.Errorf("restored, and said nothing of %q: %s", line, said)
		}
	}
	o.start(t)
	o.ok(t, chesttest.Password+"\n", "sign-in", "steward")
	grants := o.ok(t, "", "grant", "list")
	for id, ended := range map[string]bool{first: true, second: false, third: true, bar: false} {
		_, line, there := strings.Cut(grants, id)
		if line, _, _ = strings.Cut(line, "\n"); !there || strings.Contains(line, "ended by chest") != ended {
			t.Errorf("grant %s, ended %v: %s", id, ended, grants)
		}
	}
	for name, is := range map[string]bool{"gone": true, "back": false} {
		if got := o.ok(t, "", "app", "show", name); strings.Contains(got, "suspended") != is {
			t.Errorf("%s, suspended %v: %s", name, is, got)
		}
	}
	if got := o.ok(t, "", "app", "show", "keyless"); strings.Contains(got, apps["keyless"]) {
		t.Errorf("its credential is back: %s", got)
	}
	if got := o.ok(t, "", "team", "show", "crew"); strings.Contains(got, "app:back") {
		t.Errorf("it is in the team again: %s", got)
	}
	for reference, served := range map[string]bool{"harbour-pin": false, "mail-key": true, "signing-key": false, "db-password@1": false,
		"db-password": true} {
		if r := o.run(t, "", "read", "ticketing-prod/"+reference); (r.code == 0) != served {
			t.Errorf("%s, served %v: exit %d, %s", reference, served, r.code, r.talk)
		}
	}
	if got := o.ok(t, "", "trail", "--action", "end_again"); strings.Count(got, "end_again") != 11 {
		t.Errorf("the trail has %s", got)
	}
	var issued []client.IssuedCertificate
	decode(t, o.ok(t, "", "authority", "issued", "ticketing-prod/authority", "-o", "json"), &issued)
	states := map[string]string{}
	for _, one := range issued {
		states[one.Serial] = one.State
	}
	if states[before] != "revoked" || states[after] != "revoked" || states[good] != "good" {
		t.Errorf("certificates: %v", states)
	}
	// The key that was away when the chest was lost is away again, although the backup had it; whoever withdrew it gives it back.
	for name, code := range map[string]int{"away": 5, "home": 0} {
		if r := o.run(t, "", "check", "crew-"+name+"/rota"); r.code != code {
			t.Errorf("under the master key %s: exit %d, %s", name, r.code, r.talk)
		}
	}
	o.ok(t, "", "master-key", "give-back", "away", "--from", masterKeys["away"])
	o.ok(t, "", "check", "crew-away/rota")
	o.ok(t, "", "item", "resume", "ticketing-prod/harbour-pin") // which whoever decides about it can
	if wrong := o.ok(t, "", "examine"); !strings.Contains(wrong, "as it was stored") {
		t.Errorf("examined: %s", wrong)
	}
	stop(t, o.process, o.end)
	o.start(t)
	o.ok(t, chesttest.Password+"\n", "sign-in", "steward")
	o.ok(t, "", "read", "ticketing-prod/harbour-pin") // it is not ended once more
}
