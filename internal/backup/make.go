package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite" // registers the driver "sqlite"

	"tansu/internal/archive"
	"tansu/internal/datadir"
	"tansu/internal/entryrow"
)

// Seen is what the backup before this one had, by which it is known what has changed since.
type Seen struct {
	Name     string
	PageSize int
	Hashes   []uint64 // of the pages of the database, in their order
	Archives []string
}

// Order says what is to be made.
type Order struct {
	Dir        string // the data directory
	Number     int
	Base       *Seen // nil for a full backup
	Recipients Recipients
	Now        time.Time
	Rest       func(context.Context) // called often, to let others work; nil for never
}

// Made is a backup that was written.
type Made struct {
	Header  Header
	Key     Key
	Seen    Seen
	Changed int   // pages in it
	Size    int64 // of the file, in bytes
}

// pagesAtOnce is how many pages are in one part of the tar.
const pagesAtOnce = 1024

// Make writes a backup of one instant, whatever is written meanwhile, and blocks neither readers nor writers. Begin is given the
// header, and returns where the backup goes.
func Make(ctx context.Context, o Order, begin func(Header) (io.Writer, error)) (m Made, err error) {
	db, err := readFile(o.Dir)
	if err != nil {
		return m, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return m, fmt.Errorf("read the database: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	var chest string
	var size, count int
	for query, into := range map[string]any{"SELECT id FROM chest": &chest, "PRAGMA page_size": &size, "PRAGMA page_count": &count} {
		if err := tx.GetContext(ctx, into, query); err != nil {
			return m, fmt.Errorf("read the database: %w", err)
		}
	}
	last, err := lastEntry(tx)
	if err != nil {
		return m, err
	}
	m.Key = newKey()
	m.Header = Header{Chest: chest, Number: o.Number, Made: o.Now.UTC().Truncate(time.Second), Last: last}
	if o.Base != nil && o.Base.PageSize == size {
		m.Header.AddsTo = o.Base.Name
	} else {
		o.Base = nil
	}
	if m.Header.Keys, err = o.Recipients.encrypt(m.Key); err != nil {
		return m, err
	}
	header, err := m.Header.encoded()
	if err != nil {
		return m, err
	}
	to, err := begin(m.Header)
	if err != nil {
		return m, err
	}
	counted := &counting{to: to}
	if _, err := counted.Write(append([]byte(firstLine), header...)); err != nil {
		return m, fmt.Errorf("write the backup: %w", err)
	}
	out, err := newStream(counted, m.Key, header)
	if err != nil {
		return m, err
	}
	w := writing{Made: &m, order: o, tar: tar.NewWriter(out)}
	m.Seen = Seen{Name: m.Header.Name(), PageSize: size}
	manifest := Manifest{Chest: chest, Number: o.Number, AddsTo: m.Header.AddsTo, PageSize: size, Pages: count, Last: last}
	if err := w.pages(ctx, tx); err != nil {
		return m, err
	}
	if len(m.Seen.Hashes) != count {
		return m, fmt.Errorf("the database has %d pages, and %d were read", count, len(m.Seen.Hashes))
	}
	if manifest.Archives, err = w.archives(ctx); err != nil {
		return m, err
	}
	if err := w.identity(); err != nil {
		return m, err
	}
	manifest.Changed, manifest.Digest = m.Changed, digest(m.Seen.Hashes)
	content, err := json.MarshalIndent(manifest, "", "  ")
	if err != nil {
		return m, err
	}
	if err := errors.Join(w.add(manifestName, content), w.tar.Close(), out.Close()); err != nil {
		return m, fmt.Errorf("write the backup: %w", err)
	}
	m.Size = counted.size
	return m, ctx.Err()
}

// manifestName is the name of the last file of a backup.
const manifestName = "manifest.json"

// readFile opens the database of a chest for reading, beside whoever has it open.
func readFile(dir string) (*sqlx.DB, error) {
	return open(dir, "query_only(1)", "wal_autocheckpoint(0)")
}

// openFile opens the database of a chest that nobody else has open.
func openFile(dir string) (*sqlx.DB, error) {
	return open(dir, "journal_mode(WAL)", "synchronous(FULL)")
}

func open(dir string, pragmas ...string) (*sqlx.DB, error) {
	path := filepath.Join(dir, datadir.DatabaseName)
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("there is no chest in %s: %w", dir, err)
	}
	query := url.Values{"_pragma": append(pragmas, "busy_timeout(5000)", "cache_size(-2000)"), "mode": {"rw"}}
	db, err := sqlx.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+query.Encode())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

// lastEntry is the number of the newest entry.
func lastEntry(tx *sqlx.Tx) (uint64, error) {
	var r []entryrow.Row
	if err := tx.Select(&r, "SELECT first, bodies, packed FROM entries ORDER BY first DESC LIMIT 1"); err != nil {
		return 0, fmt.Errorf("read the trail: %w", err)
	}
	if len(r) == 0 {
		return 0, nil
	}
	return r[0].First + uint64(len(r[0].Lines())) - 1, nil
}

// digest is one sum for the hashes of all pages.
func digest(hashes []uint64) []byte {
	h := sha256.New()
	var eight [8]byte
	for _, hash := range hashes {
		binary.BigEndian.PutUint64(eight[:], hash)
		h.Write(eight[:])
	}
	return h.Sum(nil)
}

type counting struct {
	to   io.Writer
	size int64
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.to.Write(b)
	c.size += int64(n)
	return n, err
}

// writing is a backup that is being written.
type writing struct {
	*Made
	order Order
	tar   *tar.Writer
	parts int
}

func (w *writing) add(name string, content []byte) error {
	if err := w.tar.WriteHeader(&tar.Header{Name: name, Size: int64(len(content)), Mode: 0o600}); err != nil {
		return err
	}
	_, err := w.tar.Write(content)
	return err
}

// pages writes the pages that differ from those of the backup before, each after its number in 4 bytes.
func (w *writing) pages(ctx context.Context, tx *sqlx.Tx) error {
	rows, err := tx.QueryContext(ctx, "SELECT pgno, data FROM sqlite_dbpage ORDER BY pgno")
	if err != nil {
		return fmt.Errorf("read the database: %w", err)
	}
	defer func() { _ = rows.Close() }()
	var part bytes.Buffer
	flush := func() error {
		if part.Len() == 0 {
			return nil
		}
		w.parts++
		err := w.add(fmt.Sprintf("pages/%06d", w.parts), part.Bytes())
		part.Reset()
		if w.order.Rest != nil {
			w.order.Rest(ctx)
		}
		return errors.Join(err, ctx.Err())
	}
	held := 0
	for rows.Next() {
		var number uint32
		var page sqlBytes
		if err := rows.Scan(&number, &page); err != nil {
			return fmt.Errorf("read the database: %w", err)
		}
		at := len(w.Seen.Hashes)
		if int(number) != at+1 {
			return fmt.Errorf("page %d of the database comes after page %d", number, at)
		}
		hash := xxhash.Sum64(page)
		w.Seen.Hashes = append(w.Seen.Hashes, hash)
		if base := w.order.Base; base != nil && at < len(base.Hashes) && base.Hashes[at] == hash {
			continue
		}
		w.Changed++
		part.Write(binary.BigEndian.AppendUint32(part.AvailableBuffer(), number))
		part.Write(page)
		if held++; held == pagesAtOnce {
			held = 0
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return errors.Join(rows.Err(), flush())
}

// sqlBytes are bytes that the driver keeps, until the next row.
type sqlBytes = []byte

// archives writes those that the backup before did not have, and lists all.
func (w *writing) archives(ctx context.Context) (all []Archived, err error) {
	list, err := archive.List(w.order.Dir)
	if err != nil {
		return nil, err
	}
	for _, a := range list {
		content, err := os.ReadFile(a.Path(w.order.Dir))
		if err != nil {
			return nil, fmt.Errorf("read an archive: %w", err)
		}
		sum := sha256.Sum256(content)
		all = append(all, Archived{a.Name, int64(len(content)), sum[:]})
		w.Seen.Archives = append(w.Seen.Archives, a.Name)
		if w.order.Base != nil && slices.Contains(w.order.Base.Archives, a.Name) {
			continue
		}
		if err := w.add("archive/"+a.Name, content); err != nil {
			return nil, err
		}
		if w.order.Rest != nil {
			w.order.Rest(ctx)
		}
	}
	return all, nil
}

// identity writes the files of the TLS identity, as far as they are there: they can be made anew.
func (w *writing) identity() error {
	for _, name := range datadir.IdentityFiles {
		content, err := os.ReadFile(filepath.Join(w.order.Dir, name))
		if err != nil {
			continue
		}
		if err := w.add(name, content); err != nil {
			return err
		}
	}
	return nil
}
