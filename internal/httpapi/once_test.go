package httpapi_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
)

// once asks for something under a key.
func once(t *testing.T, chest *chesttest.Chest, token, path, key, body string) chesttest.Answer {
	t.Helper()
	return chest.Do(t, chesttest.Call{Method: http.MethodPost, Path: path, Token: token, Body: body,
		Header: map[string]string{"Idempotency-Key": key}})
}

// Who asks again under the same key hears the same, and nothing is done again: for a while with the answer, as it was, and for a day,
// whatever became of the service, that it was done. A key is its caller's own, and for one request.
func TestWhatIsAskedForOnceIsDoneOnce(t *testing.T) {
	chest := chesttest.Start(t)
	chest.App(t, "ticket-api")
	steward := chest.Client(t, chest.Steward)
	grants := func() (n int) {
		for _, g := range must[[]client.Grant](t)(steward.Grants(ctx, "app:ticket-api")) {
			if g.Subject == "app:ticket-api" {
				n++
			}
		}
		return n
	}
	const path, key = "/api/grants", `"7c1b6c6e-4d0a-4bd0-9f0e-9f2f0c0a7b11"`
	body := `{"subject": "app:ticket-api", "role": "viewer", "scope": "gates/*"}`
	refused := once(t, chest, chest.Steward, path, key, `{"subject": "app:nobody", "role": "viewer", "scope": "gates/*"}`)
	if refused.Status < 400 {
		t.Fatalf("a grant to nobody: %d %s", refused.Status, refused.Body)
	}
	first := once(t, chest, chest.Steward, path, key, body) // the key was not used up by what was refused
	again := once(t, chest, chest.Steward, path, strings.Trim(key, `"`), body)
	if first.Status != http.StatusCreated || again.Status != first.Status || !bytes.Equal(again.Body, first.Body) || grants() != 1 {
		t.Errorf("%d %s, then %d %s; there are %d grants", first.Status, first.Body, again.Status, again.Body, grants())
	}
	if first.Header.Get("Tansu-Answered-Before") != "" || again.Header.Get("Tansu-Answered-Before") != "true" {
		t.Errorf("replayed: %q, then %q", first.Header.Get("Tansu-Answered-Before"), again.Header.Get("Tansu-Answered-Before"))
	}
	for what, c := range map[string]struct {
		path, key, body string
		status          int
		code            string
	}{
		"another request":     {path, key, strings.Replace(body, "viewer", "consumer", 1), 422, "key_reused"},
		"another route":       {"/api/roles", key, `{"name": "looker", "description": "", "actions": ["list"]}`, 422, "key_reused"},
		"a short key":         {path, "1234567", body, 400, "invalid_input"},
		"a key with a space":  {path, "12345678 9", body, 400, "invalid_input"},
		"a route of no use":   {"/api/values", "12345678", `{"references": ["d/i"]}`, 400, "invalid_input"},
		"half of a quotation": {path, `"12345678`, body, 400, "invalid_input"},
	} {
		if got := once(t, chest, chest.Steward, c.path, c.key, c.body); got.Status != c.status || !strings.Contains(string(got.Body), c.code) {
			t.Errorf("%s: %d %s", what, got.Status, got.Body)
		}
	}
	other := chest.Person(t, "harbour-master", chesttest.Grant{Role: "gatekeeper", Scope: "**"})
	if got := once(t, chest, other, path, key, body); got.Status != http.StatusCreated || grants() != 2 {
		t.Errorf("the same key of somebody else: %d %s", got.Status, got.Body)
	}
	// A secret that is shown once is shown again to whoever asks for it again, and to nobody else.
	const secretKey = "a-key-for-a-credential"
	const credentials = "/api/identities/app:ticket-api/credentials"
	issued := once(t, chest, chest.Steward, credentials, secretKey, `{}`)
	if same := once(t, chest, chest.Steward, credentials, secretKey, `{}`); issued.Status != http.StatusCreated ||
		!bytes.Equal(same.Body, issued.Body) {
		t.Errorf("a credential: %d %s, then %s", issued.Status, issued.Body, same.Body)
	}
	if page := must[client.TrailPage](t)(steward.Trail(ctx, client.TrailFilter{Action: "answer_again"})); len(page.Entries) != 2 ||
		!strings.Contains(page.Entries[0].Detail, issued.Header.Get("Request-Id")) {
		t.Errorf("of what was answered again the trail has %+v", page.Entries)
	}
	// Twenty at once are one.
	var made, waiting atomic.Int64
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			switch got := once(t, chest, chest.Steward, path, "twenty-at-once", body); {
			case got.Status == http.StatusCreated && got.Header.Get("Tansu-Answered-Before") == "":
				made.Add(1)
			case got.Status == http.StatusConflict && strings.Contains(string(got.Body), "in_progress"):
				waiting.Add(1)
			case got.Status != http.StatusCreated:
				t.Errorf("one of twenty: %d %s", got.Status, got.Body)
			}
		})
	}
	wg.Wait()
	if made.Load() != 1 || grants() != 3 {
		t.Errorf("%d of twenty were made, %d were told to wait; there are %d grants", made.Load(), waiting.Load(), grants())
	}
	chest.Restart(t)
	fresh := chest.SignIn(t, "steward")
	if got := once(t, chest, fresh, path, key, body); got.Status != http.StatusConflict || got.Problem.Code != "done_before" ||
		!strings.Contains(string(got.Body), first.Header.Get("Request-Id")) {
		t.Errorf("after a restart: %d %s", got.Status, got.Body)
	}
	chest.Clock.Set(-25 * time.Hour)
	chest.Service.Upkeep()
	fresh = chest.SignIn(t, "steward")
	if got := once(t, chest, fresh, path, key, body); got.Status != http.StatusCreated {
		t.Errorf("a day later: %d %s", got.Status, got.Body)
	}
}

// Each route that takes a key does once what it is asked twice, and gives the same answer, also where it makes several things at once.
func TestEveryRouteThatMakesSomethingAnswersAgain(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "gates", "radio-key", "v")
	chest.App(t, "ticket-api")
	lead := chest.Person(t, "ticketing-lead")
	given := must[client.Given](t)(chest.Client(t, chest.Steward).Give(ctx,
		client.NewGrant{Subject: "person:ticketing-lead", Role: "viewer", Scope: "gates/*"}))
	if _, _, err := chest.Client(t, lead).Read(ctx, "gates/radio-key"); chesttest.Code(err) != "refused" {
		t.Fatal(err)
	}
	asked := func(reason string) string {
		r, err := chest.Client(t, lead).AskFor(ctx, client.NewRequest{Reason: reason,
			Grant: &client.NewGrant{Subject: "person:ticketing-lead", Role: "consumer", Scope: "gates/radio-key"}})
		if err != nil {
			t.Fatal(err)
		}
		return r.ID
	}
	version := `{"value": "dg==", "encoding": "base64"}`
	for n, c := range []struct{ token, path, body string }{
		{chest.Steward, "/api/drawers", `{"name": "berths", "environment": "staging"}`},
		{chest.Steward, "/api/drawers/gates/items", `{"name": "ramp-key", "version": ` + version + `}`},
		{chest.Steward, "/api/drawers/gates/items/radio-key/versions", version},
		{chest.Steward, "/api/identities", `{"kind": "person", "name": "harbour-master"}`},
		{chest.Steward, "/api/identities", `{"kind": "app", "name": "gate-controller"}`},
		{chest.Steward, "/api/identities/app:ticket-api/credentials", `{}`},
		{chest.Steward, "/api/roles", `{"name": "looker", "actions": ["list"]}`},
		{chest.Steward, "/api/grants", `{"subject": "app:ticket-api", "role": "viewer", "scope": "berths/*"}`},
		{chest.Steward, "/api/grants/" + given.Grant.ID + "/renewal", `{}`},
		{lead, "/api/requests", `{"grant": {"subject": "person:ticketing-lead", "role": "depositor", "scope": "gates/*"}, "reason": "winter"}`},
		{chest.Steward, "/api/requests/" + asked("to look") + "/answer", `{"allow": true}`},
		{lead, "/api/calendars", `{"note": "at my desk"}`},
	} {
		key := fmt.Sprintf("a-key-for-route-%d", n)
		first, again := once(t, chest, c.token, c.path, key, c.body), once(t, chest, c.token, c.path, key, c.body)
		if first.Status >= 300 || again.Status != first.Status || !bytes.Equal(again.Body, first.Body) ||
			again.Header.Get("ETag") != first.Header.Get("ETag") || again.Header.Get("Tansu-Answered-Before") != "true" {
			t.Errorf("%s: %d %s %q, then %d %s %q", c.path, first.Status, first.Body, first.Header.Get("ETag"), again.Status, again.Body,
				again.Header.Get("ETag"))
		}
	}
	if h := must[client.History](t)(chest.Client(t, chest.Steward).History(ctx, "gates", "radio-key")); len(h.Versions) != 2 {
		t.Errorf("%d versions are there", len(h.Versions))
	}
}

// An answer is not given again when what its caller may do has changed since: what was a secret to be shown once stays with whoever had it.
func TestAnAnswerIsNotGivenAgainWhenAccessHasChanged(t *testing.T) {
	chest := chesttest.Start(t)
	chest.App(t, "ticket-api")
	steward := chest.Client(t, chest.Steward)
	duty := chest.Person(t, "security-duty")
	given := must[client.Given](t)(steward.Give(ctx, client.NewGrant{Subject: "person:security-duty", Role: "gatekeeper", Scope: "**"}))
	const path, key = "/api/identities", "before-it-ended"
	body := `{"kind": "app", "name": "gate-controller"}`
	first := once(t, chest, duty, path, key, body)
	if again := once(t, chest, duty, path, key, body); first.Status != 201 || !bytes.Equal(again.Body, first.Body) {
		t.Fatalf("%d %s, then %d %s", first.Status, first.Body, again.Status, again.Body)
	}
	chest.Fill(t, "berths", "ramp-key", "v") // which has nothing to do with them
	if again := once(t, chest, duty, path, key, body); !bytes.Equal(again.Body, first.Body) {
		t.Errorf("after something else: %d %s", again.Status, again.Body)
	}
	must[client.Grant](t)(steward.EndGrant(ctx, given.Grant.ID))
	if again := once(t, chest, duty, path, key, body); again.Problem.Code != "done_before" {
		t.Errorf("after the grant has ended: %d %s", again.Status, again.Body)
	}
}

// The client of this project asks again by itself when an answer does not come, under the same key: what it asks for is made once.
func TestLostAnswerMakesNothingTwice(t *testing.T) {
	chest := chesttest.Start(t)
	chest.App(t, "ticket-api")
	at, err := url.Parse(chest.URL())
	if err != nil {
		t.Fatal(err)
	}
	through := httputil.NewSingleHostReverseProxy(at)
	through.Transport = chest.HTTP.Transport
	var lost atomic.Int64
	line := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPost || lost.Add(1) > 1 {
			through.ServeHTTP(w, r)
			return
		}
		through.ServeHTTP(httptest.NewRecorder(), r) // it is done, and the line breaks
		conn, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			t.Error(err)
			return
		}
		if tcp, is := conn.(*net.TCPConn); is {
			_ = tcp.SetLinger(0)
		}
		_ = conn.Close()
	}))
	defer line.Close()
	steward, err := client.New(client.Options{Address: line.URL, Token: chest.Steward})
	if err != nil {
		t.Fatal(err)
	}
	given, err := steward.Give(ctx, client.NewGrant{Subject: "app:ticket-api", Role: "viewer", Scope: "gates/*"})
	if err != nil || lost.Load() < 2 {
		t.Fatalf("%+v, %v after %d tries", given, err, lost.Load())
	}
	if list := must[[]client.Grant](t)(steward.Grants(ctx, "app:ticket-api")); len(list) != 1 || list[0].ID != given.Grant.ID {
		t.Errorf("%d grants were made: %+v", len(list), list)
	}
}

// Who fails to prove who they are is told how often they may still try; who succeeds uses nothing up; and nobody learns what others try.
func TestHowOftenSomethingMayStillBeTried(t *testing.T) {
	chest := chesttest.Start(t)
	try := func(password string) chesttest.Answer {
		return chest.Do(t, chesttest.Call{Method: http.MethodPost, Path: "/api/sign-in",
			Body: fmt.Sprintf(`{"person": "steward", "password": %q, "session": "token"}`, password)})
	}
	left := func(a chesttest.Answer) (n int) {
		if _, err := fmt.Sscanf(a.Header.Get("RateLimit"), `"attempts";r=%d;`, &n); err != nil {
			t.Fatalf("%d %s has %q", a.Status, a.Body, a.Header.Get("RateLimit"))
		}
		return n
	}
	first := try("wrong, and long enough")
	second := try("wrong, and long enough")
	if left(second) != left(first)-1 || !strings.Contains(first.Header.Get("RateLimit-Policy"), `"attempts";q=`) {
		t.Errorf("%d, then %d; the policy is %q", left(first), left(second), first.Header.Get("RateLimit-Policy"))
	}
	if good := try(chesttest.Password); good.Status != http.StatusOK || left(good) != left(second) {
		t.Errorf("%d %s has %q", good.Status, good.Body, good.Header.Get("RateLimit"))
	}
	last := second
	for last.Status != http.StatusTooManyRequests {
		last = try("wrong, and long enough")
	}
	if left(last) != 0 || last.Header.Get("Retry-After") == "" {
		t.Errorf("used up: %q, %q", last.Header.Get("RateLimit"), last.Header.Get("Retry-After"))
	}
	if other := chest.Do(t, chesttest.Call{Method: http.MethodGet, Path: "/api/status"}); other.Header.Get("RateLimit") != "" {
		t.Errorf("what is not limited has %q", other.Header.Get("RateLimit"))
	}
}

// Every list comes in parts to whoever asks for that: together they are the list, in its order.
func TestListsComeInParts(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	for _, name := range []string{"a", "b", "c", "e"} {
		chest.Fill(t, "d", name, "v")
		_, token := chest.App(t, "app-"+name, chesttest.Grant{Role: "consumer", Scope: "d/" + name})
		must[client.Registered](t)(steward.Register(ctx, client.NewIdentity{Kind: "person", Name: "person-" + name}))
		_, _, _ = chest.Client(t, token).Read(ctx, "d/"+name)
		_, _, _ = chest.Client(t, token).Read(ctx, "d/other") // refused
		must[client.Calendar](t)(steward.NewCalendar(ctx, name))
		must[client.Checkpoint](t)(steward.MakeCheckpoint(ctx))
	}
	for path, name := range map[string]string{"/api/refusals": "refusals", "/api/calendars": "calendars", "/api/roles": "roles",
		"/api/trail/checkpoints": "checkpoints", "/api/tighten": "findings", "/api/ask/holders?action=read_value&target=d/a": "holders",
		"/api/due/access?hours=8000": "ends", "/api/trail/activity": "activity", "/api/me/sessions": "sessions",
		"/api/identities": "identities"} {
		read := func(more string) (list []json.RawMessage, next string) {
			separator := "?"
			if strings.Contains(path, "?") {
				separator = "&"
			}
			a := chest.Do(t, chesttest.Call{Method: http.MethodGet, Path: path + separator + more, Token: chest.Steward})
			var answer map[string]json.RawMessage
			if err := json.Unmarshal(a.Body, &answer); err != nil || a.Status != http.StatusOK {
				t.Fatalf("%s: %d %s", path, a.Status, a.Body)
			}
			if err := json.Unmarshal(answer[name], &list); err != nil {
				t.Fatalf("%s: %v", path, err)
			}
			_ = json.Unmarshal(answer["next_cursor"], &next)
			return list, next
		}
		whole, end := read("limit=1000")
		var parts []json.RawMessage
		cursor, turns := "", 0
		for first := true; first || cursor != ""; first = false {
			part, next := read("limit=2&cursor=" + cursor)
			if parts, cursor = append(parts, part...), next; len(part) > 2 {
				t.Errorf("%s: %d in a part of two", path, len(part))
			}
			if turns++; turns > 100 {
				t.Fatalf("%s does not end", path)
			}
		}
		if len(whole) < 1 || end != "" || len(parts) != len(whole) {
			t.Errorf("%s: %d in parts, and %d as a whole", path, len(parts), len(whole))
		}
	}
	if a := chest.Do(t, chesttest.Call{Method: http.MethodGet, Path: "/api/calendars?cursor=gone", Token: chest.Steward}); a.Status != 400 ||
		!strings.Contains(string(a.Body), "begin without a cursor") {
		t.Errorf("a cursor of nothing: %d %s", a.Status, a.Body)
	}
}
