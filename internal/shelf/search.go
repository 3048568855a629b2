package shelf

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/search"
	"tansu/internal/core/secretvalue"
	"tansu/internal/store"
)

// SearchKeys are what items can be looked for by, besides words.
var SearchKeys = []string{"drawer", "name", "owner", "label", "shape", "state", "environment", "by", "read", "ends", "unread"}

// searchValues are the values of keys that have no others.
var searchValues = map[string][]string{
	"state":       States,
	"environment": chest.Environments,
	"read":        {"never", "ever"},
	"shape":       shapes(),
}

func shapes() (list []string) {
	for _, shape := range secretvalue.Shapes {
		list = append(list, string(shape))
	}
	return list
}

// spanOf is the length of time that a term is about: "ends:30d" for what ends within it, "unread:90d" for what nobody read
// in it.
func spanOf(t search.Term) (span lifecycle.Span, is bool, err error) {
	if t.Key != "ends" && t.Key != "unread" {
		return 0, false, nil
	}
	span, err = lifecycle.ParseSpan(t.Value)
	return span, true, err
}

// candidate is an item as search sees it. Its read is "never" or "ever".
type candidate struct {
	d   *chest.Drawer
	it  *chest.Item
	now time.Time
}

func (f candidate) Texts() []string {
	return []string{f.d.Row.Name + "/" + f.it.Row.Name, f.it.Row.Description}
}

func (f candidate) Has(key, value string) bool {
	switch key {
	case "drawer":
		return search.Any(value, f.d.Row.Name)
	case "name":
		return search.Any(value, f.it.Row.Name)
	case "owner":
		return search.Any(value, f.it.Row.Owner, f.d.Row.Owner)
	case "label":
		return search.Any(value, strings.Split(f.it.Labels.String(), ",")...)
	case "shape":
		return search.Any(value, string(shapeOf(f.it.Row)))
	case "environment":
		return search.Any(value, f.d.Row.Environment)
	case "by":
		return search.Any(value, f.it.Row.CreatedBy)
	case "state":
		_, state := itemState(f.it.Life, f.now)
		return search.Any(value, state)
	case "read":
		return search.Any(value, map[bool]string{true: "never", false: "ever"}[f.it.Read.IsZero()])
	}
	span, _ := lifecycle.ParseSpan(value) // it was checked when the query was read
	if key == "unread" {
		return f.it.Read.Before(f.now.Add(-time.Duration(span)))
	}
	_, ends := f.it.Life.Due(f.now, time.Duration(span))
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
func (s *Shelf) Search(c chest.Caller, text, after string, most int) (page SearchPage, err error) {
	query, err := search.Parse(text, SearchKeys)
	if err != nil {
		return page, chest.Invalid("q", "%s", err)
	}
	for _, t := range query {
		_, _, err := spanOf(t)
		if values, closed := searchValues[t.Key]; closed && err == nil {
			err = search.Known(t.Key, t.Value, values)
		} else if err != nil {
			err = fmt.Errorf("%s: %w", t.Key, err)
		}
		if err != nil {
			return page, chest.Invalid("q", "%s", err)
		}
	}
	if after != "" {
		if _, err := reference.Parse(after); err != nil {
			return page, chest.Invalid("cursor", "this cursor does not come from a page of this list")
		}
	}
	a, err := s.heart.AllowOverview(c, chest.OverDrawers)
	if err != nil {
		return page, err
	}
	a.Entry.Action, a.Entry.Detail = "search", ""
	if asksReads(query) {
		err = s.records.CatchUp()
	} else {
		err = a.CountReads()
	}
	if err == nil {
		err = s.fill(a, &page, query, after, most)
	}
	if err != nil {
		return page, a.Fail(err)
	}
	return chest.Reply(a, page)
}

func (s *Shelf) fill(a *chest.Attempt, p *SearchPage, query search.Query, after string, most int) error {
	st, c, now := a.St, a.Caller, a.Entry.At
	afterDrawer, afterItem, _ := strings.Cut(after, "/")
	looked := map[string]rare{}
	for _, d := range st.Drawers() {
		name := d.Row.Name
		if name < afterDrawer || !st.Touches(c.ID, access.List, name) {
			continue
		}
		filter := narrowed(query, d, now)
		if asksReads(query) {
			filter.ReadIn = name
		}
		few, err := s.rare(filter.Said, looked)
		if err != nil {
			return err
		}
		if few.ok {
			if filter.Rows = few.rows[d.Row.ID]; filter.Rows == nil {
				continue
			}
		}
		if name == afterDrawer {
			filter.After = afterItem
		}
		err = st.Each(d, filter, func(it *chest.Item) bool {
			if !query.Matches(candidate{d, it, now}) || !st.MayList(c, d, it, now) {
				return c.Ctx().Err() == nil
			}
			if len(p.Items) == most {
				p.Next = p.Items[most-1].Reference
				return false
			}
			p.Items = append(p.Items, Describe(d, it, now))
			return true
		})
		if err = cmp.Or(err, c.Ctx().Err()); err != nil || p.Next != "" {
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
func (s *Shelf) rare(said []store.Said, looked map[string]rare) (found rare, err error) {
	key := fmt.Sprint(said)
	if found, known := looked[key]; known {
		return found, nil
	}
	found.rows, found.ok, err = s.records.Rare(said)
	looked[key] = found
	return found, err
}

// narrowed is what the database can leave out already: what a query could match is a part of it.
func narrowed(query search.Query, d *chest.Drawer, now time.Time) (f store.ItemFilter) {
	say := func(text string, columns ...string) {
		f.Said = append(f.Said, store.Said{Columns: columns, Text: text})
	}
	for _, t := range query {
		ascii := !strings.ContainsFunc(t.Value, func(r rune) bool { return r >= 0x80 })
		switch {
		case t.Not || !ascii: // the database knows no other letters in upper and lower case
		case t.Key == "state" && t.Value == string(lifecycle.Retired):
			f.Retired = true
		case t.Key == "state" && slices.Contains([]string{chest.DueState, string(lifecycle.Ended), string(lifecycle.Grace),
			string(lifecycle.Idle), string(lifecycle.Waiting), string(lifecycle.Staged)}, t.Value):
			f.ServedUntil, f.ServedSince = d.Candidates(now, warning(d, now))
		case t.Key == "ends" && f.ServedUntil == 0:
			span, _, _ := spanOf(t) // it was checked when the query was read
			f.ServedUntil, f.ServedSince = d.Candidates(now, time.Duration(span))
		case t.Key == "" && !strings.Contains(t.Value, "*") && !strings.Contains(t.Value, "/") && !strings.Contains(d.Row.Name, t.Value):
			say("*"+t.Value+"*", "name", "description")
		case t.Key == "name" || t.Key == "by":
			say(t.Value, map[string]string{"name": "name", "by": "created_by"}[t.Key])
		case t.Key == "owner" && !reference.Like(t.Value, strings.ToLower(d.Row.Owner)):
			say(t.Value, "owner")
		case t.Key == "label" && !slices.ContainsFunc(strings.Split(d.Labels.String(), ","),
			func(l string) bool { return reference.Like(t.Value, strings.ToLower(l)) }):
			say("*"+t.Value+"*", "labels")
		case t.Key == "shape" && !reference.Like(t.Value, string(secretvalue.Text)):
			say(t.Value, "shape")
		}
	}
	return f
}
