package manifest

import (
	"errors"
	"strings"
	"testing"
)

const whole = `manifest: 1
app: ticket-api
drawers:
  production: ticketing-prod
  staging: ticketing-staging
needs:
  - variable: DB_PASSWORD
    reference: db-password
  - file: server.key
    variable: TLS_KEY_FILE
    reference: tls#private_key
  - stdin: true
    reference: tansu:harbour-gates-prod/pin@3
`

func TestTheEnvironmentChoosesTheDrawer(t *testing.T) {
	m, err := Read([]byte(whole))
	if err != nil {
		t.Fatal(err)
	}
	for environment, want := range map[string]string{"production": "ticketing-prod", "staging": "ticketing-staging"} {
		needs, err := m.For(environment)
		if err != nil {
			t.Fatal(err)
		}
		if got := needs[0].Reference.String() + " " + needs[1].Reference.String() + " " +
			needs[2].Reference.String(); got != want+"/db-password "+want+"/tls#private_key harbour-gates-prod/pin@3" {
			t.Errorf("%s: %s", environment, got)
		}
	}
	for _, environment := range []string{"", "test"} {
		if _, err := m.For(environment); err == nil || !strings.Contains(err.Error(), "production, staging") {
			t.Errorf("environment %q: %v", environment, err)
		}
	}
	written, err := Write(m)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := Read(written); err != nil || len(again.Needs) != 3 || again.Needs[1].File != "server.key" {
		t.Errorf("written and read again: %+v, %v", again, err)
	}
}

func TestWhatIsWrongIsSaidWithItsLine(t *testing.T) {
	need := func(lines string) string {
		return "manifest: 1\ndrawers: { staging: ticketing-staging }\nneeds:\n" + lines
	}
	for text, want := range map[string]string{
		"":                           "empty",
		"needs: []":                  "manifest: 1",
		need("  - { reference: a }"): "line 4: a: say how",
		need("  - { variable: A, reference: a }\n  - { variable: A, reference: b }"): "line 5: the variable A is there already, on " +
			"line 4",
		need("  - { file: x, reference: a }\n  - { file: x, reference: b }"):                 "the file x is there already",
		need("  - { stdin: true, reference: a }\n  - { stdin: true, reference: b }"):         "standard input is there already",
		need("  - { stdin: true, variable: A, reference: a }"):                               "cannot be a variable or a file as well",
		need("  - { variable: 1A, reference: a }"):                                           "cannot be the name of a variable",
		need("  - { variable: LD_PRELOAD, reference: a }"):                                   "decides what runs",
		need("  - { file: ../x, reference: a }"):                                             "without a directory",
		need("  - { file: x, mode: \"0644\", reference: a }"):                                "private file",
		need("  - { variable: A, mode: \"0400\", reference: a }"):                            "mode is for files",
		need("  - { variable: A, reference: \"a/b/c\" }"):                                    "reference",
		need("  - { variable: A, refrence: a }"):                                             "no \"refrence\"",
		need("  - just text"):                                                                "line 4",
		"manifest: 1\nneeds: [{ variable: A, reference: a }]":                                "has no drawer",
		"manifest: 1\ndrawers: { Live: x }\nneeds: [{ variable: A, reference: a }]":          "environment",
		"manifest: 1\nsecrets: {}\nneeds: [{ variable: A, reference: a }]":                   "secrets",
		"manifest: 1\nneeds: [{ variable: A, reference: d/a }]\n---\nmanifest: 1\n":          "second document",
		"manifest: 1\nneeds: [{ variable: A, reference: d/a, value: canary-in-a-manifest }]": "no \"value\"",
	} {
		_, err := Read([]byte(text))
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "canary") {
			t.Errorf("%q: got %v, want %q", text, err, want)
		}
	}
	_, err := Read([]byte(need("  - { variable: 1A, reference: a }\n  - { file: x/y, reference: b }")))
	var first Problem
	if !errors.As(err, &first) || strings.Count(err.Error(), "\n") != 1 {
		t.Errorf("two things are wrong: %v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(whole)
	f.Add("manifest: 1\nneeds: &a [*a]")
	f.Fuzz(func(t *testing.T, text string) {
		m, err := Read([]byte(text))
		if err != nil {
			return
		}
		written, err := Write(m)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Read(written); err != nil {
			t.Fatalf("%q is read, written as %q, and not read again: %v", text, written, err)
		}
	})
}
