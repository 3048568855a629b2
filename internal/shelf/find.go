package shelf

import (
	"cmp"
	"slices"
	"strings"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/search"
	"tansu/internal/entity"
)

// Found is something that has a name.
type Found struct {
	Kind        string // "drawer", "item", "person", "app", "team" or "role"
	Name        string // a drawer's or role's name, an item's reference, or a subject
	Description string
	rank        int
}

// mostFound bounds what is found of one kind before it is ranked.
const mostFound = 1000

// Find looks for everything that the caller may know of by its name or description: each word must be in one of the two. Those whose names
// are nearest to the text come first. Whoever may list nothing finds themselves, what they answer for, and the roles.
func (s *Shelf) Find(c chest.Caller, text string, most int) (list []Found, err error) {
	words := strings.Fields(strings.ToLower(text))
	if len(words) == 0 || len(text) > chest.MaxDescription {
		return nil, chest.Invalid("q", "give some words of a name or a description, 1 to %d characters", chest.MaxDescription)
	}
	a := s.heart.Attempt(c, "search", "")
	if err := a.Err(); err != nil {
		return nil, err
	}
	add := func(kind, name, description string) {
		if rank, fits := rankOf(words, name, description); fits {
			list = append(list, Found{kind, name, description, rank})
		}
	}
	for _, d := range a.St.Drawers() {
		if a.St.Touches(c.ID, access.List, d.Row.Name) {
			add("drawer", d.Row.Name, d.Row.Description)
		}
	}
	everybody := a.St.Policy.Anywhere(c.ID, chest.OverIdentities.Actions, c.Context(a.Entry.At)).Allowed
	a.St.Identities("", func(subject string, row entity.Identity) bool {
		if everybody || row.ID == c.ID || row.Owner != "" && a.St.Owns(c, row) {
			add(row.Kind, subject, row.Description)
		}
		return true
	})
	for _, role := range a.St.AllRoles() {
		add("role", role.Name, role.Summary)
	}
	if query, err := search.Parse(text, SearchKeys); err == nil && !strings.Contains(text, ":") {
		var page SearchPage
		if err := s.fill(a, &page, query, "", mostFound); err != nil {
			return nil, a.Fail(err)
		}
		for _, it := range page.Items {
			rank, _ := rankOf(words, it.Reference, it.Description)
			list = append(list, Found{"item", it.Reference, it.Description, rank})
		}
	}
	slices.SortStableFunc(list, func(x, y Found) int {
		return cmp.Or(cmp.Compare(x.rank, y.rank), cmp.Compare(len(x.Name), len(y.Name)), cmp.Compare(x.Name, y.Name))
	})
	return chest.Reply(a, list[:min(most, len(list))])
}

// rankOf says whether each of the words is in a name or its description, and how near the name is to them: 0 is the nearest.
func rankOf(words []string, name, description string) (rank int, fits bool) {
	name, description = strings.ToLower(name), strings.ToLower(description)
	short := name[strings.LastIndexAny(name, ":/")+1:]
	for _, word := range words {
		switch {
		case short == word || name == word:
		case strings.HasPrefix(short, word) || strings.HasPrefix(name, word):
			rank++
		case strings.Contains(name, word):
			rank += 2
		case strings.Contains(description, word):
			rank += 4
		default:
			return 0, false
		}
	}
	return rank, true
}
