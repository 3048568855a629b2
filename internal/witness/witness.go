// Package witness keeps checkpoints of a trail outside the chest's own data directory: in a file, at an HTTP endpoint, or in the log of a
// syslog server.
package witness

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"tansu/internal/core/trail"
	"tansu/internal/outlet"
	"tansu/internal/record"
)

// Open makes a witness of what an operator names: an https address, or http on this machine; a syslog server, as outlets
// are named; or else a file.
func Open(name, dir string) (record.Witness, error) {
	if strings.HasPrefix(name, "syslog://") || strings.HasPrefix(name, "syslog+tcp://") {
		return outlet.OpenSyslogWitness(name)
	}
	if strings.HasPrefix(name, "https://") || strings.HasPrefix(name, "http://") {
		return newEndpoint(name)
	}
	return newFile(name, dir)
}

// file is a witness that appends each checkpoint to a file, which should be on another disk, or one that only takes more.
type file struct {
	path string
	kept *atomic.Bool // it has taken a checkpoint since the service started
}

func newFile(path, dir string) (record.Witness, error) {
	absolute, err := filepath.Abs(path)
	if err != nil {
		return nil, fmt.Errorf("witness %s: %w", path, err)
	}
	inside, err := filepath.Abs(dir)
	if err != nil {
		return nil, fmt.Errorf("witness %s: %w", path, err)
	}
	if relative, err := filepath.Rel(inside, absolute); err == nil && relative != ".." && !strings.HasPrefix(relative, "../") {
		return nil, fmt.Errorf("witness %s is in the data directory: whoever puts back an older copy of that puts this back, too; keep it "+
			"elsewhere", path)
	}
	return file{absolute, &atomic.Bool{}}, nil
}

func (f file) String() string { return "the witness " + f.path }

func (f file) Keep(note string) error {
	_, err := os.Stat(f.path)
	vanished := errors.Is(err, fs.ErrNotExist) && f.kept.Load()
	out, err := os.OpenFile(f.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = out.WriteString(note + "\n")
	if err = errors.Join(err, out.Sync(), out.Close()); err == nil && vanished {
		err = errors.New("the file had vanished with everything in it, and was started anew: find out who removed it")
	}
	f.kept.Store(true)
	return err
}

// tail is how much of a file's end is read to find the newest checkpoint.
const tail = 16 << 10

func (f file) Last() (string, error) {
	in, err := os.Open(f.path)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	defer func() { _ = in.Close() }()
	info, err := in.Stat()
	if err != nil {
		return "", err
	}
	content := make([]byte, min(info.Size(), tail))
	if _, err := in.ReadAt(content, info.Size()-int64(len(content))); err != nil {
		return "", err
	}
	text := string(content)
	if info.Size() > tail { // the first one in it may be cut
		_, text, _ = strings.Cut(text, "\n\n")
		_, text, _ = strings.Cut(text, "\n\n")
	}
	notes := trail.SplitNotes(text)
	if len(notes) == 0 {
		if info.Size() > 0 {
			return "", errors.New("it has no checkpoint at its end")
		}
		return "", nil
	}
	return notes[len(notes)-1], nil
}

// endpoint is a witness at an address: each checkpoint is posted to it, and what it answers to GET, if it does, is the
// newest one.
type endpoint struct {
	address string
	http    *http.Client
}

// mostNote bounds what an endpoint may answer.
const mostNote = 64 << 10

func newEndpoint(address string) (record.Witness, error) {
	parsed, err := url.Parse(address)
	if err != nil || parsed.User != nil || parsed.Host == "" {
		return nil, fmt.Errorf("witness %s is not a web address, or it has a password in it", address)
	}
	if host := parsed.Hostname(); parsed.Scheme == "http" && host != "localhost" && host != "127.0.0.1" && host != "::1" {
		return nil, fmt.Errorf("witness %s: plain http is only for this machine: use https", address)
	}
	return endpoint{address, &http.Client{Timeout: 10 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}, nil
}

func (e endpoint) String() string { return "the witness " + e.address }

func (e endpoint) Keep(note string) error {
	response, err := e.http.Post(e.address, "text/plain; charset=utf-8", bytes.NewBufferString(note))
	if err != nil {
		return err
	}
	_ = response.Body.Close()
	if response.StatusCode >= 300 {
		return fmt.Errorf("it answered %s", response.Status)
	}
	return nil
}

func (e endpoint) Last() (string, error) {
	response, err := e.http.Get(e.address)
	if err != nil {
		return "", err
	}
	defer func() { _ = response.Body.Close() }()
	switch response.StatusCode {
	case http.StatusOK:
	case http.StatusNotFound, http.StatusNoContent, http.StatusMethodNotAllowed:
		return "", nil
	default:
		return "", fmt.Errorf("it answered %s", response.Status)
	}
	content, err := io.ReadAll(io.LimitReader(response.Body, mostNote))
	if err != nil {
		return "", err
	}
	notes := trail.SplitNotes(string(content))
	if len(notes) == 0 {
		return "", nil
	}
	return notes[len(notes)-1], nil
}
