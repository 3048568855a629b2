package keys

import (
	"crypto/rand"
	"errors"
	"strconv"

	"tansu/internal/chest"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/keyrow"
)

// one is the version of a key that one use is done with, and for a verification all that are served, the newest first.
type one struct {
	item   *chest.Item
	facts  *keyrow.Facts
	number int
	key    *cryptokey.Key
	more   []version
	next   *cryptokey.Key // the current version, of a ciphertext that is to be under that
	nextID string
	sealed *cryptokey.Sealed
	home   string // where the key is now, when it was named by an old name; else empty
	grace  bool
}

// version is a version of a key that can verify: its public half, or the key itself if it has none.
type version struct {
	number int
	public *cryptokey.Public
	key    *cryptokey.Key
}

// errNotOpened is the one answer to everything that cannot be decrypted, whatever is wrong with it.
var errNotOpened = chest.Invalid("ciphertext", "%s", cryptokey.ErrNotOpened)

// found is what was found for the uses of one call before, on the same snapshot. A ciphertext names its version itself, and a rewrapped one
// has two.
type found map[sameUse]*one

type sameUse struct {
	st *chest.Snapshot
	op Op
}

// find finds the key and the version for a use, and opens it.
func (k *Keys) find(a *chest.Attempt, spot chest.Spot, ref reference.Reference, u *Use, ready found) (o *one, err error) {
	if o := ready[sameUse{a.St, u.Op}]; o != nil {
		if u.Op == Encrypt || u.Op == DataKey {
			return o, k.count(o.item, o.number)
		}
		return o, nil
	}
	o, err = k.findAnew(a, spot, ref, u)
	if err == nil && u.Op != Decrypt && u.Op != Rewrap {
		ready[sameUse{a.St, u.Op}] = o
	}
	return o, err
}

func (k *Keys) findAnew(a *chest.Attempt, spot chest.Spot, ref reference.Reference, u *Use) (o *one, err error) {
	d, it, err := spot.ReadItem()
	if err != nil {
		return nil, a.St.Hint(a.Caller, ref, err, a.Entry.At)
	}
	o = &one{item: it, facts: keyrow.Of(it.Row)}
	if o.facts == nil {
		return nil, chest.Invalid("reference", "%s/%s is a secret, and no key", ref.Drawer, ref.Item)
	}
	if d.Row.Name != ref.Drawer || it.Row.Name != ref.Item {
		o.home = d.Row.Name + "/" + it.Row.Name
	}
	switch u.Op {
	case Decrypt, Rewrap:
		if o.sealed, err = cryptokey.ParseSealed(u.Ciphertext); err != nil {
			return nil, errNotOpened
		}
		// One that names no version of this key was made by somebody who has the public half and calls it otherwise.
		if named := keyrow.VersionOf(it.Row.ID, o.sealed.KeyID()); named != 0 {
			if ref.Version != 0 && ref.Version != named || named > len(it.Versions) {
				return nil, errNotOpened
			}
			ref.Version = named
		}
	case Verify:
		return o, o.verifiers(a, d, ref)
	}
	opens := u.Op == Decrypt || u.Op == Rewrap || u.Op == Unwrap
	if o.number, o.grace, err = serving(a, spot, ref); err != nil && !(opens && o.number != 0 && ended(err)) {
		return nil, err
	}
	if opens && o.number < it.Row.DecryptFrom {
		return nil, &chest.Error{Code: chest.NotServable, Reason: "too_old", Detail: ref.String() + ": versions before " +
			strconv.Itoa(it.Row.DecryptFrom) + " decrypt no more"}
	}
	if u.Op == Public {
		return o, nil
	}
	if o.key, err = o.open(a, d, o.number); err != nil {
		return nil, err
	}
	encrypts := o.number
	if u.Op == Rewrap {
		ref.Version = 0
		if encrypts, _, err = serving(a, spot, ref); err != nil {
			return nil, err
		}
		if o.next, err = o.open(a, d, encrypts); err != nil {
			return nil, err
		}
		o.nextID = keyrow.ID(it.Row.ID, encrypts)
	}
	if u.Op == Encrypt || u.Op == DataKey || u.Op == Rewrap {
		return o, k.count(it, encrypts)
	}
	return o, nil
}

// ended reports whether nothing but its end, by its window or its age, keeps a version from being used. One that has ended protects nothing
// new, and goes on opening and verifying what it protected (the deactivated state of NIST SP 800-57 part 1, section 7.3).
func ended(err error) bool {
	var closed *chest.Error
	var state *lifecycle.NotServable
	return errors.As(err, &closed) && closed.Reason == string(lifecycle.Ended) || errors.As(err, &state) && state.State == lifecycle.Ended
}

// serving finds the version that answers a reference now.
func serving(a *chest.Attempt, spot chest.Spot, ref reference.Reference) (number int, grace bool, err error) {
	found, err := spot.Serving(entity.Within, ref, a.Entry.At)
	return found.Number, found.Grace, err
}

// open opens a version.
func (o *one) open(a *chest.Attempt, d *chest.Drawer, number int) (*cryptokey.Key, error) {
	key, err := a.St.Made(d, o.item, number, func(stored []byte) (any, error) {
		return cryptokey.Open(o.facts.Type, o.facts.Operations, stored)
	})
	if err != nil {
		return nil, err
	}
	return key.(*cryptokey.Key), nil
}

// verifiers finds the versions that can have made a signature: the one that is asked for, or all that are served.
func (o *one) verifiers(a *chest.Attempt, d *chest.Drawer, ref reference.Reference) error {
	var unserved error
	for number := len(o.item.Versions); number > 0; number-- {
		if ref.Version != 0 && ref.Version != number {
			continue
		}
		if err := o.item.Life.Servable(number, a.Entry.At); err != nil && !ended(err) {
			unserved = err
			continue
		}
		v := version{number: number}
		var err error
		if text := o.item.Versions[number-1].PublicKey; text != "" {
			v.public, err = cryptokey.ReadPublic([]byte(text), o.facts.Operations)
		} else {
			v.key, err = o.open(a, d, number)
		}
		if err != nil {
			return err
		}
		o.more = append(o.more, v)
	}
	if len(o.more) > 0 {
		return nil
	}
	if unserved != nil {
		return &chest.Error{Code: chest.NotServable, Detail: ref.String() + ": " + unserved.Error()}
	}
	return chest.Missing("version "+ref.String(), "")
}

// do uses the key.
func (o *one) do(u *Use) (r Result, err error) {
	r.Version = o.number
	id := keyrow.ID(o.item.Row.ID, o.number)
	switch u.Op {
	case Sign:
		r.Signature, r.Scheme, err = o.key.Sign(u.Scheme, u.Form, u.Message)
	case Public:
		if r.PublicKey = keyrow.Published(o.item.Row.ID, o.item.Versions[o.number-1]); r.PublicKey == "" {
			err = chest.Invalid("op", "a key of the type %s has no public half", o.facts.Type)
		}
	case Verify:
		return o.verify(u)
	case Encrypt:
		r.Ciphertext, err = o.key.Encrypt(id, u.Message, u.Associated)
	case Decrypt:
		r.Plaintext, err = o.key.Decrypt(o.sealed, u.Associated)
	case Rewrap:
		var plain []byte
		if plain, err = o.key.Decrypt(o.sealed, u.Associated); err == nil {
			r.Version = keyrow.VersionOf(o.item.Row.ID, o.nextID)
			r.Ciphertext, err = o.next.Encrypt(o.nextID, plain, u.Associated)
			clear(plain)
		}
	case DataKey:
		if r.Plaintext, err = random(u.Length); err == nil {
			r.Ciphertext, err = o.key.Encrypt(id, r.Plaintext, u.Associated)
		}
		if u.Hidden || err != nil {
			clear(r.Plaintext)
			r.Plaintext = nil
		}
	case Wrap:
		r.Ciphertext, err = o.key.Wrap(u.Message)
	case Unwrap:
		r.Plaintext, err = o.key.Unwrap(u.Ciphertext)
	case Agree:
		var peer *cryptokey.Public
		if peer, err = cryptokey.ReadPublic(u.Peer, o.facts.Operations); err == nil {
			r.Plaintext, err = o.key.Agree(peer, u.Salt, u.Info, lengthOf(u.Length))
		}
	}
	return r, told(err)
}

// verify tries the versions: which of them signed is not in a signature.
func (o *one) verify(u *Use) (r Result, err error) {
	for _, v := range o.more {
		if v.public != nil {
			err = v.public.Verify(u.Scheme, u.Form, u.Message, u.Signature)
		} else {
			err = v.key.Verify(u.Scheme, u.Form, u.Message, u.Signature)
		}
		if err == nil {
			return Result{Version: v.number, Valid: true}, nil
		}
		if !errors.Is(err, cryptokey.ErrNotVerified) {
			return r, told(err)
		}
	}
	return Result{Version: o.more[0].number}, nil
}

// told is an error of a use as it is answered.
func told(err error) error {
	if errors.Is(err, cryptokey.ErrNotOpened) {
		return errNotOpened
	}
	return keyrow.Told(err)
}

// Bounds of a data key, in bytes.
const (
	leastDataKey = 16
	mostDataKey  = 64
)

func lengthOf(length int) int {
	if length == 0 {
		return 32
	}
	return length
}

func random(length int) ([]byte, error) {
	length = lengthOf(length)
	if length < leastDataKey || length > mostDataKey {
		return nil, chest.Invalid("length", "a data key has %d to %d bytes, and not %d", leastDataKey, mostDataKey, length)
	}
	bytes := make([]byte, length)
	_, _ = rand.Read(bytes) // never fails
	return bytes, nil
}
