package chest

import (
	"sync"
	"time"
)

// lostEvery is how often it is logged that something could not be recorded: a full disk must not be filled with that.
const lostEvery = time.Minute

// losses counts what could not be recorded and was not logged by itself.
type losses struct {
	mu     sync.Mutex
	logged time.Time
	since  int
}

// lost logs that something could not be recorded, and so was not done.
func (c *Chest) lost(action string, err error) {
	l, now := &c.losses, time.Now()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.since++; now.Sub(l.logged) < lostEvery {
		return
	}
	c.log.Error("not recorded, and so not done", "action", action, "since_last_said", l.since, "error", err)
	l.logged, l.since = now, 0
}
