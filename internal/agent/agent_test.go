package agent_test

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/agent"
	"tansu/internal/chesttest"
	"tansu/internal/server"
)

var ctx = context.Background()

// host is a chest with two drawers, one of which lets hosts keep values, and an agent on the same machine.
type host struct {
	*chesttest.Chest
	t       *testing.T
	dir     string
	steward *client.Client
	key     []byte
	address string
	app     *client.Client // over the agent's socket
	ahead   atomic.Int64   // how far the agent's clock is ahead; it reads it whenever it likes
	extra   string         // more of the agent's configuration
}

func startHost(t *testing.T) *host {
	t.Helper()
	h := &host{Chest: chesttest.Start(t), t: t, dir: t.TempDir()}
	h.steward = h.Client(t, h.Steward)
	h.Fill(t, "gates", "pin", "4711")
	h.Fill(t, "strict", "pin", "0815")
	h.App(t, "gate-controller", chesttest.Grant{Role: "consumer", Scope: "gates/**"}, chesttest.Grant{Role: "consumer", Scope: "strict/**"})
	contents, err := h.steward.Drawer(ctx, "gates")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.steward.SetDrawerRules(ctx, "gates", contents.Drawer.Revision,
		client.NewRules{Rules: client.Rules{HostKeeps: "1h"}}); err != nil {
		t.Fatal(err)
	}
	var public []byte
	if h.key, public, err = client.NewKey(); err != nil {
		t.Fatal(err)
	}
	if _, err := h.steward.IssueCredential(ctx, "app:gate-controller", client.NewCredential{Kind: "key", PublicKey: public}); err != nil {
		t.Fatal(err)
	}
	h.address = h.URL()
	return h
}

func (h *host) socket() string { return filepath.Join(h.dir, "agent.sock") }

// start runs an agent with rules for this user; more are put before them.
func (h *host) start(more ...agent.Rule) *agent.Agent {
	h.t.Helper()
	text := fmt.Sprintf("agent: 1\nsocket: %s\njournal: %s\nserves:\n", h.socket(), filepath.Join(h.dir, "state", "reads"))
	for _, r := range append(more, agent.Rule{User: fmt.Sprint(os.Getuid()), Profile: "gates",
		References: []string{"gates/**", "strict/**"}}) {
		text += fmt.Sprintf("  - { user: %q, program: %q, profile: %s, references: [%q] }\n", r.User, r.Program, r.Profile,
			strings.Join(r.References, `", "`))
	}
	text += h.extra
	config, err := agent.ReadConfig([]byte(strings.ReplaceAll(text, `\"`, `"`)))
	if err != nil {
		h.t.Fatal(err)
	}
	authority, err := h.Authority()
	if err != nil {
		h.t.Fatal(err)
	}
	now := func() time.Time { return time.Now().Add(time.Duration(h.ahead.Load())) }
	running, err := agent.Start(agent.Options{Config: config, Host: "gate-house", Now: now,
		Connect: func(string) (*client.Client, error) {
			return client.New(client.Options{Address: h.address, Authority: authority, App: "gate-controller", Key: h.key})
		}})
	if err != nil {
		h.t.Fatal(err)
	}
	h.t.Cleanup(func() { _ = running.Stop() })
	if h.app, err = client.New(client.Options{Address: "unix:" + h.socket()}); err != nil {
		h.t.Fatal(err)
	}
	return running
}

func (h *host) read(reference string) (client.Value, string) {
	v, err := h.app.ReadValue(ctx, reference)
	return v, chesttest.Code(err)
}

// until asks again until an answer is what it shall be: what is waited for comes from another process.
func (h *host) until(what string, good func() bool) {
	h.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); !good(); {
		if time.Now().After(deadline) {
			h.t.Fatalf("not within twenty seconds: %s", what)
		}
	}
}

// entries are what the trail has of an item's reads: how many the chest served itself, and how many the agent.
func (h *host) entries(steward *client.Client, target string) (served, kept int) {
	h.t.Helper()
	page, err := steward.Trail(ctx, client.TrailFilter{Action: "read_value", Target: target, Outcome: "allowed", Limit: 500})
	if err != nil {
		h.t.Fatal(err)
	}
	for _, e := range page.Entries {
		if strings.Contains(e.Detail, "kept on host gate-house") && strings.Contains(e.Detail, "user ") {
			kept++
		} else {
			served++
		}
	}
	return served, kept
}

// away stops the chest, and what is returned brings it back at the same address.
func (h *host) away() (back func()) {
	h.t.Helper()
	listen := strings.TrimPrefix(h.address, "https://")
	if err := h.Stop(); err != nil {
		h.t.Fatal(err)
	}
	return func() {
		if err := h.Reopen(h.t, func(o *server.Options) { o.Listen = listen }); err != nil {
			h.t.Fatal(err)
		}
		h.steward = h.Client(h.t, h.Steward)
	}
}

func TestTheKernelSaysWhoAsks(t *testing.T) {
	h := startHost(t)
	h.start()
	if v, code := h.read("gates/pin"); code != "" || v.Value != "NDcxMQ==" {
		t.Errorf("%+v, %s", v, code)
	}
	if _, code := h.read("gates/none"); code != "not_found" {
		t.Errorf("what is not there: %s", code)
	}
	outcomes, err := h.app.ReadValues(ctx, "gates/pin", "strict/pin", "other/pin")
	if err != nil || outcomes[0].Value == nil || outcomes[1].Value == nil || outcomes[2].Problem == nil ||
		!strings.Contains(outcomes[2].Problem.Detail, "serves user") {
		t.Errorf("%+v, %v", outcomes, err)
	}
	if _, err := h.app.Drawers(ctx); chesttest.Code(err) != "not_found" {
		t.Errorf("something else of the chest: %v", err)
	}
	if me, err := h.app.Me(ctx); err != nil || me.Subject != "app:gate-controller" || me.Via != "app_key" {
		t.Errorf("%+v, %v", me, err)
	}
	other := startHost(t)
	other.start(agent.Rule{User: fmt.Sprint(os.Getuid()), Program: "/usr/bin/true", Profile: "gates", References: []string{"gates/**"}})
	if _, code := other.read("strict/pin"); code != "" { // the rule is about another program, and the next one counts
		t.Errorf("by another program: %s", code)
	}
}

func TestWhatIsKeptIsServedUntilTheChestSaysOtherwise(t *testing.T) {
	h := startHost(t)
	h.start()
	h.until("it is served from what is kept", func() bool { v, _ := h.read("gates/pin"); return v.Kept && !v.Away })
	if v, _ := h.read("strict/pin"); v.Kept {
		t.Error("a value is kept where no rule says so")
	}
	if v, _ := h.read("strict/pin"); v.Kept {
		t.Error("a value is kept where no rule says so")
	}
	if _, err := h.steward.AddVersion(ctx, "gates", "pin", 0, client.Content([]byte("9999"))); err != nil {
		t.Fatal(err)
	}
	h.until("the new version is served", func() bool { v, _ := h.read("gates/pin"); return v.Version == 2 && v.Value == "OTk5OQ==" })
	h.until("that is kept, too", func() bool { v, _ := h.read("gates/pin"); return v.Version == 2 && v.Kept })
	grants, err := h.steward.Grants(ctx, "app:gate-controller")
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range grants {
		if _, err := h.steward.EndGrant(ctx, g.ID); err != nil {
			t.Fatal(err)
		}
	}
	h.until("what was revoked is refused", func() bool { _, code := h.read("gates/pin"); return code == "refused" })
}

// Every value that anybody got is in the trail, however many ask at once and whoever served it.
func TestManyAskersCostOneFetchAndEachIsInTheTrail(t *testing.T) {
	h := startHost(t)
	running := h.start()
	var all sync.WaitGroup
	var got sync.Map
	for n := range 200 {
		all.Go(func() {
			if v, code := h.read("gates/pin"); code == "" && v.Value == "NDcxMQ==" {
				got.Store(n, true)
			}
		})
	}
	all.Wait()
	count := 0
	got.Range(func(any, any) bool { count++; return true })
	if err := running.Stop(); err != nil {
		t.Fatal(err)
	}
	if served, kept := h.entries(h.steward, "gates/pin"); count != 200 || served+kept != 200 || served > 100 {
		t.Errorf("%d got it; the chest has %d that it served and %d that the agent did", count, served, kept)
	}
}

// While the chest is away, what its rule lets a host keep is served for as long as that says, marked, and in the trail
// afterwards, even if the agent is killed meanwhile.
func TestAnOutageIsBridgedAndRecorded(t *testing.T) {
	h := startHost(t)
	h.start()
	h.until("it is kept", func() bool { v, _ := h.read("gates/pin"); return v.Kept })
	h.until("reads are reported", func() bool { _, kept := h.entries(h.steward, "gates/pin"); return kept > 0 })
	if _, code := h.read("strict/pin"); code != "" {
		t.Fatal(code)
	}
	back := h.away()
	h.until("it is served while the chest is away", func() bool { v, code := h.read("gates/pin"); return code == "" && v.Away && v.Kept })
	for range 4 {
		if v, code := h.read("gates/pin"); code != "" || !v.Away {
			t.Errorf("%+v, %s", v, code)
		}
	}
	if _, code := h.read("strict/pin"); code != "chest_away" {
		t.Errorf("what may not be kept: %s", code)
	}
	// Killed: nothing is told to the chest, and what was read is in the journal only. It holds no value.
	journal, err := os.ReadFile(filepath.Join(h.dir, "state", "reads"))
	if err != nil || strings.Count(string(journal), `"away":true`) < 5 || strings.Contains(string(journal), "4711") ||
		strings.Contains(string(journal), "NDcxMQ") {
		t.Errorf("the journal is %q, %v", journal, err)
	}
	h.ahead.Store(int64(2 * time.Hour))
	if _, code := h.read("gates/pin"); code != "chest_away" {
		t.Errorf("after the time that the rule gives: %s", code)
	}
	h.ahead.Store(0)
	back()
	h.until("what was read during the outage is in the trail", func() bool {
		page, err := h.steward.Trail(ctx, client.TrailFilter{Action: "read_value", Target: "gates/pin", Limit: 500})
		if err != nil {
			t.Fatal(err)
		}
		away := 0
		for _, e := range page.Entries {
			if strings.Contains(e.Detail, "while the chest was away") {
				away++
			}
		}
		return away >= 5
	})
}

// An agent that starts reports what one before it had served when it was killed in the middle of a line.
func TestReadsOfAnAgentThatWasKilledAreReported(t *testing.T) {
	h := startHost(t)
	before := h.start()
	if _, code := h.read("gates/pin"); code != "" { // what it keeps, it was given once
		t.Fatal(code)
	}
	if err := before.Stop(); err != nil {
		t.Fatal(err)
	}
	line := fmt.Sprintf(`{"profile":"gates","number":7,"reference":"gates/pin","version":1,"at":%q,"by":"user gate","away":true}`,
		time.Now().UTC().Format(time.RFC3339)) + "\n"
	if err := os.WriteFile(filepath.Join(h.dir, "state", "reads"), []byte(line+line[:50]), 0o600); err != nil {
		t.Fatal(err)
	}
	stale, err := net.Listen("unix", h.socket())
	if err != nil {
		t.Fatal(err)
	}
	stale.(*net.UnixListener).SetUnlinkOnClose(false)
	_ = stale.Close()
	h.start()
	h.until("it is in the trail", func() bool { _, kept := h.entries(h.steward, "gates/pin"); return kept == 1 })
	if left, err := os.ReadFile(filepath.Join(h.dir, "state", "reads")); err != nil || len(left) != 0 {
		h.until("the journal is empty", func() bool {
			left, err = os.ReadFile(filepath.Join(h.dir, "state", "reads"))
			return err == nil && len(left) == 0
		})
	}
}

// systemd says by the name of its end of the socket which unit wants which credential.
func TestSystemdLoadsCredentials(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root is systemd")
	}
	h := startHost(t)
	credentials := filepath.Join(h.dir, "credentials.sock")
	h.extra = fmt.Sprintf("credentials: %s\nunits: [{ unit: gate.service, profile: gates, drawer: gates }]\n", credentials)
	h.start()
	ask := func(name string) string {
		from := &net.UnixAddr{Name: "@" + name, Net: "unix"}
		connection, err := net.DialUnix("unix", from, &net.UnixAddr{Name: credentials, Net: "unix"})
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = connection.Close() }()
		content, err := io.ReadAll(connection)
		if err != nil {
			t.Fatal(err)
		}
		return string(content)
	}
	const no = 1<<20 + 1 // bytes are too many for systemd, which then does not start the unit
	for name, want := range map[string]string{"4f1c/unit/gate.service/pin": "4711", "4f1d/unit/gate.service/none": "",
		"4f1e/unit/other.service/pin": "", "4f1f/pin": "", "4f20/unit/gate.service/../strict/pin": ""} {
		if got := ask(name); got != want && (want != "" || got != strings.Repeat("\x00", no)) {
			t.Errorf("%s: %.100q, want %q", name, got, want)
		}
	}
}

func TestConfigurationsThatWouldServeTheWrongAreRefused(t *testing.T) {
	rule := "  - { user: root, profile: p, references: [\"d/**\"] }\n"
	for text, want := range map[string]string{
		"socket: /s\njournal: /j\nserves:\n" + rule:                                                       "agent: 1",
		"agent: 1\nsocket: s\njournal: /j\nserves:\n" + rule:                                              "absolute",
		"agent: 1\nsocket: /s\nserves:\n" + rule:                                                          "journal",
		"agent: 1\nsocket: /s\njournal: /j\n":                                                             "serves nobody",
		"agent: 1\nsocket: /s\njournal: /j\nserves:\n  - { user: nobody-at-all, profile: p }":             "no user",
		"agent: 1\nsocket: /s\njournal: /j\nserves:\n  - { user: root, profile: p }":                      "references are missing",
		"agent: 1\nsocket: /s\njournal: /j\nserves:\n  - { user: root, references: [\"d/**\"] }":          "profile is missing",
		"agent: 1\nsocket: /s\njournal: /j\nextra: 1\nserves:\n" + rule:                                   "extra",
		"agent: 1\nsocket: /s\njournal: /j\nserves:\n" + strings.Replace(rule, "d/**", "d**", 1):          "pattern",
		"agent: 1\nsocket: /s\njournal: /j\nserves:\n" + strings.Replace(rule, "p,", "p, program: x,", 1): "program is an absolute path",
	} {
		if _, err := agent.ReadConfig([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	path := filepath.Join(t.TempDir(), "agent.yaml")
	if err := os.WriteFile(path, []byte("agent: 1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.Chmod(path, 0o666)); err != nil {
		t.Fatal(err)
	}
	if _, err := agent.LoadConfig(path); err == nil || !strings.Contains(err.Error(), "others may change it") {
		t.Errorf("a file that everybody may change: %v", err)
	}
}

// A network that swallows everything keeps one asker waiting for a while, and not each of fifty.
func TestASilentNetworkIsNotWaitedForEachTime(t *testing.T) {
	h := startHost(t)
	relay, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = relay.Close() }()
	var mu sync.Mutex
	var open []net.Conn
	if err := h.Reopen(t, func(o *server.Options) { o.Hosts = []string{relay.Addr().String()} }); err != nil { // as if it were a tunnel
		t.Fatal(err)
	}
	silent, chest := false, strings.TrimPrefix(h.URL(), "https://")
	go func() {
		for {
			in, err := relay.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			open = append(open, in)
			if out, err := net.Dial("tcp", chest); err == nil && !silent { // or nobody ever answers
				open = append(open, out)
				go func() { _, _ = io.Copy(in, out) }()
				go func() { _, _ = io.Copy(out, in) }()
			}
			mu.Unlock()
		}
	}()
	h.address = "https://" + relay.Addr().String()
	h.start()
	h.until("it is kept", func() bool { v, _ := h.read("gates/pin"); return v.Kept })
	mu.Lock()
	silent = true
	for _, c := range open {
		_ = c.Close()
	}
	mu.Unlock()
	h.until("the silence is noticed", func() bool { v, code := h.read("gates/pin"); return code == "" && v.Away })
	limited, cancel := context.WithTimeout(ctx, 30*time.Second) // fifty times two seconds are more
	defer cancel()
	for range 50 {
		if v, err := h.app.ReadValue(limited, "gates/pin"); err != nil || !v.Away {
			t.Fatalf("%+v, %v", v, err)
		}
	}
}

// Whoever connects and asks nothing does not keep the agent from stopping as it should.
func TestSilentConnectionsDoNotKeepAnAgentFromStopping(t *testing.T) {
	h := startHost(t)
	running := h.start()
	conn, err := net.Dial("unix", h.socket())
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close() }()
	if v, code := h.read("gates/pin"); code != "" || v.Version != 1 {
		t.Fatal(code)
	}
	if err := running.Stop(); err != nil {
		t.Error(err)
	}
}

// Whoever may use a part of what an app may read learns nothing of the rest from the agent: not what would come of reading it, and not what
// the app may do elsewhere.
func TestQuestionsHeedTheRule(t *testing.T) {
	h := startHost(t)
	h.Fill(t, "other", "key", "v")
	if _, err := h.steward.Give(ctx, client.NewGrant{Subject: "app:gate-controller", Role: "consumer", Scope: "other/**"}); err != nil {
		t.Fatal(err)
	}
	h.start()
	checks, err := h.app.Check(ctx, client.Preflight{References: []string{"other/key", "gates/pin", "other/none"}})
	if err != nil || len(checks) != 3 || checks[0].Served || checks[0].Reason != "refused" || !checks[1].Served || checks[2].Served ||
		checks[0].Detail != checks[2].Detail {
		t.Errorf("%+v, %v", checks, err)
	}
	me, err := h.app.Me(ctx)
	if err != nil || me.Subject != "app:gate-controller" || len(me.Grants) != 0 {
		t.Errorf("%+v, %v", me, err)
	}
}

// A master key that somebody withdraws takes what is kept on hosts along. While one is missing after a restart of the chest, a host serves
// nothing of what it keeps, as while the chest is locked, and goes on when it is given back.
func TestAMasterKeyClosesWhatIsKept(t *testing.T) {
	h := startHost(t)
	material := make([]byte, 32)
	_, _ = rand.Read(material)
	key, err := h.steward.MakeMasterKey(ctx, client.NewMasterKey{Name: "harbour", Origin: "brought", Material: material, InMemory: true})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.steward.RotateKey(ctx, "gates", &key.Name); err != nil {
		t.Fatal(err)
	}
	h.start()
	kept := func() bool { v, code := h.read("gates/pin"); return code == "" && v.Kept && !v.Away }
	h.until("it is kept", kept)
	if _, err := h.steward.WithdrawMasterKey(ctx, key.ID, "harbour"); err != nil {
		t.Fatal(err)
	}
	h.until("what was kept is closed", func() bool { _, code := h.read("gates/pin"); return code == "not_servable" })
	for range 20 {
		if v, code := h.read("gates/pin"); code != "not_servable" {
			t.Fatalf("it is served again: %+v", v)
		}
	}
	if _, err := h.steward.GiveMasterKeyBack(ctx, key.ID, client.GivenBack{Material: material}); err != nil {
		t.Fatal(err)
	}
	h.until("it is kept again", kept)

	back := h.away()
	back()
	h.until("it is closed while the key is missing", func() bool { _, code := h.read("gates/pin"); return code == "locked" })
	for range 20 {
		if v, code := h.read("gates/pin"); code != "locked" {
			t.Fatalf("it is served while the key is missing: %+v %s", v, code)
		}
	}
	if _, err := h.steward.GiveMasterKeyBack(ctx, key.ID, client.GivenBack{Material: material}); err != nil {
		t.Fatal(err)
	}
	h.until("it is kept once more", kept)
}
