package agent

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"tansu/client"
)

// shelf is what an agent keeps of one profile's values, encrypted under a key that lives in this process only, in memory that is
// not swapped out. It knows for how long each may be served.
type shelf struct {
	mu    sync.Mutex
	key   []byte
	aead  cipher.AEAD
	fresh chan struct{}     // says that something is kept, or is not any more
	kept  map[string]*entry // by reference
	live  bool              // whether the chest is listened to
	about map[string]bool   // for what, since that began last
	told  map[string]int    // which version it has said since then that it would serve
}

type entry struct {
	Sealed  []byte        `json:"sealed"`
	Version int           `json:"version"`
	Until   time.Time     `json:"until"`    // when the chest may give another answer by itself; zero for never
	KeepFor time.Duration `json:"keep_for"` // while the chest is away
	Good    time.Time     `json:"good"`     // when it was known last to be what the chest would serve
}

// mostKept bounds how many values are kept.
const mostKept = 10_000

func newShelf() (*shelf, error) {
	s := &shelf{key: make([]byte, keySize), kept: map[string]*entry{}, fresh: make(chan struct{}, 1)}
	_, _ = rand.Read(s.key)
	_ = unix.Mlock(s.key) // where that is not allowed, the process is not dumpable at least
	var err error
	s.aead, err = aeadOf(s.key)
	return s, err
}

const keySize = 32

func aeadOf(key []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("make a cipher: %w", err)
	}
	return cipher.NewGCMWithRandomNonce(block)
}

// changed says that something is kept, or is not any more.
func (s *shelf) changed() {
	select {
	case s.fresh <- struct{}{}:
	default:
	}
}

// rekey puts what is kept under another key.
func (s *shelf) rekey(key []byte) error {
	next, err := aeadOf(key)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for reference, e := range s.kept {
		plain, err := s.aead.Open(nil, nil, e.Sealed, []byte(reference))
		if err != nil {
			delete(s.kept, reference)
			continue
		}
		e.Sealed = next.Seal(nil, nil, plain, []byte(reference))
		clear(plain)
	}
	copy(s.key, key)
	s.aead = next
	return nil
}

// putAway returns what is kept as one text, sealed as a whole, so that nobody can combine parts of several or change how long a value
// may be served. What the chest is being listened to about counts as confirmed a moment ago.
func (s *shelf) putAway(label string, now time.Time) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.live {
		s.wereGood(now.Add(-silence))
	}
	all, err := json.Marshal(s.kept)
	if err != nil {
		return nil, err
	}
	return s.aead.Seal(nil, nil, all, []byte(label)), nil
}

// takeOut takes what was put away under the same key and label. It counts as what may be served while the chest is away, until the
// chest says more.
func (s *shelf) takeOut(label string, sealed []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	all, err := s.aead.Open(nil, nil, sealed, []byte(label))
	if err != nil {
		return errors.New("it was not put away under this key")
	}
	return json.Unmarshal(all, &s.kept)
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
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.aead == nil { // erased
		return
	}
	defer s.changed()
	sealed := s.aead.Seal(nil, nil, plain, []byte(reference))
	clear(plain)
	if len(s.kept) >= mostKept {
		clear(s.kept) // whoever asks again fetches again
	}
	s.kept[reference] = &entry{Sealed: sealed, Version: v.Version, Until: v.Until, KeepFor: time.Duration(v.KeepFor) * time.Second, Good: now}
}

func (s *shelf) drop(reference string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.kept[reference] != nil {
		delete(s.kept, reference)
		s.changed()
	}
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
	if e == nil || !e.Until.IsZero() && !now.Before(e.Until) {
		return v, unknown
	}
	switch {
	case s.live && s.told[reference] == e.Version:
		as = current
	case now.Sub(e.Good) > e.KeepFor || now.Before(e.Good): // a clock that went back proves nothing
		return v, unknown
	default:
		as = spare
	}
	plain, err := s.aead.Open(nil, nil, e.Sealed, []byte(reference))
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

// deaf says that the chest is not heard any more, and when it was last heard for certain. From that moment on, what it would have
// served may be served for as long as its rule says.
func (s *shelf) deaf(heard time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.wereGood(heard)
	s.live, s.told = false, nil
}

// wereGood notes when the chest was heard for sure to serve what it has said it would. It is called with the lock.
func (s *shelf) wereGood(heard time.Time) {
	for reference, version := range s.told {
		if e := s.kept[reference]; e != nil && e.Version == version && heard.After(e.Good) {
			e.Good = heard
		}
	}
}

// silence is how long it takes at most to notice that a chest is not heard any more: one that is there says so every ten seconds.
const silence = 45 * time.Second

// keyMissing is why a value is not served whose drawer's master key was not given since the chest was unlocked.
const keyMissing = "key_missing"

// hears handles news about a value from the chest, and drops a value that has changed.
func (s *shelf) hears(ch client.Check, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	defer s.changed()
	e := s.kept[ch.Reference]
	if ch.Reason == keyMissing {
		delete(s.told, ch.Reference) // it is asked for, and what is kept of it waits, as while the chest is locked
		return
	}
	if !ch.Served {
		delete(s.told, ch.Reference)
		delete(s.kept, ch.Reference)
		return
	}
	if s.live {
		s.told[ch.Reference] = ch.Version
	}
	if e != nil && ch.Version != e.Version {
		delete(s.kept, ch.Reference)
	} else if e != nil {
		e.Good, e.Until = now, ch.Until
	}
}

// erase forgets everything.
func (s *shelf) erase() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.kept)
	clear(s.key)
	s.live, s.told, s.aead = false, nil, nil
}

// erased reports whether the key was erased.
func (s *shelf) erased() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.aead == nil
}

// forget drops everything that is kept, and keeps on.
func (s *shelf) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.kept)
}
