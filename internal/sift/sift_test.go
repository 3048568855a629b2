package sift

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

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
