// Package strictjson reads the body of a request as one JSON object, and takes nothing that a reader could understand in two ways.
package strictjson

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	"tansu/internal/chest"
)

const maxNesting = 8

// Read reads a body that says it is JSON, as far as it may be large.
func Read(w http.ResponseWriter, r *http.Request, limit int64) ([]byte, error) {
	if kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";"); strings.TrimSpace(kind) != "application/json" {
		return nil, &chest.Error{Code: chest.InvalidInput, Field: "Content-Type", Detail: "the body must be application/json"}
	}
	body := bytes.NewBuffer(make([]byte, 0, bytes.MinRead+max(0, min(r.ContentLength, limit))))
	if _, err := body.ReadFrom(http.MaxBytesReader(w, r.Body, limit)); err != nil {
		var tooLarge *http.MaxBytesError
		if errors.As(err, &tooLarge) {
			return nil, &chest.Error{Code: chest.TooLarge, Detail: fmt.Sprintf("the body is larger than %d bytes", limit)}
		}
		return nil, &chest.Error{Code: chest.InvalidInput, Detail: "the body did not arrive whole"}
	}
	return body.Bytes(), nil
}

// Decode decodes a body strictly: one object, no unknown, repeated or wrongly cased field, no deep nesting, nothing
// after it. Nothing of the body is repeated in an error but field names.
func Decode(body []byte, into any) error {
	if !utf8.Valid(body) {
		return &chest.Error{Code: chest.InvalidInput, Detail: "the body is not UTF-8"}
	}
	if trimmed := bytes.TrimLeft(body, " \t\r\n"); !bytes.HasPrefix(trimmed, []byte{'{'}) {
		return &chest.Error{Code: chest.InvalidInput, Detail: "the body is not a JSON object"}
	}
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.DisallowUnknownFields()
	if err := decodeError(decoder.Decode(into), into); err != nil {
		return err
	}
	whole, rest := body[:decoder.InputOffset()], body[decoder.InputOffset():]
	if len(bytes.Trim(rest, " \t\r\n")) > 0 {
		return &chest.Error{Code: chest.InvalidInput, Detail: "there is something after the JSON object"}
	}
	return checkShape(whole) // it is valid JSON
}

// PlainList reads a body of the form {"name":["…","…"]} whose strings are ASCII and need no unescaping, which is how clients ask
// for many values: the strict decoder takes as long for it as all the rest of such a call. It does not know any other form, which
// is left to that decoder, and so is saying what is wrong.
func PlainList(body []byte, name string) (list []string, ok bool) {
	rest, ok := strings.CutPrefix(string(body), `{"`+name+`":[`)
	if !ok {
		return nil, false
	}
	list = make([]string, 0, strings.Count(rest, ",")+1)
	for {
		text, after, closed := strings.Cut(strings.TrimPrefix(rest, `"`), `"`)
		if !closed || len(text)+len(after)+2 != len(rest) || !plainText(text) {
			return nil, false
		}
		list = append(list, text)
		if after == "]}" {
			return list, true
		}
		if rest, ok = strings.CutPrefix(after, ","); !ok {
			return nil, false
		}
		rest = strings.TrimPrefix(rest, " ") // as some encoders write lists
	}
}

// PlainObjects reads a body of the form {"name":[{…},{…}]} whose objects have strings that need no unescaping, whole numbers, and truth
// values, and calls visit with each member of each object by its number; text says whether the value is a string. As [PlainList], it knows
// no other form: where it returns false, or visit does, the body is for the strict decoder, also to say what is wrong.
func PlainObjects(body []byte, name string, visit func(i int, member, value []byte, text bool) bool) (count int, ok bool) {
	rest, ok := bytes.CutPrefix(body, []byte(`{"`+name+`":[`))
	for ok && len(rest) > 1 && rest[0] == '{' {
		if rest, ok = plainObject(rest[1:], count, visit); !ok || len(rest) == 0 {
			return 0, false
		}
		if count++; rest[0] == ']' {
			return count, string(bytes.TrimRight(rest, "\n")) == "]}"
		}
		if rest[0] != ',' {
			return 0, false
		}
		rest = rest[1:]
	}
	return 0, false
}

// mostMembers is the most members of an object that is read so.
const mostMembers = 16

// plainObject reads the members of one object, and returns what follows it.
func plainObject(rest []byte, i int, visit func(i int, member, value []byte, text bool) bool) ([]byte, bool) {
	var seen [mostMembers][]byte
	for n := range seen {
		member, after, ok := plainString(rest)
		if !ok || len(after) == 0 || after[0] != ':' || slices.ContainsFunc(seen[:n], func(s []byte) bool { return bytes.Equal(s, member) }) {
			return nil, false
		}
		seen[n] = member
		value, after, text := plainString(after[1:])
		if !text {
			end := bytes.IndexAny(after, ",}")
			if end < 1 || !plainWord(after[:end]) {
				return nil, false
			}
			value, after = after[:end], after[end:]
		}
		if len(after) == 0 || !visit(i, member, value, text) {
			return nil, false
		}
		switch after[0] {
		case '}':
			return after[1:], true
		case ',':
			rest = after[1:]
		default:
			return nil, false
		}
	}
	return nil, false
}

// plainString reads a string without escapes, of printable ASCII; without one it returns what it was given.
func plainString(rest []byte) (text, after []byte, ok bool) {
	if len(rest) < 2 || rest[0] != '"' {
		return nil, rest, false
	}
	end := bytes.IndexByte(rest[1:], '"')
	if end < 0 {
		return nil, rest, false
	}
	for _, c := range rest[1 : 1+end] {
		if c < 0x20 || c > 0x7e || c == '\\' {
			return nil, rest, false
		}
	}
	return rest[1 : 1+end], rest[2+end:], true
}

// plainWord reports whether something is a truth value or a whole number as JSON has it (RFC 8259, section 6).
func plainWord(word []byte) bool {
	if string(word) == "true" || string(word) == "false" || string(word) == "0" {
		return true
	}
	return len(word) < 10 && word[0] >= '1' && word[0] <= '9' && len(bytes.Trim(word, "0123456789")) == 0
}

// plainText reports whether a text is printable ASCII without a backslash.
func plainText(text string) bool {
	for i := range len(text) {
		if c := text[i]; c < 0x20 || c >= utf8.RuneSelf || c == '\\' {
			return false
		}
	}
	return true
}

func decodeError(err error, into any) error {
	if err == nil {
		return nil
	}
	var wrong *json.SyntaxError
	if errors.As(err, &wrong) {
		return &chest.Error{Code: chest.InvalidInput, Detail: fmt.Sprintf("the body is not valid JSON near byte %d", wrong.Offset)}
	}
	var wrongType *json.UnmarshalTypeError
	if errors.As(err, &wrongType) {
		return &chest.Error{Code: chest.InvalidInput, Field: wrongType.Field,
			Detail: fmt.Sprintf("%s is a JSON %s; allowed: %s", wrongType.Field, wrongType.Value, typeName(wrongType.Type))}
	}
	if name, found := strings.CutPrefix(err.Error(), "json: unknown field "); found {
		name = strings.Trim(name, `"`)
		return &chest.Error{Code: chest.InvalidInput, Field: name,
			Detail: fmt.Sprintf("there is no field %q; allowed: %s", name, strings.Join(fieldNames(into), ", "))}
	}
	if strings.Contains(err.Error(), "parsing time") || strings.Contains(err.Error(), "Time.UnmarshalJSON") {
		return &chest.Error{Code: chest.InvalidInput, Field: "time", Detail: "a time is not in RFC 3339 form, such as 2026-11-23T08:00:00Z"}
	}
	return &chest.Error{Code: chest.InvalidInput, Detail: "the body is not the JSON that this route expects"}
}

func typeName(t reflect.Type) string {
	switch t.Kind() {
	case reflect.String:
		return "a string"
	case reflect.Bool:
		return "true or false"
	case reflect.Struct:
		return "an object"
	default:
		return "a " + t.Kind().String()
	}
}

func fieldNames(into any) (names []string) {
	t := reflect.TypeOf(into).Elem()
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		names = append(names, name)
	}
	return names
}

// checkShape looks in valid JSON for what encoding/json lets pass. It is by hand because every write and every call for
// many values goes through it, and the tokens of encoding/json cost as much as all the rest of such a call.
func checkShape(body []byte) error {
	var open []map[string]bool // for each object or array that is open, the fields so far; nil in an array
	name := false              // the next string in this object is a field's name
	for i := 0; i < len(body); i++ {
		switch c := body[i]; c {
		case '{', '[':
			if len(open) == maxNesting {
				return &chest.Error{Code: chest.InvalidInput, Detail: fmt.Sprintf("the body is nested more than %d deep", maxNesting)}
			}
			var fields map[string]bool
			if name = c == '{'; name {
				fields = map[string]bool{}
			}
			open = append(open, fields)
		case '}', ']':
			open = open[:len(open)-1]
		case ',':
			name = open[len(open)-1] != nil
		case '"':
			end := stringEnd(body, i)
			if name {
				if err := checkName(body[i:end], open[len(open)-1]); err != nil {
					return err
				}
				name = false
			}
			i = end - 1
		}
	}
	return nil
}

// stringEnd is where the JSON string ends that begins at a place.
func stringEnd(body []byte, begin int) int {
	for i := begin + 1; ; i++ {
		switch body[i] {
		case '\\':
			i++
		case '"':
			return i + 1
		}
	}
}

// checkName refuses a field's name that is there already, or is not in lower case.
func checkName(quoted []byte, seen map[string]bool) error {
	var name string
	if err := json.Unmarshal(quoted, &name); err != nil {
		return err // not met: the body is valid
	}
	if seen[name] {
		return &chest.Error{Code: chest.InvalidInput, Field: name, Detail: fmt.Sprintf("the field %.64q appears twice", name)}
	}
	if strings.ContainsFunc(name, func(r rune) bool { return r >= utf8.RuneSelf }) { // encoding/json takes some of them for others
		return &chest.Error{Code: chest.InvalidInput, Field: "body", Detail: "a field's name is not in ASCII"}
	}
	if name != strings.ToLower(name) {
		return &chest.Error{Code: chest.InvalidInput, Field: name, Detail: fmt.Sprintf("the field %.64q is not in lower case", name)}
	}
	seen[name] = true
	return nil
}
