// Package people is the room for who there is and how they prove it: persons, apps and teams, passwords and sessions, credentials
// and tokens, owners, and the steward with whom everything begins.
package people

import (
	"context"
	"sync/atomic"

	"github.com/go-jose/go-jose/v4"

	"tansu/internal/chest"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/usage"
)

// Options of the room.
type Options struct {
	// Names are those that the chest's own certificate is for; assertions are made out to one of them. Nil for none.
	Names func() []string
	// IsHere reports whether a host and port of this machine lead to this chest; nil for all.
	IsHere func(address string) bool
	// IssuerHosts reports whether an issuer may be at a host, as far as that can be told before it is asked; nil for anywhere.
	IssuerHosts func(host string) bool
	// IssuerKeys fetches the keys with which an outside issuer signs; nil for no such issuers.
	IssuerKeys func(ctx context.Context, issuer, authority, keyID string) ([]jose.JSONWebKey, error)
}

// People is the room. Its methods are safe for concurrent use.
type People struct {
	heart     *chest.Chest
	records   usage.Records
	options   Options
	spent     spent
	strangers chan struct{} // of them, those on devices that are not known: one at a time, so that others never wait for more than one
	waiting   atomic.Int32  // strangers who wait for their turn
	sessions  sessions
	issuers   issuers
	hashing   chan struct{} // bounds how many password hashes run at once, and so their memory
}

// New opens the room over a heart.
func New(heart *chest.Chest, records usage.Records, o Options) *People {
	return &People{heart: heart, records: records, options: o, hashing: make(chan struct{}, 2), strangers: make(chan struct{}, 1)}
}

// isPerson reports whether an identity is a person who could sign in now.
func isPerson(row entity.Identity) bool {
	return row.Kind == reference.Person && row.State == chest.Active && row.Password != ""
}
