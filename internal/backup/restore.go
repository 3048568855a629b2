package backup

import (
	"archive/tar"
	"bufio"
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"

	"tansu/internal/archive"
	"tansu/internal/core/trail"
	"tansu/internal/datadir"
	"tansu/internal/store"
	"tansu/internal/wholefile"
)

// Source is a backup that can be read.
type Source struct {
	Header Header
	Name   string // for people
	Open   func() (io.ReadCloser, error)
}

// Chain is the backups that lead to one, which is named as its header names it: a full one, and those that add to it, in their order.
func Chain(all []Source, wanted string) (chain []Source, err error) {
	byName := map[string]Source{}
	for _, s := range all {
		byName[s.Header.Name()] = s
	}
	for name := wanted; ; {
		s, there := byName[name]
		if !there {
			return nil, fmt.Errorf("backup %s is missing, and %s adds to it", name, wanted)
		}
		delete(byName, name) // no backup adds to one that adds to it
		if chain = append(chain, s); s.Header.AddsTo == "" {
			break
		}
		name = s.Header.AddsTo
	}
	slices.Reverse(chain)
	return chain, nil
}

// Newest is the newest backup that is not later than a time; the zero time for the newest of all.
func Newest(all []Source, until time.Time) (name string, err error) {
	var found Header
	for _, s := range all {
		h := s.Header
		if (until.IsZero() || !h.Made.After(until)) && (found.Number == 0 || cmp.Or(h.Made.Compare(found.Made), h.Number-found.Number) > 0) {
			found = h
		}
	}
	switch {
	case found.Number != 0:
		return found.Name(), nil
	case len(all) == 0:
		return "", errors.New("there is no backup there")
	}
	return "", fmt.Errorf("there is no backup from before %s", until.UTC().Format(time.RFC3339))
}

// InDirectory lists the backups in a directory, oldest first. Files that are none are left out; so are those that cannot be read,
// which are named.
func InDirectory(dir string) (list []Source, unreadable []string, err error) {
	files, err := os.ReadDir(dir)
	if err != nil {
		return nil, nil, fmt.Errorf("read the directory of backups: %w", err)
	}
	for _, f := range files {
		if !strings.HasSuffix(f.Name(), Suffix) {
			continue
		}
		path := filepath.Join(dir, f.Name())
		s, err := InFile(path)
		if err != nil {
			unreadable = append(unreadable, fmt.Sprintf("%s: %v", path, err))
			continue
		}
		list = append(list, s)
	}
	inOrder(list)
	return list, unreadable, nil
}

func inOrder(list []Source) {
	slices.SortFunc(list, func(x, y Source) int {
		return cmp.Or(x.Header.Made.Compare(y.Header.Made), x.Header.Number-y.Header.Number)
	})
}

// InFile is the backup in a file.
func InFile(path string) (s Source, err error) {
	file, err := os.Open(path)
	if err != nil {
		return s, err
	}
	defer func() { _ = file.Close() }()
	header, err := ReadHeader(bufio.NewReader(file))
	return Source{Header: header, Name: path, Open: func() (io.ReadCloser, error) { return os.Open(path) }}, err
}

// Restored is a data directory that was made of backups.
type Restored struct {
	Manifest Manifest
	Mended   Mended
}

// Outside is what is known, of what came after a backup, outside of it.
type Outside struct {
	Numbers []uint64    // of entries that somebody has seen: they, and some more, are not used again
	Ends    []trail.End // what was ended: it is ended again with the next unlock
	// Shared is an entry that the later trail and the backup have in common, byte for byte, which proves that both are of this chest;
	// empty if there is none.
	Shared string
}

// Restore makes a data directory of a chain of backups. The directory is made, or empty; what does not succeed leaves nothing in it, and
// what is cut off leaves no chest. Keys gives the key of each backup's stream.
func Restore(dir string, chain []Source, keys func(Header) (Key, error), o Outside, now time.Time) (r Restored, err error) {
	if err := empty(dir); err != nil {
		return r, err
	}
	defer func() {
		if err != nil {
			_ = os.RemoveAll(dir)
		}
	}()
	unfinished := filepath.Join(dir, datadir.RestoringName)
	if err := Unpack(unfinished, chain, keys, &r.Manifest); err != nil {
		return r, err
	}
	records, err := store.Open(unfinished) // which brings it up to date, if an earlier program has made the backup
	if err != nil {
		return r, err
	}
	if err := errors.Join(sharesEntry(records, o.Shared), records.Close()); err != nil {
		return r, err
	}
	to := max(r.Manifest.Last, slices.Max(append(o.Numbers, 0))) + Margin
	if r.Mended, err = mendRestored(unfinished, min(to, r.Manifest.Last+mostSkipped), o, chain[len(chain)-1].Header.Made, now); err != nil {
		return r, err
	}
	return r, settle(unfinished, dir)
}

// sharesEntry refuses a later trail of another chest, or of another history of this one.
func sharesEntry(records *store.Store, entry string) error {
	if entry == "" {
		return nil
	}
	e, err := trail.Decode([]byte(entry))
	if err != nil {
		return err
	}
	same, there := false, false
	err = records.Bodies(e.Seq, func(_ uint64, body string) bool {
		there, same = true, body == entry
		return false
	})
	if err == nil && there && !same {
		err = fmt.Errorf("the later trail is not of this chest, or of another history of it: its entry %d is not the one in the backup", e.Seq)
	}
	return err
}

func mendRestored(dir string, to uint64, o Outside, made, now time.Time) (m Mended, err error) {
	db, err := openFile(dir)
	if err != nil {
		return m, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	return mendTrail(db, dir, to, o.Ends, made, now)
}

// settle puts what is in one directory into another one, the database last.
func settle(from, to string) error {
	files, err := os.ReadDir(from)
	if err != nil {
		return fmt.Errorf("restore: %w", err)
	}
	for _, f := range files {
		if f.Name() == datadir.DatabaseName {
			continue
		}
		if err := os.Rename(filepath.Join(from, f.Name()), filepath.Join(to, f.Name())); err != nil {
			return fmt.Errorf("restore: %w", err)
		}
	}
	if err := errors.Join(wholefile.SyncDir(from), wholefile.SyncDir(to)); err != nil {
		return err
	}
	if err := os.Rename(filepath.Join(from, datadir.DatabaseName), filepath.Join(to, datadir.DatabaseName)); err != nil {
		return fmt.Errorf("restore: %w", err)
	}
	return errors.Join(os.Remove(from), wholefile.SyncDir(to))
}

// Unpack makes the files of a data directory of a chain of backups, as they were, and compares them with the manifest.
func Unpack(dir string, chain []Source, keys func(Header) (Key, error), manifest *Manifest) (err error) {
	if err := empty(dir); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = os.RemoveAll(dir)
		}
	}()
	file, err := os.OpenFile(filepath.Join(dir, datadir.DatabaseName), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("restore: %w", err)
	}
	defer func() { err = errors.Join(err, file.Close()) }()
	u := unpacking{dir: dir, database: file}
	for _, s := range chain {
		if err := u.source(s, keys); err != nil {
			return fmt.Errorf("%s: %w", s.Name, err)
		}
	}
	*manifest = u.manifest
	return errors.Join(u.compare(), file.Sync())
}

func empty(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("restore: %w", err)
	}
	there, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("restore: %w", err)
	}
	if len(there) == 1 && there[0].Name() == datadir.RestoringName {
		return fmt.Errorf("%s has what an interrupted restore left behind, which is not a chest: remove it, and restore again", dir)
	}
	if len(there) > 0 {
		return fmt.Errorf("%s is not empty: a chest is restored to a directory of its own, and what is there is left as it is", dir)
	}
	return os.Chmod(dir, 0o700)
}

type unpacking struct {
	dir      string
	database *os.File
	manifest Manifest
}

func (u *unpacking) source(s Source, keys func(Header) (Key, error)) (err error) {
	file, err := s.Open()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, file.Close()) }()
	in := bufio.NewReaderSize(file, 1<<16)
	header, line, err := readHeader(in)
	if err != nil {
		return err
	}
	if named := s.Header; header.Name() != named.Name() || header.AddsTo != named.AddsTo {
		return fmt.Errorf("it is %s, and %s was to be there: another backup has its name", header.Name(), named.Name())
	}
	key, err := keys(header)
	if err != nil {
		return err
	}
	opened, err := openStream(in, key, line)
	if err != nil {
		return err
	}
	archived := tar.NewReader(opened)
	before := u.manifest
	u.manifest = Manifest{}
	for {
		h, err := archived.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return damaged(err)
		}
		if err := u.file(h.Name, archived, before.PageSize); err != nil {
			return err
		}
	}
	if _, err := io.Copy(io.Discard, opened); err != nil { // what is after the tar must be the end
		return damaged(err)
	}
	m := u.manifest
	if m.Number != header.Number || m.AddsTo != header.AddsTo || m.Chest != header.Chest || m.PageSize == 0 {
		return errors.New("the backup is damaged: it ends before its manifest, or that belongs to another backup")
	}
	return nil
}

func damaged(err error) error { return fmt.Errorf("the backup is damaged: %w", err) }

// mostPart is how large a file in a backup is at most, but for archives.
const mostPart = 256 << 20

func (u *unpacking) file(name string, content io.Reader, pageSize int) error {
	switch {
	case strings.HasPrefix(name, "pages/"):
		part, err := io.ReadAll(io.LimitReader(content, mostPart))
		if err != nil {
			return damaged(err)
		}
		return u.pages(part)
	case name == manifestName:
		part, err := io.ReadAll(io.LimitReader(content, mostPart))
		if err != nil {
			return damaged(err)
		}
		if err := json.Unmarshal(part, &u.manifest); err != nil {
			return damaged(err)
		}
		if pageSize != 0 && pageSize != u.manifest.PageSize {
			return errors.New("its pages have another size than those of the backup before it")
		}
		return u.database.Truncate(int64(u.manifest.Pages) * int64(u.manifest.PageSize))
	case slices.Contains(datadir.IdentityFiles, name):
		return u.whole(name, content)
	}
	if base, is := strings.CutPrefix(name, "archive/"); is && filepath.Base(base) == base {
		if err := os.MkdirAll(filepath.Join(u.dir, archive.Dir), 0o700); err != nil {
			return err
		}
		return u.whole(filepath.Join(archive.Dir, base), content)
	}
	return fmt.Errorf("the backup has a file %q, which does not belong in one", name)
}

func (u *unpacking) whole(name string, content io.Reader) (err error) {
	file, err := os.OpenFile(filepath.Join(u.dir, name), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(file, content)
	return errors.Join(err, file.Sync(), file.Close())
}

// pages puts pages in their places: all that are in a part have one size, which the first one of the database tells (SQLite file format,
// section 1.3.2).
func (u *unpacking) pages(part []byte) error {
	size, err := u.pageSize(part)
	if err != nil {
		return err
	}
	for len(part) > 0 {
		if len(part) < 4+size {
			return errors.New("the backup is damaged: a page is cut off")
		}
		number := binary.BigEndian.Uint32(part)
		if _, err := u.database.WriteAt(part[4:4+size], int64(number-1)*int64(size)); err != nil {
			return fmt.Errorf("write the database: %w", err)
		}
		part = part[4+size:]
	}
	return nil
}

func (u *unpacking) pageSize(part []byte) (int, error) {
	first := make([]byte, 18)
	if _, err := u.database.ReadAt(first, 0); err != nil && !errors.Is(err, io.EOF) {
		return 0, err
	}
	if len(part) >= 4+18 && binary.BigEndian.Uint32(part) == 1 {
		copy(first, part[4:])
	}
	size := int(binary.BigEndian.Uint16(first[16:]))
	if size == 1 {
		size = 65536
	}
	if size < 512 || size&(size-1) != 0 {
		return 0, errors.New("the backup is damaged: its first page is missing")
	}
	return size, nil
}

// compare holds what is there against the manifest of the last backup.
func (u *unpacking) compare() error {
	m := u.manifest
	page := make([]byte, m.PageSize)
	hashes := make([]uint64, 0, m.Pages)
	in := bufio.NewReaderSize(io.NewSectionReader(u.database, 0, int64(m.Pages)*int64(m.PageSize)), 1<<20)
	for range m.Pages {
		if _, err := io.ReadFull(in, page); err != nil {
			return fmt.Errorf("the database is not whole: %w", err)
		}
		hashes = append(hashes, xxhash.Sum64(page))
	}
	if !bytes.Equal(digest(hashes), m.Digest) {
		return errors.New("the database is not what was backed up: a backup in between is missing, or is from another time")
	}
	for _, a := range m.Archives {
		content, err := os.ReadFile(filepath.Join(u.dir, archive.Dir, a.Name))
		if err != nil {
			return fmt.Errorf("an archive of the trail is missing: %w", err)
		}
		if sum := sha256.Sum256(content); !bytes.Equal(sum[:], a.Sum) {
			return fmt.Errorf("the archive %s is not what was backed up", a.Name)
		}
	}
	return nil
}
