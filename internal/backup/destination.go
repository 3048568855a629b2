package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

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
	if strings.HasPrefix(name, "https://") || strings.HasPrefix(name, "http://") {
		return toAddress(name)
	}
	return toDirectory(name, dir)
}

// directory is a directory on another disk, best of all.
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

// address takes backups by PUT, gives them back by GET, and removes them by DELETE (RFC 9110, section 9.3).
type address struct {
	base string
	http *http.Client
}

// addressTimeout bounds how long one backup may take.
const addressTimeout = 6 * time.Hour

func toAddress(name string) (Destination, error) {
	parsed, err := url.Parse(name)
	if err != nil || parsed.Host == "" || parsed.User != nil {
		return nil, fmt.Errorf("backups to %s: that is not an address without a password in it", name)
	}
	if host := parsed.Hostname(); parsed.Scheme == "http" && host != "localhost" && host != "127.0.0.1" && host != "::1" {
		return nil, fmt.Errorf("backups to %s: only on this machine http is good enough: use https", name)
	}
	return address{strings.TrimSuffix(name, "/"), &http.Client{Timeout: addressTimeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}, nil
}

func (a address) String() string { return a.base }

func (a address) Check() error { return nil }

func (a address) do(ctx context.Context, method, name string, body io.Reader) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, a.base+"/"+url.PathEscape(name), body)
	if err != nil {
		return nil, err
	}
	response, err := a.http.Do(request)
	if err != nil {
		return nil, err
	}
	if response.StatusCode >= 300 {
		_ = response.Body.Close()
		return nil, fmt.Errorf("%s answered %s to %s", a.base, response.Status, method)
	}
	return response, nil
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
