// Package pace is how something goes on behind the scenes without being noticed: it works for a moment and rests for several times as long.
package pace

import (
	"context"
	"time"
)

type paceKey struct{}

// pace is how something goes on behind the scenes: it works for a moment and rests for several times as long.
type pace struct {
	rest  int
	began time.Time
}

// works is for how long at once.
const works = 5 * time.Millisecond

// Gently lets what calls [Rest] with the context take one part in rest+1 of a processor. It is for one goroutine.
func Gently(ctx context.Context, rest int) context.Context {
	return context.WithValue(ctx, paceKey{}, &pace{rest: rest, began: time.Now()})
}

// Rest rests, if its turn has come and the context says so. It returns at once when the context ends.
func Rest(ctx context.Context) {
	p, is := ctx.Value(paceKey{}).(*pace)
	if !is {
		return
	}
	worked := time.Since(p.began)
	if worked < works {
		return
	}
	select {
	case <-ctx.Done():
	case <-time.After(time.Duration(p.rest) * worked):
	}
	p.began = time.Now()
}
