package record

import (
	"cmp"
	"errors"
	"io/fs"
	"slices"
	"strings"

	"tansu/internal/chest"

	"tansu/internal/archive"
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
func (s *Record) Trail(c chest.Caller, f store.Filter, rest search.Query, most int) (page TrailPage, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverTrail)
	if err != nil {
		return page, err
	}
	filters := []store.Filter{f}
	if targets := readable(a); f.Target == "" && targets != nil {
		filters = nil
		for _, target := range targets {
			f.Target = target
			filters = append(filters, f)
		}
	}
	for _, f := range filters {
		part, err := s.page(a, f, rest, most)
		if err = cmp.Or(err, c.Ctx().Err()); err != nil {
			return TrailPage{}, a.Fail(err)
		}
		page = page.with(part, most)
	}
	if len(page.Entries) == 0 && page.Next == 0 {
		if err := s.named(a, f); err != nil {
			return TrailPage{}, a.Fail(err)
		}
	}
	return chest.Reply(a, page)
}

// named refuses a name of nobody and of nothing, of which no entry says anything either, to whoever may read the whole trail: that nothing
// was found would be taken for an answer. What is gone keeps its name in the trail.
func (s *Record) named(a *chest.Attempt, f store.Filter) error {
	if !a.St.Decide(a.Caller.ID, access.ReadTrail, a.Caller.Context(a.Entry.At)).Allowed {
		return nil
	}
	says := func(f store.Filter) (any bool, err error) {
		err = s.records.Entries(f, func(trail.Entry) bool {
			any = true
			return false
		})
		return any, err
	}
	if _, known := a.St.IdentityOf(f.Subject); !known && strings.Contains(f.Subject, ":") {
		if any, err := says(store.Filter{Subject: f.Subject}); any || err != nil {
			return err
		}
		return chest.Missing(f.Subject+", and the trail has nothing of it", a.St.NearestSubject(f.Subject))
	}
	drawer, _, _ := strings.Cut(f.Target, "/")
	archives, err := s.records.Archives() // which may have more of what is gone
	if err != nil {
		return err
	}
	if a.St.Drawer(drawer) == nil && reference.CheckName(drawer) == nil && len(archives) == 0 {
		if any, err := says(store.Filter{Target: f.Target}); any || err != nil {
			return err
		}
		return chest.Missing("drawer "+drawer+", and the trail has nothing of it", a.St.NearestDrawer(a.Caller, drawer, a.Entry.At))
	}
	return nil
}

// page is what one filter selects of a page.
func (s *Record) page(a *chest.Attempt, f store.Filter, rest search.Query, most int) (page TrailPage, err error) {
	may := a.MayReadEntry(access.ReadTrail)
	looked := 0
	err = s.records.Entries(f, func(e trail.Entry) bool {
		if looked++; looked > mostLooked {
			page.Next = e.Seq + 1
			return false
		}
		if !rest.Matches(entryThing{e}) {
			return true
		}
		if !may(e) {
			return a.Caller.Ctx().Err() == nil
		}
		if len(page.Entries) == most {
			page.Next = page.Entries[most-1].Seq
			return false
		}
		page.Entries = append(page.Entries, e)
		return true
	})
	return page, err
}

// with puts two parts of a page together: the newest entries of both, as far down as both have been looked at.
func (p TrailPage) with(other TrailPage, most int) TrailPage {
	all := append(p.Entries, other.Entries...)
	slices.SortFunc(all, func(x, y trail.Entry) int { return cmp.Compare(y.Seq, x.Seq) })
	all = slices.CompactFunc(all, func(x, y trail.Entry) bool { return x.Seq == y.Seq })
	next := max(p.Next, other.Next) // what is older was not looked at in one of the two
	if at := slices.IndexFunc(all, func(e trail.Entry) bool { return e.Seq < next }); next != 0 && at >= 0 {
		all = all[:at]
	}
	if len(all) > most {
		all = all[:most]
		next = all[most-1].Seq
	}
	return TrailPage{Entries: all, Next: next}
}

// mostTargets is up to how many drawers and items are asked about one by one.
const mostTargets = 16

// readable are the drawers and items of which the attempt's caller may read the trail, if these are few and named one by one: then the
// index is asked for what is said of them, and not for everything. Nil is for whatever there is.
func readable(a *chest.Attempt) []string {
	if a.St.Decide(a.Caller.ID, access.ReadTrail, a.Caller.Context(a.Entry.At)).Allowed {
		return nil
	}
	targets := []string{}
	for _, g := range a.St.Policy.Of(a.Caller.ID) {
		if g.Effect != access.Allow || g.Role.Actions&access.ReadTrail == 0 || g.Ended(a.Entry.At) {
			continue
		}
		target := g.Scope.String()
		if strings.ContainsAny(target, "*[") {
			target = g.Scope.Drawer()
		}
		if target == "" || len(targets) == mostTargets {
			return nil
		}
		targets = append(targets, target)
	}
	slices.Sort(targets)
	return slices.Compact(targets)
}

// Archives lists the archives of the trail, for whoever may read all of it.
func (s *Record) Archives(c chest.Caller) (list []archive.File, err error) {
	a, err := s.allowWholeTrail(c, "read_trail", "list the archives of the trail")
	if err != nil {
		return nil, err
	}
	a.Entry.Detail = "archives"
	if list, err = s.records.Archives(); err != nil {
		return nil, a.Fail(err)
	}
	return chest.Reply(a, list)
}

// ArchivedTrail is Trail in one archive, oldest first; Next is the number after which the next page begins, which is the
// filter's Before of it.
func (s *Record) ArchivedTrail(c chest.Caller, archive string, f store.Filter, rest search.Query, most int) (page TrailPage, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverTrail)
	if err != nil {
		return page, err
	}
	a.Entry.Detail = "in " + archive
	after := f.Before
	f.Before = 0
	may := a.MayReadEntry(access.ReadTrail)
	err = s.records.Archived(archive, func(e trail.Entry) bool {
		if e.Seq <= after || !f.Selects(e) || !rest.Matches(entryThing{e}) {
			return c.Ctx().Err() == nil
		}
		if !may(e) {
			return true
		}
		if len(page.Entries) == most {
			page.Next = page.Entries[most-1].Seq
			return false
		}
		page.Entries = append(page.Entries, e)
		return true
	})
	if errors.Is(err, fs.ErrNotExist) {
		a.Entry.Detail = ""
		return page, a.Fail(chest.Missing("such archive; tansu trail archives lists them", ""))
	}
	if err = cmp.Or(err, c.Ctx().Err()); err != nil {
		return TrailPage{}, a.Fail(err)
	}
	return chest.Reply(a, page)
}
