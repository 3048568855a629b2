package sealedfile

import (
	"bufio"
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"testing"
)

func open(t *testing.T, file, key, bound []byte) ([]byte, error) {
	t.Helper()
	s, err := Open(bufio.NewReader(bytes.NewReader(file)))
	if err != nil || s == nil {
		return nil, fmt.Errorf("not opened: %w", err)
	}
	if s.JWE != "a.b.c.d.e" {
		t.Errorf("the key is %q", s.JWE)
	}
	var out bytes.Buffer
	err = s.WriteTo(&out, key, bound)
	return out.Bytes(), err
}

// What is sealed is opened byte for byte, at all lengths around a segment's; a byte changed anywhere, an end cut off at any segment,
// another key, line or binding is noticed, and nothing of what is not genuine is written.
func TestFilesAreSealedAndOpened(t *testing.T) {
	key, other := make([]byte, KeySize), make([]byte, KeySize)
	_, _ = rand.Read(key)
	for _, size := range []int{0, 1, segment - 100, segment - 16, segment, segment + 1, 3*segment + 17} {
		content := make([]byte, size)
		_, _ = rand.Read(content)
		var sealed bytes.Buffer
		if err := Write(&sealed, bytes.NewReader(content), key, "a.b.c.d.e", []byte("voyage 7")); err != nil {
			t.Fatal(err)
		}
		file := sealed.Bytes()
		if got, err := open(t, file, key, []byte("voyage 7")); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d bytes: %v", size, err)
		}
		line := bytes.IndexByte(file, '\n') + 1
		for what, c := range map[string]struct{ file, key, bound []byte }{
			"another key": {file, other, []byte("voyage 7")}, "another binding": {file, key, []byte("voyage 8")},
			"a short key": {file, key[:16], []byte("voyage 7")}, "cut off": {file[:len(file)-1], key, []byte("voyage 7")},
			"cut off at a segment": {file[:max(line, len(file)-len(file)%segment)-1], key, []byte("voyage 7")},
			"only its line":        {file[:line], key, []byte("voyage 7")},
			"more behind it":       {append(bytes.Clone(file), 0), key, []byte("voyage 7")},
		} {
			if got, err := open(t, c.file, c.key, c.bound); !errors.Is(err, ErrNotWhole) || !bytes.HasPrefix(content, got) {
				t.Errorf("%d bytes, %s: %v", size, what, err)
			}
		}
		for _, at := range []int{line, line + 20, line + 41, len(file) - 1, line + (len(file)-line)/2} {
			changed := bytes.Clone(file)
			changed[at] ^= 1
			if got, err := open(t, changed, key, []byte("voyage 7")); !errors.Is(err, ErrNotWhole) || !bytes.HasPrefix(content, got) {
				t.Errorf("%d bytes, changed at %d: %v", size, at, err)
			}
		}
	}
	for _, text := range []string{"", "a.b.c.d.e\n", `{"protected":"x"}`, `{"tansu_sealed":2,"key":"a"}`} {
		if s, err := Open(bufio.NewReader(bytes.NewReader([]byte(text)))); s != nil || err != nil {
			t.Errorf("%q is taken for a sealed file: %v", text, err)
		}
	}
	for _, text := range []string{`{"tansu_sealed":1,"key":"a"`, `{"tansu_sealed":1,"key":""}` + "\n", `{"tansu_sealed":1,"more":1}` + "\n"} {
		if _, err := Open(bufio.NewReader(bytes.NewReader([]byte(text)))); !errors.Is(err, ErrNotWhole) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
