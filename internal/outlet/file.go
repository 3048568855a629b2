package outlet

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
)

// file appends entries to a file, one to a line. When it is full, it is put aside as FILE.1, the one before as FILE.2, and so
// on; whoever ships them away has them all by then.
type file struct {
	path string
	open *os.File
}

// How large a file becomes, and how many older ones are kept.
const (
	fullFile = 64 << 20
	keptOld  = 9
)

func (f *file) send(_ context.Context, entries []Entry) error {
	if f.open == nil {
		opened, err := os.OpenFile(f.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
		if err != nil {
			return err
		}
		f.open = opened
	}
	var text strings.Builder
	for _, e := range entries {
		text.WriteString(e.Body)
		text.WriteByte('\n')
	}
	_, err := f.open.WriteString(text.String())
	if err = errors.Join(err, f.open.Sync()); err != nil {
		f.close()
		return err
	}
	if info, err := f.open.Stat(); err == nil && info.Size() >= fullFile {
		f.close()
		return f.putAside()
	}
	return nil
}

func (f *file) putAside() error {
	for n := keptOld; n > 0; n-- {
		older := fmt.Sprintf("%s.%d", f.path, n)
		newer := f.path
		if n > 1 {
			newer = fmt.Sprintf("%s.%d", f.path, n-1)
		}
		if err := os.Rename(newer, older); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func (f *file) close() {
	if f.open != nil {
		_ = f.open.Close()
		f.open = nil
	}
}
