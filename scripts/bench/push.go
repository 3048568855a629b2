package main

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"tansu/client"
)

// waiters is how many wait for one value at once.
const waiters = 5000

// push measures what thousands who wait for a value cost, and how long it takes from a write until the last of them was told.
func push(result map[string]any) error {
	b, err := newBench()
	if err != nil {
		return err
	}
	defer b.stop()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	registered, err := b.auditor.IssueCredential(ctx, "app:ticket-api", client.NewCredential{})
	if err != nil {
		return err
	}
	app, err := client.New(client.Options{Address: b.service, App: "ticket-api",
		Secret: func() (string, error) { return registered.Secret, nil }})
	if err != nil {
		return err
	}
	before := residentOf(b.processes[0].Process.Pid)
	var there, told sync.WaitGroup
	there.Add(waiters)
	failed := make(chan error, waiters)
	version := 1
	for range waiters {
		go func() {
			first := true
			failed <- app.WatchValues(ctx, []string{reference}, func(client.Check) error {
				if first {
					first = false
					there.Done()
				} else {
					told.Done()
				}
				return nil
			})
		}()
	}
	if err := waitFor(&there, failed); err != nil {
		return err
	}
	after := residentOf(b.processes[0].Process.Pid)
	var times []time.Duration
	for range 5 {
		version++
		told.Add(waiters)
		started := time.Now()
		if _, err := b.auditor.AddVersion(ctx, "ticketing-prod", "db-password", 0,
			client.Content(fmt.Appendf(nil, "another value, number %d", version))); err != nil {
			return err
		}
		if err := waitFor(&told, failed); err != nil {
			return err
		}
		times = append(times, time.Since(started))
	}
	slices.Sort(times)
	result["push_5000_ms"], result["push_waiter_kib"] = round(float64(times[2].Microseconds())/1000), round((after-before)*1024/waiters)
	fmt.Printf("%-28s %10.1f  (%d waiters, %.1f KiB of memory each)\n", "push_5000_ms", result["push_5000_ms"], waiters,
		result["push_waiter_kib"])
	return nil
}

// waitFor waits for all of them, or for the first that fails.
func waitFor(all *sync.WaitGroup, failed <-chan error) error {
	done := make(chan struct{})
	go func() { all.Wait(); close(done) }()
	select {
	case <-done:
		return nil
	case err := <-failed:
		return fmt.Errorf("a waiter failed: %w", err)
	case <-time.After(2 * time.Minute):
		return fmt.Errorf("not all were told within two minutes")
	}
}
