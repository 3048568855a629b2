package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"

	"golang.org/x/mod/sumdb/tlog"

	"tansu/internal/archive"
	"tansu/internal/core/trail"
	"tansu/internal/entryrow"
)

// mostBlocks is how many blocks are in one file: a million entries.
const mostBlocks = 256

// Archives lists the files with entries that are not in the database any more, oldest first.
func (s *Store) Archives() ([]archive.File, error) { return archive.List(s.Dir()) }

// ArchiveBefore moves the oldest whole blocks, all of whose entries were made before a time (microseconds since 1970), from the
// database into a file. It reports false when there are none. The file is on disk and was read back, and its hashes are those
// of the Merkle tree, before anything is removed.
func (s *Store) ArchiveBefore(before int64) (a archive.File, moved bool, err error) {
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
		"BY number LIMIT %d", requestMarkSize, mostBlocks), entryrow.BlockOf(first))
	if err != nil {
		return a, false, fmt.Errorf("read blocks: %w", err)
	}
	count := uint64(0)
	for _, b := range blocks {
		if b.Latest >= before || b.Size != entryrow.BlockSize {
			break
		}
		count++
	}
	if count == 0 {
		return a, false, nil
	}
	a = archive.Of(first, first+count*entryrow.BlockSize-1)
	if err := a.Write(s.Dir(), s.Bodies); err != nil {
		return a, false, err
	}
	if err := s.checkArchive(a); err != nil {
		return a, false, errors.Join(fmt.Errorf("the archive %s is not what was recorded, and nothing is removed: %w", a.Name, err),
			os.Remove(a.Path(s.Dir())))
	}
	return a, true, s.removeArchived(a)
}

// CheckArchives compares every entry in archives with what was hashed when it was recorded, and says what is missing or not as it was.
func (s *Store) CheckArchives(ctx context.Context) (problems []string, err error) {
	archives, err := s.Archives()
	if err != nil {
		return nil, err
	}
	first, err := s.firstEntry()
	if err != nil {
		return nil, err
	}
	next := uint64(1)
	for _, a := range archives {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if a.First > next {
			problems = append(problems, fmt.Sprintf("entries %d to %d of the trail are in no archive", next, a.First-1))
		}
		next = max(next, a.Last+1)
		if err := s.checkArchive(a); err != nil {
			problems = append(problems, fmt.Sprintf("the archive %s is not what was recorded: %v", a.Name, err))
		}
	}
	if first > next {
		problems = append(problems, fmt.Sprintf("entries %d to %d of the trail are neither in an archive nor in the database", next, first-1))
	}
	return problems, nil
}

// firstEntry is the number of the oldest entry in the database; 0 when there is none.
func (s *Store) firstEntry() (first uint64, err error) {
	if err := s.read.Get(&first, "SELECT coalesce(min(first), 0) FROM entries"); err != nil {
		return 0, fmt.Errorf("read trail: %w", err)
	}
	return first, nil
}

// checkArchive compares every entry in a file with what was hashed when it was recorded.
func (s *Store) checkArchive(a archive.File) error {
	next := a.First
	var row hashRow
	var wrong error
	err := a.Read(s.Dir(), func(seq uint64, body string) bool {
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
func (s *Store) removeArchived(a archive.File) error {
	for from := a.First; from <= a.Last; from += entryrow.BlockSize {
		block := []any{entryrow.BlockOf(from)}
		err := s.Submit(&Work{derived: []statement{
			{text: "DELETE FROM entries WHERE first BETWEEN ? AND ?", arguments: []any{from, from + entryrow.BlockSize - 1}},
			{text: "DELETE FROM postings WHERE block = ?", arguments: block},
			{text: "DELETE FROM blocks WHERE number = ?", arguments: block},
		}})
		if err != nil {
			return err
		}
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
	at := slices.IndexFunc(list, func(a archive.File) bool { return a.Name == name })
	if at < 0 {
		return fs.ErrNotExist
	}
	var bad error
	err = list[at].Read(s.Dir(), func(_ uint64, body string) bool {
		e, err := trail.Decode([]byte(body))
		bad = err
		return err == nil && visit(e)
	})
	return errors.Join(err, bad)
}
