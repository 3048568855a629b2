package render

import (
	"strings"
	"testing"

	"tansu/internal/core/reference"
)

// values are what a lookup finds, by reference.
var values = map[string]string{
	"ticketing-prod/db-password": `it's "$HOME" & more`, "ticketing-prod/tls#private_key": "-----BEGIN\nabc\n-----END",
	"gates/pin@3": "tansu:gates/other",
}

func lookup(ref reference.Reference) []byte { return []byte(values[ref.String()]) }

func TestTextsAreFilled(t *testing.T) {
	for _, c := range []struct {
		name, text, want string
		read             func([]byte, string) (*Text, error)
	}{
		{"placeholders", "a=tansu:ticketing-prod/db-password.\nb=<tansu:./tls#private_key>, tansu:gates/pin@3;",
			"a=it's \"$HOME\" & more.\nb=<-----BEGIN\nabc\n-----END>, tansu:gates/other;", Placeholders},
		{"what only looks like one", "tansu: x, xtansu:a/b, tansu:A/b tansu:./db-password",
			"tansu: x, xtansu:a/b, tansu:A/b it's \"$HOME\" & more", Placeholders},
		{"template", `{{value "db-password" | json}} {{value "ticketing-prod/db-password" | shell}} {{value "db-password" | url}} {{value "gates/pin@3" | base64}}`,
			`"it's \"$HOME\" & more" 'it'\''s "$HOME" & more' it%27s+%22%24HOME%22+%26+more dGFuc3U6Z2F0ZXMvb3RoZXI=`, Template},
		{"lines", "key: |\n  {{value \"tls#private_key\" | indent 2}}\n", "key: |\n  -----BEGIN\n  abc\n  -----END\n", Template},
		{"a loop", `{{range $i := 2}}{{$i}}{{end}}{{with $x := value "gates/pin@3"}}{{$x}}{{end}}`, "01tansu:gates/other", Template},
	} {
		text, err := c.read([]byte(c.text), "ticketing-prod")
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		got, err := text.Fill(lookup)
		if err != nil || string(got) != c.want {
			t.Errorf("%s: got %q, %v; want %q", c.name, got, err, c.want)
		}
	}
}

func TestTextsThatAskForNothingOrTheWrongThingAreRefused(t *testing.T) {
	for text, want := range map[string]string{
		"nothing":                    "no value",
		`{{value "Upper"}}`:          "names an item",
		`{{value}}`:                  "wrong number of args",
		`{{value "x"`:                "unclosed",
		`{{value "x" | other}}`:      "not defined",
		`{{value "x" | indent 999}}`: "0 to 200",
	} {
		if _, err := Template([]byte(text), "d"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("template %s: %v", text, err)
		}
	}
	if _, err := Template([]byte(`{{value "x"}}`), ""); err == nil || !strings.Contains(err.Error(), "no environment") {
		t.Errorf("no drawer: %v", err)
	}
	if _, err := Placeholders([]byte("a\ntansu:./x"), ""); err == nil || !strings.Contains(err.Error(), "line 2") {
		t.Errorf("no drawer: %v", err)
	}
}

// A template that works with values in a way that fails must not repeat them.
func TestNoErrorRepeatsAValue(t *testing.T) {
	values["d/secret"] = "CANARY"
	for _, text := range []string{`{{$x := value "d/secret"}}{{if $x}}{{value $x}}{{end}}`,
		`{{$x := value "d/secret"}}{{if $x}}{{index $x 99}}{{end}}`, `{{$x := value "d/secret"}}{{if $x}}{{value (print "d/" $x)}}{{end}}`} {
		parsed, err := Template([]byte(text), "d")
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		if out, err := parsed.Fill(lookup); err == nil || strings.Contains(err.Error(), "CANARY") || out != nil {
			t.Errorf("%s: %q, %v", text, out, err)
		}
	}
}
