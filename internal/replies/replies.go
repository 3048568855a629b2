// Package replies keeps what was answered under a key that whoever asked chose, so that whoever asks again hears the same and nothing is
// done twice.
package replies

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"
)

// How long replies are kept, in memory, and how many bytes of them.
const (
	Keep = 10 * time.Minute
	most = 32 << 20
)

// ID is what a key of somebody is known by.
type ID [32]byte

// Of is what a key of somebody is known by.
func Of(who, key string) ID { return sha256.Sum256([]byte("tansu once\x00" + who + "\x00" + key)) }

// Replies are sealed under their keys, which only whoever asked has, and a secret of the process. It is safe for concurrent use.
type Replies struct {
	now    func() time.Time
	secret [32]byte

	mu    sync.Mutex
	given map[ID]*reply
	size  int // bytes in all of them
}

// reply is what was answered, or, without anything sealed, that the first request is not done yet.
type reply struct {
	print  [32]byte // of what was asked for
	sealed []byte
	at     time.Time
}

// New makes one in which nothing is kept.
func New(now func() time.Time) *Replies {
	r := &Replies{now: now, given: map[ID]*reply{}}
	_, _ = rand.Read(r.secret[:])
	return r
}

// Why there is no reply to a request.
var (
	ErrOther      = errors.New("another request was made under this key: each has its own")
	ErrInProgress = errors.New("the first request under this key is not done yet: ask again in a moment")
)

// Begin returns what was answered under a key; nil for the first request under it, which is to be ended by [Replies.Drop] or
// [Replies.Put]. What is asked for is told by its parts.
func (r *Replies) Begin(id ID, key string, asked ...string) (plain []byte, err error) {
	print := r.mac("asked", asked...)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.forget()
	given := r.given[id]
	switch {
	case given == nil:
		r.given[id] = &reply{print: print, at: r.now()}
		return nil, nil
	case given.print != print:
		return nil, ErrOther
	case given.sealed == nil:
		return nil, ErrInProgress
	}
	return r.aead(key).Open(nil, nil, given.sealed, id[:])
}

// Drop forgets a request that came to nothing.
func (r *Replies) Drop(id ID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.given, id)
}

// Put keeps what was answered.
func (r *Replies) Put(id ID, key string, plain []byte) {
	sealed := r.aead(key).Seal(nil, nil, plain, id[:])
	r.mu.Lock()
	defer r.mu.Unlock()
	given := r.given[id]
	given.sealed, given.at = sealed, r.now()
	r.size += len(sealed)
}

// forget drops replies that are old, and more of them when they take too much room. It is called with the lock.
func (r *Replies) forget() {
	var ids []ID
	for id, given := range r.given {
		if given.sealed != nil {
			ids = append(ids, id)
		}
	}
	slices.SortFunc(ids, func(x, y ID) int { return r.given[x].at.Compare(r.given[y].at) })
	for _, id := range ids {
		if r.now().Sub(r.given[id].at) < Keep && r.size <= most {
			return
		}
		r.size -= len(r.given[id].sealed)
		delete(r.given, id)
	}
}

func (r *Replies) mac(what string, parts ...string) (sum [32]byte) {
	h := hmac.New(sha256.New, r.secret[:])
	for _, part := range append([]string{what}, parts...) {
		fmt.Fprintf(h, "%d %s", len(part), part)
	}
	return [32]byte(h.Sum(nil))
}

// aead seals under a key and the secret of the process.
func (r *Replies) aead(key string) cipher.AEAD {
	sum := r.mac("reply", key)
	block, err := aes.NewCipher(sum[:])
	if err != nil {
		panic(err) // the key has 32 bytes
	}
	sealer, err := cipher.NewGCMWithRandomNonce(block)
	if err != nil {
		panic(err)
	}
	return sealer
}
