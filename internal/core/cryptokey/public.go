package cryptokey

import (
	"crypto"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"math/big"
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
	signer, is := k.private.(interface{ Public() crypto.PublicKey })
	if !is {
		return nil
	}
	return &Public{kind: k.kind, may: k.may, key: signer.Public()}
}

// Type returns the key's type.
func (p *Public) Type() Type { return p.kind }

// CryptoKey returns the key as the standard library has it.
func (p *Public) CryptoKey() crypto.PublicKey { return p.key }

// PKIX returns the key as a SubjectPublicKeyInfo (RFC 5280, section 4.1.2.7; DER).
func (p *Public) PKIX() ([]byte, error) { return x509.MarshalPKIXPublicKey(p.key) }

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
	}
	return jwk
}

// Thumbprint is the key's thumbprint by SHA-256 (RFC 7638), in base64url: the same for the same key, whatever it is called.
func (p *Public) Thumbprint() string {
	jwk := p.JWK("")
	required := JWK{Curve: jwk.Curve, Exponent: jwk.Exponent, KeyType: jwk.KeyType, Modulus: jwk.Modulus, X: jwk.X, Y: jwk.Y}
	text, _ := json.Marshal(required) // members in lexicographic order, as section 3.3 wants; only texts, which cannot fail
	sum := sha256.Sum256(text)
	return base64.RawURLEncoding.EncodeToString(sum[:])
}
