// Package sift looks for values in files, directories, archives and the history of repositories, and says where they are. It
// never repeats a value.
package sift

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"tansu/internal/core/leak"
)

// Finding is one place where a value is.
type Finding struct {
	Place     string `json:"place"` // a file; what is within it follows "!", a commit's object comes after "history:"
	Line      int    `json:"line"`
	Column    int    `json:"column"` // in bytes, from 1
	Reference string `json:"reference"`
	Form      string `json:"form"`
}

// Matcher finds values in a text: a [leak.Matcher], or [leak.Fingerprints].
type Matcher interface {
	Longest() int // of what it finds, in bytes
	Find(text []byte, before int, visit func(leak.Finding))
}

// Sieve looks through things. It is for one goroutine.
type Sieve struct {
	Matcher Matcher
	Visit   func(Finding)
	// Skipped is told what could not be looked into, and why.
	Skipped func(place string, err error)
	Bytes   int64 // that were looked at

	room  []byte
	found map[string]bool // places and references, of which something was found there
}

// pieceSize is how much is read at once.
const pieceSize = 1 << 20

// deepest is how many archives are opened within each other.
const deepest = 8

// mostUnpacked bounds what one archive may become.
const mostUnpacked = 4 << 30

// Reader looks through a stream.
func (s *Sieve) Reader(place string, in io.Reader) error {
	if s.room == nil {
		s.room = make([]byte, 0, pieceSize+s.Matcher.Longest())
	}
	text, line, begin := s.room[:0], 1, 0 // begin is where the line begins, from the text's begin, and may be before it
	defer func() { clear(s.room[:cap(s.room)]) }()
	for {
		n, err := io.ReadFull(in, text[len(text):cap(text)])
		text = text[:len(text)+n]
		s.Bytes += int64(n)
		last := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !last {
			return err
		}
		upto := len(text)
		if !last {
			upto = max(0, len(text)-s.Matcher.Longest()+1)
		}
		done := 0
		forward := func(to int) {
			for i := bytes.IndexByte(text[done:to], '\n'); i >= 0; i = bytes.IndexByte(text[done:to], '\n') {
				done += i + 1
				line, begin = line+1, done
			}
			done = to
		}
		s.Matcher.Find(text, upto, func(f leak.Finding) {
			forward(f.At)
			s.Visit(Finding{Place: place, Line: line, Column: f.At - begin + 1, Reference: f.Name, Form: f.Kind})
			if s.found == nil {
				s.found = map[string]bool{}
			}
			s.found[place+"\x00"+f.Name] = true
		})
		forward(max(done, upto))
		if last {
			return nil
		}
		begin -= upto
		text = text[:copy(text, text[upto:])]
	}
}

// Path looks through a file or, in a directory, through all regular files; links are not followed.
func (s *Sieve) Path(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return s.file(path)
	}
	return filepath.WalkDir(path, func(at string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			err = s.file(at)
		}
		if err != nil {
			s.Skipped(at, err)
		}
		return nil
	})
}

func (s *Sieve) file(path string) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	if err := s.Reader(path, in); err != nil {
		return err
	}
	info, err := in.Stat()
	if err != nil {
		return err
	}
	s.within(path, in, info.Size(), 1)
	return nil
}

// History looks through everything that a Git repository holds: every version of every file, commit and tag, also of branches
// that are gone, as far as it was not collected yet.
func (s *Sieve) History(ctx context.Context, repository string) error {
	list := exec.CommandContext(ctx, "git", "-C", repository, "rev-list", "--objects", "--all", "--reflog")
	names, err := list.Output()
	if err != nil {
		return fmt.Errorf("%s is not a Git repository, or git cannot read it", repository)
	}
	paths := map[string]string{}
	for line := range strings.Lines(string(names)) {
		id, path, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		paths[id] = path
	}
	objects := exec.CommandContext(ctx, "git", "-C", repository, "cat-file", "--batch-all-objects", "--batch", "--unordered")
	out, err := objects.StdoutPipe()
	if err != nil {
		return err
	}
	if err := objects.Start(); err != nil {
		return fmt.Errorf("start git: %w", err)
	}
	in := bufio.NewReaderSize(out, pieceSize)
	for {
		header, err := in.ReadString('\n')
		if err == io.EOF {
			break
		}
		parts := strings.Fields(header) // the id, the kind, the size
		if err != nil || len(parts) != 3 {
			return errors.Join(errors.New("git answered with something other than objects"), objects.Cancel(), objects.Wait())
		}
		size, err := strconv.ParseInt(parts[2], 10, 64)
		if err != nil {
			return errors.Join(err, objects.Cancel(), objects.Wait())
		}
		place := "history:" + parts[0][:min(12, len(parts[0]))]
		if path := paths[parts[0]]; path != "" {
			place += ":" + path
		}
		object := io.LimitReader(in, size)
		switch head, _ := in.Peek(int(min(size, headSize))); {
		case parts[1] == "tree":
			_, err = io.Copy(io.Discard, object)
		case parts[1] == "blob" && packed(head):
			err = s.inner(place, object, 0)
		default:
			err = s.Reader(place, object)
		}
		if err == nil {
			_, err = in.Discard(1)
		}
		if err != nil {
			return errors.Join(err, objects.Cancel(), objects.Wait())
		}
	}
	return objects.Wait()
}
