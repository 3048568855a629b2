// Package warm keeps in memory what versions are decrypted from, so that a read of one that was read before needs no file.
package warm

import (
	"sync"

	"tansu/internal/core/envelope"
)

// Content is what a version's bytes are decrypted from: what the file holds of them, and their data key.
type Content struct {
	Ciphertext []byte
	Opener     *envelope.Opener
	made       *made
}

// made is what somebody made of a version's bytes once, such as a key that is ready for use.
type made struct {
	once  sync.Once
	value any
	err   error
}

// Made returns what was made of the bytes, which are erased afterwards. It is made once, and forgotten with the content.
func (c Content) Made(make func([]byte) (any, error)) (any, error) {
	c.made.once.Do(func() {
		var plain []byte
		if plain, c.made.err = c.Opener.Open(c.Ciphertext); c.made.err == nil {
			c.made.value, c.made.err = make(plain)
			clear(plain)
		}
	})
	return c.made.value, c.made.err
}

// openerSize is about how many bytes an opener takes.
const openerSize = 1 << 10

func (c Content) size() int { return len(c.Ciphertext) + openerSize }

// Cache keeps contents in memory up to a number of bytes, so that a warm read needs no file and opens one key less. It holds keys, and is
// emptied when the chest is locked. Safe for concurrent use.
type Cache struct {
	mu      sync.RWMutex
	limit   int
	size    int
	entries map[string]Content
}

// New makes a cache of at most so many bytes.
func New(limit int) *Cache { return &Cache{limit: limit, entries: map[string]Content{}} }

// Get returns the content of a version, reading it on a miss. What is read is kept if it still may be.
func (c *Cache) Get(version string, read func() (Content, error), may func() bool) (Content, error) {
	c.mu.RLock()
	kept, found := c.entries[version]
	c.mu.RUnlock()
	if found {
		return kept, nil
	}
	fresh, err := read()
	if err != nil {
		return Content{}, err
	}
	fresh.made = &made{}
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, found := c.entries[version]; found || !may() {
		return fresh, nil
	}
	c.entries[version] = fresh
	c.size += fresh.size()
	// Go visits a map in random order: what is dropped is random, which needs no bookkeeping on a hit.
	for victim, old := range c.entries {
		if c.size <= c.limit {
			break
		}
		delete(c.entries, victim)
		c.size -= old.size()
	}
	return fresh, nil
}

// Forget drops the contents of versions that are shredded or moved, or whose keys are wrapped anew.
func (c *Cache) Forget(versions []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, version := range versions {
		if old, found := c.entries[version]; found {
			c.size -= old.size()
			delete(c.entries, version)
		}
	}
}

// Empty drops everything.
func (c *Cache) Empty() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.entries)
	c.size = 0
}
