package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"tansu/client"
	"tansu/internal/core/secretvalue"
	"tansu/internal/shelf"
)

// turned is how many drawers there are when the root key is rotated.
const turned = 1000

// keep measures what brings a chest back: backing up one of many items beside copying its file, reads beside that, restoring, and turning
// the root key.
func keep(result map[string]any) error {
	dir, err := os.MkdirTemp("", "tansu-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	recipient := filepath.Join(dir, "backup.key")
	if out, err := exec.Command("bin/tansu", "recipient", recipient).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	s := &side{b: &bench{dir: filepath.Join(dir, "many")}, count: *items, options: []string{"--backup-to", dir, "--backup-recipient",
		recipient + ".pub", "--backup-every", "0", "--rehearse-every", "0"}}
	defer s.b.stop()
	if err := s.start(); err != nil {
		return err
	}
	steward, err := client.New(client.Options{Address: s.b.service, Token: s.steward})
	if err != nil {
		return err
	}
	if err := s.beside(steward, result); err != nil {
		return err
	}
	if err := incremental(steward, result); err != nil {
		return err
	}
	var copies, backups []time.Duration
	for n := range *rounds {
		took, err := copyFile(filepath.Join(s.b.dir, "chest", "chest.db"), filepath.Join(dir, "copy"))
		if err != nil {
			return err
		}
		copies = append(copies, took)
		began := time.Now()
		out := filepath.Join(dir, fmt.Sprintf("made-%d.tansu-backup", n))
		if text, err := exec.Command("bin/tansu", "backup", "make", "--dir", filepath.Join(s.b.dir, "chest"), "--backup-recipient",
			recipient+".pub", "--out", out).CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, text)
		}
		backups = append(backups, time.Since(began))
	}
	result["backup_seconds"], result["copy_seconds"] = round(middle(backups).Seconds()), round(middle(copies).Seconds())
	result["backup_over_copy"] = round(middle(backups).Seconds() / middle(copies).Seconds())
	if err := restoreFigures(filepath.Join(dir, "made-0.tansu-backup"), recipient, filepath.Join(s.b.dir, "key"), dir, result); err != nil {
		return err
	}
	if err := turnFigures(result); err != nil {
		return err
	}
	for _, key := range []string{"copy_seconds", "backup_seconds", "backup_over_copy", "reads_beside_backup", "backup_seconds_beside_reads",
		"incremental_seconds", "incremental_mib", "restore_seconds", "restore_seconds_to_ready", "turn_root_key_seconds"} {
		fmt.Printf("%-28s %10.3f\n", key, result[key])
	}
	return nil
}

// between is how much is written between two backups that add to each other: what a busy day has in five minutes.
const between = 100

// incremental measures backups that add to the last one: how often they can be made is how little is lost.
func incremental(steward *client.Client, result map[string]any) error {
	if _, err := steward.CreateDrawer(context.Background(), client.NewDrawer{Name: "since-then", Environment: "staging"}); err != nil {
		return err
	}
	var took []time.Duration
	for n := range *rounds {
		for i := range between {
			if _, err := steward.CreateItem(context.Background(), "since-then", client.NewItem{Name: fmt.Sprintf("item-%d-%d", n, i),
				Version: client.Content([]byte("a made-up value"))}); err != nil {
				return err
			}
		}
		began := time.Now()
		b, err := steward.BackUp(context.Background(), false)
		if err != nil {
			return err
		}
		if b.AddsTo == "" {
			return errors.New("a full backup was made in the place of one that adds to the last")
		}
		took = append(took, time.Since(began))
		result["incremental_mib"] = round(float64(b.Size) / (1 << 20))
	}
	result["incremental_seconds"] = round(middle(took).Seconds())
	return nil
}

// beside measures reads alone, and while the service makes backups.
func (s *side) beside(steward *client.Client, result map[string]any) error {
	var alone, beside []measurement
	var took time.Duration
	for range *rounds {
		m, err := s.read()
		if err != nil {
			return err
		}
		alone = append(alone, m)
		ctx, end := context.WithCancel(context.Background())
		done := make(chan error, 1)
		go func() {
			began := time.Now()
			_, err := steward.BackUp(ctx, true)
			took = max(took, time.Since(began))
			done <- err
		}()
		if m, err = s.read(); err != nil {
			end()
			return err
		}
		beside = append(beside, m)
		err = <-done // it is made faster when nobody reads any more
		end()
		if err != nil {
			return err
		}
	}
	result["reads_beside_backup"] = round(median(beside).rate / median(alone).rate)
	result["backup_seconds_beside_reads"] = round(took.Seconds())
	return nil
}

func middle(list []time.Duration) time.Duration {
	all := make([]measurement, len(list))
	for i, d := range list {
		all[i] = measurement{rate: d.Seconds()}
	}
	return time.Duration(median(all).rate * float64(time.Second))
}

// copyFile is what cp does, and then fsync.
func copyFile(from, to string) (took time.Duration, err error) {
	began := time.Now()
	in, err := os.Open(from)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, in.Close()) }()
	out, err := os.Create(to)
	if err != nil {
		return 0, err
	}
	_, err = io.Copy(out, in)
	err = errors.Join(err, out.Sync(), out.Close())
	return time.Since(began), err
}

func restoreFigures(backup, recipient, key, dir string, result map[string]any) error {
	again := filepath.Join(dir, "again")
	began := time.Now()
	if text, err := exec.Command("bin/tansu", "restore", backup, "--key", recipient, "--dir", again).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, text)
	}
	result["restore_seconds"] = round(time.Since(began).Seconds())
	address, err := freeAddress()
	if err != nil {
		return err
	}
	b := &bench{dir: filepath.Join(dir, "nothing"), service: "http://" + address}
	defer b.stop()
	if err := b.launch(address, "bin/tansu", "serve", "--dir", again, "--key-file", key, "--plain-http", "--listen", address); err != nil {
		return err
	}
	result["restore_seconds_to_ready"] = round(time.Since(began).Seconds())
	return nil
}

func turnFigures(result map[string]any) error {
	return inProcess(func(s *scale) error {
		for n := range turned {
			if _, err := s.vault.CreateDrawer(s.steward, shelf.NewDrawer{Name: fmt.Sprintf("quay-%04d", n), Environment: "staging"}); err != nil {
				return err
			}
		}
		began := time.Now()
		wrapped, err := s.vault.RotateRoot(s.steward, secretvalue.New(s.material.Reveal()))
		if err != nil || wrapped != turned+1 {
			return fmt.Errorf("rotating the root key: %d keys, %w", wrapped, err)
		}
		result["turn_root_key_seconds"] = round(time.Since(began).Seconds())
		return nil
	})
}
