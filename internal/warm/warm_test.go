package warm

import (
	"fmt"
	"testing"
)

func TestContentCacheStaysWithinItsLimit(t *testing.T) {
	const limit = 10 * (openerSize + 100)
	cache := New(limit)
	reads := 0
	read := func() (Content, error) { reads++; return Content{Ciphertext: make([]byte, 100)}, nil }
	for n := range 50 {
		for range 2 {
			if _, err := cache.Get(fmt.Sprint(n), read, func() bool { return true }); err != nil {
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
