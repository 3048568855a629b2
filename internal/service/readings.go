package service

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// Reading is one item that somebody reads.
type Reading struct {
	Reference string // as it was asked for
	Version   int    // that was served last
	Pinned    bool   // whether it was asked for by its number
	Current   int    // that would be served now to who asks for none; 0 when none would, or the item is not there any more
	Count     int64
	First     time.Time
	Last      time.Time
}

// Readings lists what an identity has read, the newest first: all of it for the identity itself, and else what the caller may
// read the trail of.
func (s *Service) Readings(c Caller, subject string) (list []Reading, err error) {
	a := s.attempt(c, access.SeeMetadata.String(), subject)
	if c.name != subject {
		if a, err = s.allowOverview(c, overTrail); err != nil {
			return nil, err
		}
		a.entry.Target = subject
	}
	a.entry.Detail = "what it reads"
	if _, err := s.knownSubject("", subject); err != nil {
		return nil, a.fail(err)
	}
	uses, err := s.uses(store.UseFilter{Kind: useRead, By: []string{subject}})
	if err != nil {
		return nil, a.fail(err)
	}
	err = s.view(func(st *state) error {
		for _, use := range uses {
			drawer, item, _ := strings.Cut(use.Key, "/")
			if c.name != subject && !st.decide(c.id, access.ReadTrail, c.context(a.entry.At), drawer, item).Allowed {
				continue
			}
			was := readingOf(use)
			one := Reading{Reference: use.Key, Version: was.Version, Pinned: was.Pinned, Count: use.Count, First: fromMicros(use.FirstAt), Last: was.Last}
			if _, it, err := st.readItem(reference.Reference{Drawer: drawer, Item: item}); err == nil {
				one.Current, _ = it.life.Current(a.entry.At) // none is shown as none
			}
			list = append(list, one)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(list, func(x, y Reading) int { return cmp.Or(y.Last.Compare(x.Last), cmp.Compare(x.Reference, y.Reference)) })
	return answer(a, list)
}
