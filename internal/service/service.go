// Package service puts the rooms of a chest together: the heart, and one room for each part of the work. It has no work of its own.
package service

import (
	"context"
	"log/slog"
	"time"

	"github.com/go-jose/go-jose/v4"

	"tansu/internal/certs"
	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/trail"
	"tansu/internal/ends"
	"tansu/internal/keys"
	"tansu/internal/masters"
	"tansu/internal/opening"
	"tansu/internal/people"
	"tansu/internal/record"
	"tansu/internal/recovery"
	"tansu/internal/rights"
	"tansu/internal/shelf"
	"tansu/internal/store"
	"tansu/internal/turns"
	"tansu/internal/usage"
)

// Records is all that the heart and the rooms ask of a store; *store.Store is one.
type Records interface {
	chest.Records
	opening.Records
	record.Records
	rights.Records
	shelf.Records
	keys.Records
	Done(id []byte) (*store.Once, error)
	CountUses(func(trail.Entry) []store.Use)
}

// Options of a service. See those of the rooms.
type Options struct {
	Now          func() time.Time
	Log          *slog.Logger
	OnUnlock     func(root *envelope.Root)
	Witnesses    []record.Witness
	Restored     bool
	TrustClock   bool // although what is recorded is of a later time
	ArchiveAfter time.Duration
	Names        func() []string
	IsHere       func(address string) bool // whether a host and port of this machine lead to this chest; nil for all
	IssuerHosts  func(host string) bool    // whether an issuer may be there; nil for anywhere
	IssuerKeys   func(ctx context.Context, issuer, authority, keyID string) ([]jose.JSONWebKey, error)
	Outlets      func() []record.Follower
	Tokens       map[string]string // PKCS #11 URIs of tokens that keep master keys, by the names that master keys know them by
	Recovery     recovery.Options
}

// Service is an open chest, locked or not: all that its rooms can do. Its methods are safe for concurrent use.
type Service struct {
	*people.People
	*rights.Rights
	*shelf.Shelf
	*keys.Keys
	*ends.Ends
	*record.Record
	*opening.Opening
	*recovery.Recovery
	Certs   *certs.Certs
	Masters *masters.Masters
	Heart   *chest.Chest
	// Done finds what was done under a key that its caller gave it, by what that is known by; nil for nothing.
	Done func(id []byte) (*store.Once, error)
}

// New opens the rooms over records. The chest is locked.
func New(records Records, o Options) (*Service, error) {
	heart, err := chest.New(records, chest.Options{Now: o.Now, Log: o.Log, TrustClock: o.TrustClock})
	if err != nil {
		return nil, err
	}
	records.CountUses(usage.Of)
	using, making := turns.New(), turns.New() // of keys that take long: making one takes seconds, and nobody waits for that to use one
	s := &Service{
		Heart: heart,
		Done:  records.Done,
		People: people.New(heart, records, people.Options{Names: o.Names, IssuerKeys: o.IssuerKeys,
			IssuerHosts: o.IssuerHosts, IsHere: o.IsHere}),
		Rights: rights.New(heart, records),
		Shelf:  shelf.New(heart, records, making),
		Keys:   keys.New(heart, records, using),
		Ends:   ends.New(heart),
	}
	s.Certs = certs.New(heart, s.Shelf, using, making)
	s.Masters = masters.New(heart, records, o.Tokens)
	s.Record = record.New(heart, records, s.Shelf, record.Options{Witnesses: o.Witnesses, ArchiveAfter: o.ArchiveAfter, Outlets: o.Outlets})
	if s.Recovery, err = recovery.New(heart, records, o.Recovery); err != nil {
		return nil, err
	}
	s.Opening = opening.New(heart, records, s.Record, opening.Options{OnUnlock: o.OnUnlock, Fetch: s.Masters.Fetch, Restored: o.Restored,
		Problems: s.problems})
	return s, nil
}

// problems are those of the rooms for backups and for master keys, for the one that tells the chest's state.
func (s *Service) problems() (list []opening.Problem) {
	for _, p := range s.Recovery.Problems() {
		list = append(list, opening.Problem(p))
	}
	if since := s.Masters.Missing(); !since.IsZero() {
		list = append(list, opening.Problem{What: "a master key is not at hand, and nothing in the drawers under it is served", Since: since,
			Next: "tansu master-key list shows which; whoever has it gives it back: tansu master-key give-back"})
	}
	return list
}
