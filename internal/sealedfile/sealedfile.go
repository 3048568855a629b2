// Package sealedfile encrypts what is too long for one message as a stream, under a key of its own that a key of the chest has encrypted.
//
// A sealed file is a line of JSON with the file's key as a JWE, and behind it the stream: segments of a mebibyte, each authenticated at its
// place (the STREAM construction: V. T. Hoang et al., "Online Authenticated-Encryption and its Nonce-Reuse Misuse-Resistance", CRYPTO
// 2015), by package streamingaead of Tink with AES-256-GCM and HKDF-SHA256. Segments that were cut off, changed, moved or taken from
// another file are noticed. The line, and whatever the file is bound to, are authenticated with every segment.
package sealedfile

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/tink-crypto/tink-go/v2/streamingaead/subtle"
)

// KeySize is the size of a file's key, in bytes; segment that of what is authenticated together.
const (
	KeySize = 32
	segment = 1 << 20
)

// header is the first line of a sealed file.
type header struct {
	Form int    `json:"tansu_sealed"`
	Key  string `json:"key"` // the file's key, as a JWE
}

// begin is how every sealed file begins.
const begin = `{"tansu_sealed":1,`

// mostLine is the longest first line, in bytes.
const mostLine = 16 << 10

// ErrNotWhole says that a file is not what was sealed: it was changed or cut off, or its key or what it is bound to is another one. What
// was written before that is genuine, and not all.
var ErrNotWhole = errors.New("the file is not what was sealed, or not all of it")

// Write seals what it reads under a key, whose JWE is kept in the file.
func Write(w io.Writer, in io.Reader, key []byte, jwe string, bound []byte) error {
	line, err := json.Marshal(header{1, jwe})
	if err != nil {
		return err
	}
	line = append(line, '\n')
	if _, err := w.Write(line); err != nil {
		return err
	}
	aead, err := subtle.NewAESGCMHKDF(key, "SHA256", KeySize, segment, 0)
	if err != nil {
		return err
	}
	sealed, err := aead.NewEncryptingWriter(w, authenticated(line, bound))
	if err != nil {
		return err
	}
	if _, err := io.CopyBuffer(onlyWriter{sealed}, in, make([]byte, segment)); err != nil {
		return err
	}
	return sealed.Close()
}

// Sealed is a file of which the first line was read.
type Sealed struct {
	line []byte
	rest io.Reader
	JWE  string // of its key
}

// Open reads the first line; nil when it is no sealed file, of which nothing is read then.
func Open(in *bufio.Reader) (*Sealed, error) {
	first, err := in.Peek(len(begin))
	if err != nil || string(first) != begin {
		return nil, nil
	}
	var line []byte
	for len(line) <= mostLine {
		c, err := in.ReadByte()
		if err != nil {
			return nil, ErrNotWhole
		}
		if line = append(line, c); c == '\n' {
			break
		}
	}
	var h header
	decoder := json.NewDecoder(bytes.NewReader(line))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&h); err != nil || h.Form != 1 || h.Key == "" {
		return nil, ErrNotWhole
	}
	return &Sealed{line, in, h.Key}, nil
}

// WriteTo writes what was sealed, each segment once it is known to be genuine.
func (s *Sealed) WriteTo(w io.Writer, key, bound []byte) error {
	if len(key) != KeySize {
		return ErrNotWhole
	}
	aead, err := subtle.NewAESGCMHKDF(key, "SHA256", KeySize, segment, 0)
	if err != nil {
		return err
	}
	opened, err := aead.NewDecryptingReader(s.rest, authenticated(s.line, bound))
	if err != nil {
		return ErrNotWhole
	}
	reader := &genuine{opened, nil}
	if _, err := io.CopyBuffer(onlyWriter{w}, reader, make([]byte, segment)); err != nil {
		if reader.err != nil {
			return fmt.Errorf("%w: %w", ErrNotWhole, reader.err)
		}
		return err
	}
	return nil
}

// authenticated is what every segment is bound to.
func authenticated(line, bound []byte) []byte {
	return fmt.Appendf(nil, "%d %s%s", len(line), line, bound)
}

// onlyWriter and genuine hide what else there is, so that copying goes by segments and an error says on which side it came.
type onlyWriter struct{ io.Writer }

type genuine struct {
	io.Reader
	err error
}

func (g *genuine) Read(p []byte) (n int, err error) {
	if n, err = g.Reader.Read(p); err != nil && err != io.EOF {
		g.err = err
	}
	return n, err
}
