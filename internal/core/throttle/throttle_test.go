package throttle

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// guessLimits are limits such as those of a sign-in.
func guessLimits(subject, addr string, marked bool) []Limit {
	if marked {
		return []Limit{{"marked " + subject, 10, 10 * time.Minute, false}}
	}
	return []Limit{{"addr " + addr, 20, 10 * time.Minute, false}, {"pair " + subject + " " + addr, 5, 10 * time.Minute, false},
		{"person " + subject, 100, time.Hour, true}}
}

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// Many attempts at once get no more than one after another: an attempt counts before it is checked.
func TestThrottleCountsBeforeItChecks(t *testing.T) {
	throttle := New()
	var let atomic.Int64
	var wg sync.WaitGroup
	for range 100 {
		wg.Go(func() {
			if wait, _ := throttle.Take(noon, guessLimits("person:x", "192.0.2.1", false)); wait == 0 {
				let.Add(1)
			}
		})
	}
	wg.Wait()
	if let.Load() != 5 {
		t.Errorf("%d attempts were let through, want 5", let.Load())
	}
}

func TestThrottleIsNotUsedUpByGoodAttempts(t *testing.T) {
	throttle := New()
	limits := guessLimits("person:x", "192.0.2.1", false)
	for n := range 50 {
		if wait, _ := throttle.Take(noon, limits); wait != 0 {
			t.Fatalf("good attempt %d has to wait %s", n, wait)
		}
		throttle.Refund(noon, limits)
	}
}

// Many addresses together do not guess for ever, and do not touch the owner's known device.
func TestThrottleLimitsManyAddressesTogether(t *testing.T) {
	throttle := New()
	let := 0
	for n := range 500 {
		if wait, _ := throttle.Take(noon, guessLimits("person:x", fmt.Sprintf("192.0.2.%d", n), false)); wait == 0 {
			let++
		}
	}
	if let != 100 {
		t.Errorf("%d guesses from many addresses were let through, want 100", let)
	}
	if wait, _ := throttle.Take(noon, guessLimits("person:x", "198.51.100.1", true)); wait != 0 {
		t.Errorf("the owner's known device has to wait %s", wait)
	}
	if wait, _ := throttle.Take(noon, guessLimits("person:y", "198.51.100.1", false)); wait != 0 {
		t.Errorf("another person has to wait %s", wait)
	}
	if wait, _ := throttle.Take(noon.Add(time.Hour), guessLimits("person:x", "198.51.100.1", false)); wait != 0 {
		t.Errorf("an hour later: %s", wait)
	}
}

// A flood must not fill the disk: of the attempts turned away, one a window is worth an entry.
func TestThrottleReportsTheFirstTurnedAway(t *testing.T) {
	throttle := New()
	limits := []Limit{{"k", 2, time.Minute, false}}
	var reported []bool
	for range 5 {
		_, first := throttle.Take(noon, limits)
		reported = append(reported, first)
	}
	if fmt.Sprint(reported) != "[false false true false false]" {
		t.Errorf("got %v", reported)
	}
	throttle.Take(noon.Add(time.Minute), limits)
	throttle.Take(noon.Add(time.Minute), limits)
	if wait, first := throttle.Take(noon.Add(time.Minute), limits); wait != time.Minute || !first {
		t.Errorf("in the next window: %s, %v", wait, first)
	}
}

func TestThrottleForgetsWhatIsOver(t *testing.T) {
	throttle := New()
	for n := range mostCounts + 2000 {
		throttle.Take(noon, []Limit{{fmt.Sprint("old ", n), 5, time.Minute, false}})
	}
	if n := len(throttle.counts); n > mostCounts {
		t.Errorf("%d counts are kept", n)
	}
	throttle.Take(noon.Add(2*time.Hour), []Limit{{"new", 5, time.Minute, false}})
	if n := len(throttle.counts); n != 1 {
		t.Errorf("%d counts are kept after all are over", n)
	}
}

// A flood of made-up names gives nobody another chance, and keeps no more than a few strangers from a first one.
func TestFloodWipesNobodysCount(t *testing.T) {
	throttle := New()
	mine := guessLimits("person:x", "192.0.2.1", false)
	for range 5 {
		throttle.Take(noon, mine)
	}
	for n := range 3 * mostCounts {
		throttle.Take(noon, []Limit{{fmt.Sprint("made up ", n), 5, time.Hour, false}})
	}
	if wait, _ := throttle.Take(noon.Add(time.Minute), mine); wait == 0 {
		t.Error("a flood gives somebody who used up their attempts another one")
	}
	if n := len(throttle.counts); n > mostCounts {
		t.Errorf("%d counts are kept", n)
	}
}
