package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A file is filled with all of its values, or stays as it was.
func TestRenderFillsAFileOrLeavesItAsItWas(t *testing.T) {
	steward, chest := signedIn(t)
	chest.Fill(t, "gates", "pin", "4711-canary")
	chest.Fill(t, "gates-test", "pin", "0815-canary")
	u := asApp(t, steward, chest)
	steward.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "gates*/**")
	dir := t.TempDir()
	for name, content := range map[string]string{
		"gate.conf.in": "pin = tansu:gates/pin\n", "both.in": "a = tansu:./pin, b = tansu:gates/none\n",
		"own.in":     "pin: {{value \"pin\" | json}}\n",
		"tansu.yaml": "manifest: 1\ndrawers: { staging: gates-test }\nneeds: [{ variable: PIN, reference: pin }]\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	written := filepath.Join(dir, "out")
	check := func(want string) {
		t.Helper()
		if got, err := os.ReadFile(written); err != nil || string(got) != want {
			t.Errorf("got %q, %v; want %q", got, err, want)
		}
	}
	if r := u.in(t, dir, "", "render", "gate.conf.in", "--to", written); r.code != 0 || strings.Contains(r.out+r.talk, "canary") {
		t.Fatalf("%+v", r)
	}
	check("pin = 4711-canary\n")
	if r := u.in(t, dir, "", "render", "both.in", "--in", "staging", "--to", written); r.code != 3 || !strings.Contains(r.talk, "gates/none") {
		t.Errorf("with a missing value: %+v", r)
	}
	check("pin = 4711-canary\n")
	if r := u.in(t, dir, "", "render", "--template", "own.in", "--in", "staging", "--to", written, "--mode", "0440"); r.code != 0 {
		t.Errorf("a template: %+v", r)
	}
	check("pin: \"0815-canary\"\n")
	for _, c := range [][2]string{{"--mode 0444", "mode 0444"}, {"--mode rw", "octal"}, {"--template", "no value"},
		{"--in production", "no environment"}, {"--owner nobody-here", "no user"}} {
		if r := u.in(t, dir, "", append([]string{"render", "gate.conf.in", "--to", written}, strings.Fields(c[0])...)...); r.code != 2 ||
			!strings.Contains(r.talk, c[1]) {
			t.Errorf("%s: %+v", c[0], r)
		}
	}
	check("pin: \"0815-canary\"\n")
}
