package cli_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode"

	"tansu/internal/chesttest"
	"tansu/internal/server"
)

// hostile is what somebody writes who wants a second line in a log, a coloured terminal, a text that reads the other way around, and
// an element in a page.
const hostile = "a\r\nlevel=ERROR msg=forged\x1b[31m\u202e\u2066\u0085\x00<img src=x onerror=alert(1)>"

// harmless reports the first thing in a text that a terminal or a reader of lines would act upon.
func harmless(text string) error {
	for i, r := range text {
		if r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r)) {
			return fmt.Errorf("%U at %d, after %q", r, i, text[max(0, i-60):i])
		}
	}
	if strings.Contains(text, "\nlevel=ERROR msg=forged") {
		return errors.New("what was put in stands on a line of its own")
	}
	return nil
}

// Whatever users put into any field, nothing of it acts in the chest's log, in a file with the trail, in an answer or on a terminal.
func TestWhatUsersSayActsNowhere(t *testing.T) {
	steward, chest := signedIn(t)
	file := filepath.Join(t.TempDir(), "trail.jsonl")
	if err := chest.Reopen(t, func(o *server.Options) { o.Outlets = []string{"file:" + file} }); err != nil {
		t.Fatal(err)
	}
	steward.ok(t, "", "connect", chest.URL(), "--authority", filepath.Join(chest.Dir, "chest", "authority.crt"))
	steward.ok(t, chesttest.Password+"\n", "sign-in", "steward")
	chest.Fill(t, "d", "i", "v")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	person := chest.SignIn(t, "steward")
	quoted, err := json.Marshal(hostile)
	if err != nil {
		t.Fatal(err)
	}
	inHeader := strings.NewReplacer("\r", "", "\n", "", "\x00", "", "\x1b", "").Replace(hostile) // what HTTP lets through
	form := map[string]string{"Content-Type": "application/x-www-form-urlencoded"}
	for name, call := range map[string]chesttest.Call{
		"a person": {Method: "POST", Path: "/api/sign-in", Body: `{"person":` + string(quoted) + `,"password":"no","session":"token"}`},
		"an app": {Method: "POST", Path: "/api/oauth/token", Header: form,
			Body: "grant_type=client_credentials&client_secret=x&client_id=" + url.QueryEscape(hostile)},
		"an assertion": {Method: "POST", Path: "/api/oauth/token", Header: form,
			Body: "grant_type=client_credentials&client_assertion_type=urn:ietf:params:oauth:client-assertion-type:jwt-bearer&client_assertion=" +
				url.QueryEscape(hostile)},
		"a kind of grant": {Method: "POST", Path: "/api/oauth/token", Header: form, Body: "grant_type=" + url.QueryEscape(hostile)},
		"a token":         {Method: "GET", Path: "/api/me", Header: map[string]string{"Authorization": "Bearer " + inHeader}},
		"a reason":        {Method: "GET", Path: "/api/values/d/i", Token: token, Header: map[string]string{"Tansu-Reason": inHeader}},
		"a trace": {Method: "GET", Path: "/api/values/d/i", Token: token,
			Header: map[string]string{"Traceparent": inHeader, "X-Forwarded-For": inHeader, "User-Agent": inHeader}},
		"a path":     {Method: "GET", Path: "/api/values/" + url.PathEscape(hostile) + "/" + url.PathEscape(hostile), Token: token},
		"a field":    {Method: "GET", Path: "/api/values/d/i?field=" + url.QueryEscape(hostile), Token: token},
		"references": {Method: "POST", Path: "/api/values", Token: token, Body: `{"references":[` + string(quoted) + `]}`},
		"a manifest": {Method: "POST", Path: "/api/manifest", Token: token, Body: `{"text":` + string(quoted) + `}`},
		"a read kept": {Method: "POST", Path: "/api/reads", Token: token, Body: `{"host":` + string(quoted) +
			`,"reads":[{"number":1,"reference":"d/i","version":1,"at":"2026-11-23T08:00:00Z","by":` + string(quoted) + `}]}`},
		"by whom": {Method: "POST", Path: "/api/reads", Token: token,
			Body: `{"host":"gate-house","reads":[{"number":1,"reference":"d/i","version":1,"at":"2026-11-23T08:00:00Z","by":` + string(quoted) +
				`}]}`},
		"a drawer": {Method: "POST", Path: "/api/drawers", Token: person, Body: `{"name":` + string(quoted) + `,"environment":"staging"}`},
		"a description": {Method: "POST", Path: "/api/drawers", Token: person, Body: `{"name":"e","environment":"staging","description":` +
			string(quoted) + `}`},
		"a label": {Method: "POST", Path: "/api/drawers", Token: person, Body: `{"name":"e","environment":"staging","labels":{"team":` +
			string(quoted) + `}}`},
		"a note": {Method: "POST", Path: "/api/drawers/d/items/i/versions", Token: person,
			Body: `{"value":"YQ==","encoding":"base64","note":` + string(quoted) + `}`},
		"a grant": {Method: "POST", Path: "/api/grants", Token: person, Body: `{"subject":"app:ticket-api","role":` + string(quoted) +
			`,"scope":` + string(quoted) + `,"reason":` + string(quoted) + `}`},
		"an identity": {Method: "POST", Path: "/api/identities", Token: person, Body: `{"kind":"app","name":"x","description":` +
			string(quoted) + `}`},
		"a search":       {Method: "GET", Path: "/api/search?q=" + url.QueryEscape(hostile), Token: person},
		"a receipt":      {Method: "GET", Path: "/api/receipts/" + url.PathEscape(hostile), Token: person},
		"a trail filter": {Method: "GET", Path: "/api/trail?subject=" + url.QueryEscape(hostile), Token: person},
	} {
		answer := chest.Do(t, call)
		if kind := answer.Header.Get("Content-Type"); kind != "application/json" && kind != "application/problem+json" {
			t.Errorf("%s: the answer is %s", name, kind)
		}
		if err := harmless(answer.Problem.Detail); err != nil {
			t.Errorf("%s: the answer says %v", name, err)
		}
		for header, values := range answer.Header {
			if err := harmless(strings.Join(values, " ")); err != nil {
				t.Errorf("%s: the header %s: %v", name, header, err)
			}
		}
	}
	for _, arguments := range [][]string{
		{"read", hostile[:20]}, {"drawer", "add", strings.ReplaceAll(hostile, "\x00", "")},
		{"trail", "--target", strings.ReplaceAll(hostile, "\x00", "")}, {"receipt", strings.ReplaceAll(hostile, "\x00", "")},
	} {
		if r := steward.run(t, "", arguments...); r.code == 0 && arguments[0] != "trail" || harmless(r.out+r.talk) != nil {
			t.Errorf("%q: %v in %q", arguments, harmless(r.out+r.talk), r.out+r.talk)
		}
	}
	for _, arguments := range [][]string{{"trail", "--limit", "500"}, {"trail", "unusual"}, {"refusals"}, {"status"}} {
		if err := harmless(steward.ok(t, "", arguments...)); err != nil {
			t.Errorf("tansu %s: %v", strings.Join(arguments, " "), err)
		}
	}
	if err := chest.Stop(); err != nil { // so that the file has everything
		t.Fatal(err)
	}
	passed, err := os.ReadFile(file)
	if err != nil || len(passed) == 0 {
		t.Fatalf("%d bytes in the file, %v", len(passed), err)
	}
	for name, text := range map[string]string{"the log": chest.Log.String(), "the file with the trail": string(passed)} {
		if err := harmless(text); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}
