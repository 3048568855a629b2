// Package reference holds the names of things and the one copyable string that points at a value.
//
// A name is what a drawer, an item, a person or an app is called: lower-case ASCII letters, digits, "-", "_" and
// ".", beginning and ending with a letter or digit, at most [MaxName] bytes. The alphabet is small on purpose: two
// names that look alike on a screen are the same name.
//
// A reference points at something a chest holds:
//
//	ticketing-prod                     a drawer
//	ticketing-prod/db-password         an item, and so its current version
//	ticketing-prod/db-password@3       version 3 of that item
//	ticketing-prod/db-login#password   one field of an item that has fields; of a version: …@3#password
//	tansu:ticketing-prod/db-password   the same item, inside another file
//
// A pattern ([Pattern]) selects references: "*" stands for anything inside one segment, "**" for any number of
// whole segments, none included.
package reference

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// MaxName is the longest name, in bytes.
const MaxName = 64

// Scheme marks a reference inside another file.
const Scheme = "tansu:"

// NameForm says what a name is made of.
const NameForm = `lower-case letters, digits, "-", "_" and ".", 1 to 64 of them, beginning and ending with a letter or digit, without ".."`

// InvalidError says that a text is not a name, a reference or a pattern. The text itself is not in the message beyond
// a quoted form, so that control characters cannot reach a terminal.
type InvalidError struct {
	What    string // "name", "reference" or "pattern"
	Text    string // what was given
	Problem string // what is wrong with it
	Form    string // the allowed form
}

func (e *InvalidError) Error() string {
	return fmt.Sprintf("%s %s %s; allowed: %s", e.What, quote(e.Text), e.Problem, e.Form)
}

// quote shows at most 80 bytes of a text, everything outside printable ASCII escaped.
func quote(text string) string {
	if len(text) > 80 {
		return strconv.QuoteToASCII(text[:80]) + "…"
	}
	return strconv.QuoteToASCII(text)
}

// NamePattern is what CheckName allows but for two points in a row, as a regular expression for forms.
const NamePattern = `[a-z0-9]([a-z0-9._\-]{0,62}[a-z0-9])?`

// CheckName reports whether text is a name. The error is an [*InvalidError].
func CheckName(text string) error {
	if problem := nameProblem(text); problem != "" {
		return &InvalidError{What: "name", Text: text, Problem: problem, Form: NameForm}
	}
	return nil
}

func nameProblem(text string) string {
	switch {
	case text == "":
		return "is empty"
	case len(text) > MaxName:
		return fmt.Sprintf("is %d bytes long, the most is %d", len(text), MaxName)
	case strings.Contains(text, ".."):
		return `contains ".."`
	}
	for i, r := range text {
		switch {
		case r > 0x7e:
			return fmt.Sprintf("has the character U+%04X at byte %d, which is not ASCII", r, i+1)
		case r < 0x20 || r == 0x7f:
			return fmt.Sprintf("has a control character at byte %d", i+1)
		case !isNameByte(byte(r)):
			return fmt.Sprintf("has %q at byte %d", r, i+1)
		}
	}
	if !isAlnum(text[0]) || !isAlnum(text[len(text)-1]) {
		return "does not begin and end with a letter or digit"
	}
	return ""
}

// Lookalikes are the names that differ from a name by nothing but their separators, in one style: people take one for the other.
func Lookalikes(name string) (list []string) {
	for _, separator := range []string{"-", "_", "."} {
		other := separators.ReplaceAllString(name, separator)
		if other != name {
			list = append(list, other)
		}
	}
	return list
}

var separators = regexp.MustCompile(`[-_.]`)

func isAlnum(b byte) bool    { return b >= 'a' && b <= 'z' || b >= '0' && b <= '9' }
func isNameByte(b byte) bool { return isAlnum(b) || b == '-' || b == '_' || b == '.' }

// Reference points at a drawer (Item empty), an item (Version 0) or one version of an item.
type Reference struct {
	Drawer  string
	Item    string
	Version int    // 0 means the current version
	Field   string // empty for the whole
}

const referenceForm = `drawer/item, drawer/item@3 or drawer/item#field, optionally with "tansu:" in front`

// Parse reads a reference to an item or to one of its versions. The error is an [*InvalidError].
func Parse(text string) (Reference, error) {
	bad := func(problem string) (Reference, error) {
		return Reference{}, &InvalidError{What: "reference", Text: text, Problem: problem, Form: referenceForm}
	}
	drawer, rest, found := strings.Cut(strings.TrimPrefix(text, Scheme), "/")
	if !found {
		return bad(`has no "/" between drawer and item`)
	}
	rest, field, hasField := strings.Cut(rest, "#")
	ref := Reference{Drawer: drawer, Field: field}
	if problem := nameProblem(field); hasField && problem != "" {
		return bad("names a field that " + problem)
	}
	item, number, pinned := strings.Cut(rest, "@")
	ref.Item = item
	if problem := nameProblem(drawer); problem != "" {
		return bad("names a drawer that " + problem)
	}
	if problem := nameProblem(item); problem != "" {
		return bad("names an item that " + problem)
	}
	if pinned {
		version, err := ParseVersion(number)
		if err != nil {
			return bad("has a version that is not a whole number from 1 to 999999999")
		}
		ref.Version = version
	}
	return ref, nil
}

// ParseVersion reads a version number: decimal digits, no sign, no leading zero, 1 to 999999999.
func ParseVersion(text string) (int, error) {
	bad := &InvalidError{What: "version", Text: text, Problem: "is not one", Form: "a whole number from 1 to 999999999"}
	if text == "" || len(text) > 9 || text[0] == '0' {
		return 0, bad
	}
	n := 0
	for i := range len(text) {
		if text[i] < '0' || text[i] > '9' {
			return 0, bad
		}
		n = n*10 + int(text[i]-'0')
	}
	return n, nil
}

// String writes the reference without the scheme; Parse reads it back.
func (r Reference) String() string {
	var room [128]byte
	return string(r.Append(room[:0]))
}

// Append appends what String returns.
func (r Reference) Append(b []byte) []byte {
	b = append(b, r.Drawer...)
	if r.Item == "" {
		return b
	}
	b = append(append(b, '/'), r.Item...)
	if r.Version != 0 {
		b = strconv.AppendInt(append(b, '@'), int64(r.Version), 10)
	}
	if r.Field != "" {
		b = append(append(b, '#'), r.Field...)
	}
	return b
}

// Kinds of subject.
const (
	Person = "person"
	App    = "app"
	Team   = "team"
)

// Subject names an identity: "person:ticketing-lead", "app:ticket-api".
type Subject struct {
	Kind string // Person, App or Team
	Name string
}

const subjectForm = "person:NAME, app:NAME or team:NAME"

// ParseSubject reads a subject. The error is an [*InvalidError].
func ParseSubject(text string) (Subject, error) {
	kind, name, _ := strings.Cut(text, ":")
	if kind != Person && kind != App && kind != Team {
		return Subject{}, &InvalidError{What: "subject", Text: text, Problem: "does not say what it is", Form: subjectForm}
	}
	if problem := nameProblem(name); problem != "" {
		return Subject{}, &InvalidError{What: "subject", Text: text, Problem: "has a name that " + problem, Form: subjectForm}
	}
	return Subject{Kind: kind, Name: name}, nil
}

func (s Subject) String() string { return s.Kind + ":" + s.Name }
