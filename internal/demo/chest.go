package demo

import (
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"

	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/opening"
	"tansu/internal/server"
	"tansu/internal/store"
)

// Chest is a running chest that was founded for a demonstration.
type Chest struct {
	*server.Server
	Clock     *Clock
	Dir       string
	Enrolment secretvalue.Value // the steward's
}

// Options of a demonstration chest.
type Options struct {
	Dir       string // empty or not there yet; the chest goes into its directory "chest"
	Listen    string
	Transport server.Transport
	Console   http.Handler
	Log       *slog.Logger
	Version   string
}

// Start founds a chest by a key file, its clock 90 days behind if it is to be filled, and serves it unlocked.
func Start(o Options, clock *Clock) (*Chest, error) {
	chestDir, keyFile := filepath.Join(o.Dir, "chest"), filepath.Join(o.Dir, "unlock.key")
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the demo's directory: %w", err)
	}
	material := envelope.NewKeyFile()
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
	s, err := server.Start(server.Options{Dir: chestDir, Listen: o.Listen, Transport: o.Transport, KeyFile: keyFile,
		Console: o.Console, Log: o.Log, Version: o.Version, Now: clock.Now,
		IssuerNetworks: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}) // the demo stands in for the pipeline system
	if err != nil {
		return nil, err
	}
	return &Chest{Server: s, Clock: clock, Dir: o.Dir, Enrolment: founded.Enrolment}, nil
}
