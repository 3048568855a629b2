// Package steady is a clock that does not run back.
//
// A machine's clock is set by people and by other machines, and sometimes backwards. What has ended must not thereby begin again, and
// what is recorded must not look as if it had happened earlier than what came before it. So time is the later of two: what the clock
// says, and what it would say had it run on from the latest time that is known. While the clock is behind, time goes on at its own
// pace from that latest time, and when the clock has caught up, or was set right, it counts again.
package steady

import (
	"sync"
	"time"
)

// Slack is how far a clock may step back without being said: what is adjusted a little all day is no fault.
const Slack = 2 * time.Second

// Clock is a clock that does not run back. Its methods are safe for concurrent use; the zero Clock must not be used.
type Clock struct {
	now    func() time.Time
	passed func() time.Duration // since some moment, whatever the clock says

	mu     sync.Mutex
	latest time.Time     // the latest time that was told
	at     time.Duration // when that was, by what has passed
	behind bool          // it was said that the clock is
	said   func(behind time.Duration)
}

// New makes one of a clock that may run back. Passed tells how much time has passed since some moment, whatever the clock says; nil
// takes the machine's monotonic clock.
func New(now func() time.Time, passed func() time.Duration) *Clock {
	if passed == nil {
		start := time.Now() // holds a reading of the monotonic clock (see package time)
		passed = func() time.Duration { return time.Since(start) }
	}
	return &Clock{now: now, passed: passed}
}

// Tell calls said once each time the clock is found to be behind by more than [Slack], with by how much.
func (c *Clock) Tell(said func(behind time.Duration)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.said = said
}

// Since lets time be no earlier than something that is known to have happened, and reports by how much the clock is behind it; 0 when it
// is not.
func (c *Clock) Since(known time.Time) (behind time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if known.After(c.latest) {
		c.latest, c.at = known, c.passed()
	}
	return max(0, known.Sub(c.now()))
}

// Now is the time.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	says, passed := c.now(), c.passed()
	ran := c.latest.Add(passed - c.at)
	if c.latest.IsZero() || !says.Before(ran) {
		c.latest, c.at, c.behind = says, passed, false
		c.mu.Unlock()
		return says
	}
	said, by := c.said, ran.Sub(says)
	if by <= Slack { // a small step: time stands still until the clock has caught up
		if says.Before(c.latest) {
			says = c.latest
		} else {
			c.latest, c.at = says, passed
		}
		c.mu.Unlock()
		return says
	}
	first := !c.behind
	c.behind = true
	c.mu.Unlock()
	if first && said != nil {
		said(by)
	}
	return ran
}

// Behind is by how much the clock is behind time; 0 when it is not, or by no more than [Slack].
func (c *Clock) Behind() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	if by := c.latest.Add(c.passed() - c.at).Sub(c.now()); !c.latest.IsZero() && by > Slack {
		return by
	}
	return 0
}
