package server_test

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/server"
	"tansu/internal/store"
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
			dir, key, secret := unpackOlder(t, name)
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

// unpackOlder makes the data directory of an older chest, and what opens it beside it, in a file.
func unpackOlder(t *testing.T, name string) (dir, key, secret string) {
	t.Helper()
	dir = t.TempDir()
	if err := os.Chmod(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("tar", "-xzf", filepath.Join("testdata", name+".tgz"), "-C", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	key = filepath.Join(t.TempDir(), "key")
	if err := os.Rename(filepath.Join(dir, "key"), key); err != nil {
		t.Fatal(err)
	}
	if content, err := os.ReadFile(filepath.Join(dir, "secret")); err == nil {
		secret = string(content)
	}
	if err := os.Remove(filepath.Join(dir, "secret")); err != nil {
		t.Fatal(err)
	}
	return dir, key, secret
}

// A process that brings a chest of an earlier version up to date is killed, wherever it happens to be. The next one opens it as if nothing
// had happened. TANSU_KILLS says how often (make killed).
func TestKilledWhileItIsBroughtUpToDate(t *testing.T) {
	kills, err := strconv.Atoi(os.Getenv("TANSU_KILLS"))
	if err != nil {
		kills = 4
	}
	random := rand.New(rand.NewPCG(uint64(os.Getpid()), 3))
	for n := range kills {
		dir, key, secret := unpackOlder(t, olderChests[n%len(olderChests)])
		worker := exec.Command(os.Args[0], "-test.run=TestUpgraderToBeKilled")
		worker.Env = append(os.Environ(), "TANSU_UPGRADE_DIR="+dir)
		out, err := worker.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := worker.Start(); err != nil {
			t.Fatal(err)
		}
		line, err := bufio.NewReader(out).ReadString('\n')
		if err != nil || line != "begins\n" {
			t.Fatalf("the worker says %q, %v", line, err)
		}
		time.AfterFunc(time.Duration(random.IntN(80_000))*time.Microsecond, func() { _ = worker.Process.Kill() })
		_ = worker.Wait()
		s, err := server.Start(server.Options{Dir: dir, Listen: "127.0.0.1:0", Transport: server.PlainHTTP, KeyFile: key,
			Now: func() time.Time { return time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC) }})
		if err != nil {
			t.Fatalf("%s, after it was killed: %v", olderChests[n%len(olderChests)], err)
		}
		useOlder(t, s, secret, 0)
		if err := s.Stop(); err != nil {
			t.Fatal(err)
		}
	}
}

// TestUpgraderToBeKilled is the other process; by itself it does nothing.
func TestUpgraderToBeKilled(t *testing.T) {
	dir := os.Getenv("TANSU_UPGRADE_DIR")
	if dir == "" {
		t.Skip("it is run by TestKilledWhileItIsBroughtUpToDate")
	}
	fmt.Println("begins")
	records, err := store.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	_ = records.Close()
	select {} // until it is killed
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
