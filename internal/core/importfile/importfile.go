// Package importfile reads the plaintext files in which secrets lie about, each by its own grammar, so that they can be
// moved into a chest: dotenv files, flat JSON objects and YAML mappings, Java properties, and tables
// of comma-separated values.
//
// Reading finds every problem with its line and goes on, so that all are told at once. Nothing in a problem repeats a
// value. Interpolation is refused: what it would stand for is not in the file.
package importfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"tansu/internal/core/secretvalue"
)

// Format is the grammar of a file.
type Format string

// The formats.
const (
	Dotenv     Format = "dotenv"
	JSON       Format = "json"
	Properties Format = "properties"
	YAML       Format = "yaml"
	CSV        Format = "csv"
)

// Formats are all of them.
var Formats = []Format{Dotenv, JSON, Properties, YAML, CSV}

// MaxSize is the largest file, in bytes.
const MaxSize = 4 << 20

// Entry is one name and value of a file.
type Entry struct {
	Line  int // from 1
	Name  string
	Value secretvalue.Value
}

// Problem is one thing that is wrong with a file.
type Problem struct {
	Line int
	Text string
}

func (p Problem) Error() string { return fmt.Sprintf("line %d: %s", p.Line, p.Text) }

// FormatOf guesses the format from a file's name; empty when it says nothing.
func FormatOf(name string) Format {
	switch {
	case strings.HasSuffix(name, ".json"):
		return JSON
	case strings.HasSuffix(name, ".properties"):
		return Properties
	case strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml"):
		return YAML
	case strings.HasSuffix(name, ".csv"):
		return CSV
	case strings.HasSuffix(name, ".env") || strings.Contains("/"+name, "/.env") || strings.Contains("/"+name, "/env."):
		return Dotenv
	}
	return ""
}

// Read reads a file. A name that is there twice is a problem, because which one counts differs from program to program.
func Read(format Format, content []byte) ([]Entry, []Problem) {
	switch {
	case len(content) > MaxSize:
		return nil, []Problem{{1, fmt.Sprintf("the file has %d bytes; the most is %d", len(content), MaxSize)}}
	case !utf8.Valid(content):
		return nil, []Problem{{1, "the file is not UTF-8"}}
	}
	r := &reader{text: strings.TrimPrefix(string(content), "\ufeff"), line: 1, seen: map[string]int{}}
	switch format {
	case Dotenv:
		r.dotenv()
	case JSON:
		r.json()
	case Properties:
		r.properties()
	case YAML:
		r.yaml()
	case CSV:
		r.csv()
	default:
		r.problem(1, "there is no format %.20q; the formats are %v", format, Formats)
	}
	// Parsers count lines in their own ways; a line is one that is there.
	last := strings.Count(r.text, "\n") + 1
	for i := range r.entries {
		r.entries[i].Line = min(max(r.entries[i].Line, 1), last)
	}
	for i := range r.problems {
		r.problems[i].Line = min(max(r.problems[i].Line, 1), last)
	}
	return r.entries, r.problems
}

// reader goes through a text and gathers what it finds.
type reader struct {
	text     string
	at       int
	line     int
	entries  []Entry
	problems []Problem
	seen     map[string]int
}

func (r *reader) problem(line int, format string, arguments ...any) {
	r.problems = append(r.problems, Problem{line, fmt.Sprintf(format, arguments...)})
}

func (r *reader) add(line int, name, value string) {
	if before, twice := r.seen[name]; twice {
		r.problem(line, "%s is on line %d already", name, before)
		return
	}
	r.seen[name] = line
	r.entries = append(r.entries, Entry{line, name, secretvalue.FromString(value)})
}

// next takes the next character; 0 at the end.
func (r *reader) next() byte {
	if r.at >= len(r.text) {
		return 0
	}
	c := r.text[r.at]
	r.at++
	if c == '\n' {
		r.line++
	}
	return c
}

func (r *reader) more() bool { return r.at < len(r.text) }

// rest takes the rest of the line, without its end.
func (r *reader) rest() string {
	end := strings.IndexByte(r.text[r.at:], '\n')
	if end < 0 {
		end = len(r.text) - r.at
	}
	line := r.text[r.at : r.at+end]
	r.at += end
	if r.more() {
		r.next()
	}
	return strings.TrimSuffix(line, "\r")
}

// dotenv reads lines of the form NAME=value. A value may be bare, up to " #" or the end of the line; in single quotes,
// where everything stands for itself; or in double quotes with the escapes \n \r \t \" \\ and \$. Quoted values may have
// several lines. "export " in front is allowed.
func (r *reader) dotenv() {
	for r.more() {
		start := r.line
		head, _, _ := strings.Cut(r.text[r.at:], "\n")
		trimmed := strings.TrimSpace(head)
		if trimmed == "" || trimmed[0] == '#' {
			r.rest()
			continue
		}
		name, _, hasValue := strings.Cut(strings.TrimPrefix(strings.TrimLeft(head, " \t"), "export "), "=")
		name = strings.TrimSpace(name)
		if !hasValue || !isVariable(name) {
			r.problem(start, "here belongs NAME=value, with a name of letters, digits and _")
			r.rest()
			continue
		}
		r.at += strings.IndexByte(head, '=') + 1
		for r.more() && (r.text[r.at] == ' ' || r.text[r.at] == '\t') {
			r.at++
		}
		if value, err := r.dotenvValue(); err != nil {
			r.problem(start, "%s: %s", name, err)
		} else {
			r.add(start, name, value)
		}
	}
}

func isVariable(name string) bool {
	for i, c := range name {
		if !(c == '_' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || i > 0 && (c >= '0' && c <= '9' || c == '.' || c == '-')) {
			return false
		}
	}
	return name != ""
}

var errInterpolation = errors.New("the value refers to another one with $: write it out, or put it in single quotes")

func (r *reader) dotenvValue() (string, error) {
	if !r.more() {
		return "", nil
	}
	quote := r.text[r.at]
	if quote != '\'' && quote != '"' {
		value := r.rest()
		if comment := strings.Index(" "+value, " #"); comment >= 0 {
			value = value[:max(comment-1, 0)]
		}
		if strings.ContainsAny(value, "$`") {
			return "", errInterpolation
		}
		return strings.TrimRight(value, " \t"), nil
	}
	start := r.at
	r.next()
	value, err := r.quoted(quote)
	if err != nil {
		if !r.more() { // the quote was never closed: go on after its own line
			r.line -= strings.Count(r.text[start:], "\n")
			r.at = start
			r.rest()
		} else {
			r.rest()
		}
		return "", err
	}
	if after := strings.TrimSpace(r.rest()); after != "" && after[0] != '#' {
		return "", errors.New("there is something after the closing quote")
	}
	return value, nil
}

// quoted reads up to the closing quote.
func (r *reader) quoted(quote byte) (string, error) {
	var b strings.Builder
	var problem error
	for r.more() {
		c := r.next()
		switch {
		case c == quote:
			return b.String(), problem
		case quote == '"' && c == '$':
			problem = errInterpolation
		case quote == '"' && c == '\\':
			escaped := r.next()
			plain, known := map[byte]byte{'n': '\n', 'r': '\r', 't': '\t', '"': '"', '\\': '\\', '$': '$'}[escaped]
			if !known {
				problem = errors.New(`there is an escape other than \n \r \t \" \\ and \$`)
				continue
			}
			b.WriteByte(plain)
		default:
			b.WriteByte(c)
		}
	}
	return "", errors.New("the quote is not closed")
}

// json reads one object of texts, numbers and booleans; numbers keep their digits.
func (r *reader) json() {
	decoder := json.NewDecoder(strings.NewReader(r.text))
	decoder.UseNumber()
	lineOf := func() int { return 1 + strings.Count(r.text[:decoder.InputOffset()], "\n") }
	token, err := decoder.Token()
	if err != nil || token != json.Delim('{') {
		r.problem(1, "the file is not a JSON object")
		return
	}
	for decoder.More() {
		token, err := decoder.Token()
		name, _ := token.(string)
		line := lineOf()
		if err != nil {
			r.problem(line, "this is not JSON")
			return
		}
		var raw json.RawMessage
		if err := decoder.Decode(&raw); err != nil {
			r.problem(line, "this is not JSON")
			return
		}
		r.jsonValue(line, name, raw)
	}
	if _, err := decoder.Token(); err != nil {
		r.problem(lineOf(), "the JSON object is not closed")
		return
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		r.problem(lineOf(), "there is something after the JSON object")
	}
}

func (r *reader) jsonValue(line int, name string, raw json.RawMessage) {
	var text string
	switch {
	case raw[0] == '"' && json.Unmarshal(raw, &text) == nil:
		r.add(line, name, text)
	case raw[0] == '{' || raw[0] == '[':
		r.problem(line, "%s holds an object or a list; a secret is a text", strconv.QuoteToASCII(name))
	case bytes.Equal(raw, []byte("null")):
		r.problem(line, "%s is null", strconv.QuoteToASCII(name))
	default:
		r.add(line, name, string(raw))
	}
}

// properties reads the file format of java.util.Properties: "=", ":" or white space after the name, "#" and "!" for
// comments, a backslash at the end of a line to go on on the next, and \u with four hex digits among the escapes.
func (r *reader) properties() {
	for r.more() {
		start := r.line
		line := strings.TrimLeft(r.rest(), " \t\f")
		if line == "" || line[0] == '#' || line[0] == '!' {
			continue
		}
		for goesOn(line) && r.more() {
			line = line[:len(line)-1] + strings.TrimLeft(r.rest(), " \t\f")
		}
		end := nameEnd(line)
		name, errName := unescape(line[:end])
		rest := strings.TrimLeft(line[end:], " \t\f")
		if rest != "" && (rest[0] == '=' || rest[0] == ':') {
			rest = strings.TrimLeft(rest[1:], " \t\f")
		}
		value, errValue := unescape(rest)
		if errName != nil || errValue != nil {
			r.problem(start, "there is an escape that is cut off")
			continue
		}
		r.add(start, name, value)
	}
}

// goesOn reports whether a line ends in an odd number of backslashes.
func goesOn(line string) bool {
	return (len(line)-len(strings.TrimRight(line, `\`)))%2 == 1
}

// nameEnd is where the name of a property ends: at the first separator that is not escaped.
func nameEnd(line string) int {
	for i := 0; i < len(line); i++ {
		switch line[i] {
		case '\\':
			i++
		case '=', ':', ' ', '\t', '\f':
			return i
		}
	}
	return len(line)
}

func unescape(text string) (string, error) {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' {
			b.WriteByte(text[i])
			continue
		}
		i++
		if i == len(text) {
			return "", io.ErrUnexpectedEOF
		}
		switch c := text[i]; c {
		case 'n':
			b.WriteByte('\n')
		case 't':
			b.WriteByte('\t')
		case 'r':
			b.WriteByte('\r')
		case 'f':
			b.WriteByte('\f')
		case 'u':
			units, used, err := units(text[i+1:])
			if err != nil {
				return "", err
			}
			b.WriteString(string(utf16.Decode(units)))
			i += used
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), nil
}

// units reads the four hex digits after \u, and those of a second \u when the two are a surrogate pair.
func units(text string) (list []uint16, used int, err error) {
	one := func(from int) (uint16, error) {
		if len(text) < from+4 {
			return 0, io.ErrUnexpectedEOF
		}
		n, err := strconv.ParseUint(text[from:from+4], 16, 16)
		return uint16(n), err
	}
	first, err := one(0)
	if err != nil {
		return nil, 0, err
	}
	if utf16.IsSurrogate(rune(first)) && strings.HasPrefix(text[4:], `\u`) {
		if second, err := one(6); err == nil {
			return []uint16{first, second}, 10, nil
		}
	}
	return []uint16{first}, 4, nil
}

// ItemName is the name that an entry gets as an item: in lower case, since names have no upper case, and with - between its words.
// What has other characters than names have is left as it is, to be refused by whoever checks names.
func ItemName(name string) string {
	words := strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return r == '_' || r == '-' })
	if joined := strings.Join(words, "-"); joined != "" {
		return joined
	}
	return name
}

// secretWords are parts of names whose values are secrets, whatever they look like.
var secretWords = []string{"PASS", "PWD", "SECRET", "TOKEN", "KEY", "CREDENTIAL", "AUTH", "PIN", "SALT", "SEED", "CERT", "DSN"}

// LooksPlain reports whether an entry looks like a setting rather than a secret: a switch, a short number, a level, an address without
// credentials. It is a guess, for a person to confirm.
func (e Entry) LooksPlain() bool {
	name := strings.ToUpper(e.Name)
	if slices.ContainsFunc(secretWords, func(word string) bool { return strings.Contains(name, word) }) {
		return false
	}
	value := string(e.Value.Reveal())
	switch strings.ToLower(value) {
	case "true", "false", "yes", "no", "on", "off", "":
		return true
	}
	if address, err := url.Parse(value); err == nil && address.Host != "" {
		return address.User == nil && address.RawQuery == "" && address.Fragment == ""
	}
	return len(value) <= 12 && strings.IndexFunc(value, func(r rune) bool { return !unicode.IsLower(r) && r != '-' && r != '.' }) < 0 ||
		len(value) <= 6 && strings.IndexFunc(value, func(r rune) bool { return r < '0' || r > '9' }) < 0
}
