// Package outlet passes the trail on while it grows: to a file, to a syslog server, or to an address on the web. Each
// outlet follows the trail by itself, from where it left off, so that one that is slow or away slows nobody, and gets what it
// missed when it is there again. An entry may be passed on twice, never not at all: its number tells.
package outlet

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"sync"
	"time"
)

// Entry is one entry to be passed on: its number, and its bytes as they were recorded.
type Entry struct {
	Seq  uint64
	Body string
}

// Source is the trail and where the positions of outlets are kept; *store.Store is one.
type Source interface {
	Last() uint64
	Bodies(from uint64, visit func(seq uint64, body string) bool) error
	Position(outlet string) (uint64, error)
	SetPosition(outlet string, seq uint64) error
}

// receiver takes entries. An error that is not a *rejected is tried again.
type receiver interface {
	send(ctx context.Context, entries []Entry) error
	close()
}

// rejected says that a receiver will never take what was sent to it: some entries, or, without any, all of them.
type rejected struct {
	err     error
	entries []Entry
}

// and is a rejection of one more entry.
func (r *rejected) and(e Entry, err error) *rejected {
	if r == nil {
		r = &rejected{err: fmt.Errorf("entry %d: %w", e.Seq, err)}
	}
	r.entries = append(r.entries, e)
	return r
}

func (r *rejected) Error() string { return r.err.Error() }

// Sign signs bytes for whoever receives them; it fails while the chest is locked.
type Sign func(content []byte) (signature []byte, keyID string, err error)

// Outlet is one place to which the trail is passed on.
type Outlet struct {
	name     string // without secrets; it is what its position is kept under
	receiver receiver
	letters  string // the file for what was rejected; empty for a receiver that rejects nothing

	mu    sync.Mutex
	state State
}

// State is how far an outlet is.
type State struct {
	Name     string    // without a query, which may hold a secret
	Position uint64    // the newest entry that it took
	At       time.Time // when it last took something; zero for not yet
	Failing  time.Time // since when it takes nothing; zero while it does
	Problem  string    // why
	Rejected int       // entries in the file of dead letters, since the start
}

// State returns it.
func (o *Outlet) State() State {
	o.mu.Lock()
	defer o.mu.Unlock()
	state := o.state
	state.Name, _, _ = strings.Cut(o.name, "?")
	return state
}

func (o *Outlet) failed(err error) {
	var request *url.Error
	if errors.As(err, &request) {
		err = request.Err // without the address
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.state.Problem = err.Error(); o.state.Failing.IsZero() {
		o.state.Failing = time.Now()
	}
}

func (o *Outlet) took(position uint64, at time.Time, rejected int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.state.Position, o.state.At, o.state.Failing, o.state.Problem = position, at, time.Time{}, ""
	o.state.Rejected += rejected
}

// Open makes an outlet of what an operator names: file:PATH, syslog://HOST:PORT (over TLS), syslog+tcp://HOST:PORT (on this
// machine only), or an https address. Dead letters go into the directory dir.
func Open(name, origin, dir string, sign Sign) (*Outlet, error) {
	o := &Outlet{name: name}
	if path, is := strings.CutPrefix(name, "file:"); is {
		if path == "" {
			return nil, errors.New("outlet file: say which file, such as file:/var/log/tansu/trail.jsonl")
		}
		o.receiver = &file{path: path}
		return o, nil
	}
	address, err := url.Parse(name)
	if err != nil || address.Host == "" || address.User != nil {
		return nil, errors.New("an outlet is file:PATH, syslog://HOST:PORT or an https address without a password in it")
	}
	local := address.Hostname() == "localhost" || address.Hostname() == "127.0.0.1" || address.Hostname() == "::1"
	switch {
	case address.Scheme == "syslog", address.Scheme == "syslog+tcp" && local:
		if o.receiver, err = newSyslog(address, origin); err != nil {
			return nil, fmt.Errorf("outlet %s: %w", name, err)
		}
	case address.Scheme == "https", address.Scheme == "http" && local:
		if o.receiver, err = newWeb(address, origin, sign); err != nil {
			return nil, fmt.Errorf("outlet %s: %w", name, err)
		}
		o.letters = dir + "/dead-letters.jsonl"
	default:
		return nil, fmt.Errorf("outlet %s: without TLS it must be on this machine", name)
	}
	return o, nil
}

// How entries are passed on.
const (
	atOnce      = 100
	lookEvery   = 250 * time.Millisecond
	firstPause  = 200 * time.Millisecond
	longestWait = time.Minute
)

// Running is outlets at work.
type Running struct {
	list []*Outlet
	stop context.CancelFunc
	all  sync.WaitGroup
}

// Run lets outlets work until Stop is called.
func Run(outlets []*Outlet, source Source, log *slog.Logger) *Running {
	ctx, stop := context.WithCancel(context.Background())
	r := &Running{list: outlets, stop: stop}
	for _, o := range outlets {
		r.all.Go(func() {
			defer o.receiver.close()
			o.run(ctx, source, log.With("outlet", o.name))
		})
	}
	return r
}

// States lists how far each outlet is.
func (r *Running) States() (list []State) {
	for _, o := range r.list {
		list = append(list, o.State())
	}
	return list
}

// stopFor is how long stopping waits for outlets. What they have not passed on by then they pass on after the next start.
const stopFor = 5 * time.Second

// Stop ends the outlets, and waits for them for a bounded time.
func (r *Running) Stop() {
	r.stop()
	ended := make(chan struct{})
	go func() {
		r.all.Wait()
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(stopFor):
	}
}

func (o *Outlet) run(ctx context.Context, source Source, log *slog.Logger) {
	position, known, pause := uint64(0), false, firstPause
	for ctx.Err() == nil {
		var err error
		if !known {
			position, err = source.Position(o.name)
			if known = err == nil; known {
				o.took(position, time.Time{}, 0)
			}
		}
		moved := false
		if err == nil && source.Last() > position {
			var next uint64
			if next, err = o.pass(ctx, source, position, log); err == nil {
				moved, position = true, next
			}
		}
		switch {
		case err == nil && moved:
			if pause > firstPause {
				log.Info("the outlet takes entries again", "after", position)
			}
			pause = firstPause
		case err == nil:
			wait(ctx, lookEvery)
		default:
			o.failed(err)
			if pause == firstPause && ctx.Err() == nil {
				log.Error("the outlet does not take entries; it is tried again", "after", position, "error", err)
			}
			wait(ctx, pause)
			pause = min(2*pause, longestWait)
		}
	}
}

func wait(ctx context.Context, time_ time.Duration) {
	timer := time.NewTimer(time_)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	}
}

// pass sends the next entries and keeps the new position.
func (o *Outlet) pass(ctx context.Context, source Source, after uint64, log *slog.Logger) (uint64, error) {
	var entries []Entry
	err := source.Bodies(after+1, func(seq uint64, body string) bool {
		entries = append(entries, Entry{seq, body})
		return len(entries) < atOnce
	})
	if err != nil || len(entries) == 0 {
		return after, err
	}
	err = o.receiver.send(ctx, entries)
	var never *rejected
	lost := 0
	if errors.As(err, &never) && o.letters != "" {
		dead := never.entries
		if dead == nil {
			dead = entries
		}
		lost = len(dead)
		log.Error("the outlet rejects entries; they are in the file of dead letters", "first", dead[0].Seq, "last", dead[lost-1].Seq, "file",
			o.letters, "error", err)
		letters := &file{path: o.letters}
		err = letters.send(ctx, dead)
		letters.close()
	}
	if err != nil {
		return after, err
	}
	last := entries[len(entries)-1].Seq
	if err := source.SetPosition(o.name, last); err != nil {
		return after, err
	}
	o.took(last, time.Now(), lost)
	return last, nil
}
