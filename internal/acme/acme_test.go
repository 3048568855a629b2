package acme_test

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/acme"

	"tansu/client"
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

// gates is a chest with an authority for gates, an app that may have certificates of it by ACME, and where its names are proved.
type gates struct {
	*chesttest.Chest
	curator   *client.Client
	directory string
	binding   client.Issued
	names     *nameserver.Server
	http, tls net.Listener
	root      string
}

var ctx = context.Background()

func start(t *testing.T) *gates {
	t.Helper()
	g := &gates{names: must[*nameserver.Server](t)(nameserver.Start()), http: must[net.Listener](t)(net.Listen("tcp", "127.0.0.1:0")),
		tls: must[net.Listener](t)(net.Listen("tcp", "127.0.0.1:0"))}
	t.Cleanup(func() { _ = g.http.Close(); _ = g.tls.Close(); g.names.Stop() })
	g.Chest = chesttest.Start(t)
	if err := g.Reopen(t, func(o *server.Options) {
		o.ACMEResolver, o.ACMEHTTPPort, o.ACMETLSPort = g.names.Address(), g.http.Addr().(*net.TCPAddr).Port, g.tls.Addr().(*net.TCPAddr).Port
	}); err != nil {
		t.Fatal(err)
	}
	g.Fill(t, "gates", "secret", "v")
	g.curator = g.Client(t, g.Person(t, "mika", chesttest.Grant{Role: "curator", Scope: "gates/**"}))
	g.App(t, "gate-controller", chesttest.Grant{Role: "subscriber", Scope: "gates/server"})
	g.binding = must[client.Issued](t)(g.Client(t, g.Steward).IssueCredential(ctx, "app:gate-controller", client.NewCredential{Kind: "acme"}))
	must[client.Stored](t)(g.curator.CreateAuthority(ctx, "gates", client.NewAuthority{Name: "authority", Subject: "Gates", Life: "365d"}))
	profile := `{"authority":"authority","names":["*.harbour.example"],"wildcards":true,"networks":["127.0.0.0/8"],"longest":"90d"}`
	must[client.Stored](t)(g.curator.CreateItem(ctx, "gates", client.NewItem{Name: "server", Shape: "profile", Version: client.NewVersion{
		Value: base64.StdEncoding.EncodeToString([]byte(profile)), Encoding: "base64"}}))
	g.root = must[client.Authority](t)(g.curator.Authority(ctx, "gates", "authority")).Chain
	g.directory = g.URL() + "/acme/gates/server/directory"
	return g
}

// client registers a client with a key of its own.
func (g *gates) client(t *testing.T) *acme.Client {
	t.Helper()
	key := must[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	c := &acme.Client{Key: key, DirectoryURL: g.directory, HTTPClient: g.HTTP}
	secret := must[[]byte](t)(base64.RawURLEncoding.DecodeString(g.binding.Secret))
	must[*acme.Account](t)(c.Register(ctx, &acme.Account{ExternalAccountBinding: &acme.ExternalAccountBinding{KID: g.binding.ID,
		Key: secret}}, acme.AcceptTOS))
	return c
}

// prove shows what is asked for, by one of the ways.
func (g *gates) prove(t *testing.T, c *acme.Client, z *acme.Authorization, way string) {
	t.Helper()
	for _, ch := range z.Challenges {
		if ch.Type != way {
			continue
		}
		name := z.Identifier.Value
		switch way {
		case "http-01":
			shown := must[string](t)(c.HTTP01ChallengeResponse(ch.Token))
			go func() {
				_ = http.Serve(g.http, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					if r.URL.Path == c.HTTP01ChallengePath(ch.Token) {
						_, _ = w.Write([]byte(shown + "\n"))
					}
				}))
			}()
		case "tls-alpn-01":
			own := must[tls.Certificate](t)(c.TLSALPN01ChallengeCert(ch.Token, name))
			go func() {
				for {
					connection, err := g.tls.Accept()
					if err != nil {
						return
					}
					_ = tls.Server(connection, &tls.Config{Certificates: []tls.Certificate{own}, NextProtos: []string{"acme-tls/1"}}).Handshake()
				}
			}()
		case "dns-01":
			g.names.Put("_acme-challenge."+name, must[string](t)(c.DNS01ChallengeRecord(ch.Token)))
		}
		must[*acme.Challenge](t)(c.Accept(ctx, ch))
		must[*acme.Authorization](t)(c.WaitAuthorization(ctx, z.URI))
		return
	}
	t.Fatalf("there is no challenge %s: %+v", way, z.Challenges)
}

// order has a certificate issued for names, each proved by a way.
func (g *gates) order(t *testing.T, c *acme.Client, way string, names ...string) (chain [][]byte, key crypto.Signer) {
	t.Helper()
	o := must[*acme.Order](t)(c.AuthorizeOrder(ctx, acme.DomainIDs(names...)))
	for _, url := range o.AuthzURLs {
		g.prove(t, c, must[*acme.Authorization](t)(c.GetAuthorization(ctx, url)), way)
	}
	o = must[*acme.Order](t)(c.WaitOrder(ctx, o.URI))
	key = must[crypto.Signer](t)(cert.NewKey(""))
	request := must[[]byte](t)(x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: names}, key))
	chain, _, err := c.CreateOrderCert(ctx, o.FinalizeURL, request, true)
	if err != nil {
		t.Fatal(err)
	}
	return chain, key
}

// Names are proved in each of the three ways; the key of an account is changed, and certificates are revoked by their account and by their
// own key.
func TestAClientHasCertificatesIssued(t *testing.T) {
	g := start(t)
	c := g.client(t)
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(g.root))
	var last *x509.Certificate
	var lastKey crypto.Signer
	for way, names := range map[string][]string{"http-01": {"gate-1.harbour.example", "gate-2.harbour.example"},
		"tls-alpn-01": {"gate-3.harbour.example"}, "dns-01": {"*.harbour.example"}} {
		chain, key := g.order(t, c, way, names[:1]...)
		leaf := must[*x509.Certificate](t)(x509.ParseCertificate(chain[0]))
		if _, err := leaf.Verify(x509.VerifyOptions{Roots: pool}); err != nil || leaf.DNSNames[0] != names[0] {
			t.Errorf("%s: %v, %v", way, leaf.DNSNames, err)
		}
		last, lastKey = leaf, key
	}
	list, _, err := g.curator.Issued(ctx, "gates", "authority", client.IssuedFilter{})
	if err != nil || len(list) != 3 || list[0].CreatedBy != "app:gate-controller" || list[0].Profile != "gates/server" {
		t.Errorf("%+v, %v", list, err)
	}

	fresh := must[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	old := c.Key
	if err := c.AccountKeyRollover(ctx, fresh); err != nil {
		t.Fatal(err)
	}
	chain, _ := g.order(t, c, "dns-01", "gate-4.harbour.example")
	c.Key = old
	if _, err := c.AuthorizeOrder(ctx, acme.DomainIDs("gate-4.harbour.example")); err == nil {
		t.Error("the old key is still good")
	}
	c.Key = fresh
	if err := c.RevokeCert(ctx, nil, chain[0], acme.CRLReasonSuperseded); err != nil {
		t.Error(err)
	}
	stranger := &acme.Client{Key: must[crypto.Signer](t)(cert.NewKey("")), DirectoryURL: g.directory, HTTPClient: g.HTTP}
	if err := stranger.RevokeCert(ctx, stranger.Key, last.Raw, acme.CRLReasonKeyCompromise); err == nil {
		t.Error("whoever has another key revokes it")
	}
	if err := stranger.RevokeCert(ctx, lastKey, last.Raw, acme.CRLReasonKeyCompromise); err != nil {
		t.Errorf("by its own key: %v", err)
	}
	revoked, _, err := g.curator.Issued(ctx, "gates", "authority", client.IssuedFilter{State: "revoked"})
	if err != nil || len(revoked) != 2 {
		t.Errorf("%+v, %v", revoked, err)
	}

	// RFC 9773: when to renew, and at once when it is revoked.
	window := func(leaf *x509.Certificate) (from, until time.Time) {
		id := base64.RawURLEncoding.EncodeToString(leaf.AuthorityKeyId) + "." + base64.RawURLEncoding.EncodeToString(leaf.SerialNumber.Bytes())
		response := must[*http.Response](t)(g.HTTP.Get(strings.TrimSuffix(g.directory, "directory") + "renewal-info/" + id))
		defer func() { _ = response.Body.Close() }()
		var info struct {
			SuggestedWindow struct{ Start, End time.Time }
		}
		if err := json.NewDecoder(response.Body).Decode(&info); err != nil || response.Header.Get("Retry-After") == "" {
			t.Fatal(err)
		}
		return info.SuggestedWindow.Start, info.SuggestedWindow.End
	}
	if from, until := window(last); from.After(time.Now()) || until.After(time.Now()) {
		t.Errorf("a revoked one is to be renewed from %s to %s", from, until)
	}
	good, _ := g.order(t, c, "dns-01", "gate-5.harbour.example")
	if from, until := window(must[*x509.Certificate](t)(x509.ParseCertificate(good[0]))); !from.Before(until) ||
		from.Before(time.Now().Add(50*24*time.Hour)) {
		t.Errorf("one of 90 days is to be renewed from %s to %s", from, until)
	}
	if err := c.DeactivateReg(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := c.AuthorizeOrder(ctx, acme.DomainIDs("gate-4.harbour.example")); err == nil {
		t.Error("an account that was ended orders")
	}
}

// Without a binding, a grant, a proof, or with another's order there is no certificate.
func TestWhoMayNotHaveOneGetsNone(t *testing.T) {
	g := start(t)
	kind := func(err error) string {
		var problem *acme.Error
		if errors.As(err, &problem) {
			return strings.TrimPrefix(problem.ProblemType, "urn:ietf:params:acme:error:")
		}
		return ""
	}
	nobody := &acme.Client{Key: must[crypto.Signer](t)(cert.NewKey("")), DirectoryURL: g.directory, HTTPClient: g.HTTP}
	if _, err := nobody.Register(ctx, &acme.Account{}, acme.AcceptTOS); kind(err) != "externalAccountRequired" {
		t.Errorf("without a binding: %v", err)
	}
	guess := sha256.Sum256([]byte("guessed"))
	for _, kid := range []string{g.binding.ID, "cr_aaaaaaaaaaaaaaaa"} {
		if _, err := nobody.Register(ctx, &acme.Account{ExternalAccountBinding: &acme.ExternalAccountBinding{KID: kid, Key: guess[:]}},
			acme.AcceptTOS); kind(err) != "unauthorized" {
			t.Errorf("with a guessed binding: %v", err)
		}
	}
	c, other := g.client(t), g.client(t)
	for name, want := range map[string]string{"gate-1.elsewhere.example": "rejectedIdentifier", "no spaces": "rejectedIdentifier"} {
		if _, err := c.AuthorizeOrder(ctx, acme.DomainIDs(name)); kind(err) != want {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := c.AuthorizeOrder(ctx, acme.IPIDs("10.0.0.1")); kind(err) != "rejectedIdentifier" {
		t.Errorf("an address in no network of the profile: %v", err)
	}
	o := must[*acme.Order](t)(c.AuthorizeOrder(ctx, acme.DomainIDs("gate-1.harbour.example")))
	key := must[crypto.Signer](t)(cert.NewKey(""))
	request := must[[]byte](t)(x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
		DNSNames: []string{"gate-1.harbour.example"}}, key))
	if _, _, err := c.CreateOrderCert(ctx, o.FinalizeURL, request, true); kind(err) != "orderNotReady" {
		t.Errorf("before it is proved: %v", err)
	}
	if _, err := other.GetOrder(ctx, o.URI); kind(err) != "malformed" {
		t.Errorf("another account sees the order: %v", err)
	}
	z := must[*acme.Authorization](t)(c.GetAuthorization(ctx, o.AuthzURLs[0]))
	g.names.Put("_acme-challenge.gate-1.harbour.example", "something else")
	for _, ch := range z.Challenges {
		if ch.Type == "dns-01" {
			must[*acme.Challenge](t)(c.Accept(ctx, ch))
		}
	}
	if _, err := c.WaitAuthorization(ctx, z.URI); err == nil {
		t.Error("something else was taken for the proof")
	}
	if _, _, err := c.CreateOrderCert(ctx, o.FinalizeURL, request, true); kind(err) != "orderNotReady" {
		t.Errorf("after it was not proved: %v", err)
	}
	second := must[*acme.Order](t)(c.AuthorizeOrder(ctx, acme.DomainIDs("gate-2.harbour.example")))
	g.prove(t, c, must[*acme.Authorization](t)(c.GetAuthorization(ctx, second.AuthzURLs[0])), "dns-01")
	if _, _, err := c.CreateOrderCert(ctx, second.FinalizeURL, request, true); kind(err) != "badCSR" {
		t.Errorf("for another name than was proved: %v", err)
	}
	steward := g.Client(t, g.Steward)
	for _, grant := range must[[]client.Grant](t)(steward.Grants(ctx, "app:gate-controller")) {
		if _, err := steward.EndGrant(ctx, grant.ID); err != nil {
			t.Fatal(err)
		}
	}
	request = must[[]byte](t)(x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
		DNSNames: []string{"gate-2.harbour.example"}}, key))
	if _, _, err := c.CreateOrderCert(ctx, second.FinalizeURL, request, true); kind(err) != "unauthorized" {
		t.Errorf("after the grant has ended: %v", err)
	}
	if err := steward.RevokeCredential(ctx, "app:gate-controller", g.binding.ID); err != nil {
		t.Fatal(err)
	}
	late := &acme.Client{Key: must[crypto.Signer](t)(cert.NewKey("")), DirectoryURL: g.directory, HTTPClient: g.HTTP}
	secret := must[[]byte](t)(base64.RawURLEncoding.DecodeString(g.binding.Secret))
	if _, err := late.Register(ctx, &acme.Account{ExternalAccountBinding: &acme.ExternalAccountBinding{KID: g.binding.ID, Key: secret}},
		acme.AcceptTOS); kind(err) != "unauthorized" {
		t.Errorf("with a binding that was ended: %v", err)
	}
	if list, _, err := g.curator.Issued(ctx, "gates", "authority", client.IssuedFilter{}); err != nil || len(list) != 0 {
		t.Errorf("something was issued: %+v, %v", list, err)
	}
}

// Certbot, as Debian has it, registers, has a certificate issued by its own web server, renews it and revokes it.
func TestCertbot(t *testing.T) {
	g := start(t)
	dir := t.TempDir()
	authority := filepath.Join(dir, "chest.pem")
	if err := os.WriteFile(authority, must[[]byte](t)(g.Authority()), 0o600); err != nil {
		t.Fatal(err)
	}
	port := g.http.Addr().(*net.TCPAddr)
	_ = g.http.Close() // certbot serves there
	certbot := func(arguments ...string) string {
		t.Helper()
		program := exec.Command("certbot", append(arguments, "--server", g.directory, "--config-dir", filepath.Join(dir, "config"),
			"--work-dir", filepath.Join(dir, "work"), "--logs-dir", filepath.Join(dir, "logs"), "--non-interactive")...)
		program.Env = append(os.Environ(), "REQUESTS_CA_BUNDLE="+authority)
		output, err := program.CombinedOutput()
		if err != nil {
			t.Fatalf("certbot %v: %v\n%s", arguments, err, output)
		}
		return string(output)
	}
	certbot("register", "--agree-tos", "--register-unsafely-without-email", "--eab-kid", g.binding.ID, "--eab-hmac-key", g.binding.Secret)
	here := []string{"--standalone", "--http-01-address", "127.0.0.1", "--http-01-port", strings.TrimPrefix(port.String(), "127.0.0.1:")}
	certbot(append([]string{"certonly", "--domain", "gate-1.harbour.example"}, here...)...)
	live := filepath.Join(dir, "config", "live", "gate-1.harbour.example")
	serial := func() string {
		block, _ := pem.Decode(must[[]byte](t)(os.ReadFile(filepath.Join(live, "cert.pem"))))
		return cert.Serial(must[*x509.Certificate](t)(x509.ParseCertificate(block.Bytes)).SerialNumber)
	}
	first := serial()
	certbot("renew", "--force-renewal", "--no-random-sleep-on-renew")
	if serial() == first {
		t.Error("it was not renewed")
	}
	second := serial()
	certbot("revoke", "--cert-path", filepath.Join(live, "cert.pem"), "--reason", "superseded", "--no-delete-after-revoke")
	list, _, err := g.curator.Issued(ctx, "gates", "authority", client.IssuedFilter{})
	if err != nil || len(list) != 2 || list[0].Serial != second || list[0].Reason != "superseded" || list[1].State != "good" {
		t.Errorf("%+v, %v", list, err)
	}
	var trail bytes.Buffer
	page := must[client.TrailPage](t)(g.Client(t, g.Steward).Trail(ctx, client.TrailFilter{Subject: "app:gate-controller", Limit: 50}))
	for _, e := range page.Entries {
		trail.WriteString(e.Via + " " + e.Action + " " + e.Outcome + "\n")
	}
	if strings.Count(trail.String(), "app_acme issue allowed") != 2 ||
		!strings.Contains(trail.String(), "app_acme revoke_certificate allowed") {
		t.Errorf("the trail has\n%s", trail.String())
	}
}

// A stranger's key that is so long that checking by it takes seconds is refused before that.
func TestKeysThatTakeSecondsAreNotTried(t *testing.T) {
	g := start(t)
	c := &acme.Client{DirectoryURL: g.directory, HTTPClient: g.HTTP}
	at := must[acme.Directory](t)(c.Discover(ctx))
	answer := must[*http.Response](t)(g.HTTP.Head(at.NonceURL))
	_ = answer.Body.Close()
	modulus := make([]byte, 20_000)
	_, _ = rand.Read(modulus)
	modulus[0] |= 0x80
	encode := base64.RawURLEncoding.EncodeToString
	header, err := json.Marshal(map[string]any{"alg": "RS256", "nonce": answer.Header.Get("Replay-Nonce"), "url": at.RegURL,
		"jwk": map[string]string{"kty": "RSA", "n": encode(modulus), "e": "AQAB"}})
	if err != nil {
		t.Fatal(err)
	}
	body, err := json.Marshal(map[string]string{"protected": encode(header), "payload": encode([]byte("{}")),
		"signature": encode(modulus[1:])})
	if err != nil {
		t.Fatal(err)
	}
	answer = must[*http.Response](t)(g.HTTP.Post(at.RegURL, "application/jose+json", bytes.NewReader(body)))
	defer func() { _ = answer.Body.Close() }()
	var said struct {
		Type   string `json:"type"`
		Detail string `json:"detail"`
	}
	if err := json.NewDecoder(answer.Body).Decode(&said); err != nil || answer.StatusCode != http.StatusBadRequest ||
		said.Type != "urn:ietf:params:acme:error:badPublicKey" || !strings.Contains(said.Detail, "160000 bits") {
		t.Errorf("%d %+v, %v", answer.StatusCode, said, err)
	}
}
