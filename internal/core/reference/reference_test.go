package reference

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestCheckNameAllowsOnlyPlainNames(t *testing.T) {
	for _, name := range []string{"a", "ticketing-prod", "db.password_2", strings.Repeat("a", MaxName)} {
		if err := CheckName(name); err != nil {
			t.Errorf("%q: %v", name, err)
		}
	}
	for what, name := range map[string]string{
		"empty":                   "",
		"too long":                strings.Repeat("a", MaxName+1),
		"parent directory":        "..",
		"dots inside":             "a..b",
		"upper case":              "Ticketing",
		"space":                   "ticketing prod",
		"slash":                   "ticketing/prod",
		"control character":       "ticketing\x1b[31m",
		"zero byte":               "a\x00b",
		"Cyrillic look-alike":     "tiсketing", // the third letter is U+0441
		"zero-width space":        "ticket\u200bing",
		"hyphen first":            "-rf",
		"dot last":                "a.",
		"not UTF-8":               "a\xffb",
		"percent sign":            "a%2e",
		"reference syntax inside": "db@3",
	} {
		err := CheckName(name)
		var invalid *InvalidError
		if !errors.As(err, &invalid) {
			t.Errorf("%s: %q is allowed", what, name)
			continue
		}
		for _, r := range err.Error() {
			if r < 0x20 || r >= 0x80 && r != '…' {
				t.Errorf("%s: the error repeats U+%04X raw", what, r)
			}
		}
	}
}

func TestParseReadsWhatStringWrites(t *testing.T) {
	for text, want := range map[string]Reference{
		"ticketing-prod/db-password":         {Drawer: "ticketing-prod", Item: "db-password"},
		"ticketing-prod/db-password@3":       {Drawer: "ticketing-prod", Item: "db-password", Version: 3},
		"ticketing-prod/db-login#user":       {Drawer: "ticketing-prod", Item: "db-login", Field: "user"},
		"ticketing-prod/db-login@2#user":     {Drawer: "ticketing-prod", Item: "db-login", Version: 2, Field: "user"},
		"tansu:ticketing-prod/db-password@3": {Drawer: "ticketing-prod", Item: "db-password", Version: 3},
	} {
		got, err := Parse(text)
		if err != nil || got != want {
			t.Errorf("Parse(%q) = %+v, %v; want %+v", text, got, err, want)
		}
		if again, err := Parse(got.String()); err != nil || again != got {
			t.Errorf("Parse(%q) = %+v, %v; want %+v", got.String(), again, err, got)
		}
	}
	for _, text := range []string{"", "ticketing-prod", "a/b/c", "a/", "/b", "a/b@", "a/b@0", "a/b@-1", "a/b@01", "a/b@1.5", "a/b@9999999999",
		"a/b@1@2", "tansu:tansu:a/b", "../b"} {
		if got, err := Parse(text); err == nil {
			t.Errorf("Parse(%q) = %+v, want an error", text, got)
		}
	}
}

func TestParseSubjectNeedsAKind(t *testing.T) {
	if s, err := ParseSubject("app:ticket-api"); err != nil || s.String() != "app:ticket-api" {
		t.Errorf("got %v, %v", s, err)
	}
	for _, text := range []string{"ticket-api", "app:", "robot:x", "app:Ticket", "person:a/b"} {
		if _, err := ParseSubject(text); err == nil {
			t.Errorf("ParseSubject(%q) is allowed", text)
		}
	}
}

func pattern(t *testing.T, text string) Pattern {
	t.Helper()
	p, err := ParsePattern(text)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestPatternSelectsTargets(t *testing.T) {
	for _, c := range []struct {
		pattern, target string
		want            bool
	}{
		{"**", "", true},
		{"**", "ticketing-prod", true},
		{"**", "ticketing-prod/db-password", true},
		{"ticketing-prod/**", "ticketing-prod", true},
		{"ticketing-prod/**", "ticketing-prod/db-password", true},
		{"ticketing-prod/**", "ticketing-prod2/db-password", false},
		{"ticketing-prod/**", "", false},
		{"ticketing-prod/*", "ticketing-prod", false},
		{"ticketing-prod/*", "ticketing-prod/db-password", true},
		{"ticketing-*/db-*", "ticketing-staging/db-password", true},
		{"ticketing-*/db-*", "ticketing-staging/payment-api-key", false},
		{"*", "ticketing-prod", true},
		{"*", "ticketing-prod/db-password", false},
		{"*/*", "", false},
		{"a*b*c/x", "a-b-b-c/x", true},
		{"a*b*c/x", "a-b-b/x", false},
		{"**/db-password", "ticketing-prod/db-password", true},
	} {
		if got := pattern(t, c.pattern).Matches(segments(c.target)...); got != c.want {
			t.Errorf("%s selects %q: got %v, want %v", c.pattern, c.target, got, c.want)
		}
	}
	if (Pattern{}).Matches() || (Pattern{}).Matches("a") {
		t.Error("the zero pattern selects something")
	}
}

func segments(target string) []string {
	if target == "" {
		return nil
	}
	return strings.Split(target, "/")
}

func TestParsePatternRefusesWhatNoNameCouldMatch(t *testing.T) {
	for _, text := range []string{"", "a/b/c", "a//b", "/a", "a/", "A", "a***", "x**/y", "a..b", "tick€t/*", strings.Repeat("a", 200)} {
		if _, err := ParsePattern(text); err == nil {
			t.Errorf("ParsePattern(%q) is allowed", text)
		}
	}
}

// A gatekeeper may give what their own scope covers. If Covers said yes where Matches says no, a grant could reach
// further than the one who gave it; if Intersects said no where both match, a denial could be stepped around.
func TestCoversAndIntersectsAgreeWithMatches(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	segment := func(letters string) string {
		n := 1 + random.IntN(3)
		var b strings.Builder
		for range n {
			b.WriteByte(letters[random.IntN(len(letters))])
		}
		return strings.ReplaceAll(b.String(), "**", "*")
	}
	make2 := func(letters string, wild bool) string {
		parts := []string{}
		for range 1 + random.IntN(2) {
			if wild && random.IntN(4) == 0 {
				parts = append(parts, "**")
			} else {
				parts = append(parts, segment(letters))
			}
		}
		return strings.Join(parts, "/")
	}
	var covered, crossed int
	for range 20000 {
		p, q := pattern(t, make2("ab*", true)), pattern(t, make2("ab*", true))
		covers, intersects := p.Covers(q), p.Intersects(q)
		if intersects != q.Intersects(p) {
			t.Fatalf("%s and %s intersect one way only", p, q)
		}
		for range 5 {
			target := segments(make2("ab", false))
			inP, inQ := p.Matches(target...), q.Matches(target...)
			if covers && inQ && !inP {
				t.Fatalf("%s covers %s, but only the latter selects %v", p, q, target)
			}
			if inP && inQ && !intersects {
				t.Fatalf("%s and %s do not intersect, but both select %v", p, q, target)
			}
		}
		if covers {
			covered++
		}
		if intersects {
			crossed++
		}
	}
	if covered < 100 || crossed < 100 {
		t.Fatalf("only %d covering and %d crossing pairs were tried", covered, crossed)
	}
}

func TestNearestFindsATypo(t *testing.T) {
	names := []string{"ticketing-prod", "ticketing-staging", "fuel-billing-prod"}
	for name, want := range map[string]string{"ticketing-prodd": "ticketing-prod", "tiketing-prod": "ticketing-prod", "ticketing-prod": "",
		"harbour": ""} {
		if got := Nearest(name, names); got != want {
			t.Errorf("Nearest(%q) = %q, want %q", name, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("ticketing-prod/db-password@3")
	f.Fuzz(func(t *testing.T, text string) {
		ref, err := Parse(text)
		if err != nil {
			return
		}
		if again, err := Parse(ref.String()); err != nil || again != ref {
			t.Fatalf("Parse(%q) = %+v; written as %q it reads as %+v, %v", text, ref, ref, again, err)
		}
	})
}
