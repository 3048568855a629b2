// Command bench measures what an audited read costs: the real service and a bare Echo handler that answers the same
// bytes, driven by wrk in alternation, in one run on one machine. Only the ratios mean something elsewhere.
//
// The service runs as it always does: token, decision, decryption and a durable trail entry in every read. Afterwards
// the trail must have an entry for every answer that wrk counted, or the run fails.
package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/labstack/echo/v5"

	"tansu/client"
)

var (
	bare    = flag.String("bare", "", "serve this file's bytes with a bare Echo handler (used by the command itself)")
	listen  = flag.String("listen", "", "where the bare handler listens")
	seconds = flag.Int("seconds", 5, "how long each measurement lasts")
	rounds  = flag.Int("rounds", 3, "how many alternations")
	items   = flag.Int("items", 1_000_000, "how many items the large chest has")
	entries = flag.Int("entries", 1_000_000, "how many entries the long trail has")
	only    = flag.String("only", "", "measure one part only: reads, decisions, search, items, trail, apps, push, agent, beside, mixed, "+
		"keys, certificates, scale, hunger, keep, flood or timing")
	refusals    = flag.Int("refusals", 1_000_000, "how many refusals a flood has")
	connections = []int{1, 64, 256}
)

const reference = "ticketing-prod/db-password"

func main() {
	flag.Parse()
	if *bare != "" {
		log.Fatal(serveBare(*bare, *listen))
	}
	if err := run(); err != nil {
		log.Fatal(err)
	}
}

func serveBare(file, address string) error {
	answer, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	e := echo.New()
	e.GET("/api/values/:drawer/:item", func(c *echo.Context) error { return c.Blob(http.StatusOK, "application/json", answer) })
	e.POST("/api/keys/:drawer/:item/use", bareUse())
	server := &http.Server{Addr: address, Handler: e, ReadHeaderTimeout: 10 * time.Second}
	return server.ListenAndServe()
}

// measurement is one wrk run.
type measurement struct {
	rate     float64 // requests per second
	p50, p99 time.Duration
	requests int
	cpu      time.Duration // processor time of the side that answered, for each request
}

func run() error {
	result := map[string]any{"go": goVersion(), "seconds": *seconds, "rounds": *rounds}
	for _, part := range []struct {
		name    string
		measure func(map[string]any) error
	}{{"reads", reads}, {"decisions", decisions}, {"search", shelfBenchmarks}, {"items", manyItems}, {"trail", trailFigures}, {"apps", apps},
		{"push", push}, {"agent", agentFetch}, {"beside", beside}, {"mixed", mixed}, {"keys", keyUses}, {"certificates", certificates},
		{"scale", atScale}, {"flood", flood},
		{"timing", timing}, {"hunger", hunger}, {"keep", keep}} {
		aside := part.name == "flood" || part.name == "timing" // minutes that say nothing of speed
		if *only != "" && *only != part.name || *only == "" && aside {
			continue
		}
		if err := part.measure(result); err != nil {
			return err
		}
	}
	return write(result)
}

// reads measures an audited read against the bare handler.
func reads(result map[string]any) error {
	b, err := newBench()
	if err != nil {
		return err
	}
	defer b.stop()
	before, err := b.entries()
	if err != nil {
		return err
	}
	fmt.Printf("%-12s %14s %14s %8s %14s %14s %8s %8s\n", "connections", "audited req/s", "bare req/s", "ratio", "audited p99", "bare p99",
		"CPU us", "bare")
	total := 0
	for _, c := range connections {
		var audited, plain []measurement
		for range *rounds {
			for _, side := range []struct {
				process int
				to      *[]measurement
			}{{theService, &audited}, {bareHandler, &plain}} {
				m, err := b.wrk(side.process, c)
				if err != nil {
					return err
				}
				*side.to = append(*side.to, m)
			}
		}
		for _, m := range audited {
			total += m.requests
		}
		a, p := median(audited), median(plain)
		key := fmt.Sprintf("c%d", c)
		result["audited_read_over_bare_"+key] = round(a.rate / p.rate)
		result["audited_read_per_second_"+key], result["bare_per_second_"+key] = round(a.rate), round(p.rate)
		result["audited_read_p99_us_"+key], result["bare_p99_us_"+key] = a.p99.Microseconds(), p.p99.Microseconds()
		result["audited_read_p99_over_bare_"+key] = round(float64(a.p99) / float64(p.p99))
		result["audited_read_cpu_us_"+key], result["bare_cpu_us_"+key] = round(micros(a.cpu)), round(micros(p.cpu))
		if c == 1 {
			if err := b.lone(result, a, p); err != nil {
				return err
			}
		}
		if c == 64 {
			if total, err = b.batches(result, total, p); err != nil {
				return err
			}
		}
		fmt.Printf("%-12d %14.0f %14.0f %8.3f %14s %14s %8.1f %8.1f\n", c, a.rate, p.rate, a.rate/p.rate, a.p99, p.p99, micros(a.cpu),
			micros(p.cpu))
	}
	after, err := b.entries()
	if err != nil {
		return err
	}
	fmt.Printf("\n%d answers were counted, %d entries are in the trail for them.\n", total, after-before)
	if int(after-before) < total {
		return errors.New("there are answers without an entry")
	}
	return nil
}

// lone says how much longer a client that is alone waits than for the bare handler, next to what a sync of the disk takes.
func (b *bench) lone(result map[string]any, audited, bare measurement) error {
	sync, err := syncTime(filepath.Join(b.dir, "chest"))
	if err != nil {
		return err
	}
	result["fsync_us"], result["lone_wait_us"] = sync.Microseconds(), (audited.p50 - bare.p50).Microseconds()
	fmt.Printf("             a lone client waits %s longer than for the bare handler; one sync of the disk takes %s\n", audited.p50-bare.p50,
		sync)
	return nil
}

// syncTime is the median time of appending a page to a file and syncing it.
func syncTime(dir string) (time.Duration, error) {
	file, err := os.CreateTemp(dir, "sync-*")
	if err != nil {
		return 0, err
	}
	defer func() { _ = file.Close(); _ = os.Remove(file.Name()) }()
	var times []time.Duration
	for range 500 {
		started := time.Now()
		if _, err := file.Write(make([]byte, 4096)); err != nil {
			return 0, err
		}
		if err := file.Sync(); err != nil {
			return 0, err
		}
		times = append(times, time.Since(started))
	}
	slices.Sort(times)
	return times[len(times)/2], nil
}

// inBatch is how many references one call of the batch asks for.
const inBatch = 20

// batches measures values that are asked for 20 at a time, at 64 connections.
func (b *bench) batches(result map[string]any, total int, bare measurement) (int, error) {
	var list []measurement
	for range *rounds {
		m, err := b.wrkWith("batch.lua", theService, "/api/values", 64)
		if err != nil {
			return total, err
		}
		list, total = append(list, m), total+m.requests*inBatch
	}
	m := median(list)
	result["batch20_values_over_bare"], result["batch20_values_per_second"] = round(m.rate*inBatch/bare.rate), round(m.rate*inBatch)
	result["batch20_cpu_us_per_value"] = round(micros(m.cpu) / inBatch)
	fmt.Printf("%-12s %14.0f values/s in calls for %d each: %.2f times the bare handler's requests; %.1f us of CPU for each\n", "64",
		m.rate*inBatch, inBatch, m.rate*inBatch/bare.rate, micros(m.cpu)/inBatch)
	return total, nil
}

// decisions adds what Go benchmarks measure: a decision among few and many grants, who-can, and the difference of a
// policy.
func decisions(result map[string]any) error {
	ns, err := benchmarks("Decision|WhoCan|PolicyDiff|Paths20k", "./internal/core/access", "./internal/service")
	if err != nil {
		return err
	}
	for name, figure := range map[string]struct {
		key  string
		unit float64 // nanoseconds
	}{"DecisionG10": {"decision_ns_g10", 1}, "DecisionG100k": {"decision_ns_g100k", 1}, "WhoCan100k": {"who_can_ms_100k", 1e6},
		"PolicyDiff10k": {"policy_diff_ms_10k", 1e6}, "Paths20k": {"paths_ms_20k", 1e6}} {
		nanoseconds, found := ns[name]
		if !found {
			return fmt.Errorf("the benchmarks say nothing of %s", name)
		}
		result[figure.key] = round(nanoseconds / figure.unit)
		fmt.Printf("%-28s %10.1f\n", figure.key, nanoseconds/figure.unit)
	}
	return nil
}

func micros(d time.Duration) float64 { return float64(d.Nanoseconds()) / 1e3 }

func round(x float64) float64 { return float64(int(x*1000+0.5)) / 1000 }

func median(list []measurement) measurement {
	middle := func(less func(a, b measurement) int) measurement {
		return slices.SortedFunc(slices.Values(list), less)[len(list)/2]
	}
	return measurement{
		rate: middle(func(a, b measurement) int { return cmp.Compare(a.rate, b.rate) }).rate,
		p50:  middle(func(a, b measurement) int { return cmp.Compare(a.p50, b.p50) }).p50,
		p99:  middle(func(a, b measurement) int { return cmp.Compare(a.p99, b.p99) }).p99,
		cpu:  middle(func(a, b measurement) int { return cmp.Compare(a.cpu, b.cpu) }).cpu,
	}
}

func goVersion() string {
	out, err := exec.Command("go", "version").Output()
	if err != nil {
		return "unknown"
	}
	return string(out[:len(out)-1])
}

func write(result map[string]any) error {
	encoded, err := json.MarshalIndent(result, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll("build", 0o755); err != nil {
		return err
	}
	return os.WriteFile("build/bench.json", append(encoded, '\n'), 0o644)
}

// bench is a chest with one secret and one app, and the bare handler beside it.
type bench struct {
	dir           string
	service, bare string
	processes     []*exec.Cmd
	auditor       *client.Client
	options       []string // more of them for the service
}

// newBench starts a chest, with more options for it, and the bare handler.
func newBench(options ...string) (*bench, error) {
	dir, err := os.MkdirTemp("", "tansu-bench-")
	if err != nil {
		return nil, err
	}
	b := &bench{dir: dir, options: options}
	if err := b.start(); err != nil {
		b.stop()
		return nil, err
	}
	return b, nil
}

// stop ends the processes, and removes their files.
func (b *bench) stop() {
	defer func() { _ = os.RemoveAll(b.dir) }()
	for _, p := range b.processes {
		_ = p.Process.Signal(syscall.SIGTERM)
		_ = p.Wait()
	}
}

func (b *bench) start() error {
	ctx := context.Background()
	chest, key := filepath.Join(b.dir, "chest"), filepath.Join(b.dir, "key")
	out, err := exec.Command("bin/tansu", "init", "--dir", chest, "--key-file", key, "-o", "json").Output()
	if err != nil {
		return fmt.Errorf("init: %w", err)
	}
	var founded struct {
		Code string `json:"enrolment_code"`
	}
	if err := json.Unmarshal(out, &founded); err != nil {
		return err
	}
	address, err := freeAddress()
	if err != nil {
		return err
	}
	b.service = "http://" + address
	serve := append([]string{"serve", "--dir", chest, "--key-file", key, "--plain-http", "--listen", address}, b.options...)
	if err := b.launch(address, "bin/tansu", serve...); err != nil {
		return err
	}
	anyone, err := client.New(client.Options{Address: b.service})
	if err != nil {
		return err
	}
	session, err := anyone.Enrol(ctx, founded.Code, "a password of the bench")
	if err != nil {
		return err
	}
	if b.auditor, err = client.New(client.Options{Address: b.service, Token: session.Token}); err != nil {
		return err
	}
	return b.fill(ctx, anyone)
}

func (b *bench) fill(ctx context.Context, anyone *client.Client) error {
	if _, err := b.auditor.CreateDrawer(ctx, client.NewDrawer{Name: "ticketing-prod", Environment: "production"}); err != nil {
		return err
	}
	item := client.NewItem{Name: "db-password", Version: client.Content([]byte("a value of thirty-two characters"))}
	if _, err := b.auditor.CreateItem(ctx, "ticketing-prod", item); err != nil {
		return err
	}
	registered, err := b.auditor.Register(ctx, client.NewIdentity{Kind: "app", Name: "ticket-api"})
	if err != nil {
		return err
	}
	if _, err := b.auditor.Give(ctx, client.NewGrant{Subject: "app:ticket-api", Role: "consumer", Scope: "ticketing-prod/**"}); err != nil {
		return err
	}
	token, _, err := anyone.AppToken(ctx, "ticket-api", registered.Credential.Secret)
	if err != nil {
		return err
	}
	return b.startBare(token)
}

// startBare lets the bare handler answer the very bytes that the service answers.
func (b *bench) startBare(token string) error {
	request, err := http.NewRequest(http.MethodGet, b.service+"/api/values/"+reference, nil)
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer func() { _ = response.Body.Close() }()
	body, err := io.ReadAll(response.Body)
	if err != nil || response.StatusCode != http.StatusOK {
		return fmt.Errorf("read the value once: %s: %w", response.Status, err)
	}
	answer := filepath.Join(b.dir, "answer")
	if err := os.WriteFile(answer, body, 0o600); err != nil {
		return err
	}
	script := fmt.Sprintf("wrk.headers[\"Authorization\"] = \"Bearer %s\"\n", token)
	if err := os.WriteFile(filepath.Join(b.dir, "headers.lua"), []byte(script), 0o600); err != nil {
		return err
	}
	asked := `{\"references\":[` + strings.TrimSuffix(strings.Repeat(`\"`+reference+`\",`, inBatch), ",") + `]}`
	batch := script + "wrk.method = \"POST\"\nwrk.headers[\"Content-Type\"] = \"application/json\"\nwrk.body = \"" + asked + "\"\n"
	if err := os.WriteFile(filepath.Join(b.dir, "batch.lua"), []byte(batch), 0o600); err != nil {
		return err
	}
	address, err := freeAddress()
	if err != nil {
		return err
	}
	b.bare = "http://" + address
	return b.launch(address, os.Args[0], "-bare", answer, "-listen", address)
}

// launch starts a process and returns when it accepts connections.
func (b *bench) launch(address, program string, arguments ...string) error {
	command := exec.Command(program, arguments...)
	command.Stderr = os.Stderr
	if slices.Contains(arguments, "serve") {
		command.Stderr = nil // its log would stand between the figures
	}
	if err := command.Start(); err != nil {
		return err
	}
	b.processes = append(b.processes, command)
	for deadline := time.Now().Add(3 * time.Minute); /* a chest of a million items is checked whole first */ time.Now().Before(deadline); {
		connection, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil {
			return connection.Close()
		}
		time.Sleep(20 * time.Millisecond)
	}
	return fmt.Errorf("%s does not listen on %s", program, address)
}

func freeAddress() (string, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer func() { _ = listener.Close() }()
	return listener.Addr().String(), nil
}

// entries is the number of the newest entry in the trail.
func (b *bench) entries() (uint64, error) {
	page, err := b.auditor.Trail(context.Background(), client.TrailFilter{Limit: 1})
	if err != nil {
		return 0, err
	}
	return page.Entries[0].Seq, nil
}

var (
	rateLine  = regexp.MustCompile(`Requests/sec:\s+([\d.]+)`)
	countLine = regexp.MustCompile(`(\d+) requests in`)
	midLine   = regexp.MustCompile(`50%\s+([\d.]+)(us|ms|s)`)
	tailLine  = regexp.MustCompile(`99%\s+([\d.]+)(us|ms|s)`)
	badLine   = regexp.MustCompile(`Non-2xx|Socket errors`)
)

// The sides, by their places among the processes.
const (
	theService = iota
	bareHandler
)

func (b *bench) wrk(side, connections int) (measurement, error) {
	return b.wrkWith("headers.lua", side, "/api/values/"+reference, connections)
}

// cpu is how much processor time a side has taken. The clock of /proc counts hundredths of a second.
func (b *bench) cpu(side int) (time.Duration, error) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", b.processes[side].Process.Pid))
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(stat), ") ") // proc_pid_stat(5): utime and stime are fields 14 and 15
	fields, ticks := strings.Fields(rest), 0
	for _, text := range fields[11:13] {
		n, err := strconv.Atoi(text)
		if err != nil {
			return 0, err
		}
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond, nil
}

func (b *bench) wrkWith(script string, side int, path string, connections int) (m measurement, err error) {
	url := []string{b.service, b.bare}[side]
	before, err := b.cpu(side)
	if err != nil {
		return m, err
	}
	out, err := exec.Command("wrk", "-t", strconv.Itoa(min(2, connections)), "-c", strconv.Itoa(connections), "-d",
		fmt.Sprintf("%ds", *seconds),
		"--latency", "-s", filepath.Join(b.dir, script), url+path).CombinedOutput()
	if err != nil || badLine.Match(out) {
		return m, fmt.Errorf("wrk on %s: %w: %s", url, err, out)
	}
	rate, count, mid, tail := rateLine.FindSubmatch(out), countLine.FindSubmatch(out), midLine.FindSubmatch(out), tailLine.FindSubmatch(out)
	if rate == nil || count == nil || mid == nil || tail == nil {
		return m, fmt.Errorf("wrk said something else: %s", out)
	}
	if m.rate, err = strconv.ParseFloat(string(rate[1]), 64); err != nil {
		return m, err
	}
	if m.requests, err = strconv.Atoi(string(count[1])); err != nil {
		return m, err
	}
	if m.p50, err = time.ParseDuration(string(mid[1]) + string(mid[2])); err != nil {
		return m, err
	}
	if m.p99, err = time.ParseDuration(string(tail[1]) + string(tail[2])); err != nil {
		return m, err
	}
	after, err := b.cpu(side)
	m.cpu = (after - before) / time.Duration(m.requests)
	return m, err
}
