package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tansu/internal/chesttest"
)

// Clients that other people's programs make of the description of the interface, in two languages, sign in, read, and hear why they were
// refused, without a line about how that is done.
func TestGeneratedClientsSignInAndRead(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "db-password", "thirty bytes are in this value")
	chest.Fill(t, "gates", "radio-key", "not for this app")
	secret, _ := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	secretFile := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secretFile, []byte(secret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	contract, err := filepath.Abs("../httpapi/openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	authority := filepath.Join(chest.Dir, "chest", "authority.crt")
	for language, build := range map[string]func(*testing.T, string) []string{"go": generatedGo, "typescript": generatedTypeScript} {
		t.Run(language, func(t *testing.T) {
			t.Setenv("OPENAPI", contract)
			program := build(t, contract)
			read := func(reference string) (out, talk string, err error) {
				var errs strings.Builder
				c := exec.Command(program[0], append(program[1:], reference)...)
				c.Env = append(os.Environ(), "TANSU_ADDRESS="+chest.URL(), "TANSU_APP=ticket-api", "TANSU_SECRET_FILE="+secretFile,
					"SSL_CERT_FILE="+authority, "NODE_EXTRA_CA_CERTS="+authority)
				c.Stderr = &errs
				text, err := c.Output()
				return string(text), errs.String(), err
			}
			if out, talk, err := read("ticketing-prod/db-password"); err != nil || out != "ticketing-prod/db-password@1 has 30 bytes\n" {
				t.Errorf("%q, %v: %s", out, err, talk)
			}
			if out, talk, err := read("gates/radio-key"); err == nil || !strings.Contains(talk, "receipt") || !strings.Contains(talk, "no grant") {
				t.Errorf("refused: %q, %v: %s", out, err, talk)
			}
		})
	}
}

// example copies an example to where things may be made of it.
func example(t *testing.T, name string) (dir, source string) {
	t.Helper()
	source, err := filepath.Abs(filepath.Join("../../examples/generated", name))
	if err != nil {
		t.Fatal(err)
	}
	dir = t.TempDir()
	files, err := os.ReadDir(source)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		if !f.Type().IsRegular() {
			continue
		}
		content, err := os.ReadFile(filepath.Join(source, f.Name()))
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, f.Name()), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir, source
}

func inDir(t *testing.T, dir, name string, arguments ...string) {
	t.Helper()
	c := exec.Command(name, arguments...)
	c.Dir = dir
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s %v: %v: %s", name, arguments, err, out)
	}
}

func generatedGo(t *testing.T, _ string) []string {
	t.Helper()
	dir, _ := example(t, "go")
	if err := os.Mkdir(filepath.Join(dir, "tansu"), 0o700); err != nil {
		t.Fatal(err)
	}
	inDir(t, dir, "go", "generate")
	inDir(t, dir, "go", "build", "-o", "read", ".")
	return []string{filepath.Join(dir, "read")}
}

func generatedTypeScript(t *testing.T, contract string) []string {
	t.Helper()
	dir, source := example(t, "typescript")
	if err := os.Symlink(filepath.Join(source, "node_modules"), filepath.Join(dir, "node_modules")); err != nil {
		t.Fatal(err)
	}
	inDir(t, dir, "node_modules/.bin/openapi-typescript", contract, "-o", "tansu.d.ts")
	inDir(t, dir, "node_modules/.bin/tsc")
	return []string{"node", filepath.Join(dir, "read.js")}
}
