package certfiles_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/certfiles"
	"tansu/internal/chesttest"
	"tansu/internal/core/cert"
)

// start is a chest with a profile for gates, an app that may have its certificates, and where it keeps one.
func start(t *testing.T) (app *client.Client, files certfiles.Files) {
	t.Helper()
	chest := chesttest.Start(t)
	chest.Fill(t, "gates", "secret", "v")
	curator := chest.Client(t, chest.Person(t, "mika", chesttest.Grant{Role: "curator", Scope: "gates/**"}))
	_, token := chest.App(t, "gate-controller", chesttest.Grant{Role: "subscriber", Scope: "gates/server"},
		chesttest.Grant{Role: "depositor", Scope: "gates/gate-1"}, chesttest.Grant{Role: "consumer", Scope: "gates/gate-1"})
	ctx := t.Context()
	if _, err := curator.CreateAuthority(ctx, "gates", client.NewAuthority{Name: "authority", Subject: "Gates", Life: "365d"}); err != nil {
		t.Fatal(err)
	}
	profile := base64.StdEncoding.EncodeToString([]byte(`{"authority":"authority","names":["*.harbour.example"],"longest":"90d"}`))
	if _, err := curator.CreateItem(ctx, "gates", client.NewItem{Name: "server", Shape: "profile",
		Version: client.NewVersion{Value: profile, Encoding: "base64"}}); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	files = certfiles.Files{Certificate: "gates/gate-1", Both: filepath.Join(dir, "gate.pem"), By: "gates/server",
		Names: []string{"gate-1.harbour.example"}, Then: []string{"cp", filepath.Join(dir, "gate.pem"), filepath.Join(dir, "loaded.pem")}}
	if err := files.Check(); err != nil {
		t.Fatal(err)
	}
	return chest.Client(t, token), files
}

// keep keeps files until it is told to stop, by a clock that is ahead.
func keep(t *testing.T, files certfiles.Files, app *client.Client, ran chan error, ahead time.Duration) (stop func()) {
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	keeper := certfiles.Keeper{Files: files, Chest: app, Log: slog.New(slog.DiscardHandler), Ran: func(err error) { ran <- err },
		Now: func() time.Time { return time.Now().Add(ahead) }}
	go func() { defer close(done); keeper.Keep(ctx) }()
	return func() { cancel(); <-done }
}

// told waits until the program was told.
func told(t *testing.T, ran chan error) {
	t.Helper()
	select {
	case err := <-ran:
		if err != nil {
			t.Fatal(err)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("the program is not told")
	}
}

// A gate controller has its certificate issued, takes one that somebody else had renewed, replaces one that is revoked, and renews it when
// two thirds of its life are over; its program is told each time, and finds a certificate and a key that belong together.
func TestFilesOfACertificateAreKeptNew(t *testing.T) {
	app, files := start(t)
	ctx, ran := t.Context(), make(chan error, 10)
	loaded := func() string {
		t.Helper()
		told(t, ran)
		text, err := os.ReadFile(files.Then[2])
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
	stop := keep(t, files, app, ran, 0)
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
	if _, err := app.RevokeCertificate(ctx, "gates", "authority", renewed.Facts.Serial, "key_compromise"); err != nil {
		t.Fatal(err)
	}
	replaced := loaded()
	if replaced == renewed.Facts.Serial {
		t.Error("one that was revoked is loaded")
	}
	checks, err := app.Check(ctx, client.Preflight{References: []string{"gates/gate-1@2", "gates/gate-1"}})
	if err != nil || checks[0].Revoked != "key_compromise" || !strings.Contains(checks[0].Warning, "revoked") || checks[1].Revoked != "" {
		t.Errorf("what a preflight says: %+v, %v", checks, err)
	}
	stop()
	defer keep(t, files, app, ran, 61*24*time.Hour)()
	if third := loaded(); third == first || third == renewed.Facts.Serial || third == replaced {
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
		"where it goes":      {Certificate: "gates/gate-1", Chain: "/a"},
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

// A web server whose certificate is renewed while it is busy loses no request.
func TestAWebServerTakesARenewedCertificateUnderLoad(t *testing.T) {
	app, files := start(t)
	dir := filepath.Dir(files.Both)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := listener.Addr().String()
	_ = listener.Close()
	config := filepath.Join(dir, "nginx.conf")
	text := strings.NewReplacer("DIR", dir, "AT", at, "BOTH", files.Both).Replace(`daemon off; pid DIR/nginx.pid;
error_log DIR/error.log; events {}
http {
	access_log off;
	client_body_temp_path DIR/b; proxy_temp_path DIR/p; fastcgi_temp_path DIR/f; uwsgi_temp_path DIR/u; scgi_temp_path DIR/s;
	server { listen AT ssl; ssl_certificate BOTH; ssl_certificate_key BOTH; return 200 open; }
}
`)
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	nginx := func(arguments ...string) *exec.Cmd {
		return exec.Command("/usr/sbin/nginx", append([]string{"-c", config}, arguments...)...)
	}
	files.Then = []string{"/usr/sbin/nginx", "-c", config, "-s", "reload"}
	first := files
	first.Then = []string{"true"}
	ran := make(chan error, 10)
	stop := keep(t, first, app, ran, 0)
	told(t, ran)
	stop()
	server := nginx()
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = nginx("-s", "quit").Run(); _ = server.Wait() }()
	serials, failed, asked := map[string]bool{}, 0, 0
	ask := func() error {
		connection, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			return err
		}
		defer func() { _ = connection.Close() }()
		serials[cert.Serial(connection.ConnectionState().PeerCertificates[0].SerialNumber)] = true
		if _, err := io.WriteString(connection, "GET / HTTP/1.0\r\n\r\n"); err != nil {
			return err
		}
		answer, err := io.ReadAll(connection)
		if err == nil && !bytes.HasSuffix(answer, []byte("open")) {
			err = errors.New("another answer")
		}
		return err
	}
	for deadline := time.Now().Add(20 * time.Second); ask() != nil; {
		if time.Now().After(deadline) {
			t.Fatal("the web server does not start")
		}
	}
	defer keep(t, files, app, ran, 0)()
	told(t, ran) // a keeper that starts tells the program once
	for range 3 {
		if _, err := app.RenewCertificate(t.Context(), "gates", "gate-1", "", false); err != nil {
			t.Fatal(err)
		}
		for done := false; !done; asked++ {
			select {
			case err := <-ran:
				if done = true; err != nil {
					t.Fatal(err)
				}
			default:
			}
			if err := ask(); err != nil {
				failed++
				t.Logf("%v", err)
			}
		}
	}
	for shown := len(serials); len(serials) == shown && asked < 2_000; asked++ { // the last reload goes on behind the command
		if err := ask(); err != nil {
			failed++
		}
	}
	if failed > 0 || len(serials) < 2 {
		t.Errorf("%d of %d requests failed; %d certificates were shown", failed, asked, len(serials))
	}
}
