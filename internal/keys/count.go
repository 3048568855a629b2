package keys

import (
	"fmt"
	"strings"
	"sync"
	"sync/atomic"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/cryptokey"
	"tansu/internal/store"
	"tansu/internal/usage"
)

// counted is how many messages were encrypted under a version: those in the trail when it was used first since the service started, and
// those since.
type counted struct {
	once sync.Once
	err  error
	n    atomic.Int64
}

// count counts one more encryption under a version of a key, and refuses it when there were as many as random nonces allow. A version that
// encrypts to its public half is not bounded: each message has a content key of its own.
func (k *Keys) count(it *chest.Item, number int) error {
	if it.Row.KeyType != string(cryptokey.AES256) {
		return nil
	}
	id := it.Versions[number-1].ID
	k.mu.Lock()
	one := k.counts[id]
	if one == nil {
		one = &counted{}
		k.counts[id] = one
	}
	k.mu.Unlock()
	one.once.Do(func() {
		var uses []store.Use
		if uses, one.err = usage.UpToDate(k.records, store.UseFilter{Kind: usage.Key, Keys: []string{it.Row.ID}}); one.err != nil {
			return
		}
		for _, use := range uses {
			if strings.HasPrefix(use.Other, fmt.Sprintf("%s %d ", access.Encrypt, number)) {
				one.n.Add(use.Count)
			}
		}
	})
	if one.err != nil {
		k.mu.Lock()
		delete(k.counts, id) // the next one asks again
		k.mu.Unlock()
		return one.err
	}
	if one.n.Add(1) > cryptokey.MostEncryptions {
		return &chest.Error{Code: chest.NotPossible,
			Detail: fmt.Sprintf("version %d of this key has encrypted 2^32 messages, which is as many as it may: rotate it", number)}
	}
	return nil
}
