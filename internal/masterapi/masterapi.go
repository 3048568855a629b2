// Package masterapi is the part of the HTTP interface that is about master keys: a table of routes, which package httpapi serves with its
// own.
package masterapi

import (
	"net/http"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/secretvalue"
	"tansu/internal/masters"
	"tansu/internal/route"
)

const onePath = "/api/master-keys/:key"

// Routes is the table.
var Routes = []route.Route[*masters.Masters]{
	route.New("GET", "/api/master-keys", "", list),
	route.New("POST", "/api/master-keys", "", create),
	route.New("GET", onePath, "", one),
	route.New("PATCH", onePath, "", change),
	route.New("POST", onePath+"/withdraw", "", withdraw),
	route.New("POST", onePath+"/give-back", "", giveBack),
	route.New("POST", onePath+"/destroy", "", destroy),
}

// body is the limit of a body, in bytes.
const body = 16 << 10

func shown(k masters.Key) client.MasterKey {
	return client.MasterKey{ID: k.Row.ID, Name: k.Row.Name, Origin: k.Row.Origin, Description: k.Row.Description, Owner: k.Row.Owner,
		Fingerprint: k.Row.Fingerprint, State: k.State, InMemory: k.Row.InMemory, Token: k.Row.Token, Manages: k.Manages,
		Drawers: append([]string{}, k.Drawers...), MoreDrawers: k.More, Items: k.Items, Readers: append([]string{}, k.Readers...),
		MoreReaders: k.MoreReaders, CreatedAt: chest.FromMicros(k.Row.CreatedAt), CreatedBy: k.Row.CreatedBy,
		WithdrawnAt: chest.FromMicros(k.Row.WithdrawnAt), WithdrawnBy: k.Row.WithdrawnBy, GivenAt: chest.FromMicros(k.Row.GivenAt),
		Revision: k.Row.Revision}
}

func answer(c *route.Call, status int, k masters.Key, err error) error {
	if err != nil {
		return err
	}
	return c.JSON(status, shown(k))
}

func list(s *masters.Masters, c *route.Call) error {
	keys, err := s.List(c.Caller)
	if err != nil {
		return err
	}
	answer := []client.MasterKey{}
	for _, k := range keys {
		answer = append(answer, shown(k))
	}
	return c.JSON(http.StatusOK, map[string]any{"master_keys": answer})
}

func one(s *masters.Masters, c *route.Call) error {
	k, err := s.One(c.Caller, c.Path("key"))
	return answer(c, http.StatusOK, k, err)
}

func create(s *masters.Masters, c *route.Call) error {
	var in client.NewMasterKey
	if err := c.Decode(body, &in); err != nil {
		return err
	}
	material := secretvalue.New(in.Material)
	defer material.Wipe()
	k, err := s.Make(c.Caller, masters.NewKey{Name: in.Name, Origin: in.Origin, Description: in.Description, Owner: in.Owner,
		Material: material, InMemory: in.InMemory, Token: in.Token})
	return answer(c, http.StatusCreated, k, err)
}

func change(s *masters.Masters, c *route.Call) error {
	revision, err := c.Revision()
	if err != nil {
		return err
	}
	var in client.MasterKeyChanges
	if err := c.Decode(body, &in); err != nil {
		return err
	}
	if in == (client.MasterKeyChanges{}) {
		return chest.Invalid("name", "nothing to change: give name, description or owner")
	}
	k, err := s.Change(c.Caller, c.Path("key"), revision, masters.Changes(in))
	return answer(c, http.StatusOK, k, err)
}

// typed reads the exact name of what is to be taken away.
func typed(c *route.Call) (string, error) {
	var in struct {
		Name string `json:"name"`
	}
	err := c.Decode(body, &in)
	return in.Name, err
}

func withdraw(s *masters.Masters, c *route.Call) error {
	name, err := typed(c)
	if err != nil {
		return err
	}
	k, err := s.Withdraw(c.Caller, c.Path("key"), name)
	return answer(c, http.StatusOK, k, err)
}

func giveBack(s *masters.Masters, c *route.Call) error {
	var in client.GivenBack
	if err := c.Decode(body, &in); err != nil {
		return err
	}
	material := secretvalue.New(in.Material)
	defer material.Wipe()
	k, err := s.GiveBack(c.Caller, c.Path("key"), material, in.InMemory)
	return answer(c, http.StatusOK, k, err)
}

func destroy(s *masters.Masters, c *route.Call) error {
	name, err := typed(c)
	if err != nil {
		return err
	}
	if err := s.Destroy(c.Caller, c.Path("key"), name); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
