// Package cryptokey is what a cryptographic key can do: be made or brought along, sign and verify, authenticate, encrypt and decrypt, wrap
// other keys, and agree on one.
//
// A key has a [Type], which fixes its algorithm and length, and operations: what it may be used for, by the names of RFC 7517, section 4.3.
// One pair is for signatures or for encryption and not for both (NIST SP 800-57 part 1, rev. 5, section 5.2), and a key does nothing that
// is not among its operations, whoever asks. Everything else about an algorithm (hash, padding, salt, nonce) follows from the key and a
// [Scheme], so that nobody who uses one has to choose it:
//
//	key, err := cryptokey.New(cryptokey.Ed25519, cryptokey.Signing)
//	signature, err := key.Sign(cryptokey.SchemeEd25519, message)
//	err = key.Public().Verify(cryptokey.SchemeEd25519, message, signature)
//
// What is encrypted is a JWE (RFC 7516), which names the key and version that it was encrypted under. A ciphertext that does not open is
// [ErrNotOpened], and nothing else is said about it: not whether the key, the associated data or a byte in the middle was wrong.
//
// The package does no I/O. Keys are safe for concurrent use. They are never printed: whatever they are formatted with, it is their type.
package cryptokey

import (
	"bytes"
	"crypto"
	"crypto/cipher"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/hpke"
	"crypto/rand"
	"crypto/rsa"
	"crypto/subtle"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
)

// Type is an algorithm and a length.
type Type string

// The types.
const (
	AES256    Type = "aes-256"      // AES in Galois/Counter Mode (NIST SP 800-38D), and key wrap (RFC 3394, RFC 5649)
	HMAC256   Type = "hmac-sha-256" // HMAC (RFC 2104) with a key as long as the hash
	HMAC384   Type = "hmac-sha-384"
	HMAC512   Type = "hmac-sha-512"
	RSA2048   Type = "rsa-2048" // RSA (RFC 8017): PSS and PKCS #1 v1.5 signatures, or OAEP encryption
	RSA3072   Type = "rsa-3072"
	RSA4096   Type = "rsa-4096"
	ECDSAP256 Type = "ecdsa-p256" // ECDSA (NIST FIPS 186-5)
	ECDSAP384 Type = "ecdsa-p384"
	ECDSAP521 Type = "ecdsa-p521"
	Ed25519   Type = "ed25519"           // EdDSA (RFC 8032)
	X25519    Type = "x25519"            // key agreement (RFC 7748)
	Hybrid    Type = "ml-kem-768-x25519" // encryption by HPKE (RFC 9180) with a KEM that quantum computers do not break
)

// Operations are what a key may be used for, as a set.
type Operations uint8

// The operations, in the order in which they are written.
const (
	Sign Operations = 1 << iota // also to make a MAC
	Verify
	Encrypt
	Decrypt
	WrapKey
	UnwrapKey
	DeriveBits
)

// What a key is usually made for.
const (
	Signing    = Sign | Verify
	Encryption = Encrypt | Decrypt
	Wrapping   = WrapKey | UnwrapKey
	Agreement  = DeriveBits
)

// operationNames are those of RFC 7517, section 4.3.
var operationNames = []string{"sign", "verify", "encrypt", "decrypt", "wrapKey", "unwrapKey", "deriveBits"}

// Names lists the operations as RFC 7517 writes them.
func (o Operations) Names() (names []string) {
	for i, name := range operationNames {
		if o&(1<<i) != 0 {
			names = append(names, name)
		}
	}
	return names
}

func (o Operations) String() string { return strings.Join(o.Names(), ", ") }

// ParseOperations reads names as [Operations.Names] writes them.
func ParseOperations(names []string) (o Operations, err error) {
	for _, name := range names {
		i := slices.Index(operationNames, name)
		if i < 0 {
			return 0, invalid("key_ops", "%.40q is not an operation of a key; they are %s", name, strings.Join(operationNames, ", "))
		}
		o |= 1 << i
	}
	return o, nil
}

// Facts are what somebody who chooses a type should know.
type Facts struct {
	Type       Type
	About      string       // what it is good for, in a sentence
	Operations []Operations // the sets of which a key's operations are a part of one
	Approved   bool         // whether FIPS 140-3 mode allows the algorithm
	Public     bool         // whether it has a public half
}

var all = []Facts{
	{AES256, "Encrypts data and wraps keys. The usual choice where the same chest encrypts and decrypts.", []Operations{Encryption, Wrapping},
		true, false},
	{HMAC256, "Authenticates messages between parties that share it, such as webhooks and JWTs by HS256.", []Operations{Signing}, true, false},
	{HMAC384, "Like hmac-sha-256, for HS384.", []Operations{Signing}, true, false},
	{HMAC512, "Like hmac-sha-256, for HS512.", []Operations{Signing}, true, false},
	{Ed25519, "Signs. The usual choice for signatures: short, fast, and nothing to choose wrongly.", []Operations{Signing}, true, true},
	{ECDSAP256, "Signs, where peers do not know Ed25519: certificates, ES256.", []Operations{Signing}, true, true},
	{ECDSAP384, "Like ecdsa-p256, where policy asks for 192 bits of strength: ES384.", []Operations{Signing}, true, true},
	{ECDSAP521, "Like ecdsa-p256, where policy asks for 256 bits of strength: ES512.", []Operations{Signing}, true, true},
	{RSA2048, "Signs or decrypts for old peers. 112 bits of strength: not beyond 2030 (NIST SP 800-57 part 1).",
		[]Operations{Signing, Encryption | Wrapping}, true, true},
	{RSA3072, "Signs or decrypts for peers that know RSA only. 128 bits of strength.",
		[]Operations{Signing, Encryption | Wrapping}, true, true},
	{RSA4096, "Like rsa-3072, and four times slower to sign than rsa-2048.", []Operations{Signing, Encryption | Wrapping}, true, true},
	{Hybrid, "Decrypts what others encrypt to its public half, and what has to stay closed when there are quantum computers.",
		[]Operations{Encryption}, true, true},
	{X25519, "Agrees on a shared secret with a peer's public key.", []Operations{Agreement}, false, true},
}

// Types lists what is known of all types, those that are usually right first.
func Types() []Facts { return slices.Clone(all) }

// Facts returns what is known of a type; false for none.
func (t Type) Facts() (Facts, bool) {
	i := slices.IndexFunc(all, func(f Facts) bool { return f.Type == t })
	if i < 0 {
		return Facts{}, false
	}
	return all[i], true
}

// Check reports whether a key of a type may have some operations; the error is an [*InvalidError].
func (t Type) Check(o Operations) error {
	facts, known := t.Facts()
	if !known {
		var names []string
		for _, f := range all {
			names = append(names, string(f.Type))
		}
		return invalid("key_type", "%.40q is not a type of key; they are %s", string(t), strings.Join(names, ", "))
	}
	if o == 0 {
		return invalid("key_ops", "a key has at least one operation")
	}
	var sets []string
	for _, set := range facts.Operations {
		if o&^set == 0 {
			return nil
		}
		sets = append(sets, set.String())
	}
	return invalid("key_ops", "a key of the type %s is for %s, and not for %s", t, strings.Join(sets, ", or for "), o)
}

// InvalidError says which part of a request cannot be accepted, and what could.
type InvalidError struct {
	Field string // the name of the part: "key_type", "key_ops", "key", "scheme", "message" or "signature"
	Text  string
}

func (e *InvalidError) Error() string { return e.Text }

func invalid(field, format string, arguments ...any) error {
	return &InvalidError{Field: field, Text: fmt.Sprintf(format, arguments...)}
}

// Errors about keys.
var (
	// ErrNotOpened says that a ciphertext or a wrapped key does not open, and nothing more: the reason would help only an attacker.
	ErrNotOpened = errors.New("it cannot be decrypted with this key")
	// ErrNotVerified says that a signature or a MAC is not that of the message under this key.
	ErrNotVerified = errors.New("the signature is not of this message by this key")
)

// Key is a secret or private key with what it may be used for. The zero Key can do nothing.
type Key struct {
	kind    Type
	may     Operations
	secret  []byte // of a symmetric key
	private crypto.PrivateKey

	once    sync.Once // guards what is worked out of an aes-256 key
	aead    cipher.AEAD
	aeadErr error
}

// String and GoString print the type, whatever the verb: a key is not printed.
func (k *Key) String() string { return "key of the type " + string(k.kind) }

// GoString is String.
func (k *Key) GoString() string { return k.String() }

// Type returns the key's type, and Operations what it may be used for.
func (k *Key) Type() Type { return k.kind }

// Operations returns what the key may be used for.
func (k *Key) Operations() Operations { return k.may }

// New makes a random key from the operating system's generator.
func New(t Type, o Operations) (*Key, error) {
	if err := t.Check(o); err != nil {
		return nil, err
	}
	k := &Key{kind: t, may: o}
	var err error
	switch t {
	case AES256, HMAC256, HMAC384, HMAC512:
		k.secret = make([]byte, secretSize[t])
		_, _ = rand.Read(k.secret) // never fails: crypto/rand ends the program rather than return an error
	case RSA2048, RSA3072, RSA4096:
		k.private, err = rsa.GenerateKey(rand.Reader, rsaBits[t])
	case ECDSAP256, ECDSAP384, ECDSAP521:
		k.private, err = ecdsa.GenerateKey(curves[t], rand.Reader)
	case Ed25519:
		_, k.private, err = ed25519.GenerateKey(rand.Reader)
	case X25519:
		k.private, err = ecdh.X25519().GenerateKey(rand.Reader)
	case Hybrid:
		kem, _, _ := hybridSuite()
		k.private, err = kem.GenerateKey()
	}
	if err != nil {
		return nil, fmt.Errorf("make a key: %w", err)
	}
	return k, nil
}

var (
	secretSize = map[Type]int{AES256: 32, HMAC256: 32, HMAC384: 48, HMAC512: 64} // bytes
	rsaBits    = map[Type]int{RSA2048: 2048, RSA3072: 3072, RSA4096: 4096}
	curves     = map[Type]elliptic.Curve{ECDSAP256: elliptic.P256(), ECDSAP384: elliptic.P384(), ECDSAP521: elliptic.P521()}
)

// Stored returns the key as it is stored, to be sealed: the bytes of a symmetric key, the seed of a hybrid one, PKCS #8 (RFC 5958, DER) of
// any other. They are the caller's, to clear.
func (k *Key) Stored() ([]byte, error) {
	if k.secret != nil {
		return slices.Clone(k.secret), nil
	}
	if hybrid, is := k.private.(hpke.PrivateKey); is {
		return hybrid.Bytes()
	}
	return x509.MarshalPKCS8PrivateKey(k.private)
}

// Given is what [Key.Stored] returned as it is given to whoever may have the key: the bytes of a symmetric key, PEM of PKCS #8 (RFC 7468,
// section 10) of any other, and a JWK of a hybrid one, which has no form in PEM yet.
func Given(t Type, stored []byte) ([]byte, error) {
	if _, known := t.Facts(); !known {
		return nil, invalid("key_type", "%.40q is not a type of key", string(t))
	}
	if secretSize[t] != 0 {
		return slices.Clone(stored), nil
	}
	if t == Hybrid {
		return givenHybrid(stored)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: stored}), nil
}

// Open makes a key again of what [Key.Stored] returned, with the same type and operations.
func Open(t Type, o Operations, stored []byte) (*Key, error) {
	if err := t.Check(o); err != nil {
		return nil, err
	}
	k := &Key{kind: t, may: o}
	if size := secretSize[t]; size != 0 {
		if len(stored) != size {
			return nil, invalid("key", "a key of the type %s has %d bytes, and not %d", t, size, len(stored))
		}
		k.secret = slices.Clone(stored)
		return k, nil
	}
	if t == Hybrid {
		return openHybrid(stored, o)
	}
	private, err := x509.ParsePKCS8PrivateKey(stored)
	if err != nil {
		return nil, invalid("key", "the key is not PKCS #8 of a kind that is known")
	}
	kind, err := typeOf(private)
	if err != nil {
		return nil, err
	}
	if kind != t {
		return nil, invalid("key", "the key is of the type %s, and not %s", kind, t)
	}
	k.private = plain(private)
	return k, nil
}

// plain is a private key in the one form that is used here.
func plain(private crypto.PrivateKey) crypto.PrivateKey {
	if pointer, is := private.(*ed25519.PrivateKey); is {
		return *pointer
	}
	return private
}

// Equal reports whether two keys are the same, in constant time. What they may be used for does not count.
func (k *Key) Equal(other *Key) bool {
	if k.kind != other.kind {
		return false
	}
	if k.secret != nil {
		return subtle.ConstantTimeCompare(k.secret, other.secret) == 1
	}
	if hybrid, is := k.private.(hpke.PrivateKey); is { // the public half follows from the seed
		return bytes.Equal(hybrid.PublicKey().Bytes(), other.private.(hpke.PrivateKey).PublicKey().Bytes())
	}
	private, comparable := k.private.(interface{ Equal(crypto.PrivateKey) bool })
	return comparable && private.Equal(other.private)
}

// need refuses an operation that the key is not for.
func (k *Key) need(o Operations) error {
	if k.may&o == 0 {
		return invalid("key_ops", "this key is for %s, and not for %s", k.may, o)
	}
	return nil
}
