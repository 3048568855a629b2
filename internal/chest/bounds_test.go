package chest

import (
	"fmt"
	"testing"
	"time"

	"tansu/internal/core/trail"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

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
