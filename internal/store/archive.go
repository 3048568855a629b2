package store

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

	"golang.org/x/mod/sumdb/tlog"

	"tansu/internal/core/trail"
	"tansu/internal/wholefile"
)

// Archive is a compressed file with entries that are not in the database any more: whole blocks, one entry to a line. It
// verifies like any export.
type Archive struct {
	Name  string // of the file, in the directory "archive" of the data directory
	First uint64
	Last  uint64
}

const (
	archiveDir  = "archive"
	archiveForm = "trail-%012d-%012d.jsonl.gz"
	mostBlocks  = 256 // in one file: a million entries
)

// Archives lists them, oldest first.
func (s *Store) Archives() (list []Archive, err error) {
	files, err := os.ReadDir(filepath.Join(s.Dir(), archiveDir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read archives: %w", err)
	}
	for _, f := range files {
		a := Archive{Name: f.Name()}
		if _, err := fmt.Sscanf(f.Name(), archiveForm, &a.First, &a.Last); err == nil && f.Name() == fmt.Sprintf(archiveForm, a.First, a.Last) {
			list = append(list, a)
		}
	}
	slices.SortFunc(list, func(x, y Archive) int { return strings.Compare(x.Name, y.Name) })
	return list, nil
}

// ArchiveBefore moves the oldest whole blocks, all of whose entries were made before a time (microseconds since 1970), from the
// database into a file. It reports false when there are none. The file is on disk and was read back, and its hashes are those
// of the Merkle tree, before anything is removed.
func (s *Store) ArchiveBefore(before int64) (a Archive, moved bool, err error) {
	if err := s.CatchUp(); err != nil {
		return a, false, err
	}
	first, err := s.firstEntry()
	if err != nil || first == 0 {
		return a, false, err
	}
	var blocks []struct {
		Number int64 `db:"number"`
		Latest int64 `db:"latest"`
		Size   int   `db:"size"`
	}
	err = s.read.Select(&blocks, fmt.Sprintf("SELECT number, latest, length(requests) / %d AS size FROM blocks WHERE number >= ? ORDER "+
		"BY number LIMIT %d", requestMarkSize, mostBlocks), blockOf(first))
	if err != nil {
		return a, false, fmt.Errorf("read blocks: %w", err)
	}
	count := uint64(0)
	for _, b := range blocks {
		if b.Latest >= before || b.Size != blockSize {
			break
		}
		count++
	}
	if count == 0 {
		return a, false, nil
	}
	a = Archive{First: first, Last: first + count*blockSize - 1}
	a.Name = fmt.Sprintf(archiveForm, a.First, a.Last)
	if err := s.writeArchive(a); err != nil {
		return a, false, err
	}
	if err := s.checkArchive(a); err != nil {
		return a, false, errors.Join(fmt.Errorf("the archive %s is not what was recorded, and nothing is removed: %w", a.Name, err),
			os.Remove(filepath.Join(s.Dir(), archiveDir, a.Name)))
	}
	return a, true, s.removeArchived(a)
}

// firstEntry is the number of the oldest entry in the database; 0 when there is none.
func (s *Store) firstEntry() (first uint64, err error) {
	if err := s.read.Get(&first, "SELECT coalesce(min(first), 0) FROM entries"); err != nil {
		return 0, fmt.Errorf("read trail: %w", err)
	}
	return first, nil
}

func (s *Store) writeArchive(a Archive) (err error) {
	dir := filepath.Join(s.Dir(), archiveDir)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	return wholefile.Replace(filepath.Join(dir, a.Name), 0o600, func(file io.Writer) error {
		out := gzip.NewWriter(file)
		var failed error
		err := s.Bodies(a.First, func(seq uint64, body string) bool {
			if seq <= a.Last {
				_, failed = io.WriteString(out, body+"\n")
			}
			return failed == nil && seq < a.Last
		})
		return errors.Join(err, failed, out.Close())
	})
}

// checkArchive compares every entry in a file with what was hashed when it was recorded.
func (s *Store) checkArchive(a Archive) error {
	next := a.First
	var row hashRow
	var wrong error
	err := s.archived(a, func(seq uint64, body string) bool {
		index := tlog.StoredHashIndex(0, int64(seq-1))
		if !row.has(index) {
			row, wrong = s.hashRow(index)
		}
		if wrong == nil && (seq != next || !row.has(index) || row.at(index) != trail.LeafHash(body)) {
			wrong = fmt.Errorf("entry %d", seq)
		}
		next++
		return wrong == nil
	})
	if err = errors.Join(err, wrong); err == nil && next != a.Last+1 {
		err = fmt.Errorf("it ends at entry %d", next-1)
	}
	return err
}

// removeArchived takes what is in a file out of the database, in parts.
func (s *Store) removeArchived(a Archive) error {
	for from := a.First; from <= a.Last; from += blockSize {
		block := []any{blockOf(from)}
		err := s.Submit(&Work{derived: []statement{
			{text: "DELETE FROM entries WHERE first BETWEEN ? AND ?", arguments: []any{from, from + blockSize - 1}},
			{text: "DELETE FROM postings WHERE block = ?", arguments: block},
			{text: "DELETE FROM blocks WHERE number = ?", arguments: block},
		}})
		if err != nil {
			return err
		}
	}
	return nil
}

// archived calls visit with the entries in a file, until it returns false or none is left.
func (s *Store) archived(a Archive, visit func(seq uint64, body string) bool) error {
	file, err := os.Open(filepath.Join(s.Dir(), archiveDir, a.Name))
	if err != nil {
		return fmt.Errorf("read the archive: %w", err)
	}
	defer func() { _ = file.Close() }()
	in, err := gzip.NewReader(file)
	if err != nil {
		return fmt.Errorf("read the archive %s: %w", a.Name, err)
	}
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	for seq := a.First; lines.Scan(); seq++ {
		if !visit(seq, lines.Text()) {
			return nil
		}
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("read the archive %s: %w", a.Name, err)
	}
	return nil
}

// Archived calls visit with the entries of one archive by its name, oldest first, until it returns false. One that is not there
// is an error that is [fs.ErrNotExist].
func (s *Store) Archived(name string, visit func(trail.Entry) bool) error {
	list, err := s.Archives()
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(a Archive) bool { return a.Name == name })
	if at < 0 {
		return fs.ErrNotExist
	}
	var bad error
	err = s.archived(list[at], func(_ uint64, body string) bool {
		e, err := trail.Decode([]byte(body))
		bad = err
		return err == nil && visit(e)
	})
	return errors.Join(err, bad)
}
