package cryptokey

import (
	"crypto/hpke"
	"encoding/base64"
	"encoding/json"
	"strings"
)

// Keys of the type [Hybrid] decrypt what was encrypted by HPKE (RFC 9180, base mode, one message) with the KEM that joins ML-KEM-768 (NIST
// FIPS 203) and X25519 (draft-ietf-hpke-pq, KEM 0x647a), HKDF-SHA256 and AES-256-GCM: it stays closed as long as one of the two is not
// broken. What HPKE carries is the content key of a JWE, as RSA-OAEP does: the message is encrypted under that. JOSE has no registered name
// for the algorithm yet, so that it has one here that nothing else has (a collision-resistant name, RFC 7515, section 2).
const algorithmHybrid = "HPKE+MLKEM768-X25519+HKDF-SHA256+A256GCM@tansu"

// hybridInfo binds what HPKE carries to what it is for (RFC 9180, section 5.1).
var hybridInfo = []byte("content key of a JWE: " + algorithmHybrid + " " + encryptionGCM)

// akp is the kind of a JWK for keys of one algorithm alone (draft-ietf-cose-dilithium, section 3): the private one is a seed.
const akp = "AKP"

func hybridSuite() (hpke.KEM, hpke.KDF, hpke.AEAD) {
	return hpke.MLKEM768X25519(), hpke.HKDFSHA256(), hpke.AES256GCM()
}

// openHybrid makes a key of its seed, of 32 bytes.
func openHybrid(seed []byte, o Operations) (*Key, error) {
	if err := Hybrid.Check(o); err != nil {
		return nil, err
	}
	kem, _, _ := hybridSuite()
	private, err := kem.NewPrivateKey(seed)
	if err != nil {
		return nil, invalid("key", "the seed of a key of the type %s has 32 bytes, and not %d", Hybrid, len(seed))
	}
	return &Key{kind: Hybrid, may: o, private: private}, nil
}

// hybridJWK is such a key with its seed.
type hybridJWK struct {
	Algorithm string `json:"alg"`
	KeyType   string `json:"kty"`
	Private   string `json:"priv,omitempty"`
	Public    string `json:"pub"`
}

// isHybridJWK reads a JWK, if it is of this kind.
func isHybridJWK(text []byte) (jwk hybridJWK, is bool) {
	return jwk, json.Unmarshal(text, &jwk) == nil && jwk.KeyType == akp
}

// bring reads the private half.
func (jwk hybridJWK) bring(o Operations) (*Key, error) {
	seed, err := base64url.DecodeString(jwk.Private)
	switch {
	case jwk.Algorithm != algorithmHybrid:
		return nil, invalid("key", "a JWK of the kind AKP for %.60q is not known", jwk.Algorithm)
	case err != nil || jwk.Private == "":
		return nil, invalid("key", "this is a public key, or damaged; bring the private key")
	}
	defer clear(seed)
	k, err := openHybrid(seed, o)
	if err == nil && jwk.Public != "" && jwk.Public != k.Public().JWK("").Pub {
		return nil, invalid("key", "the private half of the JWK is not that of its public half")
	}
	return k, err
}

// read reads the public half.
func (jwk hybridJWK) read() (hpke.PublicKey, error) {
	kem, _, _ := hybridSuite()
	point, err := base64url.DecodeString(jwk.Public)
	if err == nil && jwk.Algorithm == algorithmHybrid && jwk.Private == "" {
		var key hpke.PublicKey
		if key, err = kem.NewPublicKey(point); err == nil {
			return key, nil
		}
	}
	return nil, invalid("peer", "the key of the kind AKP is not valid, is for another algorithm, or is not a public one")
}

// givenHybrid is a key as it is given to whoever may have it: no form in PEM has been agreed on yet.
func givenHybrid(seed []byte) ([]byte, error) {
	k, err := openHybrid(seed, Encryption)
	if err != nil {
		return nil, err
	}
	return json.Marshal(hybridJWK{Algorithm: algorithmHybrid, KeyType: akp, Private: base64.RawURLEncoding.EncodeToString(seed),
		Public: k.Public().JWK("").Pub})
}

// sealHybrid encrypts a content key to a public key.
func sealHybrid(to hpke.PublicKey, content []byte) ([]byte, error) {
	_, kdf, aead := hybridSuite()
	return hpke.Seal(to, kdf, aead, hybridInfo, content)
}

// openContent decrypts a content key.
func openContent(by hpke.PrivateKey, sealed []byte) ([]byte, error) {
	_, kdf, aead := hybridSuite()
	return hpke.Open(by, kdf, aead, hybridInfo, sealed)
}

// KeyIDOf is the key id that a public key as a JWK has; empty for none.
func KeyIDOf(text []byte) string {
	var jwk struct {
		KeyID string `json:"kid"`
	}
	if !strings.HasPrefix(strings.TrimSpace(string(text)), "{") || json.Unmarshal(text, &jwk) != nil {
		return ""
	}
	return jwk.KeyID
}
