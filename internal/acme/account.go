package acme

import (
	"crypto"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"strings"

	"github.com/go-jose/go-jose/v4"
)

// newAccount finds the account of a key, or registers the key (section 7.3).
func (c *call) newAccount() error {
	var body struct {
		OnlyExisting bool            `json:"onlyReturnExisting"`
		Contact      []string        `json:"contact"`
		Binding      json.RawMessage `json:"externalAccountBinding"`
	}
	if err := c.decode(&body); err != nil {
		return err
	}
	if c.account != "" {
		return malformed("a new account is signed by its own key")
	}
	_, account, _, err := c.s.options.People.ACMEAccount(c.origin, "", c.key)
	switch {
	case err == nil:
		return c.showAccount(http.StatusOK, account)
	case body.OnlyExisting:
		return accountProblem(err)
	case len(body.Binding) == 0:
		return problem{http.StatusUnauthorized, "externalAccountRequired", "give an external account binding: tansu app acme-key makes one"}
	}
	binding, err := parse(string(body.Binding), []jose.SignatureAlgorithm{jose.HS256, jose.HS384, jose.HS512})
	if err != nil {
		return err
	}
	if binding.url() != c.base+"new-account" || binding.header.Nonce != "" {
		return malformed("the external account binding is for another URL, or has a nonce")
	}
	account, err = c.s.options.People.RegisterACME(c.origin, binding.header.KeyID, func(key []byte) error {
		payload, err := binding.object.Verify(key)
		if err != nil {
			return err
		}
		if !sameKey(payload, c.key) {
			return errors.New("it binds another key")
		}
		return nil
	}, c.key)
	if err != nil {
		return err
	}
	return c.showAccount(http.StatusCreated, account)
}

// sameKey reports whether two JWKs are of the same key, however they are written.
func sameKey(x, y []byte) bool {
	var a, b jose.JSONWebKey
	if a.UnmarshalJSON(x) != nil || b.UnmarshalJSON(y) != nil || !a.Valid() || !b.Valid() {
		return false
	}
	return thumbprint(a) == thumbprint(b)
}

func (c *call) showAccount(status int, account string) error {
	c.w.Header().Set("Location", c.base+"account/"+account)
	return c.answer(status, map[string]any{"status": "valid", "orders": c.base + "account/" + account + "/orders"})
}

// ownAccount shows an account to its client, or ends it (section 7.3.6).
func (c *call) ownAccount() error {
	if len(c.payload) == 0 {
		return c.showAccount(http.StatusOK, c.account)
	}
	var body struct {
		Status string `json:"status"`
	}
	if err := c.decode(&body); err != nil {
		return err
	}
	switch body.Status {
	case "":
		return c.showAccount(http.StatusOK, c.account) // of contacts nothing is kept: its app has an owner
	case "deactivated":
		if err := c.s.options.People.EndACMEAccount(c.caller, c.account); err != nil {
			return err
		}
		return c.answer(http.StatusOK, map[string]any{"status": "deactivated"})
	}
	return malformed("an account's status can be changed to deactivated")
}

// keyChange puts another key in the place of an account's (section 7.3.5).
func (c *call) keyChange() error {
	inner, err := parse(string(c.payload), algorithms)
	if err != nil {
		return err
	}
	fresh := inner.header.JSONWebKey
	if fresh == nil || !fresh.Valid() || !fresh.IsPublic() || inner.url() != c.base+"key-change" || inner.header.Nonce != "" {
		return malformed("the inner request has the new key, the same URL, and no nonce")
	}
	payload, err := inner.object.Verify(fresh)
	if err != nil {
		return malformed("the inner request is not signed by the new key")
	}
	var body struct {
		Account string          `json:"account"`
		OldKey  json.RawMessage `json:"oldKey"`
	}
	if json.Unmarshal(payload, &body) != nil || body.Account != c.base+"account/"+c.account || !sameKey(body.OldKey, c.key) {
		return malformed("the inner request is about another account, or another old key")
	}
	encoded, err := fresh.MarshalJSON()
	if err != nil {
		return malformed("the new key cannot be read")
	}
	if err := c.s.options.People.TurnACMEKey(c.caller, c.account, encoded); err != nil {
		return err
	}
	return c.showAccount(http.StatusOK, c.account)
}

// keyAuthorization is what a client shows to prove a name (section 8.1).
func (c *call) keyAuthorization(token string) string {
	var key jose.JSONWebKey
	_ = key.UnmarshalJSON(c.key) // it was read before
	return token + "." + thumbprint(key)
}

// publicOf is the public key of a JWK; nil for none.
func publicOf(text json.RawMessage) crypto.PublicKey {
	var key jose.JSONWebKey
	if len(text) == 0 || key.UnmarshalJSON(text) != nil {
		return nil
	}
	return key.Key
}

func decodeURL(text string) ([]byte, error) {
	return base64.RawURLEncoding.DecodeString(strings.TrimRight(text, "="))
}
