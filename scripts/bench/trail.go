package main

import (
	"bufio"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// trailFigures measures a long trail: how soon the first page of what one item or one identity did is there, and how fast all
// of it is verified, next to what the machine takes to hash the same bytes. The file is built once and kept.
func trailFigures(result map[string]any) error {
	dir := filepath.Join("build", fmt.Sprintf("trail-%d", *entries))
	records, err := openTrail(dir)
	if err != nil {
		return err
	}
	defer func() { _ = records.Close() }()
	key := "trail_query_ms_" + short(*entries)
	worst := time.Duration(0)
	for what, f := range map[string]store.Filter{
		"a busy app":          {Subject: "app:a1"},
		"a person":            {Subject: "person:rare"},
		"an item":             {Target: "d7/i123"},
		"an item and an app":  {Target: "d3/i7", Subject: "app:a3"},
		"a drawer":            {Target: "d9"},
		"refusals":            {Outcome: "refused"},
		"an item, long ago":   {Target: "d7/i123", Until: begun.Add(10 * time.Minute)},
		"somebody not there":  {Subject: "person:nobody"},
		"an app's refusals":   {Subject: "app:a2", Outcome: "refused"},
		"from one address":    {Addr: "192.0.2.77"},
		"newest of all":       {},
		"an hour in between":  {Since: begun.Add(100 * time.Minute), Until: begun.Add(160 * time.Minute)},
		"a drawer's refusals": {Target: "d9", Outcome: "refused"},
	} {
		took, found, err := firstPage(records, f)
		if err != nil {
			return err
		}
		fmt.Printf("%-28s %10.1f ms, %d entries\n", what, milliseconds(took), found)
		worst = max(worst, took)
	}
	took, found, err := firstPage(records, store.Filter{RequestID: fmt.Sprint("q", *entries/3)})
	if err != nil {
		return err
	}
	fmt.Printf("%-28s %10.1f ms, %d entries\n", "one request", milliseconds(took), found)
	result[key], result["trail_request_ms_"+short(*entries)] = round(milliseconds(worst)), round(milliseconds(took))
	fmt.Printf("%-28s %10.1f\n", key, milliseconds(worst))
	return verifyFigures(records, dir, result)
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

func short(n int) string {
	if n%1_000_000 == 0 {
		return fmt.Sprintf("%dm", n/1_000_000)
	}
	return fmt.Sprint(n)
}

// firstPage is the median time of five until fifty entries are found.
func firstPage(records *store.Store, f store.Filter) (took time.Duration, found int, err error) {
	var times []time.Duration
	for range 5 {
		started := time.Now()
		found = 0
		if err := records.Entries(f, func(trail.Entry) bool { found++; return found < 50 }); err != nil {
			return 0, 0, err
		}
		times = append(times, time.Since(started))
	}
	slices.Sort(times)
	return times[len(times)/2], found, nil
}

// verifyFigures exports up to a million entries, hashes the file, and verifies it.
func verifyFigures(records *store.Store, dir string, result map[string]any) error {
	const most = 1_000_000
	path := filepath.Join(dir, "export.jsonl")
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	defer func() { _ = file.Close(); _ = os.Remove(path) }()
	out := bufio.NewWriterSize(file, 1<<20)
	var failed error
	started := time.Now()
	err = records.Bodies(1, func(seq uint64, body string) bool {
		_, failed = out.WriteString(body + "\n")
		return failed == nil && seq < most
	})
	if err = errors.Join(err, failed, out.Flush()); err != nil {
		return err
	}
	exported := time.Since(started)
	var hashed, verified []time.Duration
	peak := uint64(0)
	for range 3 {
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return err
		}
		started := time.Now()
		if _, err := io.Copy(sha256.New(), bufio.NewReaderSize(file, 1<<20)); err != nil {
			return err
		}
		hashed = append(hashed, time.Since(started))
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return err
		}
		started = time.Now()
		runtime.GC()
		report, err := trail.Verify(file, nil, func(n uint64) {
			if n%(1<<17) == 0 {
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				peak = max(peak, m.HeapInuse)
			}
		})
		if err != nil || len(report.Problems) > 0 {
			return fmt.Errorf("verify: %v, %w", report.Problems, err)
		}
		verified = append(verified, time.Since(started))
	}
	slices.Sort(hashed)
	slices.Sort(verified)
	result["verify_over_sha256"] = round(hashed[1].Seconds() / verified[1].Seconds())
	result["verify_seconds_1m"], result["export_seconds_1m"], result["verify_heap_mib"] = round(verified[1].Seconds()),
		round(exported.Seconds()), peak>>20
	fmt.Printf("%-28s %10.2f (verified in %.2f s, hashed in %.2f s, exported in %.1f s, heap %d MiB)\n", "verify_over_sha256",
		hashed[1].Seconds()/verified[1].Seconds(), verified[1].Seconds(), hashed[1].Seconds(), exported.Seconds(), peak>>20)
	return nil
}

var begun = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// openTrail opens the file, and builds it first if it is not there whole.
func openTrail(dir string) (*store.Store, error) {
	data, whole := filepath.Join(dir, "chest"), filepath.Join(dir, "whole")
	if _, err := os.Stat(whole); errors.Is(err, fs.ErrNotExist) {
		if err := os.RemoveAll(dir); err != nil {
			return nil, err
		}
		records, err := store.Create(data)
		if err != nil {
			return nil, err
		}
		if err := fillTrail(records); err != nil {
			return nil, err
		}
		if err := errors.Join(records.Close(), os.WriteFile(whole, nil, 0o600)); err != nil {
			return nil, err
		}
	}
	return store.Open(data)
}

// fillTrail records what ten drawers of two hundred items and nine apps could have done, with a rare person in between.
func fillTrail(records *store.Store) error {
	started, list := time.Now(), make([]trail.Entry, 0, 1000)
	for n := 1; n <= *entries; n++ {
		e := trail.Entry{At: begun.Add(time.Duration(n) * time.Millisecond), Subject: fmt.Sprintf("app:a%d", n%9), Via: "app_token",
			Action: "read_value",
			Target: fmt.Sprintf("d%d/i%d", n%10, (n/10)%200), Version: 1, Outcome: trail.Allowed, Grant: fmt.Sprintf("gr_ht3edmpvr34df%d", n%9),
			RequestID: fmt.Sprint("q", n), Addr: fmt.Sprintf("192.0.2.%d", n%100)}
		switch {
		case n%100_003 == 0:
			e.Subject, e.Via = "person:rare", "session"
		case n%1009 == 0:
			e.Outcome, e.Reason, e.Grant, e.Receipt = trail.Refused, "no_grant", "", fmt.Sprintf("rc%d", n)
		}
		if list = append(list, e); len(list) == cap(list) || n == *entries {
			if err := records.Submit(&store.Work{Entry: list[0], More: list[1:]}); err != nil {
				return err
			}
			list = list[:0]
		}
		if n%1_000_000 == 0 {
			fmt.Printf("%d entries after %.0f s\n", n, time.Since(started).Seconds())
		}
	}
	return records.CatchUp()
}
