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

// within is a term about a length of time: "ends:30d" for what ends within it, "unread:90d" for what nobody read in it.
type within struct {
	key  string
	span time.Duration
	not  bool
}

// spans takes the terms about lengths of time out of a query.
func spans(query search.Query) (rest search.Query, list []within, err error) {
	for _, t := range query {
		if t.Key != "ends" && t.Key != "unread" {
			rest = append(rest, t)
			continue
		}
		span, err := lifecycle.ParseSpan(t.Value)
		if err != nil {
			return nil, nil, invalid("q", "%s: %s", t.Key, err)
		}
		list = append(list, within{t.Key, time.Duration(span), t.Not})
	}
	return rest, list, nil
}

func (w within) holds(f found) bool {
	if w.key == "unread" {
		return f.read.lastRead(f.d.row.Name+"/"+f.it.row.Name).Before(f.now.Add(-w.span)) != w.not
	}
	_, ends := f.it.life.Due(f.now, w.span)
	return ends != w.not
}

// found is an item as search sees it. Its read is "never" or "ever".
type found struct {
	d    *drawer
	it   *item
	now  time.Time
	read *usage
}

func (f found) Texts() []string {
	return []string{f.d.row.Name + "/" + f.it.row.Name, f.it.row.Description}
}

func (f found) Values(key string) []string {
	switch key {
	case "drawer":
		return []string{f.d.row.Name}
	case "name":
		return []string{f.it.row.Name}
	case "owner":
		return []string{f.it.row.Owner, f.d.row.Owner}
	case "label":
		return strings.Split(f.it.labels.String(), ",")
	case "shape":
		return []string{string(shapeOf(f.it.row))}
	case "environment":
		return []string{f.d.row.Environment}
	case "by":
		return []string{f.it.row.CreatedBy}
	case "state":
		_, state := itemState(f.it.life, f.now)
		return []string{state}
	case "read":
		if f.read.lastRead(f.d.row.Name + "/" + f.it.row.Name).IsZero() {
			return []string{"never"}
		}
		return []string{"ever"}
	}
	return nil
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
	query, lengths, err := spans(query)
	if err != nil {
		return page, err
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
	if slices.ContainsFunc(query, func(t search.Term) bool { return t.Key == "read" }) || slices.ContainsFunc(lengths, func(w within) bool { return w.key == "unread" }) {
		err = s.catchUp(func(*usage) {})
	} else {
		err = s.countReads()
	}
	if err != nil {
		return page, a.fail(err)
	}
	err = s.view(func(st *state) error { return page.fill(st, c, query, lengths, after, most, a.entry.At) })
	if err != nil {
		return page, a.fail(err)
	}
	return answer(a, page)
}

func (p *SearchPage) fill(st *state, c Caller, query search.Query, lengths []within, after string, most int, now time.Time) error {
	afterDrawer, afterItem, _ := strings.Cut(after, "/")
	looked := map[string]rare{}
	for _, name := range sortedKeys(st.drawers) {
		if name < afterDrawer {
			continue
		}
		d := st.drawers[name]
		filter := narrowed(query, d, now)
		for _, w := range lengths {
			if w.key == "ends" && !w.not && filter.ServedUntil == 0 {
				filter.ServedUntil, filter.ServedSince = d.candidates(now, w.span)
			}
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
			f := found{d, it, now, st.items.usage}
			if !query.Matches(f) || slices.ContainsFunc(lengths, func(w within) bool { return !w.holds(f) }) || !st.mayList(c, d, it, now) {
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
