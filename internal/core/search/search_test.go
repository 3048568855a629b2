package search

import (
	"strings"
	"testing"
)

type thing map[string]string

func (t thing) Texts() []string            { return []string{t["name"], t["description"]} }
func (t thing) Has(key, value string) bool { return Any(value, strings.Fields(t[key])...) }

var keys = []string{"name", "owner", "state", "label"}

func TestQueriesMatch(t *testing.T) {
	db := thing{"name": "db-password", "description": "Password of the ticket database", "owner": "person:ticketing-lead", "state": "usable",
		"label": "tier=database team=ticketing"}
	for query, want := range map[string]bool{
		"": true, "ticket": true, "TICKET": true, "ticket password": true, "ticket ferry": false, "-ferry": true, "-ticket": false,
		`"ticket database"`: true, `"database ticket"`: false, `-"ticket database"`: false,
		"owner:person:ticketing-lead": true, "owner:person:*": true, "owner:*oncall": false, "-owner:person:*": false,
		"label:tier=*": true, "label:team=ticketing label:tier=database": true, "label:team=rota": false,
		"state:usable name:db-*": true, "name:db": false, `"a:b"`: false, "name:*": true, "  ticket  ": true, `name:"db-password"`: true,
	} {
		q, err := Parse(query, keys)
		if err != nil {
			t.Errorf("%q: %v", query, err)
			continue
		}
		if got := q.Matches(db); got != want {
			t.Errorf("%q: got %v", query, got)
		}
	}
	for _, bad := range []string{"colour:red", "owner:", `"open`, "-", `""`, strings.Repeat("a ", 17), "-name:"} {
		if q, err := Parse(bad, keys); err == nil {
			t.Errorf("%q is taken for %+v", bad, q)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{`owner:person:* -"ticket database"`, `a"b c"d:e`, `-"-`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		q, err := Parse(text, keys)
		if err != nil {
			return
		}
		_ = q.Matches(thing{"name": text, "label": text})
		for _, term := range q {
			if term.Value == "" {
				t.Fatalf("%q has an empty term", text)
			}
		}
	})
}
