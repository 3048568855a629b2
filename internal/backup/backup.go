// Package backup copies a chest while it is used, and makes one again of the copies.
//
// A backup is one file: a line that says what it is, a header, and a stream that only its recipients can read. The header has the key of
// the stream, encrypted to each recipient (package recipient). The stream is in segments, each authenticated at its place, so that it is
// read while it comes and what was cut, changed or moved is noticed (the STREAM construction: V. T. Hoang et al., "Online
// Authenticated-Encryption and its Nonce-Reuse Misuse-Resistance", CRYPTO 2015), by package streamingaead of Tink with AES-256-GCM and
// HKDF-SHA256. In it is a compressed tar: what SQLite's pages hold at one instant, the archives of the trail, the files of the chest's TLS
// identity, and at its end a manifest against which all of it is compared. Nothing in it opens a value: what unlocks the chest belongs
// somewhere else.
//
// A full backup has all pages, an incremental one those that are others than in the one before it, which it names. Restoring one takes
// the full backup and every one in between.
package backup

import (
	"bufio"
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/klauspost/compress/s2"
	"github.com/tink-crypto/tink-go/v2/streamingaead/subtle"

	"tansu/internal/core/recipient"
)

// Header is what anybody may know of a backup.
type Header struct {
	Chest  string    `json:"chest"`
	Number int       `json:"number"`            // counted up by the chest
	AddsTo string    `json:"adds_to,omitempty"` // the name of the one that it adds to; empty for a full backup
	Made   time.Time `json:"made"`              // of when what is in it is
	Last   uint64    `json:"last"`              // the newest entry of the trail in it
	Keys   []string  `json:"keys,omitempty"`    // the key of the stream, encrypted to each recipient
}

// Name is the name of a backup's file.
func (h Header) Name() string {
	kind := "full"
	if h.AddsTo != "" {
		kind = "incremental"
	}
	return fmt.Sprintf("%s-%06d-%s-%s%s", h.Chest, h.Number, h.Made.UTC().Format("20060102T150405Z"), kind, Suffix)
}

// Suffix is how names of backups end.
const Suffix = ".tansu-backup"

const firstLine = "tansu backup 1\n"

// Manifest is what is in a backup, and against which it is compared.
type Manifest struct {
	Chest    string     `json:"chest"`
	Number   int        `json:"number"`
	AddsTo   string     `json:"adds_to,omitempty"`
	PageSize int        `json:"page_size"`
	Pages    int        `json:"pages"`   // that the database has
	Changed  int        `json:"changed"` // that are in it
	Digest   []byte     `json:"digest"`  // of the hashes of all pages of the database
	Last     uint64     `json:"last"`
	Archives []Archived `json:"archives"` // all that belong to it; those in it, and those in earlier ones
}

// Archived is an archive of the trail that belongs to a backup.
type Archived struct {
	Name string `json:"name"`
	Size int64  `json:"size"`
	Sum  []byte `json:"sum"` // SHA-256
}

// segment is how many bytes are authenticated together, and keySize the size of a stream's key.
const (
	segment = 1 << 20
	keySize = 32
)

// Key is the key of one backup's stream.
type Key [keySize]byte

// Recipients are those to whom backups are encrypted.
type Recipients []recipient.Public

func (rs Recipients) encrypt(key Key) (list []string, err error) {
	if len(rs) == 0 {
		return nil, errors.New("a backup needs at least one recipient, who can open it")
	}
	for _, r := range rs {
		text, err := r.Seal(key[:])
		if err != nil {
			return nil, fmt.Errorf("encrypt to recipients: %w", err)
		}
		list = append(list, string(text))
	}
	return list, nil
}

// KeyFor opens the key of a backup's stream with the private key of one of its recipients.
func (h Header) KeyFor(private recipient.Private) (key Key, err error) {
	for _, text := range h.Keys {
		content, err := private.Open([]byte(text))
		if errors.Is(err, recipient.ErrNotSealed) || err == nil && len(content) != keySize {
			return key, fmt.Errorf("the header of backup %d is damaged", h.Number)
		}
		if err == nil {
			return Key(content), nil
		}
	}
	return key, fmt.Errorf("backup %d is not encrypted to this key", h.Number)
}

// encoded is a header as a line, which the stream is bound to.
func (h Header) encoded() ([]byte, error) {
	content, err := json.Marshal(h)
	return append(content, '\n'), err
}

// bound is what the stream is authenticated with.
func bound(header []byte) []byte {
	sum := sha256.Sum256(append([]byte(firstLine), header...))
	return sum[:]
}

// mostHeader bounds a header, in bytes.
const mostHeader = 1 << 20

// ReadHeader reads what a backup is, and leaves the reader at its stream.
func ReadHeader(in *bufio.Reader) (h Header, err error) {
	h, _, err = readHeader(in)
	return h, err
}

func readHeader(in *bufio.Reader) (h Header, line []byte, err error) {
	start := make([]byte, len(firstLine))
	if _, err := io.ReadFull(in, start); err != nil || !bytes.Equal(start, []byte(firstLine)) {
		return h, nil, errors.New("this is not a Tansu backup, or it was made by a newer program")
	}
	for len(line) < mostHeader {
		part, err := in.ReadSlice('\n')
		line = append(line, part...)
		if err == nil {
			break
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return h, nil, errors.New("the header of the backup is cut off")
		}
	}
	if err := json.Unmarshal(line, &h); err != nil {
		return h, nil, errors.New("the header of the backup is damaged")
	}
	return h, line, nil
}

// newStream encrypts and compresses what is written to it. To close it ends the stream; w is its caller's.
func newStream(w io.Writer, key Key, header []byte) (io.WriteCloser, error) {
	aead, err := subtle.NewAESGCMHKDF(key[:], "SHA256", keySize, segment, 0)
	if err != nil {
		return nil, err
	}
	sealed, err := aead.NewEncryptingWriter(w, bound(header))
	if err != nil {
		return nil, err
	}
	return &stream{s2.NewWriter(sealed, s2.WriterConcurrency(2)), sealed}, nil
}

type stream struct {
	*s2.Writer
	sealed io.WriteCloser
}

// Close ends the stream.
func (s *stream) Close() error { return errors.Join(s.Writer.Close(), s.sealed.Close()) }

// openStream decrypts and unpacks what follows a header. Anything that is not what was written is an error before it is read, or at the
// end.
func openStream(in io.Reader, key Key, header []byte) (io.Reader, error) {
	aead, err := subtle.NewAESGCMHKDF(key[:], "SHA256", keySize, segment, 0)
	if err != nil {
		return nil, err
	}
	opened, err := aead.NewDecryptingReader(in, bound(header))
	if err != nil {
		return nil, fmt.Errorf("the backup is damaged: %w", err)
	}
	return s2.NewReader(opened), nil
}

func newKey() (key Key) {
	_, _ = rand.Read(key[:])
	return key
}

// String hides the key.
func (Key) String() string { return "[key]" }

// Format hides the key in every verb.
func (Key) Format(f fmt.State, _ rune) { _, _ = f.Write([]byte("[key]")) }

// Text is the key for keeping it sealed.
func (k Key) Text() string { return base64.StdEncoding.EncodeToString(k[:]) }

// KeyOf reads what Text wrote.
func KeyOf(text string) (key Key, err error) {
	content, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(content) != keySize {
		return key, errors.New("this is no key of a backup")
	}
	return Key(content), nil
}
