package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/core/trail"
)

// received is what clients of a service that is killed had from it.
type received struct {
	mu       sync.Mutex
	requests map[string]bool // of values that came out
	values   int
	items    []string // whose storing was acknowledged
}

// The service is killed again and again under load. Every value that any client received has its entry, every item whose storing
// was acknowledged is there, and the trail verifies against every checkpoint that a witness was ever told.
//
// TANSU_CRASH_ROUNDS says how often; make crash does it 200 times.
func TestKilledUnderLoadNothingIsLost(t *testing.T) {
	rounds := 4
	if n, err := strconv.Atoi(os.Getenv("TANSU_CRASH_ROUNDS")); err == nil {
		rounds = n
	}
	u := user{t.TempDir()}
	base := t.TempDir()
	dir, key, witness := filepath.Join(base, "chest"), filepath.Join(base, "key"), filepath.Join(base, "witness")
	var founded struct {
		Code string `json:"enrolment_code"`
	}
	decode(t, u.ok(t, "", "init", "--dir", dir, "--key-file", key, "-o", "json"), &founded)
	arguments := []string{"--dir", dir, "--key-file", key, "--plain-http", "--witness", witness}
	address, process := u.serve(t, arguments...)
	ctx := context.Background()
	connect := func(token string) *client.Client {
		c, err := client.New(client.Options{Address: address, Token: token})
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	session, err := connect("").Enrol(ctx, founded.Code, chesttest.Password)
	if err != nil {
		t.Fatal(err)
	}
	steward := connect(session.Token)
	if _, err := steward.CreateDrawer(ctx, client.NewDrawer{Name: "d", Environment: "staging"}); err != nil {
		t.Fatal(err)
	}
	if _, err := steward.CreateItem(ctx, "d", client.NewItem{Name: "i", Version: client.Content([]byte("v"))}); err != nil {
		t.Fatal(err)
	}
	for _, role := range []string{"consumer", "auditor"} {
		if _, err := steward.Give(ctx, client.NewGrant{Subject: "person:steward", Role: role, Scope: "**"}); err != nil {
			t.Fatal(err)
		}
	}
	got := &received{requests: map[string]bool{}}
	random := rand.New(rand.NewPCG(uint64(os.Getpid()), 2))
	for round := range rounds {
		time.AfterFunc(time.Duration(50+random.IntN(400))*time.Millisecond, func() { _ = process.Process.Kill() })
		got.load(address, session.Token, round)
		_ = process.Wait()
		address, process = u.serve(t, arguments...)
		if round == rounds-1 || round%20 == 19 {
			got.check(t, connect(session.Token), witness)
		}
	}
	t.Logf("%d rounds: %d values in %d answers and %d acknowledged items, all of them are there", rounds, got.values, len(got.requests),
		len(got.items))
}

// load reads and writes until the service does not answer any more.
func (r *received) load(address, token string, round int) {
	var group sync.WaitGroup
	ask := func(method, path, body string) (*http.Response, []byte, error) {
		request, err := http.NewRequest(method, address+path, strings.NewReader(body))
		if err != nil {
			return nil, nil, err
		}
		request.Header.Set("Authorization", "Bearer "+token)
		request.Header.Set("Content-Type", "application/json")
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return nil, nil, err
		}
		defer func() { _ = response.Body.Close() }()
		content, err := io.ReadAll(response.Body)
		return response, content, err
	}
	for part := range 6 {
		group.Go(func() {
			for n := 0; ; n++ {
				switch {
				case part == 0:
					name := fmt.Sprintf("r%d-%d", round, n)
					response, _, err := ask("POST", "/api/drawers/d/items", `{"name":"`+name+`","version":{"value":"dg==","encoding":"base64"}}`)
					if err != nil {
						return
					}
					if response.StatusCode == http.StatusCreated {
						r.mu.Lock()
						r.items = append(r.items, name)
						r.mu.Unlock()
					}
				case part == 1:
					response, content, err := ask("POST", "/api/values", `{"references":["d/i","d/i@1","d/none"]}`)
					if err != nil {
						return
					}
					r.note(response, bytes.Count(content, []byte(`"value":{`)))
				default:
					response, _, err := ask("GET", "/api/values/d/i", "")
					if err != nil {
						return
					}
					r.note(response, 1)
				}
			}
		})
	}
	group.Wait()
	http.DefaultClient.CloseIdleConnections()
}

func (r *received) note(response *http.Response, values int) {
	if response.StatusCode == http.StatusOK {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.requests[response.Header.Get("Request-Id")] = true
		r.values += values
	}
}

func (r *received) check(t *testing.T, c *client.Client, witness string) {
	t.Helper()
	ctx := context.Background()
	var exported bytes.Buffer
	if _, err := c.ExportTrail(ctx, 1, &exported); err != nil {
		t.Fatal(err)
	}
	key, err := c.VerifierKey(ctx)
	if err != nil {
		t.Fatal(err)
	}
	notes, err := os.ReadFile(witness)
	if err != nil {
		t.Fatal(err)
	}
	var points []trail.Checkpoint
	for _, note := range trail.SplitNotes(string(notes)) {
		p, err := trail.OpenCheckpoint(note, key)
		if err != nil {
			t.Fatal(err)
		}
		points = append(points, p)
	}
	report, err := trail.Verify(bytes.NewReader(exported.Bytes()), points, nil)
	if err != nil || len(report.Problems) > 0 || report.Matched != len(points) {
		t.Errorf("%d checkpoints: %+v, %v", len(points), report, err)
	}
	served := map[string]int{}
	for line := range bytes.Lines(exported.Bytes()) {
		var e client.Entry
		if err := json.Unmarshal(line, &e); err != nil {
			t.Fatal(err)
		}
		if e.Action == "read_value" && e.Outcome == "allowed" {
			served[e.RequestID]++
		}
	}
	entries := 0
	for id := range r.requests {
		if entries += served[id]; served[id] == 0 {
			t.Errorf("a value came out under request %s, which is not in the trail", id)
		}
	}
	if entries != r.values {
		t.Errorf("%d values came out, and %d entries are there for them", r.values, entries)
	}
	there := map[string]bool{}
	for cursor := ""; ; {
		page, err := c.Search(ctx, "drawer:d", cursor)
		if err != nil {
			t.Fatal(err)
		}
		for _, it := range page.Items {
			there[it.Name] = true
		}
		if cursor = page.NextCursor; cursor == "" {
			break
		}
	}
	for _, name := range r.items {
		if !there[name] {
			t.Errorf("item %s was acknowledged and is not there", name)
		}
	}
	if found, err := c.Examine(ctx); err != nil || len(found) > 0 {
		t.Errorf("an examination says %v, %v", found, err)
	}
}
