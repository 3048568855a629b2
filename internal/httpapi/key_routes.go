package httpapi

import (
	"encoding/json"
	"net/http"
	"slices"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/keyrow"
	"tansu/internal/keywire"
	"tansu/internal/shelf"
	"tansu/internal/strictjson"
)

// keyBody bounds what may be signed or encrypted in one call, in bytes of the body.
const keyBody = 4 << 20

func (a *api) useKey(c *call) error {
	ref, err := valueReference(c, "")
	if err != nil {
		return err
	}
	body, err := strictjson.Read(c.Response(), c.Request(), keyBody)
	if err != nil {
		return err
	}
	defer clear(body)
	uses, err := keywire.Uses(body)
	if err != nil {
		return err
	}
	results, err := a.service.Use(c.caller, ref, uses)
	if err != nil {
		return err
	}
	if len(results) == 1 && results[0].Err != nil {
		return results[0].Err
	}
	room := answers.Get().(*[]byte)
	answer := append(slices.Grow((*room)[:0], keywire.Room(results)), `{"results":[`...)
	defer func() {
		clear(answer)
		for _, r := range results {
			clear(r.Plaintext)
		}
		if cap(answer) <= 512<<10 {
			*room = answer
			answers.Put(room)
		}
	}()
	for i, r := range results {
		if i > 0 {
			answer = append(answer, ',')
		}
		if r.Err == nil {
			answer = keywire.Append(answer, r, uses[i].Op)
			continue
		}
		problem, err := json.Marshal(a.problem(c.Context, a.known(c.Context, r.Err)))
		if err != nil {
			return err
		}
		answer = append(append(append(answer, `{"problem":`...), problem...), '}')
	}
	return c.Blob(http.StatusOK, "application/json", append(answer, "]}"...))
}

// receive opens a key that was wrapped for its way to a key of the chest, and brings it.
func (a *api) receive(c *call, body client.NewVersion, v *shelf.NewVersion) error {
	if body.BroughtUnder == "" {
		return nil
	}
	under, err := reference.Parse(body.BroughtUnder)
	if err != nil || under.Field != "" {
		return chest.Invalid("brought_under", "brought_under is the key of the chest that it was wrapped to, such as ticketing-prod/import-key")
	}
	text, err := a.service.Receive(c.caller, under, body.Brought, cryptokey.Type(body.BroughtType))
	v.Brought = secretvalue.New(text)
	return err
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

// publicKeys answers a JWK set. Whoever proves who they are gets what they may see; anybody else what is open to all, which may be kept for
// a while by whatever lies in between.
func (a *api) publicKeys(c *call) error {
	var set []json.RawMessage
	var err error
	if c.Request().Header.Get("Authorization") == "" && a.cookies.session(c.Request()) == "" {
		set, err = a.service.OpenPublic(c.param("drawer"))
		if err == nil {
			c.Response().Header().Set("Cache-Control", "public, max-age=300")
		}
	} else {
		var caller chest.Caller
		if caller, err = a.authenticate(c); err == nil {
			set, err = a.service.Public(caller, c.param("drawer"))
		}
	}
	if err != nil {
		return err
	}
	text, err := json.Marshal(map[string]any{"keys": set})
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, "application/jwk-set+json", text)
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
