package record

import (
	"time"

	"tansu/internal/chest"
)

// Follower is a witness or an outlet, and how far it is.
type Follower struct {
	Name     string
	Position uint64    // the entries that it was told of
	At       time.Time // when it last took something since the service started; zero for not yet
	Failing  time.Time // since when it takes nothing; zero while it does
	Problem  string    // why
	Rejected int       // entries that it will never take, which are in the file of dead letters
}

// Upkeep is how long the trail is, and who follows it.
type Upkeep struct {
	Entries   uint64
	Witnesses []Follower
	Outlets   []Follower
}

// LookAfter tells how far those are who follow the trail.
func (s *Record) LookAfter(c chest.Caller) (u Upkeep, err error) {
	a, err := s.allowWholeTrail(c, "read_trail", "see where the trail goes")
	if err != nil {
		return u, err
	}
	a.Entry.Detail = "upkeep"
	u.Entries = s.records.Last()
	u.Witnesses = s.witnesses.states()
	if s.options.Outlets != nil {
		u.Outlets = s.options.Outlets()
	}
	return chest.Reply(a, u)
}
