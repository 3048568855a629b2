// Package render puts values into a text: where a placeholder such as
//
//	password = tansu:ticketing-prod/db-password
//
// stands, or where a template of package text/template asks for one. In both, a reference of the environment's own drawer
// leaves the drawer out ("tansu:./db-password", {{value "db-password"}}), so that one text serves every environment.
//
// A text is gone through twice: once to find what it needs, so that all values can be asked for at once and nothing is
// written unless each is served; and once to fill it. What a text needs must therefore not depend on a value.
package render

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"text/template"

	"tansu/internal/core/reference"
)

// MaxSize is the size in bytes of the largest text.
const MaxSize = 4 << 20

// Text is something to be filled. It is not changed by that, and safe for concurrent use.
type Text struct {
	drawer string
	pieces []piece            // of a text with placeholders
	source *template.Template // or nil
	needs  []reference.Reference
}

// piece is what stands between placeholders, and the placeholder after it.
type piece struct {
	plain []byte
	ref   reference.Reference
}

// Lookup finds a value that [Text.Needs] lists. The text does not keep it.
type Lookup func(reference.Reference) []byte

var placeholder = regexp.MustCompile(`\btansu:(?:\.|` + reference.NamePattern + `)/` + reference.NamePattern + `(?:@[0-9]+)?(?:#` +
	reference.NamePattern + `)?`)

// Placeholders reads a text in which references with their scheme stand where values shall be. Everything else stays as it is.
// The drawer is the environment's own, or empty if there is none.
func Placeholders(text []byte, drawer string) (*Text, error) {
	if len(text) > MaxSize {
		return nil, fmt.Errorf("a text has at most %d bytes", MaxSize)
	}
	t := &Text{drawer: drawer}
	at := 0
	for _, place := range placeholder.FindAllIndex(text, -1) {
		ref, err := t.reference(strings.Replace(string(text[place[0]:place[1]]), reference.Scheme+"./", reference.Scheme, 1))
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", 1+bytes.Count(text[:place[0]], []byte("\n")), err)
		}
		t.pieces = append(t.pieces, piece{text[at:place[0]], ref})
		t.need(ref)
		at = place[1]
	}
	t.pieces = append(t.pieces, piece{plain: text[at:]})
	return t, t.checked()
}

// Template reads a text with the actions of package text/template. Besides that package's own functions there are:
//
//	value "drawer/item#field"   the value; an item of the environment's drawer needs no drawer
//	base64, json, shell, url    a value encoded, quoted or escaped for what it stands in
//	indent 4                    a value of several lines with so many spaces before each but the first
func Template(text []byte, drawer string) (*Text, error) {
	if len(text) > MaxSize {
		return nil, fmt.Errorf("a text has at most %d bytes", MaxSize)
	}
	t := &Text{drawer: drawer}
	noted := func(text string) (string, error) {
		ref, err := t.reference(text)
		if err != nil {
			return "", err
		}
		t.need(ref)
		return "", nil
	}
	source, err := template.New("text").Option("missingkey=error").Funcs(functions).Funcs(template.FuncMap{"value": noted}).Parse(string(text))
	if err != nil {
		return nil, errors.New(strings.TrimPrefix(err.Error(), "template: "))
	}
	t.source = source
	if err := source.Execute(io.Discard, nil); err != nil {
		return nil, errors.New(strings.TrimPrefix(err.Error(), "template: "))
	}
	return t, t.checked()
}

func (t *Text) checked() error {
	if len(t.needs) == 0 {
		return errors.New("it asks for no value")
	}
	return nil
}

var functions = template.FuncMap{
	"base64": func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
	"json":   quoteJSON,
	"shell":  func(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" },
	"url":    url.QueryEscape,
	"indent": func(n int, s string) (string, error) {
		if n < 0 || n > 200 {
			return "", errors.New("indent takes 0 to 200 spaces")
		}
		return strings.ReplaceAll(s, "\n", "\n"+strings.Repeat(" ", n)), nil
	},
}

// quoteJSON makes a JSON string (RFC 8259, section 7).
func quoteJSON(s string) (string, error) {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(s)
	return strings.TrimSuffix(out.String(), "\n"), err
}

// reference reads one that may leave the drawer out.
func (t *Text) reference(text string) (reference.Reference, error) {
	text = strings.TrimPrefix(text, reference.Scheme)
	if item, _, _ := strings.Cut(text, "#"); !strings.Contains(item, "/") {
		if t.drawer == "" {
			return reference.Reference{}, fmt.Errorf("%.80q has no drawer, and no environment was chosen", text)
		}
		text = t.drawer + "/" + text
	}
	return reference.Parse(text)
}

func (t *Text) need(ref reference.Reference) {
	if !slices.Contains(t.needs, ref) {
		t.needs = append(t.needs, ref)
	}
}

// Needs lists what the text asks for, each once, in the order in which it is first asked for.
func (t *Text) Needs() []reference.Reference { return slices.Clone(t.needs) }

// Fill returns the text with the values in it. No error repeats one.
func (t *Text) Fill(lookup Lookup) ([]byte, error) {
	var out bytes.Buffer
	if t.source == nil {
		for i, p := range t.pieces {
			out.Write(p.plain)
			if i < len(t.pieces)-1 {
				out.Write(lookup(p.ref))
			}
		}
		return out.Bytes(), nil
	}
	filled := func(text string) (string, error) {
		ref, err := t.reference(text)
		if err != nil || !slices.Contains(t.needs, ref) {
			return "", errors.New("what it needs depends on a value")
		}
		return string(lookup(ref)), nil
	}
	source, err := t.source.Clone()
	if err != nil {
		return nil, errors.New("the template cannot be used twice")
	}
	if err := source.Funcs(template.FuncMap{"value": filled}).Execute(&out, nil); err != nil {
		// The package's own message may repeat what a function was given, and so a value.
		return nil, errors.New("the template does not work with the values: what it needs and does must not depend on what they are")
	}
	return out.Bytes(), nil
}
