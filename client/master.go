package client

import (
	"context"
	"net/http"
	"net/url"
	"time"
)

// MasterKey is a key that drawers are under as well as under the root key.
type MasterKey struct {
	ID          string    `json:"id"`
	Name        string    `json:"name"`
	Origin      string    `json:"origin"` // "made" by the chest, "brought" by its owner, or in a "token"
	Description string    `json:"description"`
	Owner       string    `json:"owner"`
	Fingerprint string    `json:"fingerprint"`     // tells one material from another
	State       string    `json:"state"`           // "at_hand", "withdrawn", or "missing": not given since the chest was unlocked
	InMemory    bool      `json:"in_memory"`       // it is never stored
	Token       string    `json:"token,omitempty"` // the name of the PKCS #11 token
	Manages     bool      `json:"manages"`         // whether the caller may withdraw it and give it back
	Drawers     []string  `json:"drawers"`         // under it, those that the caller may list
	MoreDrawers int       `json:"more_drawers"`    // that the caller may not list
	Items       int       `json:"items"`           // in all of these
	Readers     []string  `json:"readers"`         // who read or used something there in the last seven days; only of one key
	MoreReaders int       `json:"more_readers"`    // whom the caller may not know of
	CreatedAt   time.Time `json:"created_at"`
	CreatedBy   string    `json:"created_by"`
	WithdrawnAt time.Time `json:"withdrawn_at,omitzero"`
	WithdrawnBy string    `json:"withdrawn_by,omitempty"`
	GivenAt     time.Time `json:"given_at,omitzero"` // back, last
	Revision    int64     `json:"revision"`
}

// NewMasterKey is a master key that is to be made, or brought with its material of 32 bytes.
type NewMasterKey struct {
	Name        string `json:"name"`
	Origin      string `json:"origin"`
	Description string `json:"description,omitempty"`
	Owner       string `json:"owner,omitempty"` // empty for the caller
	Material    []byte `json:"material,omitempty"`
	InMemory    bool   `json:"in_memory,omitempty"`
	Token       string `json:"token,omitempty"`
}

// MasterKeyChanges are what can be said anew of a master key; nil leaves it as it is.
type MasterKeyChanges struct {
	Name        *string `json:"name,omitempty"`
	Description *string `json:"description,omitempty"`
	Owner       *string `json:"owner,omitempty"`
}

// GivenBack is what gives a master key back; one in a token needs nothing.
type GivenBack struct {
	Material []byte `json:"material,omitempty"`
	InMemory *bool  `json:"in_memory,omitempty"` // nil for as before
}

func masterPath(id string) string { return "/api/master-keys/" + url.PathEscape(id) }

// MasterKeys lists the master keys.
func (c *Client) MasterKeys(ctx context.Context) ([]MasterKey, error) {
	return listOf[MasterKey](ctx, c, "/api/master-keys", "master_keys")
}

// MasterKey is one that the caller manages, with whom it would concern if it were withdrawn.
func (c *Client) MasterKey(ctx context.Context, id string) (k MasterKey, err error) {
	return k, c.get(ctx, masterPath(id), &k)
}

// MakeMasterKey makes a master key, or brings one.
func (c *Client) MakeMasterKey(ctx context.Context, n NewMasterKey) (k MasterKey, err error) {
	return k, c.post(ctx, "/api/master-keys", n, &k)
}

// ChangeMasterKey says something anew of a master key that still has the revision.
func (c *Client) ChangeMasterKey(ctx context.Context, id string, revision int64, ch MasterKeyChanges) (k MasterKey, err error) {
	return k, c.do(ctx, http.MethodPatch, masterPath(id), ch, &k, IfMatch(revision))
}

// WithdrawMasterKey closes the drawers under a master key until it is given back; typed is its exact name.
func (c *Client) WithdrawMasterKey(ctx context.Context, id, typed string) (k MasterKey, err error) {
	return k, c.post(ctx, masterPath(id)+"/withdraw", map[string]string{"name": typed}, &k)
}

// GiveMasterKeyBack gives back the same key.
func (c *Client) GiveMasterKeyBack(ctx context.Context, id string, g GivenBack) (k MasterKey, err error) {
	return k, c.post(ctx, masterPath(id)+"/give-back", g, &k)
}

// DestroyMasterKey forgets a master key that no drawer is under, for good; typed is its exact name.
func (c *Client) DestroyMasterKey(ctx context.Context, id, typed string) error {
	return c.post(ctx, masterPath(id)+"/destroy", map[string]string{"name": typed}, nil)
}
