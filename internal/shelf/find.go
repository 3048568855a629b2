package shelf

import (
	"strings"

	"tansu/internal/chest"
	"tansu/internal/core/search"
	"tansu/internal/finding"
)

// Of all that is found, the nearest are told; of items, so many are looked at before they are ranked.
const (
	mostFound  = 20
	mostRanked = 1000
)

// Find looks for everything that the caller may know of by its name or description: each word must be in one of the two. Those whose names
// are nearest to the text come first. Whoever may list nothing finds themselves, what they answer for, and the roles.
func (s *Shelf) Find(c chest.Caller, text string) ([]finding.Found, error) {
	words := strings.Fields(strings.ToLower(text))
	if len(words) == 0 || len(text) > chest.MaxDescription {
		return nil, chest.Invalid("q", "give some words of a name or a description, 1 to %d characters", chest.MaxDescription)
	}
	a := s.heart.Attempt(c, "search", "")
	if err := a.Err(); err != nil {
		return nil, err
	}
	list := finding.Known(a, words)
	if query, err := search.Parse(text, SearchKeys); err == nil && !strings.Contains(text, ":") {
		var page SearchPage
		if err := s.fill(a, &page, query, "", mostRanked); err != nil {
			return nil, a.Fail(err)
		}
		for _, it := range page.Items {
			list = append(list, finding.Found{Kind: "item", Name: it.Reference, Description: it.Description})
		}
	}
	return chest.Reply(a, finding.Nearest(words, list, mostFound))
}
