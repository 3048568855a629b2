package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"tansu/client"
)

// floodScript asks for one value again and again that is refused, and every other time for one that nobody asked for before.
const floodScript = `
local id, n = 0, 0
local threads = 0
function setup(thread) threads = threads + 1; thread:set("id", threads) end
wrk.headers["Authorization"] = "Bearer %s"
function request()
  n = n + 1
  if n %% 2 == 0 then return wrk.format("GET", "/api/values/ticketing-prod/guess-%s-" .. id .. "-" .. n) end
  return wrk.format("GET", "/api/values/ticketing-prod/db-password")
end
`

// flood lets one app be refused a million times, while another reads. Every refusal must be in the trail, by itself or
// counted, the reader must be served, and the file may grow by some megabytes only.
func flood(result map[string]any) error {
	b, err := newBench()
	if err != nil {
		return err
	}
	defer b.stop()
	ctx := context.Background()
	registered, err := b.auditor.Register(ctx, client.NewIdentity{Kind: "app", Name: "map-printer"})
	if err != nil {
		return err
	}
	anyone, err := client.New(client.Options{Address: b.service})
	if err != nil {
		return err
	}
	token, _, err := anyone.AppToken(ctx, "map-printer", registered.Credential.Secret)
	if err != nil {
		return err
	}
	before, started, refused := sizeOf(filepath.Join(b.dir, "chest")), time.Now(), 0
	const length, connections = 10, 64
	runs := 0
	var reader measurement
	for ; refused < *refusals; runs++ {
		script := filepath.Join(b.dir, "flood.lua")
		if err := os.WriteFile(script, fmt.Appendf(nil, floodScript, token, strconv.Itoa(runs)), 0o600); err != nil {
			return err
		}
		command := exec.Command("wrk", "-t", "2", "-c", strconv.Itoa(connections), "-d", fmt.Sprint(length, "s"), "-s", script, b.service)
		ended := make(chan error, 1)
		var out []byte
		go func() { var err error; out, err = command.CombinedOutput(); ended <- err }()
		*seconds = length - 2
		if reader, err = b.wrk(theService, 1); err != nil { // any answer but the value fails it
			return err
		}
		if err := <-ended; err != nil {
			return err
		}
		count := countLine.FindSubmatch(out)
		if count == nil {
			return fmt.Errorf("wrk said something else: %s", out)
		}
		n, err := strconv.Atoi(string(count[1]))
		if err != nil {
			return err
		}
		refused += n
	}
	took, grown := time.Since(started), sizeOf(filepath.Join(b.dir, "chest"))-before
	single, counted, err := b.refusalsAfterRestart(ctx)
	if err != nil {
		return err
	}
	result["flood_refusals"], result["flood_entries"], result["flood_counted"], result["flood_growth_mib"] = refused, single, counted,
		round(float64(grown)/(1<<20))
	fmt.Printf("%-28s %d refusals in %s: %d entries, %d counted; the directory grew by %.1f MiB, with the entries of another app's %d "+
		"reads in the last %d s (p99 %s)\n",
		"flood", refused, took.Round(time.Second), single, counted, float64(grown)/(1<<20), reader.requests, *seconds, reader.p99)
	if single+counted < refused || single+counted > refused+runs*connections { // those that were on their way when wrk stopped
		return errors.New("the trail does not tell of as many refusals as there were")
	}
	return nil
}

// refusalsAfterRestart restarts the service, at whose end what was counted becomes entries, and adds up.
func (b *bench) refusalsAfterRestart(ctx context.Context) (single, counted int, err error) {
	service := b.processes[0]
	_ = service.Process.Signal(syscall.SIGTERM)
	_ = service.Wait()
	if err := b.launch(b.service[len("http://"):], service.Path, service.Args[1:]...); err != nil {
		return 0, 0, err
	}
	b.processes[0] = b.processes[len(b.processes)-1]
	b.processes = b.processes[:len(b.processes)-1]
	filter := client.TrailFilter{Subject: "app:map-printer", Outcome: "refused", Limit: 500}
	for {
		page, err := b.auditor.Trail(ctx, filter)
		if err != nil {
			return 0, 0, err
		}
		for _, e := range page.Entries {
			if e.Count > 0 {
				counted += int(e.Count)
			} else {
				single++
			}
		}
		if filter.Cursor = page.NextCursor; filter.Cursor == "" {
			return single, counted, nil
		}
	}
}

// sizeOf is how many bytes the files of a directory take.
func sizeOf(dir string) (size int64) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			size += info.Size()
		}
	}
	return size
}
