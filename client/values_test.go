package client_test

import (
	"bytes"
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/server"
)

// startValues is a chest with an item and a program that reads it for as long as it runs.
func startValues(t *testing.T) (*chesttest.Chest, *client.Client, *client.Values) {
	t.Helper()
	chest := chesttest.Start(t)
	chest.Fill(t, "gates", "pin", "one")
	_, token := chest.App(t, "gate-controller", chesttest.Grant{Role: "consumer", Scope: "gates/**"})
	values := client.NewValues(chest.Client(t, token))
	t.Cleanup(func() { _ = values.Close() })
	return chest, chest.Client(t, chest.Steward), values
}

// reads counts the reads of the program in the trail.
func reads(t *testing.T, steward *client.Client) int {
	t.Helper()
	page, err := steward.Trail(t.Context(),
		client.TrailFilter{Subject: "app:gate-controller", Action: "read_value", Outcome: "allowed", Limit: 500})
	if err != nil {
		t.Fatal(err)
	}
	return len(page.Entries)
}

// until asks again until it is so: what is waited for comes over the network.
func until(t *testing.T, what string, so func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); !so(); {
		if time.Now().After(deadline) {
			t.Fatalf("not within twenty seconds: %s", what)
		}
	}
}

func get(t *testing.T, values *client.Values) string {
	t.Helper()
	secret, err := values.Get(t.Context(), "gates/pin")
	if err != nil {
		return err.Error()
	}
	return secret.Text()
}

func TestAValueIsKeptWhileTheChestWouldServeIt(t *testing.T) {
	_, steward, values := startValues(t)
	changed := make(chan string, 10)
	values.OnChange(func(reference string) { changed <- reference })
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			if got := get(t, values); got != "one" {
				t.Errorf("got %s", got)
			}
		})
	}
	all.Wait()
	until(t, "it is kept", func() bool {
		before := reads(t, steward)
		return get(t, values) == "one" && reads(t, steward) == before
	})
	if n := reads(t, steward); n > 25 {
		t.Errorf("%d reads for fifty who asked at once", n)
	}
	if _, err := steward.AddVersion(t.Context(), "gates", "pin", 0, client.Content([]byte("two"))); err != nil {
		t.Fatal(err)
	}
	if reference := <-changed; reference != "gates/pin" || get(t, values) != "two" {
		t.Errorf("after %s changed: %s", reference, get(t, values))
	}
	grants, err := steward.Grants(t.Context(), "app:gate-controller")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := steward.EndGrant(t.Context(), grants[0].ID); err != nil {
		t.Fatal(err)
	}
	<-changed
	var problem *client.Problem
	if _, err := values.Get(t.Context(), "gates/pin"); !errors.As(err, &problem) || problem.Receipt == "" {
		t.Errorf("what was revoked: %v", err)
	}
}

// A chest that is away is asked again until it is back, or until whoever asks has waited enough.
func TestAnOutageIsWaitedFor(t *testing.T) {
	chest, _, values := startValues(t)
	listen := strings.TrimPrefix(chest.URL(), "https://")
	if err := chest.Stop(); err != nil {
		t.Fatal(err)
	}
	impatient, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	var away *client.Unreachable
	if _, err := values.Get(impatient, "gates/pin"); !errors.As(err, &away) && !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("got %v", err)
	}
	got := make(chan string, 1)
	go func() { got <- get(t, values) }()
	if err := chest.Reopen(t, func(o *server.Options) { o.Listen = listen }); err != nil {
		t.Fatal(err)
	}
	if text := <-got; text != "one" {
		t.Errorf("got %s", text)
	}
}

func TestASecretNeverPrints(t *testing.T) {
	secret := client.NewSecret([]byte("CANARY"))
	var log bytes.Buffer
	slog.New(slog.NewJSONHandler(&log, nil)).Info("it", "secret", secret, "in", struct{ S client.Secret }{secret})
	encoded, err := json.Marshal(map[string]any{"s": secret, "p": &secret})
	if err != nil {
		t.Fatal(err)
	}
	all := fmt.Sprintf("%v %+v %#v %s %q %x %d %v %+v", secret, secret, secret, secret, secret, secret, secret, &secret,
		[]client.Secret{secret}) + log.String() + string(encoded) + fmt.Sprint(secret)
	if strings.Contains(all, "CANARY") || strings.Contains(all, "43414e415259") || strings.Contains(all, "67 65 78") {
		t.Error(all)
	}
	if secret.Text() != "CANARY" || string(secret.Bytes()) != "CANARY" {
		t.Error("its bytes are not what they were")
	}
}

func TestAServiceChecksAKeyThatIsPresented(t *testing.T) {
	chest, _, values := startValues(t)
	service := values.RequireKey("gates/pin", func(r *http.Request) bool { return r.Method == http.MethodGet },
		http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) }))
	missing := values.RequireKey("gates/none", nil, service)
	ask := func(h http.Handler, method, authorization string) (int, string) {
		r := httptest.NewRequest(method, "/", nil)
		if authorization != "" {
			r.Header.Set("Authorization", authorization)
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w.Code, w.Header().Get("WWW-Authenticate")
	}
	for _, c := range []struct {
		method, authorization string
		status                int
		says                  string
	}{
		{"GET", "", 401, "Bearer"}, {"GET", "Basic b25l", 401, "Bearer"}, {"GET", "Bearer ", 401, "Bearer"},
		{"GET", "Bearer wrong", 401, `Bearer error="invalid_token"`},
		{"GET", "Bearer one ", 401, `Bearer error="invalid_token"`}, {"GET", "bearer one", 204, ""},
		{"POST", "Bearer one", 403, `Bearer error="insufficient_scope"`},
	} {
		if status, says := ask(service, c.method, c.authorization); status != c.status || says != c.says {
			t.Errorf("%s %q: %d %q", c.method, c.authorization, status, says)
		}
	}
	if status, _ := ask(missing, "GET", "Bearer one"); status != 503 {
		t.Errorf("a key that cannot be checked: %d", status)
	}
	_ = chest
}

func TestADrawerIsAFileSystem(t *testing.T) {
	_, _, values := startValues(t)
	drawer := values.FS(t.Context(), "gates")
	if content, err := fs.ReadFile(drawer, "pin"); err != nil || string(content) != "one" {
		t.Errorf("%q, %v", content, err)
	}
	if file, err := drawer.Open("pin"); err != nil {
		t.Error(err)
	} else if info, err := file.Stat(); err != nil || info.Size() != 3 || info.Mode() != 0o400 {
		t.Errorf("%v, %v", info, err)
	}
	for name, want := range map[string]error{"none": fs.ErrNotExist, "../strict/pin": fs.ErrInvalid, "a/b": fs.ErrInvalid,
		".": fs.ErrInvalid} {
		if _, err := fs.ReadFile(drawer, name); !errors.Is(err, want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := fs.ReadFile(values.FS(t.Context(), "closed"), "pin"); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("what it may not read: %v", err)
	}
}

// opened is a database driver that notes with what it is opened.
type opened struct{ sources []string }

func (o *opened) Open(source string) (driver.Conn, error) {
	o.sources = append(o.sources, source)
	return nil, errors.New("it is not there")
}

func TestADatabaseIsOpenedWithWhatIsCurrent(t *testing.T) {
	_, steward, values := startValues(t)
	changed := make(chan string, 10)
	values.OnChange(func(reference string) { changed <- reference })
	d := &opened{}
	db := sql.OpenDB(values.Connector(d, "gates/pin", func(s client.Secret) string { return "password=" + s.Text() }))
	defer func() { _ = db.Close() }()
	_ = db.PingContext(t.Context())
	until(t, "it is kept", func() bool {
		before := reads(t, steward)
		return get(t, values) == "one" && reads(t, steward) == before
	})
	if _, err := steward.AddVersion(t.Context(), "gates", "pin", 0, client.Content([]byte("two"))); err != nil {
		t.Fatal(err)
	}
	<-changed
	_ = db.PingContext(t.Context())
	if len(d.sources) < 2 || d.sources[0] != "password=one" || d.sources[len(d.sources)-1] != "password=two" {
		t.Errorf("opened with %q", d.sources)
	}
}

// The same code finds who it is from its environment, or from what the developer's sign-in has left.
func TestAClientFindsWhoItIs(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "gates", "pin", "one")
	_, token := chest.App(t, "gate-controller", chesttest.Grant{Role: "consumer", Scope: "gates/**"})
	private, public, err := client.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := chest.Client(t, chest.Steward).IssueCredential(t.Context(), "app:gate-controller",
		client.NewCredential{Kind: "key", PublicKey: public}); err != nil {
		t.Fatal(err)
	}
	authority, err := chest.Authority()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	profiles, err := json.Marshal(map[string]any{"current": "default",
		"profiles": map[string]any{"default": map[string]string{"address": chest.URL(), "authority": string(authority), "token": token}}})
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string][]byte{"authority.pem": authority, "key.pem": private, "profiles.json": profiles} {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("TANSU_HOME", dir)
	t.Setenv("TANSU_PROFILE", "")
	found := func(what, via string) {
		t.Helper()
		c, err := client.Find()
		if err != nil {
			t.Errorf("%s: %v", what, err)
			return
		}
		if me, err := c.Me(t.Context()); err != nil || me.Via != via {
			t.Errorf("%s: %+v, %v", what, me, err)
		}
	}
	found("a profile", "app_secret")
	t.Setenv("TANSU_ADDRESS", chest.URL())
	t.Setenv("TANSU_AUTHORITY", filepath.Join(dir, "authority.pem"))
	t.Setenv("TANSU_APP", "gate-controller")
	t.Setenv("TANSU_KEY_FILE", filepath.Join(dir, "key.pem"))
	found("the environment", "app_key")
	t.Setenv("TANSU_SECRET_FILE", filepath.Join(dir, "key.pem"))
	if _, err := client.Find(); err == nil {
		t.Error("two proofs at once are taken")
	}
}
