package record

import (
	"errors"
	"fmt"
	"time"

	"tansu/internal/chest"
	"tansu/internal/store"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
)

// KeptRead is a read that an agent on a host served from what it keeps.
type KeptRead struct {
	Number    uint64
	Reference reference.Reference
	Version   int
	At        time.Time
	By        string // the user of the host, and the program
	Away      bool   // whether the agent could not reach the chest
}

// MaxKeptReads is how many are reported at once.
const MaxKeptReads = 500

// ReportReads records reads that an agent served as the caller, from what it keeps. They happened, whatever the caller may read by now:
// but a grant, the drawer's rule and a version that is there must have allowed a host to keep the value when it was read. An app can
// only say it of itself. One that is reported twice, because the answer was lost, has the same number twice.
func (s *Record) ReportReads(c chest.Caller, host string, reads []KeptRead) error {
	if len(reads) == 0 || len(reads) > MaxKeptReads {
		return chest.Invalid("reads", "reads are 1 to %d", MaxKeptReads)
	}
	if err := chest.CheckName("host", host); err != nil {
		return err
	}
	for _, read := range reads {
		if err := chest.CheckText("by", read.By, chest.MaxDescription); err != nil {
			return err
		}
		if read.Version < 1 {
			return chest.Invalid("reads", "each read has the version that was served")
		}
	}
	a := s.heart.Attempt(c, "report_reads", "")
	if err := a.Err(); err != nil {
		return err
	}
	if a.St.Identity(c.ID).Kind != reference.App {
		return a.Refuse(&chest.Error{Code: chest.Refused, Reason: "apps_only", Detail: "only reads of apps are kept on hosts and reported"})
	}
	first, err := s.firstReads(a, reads)
	if err != nil {
		return a.Fail(err)
	}
	batch := chest.NewBatch(len(reads))
	c = c.Batched(batch, s.heart.Now())
	for _, read := range reads {
		one := s.heart.Attempt(c, access.ReadValue.String(), read.Reference.Drawer+"/"+read.Reference.Item)
		one.Entry.Version, one.Entry.Field, one.Entry.Pinned, one.Entry.Host = read.Version, read.Reference.Field, read.Reference.Version != 0,
			host
		one.Entry.Detail = fmt.Sprintf("kept on host %s, number %d, at %s by %s", host, read.Number, read.At.UTC().Format(time.RFC3339), read.By)
		if read.Away {
			one.Entry.Detail += ", while the chest was away"
		}
		if problem := mayHaveKept(one, read, first); problem != "" {
			// it is in the trail: the host can do nothing about it
			_ = one.Refuse(&chest.Error{Code: chest.Refused, Reason: "not_kept", Detail: problem})
			continue
		}
		_ = one.Done() // it is part of the batch
	}
	if err := s.heart.Flush(batch); err != nil {
		if errors.Is(err, store.ErrMoved) {
			return &chest.Error{Code: chest.Stale, Detail: "what these reads rest on is changing; report them again", Err: err}
		}
		return err
	}
	return nil
}

// firstReads are when the attempt's caller was first served each of the items that it reports reads of: what a host keeps, it was given
// once. Microseconds since 1970, by the items' ids.
func (s *Record) firstReads(a *chest.Attempt, reads []KeptRead) (map[string]int64, error) {
	if err := s.records.CatchUp(); err != nil {
		return nil, err
	}
	ids := map[string]bool{}
	for _, read := range reads {
		if spot := a.St.At(read.Reference.Drawer, read.Reference.Item); spot.Item != nil {
			ids[spot.Item.Row.ID] = true
		}
	}
	first := map[string]int64{}
	for id := range ids {
		uses, err := s.records.Uses(store.UseFilter{Kind: store.UseReadItem, Keys: []string{id}})
		if err != nil {
			return nil, err
		}
		for _, use := range uses {
			if use.Other == a.Caller.Name {
				first[id] = use.FirstAt
			}
		}
	}
	return first, nil
}

// mayHaveKept says why a host cannot have kept a value for a reader; empty when it can. Grants that have ended since count, and so does
// a rule that was changed since then: the read happened before. What never was allowed is not taken as a read.
func mayHaveKept(a *chest.Attempt, read KeptRead, first map[string]int64) string {
	spot := a.St.At(read.Reference.Drawer, read.Reference.Item)
	a.RestOnSpot(spot)
	if spot.Item == nil || read.Version > len(spot.Item.Versions) {
		return "there is no such item or version"
	}
	if read.At.After(a.Entry.At.Add(clockSkew)) ||
		read.At.Before(chest.FromMicros(spot.Item.Versions[read.Version-1].CreatedAt).Add(-clockSkew)) {
		return "the version was not there then"
	}
	target := spot.Target()
	given := append(a.St.GivenTo(a.Caller.ID), a.St.PastOf(a.Caller.ID)...)
	for _, team := range a.St.MembershipsOf(a.Caller.ID) {
		given = append(append(given, a.St.GivenTo(team.Team)...), a.St.PastOf(team.Team)...)
	}
	for _, row := range given {
		g, err := a.St.GrantOf(row)
		ended := chest.FromMicros(row.EndedAt)
		if err != nil || g.Effect != access.Allow || g.Role.Actions&access.ReadValue == 0 || !g.Scope.Matches(target) ||
			!ended.IsZero() && read.At.After(ended.Add(longestKept)) || chest.FromMicros(row.CreatedAt).After(read.At.Add(clockSkew)) {
			continue
		}
		a.Entry.Grant = row.ID
		if rules := spot.Item.Life.Rules; rules.Now.HostKeeps == 0 && rules.Next.HostKeeps == 0 {
			return "no rule lets hosts keep it"
		}
		if at, was := first[spot.Item.Row.ID]; !was || read.At.Before(chest.FromMicros(at).Add(-clockSkew)) {
			return "it was never given to it before that, so that there was nothing to keep"
		}
		return ""
	}
	return "no grant ever let it read that"
}

// How far clocks may be apart, and for how long a host may keep what it has, at most.
const (
	clockSkew   = 5 * time.Minute
	longestKept = 400 * 24 * time.Hour
)

// HostKey returns the key under which the host of an app may keep values on its disk, for who signed in with a credential of the
// app. Whoever cannot sign in with that credential any more does not get it again, and each time is in the trail.
func (s *Record) HostKey(c chest.Caller) (key [envelope.KeySize]byte, err error) {
	a := s.heart.Attempt(c, "host_key", c.Name)
	if err := a.Err(); err != nil {
		return key, err
	}
	token, _ := a.St.Token(c.Token)
	credential := a.St.Credential(token.Credential).ID
	if credential == "" {
		return key, a.Refuse(&chest.Error{Code: chest.Refused, Reason: "apps_only",
			Detail: "a key for what a host keeps is for apps, which sign in with a credential of their own"})
	}
	a.RestOnProof(credential)
	a.Entry.Credential, a.Entry.Detail = credential, "for credential "+credential
	if err := a.Done(); err != nil {
		return key, err
	}
	return a.St.Root().HostKey(credential), nil
}
