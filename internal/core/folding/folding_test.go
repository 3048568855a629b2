package folding

import (
	"fmt"
	"testing"
	"time"

	"tansu/internal/core/trail"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// A flood of refusals of ever new names takes no memory for each, and looking one up stays quick.
func TestFoldingStaysSmall(t *testing.T) {
	f := New()
	for n := range 3 * mostOfOne {
		f.Take(trail.Entry{At: noon, Subject: "app:map-printer", Addr: "192.0.2.1", Target: fmt.Sprint("d/guess-", n)})
	}
	if n := len(f.counts); n > mostOfOne+1 {
		t.Errorf("%d counts are kept of one", n)
	}
	for n := range mostFoldCounts {
		f.Take(trail.Entry{At: noon, Subject: "app:map-printer", Addr: fmt.Sprint(n)})
	}
	if n := len(f.counts); n > mostFoldCounts {
		t.Errorf("%d counts are kept of all", n)
	}
}
