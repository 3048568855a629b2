// Package recipient encrypts to the holders of key pairs: exports, backups' keys and custodians' shares, all in one of two ways.
//
// By JWE (RFC 7516, compact serialization) to a JWK (RFC 7517) of the kind EC or RSA, which other programs can make and open; or by HPKE
// (RFC 9180) with the KEM that joins ML-KEM-768 (NIST FIPS 203) and X25519 (draft-ietf-hpke-pq), for what has to stay closed when there
// are quantum computers: a copy that somebody keeps until then opens only if both parts are broken.
//
// What is here may be used by several goroutines at once.
package recipient

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hpke"
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-jose/go-jose/v4"

	"tansu/internal/core/secretvalue"
)

// algorithms are those that a JWK can be for, by its kind: key agreement or OAEP, and nothing with PKCS #1 v1.5 (RFC 8725, section 3.2).
// The first one is used where the key names none.
var algorithms = map[string][]jose.KeyAlgorithm{
	"EC":  {jose.ECDH_ES_A256KW, jose.ECDH_ES_A192KW, jose.ECDH_ES_A128KW, jose.ECDH_ES},
	"RSA": {jose.RSA_OAEP_256, jose.RSA_OAEP},
}

// encryptions are those of a content that are opened: other programs choose among all that RFC 7518 has. The first one is used.
var encryptions = []jose.ContentEncryption{jose.A256GCM, jose.A192GCM, jose.A128GCM, jose.A256CBC_HS512, jose.A192CBC_HS384,
	jose.A128CBC_HS256}

// Public is what one encrypts to.
type Public struct {
	jwk       jose.JSONWebKey
	algorithm jose.KeyAlgorithm
	hybrid    hpke.PublicKey // instead of a JWK
}

// Private opens what was encrypted to its public half.
type Private struct {
	jwk    jose.JSONWebKey
	hybrid hpke.PrivateKey // instead of a JWK
}

// hybridKey is the file of a key for HPKE; the private one has no public half in it, which follows from it.
type hybridKey struct {
	KEM     uint16 `json:"kem"` // IANA's number
	Public  []byte `json:"public_key,omitempty"`
	Private []byte `json:"private_key,omitempty"`
}

// hybridText is what was encrypted by HPKE.
type hybridText struct {
	KEM    uint16 `json:"kem"`
	Sealed []byte `json:"sealed"` // the encapsulated key and the ciphertext
}

// info binds what is encrypted to what it is for.
var info = []byte("tansu: encrypted to a recipient, 1")

func suite() (hpke.KEM, hpke.KDF, hpke.AEAD) {
	return hpke.MLKEM768X25519(), hpke.HKDFSHA256(), hpke.AES256GCM()
}

// New makes a key pair, as the contents of two files: P-256 as JWK, or for HPKE.
func New(hybrid bool) (private secretvalue.Value, public []byte, err error) {
	var keys [2]any
	if hybrid {
		kem, _, _ := suite()
		key, err := kem.GenerateKey()
		if err != nil {
			return private, nil, fmt.Errorf("make a key: %w", err)
		}
		secret, err := key.Bytes()
		if err != nil {
			return private, nil, fmt.Errorf("make a key: %w", err)
		}
		defer clear(secret)
		keys = [2]any{hybridKey{KEM: kem.ID(), Private: secret}, hybridKey{KEM: kem.ID(), Public: key.PublicKey().Bytes()}}
	} else {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return private, nil, fmt.Errorf("make a key: %w", err)
		}
		jwk := jose.JSONWebKey{Key: key, Algorithm: string(jose.ECDH_ES_A256KW), Use: "enc"}
		keys = [2]any{jwk, jwk.Public()}
	}
	secret, err := json.MarshalIndent(keys[0], "", "  ")
	if err != nil {
		return private, nil, fmt.Errorf("write the key: %w", err)
	}
	public, err = json.MarshalIndent(keys[1], "", "  ")
	return secretvalue.New(append(secret, '\n')), append(public, '\n'), err
}

// mostBits is the longest RSA key that is encrypted to: with a much longer one that takes seconds.
const mostBits = 8192

// ReadPublic reads the file of a public key. The error is a clause about it, such as "is not a key …".
func ReadPublic(content []byte) (p Public, err error) {
	var hybrid hybridKey
	var shape struct {
		Kty string   `json:"kty"`
		Ops []string `json:"key_ops"`
	}
	_ = json.Unmarshal(content, &shape)
	if err := json.Unmarshal(content, &hybrid); err == nil && hybrid.KEM != 0 {
		kem, _, _ := suite()
		switch {
		case hybrid.Private != nil:
			return p, errPrivate
		case hybrid.KEM != kem.ID():
			return p, fmt.Errorf("is a key for HPKE with the KEM %d, and only %d is known", hybrid.KEM, kem.ID())
		}
		if p.hybrid, err = kem.NewPublicKey(hybrid.Public); err != nil {
			return p, errors.New("is a damaged key for HPKE")
		}
		return p, nil
	}
	if err := json.Unmarshal(content, &p.jwk); err != nil || !p.jwk.Valid() {
		return p, errors.New("is not a key; tansu recipient FILE makes one")
	}
	if !p.jwk.IsPublic() {
		return p, errPrivate
	}
	if key, is := p.jwk.Key.(*rsa.PublicKey); is && (key.N.BitLen() < 2048 || key.N.BitLen() > mostBits) {
		return p, fmt.Errorf("is an RSA key of %d bits; 2048 to %d are good", key.N.BitLen(), mostBits)
	}
	known := algorithms[shape.Kty]
	if len(known) == 0 {
		return p, fmt.Errorf("is a key of the kind %.10q; it must be EC or RSA, or one for HPKE that tansu recipient makes", shape.Kty)
	}
	p.algorithm = known[0]
	if own := jose.KeyAlgorithm(p.jwk.Algorithm); slices.Contains(known, own) {
		p.algorithm = own
	}
	if what := meantFor(p.jwk, shape.Ops, p.algorithm); what != "" {
		return p, fmt.Errorf("is %s, and not for encrypting to whoever has it", what)
	}
	if _, err := p.Seal(nil); err != nil {
		return p, fmt.Errorf("cannot be encrypted to: %w", err)
	}
	return p, nil
}

// meantFor says what else a key is meant for, by its own word (RFC 7517, sections 4.2 to 4.4); empty when it may be encrypted to.
func meantFor(key jose.JSONWebKey, ops []string, algorithm jose.KeyAlgorithm) string {
	fits := func(op string) bool {
		return op == "encrypt" || op == "wrapKey" || op == "deriveKey" || op == "deriveBits"
	}
	switch {
	case key.Use != "" && key.Use != "enc":
		return fmt.Sprintf("a key whose use is %.20q", key.Use)
	case len(ops) > 0 && !slices.ContainsFunc(ops, fits):
		return fmt.Sprintf("a key for %.60s", strings.Join(ops, ", "))
	case key.Algorithm != "" && key.Algorithm != string(algorithm):
		return fmt.Sprintf("a key for %.40q (the algorithm here is %s)", key.Algorithm, algorithm)
	}
	return ""
}

var errPrivate = errors.New("is a private key: give its public half, and keep this one to yourself")

// ReadPrivate reads the file of a private key. The error is a clause about it.
func ReadPrivate(content []byte) (p Private, err error) {
	var hybrid hybridKey
	kem, _, _ := suite()
	if err := json.Unmarshal(content, &hybrid); err == nil && hybrid.KEM == kem.ID() && hybrid.Private != nil {
		if p.hybrid, err = kem.NewPrivateKey(hybrid.Private); err != nil {
			return p, errors.New("is a damaged key for HPKE")
		}
		return p, nil
	}
	if err := json.Unmarshal(content, &p.jwk); err != nil || !p.jwk.Valid() || p.jwk.IsPublic() {
		return p, errors.New("is not a private key that tansu recipient makes")
	}
	return p, nil
}

// Public is the other half.
func (p Private) Public() Public {
	if p.hybrid != nil {
		return Public{hybrid: p.hybrid.PublicKey()}
	}
	public := Public{jwk: p.jwk.Public(), algorithm: algorithms["EC"][0]}
	if _, ok := p.jwk.Key.(*rsa.PrivateKey); ok {
		public.algorithm = algorithms["RSA"][0]
	}
	return public
}

// Seal encrypts, to one line of text without its end.
func (p Public) Seal(content []byte) ([]byte, error) {
	if p.hybrid != nil {
		kem, kdf, aead := suite()
		sealed, err := hpke.Seal(p.hybrid, kdf, aead, info, content)
		if err != nil {
			return nil, fmt.Errorf("encrypt by HPKE: %w", err)
		}
		return json.Marshal(hybridText{KEM: kem.ID(), Sealed: sealed})
	}
	encrypter, err := jose.NewEncrypter(encryptions[0], jose.Recipient{Algorithm: p.algorithm, Key: &p.jwk}, nil)
	if err != nil {
		return nil, err
	}
	object, err := encrypter.Encrypt(content)
	if err != nil {
		return nil, err
	}
	text, err := object.CompactSerialize()
	return []byte(text), err
}

// Errors of Open.
var (
	ErrNotSealed = errors.New("this is not encrypted to a recipient")
	ErrNotMine   = errors.New("it is not encrypted to this key, or is damaged")
)

// Open opens what Seal gave. The errors are [ErrNotSealed] and [ErrNotMine].
func (p Private) Open(text []byte) ([]byte, error) {
	text = bytes.TrimSpace(text)
	if bytes.HasPrefix(text, []byte("{")) {
		var sealed hybridText
		kem, kdf, aead := suite()
		if err := json.Unmarshal(text, &sealed); err != nil || sealed.KEM != kem.ID() {
			return nil, ErrNotSealed
		}
		if p.hybrid == nil {
			return nil, ErrNotMine
		}
		content, err := hpke.Open(p.hybrid, kdf, aead, info, sealed.Sealed)
		if err != nil {
			return nil, ErrNotMine
		}
		return content, nil
	}
	object, err := jose.ParseEncryptedCompact(string(text), slices.Concat(algorithms["EC"], algorithms["RSA"]), encryptions)
	if err != nil {
		return nil, ErrNotSealed
	}
	if p.hybrid != nil {
		return nil, ErrNotMine
	}
	content, err := object.Decrypt(p.jwk.Key)
	if err != nil {
		return nil, ErrNotMine
	}
	return content, nil
}
