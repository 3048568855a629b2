package sift

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"tansu/internal/core/leak"
)

const value = "canary-of-the-sieve-3f9a"

func sieve(t *testing.T) (s *Sieve, found func() []string) {
	m, _ := leak.NewMatcher([]leak.Secret{{Name: "d/i@1", Value: []byte(value)}})
	var list []string
	s = &Sieve{Matcher: m, Visit: func(f Finding) { list = append(list, fmt.Sprintf("%s:%d:%d %s", f.Place, f.Line, f.Column, f.Form)) },
		Skipped: func(place string, err error) { t.Errorf("%s was skipped: %v", place, err) }}
	return s, func() []string { slices.Sort(list); return list }
}

func write(t *testing.T, path string, content []byte) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, content, 0o644); err != nil {
		t.Fatal(err)
	}
}

func TestFilesAndArchivesAreLookedThrough(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "clean"), []byte("nothing"))
	write(t, filepath.Join(dir, "a/config"), []byte("x\ny "+value+"\n"+base64.StdEncoding.EncodeToString([]byte("k:"+value))))
	var zipped, tarred bytes.Buffer
	z := zip.NewWriter(&zipped)
	entry, err := z.Create("in/zip")
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(entry, value)
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	g := gzip.NewWriter(&tarred)
	w := tar.NewWriter(g)
	if err := w.WriteHeader(&tar.Header{Name: "layer.zip", Mode: 0o600, Size: int64(zipped.Len()), Typeflag: tar.TypeReg,
		Format: tar.FormatUSTAR}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Write(zipped.Bytes()); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := g.Close(); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, "image.tgz"), tarred.Bytes())
	s, found := sieve(t)
	if err := s.Path(dir); err != nil {
		t.Fatal(err)
	}
	var want []string
	for _, one := range []string{"a/config:2:3 plain", "a/config:3:4 base64", "image.tgz!layer.zip!in/zip:1:1 plain"} {
		want = append(want, dir+"/"+one)
	}
	if got := found(); !slices.Equal(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
}

// Wherever in a large stream a value is, also across the pieces in which it is read, it is found once and in its place.
func TestPlacesAreRightAcrossPieces(t *testing.T) {
	line := strings.Repeat("a line of text without anything in it\n", 30_000)
	for _, shift := range []int{0, 1, 7, len(value) - 1} {
		at := pieceSize - shift
		text := line[:at] + value + "\n" + line[:pieceSize] + "x" + value
		s, found := sieve(t)
		if err := s.Reader("in", strings.NewReader(text)); err != nil {
			t.Fatal(err)
		}
		var want []string
		for _, place := range []int{at, len(text) - len(value)} {
			before := text[:place]
			want = append(want, fmt.Sprintf("in:%d:%d plain", strings.Count(before, "\n")+1, place-strings.LastIndex(before, "\n")))
		}
		slices.Sort(want)
		if got := found(); !slices.Equal(got, want) {
			t.Errorf("%d before the end of a piece: got %q, want %q", shift, got, want)
		}
	}
}

// What was deleted from a repository is in its history, also when the branch is gone.
func TestHistoryHasWhatWasDeleted(t *testing.T) {
	dir := t.TempDir()
	git := func(arguments ...string) {
		t.Helper()
		command := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=ticketing-lead", "-c", "user.email=lead@ferries.example"},
			arguments...)...)
		if out, err := command.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v: %s", arguments, err, out)
		}
	}
	git("init", "-q", "-b", "main")
	write(t, filepath.Join(dir, "readme"), []byte("x"))
	git("add", ".")
	git("commit", "-qm", "one")
	git("checkout", "-qb", "gone")
	write(t, filepath.Join(dir, ".env"), []byte("PASSWORD="+value))
	git("add", ".")
	git("commit", "-qm", "by mistake")
	git("checkout", "-q", "main")
	git("branch", "-qD", "gone")
	s, found := sieve(t)
	if err := s.History(context.Background(), dir); err != nil {
		t.Fatal(err)
	}
	if got := found(); len(got) != 1 || !strings.HasPrefix(got[0], "history:") || !strings.HasSuffix(got[0], ":.env:1:10 plain") {
		t.Errorf("got %q", got)
	}
	if err := s.History(context.Background(), t.TempDir()); err == nil {
		t.Error("a directory that is no repository was looked through")
	}
}

// Whatever things are packed in is opened, eight deep, or it is said that it was not.
func TestWhatIsPackedIsOpenedOrSaidNotToBe(t *testing.T) {
	pack := func(with string, content []byte) []byte {
		t.Helper()
		command := exec.Command(with, "-c")
		command.Stdin = bytes.NewReader(content)
		out, err := command.Output()
		if err != nil {
			t.Skipf("%s: %v", with, err)
		}
		return out
	}
	zlibbed := func(content []byte) []byte {
		var out bytes.Buffer
		w := zlib.NewWriter(&out)
		_, _ = w.Write(content)
		_ = w.Close()
		return out.Bytes()
	}
	zipped := func(name string, content []byte) []byte {
		var out bytes.Buffer
		z := zip.NewWriter(&out)
		entry, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = entry.Write(content)
		_ = z.Close()
		return out.Bytes()
	}
	text := []byte("some text with " + value + " in it\n")
	encoder, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	deep := text
	for range 5 {
		deep = zipped("x", deep)
	}
	tooDeep := text
	for range 12 {
		tooDeep = zipped("x", tooDeep)
	}
	split := []byte("<w:p><w:r><w:t>" + value[:9] + "</w:t></w:r><w:r><w:t>" + value[9:] + "</w:t></w:r></w:p>")
	pdf := append([]byte("%PDF-1.7\n1 0 obj\n<</Filter/FlateDecode>>\nstream\n"), append(zlibbed(text), "\nendstream\nendobj\n"...)...)
	encrypted := zipped("x", text)
	encrypted[6] |= 1 // the general purpose bit flag, in the local header and in the central directory
	encrypted[bytes.Index(encrypted, []byte("PK\x01\x02"))+8] |= 1
	for name, c := range map[string]struct {
		content []byte
		found   bool
		says    string
	}{
		"bzip2": {pack("bzip2", text), true, ""}, "xz": {pack("xz", text), true, ""}, "zstd": {encoder.EncodeAll(text, nil), true, ""},
		"zlib": {zlibbed(text), true, ""}, "zip five deep": {deep, true, ""},
		"an office document": {zipped("word/document.xml", split), true, ""},
		"PDF":                {pdf, true, ""},
		"twelve deep":        {tooDeep, false, "deep"},
		"an encrypted zip":   {encrypted, false, "encrypted"}, "7z": {[]byte("7z\xbc\xaf\x27\x1c and more"), false, "7z"},
		"an encrypted PDF":             {append(slices.Clone(pdf), "/Encrypt"...), false, "encrypted"},
		"a text that begins like zlib": {[]byte("x\x9c is how it begins, and nothing else"), false, ""},
		"damaged gzip":                 {[]byte("\x1f\x8b\x08 and nothing of it"), false, "corrupt"},
	} {
		dir := t.TempDir()
		write(t, filepath.Join(dir, "thing"), c.content)
		s, found := sieve(t)
		said := ""
		s.Skipped = func(_ string, err error) { said += err.Error() }
		if err := s.Path(dir); err != nil {
			t.Fatal(err)
		}
		if got := found(); (len(got) > 0) != c.found || (said != "") != (c.says != "") || !strings.Contains(said, c.says) {
			t.Errorf("%s: found %q, said %q", name, got, said)
		}
	}
}
