// Package envelope turns a secret's bytes into bytes that are safe to store, and back.
//
// Keys are nested, so that each can be replaced without touching what is below it:
//
//	unlock material   a passphrase, a key file or shares, held by people
//	  opens the unlock key       one a chest, in memory only while it is unlocked
//	    wraps the root key       one at a time, in memory while the chest is unlocked
//	      wraps a drawer key     one a drawer, some of them under a master key as well
//	        wraps a data key     one a version
//	          encrypts           that version's bytes
//
// Each unlock method has the unlock key under its own material, so that methods come and go without the others, and the root
// key is rotated without anybody's material but one: what wraps it stays.
//
// Every wrapping and encryption is AES-256-GCM (NIST SP 800-38D) with a random 96-bit nonce. No key encrypts more than
// a chest's worth of drawer keys or a drawer's worth of data keys, far from the 2^32 messages at which random nonces
// become a concern, and a data key encrypts once.
//
// The associated data names the [Place] a ciphertext belongs to. Bytes copied to another row, version, drawer or chest
// therefore do not open, and neither does a wrapped key presented as a value.
//
// Keys for other purposes (authenticating rows, wrapping, the certificate authority) are derived from the root key with
// HKDF-SHA256 (RFC 5869), one label each, so that none can stand in for another.
package envelope

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"sync"
)

// KeySize is the size of every symmetric key, in bytes.
const KeySize = 32

// format is the first byte of everything this package seals. 1: AES-256-GCM, 12-byte nonce first, 16-byte tag last.
const format = 1

// Overhead is how many bytes longer a sealed text is than what went in.
const Overhead = 1 + 12 + 16

// ErrNotAuthentic says that sealed bytes were changed, cut, moved from another place or sealed under another key. It
// does not say which: that would help only an attacker.
var ErrNotAuthentic = errors.New("sealed bytes do not belong here or were changed")

// Place says where sealed bytes belong. Fields that do not apply stay empty.
type Place struct {
	Purpose string // what the bytes are: one of the purposes below
	Chest   string
	Drawer  string
	Item    string
	Kind    string // the item's kind
	Number  int    // the version of the item, or of the drawer key
}

// Purposes keep kinds of sealed bytes apart.
const (
	PurposeUnlockKey = "unlock key"
	PurposeRootKey   = "root key"
	PurposeBase      = "base"
	PurposeDrawerKey = "drawer key"
	PurposeDataKey   = "data key"
	PurposeContent   = "content"
	PurposeAuthority = "authority key"
	PurposeShare     = "share"
	PurposeBackup    = "backup"
	PurposeMaster    = "master key"
	PurposeUnder     = "drawer key under a master key"
)

// associatedData writes each field with its length in front, so that no two places share an encoding.
func (p Place) associatedData() []byte {
	data := append(make([]byte, 0, 160), "tansu\x01"...)
	for _, field := range [...]string{p.Purpose, p.Chest, p.Drawer, p.Item, p.Kind} {
		data = binary.BigEndian.AppendUint32(data, uint32(len(field)))
		data = append(data, field...)
	}
	return binary.BigEndian.AppendUint64(data, uint64(p.Number))
}

// Key is a 256-bit AES-GCM key bound to one job. It prints as nothing useful and is safe for concurrent use, also with Erase: what has
// begun with it ends with it, and afterwards it opens nothing.
type Key struct {
	mu    sync.RWMutex // held for reading while the key is used, for writing while it is erased
	aead  cipher.AEAD  // nil once it is erased
	bytes [KeySize]byte
}

// ErrErased says that a key was erased, because the chest was locked or what it was for was destroyed.
var ErrErased = errors.New("the key was erased")

// NewKey makes a random key from the operating system's generator.
func NewKey() *Key {
	var secret [KeySize]byte
	_, _ = rand.Read(secret[:]) // never fails: crypto/rand ends the program rather than return an error
	return newKey(secret)
}

func newKey(secret [KeySize]byte) *Key {
	block, err := aes.NewCipher(secret[:])
	if err != nil {
		panic(err) // only a wrong key size can fail, and the size is fixed by the type
	}
	// The nonce is drawn inside the cipher, the form that FIPS 140-3 mode accepts.
	aead, err := cipher.NewGCMWithRandomNonce(block)
	if err != nil {
		panic(err)
	}
	return &Key{aead: aead, bytes: secret}
}

// keyOf makes a key of opened bytes, which it erases.
func keyOf(opened []byte) (*Key, error) {
	if len(opened) != KeySize {
		return nil, ErrNotAuthentic
	}
	defer clear(opened)
	return newKey([KeySize]byte(opened)), nil
}

// String hides the key.
func (k *Key) String() string { return "[key]" }

// Format hides the key in every verb.
func (k *Key) Format(f fmt.State, _ rune) { _, _ = f.Write([]byte("[key]")) }

// Seal encrypts plaintext for a place. The result is Overhead bytes longer.
func (k *Key) Seal(place Place, plaintext []byte) []byte {
	k.mu.RLock()
	defer k.mu.RUnlock()
	aead := k.aead
	if aead == nil {
		aead = NewKey().aead // the chest is locked: what is sealed now is not stored, and nobody has the key to it
	}
	out := make([]byte, 1, Overhead+len(plaintext))
	out[0] = format
	return aead.Seal(out, nil, plaintext, place.associatedData())
}

// Open decrypts bytes that Seal made for the same place with the same key; anything else is [ErrNotAuthentic].
func (k *Key) Open(place Place, sealed []byte) ([]byte, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if k.aead == nil {
		return nil, ErrErased
	}
	return open(k.aead, place.associatedData(), sealed)
}

func open(aead cipher.AEAD, associated, sealed []byte) ([]byte, error) {
	if len(sealed) < Overhead || sealed[0] != format {
		return nil, ErrNotAuthentic
	}
	plaintext, err := aead.Open(nil, nil, sealed[1:], associated)
	if err != nil {
		return nil, ErrNotAuthentic
	}
	return plaintext, nil
}

// Wrap seals another key.
func (k *Key) Wrap(place Place, other *Key) []byte { return k.Seal(place, other.bytes[:]) }

// Unwrap opens a key that Wrap sealed.
func (k *Key) Unwrap(place Place, wrapped []byte) (*Key, error) {
	opened, err := k.Open(place, wrapped)
	if err != nil {
		return nil, err
	}
	return keyOf(opened)
}

// Erase overwrites the key's bytes, once nobody is using them, and lets go of the cipher's expanded key, which stays until it is
// collected.
func (k *Key) Erase() {
	k.mu.Lock()
	defer k.mu.Unlock()
	clear(k.bytes[:])
	k.aead = nil
}

// Root is the key that everything in a chest hangs on, together with the keys derived from it.
//
// A root key can be rotated: another one takes its place. What must outlast that is derived from the base, which is the first root key
// that the chest had: whose signature checkpoints have, the keys of hosts, and what authenticates items and versions, of which there are
// too many to do it all anew. The base is sealed under the root key of the day. See [Root.Turned].
//
// It is safe for concurrent use, also with Erase: afterwards it authenticates, signs and opens nothing.
type Root struct {
	mu       sync.RWMutex // held for reading while a key is used, for writing while they are erased
	erased   bool
	chest    string
	root     *Key
	base     *Key
	wrapping *Key
	rows     *macKey
	tally    *macKey
	many     struct{ rows, tally *macKey } // of items and versions
	marks    *macKey
	likes    *macKey
	backups  *Key
	hosts    [KeySize]byte
	trail    ed25519.PrivateKey
	deliver  ed25519.PrivateKey
}

// NewRoot makes the root key of a new chest.
func NewRoot(chest string) *Root {
	first := NewKey()
	return rootOf(chest, first, newKey(first.bytes))
}

func rootOf(chest string, root, base *Key) *Root {
	r := &Root{
		chest:    chest,
		root:     root,
		base:     base,
		wrapping: newKey(derive(root.bytes[:], chest, "wrap keys")),
		rows:     &macKey{bytes: derive(root.bytes[:], chest, "authenticate rows")},
		tally:    &macKey{bytes: derive(root.bytes[:], chest, "tally rows")},
		marks:    &macKey{bytes: derive(base.bytes[:], chest, "device marks")},
		likes:    &macKey{bytes: derive(base.bytes[:], chest, "likeness")},
		backups:  newKey(derive(base.bytes[:], chest, "backup keys")),
		hosts:    derive(base.bytes[:], chest, "host keys"),
		trail:    signingKey(derive(base.bytes[:], chest, "sign checkpoints")),
		deliver:  signingKey(derive(base.bytes[:], chest, "sign deliveries")),
	}
	r.many.rows = &macKey{bytes: derive(base.bytes[:], chest, "authenticate rows")}
	r.many.tally = &macKey{bytes: derive(base.bytes[:], chest, "tally rows")}
	return r
}

// Turned makes another root key for the same chest. What the old one wraps, and the rows that it authenticates, are to be wrapped and
// authenticated anew; the old one opens nothing of that any more.
func (r *Root) Turned() *Root {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return rootOf(r.chest, NewKey(), newKey(r.base.bytes))
}

// Copy is the same root key with a life of its own.
func (r *Root) Copy() *Root {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return rootOf(r.chest, newKey(r.root.bytes), newKey(r.base.bytes))
}

// SealedBase is the base under the root key, for storage; nil while it is the root key itself.
func (r *Root) SealedBase() []byte {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if r.root.bytes == r.base.bytes {
		return nil
	}
	return r.wrapping.Wrap(Place{Purpose: PurposeBase, Chest: r.chest}, r.base)
}

// withBase is the root of a key that was opened, with its base as it is stored.
func withBase(chest string, root *Key, sealedBase []byte) (*Root, error) {
	if len(sealedBase) == 0 {
		return rootOf(chest, root, newKey(root.bytes)), nil
	}
	wrapping := newKey(derive(root.bytes[:], chest, "wrap keys"))
	defer wrapping.Erase()
	base, err := wrapping.Unwrap(Place{Purpose: PurposeBase, Chest: chest}, sealedBase)
	if err != nil {
		return nil, fmt.Errorf("open the base: %w", err)
	}
	return rootOf(chest, root, base), nil
}

func signingKey(seed [KeySize]byte) ed25519.PrivateKey { return ed25519.NewKeyFromSeed(seed[:]) }

// derive is HKDF-SHA256 (RFC 5869) with the chest as salt and the purpose as info.
func derive(secret []byte, chest, purpose string) [KeySize]byte {
	key, err := hkdf.Key(sha256.New, secret, []byte(chest), "tansu 1 "+purpose, KeySize)
	if err != nil {
		panic(err) // only an output longer than 255 hashes can fail (RFC 5869, section 2.3)
	}
	return [KeySize]byte(key)
}

// Chest returns the chest this root belongs to.
func (r *Root) Chest() string { return r.chest }

// Erase overwrites the keys, when the chest is locked.
func (r *Root) Erase() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.erased = true
	for _, key := range []*Key{r.root, r.base, r.wrapping, r.backups} {
		key.Erase()
	}
	for _, key := range []*macKey{r.rows, r.tally, r.many.rows, r.many.tally} {
		key.erase()
	}
	r.marks.erase()
	r.likes.erase()
	clear(r.hosts[:])
	clear(r.trail)
	clear(r.deliver)
}

// WrapDrawerKey seals a drawer's key for storage.
func (r *Root) WrapDrawerKey(drawer string, number int, key *Key) []byte {
	return r.wrapping.Wrap(Place{Purpose: PurposeDrawerKey, Chest: r.chest, Drawer: drawer, Number: number}, key)
}

// UnwrapDrawerKey opens what WrapDrawerKey sealed for the same drawer and number.
func (r *Root) UnwrapDrawerKey(drawer string, number int, wrapped []byte) (*Key, error) {
	return r.wrapping.Unwrap(Place{Purpose: PurposeDrawerKey, Chest: r.chest, Drawer: drawer, Number: number}, wrapped)
}

// RewrapDrawerKey takes what the root key wrapped over to the next one. What is under a master key stays under it: that key is not needed.
func (r *Root) RewrapDrawerKey(next *Root, drawer string, number int, wrapped []byte) ([]byte, error) {
	place := Place{Purpose: PurposeDrawerKey, Chest: r.chest, Drawer: drawer, Number: number}
	inside, err := r.wrapping.Open(place, wrapped)
	if err != nil {
		return nil, err
	}
	defer clear(inside)
	return next.wrapping.Seal(place, inside), nil
}

// SealAuthority seals the private key of the chest's certificate authority.
func (r *Root) SealAuthority(key []byte) []byte {
	return r.wrapping.Seal(Place{Purpose: PurposeAuthority, Chest: r.chest}, key)
}

// OpenAuthority opens what SealAuthority sealed.
func (r *Root) OpenAuthority(sealed []byte) ([]byte, error) {
	return r.wrapping.Open(Place{Purpose: PurposeAuthority, Chest: r.chest}, sealed)
}

// SealShare seals a share of a slot's secret until its holder takes it.
func (r *Root) SealShare(slot string, number int, share []byte) []byte {
	return r.wrapping.Seal(Place{Purpose: PurposeShare, Chest: r.chest, Item: slot, Number: number}, share)
}

// OpenShare opens what SealShare sealed.
func (r *Root) OpenShare(slot string, number int, sealed []byte) ([]byte, error) {
	return r.wrapping.Open(Place{Purpose: PurposeShare, Chest: r.chest, Item: slot, Number: number}, sealed)
}

// SealBackupKey seals the key of a backup, for its rehearsal, also after the root key was rotated.
func (r *Root) SealBackupKey(number int, key []byte) []byte {
	return r.backups.Seal(Place{Purpose: PurposeBackup, Chest: r.chest, Number: number}, key)
}

// OpenBackupKey opens what SealBackupKey sealed.
func (r *Root) OpenBackupKey(number int, sealed []byte) ([]byte, error) {
	return r.backups.Open(Place{Purpose: PurposeBackup, Chest: r.chest, Number: number}, sealed)
}

// RowMAC authenticates the content of a stored row (HMAC-SHA256, RFC 2104).
func (r *Root) RowMAC(content []byte) [sha256.Size]byte { return r.mac(r.rows, content) }

// RowTally is a row's share in the tally of all rows, under a key of its own so that the stored MACs do not give it away.
func (r *Root) RowTally(content []byte) [sha256.Size]byte { return r.mac(r.tally, content) }

// ManyMAC and ManyTally are RowMAC and RowTally for rows of which there may be a million: items and versions. Another root key leaves
// them as they are.
func (r *Root) ManyMAC(content []byte) [sha256.Size]byte { return r.mac(r.many.rows, content) }

// ManyTally is RowTally for items and versions.
func (r *Root) ManyTally(content []byte) [sha256.Size]byte { return r.mac(r.many.tally, content) }

// HostKey is the key under which a host that signs in with a credential may keep values on its disk. It is the same each time for
// that credential, and never for another one.
func (r *Root) HostKey(credential string) [KeySize]byte {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if r.erased {
		return NewKey().bytes
	}
	return derive(r.hosts[:], r.chest, "host key "+credential)
}

// DeviceMark authenticates the mark of a device from which a person has signed in before.
func (r *Root) DeviceMark(content []byte) [sha256.Size]byte { return r.mac(r.marks, content) }

// TrailKey signs checkpoints of the trail (Ed25519, RFC 8032). Its public half may be kept by anyone. It is a copy, for its caller to
// clear; after Erase it is another key, which signs nothing that verifies.
func (r *Root) TrailKey() ed25519.PrivateKey { return r.signing(r.trail) }

// DeliveryKey signs what is passed on to others (Ed25519), as TrailKey does.
func (r *Root) DeliveryKey() ed25519.PrivateKey { return r.signing(r.deliver) }

func (r *Root) signing(key ed25519.PrivateKey) ed25519.PrivateKey {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if r.erased {
		return signingKey(NewKey().bytes)
	}
	return bytes.Clone(key)
}

// mac authenticates content under one of the keys; after Erase, under one that nobody has, so that nothing verifies.
func (r *Root) mac(key *macKey, content []byte) [sha256.Size]byte {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if r.erased {
		key = &macKey{bytes: NewKey().bytes}
	}
	return key.mac(content)
}

// macKey is a key of HMAC-SHA256 (RFC 2104). Hash states that have absorbed the key are reused: most inputs are short, and absorbing
// the key is half of the work. Safe for concurrent use, except erase.
type macKey struct {
	bytes [KeySize]byte
	ready sync.Pool // of hash.Hash
}

func (k *macKey) mac(content []byte) (sum [sha256.Size]byte) {
	h, is := k.ready.Get().(hash.Hash)
	if !is {
		h = hmac.New(sha256.New, k.bytes[:])
	}
	h.Reset()
	h.Write(content)
	h.Sum(sum[:0])
	k.ready.Put(h)
	return sum
}

// erase overwrites the key and drops the hash states that have absorbed it.
func (k *macKey) erase() {
	clear(k.bytes[:])
	k.ready = sync.Pool{}
}

// Likeness is ten bits of a keyed fingerprint of a value, plus one. Equal values have the same likeness, and so does every thousandth
// other pair, so that a copy of the database file reveals neither the value nor that two values are equal.
func (r *Root) Likeness(content []byte) int {
	sum := r.mac(r.likes, content)
	return 1 + int(sum[0])<<2 + int(sum[1])>>6
}

// SealedVersion is what is stored of one version: its data key wrapped by the drawer key, and its bytes under the data key.
type SealedVersion struct {
	WrappedKey []byte
	Ciphertext []byte
}

// SealVersion encrypts a version's bytes under a new data key. The place needs chest, drawer, item, kind and number.
func SealVersion(drawerKey *Key, place Place, content []byte) SealedVersion {
	dataKey := NewKey()
	defer dataKey.Erase()
	keyPlace, contentPlace := versionPlaces(place)
	return SealedVersion{
		WrappedKey: drawerKey.Wrap(keyPlace, dataKey),
		Ciphertext: dataKey.Seal(contentPlace, content),
	}
}

// OpenVersion decrypts what SealVersion made for the same place; anything else is [ErrNotAuthentic].
func OpenVersion(drawerKey *Key, place Place, sealed SealedVersion) ([]byte, error) {
	opener, err := NewOpener(drawerKey, place, sealed.WrappedKey)
	if err != nil {
		return nil, err
	}
	return opener.Open(sealed.Ciphertext)
}

// Opener decrypts the bytes of one version, as often as they are asked for. It holds the version's data key, and is safe
// for concurrent use.
type Opener struct {
	aead       cipher.AEAD
	associated []byte
}

// NewOpener opens the wrapped data key of the version at a place.
func NewOpener(drawerKey *Key, place Place, wrapped []byte) (*Opener, error) {
	keyPlace, contentPlace := versionPlaces(place)
	dataKey, err := drawerKey.Unwrap(keyPlace, wrapped)
	if err != nil {
		return nil, err
	}
	defer dataKey.Erase()
	return &Opener{aead: dataKey.aead, associated: contentPlace.associatedData()}, nil
}

// Open decrypts what SealVersion made of the version's bytes; anything else is [ErrNotAuthentic].
func (o *Opener) Open(ciphertext []byte) ([]byte, error) {
	return open(o.aead, o.associated, ciphertext)
}

// Format hides the key in every verb.
func (o *Opener) Format(f fmt.State, _ rune) { _, _ = f.Write([]byte("[key]")) }

// RewrapVersion wraps a version's data key under another key of its drawer. What it encrypts stays as it is.
func RewrapVersion(from, to *Key, place Place, wrapped []byte) ([]byte, error) {
	keyPlace, _ := versionPlaces(place)
	dataKey, err := from.Unwrap(keyPlace, wrapped)
	if err != nil {
		return nil, err
	}
	defer dataKey.Erase()
	return to.Wrap(keyPlace, dataKey), nil
}

func versionPlaces(place Place) (key, content Place) {
	key, content = place, place
	key.Purpose, content.Purpose = PurposeDataKey, PurposeContent
	return key, content
}
