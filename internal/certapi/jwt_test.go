package certapi_test

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/go-jose/go-jose/v4"

	"tansu/client"
	"tansu/internal/chesttest"
)

// signs makes a key in the drawer gates with a profile of tokens over it.
func signs(t *testing.T, curator *client.Client, name, kind, algorithm string) error {
	t.Helper()
	must[client.Stored](t)(curator.CreateItem(ctx, "gates", client.NewItem{Name: name + "-key", Key: &client.NewKeyFacts{Type: kind}}))
	return put(curator, name, client.CertificateProfile{Authority: name + "-key", Longest: "15m", JWT: &client.JWTProfile{
		Issuer: "https://gates.example", Audiences: []string{"gate-*"}, Algorithm: algorithm,
		Claims: map[string][]string{"lane": {"car", "foot"}}}})
}

var toGate = client.NewJWT{Audiences: []string{"gate-3"}, Claims: map[string][]string{"lane": {"car"}}}

// verified checks a token by what a stranger gets of the drawer: with jose, and where that does not know the algorithm with a library.
func verified(t *testing.T, chest *chesttest.Chest, token string, byJose bool) (claims map[string]any) {
	t.Helper()
	answer := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/drawers/gates/jwks"})
	if answer.Status != 200 {
		t.Fatalf("the keys: %d %s", answer.Status, answer.Body)
	}
	var payload []byte
	if byJose {
		dir := t.TempDir()
		for name, text := range map[string][]byte{"keys": answer.Body, "token": []byte(token)} {
			if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		program := exec.Command("jose", "jws", "ver", "-i", "token", "-k", "keys", "-O", "-")
		program.Dir = dir
		payload = must[[]byte](t)(program.Output())
	} else {
		var set jose.JSONWebKeySet
		if err := json.Unmarshal(answer.Body, &set); err != nil {
			t.Fatal(err)
		}
		signed := must[*jose.JSONWebSignature](t)(jose.ParseSigned(token, []jose.SignatureAlgorithm{jose.EdDSA}))
		payload = must[[]byte](t)(signed.Verify(set.Key(signed.Signatures[0].Header.KeyID)[0]))
	}
	if err := json.Unmarshal(payload, &claims); err != nil {
		t.Fatal(err)
	}
	return claims
}

// A subscriber of a profile has tokens of it that strangers can check, before a rotation and after, and nothing else by the key.
func TestTokensAreIssuedAndChecked(t *testing.T) {
	chest, curator, _ := start(t)
	open := true
	gates := must[client.DrawerContents](t)(curator.Drawer(ctx, "gates"))
	must[client.Drawer](t)(curator.ChangeDrawer(ctx, "gates", gates.Drawer.Revision, client.Described{KeysOpen: &open}))
	for kind, algorithm := range map[string]string{"ed25519": "", "ecdsa-p256": "", "ecdsa-p521": "", "rsa-2048": "RS256", "rsa-3072": ""} {
		if err := signs(t, curator, kind, kind, algorithm); err != nil {
			t.Fatal(kind, err)
		}
	}
	_, token := chest.App(t, "lane-counter", chesttest.Grant{Role: "subscriber", Scope: "gates/**"})
	app := chest.Client(t, token)
	for _, kind := range []string{"ed25519", "ecdsa-p256", "ecdsa-p521", "rsa-2048", "rsa-3072"} {
		first := must[client.JWT](t)(app.IssueJWT(ctx, "gates", kind, toGate))
		must[client.Stored](t)(curator.AddVersion(ctx, "gates", kind+"-key", 0, client.NewVersion{}))
		second := must[client.JWT](t)(app.IssueJWT(ctx, "gates", kind, toGate))
		if !strings.HasSuffix(first.KeyID, ".1") || !strings.HasSuffix(second.KeyID, ".2") {
			t.Errorf("%s: signed by %s, and then %s", kind, first.KeyID, second.KeyID)
		}
		for _, made := range []client.JWT{first, second} {
			claims := verified(t, chest, made.Token, kind != "ed25519")
			if claims["sub"] != "app:lane-counter" || claims["aud"] != "gate-3" || claims["lane"] != "car" || claims["jti"] != made.ID {
				t.Errorf("%s: %v", kind, claims)
			}
		}
	}
	if _, err := app.Sign(ctx, "gates/ed25519-key", "", []byte("anything")); chesttest.Code(err) != "refused" {
		t.Errorf("they sign with the key itself: %v", err)
	}
	for code, n := range map[string]client.NewJWT{"invalid_input audiences": {Audiences: []string{"refund-desk"}},
		"invalid_input subject": {Audiences: toGate.Audiences, Subject: "person:mika"},
		"invalid_input claims":  {Audiences: toGate.Audiences, Claims: map[string][]string{"role": {"admin"}}},
		"invalid_input life":    {Audiences: toGate.Audiences, Life: "16m"}} {
		_, err := app.IssueJWT(ctx, "gates", "ed25519", n)
		var problem *client.Problem
		if !errors.As(err, &problem) || problem.Code+" "+problem.Field != code {
			t.Errorf("%s: %v", code, err)
		}
	}
	for name, code := range map[string]string{"server": "invalid_input", "nothing": "not_found", "ed25519-key": "invalid_input"} {
		if _, err := app.IssueJWT(ctx, "gates", name, toGate); chesttest.Code(err) != code {
			t.Errorf("of %s: %v", name, err)
		}
	}
	certificate := client.Order{Names: []string{"gate-1.harbour.example"}, Into: "gates/x"}
	if _, err := curator.IssueCertificate(ctx, "gates", "ed25519", certificate); chesttest.Code(err) != "refused" {
		t.Errorf("by whoever is no subscriber: %v", err)
	}
	order := client.Order{Names: []string{"gate-3"},
		PublicKey: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ1n2fGmRk0gqv5mS9mYwLZ7f0F5mD2mLw3nN0Qm9x5Q"}
	if _, err := app.IssueCertificate(ctx, "gates", "ed25519", order); chesttest.Code(err) != "invalid_input" {
		t.Errorf("a certificate of a profile of tokens: %v", err)
	}
	steward := chest.Client(t, chest.Steward)
	made := must[client.JWT](t)(app.IssueJWT(ctx, "gates", "ed25519", toGate))
	page := must[client.TrailPage](t)(steward.Trail(ctx, client.TrailFilter{Query: "action:issue " + made.ID}))
	if len(page.Entries) != 1 || page.Entries[0].Subject != "app:lane-counter" || page.Entries[0].Target != "gates/ed25519" ||
		strings.Contains(page.Entries[0].Detail, made.Token) {
		t.Errorf("the trail: %+v", page.Entries)
	}

	// What is suspended signs no more, and is not among the keys that strangers trust.
	must[client.History](t)(curator.Act(ctx, "gates", "ed25519-key", client.Act{Act: "suspend"}))
	if _, err := app.IssueJWT(ctx, "gates", "ed25519", toGate); chesttest.Code(err) != "not_servable" {
		t.Errorf("by a key that is suspended: %v", err)
	}
	answer := chest.Do(t, chesttest.Call{Method: "GET", Path: "/api/drawers/gates/jwks"})
	if strings.Contains(string(answer.Body), made.KeyID) {
		t.Error("strangers still trust it")
	}

	// A grant's end holds in the instant in which it is acknowledged: forty loops get nothing that is recorded after it.
	var wait sync.WaitGroup
	for range 40 {
		wait.Go(func() {
			for {
				if _, err := app.IssueJWT(ctx, "gates", "ecdsa-p256", toGate); err != nil {
					if chesttest.Code(err) != "refused" {
						t.Errorf("in a loop: %v", err)
					}
					return
				}
			}
		})
	}
	for _, g := range must[[]client.Grant](t)(steward.Grants(ctx, "app:lane-counter")) {
		must[client.Grant](t)(steward.EndGrant(ctx, g.ID))
	}
	wait.Wait()
	newest := func(action string) uint64 {
		page := must[client.TrailPage](t)(steward.Trail(ctx, client.TrailFilter{Action: action, Outcome: "allowed", Limit: 1}))
		return page.Entries[0].Seq
	}
	if issued, ended := newest("issue"), newest("grant"); issued > ended {
		t.Errorf("a token has entry %d, and the end of the grant %d", issued, ended)
	}
}

// Who may write items beside a key does not thereby say what it signs, and a profile names a key that can.
func TestWhoMaySayWhatAKeySigns(t *testing.T) {
	chest, curator, _ := start(t)
	if err := signs(t, curator, "good", "ed25519", ""); err != nil {
		t.Fatal(err)
	}
	text := base64.StdEncoding.EncodeToString([]byte(`{"authority":"good-key","longest":"15m","jwt":{"issuer":"x","audiences":["*"]}}`))
	item := client.NewItem{Name: "wide", Shape: "profile", Version: client.NewVersion{Value: text, Encoding: "base64"}}
	_, token := chest.App(t, "depositor", chesttest.Grant{Role: "depositor", Scope: "gates/**"})
	if _, err := chest.Client(t, token).CreateItem(ctx, "gates", item); chesttest.Code(err) != "refused" {
		t.Errorf("a depositor says what a key signs: %v", err)
	}

	// What was narrowed stays narrow for whoever may suspend and hold versions, and may not say what the key signs.
	_, subscriber := chest.App(t, "lane-counter", chesttest.Grant{Role: "subscriber", Scope: "gates/good"})
	narrow := `{"authority":"good-key","longest":"15m","jwt":{"issuer":"x","audiences":["gate-1"]}}`
	must[client.Stored](t)(curator.AddVersion(ctx, "gates", "good", 0, client.Content([]byte(narrow))))
	steward := chest.Client(t, chest.Steward)
	actions := []string{"list", "see_metadata", "change_item"}
	must[client.RoleStored](t)(steward.AddRole(ctx, client.NewRole{Name: "switcher", Actions: actions}))
	switcher := chest.Client(t, chest.Person(t, "pier", chesttest.Grant{Role: "switcher", Scope: "gates/good"}))
	wide := func() error {
		return second(chest.Client(t, subscriber).IssueJWT(ctx, "gates", "good", client.NewJWT{Audiences: []string{"gate-3"}}))
	}
	if err := wide(); chesttest.Code(err) != "invalid_input" {
		t.Errorf("narrowed: %v", err)
	}
	for _, act := range []client.Act{{Act: "hold", Version: 1}, {Act: "release"}, {Act: "suspend", Version: 2}} {
		must[client.History](t)(switcher.Act(ctx, "gates", "good", act))
		if err := wide(); err == nil {
			t.Errorf("wide again by %s", act.Act)
		}
	}

	must[client.Stored](t)(curator.CreateItem(ctx, "gates", client.NewItem{Name: "mac", Key: &client.NewKeyFacts{Type: "hmac-sha-256"}}))
	must[client.Stored](t)(curator.CreateItem(ctx, "gates", client.NewItem{Name: "data", Key: &client.NewKeyFacts{Type: "aes-256"}}))
	for authority, algorithm := range map[string]string{"good-key": "RS256", "mac": "", "data": "", "secret": "",
		"authority": "", "none": ""} {
		err := put(curator, "of-"+authority, client.CertificateProfile{Authority: authority, Longest: "15m",
			JWT: &client.JWTProfile{Issuer: "x", Audiences: []string{"*"}, Algorithm: algorithm}})
		if chesttest.Code(err) != "invalid_input" {
			t.Errorf("a profile of %s with %q: %v", authority, algorithm, err)
		}
	}
}

func second[T any](_ T, err error) error { return err }
