// Package assertion checks signed statements about who somebody is: JSON Web Tokens (RFC 7519) as they are used for client
// authentication and as authorization grants (RFC 7523). It does no I/O; whoever calls it has the keys.
//
// Nothing in a token says how it is to be checked: which keys may have signed it is decided before it is looked at, only
// algorithms with a private and a public key are known, and an algorithm that is not the key's own is refused. So "none", a
// public key used as a secret, and keys that the token itself brings along lead nowhere.
package assertion

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Bounds.
const (
	MaxSize = 8 << 10         // bytes of a token
	Skew    = time.Minute     // by how much clocks may differ
	MaxLife = 5 * time.Minute // of a client's own assertion
	minRSA  = 2048            // bits
	maxID   = 256             // bytes of "jti"
)

// Ed25519 is the algorithm of RFC 9864, which says by its name which curve it is; EdDSA is the older name for it here.
const Ed25519 jose.SignatureAlgorithm = "Ed25519"

var algorithms = []jose.SignatureAlgorithm{jose.EdDSA, Ed25519, jose.ES256, jose.ES384, jose.RS256, jose.PS256}

// Problem says what is wrong with a token, in words that may be told to who brought it: they are about what it says of
// itself, never about which keys or identities exist.
type Problem struct {
	Reason string // a stable code
	Text   string
}

func (p *Problem) Error() string { return p.Text }

// ErrSignature says that none of the keys signed it.
var ErrSignature = errors.New("none of the keys signed it")

// Token is one that was read, and of which nothing is proved yet.
type Token struct {
	signed *jwt.JSONWebToken
	text   string
	KeyID  string
	Claims Claims
	all    map[string]any
}

// Claims are those that every token has.
type Claims struct {
	Issuer   string           `json:"iss"`
	Subject  string           `json:"sub"`
	Audience jwt.Audience     `json:"aud"`
	ID       string           `json:"jti"`
	IssuedAt *jwt.NumericDate `json:"iat"`
	Expiry   *jwt.NumericDate `json:"exp"`
	Begin    *jwt.NumericDate `json:"nbf"`
}

// Read reads a token without believing it.
func Read(text string) (t Token, err error) {
	malformed := &Problem{"assertion_malformed",
		"the assertion is not a signed JSON Web Token of a kind that is accepted here (EdDSA, Ed25519, ES256, ES384, RS256, PS256)"}
	if len(text) > MaxSize {
		return t, &Problem{"assertion_malformed", fmt.Sprintf("an assertion has at most %d bytes", MaxSize)}
	}
	if t.signed, err = jwt.ParseSigned(text, algorithms); err != nil || len(t.signed.Headers) != 1 {
		return t, malformed
	}
	t.KeyID, t.text = t.signed.Headers[0].KeyID, text
	if err := t.signed.UnsafeClaimsWithoutVerification(&t.Claims, &t.all); err != nil {
		return t, malformed
	}
	return t, nil
}

// Times checks when the token may be used, and that it does not last for longer than a life.
func (t *Token) Times(now time.Time, life time.Duration) error {
	c := t.Claims
	if c.IssuedAt == nil || c.Expiry == nil {
		return &Problem{"assertion_malformed", "the assertion does not say when it was made (iat) and when it ends (exp)"}
	}
	made, ends := c.IssuedAt.Time(), c.Expiry.Time()
	clock := "; the clock here says " + now.UTC().Format(time.RFC3339) + ": do the clocks agree?"
	switch {
	case !now.Before(ends.Add(Skew)):
		return &Problem{"assertion_ended", "the assertion has ended at " + ends.UTC().Format(time.RFC3339) + clock}
	case made.After(now.Add(Skew)):
		return &Problem{"assertion_early", "the assertion was made at " + made.UTC().Format(time.RFC3339) + ", which is to come" + clock}
	case c.Begin != nil && c.Begin.Time().After(now.Add(Skew)):
		return &Problem{"assertion_early", "the assertion begins at " + c.Begin.Time().UTC().Format(time.RFC3339) + clock}
	case ends.Sub(made) > life:
		return &Problem{"assertion_too_long", fmt.Sprintf("the assertion is for %s, and at most %s are taken here", ends.Sub(made), life)}
	}
	return nil
}

// For checks that the token is meant for one of some audiences, exactly.
func (t *Token) For(audiences ...string) error {
	for _, one := range t.Claims.Audience {
		if slices.Contains(audiences, one) {
			return nil
		}
	}
	return &Problem{"wrong_audience", fmt.Sprintf("the assertion is for %.200q, and not for this chest",
		strings.Join(t.Claims.Audience, ", "))}
}

// Identified checks that the token has an id of its own, by which its second use is noticed.
func (t *Token) Identified() error {
	if t.Claims.ID == "" || len(t.Claims.ID) > maxID {
		return &Problem{"assertion_malformed",
			fmt.Sprintf("the assertion has no id (jti) of at most %d bytes, by which its second use is noticed", maxID)}
	}
	return nil
}

// Says reports whether the token's claims are exactly those that are wanted. Texts, numbers and truth values are compared;
// lists and objects are not, because what it means to be one of them differs between issuers.
func (t *Token) Says(wanted map[string]string) bool {
	for name, want := range wanted {
		text, is := t.all[name].(string)
		if !is {
			encoded, err := json.Marshal(t.all[name])
			if err != nil || len(encoded) == 0 || encoded[0] == '[' || encoded[0] == '{' || encoded[0] == 'n' {
				return false
			}
			text = string(encoded)
		}
		if text != want {
			return false
		}
	}
	return true
}

// SignedBy finds which of the keys has signed the token. With a key id in the token, only keys of that id, or without one,
// count. Without any, the error is [ErrSignature].
func (t *Token) SignedBy(keys []jose.JSONWebKey) (int, error) {
	algorithm := t.signed.Headers[0].Algorithm
	for i, key := range keys {
		if t.KeyID != "" && key.KeyID != "" && key.KeyID != t.KeyID || !fits(key, algorithm) {
			continue
		}
		if algorithm == string(Ed25519) && t.signedWithEd25519(key.Key) || algorithm != string(Ed25519) && t.signed.Claims(key.Key) == nil {
			return i, nil
		}
	}
	return -1, ErrSignature
}

// signedWithEd25519 checks a signature under the newer name of the algorithm (RFC 9864, section 2.2; RFC 7515, section 5.2).
func (t *Token) signedWithEd25519(key any) bool {
	public, is := key.(ed25519.PublicKey)
	at := strings.LastIndexByte(t.text, '.')
	if !is || at < 0 {
		return false
	}
	signature, err := base64.RawURLEncoding.DecodeString(t.text[at+1:])
	return err == nil && ed25519.Verify(public, []byte(t.text[:at]), signature)
}

// fits reports whether a key is for signatures with an algorithm.
func fits(key jose.JSONWebKey, algorithm string) bool {
	if key.Use != "" && key.Use != "sig" || key.Algorithm != "" && olderName(key.Algorithm) != olderName(algorithm) {
		return false
	}
	switch public := key.Key.(type) {
	case ed25519.PublicKey:
		return olderName(algorithm) == string(jose.EdDSA)
	case *ecdsa.PublicKey:
		return public.Curve == elliptic.P256() && algorithm == string(jose.ES256) || public.Curve == elliptic.P384() &&
			algorithm == string(jose.ES384)
	case *rsa.PublicKey:
		return public.N.BitLen() >= minRSA && (algorithm == string(jose.RS256) || algorithm == string(jose.PS256))
	}
	return false
}

// olderName is what an algorithm is called by those who know it by one name only.
func olderName(algorithm string) string {
	if algorithm == string(Ed25519) {
		return string(jose.EdDSA)
	}
	return algorithm
}

// mostBits is the largest RSA key that is taken.
const mostBits = 8192

// PublicKey checks a public key that shall be one's proof, and returns it with its thumbprint (RFC 7638) as the id.
func PublicKey(encoded []byte) (key jose.JSONWebKey, thumbprint [sha256.Size]byte, err error) {
	bad := errors.New("it is not a public key that is accepted here: a JSON Web Key (RFC 7517), Ed25519, P-256, P-384 or RSA of " +
		"2048 to 8192 bits")
	if err := key.UnmarshalJSON(encoded); err != nil || !key.Valid() {
		return key, thumbprint, bad
	}
	if large, is := key.Key.(*rsa.PublicKey); is && large.N.BitLen() > mostBits { // each use of it would cost the chest more than its owner
		return key, thumbprint, bad
	}
	if !key.IsPublic() {
		return jose.JSONWebKey{}, thumbprint, errors.New("it is a private key, which must stay where it was made: give the public one")
	}
	if !slices.ContainsFunc(algorithms, func(a jose.SignatureAlgorithm) bool { return fits(key, string(a)) }) {
		return key, thumbprint, bad
	}
	print, err := key.Thumbprint(crypto.SHA256)
	if err != nil {
		return key, thumbprint, bad
	}
	key.KeyID = ""
	return key, [sha256.Size]byte(print), nil
}
