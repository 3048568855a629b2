package reference

import "strings"

// Pattern selects targets. A target is a list of segments: none for the chest as a whole, one for a drawer, two for an
// item. "ticketing-prod/**" selects the drawer ticketing-prod and everything in it, "ticketing-*/db-*" the items whose
// names begin with db- in the drawers whose names begin with ticketing-, and "**" everything, the chest included.
//
// The zero Pattern selects nothing. A Pattern is immutable and safe for concurrent use.
type Pattern struct {
	text     string
	segments []string
	plain    [2]bool // which segments have no wildcard, and are compared as they are
}

const patternForm = `names with "*" inside a segment and "**" for whole segments, such as ticketing-prod/db-*, ticketing-*/** or **`

const across = "**"

// ParsePattern reads a pattern. The error is an [*InvalidError].
func ParsePattern(text string) (Pattern, error) {
	bad := func(problem string) (Pattern, error) {
		return Pattern{}, &InvalidError{What: "pattern", Text: text, Problem: problem, Form: patternForm}
	}
	if text == "" {
		return bad("is empty")
	}
	if len(text) > 2*MaxName+1 {
		return bad("is too long")
	}
	segments := strings.Split(strings.TrimPrefix(text, Scheme), "/")
	if len(segments) > 2 {
		return bad("has more than two segments")
	}
	for _, segment := range segments {
		if segment == across {
			continue
		}
		if strings.Contains(segment, across) {
			return bad(`has "**" next to other characters`)
		}
		if segment == "" {
			return bad("has an empty segment")
		}
		if strings.Contains(segment, "..") {
			return bad(`contains ".."`)
		}
		for i := range len(segment) {
			if segment[i] != '*' && !isNameByte(segment[i]) {
				return bad("has a character that no name has")
			}
		}
	}
	p := Pattern{text: strings.Join(segments, "/"), segments: segments}
	for i, segment := range segments {
		p.plain[i] = !strings.Contains(segment, "*")
	}
	return p, nil
}

func (p Pattern) String() string { return p.text }

// Matches reports whether the pattern selects the target; it allocates nothing.
func (p Pattern) Matches(target ...string) bool { return p.Selects(target) }

// Selects is Matches for where it counts: nothing is copied.
func (p *Pattern) Selects(target []string) bool {
	switch len(p.segments) {
	case 0:
		return false
	case 1:
		return p.segments[0] == across || len(target) == 1 && p.like(0, target[0])
	}
	if p.segments[0] == across || p.segments[1] != across && len(target) != 2 {
		return matchSegments(p.segments, target)
	}
	return len(target) > 0 && p.like(0, target[0]) && (p.segments[1] == across || p.like(1, target[1]))
}

// like matches one segment.
func (p *Pattern) like(i int, name string) bool {
	if p.plain[i] {
		return p.segments[i] == name
	}
	return Like(p.segments[i], name)
}

// Covers reports whether every target that other selects is selected by p too. It is sound and errs towards false:
// a wildcard in other counts as a character that only a wildcard of p can absorb.
func (p Pattern) Covers(other Pattern) bool {
	return p.segments != nil && other.segments != nil && matchSegments(p.segments, other.segments)
}

// Touches reports whether the pattern could select the drawer or anything in it.
func (p Pattern) Touches(drawer string) bool {
	return p.segments != nil && (p.segments[0] == across || Like(p.segments[0], drawer))
}

// Drawer is the one drawer in which everything is that the pattern selects; empty when there may be several.
func (p Pattern) Drawer() string {
	if len(p.segments) == 0 || !p.plain[0] {
		return ""
	}
	return p.segments[0]
}

// Whole reports whether the pattern selects the drawer and everything in it.
func (p Pattern) Whole(drawer string) bool {
	switch len(p.segments) {
	case 1:
		return p.segments[0] == across
	case 2:
		return p.segments[1] == across && (p.segments[0] == across || p.like(0, drawer))
	}
	return false
}

func matchSegments(pattern, target []string) bool {
	if len(pattern) == 0 {
		return len(target) == 0
	}
	if pattern[0] == across {
		return matchSegments(pattern[1:], target) || len(target) > 0 && matchSegments(pattern, target[1:])
	}
	if len(target) == 0 || target[0] == across {
		return false
	}
	return Like(pattern[0], target[0]) && matchSegments(pattern[1:], target[1:])
}

// Like matches "*" in a pattern against any run of bytes, going back only to the last "*": linear in practice and at
// worst len(pattern)×len(text), both of which are short wherever it is used.
func Like(pattern, text string) bool {
	p, t, star, mark := 0, 0, -1, 0
	for t < len(text) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, mark = p, t
			p++
		case p < len(pattern) && pattern[p] == text[t]:
			p++
			t++
		case star >= 0:
			mark++
			p, t = star+1, mark
		default:
			return false
		}
	}
	for p < len(pattern) && pattern[p] == '*' {
		p++
	}
	return p == len(pattern)
}

// Intersects reports whether some target is selected by both patterns.
func (p Pattern) Intersects(other Pattern) bool {
	return p.segments != nil && other.segments != nil && intersectSegments(p.segments, other.segments)
}

func intersectSegments(a, b []string) bool {
	switch {
	case len(a) == 0 && len(b) == 0:
		return true
	case len(a) > 0 && a[0] == across:
		return intersectSegments(a[1:], b) || len(b) > 0 && intersectSegments(a, b[1:])
	case len(b) > 0 && b[0] == across:
		return intersectSegments(b, a)
	case len(a) == 0 || len(b) == 0:
		return false
	}
	return intersectSegment(a[0], b[0]) && intersectSegments(a[1:], b[1:])
}

// intersectSegment fills a table of which ends of a and b can be written the same way, so that many wildcards cost
// len(a)×len(b) and no more.
func intersectSegment(a, b string) bool {
	next := make([]bool, len(b)+1)
	for i := len(a); i >= 0; i-- {
		row := make([]bool, len(b)+1)
		for j := len(b); j >= 0; j-- {
			starA, starB := i < len(a) && a[i] == '*', j < len(b) && b[j] == '*'
			switch {
			case i == len(a) && j == len(b):
				row[j] = true
			case starA:
				row[j] = next[j] || j < len(b) && row[j+1]
			case starB:
				row[j] = row[j+1] || i < len(a) && next[j]
			case i < len(a) && j < len(b):
				row[j] = a[i] == b[j] && next[j+1]
			}
		}
		next = row
	}
	return next[0]
}
