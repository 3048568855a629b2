package placefile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestAFileIsPutWholeAndPrivate(t *testing.T) {
	dir := t.TempDir()
	place := Place{Path: filepath.Join(dir, "app.conf"), Mode: 0o440}
	for _, content := range []string{"one", "two, which is longer"} {
		if err := place.Put([]byte(content)); err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(place.Path)
		info, _ := os.Stat(place.Path)
		if err != nil || string(got) != content || info.Mode() != 0o440 {
			t.Errorf("got %q with mode %v, %v", got, info.Mode(), err)
		}
	}
	if left, _ := os.ReadDir(dir); len(left) != 1 {
		t.Errorf("beside it: %v", left)
	}
}

func TestPlacesWhereOthersWouldGetItAreRefused(t *testing.T) {
	dir := t.TempDir()
	repository, open := filepath.Join(dir, "code", "deep"), filepath.Join(dir, "open")
	for _, d := range []string{repository, open, filepath.Join(dir, "code", ".git")} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(open, 0o777); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(repository, filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		place Place
		want  string
	}{
		{Place{Path: filepath.Join(dir, "f"), Mode: 0o444}, "mode 0444"},
		{Place{Path: filepath.Join(dir, "f"), Mode: 0o040}, "mode 0040"},
		{Place{Path: filepath.Join(repository, "f"), Mode: 0o400}, "inside the repository"},
		{Place{Path: filepath.Join(dir, "link", "f"), Mode: 0o400}, "inside the repository"},
		{Place{Path: filepath.Join(open, "f"), Mode: 0o400}, "everybody may write"},
		{Place{Path: filepath.Join(dir, "none", "f"), Mode: 0o400}, "no such file"},
		{Place{Path: dir, Mode: 0o400}, "not a regular file"},
		{Place{Path: filepath.Join(dir, "f"), Mode: 0o400, Owner: "nobody-at-all"}, "no user"},
	} {
		if err := c.place.Put([]byte("CANARY")); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: got %v, want %s", c.place, err, c.want)
		}
		if _, err := os.Lstat(filepath.Join(filepath.Dir(c.place.Path), "f")); err == nil {
			t.Errorf("%+v: it is there", c.place)
		}
	}
	inside := Place{Path: filepath.Join(repository, "f"), Mode: 0o400, InRepository: true}
	if err := inside.Put([]byte("x")); err != nil {
		t.Errorf("where it was said: %v", err)
	}
}
