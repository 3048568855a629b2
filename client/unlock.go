package client

import (
	"context"
	"net/http"
	"net/url"
	"time"
)

// Trouble is something that is wrong with the chest as a whole.
type Trouble struct {
	What  string    `json:"what"`
	Since time.Time `json:"since,omitzero"`
	Next  string    `json:"next"` // what to do about it
}

// Handed says how many of the shares that unlock the chest were handed in.
type Handed struct {
	Method string    `json:"method"`
	Have   int       `json:"have"`
	Needed int       `json:"needed"`
	Since  time.Time `json:"since"`
}

// UnlockMethod is an unlock method.
type UnlockMethod struct {
	ID         string      `json:"id"`
	Name       string      `json:"name"`
	Kind       string      `json:"kind"` // "passphrase", "key_file" or "shares"
	NotAfter   time.Time   `json:"not_after,omitzero"`
	Used       time.Time   `json:"used,omitzero"` // when it unlocked the chest last
	CreatedAt  time.Time   `json:"created_at"`
	CreatedBy  string      `json:"created_by"`
	Needed     int         `json:"needed"`     // shares
	Custodians []Custodian `json:"custodians"` // who hold them
}

// Custodian holds one share of what unlocks the chest.
type Custodian struct {
	Subject string    `json:"subject"`
	Number  int       `json:"number"`
	Taken   time.Time `json:"taken,omitzero"` // left out while it waits for them
}

// NewUnlockMethod is a method that is to be added. Current is what unlocks the chest by another one now, empty when shares were handed
// in a moment ago.
type NewUnlockMethod struct {
	Name       string    `json:"name"`
	Kind       string    `json:"kind"`
	Material   string    `json:"material,omitempty"`   // a passphrase, or the content of a key file
	Needed     int       `json:"needed,omitempty"`     // of shares
	Custodians []string  `json:"custodians,omitempty"` // people, each of whom gets a share
	NotAfter   time.Time `json:"not_after,omitzero"`
	Replaces   string    `json:"replaces,omitempty"` // the id of a method that ends with it
	Current    string    `json:"current,omitempty"`
}

// Custody is a share of the caller's.
type Custody struct {
	ID     string    `json:"id"`
	Method string    `json:"method"`
	Number int       `json:"number"`
	Needed int       `json:"needed"`
	Count  int       `json:"count"`
	Taken  time.Time `json:"taken,omitzero"`
}

// TakenShare is a share as words for paper. It is shown once.
type TakenShare struct {
	Custody
	Words string `json:"words"`
}

// Unlock opens the chest with its passphrase or the content of its key file.
func (c *Client) Unlock(ctx context.Context, material string) (s Status, err error) {
	return s, c.post(ctx, "/api/unlock", map[string]string{"material": material}, &s)
}

// HandIn hands a custodian's share in; the status says how many there are. With the last one that is needed the chest is unlocked.
func (c *Client) HandIn(ctx context.Context, words string) (s Status, err error) {
	return s, c.post(ctx, "/api/unlock", map[string]string{"share": words}, &s)
}

// UnlockMethods lists the unlock methods.
func (c *Client) UnlockMethods(ctx context.Context) ([]UnlockMethod, error) {
	return listOf[UnlockMethod](ctx, c, "/api/unlock-methods", "methods")
}

// AddUnlockMethod adds an unlock method.
func (c *Client) AddUnlockMethod(ctx context.Context, n NewUnlockMethod) (m UnlockMethod, err error) {
	return m, c.post(ctx, "/api/unlock-methods", n, &m)
}

// EndUnlockMethod ends an unlock method; current is what unlocks the chest by another one.
func (c *Client) EndUnlockMethod(ctx context.Context, id, current string) error {
	return c.post(ctx, "/api/unlock-methods/"+url.PathEscape(id)+"/end", map[string]string{"current": current}, nil)
}

// RotateRootKey puts another root key in the place of the one that the chest has. It returns how many keys were wrapped anew.
func (c *Client) RotateRootKey(ctx context.Context, current string) (wrapped int, err error) {
	return memberOf[int](lengthy(ctx), c, http.MethodPost, "/api/root-key/rotate", map[string]string{"current": current}, "wrapped")
}

// Shares lists the shares that the caller holds, or that wait for them.
func (c *Client) Shares(ctx context.Context) ([]Custody, error) {
	return listOf[Custody](ctx, c, "/api/me/shares", "shares")
}

// TakeShare gives the caller their share, once.
func (c *Client) TakeShare(ctx context.Context, id string) (s TakenShare, err error) {
	return s, c.post(ctx, "/api/me/shares/"+url.PathEscape(id)+"/take", nil, &s)
}
