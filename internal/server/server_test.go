package server_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/server"
	"tansu/internal/store"
)

var ctx = context.Background()

// forms are the ways in which a value could lie around.
func forms(value string) map[string]string {
	found := map[string]string{
		"plain": value, "hex": hex.EncodeToString([]byte(value)), "HEX": strings.ToUpper(hex.EncodeToString([]byte(value))),
		"URL": url.QueryEscape(value), "URL path": url.PathEscape(value),
	}
	for shift := range 3 { // base64 looks different at each alignment; the ends depend on the neighbours
		encoded := base64.StdEncoding.EncodeToString([]byte(strings.Repeat("x", shift) + value))
		whole := encoded[4 : len(encoded)-4]
		found[fmt.Sprintf("base64 at %d", shift)] = whole
		found[fmt.Sprintf("URL-safe base64 at %d", shift)] = strings.NewReplacer("+", "-", "/", "_").Replace(whole)
	}
	return found
}

// Canary values go through every path that takes a secret. None may be found on disk, in a log or in any answer but the
// one that is asked for it.
func TestNoValueIsFoundWhereItDoesNotBelong(t *testing.T) {
	chest := chesttest.Start(t)
	const value, second, refusedValue, badValue = "canary+value/one?40291", "canary+value/two?77345", "canary+value/refused?9921",
		"canary!bad!base64!5531"
	const password, wrong, material = "canary password of a person 615", "canary wrong password 8812", "canary unlock material 3312"
	var secrets []string
	answers := &bytes.Buffer{}
	do := func(call chesttest.Call) chesttest.Answer {
		answer := chest.Do(t, call)
		_ = answer.Header.Write(answers)
		answers.Write(answer.Body)
		return answer
	}
	post := func(path, body, token string) chesttest.Answer {
		return do(chesttest.Call{Method: "POST", Path: path, Body: body, Token: token})
	}
	encoded := func(v string) string { return base64.StdEncoding.EncodeToString([]byte(v)) }

	chest.Fill(t, "d", "i", value)
	secret, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	secrets = append(secrets, secret, token, chest.Steward)
	post("/api/drawers/d/items/i/versions", `{"value":"`+encoded(second)+`","encoding":"base64"}`, chest.Steward)
	post("/api/drawers/d/items/i/versions", `{"value":"`+badValue+`","encoding":"base64"}`, chest.Steward)
	post("/api/drawers/d/items", `{"name":"j","version":{"value":"`+encoded(refusedValue)+`","encoding":"base64"}}`, token)
	post("/api/drawers/d/items", `{"name":"i","version":{"value":"`+encoded(refusedValue)+`","encoding":"base64"}}`, chest.Steward)
	post("/api/drawers/d/items", `{"name":"j","colour":"`+refusedValue+`"}`, chest.Steward)
	post("/api/drawers/d/items", `{"name":"j","version":"`+refusedValue+`"}`, chest.Steward)
	post("/api/drawers/d/items", `{"name":"j" `+refusedValue+`}`, chest.Steward)
	post("/api/sign-in", `{"person":"steward","password":"`+wrong+`","session":"token"}`, "")
	post("/api/sign-in", `{"person":"`+wrong+`","password":"x","session":"token"}`, "")
	post("/api/enrol", `{"code":"`+wrong+`","password":"`+password+`","session":"token"}`, "")
	post("/api/unlock", `{"material":"`+material+`"}`, "")
	do(chesttest.Call{Method: "GET", Path: "/api/drawers", Token: wrong})
	do(chesttest.Call{Method: "GET", Path: "/api/drawers", Token: token[:len(token)-1] + "x"})
	do(chesttest.Call{Method: "POST", Path: "/api/oauth/token", Body: "grant_type=client_credentials&client_id=ticket-api&client_secret=" +
		url.QueryEscape(wrong), Header: map[string]string{"Content-Type": "application/x-www-form-urlencoded"}})
	for _, path := range []string{"/api/me", "/api/drawers", "/api/drawers/d", "/api/drawers/d/items/i", "/api/identities", "/api/grants",
		"/api/trail?limit=500", "/"} {
		request := chesttest.Call{Method: "GET", Path: path, Token: chest.Steward}
		do(request)
	}
	// The reads themselves are the one place where a value may leave.
	for _, reference := range []string{"d/i", "d/i@1", "d/i@2"} {
		if got, _, err := chest.Client(t, token).Read(ctx, reference); err != nil || !strings.HasPrefix(string(got), "canary") {
			t.Fatalf("%s: %v", reference, err)
		}
	}

	places := map[string][]byte{"an answer": answers.Bytes(), "the log": []byte(chest.Log.String())}
	readAll(t, chest.Dir, places)
	for _, canary := range append(secrets, value, second, refusedValue, badValue, password, wrong, material, chesttest.Password) {
		for form, text := range forms(canary) {
			for where, content := range places {
				if bytes.Contains(content, []byte(text)) {
					t.Errorf("%s of %q… is in %s", form, canary[:10], where)
				}
			}
		}
	}
	if len(places) < 8 || answers.Len() < 2000 {
		t.Errorf("too little was searched: %d places, %d bytes of answers", len(places), answers.Len())
	}
}

func readAll(t *testing.T, dir string, places map[string][]byte) {
	t.Helper()
	err := filepath.WalkDir(dir, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		places[filepath.Base(path)] = content
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// On a full disk no value comes out, nothing is acknowledged that is not there, and the chest goes on by itself when
// there is room again. The disk is a real, small one, which takes a right to mount; without it the store's own test of
// the same remains.
func TestFullDiskServesNothingAndRecovers(t *testing.T) {
	mounted := t.TempDir()
	if err := syscall.Mount("tmpfs", mounted, "tmpfs", 0, "size=3m"); err != nil {
		t.Skipf("mounting a small disk is not allowed here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(mounted, syscall.MNT_DETACH) })
	chest := chesttest.StartIn(t, filepath.Join(mounted, "demo"), server.TLS, 0)
	const value = "canary of the full disk"
	chest.Fill(t, "d", "i", value)
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	read := func() chesttest.Answer {
		return chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/values/d/i", Token: token})
	}
	if read().Status != 200 {
		t.Fatal("the value is not served before")
	}
	ballast := filepath.Join(mounted, "ballast")
	fillDisk(t, ballast)
	served, refused := 0, 0
	for range 2000 { // pages that the journal has already are used up first
		answer := read()
		if answer.Status == 200 {
			served++
			continue
		}
		if answer.Status != 503 || answer.Problem.Code != "not_recorded" ||
			strings.Contains(string(answer.Body), base64.StdEncoding.EncodeToString([]byte(value))) {
			t.Fatalf("on a full disk: %d %s", answer.Status, answer.Body)
		}
		if refused++; refused == 5 {
			break
		}
	}
	if refused == 0 {
		t.Fatal("the disk was never full")
	}
	if _, err := chest.Client(t, chest.Steward).AddVersion(ctx, "d", "i", 0,
		client.Content([]byte("lost"))); chesttest.Code(err) != "not_recorded" {
		t.Errorf("a write on a full disk: %v", err)
	}
	if err := os.Remove(ballast); err != nil {
		t.Fatal(err)
	}
	if answer := read(); answer.Status != 200 {
		t.Fatalf("with room again: %d %s", answer.Status, answer.Problem.Detail)
	}
	page, err := chest.Client(t, chest.Steward).Trail(ctx, client.TrailFilter{Action: "read_value", Outcome: "allowed", Limit: 500})
	if err != nil {
		t.Fatal(err)
	}
	if want := served + 2; len(page.Entries) != min(want, 500) {
		t.Errorf("%d reads are in the trail, %d were served", len(page.Entries), want)
	}
}

func fillDisk(t *testing.T, path string) {
	t.Helper()
	file, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = file.Close() }()
	for block := make([]byte, 64<<10); len(block) > 0; {
		if _, err := file.Write(block); err != nil {
			block = block[:len(block)/2]
		}
	}
}

// What was acknowledged before the service was told to stop is there afterwards, and every value that came out has
// its entry.
func TestStoppingLosesNothingThatWasAcknowledged(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	var reads, writes atomic.Int64
	var wg sync.WaitGroup
	started := make(chan struct{}, 8)
	for worker := range 8 {
		wg.Go(func() {
			app, steward := chest.Client(t, token), chest.Client(t, chest.Steward)
			for n := 0; ; n++ {
				if _, _, err := app.Read(ctx, "d/i"); err != nil {
					return
				}
				reads.Add(1)
				if _, err := steward.CreateItem(ctx, "d",
					client.NewItem{Name: fmt.Sprintf("w%d-%d", worker, n), Version: client.Content([]byte("x"))}); err != nil {
					return
				}
				writes.Add(1)
				if n == 5 {
					started <- struct{}{}
				}
			}
		})
	}
	for range 8 {
		<-started
	}
	chest.Restart(t)
	wg.Wait()
	steward := chest.Client(t, chest.Steward)
	contents, err := steward.Drawer(ctx, "d")
	if err != nil || len(contents.Items) < int(writes.Load())+1 {
		t.Errorf("%d items are there, %d were acknowledged, %v", len(contents.Items), writes.Load()+1, err)
	}
	recorded := 0
	for filter := (client.TrailFilter{Action: "read_value", Outcome: "allowed", Limit: 500}); ; {
		page, err := steward.Trail(ctx, filter)
		if err != nil {
			t.Fatal(err)
		}
		recorded += len(page.Entries)
		if filter.Cursor = page.NextCursor; filter.Cursor == "" {
			break
		}
	}
	if recorded < int(reads.Load()) {
		t.Errorf("%d reads are in the trail, %d values came out", recorded, reads.Load())
	}
}

func TestServerRefusesToStartWrongly(t *testing.T) {
	chest := chesttest.Start(t)
	dir := filepath.Join(chest.Dir, "chest")
	second := t.TempDir() + "/chest"
	records, err := store.Create(second)
	if err != nil {
		t.Fatal(err)
	}
	_ = records.Close()
	for _, c := range []struct {
		name string
		o    server.Options
		want string
	}{
		{"plain HTTP on every address", server.Options{Dir: dir, Listen: "0.0.0.0:0", Transport: server.PlainHTTP}, "only for loopback"},
		{"plain HTTP on an empty address", server.Options{Dir: dir, Listen: ":8267", Transport: server.PlainHTTP}, "only for loopback"},
		{"plain HTTP on a name", server.Options{Dir: dir, Listen: "chest.ferries.example:80", Transport: server.PlainHTTP}, "only for loopback"},
		{"an address without a port", server.Options{Dir: dir, Listen: "127.0.0.1"}, "host:port"},
		{"a second process", server.Options{Dir: dir, Listen: "127.0.0.1:0"}, "in use by another Tansu process"},
		{"no chest", server.Options{Dir: t.TempDir() + "/none", Listen: "127.0.0.1:0"}, "does not exist"},
		{"an initialisation that did not finish", server.Options{Dir: second, Listen: "127.0.0.1:0"}, "did not finish"},
	} {
		if s, err := server.Start(c.o); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: got %v, want %q", c.name, err, c.want)
			if err == nil {
				_ = s.Stop()
			}
		}
	}
}

func TestPortInUseIsSaid(t *testing.T) {
	first, other := chesttest.Start(t), chesttest.Start(t)
	address := strings.TrimPrefix(first.URL(), "https://")
	dir, key := filepath.Join(other.Dir, "chest"), filepath.Join(other.Dir, "unlock.key")
	if err := other.Stop(); err != nil {
		t.Fatal(err)
	}
	if _, err := server.Start(server.Options{Dir: dir, Listen: address, KeyFile: key}); err == nil ||
		!strings.Contains(err.Error(), "in use by another program") {
		t.Errorf("got %v", err)
	}
	s, err := server.Start(server.Options{Dir: dir, Listen: "127.0.0.1:0", KeyFile: key})
	if err != nil {
		t.Fatalf("the failed start left something behind: %v", err)
	}
	_ = s.Stop()
}

func TestKeyFileThatOthersCanReadIsRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(file, []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := server.ReadKeyFile(file); err == nil || !strings.Contains(err.Error(), "open to others") {
		t.Errorf("got %v", err)
	}
}

// The certificate is renewed at an unlock when it ends soon, under the same authority, so that clients go on.
func TestCertificateIsRenewedUnderTheSameAuthority(t *testing.T) {
	chest := chesttest.Start(t)
	before, err := chest.Authority()
	if err != nil {
		t.Fatal(err)
	}
	if err := chest.Stop(); err != nil {
		t.Fatal(err)
	}
	s, err := server.Start(server.Options{Dir: filepath.Join(chest.Dir, "chest"), Listen: "127.0.0.1:0",
		Hosts:   []string{"chest.ferries.example"},
		KeyFile: filepath.Join(chest.Dir, "unlock.key")})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Stop() }()
	after, err := s.Authority()
	if err != nil || !bytes.Equal(before, after) {
		t.Errorf("the authority changed, %v", err)
	}
	transport := chest.HTTP.Transport.(*http.Transport).Clone()
	transport.TLSClientConfig.ServerName = "chest.ferries.example" // which the first certificate did not have
	response, err := (&http.Client{Transport: transport}).Get(s.URL() + "/api/health")
	if err != nil {
		t.Fatal(err)
	}
	_ = response.Body.Close()
}

// Whoever connects and asks nothing keeps the chest neither from stopping as it should nor from its last checkpoint.
func TestSilentConnectionsDoNotKeepTheChestFromStopping(t *testing.T) {
	chest := chesttest.StartIn(t, filepath.Join(t.TempDir(), "demo"), server.PlainHTTP, 0)
	chest.Fill(t, "d", "i", "v")
	conn, err := net.Dial("tcp", strings.TrimPrefix(chest.URL(), "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close() }()
	chest.Fill(t, "d", "j", "v") // after it was accepted
	if err := chest.Stop(); err != nil {
		t.Error(err)
	}
	point, last := chest.Rows(t, "SELECT max(size) FROM checkpoints"), chest.Rows(t, "SELECT seq FROM indexed")
	if fmt.Sprint(point) != fmt.Sprint(last) {
		t.Errorf("the last checkpoint is of %v entries, and the trail has %v", point, last)
	}
}
