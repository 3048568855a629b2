package httpapi

import (
	"net/http"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/cryptokey"
	"tansu/internal/keyrow"
	"tansu/internal/keys"
)

// keyBody bounds what may be signed or encrypted in one call, in bytes of the body.
const keyBody = 4 << 20

func (a *api) useKey(c *call) error {
	var body client.KeyUses
	if err := a.decode(c, keyBody, &body); err != nil {
		return err
	}
	ref, err := valueReference(c, "")
	if err != nil {
		return err
	}
	uses := make([]keys.Use, len(body.Uses))
	for i, u := range body.Uses {
		form, known := map[string]cryptokey.Form{"": cryptokey.Fixed, "fixed": cryptokey.Fixed, "der": cryptokey.DER}[u.Form]
		if !known {
			return chest.Invalid("form", "%.20q is not a form of a signature: fixed or der", u.Form)
		}
		uses[i] = keys.Use{Op: keys.Op(u.Op), Message: u.Message, Signature: u.Signature, Ciphertext: u.Wrapped, Associated: u.Associated,
			Scheme: cryptokey.Scheme(u.Scheme), Form: form, Peer: []byte(u.Peer), Salt: u.Salt, Info: u.Info, Length: u.Length, Hidden: u.Hidden}
		if u.JWE != "" {
			uses[i].Ciphertext = []byte(u.JWE)
		}
	}
	results, err := a.service.Use(c.caller, ref, uses)
	if err != nil {
		return err
	}
	if len(results) == 1 && results[0].Err != nil {
		return results[0].Err
	}
	answer := client.KeyResults{Results: make([]client.KeyResult, len(results))}
	for i, r := range results {
		if r.Err != nil {
			problem := a.problem(c.Context, a.known(c.Context, r.Err))
			answer.Results[i].Problem = &problem
			continue
		}
		answer.Results[i] = client.KeyResult{Version: r.Version, Scheme: string(r.Scheme), Signature: r.Signature, Plaintext: r.Plaintext,
			Valid: r.Valid}
		if uses[i].Op == keys.Wrap {
			answer.Results[i].Wrapped = r.Ciphertext
		} else {
			answer.Results[i].JWE = string(r.Ciphertext)
		}
	}
	defer func() {
		for _, r := range results {
			clear(r.Plaintext)
		}
	}()
	return c.JSON(http.StatusOK, answer)
}

// keyTypes lists the types of keys, with what each is good for. It says nothing of the chest.
func (a *api) keyTypes(c *call) error {
	answer := client.KeyTypes{Types: []client.KeyType{}}
	for _, f := range cryptokey.Types() {
		t := client.KeyType{Type: string(f.Type), About: f.About, Approved: f.Approved, Public: f.Public, Operations: [][]string{},
			Schemes: []string{}}
		for _, set := range f.Operations {
			t.Operations = append(t.Operations, set.Names())
		}
		for _, s := range f.Type.Schemes() {
			t.Schemes = append(t.Schemes, string(s))
		}
		answer.Types = append(answer.Types, t)
	}
	return c.JSON(http.StatusOK, answer)
}

func (a *api) keyUsers(c *call) error {
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	list, err := a.service.KeyUsers(c.caller, ref)
	if err != nil {
		return err
	}
	answer := client.KeyUsers{Users: []client.KeyUser{}}
	for _, u := range list {
		answer.Users = append(answer.Users, client.KeyUser(u))
	}
	return c.JSON(http.StatusOK, answer)
}

// keyFacts reads what is said of a new key.
func keyFacts(body *client.NewKeyFacts) (*keyrow.Facts, error) {
	if body == nil {
		return nil, nil
	}
	ops, err := cryptokey.ParseOperations(body.Operations)
	if err != nil {
		return nil, keyrow.Told(err)
	}
	return &keyrow.Facts{Type: cryptokey.Type(body.Type), Operations: ops, GivenOut: body.GivenOut}, nil
}

func keyJSON(f *keyrow.Facts, decryptFrom int) *client.KeyFacts {
	if f == nil {
		return nil
	}
	return &client.KeyFacts{Type: string(f.Type), Operations: f.Operations.Names(), GivenOut: f.GivenOut, DecryptFrom: decryptFrom}
}
