package client

import (
	"context"
	"crypto"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// NewKeyFacts says what a new item is that is a key, for good.
type NewKeyFacts struct {
	Type       string   `json:"type,omitempty"`      // of GET /api/key-types; left out for that of a key that is brought
	Operations []string `json:"key_ops,omitempty"`   // of RFC 7517, section 4.3; left out for the usual ones
	GivenOut   bool     `json:"given_out,omitempty"` // its bytes may be read by whoever may read the item; never changed later
}

// KeyFacts are what an item says of its key.
type KeyFacts struct {
	Type        string   `json:"type"`
	Operations  []string `json:"key_ops"`
	GivenOut    bool     `json:"given_out"`
	DecryptFrom int      `json:"decrypt_from"` // the oldest version that decrypts; 0 for any
}

// KeyUse is one use of a key. Members that the operation has no need of are left out.
type KeyUse struct {
	Op         string `json:"op"`                   // sign, verify, encrypt, decrypt, rewrap, data_key, wrap, unwrap, agree or public
	Message    []byte `json:"message,omitempty"`    // to sign, verify or encrypt; the key to wrap
	Signature  []byte `json:"signature,omitempty"`  // to verify
	JWE        string `json:"jwe,omitempty"`        // to decrypt or rewrap (RFC 7516)
	Wrapped    []byte `json:"wrapped,omitempty"`    // to unwrap (RFC 5649)
	Associated []byte `json:"associated,omitempty"` // data that a JWE is bound to
	Scheme     string `json:"scheme,omitempty"`     // to sign, as JOSE calls it: PS256, ES256; the key's usual one when left out
	Form       string `json:"form,omitempty"`       // of an ECDSA signature: fixed (left out) or der
	Peer       string `json:"peer,omitempty"`       // to agree: a public key as a JWK or PEM
	Salt       []byte `json:"salt,omitempty"`
	Info       []byte `json:"info,omitempty"`
	Length     int    `json:"length,omitempty"` // of a data key, or of what is derived, in bytes; 32 when left out
	Hidden     bool   `json:"hidden,omitempty"` // of a data key: only as a JWE
}

// KeyUses are up to 1 000 uses of one key.
type KeyUses struct {
	Uses []KeyUse `json:"uses"`
}

// KeyResult is what came of a use.
type KeyResult struct {
	Version   int             `json:"version,omitempty"` // of the key
	Scheme    string          `json:"scheme,omitempty"`
	Signature []byte          `json:"signature,omitempty"`
	JWE       string          `json:"jwe,omitempty"`
	Wrapped   []byte          `json:"wrapped,omitempty"`
	Plaintext []byte          `json:"plaintext,omitempty"`
	Valid     bool            `json:"valid,omitempty"`      // of a signature
	PublicKey json.RawMessage `json:"public_key,omitempty"` // the public half, as a JWK
	Problem   *Problem        `json:"problem,omitempty"`
}

// KeyResults are in the order of the uses.
type KeyResults struct {
	Results []KeyResult `json:"results"`
}

// KeyType is a type of key, and what it is good for.
type KeyType struct {
	Type       string     `json:"type"`
	About      string     `json:"about"`
	Operations [][]string `json:"key_ops"`  // the sets of which a key's operations are a part of one
	Schemes    []string   `json:"schemes"`  // the first is the usual one
	Approved   bool       `json:"approved"` // whether FIPS 140-3 mode allows it
	Public     bool       `json:"public"`   // whether it has a public half
}

// KeyTypes are all of them.
type KeyTypes struct {
	Types []KeyType `json:"types"`
}

// KeyUser is who used a key for what, and which version.
type KeyUser struct {
	Subject string    `json:"subject"`
	Action  string    `json:"action"` // sign, verify, encrypt or decrypt
	Version int       `json:"version"`
	Times   int64     `json:"times"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
}

// KeyUsers are those of one key.
type KeyUsers struct {
	Users []KeyUser `json:"users"`
}

// UseKey uses a key several times in one call; each use is in the trail before the answer leaves. The reference may have a version. A
// single use that is refused is the error; of several, each result has its own problem.
func (c *Client) UseKey(ctx context.Context, reference string, uses ...KeyUse) ([]KeyResult, error) {
	path, err := keyPath(reference, "/use")
	if err != nil {
		return nil, err
	}
	var answer KeyResults
	err = c.do(ctx, http.MethodPost, path, KeyUses{uses}, &answer, nil)
	return answer.Results, err
}

// PublicKeys lists the public halves of a drawer's keys, as JWKs: all of them that the caller may see, or, where the drawer says so, that
// anybody may.
func (c *Client) PublicKeys(ctx context.Context, drawer string) ([]json.RawMessage, error) {
	return listOf[json.RawMessage](ctx, c, "/api/drawers/"+url.PathEscape(drawer)+"/jwks", "keys")
}

// KeyTypes lists the types of keys.
func (c *Client) KeyTypes(ctx context.Context) ([]KeyType, error) {
	var answer KeyTypes
	err := c.do(ctx, http.MethodGet, "/api/key-types", nil, &answer, nil)
	return answer.Types, err
}

// KeyUsers lists who used a key for what.
func (c *Client) KeyUsers(ctx context.Context, reference string) ([]KeyUser, error) {
	path, err := keyPath(reference, "/users")
	if err != nil {
		return nil, err
	}
	var answer KeyUsers
	err = c.do(ctx, http.MethodGet, path, nil, &answer, nil)
	return answer.Users, err
}

func keyPath(reference, what string) (string, error) {
	path, field, err := valuePath(reference)
	if err == nil && field != "" {
		err = errors.New("a key has no fields")
	}
	return strings.Replace(path, "/api/values/", "/api/keys/", 1) + what, err
}

// Sign signs a message with a key in the chest: by the key's usual scheme when none is named.
func (c *Client) Sign(ctx context.Context, reference, scheme string, message []byte) (KeyResult, error) {
	return c.once(ctx, reference, KeyUse{Op: "sign", Scheme: scheme, Message: message})
}

// Verify reports whether a signature, or a MAC, is that of a message by some version of a key that is served.
func (c *Client) Verify(ctx context.Context, reference, scheme string, message, signature []byte) (bool, error) {
	result, err := c.once(ctx, reference, KeyUse{Op: "verify", Scheme: scheme, Message: message, Signature: signature})
	return result.Valid, err
}

// Encrypt encrypts a message as a JWE (RFC 7516) bound to associated data, nil for none.
func (c *Client) Encrypt(ctx context.Context, reference string, message, associated []byte) (string, error) {
	result, err := c.once(ctx, reference, KeyUse{Op: "encrypt", Message: message, Associated: associated})
	return result.JWE, err
}

// Decrypt opens a JWE with the version that it names.
func (c *Client) Decrypt(ctx context.Context, reference, jwe string, associated []byte) ([]byte, error) {
	result, err := c.once(ctx, reference, KeyUse{Op: "decrypt", JWE: jwe, Associated: associated})
	return result.Plaintext, err
}

func (c *Client) once(ctx context.Context, reference string, use KeyUse) (KeyResult, error) {
	results, err := c.UseKey(ctx, reference, use)
	if err == nil && len(results) != 1 {
		err = errors.New("the chest answered with another number of results than there were uses")
	}
	if err != nil {
		return KeyResult{}, err
	}
	return results[0], nil
}

// Signer signs with a key that stays in the chest: each signature is a call, and an entry in the trail. It is a crypto.MessageSigner, which
// crypto/tls, crypto/x509 and others use where they have one; of digests it signs none, because the chest hashes what it signs itself. It
// is safe for concurrent use.
type Signer struct {
	chest     *Client
	ctx       context.Context
	reference string
	public    crypto.PublicKey
}

// Signer returns the signer of one version of a key: the one in the reference, or the current one, and the same after the key was rotated.
// Its calls end with ctx.
func (c *Client) Signer(ctx context.Context, reference string) (*Signer, error) {
	name, _, _ := strings.Cut(reference, "@")
	result, err := c.once(ctx, reference, KeyUse{Op: "public"})
	if err != nil {
		return nil, err
	}
	var jwk jose.JSONWebKey
	if err := jwk.UnmarshalJSON(result.PublicKey); err != nil {
		return nil, err
	}
	return &Signer{c, ctx, name + "@" + strconv.Itoa(result.Version), jwk.Key}, nil
}

// Public returns the public half.
func (s *Signer) Public() crypto.PublicKey { return s.public }

// Sign signs a message of an Ed25519 key, whose options have no hash (crypto.Hash(0)). Digests are refused: use [Signer.SignMessage].
func (s *Signer) Sign(random io.Reader, message []byte, options crypto.SignerOpts) ([]byte, error) {
	if options != nil && options.HashFunc() != 0 {
		return nil, errors.New("a key in the chest signs messages, and no digests: use SignMessage")
	}
	return s.SignMessage(random, message, options)
}

// SignMessage signs a message, with the hash and the padding of the options. ECDSA signatures are in ASN.1, as crypto/ecdsa makes them.
func (s *Signer) SignMessage(_ io.Reader, message []byte, options crypto.SignerOpts) ([]byte, error) {
	use := KeyUse{Op: "sign", Message: message}
	switch s.public.(type) {
	case *ecdsa.PublicKey:
		use.Form = "der"
	case *rsa.PublicKey:
		if options == nil {
			break
		}
		use.Scheme = "RS"
		if _, pss := options.(*rsa.PSSOptions); pss {
			use.Scheme = "PS"
		}
		use.Scheme += strconv.Itoa(8 * options.HashFunc().Size())
	}
	result, err := s.chest.once(s.ctx, s.reference, use)
	return result.Signature, err
}

// Decrypt opens a JWE that was encrypted to the public half, which makes a key that decrypts a crypto.Decrypter.
func (s *Signer) Decrypt(_ io.Reader, jwe []byte, _ crypto.DecrypterOpts) ([]byte, error) {
	name, _, _ := strings.Cut(s.reference, "@") // whichever version the JWE names
	return s.chest.Decrypt(s.ctx, name, string(jwe), nil)
}

// thumbprinted are the members of a JWK that its thumbprint covers, by its kind (RFC 7638, section 3.2; RFC 8037, section 2).
var thumbprinted = map[string][]string{"RSA": {"e", "kty", "n"}, "EC": {"crv", "kty", "x", "y"}, "OKP": {"crv", "kty", "x"},
	"AKP": {"alg", "kty", "pub"}}

// Thumbprint is the SHA-256 thumbprint of a public half (RFC 7638), in base64url.
func Thumbprint(jwk json.RawMessage) (string, error) {
	var all map[string]any
	if err := json.Unmarshal(jwk, &all); err != nil {
		return "", err
	}
	kind, _ := all["kty"].(string)
	required := map[string]string{} // written in the order of names, without spaces
	for _, name := range thumbprinted[kind] {
		if text, is := all[name].(string); is {
			required[name] = text
		}
	}
	if len(required) == 0 || len(required) != len(thumbprinted[kind]) {
		return "", errors.New("this is no public key as a JWK of a kind that is known")
	}
	text, err := json.Marshal(required)
	sum := sha256.Sum256(text)
	return base64.RawURLEncoding.EncodeToString(sum[:]), err
}

// PublicPEM writes a public half in the form that openssl and others read (RFC 7468, section 13). One for HPKE has none yet.
func PublicPEM(jwk json.RawMessage) ([]byte, error) {
	var own struct{ Kty, Crv, X string }
	var key jose.JSONWebKey
	var public any
	if err := key.UnmarshalJSON(jwk); err == nil {
		public = key.Key
	} else if json.Unmarshal(jwk, &own) == nil && own.Kty == "OKP" && own.Crv == "X25519" { // which that library does not know
		point, _ := base64.RawURLEncoding.DecodeString(own.X)
		if public, err = ecdh.X25519().NewPublicKey(point); err != nil {
			return nil, err
		}
	}
	der, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return nil, errors.New("this key has no form in PEM: take its public half as a JWK")
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), nil
}
