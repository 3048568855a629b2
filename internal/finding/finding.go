// Package finding looks for whatever has a name and is kept in memory: drawers, people, apps, teams and roles; and ranks what was found.
package finding

import (
	"cmp"
	"slices"
	"strings"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/entity"
)

// Found is something that has a name.
type Found struct {
	Kind        string // "drawer", "item", "person", "app", "team" or "role"
	Name        string // a drawer's or role's name, an item's reference, or a subject
	Description string
}

// Known lists what each of the words is in the name or description of, and the attempt's caller may know of: the drawers in which they may
// list something, those they may see, themselves and what they answer for, and all roles.
func Known(a *chest.Attempt, words []string) (list []Found) {
	st, c := a.St, a.Caller
	add := func(f Found) {
		if _, fits := rank(words, f); fits {
			list = append(list, f)
		}
	}
	for _, d := range st.Drawers() {
		if st.Reaches(c.ID, access.List, d.Row.Name, c.Context(a.Entry.At)).Allowed {
			add(Found{"drawer", d.Row.Name, d.Row.Description})
		}
	}
	everybody := st.Policy.Anywhere(c.ID, chest.OverIdentities.Actions, c.Context(a.Entry.At)).Allowed
	st.Identities("", func(subject string, row entity.Identity) bool {
		if everybody || row.ID == c.ID || row.Owner != "" && st.Owns(c, row) {
			add(Found{row.Kind, subject, row.Description})
		}
		return true
	})
	for _, role := range st.AllRoles() {
		add(Found{"role", role.Name, role.Summary})
	}
	return list
}

// Nearest puts those first whose names are nearest to the words, and keeps at most so many.
func Nearest(words []string, list []Found, most int) []Found {
	slices.SortStableFunc(list, func(x, y Found) int {
		far, _ := rank(words, x)
		farther, _ := rank(words, y)
		return cmp.Or(cmp.Compare(far, farther), cmp.Compare(len(x.Name), len(y.Name)), cmp.Compare(x.Name, y.Name))
	})
	return list[:min(most, len(list))]
}

// rank says whether each of the words, in lower case, is in a name or its description, and how far from them the name is: 0 is the nearest.
func rank(words []string, f Found) (far int, fits bool) {
	name, description := strings.ToLower(f.Name), strings.ToLower(f.Description)
	short := name[strings.LastIndexAny(name, ":/")+1:]
	for _, word := range words {
		switch {
		case short == word || name == word:
		case strings.HasPrefix(short, word) || strings.HasPrefix(name, word):
			far++
		case strings.Contains(name, word):
			far += 2
		case strings.Contains(description, word):
			far += 4
		default:
			return 0, false
		}
	}
	return far, true
}
