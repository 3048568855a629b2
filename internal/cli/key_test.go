package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tansu/internal/chesttest"
)

// A key on the command line, from making it to moving what it encrypted under the next version; files hold what it signed and opened, and
// nothing holds the key.
func TestAKeyOnTheCommandLine(t *testing.T) {
	steward, chest := signedIn(t)
	steward.ok(t, "", "drawer", "add", "ticketing-prod", "--env", "production")
	secret, _ := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	app := user{t.TempDir()}
	app.ok(t, "", "connect", chest.URL(), "--authority", filepath.Join(chest.Dir, "chest", "authority.crt"))
	app.ok(t, secret+"\n", "sign-in", "app:ticket-api")
	dir := t.TempDir()
	file := func(name, content string) string {
		path := filepath.Join(dir, name)
		if content != "" {
			if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		return path
	}
	const signing, sealing = "ticketing-prod/boarding-pass-key", "ticketing-prod/passenger-data-key"
	if got := steward.ok(t, "", "key", "create", signing, "--type", "ed25519"); !strings.Contains(got, "never leaves the chest") {
		t.Errorf("made: %s", got)
	}
	steward.ok(t, "", "key", "create", sealing, "--type", "aes-256")
	if public := steward.ok(t, "", "key", "show", signing, "--public", "pem"); !strings.HasPrefix(public, "-----BEGIN PUBLIC KEY-----") {
		t.Errorf("its public half: %s", public)
	}

	message := file("pass.txt", "line 4, 07:10")
	if public := app.ok(t, "", "key", "show", signing, "--public", "jwk"); !strings.Contains(public, `"kid"`) { // who may use it may have it
		t.Errorf("the public half for an app: %s", public)
	}
	signature := file("pass.sig", app.ok(t, "", "key", "sign", signing, message))
	steward.ok(t, "", "key", "rotate", signing)
	if got := app.ok(t, "", "key", "verify", signing, message, "--signature", signature); !strings.Contains(got, "version 1") {
		t.Errorf("verified: %s", got)
	}
	if r := app.run(t, "line 4, 07:11", "key", "verify", signing, "--signature", signature); r.code != 3 {
		t.Errorf("another message: %d %s", r.code, r.talk)
	}

	// Whoever has the public half encrypts to it, without a chest and in any length, and by a KEM for when there are quantum computers.
	stranger := user{t.TempDir()}
	for kind, claims := range map[string]string{"ml-kem-768-x25519": "ticketing-prod/claims", "rsa-2048": "ticketing-prod/old-claims"} {
		steward.ok(t, "", "key", "create", claims, "--type", kind, "--for", "encrypt", "--for", "decrypt")
		public := file(filepath.Base(claims)+".jwk", app.ok(t, "", "key", "show", claims, "--public", "jwk"))
		for _, content := range []string{"cabin 4 was flooded", strings.Repeat("a long story\n", 100_000)} {
			sealed := file("claim", stranger.ok(t, content, "key", "encrypt", "--to", public, "--bound-to", "claim 7"))
			steward.ok(t, "", "key", "rotate", claims)
			if got := app.ok(t, "", "key", "decrypt", claims, sealed, "--bound-to", "claim 7"); got != content {
				t.Errorf("%s: %d bytes come back as %d", kind, len(content), len(got))
			}
		}
	}
	for wrong, code := range map[string]int{signature: 1, file("none.jwk", ""): 1, message: 1} {
		if r := stranger.run(t, "x", "key", "encrypt", "--to", wrong); r.code != code || r.out != "" {
			t.Errorf("to what is no public half: %d %s%s", r.code, r.out, r.talk)
		}
	}

	jwe := file("passport.jwe", app.ok(t, "passport 1", "key", "encrypt", sealing, "--bound-to", "booking 1"))
	steward.ok(t, "", "key", "rotate", sealing)
	opened := file("passport.txt", "")
	app.ok(t, "", "key", "decrypt", sealing, jwe, "--bound-to", "booking 1", "--out", opened)
	content, err := os.ReadFile(opened)
	about, _ := os.Stat(opened)
	if err != nil || string(content) != "passport 1" || about.Mode().Perm() != 0o600 {
		t.Errorf("decrypted: %q, %v, %v", content, about.Mode(), err)
	}
	if r := app.run(t, "", "key", "decrypt", sealing, jwe, "--bound-to", "booking 2"); r.code == 0 || r.out != "" ||
		!strings.Contains(r.talk, "cannot be decrypted with this key") {
		t.Errorf("bound to something else: %d %q %s", r.code, r.out, r.talk)
	}
	long := strings.Repeat("a voyage of nine ferries\n", 140_000)
	voyages, stream := file("voyages.tar", long), file("voyages.sealed", "")
	app.ok(t, "", "key", "encrypt", sealing, voyages, "--bound-to", "voyage 7", "--out", stream)
	if got := app.ok(t, "", "key", "decrypt", sealing, stream, "--bound-to", "voyage 7"); got != long {
		t.Errorf("a long file comes back with %d bytes of %d", len(got), len(long))
	}
	ciphertext, err := os.ReadFile(stream)
	if err != nil || strings.Contains(string(ciphertext), "ferries") {
		t.Fatalf("what was encrypted is in the file: %v", err)
	}
	ciphertext[len(ciphertext)-1] ^= 1
	broken, none := file("broken.sealed", string(ciphertext)), file("none.tar", "")
	if r := app.run(t, "", "key", "decrypt", sealing, broken, "--bound-to", "voyage 7", "--out", none); r.code == 0 ||
		!strings.Contains(r.talk, "not what was sealed") {
		t.Errorf("a changed end: %d %s", r.code, r.talk)
	}
	if _, err := os.Stat(none); err == nil {
		t.Error("there is a file of what was not genuine")
	}
	moved := app.ok(t, "", "key", "rewrap", sealing, jwe, "--bound-to", "booking 1")
	steward.ok(t, "", "key", "decrypt-from", sealing, "2")
	if r := app.run(t, "", "key", "decrypt", sealing, jwe, "--bound-to", "booking 1"); r.code == 0 {
		t.Errorf("an old version decrypts still: %q", r.out)
	}
	if got := app.ok(t, moved, "key", "decrypt", sealing, "--bound-to", "booking 1"); got != "passport 1" {
		t.Errorf("what was moved: %q", got)
	}
	users := steward.ok(t, "", "key", "users", sealing)
	for _, want := range []string{"1        app:ticket-api  encrypt     1", "2        app:ticket-api  decrypt     3"} {
		if !strings.Contains(users, want) {
			t.Errorf("who uses it: %q is not in\n%s", want, users)
		}
	}
	if r := app.run(t, "", "read", signing); r.code == 0 || !strings.Contains(r.talk, "never leaves the chest") {
		t.Errorf("read: %d %s %s", r.code, r.out, r.talk)
	}
	for _, wrong := range [][]string{{"key", "create", "ticketing-prod/x"}, {"key", "create", "ticketing-prod/x", "--type", "des"},
		{"key", "decrypt-from", sealing, "9"}, {"key", "rotate", "ticketing-prod/none"}, {"key", "show", signing, "--public", "der"}} {
		if r := steward.run(t, "", wrong...); r.code == 0 {
			t.Errorf("%q: %s", wrong, r.out)
		}
	}
}
