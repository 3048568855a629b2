package cryptokey

import (
	"bytes"
	"crypto"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hpke"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"math/big"

	"github.com/go-jose/go-jose/v4"
)

// Public is the public half of a key: what verifies its signatures, encrypts to it or agrees with it. It needs no secret, and no right to
// one.
type Public struct {
	kind Type
	may  Operations // of the whole key
	key  crypto.PublicKey
}

// Public returns the public half of a key; nil when there is none, because the key is symmetric.
func (k *Key) Public() *Public {
	if hybrid, is := k.private.(hpke.PrivateKey); is {
		return &Public{kind: k.kind, may: k.may, key: hybrid.PublicKey()}
	}
	signer, is := k.private.(interface{ Public() crypto.PublicKey })
	if !is {
		return nil
	}
	return &Public{kind: k.kind, may: k.may, key: signer.Public()}
}

// ReadPublic reads a public key: a JWK (RFC 7517), or PEM with a SubjectPublicKeyInfo (RFC 7468, section 13). The operations are those of
// the whole key. The error is an [*InvalidError].
func ReadPublic(text []byte, o Operations) (*Public, error) {
	if len(text) > mostBrought {
		return nil, invalid("peer", "the public key has %d bytes; the most is %d", len(text), mostBrought)
	}
	var key crypto.PublicKey
	trimmed := bytes.TrimSpace(text)
	if bytes.HasPrefix(trimmed, []byte("{")) {
		var err error
		if key, err = publicJWK(trimmed); err != nil {
			return nil, err
		}
	} else {
		block, _ := pem.Decode(trimmed)
		if block == nil || block.Type != "PUBLIC KEY" {
			return nil, invalid("peer", "this is neither a JWK nor a public key in PEM")
		}
		var err error
		if key, err = x509.ParsePKIXPublicKey(block.Bytes); err != nil {
			return nil, invalid("peer", "the public key is not valid")
		}
	}
	kind, err := publicType(key)
	return &Public{kind: kind, may: o, key: key}, err
}

// publicJWK reads the public half of a JWK. X25519 (RFC 8037) is read here: the library does not know it.
func publicJWK(text []byte) (crypto.PublicKey, error) {
	if hybrid, is := isHybridJWK(text); is {
		return hybrid.read()
	}
	var own JWK
	if json.Unmarshal(text, &own) == nil && own.KeyType == "OKP" && own.Curve == "X25519" {
		point, err := base64url.DecodeString(own.X)
		if err == nil {
			var key *ecdh.PublicKey
			if key, err = ecdh.X25519().NewPublicKey(point); err == nil {
				return key, nil
			}
		}
		return nil, invalid("peer", "the X25519 key is not valid")
	}
	var jwk jose.JSONWebKey
	if jwk.UnmarshalJSON(text) != nil || !jwk.IsPublic() {
		return nil, invalid("peer", "this is no public key as a JWK, or it is not valid")
	}
	return jwk.Key, nil
}

func publicType(key crypto.PublicKey) (Type, error) {
	switch key := key.(type) {
	case *rsa.PublicKey:
		for kind, bits := range rsaBits {
			if key.N.BitLen() == bits && key.E >= 65537 {
				return kind, nil
			}
		}
	case *ecdsa.PublicKey:
		for kind, curve := range curves {
			if key.Curve == curve {
				return kind, nil
			}
		}
	case ed25519.PublicKey:
		return Ed25519, nil
	case *ecdh.PublicKey:
		if key.Curve() == ecdh.X25519() {
			return X25519, nil
		}
	case hpke.PublicKey:
		return Hybrid, nil
	}
	return "", invalid("peer", "a public key of this kind or length is not known")
}

// Type returns the key's type.
func (p *Public) Type() Type { return p.kind }

// CryptoKey returns the key as the standard library has it.
func (p *Public) CryptoKey() crypto.PublicKey { return p.key }

// PKIX returns the key as a SubjectPublicKeyInfo (RFC 5280, section 4.1.2.7; DER). A hybrid one has none yet.
func (p *Public) PKIX() ([]byte, error) {
	if p.kind == Hybrid {
		return nil, invalid("key_type", "a key of the type %s has no form in PEM or DER yet: take it as a JWK", Hybrid)
	}
	return x509.MarshalPKIXPublicKey(p.key)
}

// PEM returns the key in the form that openssl and others read (RFC 7468, section 13).
func (p *Public) PEM() ([]byte, error) {
	der, err := p.PKIX()
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), nil
}

// JWK is the public half of a key as RFC 7517 has it. Its members are in the order of their names.
type JWK struct {
	Algorithm  string   `json:"alg,omitempty"`
	Curve      string   `json:"crv,omitempty"`
	Exponent   string   `json:"e,omitempty"`
	Operations []string `json:"key_ops,omitempty"`
	KeyID      string   `json:"kid,omitempty"`
	KeyType    string   `json:"kty"`
	Modulus    string   `json:"n,omitempty"`
	Pub        string   `json:"pub,omitempty"`
	X          string   `json:"x,omitempty"`
	Y          string   `json:"y,omitempty"`
}

// JWK writes the public half under a key id: what others may do with it (RFC 7517, section 4.3) is the counterpart of what the key does.
func (p *Public) JWK(id string) JWK {
	jwk := JWK{KeyID: id}
	var o Operations
	if p.may&Signing != 0 {
		o |= Verify
	}
	if p.may&Encryption != 0 {
		o |= Encrypt
	}
	if p.may&Wrapping != 0 {
		o |= WrapKey
	}
	jwk.Operations = o.Names() // none for key agreement: the public half has no operation of its own there
	text := base64.RawURLEncoding.EncodeToString
	switch key := p.key.(type) {
	case *rsa.PublicKey: // RFC 7518, section 6.3.1
		jwk.KeyType, jwk.Modulus, jwk.Exponent = "RSA", text(key.N.Bytes()), text(big.NewInt(int64(key.E)).Bytes())
	case *ecdsa.PublicKey: // RFC 7518, section 6.2.1
		point, _ := key.Bytes() // 4, x, y; a key that was made or read here is on its curve
		half := (len(point) - 1) / 2
		jwk.KeyType, jwk.Curve, jwk.X, jwk.Y = "EC", key.Params().Name, text(point[1:1+half]), text(point[1+half:])
		jwk.Algorithm = string(schemesOf[p.kind][0])
	case ed25519.PublicKey: // RFC 8037, section 2; RFC 9864, section 2.2, names the algorithm
		jwk.KeyType, jwk.Curve, jwk.X, jwk.Algorithm = "OKP", "Ed25519", text(key), string(SchemeEd25519)
	case *ecdh.PublicKey: // RFC 8037, section 2
		jwk.KeyType, jwk.Curve, jwk.X = "OKP", "X25519", text(key.Bytes())
	case hpke.PublicKey:
		jwk.KeyType, jwk.Algorithm, jwk.Pub = akp, algorithmHybrid, text(key.Bytes())
	}
	return jwk
}

// Thumbprint is the key's thumbprint by SHA-256 (RFC 7638), in base64url: the same for the same key, whatever it is called.
func (p *Public) Thumbprint() string {
	jwk := p.JWK("")
	required := JWK{Curve: jwk.Curve, Exponent: jwk.Exponent, KeyType: jwk.KeyType, Modulus: jwk.Modulus, X: jwk.X, Y: jwk.Y}
	if jwk.KeyType == akp { // draft-ietf-cose-dilithium, section 6
		required = JWK{Algorithm: jwk.Algorithm, KeyType: jwk.KeyType, Pub: jwk.Pub}
	}
	text, _ := json.Marshal(required) // members in lexicographic order, as section 3.3 wants; only texts, which cannot fail
	sum := sha256.Sum256(text)
	return base64.RawURLEncoding.EncodeToString(sum[:])
}
