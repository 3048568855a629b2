package certapi_test

import (
	"bytes"
	"context"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/core/cert"
)

var ctx = context.Background()

var ofOCSP = map[string]string{"Content-Type": "application/ocsp-request"}

func must[T any](t *testing.T) func(T, error) T {
	return func(answer T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return answer
	}
}

// put writes a profile.
func put(c *client.Client, name string, p client.CertificateProfile) error {
	text, _ := json.Marshal(p)
	_, err := c.CreateItem(ctx, "gates", client.NewItem{Name: name, Shape: "profile",
		Version: client.NewVersion{Value: base64.StdEncoding.EncodeToString(text), Encoding: "base64"}})
	return err
}

// start is a chest with a root and an authority below it in the drawer gates, a profile, the curator who made them, and an app that may
// have certificates of that and write beside it.
func start(t *testing.T) (chest *chesttest.Chest, curator, app *client.Client) {
	t.Helper()
	chest = chesttest.Start(t)
	chest.Fill(t, "gates", "secret", "v")
	curator = chest.Client(t, chest.Person(t, "mika", chesttest.Grant{Role: "curator", Scope: "gates/**"}))
	_, token := chest.App(t, "gate-controller", chesttest.Grant{Role: "subscriber", Scope: "gates/server"},
		chesttest.Grant{Role: "depositor", Scope: "gates/*"}, chesttest.Grant{Role: "consumer", Scope: "gates/*"})
	app = chest.Client(t, token)
	must[client.Stored](t)(curator.CreateAuthority(ctx, "gates", client.NewAuthority{Name: "root", Subject: "Harbour root", Life: "3650d",
		Within: []string{"harbour.example"}, ServedAt: curator.Address()}))
	must[client.Stored](t)(curator.CreateAuthority(ctx, "gates", client.NewAuthority{Name: "authority", Subject: "Harbour gates",
		Life: "365d", Under: "gates/root", ServedAt: curator.Address()}))
	if err := put(curator, "server", client.CertificateProfile{Authority: "authority", Names: []string{"*.harbour.example"},
		Longest: "90d"}); err != nil {
		t.Fatal(err)
	}
	return chest, curator, app
}

func issue(t *testing.T, app *client.Client, item string) client.MadeCertificate {
	t.Helper()
	return must[client.MadeCertificate](t)(app.IssueCertificate(ctx, "gates", "server", client.Order{
		Names: []string{item + ".harbour.example"}, Into: "gates/" + item}))
}

// An app has a certificate issued and renewed, reads it with its key, and openssl believes it; its end is that of the item.
func TestACertificateIsIssuedAndRenewed(t *testing.T) {
	_, curator, app := start(t)
	first := issue(t, app, "gate-1")
	if first.Item.Kind != "certificate" || !first.Item.EndsAt.Equal(first.Facts.NotAfter) || first.Facts.Issuer != "CN=Harbour gates" {
		t.Errorf("%+v", first)
	}
	second := must[client.MadeCertificate](t)(app.RenewCertificate(ctx, "gates", "gate-1", "30d", false))
	if second.Version.Version != 2 || second.Facts.KeyType != first.Facts.KeyType || second.Facts.Serial == first.Facts.Serial ||
		!slices.Equal(second.Facts.Names, first.Facts.Names) || !second.Facts.NotAfter.Before(first.Facts.NotAfter) {
		t.Errorf("%+v", second)
	}
	value := must[client.Value](t)(app.ReadValue(ctx, "gates/gate-1"))
	if value.Version != 2 {
		t.Errorf("version %d is served", value.Version)
	}
	whole, err := base64.StdEncoding.DecodeString(value.Value)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	about := must[client.Authority](t)(curator.Authority(ctx, "gates", "authority"))
	roots := about.Chain[strings.LastIndex(about.Chain, "-----BEGIN"):]
	for name, text := range map[string]string{"all.pem": string(whole), "root.pem": roots} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, arguments := range [][]string{
		{"verify", "-x509_strict", "-CAfile", "root.pem", "-untrusted", "all.pem", "-verify_hostname", "gate-1.harbour.example", "all.pem"},
		{"pkey", "-in", "all.pem", "-noout"}} {
		program := exec.Command("openssl", arguments...)
		program.Dir = dir
		if output, err := program.CombinedOutput(); err != nil {
			t.Errorf("openssl %v: %v\n%s", arguments, err, output)
		}
	}
	if about.Good != 2 || about.Ending != 1 || len(about.Profiles) != 1 || about.Profiles[0].Reference != "gates/server" {
		t.Errorf("%+v", about)
	}
	list, next, err := curator.Issued(ctx, "gates", "authority", client.IssuedFilter{Search: "GATE-1", Limit: 1})
	if err != nil || len(list) != 1 || next == "" || list[0].Serial != second.Facts.Serial || list[0].Place != "gates/gate-1" ||
		list[0].CreatedBy != "app:gate-controller" {
		t.Errorf("%+v, %q, %v", list, next, err)
	}
	list, next, err = curator.Issued(ctx, "gates", "authority", client.IssuedFilter{Limit: 1, Cursor: next})
	if err != nil || len(list) != 1 || next != "" || list[0].Serial != first.Facts.Serial {
		t.Errorf("%+v, %q, %v", list, next, err)
	}
	if _, err := app.RenewCertificate(ctx, "gates", "secret", "", false); chesttest.Code(err) != "invalid_input" {
		t.Errorf("a secret is renewed: %v", err)
	}
}

// What is revoked is so for anybody who asks, by the list and by OCSP, and what was not issued is not spoken of.
func TestAnybodyHearsWhatIsRevoked(t *testing.T) {
	chest, curator, app := start(t)
	made := issue(t, app, "gate-1")
	about := must[client.Authority](t)(curator.Authority(ctx, "gates", "authority"))
	for _, path := range []string{"/authorities/root", "/authorities/authority/certificates?state=good", "/items/gate-1", "/items/server"} {
		answer := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/drawers/gates" + path, Token: chest.Steward})
		if answer.Status != http.StatusOK {
			t.Errorf("%s: %d", path, answer.Status)
		}
	}
	get := func(path string) []byte {
		answer := chest.Do(t, chesttest.Call{Method: "GET", Path: about.Public + path})
		if answer.Status != http.StatusOK {
			t.Fatalf("%s: %d", path, answer.Status)
		}
		return answer.Body
	}
	entries := func() int {
		return len(must[*x509.RevocationList](t)(x509.ParseRevocationList(get("/crl"))).RevokedCertificateEntries)
	}
	if entries() != 0 {
		t.Error("something is revoked")
	}
	if _, err := curator.RevokeCertificate(ctx, "gates", "authority", made.Facts.Serial, "angry"); chesttest.Code(err) != "invalid_input" {
		t.Errorf("%v", err)
	}
	serial := strings.ToUpper(made.Facts.Serial)
	one := must[client.IssuedCertificate](t)(app.RevokeCertificate(ctx, "gates", "authority", serial, "superseded"))
	if one.State != "revoked" || one.Reason != "superseded" || entries() != 1 {
		t.Errorf("%+v", one)
	}
	if h := must[client.History](t)(curator.History(ctx, "gates", "gate-1")); h.Item.Certificate.Revoked != "superseded" {
		t.Errorf("its item says nothing of that: %+v", h.Item.Certificate)
	}
	if _, err := curator.RevokeCertificate(ctx, "gates", "authority", made.Facts.Serial, ""); chesttest.Code(err) != "not_possible" {
		t.Errorf("twice: %v", err)
	}
	if _, err := curator.RevokeCertificate(ctx, "gates", "authority", "0102", ""); chesttest.Code(err) != "not_found" {
		t.Errorf("another one: %v", err)
	}

	dir := t.TempDir()
	chain := about.Chain
	rest := []byte(chain)
	for _, name := range []string{"authority.pem", "root.pem"} {
		var block *pem.Block
		block, rest = pem.Decode(rest)
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "gate.pem"), []byte(made.Certificate), 0o600); err != nil {
		t.Fatal(err)
	}
	openssl := func(want string, arguments ...string) {
		t.Helper()
		program := exec.Command("openssl", append([]string{"ocsp", "-issuer", "authority.pem", "-CAfile", "root.pem"}, arguments...)...)
		program.Dir = dir
		if output, err := program.CombinedOutput(); err != nil || !strings.Contains(string(output), want) {
			t.Errorf("%v; want %s in %s", err, want, output)
		}
	}
	openssl("", "-cert", "gate.pem", "-reqout", "question", "-no_nonce")
	question := must[[]byte](t)(os.ReadFile(filepath.Join(dir, "question")))
	for _, answer := range []chesttest.Answer{
		chest.Do(t, chesttest.Call{Method: "POST", Path: about.Public + "/ocsp", Body: string(question), Header: map[string]string{
			"Content-Type": "application/ocsp-request"}}),
		chest.Do(t, chesttest.Call{Method: "GET", Path: about.Public + "/ocsp/" +
			strings.ReplaceAll(base64.StdEncoding.EncodeToString(question), "/", "%2F")})} {
		if err := os.WriteFile(filepath.Join(dir, "answer"), answer.Body, 0o600); err != nil {
			t.Fatal(err)
		}
		openssl("superseded", "-cert", "gate.pem", "-respin", "answer", "-no_nonce")
	}
	unknown := chest.Do(t, chesttest.Call{Method: "POST", Path: about.Public + "/ocsp", Body: "words", Header: ofOCSP})
	if !bytes.Equal(unknown.Body, cert.Malformed()) {
		t.Errorf("no question: %x", unknown.Body)
	}
	openssl("", "-serial", "0x0102", "-reqout", "question", "-no_nonce")
	question = must[[]byte](t)(os.ReadFile(filepath.Join(dir, "question")))
	unknown = chest.Do(t, chesttest.Call{Method: "POST", Path: about.Public + "/ocsp", Body: string(question), Header: ofOCSP})
	if !bytes.Equal(unknown.Body, cert.Unauthorized()) {
		t.Errorf("another serial number: %x", unknown.Body)
	}
	for _, act := range []string{"suspend", "resume", "retire"} { // what it has signed is trusted all the same
		must[client.History](t)(curator.Act(ctx, "gates", "authority", client.Act{Act: act}))
		if entries() != 1 {
			t.Errorf("after %s the list is another one", act)
		}
	}
	for _, path := range []string{"/authorities/it_aaaaaaaaaaaaaaaa/crl", "/authorities/" + strings.Repeat("x", 300) + "/crl",
		"/authorities/gates/certificate"} {
		if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: path}); answer.Status != http.StatusNotFound {
			t.Errorf("%s: %d", path, answer.Status)
		}
	}
}

// A narrow role gets no further by way of certificates.
func TestNobodyWidensWhatAnAuthoritySigns(t *testing.T) {
	chest, curator, app := start(t)
	wide := client.CertificateProfile{Authority: "authority", Names: []string{"*.*"}, Wildcards: true, Longest: "365d"}
	if err := put(app, "wide", wide); chesttest.Code(err) != "refused" {
		t.Errorf("who may write items makes a profile: %v", err)
	}
	text, _ := json.Marshal(wide)
	if _, err := app.AddVersion(ctx, "gates", "server", 0, client.NewVersion{Value: base64.StdEncoding.EncodeToString(text),
		Encoding: "base64"}); chesttest.Code(err) != "refused" {
		t.Errorf("and changes one: %v", err)
	}
	if _, err := app.CreateAuthority(ctx, "gates", client.NewAuthority{Name: "below", Subject: "Mine", Life: "1d",
		Under: "gates/authority"}); chesttest.Code(err) != "refused" {
		t.Errorf("and an authority below: %v", err)
	}
	for _, o := range []client.Order{{Names: []string{"till.elsewhere.example"}}, {Names: []string{"*.harbour.example"}},
		{Names: []string{"gate-1.harbour.example"}, Life: "91d"}, {}, {Names: []string{"gate-1.harbour.example"}, KeyType: "rsa-1024"},
		{Names: []string{"gate-1.harbour.example"}, Subject: "Harbour root"}} {
		o.Into = "gates/gate-1"
		if _, err := app.IssueCertificate(ctx, "gates", "server", o); chesttest.Code(err) != "invalid_input" {
			t.Errorf("%+v: %v", o, err)
		}
	}
	if _, err := curator.IssueCertificate(ctx, "gates", "server", client.Order{Names: []string{"gate-1.harbour.example"},
		Into: "gates/gate-1"}); chesttest.Code(err) != "refused" {
		t.Errorf("who makes a profile is not who may use it: %v", err)
	}
	if _, err := app.IssueCertificate(ctx, "gates", "server", client.Order{Names: []string{"gate-1.harbour.example"},
		Into: "gates/secret"}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("into a secret: %v", err)
	}
	if _, err := app.IssueCertificate(ctx, "gates", "server", client.Order{Names: []string{"gate-1.harbour.example"},
		Into: "elsewhere/gate-1"}); chesttest.Code(err) != "refused" {
		t.Errorf("into another drawer: %v", err)
	}
	if list, _, err := curator.Issued(ctx, "gates", "authority", client.IssuedFilter{}); err != nil || len(list) != 0 {
		t.Errorf("something was issued all the same: %+v, %v", list, err)
	}
	for _, name := range []string{"authority", "authority#private", "authority#certificate", "root"} {
		if _, _, err := app.Read(ctx, "gates/"+name); chesttest.Code(err) != "not_servable" {
			t.Errorf("the key of an authority is read: %v", err)
		}
	}
	if _, err := app.Equals(ctx, "gates/authority#private", []byte("x")); chesttest.Code(err) != "not_servable" {
		t.Errorf("and compared: %v", err)
	}

	// The name of an authority, once it is free, is not the authority.
	owner := chest.Client(t, chest.Steward)
	made := issue(t, app, "gate-2")
	must[client.Moved](t)(owner.Move(ctx, "gates", "authority", client.NewPlace{Drawer: "gates", Name: "authority-1"}))
	issue(t, app, "gate-3")
	must[client.Stored](t)(app.CreateAuthority(ctx, "gates", client.NewAuthority{Name: "authority", Subject: "Mine", Life: "1d"}))
	if again := issue(t, app, "gate-4"); again.Facts.Issuer != made.Facts.Issuer {
		t.Errorf("another authority signs: %s", again.Facts.Issuer)
	}

	must[client.History](t)(owner.Act(ctx, "gates", "authority-1", client.Act{Act: "suspend"}))
	if _, err := app.IssueCertificate(ctx, "gates", "server", client.Order{Names: []string{"gate-1.harbour.example"},
		Into: "gates/gate-1"}); chesttest.Code(err) != "not_servable" {
		t.Errorf("a suspended authority signs: %v", err)
	}
	must[client.History](t)(owner.Act(ctx, "gates", "authority-1", client.Act{Act: "resume"}))
	must[client.History](t)(owner.Act(ctx, "gates", "server", client.Act{Act: "suspend"}))
	if _, err := app.RenewCertificate(ctx, "gates", "gate-2", "", false); chesttest.Code(err) != "not_servable" {
		t.Errorf("a suspended profile gives certificates: %v", err)
	}
}

// A key that waits for a certificate from elsewhere gets its own one, and is not served before.
func TestARequestWaitsForItsAnswer(t *testing.T) {
	_, curator, app := start(t)
	asked := must[client.MadeCertificate](t)(curator.RequestCertificate(ctx, "gates", "web", client.Order{
		Names: []string{"tickets.harbour.example"}, KeyType: "rsa-2048"}))
	if asked.Version.State != "staged" || asked.Request == "" || asked.Facts.Request != asked.Request {
		t.Errorf("%+v", asked)
	}
	if _, err := curator.Act(ctx, "gates", "web", client.Act{Act: "promote", Version: 1}); chesttest.Code(err) != "not_possible" {
		t.Errorf("it is promoted: %v", err)
	}
	if _, _, err := app.Read(ctx, "gates/web"); chesttest.Code(err) != "not_servable" {
		t.Errorf("it is served: %v", err)
	}
	other := issue(t, app, "gate-1")
	if _, err := curator.AnswerCertificate(ctx, "gates", "web", other.Certificate, false); chesttest.Code(err) != "invalid_input" {
		t.Errorf("a certificate for another key: %v", err)
	}
	if _, err := curator.AnswerCertificate(ctx, "gates", "gate-1", other.Certificate, false); chesttest.Code(err) != "not_possible" {
		t.Errorf("where nothing waits: %v", err)
	}
	signed := must[client.MadeCertificate](t)(app.IssueCertificate(ctx, "gates", "server", client.Order{Request: asked.Request}))
	stored := must[client.Stored](t)(curator.AnswerCertificate(ctx, "gates", "web", signed.Certificate, false))
	if stored.Version.State != "usable" || stored.Version.Certificate.Serial != signed.Facts.Serial {
		t.Errorf("%+v", stored)
	}
	value := must[client.Value](t)(app.ReadValue(ctx, "gates/web"))
	if len(value.Fields) != 2 {
		t.Errorf("%d fields", len(value.Fields))
	}
}

// An authority is renewed with its key: what it has signed stays good, and so does what it says of them. One that is brought signs too.
func TestAnAuthorityIsRenewedAndBrought(t *testing.T) {
	chest, curator, app := start(t)
	made := issue(t, app, "gate-1")
	must[client.Stored](t)(curator.RenewAuthority(ctx, "gates", "root", "3650d", ""))
	must[client.Stored](t)(curator.RenewAuthority(ctx, "gates", "authority", "730d", "gates/root"))
	about := must[client.Authority](t)(curator.Authority(ctx, "gates", "authority"))
	pool, between := x509.NewCertPool(), x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(about.Chain[strings.LastIndex(about.Chain, "-----BEGIN"):]))
	between.AppendCertsFromPEM([]byte(about.Chain))
	block, _ := pem.Decode([]byte(made.Certificate))
	leaf := must[*x509.Certificate](t)(x509.ParseCertificate(block.Bytes))
	if _, err := leaf.Verify(x509.VerifyOptions{Roots: pool, Intermediates: between, DNSName: "gate-1.harbour.example"}); err != nil {
		t.Error(err)
	}
	if _, err := curator.RenewAuthority(ctx, "gates", "authority", "730d", ""); chesttest.Code(err) != "invalid_input" {
		t.Errorf("an intermediate by itself: %v", err)
	}

	key := must[crypto.Signer](t)(cert.NewKey(""))
	private := must[[]byte](t)(cert.WritePrivate(key))
	own := must[*x509.Certificate](t)(cert.NewAuthority(nil, key, cert.Below{Subject: "Brought", Life: 1000 * 3600e9}, leaf.NotBefore))
	brought := client.NewAuthority{Name: "brought", Certificate: string(cert.PEM([]*x509.Certificate{own})), Private: private}
	must[client.Stored](t)(curator.CreateAuthority(ctx, "gates", brought))
	brought.Name, brought.Private = "brought-2", must[[]byte](t)(cert.WritePrivate(must[crypto.Signer](t)(cert.NewKey(""))))
	if _, err := curator.CreateAuthority(ctx, "gates", brought); chesttest.Code(err) != "invalid_input" {
		t.Errorf("with another's key: %v", err)
	}
	if _, err := curator.CreateAuthority(ctx, "gates", client.NewAuthority{Name: "leaf", Certificate: made.Certificate,
		Private: private}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("with a certificate that signs no others: %v", err)
	}

	// A lock ends it all; what comes back is the same.
	chest.Restart(t)
	if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: about.Public + "/crl"}); answer.Status != http.StatusServiceUnavailable &&
		answer.Status != http.StatusOK {
		t.Errorf("after a restart: %d", answer.Status)
	}
}

// Rules about age and about how many versions are kept concern certificates, and neither authorities nor profiles: what a chest signs with
// does not end by what is demanded of passwords.
func TestRulesAboutAgeLeaveAuthoritiesAlone(t *testing.T) {
	_, curator, app := start(t)
	issue(t, app, "gate-1")
	d := must[client.DrawerContents](t)(curator.Drawer(ctx, "gates"))
	ruled := must[client.RulesReport](t)(curator.SetDrawerRules(ctx, "gates", d.Drawer.Revision, client.NewRules{AllowRefusals: true,
		Rules: client.Rules{MaxAge: "1h", NeedsEnd: true, Keep: 1}}))
	for _, one := range ruled.Items {
		if one.Reference != "gates/gate-1" && one.Reference != "gates/secret" {
			t.Errorf("the rules are said to concern %s", one.Reference)
		}
	}
	must[client.Stored](t)(curator.RenewAuthority(ctx, "gates", "root", "3650d", ""))
	must[client.Stored](t)(curator.RenewAuthority(ctx, "gates", "authority", "365d", "gates/root"))
	for _, name := range []string{"root", "authority"} {
		h := must[client.History](t)(curator.History(ctx, "gates", name))
		if h.Item.State != "usable" || len(h.Versions) != 2 || h.Versions[1].State == "shredded" {
			t.Errorf("%s: %+v", name, h.Versions)
		}
	}
	if again := issue(t, app, "gate-2"); again.Item.EndsAt.After(again.Item.ChangedAt.Add(time.Hour)) {
		t.Errorf("a certificate is served for longer than the rules let it: %+v", again.Item)
	}
}

// Forty loops have certificates issued, renewed and revoked while the authority is suspended: from that entry on there is not one, and each
// certificate that there is has its entry.
func TestNothingIsIssuedAfterASuspensionWhoeverIsAtIt(t *testing.T) {
	chest, curator, app := start(t)
	steward := chest.Client(t, chest.Steward)
	var wait sync.WaitGroup
	some := make(chan struct{}, 1000)
	for n := range 40 {
		wait.Go(func() {
			item := fmt.Sprintf("gate-%d", n)
			for {
				made, err := app.IssueCertificate(ctx, "gates", "server", client.Order{Names: []string{item + ".harbour.example"},
					Into: "gates/" + item})
				if err == nil && n%2 == 0 {
					_, err = app.RevokeCertificate(ctx, "gates", "authority", made.Facts.Serial, "superseded")
				}
				if chesttest.Code(err) == "not_servable" {
					return
				}
				if err != nil {
					t.Errorf("loop %d: %v", n, err)
					return
				}
				select {
				case some <- struct{}{}:
				default:
				}
			}
		})
	}
	for range 80 {
		<-some
	}
	must[client.History](t)(curator.Act(ctx, "gates", "authority", client.Act{Act: "suspend"}))
	wait.Wait()
	count := func(f client.TrailFilter) (n int, newest uint64) {
		for f.Limit = 500; ; {
			page := must[client.TrailPage](t)(steward.Trail(ctx, f))
			for _, e := range page.Entries {
				n, newest = n+1, max(newest, e.Seq)
			}
			if f.Cursor = page.NextCursor; f.Cursor == "" {
				return n, newest
			}
		}
	}
	_, suspended := count(client.TrailFilter{Action: "suspend_item", Outcome: "allowed"})
	issued, last := count(client.TrailFilter{Action: "issue", Outcome: "allowed"})
	if suspended == 0 || last > suspended {
		t.Errorf("the newest certificate has entry %d, and the suspension %d", last, suspended)
	}
	list, _, err := curator.Issued(ctx, "gates", "authority", client.IssuedFilter{})
	if err != nil || len(list) != issued {
		t.Errorf("%d certificates, and %d entries: %v", len(list), issued, err)
	}
	revocations, _ := count(client.TrailFilter{Action: "revoke_certificate", Outcome: "allowed"})
	revoked, _, err := curator.Issued(ctx, "gates", "authority", client.IssuedFilter{State: "revoked"})
	if err != nil || len(revoked) != revocations || revocations == 0 {
		t.Errorf("%d are revoked, and %d entries: %v", len(revoked), revocations, err)
	}
}
