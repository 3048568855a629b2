package httpapi_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/demo"
	"tansu/internal/server"
)

var ctx = context.Background()

func TestTheWholeStory(t *testing.T) {
	chest, err := demo.Start(demo.Options{Dir: t.TempDir(), Listen: "127.0.0.1:0", Version: "test"}, &demo.Clock{})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = chest.Stop() }()
	var told strings.Builder
	if err := demo.Tell(ctx, chest, &told); err != nil {
		t.Fatalf("%v\n%s", err, told.String())
	}
	for _, value := range []string{"first-made-up-value", "second-made-up-value"} {
		if strings.Contains(told.String(), value) {
			t.Error("the story prints a value")
		}
	}
}

// Every kind of bad input gets an error that names the field and the allowed form, and changes nothing.
func TestBadInputIsNamedAndChangesNothing(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "db-password", "value")
	long := strings.Repeat("a", 65)
	item := func(value string) string {
		return `{"name":"x","version":{"value":"` + value + `","encoding":"base64"}}`
	}
	const items, versions = "/api/drawers/ticketing-prod/items", "/api/drawers/ticketing-prod/items/db-password/versions"
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		code, field              string
	}{
		{"name with capitals", "POST", "/api/drawers", `{"name":"Ticketing","environment":"staging"}`, 400, "invalid_input", "name"},
		{"name too long", "POST", "/api/drawers", `{"name":"` + long + `","environment":"staging"}`, 400, "invalid_input", "name"},
		{"name empty", "POST", "/api/drawers", `{"name":"","environment":"staging"}`, 400, "invalid_input", "name"},
		{"name with dots", "POST", "/api/drawers", `{"name":"..","environment":"staging"}`, 400, "invalid_input", "name"},
		{"name with a control character", "POST", "/api/drawers", `{"name":"a\u0007b","environment":"staging"}`, 400, "invalid_input", "name"},
		{"name with a look-alike", "POST", "/api/drawers", `{"name":"tiсketing","environment":"staging"}`, 400, "invalid_input", "name"},
		{"unknown environment", "POST", "/api/drawers", `{"name":"a","environment":"prod"}`, 400, "invalid_input", "environment"},
		{"owner that does not exist", "POST", "/api/drawers", `{"name":"a","environment":"staging","owner":"person:nobody"}`, 400,
			"invalid_input", "owner"},
		{"description with a bidirectional override", "POST", "/api/drawers", `{"name":"a","environment":"staging","description":"a\u202eb"}`,
			400, "invalid_input", "description"},
		{"description with hidden text", "POST", "/api/drawers", `{"name":"a","environment":"staging","description":"a\udb40\udc61b"}`,
			400, "invalid_input", "description"},
		{"drawer that exists", "POST", "/api/drawers", `{"name":"ticketing-prod","environment":"staging"}`, 409, "exists", ""},
		{"not JSON", "POST", "/api/drawers", `{"name":`, 400, "invalid_input", ""},
		{"an array", "POST", "/api/drawers", `[]`, 400, "invalid_input", ""},
		{"two objects", "POST", "/api/drawers", `{"name":"a","environment":"staging"}{}`, 400, "invalid_input", ""},
		{"unknown field", "POST", "/api/drawers", `{"name":"a","environment":"staging","colour":"red"}`, 400, "invalid_input", "colour"},
		{"field in capitals", "POST", "/api/drawers", `{"Name":"a","environment":"staging"}`, 400, "invalid_input", "Name"},
		{"field twice", "POST", "/api/drawers", `{"name":"a","name":"b","environment":"staging"}`, 400, "invalid_input", "name"},
		{"wrong type", "POST", "/api/drawers", `{"name":7,"environment":"staging"}`, 400, "invalid_input", "name"},
		{"huge nesting", "POST", "/api/drawers", strings.Repeat(`{"a":`, 5000) + "1" + strings.Repeat("}", 5000), 413, "too_large", ""},
		{"deep nesting", "POST", "/api/drawers", strings.Repeat(`{"a":`, 50) + "1" + strings.Repeat("}", 50), 400, "invalid_input", ""},
		{"not UTF-8", "POST", "/api/drawers", "{\"name\":\"a\xff\",\"environment\":\"staging\"}", 400, "invalid_input", ""},
		{"value empty", "POST", items, item(""), 400, "invalid_input", "value"},
		{"value not base64", "POST", items, item("secret!"), 400, "invalid_input", "version.value"},
		{"value without padding", "POST", items, item("YQ"), 400, "invalid_input", "version.value"},
		{"value over the limit", "POST", items, item(strings.Repeat("AAAA", (256<<10)/3+1)), 413, "too_large", "value"},
		{"body far over the limit", "POST", items, item(strings.Repeat("AAAA", 200<<10)), 413, "too_large", ""},
		{"encoding missing", "POST", items, `{"name":"x","version":{"value":"YQ=="}}`, 400, "invalid_input", "version.encoding"},
		{"item that exists", "POST", items, `{"name":"db-password","version":{"value":"YQ==","encoding":"base64"}}`, 409, "exists", ""},
		{"window backwards", "POST", versions,
			`{"value":"YQ==","encoding":"base64","not_before":"2099-01-02T00:00:00Z","not_after":"2099-01-01T00:00:00Z"}`, 400, "invalid_input",
			"not_before"},
		{"end in the past", "POST", versions, `{"value":"YQ==","encoding":"base64","not_after":"2001-01-01T00:00:00Z"}`, 400, "invalid_input",
			"not_after"},
		{"time in another form", "POST", versions, `{"value":"YQ==","encoding":"base64","not_after":"tomorrow"}`, 400, "invalid_input", "time"},
		{"version of an item that is not there", "POST", "/api/drawers/ticketing-prod/items/none/versions",
			`{"value":"YQ==","encoding":"base64"}`, 404, "not_found", ""},
		{"change without a revision", "PATCH", "/api/drawers/ticketing-prod", `{"description":"x"}`, 428, "needs_revision", "If-Match"},
		{"role that does not exist", "POST", "/api/grants", `{"subject":"person:steward","role":"admin","scope":"**"}`, 400, "invalid_input",
			"role"},
		{"scope that is no pattern", "POST", "/api/grants", `{"subject":"person:steward","role":"viewer","scope":"a/b/c"}`, 400, "invalid_input",
			"scope"},
		{"subject that does not exist", "POST", "/api/grants", `{"subject":"person:stewart","role":"viewer","scope":"**"}`, 400, "invalid_input",
			"subject"},
		{"grant that ends in the past", "POST", "/api/grants",
			`{"subject":"person:steward","role":"viewer","scope":"**","not_after":"2001-01-01T00:00:00Z"}`, 400, "invalid_input", "not_after"},
		{"identity of an unknown kind", "POST", "/api/identities", `{"kind":"robot","name":"x"}`, 400, "invalid_input", "kind"},
		{"person that exists", "POST", "/api/identities", `{"kind":"person","name":"steward"}`, 409, "exists", ""},
		{"trail limit", "GET", "/api/trail?limit=5000", "", 400, "invalid_input", "limit"},
		{"trail cursor", "GET", "/api/trail?cursor=x", "", 400, "invalid_input", "cursor"},
		{"unknown query parameter", "GET", "/api/trail?colour=red", "", 400, "invalid_input", "colour"},
		{"route that does not exist", "GET", "/api/nothing", "", 404, "not_found", ""},
		{"method that does not exist", "PUT", "/api/drawers", `{}`, 405, "method_not_allowed", ""},
	} {
		before := contents(t, chest)
		answer := chest.Do(t, chesttest.Call{Method: c.method, Path: c.path, Body: c.body, Token: chest.Steward})
		if answer.Status != c.status || answer.Problem.Code != c.code || c.field != "" && answer.Problem.Field != c.field {
			t.Errorf("%s: got %d, code %q, field %q, %q; want %d, %q, %q", c.name, answer.Status, answer.Problem.Code, answer.Problem.Field,
				answer.Problem.Detail, c.status, c.code, c.field)
		}
		if after := contents(t, chest); after != before {
			t.Errorf("%s: the chest changed", c.name)
		}
	}
}

// contents is what the chest holds, as text to compare.
// whenSeen is what changes by merely looking.
var whenSeen = regexp.MustCompile(`"seen":\{[^}]*\}`)

func contents(t *testing.T, chest *chesttest.Chest) string {
	t.Helper()
	var all strings.Builder
	for _, path := range []string{"/api/drawers", "/api/drawers/ticketing-prod", "/api/drawers/ticketing-prod/items/db-password",
		"/api/identities", "/api/grants"} {
		answer := chest.Do(t, chesttest.Call{Method: "GET", Path: path, Token: chest.Steward})
		all.Write(whenSeen.ReplaceAll(answer.Body, nil))
	}
	return all.String()
}

func TestValuesComeBackByteForByte(t *testing.T) {
	chest := chesttest.Start(t)
	c := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "curator", Scope: "**"},
		chesttest.Grant{Role: "consumer", Scope: "**"}))
	if _, err := c.CreateDrawer(ctx, client.NewDrawer{Name: "d", Environment: "staging"}); err != nil {
		t.Fatal(err)
	}
	for name, value := range map[string]string{
		"zero-bytes": "a\x00b\x00", "newline": "line\n", "carriage-return": "line\r\n", "not-utf8": "\xff\xfe\x80", "one-byte": "x",
		"largest": strings.Repeat("\xaa", 256<<10), "json": `{"a":"\u0000"}`, "spaces": "  both sides  ",
	} {
		stored, err := c.CreateItem(ctx, "d", client.NewItem{Name: name, Version: client.Content([]byte(value))})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if stored.Version.EndsInNewline != strings.HasSuffix(value, "\n") || stored.Version.Size != len(value) {
			t.Errorf("%s: size %d, newline %v", name, stored.Version.Size, stored.Version.EndsInNewline)
		}
		got, _, err := c.Read(ctx, "d/"+name)
		if err != nil || string(got) != value {
			t.Errorf("%s: %d bytes came back, %d went in, %v", name, len(got), len(value), err)
		}
	}
}

func TestVersionsAndTheirWindows(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "one")
	steward := chest.Client(t, chest.Steward)
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	app := chest.Client(t, token)
	staged := client.Content([]byte("two"))
	staged.NotBefore, staged.NotAfter = chest.Clock.Now().Add(10*time.Minute), chest.Clock.Now().Add(20*time.Minute)
	if _, err := steward.AddVersion(ctx, "d", "i", 0, staged); err != nil {
		t.Fatal(err)
	}
	read := func(reference string) string {
		content, version, err := app.Read(ctx, reference)
		if err != nil {
			return chesttest.Code(err)
		}
		return fmt.Sprintf("%s@%d", content, version)
	}
	for _, c := range []struct {
		after           time.Duration
		current, second string
	}{
		{0, "one@1", "not_servable"},
		{15 * time.Minute, "two@2", "two@2"},
		{25 * time.Minute, "one@1", "not_servable"},
	} {
		chest.Clock.Set(-c.after)
		if got := read("d/i"); got != c.current {
			t.Errorf("after %s the current one: got %s, want %s", c.after, got, c.current)
		}
		if got := read("d/i@2"); got != c.second {
			t.Errorf("after %s version 2: got %s, want %s", c.after, got, c.second)
		}
	}
	if got := read("d/i@3"); got != "not_found" {
		t.Errorf("a version that does not exist: got %s", got)
	}
}

func TestConcurrentWritersLoseNothing(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "first")
	c := chest.Client(t, chest.Steward)
	const writers = 20
	var wg sync.WaitGroup
	conflicts := make(chan error, writers)
	for n := range writers {
		wg.Go(func() {
			if _, err := c.AddVersion(ctx, "d", "i", 0, client.Content(fmt.Append(nil, n))); err != nil {
				t.Errorf("a writer who asked for no revision: %v", err)
			}
			_, err := c.AddVersion(ctx, "d", "i", 1, client.Content([]byte("stale")))
			conflicts <- err
		})
	}
	wg.Wait()
	close(conflicts)
	for err := range conflicts {
		if chesttest.Code(err) != "stale" {
			t.Errorf("a writer with an old revision: got %v, want stale", err)
		}
	}
	history, err := c.History(ctx, "d", "i")
	if err != nil || len(history.Versions) != 1+writers {
		t.Errorf("%d versions, want %d, %v", len(history.Versions), 1+writers, err)
	}
}

func TestStaleIfMatchChangesNothing(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	call := chesttest.Call{Method: "PATCH", Path: "/api/drawers/d/items/i", Token: chest.Steward, Body: `{"description":"first"}`,
		Header: map[string]string{"If-Match": `"r1"`}}
	if first := chest.Do(t, call); first.Status != 200 || first.Header.Get("ETag") != `"r2"` {
		t.Fatalf("got %d with ETag %s", first.Status, first.Header.Get("ETag"))
	}
	call.Body = `{"description":"second"}`
	if second := chest.Do(t, call); second.Status != 412 || second.Problem.Code != "stale" {
		t.Errorf("got %d %s, want 412 stale", second.Status, second.Problem.Code)
	}
	for _, bad := range []string{"r1", `W/"r1"`, `"rx"`, `"r0"`} {
		call.Header["If-Match"] = bad
		if answer := chest.Do(t, call); answer.Status != 400 || answer.Problem.Field != "If-Match" {
			t.Errorf("If-Match %s: got %d %s", bad, answer.Status, answer.Problem.Code)
		}
	}
	history, err := chest.Client(t, chest.Steward).History(ctx, "d", "i")
	if err != nil || history.Item.Description != "first" {
		t.Errorf("the description is %q, %v", history.Item.Description, err)
	}
}

// Somebody without a grant must not be able to tell what exists from any answer.
func TestRefusalDoesNotTellWhatExists(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "fuel-billing-prod", "ledger", "v")
	_, token := chest.App(t, "gate-controller")
	normal := func(a chesttest.Answer, name string) string {
		p := a.Problem
		p.RequestID, p.Receipt = "", ""
		text := fmt.Sprintf("%d %+v %+v", a.Status, p, p.Remedy)
		return strings.NewReplacer(name, "NAME", fmt.Sprintf("%p", p.Remedy), "").Replace(text)
	}
	for _, form := range []struct{ method, there, missing string }{
		{"GET", "/api/values/fuel-billing-prod/ledger", "/api/values/fuel-billing-prod/nothin"},
		{"GET", "/api/values/fuel-billing-prod/ledger@1", "/api/values/fuel-billing-prod/ledger@9"},
		{"GET", "/api/drawers/fuel-billing-prod/items/ledger", "/api/drawers/fuel-billing-prod/items/nothin"},
		{"GET", "/api/drawers/fuel-billing-prod", "/api/drawers/fuel-billing-pr0d"},
	} {
		var texts []string
		for _, path := range []string{form.there, form.missing} {
			answer := chest.Do(t, chesttest.Call{Method: form.method, Path: path, Token: token})
			if answer.Status != 403 {
				t.Errorf("%s: got %d", path, answer.Status)
			}
			name, _, _ := strings.Cut(path[strings.LastIndex(path, "/")+1:], "@")
			answer.Problem.Remedy = nil // it repeats the name that was asked for
			texts = append(texts, normal(answer, name))
		}
		if texts[0] != texts[1] {
			t.Errorf("what exists is answered with\n%s\nwhat does not with\n%s", texts[0], texts[1])
		}
	}
}

func TestTokensThatProveNothing(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	secret, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	_, other := chest.App(t, "rota-sync")
	read := func(token string) chesttest.Answer {
		return chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/values/d/i", Token: token})
	}
	if read(token).Status != 200 {
		t.Fatal("a good token does not read")
	}
	swapped := token[:30] + other[30:]
	for what, bad := range map[string]string{"cut": token[:len(token)-3], "swapped halves": swapped, "the secret itself": secret, "empty": "",
		"nonsense": "x"} {
		if answer := read(bad); answer.Status != 401 || answer.Header.Get("WWW-Authenticate") == "" {
			t.Errorf("%s: got %d", what, answer.Status)
		}
	}
	if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/values/d/i",
		Header: map[string]string{"Authorization": "Basic " + token}}); answer.Status != 401 {
		t.Errorf("another scheme: got %d", answer.Status)
	}
	chest.Clock.Set(-61 * time.Minute)
	if answer := read(token); answer.Status != 401 || answer.Problem.Reason != "token_ended" {
		t.Errorf("after its end: got %d %s", answer.Status, answer.Problem.Reason)
	}
	chest.Steward = chest.SignIn(t, "steward")
	fresh, _, err := chest.Client(t, "").AppToken(ctx, "ticket-api", secret)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := chest.Client(t, chest.Steward).SetState(ctx, "app:ticket-api", "suspended"); err != nil {
		t.Fatal(err)
	}
	if answer := read(fresh); answer.Status != 401 || answer.Problem.Reason != "identity_suspended" {
		t.Errorf("of a suspended app: got %d %s", answer.Status, answer.Problem.Reason)
	}
	page, err := chest.Client(t, chest.Steward).Trail(ctx, client.TrailFilter{Action: "authenticate", Subject: "app:ticket-api"})
	if err != nil || len(page.Entries) != 2 || page.Entries[0].Reason != "identity_suspended" {
		t.Errorf("whose tokens those were is not in the trail: %+v, %v", page.Entries, err)
	}
	if _, _, err := chest.Client(t, "").AppToken(ctx, "ticket-api", secret); chesttest.Code(err) != "invalid_client" {
		t.Errorf("a suspended app gets a new token: %v", err)
	}
}

func TestRevokedCredentialTakesItsTokensAlong(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	oldSecret, oldToken := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	steward := chest.Client(t, chest.Steward)
	issued, err := steward.IssueCredential(ctx, "app:ticket-api", client.NewCredential{})
	if err != nil {
		t.Fatal(err)
	}
	newToken, _, err := chest.Client(t, "").AppToken(ctx, "ticket-api", issued.Secret)
	if err != nil {
		t.Fatal(err)
	}
	identity, err := steward.Identity(ctx, "app:ticket-api")
	if err != nil || len(identity.Credentials) != 2 {
		t.Fatalf("%d credentials, %v", len(identity.Credentials), err)
	}
	for _, cr := range identity.Credentials {
		if cr.ID != issued.ID {
			if err := steward.RevokeCredential(ctx, "app:ticket-api", cr.ID); err != nil {
				t.Fatal(err)
			}
		}
	}
	if _, _, err := chest.Client(t, oldToken).Read(ctx, "d/i"); chesttest.Code(err) != "unauthenticated" {
		t.Errorf("the old token: %v", err)
	}
	if _, _, err := chest.Client(t, "").AppToken(ctx, "ticket-api", oldSecret); chesttest.Code(err) != "invalid_client" {
		t.Errorf("the old secret: %v", err)
	}
	if _, _, err := chest.Client(t, newToken).Read(ctx, "d/i"); err != nil {
		t.Errorf("the new token: %v", err)
	}
}

// curl is a client that we did not write: it gets a token by RFC 6749, reads, and revokes by RFC 7009.
func TestAnAppNeedsNothingButCurl(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "from curl")
	secret, _ := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	authority := t.TempDir() + "/authority.crt"
	pem, err := chest.Authority()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(authority, pem, 0o600); err != nil {
		t.Fatal(err)
	}
	curl := func(config string, arguments ...string) string {
		t.Helper()
		command := exec.Command("curl", append([]string{"--silent", "--show-error", "--cacert", authority, "--config", "-"}, arguments...)...)
		command.Stdin = strings.NewReader(config) // so that no secret is an argument
		out, err := command.CombinedOutput()
		if err != nil {
			t.Fatalf("curl: %v: %s", err, out)
		}
		return string(out)
	}
	var answer struct {
		Token string `json:"access_token"`
	}
	if err := json.Unmarshal([]byte(curl(`user = "ticket-api:`+secret+`"`, "--data", "grant_type=client_credentials",
		chest.URL()+"/api/oauth/token")), &answer); err != nil {
		t.Fatal(err)
	}
	bearer := `header = "Authorization: Bearer ` + answer.Token + `"`
	if got := curl(bearer, "--header", "Accept: application/octet-stream", chest.URL()+"/api/values/d/i"); got != "from curl" {
		t.Errorf("read %q", got)
	}
	curl(`user = "ticket-api:`+secret+`"`+"\n"+`data = "token=`+answer.Token+`"`, "--fail", chest.URL()+"/api/oauth/revoke")
	if got := curl(bearer, "--write-out", "%{http_code}", "--output", os.DevNull, chest.URL()+"/api/values/d/i"); got != "401" {
		t.Errorf("after revocation: got %s", got)
	}
}

func TestTokenEndpointSpeaksOAuth(t *testing.T) {
	chest := chesttest.Start(t)
	secret, _ := chest.App(t, "ticket-api")
	for _, c := range []struct {
		name, body, kind string
		status           int
		code             string
	}{
		{"another grant type", "grant_type=password", "application/x-www-form-urlencoded", 400, "unsupported_grant_type"},
		{"wrong secret", "grant_type=client_credentials&client_id=ticket-api&client_secret=x", "application/x-www-form-urlencoded", 401,
			"invalid_client"},
		{"unknown app", "grant_type=client_credentials&client_id=nobody&client_secret=" + secret, "application/x-www-form-urlencoded", 401,
			"invalid_client"},
		{"parameter twice", "grant_type=client_credentials&grant_type=client_credentials", "application/x-www-form-urlencoded", 400,
			"invalid_request"},
		{"JSON", `{"grant_type":"client_credentials"}`, "application/json", 400, "invalid_request"},
	} {
		answer := chest.Do(t, chesttest.Call{Method: "POST", Path: "/api/oauth/token", Body: c.body,
			Header: map[string]string{"Content-Type": c.kind}})
		if answer.Status != c.status || !strings.Contains(string(answer.Body), `"`+c.code+`"`) ||
			answer.Header.Get("Cache-Control") != "no-store" {
			t.Errorf("%s: got %d %s", c.name, answer.Status, answer.Body)
		}
	}
	form := url.Values{"grant_type": {"client_credentials"}}.Encode()
	query := "?client_id=ticket-api&client_secret=" + url.QueryEscape(secret)
	if answer := chest.Do(t, chesttest.Call{Method: "POST", Path: "/api/oauth/token" + query, Body: form,
		Header: map[string]string{"Content-Type": "application/x-www-form-urlencoded"}}); answer.Status != 401 {
		t.Errorf("a secret in the URL is taken: %d", answer.Status)
	}
}

func TestLockedChestServesNothing(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	steward := chest.Client(t, chest.Steward)
	if _, err := chest.Client(t, token).Lock(ctx); chesttest.Code(err) != "refused" {
		t.Errorf("an app may lock: %v", err)
	}
	if _, err := steward.Lock(ctx); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/api/values/d/i", "/api/drawers", "/api/me", "/api/trail", "/api/ready"} {
		if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: path, Token: token}); answer.Status != 503 ||
			answer.Problem.Code != "locked" {
			t.Errorf("%s: got %d %s", path, answer.Status, answer.Problem.Code)
		}
	}
	if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/health"}); answer.Status != 200 {
		t.Errorf("health: got %d", answer.Status)
	}
	if _, err := steward.Unlock(ctx, "wrong"); chesttest.Code(err) != "wrong_material" {
		t.Errorf("wrong material: %v", err)
	}
	material, err := os.ReadFile(chest.Dir + "/unlock.key")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := steward.Unlock(ctx, string(material)); err != nil {
		t.Fatal(err)
	}
	if got, _, err := chest.Client(t, token).Read(ctx, "d/i"); err != nil || string(got) != "v" {
		t.Errorf("after unlocking: %q, %v", got, err)
	}
	if _, err := steward.Unlock(ctx, string(material)); chesttest.Code(err) != "already_unlocked" {
		t.Errorf("unlocked twice: %v", err)
	}
}

func TestGatekeeperCannotWidenTheirOwnAccess(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	gate := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	narrow := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "gatekeeper", Scope: "ticketing-*/**"}))
	if _, err := steward.Register(ctx, client.NewIdentity{Kind: "app", Name: "own-app", Owner: "person:security-duty"}); err != nil {
		t.Fatal(err)
	}
	denial, err := steward.Give(ctx, client.NewGrant{Subject: "person:security-duty", Role: "consumer", Scope: "**", Effect: "deny"})
	if err != nil {
		t.Fatal(err)
	}
	for what, attempt := range map[string]func() error{
		"give to oneself": func() error {
			_, err := gate.Give(ctx, client.NewGrant{Subject: "person:security-duty", Role: "consumer", Scope: "**"})
			return err
		},
		"give to an app one owns": func() error {
			_, err := gate.Give(ctx, client.NewGrant{Subject: "app:own-app", Role: "consumer", Scope: "**"})
			return err
		},
		"make a steward": func() error {
			_, err := gate.Give(ctx, client.NewGrant{Subject: "person:ticketing-lead", Role: "steward", Scope: "**"})
			return err
		},
		"end one's own denial": func() error { _, err := gate.EndGrant(ctx, denial.Grant.ID); return err },
		"a code for somebody with a password": func() error {
			_, err := gate.IssueCredential(ctx, "person:steward", client.NewCredential{})
			return err
		},
		"a code for oneself": func() error {
			_, err := gate.IssueCredential(ctx, "person:security-duty", client.NewCredential{})
			return err
		},
		"give outside one's scope": func() error {
			_, err := narrow.Give(ctx, client.NewGrant{Subject: "person:security-duty", Role: "viewer", Scope: "**"})
			return err
		},
		"end outside one's scope": func() error { _, err := narrow.EndGrant(ctx, denial.Grant.ID); return err },
		"register without the chest": func() error {
			_, err := narrow.Register(ctx, client.NewIdentity{Kind: "app", Name: "x"})
			return err
		},
	} {
		if err := attempt(); chesttest.Code(err) != "refused" {
			t.Errorf("%s: got %v, want a refusal", what, err)
		}
	}
	if _, err := narrow.Give(ctx, client.NewGrant{Subject: "person:security-duty", Role: "viewer", Scope: "ticketing-prod/**"}); err != nil {
		t.Errorf("inside one's scope: %v", err)
	}
	page, err := steward.Trail(ctx, client.TrailFilter{Outcome: "refused"})
	if err != nil || len(page.Entries) != 9 {
		t.Errorf("%d refusals are in the trail, want 9, %v", len(page.Entries), err)
	}
}

func TestGrantIsOutOfForceFromItsEnd(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	_, token := chest.App(t, "ticket-api")
	app, steward := chest.Client(t, token), chest.Client(t, chest.Steward)
	given, err := steward.Give(ctx, client.NewGrant{Subject: "app:ticket-api", Role: "consumer", Scope: "d/i"})
	if err != nil || !given.Grant.InForce {
		t.Fatalf("%+v, %v", given, err)
	}
	if _, _, err := app.Read(ctx, "d/i"); err != nil {
		t.Fatal(err)
	}
	if _, err := steward.EndGrant(ctx, given.Grant.ID); err != nil {
		t.Fatal(err)
	}
	if _, _, err := app.Read(ctx, "d/i"); chesttest.Code(err) != "refused" {
		t.Errorf("after somebody ended it: %v", err)
	}
	_, err = steward.Give(ctx, client.NewGrant{Subject: "app:ticket-api", Role: "consumer", Scope: "d/i",
		NotAfter: chest.Clock.Now().Add(10 * time.Minute)})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := app.Read(ctx, "d/i"); err != nil {
		t.Errorf("before its end: %v", err)
	}
	chest.Clock.Set(-11 * time.Minute)
	var problem *client.Problem
	if _, _, err := app.Read(ctx, "d/i"); !errors.As(err, &problem) || problem.Reason != "grant_ended" {
		t.Errorf("after its end: %v", err)
	}
}

func TestAuditorSeesOnlyTheirScope(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "i", "v")
	chest.Fill(t, "fuel-billing-prod", "i", "v")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/**"})
	app := chest.Client(t, token)
	_, _, _ = app.Read(ctx, "ticketing-prod/i")
	_, _, _ = app.Read(ctx, "fuel-billing-prod/i")
	narrow := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "auditor", Scope: "ticketing-prod/**"}))
	page, err := narrow.Trail(ctx, client.TrailFilter{Limit: 500})
	if err != nil || len(page.Entries) == 0 {
		t.Fatalf("%d entries, %v", len(page.Entries), err)
	}
	for _, e := range page.Entries {
		if !strings.HasPrefix(e.Target, "ticketing-prod") {
			t.Errorf("entry %d about %q is shown", e.Seq, e.Target)
		}
	}
	if _, err := app.Trail(ctx, client.TrailFilter{}); chesttest.Code(err) != "refused" {
		t.Errorf("an app reads the trail: %v", err)
	}
}

func TestReceiptIsForThoseConcerned(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	_, token := chest.App(t, "ticket-api")
	_, stranger := chest.App(t, "rota-sync")
	refused := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/values/d/i", Token: token})
	path := "/api/receipts/" + refused.Problem.Receipt
	for who, c := range map[string]struct {
		token  string
		status int
	}{"the one refused": {token, 200}, "a stranger": {stranger, 404}, "a gatekeeper": {chest.Steward, 200}} {
		if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: path, Token: c.token}); answer.Status != c.status {
			t.Errorf("%s: got %d, want %d", who, answer.Status, c.status)
		}
	}
	missing := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/receipts/aaaaaaaaaa", Token: stranger})
	hidden := chest.Do(t, chesttest.Call{Method: "GET", Path: path, Token: stranger})
	if strings.ReplaceAll(missing.Problem.Detail, "aaaaaaaaaa", refused.Problem.Receipt) != hidden.Problem.Detail {
		t.Errorf("a hidden receipt differs from a missing one: %q, %q", hidden.Problem.Detail, missing.Problem.Detail)
	}
}

// A stranger who guesses passwords is slowed down, and does not lock the owner out.
func TestGuessingPasswordsLocksNobodyOut(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Person(t, "ticketing-lead")
	c := chest.Client(t, "")
	known, err := c.SignIn(ctx, "ticketing-lead", chesttest.Password, "")
	if err != nil {
		t.Fatal(err)
	}
	var codes []string
	for range 8 {
		_, err := c.SignIn(ctx, "ticketing-lead", "a guess that is wrong", "")
		codes = append(codes, chesttest.Code(err))
	}
	if codes[0] != "sign_in_failed" || codes[7] != "throttled" {
		t.Errorf("guesses were answered with %v", codes)
	}
	if _, err := c.SignIn(ctx, "ticketing-lead", chesttest.Password, ""); chesttest.Code(err) != "throttled" {
		t.Errorf("the guesser's next try, with the right password: %v", err)
	}
	if _, err := c.SignIn(ctx, "ticketing-lead", chesttest.Password, known.Device); err != nil {
		t.Errorf("the owner from a known device: %v", err)
	}
	if _, err := c.SignIn(ctx, "ticketing-lead", chesttest.Password,
		known.Device[:20]+"A"+known.Device[21:]); chesttest.Code(err) != "throttled" {
		t.Errorf("a forged device mark: %v", err)
	}
	answer := chest.Do(t, chesttest.Call{Method: "POST", Path: "/api/sign-in",
		Body: `{"person":"ticketing-lead","password":"x","session":"token"}`})
	if answer.Status != 429 || answer.Header.Get("Retry-After") == "" {
		t.Errorf("got %d, Retry-After %q", answer.Status, answer.Header.Get("Retry-After"))
	}
	chest.Clock.Set(-11 * time.Minute)
	if _, err := c.SignIn(ctx, "ticketing-lead", chesttest.Password, ""); err != nil {
		t.Errorf("later: %v", err)
	}
}

func TestUnknownPersonIsAnsweredLikeAWrongPassword(t *testing.T) {
	chest := chesttest.Start(t)
	sign := func(person string) string {
		answer := chest.Do(t, chesttest.Call{Method: "POST", Path: "/api/sign-in", Body: `{"person":"` + person +
			`","password":"not the password","session":"token"}`})
		answer.Problem.RequestID = ""
		return fmt.Sprintf("%d %+v", answer.Status, answer.Problem)
	}
	if known, unknown := sign("steward"), sign("my-secret-typed-in-the-wrong-field"); known != unknown {
		t.Errorf("known: %s\nunknown: %s", known, unknown)
	}
	page, err := chest.Client(t, chest.Steward).Trail(ctx, client.TrailFilter{Action: "sign_in", Outcome: "refused"})
	if err != nil || len(page.Entries) != 2 {
		t.Fatalf("%d entries, %v", len(page.Entries), err)
	}
	if page.Entries[0].Subject != "unknown" || page.Entries[1].Subject != "person:steward" {
		t.Errorf("the trail names %q and %q", page.Entries[0].Subject, page.Entries[1].Subject)
	}
}

func TestConsoleSessionCannotBeUsedFromAnotherOrigin(t *testing.T) {
	chest := chesttest.StartIn(t, t.TempDir()+"/d", server.PlainHTTP, 0)
	signIn := chesttest.Call{Method: "POST", Path: "/api/sign-in", Body: `{"person":"steward","password":"` + chesttest.Password +
		`","session":"cookie"}`}
	answer := chest.Do(t, signIn)
	cookie, err := http.ParseSetCookie(answer.Header.Get("Set-Cookie"))
	if err != nil || !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode || strings.Contains(string(answer.Body), cookie.Value) {
		t.Fatalf("cookie %+v, %v, body %s", cookie, err, answer.Body)
	}
	session := cookie.Name + "=" + cookie.Value
	for what, c := range map[string]struct {
		method string
		header map[string]string
		status int
	}{
		"the page itself":                 {"POST", map[string]string{"Sec-Fetch-Site": "same-origin"}, 400},
		"a program without a browser":     {"GET", map[string]string{}, 200},
		"another site":                    {"POST", map[string]string{"Sec-Fetch-Site": "cross-site"}, 403},
		"another port of the host":        {"GET", map[string]string{"Sec-Fetch-Site": "same-site"}, 403},
		"an old browser on another site":  {"POST", map[string]string{"Origin": "https://evil.test"}, 403},
		"another site, reading a listing": {"GET", map[string]string{"Sec-Fetch-Site": "cross-site"}, 403},
		"a page of the same person":       {"GET", map[string]string{"Tansu-Page-Of": "person:steward"}, 200},
		"a page of somebody else":         {"GET", map[string]string{"Tansu-Page-Of": "person:ticketing-lead"}, 409},
	} {
		c.header["Cookie"] = session
		call := chesttest.Call{Method: c.method, Path: "/api/drawers", Header: c.header}
		if c.method == "POST" {
			call.Body = `{}`
		}
		if got := chest.Do(t, call); got.Status != c.status {
			t.Errorf("%s: got %d %s, want %d", what, got.Status, got.Problem.Code, c.status)
		}
	}
	live := chesttest.Call{Method: "GET", Path: "/api/trail/watch?q=&page_of=person:ticketing-lead",
		Header: map[string]string{"Cookie": session}}
	if got := chest.Do(t, live); got.Status != 409 || got.Problem.Code != "other_session" {
		t.Errorf("the live view of a page of somebody else: %d %s", got.Status, got.Body)
	}
	signIn.Header = map[string]string{"Sec-Fetch-Site": "cross-site"}
	if got := chest.Do(t, signIn); got.Status != 403 {
		t.Errorf("another site signs somebody in: %d", got.Status)
	}
}

func TestAnswersAreNotCachedAndCarryTheRequest(t *testing.T) {
	chest := chesttest.Start(t)
	const trace = "4bf92f3577b34da6a3ce929d0e0e4736"
	answer := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/me", Token: chest.Steward,
		Header: map[string]string{"Traceparent": "00-" + trace + "-00f067aa0ba902b7-01"}})
	if answer.Header.Get("Cache-Control") != "no-store" || answer.Header.Get("Request-Id") != trace {
		t.Errorf("got %v", answer.Header)
	}
	chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/drawers", Token: chest.Steward,
		Header: map[string]string{"Traceparent": "00-" + trace + "-00f067aa0ba902b7-01"}})
	page, err := chest.Client(t, chest.Steward).Trail(ctx, client.TrailFilter{RequestID: trace})
	if err != nil || len(page.Entries) != 1 || page.Entries[0].Action != "list_drawers" {
		t.Errorf("under the trace: %+v, %v", page.Entries, err)
	}
	if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/openapi.yaml"}); answer.Status != 200 ||
		!strings.HasPrefix(string(answer.Body), "openapi: 3.1.0") {
		t.Errorf("the contract: %d", answer.Status)
	}
}

func TestTrailPagesWithoutGapsOrRepeats(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	c := chest.Client(t, chest.Steward)
	for range 25 {
		if _, err := c.History(ctx, "d", "i"); err != nil {
			t.Fatal(err)
		}
	}
	filter := client.TrailFilter{Target: "d/i", Limit: 7}
	var last uint64
	total := 0
	for {
		page, err := c.Trail(ctx, filter)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range page.Entries {
			if last != 0 && e.Seq >= last {
				t.Fatalf("entry %d after %d", e.Seq, last)
			}
			last = e.Seq
			total++
		}
		if filter.Cursor = page.NextCursor; filter.Cursor == "" {
			break
		}
	}
	if total != 26 { // the item's creation, and 25 looks at it
		t.Errorf("got %d entries, want 26", total)
	}
}

// A browser that is left open is signed out by itself, and one that is used is not; signing out clears what it keeps.
func TestConsoleSessionEndsByIdleness(t *testing.T) {
	chest := chesttest.StartIn(t, t.TempDir()+"/d", server.PlainHTTP, 0)
	signIn := chesttest.Call{Method: "POST", Path: "/api/sign-in", Body: `{"person":"steward","password":"` + chesttest.Password +
		`","session":"cookie"}`}
	cookie, err := http.ParseSetCookie(chest.Do(t, signIn).Header.Get("Set-Cookie"))
	if err != nil {
		t.Fatal(err)
	}
	ask := func(method, path string) chesttest.Answer {
		t.Helper()
		return chest.Do(t, chesttest.Call{Method: method, Path: path, Header: map[string]string{"Cookie": cookie.Name + "=" + cookie.Value,
			"Sec-Fetch-Site": "same-origin"}})
	}
	for n, at := range []time.Duration{59 * time.Minute, 117 * time.Minute, 176 * time.Minute} {
		chest.Clock.Set(-at)
		if got := ask("GET", "/api/drawers"); got.Status != 200 {
			t.Fatalf("use %d: %d %s", n, got.Status, got.Problem.Detail)
		}
	}
	token := chest.SignIn(t, "steward") // on the command line
	chest.Clock.Set(-237 * time.Minute)
	if got := ask("GET", "/api/drawers"); got.Status != 401 || !strings.Contains(got.Problem.Detail, "not used for an hour") {
		t.Errorf("after an hour and a minute: %d %s", got.Status, got.Problem.Detail)
	}
	if _, err := chest.Client(t, token).Drawers(ctx); err != nil {
		t.Errorf("a session of the command line: %v", err)
	}
	cookie, err = http.ParseSetCookie(chest.Do(t, signIn).Header.Get("Set-Cookie"))
	if err != nil {
		t.Fatal(err)
	}
	if got := ask("POST", "/api/sign-out"); got.Status != 204 || !strings.Contains(got.Header.Get("Clear-Site-Data"), "storage") {
		t.Errorf("signing out: %d, %q", got.Status, got.Header.Get("Clear-Site-Data"))
	}
}

// What is asked for and does not exist is an error that names what does: that nothing was found would be taken for an answer.
func TestFiltersAndAddressesThatMeanNothingAreErrors(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	steward := chest.Client(t, chest.Steward)
	for query, hint := range map[string]string{"outcome:maybe": "allowed, refused, failed", "action:read_valu": "read_value",
		"action:foo": "there is no", "subject:ap:ticket-api": "app", "outcom:refused": "outcome", "-action:sgn_in": "sign_in"} {
		_, err := steward.Trail(ctx, client.TrailFilter{Query: query})
		if chesttest.Code(err) != "invalid_input" || !strings.Contains(err.Error(), hint) {
			t.Errorf("trail %s: %v", query, err)
		}
	}
	for what, f := range map[string]client.TrailFilter{"outcome": {Outcome: "maybe"}, "action": {Action: "foo"},
		"subject": {Subject: "ticket-api"}} {
		if _, err := steward.Trail(ctx, f); chesttest.Code(err) != "invalid_input" || err.(*client.Problem).Field != what {
			t.Errorf("trail by %s: %v", what, err)
		}
	}
	// A name of nobody and of nothing, to whoever may read the whole trail; to others it would tell which names there are.
	chest.App(t, "ticket-api")
	for what, f := range map[string]client.TrailFilter{"did you mean app:ticket-api?": {Subject: "app:ticket-apy"},
		"did you mean ticketing-prod?": {Target: "ticketing-prob/db-password"}, "there is no person:nobody": {Subject: "person:nobody"}} {
		if _, err := steward.Trail(ctx, f); chesttest.Code(err) != "not_found" || !strings.Contains(err.Error(), what) {
			t.Errorf("trail, %s: %v", what, err)
		}
	}
	reader := chest.Client(t, chest.Person(t, "audit-desk", chesttest.Grant{Role: "auditor", Scope: "ticketing-prod/**"}))
	for _, f := range []client.TrailFilter{{Subject: "app:ticket-apy"}, {Subject: "app:ticket-api"}} {
		if page, err := reader.Trail(ctx, f); err != nil || len(page.Entries) > 0 {
			t.Errorf("to an auditor of one drawer: %+v, %v", page.Entries, err)
		}
	}
	must[client.Registered](t)(steward.Register(ctx, client.NewIdentity{Kind: "app", Name: "gate-controller"}))
	if page, err := steward.Trail(ctx, client.TrailFilter{Subject: "app:gate-controller"}); err != nil || len(page.Entries) > 0 {
		t.Errorf("an app that did nothing yet: %+v, %v", page.Entries, err)
	}
	for query, hint := range map[string]string{"state:foo": "usable", "state:usabel": "usable", "environment:prod": "production",
		"shape:logn": "login", "stat:usable": "state", "read:always": "never"} {
		if _, err := steward.Search(ctx, query, ""); chesttest.Code(err) != "invalid_input" || !strings.Contains(err.Error(), hint) {
			t.Errorf("search %s: %v", query, err)
		}
	}
	for _, query := range []string{"state:us*", "-state:ended", "drawer:nothing"} {
		if _, err := steward.Search(ctx, query, ""); err != nil {
			t.Errorf("search %s: %v", query, err)
		}
	}
	for path, want := range map[string]struct {
		status int
		says   string
	}{
		"/api/grants?subjekt=app:x":       {400, "did you mean subject?"},
		"/api/grants?limit=1&limit=2":     {400, "more than once"},
		"/api/identities/person:x?kind=a": {400, "no query parameters"},
		"/api/search?q=%zz":               {400, "not encoded"},
		"/api/nothing":                    {404, "no such route"},
		"/values/ticketing-prod/db":       {404, ""},
		"//api/values/ticketing-prod/db":  {404, ""},
	} {
		answer := chest.Do(t, chesttest.Call{Method: "GET", Path: path, Token: chest.Steward})
		if answer.Status != want.status || !strings.Contains(string(answer.Body), want.says) || strings.Contains(string(answer.Body), "<html") {
			t.Errorf("%s: %d %s", path, answer.Status, answer.Body)
		}
		if strings.HasPrefix(path, "/api/") && answer.Header.Get("Request-Id") == "" {
			t.Errorf("%s: no request id", path)
		}
	}
	anything := chest.Do(t, chesttest.Call{Method: "PATCH", Path: "/api/drawers/ticketing-prod", Token: chest.Steward,
		Body: `{"description":"x"}`, Header: map[string]string{"If-Match": "*", "Content-Type": "application/json"}})
	if anything.Status != 200 {
		t.Errorf("If-Match: *: %d %s", anything.Status, anything.Body)
	}
	answer := chest.Do(t, chesttest.Call{Method: "PATCH", Path: "/api/grants", Token: chest.Steward})
	if answer.Status != 405 || answer.Header.Get("Allow") != "GET, HEAD, POST" || answer.Header.Get("Request-Id") == "" {
		t.Errorf("a method that is not there: %d %v", answer.Status, answer.Header)
	}
	answer = chest.Do(t, chesttest.Call{Method: "HEAD", Path: "/api/drawers", Token: chest.Steward})
	if answer.Status != 200 || len(answer.Body) > 0 {
		t.Errorf("HEAD: %d %s", answer.Status, answer.Body)
	}
	if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: "/drawers/ticketing-prod/db-password"}); answer.Status != 200 {
		t.Errorf("a page of the console: %d", answer.Status)
	}
}
