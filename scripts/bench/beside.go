package main

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
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
	dir, err := os.MkdirTemp("", "tansu-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	b := &bench{dir: dir}
	defer b.stop()
	if err := b.start(); err != nil {
		return err
	}
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
	report := func(what string, took, longest time.Duration, reads int64) {
		fmt.Printf("%-28s %8.1f ms   longest pause of reads %8.1f ms   %8d reads\n", what, milliseconds(took), milliseconds(longest), reads)
	}
	_, longest, reads, err := b.readBeside(func() error { time.Sleep(besideFor); return nil })
	if err != nil {
		return err
	}
	report("nothing", 0, longest, reads)
	result["pause_ms_alone"] = round(milliseconds(longest))
	took, longest, reads, err := b.readBeside(func() error { return b.importBeside(ctx) })
	if err != nil {
		return err
	}
	report("an import of 100 000", took, longest, reads)
	result["pause_ms_beside_import"], result["import_seconds_100k"] = round(milliseconds(longest)), round(took.Seconds())
	asked, matrix := 0, time.Duration(0)
	_, longest, reads, err = b.readBeside(func() error {
		for began := time.Now(); time.Since(began) < besideFor; asked++ {
			at := time.Now()
			if _, err := b.auditor.Matrix(ctx); err != nil {
				return err
			}
			matrix += time.Since(at)
			if _, err := b.auditor.Search(ctx, "key0999", ""); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	report("the matrix, and a search", matrix/time.Duration(asked), longest, reads)
	result["pause_ms_beside_matrix"] = round(milliseconds(longest))
	at := time.Now()
	if _, err := b.auditor.Matrix(ctx); err != nil {
		return err
	}
	result["matrix_ms_200x32"] = round(milliseconds(time.Since(at)))
	report("the matrix alone", time.Since(at), 0, 0)
	return nil
}

// importBeside puts a file of many entries in.
func (b *bench) importBeside(ctx context.Context) error {
	var text strings.Builder
	for n := range besideItems {
		fmt.Fprintf(&text, "KEY%07d=value %d\n", n, n)
	}
	done, err := b.auditor.Import(ctx, "quay-0", client.NewImport{Format: "dotenv", Encoding: "base64",
		Content: base64.StdEncoding.EncodeToString([]byte(text.String()))})
	if err == nil && !done.Done {
		err = errors.New("the import was not done")
	}
	return err
}

// readBeside reads one value by 64 connections while do runs. It returns how long do took, the longest time between one answer
// and the next, and how many there were.
func (b *bench) readBeside(do func() error) (took, longest time.Duration, reads int64, err error) {
	headers, err := os.ReadFile(filepath.Join(b.dir, "headers.lua"))
	if err != nil {
		return 0, 0, 0, err
	}
	_, token, _ := strings.Cut(string(headers), "Bearer ")
	token, _, _ = strings.Cut(token, `"`)
	app, err := client.New(client.Options{Address: b.service, Token: token})
	if err != nil {
		return 0, 0, 0, err
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	var all sync.WaitGroup
	var last, most, count atomic.Int64
	began := time.Now()
	failed := make(chan error, 64)
	for range 64 {
		all.Go(func() {
			for ctx.Err() == nil {
				if _, _, err := app.Read(ctx, "ticketing-prod/db-password"); err != nil && ctx.Err() == nil {
					failed <- err
					return
				}
				now := time.Since(began).Nanoseconds()
				if count.Add(1) > 1000 { // connections are made before it counts
					pause := now - last.Load()
					for old := most.Load(); pause > old && !most.CompareAndSwap(old, pause); old = most.Load() {
					}
				}
				last.Store(now)
			}
		})
	}
	at := time.Now()
	err = do()
	took = time.Since(at)
	stop()
	all.Wait()
	select {
	case lost := <-failed:
		err = errors.Join(err, lost)
	default:
	}
	return took, time.Duration(most.Load()), count.Load(), err
}
