package httpapi_test

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/datadir"
	"tansu/internal/opening"
	"tansu/internal/server"
	"tansu/internal/store"
)

func write(t *testing.T, path string, content []byte) {
	t.Helper()
	if err := os.WriteFile(path, content, 0o600); err != nil {
		t.Fatal(err)
	}
}

// An empty database beside a full journal is not opened, because opening it throws the journal away; nothing is founded where a chest's
// other files are; and nothing is touched by either.
func TestWhatCouldBeLostIsNotTouched(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	if err := chest.Stop(); err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(chest.Dir, "chest")
	database := filepath.Join(dir, datadir.DatabaseName)
	kept, err := os.ReadFile(database)
	if err != nil {
		t.Fatal(err)
	}
	journal := []byte("a journal that may have what is missing")
	write(t, database+"-wal", journal)
	for what, content := range map[string][]byte{"empty": nil, "noise": []byte("not a database at all, by any means")} {
		write(t, database, content)
		if err := chest.Reopen(t, nil); err == nil || !strings.Contains(err.Error(), "copy the whole directory away") {
			t.Errorf("%s: %v", what, err)
		}
		if left, err := os.ReadFile(database + "-wal"); err != nil || string(left) != string(journal) {
			t.Errorf("%s: the journal is touched: %v", what, err)
		}
	}
	if err := os.Remove(database); err != nil {
		t.Fatal(err)
	}
	before, err := os.ReadFile(filepath.Join(dir, "authority.crt"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := store.Create(dir); err == nil || !strings.Contains(err.Error(), "authority.crt") {
		t.Errorf("founded where a chest's files are: %v", err)
	}
	if after, err := os.ReadFile(filepath.Join(dir, "authority.crt")); err != nil || string(after) != string(before) {
		t.Errorf("the authority was replaced: %v", err)
	}
	if err := os.Remove(database + "-wal"); err != nil {
		t.Fatal(err)
	}
	write(t, database, kept)
	if err := chest.Reopen(t, nil); err != nil {
		t.Error(err)
	}
}

// Lost files of the TLS identity are said with what to do, and made anew by who opens the chest; clients notice nothing.
func TestLostCertificateIsMadeAnew(t *testing.T) {
	for _, lost := range []string{"server.key", "server.crt", "authority.crt"} {
		chest := chesttest.Start(t)
		dir := filepath.Join(chest.Dir, "chest")
		authority, err := chest.Authority()
		if err != nil {
			t.Fatal(err)
		}
		remove := func() {
			t.Helper()
			if err := errors.Join(chest.Stop(), os.Remove(filepath.Join(dir, lost))); err != nil {
				t.Fatal(err)
			}
		}
		remove()
		err = chest.Reopen(t, func(o *server.Options) { o.KeyFile = "" })
		if err == nil || !strings.Contains(err.Error(), "tansu renew-certificate") || !strings.Contains(err.Error(), lost) {
			t.Errorf("without %s: %v", lost, err)
		}
		chest.Restart(t) // with the key file
		if again, err := chest.Authority(); err != nil || string(again) != string(authority) {
			t.Errorf("without %s the authority is another one: %v", lost, err)
		}
		must[client.Session](t)(chest.Client(t, "").SignIn(ctx, "steward", chesttest.Password, ""))
		remove()
		records, err := store.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		material, err := server.ReadKeyFile(filepath.Join(chest.Dir, "unlock.key"))
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(opening.RenewStopped(records, material, []string{"127.0.0.1"}, time.Now()), records.Close()); err != nil {
			t.Fatal(err)
		}
		if err := chest.Reopen(t, func(o *server.Options) { o.KeyFile = "" }); err != nil {
			t.Error(err)
		}
	}
}

// The service's certificate is replaced before it ends, while the service runs.
func TestCertificateIsRenewedWhileItRuns(t *testing.T) {
	chest := chesttest.Start(t)
	end := func() time.Time {
		t.Helper()
		content, err := os.ReadFile(filepath.Join(chest.Dir, "chest", "server.crt"))
		if err != nil {
			t.Fatal(err)
		}
		block, _ := pem.Decode(content)
		leaf, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			t.Fatal(err)
		}
		return leaf.NotAfter
	}
	before := end()
	chest.Clock.Set(-300 * 24 * time.Hour)
	chest.Upkeep()
	if !end().Equal(before) {
		t.Error("it is replaced two months early")
	}
	chest.Clock.Set(-350 * 24 * time.Hour)
	chest.Upkeep()
	if !end().After(before) {
		t.Error("it was not replaced a fortnight before its end")
	}
}

// What a restore left that was cut off is opened by nobody, and nothing is founded beside it.
func TestHalfARestoreIsNoChest(t *testing.T) {
	dir := t.TempDir()
	if err := errors.Join(os.Chmod(dir, 0o700), os.Mkdir(filepath.Join(dir, datadir.RestoringName), 0o700)); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Open(dir); err == nil || !strings.Contains(err.Error(), "interrupted restore") {
		t.Errorf("it is opened: %v", err)
	}
	if _, err := store.Create(dir); err == nil || !strings.Contains(err.Error(), "interrupted restore") {
		t.Errorf("a chest is founded beside it: %v", err)
	}
}

// What is damaged in the file is found behind the scenes, and by an examination, which says the same of a stopped chest; and a chest
// none of whose values can be read is not ready.
func TestDamageIsFound(t *testing.T) {
	chest := chesttest.Start(t)
	for _, name := range []string{"a", "b", "c"} {
		chest.Fill(t, "d", name, "v")
	}
	ready := func() int {
		return chest.Do(t, chesttest.Call{Method: http.MethodGet, Path: "/api/ready"}).Status
	}
	if status := ready(); status != http.StatusOK {
		t.Fatalf("ready is %d", status)
	}
	if err := chest.Stop(); err != nil {
		t.Fatal(err)
	}
	chest.Edit(t, "UPDATE contents SET ciphertext = zeroblob(length(ciphertext))")
	stopped := examineStopped(t, chest)
	if err := chest.Reopen(t, nil); err != nil {
		t.Fatal(err)
	}
	chest.Clock.Set(-time.Minute)
	if status := ready(); status != http.StatusInternalServerError && status != http.StatusServiceUnavailable {
		t.Errorf("with no value that can be read, ready is %d", status)
	}
	running := must[[]string](t)(chest.Client(t, chest.SignIn(t, "steward")).Examine(ctx))
	if len(running) != 3 || !slices.Equal(stopped, running) || !strings.Contains(running[0], "is not what was stored") {
		t.Errorf("stopped: %q, running: %q", stopped, running)
	}
	eventually(t, func() bool {
		status := must[client.Status](t)(chest.Client(t, "").Status(ctx))
		return len(status.Problems) == 1 && strings.Contains(status.Problems[0].What, "values are not what was stored")
	})
}

// Somebody else has the file locked: asking whether the chest is ready takes no longer than a moment.
func TestReadyDoesNotWaitForTheDatabase(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(chest.Dir, "chest", datadir.DatabaseName)+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	defer func() { _ = db.Close() }()
	if _, err := db.Exec("BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	if code := readCode(chest.Client(t, chest.Steward), "d/i"); code != "not_recorded" {
		t.Errorf("what cannot be recorded is answered with %q", code)
	}
	began := time.Now()
	_ = chest.Do(t, chesttest.Call{Method: http.MethodGet, Path: "/api/ready"})
	if took := time.Since(began); took > 4*time.Second {
		t.Errorf("it took %s", took)
	}
}

// eventually waits for something that is done behind the scenes.
func eventually(t *testing.T, is func() bool) {
	t.Helper()
	deadline := time.Now().Add(30 * time.Second)
	for !is() {
		if time.Now().After(deadline) {
			t.Fatal("it did not come to be")
		}
		runtime.Gosched()
	}
}

// A page of the file is noise, one page at a time. Either the chest does not open, or what it serves is what was stored, an examination
// names what is wrong as soon as anything at all cannot be read, and it is not ready when nothing can. TANSU_PAGES says how many pages are
// tried (make edits).
func TestAPageOfNoiseIsNoticed(t *testing.T) {
	tried, err := strconv.Atoi(os.Getenv("TANSU_PAGES"))
	if err != nil {
		tried = 8
	}
	chest := chesttest.Start(t)
	var references []string
	for n := range 60 {
		name := fmt.Sprintf("item-%02d", n)
		chest.Fill(t, []string{"gates", "berths"}[n%2], name, strings.Repeat(name+" ", 40))
		references = append(references, []string{"gates", "berths"}[n%2]+"/"+name)
	}
	secret, _ := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "**"})
	dir := filepath.Join(chest.Dir, "chest")
	if err := chest.Stop(); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, datadir.DatabaseName)
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	const page = 4096
	random := rand.New(rand.NewPCG(uint64(os.Getpid()), 70))
	pages := random.Perm(len(whole) / page)
	came := map[string]int{}
	for _, at := range pages[:min(tried, len(pages))] {
		content := bytes.Clone(whole)
		for i := range page {
			content[at*page+i] = byte(random.IntN(256))
		}
		for _, journal := range []string{"-wal", "-shm"} {
			_ = os.Remove(path + journal)
		}
		write(t, path, content)
		came[withNoise(t, chest, at+1, secret, references)]++
	}
	t.Logf("%d pages of %d: %v", min(tried, len(pages)), len(pages), came)
}

// withNoise opens a chest of whose file a page is noise, and says what came of it.
func withNoise(t *testing.T, chest *chesttest.Chest, page int, secret string, references []string) string {
	t.Helper()
	if err := chest.Reopen(t, nil); err != nil {
		return "does not start"
	}
	defer func() { _ = chest.Stop() }()
	if status, err := chest.Client(t, "").Status(ctx); err != nil || status.State != "unlocked" {
		return "stays locked"
	}
	ready := chest.Do(t, chesttest.Call{Method: http.MethodGet, Path: "/api/ready"}).Status
	failed, last := 0, error(nil)
	token, _, err := chest.Client(t, "").AppToken(ctx, "ticket-api", secret)
	for _, reference := range references {
		if err != nil {
			failed++
			continue
		}
		_, name, _ := strings.Cut(reference, "/")
		value, _, read := chest.Client(t, token).Read(ctx, reference)
		if read != nil {
			failed, last = failed+1, read
		} else if string(value) != strings.Repeat(name+" ", 40) {
			t.Errorf("page %d: %s is %q", page, reference, value)
		}
	}
	steward, err := chest.Client(t, "").SignIn(ctx, "steward", chesttest.Password, "")
	if err != nil {
		if failed < len(references) || ready == http.StatusOK {
			t.Errorf("page %d: ready is %d, %d of %d values cannot be read, and nobody can sign in: %v", page, ready, failed, len(references), err)
		}
		return "serves nothing, and is not ready"
	}
	wrong, err := chest.Client(t, steward.Token).Examine(ctx)
	switch {
	case failed == len(references) && ready == http.StatusOK:
		t.Errorf("page %d: no value can be read, and it is ready: %v, %v", page, err, last)
	case failed > 0 && err == nil && len(wrong) == 0:
		t.Errorf("page %d: %d values cannot be read, and an examination says that nothing is wrong", page, failed)
	case err == nil && len(wrong) == 0:
		return "serves all, and nothing is wrong" // the page was free, or of an index that is made anew
	case failed == 0:
		return "serves all, and says what is wrong"
	}
	return "serves some, and says what is wrong"
}
