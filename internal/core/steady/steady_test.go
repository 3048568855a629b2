package steady

import (
	"testing"
	"time"
)

func TestTimeDoesNotRunBack(t *testing.T) {
	wall, passed := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC), time.Duration(0)
	c := New(func() time.Time { return wall }, func() time.Duration { return passed })
	var told []time.Duration
	c.Tell(func(behind time.Duration) { told = append(told, behind) })
	start := c.Now()
	run := func(wallBy, by time.Duration) time.Duration {
		wall, passed = wall.Add(wallBy), passed+by
		return c.Now().Sub(start)
	}
	for _, step := range []struct {
		what         string
		wallBy, by   time.Duration
		is, behindBy time.Duration
	}{
		{"a minute passes", time.Minute, time.Minute, time.Minute, 0},
		{"it is set forwards", time.Hour, 0, time.Hour + time.Minute, 0},
		{"a small step back", -time.Second, 0, time.Hour + time.Minute, 0},
		{"it has caught up", 2 * time.Second, 2 * time.Second, time.Hour + time.Minute + time.Second, 0},
		{"two days back", -48 * time.Hour, 0, time.Hour + time.Minute + time.Second, 48 * time.Hour},
		{"time goes on meanwhile", time.Minute, time.Minute, time.Hour + 2*time.Minute + time.Second, 48 * time.Hour},
		{"it is set right", 48 * time.Hour, 0, time.Hour + 2*time.Minute + time.Second, 0},
		{"and counts again", time.Second, time.Second, time.Hour + 2*time.Minute + 2*time.Second, 0},
	} {
		if is := run(step.wallBy, step.by); is != step.is || c.Behind() != step.behindBy {
			t.Errorf("%s: it is %v after the start and the clock %v behind, want %v and %v", step.what, is, c.Behind(), step.is, step.behindBy)
		}
	}
	if len(told) != 1 || told[0] != 48*time.Hour {
		t.Errorf("told %v, want once that it is 48 h behind", told)
	}
}

func TestTimeIsNoEarlierThanWhatHasHappened(t *testing.T) {
	wall := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	c := New(func() time.Time { return wall }, func() time.Duration { return 0 })
	if behind := c.Since(wall.Add(-time.Hour)); behind != 0 || !c.Now().Equal(wall) {
		t.Errorf("what was an hour ago makes it %v, behind by %v", c.Now(), behind)
	}
	known := wall.Add(48 * time.Hour)
	if behind := c.Since(known); behind != 48*time.Hour || !c.Now().Equal(known) {
		t.Errorf("an entry of the day after tomorrow makes it %v, behind by %v", c.Now(), behind)
	}
}
