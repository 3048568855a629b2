package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/search"
	"tansu/internal/core/secretvalue"
	"tansu/internal/store"
)

// SearchKeys are what items can be looked for by, besides words.
var SearchKeys = []string{"drawer", "name", "owner", "label", "shape", "state", "environment", "by", "read", "ends", "unread"}

// spanOf is the length of time that a term is about: "ends:30d" for what ends within it, "unread:90d" for what nobody read
// in it.
func spanOf(t search.Term) (span lifecycle.Span, is bool, err error) {
	if t.Key != "ends" && t.Key != "unread" {
		return 0, false, nil
	}
	span, err = lifecycle.ParseSpan(t.Value)
	return span, true, err
}

// found is an item as search sees it. Its read is "never" or "ever".
type found struct {
	d   *drawer
	it  *item
	now time.Time
}

func (f found) Texts() []string {
	return []string{f.d.row.Name + "/" + f.it.row.Name, f.it.row.Description}
}

func (f found) Has(key, value string) bool {
	switch key {
	case "drawer":
		return search.Any(value, f.d.row.Name)
	case "name":
		return search.Any(value, f.it.row.Name)
	case "owner":
		return search.Any(value, f.it.row.Owner, f.d.row.Owner)
	case "label":
		return search.Any(value, strings.Split(f.it.labels.String(), ",")...)
	case "shape":
		return search.Any(value, string(shapeOf(f.it.row)))
	case "environment":
		return search.Any(value, f.d.row.Environment)
	case "by":
		return search.Any(value, f.it.row.CreatedBy)
	case "state":
		_, state := itemState(f.it.life, f.now)
		return search.Any(value, state)
	case "read":
		return search.Any(value, map[bool]string{true: "never", false: "ever"}[f.it.read.IsZero()])
	}
	span, _ := lifecycle.ParseSpan(value) // it was checked when the query was read
	if key == "unread" {
		return f.it.read.Before(f.now.Add(-time.Duration(span)))
	}
	_, ends := f.it.life.Due(f.now, time.Duration(span))
	return ends
}

// SearchPage is a part of what was found, in the order of references. Next is where the page after it begins; empty at
// the end. What is added or taken away meanwhile moves nothing from one page to another.
type SearchPage struct {
	Items []Item
	Next  string
}

// Search finds items among those that the caller may list. The text is a query of package search; after is the Next of
// the page before, or empty.
func (s *Service) Search(c Caller, text, after string, most int) (page SearchPage, err error) {
	query, err := search.Parse(text, SearchKeys)
	if err != nil {
		return page, invalid("q", "%s", err)
	}
	for _, t := range query {
		if _, _, err := spanOf(t); err != nil {
			return page, invalid("q", "%s: %s", t.Key, err)
		}
	}
	if after != "" {
		if _, err := reference.Parse(after); err != nil {
			return page, invalid("cursor", "cursor is not one that a page gave")
		}
	}
	a, err := s.allowOverview(c, overDrawers)
	if err != nil {
		return page, err
	}
	a.entry.Action, a.entry.Detail = "search", ""
	if asksReads(query) {
		err = s.records.CatchUp()
	} else {
		err = s.countReads()
	}
	if err != nil {
		return page, a.fail(err)
	}
	err = s.view(func(st *state) error { return page.fill(st, c, query, after, most, a.entry.At) })
	if err != nil {
		return page, a.fail(err)
	}
	return answer(a, page)
}

func (p *SearchPage) fill(st *state, c Caller, query search.Query, after string, most int, now time.Time) error {
	afterDrawer, afterItem, _ := strings.Cut(after, "/")
	looked := map[string]rare{}
	for _, name := range sortedKeys(st.drawers) {
		if name < afterDrawer {
			continue
		}
		d := st.drawers[name]
		filter := narrowed(query, d, now)
		if asksReads(query) {
			filter.ReadIn = name
		}
		few, err := st.rare(filter.Said, looked)
		if err != nil {
			return err
		}
		if few.ok {
			if filter.Rows = few.rows[d.row.ID]; filter.Rows == nil {
				continue
			}
		}
		if name == afterDrawer {
			filter.After = afterItem
		}
		err = st.each(d, filter, func(it *item) bool {
			if !query.Matches(found{d, it, now}) || !st.mayList(c, d, it, now) {
				return true
			}
			if len(p.Items) == most {
				p.Next = p.Items[most-1].Reference
				return false
			}
			p.Items = append(p.Items, describeItem(d, it, now))
			return true
		})
		if err != nil || p.Next != "" {
			return err
		}
	}
	return nil
}

// asksReads reports whether a query is about when items were last read.
func asksReads(query search.Query) bool {
	return slices.ContainsFunc(query, func(t search.Term) bool { return t.Key == "read" || t.Key == "unread" })
}

// rare are the items of which something is said that is said of few, by drawer.
type rare struct {
	rows map[string][]int64
	ok   bool
}

// rare looks up what is said, once for all drawers for which the same is left to look for.
func (st *state) rare(said []store.Said, looked map[string]rare) (found rare, err error) {
	key := fmt.Sprint(said)
	if found, known := looked[key]; known {
		return found, nil
	}
	found.rows, found.ok, err = st.items.records.Rare(said)
	looked[key] = found
	return found, err
}

// narrowed is what the database can leave out already: what a query could match is a part of it.
func narrowed(query search.Query, d *drawer, now time.Time) (f store.ItemFilter) {
	say := func(text string, columns ...string) {
		f.Said = append(f.Said, store.Said{Columns: columns, Text: text})
	}
	for _, t := range query {
		ascii := !strings.ContainsFunc(t.Value, func(r rune) bool { return r >= 0x80 })
		switch {
		case t.Not || !ascii: // the database knows no other letters in upper and lower case
		case t.Key == "state" && t.Value == string(lifecycle.Retired):
			f.Retired = true
		case t.Key == "state" && slices.Contains([]string{dueState, string(lifecycle.Ended), string(lifecycle.Grace), string(lifecycle.Idle), string(lifecycle.Waiting), string(lifecycle.Staged)}, t.Value):
			f.ServedUntil, f.ServedSince = d.candidates(now, d.warning(now))
		case t.Key == "ends" && f.ServedUntil == 0:
			span, _, _ := spanOf(t) // it was checked when the query was read
			f.ServedUntil, f.ServedSince = d.candidates(now, time.Duration(span))
		case t.Key == "" && !strings.Contains(t.Value, "*") && !strings.Contains(t.Value, "/") && !strings.Contains(d.row.Name, t.Value):
			say("*"+t.Value+"*", "name", "description")
		case t.Key == "name" || t.Key == "by":
			say(t.Value, map[string]string{"name": "name", "by": "created_by"}[t.Key])
		case t.Key == "owner" && !reference.Like(t.Value, strings.ToLower(d.row.Owner)):
			say(t.Value, "owner")
		case t.Key == "label" && !slices.ContainsFunc(strings.Split(d.labels.String(), ","), func(l string) bool { return reference.Like(t.Value, strings.ToLower(l)) }):
			say("*"+t.Value+"*", "labels")
		case t.Key == "shape" && !reference.Like(t.Value, string(secretvalue.Text)):
			say(t.Value, "shape")
		}
	}
	return f
}
