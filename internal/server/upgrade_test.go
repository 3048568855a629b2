package server_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/server"
)

// Chests that earlier versions made, each with a steward, a drawer, an item, an app with a grant of consumer on it and one
// read of it by the app: of the time when access was new, when apps got other proofs than a secret, and before the heart was
// made of snapshots.
// Those with the name of a commit were made by the program of that commit; of five of them the migrations were edited afterwards, so that
// no program but their own could open them for a while. That of 945301d has a grant of the role that is called curator since, and a custom
// role that had this name already.
var olderChests = []string{"chest-access", "chest-proofs", "chest-agents", "chest-8d34941", "chest-fb85e1b", "chest-a65f6d6",
	"chest-902d2c8", "chest-ca427bb", "chest-6546aed", "chest-e58c30b", "chest-e019a3f", "chest-0d77eb2", "chest-8239d0f",
	"chest-945301d"}

// A chest that an earlier version made opens as it is: what was kept is served, entries of the first form are found, counted
// and verified beside those of today's, nothing looks tampered with, and it can be changed and opened once more.
func TestChestsOfEarlierVersionsOpen(t *testing.T) {
	for _, name := range olderChests {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			if err := os.Chmod(dir, 0o700); err != nil {
				t.Fatal(err)
			}
			if out, err := exec.Command("tar", "-xzf", filepath.Join("testdata", name+".tgz"), "-C", dir).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			key, secret := filepath.Join(t.TempDir(), "key"), ""
			if err := os.Rename(filepath.Join(dir, "key"), key); err != nil {
				t.Fatal(err)
			}
			if content, err := os.ReadFile(filepath.Join(dir, "secret")); err == nil {
				secret = string(content)
			}
			if err := os.Remove(filepath.Join(dir, "secret")); err != nil {
				t.Fatal(err)
			}
			clock := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC) // the day after they were made
			for round := range 2 {
				s, err := server.Start(server.Options{Dir: dir, Listen: "127.0.0.1:0", Transport: server.PlainHTTP, KeyFile: key,
					Now: func() time.Time { return clock }})
				if err != nil {
					t.Fatal(err)
				}
				useOlder(t, s, secret, round)
				if err := s.Stop(); err != nil {
					t.Fatal(err)
				}
				clock = clock.Add(time.Hour)
			}
		})
	}
}

// useOlder uses a chest of an earlier version; round says how often it was used before.
func useOlder(t *testing.T, s *server.Server, secret string, round int) {
	t.Helper()
	app, err := client.New(client.Options{Address: s.URL(), App: "ticket-api", Secret: func() (string, error) { return secret, nil }})
	if err != nil {
		t.Fatal(err)
	}
	anyone, err := client.New(client.Options{Address: s.URL()})
	if err != nil {
		t.Fatal(err)
	}
	session, err := anyone.SignIn(ctx, "steward", "a password for old chests", "")
	if err != nil {
		t.Fatal(err)
	}
	steward, err := client.New(client.Options{Address: s.URL(), Token: session.Token})
	if err != nil {
		t.Fatal(err)
	}
	if found, err := steward.Examine(ctx); err != nil || len(found) > 0 {
		t.Errorf("before anything is done an examination says %q, %v", found, err)
	}
	value, version, err := app.Read(ctx, "ticketing-prod/db-password")
	if want := []string{"the value of an older chest", "the next value"}[round]; err != nil || string(value) != want || version != round+1 {
		t.Fatalf("got version %d, %v", version, err)
	}
	// The read of the version that made the chest is one of the first form, and those of today are of the second.
	page, err := steward.Trail(ctx, client.TrailFilter{Subject: "app:ticket-api", Action: "read_value", Outcome: "allowed"})
	if err != nil || len(page.Entries) != round+2 {
		t.Errorf("%d reads are in the trail, %v", len(page.Entries), err)
	}
	readers, err := steward.Readers(ctx, "ticketing-prod", "db-password", time.Time{})
	if err != nil || len(readers) != 1 || readers[0].Subject != "app:ticket-api" || readers[0].Version != round+1 {
		t.Errorf("the readers are %+v, %v", readers, err)
	}
	grants, err := steward.Grants(ctx, "")
	if err != nil {
		t.Error(err)
	}
	for _, g := range grants {
		want := map[string]string{"person:harbour-master": "curator", "person:rota-trainee": "curator-own"}[g.Subject]
		if g.Role == "keeper" || want != "" && g.Role != want {
			t.Errorf("%s has the role %s", g.Subject, g.Role)
		}
		if want == "" {
			continue
		}
		may, err := steward.Ask(ctx, client.Question{Subject: g.Subject, Action: "retire", Target: "ticketing-prod/db-password"})
		if err != nil || may.Allowed != (want == "curator") {
			t.Errorf("%s, who has %s: %+v, %v", g.Subject, g.Role, may, err)
		}
	}
	if _, err := steward.AddVersion(ctx, "ticketing-prod", "db-password", 0,
		client.Content([]byte([]string{"the next value", "and the one after"}[round]))); err != nil {
		t.Errorf("a new version: %v", err)
	}
	if found, err := steward.Examine(ctx); err != nil || len(found) > 0 {
		t.Errorf("afterwards an examination says %q, %v", found, err)
	}
}
