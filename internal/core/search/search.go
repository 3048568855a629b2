// Package search reads the one grammar in which things are looked for, in the API, on the command line and in the
// console.
//
// A query is terms separated by spaces, all of which must hold. A word is looked for in names and descriptions. KEY:VALUE
// looks at one thing that is known of an item; "*" in VALUE stands for anything. "-" in front of a term turns it round.
// A term with spaces stands in double quotes: owner:person:ticketing-lead -state:usable "ticket database".
//
// Upper and lower case are the same. Reading a query takes no I/O; what a key means is for the caller to say.
package search

import (
	"fmt"
	"slices"
	"strings"

	"tansu/internal/core/reference"
)

// Term is one condition. Without a key it is a word that is looked for.
type Term struct {
	Key   string
	Value string // in lower case
	Not   bool
}

// Query is the terms that must all hold; the zero Query holds for everything.
type Query []Term

// MaxTerms bounds what one query costs.
const MaxTerms = 16

// Parse reads a query whose keys are among those given. The error says what is wrong and what is allowed.
func Parse(text string, keys []string) (Query, error) {
	parts, err := split(text)
	if err != nil {
		return nil, err
	}
	if len(parts) > MaxTerms {
		return nil, fmt.Errorf("the query has %d terms; the most is %d", len(parts), MaxTerms)
	}
	var query Query
	for _, part := range parts {
		term := Term{}
		part.text, term.Not = strings.CutPrefix(part.text, "-")
		key, value, hasKey := strings.Cut(part.text, ":")
		if !hasKey || part.quoted {
			term.Value = strings.ToLower(part.text)
		} else {
			if !slices.Contains(keys, key) {
				hint := ""
				if near := reference.Nearest(key, keys); near != "" {
					hint = "; did you mean " + near + "?"
				}
				return nil, fmt.Errorf("%.40q is not something that can be looked for%s; the keys are %s, and a word with \":\" in it goes in "+
					"double quotes", key, hint, strings.Join(keys, ", "))
			}
			term.Key, term.Value = key, strings.ToLower(value)
		}
		if term.Value == "" {
			return nil, fmt.Errorf("there is a term without a value")
		}
		query = append(query, term)
	}
	return query, nil
}

type part struct {
	text   string
	quoted bool // all of it, so that a ":" in it is nothing special
}

// split takes a query apart at spaces that are not in double quotes.
func split(text string) (parts []part, err error) {
	var current strings.Builder
	inQuotes, quoted, started := false, false, false
	end := func() {
		if started {
			parts = append(parts, part{current.String(), quoted})
		}
		current.Reset()
		quoted, started = false, false
	}
	for _, r := range text {
		switch {
		case r == '"':
			inQuotes = !inQuotes
			quoted = quoted || current.Len() == 0 || current.String() == "-"
			started = true
		case r == ' ' && !inQuotes:
			end()
		default:
			current.WriteRune(r)
			started = true
		}
	}
	end()
	if inQuotes {
		return nil, fmt.Errorf("a double quote is not closed")
	}
	return parts, nil
}

// Known refuses a value of a key that is none of those there are; one with "*" may stand for any.
func Known(key, value string, values []string) error {
	if strings.Contains(value, "*") || slices.Contains(values, value) {
		return nil
	}
	if near := reference.Nearest(value, values); near != "" {
		return fmt.Errorf("%s: there is no %.40q; did you mean %s?", key, value, near)
	}
	return fmt.Errorf("%s: there is no %.40q; there is %s", key, value, strings.Join(values, ", "))
}

// Thing is what is known of something that is looked for: the texts that words are looked for in, and whether a value is
// one that it has for a key; the value may have "*" for anything and is in lower case.
type Thing interface {
	Texts() []string
	Has(key, value string) bool
}

// Matches reports whether all terms hold for a thing.
func (q Query) Matches(thing Thing) bool {
	for _, term := range q {
		if term.holds(thing) == term.Not {
			return false
		}
	}
	return true
}

func (t Term) holds(thing Thing) bool {
	if t.Key == "" {
		return slices.ContainsFunc(thing.Texts(), func(text string) bool { return strings.Contains(strings.ToLower(text), t.Value) })
	}
	return thing.Has(t.Key, t.Value)
}

// Any reports whether one of some values is like a term's.
func Any(term string, values ...string) bool {
	return slices.ContainsFunc(values, func(value string) bool { return reference.Like(term, strings.ToLower(value)) })
}
