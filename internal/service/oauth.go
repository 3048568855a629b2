package service

import (
	"encoding/hex"
	"time"

	"tansu/internal/core/credential"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/store"
)

// AppToken is what an app gets for its secret.
type AppToken struct {
	Token secretvalue.Value
	Life  time.Duration
}

// IssueToken is the client credentials grant of OAuth 2.0 (RFC 6749, section 4.4): the app's name and secret for an
// access token.
func (s *Service) IssueToken(origin Origin, clientID, clientSecret string) (AppToken, error) {
	a := s.attempt(Caller{Origin: origin, name: unknown, via: "client_secret"}, "issue_token", "")
	identity, used, err := s.authenticateApp(a, clientID, clientSecret)
	if err != nil {
		return AppToken{}, err
	}
	a.entry.Detail = "with " + used.ID
	token, hash := credential.New(credential.AppToken)
	return AppToken{Token: token, Life: appTokenLife}, a.addToken(store.Token{ID: hex.EncodeToString(hash[:]), Identity: identity.ID,
		Kind: string(credential.AppToken), Via: viaApp, Credential: used.ID,
		NotAfter: micros(a.entry.At.Add(appTokenLife)), CreatedAt: micros(a.entry.At)})
}

// authenticateApp checks an app's name and secret and notes the app in the entry.
func (s *Service) authenticateApp(a *attempt, clientID, clientSecret string) (store.Identity, store.Credential, error) {
	var identity store.Identity
	var used store.Credential
	subject := reference.App + ":" + clientID
	hash, malformed := credential.Parse(credential.AppSecret, clientSecret)
	err := s.view(func(st *state) error {
		identity, _ = st.identity(subject)
		if row := st.credential(kindAppSecret, hash); row.Identity == identity.ID {
			used = row
		}
		return nil
	})
	if err != nil {
		return identity, used, err
	}
	if identity.ID != "" {
		a.entry.Subject = subject
	}
	ended := used.NotAfter != 0 && micros(a.entry.At) >= used.NotAfter
	if malformed == nil && identity.ID != "" && used.ID != "" && !ended && identity.State == stateActive {
		return identity, used, nil
	}
	if err := s.take(a, []limit{{"client " + a.entry.Addr, 60, 10 * time.Minute}}); err != nil {
		return identity, used, err
	}
	return identity, used, a.refuse(&Error{Code: SignInFailed, Detail: "the client id or the client secret is wrong, or has ended", Reason: "client_failed"})
}

// RevokeToken ends a token (RFC 7009). An unknown token is no error (section 2.2), and an app can end only its own.
func (s *Service) RevokeToken(origin Origin, clientID, clientSecret, token string) error {
	a := s.attempt(Caller{Origin: origin, name: unknown, via: "client_secret"}, "revoke_token", "")
	identity, _, err := s.authenticateApp(a, clientID, clientSecret)
	if err != nil {
		return err
	}
	var row store.Token
	hash, malformed := credential.Parse(credential.AppToken, token)
	err = s.view(func(st *state) error {
		if malformed == nil {
			row = st.tokens[hex.EncodeToString(hash[:])]
		}
		return nil
	})
	if err != nil {
		return err
	}
	if row.ID == "" || row.Identity != identity.ID {
		a.entry.Detail = "no such token"
		return a.done()
	}
	return a.change("token", func(tx *store.Tx) error { return store.Delete(tx, row) }, func(st *state) { delete(st.tokens, row.ID) })
}
