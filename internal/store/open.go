// Package store keeps a chest's records in one SQLite file.
//
// Readers use a pool of connections. Everything that changes the file goes through one goroutine ([Store.Submit]) that
// gathers what is waiting into one transaction, commits it with fsync, and only then answers. A change and its audit
// entry are in the same transaction, so neither exists without the other.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // registers the driver "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

const (
	databaseName  = "chest.db"
	lockName      = "chest.lock"
	applicationID = 0x54414e53 // "TANS", in the file's header (SQLite file format, section 1.3.17)
)

// OpenError says why a data directory cannot be used and what to do about it.
type OpenError struct {
	Dir     string
	Problem string
	Remedy  string
	Err     error // the cause, if there is one below
}

func (e *OpenError) Error() string {
	text := fmt.Sprintf("data directory %s: %s", e.Dir, e.Problem)
	if e.Err != nil {
		text += ": " + e.Err.Error()
	}
	if e.Remedy != "" {
		text += "; " + e.Remedy
	}
	return text
}

func (e *OpenError) Unwrap() error { return e.Err }

// Store is an open data directory. Its methods are safe for concurrent use.
type Store struct {
	dir  string
	lock *os.File
	read *sqlx.DB
	writer
	prepared struct{ item, versions, content *sqlx.Stmt } // questions
}

// Vacant reports whether a chest can be made in a directory: an [*OpenError] if there is one already.
func Vacant(dir string) error {
	if _, err := os.Lstat(filepath.Join(dir, databaseName)); err == nil {
		return &OpenError{Dir: dir, Problem: "already holds a chest", Remedy: "choose another directory, or start this one with tansu serve"}
	}
	return nil
}

// Create makes a new data directory, or uses an empty one, and opens it. It fails if there already is a chest in it.
func Create(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, &OpenError{Dir: dir, Problem: "cannot be made", Err: reason(err)}
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		return nil, &OpenError{Dir: dir, Problem: "cannot be made private", Err: reason(err)}
	}
	if err := Vacant(dir); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(filepath.Join(dir, databaseName), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return nil, &OpenError{Dir: dir, Problem: "cannot be written", Err: reason(err)}
	}
	_ = file.Close()
	return open(dir)
}

// Discard closes the store and removes what it has made: for an initialisation that did not finish.
func (s *Store) Discard() {
	_ = s.Close()
	for _, name := range []string{databaseName, databaseName + "-wal", databaseName + "-shm", serverCertificate, serverKey,
		authorityCertificate, lockName} {
		_ = os.Remove(filepath.Join(s.dir, name))
	}
	_ = os.Remove(s.dir) // only if nothing else is in it
}

// Open opens the data directory of an existing chest, bringing an older database up to date. It fails with an
// [*OpenError] when another process has it open, when it is not writable, or when a newer Tansu wrote it.
func Open(dir string) (*Store, error) {
	info, err := os.Stat(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &OpenError{Dir: dir, Problem: "does not exist", Remedy: "make a chest with tansu init --dir " + dir}
	case err != nil:
		return nil, &OpenError{Dir: dir, Problem: "cannot be read", Err: reason(err)}
	case !info.IsDir():
		return nil, &OpenError{Dir: dir, Problem: "is not a directory"}
	case info.Mode().Perm()&0o077 != 0:
		return nil, &OpenError{Dir: dir, Problem: fmt.Sprintf("has mode %04o and is open to others", info.Mode().Perm()),
			Remedy: "run chmod 0700 " + dir}
	}
	file := filepath.Join(dir, databaseName)
	info, err = os.Stat(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &OpenError{Dir: dir, Problem: "holds no chest", Remedy: "make one with tansu init --dir " + dir}
	case err != nil:
		return nil, &OpenError{Dir: dir, Problem: "cannot be read", Err: reason(err)}
	case info.Mode().Perm()&0o077 != 0:
		return nil, &OpenError{Dir: dir, Problem: fmt.Sprintf("%s has mode %04o and is open to others", databaseName, info.Mode().Perm()),
			Remedy: "run chmod 0600 " + file}
	}
	return open(dir)
}

// reason drops the path from a file error: the message around it names the directory already.
func reason(err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		return pathError.Err
	}
	return err
}

func open(dir string) (s *Store, err error) {
	lock, err := acquire(dir)
	if err != nil {
		return nil, err
	}
	s = &Store{dir: dir, lock: lock}
	defer func() {
		if err != nil {
			_ = s.closeFiles()
			s = nil
		}
	}()
	if err := writable(dir); err != nil {
		return s, &OpenError{Dir: dir, Problem: "is not writable", Err: reason(err)}
	}
	if s.db, err = connect(dir, "rw", 1); err != nil {
		return s, err
	}
	if err := s.migrate(); err != nil {
		return s, err
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

// writable tries what the service will do all day, so that a read-only disk is noticed now.
func writable(dir string) error {
	probe, err := os.CreateTemp(dir, ".probe-*")
	if err != nil {
		return err
	}
	_ = probe.Close()
	return os.Remove(probe.Name())
}

// acquire takes the lock that keeps a second process out; the kernel drops it when the process ends, however it ends.
func acquire(dir string) (*os.File, error) {
	file, err := os.OpenFile(filepath.Join(dir, lockName), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, &OpenError{Dir: dir, Problem: "is not writable", Err: reason(err)}
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = file.Close()
		return nil, &OpenError{Dir: dir, Problem: "is in use by another Tansu process",
			Remedy: "stop that one first; two processes on one chest would lose entries"}
	}
	return file, nil
}

func connect(dir, mode string, connections int) (*sqlx.DB, error) {
	lock := "immediate"
	pragmas := []string{"foreign_keys(1)", "journal_mode(WAL)", "synchronous(FULL)", "secure_delete(1)", "busy_timeout(5000)",
		"temp_store(MEMORY)", "cache_size(-16000)"}
	if mode == "ro" {
		lock = "deferred"
		pragmas = []string{"query_only(1)", "busy_timeout(5000)", "temp_store(MEMORY)", "cache_size(-8000)"}
	}
	query := url.Values{"_pragma": pragmas, "mode": {mode}, "_txlock": {lock}}
	path := (&url.URL{Path: filepath.Join(dir, databaseName)}).EscapedPath()
	db, err := sqlx.Open("sqlite", "file:"+path+"?"+query.Encode())
	if err != nil {
		return nil, &OpenError{Dir: dir, Problem: "cannot be opened", Err: err}
	}
	db.SetMaxOpenConns(connections)
	db.SetMaxIdleConns(connections)
	return db, nil
}

// migrate brings the schema up to date; each migration is one transaction.
func (s *Store) migrate() error {
	ctx := context.Background()
	var id, tables int
	if err := s.db.Get(&id, "PRAGMA application_id"); err != nil {
		return &OpenError{Dir: s.dir, Problem: databaseName + " is not a Tansu database or is damaged", Err: err}
	}
	if err := s.db.Get(&tables, "SELECT count(*) FROM sqlite_schema"); err != nil {
		return &OpenError{Dir: s.dir, Problem: databaseName + " cannot be read", Err: err}
	}
	if tables > 0 && id != applicationID {
		return &OpenError{Dir: s.dir, Problem: databaseName + " is not a Tansu database"}
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, s.db.DB, files, goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return fmt.Errorf("read migrations: %w", err)
	}
	if tables > 0 {
		sources := provider.ListSources()
		known := sources[len(sources)-1].Version
		found, err := provider.GetDBVersion(ctx)
		if err != nil {
			return &OpenError{Dir: s.dir, Problem: "has no readable schema version", Err: err}
		}
		if found > known {
			return &OpenError{Dir: s.dir, Problem: fmt.Sprintf("was written by a newer Tansu: schema %d, this program knows %d", found, known),
				Remedy: "use the newer program"}
		}
	}
	if _, err := s.db.Exec(fmt.Sprintf("PRAGMA application_id = %d", applicationID)); err != nil {
		return &OpenError{Dir: s.dir, Problem: "cannot be written", Err: err}
	}
	if _, err := provider.Up(ctx); err != nil {
		return &OpenError{Dir: s.dir, Problem: "its schema cannot be brought up to date", Err: err}
	}
	return nil
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
	if err := s.lock.Close(); !errors.Is(err, os.ErrClosed) {
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// Dir returns the data directory.
func (s *Store) Dir() string { return s.dir }

// isConstraint reports whether err is a violated UNIQUE or PRIMARY KEY constraint.
func isConstraint(err error) bool {
	var sqliteError *sqlite.Error
	return errors.As(err, &sqliteError) && sqliteError.Code()&0xff == 19 && strings.Contains(sqliteError.Error(), "UNIQUE")
}
