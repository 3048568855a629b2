// Package token seals some bytes by an AES key that never leaves a PKCS #11 token.
package token

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
)

// Scheme is how the place begins: a PKCS #11 URI (RFC 7512).
const Scheme = "pkcs11:"

// place says which key in which token, by a PKCS #11 URI: pkcs11:token=LABEL;object=LABEL?module-path=FILE&pin-source=file:FILE.
type place struct {
	token, serial string // which token; at least one of them
	object        string // the label of the key
	module        string // the token's library
	pin           string // the file that the PIN is in
}

func parse(text string) (p place, err error) {
	path, query, _ := strings.Cut(strings.TrimPrefix(text, Scheme), "?")
	targets := map[string]*string{"token": &p.token, "serial": &p.serial, "object": &p.object, "module-path": &p.module, "pin-source": &p.pin}
	for _, attribute := range append(strings.Split(path, ";"), strings.Split(query, "&")...) {
		if attribute == "" {
			continue
		}
		name, value, _ := strings.Cut(attribute, "=")
		target := targets[name]
		if name == "pin-value" {
			return p, fmt.Errorf("a PIN does not belong in the URI: put it into a file that only you can read, which pin-source=file: names")
		}
		if target == nil {
			return p, fmt.Errorf("a PKCS #11 URI of a key has token, serial, object, module-path and pin-source, and not %q", name)
		}
		if *target, err = url.PathUnescape(value); err != nil {
			return p, fmt.Errorf("%s: %w", name, err)
		}
	}
	p.pin = strings.TrimPrefix(p.pin, "file:")
	switch {
	case p.token == "" && p.serial == "":
		return p, fmt.Errorf("the URI does not say which token: pkcs11:token=LABEL;…")
	case p.object == "":
		return p, fmt.Errorf("the URI does not say which key: …;object=LABEL")
	case !filepath.IsAbs(p.module):
		return p, fmt.Errorf("the URI does not say where the token's library is: …?module-path=/usr/lib/….so")
	case !filepath.IsAbs(p.pin):
		return p, fmt.Errorf("the URI does not say which file the PIN is in: …&pin-source=file:/etc/tansu/token.pin")
	}
	return p, nil
}

// readPIN reads the PIN out of a file that only its owner can read.
func (p place) readPIN() (string, error) {
	info, err := os.Stat(p.pin)
	if err != nil {
		return "", fmt.Errorf("the PIN: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("%s has mode %04o and is open to others: run chmod 0600 %s", p.pin, info.Mode().Perm(), p.pin)
	}
	content, err := os.ReadFile(p.pin)
	if err != nil {
		return "", fmt.Errorf("the PIN: %w", err)
	}
	return strings.TrimRight(string(content), "\r\n"), nil
}
