package httpapi_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/core/trail"
	"tansu/internal/server"
)

// What is old is moved into compressed files, in whole blocks, verifies there as before, and is looked for when it is named;
// nothing is dropped.
func TestOldEntriesAreArchivedAndStillProved(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	app := chest.Client(t, token)
	references := strings.Split(strings.Repeat("d/i ", 100), " ")[:100]
	for range 45 { // more than a block
		must[[]client.Outcome](t)(app.ReadValues(ctx, references...))
	}
	auditor := func() *client.Client {
		return chest.Client(t, chest.SignIn(t, "steward"))
	}
	before := point(t, must[client.Checkpoint](t)(auditor().MakeCheckpoint(ctx)).Note, must[string](t)(auditor().VerifierKey(ctx)))
	chest.Clock.Set(-40 * 24 * time.Hour)
	if err := chest.Reopen(t, func(o *server.Options) { o.ArchiveAfter = 30 * 24 * time.Hour }); err != nil {
		t.Fatal(err)
	}
	chest.Service.Upkeep()
	c := auditor()
	archives := must[[]client.Archive](t)(c.Archives(ctx))
	if len(archives) != 1 || archives[0].First != 1 || archives[0].Last != 4096 {
		t.Fatalf("%+v", archives)
	}
	if rows := chest.Rows(t, "SELECT min(first) FROM entries"); fmt.Sprint(rows) != "[[4097]]" {
		t.Errorf("the database begins with %v", rows)
	}
	page := must[client.TrailPage](t)(c.Trail(ctx, client.TrailFilter{Action: "archive_trail"}))
	if len(page.Entries) != 1 || !strings.Contains(page.Entries[0].Detail, archives[0].Name) {
		t.Errorf("the trail says %+v", page.Entries)
	}
	// All of it is exported and verifies, against a checkpoint from before, too.
	var exported bytes.Buffer
	size := must[uint64](t)(c.ExportTrail(ctx, 1, &exported))
	if r, err := trail.Verify(&exported, []trail.Checkpoint{before}, nil); err != nil || len(r.Problems) > 0 || r.Size != size ||
		r.Matched != 1 {
		t.Errorf("%+v, %v", r, err)
	}
	p := must[client.Proof](t)(c.Prove(ctx, 100))
	if _, _, err := (trail.Proof{Seq: p.Seq, Entry: p.Entry, Checkpoint: p.Checkpoint,
		Hashes: p.Hashes}).Check(must[string](t)(c.VerifierKey(ctx))); err != nil {
		t.Error(err)
	}
	// It is looked for when it is named, in pages.
	f := client.TrailFilter{Archive: archives[0].Name, Subject: "app:ticket-api", Limit: 500}
	found := 0
	for {
		page := must[client.TrailPage](t)(c.Trail(ctx, f))
		found += len(page.Entries)
		if f.Cursor = page.NextCursor; f.Cursor == "" {
			break
		}
	}
	live := 0
	for f := (client.TrailFilter{Subject: "app:ticket-api", Action: "read_value", Limit: 500}); ; {
		page := must[client.TrailPage](t)(c.Trail(ctx, f))
		live += len(page.Entries)
		if f.Cursor = page.NextCursor; f.Cursor == "" {
			break
		}
	}
	if found+live != 4501 { // and the token that was issued
		t.Errorf("%d in the archive, %d in the database", found, live)
	}
	if readers := must[[]client.Reader](t)(c.Readers(ctx, "d", "i", time.Now().Add(-time.Hour))); len(readers) != 1 {
		t.Errorf("who reads it: %+v", readers)
	}
	for _, name := range []string{"nothing", "../chest.db", "trail-000000000001-000000040960.jsonl.gz"} {
		if _, err := c.Trail(ctx, client.TrailFilter{Archive: name}); chesttest.Code(err) != "not_found" {
			t.Errorf("%s: %v", name, err)
		}
	}
	if found := must[[]string](t)(c.Examine(ctx)); len(found) > 0 {
		t.Errorf("an examination says %q", found)
	}
	// An archive that somebody changes does not verify.
	path := filepath.Join(chest.Dir, "chest", "archive", archives[0].Name)
	content := must[[]byte](t)(os.ReadFile(path))
	content[len(content)/2] ^= 1
	if err := os.WriteFile(path, content, 0o600); err != nil {
		t.Fatal(err)
	}
	if found, err := c.Examine(ctx); err == nil && len(found) == 0 {
		t.Error("a changed archive is fine")
	}
	if _, err := c.ExportTrail(ctx, 1, io.Discard); err == nil {
		t.Error("an export that breaks off looks whole")
	}
}
