// Package demo fills a chest with the made-up data of an island ferry operator, and tells the whole story of a secret
// against a live service. Everything goes through the same use cases and the same interface as real work; only the
// clock of the filling runs in the past, so that there is a history to look at.
package demo

import (
	"sync/atomic"
	"time"
)

// Clock is the machine's clock, moved. The zero Clock is the machine's. It is safe for concurrent use.
type Clock struct{ behind atomic.Int64 }

// Now returns the moved time.
func (c *Clock) Now() time.Time { return time.Now().Add(-time.Duration(c.behind.Load())) }

// Set moves the clock to the given distance in the past; 0 sets it right.
func (c *Clock) Set(ago time.Duration) { c.behind.Store(int64(ago)) }
