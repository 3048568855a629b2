package cryptokey

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	_ "crypto/sha256" // the hashes of the schemes
	_ "crypto/sha512"
	"slices"
	"strings"
)

// Scheme is a way to sign or to authenticate, by the name that JOSE has for it (RFC 7518, section 3.1; RFC 9864).
type Scheme string

// The schemes.
const (
	SchemePS256   Scheme = "PS256" // RSASSA-PSS (RFC 8017, section 8.1), with a salt as long as the hash
	SchemePS384   Scheme = "PS384"
	SchemePS512   Scheme = "PS512"
	SchemeRS256   Scheme = "RS256" // RSASSA-PKCS1-v1_5 (RFC 8017, section 8.2), for old peers
	SchemeRS384   Scheme = "RS384"
	SchemeRS512   Scheme = "RS512"
	SchemeES256   Scheme = "ES256" // ECDSA on P-256 with SHA-256
	SchemeES384   Scheme = "ES384"
	SchemeES512   Scheme = "ES512"
	SchemeEd25519 Scheme = "Ed25519"
	SchemeHS256   Scheme = "HS256" // HMAC
	SchemeHS384   Scheme = "HS384"
	SchemeHS512   Scheme = "HS512"
)

// schemesOf are those of a type; the first is used when none is named.
var schemesOf = map[Type][]Scheme{
	RSA2048: rsaSchemes, RSA3072: rsaSchemes, RSA4096: rsaSchemes,
	ECDSAP256: {SchemeES256}, ECDSAP384: {SchemeES384}, ECDSAP521: {SchemeES512},
	Ed25519: {SchemeEd25519}, HMAC256: {SchemeHS256}, HMAC384: {SchemeHS384}, HMAC512: {SchemeHS512},
}

var rsaSchemes = []Scheme{SchemePS256, SchemePS384, SchemePS512, SchemeRS256, SchemeRS384, SchemeRS512}

// Schemes lists the ways in which keys of a type sign; the first is the usual one.
func (t Type) Schemes() []Scheme { return slices.Clone(schemesOf[t]) }

// Slow reports whether signing or decrypting with a key of a type takes a processor for about a millisecond, or for many.
func (t Type) Slow() bool {
	switch t {
	case RSA2048, RSA3072, RSA4096, ECDSAP384, ECDSAP521:
		return true
	}
	return false
}

// hashOf is the hash of a scheme, by the digits of its name; none for Ed25519, which hashes by itself.
func (s Scheme) hash() crypto.Hash {
	switch {
	case strings.HasSuffix(string(s), "S256"):
		return crypto.SHA256
	case strings.HasSuffix(string(s), "S384"):
		return crypto.SHA384
	case strings.HasSuffix(string(s), "S512"):
		return crypto.SHA512
	}
	return 0
}

// scheme is the one that is asked for, or the usual one, if it is one of the type's.
func (t Type) scheme(s Scheme) (Scheme, error) {
	list := schemesOf[t]
	if s == "" && len(list) > 0 {
		return list[0], nil
	}
	if !slices.Contains(list, s) {
		return "", invalid("scheme", "%.20q is not a scheme of a key of the type %s; they are %v", string(s), t, list)
	}
	return s, nil
}

// Form is how an ECDSA signature is written. Signatures of other schemes have one form only.
type Form int

// The forms.
const (
	Fixed Form = iota // r and s, each as long as the curve's order: JOSE (RFC 7518, section 3.4), IEEE P1363
	DER               // an ASN.1 sequence of r and s: X.509 (RFC 3279, section 2.2.3), openssl
)

// Sign signs a message, or makes the MAC of one, and returns it with the scheme that was used. An empty scheme is the usual one of the key.
func (k *Key) Sign(s Scheme, form Form, message []byte) (signature []byte, used Scheme, err error) {
	if err := k.need(Sign); err != nil {
		return nil, "", err
	}
	if used, err = k.kind.scheme(s); err != nil {
		return nil, "", err
	}
	if k.secret != nil {
		return k.mac(used, message), used, nil
	}
	switch private := k.private.(type) {
	case ed25519.PrivateKey:
		return ed25519.Sign(private, message), used, nil
	case *ecdsa.PrivateKey:
		signature, err = ecdsa.SignASN1(rand.Reader, private, digest(used, message))
		if err == nil && form == Fixed {
			signature, err = toFixed(signature, size(private.Params().N.BitLen()))
		}
	case *rsa.PrivateKey:
		if isPSS(used) {
			signature, err = rsa.SignPSS(rand.Reader, private, used.hash(), digest(used, message), pssOptions)
		} else {
			signature, err = rsa.SignPKCS1v15(nil, private, used.hash(), digest(used, message))
		}
	}
	return signature, used, err
}

// Verify checks a MAC that the key made; nil if it is that of the message, else [ErrNotVerified]. The time that it takes does not tell how
// much of a MAC is right. Signatures are checked by the public half.
func (k *Key) Verify(s Scheme, form Form, message, signature []byte) error {
	if err := k.need(Verify); err != nil {
		return err
	}
	if k.secret == nil {
		return k.Public().Verify(s, form, message, signature)
	}
	used, err := k.kind.scheme(s)
	if err != nil {
		return err
	}
	if !hmac.Equal(k.mac(used, message), signature) {
		return ErrNotVerified
	}
	return nil
}

// Verify checks a signature; nil if it is that of the message by this key, else [ErrNotVerified].
func (p *Public) Verify(s Scheme, form Form, message, signature []byte) error {
	if p.may&Signing == 0 {
		return invalid("key_ops", "this key is for %s, and makes no signatures", p.may)
	}
	used, err := p.kind.scheme(s)
	if err != nil {
		return err
	}
	right := false
	switch key := p.key.(type) {
	case ed25519.PublicKey:
		right = ed25519.Verify(key, message, signature)
	case *ecdsa.PublicKey:
		if form == Fixed {
			signature = toDER(signature, size(key.Params().N.BitLen()))
		}
		right = ecdsa.VerifyASN1(key, digest(used, message), signature)
	case *rsa.PublicKey:
		if isPSS(used) {
			right = rsa.VerifyPSS(key, used.hash(), digest(used, message), signature, pssOptions) == nil
		} else {
			right = rsa.VerifyPKCS1v15(key, used.hash(), digest(used, message), signature) == nil
		}
	}
	if !right {
		return ErrNotVerified
	}
	return nil
}

// pssOptions make the salt as long as the hash (RFC 7518, section 3.5), and accept no other.
var pssOptions = &rsa.PSSOptions{SaltLength: rsa.PSSSaltLengthEqualsHash}

func isPSS(s Scheme) bool { return strings.HasPrefix(string(s), "PS") }

func digest(s Scheme, message []byte) []byte {
	h := s.hash().New()
	h.Write(message)
	return h.Sum(nil)
}

func (k *Key) mac(s Scheme, message []byte) []byte {
	m := hmac.New(s.hash().New, k.secret)
	m.Write(message)
	return m.Sum(nil)
}

// size is how many bytes hold a number of so many bits.
func size(bits int) int { return (bits + 7) / 8 }
