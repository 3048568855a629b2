package acmeclient_test

import (
	"context"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/acmeclient"
	"tansu/internal/certfiles"
	"tansu/internal/chesttest"
	"tansu/internal/core/cert"
	"tansu/internal/nameserver"
	"tansu/internal/server"
)

func must[T any](t *testing.T) func(T, error) T {
	return func(answer T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return answer
	}
}

// world is a chest of ours, and an authority outside: the ACME of another chest, of which it knows the directory and a binding.
type world struct {
	ours, outside *chesttest.Chest
	steward, app  *client.Client
	order         acmeclient.Order
	names         *nameserver.Server
	http, tls     string // where the authority looks
}

func start(t *testing.T) *world {
	t.Helper()
	ctx := t.Context()
	w := &world{names: must[*nameserver.Server](t)(nameserver.Start())}
	t.Cleanup(w.names.Stop)
	httpAt, tlsAt := chesttest.Port(t), chesttest.Port(t)
	w.http, w.tls = httpAt.String(), tlsAt.String()
	w.outside = chesttest.Start(t)
	if err := w.outside.Reopen(t, func(o *server.Options) {
		o.ACMEResolver, o.ACMEHTTPPort, o.ACMETLSPort = w.names.Address(), httpAt.Port, tlsAt.Port
	}); err != nil {
		t.Fatal(err)
	}
	w.outside.Fill(t, "gates", "secret", "v")
	them := w.outside.Client(t, w.outside.Steward)
	w.outside.App(t, "ferries", chesttest.Grant{Role: "subscriber", Scope: "gates/server"})
	binding := must[client.Issued](t)(them.IssueCredential(ctx, "app:ferries", client.NewCredential{Kind: "acme"}))
	must[client.Stored](t)(them.CreateAuthority(ctx, "gates", client.NewAuthority{Name: "authority", Subject: "Outside", Life: "365d"}))
	profile := `{"authority":"authority","names":["*.harbour.example"],"wildcards":true,"networks":["127.0.0.0/8"],"longest":"90d"}`
	must[client.Stored](t)(them.CreateItem(ctx, "gates", client.NewItem{Name: "server", Shape: "profile", Version: client.NewVersion{
		Value: base64.StdEncoding.EncodeToString([]byte(profile)), Encoding: "base64"}}))

	w.ours = chesttest.Start(t)
	w.ours.Fill(t, "web", "secret", "v")
	w.steward = w.ours.Client(t, w.ours.Steward)
	must[client.Stored](t)(w.steward.CreateItem(ctx, "web", client.NewItem{Name: "account", Key: &client.NewKeyFacts{Type: "ecdsa-p256"}}))
	encoded := base64.StdEncoding.EncodeToString
	login := []client.NewField{{Name: "user", Value: encoded([]byte(binding.ID))}, {Name: "password", Value: encoded([]byte(binding.Secret))}}
	must[client.Stored](t)(w.steward.CreateItem(ctx, "web", client.NewItem{Name: "binding", Shape: "login",
		Version: client.NewVersion{Fields: login, Encoding: "base64"}}))
	_, token := w.ours.App(t, "web-server", chesttest.Grant{Role: "consumer", Scope: "web/*"},
		chesttest.Grant{Role: "depositor", Scope: "web/site-*"}, chesttest.Grant{Role: "viewer", Scope: "web/site-1"})
	w.app = w.ours.Client(t, token)
	w.order = acmeclient.Order{From: w.outside.URL() + "/acme/gates/server/directory", Account: "web/account", Binding: "web/binding",
		Trust: filepath.Join(w.outside.Dir, "chest", "authority.crt"), Contact: []string{"web@ferries.example"}}
	return w
}

// Each way of proving a name has a certificate put beside a key that never left the chest, and the next one in the same item; what showed
// the proof is gone.
func TestACertificateIsOrderedFromOutside(t *testing.T) {
	w := start(t)
	records := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if r.FormValue("act") == "set" {
			w.names.Put(r.FormValue("name"), r.FormValue("text"))
		} else {
			w.names.Remove(r.FormValue("name"))
		}
	}))
	t.Cleanup(records.Close)
	webroot := t.TempDir()
	ways := map[string]func(o *acmeclient.Order) []string{
		"http": func(o *acmeclient.Order) []string { o.HTTP = w.http; return []string{"site-1.harbour.example"} },
		"tls": func(o *acmeclient.Order) []string {
			o.TLS = w.tls
			return []string{"site-2.harbour.example", "127.0.0.1"}
		},
		"dns": func(o *acmeclient.Order) []string {
			o.DNS = []string{"sh", "-c", `exec curl -sfG "` + records.URL + `" -d act="$0" -d name="$1" --data-urlencode text="$2"`}
			return []string{"*.harbour.example", "harbour-9.harbour.example"}
		},
		"webroot": func(o *acmeclient.Order) []string { o.Webroot = webroot; return []string{"site-4.harbour.example"} },
	}
	for way, change := range ways {
		o := w.order
		names := change(&o)
		if err := o.Check(); err != nil {
			t.Fatal(way, err)
		}
		served := func() error { return nil }
		if way == "webroot" { // whose server is gone before another way needs its address
			l := must[net.Listener](t)(net.Listen("tcp", w.http))
			s := &http.Server{Handler: http.FileServer(http.Dir(webroot))}
			go func() { _ = s.Serve(l) }()
			served = s.Close
		}
		for version := range 2 {
			made, err := o.Obtain(t.Context(), w.app, "web/site-"+way, names)
			if err != nil {
				t.Fatal(way, err)
			}
			facts := made.Version.Certificate
			if facts == nil || facts.Issuer != "CN=Outside" || len(facts.Names) != len(names) || made.Item.Current != made.Version.Version {
				t.Errorf("%s: %+v", way, made)
			}
			value := must[client.Value](t)(w.app.ReadValue(t.Context(), "web/site-"+way))
			key := must[any](t)(cert.ReadPrivate(value.Field("private")))
			if block, _ := pem.Decode(value.Field("certificate")); key == nil || block == nil || value.Version != 2*version+2 {
				t.Errorf("%s: version %d is served", way, value.Version)
			}
		}
		if err := served(); err != nil {
			t.Error(err)
		}
	}
	if left := must[[]string](t)(filepath.Glob(filepath.Join(webroot, ".well-known", "acme-challenge", "*"))); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	if left := w.names.Len(); left > 0 {
		t.Errorf("%d records are left in the zone", left)
	}
}

// What was begun is gone on with; what cannot be is refused with what to do, and leaves nothing served.
func TestAnOrderThatDoesNotWork(t *testing.T) {
	w := start(t)
	ctx := t.Context()
	w.order.HTTP = w.http
	names := []string{"site-1.harbour.example"}
	first := must[client.MadeCertificate](t)(w.app.RequestCertificate(ctx, "web", "site-1", client.Order{Names: names}))
	made := must[client.Stored](t)(w.order.Obtain(ctx, w.app, "web/site-1", names))
	if made.Version.Version != 2 || first.Version.Version != 1 {
		t.Errorf("the key that waited was not used: version %d", made.Version.Version)
	}
	must[client.Stored](t)(w.steward.CreateItem(ctx, "web", client.NewItem{Name: "other", Key: &client.NewKeyFacts{Type: "ed25519"}}))
	for _, c := range []struct {
		what, says string
		names      []string
		change     func(o *acmeclient.Order)
	}{
		{"a name that the authority does not give", "none of the names", []string{"site.elsewhere.example"}, func(*acmeclient.Order) {}},
		{"an account that is not bound", "wants the account bound", names, func(o *acmeclient.Order) { o.Binding = "" }},
		{"a binding that is none", "no binding", names, func(o *acmeclient.Order) { o.Binding = "web/secret" }},
		{"a key that ACME does not take", "neither ECDSA nor RSA", names, func(o *acmeclient.Order) { o.Account = "web/other" }},
		{"an authority that is not trusted", "certificate", names, func(o *acmeclient.Order) { o.Trust = "" }},
		{"a wildcard by http-01", "cannot be proved by http-01", []string{"*.harbour.example"}, func(*acmeclient.Order) {}},
		{"a proof that does not work", "site-2.harbour.example", []string{"site-2.harbour.example"}, func(o *acmeclient.Order) {
			o.HTTP, o.DNS = "", []string{"true"}
		}},
	} {
		o := w.order
		c.change(&o)
		if _, err := o.Obtain(ctx, w.app, "web/site-2", c.names); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.what, err)
		}
	}
	var problem *client.Problem
	if _, err := w.app.ReadValue(ctx, "web/site-2"); !errors.As(err, &problem) {
		t.Errorf("something is served: %v", err)
	}
	if _, err := w.order.Obtain(ctx, w.app, "web/other-place", names); !errors.As(err, &problem) || problem.Code != "refused" {
		t.Errorf("where they may not put it: %v", err)
	}
	for _, wrong := range []acmeclient.Order{{From: "http://ca.example/directory", Account: "web/account", HTTP: ":80"},
		{From: w.order.From, Account: "account", HTTP: ":80"}, {From: w.order.From, Account: "web/account"},
		{From: w.order.From, Account: "web/account", HTTP: ":80", TLS: ":443"},
		{From: w.order.From, Account: "web/account", Webroot: "www"}} {
		if err := wrong.Check(); err == nil {
			t.Errorf("it is taken: %+v", wrong)
		}
	}
}

// A host keeps the files of a certificate from outside: it is ordered when there is none, also when somebody began that and was stopped,
// and again when two thirds of its life are over.
func TestFilesAreKeptFromOutside(t *testing.T) {
	w := start(t)
	w.order.HTTP = w.http
	dir := t.TempDir()
	files := certfiles.Files{Certificate: "web/site-1", Both: filepath.Join(dir, "web.pem"), Order: &w.order,
		Names: []string{"site-1.harbour.example"}, Then: []string{"true"}}
	if err := files.Check(); err != nil {
		t.Fatal(err)
	}
	must[client.MadeCertificate](t)(w.app.RequestCertificate(t.Context(), "web", "site-1", client.Order{Names: files.Names}))
	serials := map[string]bool{}
	for _, ahead := range []time.Duration{0, 61 * 24 * time.Hour} {
		ctx, cancel := context.WithCancel(t.Context())
		ran, done := make(chan error, 10), make(chan struct{})
		keeper := certfiles.Keeper{Files: files, Chest: w.app, Log: slog.New(slog.DiscardHandler), Ran: func(err error) { ran <- err },
			Now: func() time.Time { return time.Now().Add(ahead) }}
		go func() { defer close(done); keeper.Keep(ctx) }()
		select {
		case err := <-ran:
			if err != nil {
				t.Error(err)
			}
		case <-time.After(30 * time.Second):
			t.Fatal("the files are not kept")
		}
		cancel()
		<-done
		block, _ := pem.Decode(must[[]byte](t)(os.ReadFile(files.Both)))
		serials[string(must[*x509.Certificate](t)(x509.ParseCertificate(block.Bytes)).Raw)] = true
	}
	if len(serials) != 2 {
		t.Errorf("they were the same: %v", serials)
	}
	for _, wrong := range []certfiles.Files{{Certificate: "web/x", Both: "/x", Order: &w.order},
		{Certificate: "web/x", Both: "/x", Order: &w.order, By: "web/p", Names: files.Names},
		{Certificate: "web/x", Both: "/x", Order: &acmeclient.Order{}, Names: files.Names}} {
		if err := wrong.Check(); err == nil {
			t.Errorf("it is taken: %+v", wrong)
		}
	}
}

// An authority that asks for other names, or names a file that is none, gets neither a record nor a file.
func TestAnAuthorityThatIsNotHonest(t *testing.T) {
	w := start(t)
	webroot := t.TempDir()
	var s *httptest.Server
	token, name := "../../../escaped", "site-1.harbour.example"
	s = httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		out.Header().Set("Replay-Nonce", "n")
		out.Header().Set("Location", s.URL+r.URL.Path)
		switch r.URL.Path {
		case "/directory":
			fmt.Fprintf(out, `{"newNonce":%[1]q,"newAccount":%[2]q,"newOrder":%[3]q}`, s.URL+"/nonce", s.URL+"/account", s.URL+"/order")
		case "/account", "/order":
			out.WriteHeader(http.StatusCreated)
			fmt.Fprintf(out, `{"status":"pending","authorizations":[%q],"finalize":%q}`, s.URL+"/name", s.URL+"/finalize")
		case "/name":
			fmt.Fprintf(out, `{"status":"pending","identifier":{"type":"dns","value":%q},"challenges":[{"type":"http-01","token":%q,"url":%q},`+
				`{"type":"dns-01","token":%[2]q,"url":%[3]q}]}`, name, token, s.URL+"/challenge")
		}
	}))
	t.Cleanup(s.Close)
	w.order.From, w.order.Binding = s.URL+"/directory", ""
	file := w.order
	file.Webroot = filepath.Join(webroot, "www", "a", "b")
	if _, err := file.Obtain(t.Context(), w.app, "web/site-1", []string{name}); err == nil ||
		!strings.Contains(err.Error(), "not in base64url") {
		t.Errorf("a token that leads elsewhere: %v", err)
	}
	record := w.order
	record.DNS = []string{"touch", filepath.Join(webroot, "ran")}
	name = "elsewhere.example"
	if _, err := record.Obtain(t.Context(), w.app, "web/site-1", []string{"site-1.harbour.example"}); err == nil ||
		!strings.Contains(err.Error(), "not what was ordered") {
		t.Errorf("a name that was not ordered: %v", err)
	}
	for _, path := range []string{"escaped", "ran", "www"} {
		if _, err := os.Stat(filepath.Join(webroot, path)); !os.IsNotExist(err) {
			t.Errorf("%s is there: %v", path, err)
		}
	}
}
