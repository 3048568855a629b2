package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Tokens as docs/tokens.md has them: the shop has one as itself, and what is not good is not taken.
func TestTokensOnTheCommandLine(t *testing.T) {
	steward, chest := signedIn(t)
	secret, _ := chest.App(t, "ticket-api")
	app := user{t.TempDir()}
	app.ok(t, "", "connect", chest.URL(), "--authority", filepath.Join(chest.Dir, "chest", "authority.crt"))
	app.ok(t, secret+"\n", "sign-in", "app:ticket-api")
	steward.ok(t, "", "drawer", "add", "ticketing-prod", "--env", "production")
	steward.ok(t, "", "key", "create", "ticketing-prod/pass-key", "--type", "ed25519")
	steward.ok(t, "", "jwt", "profile", "ticketing-prod/car-pass", "--key", "pass-key", "--issuer", "https://tickets.example",
		"--audiences", "gate-*", "--claim", "deck=car", "--claim", "deck=foot", "--always", "level=3", "--always", "island=north")
	pass := filepath.Join(t.TempDir(), "pass.jwt")
	issue := []string{"jwt", "issue", "ticketing-prod/car-pass", "--audience", "gate-3", "--claim", "deck=car", "--life", "5m"}
	r := app.run(t, "", issue...)
	if r.code != 3 || r.out != "" || !strings.Contains(r.talk, "tansu grant give app:ticket-api subscriber") {
		t.Errorf("without a grant: %d %s", r.code, r.talk)
	}
	steward.ok(t, "", "grant", "give", "app:ticket-api", "subscriber", "ticketing-prod/car-pass")
	steward.ok(t, "", "describe", "ticketing-prod", "--keys-open")
	app.ok(t, "", append(issue, "--out", pass)...)
	if r := app.run(t, "", append(issue, "--out", pass)...); r.code == 0 {
		t.Error("a file that is there is written over")
	}
	if about, err := os.Stat(pass); err != nil || about.Mode().Perm() != 0o600 {
		t.Errorf("the file of the token: %v %v", about, err)
	}
	said := app.ok(t, "", "jwt", "check", "ticketing-prod", pass, "--audience", "gate-3")
	for _, want := range []string{"app:ticket-api", "https://tickets.example", "car", "north"} {
		if !strings.Contains(said, want) {
			t.Errorf("it does not say %s: %s", want, said)
		}
	}
	token, err := os.ReadFile(pass)
	if err != nil {
		t.Fatal(err)
	}
	parts := strings.Split(string(token), ".")
	for what, text := range map[string]string{"another's signature": parts[0] + "." + parts[1] + "." + strings.Repeat("A", 86),
		"other claims": parts[0] + "." + "e30" + "." + parts[2], "no algorithm": "eyJhbGciOiJub25lIn0." + parts[1] + ".",
		"another text": "gate-3", "nothing": ""} {
		if r := app.run(t, text, "jwt", "check", "ticketing-prod"); r.code != 3 || r.out != "" || !strings.Contains(r.talk, "not good") {
			t.Errorf("%s: %d %s%s", what, r.code, r.out, r.talk)
		}
	}
	if r := app.run(t, string(token), "jwt", "check", "ticketing-prod", "--audience", "gate-4"); r.code != 3 {
		t.Errorf("for another gate: %d %s", r.code, r.talk)
	}
	if got := steward.ok(t, "", "key", "show", "ticketing-prod/pass-key"); !strings.Contains(got, "ticketing-prod/car-pass") {
		t.Errorf("the key does not say what it signs for others: %s", got)
	}
}
