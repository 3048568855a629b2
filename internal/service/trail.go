package service

import (
	"cmp"
	"errors"
	"io/fs"
	"strings"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/search"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// TrailPage is part of the trail, newest first. Next is the filter's Before for the page after it, 0 at the end.
type TrailPage struct {
	Entries []trail.Entry
	Next    uint64
}

// mostLooked bounds how many entries one page looks at: when they do not fill it, it ends early, and Next goes on.
const mostLooked = 100_000

// Trail lists entries that the filter selects, that match the rest of a query and that the caller may read: those about a
// drawer or item need the action read_trail there, all others need it on the chest.
func (s *Service) Trail(c Caller, f store.Filter, rest search.Query, most int) (page TrailPage, err error) {
	a, err := s.allowOverview(c, overTrail)
	if err != nil {
		return page, err
	}
	may := s.mayReadEntry(c, access.ReadTrail)
	var failed error
	looked := 0
	err = s.records.Entries(f, func(e trail.Entry) bool {
		if looked++; looked > mostLooked {
			page.Next = e.Seq + 1
			return false
		}
		if !rest.Matches(entryThing{e}) {
			return true
		}
		allowed, err := may(e)
		if err != nil {
			failed = err
			return false
		}
		if !allowed {
			return true
		}
		if len(page.Entries) == most {
			page.Next = page.Entries[most-1].Seq
			return false
		}
		page.Entries = append(page.Entries, e)
		return true
	})
	if failed != nil {
		return TrailPage{}, failed
	}
	if err != nil {
		return TrailPage{}, a.fail(err)
	}
	return answer(a, page)
}

// Archives lists the archives of the trail, for who may read all of it.
func (s *Service) Archives(c Caller) (list []store.Archive, err error) {
	a, err := s.allowWholeTrail(c, "read_trail", "list the archives of the trail")
	if err != nil {
		return nil, err
	}
	a.entry.Detail = "archives"
	if list, err = s.records.Archives(); err != nil {
		return nil, a.fail(err)
	}
	return answer(a, list)
}

// ArchivedTrail is Trail in one archive, oldest first; Next is the number after which the next page begins, which is the
// filter's Before of it.
func (s *Service) ArchivedTrail(c Caller, archive string, f store.Filter, rest search.Query, most int) (page TrailPage, err error) {
	a, err := s.allowOverview(c, overTrail)
	if err != nil {
		return page, err
	}
	a.entry.Detail = "in " + archive
	after := f.Before
	f.Before = 0
	may := s.mayReadEntry(c, access.ReadTrail)
	var failed error
	err = s.records.Archived(archive, func(e trail.Entry) bool {
		if e.Seq <= after || !f.Selects(e) || !rest.Matches(entryThing{e}) {
			return true
		}
		allowed, err := may(e)
		if failed = err; err != nil || !allowed {
			return err == nil
		}
		if len(page.Entries) == most {
			page.Next = page.Entries[most-1].Seq
			return false
		}
		page.Entries = append(page.Entries, e)
		return true
	})
	if errors.Is(err, fs.ErrNotExist) {
		a.entry.Detail = ""
		return page, a.fail(notFound("such archive; tansu trail archives lists them", ""))
	}
	if err := cmp.Or(failed, err); err != nil {
		return TrailPage{}, a.fail(err)
	}
	return answer(a, page)
}

// mayReadEntry returns a function that decides for one entry.
func (s *Service) mayReadEntry(c Caller, action access.Action) func(trail.Entry) (bool, error) {
	ctx := c.context(s.now())
	return func(e trail.Entry) (allowed bool, err error) {
		err = s.view(func(st *state) error {
			allowed = st.decideOn(e, c.id, action, ctx).Allowed
			return nil
		})
		return allowed, err
	}
}

// decideOn decides whether a subject may do an action on what an entry is about: a whole scope when it is about giving
// access, else a drawer, an item or the chest.
func (st *state) decideOn(e trail.Entry, subject string, action access.Action, ctx access.Context) access.Decision {
	if scope, err := access.ParseScope(e.Target); err == nil && e.Action == access.GrantAccess.String() {
		return st.policy.DecideScope(subject, action, scope, ctx)
	}
	return st.decide(subject, action, ctx, targetOf(e.Target)...)
}

// targetOf returns the segments of a target in an entry: those of a drawer or item, none for everything else.
func targetOf(target string) []string {
	segments := strings.Split(target, "/")
	if len(segments) > 2 {
		return nil
	}
	for _, segment := range segments {
		if reference.CheckName(segment) != nil {
			return nil
		}
	}
	return segments
}
