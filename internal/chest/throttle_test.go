package chest

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tansu/internal/core/trail"
)

// guessLimits are limits such as those of a sign-in.
func guessLimits(subject, addr string, marked bool) []Limit {
	if marked {
		return []Limit{{"marked " + subject, 10, 10 * time.Minute}}
	}
	return []Limit{{"addr " + addr, 20, 10 * time.Minute}, {"pair " + subject + " " + addr, 5, 10 * time.Minute},
		{"person " + subject, 100, time.Hour}}
}

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// Many attempts at once get no more than one after another: an attempt counts before it is checked.
func TestThrottleCountsBeforeItChecks(t *testing.T) {
	throttle := newThrottle()
	var let atomic.Int64
	var wg sync.WaitGroup
	for range 100 {
		wg.Go(func() {
			if wait, _ := throttle.take(noon, guessLimits("person:x", "192.0.2.1", false)); wait == 0 {
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
	throttle := newThrottle()
	limits := guessLimits("person:x", "192.0.2.1", false)
	for n := range 50 {
		if wait, _ := throttle.take(noon, limits); wait != 0 {
			t.Fatalf("good attempt %d has to wait %s", n, wait)
		}
		throttle.refund(noon, limits)
	}
}

// Many addresses together do not guess for ever, and do not touch the owner's known device.
func TestThrottleLimitsManyAddressesTogether(t *testing.T) {
	throttle := newThrottle()
	let := 0
	for n := range 500 {
		if wait, _ := throttle.take(noon, guessLimits("person:x", fmt.Sprintf("192.0.2.%d", n), false)); wait == 0 {
			let++
		}
	}
	if let != 100 {
		t.Errorf("%d guesses from many addresses were let through, want 100", let)
	}
	if wait, _ := throttle.take(noon, guessLimits("person:x", "198.51.100.1", true)); wait != 0 {
		t.Errorf("the owner's known device has to wait %s", wait)
	}
	if wait, _ := throttle.take(noon, guessLimits("person:y", "198.51.100.1", false)); wait != 0 {
		t.Errorf("another person has to wait %s", wait)
	}
	if wait, _ := throttle.take(noon.Add(time.Hour), guessLimits("person:x", "198.51.100.1", false)); wait != 0 {
		t.Errorf("an hour later: %s", wait)
	}
}

// A flood must not fill the disk: of the attempts turned away, one a window is worth an entry.
func TestThrottleReportsTheFirstTurnedAway(t *testing.T) {
	throttle := newThrottle()
	limits := []Limit{{"k", 2, time.Minute}}
	var reported []bool
	for range 5 {
		_, first := throttle.take(noon, limits)
		reported = append(reported, first)
	}
	if fmt.Sprint(reported) != "[false false true false false]" {
		t.Errorf("got %v", reported)
	}
	throttle.take(noon.Add(time.Minute), limits)
	throttle.take(noon.Add(time.Minute), limits)
	if wait, first := throttle.take(noon.Add(time.Minute), limits); wait != time.Minute || !first {
		t.Errorf("in the next window: %s, %v", wait, first)
	}
}

func TestThrottleForgetsWhatIsOver(t *testing.T) {
	throttle := newThrottle()
	for n := range mostCounts + 2000 {
		throttle.take(noon, []Limit{{fmt.Sprint("old ", n), 5, time.Minute}})
	}
	if n := len(throttle.counts); n > mostCounts {
		t.Errorf("%d counts are kept", n)
	}
	throttle.take(noon.Add(2*time.Hour), []Limit{{"new", 5, time.Minute}})
	if n := len(throttle.counts); n != 1 {
		t.Errorf("%d counts are kept after all are over", n)
	}
}

// A flood of made-up names gives nobody another chance, and keeps no more than a few strangers from a first one.
func TestFloodWipesNobodysCount(t *testing.T) {
	throttle := newThrottle()
	mine := guessLimits("person:x", "192.0.2.1", false)
	for range 5 {
		throttle.take(noon, mine)
	}
	for n := range 3 * mostCounts {
		throttle.take(noon, []Limit{{fmt.Sprint("made up ", n), 5, time.Hour}})
	}
	if wait, _ := throttle.take(noon.Add(time.Minute), mine); wait == 0 {
		t.Error("a flood gives somebody who used up their attempts another one")
	}
	if n := len(throttle.counts); n > mostCounts {
		t.Errorf("%d counts are kept", n)
	}
}

func TestContentCacheStaysWithinItsLimit(t *testing.T) {
	const limit = 10 * (openerSize + 100)
	cache := newContentCache(limit)
	reads := 0
	read := func() (content, error) { reads++; return content{ciphertext: make([]byte, 100)}, nil }
	for n := range 50 {
		for range 2 {
			if _, err := cache.get(fmt.Sprint(n), read, func() bool { return true }); err != nil {
				t.Fatal(err)
			}
		}
	}
	if cache.size > limit || cache.size != (openerSize+100)*len(cache.entries) {
		t.Errorf("%d bytes are held in %d entries", cache.size, len(cache.entries))
	}
	if reads < 50 || reads > 60 {
		t.Errorf("50 contents took %d reads", reads)
	}
}

// A flood of refusals of ever new names takes no memory for each, and looking one up stays quick.
func TestFoldingStaysSmall(t *testing.T) {
	f := newFolding()
	for n := range 3 * mostOfOne {
		f.take(trail.Entry{At: noon, Subject: "app:map-printer", Addr: "192.0.2.1", Target: fmt.Sprint("d/guess-", n)})
	}
	if n := len(f.counts); n > mostOfOne+1 {
		t.Errorf("%d counts are kept of one", n)
	}
	for n := range mostFoldCounts {
		f.take(trail.Entry{At: noon, Subject: "app:map-printer", Addr: fmt.Sprint(n)})
	}
	if n := len(f.counts); n > mostFoldCounts {
		t.Errorf("%d counts are kept of all", n)
	}
}
