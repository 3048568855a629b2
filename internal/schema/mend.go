package schema

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"tansu/internal/datadir"
)

// Some migrations were edited after chests had been made with them, so that there are files of the same version with other tables. From
// version 13 on a file has the schema of its version, or is not opened; those before it are made anew by the migrations as they are
// now, with the rows that are in them.
const lastLoose = 12

// renamed are tables that had another name in some of those files.
var renamed = map[string]string{"calendars": "feeds"}

// mend makes a file anew whose schema is not that of its version, before it is brought up to date. The file as it was is kept as a copy,
// whose name it returns; empty when there was nothing to mend.
func mend(dir *datadir.Directory, now time.Time) (copied string, err error) {
	version, have, err := versionOf(dir.Database())
	if err != nil || version == 0 || version > lastLoose {
		return "", nil // Upgrade says what is wrong with it
	}
	fresh := dir.Database() + ".anew"
	if err := removeWithJournal(fresh); err != nil {
		return "", dir.Fault("cannot be written", "", err)
	}
	defer func() { err = errors.Join(err, removeWithJournal(fresh)) }()
	db, err := sql.Open("sqlite", "file:"+fresh+"?_pragma=foreign_keys(0)")
	if err != nil {
		return "", err
	}
	defer func() { _ = db.Close() }()
	db.SetMaxOpenConns(1) // what is attached is attached to one connection
	provider, err := newProvider(db)
	if err != nil {
		return "", err
	}
	ctx := context.Background()
	if _, err := provider.UpTo(ctx, version); err != nil {
		return "", dir.Fault("a file of its version cannot be made beside it", "make room on the disk", err)
	}
	want, err := read(db)
	if err != nil || len(differences(have, want)) == 0 {
		return "", err
	}
	if err := copyRows(ctx, db, dir.Database()); err != nil {
		return "", dir.Fault("its rows cannot be moved into tables of today's form, and it is as it was", "", err)
	}
	if err := db.Close(); err != nil {
		return "", err
	}
	return dir.PutInPlace(fresh, fmt.Sprintf("schema-%d", version), now)
}

// versionOf reads how far a file was brought by which migrations, and what its schema is. Nothing of it is changed.
func versionOf(path string) (version int64, have map[string]string, err error) {
	db, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		return 0, nil, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	if err := db.QueryRow("SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied").Scan(&version); err != nil {
		return 0, nil, err
	}
	have, err = read(db)
	return version, have, err
}

// copyRows puts the rows of another file into the tables that are there, as far as both know their columns, and makes items findable.
func copyRows(ctx context.Context, db *sql.DB, from string) error {
	if _, err := db.ExecContext(ctx, "ATTACH ? AS old", from); err != nil {
		return err
	}
	tables, err := names(db, "SELECT name FROM main.sqlite_schema WHERE type = 'table' AND name NOT LIKE 'items_words%' "+
		"AND name NOT LIKE 'sqlite_%' AND name != 'goose_db_version'")
	if err != nil {
		return err
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for _, table := range tables {
		source := table
		before, err := names(tx, "SELECT name FROM pragma_table_xinfo(?, 'old')", source)
		if err == nil && len(before) == 0 && renamed[table] != "" {
			source = renamed[table]
			before, err = names(tx, "SELECT name FROM pragma_table_xinfo(?, 'old')", source)
		}
		if err != nil {
			return err
		}
		now, err := names(tx, "SELECT name FROM pragma_table_info(?, 'main')", table)
		if err != nil {
			return err
		}
		shared := slices.DeleteFunc(now, func(column string) bool { return !slices.Contains(before, column) })
		if len(shared) == 0 {
			continue // that table had not come yet
		}
		columns := strings.Join(shared, ", ")
		if _, err := tx.ExecContext(ctx, "DELETE FROM main."+table); err != nil { // what its migration has put in
			return err
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO main."+table+" ("+columns+") SELECT "+columns+" FROM old."+source); err != nil {
			return fmt.Errorf("%s: %w", table, err)
		}
	}
	if slices.Contains(tables, "aliases") { // and so the words of items
		if _, err := tx.ExecContext(ctx, "INSERT INTO main.items_words (rowid, name, description, owner, labels, shape, created_by) "+
			"SELECT rowid, name, description, owner, labels, shape, created_by FROM main.items"); err != nil {
			return fmt.Errorf("words of items: %w", err)
		}
	}
	if _, err := tx.ExecContext(ctx, fmt.Sprintf("PRAGMA application_id = %d", ApplicationID)); err != nil {
		return err
	}
	return tx.Commit()
}

func names(db interface {
	Query(string, ...any) (*sql.Rows, error)
}, query string, arguments ...any) (list []string, err error) {
	rows, err := db.Query(query, arguments...)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		list = append(list, name)
	}
	return list, rows.Err()
}

func removeWithJournal(path string) (err error) {
	for _, name := range []string{path, path + "-wal", path + "-shm", path + "-journal"} {
		if gone := os.Remove(name); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
			err = errors.Join(err, gone)
		}
	}
	return err
}
