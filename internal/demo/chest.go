package demo

import (
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"

	"tansu/internal/backup"
	"tansu/internal/core/envelope"
	"tansu/internal/core/recipient"
	"tansu/internal/core/secretvalue"
	"tansu/internal/opening"
	"tansu/internal/recovery"
	"tansu/internal/server"
	"tansu/internal/store"
)

// Chest is a running chest that was founded for a demonstration.
type Chest struct {
	*server.Server
	Clock     *Clock
	Dir       string
	Enrolment secretvalue.Value // the steward's
	unlock    secretvalue.Value // the content of its key file
}

// Options of a demonstration chest.
type Options struct {
	Dir       string // empty or not there yet; the chest goes into its directory "chest"
	Listen    string
	Transport server.Transport
	Console   http.Handler
	Log       *slog.Logger
	Version   string
	Backups   bool // make some every night, into the directory "backups"
}

// Start founds a chest by a key file, its clock 90 days behind if it is to be filled, and serves it unlocked.
func Start(o Options, clock *Clock) (*Chest, error) {
	chestDir, keyFile := filepath.Join(o.Dir, "chest"), filepath.Join(o.Dir, "unlock.key")
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the demo's directory: %w", err)
	}
	material := envelope.NewKeyFile(envelope.MethodKeyFile)
	if err := os.WriteFile(keyFile, material.Reveal(), 0o600); err != nil {
		return nil, fmt.Errorf("write the demo's key file: %w", err)
	}
	records, err := store.Create(chestDir)
	if err != nil {
		return nil, err
	}
	founded, err := opening.Found(records, opening.Founding{Method: envelope.MethodKeyFile, Material: material,
		Hosts: []string{"localhost", "127.0.0.1", "::1"}, Now: clock.Now})
	if err != nil {
		records.Discard()
		return nil, err
	}
	if err := records.Close(); err != nil {
		return nil, err
	}
	backups, err := backupsOf(o)
	if err != nil {
		return nil, err
	}
	s, err := server.Start(server.Options{Dir: chestDir, Backup: backups, Listen: o.Listen, Transport: o.Transport, KeyFile: keyFile,
		Console: o.Console, Log: o.Log, Version: o.Version, Now: clock.Now,
		IssuerNetworks: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}) // the demo stands in for the pipeline system
	if err != nil {
		return nil, err
	}
	return &Chest{Server: s, Clock: clock, Dir: o.Dir, Enrolment: founded.Enrolment, unlock: material}, nil
}

// backupsOf are the backups of a chest with a past: nightly, to a directory beside it, which would be another disk's elsewhere. The private
// key of their recipient lies beside them, as it must not elsewhere.
func backupsOf(o Options) (r recovery.Options, err error) {
	if !o.Backups {
		return r, nil
	}
	to := filepath.Join(o.Dir, "backups")
	if err := os.MkdirAll(to, 0o700); err != nil {
		return r, fmt.Errorf("make the directory of backups: %w", err)
	}
	private, public, err := recipient.New(false)
	if err != nil {
		return r, err
	}
	defer private.Wipe()
	key, err := recipient.ReadPublic(public)
	if err != nil {
		return r, err
	}
	if err := os.WriteFile(filepath.Join(o.Dir, "backup.key"), private.Reveal(), 0o600); err != nil {
		return r, fmt.Errorf("write the key of backups: %w", err)
	}
	destination, err := backup.To(to, filepath.Join(o.Dir, "chest"))
	// Rehearsals are done when somebody asks: one is due, and stays so until somebody does it.
	return recovery.Options{To: destination, Recipients: backup.Recipients{key}, Every: day, FullEvery: 7 * day, Keep: 8}, err
}
