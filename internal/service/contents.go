package service

import (
	"sync"

	"tansu/internal/core/envelope"
)

// content is what a version's bytes are decrypted from: what the file holds of them, and their data key.
type content struct {
	ciphertext []byte
	opener     *envelope.Opener
}

// openerSize is about how many bytes an opener takes.
const openerSize = 1 << 10

func (c content) size() int { return len(c.ciphertext) + openerSize }

// contentCache keeps contents in memory up to a number of bytes, so that a warm read needs no file and opens one key less.
// It holds keys, and is emptied when the chest is locked.
type contentCache struct {
	mu      sync.RWMutex
	limit   int
	size    int
	entries map[string]content
}

func newContentCache(limit int) *contentCache {
	return &contentCache{limit: limit, entries: map[string]content{}}
}

// get returns the content of a version, reading it on a miss.
func (c *contentCache) get(version string, read func() (content, error)) (content, error) {
	c.mu.RLock()
	kept, found := c.entries[version]
	c.mu.RUnlock()
	if found {
		return kept, nil
	}
	fresh, err := read()
	if err != nil {
		return content{}, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, found := c.entries[version]; found {
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

// forget drops the content of a version that is shredded or moved.
func (c *contentCache) forget(version string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if old, found := c.entries[version]; found {
		c.size -= old.size()
		delete(c.entries, version)
	}
}

// empty drops everything.
func (c *contentCache) empty() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.entries)
	c.size = 0
}
