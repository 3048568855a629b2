package agent

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"tansu/client"
)

// shelf is what an agent keeps of one profile's values, encrypted under a key that lives in this process only, in memory that is
// not swapped out. It knows for how long each may be served.
type shelf struct {
	key   []byte
	aead  cipher.AEAD
	mu    sync.Mutex
	kept  map[string]*entry // by reference
	live  bool              // whether the chest is listened to
	about map[string]bool   // for what, since that began last
	told  map[string]int    // which version it has said since then that it would serve
}

type entry struct {
	sealed  []byte
	version int
	until   time.Time     // when the chest may give another answer by itself; zero for never
	keepFor time.Duration // while the chest is away
	good    time.Time     // when it was known last to be what the chest would serve
}

// mostKept bounds how many values are kept.
const mostKept = 10_000

func newShelf() (*shelf, error) {
	s := &shelf{key: make([]byte, 32), kept: map[string]*entry{}}
	_, _ = rand.Read(s.key)
	_ = unix.Mlock(s.key) // where that is not allowed, the process is not dumpable at least
	block, err := aes.NewCipher(s.key)
	if err != nil {
		return nil, fmt.Errorf("make a cipher: %w", err)
	}
	if s.aead, err = cipher.NewGCMWithRandomNonce(block); err != nil {
		return nil, fmt.Errorf("make a cipher: %w", err)
	}
	return s, nil
}

// put keeps a value that the chest has just served, if its rule says so.
func (s *shelf) put(reference string, v client.Value, now time.Time) {
	if v.KeepFor <= 0 {
		s.drop(reference)
		return
	}
	plain, err := json.Marshal(v)
	if err != nil {
		return
	}
	sealed := s.aead.Seal(nil, nil, plain, []byte(reference))
	clear(plain)
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.kept) >= mostKept {
		clear(s.kept) // whoever asks again fetches again
	}
	s.kept[reference] = &entry{sealed: sealed, version: v.Version, until: v.Until, keepFor: time.Duration(v.KeepFor) * time.Second, good: now}
}

func (s *shelf) drop(reference string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.kept, reference)
}

// standing is what may be done with what is kept.
type standing int

const (
	unknown standing = iota // nothing is kept, or it is too old
	current                 // the chest would serve it now
	spare                   // it may be served while the chest is away, and only then
)

// get looks a value up.
func (s *shelf) get(reference string, now time.Time) (v client.Value, as standing) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.kept[reference]
	if e == nil || !e.until.IsZero() && !now.Before(e.until) {
		return v, unknown
	}
	switch {
	case s.live && s.told[reference] == e.version:
		as = current
	case now.Sub(e.good) > e.keepFor || now.Before(e.good): // a clock that went back proves nothing
		return v, unknown
	default:
		as = spare
	}
	plain, err := s.aead.Open(nil, nil, e.sealed, []byte(reference))
	if err != nil || json.Unmarshal(plain, &v) != nil {
		return client.Value{}, unknown
	}
	clear(plain)
	return v, as
}

// listens begins to listen anew, and returns for what: all that is kept.
func (s *shelf) listens() (references []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.live, s.about, s.told = true, map[string]bool{}, map[string]int{}
	for reference := range s.kept {
		s.about[reference] = true
		references = append(references, reference)
	}
	return references
}

// listened reports whether the chest is listened to about a reference.
func (s *shelf) listened(reference string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.live && s.about[reference]
}

// deaf says that the chest is not heard any more, and when it was heard for sure: from then on, what it would have served then is
// good for as long as its rule says.
func (s *shelf) deaf(heard time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for reference, version := range s.told {
		if e := s.kept[reference]; e != nil && e.version == version && heard.After(e.good) {
			e.good = heard
		}
	}
	s.live, s.told = false, nil
}

// hears takes note of what the chest says of a value, and drops one that is another one now.
func (s *shelf) hears(ch client.Check, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.kept[ch.Reference]
	if !ch.Served {
		delete(s.told, ch.Reference)
		delete(s.kept, ch.Reference)
		return
	}
	if s.live {
		s.told[ch.Reference] = ch.Version
	}
	if e != nil && ch.Version != e.version {
		delete(s.kept, ch.Reference)
	} else if e != nil {
		e.good, e.until = now, ch.Until
	}
}

// erase forgets everything.
func (s *shelf) erase() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.kept)
	clear(s.key)
	s.live = false
}
