// Package store keeps a chest's records in one SQLite file.
//
// Readers use a pool of connections. Everything that changes the file goes through one goroutine ([Store.Submit]) that
// gathers what is waiting into one transaction, commits it with fsync, and only then answers. A change and its audit
// entry are in the same transaction, so neither exists without the other.
package store

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite" // registers the driver "sqlite"

	"tansu/internal/datadir"
	"tansu/internal/schema"
)

// Store is an open data directory. Its methods are safe for concurrent use.
type Store struct {
	*datadir.Directory
	read     *sqlx.DB
	Upgraded *schema.Upgraded // what opening it has changed; nil for nothing
	writer
	prepared struct{ item, versions, content *sqlx.Stmt } // questions
}

// Create makes a new data directory, or uses an empty one, and opens it. It fails if there already is a chest in it.
// What it has made is removed when it fails.
func Create(dir string) (*Store, error) {
	made, err := datadir.Create(dir)
	if err != nil {
		return nil, err
	}
	s, err := openIn(made)
	if err != nil {
		made.Remove()
	}
	return s, err
}

// Open opens the data directory of an existing chest, bringing an older database up to date. It fails with a
// [*datadir.Error] when another process has it open, when it is not writable, or when a newer Tansu wrote it.
func Open(dir string) (*Store, error) {
	found, err := datadir.Open(dir)
	if err != nil {
		return nil, err
	}
	return openIn(found)
}

// Discard closes the store and removes what it has made: for an initialisation that did not finish.
func (s *Store) Discard() {
	_ = s.Close()
	s.Remove()
}

func openIn(dir *datadir.Directory) (s *Store, err error) {
	s = &Store{Directory: dir}
	defer func() {
		if err != nil {
			_ = s.closeFiles()
			s = nil
		}
	}()
	mended, err := schema.Mend(dir)
	if err != nil {
		return s, err
	}
	if s.db, err = connect(dir, "rw", 1); err != nil {
		return s, err
	}
	if s.Upgraded, err = schema.Upgrade(dir, s.db.DB); err != nil {
		return s, err
	}
	if mended != "" && s.Upgraded != nil { // of the two copies, the one of the file as it was found
		_ = os.Remove(s.Upgraded.Copy)
		s.Upgraded.Copy = mended
	}
	s.path = dir.Database()
	if s.file, err = os.Stat(s.path); err != nil {
		return s, dir.Fault("cannot be read", "", err)
	}
	if s.read, err = connect(dir, "ro", 4); err != nil {
		return s, err
	}
	if err := s.prepareReads(); err != nil {
		return s, err
	}
	if err := s.start(); err != nil {
		return s, err
	}
	if err := s.startIndex(); err != nil {
		s.stop()
		return s, err
	}
	return s, nil
}

func connect(dir *datadir.Directory, mode string, connections int) (*sqlx.DB, error) {
	lock := "immediate"
	pragmas := []string{"foreign_keys(1)", "journal_mode(WAL)", "synchronous(FULL)", "secure_delete(1)", "busy_timeout(5000)",
		"temp_store(MEMORY)", "cache_size(-16000)"}
	if mode == "ro" {
		lock = "deferred"
		pragmas = []string{"query_only(1)", "busy_timeout(5000)", "temp_store(MEMORY)", "cache_size(-4000)"}
	}
	query := url.Values{"_pragma": pragmas, "mode": {mode}, "_txlock": {lock}}
	path := (&url.URL{Path: dir.Database()}).EscapedPath()
	db, err := sqlx.Open("sqlite", "file:"+path+"?"+query.Encode())
	if err != nil {
		return nil, dir.Fault("cannot be opened", "", err)
	}
	db.SetMaxOpenConns(connections)
	db.SetMaxIdleConns(connections)
	return db, nil
}

// Close answers everything that was submitted, then closes the files. Submit fails from then on, and closing again does nothing.
func (s *Store) Close() error {
	s.stopIndex()
	s.stop()
	return s.closeFiles()
}

func (s *Store) closeFiles() error {
	var errs []error
	for _, db := range []*sqlx.DB{s.read, s.db} {
		if db != nil {
			errs = append(errs, db.Close())
		}
	}
	return errors.Join(append(errs, s.Release())...)
}

// mostFaults is how many faults of the file are named.
const mostFaults = 10

// CheckFile lets SQLite look at all of the file, table by table, and returns what it says is wrong. It calls rest between them.
func (s *Store) CheckFile(ctx context.Context, rest func()) (problems []string, err error) {
	var tables []string
	if err := s.read.SelectContext(ctx, &tables, "SELECT name FROM sqlite_schema WHERE type = 'table' AND rootpage > 0"); err != nil {
		return nil, fmt.Errorf("read the schema: %w", err)
	}
	for _, table := range tables {
		var said []string
		err := s.read.SelectContext(ctx, &said, fmt.Sprintf("PRAGMA integrity_check('%s')", strings.ReplaceAll(table, "'", "''")))
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			said = []string{err.Error()}
		}
		for _, text := range said {
			if text != "ok" && len(problems) < mostFaults {
				problems = append(problems, fmt.Sprintf("the database file is damaged in table %s: %s", table, strings.Join(strings.Fields(text), " ")))
			}
		}
		rest()
	}
	return problems, nil
}

// isConstraint reports whether err is a violated UNIQUE or PRIMARY KEY constraint.
func isConstraint(err error) bool {
	var sqliteError *sqlite.Error
	return errors.As(err, &sqliteError) && sqliteError.Code()&0xff == 19 && strings.Contains(sqliteError.Error(), "UNIQUE")
}
