package certfiles_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/certfiles"
	"tansu/internal/chesttest"
	"tansu/internal/core/cert"
)

// A gate controller has its certificate issued, takes one that somebody else had renewed, and renews it itself when two thirds of its life
// are over; its program is told each time, and finds a certificate and a key that belong together.
func TestFilesOfACertificateAreKeptNew(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "gates", "secret", "v")
	curator := chest.Client(t, chest.Person(t, "mika", chesttest.Grant{Role: "curator", Scope: "gates/**"}))
	_, token := chest.App(t, "gate-controller", chesttest.Grant{Role: "subscriber", Scope: "gates/server"},
		chesttest.Grant{Role: "depositor", Scope: "gates/gate-1"}, chesttest.Grant{Role: "consumer", Scope: "gates/gate-1"})
	app := chest.Client(t, token)
	ctx := context.Background()
	if _, err := curator.CreateAuthority(ctx, "gates", client.NewAuthority{Name: "authority", Subject: "Gates", Life: "365d"}); err != nil {
		t.Fatal(err)
	}
	profile := base64.StdEncoding.EncodeToString([]byte(`{"authority":"authority","names":["*.harbour.example"],"longest":"90d"}`))
	if _, err := curator.CreateItem(ctx, "gates", client.NewItem{Name: "server", Shape: "profile",
		Version: client.NewVersion{Value: profile, Encoding: "base64"}}); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	files := certfiles.Files{Certificate: "gates/gate-1", Both: filepath.Join(dir, "gate.pem"), By: "gates/server",
		Names: []string{"gate-1.harbour.example"}, Then: []string{"cp", filepath.Join(dir, "gate.pem"), filepath.Join(dir, "loaded.pem")}}
	if err := files.Check(); err != nil {
		t.Fatal(err)
	}
	ran, later := make(chan error, 10), time.Duration(0)
	keep := func() (stop func()) {
		ctx, cancel := context.WithCancel(ctx)
		done := make(chan struct{})
		keeper := certfiles.Keeper{Files: files, Chest: app, Log: slog.New(slog.DiscardHandler), Ran: func(err error) { ran <- err },
			Now: func() time.Time { return time.Now().Add(later) }}
		go func() { defer close(done); keeper.Keep(ctx) }()
		return func() { cancel(); <-done }
	}
	loaded := func() string {
		t.Helper()
		select {
		case err := <-ran:
			if err != nil {
				t.Fatal(err)
			}
		case <-time.After(20 * time.Second):
			t.Fatal("the program is not told")
		}
		text, err := os.ReadFile(filepath.Join(dir, "loaded.pem"))
		if err != nil {
			t.Fatal(err)
		}
		key, err := cert.ReadPrivate(text[bytes.LastIndex(text, []byte("-----BEGIN")):])
		if err != nil {
			t.Fatal(err)
		}
		chain, _, err := cert.ReadChain(text[:bytes.LastIndex(text, []byte("-----BEGIN"))], key.Public())
		if err != nil {
			t.Fatal(err)
		}
		return cert.Describe(chain[0]).Serial
	}
	stop := keep()
	first := loaded()
	if info, err := os.Stat(files.Both); err != nil || info.Mode() != 0o400 {
		t.Errorf("%v, %v", info, err)
	}
	renewed, err := app.RenewCertificate(ctx, "gates", "gate-1", "", false)
	if err != nil {
		t.Fatal(err)
	}
	if second := loaded(); second != renewed.Facts.Serial || second == first {
		t.Errorf("%s is loaded, and not %s", second, renewed.Facts.Serial)
	}
	stop()
	later = 61 * 24 * time.Hour
	defer keep()()
	if third := loaded(); third == first || third == renewed.Facts.Serial {
		t.Errorf("it was not renewed: %s", third)
	}
	value, err := app.ReadValue(ctx, "gates/gate-1")
	if err != nil || value.Version < 3 {
		t.Errorf("version %d, %v", value.Version, err)
	}
}

func TestFilesThatMakeNoSenseAreRefused(t *testing.T) {
	for says, f := range map[string]certfiles.Files{
		"DRAWER/CERTIFICATE": {Certificate: "gates"},
		"one for both":       {Certificate: "gates/gate-1", Chain: "/a"},
		"for both":           {Certificate: "gates/gate-1", Chain: "/a", Key: "/b", Both: "/c"},
		"come together":      {Certificate: "gates/gate-1", Both: "/c", By: "gates/server"},
		"absolute":           {Certificate: "gates/gate-1", Both: "c"},
		"octal":              {Certificate: "gates/gate-1", Both: "/c", Mode: "u+r"},
		"DRAWER/PROFILE":     {Certificate: "gates/gate-1", Both: "/c", By: "server", Names: []string{"x"}},
	} {
		if err := f.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v", f, err)
		}
	}
}
