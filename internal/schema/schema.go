// Package schema is the tables of a chest's database: the migrations that lead to them, and the proof that a file has these and nothing
// else. Rows are under MACs; what lies between rows and program, such as a trigger that swallows what is written, or an index or a view
// that shows something else, is not, and is known to the program instead.
package schema

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // registers the driver "sqlite"

	"tansu/internal/datadir"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ApplicationID is in the header of a chest's file (SQLite file format, section 1.3.17): "TANS".
const ApplicationID = 0x54414e53

// Upgraded says that a file was brought up to date.
type Upgraded struct {
	From, To int64
	Copy     string // of the file as it was; kept for [datadir.KeepCopies]
}

// Mend is to be called before a file is opened for [Upgrade]: it makes one anew that an edited migration has made.
func Mend(dir *datadir.Directory) (copied string, err error) { return mend(dir, time.Now()) }

// Upgrade brings the schema of a chest's database up to date, and checks that it is then what this program makes. When that is not
// possible, the file stays as it was, for the program that made it. The error is a [*datadir.Error]. It returns what it did; nil for
// nothing.
func Upgrade(dir *datadir.Directory, db *sql.DB) (done *Upgraded, err error) {
	ctx := context.Background()
	var id, tables int
	if err := db.QueryRow("PRAGMA application_id").Scan(&id); err != nil {
		return nil, dir.Fault(datadir.DatabaseName+" is not a Tansu database or is damaged", "", err)
	}
	if err := db.QueryRow("SELECT count(*) FROM sqlite_schema").Scan(&tables); err != nil {
		return nil, dir.Fault(datadir.DatabaseName+" cannot be read", "", err)
	}
	if tables > 0 && id != ApplicationID {
		return nil, dir.Fault(datadir.DatabaseName+" is not a Tansu database", "", nil)
	}
	provider, err := newProvider(db)
	if err != nil {
		return nil, err
	}
	if tables > 0 {
		sources := provider.ListSources()
		known := sources[len(sources)-1].Version
		found, err := provider.GetDBVersion(ctx)
		if err != nil {
			return nil, dir.Fault("has no readable schema version", "", err)
		}
		switch {
		case found > known:
			return nil, dir.Fault(fmt.Sprintf("was written by a newer Tansu: schema %d, this program knows %d", found, known),
				"use the newer program", nil)
		case found < known:
			return upgradeWhole(ctx, dir, db, provider, found, known)
		}
	}
	if _, err := db.Exec(fmt.Sprintf("PRAGMA application_id = %d", ApplicationID)); err != nil {
		return nil, dir.Fault("cannot be written", "", err)
	}
	if _, err := provider.Up(ctx); err != nil {
		return nil, dir.Fault("its schema cannot be brought up to date", "", err)
	}
	return nil, check(dir, db)
}

// upgradeWhole makes all migrations or none: each is a transaction by itself, and what came before one that fails is taken back by a copy
// of the file, which is looked through before anything is changed, and kept for a while.
func upgradeWhole(ctx context.Context, dir *datadir.Directory, db *sql.DB, provider *goose.Provider, from, to int64) (*Upgraded, error) {
	aside, err := copyAside(dir, db, fmt.Sprintf("schema-%d", from))
	if err != nil {
		return nil, err
	}
	_, err = provider.Up(ctx)
	if err != nil {
		err = dir.Fault("its schema cannot be brought up to date, and it is as it was", "", err)
	} else {
		err = check(dir, db)
	}
	if err == nil {
		return &Upgraded{From: from, To: to, Copy: aside}, nil
	}
	back := db.Close()
	for _, journal := range []string{"-wal", "-shm"} { // which would be of the other file
		if err := os.Remove(dir.Database() + journal); err != nil && !errors.Is(err, fs.ErrNotExist) {
			back = errors.Join(back, err)
		}
	}
	if back == nil {
		back = os.Rename(aside, dir.Database())
	}
	if back != nil {
		return nil, dir.Fault("its schema cannot be brought up to date; how it was is in "+aside, "", errors.Join(err, back))
	}
	return nil, err
}

// copyAside makes a copy of a file that is open, and returns where it is. It has that name when it is whole and good, and nobody else can
// read it before.
func copyAside(dir *datadir.Directory, db *sql.DB, of string) (aside string, err error) {
	unfinished := dir.Database() + ".copying"
	err = removeWithJournal(unfinished) // of one that was cut off
	if err == nil {
		err = os.WriteFile(unfinished, nil, 0o600) // SQLite writes into an empty file, and gives its journal the same mode
	}
	if err == nil {
		_, err = db.Exec("VACUUM INTO ?", unfinished)
	}
	if err != nil {
		return "", dir.Fault("cannot be copied before its schema is brought up to date", "make room on the disk",
			errors.Join(err, removeWithJournal(unfinished)))
	}
	if err := sound(unfinished); err != nil {
		return "", dir.Fault("the copy that was made before its schema is brought up to date is not good, and nothing was changed", "", err)
	}
	aside = dir.CopyPath(of, time.Now())
	if err := os.Rename(unfinished, aside); err != nil {
		return "", dir.Fault("cannot be copied before its schema is brought up to date", "", err)
	}
	return aside, dir.Sync()
}

// sound lets SQLite look through a file.
func sound(path string) (err error) {
	db, err := sql.Open("sqlite", "file:"+path+"?mode=ro")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	said, err := names(db, "PRAGMA quick_check(1)")
	if err == nil && !slices.Equal(said, []string{"ok"}) {
		err = errors.New(strings.Join(said, "; "))
	}
	return err
}

func newProvider(db *sql.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return nil, fmt.Errorf("read migrations: %w", err)
	}
	return provider, nil
}

// check compares a file's schema with the one that the migrations make of an empty file.
func check(dir *datadir.Directory, db *sql.DB) error {
	want, err := expected()
	if err != nil {
		return fmt.Errorf("work out the schema: %w", err)
	}
	have, err := read(db)
	if err != nil {
		return dir.Fault(datadir.DatabaseName+" cannot be read", "", err)
	}
	if wrong := differences(have, want); len(wrong) > 0 {
		return dir.Fault("the database was changed outside Tansu: "+strings.Join(wrong, ", "),
			"put a backup in its place, and find out who wrote to it", nil)
	}
	return nil
}

// expected is the schema of a new chest: the same for as long as the program runs.
var expected = sync.OnceValues(func() (map[string]string, error) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	defer func() { _ = db.Close() }()
	db.SetMaxOpenConns(1) // each connection has a memory of its own
	provider, err := newProvider(db)
	if err != nil {
		return nil, err
	}
	if _, err := provider.Up(context.Background()); err != nil {
		return nil, err
	}
	return read(db)
})

// read lists what is in a schema: "table grants" with the text that made it, without what does not matter in it.
func read(db *sql.DB) (map[string]string, error) {
	rows, err := db.Query("SELECT type, name, tbl_name, coalesce(sql, '') FROM sqlite_schema")
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	all := map[string]string{}
	for rows.Next() {
		var kind, name, table, text string
		if err := rows.Scan(&kind, &name, &table, &text); err != nil {
			return nil, err
		}
		what := kind + " " + name
		if _, twice := all[what]; twice {
			text += " and another one" // which SQLite itself never makes
		}
		if kind == "table" && name == goose.DefaultTablename {
			text = "" // what counts the migrations is goose's own, in whatever version
		}
		all[what] = table + " " + strings.Join(strings.Fields(strings.ReplaceAll(text, `"`, "")), " ")
	}
	return all, rows.Err()
}

// mostNamed is how many differences are named.
const mostNamed = 5

// differences says what is not as it should be, in words.
func differences(have, want map[string]string) (wrong []string) {
	for _, what := range slices.Sorted(maps.Keys(have)) {
		switch text, known := want[what]; {
		case !known:
			wrong = append(wrong, what+" was added")
		case text != have[what]:
			wrong = append(wrong, what+" is another one")
		}
	}
	for _, what := range slices.Sorted(maps.Keys(want)) {
		if _, there := have[what]; !there {
			wrong = append(wrong, what+" is missing")
		}
	}
	if len(wrong) > mostNamed {
		wrong = append(wrong[:mostNamed], fmt.Sprintf("and %d more", len(wrong)-mostNamed))
	}
	return wrong
}
