// Package wholefile puts a file in the place of another one, whole or not at all: whatever happens, and whenever the machine goes
// down, its name leads to what was there before or to all of what was written, on the disk.
package wholefile

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Replace writes a file beside its place, gives it a mode, syncs it, renames it, and syncs the directory. On an error what had the name
// before still has it, and nothing is left beside it.
func Replace(path string, mode fs.FileMode, write func(io.Writer) error) (err error) {
	dir := filepath.Dir(path)
	file, err := os.CreateTemp(dir, "."+filepath.Base(path)+"-*") // mode 0600 until it is whole
	if err != nil {
		return fmt.Errorf("write %s: %w", path, cause(err))
	}
	defer func() {
		if err != nil {
			_ = file.Close()
			_ = os.Remove(file.Name())
			err = fmt.Errorf("write %s: %w", path, cause(err))
		}
	}()
	out := bufio.NewWriter(file)
	if err := write(out); err != nil {
		return err
	}
	if err := errors.Join(out.Flush(), file.Chmod(mode), file.Sync(), file.Close()); err != nil {
		return err
	}
	if err := os.Rename(file.Name(), path); err != nil {
		return err
	}
	return SyncDir(dir)
}

// Content is what [Replace] writes when it is there already.
func Content(content []byte) func(io.Writer) error {
	return func(out io.Writer) error {
		_, err := out.Write(content)
		return err
	}
}

// SyncDir puts the names in a directory on the disk.
func SyncDir(dir string) error {
	opened, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(opened.Sync(), opened.Close())
}

// cause drops the path of a temporary file from an error, which says nothing to whoever reads it.
func cause(err error) error {
	var of *fs.PathError
	if errors.As(err, &of) {
		return of.Err
	}
	return err
}
