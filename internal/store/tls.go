package store

import (
	"fmt"
	"os"
	"path/filepath"
)

// The files of the chest's TLS identity. The server's key must be readable while the chest is locked, because unlocking
// happens over TLS; it stands in a file of its own and protects no value at rest.
const (
	serverCertificate    = "server.crt"
	serverKey            = "server.key"
	authorityCertificate = "authority.crt"
)

// TLSFiles is what the data directory holds for TLS, all PEM.
type TLSFiles struct {
	Certificate []byte // the server's, followed by the authority's
	Key         []byte
	Authority   []byte
}

// WriteTLS stores the TLS files, each whole or not at all.
func (s *Store) WriteTLS(files TLSFiles) error {
	for _, f := range []struct {
		name    string
		content []byte
	}{{authorityCertificate, files.Authority}, {serverKey, files.Key}, {serverCertificate, files.Certificate}} {
		if err := replaceFile(filepath.Join(s.dir, f.name), f.content); err != nil {
			return fmt.Errorf("write %s: %w", f.name, err)
		}
	}
	return nil
}

// ReadTLS reads the TLS files.
func (s *Store) ReadTLS() (files TLSFiles, err error) {
	for _, f := range []struct {
		name    string
		content *[]byte
	}{{authorityCertificate, &files.Authority}, {serverKey, &files.Key}, {serverCertificate, &files.Certificate}} {
		if *f.content, err = os.ReadFile(filepath.Join(s.dir, f.name)); err != nil {
			return files, fmt.Errorf("read %s: %w", f.name, err)
		}
	}
	return files, nil
}

// AuthorityPath is where the authority's certificate stands, for people to copy.
func (s *Store) AuthorityPath() string { return filepath.Join(s.dir, authorityCertificate) }

// replaceFile writes a file with mode 0600 beside its place, syncs it, and renames it into place.
func replaceFile(path string, content []byte) error {
	file, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(file.Name()) }()
	if _, err := file.Write(content); err != nil {
		_ = file.Close()
		return err
	}
	if err := file.Sync(); err != nil {
		_ = file.Close()
		return err
	}
	if err := file.Close(); err != nil {
		return err
	}
	return os.Rename(file.Name(), path)
}
