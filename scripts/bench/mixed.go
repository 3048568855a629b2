package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	"tansu/client"
)

// mixedScript asks for values nine times in ten, and puts something in or lists a drawer the tenth time, by turns.
const mixedScript = `
local token, run = "%s", "%s"
local threads = 0
function setup(thread) threads = threads + 1; thread:set("id", threads) end
local n = 0
local headers = { ["Authorization"] = "Bearer " .. token, ["Content-Type"] = "application/json" }
function request()
  n = n + 1
  if n %% 20 == 10 then
    return wrk.format("POST", "/api/drawers/fleet-telemetry-prod/items", headers, '{"name":"' .. run .. '-' .. id .. "-" .. n .. '","version":{"value":"' .. string.format("%%02d%%010d", id, n) .. '","encoding":"base64"}}')
  elseif n %% 20 == 0 then
    return wrk.format("GET", "/api/drawers/crew-rota-prod", headers)
  end
  return wrk.format("GET", "/api/values/ticketing-prod/db-password", headers)
end
`

// mixed measures two minutes of mixed load while somebody watches the trail and an outlet is dead. Any answer that is not what
// was asked for fails it.
func mixed(result map[string]any) error {
	b, err := newBench("--outlet", "http://127.0.0.1:9/dead")
	if err != nil {
		return err
	}
	defer b.stop()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	token, err := b.prepareMixed(ctx)
	if err != nil {
		return err
	}
	var watched atomic.Int64
	go func() {
		_ = b.auditor.Watch(ctx, "", func(client.Entry) error { watched.Add(1); return nil })
	}()
	before := *seconds
	defer func() { *seconds = before }()
	load := func(run string, length int) (measurement, error) {
		if err := os.WriteFile(filepath.Join(b.dir, "mixed.lua"), fmt.Appendf(nil, mixedScript, token, run), 0o600); err != nil {
			return measurement{}, err
		}
		*seconds = length
		return b.wrkWith("mixed.lua", theService, "/", 64)
	}
	if _, err := load("early", 10); err != nil { // until memory is as full as it gets
		return err
	}
	early := residentOf(b.processes[0].Process.Pid)
	m, err := load("late", 120)
	if err != nil {
		return err
	}
	late := residentOf(b.processes[0].Process.Pid)
	result["mixed_per_second"], result["mixed_p99_us"], result["mixed_resident_mib_early"], result["mixed_resident_mib_late"] = round(m.rate),
		m.p99.Microseconds(), early, late
	fmt.Printf("%-28s %10.0f requests/s, p99 %s, no error; %d entries were watched; memory %.0f MiB after 10 s and %.0f MiB after 130 s\n",
		"mixed load", m.rate, m.p99, watched.Load(), early, late)
	return nil
}

// prepareMixed makes the drawers, and an app that may do all of it.
func (b *bench) prepareMixed(ctx context.Context) (string, error) {
	for _, drawer := range []string{"crew-rota-prod", "fleet-telemetry-prod"} {
		if _, err := b.auditor.CreateDrawer(ctx, client.NewDrawer{Name: drawer, Environment: "production"}); err != nil {
			return "", err
		}
	}
	for n := range 10 {
		item := client.NewItem{Name: fmt.Sprint("item-", n), Version: client.Content([]byte("a value"))}
		if _, err := b.auditor.CreateItem(ctx, "crew-rota-prod", item); err != nil {
			return "", err
		}
	}
	for role, scope := range map[string]string{"viewer": "crew-rota-prod/**", "depositor": "fleet-telemetry-prod/**"} {
		if _, err := b.auditor.Give(ctx, client.NewGrant{Subject: "app:ticket-api", Role: role, Scope: scope}); err != nil {
			return "", err
		}
	}
	headers, err := os.ReadFile(filepath.Join(b.dir, "headers.lua"))
	if err != nil {
		return "", err
	}
	_, token, _ := strings.Cut(string(headers), "Bearer ")
	token, _, _ = strings.Cut(token, `"`)
	return token, nil
}

// residentOf is the memory of a process in MiB.
func residentOf(pid int) float64 {
	content, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	var kib float64
	for line := range strings.Lines(string(content)) {
		if _, err := fmt.Sscanf(line, "VmRSS: %f kB", &kib); err == nil {
			break
		}
	}
	return round(kib / 1024)
}
