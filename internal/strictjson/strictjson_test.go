package strictjson

import (
	"encoding/json"
	"errors"
	"net/http/httptest"
	"strings"
	"testing"

	"tansu/client"
	"tansu/internal/chest"
)

func decodeText(body string, into any) error {
	request := httptest.NewRequest("POST", "/", strings.NewReader(body))
	request.Header.Set("Content-Type", "application/json; charset=utf-8")
	read, err := Read(httptest.NewRecorder(), request, 16<<10)
	if err != nil {
		return err
	}
	return Decode(read, into)
}

// An error about a body must never repeat what the body holds: it may be a value in the wrong place.
func TestDecodeErrorsDoNotRepeatTheBody(t *testing.T) {
	const canary = "canary-in-the-body"
	for _, body := range []string{
		canary, `{"name":` + canary + `}`, `{"name":["` + canary + `"]}`, `{"version":"` + canary + `"}`, `{"name":"x"}` + canary, `["` +
			canary + `"]`,
		`{"version":{"value":"x","not_after":"` + canary + `"}}`, `{"name":"` + canary,
	} {
		err := decodeText(body, &client.NewItem{})
		var known *chest.Error
		if !errors.As(err, &known) || strings.Contains(known.Detail+known.Field, canary) {
			t.Errorf("%s: got %v", body, err)
		}
	}
}

// encoding/json takes "ſ" for "s" and the sign of the kelvin for "k": a name that only looks like a field's is no field.
func TestNamesOfFieldsAreExact(t *testing.T) {
	for _, body := range []string{`{"reference\u017f":["d/i"]}`, `{"referenceſ":["d/i"]}`, `{"References":["d/i"]}`} {
		var into struct {
			References []string `json:"references"`
		}
		if err := decodeText(body, &into); err == nil {
			t.Errorf("%s was taken", body)
		}
	}
}

// Whatever passes means the same to every JSON reader: one object, each field once, in lower case.
func FuzzDecodeIsStrict(f *testing.F) {
	for _, seed := range []string{`{"name":"a"}`, `{"name":"a","name":"b"}`, `{"Name":"a"}`, `{"a":{"a":[1,{"b":2}]}}`, `{}{}`,
		`{"name":"\u0000"}`, "{\"name\":\"\xff\"}"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, body string) {
		var first client.NewDrawer
		if decodeText(body, &first) != nil {
			return
		}
		var loose map[string]any
		if err := json.Unmarshal([]byte(body), &loose); err != nil {
			t.Fatalf("%q passes and is not JSON: %v", body, err)
		}
		for name := range loose {
			if name != strings.ToLower(name) {
				t.Fatalf("%q passes with the field %q", body, name)
			}
		}
		if text, _ := loose["name"].(string); text != first.Name {
			t.Fatalf("%q is read as %q and as %q", body, first.Name, text)
		}
	})
}
