package certs

import (
	"fmt"
	"strings"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/core/cert"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/reference"
	"tansu/internal/keyrow"
)

// SignedJWT is a token, with the version of the key that signed it.
type SignedJWT struct {
	cert.SignedJWT
	KeyID string // kid
}

// IssueJWT has the key of a profile sign a JSON Web Token, and records it. Tokens are not listed, as certificates are: nobody could revoke
// one. The trail has who was given which.
func (s *Certs) IssueJWT(c chest.Caller, ref reference.Reference, r cert.JWTRequest) (made SignedJWT, err error) {
	r.Asks = c.Name
	err = s.heart.Try(func() error {
		a, p, found, key, err := s.beginWith(c, ref, cert.GivesJWT)
		if err != nil {
			return err
		}
		by := cert.JWTKey{ID: keyrow.ID(found.Item.Row.ID, found.Number), Ends: found.Ends, Algorithm: p.JWT.Algorithm}
		if by.Algorithm == "" {
			by.Algorithm = keyrow.Of(found.Item.Row).JWTAlgorithms()[0]
		}
		scheme := cryptokey.Scheme(by.Algorithm)
		if by.Algorithm == cert.EdDSA {
			scheme = cryptokey.SchemeEd25519
		}
		by.Sign = func(message []byte) ([]byte, error) {
			signature, _, err := key.Sign(scheme, cryptokey.Fixed, message)
			return signature, keyrow.Told(err)
		}
		if err := s.inTurn(c, key.Type(), func() error {
			made.SignedJWT, err = p.IssueJWT(r, by, a.Entry.At)
			return err
		}); err != nil {
			return a.Fail(certrow.Told(err))
		}
		made.KeyID = by.ID
		a.Entry.Detail = fmt.Sprintf("token %s about %.100s for %.200s until %s", made.ID, made.Subject, strings.Join(r.Audiences, " "),
			made.NotAfter.UTC().Format(time.RFC3339))
		return a.Done()
	})
	if err != nil { // what was signed and could not be recorded is not served
		return SignedJWT{}, err
	}
	return made, nil
}
