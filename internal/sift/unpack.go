package sift

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"compress/zlib"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/therootcompany/xz"
)

// headSize is how much of a thing says what it is.
const headSize = 264

// compressed are the kinds of compressed data that are looked into, by what they begin with.
var compressed = []struct {
	magic string
	open  func(io.Reader) (io.Reader, error)
}{
	{"\x1f\x8b", func(in io.Reader) (io.Reader, error) { return gzip.NewReader(in) }},
	{"BZh", func(in io.Reader) (io.Reader, error) { return bzip2.NewReader(in), nil }},
	{"\x28\xb5\x2f\xfd", func(in io.Reader) (io.Reader, error) {
		return zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
	}},
	{"\xfd7zXZ\x00", func(in io.Reader) (io.Reader, error) { return xz.NewReader(in, xz.DefaultDictMax) }},
}

// closed are kinds of things that are not looked into, by what they begin with.
var closed = []struct{ magic, what string }{
	{"7z\xbc\xaf\x27\x1c", "a 7z archive, which is not opened"}, {"Rar!\x1a\x07", "a RAR archive, which is not opened"},
	{"\x04\x22\x4d\x18", "LZ4 data, which is not opened"}, {"LZIP", "lzip data, which is not opened"},
	{"age-encryption.org/", "encrypted (age)"}, {"-----BEGIN AGE ENCRYPTED FILE-----", "encrypted (age)"},
	{"-----BEGIN PGP MESSAGE-----", "encrypted (OpenPGP)"}, {"Salted__", "encrypted (OpenSSL)"}, {"LUKS\xba\xbe", "an encrypted volume"},
}

// isZlib reports whether something begins as zlib data does (RFC 1950, section 2.2), which a text can by chance.
func isZlib(head []byte) bool {
	return len(head) > 2 && head[0] == 0x78 && (int(head[0])<<8|int(head[1]))%31 == 0 && head[1]&0x20 == 0
}

func isTar(head []byte) bool { return len(head) > 262 && string(head[257:262]) == "ustar" }

const (
	zipMagic = "PK\x03\x04"
	pdfMagic = "%PDF-"
	oleMagic = "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" // documents of old office programs, and encrypted ones of new ones
)

// packed reports whether there is more in something than what it looks like from outside.
func packed(head []byte) bool {
	begins := func(magic string) bool { return bytes.HasPrefix(head, []byte(magic)) }
	for _, c := range compressed {
		if begins(c.magic) {
			return true
		}
	}
	return begins(zipMagic) || begins(pdfMagic) || begins(oleMagic) || isTar(head) || isZlib(head)
}

// within looks into an archive besides, if it is one.
func (s *Sieve) within(place string, in io.ReaderAt, size int64, depth int) {
	head := make([]byte, min(size, headSize))
	n, _ := in.ReadAt(head, 0)
	head = head[:n]
	begins := func(magic string) bool { return bytes.HasPrefix(head, []byte(magic)) }
	for _, c := range closed {
		if begins(c.magic) {
			s.Skipped(place, errors.New("it is "+c.what))
			return
		}
	}
	if !packed(head) {
		return
	}
	whole := io.NewSectionReader(in, 0, size)
	var err error
	switch {
	case depth > deepest:
		err = fmt.Errorf("it is packed more than %d deep", deepest)
	case begins(zipMagic):
		err = s.zip(place, in, size, depth)
	case begins(pdfMagic):
		err = s.pdf(place, whole, depth)
	case begins(oleMagic):
		err = s.ole(whole)
	case isTar(head):
		err = s.tar(place, whole, depth)
	case isZlib(head):
		err = s.zlib(place, whole, depth)
	default:
		for _, c := range compressed {
			if begins(c.magic) {
				err = s.compressed(place, whole, c.open, depth)
			}
		}
	}
	if err != nil {
		s.Skipped(place, err)
	}
}

// zlib looks into what may be zlib data. What breaks off at once only began like it.
func (s *Sieve) zlib(place string, in io.Reader, depth int) error {
	unpacked, err := zlib.NewReader(in)
	if err != nil {
		return nil // by chance: the first two bytes are no more than likely
	}
	content, err := io.ReadAll(io.LimitReader(unpacked, mostUnpacked/64))
	defer clear(content)
	if err != nil && len(content) < headSize {
		return nil
	}
	return errors.Join(err, s.inner(place+"!", bytes.NewReader(content), depth))
}

// inner looks through one thing that is in an archive. It is kept in memory to look into it again.
func (s *Sieve) inner(place string, in io.Reader, depth int) error {
	content, err := io.ReadAll(io.LimitReader(in, mostUnpacked/64))
	if err != nil {
		return err
	}
	defer clear(content)
	if err := s.Reader(place, bytes.NewReader(content)); err != nil {
		return err
	}
	s.within(place, bytes.NewReader(content), int64(len(content)), depth+1)
	if n, _ := io.CopyN(io.Discard, in, 1); n > 0 {
		return fmt.Errorf("it is larger than %d MiB, and only the first part was looked at", mostUnpacked/64>>20)
	}
	return nil
}

func (s *Sieve) zip(place string, in io.ReaderAt, size int64, depth int) error {
	archive, err := zip.NewReader(in, size)
	if err != nil {
		return err
	}
	for _, f := range archive.File {
		if f.FileInfo().IsDir() {
			continue
		}
		within := place + "!" + f.Name
		err := errors.New("it is encrypted")
		if f.Flags&1 == 0 {
			err = s.zipped(within, f, depth)
		}
		if err != nil {
			s.Skipped(within, err)
		}
	}
	return nil
}

func (s *Sieve) zipped(place string, f *zip.File, depth int) error {
	content, err := f.Open()
	if err != nil {
		return err
	}
	err = s.inner(place, content, depth)
	if err = errors.Join(err, content.Close()); err != nil || path.Ext(f.Name) != ".xml" {
		return err
	}
	// Office programs split a text over several elements wherever its format changes, or for no reason.
	if content, err = f.Open(); err != nil {
		return err
	}
	return errors.Join(s.textOf(place, io.LimitReader(content, mostUnpacked/64)), content.Close())
}

// textOf looks through the text of an XML document without its tags, for what is not found with them.
func (s *Sieve) textOf(place string, in io.Reader) error {
	content, err := io.ReadAll(in)
	if err != nil {
		return err
	}
	defer clear(content)
	text, inTag := content[:0], false
	for _, c := range content {
		switch {
		case c == '<':
			inTag = true
		case c == '>':
			inTag = false
		case !inTag:
			text = append(text, c)
		}
	}
	visit, bytesBefore := s.Visit, s.Bytes
	s.Visit = func(f Finding) {
		if !s.found[place+"\x00"+f.Reference] {
			visit(f)
		}
	}
	defer func() { s.Visit, s.Bytes = visit, bytesBefore }()
	return s.Reader(place, bytes.NewReader(text))
}

func (s *Sieve) compressed(place string, in io.Reader, open func(io.Reader) (io.Reader, error), depth int) error {
	content, err := open(in)
	if err != nil {
		return err
	}
	if closer, is := content.(interface{ Close() }); is { // of zstd, which has no error
		defer closer.Close()
	}
	buffered := bufio.NewReaderSize(content, 512)
	if head, _ := buffered.Peek(263); isTar(head) {
		return s.tar(place, buffered, depth)
	}
	return s.inner(place+"!", buffered, depth)
}

func (s *Sieve) tar(place string, in io.Reader, depth int) error {
	archive := tar.NewReader(io.LimitReader(in, mostUnpacked))
	for {
		header, err := archive.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if header.Typeflag != tar.TypeReg {
			continue
		}
		if err := s.inner(place+"!"+header.Name, archive, depth); err != nil {
			s.Skipped(place+"!"+header.Name, err)
		}
	}
}

// pdf looks into the compressed streams of a PDF document (ISO 32000, 7.3.8 and 7.4.4). Text that is placed letter by letter is not put
// together.
func (s *Sieve) pdf(place string, in io.Reader, depth int) error {
	content, err := io.ReadAll(io.LimitReader(in, mostUnpacked/64))
	if err != nil {
		return err
	}
	defer clear(content)
	if bytes.Contains(content, []byte("/Encrypt")) {
		return errors.New("it is an encrypted document")
	}
	rest := content
	for number := 1; ; number++ {
		begin := bytes.Index(rest, []byte("stream"))
		if begin < 0 {
			return nil
		}
		rest = bytes.TrimLeft(rest[begin+len("stream"):], "\r\n")
		end := bytes.Index(rest, []byte("endstream"))
		if end < 0 {
			return nil
		}
		if stream := rest[:end]; isZlib(stream) {
			unpacked, err := zlib.NewReader(bytes.NewReader(stream))
			if err == nil {
				err = s.inner(fmt.Sprintf("%s!stream %d", place, number), unpacked, depth)
			}
			if err != nil {
				s.Skipped(fmt.Sprintf("%s!stream %d", place, number), err)
			}
		}
		rest = rest[end+len("endstream"):]
	}
}

// ole says of a compound file that an encrypted document is in it; what else may be in one was looked at as it is.
func (s *Sieve) ole(in io.Reader) error {
	content, err := io.ReadAll(io.LimitReader(in, mostUnpacked/64))
	if err != nil {
		return err
	}
	if bytes.Contains(content, []byte(strings.Join(strings.Split("EncryptedPackage", ""), "\x00"))) {
		return errors.New("it is an encrypted document")
	}
	return nil
}
