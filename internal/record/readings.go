package record

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/usage"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// Reading is one item that somebody reads.
type Reading struct {
	Reference string // as it was asked for
	Version   int    // that was served last
	Pinned    bool   // whether it was pinned by its number
	Current   int    // that would be served now to whoever asks for none; 0 when none would, or the item is not there any more
	Count     int64
	First     time.Time
	Last      time.Time
}

// Readings lists what an identity has read, the newest first: all of it for the identity itself, and else what the caller may
// read the trail of.
func (s *Record) Readings(c chest.Caller, subject string) (list []Reading, err error) {
	a := s.heart.Attempt(c, access.SeeMetadata.String(), subject)
	if err := a.Err(); err != nil {
		return nil, err
	}
	if c.Name != subject {
		if a, err = s.heart.AllowOverview(c, chest.OverTrail); err != nil {
			return nil, err
		}
		a.Entry.Target = subject
	}
	a.Entry.Detail = "what it reads"
	if _, err := a.St.KnownSubject("subject", subject); err != nil {
		return nil, a.Fail(err)
	}
	uses, err := usage.UpToDate(s.records, store.UseFilter{Kind: usage.Read, By: []string{subject}})
	if err != nil {
		return nil, a.Fail(err)
	}
	for _, use := range uses {
		drawer, item, _ := strings.Cut(use.Key, "/")
		if c.Name != subject && !a.St.Decide(c.ID, access.ReadTrail, c.Context(a.Entry.At), drawer, item).Allowed {
			continue
		}
		was := usage.ReaderOf(use)
		one := Reading{Reference: use.Key, Version: was.Version, Pinned: was.Pinned, Count: use.Count, First: chest.FromMicros(use.FirstAt),
			Last: was.Last}
		if _, it, err := a.St.ReadItem(reference.Reference{Drawer: drawer, Item: item}); err == nil {
			one.Current, _ = it.Life.Current(a.Entry.At) // none is shown as none
		}
		list = append(list, one)
	}
	slices.SortFunc(list, func(x, y Reading) int { return cmp.Or(y.Last.Compare(x.Last), cmp.Compare(x.Reference, y.Reference)) })
	return chest.Reply(a, list)
}
