package cryptokey

import (
	"bytes"
	"crypto"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"

	"github.com/go-jose/go-jose/v4"
)

// Bounds of a key that somebody brings, in bytes: of what it comes in, and of the key itself. An RSA key of 4 096 bits takes about 2 400 in
// DER and 3 200 as a JWK; whether the parts of one of 16 384 belong together takes a processor two seconds to find out.
const (
	mostBrought = 16 << 10
	mostKey     = 4 << 10
)

// Bring reads a private or secret key that was made elsewhere: PEM with PKCS #8, SEC 1 (RFC 5915) or PKCS #1 in it, PKCS #8 in DER, or
// a JWK (RFC 7517). The bytes of a symmetric key are brought as a JWK of the kind oct. Nothing of the key is in an error.
//
// Keys that are too weak are refused: RSA below 2 048 bits or with an exponent below 65 537 (NIST SP 800-56B rev. 2, section 6.2), a point
// that is off its curve, a symmetric key of another length than its type has.
func Bring(text []byte, o Operations) (*Key, error) {
	if len(text) > mostBrought {
		return nil, invalid("key", "the key has %d bytes; the most is %d", len(text), mostBrought)
	}
	trimmed := bytes.TrimSpace(text)
	if bytes.HasPrefix(trimmed, []byte("{")) {
		if len(trimmed) > mostKey {
			return nil, errLong
		}
		return bringJWK(trimmed, o)
	}
	der := text
	if block, rest := pem.Decode(trimmed); block != nil {
		switch {
		case len(bytes.TrimSpace(rest)) > 0:
			return nil, invalid("key", "there is something after the key: give one key alone")
		case block.Type == "ENCRYPTED PRIVATE KEY" || block.Headers["DEK-Info"] != "":
			return nil, invalid("key", "the key is encrypted with a passphrase: decrypt it first (openssl pkey -in FILE)")
		case block.Type == "PUBLIC KEY" || block.Type == "CERTIFICATE":
			return nil, invalid("key", "this is a public key or a certificate; bring the private key")
		}
		der = block.Bytes
	}
	if len(der) > mostKey {
		return nil, errLong
	}
	private, err := parseDER(der)
	if err != nil {
		return nil, err
	}
	return brought(private, o)
}

var errLong = invalid("key", "the key is longer than any that is known here: of RSA at most 4096 bits")

func parseDER(der []byte) (crypto.PrivateKey, error) {
	if key, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		return key, nil
	}
	if key, err := x509.ParseECPrivateKey(der); err == nil {
		return key, nil
	}
	if key, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return key, nil
	}
	return nil, invalid("key", "the key is neither PEM, PKCS #8, SEC 1, PKCS #1 nor a JWK, or it is not valid")
}

func brought(private crypto.PrivateKey, o Operations) (*Key, error) {
	kind, err := typeOf(private)
	if err != nil {
		return nil, err
	}
	if err := kind.Check(o); err != nil {
		return nil, err
	}
	return &Key{kind: kind, may: o, private: plain(private)}, nil
}

// typeOf is the type of a private key, if it is good enough for one.
func typeOf(private crypto.PrivateKey) (Type, error) {
	switch key := plain(private).(type) {
	case *rsa.PrivateKey:
		return rsaType(key)
	case *ecdsa.PrivateKey:
		for kind, curve := range curves {
			if key.Curve == curve {
				return kind, nil
			}
		}
		return "", invalid("key", "the curve %s is not one of P-256, P-384 and P-521", key.Params().Name)
	case ed25519.PrivateKey:
		return Ed25519, nil
	case *ecdh.PrivateKey:
		if key.Curve() == ecdh.X25519() {
			return X25519, nil
		}
	}
	return "", invalid("key", "a key of this kind is not known; known are RSA, ECDSA, Ed25519 and X25519")
}

func rsaType(key *rsa.PrivateKey) (Type, error) {
	if key.E < 65537 {
		return "", invalid("key", "the exponent of the RSA key is %d, which is too small; make a key with 65537", key.E)
	}
	for kind, bits := range rsaBits {
		if key.N.BitLen() == bits {
			if key.Validate() != nil {
				return "", invalid("key", "the parts of the RSA key do not belong together")
			}
			return kind, nil
		}
	}
	return "", invalid("key", "the RSA key has %d bits; allowed are 2048, 3072 and 4096", key.N.BitLen())
}

func bringJWK(text []byte, o Operations) (*Key, error) {
	if hybrid, is := isHybridJWK(text); is {
		return hybrid.bring(o)
	}
	var jwk jose.JSONWebKey
	if err := jwk.UnmarshalJSON(text); err != nil {
		return nil, invalid("key", "the JWK is not valid")
	}
	secret, symmetric := jwk.Key.([]byte)
	if !symmetric {
		if jwk.IsPublic() {
			return nil, invalid("key", "this is a public key; bring the private key")
		}
		return brought(jwk.Key, o)
	}
	kind := AES256
	if o&Signing != 0 { // an oct key says how long it is, and its operations what it is
		kind = HMAC256
		for t, size := range secretSize {
			if t != AES256 && size == len(secret) {
				kind = t
			}
		}
	}
	return Open(kind, o, secret)
}

// BringWrapped reads a key that was wrapped for its way here, so that no machine on the way sees it: an AES-256 key encrypted to this key
// by RSA-OAEP with SHA-256 (RFC 8017, section 7.1), and behind it the PKCS #8 form, or the bytes of a symmetric key, wrapped under that by
// RFC 5649. It is the mechanism that PKCS #11 calls CKM_RSA_AES_KEY_WRAP; openssl and hardware modules make it. A type is named for a
// symmetric key, whose bytes do not say what they are; it is empty for any other. What does not open is [ErrNotOpened].
func (k *Key) BringWrapped(wrapped []byte, t Type, o Operations) (*Key, error) {
	if err := k.need(UnwrapKey); err != nil {
		return nil, err
	}
	private, is := k.private.(*rsa.PrivateKey)
	if !is {
		return nil, invalid("key_type", "a key of the type %s opens no wrapped keys; an RSA key does", k.kind)
	}
	if len(wrapped) <= private.Size() || len(wrapped) > mostBrought {
		return nil, ErrNotOpened
	}
	kek, err := rsa.DecryptOAEP(crypto.SHA256.New(), nil, private, wrapped[:private.Size()], nil)
	if err != nil || len(kek) != 32 {
		return nil, ErrNotOpened
	}
	defer clear(kek)
	opened, err := unwrapPadded(kek, wrapped[private.Size():])
	if err != nil {
		return nil, err
	}
	defer clear(opened)
	if secretSize[t] != 0 {
		return Open(t, o, opened)
	}
	if len(opened) > mostKey {
		return nil, errLong
	}
	key, err := x509.ParsePKCS8PrivateKey(opened)
	if err != nil {
		return nil, invalid("key", "what was wrapped is not PKCS #8; name the type of a symmetric key")
	}
	return brought(key, o)
}
