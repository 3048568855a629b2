package datadir

import (
	"fmt"
	"os"
	"path/filepath"

	"tansu/internal/wholefile"
)

// The files of the chest's TLS identity. The server's key must be readable while the chest is locked, because unlocking
// happens over TLS; it stands in a file of its own and protects no value at rest.
const (
	serverCertificate    = "server.crt"
	serverKey            = "server.key"
	authorityCertificate = "authority.crt"
)

// IdentityFiles are their names.
var IdentityFiles = []string{authorityCertificate, serverKey, serverCertificate}

// TLS is what the data directory holds for TLS, all PEM.
type TLS struct {
	Certificate []byte // the server's, followed by the authority's
	Key         []byte
	Authority   []byte
}

// WriteTLS stores the TLS files, each whole or not at all.
func (d *Directory) WriteTLS(files TLS) error {
	for _, f := range []struct {
		name    string
		content []byte
	}{{authorityCertificate, files.Authority}, {serverKey, files.Key}, {serverCertificate, files.Certificate}} {
		if err := wholefile.Replace(filepath.Join(d.path, f.name), 0o600, wholefile.Content(f.content)); err != nil {
			return fmt.Errorf("write %s: %w", f.name, err)
		}
	}
	return nil
}

// RemoveTLS removes what is there of them, to be made anew.
func (d *Directory) RemoveTLS() {
	for _, name := range []string{serverCertificate, serverKey, authorityCertificate} {
		_ = os.Remove(filepath.Join(d.path, name))
	}
}

// ReadTLS reads the TLS files.
func (d *Directory) ReadTLS() (files TLS, err error) {
	for _, f := range []struct {
		name    string
		content *[]byte
	}{{authorityCertificate, &files.Authority}, {serverKey, &files.Key}, {serverCertificate, &files.Certificate}} {
		if *f.content, err = os.ReadFile(filepath.Join(d.path, f.name)); err != nil {
			return files, fmt.Errorf("read %s: %w", f.name, err)
		}
	}
	return files, nil
}

// AuthorityPath is where the authority's certificate stands, for people to copy.
func (d *Directory) AuthorityPath() string { return filepath.Join(d.path, authorityCertificate) }
