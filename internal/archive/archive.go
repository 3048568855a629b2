// Package archive is the files in which old entries of a trail are kept: compressed, one entry to a line, as in any export, and named
// by the first and the last of them.
package archive

import (
	"bufio"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"tansu/internal/wholefile"
)

// File is one of them.
type File struct {
	Name  string // in the directory of archives
	First uint64
	Last  uint64
}

// Dir is the directory, in the data directory, in which they are.
const Dir = "archive"

const form = "trail-%012d-%012d.jsonl.gz"

// Of is the file of some entries.
func Of(first, last uint64) File { return File{fmt.Sprintf(form, first, last), first, last} }

// Path is where a file is, in a data directory.
func (f File) Path(dir string) string { return filepath.Join(dir, Dir, f.Name) }

// List lists those in a data directory, oldest first.
func List(dir string) (list []File, err error) {
	files, err := os.ReadDir(filepath.Join(dir, Dir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read archives: %w", err)
	}
	for _, f := range files {
		var a File
		if _, err := fmt.Sscanf(f.Name(), form, &a.First, &a.Last); err == nil && f.Name() == Of(a.First, a.Last).Name {
			list = append(list, Of(a.First, a.Last))
		}
	}
	slices.SortFunc(list, func(x, y File) int { return strings.Compare(x.Name, y.Name) })
	return list, nil
}

// Write writes a file, whole and on the disk, from what bodies visits from its first entry on.
func (f File) Write(dir string, bodies func(from uint64, visit func(seq uint64, body string) bool) error) error {
	if err := os.MkdirAll(filepath.Join(dir, Dir), 0o700); err != nil {
		return err
	}
	return wholefile.Replace(f.Path(dir), 0o600, func(file io.Writer) error {
		out := gzip.NewWriter(file)
		var failed error
		err := bodies(f.First, func(seq uint64, body string) bool {
			if seq <= f.Last {
				_, failed = io.WriteString(out, body+"\n")
			}
			return failed == nil && seq < f.Last
		})
		return errors.Join(err, failed, out.Close())
	})
}

// Read calls visit with the entries in a file, as lines, until it returns false or none is left.
func (f File) Read(dir string, visit func(seq uint64, body string) bool) error {
	file, err := os.Open(f.Path(dir))
	if err != nil {
		return fmt.Errorf("read the archive: %w", err)
	}
	defer func() { _ = file.Close() }()
	in, err := gzip.NewReader(file)
	if err != nil {
		return fmt.Errorf("read the archive %s: %w", f.Name, err)
	}
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	for seq := f.First; lines.Scan(); seq++ {
		if !visit(seq, lines.Text()) {
			return nil
		}
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("read the archive %s: %w", f.Name, err)
	}
	return nil
}
