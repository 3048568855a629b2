package manifest

import (
	"slices"
	"strings"
	"testing"
)

// What one environment's file has and another's has not does not break the other, in either order.
func TestAdoptingTwoEnvironmentsBreaksNeither(t *testing.T) {
	m := Manifest{Version: 1}
	adopt := func(environment string, entries ...Entry) []string {
		t.Helper()
		notes, err := m.Adopt(environment, "ticketing-"+environment, entries)
		if err != nil {
			t.Fatal(err)
		}
		written, err := Write(m)
		if err != nil {
			t.Fatal(err)
		}
		if m, err = Read(written); err != nil { // as the next call has it
			t.Fatalf("%v\n%s", err, written)
		}
		return notes
	}
	in := func(environment string) string {
		t.Helper()
		needs, err := m.For(environment)
		if err != nil {
			t.Fatal(err)
		}
		var list []string
		for _, n := range needs {
			list = append(list, n.Variable)
		}
		for _, c := range m.ConstantsIn(environment) {
			list = append(list, c.Variable+"="+c.Value)
		}
		slices.Sort(list)
		return strings.Join(list, " ")
	}
	secret := func(name string) Entry { return Entry{Variable: name, Reference: strings.ToLower(name)} }
	plain := func(name, value string) Entry { return Entry{Variable: name, Plain: true, Value: value} }
	adopt("staging", secret("DB_PASSWORD"), secret("MAIL_TOKEN"), plain("LEVEL", "debug"), plain("REGION", "north"))
	if got := in("staging"); got != "DB_PASSWORD LEVEL=debug MAIL_TOKEN REGION=north" {
		t.Error(got)
	}
	notes := adopt("production", secret("DB_PASSWORD"), secret("FUEL_KEY"), plain("LEVEL", "warn"), plain("REGION", "north"))
	for range 2 { // done again, it changes nothing
		if got := in("staging"); got != "DB_PASSWORD LEVEL=debug MAIL_TOKEN REGION=north" {
			t.Error(got)
		}
		if got := in("production"); got != "DB_PASSWORD FUEL_KEY LEVEL=warn REGION=north" {
			t.Error(got)
		}
		adopt("production", secret("DB_PASSWORD"), secret("FUEL_KEY"), plain("LEVEL", "warn"), plain("REGION", "north"))
	}
	if len(notes) != 2 || len(m.Needs) != 3 || len(m.Constants) != 3 {
		t.Errorf("%q, %+v", notes, m)
	}
	adopt("staging", plain("LEVEL", "info"))
	if got := in("staging") + "; " + in("production"); !strings.Contains(got, "LEVEL=info") || !strings.Contains(got, "LEVEL=warn") {
		t.Errorf("a constant that is changed in one environment: %s", got)
	}
	if _, err := m.Adopt("staging", "elsewhere", nil); err == nil {
		t.Error("an environment gets another drawer without a word")
	}
}

func TestWhatIsOnlyForAnEnvironmentThatIsNotThere(t *testing.T) {
	const needs = "needs: [{variable: A, reference: a"
	for text, want := range map[string]string{
		needs + ", only: [live]}]":                                                              "no environment \"live\"",
		needs + ", only: [staging]}, {variable: A, reference: b}]":                              "there already",
		needs + "}]\nconstants: [{variable: A, value: x}]":                                      "there already",
		needs + "}]\nconstants: [{variable: LD_PRELOAD, value: x}]":                             "decides what runs",
		needs + ", only: [staging]}]\nconstants: [{variable: A, value: x, only: [production]}]": "",
	} {
		_, err := Read([]byte("manifest: 1\ndrawers: {staging: s, production: p}\n" + text))
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v", text, err)
		}
	}
}
