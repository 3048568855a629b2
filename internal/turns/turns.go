// Package turns lets whoever asks for what takes a processor for long wait for a turn, so that those who ask for little are not kept
// waiting, and nobody waits behind all that one other has asked for.
package turns

import (
	"context"
	"runtime"
	"sync"
)

// Turns are given one after the other: to one of the same name at a time, and to a part of the processors in all. It is safe for concurrent
// use.
type Turns struct {
	all chan struct{}

	mu sync.Mutex
	of map[string]*line
}

// line is of those of one name.
type line struct {
	turn    chan struct{}
	waiting int // those who have it among them
}

// New gives turns on half of the processors, and on one at least.
func New() *Turns {
	return &Turns{all: make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2)), of: map[string]*line{}}
}

// Take waits for a turn. Done gives it back; the error is that of the context, and then there is nothing to give back.
func (t *Turns) Take(ctx context.Context, name string) (done func(), err error) {
	t.mu.Lock()
	l := t.of[name]
	if l == nil {
		l = &line{turn: make(chan struct{}, 1)}
		t.of[name] = l
	}
	l.waiting++
	t.mu.Unlock()
	leave := func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if l.waiting--; l.waiting == 0 {
			delete(t.of, name)
		}
	}
	if err := enter(ctx, l.turn); err != nil {
		leave()
		return nil, err
	}
	if err := enter(ctx, t.all); err != nil {
		<-l.turn
		leave()
		return nil, err
	}
	return func() { <-t.all; <-l.turn; leave() }, nil
}

func enter(ctx context.Context, through chan struct{}) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	select {
	case through <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
