package datadir

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"tansu/internal/archive"
)

// CheckFiles looks at the files beside the database: who may read them, and whether the certificates are there, belong together and have
// not ended. It returns what is wrong, a sentence each, with what to do.
func (d *Directory) CheckFiles(now time.Time) (wrong []string) {
	err := filepath.WalkDir(d.path, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := entry.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil // a file that was put in another's place meanwhile
		}
		if err != nil {
			return err
		}
		if info.Mode().Perm()&0o077 != 0 && entry.Name() != authorityCertificate && entry.Name() != serverCertificate {
			wrong = append(wrong, fmt.Sprintf("%s has mode %04o and is open to others: run chmod go= %s", path, info.Mode().Perm(), path))
		}
		return nil
	})
	if err != nil {
		wrong = append(wrong, fmt.Sprintf("the directory cannot be looked through: %v", err))
	}
	files, err := d.ReadTLS()
	if err != nil {
		return append(wrong, err.Error())
	}
	pair, err := tls.X509KeyPair(files.Certificate, files.Key)
	if err != nil {
		return append(wrong, fmt.Sprintf("%s and %s do not belong together: %v", serverCertificate, serverKey, err))
	}
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM(files.Authority) {
		return append(wrong, authorityCertificate+" holds no certificate")
	}
	if _, err := pair.Leaf.Verify(x509.VerifyOptions{Roots: roots, CurrentTime: now}); err != nil {
		wrong = append(wrong, fmt.Sprintf("%s is not good now: %v", serverCertificate, err))
	}
	return wrong
}

// Missing reports whether files of the chest's TLS identity are not there.
func (d *Directory) Missing() (names []string) {
	for _, name := range []string{serverCertificate, serverKey, authorityCertificate} {
		if _, err := os.Stat(filepath.Join(d.path, name)); errors.Is(err, fs.ErrNotExist) {
			names = append(names, name)
		}
	}
	return names
}

// header is how a SQLite database begins (SQLite file format, section 1.3.1).
var header = []byte("SQLite format 3\x00")

// checkDatabase refuses a file that SQLite must not even open: opening one that is empty throws away the journal that stands beside it,
// which may have all that is left.
func checkDatabase(dir string) error {
	path := filepath.Join(dir, DatabaseName)
	file, err := os.Open(path)
	if err != nil {
		return &Error{Dir: dir, Problem: "cannot be read", Err: reason(err)}
	}
	defer func() { _ = file.Close() }()
	start := make([]byte, len(header))
	n, _ := file.Read(start)
	journal, _ := os.Stat(path + "-wal")
	switch {
	case n == 0 && journal != nil && journal.Size() > 0:
		return &Error{Dir: dir, Problem: DatabaseName + " is empty, and there is a journal beside it, which may have what is missing",
			Remedy: "copy the whole directory away first; then restore a backup into another directory (tansu restore)"}
	case n > 0 && !bytes.Equal(start[:n], header[:n]):
		return &Error{Dir: dir, Problem: DatabaseName + " is not a Tansu database or is damaged",
			Remedy: "copy the whole directory away, and restore a backup into another one (tansu restore)"}
	}
	return nil
}

// leftovers lists what belongs to a chest, in a directory without its database.
func leftovers(dir string) (names []string) {
	for _, name := range []string{DatabaseName + "-wal", DatabaseName + "-shm", serverCertificate, serverKey, authorityCertificate,
		archive.Dir} {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			names = append(names, name)
		}
	}
	return names
}
