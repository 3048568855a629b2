package datadir

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// KeepCopies is how long copies of the database are kept that were made before it was brought up to date. A value that is shredded goes
// from them at once: they are removed then.
const KeepCopies = 14 * 24 * time.Hour

const copySuffix = ".before-"

// CopyPath is where a copy of the database as it was is kept.
func (d *Directory) CopyPath(of string, now time.Time) string {
	return d.Database() + copySuffix + of + "-" + now.UTC().Format("20060102T150405.000000Z")
}

// PutInPlace replaces the database file, which must not be open, and keeps the old one as a copy. If it is interrupted at any point,
// the database's name leads to one of the two.
func (d *Directory) PutInPlace(path, of string, now time.Time) (copied string, err error) {
	if err := errors.Join(os.Chmod(path, 0o600), sync(path)); err != nil {
		return "", d.Fault("cannot be written", "", reason(err))
	}
	copied = d.CopyPath(of, now)
	if err := os.Link(d.Database(), copied); err != nil {
		return "", d.Fault("a copy of the database cannot be kept", "", reason(err))
	}
	for _, journal := range []string{"-wal", "-shm"} { // of the file that was there, into which they were put when it was closed
		if err := os.Remove(d.Database() + journal); err != nil && !errors.Is(err, os.ErrNotExist) {
			return "", d.Fault("cannot be written", "", reason(err))
		}
	}
	if err := os.Rename(path, d.Database()); err != nil {
		return "", d.Fault("cannot be written", "", reason(err))
	}
	return copied, sync(d.path)
}

// Sync puts the names in the directory on the disk.
func (d *Directory) Sync() error { return sync(d.path) }

func sync(path string) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(file.Sync(), file.Close())
}

// RemoveCopies removes copies of the database from before a time.
func (d *Directory) RemoveCopies(before time.Time) error {
	files, err := os.ReadDir(d.path)
	if err != nil {
		return err
	}
	for _, f := range files {
		info, statErr := f.Info()
		if !strings.HasPrefix(f.Name(), DatabaseName+copySuffix) || statErr != nil || !made(info).Before(before) {
			continue
		}
		err = errors.Join(err, os.Remove(filepath.Join(d.path, f.Name())))
	}
	if err != nil {
		return fmt.Errorf("remove copies of the database: %w", err)
	}
	return nil
}

// made is when a file got its name: a copy may be the database itself under another name, and as old as that.
func made(info os.FileInfo) time.Time {
	if stat, is := info.Sys().(*syscall.Stat_t); is {
		return time.Unix(stat.Ctim.Sec, stat.Ctim.Nsec)
	}
	return info.ModTime()
}
