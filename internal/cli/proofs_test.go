package cli_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/issuer"
)

// bareUser is somebody who has connected to a chest and is not signed in.
func bareUser(t *testing.T, chest *chesttest.Chest) user {
	t.Helper()
	u := user{t.TempDir()}
	u.ok(t, "", "connect", chest.URL(), "--authority", filepath.Join(chest.Dir, "chest", "authority.crt"))
	return u
}

// A host, a program with a key and a job of a pipeline get values with no secret stored anywhere.
func TestSigningInWithoutASecret(t *testing.T) {
	steward, chest := signedIn(t)
	chest.Fill(t, "d", "i", "a-value")
	chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	dir := t.TempDir()

	var code struct{ Secret string }
	decode(t, steward.ok(t, "", "app", "host-code", "ticket-api", "--network", "127.0.0.0/8", "-o", "json"), &code)
	host := bareUser(t, chest)
	if r := host.run(t, code.Secret+"\n", "enrol"); r.code != 0 || !strings.Contains(r.out, "This host is app:ticket-api") {
		t.Fatalf("enrol: %+v", r)
	}
	if r := host.run(t, "", "read", "d/i"); r.code != 0 || r.out != "a-value" {
		t.Errorf("read: %+v", r)
	}
	if r := bareUser(t, chest).run(t, code.Secret+"\n", "enrol"); r.code == 0 || !strings.Contains(r.talk, "used before") {
		t.Errorf("a second host: %+v", r)
	}

	private, _, err := client.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	key := filepath.Join(dir, "ticket-api.pem")
	if err := os.WriteFile(key, private, 0o644); err != nil {
		t.Fatal(err)
	}
	steward.ok(t, "", "app", "add-key", "ticket-api", "--file", key) // a private key: only its public half leaves
	program := bareUser(t, chest)
	if r := program.run(t, "", "sign-in", "app:ticket-api", "--key", key); r.code != 2 || !strings.Contains(r.talk, "open to others") {
		t.Errorf("with a key that others can read: %+v", r)
	}
	if err := os.Chmod(key, 0o600); err != nil {
		t.Fatal(err)
	}
	program.ok(t, "", "sign-in", "app:ticket-api", "--key", key)
	if r := program.run(t, "", "read", "d/i"); r.code != 0 || r.out != "a-value" {
		t.Errorf("read with a key: %+v", r)
	}

	var ci *issuer.StandIn
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { ci.ServeHTTP(w, r) }))
	defer server.Close()
	if ci, err = issuer.NewStandIn(server.URL); err != nil {
		t.Fatal(err)
	}
	steward.ok(t, "", "app", "add-issuer", "ticket-api", "--issuer", server.URL, "--audience", "tansu", "--claim", "sub=job:tickets",
		"--claim", "branch=main")
	token, err := ci.Token(map[string]any{"sub": "job:tickets", "branch": "main", "aud": "tansu"}, time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "token")
	if err := os.WriteFile(file, []byte(token+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	job := bareUser(t, chest)
	job.ok(t, "", "sign-in", "app:ticket-api", "--token-file", file)
	if r := job.run(t, "", "read", "d/i"); r.code != 0 || r.out != "a-value" {
		t.Errorf("read as a job: %+v", r)
	}
	shown := steward.ok(t, "", "app", "show", "ticket-api")
	for _, want := range []string{`code for a host, .*, used .* ago from 127\.0\.0\.1`, `SHA-256 [0-9a-f]{64}`,
		`for tansu, saying branch=main and sub=job:tickets`} {
		if !regexp.MustCompile(want).MatchString(shown) {
			t.Errorf("app show has no %q:\n%s", want, shown)
		}
	}
}

// A public key is taken in whatever form people have one, and signs the app in.
func TestPublicKeysInEveryForm(t *testing.T) {
	steward, _ := signedIn(t)
	steward.ok(t, "", "app", "add", "gate-controller")
	dir := t.TempDir()
	write := func(name string, content []byte) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, content, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	fresh := func() *ecdsa.PrivateKey {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		return key
	}
	der, err := x509.MarshalPKIXPublicKey(fresh().Public())
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	signer := fresh()
	certificate, err := x509.CreateCertificate(rand.Reader, template, template, signer.Public(), signer)
	if err != nil {
		t.Fatal(err)
	}
	forSSH, err := ssh.NewPublicKey(fresh().Public())
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string][]byte{"pem": pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}),
		"crt": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate}), "ssh": ssh.MarshalAuthorizedKey(forSSH)} {
		steward.ok(t, "", "app", "add-key", "gate-controller", "--file", write(name, content))
	}
	for name, content := range map[string]string{"cut": "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n",
		"ssh": "ssh-ed25519 AAAA", "no": "x"} {
		if r := steward.run(t, "", "app", "add-key", "gate-controller", "--file", write("bad", []byte(content))); r.code != 2 {
			t.Errorf("%s: %d %s", name, r.code, r.talk)
		}
	}
}

// The shell completes what whoever is signed in may list.
func TestReferencesAreCompleted(t *testing.T) {
	steward, chest := signedIn(t)
	chest.Fill(t, "gates", "radio-key", "v")
	chest.Fill(t, "gates", "ramp-login", "v")
	chest.Fill(t, "rota", "token", "v")
	for begun, want := range map[string]string{"g": "gates/\n:6\n", "gates/ra": "gates/radio-key\ngates/ramp-login\n:4\n", "none/x": ":4\n"} {
		if r := steward.run(t, "", "__complete", "read", begun); r.out != want {
			t.Errorf("%s: %q", begun, r.out)
		}
	}
	steward.ok(t, "", "app", "add", "ticket-api")
	for line, want := range map[string]string{"app show t": "ticket-api\n:4\n", "grant give app:t": "app:ticket-api\n:4\n",
		"grant give app:ticket-api cur": "curator\n:4\n", "grant give app:ticket-api consumer ga": "gates/**\n:4\n",
		"drawer show r": "rota\n:4\n", "list --profile d": "default\n:4\n", "trail --action read_v": "read_value\n:4\n",
		"item set-end gates/ra": "gates/radio-key\ngates/ramp-login\n:4\n"} {
		if r := steward.run(t, "", append([]string{"__complete"}, strings.Fields(line)...)...); r.out != want {
			t.Errorf("%s: %q", line, r.out)
		}
	}
	if r := bareUser(t, chest).run(t, "", "__complete", "read", "g"); r.out != ":4\n" && r.out != ":6\n" {
		t.Errorf("somebody who is not signed in: %+v", r)
	}
}
