package issuer

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"net/http"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// StandIn is an issuer for the demo and for tests: it gives jobs tokens, as a pipeline system does, and publishes its keys.
type StandIn struct {
	Address string // of itself, as its tokens have it

	mu   sync.Mutex
	keys []jose.JSONWebKey // the last one signs
}

// NewStandIn makes one with a fresh key.
func NewStandIn(address string) (*StandIn, error) {
	s := &StandIn{Address: address}
	return s, s.ChangeKey()
}

// ChangeKey makes it sign with another key, and forget the one before.
func (s *StandIn) ChangeKey() error {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	key := jose.JSONWebKey{Key: private, Algorithm: string(jose.ES256), Use: "sig"}
	thumbprint, err := key.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	key.KeyID = string(jsonText(thumbprint))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.keys = []jose.JSONWebKey{key}
	return nil
}

func jsonText(b []byte) []byte {
	text, _ := json.Marshal(b) // base64 between quotes
	return text[1 : len(text)-1]
}

// Token signs claims, besides who made it, when, and for how long.
func (s *StandIn) Token(claims map[string]any, life time.Duration) (string, error) {
	s.mu.Lock()
	key := s.keys[len(s.keys)-1]
	s.mu.Unlock()
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: key}, (&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return "", err
	}
	now := time.Now()
	all := map[string]any{"iss": s.Address, "iat": jwt.NewNumericDate(now), "exp": jwt.NewNumericDate(now.Add(life))}
	for name, value := range claims {
		all[name] = value
	}
	return jwt.Signed(signer).Claims(all).Serialize()
}

// ServeHTTP answers where its keys are, and which.
func (s *StandIn) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	const keys = "/keys"
	w.Header().Set("Content-Type", "application/json")
	switch r.URL.Path {
	case wellKnown:
		_ = json.NewEncoder(w).Encode(map[string]string{"issuer": s.Address, "jwks_uri": s.Address + keys})
	case keys:
		set := jose.JSONWebKeySet{}
		s.mu.Lock()
		for _, key := range s.keys {
			set.Keys = append(set.Keys, key.Public())
		}
		s.mu.Unlock()
		_ = json.NewEncoder(w).Encode(set)
	default:
		http.NotFound(w, r)
	}
}
