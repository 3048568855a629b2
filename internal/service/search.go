package service

import (
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/search"
)

// SearchKeys are what items can be looked for by, besides words.
var SearchKeys = []string{"drawer", "name", "owner", "label", "shape", "state", "environment", "by", "read"}

// found is an item as search sees it. Its read is "never" or "ever".
type found struct {
	d    *drawer
	it   *item
	now  time.Time
	read time.Time
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
		if f.read.IsZero() {
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
	read := map[string]time.Time{}
	if slices.ContainsFunc(query, func(t search.Term) bool { return t.Key == "read" }) {
		if err := s.catchUp(func(u *usage) { u.lastReads(read) }); err != nil {
			return page, a.fail(err)
		}
	}
	err = s.view(func(st *state) error { page.fill(st, c, query, read, after, most, a.entry.At); return nil })
	if err != nil {
		return page, err
	}
	return answer(a, page)
}

func (p *SearchPage) fill(st *state, c Caller, query search.Query, read map[string]time.Time, after string, most int, now time.Time) {
	afterDrawer, afterItem, _ := strings.Cut(after, "/")
	for _, name := range sortedKeys(st.drawers) {
		if name < afterDrawer {
			continue
		}
		d := st.drawers[name]
		for _, itemName := range sortedKeys(d.items) {
			if name == afterDrawer && itemName <= afterItem {
				continue
			}
			it := d.items[itemName]
			if !query.Matches(found{d, it, now, read[name+"/"+itemName]}) || !st.decide(c.id, access.List, c.context(now), name, itemName).Allowed {
				continue
			}
			if len(p.Items) == most {
				p.Next = p.Items[most-1].Reference
				return
			}
			p.Items = append(p.Items, describeItem(d, it, now))
		}
	}
}

// lastReads says when each item was last read.
func (u *usage) lastReads(read map[string]time.Time) {
	for target, readers := range u.readers {
		for _, r := range readers {
			if r.Last.After(read[target]) {
				read[target] = r.Last
			}
		}
	}
}
