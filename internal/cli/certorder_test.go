package cli_test

import (
	"path/filepath"
	"strings"
	"testing"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/server"
)

// A certificate is ordered from an authority outside by one command, and again when it is due and not before; what is wrong is said.
func TestACertificateIsOrderedOnTheCommandLine(t *testing.T) {
	proof := chesttest.Port(t)
	outside := chesttest.Start(t)
	if err := outside.Reopen(t, func(o *server.Options) { o.ACMEHTTPPort = proof.Port }); err != nil {
		t.Fatal(err)
	}
	them := outside.Client(t, outside.Steward)
	outside.Fill(t, "gates", "secret", "v")
	outside.App(t, "ferries", chesttest.Grant{Role: "subscriber", Scope: "gates/server"})
	binding, err := them.IssueCredential(t.Context(), "app:ferries", client.NewCredential{Kind: "acme"})
	if err != nil {
		t.Fatal(err)
	}
	authority := client.NewAuthority{Name: "authority", Subject: "Outside", Life: "365d"}
	if _, err := them.CreateAuthority(t.Context(), "gates", authority); err != nil {
		t.Fatal(err)
	}
	their := user{t.TempDir()}
	their.ok(t, "", "connect", outside.URL(), "--authority", filepath.Join(outside.Dir, "chest", "authority.crt"))
	their.ok(t, chesttest.Password+"\n", "sign-in", "steward")
	their.ok(t, "", "authority", "profile", "gates/server", "--authority", "authority", "--networks", "127.0.0.0/8", "--longest", "90d")

	steward, _ := signedIn(t)
	steward.ok(t, "", "drawer", "add", "web", "--env", "production")
	steward.ok(t, "", "grant", "give", "person:steward", "consumer", "web/**")
	steward.ok(t, "", "key", "create", "web/account", "--type", "ecdsa-p256")
	steward.ok(t, binding.Secret, "put", "web/binding", "--shape", "login", "--plain", "user="+binding.ID, "--field", "password")
	order := []string{"cert", "order", "web/site", "--from", outside.URL() + "/acme/gates/server/directory", "--account", "web/account",
		"--binding", "web/binding", "--authority-file", filepath.Join(outside.Dir, "chest", "authority.crt")}
	for what, c := range map[string]struct {
		more []string
		code int
		says string
	}{
		"without a way":   {[]string{"--names", "127.0.0.1"}, 2, "in one way"},
		"without names":   {[]string{"--http-on", proof.String()}, 2, "--names"},
		"with two ways":   {[]string{"--names", "127.0.0.1", "--http-on", ":80", "--tls-on", ":443"}, 2, "in one way"},
		"for another one": {[]string{"--names", "tickets.ferries.example", "--http-on", proof.String()}, 1, "none of the names"},
	} {
		if r := steward.run(t, "", append(order, c.more...)...); r.code != c.code || !strings.Contains(r.talk, c.says) {
			t.Errorf("%s: %d %s", what, r.code, r.talk)
		}
	}
	order = append(order, "--names", "127.0.0.1", "--http-on", proof.String(), "--if-due")
	if got := steward.ok(t, "", order...); !strings.Contains(got, "127.0.0.1") {
		t.Errorf("ordered: %s", got)
	}
	r := steward.run(t, "", order...)
	if r.code != 0 || !strings.Contains(r.talk, "not due") {
		t.Errorf("ordered again at once: %d %s%s", r.code, r.out, r.talk)
	}
	if got := steward.ok(t, "", "cert", "show", "web/site"); !strings.Contains(got, "CN=Outside") {
		t.Errorf("it is: %s", got)
	}
}
