package client

import (
	"bytes"
	"context"
	"database/sql/driver"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"path"
	"slices"
	"sync"
	"time"
)

// Secret is a value in the hands of a program. It prints as a placeholder wherever it gets to by accident: with every verb of
// package fmt, in logs, in JSON. Its bytes are got by asking for them.
type Secret struct{ content []byte }

const placeholder = "[secret]"

// NewSecret wraps bytes, which belong to it from then on.
func NewSecret(content []byte) Secret { return Secret{content} }

// Bytes returns a copy of the bytes.
func (s Secret) Bytes() []byte { return bytes.Clone(s.content) }

// Text returns the bytes as text.
func (s Secret) Text() string { return string(s.content) }

func (s Secret) String() string { return placeholder }

// GoString is String for the verb %#v.
func (s Secret) GoString() string { return placeholder }

// Format prints the placeholder whatever the verb.
func (s Secret) Format(f fmt.State, _ rune) { _, _ = io.WriteString(f, placeholder) }

// MarshalText writes the placeholder, so that no encoder writes the bytes.
func (s Secret) MarshalText() ([]byte, error) { return []byte(placeholder), nil }

// LogValue is for package slog.
func (s Secret) LogValue() slog.Value { return slog.StringValue(placeholder) }

// Values reads values for a program that runs for long: each is fetched once, however many ask for it, kept while the chest says
// that it would serve the same, and fetched again when it would not. While the chest cannot be heard, nothing that is kept counts.
// It is safe for concurrent use.
type Values struct {
	chest *Client
	ctx   context.Context // ends when the values are closed
	close context.CancelFunc
	work  sync.WaitGroup

	mu       sync.Mutex
	kept     map[string]*held
	told     map[string]int // which version the chest would serve, as far as it is heard
	live     bool
	about    map[string]bool
	change   []func(reference string)
	relisten chan struct{}
}

// held is a value, or a fetch that others wait for.
type held struct {
	ready   chan struct{} // closed when the fetch is over
	value   Secret
	version int
	until   time.Time
	err     error
}

// NewValues keeps values of a chest until it is closed.
func NewValues(chest *Client) *Values {
	ctx, cancel := context.WithCancel(context.Background())
	v := &Values{chest: chest, ctx: ctx, close: cancel, kept: map[string]*held{}, relisten: make(chan struct{}, 1)}
	v.work.Go(v.listen)
	return v
}

// Close forgets every value.
func (v *Values) Close() error {
	v.close()
	v.work.Wait()
	v.mu.Lock()
	defer v.mu.Unlock()
	clear(v.kept)
	v.live = false
	return nil
}

// OnChange calls a function, on a goroutine of the values' own, after a value that was asked for has become another one or is not
// served any more. Get tells which.
func (v *Values) OnChange(f func(reference string)) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.change = append(v.change, f)
}

// Get returns a value. A refusal is a [*Problem] with its receipt. When the chest is not there or busy, it is asked again, less and
// less often, until the context ends.
func (v *Values) Get(ctx context.Context, reference string) (Secret, error) {
	for {
		one, mine := v.find(reference)
		if mine {
			v.fetch(ctx, reference, one)
		}
		select {
		case <-one.ready:
		case <-ctx.Done():
			return Secret{}, ctx.Err()
		}
		// A fetch that ended because somebody else went away says nothing about this one.
		if !mine && (errors.Is(one.err, context.Canceled) || errors.Is(one.err, context.DeadlineExceeded)) && ctx.Err() == nil {
			continue
		}
		return one.value, one.err
	}
}

// find returns what is kept or being fetched; or, as the caller's own to fetch, something new.
func (v *Values) find(reference string) (one *held, mine bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	one = v.kept[reference]
	if one != nil {
		select {
		case <-one.ready:
			current := v.live && v.told[reference] == one.version && (one.until.IsZero() || time.Now().Before(one.until))
			if one.err == nil && current {
				return one, false
			}
		default:
			return one, false
		}
	}
	one = &held{ready: make(chan struct{})}
	v.kept[reference] = one
	return one, true
}

func (v *Values) fetch(ctx context.Context, reference string, one *held) {
	defer close(one.ready)
	var got Value
	got, one.err = retried(ctx, func() (Value, error) { return v.chest.ReadValue(ctx, reference) })
	if one.err == nil {
		var content []byte
		if content, one.err = base64.StdEncoding.DecodeString(got.Value); one.err == nil {
			one.value, one.version, one.until = Secret{content}, got.Version, got.Until
		}
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if one.err != nil {
		if v.kept[reference] == one {
			delete(v.kept, reference)
		}
		return
	}
	if !v.about[reference] {
		select {
		case v.relisten <- struct{}{}:
		default:
		}
	}
}

// Times between tries: from the first on, twice as long each time up to the longest, and up to as much more by chance, so that
// those whom one outage hit do not come back at once.
const (
	firstPause   = 100 * time.Millisecond
	longestPause = 10 * time.Second
)

// retried asks again when the chest is not there, or says that it is busy and until when.
func retried[T any](ctx context.Context, ask func() (T, error)) (T, error) {
	pause := firstPause
	for {
		answer, err := ask()
		var away *Unreachable
		var problem *Problem
		wait := pause + rand.N(pause)
		switch {
		case err == nil || ctx.Err() != nil:
			return answer, err
		case errors.As(err, &problem) && problem.RetryAfter > 0:
			wait = problem.RetryAfter + rand.N(pause)
		case errors.As(err, &problem) && (problem.Code == "locked" || problem.Code == "chest_away"):
		case !errors.As(err, &away):
			return answer, err
		}
		select {
		case <-ctx.Done():
			return answer, err
		case <-time.After(wait):
		}
		pause = min(2*pause, longestPause)
	}
}

// listen hears from the chest what becomes of what is kept.
func (v *Values) listen() {
	for v.ctx.Err() == nil {
		references := v.listens()
		if len(references) == 0 {
			select {
			case <-v.ctx.Done():
			case <-v.relisten:
			}
			continue
		}
		ctx, cancel := context.WithCancel(v.ctx)
		var parts sync.WaitGroup
		for part := range slices.Chunk(references, 100) {
			parts.Go(func() {
				defer cancel()
				_ = v.chest.WatchValues(ctx, part, func(ch Check) error { v.hears(ch); return nil }) // whatever ended it, it begins again
			})
		}
		again := false
		select {
		case <-ctx.Done():
		case <-v.relisten:
			again = true
		}
		v.mu.Lock()
		v.live = false
		v.mu.Unlock()
		cancel()
		parts.Wait()
		if !again {
			select {
			case <-v.ctx.Done():
			case <-time.After(firstPause*10 + rand.N(firstPause*10)):
			}
		}
	}
}

func (v *Values) listens() (references []string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.live, v.told, v.about = true, map[string]int{}, map[string]bool{}
	for reference := range v.kept {
		references, v.about[reference] = append(references, reference), true
	}
	return references
}

func (v *Values) hears(ch Check) {
	v.mu.Lock()
	one := v.kept[ch.Reference]
	other := false
	if one != nil {
		select {
		case <-one.ready:
			other = !ch.Served || ch.Version != one.version
		default: // it is being fetched
		}
	}
	if ch.Served {
		v.told[ch.Reference] = ch.Version
	} else {
		delete(v.told, ch.Reference)
	}
	calls := slices.Clone(v.change)
	v.mu.Unlock()
	if other {
		for _, call := range calls {
			call(ch.Reference)
		}
	}
}

// FS is a drawer as a file system (package io/fs): a file for each item, and for a field of one ITEM#FIELD. It cannot be listed:
// reading an exact name needs no right to list. The context is that of every read.
func (v *Values) FS(ctx context.Context, drawer string) fs.ReadFileFS {
	return drawerFS{ctx, v, drawer}
}

type drawerFS struct {
	ctx    context.Context
	values *Values
	drawer string
}

func (d drawerFS) ReadFile(name string) ([]byte, error) {
	if !fs.ValidPath(name) || name == "." || path.Base(name) != name {
		return nil, &fs.PathError{Op: "read", Path: name, Err: fs.ErrInvalid}
	}
	secret, err := d.values.Get(d.ctx, d.drawer+"/"+name)
	var problem *Problem
	switch {
	case errors.As(err, &problem) && problem.Code == "not_found":
		err = fs.ErrNotExist
	case errors.As(err, &problem) && problem.Code == "refused":
		err = fmt.Errorf("%w: %w", fs.ErrPermission, problem)
	}
	if err != nil {
		return nil, &fs.PathError{Op: "read", Path: name, Err: err}
	}
	return secret.Bytes(), nil
}

func (d drawerFS) Open(name string) (fs.File, error) {
	content, err := d.ReadFile(name)
	if err != nil {
		return nil, err
	}
	return &file{Reader: bytes.NewReader(content), name: name, size: int64(len(content))}, nil
}

// file is a value that is read as a file, and what is known of it.
type file struct {
	*bytes.Reader
	name string
	size int64
}

func (f *file) Stat() (fs.FileInfo, error) { return f, nil }
func (f *file) Close() error               { return nil }
func (f *file) Name() string               { return f.name }
func (f *file) Size() int64                { return f.size }
func (f *file) Mode() fs.FileMode          { return 0o400 }
func (f *file) ModTime() time.Time         { return time.Time{} }
func (f *file) IsDir() bool                { return false }
func (f *file) Sys() any                   { return nil }

// Connector opens connections of a database (package database/sql) with a value that is current at that moment, so that a password
// that was replaced is used from the next connection on: sql.OpenDB(connector). Source makes the driver's data source name of the
// value; for an item of the shape connection, the value is a URL already.
func (v *Values) Connector(d driver.Driver, reference string, source func(Secret) string) driver.Connector {
	if source == nil {
		source = Secret.Text
	}
	return &connector{v, d, reference, source}
}

type connector struct {
	values    *Values
	driver    driver.Driver
	reference string
	source    func(Secret) string
}

func (c *connector) Driver() driver.Driver { return c.driver }

func (c *connector) Connect(ctx context.Context) (driver.Conn, error) {
	secret, err := c.values.Get(ctx, c.reference)
	if err != nil {
		return nil, err
	}
	if d, is := c.driver.(driver.DriverContext); is {
		opened, err := d.OpenConnector(c.source(secret))
		if err != nil {
			return nil, errors.New("the driver does not take the data source name that was made of " + c.reference) // its own words may repeat it
		}
		return opened.Connect(ctx)
	}
	return c.driver.Open(c.source(secret))
}
