package service

import "sync"

// contentCache keeps ciphertexts in memory up to a number of bytes, so that a warm read needs no file. It holds
// nothing that the file does not hold.
type contentCache struct {
	mu      sync.RWMutex
	limit   int
	size    int
	entries map[string][]byte
}

func newContentCache(limit int) *contentCache {
	return &contentCache{limit: limit, entries: map[string][]byte{}}
}

// get returns the ciphertext of a version, reading it on a miss.
func (c *contentCache) get(version string, read func(string) ([]byte, error)) ([]byte, error) {
	c.mu.RLock()
	ciphertext, found := c.entries[version]
	c.mu.RUnlock()
	if found {
		return ciphertext, nil
	}
	ciphertext, err := read(version)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, found := c.entries[version]; found {
		return ciphertext, nil
	}
	c.entries[version] = ciphertext
	c.size += len(ciphertext)
	// Go visits a map in random order: what is dropped is random, which needs no bookkeeping on a hit.
	for victim, bytes := range c.entries {
		if c.size <= c.limit {
			break
		}
		delete(c.entries, victim)
		c.size -= len(bytes)
	}
	return ciphertext, nil
}

// forget drops the ciphertext of a version that is shredded.
func (c *contentCache) forget(version string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.size -= len(c.entries[version])
	delete(c.entries, version)
}
