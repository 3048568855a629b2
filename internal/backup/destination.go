package backup

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tansu/internal/addressed"
	"tansu/internal/wholefile"
)

// Destination is where backups go.
type Destination interface {
	// Put keeps a backup under a name, whole or not at all.
	Put(ctx context.Context, name string, write func(io.Writer) error) error
	// Open reads one.
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	// Remove removes one that is there.
	Remove(ctx context.Context, name string) error
	// Check says why backups must not go there now.
	Check() error
	String() string
}

// To is the destination that an operator names: an address (https, or http on this machine) or a directory, which is not in the data
// directory.
func To(name, dir string) (Destination, error) {
	if isAddress(name) {
		return toAddress(name)
	}
	return toDirectory(name, dir)
}

// directory is a directory, preferably on another disk.
type directory struct{ path string }

func toDirectory(name, dir string) (Destination, error) {
	path, err := filepath.Abs(name)
	if err != nil {
		return nil, fmt.Errorf("backups to %s: %w", name, err)
	}
	inside, err := filepath.Abs(dir)
	if err != nil {
		return nil, fmt.Errorf("backups to %s: %w", name, err)
	}
	if relative, err := filepath.Rel(inside, path); err == nil && relative != ".." && !strings.HasPrefix(relative, "../") {
		return nil, fmt.Errorf("backups to %s would go into the data directory, and be lost with it", name)
	}
	return directory{path}, nil
}

func (d directory) String() string { return d.path }

// unlockHeader is how a key file begins that unlocks a chest.
const unlockHeader = "tansu-unlock-key"

// Check refuses a directory in which there is what unlocks a chest: whoever gets the one gets the other.
func (d directory) Check() error {
	files, err := os.ReadDir(d.path)
	if err != nil {
		return fmt.Errorf("the directory of backups cannot be read: %w", err)
	}
	for _, f := range files {
		if info, err := f.Info(); err != nil || !info.Mode().IsRegular() || info.Size() > 4096 {
			continue
		}
		content, err := os.ReadFile(filepath.Join(d.path, f.Name()))
		if err == nil && strings.HasPrefix(strings.TrimSpace(string(content)), unlockHeader) {
			return fmt.Errorf("%s is what unlocks a chest, and lies beside the backups: keep it somewhere else", filepath.Join(d.path, f.Name()))
		}
	}
	return nil
}

func (d directory) Put(_ context.Context, name string, write func(io.Writer) error) error {
	return wholefile.Replace(filepath.Join(d.path, name), 0o600, write)
}

func (d directory) Open(_ context.Context, name string) (io.ReadCloser, error) {
	return os.Open(filepath.Join(d.path, name))
}

func (d directory) Remove(_ context.Context, name string) error {
	return os.Remove(filepath.Join(d.path, name))
}

// address takes backups by PUT, gives them back by GET, and removes them by DELETE (RFC 9110, section 9.3). It has a list of those that
// are there, since HTTP has none.
type address struct {
	base string // without a slash at its end
	*addressed.Address
}

// addressTimeout bounds how long one backup may take.
const addressTimeout = 6 * time.Hour

func isAddress(name string) bool {
	return strings.HasPrefix(name, "https://") || strings.HasPrefix(name, "http://")
}

func toAddress(name string) (a address, err error) {
	parsed, err := url.Parse(name)
	if err != nil || parsed.Host == "" || parsed.User != nil {
		return a, fmt.Errorf("backups to %s: that is not a web address, or it has a password in it", name)
	}
	if host := parsed.Hostname(); parsed.Scheme == "http" && host != "localhost" && host != "127.0.0.1" && host != "::1" {
		return a, fmt.Errorf("backups to %s: plain http is only for this machine: use https", name)
	}
	if a.Address, err = addressed.To(parsed, addressTimeout); err != nil {
		return a, fmt.Errorf("backups to an address: %w", err)
	}
	if a.URL.RawQuery != "" {
		return a, fmt.Errorf("backups to %s: the only parameters that it may have are ca and token-file", name)
	}
	a.base = strings.TrimSuffix(a.URL.String(), "/")
	return a, nil
}

func (a address) String() string { return a.base }

func (a address) Check() error { return nil }

func (a address) do(ctx context.Context, method, name string, body io.Reader) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, a.base+"/"+url.PathEscape(name), body)
	if err != nil {
		return nil, err
	}
	response, err := a.Do(request)
	if err != nil {
		return nil, err
	}
	if response.StatusCode >= 300 {
		_ = response.Body.Close()
		return nil, &answered{a.base, method, response.StatusCode, response.Status}
	}
	return response, nil
}

// answered is an answer that is not what was asked for.
type answered struct {
	base, method string
	code         int
	status       string
}

func (e *answered) Error() string {
	return fmt.Sprintf("%s answered %s to %s", e.base, e.status, e.method)
}

func (a address) Put(ctx context.Context, name string, write func(io.Writer) error) error {
	reader, writer := io.Pipe()
	written := make(chan error, 1)
	go func() {
		err := write(writer)
		_ = writer.CloseWithError(err)
		written <- err
	}()
	response, err := a.do(ctx, http.MethodPut, name, reader)
	_ = reader.CloseWithError(errors.Join(err, io.ErrClosedPipe))
	if failed := <-written; failed != nil && err == nil {
		err = failed
	}
	if response != nil {
		_ = response.Body.Close()
	}
	return err
}

func (a address) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	response, err := a.do(ctx, http.MethodGet, name, nil)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}

func (a address) Remove(ctx context.Context, name string) error {
	response, err := a.do(ctx, http.MethodDelete, name, nil)
	if response != nil {
		_ = response.Body.Close()
	}
	return err
}

// listName is the file at an address that lists the backups there: a JSON array of headers without keys. Whoever changes it can only
// make a restore find fewer backups than there are, which checkpoints kept by witnesses reveal.
const listName = "tansu-backups.json"

// mostList bounds a list, in bytes.
const mostList = 64 << 20

func (a address) listed(ctx context.Context) (list []Header, err error) {
	file, err := a.Open(ctx, listName)
	var other *answered
	if errors.As(err, &other) && (other.code == http.StatusNotFound || other.code == http.StatusGone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	if err := json.NewDecoder(io.LimitReader(file, mostList)).Decode(&list); err != nil {
		return nil, fmt.Errorf("%s/%s is not a list of backups: %w", a.base, listName, err)
	}
	return list, nil
}

// Listed says at an address that a backup is there, and that some are to go; others stay in the list, also those of another chest, or of
// this one before it was restored. A directory lists by itself.
func Listed(ctx context.Context, to Destination, made Header, gone []string) error {
	a, is := to.(address)
	if !is {
		return nil
	}
	list, err := a.listed(ctx)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(h Header) bool { return h.Name() == made.Name() || slices.Contains(gone, h.Name()) })
	made.Keys = nil
	list = append(list, made)
	content, err := json.MarshalIndent(list, "", " ")
	if err != nil {
		return err
	}
	return a.Put(ctx, listName, func(out io.Writer) error {
		_, err := out.Write(content)
		return err
	})
}

// atAddress lists the backups that an address has, oldest first.
func atAddress(ctx context.Context, name string) (list []Source, err error) {
	a, err := toAddress(name)
	if err != nil {
		return nil, err
	}
	headers, err := a.listed(ctx)
	if err != nil {
		return nil, err
	}
	if len(headers) == 0 {
		return nil, fmt.Errorf("%s has no %s, which the service writes with each backup: download the files and name them", a.base, listName)
	}
	for _, h := range headers {
		list = append(list, Source{Header: h, Name: a.base + "/" + h.Name(),
			Open: func() (io.ReadCloser, error) { return a.Open(ctx, h.Name()) }})
	}
	inOrder(list)
	return list, nil
}

// From lists the backups in a directory, at an address, or the one in a file, oldest first; files that cannot be read are named.
func From(ctx context.Context, name string) (list []Source, unreadable []string, err error) {
	if isAddress(name) {
		list, err = atAddress(ctx, name)
		return list, nil, err
	}
	info, err := os.Stat(name)
	if err != nil {
		return nil, nil, err
	}
	if info.IsDir() {
		return InDirectory(name)
	}
	s, err := InFile(name)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	return []Source{s}, nil, nil
}
