package main

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tansu/client"
)

// How much there is beside the reads: apps by drawers in the matrix, items that are searched, and how long each is asked.
const (
	besideApps    = 200
	besideDrawers = 31 // and the one that is read from
	besideItems   = 100_000
	besideFor     = 10 * time.Second
)

// beside measures the longest time in which none of 64 readers got an answer: with nothing else going on, while the matrix and a
// search are asked again and again, and while a large file is imported.
func beside(result map[string]any) error {
	b, err := newBench()
	if err != nil {
		return err
	}
	defer b.stop()
	ctx := context.Background()
	for n := range besideDrawers {
		if _, err := b.auditor.CreateDrawer(ctx, client.NewDrawer{Name: fmt.Sprintf("quay-%d", n), Environment: "production"}); err != nil {
			return err
		}
	}
	for n := range besideApps {
		name := fmt.Sprintf("gate-%d", n)
		if _, err := b.auditor.Register(ctx, client.NewIdentity{Kind: "app", Name: name}); err != nil {
			return err
		}
		scope := fmt.Sprintf("quay-%d/**", n%besideDrawers)
		if _, err := b.auditor.Give(ctx, client.NewGrant{Subject: "app:" + name, Role: "consumer", Scope: scope}); err != nil {
			return err
		}
	}
	part := func(what, key string, do func() (time.Duration, error)) error {
		p, err := b.readBeside(do)
		if err != nil {
			return err
		}
		fmt.Printf("%-28s %8.1f ms   %8d reads, p99 %6.1f ms, longest pause of all %6.1f ms\n", what, milliseconds(p.took), p.reads,
			milliseconds(p.p99), milliseconds(p.longest))
		result["pause_ms_"+key], result["read_p99_ms_"+key] = round(milliseconds(p.longest)), round(milliseconds(p.p99))
		return nil
	}
	if err := part("nothing beside", "alone", func() (time.Duration, error) { time.Sleep(besideFor); return 0, nil }); err != nil {
		return err
	}
	took, err := b.importBeside(ctx, "quay-1")
	if err != nil {
		return err
	}
	fmt.Printf("%-28s %8.1f ms\n", "an import of 100 000, alone", milliseconds(took))
	result["import_seconds_100k"] = round(took.Seconds())
	err = part("an import of 100 000", "beside_import", func() (time.Duration, error) { return b.importBeside(ctx, "quay-0") })
	if err != nil {
		return err
	}
	err = part("the matrix, and a search", "beside_matrix", func() (matrix time.Duration, err error) {
		asked := time.Duration(0)
		for began := time.Now(); time.Since(began) < besideFor; asked++ {
			at := time.Now()
			if _, err := b.auditor.Matrix(ctx); err != nil {
				return 0, err
			}
			matrix += time.Since(at)
			if _, err := b.auditor.Search(ctx, "key0999", ""); err != nil {
				return 0, err
			}
		}
		return matrix / asked, nil
	})
	if err != nil {
		return err
	}
	at := time.Now()
	if _, err := b.auditor.Matrix(ctx); err != nil {
		return err
	}
	result["matrix_ms_200x32"] = round(milliseconds(time.Since(at)))
	fmt.Printf("%-28s %8.1f ms\n", "the matrix, alone", milliseconds(time.Since(at)))
	return nil
}

// importBeside puts a file of many entries in, and returns how long that took.
func (b *bench) importBeside(ctx context.Context, drawer string) (time.Duration, error) {
	var text strings.Builder
	for n := range besideItems {
		fmt.Fprintf(&text, "KEY%07d=value %d\n", n, n)
	}
	began := time.Now()
	done, err := b.auditor.Import(ctx, drawer, client.NewImport{Format: "dotenv", Encoding: "base64",
		Content: base64.StdEncoding.EncodeToString([]byte(text.String()))})
	if err == nil && !done.Done {
		err = errors.New("the import was not done")
	}
	return time.Since(began), err
}

// pauses is what readers met while something was done.
type pauses struct {
	took    time.Duration // as what was done says
	reads   int
	p99     time.Duration // of a read
	longest time.Duration // between an answer to any of them and the next
}

// readBeside reads one value by 64 connections while do runs.
func (b *bench) readBeside(do func() (time.Duration, error)) (p pauses, err error) {
	headers, err := os.ReadFile(filepath.Join(b.dir, "headers.lua"))
	if err != nil {
		return p, err
	}
	_, token, _ := strings.Cut(string(headers), "Bearer ")
	token, _, _ = strings.Cut(token, `"`)
	app, err := client.New(client.Options{Address: b.service, Token: token})
	if err != nil {
		return p, err
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	const connections, warm = 64, 1000 // connections are made before it counts
	var all sync.WaitGroup
	var last, most, count atomic.Int64
	began := time.Now()
	failed := make(chan error, connections)
	times := make([][]time.Duration, connections)
	for reader := range connections {
		all.Go(func() {
			for at := time.Now(); ctx.Err() == nil; at = time.Now() {
				if _, _, err := app.Read(ctx, "ticketing-prod/db-password"); err != nil {
					if ctx.Err() == nil {
						failed <- err
					}
					return
				}
				now := time.Since(began).Nanoseconds()
				if count.Add(1) > warm {
					times[reader] = append(times[reader], time.Since(at))
					pause := now - last.Load()
					for old := most.Load(); pause > old && !most.CompareAndSwap(old, pause); old = most.Load() {
					}
				}
				last.Store(now)
			}
		})
	}
	p.took, err = do()
	stop()
	all.Wait()
	select {
	case lost := <-failed:
		err = errors.Join(err, lost)
	default:
	}
	sorted := slices.Sorted(slices.Values(slices.Concat(times...)))
	if len(sorted) == 0 {
		return p, errors.Join(err, errors.New("nothing was read"))
	}
	p.reads, p.p99, p.longest = len(sorted), sorted[len(sorted)*99/100], time.Duration(most.Load())
	return p, err
}
