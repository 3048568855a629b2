package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"time"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/importfile"
	"tansu/internal/core/secretvalue"
	"tansu/internal/opening"
	"tansu/internal/people"
	"tansu/internal/rights"
	"tansu/internal/service"
	"tansu/internal/shelf"
	"tansu/internal/store"
)

// manyItems measures what many items cost: reads of the same thousand items of a chest with few and of one with many, and
// the memory of the service before and after them. The reads of both go by turns.
func manyItems(result map[string]any) error {
	dir, err := os.MkdirTemp("", "tansu-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	counts := map[string]int{"1k": 1000, "1m": *items}
	sides := map[string]*side{}
	defer func() {
		for _, s := range sides {
			s.b.stop()
		}
	}()
	for _, name := range []string{"1k", "1m"} {
		s := &side{b: &bench{dir: filepath.Join(dir, name)}, count: counts[name]}
		sides[name] = s
		if err := s.start(); err != nil {
			return fmt.Errorf("a chest of %d items: %w", counts[name], err)
		}
		result["unlock_seconds_"+name] = round(s.unlock.Seconds())
		result["resident_mib_"+name+"_unlocked"] = s.resident()
	}
	rates := map[string][]measurement{}
	for range *rounds {
		for _, name := range []string{"1k", "1m"} {
			m, err := sides[name].read()
			if err != nil {
				return err
			}
			rates[name] = append(rates[name], m)
		}
	}
	few, many := median(rates["1k"]), median(rates["1m"])
	result["audited_read_1m_over_1k"] = round(many.rate / few.rate)
	cold, err := sides["1m"].cold()
	if err != nil {
		return err
	}
	result["cold_read_over_warm_1m"] = round(cold.rate / many.rate)
	for _, name := range []string{"1k", "1m"} {
		result["resident_mib_"+name] = sides[name].resident()
	}
	for _, key := range []string{"unlock_seconds_1k", "unlock_seconds_1m", "resident_mib_1k_unlocked", "resident_mib_1m_unlocked",
		"resident_mib_1k", "resident_mib_1m", "audited_read_1m_over_1k", "cold_read_over_warm_1m"} {
		fmt.Printf("%-28s %10.3f\n", key, result[key])
	}
	return nil
}

// side is a chest with so many items in ten drawers.
type side struct {
	b      *bench
	count  int
	unlock time.Duration // from the start of the process until it serves

	options []string // more of them for the service
	steward string   // a token of somebody who may do everything but read
}

const drawers = 10

func (s *side) start() error {
	chest, key := filepath.Join(s.b.dir, "chest"), filepath.Join(s.b.dir, "key")
	if err := os.Mkdir(s.b.dir, 0o700); err != nil {
		return err
	}
	token, err := s.found(chest, key)
	if err != nil {
		return err
	}
	address, err := freeAddress()
	if err != nil {
		return err
	}
	s.b.service = "http://" + address
	began := time.Now()
	serve := append([]string{"serve", "--dir", chest, "--key-file", key, "--plain-http", "--listen", address}, s.options...)
	if err := s.b.launch(address, "bin/tansu", serve...); err != nil {
		return err
	}
	s.unlock = time.Since(began)
	anyone, err := client.New(client.Options{Address: s.b.service})
	if err != nil {
		return err
	}
	read, _, err := anyone.AppToken(context.Background(), "gate-controller", token)
	if err != nil {
		return err
	}
	return s.script(read, s.count/1000)
}

// found makes the chest without a server, and returns the secret of an app that may read everything.
func (s *side) found(dir, keyFile string) (string, error) {
	material := envelope.NewKeyFile(envelope.MethodKeyFile)
	if err := os.WriteFile(keyFile, material.Reveal(), 0o600); err != nil {
		return "", err
	}
	records, err := store.Create(dir)
	if err != nil {
		return "", err
	}
	defer func() { _ = records.Close() }()
	founded, err := opening.Found(records, opening.Founding{Method: envelope.MethodKeyFile, Material: material, Hosts: []string{"127.0.0.1"}})
	if err != nil {
		return "", err
	}
	vault, err := service.New(records, service.Options{})
	if err != nil {
		return "", err
	}
	defer vault.Stop()
	origin := chest.Origin{Addr: "127.0.0.1"}
	if err := vault.Unlock(origin, material); err != nil {
		return "", err
	}
	session, err := vault.Enrol(origin, string(founded.Enrolment.Reveal()), secretvalue.FromString("a password of the bench"), people.ViaCLI)
	if err != nil {
		return "", err
	}
	s.steward = string(session.Token.Reveal())
	steward, err := vault.Authenticate(origin, s.steward)
	if err != nil {
		return "", err
	}
	registered, err := vault.Register(steward, people.NewIdentity{Kind: "app", Name: "gate-controller"})
	if err != nil {
		return "", err
	}
	if _, _, err := vault.Give(steward, rights.NewGrant{Subject: "app:gate-controller", Role: "consumer", Scope: "harbour-*/**"}); err != nil {
		return "", err
	}
	for d := range drawers {
		if err := fillDrawer(vault, steward, fmt.Sprintf("harbour-%d", d), s.count/drawers); err != nil {
			return "", err
		}
	}
	return string(registered.Credential.Secret.Reveal()), nil
}

func fillDrawer(vault *service.Service, steward chest.Caller, drawer string, count int) error {
	if _, err := vault.CreateDrawer(steward, shelf.NewDrawer{Name: drawer, Environment: "production"}); err != nil {
		return err
	}
	for at := 0; at < count; at += 10_000 {
		var text bytes.Buffer
		for n := at; n < min(count, at+10_000); n++ {
			fmt.Fprintf(&text, "GATE_%07d_KEY=value of thirty-two bytes %07d\n", n, n)
		}
		report, err := vault.Import(steward, drawer, shelf.NewImport{Format: importfile.Dotenv, Content: secretvalue.New(text.Bytes())})
		if err != nil || !report.Done {
			return fmt.Errorf("import: done %v, %w", report.Done, err)
		}
	}
	return nil
}

// script lets wrk read a thousand items by turns, spread over all drawers: every step-th.
func (s *side) script(token string, step int) error {
	text := fmt.Sprintf(`wrk.headers["Authorization"] = "Bearer %s"
local n = 0
request = function()
	n = (n + 1) %% 1000
	return wrk.format("GET", string.format("/api/values/harbour-%%d/gate-%%07d-key", n %% %d, math.floor(n / %d) * %d))
end
`, token, drawers, drawers, step)
	cold := fmt.Sprintf(`wrk.headers["Authorization"] = "Bearer %s"
request = function()
	return wrk.format("GET", string.format("/api/values/harbour-%%d/gate-%%07d-key", math.random(0, %d), math.random(0, %d)))
end
`, token, drawers-1, s.count/drawers-1)
	if err := os.WriteFile(filepath.Join(s.b.dir, "cold.lua"), []byte(cold), 0o600); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(s.b.dir, "headers.lua"), []byte(text), 0o600)
}

func (s *side) read() (measurement, error) { return s.b.wrkWith("headers.lua", theService, "/", 64) }

// cold reads items at random, of which most are in no cache.
func (s *side) cold() (measurement, error) { return s.b.wrkWith("cold.lua", theService, "/", 64) }

// resident is the memory of the service in MiB, as the kernel counts it; 0 when it does not say.
func (s *side) resident() float64 { return residentOf(s.b.processes[0].Process.Pid) }

// benchmarks runs Go benchmarks and returns their nanoseconds by name.
func benchmarks(pattern string, packages ...string) (map[string]float64, error) {
	out, err := exec.Command("go", append([]string{"test", "-run", "xxx", "-timeout", "20m", "-bench", pattern},
		packages...)...).CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("benchmark: %w: %s", err, out)
	}
	found := map[string]float64{}
	for _, line := range regexp.MustCompile(`Benchmark(\S+?)-\d+\s+\d+\s+([\d.]+) ns/op`).FindAllSubmatch(out, -1) {
		if found[string(line[1])], err = strconv.ParseFloat(string(line[2]), 64); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// shelfBenchmarks adds import, search and due.
func shelfBenchmarks(result map[string]any) error {
	ns, err := benchmarks("Import10k|RawInsert10k|100k", "./internal/service")
	if err != nil {
		return err
	}
	result["import_over_raw_insert"] = round(ns["Import10k"] / ns["RawInsert10k"])
	result["due_query_ms_100k"] = round(ns["100k/Due"] / 1e6)
	worst := 0.0
	for _, search := range []string{"SearchRare", "SearchNone", "SearchOwner", "SearchPage", "SearchDue", "List"} {
		worst = max(worst, ns["100k/"+search])
		if ns["100k/"+search] == 0 {
			return fmt.Errorf("the benchmarks say nothing of %s", search)
		}
	}
	result["search_ms_100k"] = round(worst / 1e6)
	for _, key := range []string{"import_over_raw_insert", "due_query_ms_100k", "search_ms_100k"} {
		fmt.Printf("%-28s %10.3f\n", key, result[key])
	}
	return nil
}
