package cryptokey

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/subtle"
	"encoding/binary"
	"slices"
)

// paddedIV is the first half of the initial value of RFC 5649, section 3; the second half is the length.
var paddedIV = []byte{0xa6, 0x59, 0x59, 0xa6}

// mostWrapped bounds what is wrapped, in bytes: keys are small, and a megabyte is no key.
const mostWrapped = 64 << 10

// Wrap wraps another key with AES key wrap with padding (RFC 5649). The same key wraps to the same bytes: it needs no nonce.
func (k *Key) Wrap(other []byte) ([]byte, error) {
	if err := k.needWrapping(WrapKey); err != nil {
		return nil, err
	}
	return wrapPadded(k.secret, other)
}

// Unwrap opens what Wrap made; anything else is [ErrNotOpened].
func (k *Key) Unwrap(wrapped []byte) ([]byte, error) {
	if err := k.needWrapping(UnwrapKey); err != nil {
		return nil, err
	}
	return unwrapPadded(k.secret, wrapped)
}

// needWrapping refuses keys that are not for it, and those of an algorithm that has another way ([Key.BringWrapped]).
func (k *Key) needWrapping(o Operations) error {
	if k.kind != AES256 {
		return invalid("key_type", "a key of the type %s is not for AES key wrap; aes-256 is", k.kind)
	}
	return k.need(o)
}

// wrapPadded is RFC 5649, section 4.1.
func wrapPadded(kek, plaintext []byte) ([]byte, error) {
	if len(plaintext) == 0 || len(plaintext) > mostWrapped {
		return nil, invalid("message", "a key to be wrapped has 1 to %d bytes, and not %d", mostWrapped, len(plaintext))
	}
	block, err := aes.NewCipher(kek)
	if err != nil {
		return nil, err
	}
	wrapped := make([]byte, 8+(len(plaintext)+7)/8*8)
	copy(wrapped, paddedIV)
	binary.BigEndian.PutUint32(wrapped[4:], uint32(len(plaintext)))
	copy(wrapped[8:], plaintext)
	wrapBlocks(block, wrapped)
	return wrapped, nil
}

// unwrapPadded is RFC 5649, section 4.2. Which of the checks fails is not told.
func unwrapPadded(kek, wrapped []byte) ([]byte, error) {
	if len(wrapped) < 16 || len(wrapped)%8 != 0 || len(wrapped) > mostWrapped+16 {
		return nil, ErrNotOpened
	}
	block, err := aes.NewCipher(kek)
	if err != nil {
		return nil, err
	}
	opened := slices.Clone(wrapped)
	unwrapBlocks(block, opened)
	key := opened[8:]
	length := int(binary.BigEndian.Uint32(opened[4:]) & 0x7fffffff) // what is longer fails below all the same
	right := subtle.ConstantTimeCompare(opened[:4], paddedIV)
	right &= subtle.ConstantTimeLessOrEq(length, len(key)) & subtle.ConstantTimeLessOrEq(len(key)-7, length)
	var filling byte // up to seven bytes behind the key, all zero
	for i := range 8 {
		at := len(key) - 8 + i
		filling |= key[at] & byte(-subtle.ConstantTimeLessOrEq(length, at))
	}
	right &= subtle.ConstantTimeByteEq(filling, 0)
	if right != 1 {
		clear(opened)
		return nil, ErrNotOpened
	}
	return key[:length], nil
}

// wrapBlocks is the wrapping function W of NIST SP 800-38F, section 6.1, in place: an initial value of 8 bytes and what is wrapped. One
// block is encrypted by itself (RFC 5649, section 4.1); more are, six times over, with a counter that runs through (RFC 3394, section
// 2.2.1).
func wrapBlocks(block cipher.Block, text []byte) {
	if len(text) == aes.BlockSize {
		block.Encrypt(text, text)
		return
	}
	var b [aes.BlockSize]byte
	n := len(text)/8 - 1
	for j := range 6 {
		for i := 1; i <= n; i++ {
			copy(b[:8], text[:8])
			copy(b[8:], text[8*i:])
			block.Encrypt(b[:], b[:])
			binary.BigEndian.PutUint64(text, binary.BigEndian.Uint64(b[:8])^uint64(n*j+i))
			copy(text[8*i:], b[8:])
		}
	}
}

// unwrapBlocks undoes wrapBlocks (RFC 3394, section 2.2.2).
func unwrapBlocks(block cipher.Block, text []byte) {
	if len(text) == aes.BlockSize {
		block.Decrypt(text, text)
		return
	}
	var b [aes.BlockSize]byte
	n := len(text)/8 - 1
	for j := 5; j >= 0; j-- {
		for i := n; i >= 1; i-- {
			binary.BigEndian.PutUint64(b[:8], binary.BigEndian.Uint64(text)^uint64(n*j+i))
			copy(b[8:], text[8*i:])
			block.Decrypt(b[:], b[:])
			copy(text[:8], b[:8])
			copy(text[8*i:], b[8:])
		}
	}
}
