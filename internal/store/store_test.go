package store

import (
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pressly/goose/v3"

	"tansu/internal/core/envelope"
	"tansu/internal/core/trail"
	"tansu/internal/datadir"
	"tansu/internal/entity"
	"tansu/internal/schema"
)

var root = envelope.NewRoot("ch_test")

// newStore makes a store with one row of most kinds in it.
func newStore(t *testing.T) (*Store, string) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "chest")
	s, err := Create(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	s.Found(root)
	made := added(
		entity.Identity{ID: "id_1", Kind: "app", Name: "ticket-api", State: "active"},
		entity.Identity{ID: "id_2", Kind: "team", Name: "ticketing", State: "active"},
		entity.Member{ID: "id_2/id_1", Team: "id_2", Identity: "id_1"},
		entity.Credential{ID: "cr_1", Identity: "id_1", Kind: "appsecret", Hash: []byte{2}},
		entity.Token{ID: "0123456789", Identity: "id_1", Kind: "app", NotAfter: 5},
		entity.Grant{ID: "gr_1", Subject: "id_1", Effect: "allow", Role: "consumer", Scope: "a/**"},
		entity.Grant{ID: "gr_2", Subject: "id_1", Effect: "deny", Role: "consumer", Scope: "a/b"},
		entity.Drawer{ID: "dr_1", Name: "a", Environment: "staging"},
		entity.DrawerKey{ID: "dr_1/1", Drawer: "dr_1", Number: 1, Wrapped: []byte{3}},
		entity.Item{ID: "it_1", Drawer: "dr_1", Name: "b", Kind: "secret"},
		entity.Version{ID: "it_1/1", Item: "it_1", Number: 1, WrappedKey: []byte{4}},
		entity.Role{ID: "ro_1", Name: "rotator", Actions: "write_version"},
		entity.Alias{ID: "al_1", Drawer: "dr_1", Name: "old", Item: "it_1", NotAfter: 7},
		entity.Calendar{ID: "ca_1", Identity: "id_1", Hash: []byte{6}, NotAfter: 7},
		entity.Slot{ID: "sl_1", Name: "founding", Method: "shares", Salt: []byte{1}, Wrapped: []byte{1}, Shares: "{}"},
		entity.Share{ID: "sh_1", Slot: "sl_1", Number: 1, Holder: "id_1", Sealed: []byte{1}},
		entity.Issued{ID: "it_1/01", Authority: "it_1", Serial: "01"},
		entity.MasterKey{ID: "mk_1", Name: "crew", Origin: "made", Sealed: []byte{7}},
		entity.Request{ID: "rq_1", Kind: "grant", Asker: "id_1", Subject: "id_1", State: "open"},
	)
	made.Founds = &Chest{ID: "ch_test", AuthorityCertificate: []byte{1}, Seals: Seals{RootWrapped: []byte{1}, BaseSealed: []byte{},
		AuthoritySealed: []byte{1}}}
	made.PutContent("it_1/1", []byte{5})
	err = s.Submit(&Work{Entry: entry("found"), Change: made})
	if err != nil {
		t.Fatal(err)
	}
	return s, dir
}

// added is a change that adds rows.
func added(rows ...entity.Row) *Change {
	c := &Change{}
	for _, row := range rows {
		c.Insert(row)
	}
	return c
}

// updated is a change of one row.
func updated(before, after entity.Row) *Change {
	c := &Change{}
	c.Update(before, after)
	return c
}

func entry(action string) trail.Entry {
	return trail.Entry{At: time.Unix(1000, 0), Subject: "test", Action: action, Outcome: trail.Allowed}
}

// edit changes the database file behind the store's back.
func edit(t *testing.T, dir, statement string, arguments ...any) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, datadir.DatabaseName)+"?_pragma=foreign_keys(0)")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	if _, err := db.Exec(statement, arguments...); err != nil {
		t.Fatalf("%s: %v", statement, err)
	}
}

// keepAside copies a table into a file of its own, and returns the statement that brings it in.
func keepAside(t *testing.T, dir, table string) (attach string) {
	t.Helper()
	attach = "ATTACH '" + filepath.Join(filepath.Dir(dir), "aside.db") + "' AS aside; "
	edit(t, dir, attach+"CREATE TABLE aside.kept AS SELECT * FROM "+table)
	return attach
}

// Whoever can write the file must not get access by it: every edit of every column of every row that decides access is
// noticed, and the row is named.
func TestEveryEditedColumnIsNoticedAndNamed(t *testing.T) {
	s, dir := newStore(t)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, datadir.DatabaseName)+"?_pragma=foreign_keys(0)")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	tried := 0
	for _, row := range everyKind {
		var id string
		if err := db.QueryRow("SELECT id FROM " + row.Table() + " ORDER BY id LIMIT 1").Scan(&id); err != nil {
			t.Fatal(row.Table(), err)
		}
		for _, column := range columns(row) {
			var kind string
			var before any
			if err := db.QueryRow("SELECT typeof("+column+"), "+column+" FROM "+row.Table()+" WHERE id = ?", id).Scan(&kind, &before); err != nil {
				t.Fatal(err)
			}
			change := map[string]string{"text": column + " || '~'", "integer": column + " + 1", "blob": "x'00'"}[kind]
			touched := id
			if column == "id" {
				touched = id + "~"
			}
			if _, err := db.Exec("UPDATE "+row.Table()+" SET "+column+" = "+change+" WHERE id = ?", id); err != nil {
				t.Fatal(err)
			}
			var tampered *TamperedError
			if err := s.Check(t.Context(), root); !errors.As(err, &tampered) || len(tampered.Rows) != 1 ||
				tampered.Rows[0] != (TouchedRow{row.Table(), touched}) {
				t.Errorf("%s.%s: got %v", row.Table(), column, err)
			}
			if _, err := db.Exec("UPDATE "+row.Table()+" SET "+column+" = ? WHERE id = ?", before, touched); err != nil {
				t.Fatal(err)
			}
			tried++
		}
	}
	if err := s.Check(t.Context(), root); err != nil {
		t.Errorf("after everything was put back: %v", err)
	}
	t.Logf("%d columns were edited", tried)
}

// Rows taken out, put in, exchanged with one another, or MACs carried over.
func TestRowsMovedAboutAreNoticed(t *testing.T) {
	for _, statement := range []string{
		"DELETE FROM grants WHERE id = 'gr_2'",
		"DELETE FROM members",
		"DELETE FROM credentials",
		"DELETE FROM versions",
		"DELETE FROM roles",
		"DELETE FROM requests",
		"DELETE FROM aliases",
		"DELETE FROM calendars",
		"CREATE TABLE copy AS SELECT * FROM grants WHERE id = 'gr_1'; UPDATE copy SET id = 'gr_3'; INSERT INTO grants SELECT * FROM copy",
		"UPDATE grants SET id = CASE id WHEN 'gr_1' THEN 'gr_x' ELSE 'gr_1' END; UPDATE grants SET id = 'gr_2' WHERE id = 'gr_x'",
		"UPDATE grants SET scope = '**', mac = (SELECT mac FROM grants WHERE id = 'gr_2') WHERE id = 'gr_1'",
		"UPDATE buckets SET revision = revision + 1",
		"DELETE FROM buckets",
		"INSERT INTO versions SELECT 'it_1/2', item, 2, size, ends_in_newline, note, not_before, not_after, drawer_key, wrapped_key, " +
			"created_at, created_by, revision, mac, staged, suspended, shredded_at, fields, likeness, public_key, facts FROM versions",
		"UPDATE chest SET tally = x'0000000000000000000000000000000000000000000000000000000000000000'",
		"UPDATE chest SET tally_revision = 0",
	} {
		s, dir := newStore(t)
		if _, err := s.Bind(root); err != nil {
			t.Fatal(err)
		}
		edit(t, dir, statement)
		var tampered *TamperedError
		if err := s.Check(t.Context(), root); !errors.As(err, &tampered) {
			t.Errorf("%s: got %v, want a TamperedError", statement, err)
		}
		// Items and versions are looked at when they are first used; all other rows before the chest is unlocked.
		_, err := s.Bind(root)
		if err == nil {
			_, err = s.Item("dr_1", "b")
		}
		if !errors.As(err, &tampered) {
			t.Errorf("%s, used: got %v, want a TamperedError", statement, err)
		}
		_ = s.Close()
	}
}

// A row put back as it once was has a good MAC; the tally notices that it is not what was stored last.
func TestRowPutBackIsNoticed(t *testing.T) {
	s, dir := newStore(t)
	aside := keepAside(t, dir, "grants")
	snapshot, err := s.Bind(root)
	if err != nil {
		t.Fatal(err)
	}
	before := snapshot.Grants[1]
	after := before
	after.EndedAt = 7
	if err := s.Submit(&Work{Entry: entry("end"), Change: updated(before, after)}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Bind(root); err != nil {
		t.Fatalf("after an honest change: %v", err)
	}
	edit(t, dir, "DELETE FROM grants WHERE id = 'gr_2'")
	edit(t, dir, aside+"INSERT INTO grants SELECT * FROM aside.kept WHERE id = 'gr_2'")
	var tampered *TamperedError
	if _, err := s.Bind(root); !errors.As(err, &tampered) || len(tampered.Rows) != 0 || !tampered.Tally {
		t.Errorf("got %v, want a TamperedError about the tally", err)
	}
}

// A row that is there twice does not cancel itself out: with the service stopped, the tables are made anew without keys, and each old row
// is put in twice.
func TestRowsPutBackInPairsAreNoticed(t *testing.T) {
	for _, table := range []string{"tokens", "grants", "members", "credentials", "items", "versions"} {
		s, dir := newStore(t)
		if _, err := s.Bind(root); err != nil {
			t.Fatal(err)
		}
		edit(t, dir, "CREATE TABLE twice AS SELECT * FROM "+table)
		edit(t, dir, "INSERT INTO twice SELECT * FROM "+table)
		edit(t, dir, "INSERT INTO twice SELECT * FROM "+table)
		edit(t, dir, "PRAGMA writable_schema = 1")
		edit(t, dir, "DROP TABLE "+table)
		edit(t, dir, "ALTER TABLE twice RENAME TO "+table)
		if table == "items" { // of which the reader names indexes
			for _, index := range []string{"items_served_until ON items (drawer, served_until)", "items_said ON items (drawer, name)"} {
				edit(t, dir, "CREATE INDEX "+index)
			}
		}
		if err := s.Check(t.Context(), root); err == nil {
			t.Errorf("%s: three of each row are as good as one", table)
		}
		_ = s.Close()
	}
}

// What stands between the rows and the program is as it was made, too: a file that has anything else in it is not opened.
func TestSchemaWithAnythingElseInItIsNotOpened(t *testing.T) {
	for _, c := range []struct{ edit, want string }{
		{"CREATE TRIGGER hush BEFORE INSERT ON entries BEGIN SELECT RAISE(IGNORE); END", "trigger hush was added"},
		{"CREATE TRIGGER later AFTER INSERT ON entries BEGIN DELETE FROM entries WHERE first = NEW.first; END", "trigger later was added"},
		{"CREATE VIEW shadow AS SELECT * FROM grants", "view shadow was added"},
		{"ALTER TABLE tokens RENAME TO kept; CREATE VIEW tokens AS SELECT * FROM kept", "table kept was added"},
		{"CREATE TABLE twice AS SELECT * FROM members; DROP TABLE members; ALTER TABLE twice RENAME TO members", "table members is another one"},
		{"DROP INDEX items_said", "index items_said is missing"},
		{"DROP INDEX items_said; CREATE INDEX items_said ON items (drawer, name) WHERE name = ''", "index items_said is another one"},
		{"CREATE UNIQUE INDEX one_only ON tokens (kind)", "index one_only was added"},
		{"PRAGMA writable_schema = 1; UPDATE sqlite_schema SET sql = replace(sql, 'mac BLOB NOT NULL', 'mac BLOB') WHERE name = 'grants'; " +
			"PRAGMA schema_version = 9000", "table grants is another one"},
	} {
		s, dir := newStore(t)
		must(t, s.Close())
		edit(t, dir, c.edit)
		s, err := Open(dir)
		if err == nil {
			_ = s.Close()
		}
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: got %v", c.edit, err)
		}
	}
}

// The same put in while the file is open, or a row that is written by somebody else: nothing is taken any more, so that nothing is served
// without a stored entry, or by what was put back.
func TestSchemaThatChangesWhileOpenStopsTheWriter(t *testing.T) {
	for _, trigger := range []string{
		"CREATE TRIGGER hush BEFORE INSERT ON entries BEGIN SELECT RAISE(IGNORE); END",
		"CREATE TRIGGER later AFTER INSERT ON entries BEGIN DELETE FROM entries WHERE first = NEW.first; END",
		"CREATE TRIGGER back AFTER INSERT ON buckets BEGIN UPDATE grants SET ended_at = 0; END",
		"UPDATE versions SET suspended = 1",
	} {
		s, dir := newStore(t)
		snapshot, err := s.Bind(root)
		must(t, err)
		must(t, s.Submit(&Work{Entry: entry("read")}))
		edit(t, dir, trigger)
		if err := s.Submit(&Work{Entry: entry("read")}); !errors.Is(err, ErrNotRecorded) {
			t.Errorf("%s: a read goes on: %v", trigger, err)
		}
		after := snapshot.Grants[0]
		after.EndedAt = 7
		if err := s.Submit(&Work{Entry: entry("end"), Change: updated(snapshot.Grants[0], after)}); !errors.Is(err, ErrNotRecorded) {
			t.Errorf("%s: a change goes on: %v", trigger, err)
		}
		if _, err := s.Trouble(); err == nil || !strings.Contains(err.Error(), "something other than Tansu") {
			t.Errorf("%s: the trouble is %v", trigger, err)
		}
		must(t, s.Close())
	}
}

// A file that is removed under a chest that runs, or replaced by another one, takes nothing any more: what was acknowledged would be lost
// when it is closed.
func TestFileThatIsSwappedTakesNothing(t *testing.T) {
	for what, swap := range map[string]func(dir string) error{
		"removed": func(dir string) error { return os.RemoveAll(dir) },
		"moved away": func(dir string) error {
			return os.Rename(filepath.Join(dir, datadir.DatabaseName), filepath.Join(dir, "aside"))
		},
		"replaced by a backup": func(dir string) error {
			edit(t, dir, "VACUUM INTO '"+filepath.Join(dir, "backup")+"'")
			return os.Rename(filepath.Join(dir, "backup"), filepath.Join(dir, datadir.DatabaseName))
		},
	} {
		s, dir := newStore(t)
		snapshot, err := s.Bind(root)
		must(t, err)
		must(t, s.Submit(&Work{Entry: entry("read")}))
		must(t, swap(dir))
		after := snapshot.Grants[0]
		after.EndedAt = 7
		for _, work := range []*Work{{Entry: entry("read")}, {Entry: entry("end"), Change: updated(snapshot.Grants[0], after)}} {
			if err := s.Submit(work); !errors.Is(err, ErrNotRecorded) || !errors.Is(err, ErrSwapped) {
				t.Errorf("%s: %v", what, err)
			}
		}
		if _, err := s.Trouble(); err == nil {
			t.Errorf("%s: it is ready", what)
		}
		_ = s.Close()
	}
}

// Whoever copies the file while it is open, or looks into it, writes nothing to it.
func TestCopyingTheFileIsNoWrite(t *testing.T) {
	s, dir := newStore(t)
	_, err := s.Bind(root)
	must(t, err)
	for n := range 3 {
		edit(t, dir, "VACUUM INTO '"+filepath.Join(t.TempDir(), fmt.Sprint("copy", n))+"'")
		edit(t, dir, "SELECT count(*) FROM grants")
		must(t, s.ForgetJournal())
		must(t, s.Submit(&Work{Entry: entry("read")}))
		must(t, s.CatchUp())
	}
}

// A version that was put back as it once was has a good MAC. It is not used: its bucket is looked at first, and behind the scenes.
func TestVersionPutBackIsNotUsed(t *testing.T) {
	s, dir := newStore(t)
	aside := keepAside(t, dir, "versions")
	if _, err := s.Bind(root); err != nil {
		t.Fatal(err)
	}
	it, err := s.Item("dr_1", "b")
	must(t, err)
	after := it.Versions[0]
	after.Suspended = true
	must(t, s.Submit(&Work{Entry: entry("suspend"), Change: updated(it.Versions[0], after)}))
	s.Unbind()
	edit(t, dir, "DELETE FROM versions")
	edit(t, dir, aside+"INSERT INTO versions SELECT * FROM aside.kept")
	_, err = s.Bind(root)
	must(t, err)
	var tampered *TamperedError
	if _, err := s.Item("dr_1", "b"); !errors.As(err, &tampered) {
		t.Errorf("got %v, want a TamperedError", err)
	}
	s.Unbind()
	_, err = s.Bind(root)
	must(t, err)
	var found error
	if looked := s.CheckBuckets(t.Context(), func() {}, func(err error) { found = err }); looked != 1 || !errors.As(found, &tampered) {
		t.Errorf("behind the scenes %d were looked at, and found %v", looked, found)
	}
}

// While rows change, the bucket that they are in is never taken for one that somebody edited.
func TestBucketsAreLookedAtWhileTheyChange(t *testing.T) {
	s, _ := newStore(t)
	if _, err := s.Bind(root); err != nil {
		t.Fatal(err)
	}
	it, err := s.Item("dr_1", "b")
	must(t, err)
	var wg sync.WaitGroup
	stop := make(chan struct{})
	wg.Go(func() {
		before := it.Item
		for n := range 200 {
			after := before
			after.Description = fmt.Sprint(n)
			change := updated(before, after)
			must(t, s.Submit(&Work{Entry: entry("describe"), Change: change}))
			before = change.Rows[0].After.(entity.Item)
		}
		close(stop)
	})
	for looking := true; looking; {
		select {
		case <-stop:
			looking = false
		default:
			must(t, s.checkBucket(root, bucketOfID("it_1")))
		}
	}
	wg.Wait()
}

func TestAnotherRootKeyDoesNotBind(t *testing.T) {
	s, _ := newStore(t)
	if _, err := s.Bind(envelope.NewRoot("ch_test")); err == nil {
		t.Error("rows verify under another key")
	}
	s.Unbind()
	err := s.Submit(&Work{Entry: entry("x"), Change: added(entity.Drawer{ID: "dr_2", Name: "z"})})
	if !errors.Is(err, ErrNotBound) {
		t.Errorf("a locked store takes a row: %v", err)
	}
	if err := s.Submit(&Work{Entry: entry("y")}); err != nil {
		t.Errorf("a locked store does not take an entry: %v", err)
	}
}

func TestChangeAndEntryAreOne(t *testing.T) {
	s, _ := newStore(t)
	// the name is taken
	err := s.Submit(&Work{Entry: entry("lost"), Change: added(entity.Drawer{ID: "dr_2", Name: "new"}, entity.Drawer{ID: "dr_3", Name: "a"})})
	if !errors.Is(err, ErrExists) {
		t.Fatalf("got %v, want ErrExists", err)
	}
	snapshot, err := s.Bind(root)
	if err != nil || len(snapshot.Drawers) != 1 {
		t.Errorf("half a change stayed: %d drawers, %v", len(snapshot.Drawers), err)
	}
	if actions := actionsOf(t, s); strings.Contains(actions, "lost") {
		t.Errorf("the entry of a change that was undone stayed: %s", actions)
	}
	if _, err := s.Trouble(); err != nil {
		t.Errorf("a name that is taken counts as trouble with the file: %v", err)
	}
}

// A change with many rows is written by few statements, alone, and by turns with others; it is whole or not there at all.
func TestLargeChangeIsWholeAndHoldsNobodyUp(t *testing.T) {
	s, dir := newStore(t)
	large := func(from, to int) *Change {
		c := &Change{}
		for n := from; n < to; n++ {
			c.Insert(entity.Item{ID: fmt.Sprintf("it_x%04d", n), Drawer: "dr_1", Name: fmt.Sprintf("berth-%04d", n)})
		}
		for n := from; n < to; n++ {
			version := entity.Version{ID: fmt.Sprintf("it_x%04d/1", n), Item: fmt.Sprintf("it_x%04d", n), Number: 1, WrappedKey: []byte{4}}
			c.Insert(version)
			c.PutContent(version.ID, []byte(version.ID))
		}
		return c
	}
	var all sync.WaitGroup
	for n := range 4 { // 75 is no multiple of what one statement takes
		all.Go(func() { must(t, s.Submit(&Work{Entry: entry("large"), Change: large(75*n, 75*n+75)})) })
		all.Go(func() {
			for range 50 {
				must(t, s.Submit(&Work{Entry: entry("small")}))
			}
		})
	}
	all.Wait()
	if err := s.Submit(&Work{Entry: entry("lost"), Change: large(299, 400)}); !errors.Is(err, ErrExists) {
		t.Errorf("got %v, want ErrExists", err)
	}
	if actions := actionsOf(t, s); strings.Count(actions, "large") != 4 || strings.Count(actions, "small") != 200 ||
		strings.Contains(actions, "lost") {
		t.Errorf("recorded: %s", actions)
	}
	must(t, s.Close())
	s, err := Open(dir)
	must(t, err)
	defer func() { _ = s.Close() }()
	_, err = s.Bind(root)
	must(t, err)
	must(t, s.Check(t.Context(), root))
	for n := range 400 {
		name := fmt.Sprintf("berth-%04d", n)
		it, err := s.Item("dr_1", name)
		if n >= 300 {
			if err == nil && it.Item.ID != "" {
				t.Errorf("%s of a change that was undone is there", name)
			}
			continue
		}
		must(t, err)
		if content, err := s.Content(it.Item.ID + "/1"); err != nil || string(content) != it.Item.ID+"/1" {
			t.Errorf("%s has content %q, %v", name, content, err)
		}
	}
	if rows, ok, err := s.Rare([]Said{{Columns: []string{"name"}, Text: "*berth-029*"}}); err != nil || !ok || len(rows["dr_1"]) != 10 {
		t.Errorf("found by a part of their names: %v, %v", rows, err)
	}
}

// One change that fails must not take along what happens to be in the same transaction.
func TestFailingChangeLeavesItsCompanyAlone(t *testing.T) {
	s, _ := newStore(t)
	var wg sync.WaitGroup
	for n := range 200 {
		wg.Go(func() {
			name := "a" // taken
			if n%2 == 0 {
				name = fmt.Sprintf("drawer-%d", n)
			}
			err := s.Submit(&Work{Entry: entry(name), Change: added(entity.Drawer{ID: fmt.Sprintf("dr_x%d", n), Name: name})})
			if (err == nil) != (n%2 == 0) {
				t.Errorf("%d: %v", n, err)
			}
		})
	}
	wg.Wait()
	snapshot, err := s.Bind(root)
	if err != nil || len(snapshot.Drawers) != 101 {
		t.Errorf("%d drawers, want 101, %v", len(snapshot.Drawers), err)
	}
	if got := strings.Count(actionsOf(t, s), "drawer-"); got != 100 {
		t.Errorf("%d entries, want 100", got)
	}
}

func actionsOf(t *testing.T, s *Store) string {
	t.Helper()
	var actions []string
	last := uint64(1 << 60)
	err := s.Entries(Filter{}, func(e trail.Entry) bool {
		if e.Seq != last-1 && last != 1<<60 {
			t.Errorf("entry %d follows %d", last, e.Seq)
		}
		last = e.Seq
		actions = append(actions, e.Action)
		return true
	})
	if err != nil {
		t.Fatal(err)
	}
	return strings.Join(actions, " ")
}

func TestStaleRowIsNotReplaced(t *testing.T) {
	s, _ := newStore(t)
	snapshot, err := s.Bind(root)
	if err != nil {
		t.Fatal(err)
	}
	before := snapshot.Drawers[0]
	update := func() error {
		return s.Submit(&Work{Entry: entry("u"), Change: updated(before, before)})
	}
	if err := update(); err != nil {
		t.Fatal(err)
	}
	if err := update(); !errors.Is(err, ErrStale) {
		t.Errorf("got %v, want ErrStale", err)
	}
}

// A full file system is imitated by SQLite's own limit on pages, which fails in the same place with the same error; a
// real one is filled in the server's tests.
func TestNothingIsAcknowledgedWhenTheFileCannotGrow(t *testing.T) {
	s, _ := newStore(t)
	var pages int
	if err := s.db.Get(&pages, "PRAGMA page_count"); err != nil {
		t.Fatal(err)
	}
	s.db.MustExec(fmt.Sprintf("PRAGMA max_page_count = %d", pages))
	var err error
	accepted := 0
	for ; accepted < 10000 && err == nil; accepted++ {
		err = s.Submit(&Work{Entry: entry("fill")})
	}
	if !errors.Is(err, ErrNotRecorded) {
		t.Fatalf("got %v after %d entries, want ErrNotRecorded", err, accepted)
	}
	s.db.MustExec("PRAGMA max_page_count = 1000000")
	if err := s.Submit(&Work{Entry: entry("after")}); err != nil {
		t.Fatalf("with room again: %v", err)
	}
	if got := strings.Count(actionsOf(t, s), "fill"); got != accepted-1 {
		t.Errorf("%d entries are there, %d were acknowledged", got, accepted-1)
	}
}

func TestSubmitAfterCloseFails(t *testing.T) {
	s, _ := newStore(t)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if err := s.Submit(&Work{Entry: entry("late")}); !errors.Is(err, ErrNotRecorded) {
		t.Errorf("got %v, want ErrNotRecorded", err)
	}
}

func TestFilesAreForTheirOwnerAlone(t *testing.T) {
	s, dir := newStore(t)
	if err := s.WriteTLS(datadir.TLS{Certificate: []byte("c"), Key: []byte("k"), Authority: []byte("a")}); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(dir)
	if err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("the directory has mode %v, %v", info.Mode(), err)
	}
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) < 6 {
		t.Fatalf("%d files, %v", len(entries), err)
	}
	for _, e := range entries {
		if info, err := e.Info(); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s has mode %v, %v", e.Name(), info.Mode(), err)
		}
	}
}

func TestOpenSaysWhyItCannot(t *testing.T) {
	for _, c := range []struct {
		name    string
		spoil   func(t *testing.T, dir string)
		problem string
	}{
		{"missing", func(t *testing.T, dir string) { must(t, os.RemoveAll(dir)) }, "does not exist"},
		{"a file", func(t *testing.T, dir string) { must(t, os.RemoveAll(dir)); must(t, os.WriteFile(dir, nil, 0o600)) }, "is not a directory"},
		{"empty", func(t *testing.T, dir string) { must(t, os.Remove(filepath.Join(dir, datadir.DatabaseName))) }, "holds no chest"},
		{"open to others", func(t *testing.T, dir string) { must(t, os.Chmod(dir, 0o755)) }, "is open to others"},
		{"database open to others", func(t *testing.T, dir string) { must(t, os.Chmod(filepath.Join(dir, datadir.DatabaseName), 0o644)) },
			"is open to others"},
		{"not a database", func(t *testing.T, dir string) {
			must(t, os.WriteFile(filepath.Join(dir, datadir.DatabaseName), []byte(strings.Repeat("nonsense ", 1000)), 0o600))
		}, "is not a Tansu database"},
		{"somebody else's database", func(t *testing.T, dir string) { edit(t, dir, "PRAGMA application_id = 7") }, "is not a Tansu database"},
		{"from a newer Tansu", func(t *testing.T, dir string) {
			edit(t, dir, "INSERT INTO goose_db_version (version_id, is_applied) VALUES (999, 1)")
		}, "was written by a newer Tansu"},
	} {
		s, dir := newStore(t)
		must(t, s.Close())
		c.spoil(t, dir)
		_, err := Open(dir)
		var problem *datadir.Error
		if !errors.As(err, &problem) || !strings.Contains(problem.Problem, c.problem) {
			t.Errorf("%s: got %v, want %q", c.name, err, c.problem)
		}
	}
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func TestSecondOpenIsRefusedWhileTheFirstIsOpen(t *testing.T) {
	s, dir := newStore(t)
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "in use by another Tansu process") {
		t.Errorf("got %v", err)
	}
	must(t, s.Close())
	again, err := Open(dir)
	must(t, err)
	if _, err := again.Bind(root); err != nil {
		t.Error(err)
	}
	must(t, again.Close())
	if _, err := Create(dir); err == nil || !strings.Contains(err.Error(), "already holds a chest") {
		t.Errorf("a second initialisation: got %v", err)
	}
}

// A database from before conditions, teams, labels and roles is brought up to date, and the rows in it still verify: a column that came
// later
// counts in the MAC only when it is not empty.
func TestRowsFromBeforeAMigrationStillVerify(t *testing.T) {
	s, dir := newStore(t)
	snapshot, err := s.Bind(root)
	must(t, err)
	leaving := &Change{}
	for _, row := range []entity.Row{snapshot.Members[0], snapshot.Roles[0], snapshot.Requests[0], snapshot.Aliases[0],
		snapshot.Calendars[0], snapshot.Shares[0], snapshot.Slots[0], snapshot.Issued[0],
		snapshot.MasterKeys[0]} {
		leaving.Delete(row)
	}
	must(t, s.Submit(&Work{Entry: entry("leave"), Change: leaving}))
	_, l, _, _, err := s.load(t.Context(), root, true) // the tally as it was: all rows together
	must(t, err)
	mac := root.RowMAC(l.first.content())
	edit(t, dir, "UPDATE chest SET tally = ?, tally_revision = 0, tally_mac = ?", l.first.sum[:], mac[:])
	var bodies []string
	must(t, s.Bodies(1, func(_ uint64, body string) bool { bodies = append(bodies, body); return true }))
	must(t, s.Close())
	toFirstSchema(t, dir, bodies)
	again, err := Open(dir)
	must(t, err)
	defer func() { _ = again.Close() }()
	snapshot, err = again.Bind(root)
	if err != nil || len(snapshot.Grants) != 2 || len(snapshot.Slots) != 1 || snapshot.Slots[0].Revision != 1 {
		t.Errorf("%+v, %v", snapshot, err)
	}
	must(t, again.Check(t.Context(), root))
	must(t, again.Submit(&Work{Entry: entry("after")}))
	var after []string
	must(t, again.Entries(Filter{}, func(e trail.Entry) bool { after = append(after, string(e.AppendCanonical(nil))); return true }))
	slices.Reverse(after)
	if len(after) != len(bodies)+1 || !slices.Equal(after[:len(bodies)], bodies) {
		t.Errorf("the trail was %q and is %q", bodies, after)
	}
}

// toFirstSchema puts in the place of a chest's file one that the first migration made, with all of the rows that it has room for.
func toFirstSchema(t *testing.T, dir string, bodies []string) {
	t.Helper()
	newer := filepath.Join(dir, datadir.DatabaseName)
	first := filepath.Join(t.TempDir(), "first.db")
	db, err := sql.Open("sqlite", "file:"+first)
	must(t, err)
	defer func() { _ = db.Close() }()
	db.SetMaxOpenConns(1) // what is attached is attached to one connection
	migrations, err := goose.NewProvider(goose.DialectSQLite3, db, os.DirFS("../schema/migrations"), goose.WithDisableGlobalRegistry(true))
	must(t, err)
	_, err = migrations.UpTo(t.Context(), 1)
	must(t, err)
	run := func(statement string, arguments ...any) {
		t.Helper()
		if _, err := db.Exec(statement, arguments...); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	run(fmt.Sprintf("PRAGMA application_id = %d", schema.ApplicationID))
	run("ATTACH ? AS newer", newer)
	for _, table := range []string{"chest", "identities", "credentials", "tokens", "grants", "drawers", "drawer_keys", "items", "versions",
		"contents"} {
		var columns string
		must(t, db.QueryRow("SELECT group_concat(name, ', ') FROM pragma_table_info(?, 'main')", table).Scan(&columns))
		values := strings.NewReplacer("slot_method", "'key_file'", "slot_salt", "x'01'", "slot_passes", "1", "slot_memory_kib", "64",
			"slot_threads", "1", "slot_wrapped", "x'01'").Replace(columns) // which have a table of their own now
		run("INSERT INTO main." + table + " (" + columns + ") SELECT " + values + " FROM newer." + table)
	}
	for i, body := range bodies {
		run("INSERT INTO main.entries (seq, body) VALUES (?, ?)", i+1, body)
	}
	run("DETACH newer")
	must(t, db.Close())
	for _, rest := range []string{"-wal", "-shm"} {
		if err := os.Remove(newer + rest); err != nil && !errors.Is(err, os.ErrNotExist) {
			t.Fatal(err)
		}
	}
	must(t, os.Rename(first, newer))
	must(t, os.Chmod(newer, 0o600))
}

// The oldest database is one with fewer migrations applied: the oldest of all has none but the table that counts them.
func TestOlderDatabaseIsBroughtUpToDate(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "chest")
	must(t, os.Mkdir(dir, 0o700))
	must(t, os.WriteFile(filepath.Join(dir, datadir.DatabaseName), nil, 0o600))
	edit(t, dir, fmt.Sprintf("PRAGMA application_id = %d", schema.ApplicationID))
	edit(t, dir, "CREATE TABLE goose_db_version (id INTEGER PRIMARY KEY AUTOINCREMENT, version_id INTEGER NOT NULL, is_applied INTEGER "+
		"NOT NULL, tstamp TIMESTAMP DEFAULT (datetime('now')))")
	edit(t, dir, "INSERT INTO goose_db_version (version_id, is_applied) VALUES (0, 1)")
	s, err := Open(dir)
	must(t, err)
	defer func() { _ = s.Close() }()
	must(t, s.Submit(&Work{Entry: entry("first")}))
}

func TestFilterSelects(t *testing.T) {
	s, _ := newStore(t)
	add := func(subject, target, outcome string, at int64) {
		e := trail.Entry{At: time.Unix(at, 0), Subject: subject, Action: "read_value", Target: target, Outcome: trail.Outcome(outcome),
			RequestID: fmt.Sprint(at), Receipt: "r" + fmt.Sprint(at)}
		must(t, s.Submit(&Work{Entry: e}))
	}
	add("app:a", "d/i", "allowed", 2001)
	add("app:b", "d/i", "refused", 2002)
	add("app:a", "d2/i", "allowed", 2003)
	add("app:a", "d", "allowed", 2004)
	for _, c := range []struct {
		filter Filter
		want   string
	}{
		{Filter{Subject: "app:a"}, "2004 2003 2001"},
		{Filter{Target: "d"}, "2004 2002 2001"},
		{Filter{Target: "d/i"}, "2002 2001"},
		{Filter{Target: "d' OR 1=1 --"}, ""},
		{Filter{Outcome: "refused"}, "2002"},
		{Filter{Receipt: "r2003"}, "2003"},
		{Filter{Action: "read_value", Since: time.Unix(2002, 0), Until: time.Unix(2004, 0)}, "2003 2002"},
		{Filter{Action: "read_value", Before: 4}, "2002 2001"},
	} {
		var got []string
		must(t, s.Entries(c.filter, func(e trail.Entry) bool { got = append(got, e.RequestID); return true }))
		if strings.Join(got, " ") != c.want {
			t.Errorf("%+v: got %v, want %s", c.filter, got, c.want)
		}
	}
}

// What is found by an index is what looking at every item would find, whatever the filter; and it comes in the order of
// names, each once, also across pages.
func TestItemsAreFoundAsIfEachWereLookedAt(t *testing.T) {
	s, _ := newStore(t)
	random := rand.New(rand.NewPCG(4, 2))
	words := []string{"gate", "Radio", "ledger", "north_quay", "50%", "ramp-key", "é"}
	var all []entity.Item
	filling := &Change{}
	for n := range 900 {
		row := entity.Item{ID: fmt.Sprintf("it_%04d", n), Drawer: "dr_1", Name: fmt.Sprintf("%s-%04d", words[random.IntN(len(words))], n),
			Kind:        "secret",
			Description: words[random.IntN(len(words))], ServedUntil: int64(random.IntN(50)), ServedSince: int64(random.IntN(50))}
		switch random.IntN(6) {
		case 0:
			row.Labels = "team=" + words[random.IntN(3)]
		case 1:
			row.Owner = "person:harbour-master"
		case 2:
			row.RetiredAt = 9
		case 3:
			row.ShreddedAt, row.ShreddedName = 9, row.Name
		}
		filling.Insert(row)
	}
	must(t, s.Submit(&Work{Entry: entry("fill"), Change: filling}))
	for _, row := range filling.Rows {
		all = append(all, row.After.(entity.Item))
	}
	has := func(text, word string) bool { return strings.Contains(strings.ToLower(text), strings.ToLower(word)) }
	for name, c := range map[string]struct {
		filter ItemFilter
		naive  func(entity.Item) bool
	}{
		"all":      {ItemFilter{}, func(entity.Item) bool { return true }},
		"after":    {ItemFilter{After: "ledger"}, func(r entity.Item) bool { return r.Name > "ledger" }},
		"labelled": {ItemFilter{Labelled: true}, func(r entity.Item) bool { return r.Labels != "" }},
		"owned":    {ItemFilter{Owner: "person:harbour-master"}, func(r entity.Item) bool { return r.Owner != "" }},
		"retired":  {ItemFilter{Retired: true}, func(r entity.Item) bool { return r.RetiredAt != 0 }},
		"due": {ItemFilter{ServedUntil: 7}, func(r entity.Item) bool {
			return r.RetiredAt == 0 && (r.ServedUntil <= 7 || r.ServedSince <= 0)
		}},
		"aged": {ItemFilter{ServedUntil: 3, ServedSince: 9},
			func(r entity.Item) bool { return r.RetiredAt == 0 && (r.ServedUntil <= 3 || r.ServedSince <= 9) }},
		"a word": {ItemFilter{Said: []Said{{[]string{"name", "description"}, "*radio*"}}},
			func(r entity.Item) bool { return has(r.Name, "radio") || has(r.Description, "radio") }},
		"two words": {ItemFilter{Said: []Said{{[]string{"name"}, "*gate*"}, {[]string{"description"}, "*north_quay*"}}},
			func(r entity.Item) bool { return has(r.Name, "gate") && has(r.Description, "north_quay") }},
		"a sign": {ItemFilter{Said: []Said{{[]string{"description"}, "*0%*"}}}, func(r entity.Item) bool { return has(r.Description, "0%") }},
	} {
		c.filter.Drawer = "dr_1"
		var want, got, rare []string
		for _, r := range all {
			if r.ShreddedAt == 0 && c.naive(r) {
				want = append(want, r.Name)
			}
		}
		if name == "all" {
			want = append(want, "b")
		}
		slices.Sort(want)
		must(t, s.Items(c.filter, func(it Shelved) bool { got = append(got, it.Item.Name); return true }))
		got = slices.DeleteFunc(got, func(n string) bool { return n == "b" && name != "all" })
		if !slices.Equal(got, want) {
			t.Errorf("%s: found %d, there are %d", name, len(got), len(want))
		}
		rows, ok, err := s.Rare(c.filter.Said)
		if err != nil {
			t.Fatal(err)
		}
		if c.filter.Rows = rows["dr_1"]; ok && c.filter.Rows != nil {
			must(t, s.Items(c.filter, func(it Shelved) bool { rare = append(rare, it.Item.Name); return true }))
			if !slices.Equal(rare, want) {
				t.Errorf("%s, by its letters: found %d, there are %d", name, len(rare), len(want))
			}
		}
	}
	before := all[slices.IndexFunc(all, func(r entity.Item) bool { return r.ShreddedAt == 0 })]
	after := before
	after.Description = "zeppelin"
	must(t, s.Submit(&Work{Entry: entry("describe"), Change: updated(before, after)}))
	if rows, ok, err := s.Rare([]Said{{[]string{"description"}, "zeppel*"}}); err != nil || !ok || len(rows["dr_1"]) != 1 {
		t.Errorf("a word that was just written: %v, %v, %v", rows, ok, err)
	}
}
