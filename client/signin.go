package client

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// tokenPath is where an app gets its token; with the chest's address before it, it is what assertions are made out to.
const tokenPath = "/api/oauth/token"

// AppToken exchanges an app's secret for an access token (RFC 6749, section 4.4).
func (c *Client) AppToken(ctx context.Context, app, secret string) (token string, life time.Duration, err error) {
	return c.appToken(ctx, url.Values{"grant_type": {"client_credentials"}}, func(r *http.Request) {
		r.SetBasicAuth(url.QueryEscape(app), url.QueryEscape(secret))
	})
}

// AppTokenByAssertion exchanges a signed statement of the app's own for an access token (RFC 7523, section 2.2).
func (c *Client) AppTokenByAssertion(ctx context.Context, assertion string) (token string, life time.Duration, err error) {
	return c.appToken(ctx, url.Values{"grant_type": {"client_credentials"}, "client_assertion": {assertion},
		"client_assertion_type": {"urn:ietf:params:oauth:client-assertion-type:jwt-bearer"}}, nil)
}

// AppTokenByIssuer exchanges a token of an issuer that the app has registered for an access token (RFC 7523, section 2.1).
func (c *Client) AppTokenByIssuer(ctx context.Context, app, outside string) (token string, life time.Duration, err error) {
	return c.appToken(ctx, url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:jwt-bearer"}, "client_id": {app},
		"assertion": {outside}}, nil)
}

// AppTokenByCertificate gets an access token for the certificate of the connection, to which it is bound (RFC 8705).
func (c *Client) AppTokenByCertificate(ctx context.Context, app string) (token string, life time.Duration, err error) {
	return c.appToken(ctx, url.Values{"grant_type": {"client_credentials"}, "client_id": {app}}, nil)
}

func (c *Client) appToken(ctx context.Context, form url.Values, prepare func(*http.Request)) (token string, life time.Duration, err error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, c.address+tokenPath, strings.NewReader(form.Encode()))
	if err != nil {
		return "", 0, fmt.Errorf("make request: %w", err)
	}
	request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if prepare != nil {
		prepare(request)
	}
	var answer struct {
		Token string `json:"access_token"`
		Life  int    `json:"expires_in"`
	}
	err = c.receive(request, &answer)
	return answer.Token, time.Duration(answer.Life) * time.Second, err
}

// signIn gets a token with what the app proves itself with.
func (c *Client) signIn(ctx context.Context) (token string, life time.Duration, err error) {
	o := c.options
	switch {
	case o.Secret != nil:
		secret, err := o.Secret()
		if err != nil {
			return "", 0, fmt.Errorf("get the secret of app %s: %w", o.App, err)
		}
		return c.AppToken(ctx, o.App, secret)
	case len(o.Key) > 0:
		assertion, err := c.Assertion(o.App, "", o.Key)
		if err != nil {
			return "", 0, err
		}
		return c.AppTokenByAssertion(ctx, assertion)
	case o.Outside != nil:
		outside, err := o.Outside()
		if err != nil {
			return "", 0, fmt.Errorf("get a token for app %s: %w", o.App, err)
		}
		return c.AppTokenByIssuer(ctx, o.App, outside)
	}
	return c.AppTokenByCertificate(ctx, o.App)
}

// assertionLife is how long an assertion of ours is good for: it is used at once.
const assertionLife = time.Minute

// Assertion makes a statement that the holder of a private key (PEM, PKCS #8) is an app, for this chest and for one use. The
// id is random when it is left empty.
func (c *Client) Assertion(app, id string, key []byte) (string, error) {
	private, err := readKey(key)
	if err != nil {
		return "", err
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: algorithmOf(private), Key: private}, (&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return "", errors.New("the key cannot sign: it is none of Ed25519, P-256, P-384 and RSA")
	}
	if id == "" {
		var random [16]byte
		_, _ = rand.Read(random[:])
		id = hex.EncodeToString(random[:])
	}
	now := time.Now()
	text, err := jwt.Signed(signer).Claims(jwt.Claims{Issuer: app, Subject: app, Audience: jwt.Audience{c.address + tokenPath}, ID: id,
		IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(assertionLife))}).Serialize()
	if err != nil {
		return "", errors.New("the key cannot sign")
	}
	return text, nil
}

func algorithmOf(private crypto.Signer) jose.SignatureAlgorithm {
	switch key := private.(type) {
	case ed25519.PrivateKey:
		return jose.EdDSA
	case *ecdsa.PrivateKey:
		if key.Curve == elliptic.P384() {
			return jose.ES384
		}
		return jose.ES256
	case *rsa.PrivateKey:
		return jose.PS256
	}
	return ""
}

// NewKey makes a key pair for an app: the private half as PEM (PKCS #8), which stays where it was made, and the public half as a
// JSON Web Key (RFC 7517), which is registered with the chest.
func NewKey() (private, public []byte, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, fmt.Errorf("make a key: %w", err)
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, nil, fmt.Errorf("make a key: %w", err)
	}
	private = pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	public, err = PublicKey(private)
	return private, public, err
}

// PublicKey is the public half of a private key (PEM, PKCS #8) or a public key in PEM, as a JSON Web Key (RFC 7517).
func PublicKey(encoded []byte) ([]byte, error) {
	if block, _ := pem.Decode(encoded); block != nil && block.Type == "PUBLIC KEY" {
		public, err := x509.ParsePKIXPublicKey(block.Bytes)
		if err != nil {
			return nil, errors.New("the public key cannot be read")
		}
		return jose.JSONWebKey{Key: public}.MarshalJSON()
	}
	private, err := readKey(encoded)
	if err != nil {
		return nil, err
	}
	return jose.JSONWebKey{Key: private.Public()}.MarshalJSON()
}

func readKey(encoded []byte) (crypto.Signer, error) {
	block, _ := pem.Decode(encoded)
	if block == nil {
		return nil, errors.New("it is not a key in PEM form (PKCS #8)")
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	signer, is := key.(crypto.Signer)
	if err != nil || !is {
		return nil, errors.New("it is not a private key in PKCS #8 form")
	}
	return signer, nil
}

// EnrolHost exchanges a one-time code for a key (PEM) that was made on this host: from then on the app signs in with it.
func (c *Client) EnrolHost(ctx context.Context, code string, key []byte) (h HostEnrolled, err error) {
	public, err := PublicKey(key)
	if err != nil {
		return h, err
	}
	sum := sha256.Sum256([]byte(code))
	assertion, err := c.Assertion("host", base64.RawURLEncoding.EncodeToString(sum[:]), key)
	if err != nil {
		return h, err
	}
	return h, c.send(ctx, http.MethodPost, "/api/enrol-host", "", HostEnrolment{Code: code, PublicKey: public, Assertion: assertion}, &h, nil)
}
