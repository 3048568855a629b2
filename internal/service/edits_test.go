package service_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/opening"
	"tansu/internal/people"
	"tansu/internal/rights"
	"tansu/internal/service"
	"tansu/internal/shelf"
	"tansu/internal/store"
)

// attacked is a chest of which somebody has the file, as it is and as it was before access was taken from some apps.
type attacked struct {
	material  secretvalue.Value
	now, then string            // files
	tokens    map[string]string // of apps, by what became of them
	tables    []string
}

// What is tried: how many edits of a stopped chest, and of one that runs.
func edits(share int) int {
	n, err := strconv.Atoi(os.Getenv("TANSU_EDITS"))
	if err != nil {
		n = 24
	}
	return n / share
}

// Whatever somebody does to the file of a stopped chest gives nobody access that was taken from them, and no wrong value to anybody; and
// it hangs nothing. TANSU_EDITS says how many edits are tried (make edits).
func TestEditsOfAStoppedChestGainNothing(t *testing.T) {
	a := startAttacked(t)
	random := rand.New(rand.NewPCG(20, 26))
	came := map[string]int{}
	for n := range edits(1) {
		dir := a.copied(t)
		told := a.edit(t, random, dir, true)
		what, err := within(time.Minute, func() (string, error) { return a.opened(dir) })
		if err != nil {
			t.Errorf("edit %d, %s: %v", n, strings.Join(told, "; "), err)
		}
		came[what]++
		_ = os.RemoveAll(dir)
	}
	t.Logf("%d edits of a stopped chest: %v", edits(1), came)
}

// What somebody would try who knows how a chest is stored, table by table: old rows in pairs, all old rows of a table, nothing left of it,
// another table in its place, and triggers that swallow, undo or give.
func TestCraftedEditsGainNothing(t *testing.T) {
	if testing.Short() {
		t.Skip("some hundreds of starts")
	}
	a := startAttacked(t)
	came, tried := map[string]int{}, 0
	for _, table := range a.tables {
		crafted := []string{
			"ATTACH '" + a.then + "' AS was; DELETE FROM main." + table + "; INSERT INTO main." + table + " SELECT * FROM was." + table,
			"ATTACH '" + a.then + "' AS was; CREATE TABLE twice AS SELECT * FROM was." + table + " UNION ALL SELECT * FROM was." + table +
				" UNION ALL SELECT * FROM main." + table + "; DROP TABLE main." + table + "; ALTER TABLE twice RENAME TO " + table,
			"ATTACH '" + a.then + "' AS was; INSERT OR IGNORE INTO main." + table + " SELECT * FROM was." + table,
			"DELETE FROM " + table,
			"ALTER TABLE " + table + " RENAME TO kept; CREATE VIEW " + table + " AS SELECT * FROM kept",
		}
		for _, timing := range []string{"BEFORE INSERT", "AFTER UPDATE"} {
			for _, body := range []string{"SELECT RAISE(IGNORE)", "UPDATE grants SET ended_at = 0", "DELETE FROM entries"} {
				crafted = append(crafted, "CREATE TRIGGER t "+timing+" ON "+table+" BEGIN "+body+"; END")
			}
		}
		for _, text := range crafted {
			dir := a.copied(t)
			db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "chest.db")+"?_pragma=foreign_keys(0)")
			must(t, err)
			db.SetMaxOpenConns(1)
			_, _ = db.Exec(text) // what SQLite refuses is no edit
			must(t, db.Close())
			what, err := within(time.Minute, func() (string, error) { return a.opened(dir) })
			if err != nil {
				t.Errorf("%s: %v", text, err)
			}
			tried++
			came[what]++
			_ = os.RemoveAll(dir)
		}
	}
	t.Logf("%d crafted edits of a stopped chest: %v", tried, came)
}

// The same while it runs.
func TestEditsOfARunningChestGainNothing(t *testing.T) {
	a := startAttacked(t)
	random := rand.New(rand.NewPCG(26, 20))
	came := map[string]int{}
	for n := range max(edits(10), 6) {
		dir := a.copied(t)
		records, err := store.Open(dir)
		must(t, err)
		s, err := service.New(records, service.Options{})
		must(t, err)
		must(t, s.Unlock(origin, a.material))
		if n%2 == 0 { // with what was used in memory, and without
			if _, err := a.probe(s); err != nil {
				t.Fatal(err)
			}
		}
		told := a.edit(t, random, dir, false)
		what, err := within(time.Minute, func() (string, error) { return a.probe(s) })
		if err != nil {
			t.Errorf("edit %d, %s: %v", n, strings.Join(told, "; "), err)
		}
		came[what]++
		s.Stop()
		_ = records.Close()
		_ = os.RemoveAll(dir)
	}
	t.Logf("%d edits of a running chest: %v", max(edits(10), 6), came)
}

func within(most time.Duration, do func() (string, error)) (what string, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	go func() {
		defer cancel()
		what, err = do()
	}()
	if <-ctx.Done(); errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return "hung", errors.New("it hangs")
	}
	return what, err
}

// startAttacked makes the chest and both files.
func startAttacked(t *testing.T) *attacked {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "chest")
	records, err := store.Create(dir)
	must(t, err)
	a := &attacked{material: envelope.NewKeyFile(envelope.MethodKeyFile), tokens: map[string]string{},
		now:  filepath.Join(t.TempDir(), "now.db"),
		then: filepath.Join(t.TempDir(), "then.db")}
	founded, err := opening.Found(records, opening.Founding{Method: envelope.MethodKeyFile, Material: a.material,
		Hosts: []string{"localhost"}})
	must(t, err)
	s, err := service.New(records, service.Options{})
	must(t, err)
	must(t, s.Unlock(origin, a.material))
	session, err := s.Enrol(origin, string(founded.Enrolment.Reveal()), secretvalue.FromString("a password for tests"), people.ViaCLI)
	must(t, err)
	steward, err := s.Authenticate(origin, string(session.Token.Reveal()))
	must(t, err)
	_, err = s.CreateDrawer(steward, shelf.NewDrawer{Name: "d", Environment: "staging"})
	must(t, err)
	for _, name := range []string{"i", "j", "closed"} {
		_, _, err := s.CreateItem(steward, reference.Reference{Drawer: "d", Item: name}, shelf.NewItem{},
			shelf.NewVersion{Content: secretvalue.FromString("value of " + name)})
		must(t, err)
	}
	_, err = s.Register(steward, people.NewIdentity{Kind: "team", Name: "readers"})
	must(t, err)
	grant(t, s, steward, "team:readers", "consumer", "d/i")
	made := map[string]people.Registered{}
	grants := map[string]chest.GrantInfo{}
	for _, name := range []string{"good", "ended", "suspended", "left", "revoked", "none", "denied"} {
		registered, proof := app(t, s, steward, name)
		made[name] = registered
		if name != "left" && name != "none" {
			grants[name] = grant(t, s, steward, "app:"+name, "consumer", "d/i")
		}
		issued, err := s.IssueToken(t.Context(), origin, proof)
		must(t, err)
		a.tokens[name] = string(issued.Token.Reveal())
	}
	grant(t, s, steward, "app:good", "consumer", "d/closed")
	_, err = s.Join(steward, "team:readers", "app:left")
	must(t, err)
	copyOf(t, dir, a.then)
	_, err = s.End(steward, grants["ended"].ID)
	must(t, err)
	_, err = s.SetState(steward, "app:suspended", chest.Suspended)
	must(t, err)
	_, err = s.Leave(steward, "team:readers", "app:left")
	must(t, err)
	must(t, s.RevokeCredential(steward, "app:revoked", made["revoked"].Credential.ID))
	_, _, err = s.Give(steward, rights.NewGrant{Subject: "app:denied", Role: "consumer", Scope: "d/**", Effect: "deny"})
	must(t, err)
	_, _, err = s.Act(steward, reference.Reference{Drawer: "d", Item: "closed"}, "suspend", "")
	must(t, err)
	s.Stop()
	copyOf(t, dir, a.now)
	must(t, records.Close())
	db, err := sql.Open("sqlite", "file:"+a.now)
	must(t, err)
	defer func() { _ = db.Close() }()
	rows, err := db.Query("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' AND name NOT LIKE 'items_words%'")
	must(t, err)
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var name string
		must(t, rows.Scan(&name))
		a.tables = append(a.tables, name)
	}
	if what, err := a.opened(a.copied(t)); err != nil || what != "harmless" {
		t.Fatalf("as it is: %s, %v", what, err)
	}
	return a
}

func copyOf(t *testing.T, dir, to string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "chest.db")+"?mode=ro")
	must(t, err)
	defer func() { _ = db.Close() }()
	_, err = db.Exec("VACUUM INTO '" + to + "'")
	must(t, err)
}

// copied is a directory with the file as it is.
func (a *attacked) copied(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp(t.TempDir(), "chest")
	must(t, err)
	in, err := os.Open(a.now)
	must(t, err)
	defer func() { _ = in.Close() }()
	out, err := os.OpenFile(filepath.Join(dir, "chest.db"), os.O_CREATE|os.O_WRONLY, 0o600)
	must(t, err)
	_, err = io.Copy(out, in)
	must(t, errors.Join(err, out.Close()))
	return dir
}

// opened opens a directory and tries what was taken away; it says what became of the edit.
func (a *attacked) opened(dir string) (string, error) {
	records, err := store.Open(dir)
	if err != nil {
		return "not opened", nil
	}
	defer func() { _ = records.Close() }()
	s, err := service.New(records, service.Options{})
	if err != nil {
		return "not opened", nil
	}
	defer s.Stop()
	if err := s.Unlock(origin, a.material); err != nil {
		return "locked", nil
	}
	return a.probe(s)
}

// probe tries to read with what was taken away, and what must be right if it is served.
func (a *attacked) probe(s *service.Service) (string, error) {
	what := "harmless"
	for name, token := range a.tokens {
		for item, allowed := range map[string]bool{"i": name == "good", "j": false, "closed": false} {
			c, err := s.Authenticate(origin, token)
			if err == nil {
				var served shelf.Served
				served, err = s.ReadValue(c, reference.Reference{Drawer: "d", Item: item})
				switch {
				case err == nil && !allowed:
					return "gained", fmt.Errorf("app:%s reads d/%s", name, item)
				case err == nil && string(served.Content.Reveal()) != "value of "+item:
					return "wrong", fmt.Errorf("app:%s reads %q as d/%s", name, served.Content.Reveal(), item)
				}
			}
			if allowed && err != nil {
				what = "refused"
			}
		}
	}
	return what, nil
}

// edit does one to three things to a file, and says which. What is not possible is none.
func (a *attacked) edit(t *testing.T, random *rand.Rand, dir string, stopped bool) (told []string) {
	t.Helper()
	path := filepath.Join(dir, "chest.db")
	kinds := 9
	if stopped {
		kinds = 10
	}
	for range 1 + random.IntN(3) {
		if kind := random.IntN(kinds); kind == 9 {
			told = append(told, noise(t, random, path))
		} else {
			told = append(told, a.statement(t, random, path, kind))
		}
	}
	return told
}

func (a *attacked) statement(t *testing.T, random *rand.Rand, path string, kind int) string {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=foreign_keys(0)&_pragma=busy_timeout(5000)")
	must(t, err)
	defer func() { _ = db.Close() }()
	db.SetMaxOpenConns(1)
	table := a.tables[random.IntN(len(a.tables))]
	some := fmt.Sprintf("(SELECT %s FROM %s ORDER BY random() LIMIT 1)", "%s", table)
	column := "rowid"
	if err := db.QueryRow("SELECT name FROM pragma_table_info(?) ORDER BY random() LIMIT 1", table).Scan(&column); err != nil {
		column = "id"
	}
	one := "rowid = " + fmt.Sprintf(some, "rowid")
	timing := []string{"BEFORE INSERT", "AFTER INSERT", "BEFORE UPDATE", "AFTER UPDATE"}[random.IntN(4)]
	body := []string{"SELECT RAISE(IGNORE)", "UPDATE grants SET ended_at = 0", "DELETE FROM entries", "UPDATE identities SET state = 'active'",
		"UPDATE versions SET suspended = 0"}[random.IntN(5)]
	text := []string{
		"UPDATE " + table + " SET " + column + " = " + fmt.Sprintf(some, column) + " WHERE " + one,
		"UPDATE " + table + " SET " + column + " = " + []string{column + " + 1", "NULL", "x'00'", "0", "''",
			"'active'"}[random.IntN(6)] + " WHERE " + one,
		"DELETE FROM " + table + " WHERE " + one,
		"CREATE TABLE twice AS SELECT * FROM " + table + "; INSERT INTO twice SELECT * FROM " + table + "; DROP TABLE " + table +
			"; ALTER TABLE twice RENAME TO " + table,
		"ATTACH '" + a.then + "' AS was; INSERT OR REPLACE INTO main." + table + " SELECT * FROM was." + table + " ORDER BY random() LIMIT " +
			strconv.Itoa(1+random.IntN(5)),
		"ATTACH '" + a.then + "' AS was; DELETE FROM main." + table + "; INSERT INTO main." + table + " SELECT * FROM was." + table,
		"CREATE TRIGGER t" + strconv.Itoa(random.IntN(1000)) + " " + timing + " ON " + table + " BEGIN " + body + "; END",
		"ALTER TABLE " + table + " RENAME TO kept; CREATE VIEW " + table + " AS SELECT * FROM kept",
		"UPDATE contents SET ciphertext = (SELECT ciphertext FROM contents ORDER BY random() LIMIT 1)",
	}[kind]
	if _, err := db.Exec(text); err != nil {
		return text + " (not possible: " + err.Error() + ")"
	}
	return text
}

// noise overwrites some bytes of a file.
func noise(t *testing.T, random *rand.Rand, path string) string {
	t.Helper()
	file, err := os.OpenFile(path, os.O_RDWR, 0)
	must(t, err)
	defer func() { _ = file.Close() }()
	info, err := file.Stat()
	must(t, err)
	bytes := make([]byte, 1+random.IntN(64))
	for i := range bytes {
		bytes[i] = byte(random.IntN(256))
	}
	at := random.Int64N(max(info.Size()-int64(len(bytes)), 1))
	_, err = file.WriteAt(bytes, at)
	must(t, err)
	return fmt.Sprintf("%d bytes of noise at %d", len(bytes), at)
}
