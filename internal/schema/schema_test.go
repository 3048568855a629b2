package schema

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"tansu/internal/datadir"
)

// released are the migrations that chests have been through, by the beginning of their SHA-256. One that was released is never edited: a
// chest that has been through it as it was would have another schema than the program expects, and would not open. What is to be another
// way is a new migration, with its line here.
var released = map[string]string{
	"00001_chest.sql":        "a53bc1354ec33ca3",
	"00002_conditions.sql":   "4e85ca51550971c4",
	"00003_teams.sql":        "9208b16f2a0233ad",
	"00004_access.sql":       "6618d1723322fec6",
	"00005_lifecycle.sql":    "3358640ed97e400b",
	"00006_shapes.sql":       "dc58b3254bd1c638",
	"00007_shelf.sql":        "5cef2c66c25daa33",
	"00008_trail.sql":        "14fa9524650f450c",
	"00009_proofs.sql":       "6b6c9f9e888000a7",
	"00010_packed.sql":       "1161b6ff7c61854f",
	"00011_buckets.sql":      "08be89c1da4a7e00",
	"00012_due.sql":          "30ca71c9297dda93",
	"00013_insiders.sql":     "74a4c7626e1836da",
	"00014_generations.sql":  "2ca672ffcd53c7a2",
	"00015_slots.sql":        "c756eb301902c684",
	"00016_restored.sql":     "48a2019e02f2a496",
	"00017_ended_since.sql":  "40d079df7ea92851",
	"00018_once.sql":         "d073f2428f0e406a",
	"00019_keys.sql":         "ff5e756810af0a8f",
	"00020_certificates.sql": "e3fa6e5ba65b54bf",
	"00021_master_keys.sql":  "88a378c3cebdad72",
}

func TestReleasedMigrationsStayAsTheyAre(t *testing.T) {
	files, err := fs.ReadDir(migrations, "migrations")
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		content, err := fs.ReadFile(migrations, "migrations/"+file.Name())
		if err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256(content)
		if got := hex.EncodeToString(sum[:])[:16]; got != released[file.Name()] {
			t.Errorf("%s is %s, and was released as %q", file.Name(), got, released[file.Name()])
		}
	}
	if len(files) != len(released) {
		t.Errorf("there are %d migrations, and %d were released", len(files), len(released))
	}
}

// A migration that fails, after others that did not, leaves the file as the older program knows it.
func TestFailedUpgradeLeavesTheFileAsItWas(t *testing.T) {
	dir, err := datadir.Create(filepath.Join(t.TempDir(), "chest"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dir.Release() }()
	open := func() *sql.DB {
		t.Helper()
		db, err := sql.Open("sqlite", "file:"+dir.Database()+"?_pragma=journal_mode(WAL)")
		if err != nil {
			t.Fatal(err)
		}
		db.SetMaxOpenConns(1)
		t.Cleanup(func() { _ = db.Close() })
		return db
	}
	older := open()
	provider, err := newProvider(older)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := provider.UpTo(t.Context(), 11); err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{fmt.Sprintf("PRAGMA application_id = %d", ApplicationID),
		"ALTER TABLE identities ADD COLUMN unconfirmed TEXT"} { // which the last migration adds, too
		if _, err := older.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	before, err := read(older)
	if err != nil {
		t.Fatal(err)
	}
	if err := older.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := Upgrade(dir, open()); err == nil || !strings.Contains(err.Error(), "it is as it was") {
		t.Fatalf("got %v", err)
	}
	after, err := read(open())
	if err != nil {
		t.Fatal(err)
	}
	if wrong := differences(after, before); len(wrong) > 0 {
		t.Errorf("it is another one: %v", wrong)
	}
	if left, err := filepath.Glob(dir.Database() + ".*"); err != nil || len(left) > 0 {
		t.Errorf("%v are left, %v", left, err)
	}
}
