package cryptokey

import (
	"crypto/ecdh"
	"crypto/hkdf"
	"crypto/sha256"
)

// Agree derives bytes that the holder of the peer's private key can derive, too: X25519 (RFC 7748, section 6.1) and then HKDF-SHA256 (RFC
// 5869) over the shared secret, because that is not uniformly random. Info says what the bytes are for; salt may be empty. A peer's key of
// small order, with which the secret would be the same for everybody, is an [*InvalidError].
func (k *Key) Agree(peer *Public, salt, info []byte, length int) ([]byte, error) {
	if err := k.need(DeriveBits); err != nil {
		return nil, err
	}
	theirs, is := peer.key.(*ecdh.PublicKey)
	if !is {
		return nil, invalid("peer", "the peer's key is of the type %s, and this one agrees with %s only", peer.kind, k.kind)
	}
	if length < 16 || length > 255*sha256.Size { // RFC 5869, section 2.3; less than 128 bits is no key
		return nil, invalid("length", "16 to %d bytes can be derived, and not %d", 255*sha256.Size, length)
	}
	shared, err := k.private.(*ecdh.PrivateKey).ECDH(theirs)
	if err != nil {
		return nil, invalid("peer", "the peer's key is of small order, so that everybody would know the secret")
	}
	defer clear(shared)
	return hkdf.Key(sha256.New, shared, salt, string(info), length)
}
