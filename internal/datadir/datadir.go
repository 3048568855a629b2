// Package datadir is the directory that a chest lives in: whose it is, that one process at a time has it, and the files beside the
// database.
package datadir

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// Names in the directory.
const (
	DatabaseName = "chest.db"
	// RestoringName is where a chest is made of backups. Until it is whole there is none in the directory around it: one that is opened
	// before it knows that it was restored would use numbers of entries again.
	RestoringName = "restoring"
	lockName      = "chest.lock"
)

// Error says why a data directory cannot be used and what to do about it.
type Error struct {
	Dir     string
	Problem string
	Remedy  string
	Err     error // the cause, if there is one below
}

func (e *Error) Error() string {
	text := fmt.Sprintf("data directory %s: %s", e.Dir, e.Problem)
	if e.Err != nil {
		text += ": " + e.Err.Error()
	}
	if e.Remedy != "" {
		text += "; " + e.Remedy
	}
	return text
}

func (e *Error) Unwrap() error { return e.Err }

// Directory is a data directory that this process has for itself.
type Directory struct {
	path string
	lock *os.File
}

// errRestoring says that a restore was cut off, if it was.
func errRestoring(dir string) error {
	if _, err := os.Lstat(filepath.Join(dir, RestoringName)); err != nil {
		return nil
	}
	return &Error{Dir: dir, Problem: "has what an interrupted restore left behind, which is not a chest",
		Remedy: "remove the directory, and restore again"}
}

// Vacant reports whether a chest can be made in a directory: an [*Error] if there is one already.
func Vacant(dir string) error {
	if _, err := os.Lstat(filepath.Join(dir, DatabaseName)); err == nil {
		return &Error{Dir: dir, Problem: "already holds a chest", Remedy: "choose another directory, or start this one with tansu serve"}
	}
	if err := errRestoring(dir); err != nil {
		return err
	}
	if left := leftovers(dir); len(left) > 0 {
		return &Error{Dir: dir, Problem: "has " + strings.Join(left, ", ") + " of a chest whose " + DatabaseName + " is missing",
			Remedy: "nothing was touched: choose another directory, and restore a backup of that chest (tansu restore)"}
	}
	return nil
}

// Create makes a new data directory, or uses an empty one, and takes it. It fails with an [*Error] if there already is a chest in it.
func Create(dir string) (*Directory, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, &Error{Dir: dir, Problem: "cannot be made", Err: reason(err)}
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		return nil, &Error{Dir: dir, Problem: "cannot be made private", Err: reason(err)}
	}
	if err := Vacant(dir); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(filepath.Join(dir, DatabaseName), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return nil, &Error{Dir: dir, Problem: "cannot be written", Err: reason(err)}
	}
	_ = file.Close()
	taken, err := take(dir)
	if err != nil { // nothing is left of it
		_ = os.Remove(file.Name())
		_ = os.Remove(filepath.Join(dir, lockName))
		_ = os.Remove(dir)
	}
	return taken, err
}

// Open takes the data directory of an existing chest. It fails with an [*Error] when another process has it open, when it is not
// writable, or when others may read it.
func Open(dir string) (*Directory, error) {
	info, err := os.Stat(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &Error{Dir: dir, Problem: "does not exist", Remedy: "make a chest with tansu init --dir " + dir}
	case err != nil:
		return nil, &Error{Dir: dir, Problem: "cannot be read", Err: reason(err)}
	case !info.IsDir():
		return nil, &Error{Dir: dir, Problem: "is not a directory"}
	case info.Mode().Perm()&0o077 != 0:
		return nil, &Error{Dir: dir, Problem: fmt.Sprintf("has mode %04o and is open to others", info.Mode().Perm()),
			Remedy: "run chmod 0700 " + dir}
	}
	file := filepath.Join(dir, DatabaseName)
	info, err = os.Stat(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if err := errRestoring(dir); err != nil {
			return nil, err
		}
		return nil, &Error{Dir: dir, Problem: "holds no chest", Remedy: "make one with tansu init --dir " + dir}
	case err != nil:
		return nil, &Error{Dir: dir, Problem: "cannot be read", Err: reason(err)}
	case info.Mode().Perm()&0o077 != 0:
		return nil, &Error{Dir: dir, Problem: fmt.Sprintf("%s has mode %04o and is open to others", DatabaseName, info.Mode().Perm()),
			Remedy: "run chmod 0600 " + file}
	}
	if err := checkDatabase(dir); err != nil {
		return nil, err
	}
	return take(dir)
}

func take(dir string) (*Directory, error) {
	lock, err := acquire(dir)
	if err != nil {
		return nil, err
	}
	if err := writable(dir); err != nil {
		_ = lock.Close()
		return nil, &Error{Dir: dir, Problem: "is not writable", Err: reason(err)}
	}
	return &Directory{dir, lock}, nil
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
		return nil, &Error{Dir: dir, Problem: "is not writable", Err: reason(err)}
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = file.Close()
		return nil, &Error{Dir: dir, Problem: "is in use by another Tansu process",
			Remedy: "stop that one first; two processes on one chest would lose entries"}
	}
	return file, nil
}

// reason drops the path from a file error: the message around it names the directory already.
func reason(err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		return pathError.Err
	}
	return err
}

// Dir returns where the directory is.
func (d *Directory) Dir() string { return d.path }

// Database returns where the database is.
func (d *Directory) Database() string { return filepath.Join(d.path, DatabaseName) }

// Fault is an [*Error] about the directory.
func (d *Directory) Fault(problem, remedy string, err error) error {
	return &Error{Dir: d.path, Problem: problem, Remedy: remedy, Err: err}
}

// Release lets another process have it; again, it does nothing.
func (d *Directory) Release() error {
	if err := d.lock.Close(); !errors.Is(err, os.ErrClosed) {
		return err
	}
	return nil
}

// Remove removes the files of a chest: for an initialisation that did not finish.
func (d *Directory) Remove() {
	for _, name := range []string{DatabaseName, DatabaseName + "-wal", DatabaseName + "-shm", DatabaseName + "-journal", serverCertificate,
		serverKey, authorityCertificate, lockName} {
		_ = os.Remove(filepath.Join(d.path, name))
	}
	_ = os.Remove(d.path) // only if nothing else is in it
}
