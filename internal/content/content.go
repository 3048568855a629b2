// Package content is what is put into a new version of an item: checked against the shape of the item, made up where a recipe says so, and
// completed by what follows from it.
package content

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/secretvalue"
	"tansu/internal/keyrow"
)

// Version is a new content.
type Version struct {
	Content secretvalue.Value
	Recipe  secretvalue.Recipe // makes the content up instead
	Fields  []Field            // instead of content, of an item that has fields
	Merge   bool               // fields that are not given stay as they are in the current version
	Note    string
	Window  lifecycle.Window
	Staged  bool              // waits until somebody promotes it
	Brought secretvalue.Value // of a key: one that was made elsewhere; empty to make one

	Made string // of a certificate: the id of the profile that it was issued by; empty for none

	About []string      // the names of where it goes to
	Key   *keyrow.Facts // of a key; nil for another item

	ready *ready // a key that was made before, because that takes long
}

// ready is a key that was made for a version.
type ready struct {
	facts  keyrow.Facts
	stored []byte
	public string
}

// Makes reports whether nothing is given, as of a version of a key that is made in the chest.
func (n Version) Makes() bool {
	return n.Content.Len() == 0 && n.Recipe == "" && len(n.Fields) == 0 && n.Brought.Len() == 0
}

// MakeKey makes the key of a version at once, so that filling it does not take long any more.
func (n *Version) MakeKey() error {
	stored, public, err := n.Key.Make(nil)
	if err == nil {
		n.ready = &ready{*n.Key, stored, public}
	}
	return err
}

// Field is a field of a new version: its value, or a recipe that makes one up.
type Field struct {
	Name   string
	Value  secretvalue.Value
	Recipe secretvalue.Recipe
	Plain  bool // of free fields: not sensitive
}

// Info is what is known of a field without its value.
type Info struct {
	Name  string
	Size  int
	Plain bool
}

// Check refuses content and windows that cannot be stored.
func (n Version) Check(now time.Time) error {
	if err := n.Window.Check(); err != nil {
		return chest.Invalid("not_before", "%s", err)
	}
	if !n.Window.NotAfter.IsZero() && !n.Window.NotAfter.After(now) {
		return chest.Invalid("not_after", "not_after is not in the future")
	}
	return chest.CheckText("note", n.Note, chest.MaxNote)
}

// ByRule is the recipe that stands for the one that a drawer's rules name, or a good one when they name none.
const ByRule secretvalue.Recipe = "rule"

const goodRecipe secretvalue.Recipe = "characters:32"

// Cooked is a new version in which the recipe of the rules is named.
func (v Version) Cooked(rules lifecycle.Rules) Version {
	by := secretvalue.Recipe(rules.Recipe)
	if by == "" {
		by = goodRecipe
	}
	if v.Recipe == ByRule {
		v.Recipe = by
	}
	fields := make([]Field, len(v.Fields))
	for i, f := range v.Fields {
		if fields[i] = f; f.Recipe == ByRule {
			fields[i].Recipe = by
		}
	}
	v.Fields = fields
	return v
}

// Filled is the content of a new version, checked and completed.
type Filled struct {
	Content       secretvalue.Value // the bytes to encrypt
	Size          int               // in bytes; of all fields, where there are any
	EndsInNewline bool
	Fields        string         // as rows hold them
	PublicKey     string         // the public half of a key, as a JWK
	Facts         *certrow.Facts // of a certificate or a profile; nil for another item
	Window        lifecycle.Window
	Notes         []string
}

// Fill checks the given content against a shape, makes up what has a recipe, and adds what follows from the rest. The window of what was
// filled is that of a certificate where it ends earlier than what is asked for.
func (n Version) Fill(shape secretvalue.Shape, previous secretvalue.Fields, now time.Time) (f Filled, err error) {
	if f, err = n.fill(shape, previous); err == nil {
		f.Window.NotBefore, f.Window.NotAfter, err = f.Facts.Window(n.Window.NotBefore, n.Window.NotAfter, now)
	}
	if err == nil && f.Facts.Waits() && !n.Staged {
		err = chest.Invalid("staged", "a key whose certificate was requested waits for it: say staged")
	}
	return f, err
}

func (n Version) fill(shape secretvalue.Shape, previous secretvalue.Fields) (f Filled, err error) {
	switch {
	case n.Key != nil:
		return n.fillKey()
	case n.Brought.Len() > 0:
		return f, chest.Invalid("brought", "this item is no key: give a value")
	case shape == secretvalue.Profile:
		if f, err = n.fillText(); err == nil {
			f.Notes = n.publicNotes()
			f.Facts, err = certrow.Profile(f.Content.Reveal())
		}
		return f, err
	case shape.Plain():
		return n.fillText()
	}
	if n.Content.Len() > 0 || n.Recipe != "" {
		return f, chest.Invalid("value", "this item has fields (%s): give these and no value", shape)
	}
	given := secretvalue.Fields{}
	for _, field := range n.Fields {
		if err := chest.CheckName("fields", field.Name); err != nil {
			return f, err
		}
		value := field.Value
		if field.Recipe != "" {
			if value.Len() > 0 {
				return f, chest.Invalid("fields", "field %s has a value and a recipe; give one of them", field.Name)
			}
			if value, err = field.Recipe.Make(); err != nil {
				return f, chest.Invalid("fields", "field %s: %s", field.Name, err)
			}
		}
		given = append(given, secretvalue.Field{Name: field.Name, Value: value, Plain: field.Plain})
	}
	if _, changed := given.Find("private"); changed && shape == secretvalue.SSHKey {
		previous = nil // the others of a key pair belong to the old one
	}
	fields, notes, err := secretvalue.Shaped(shape, previous.Merge(given))
	if err != nil {
		return f, chest.Invalid("fields", "%s", err)
	}
	if shape == secretvalue.Certificate || shape == secretvalue.Authority {
		if fields, f.Facts, notes, err = certrow.Complete(shape, fields, n.Made); err != nil {
			return f, err
		}
	}
	f.Notes = append(notes, n.publicNotes()...)
	for _, field := range fields {
		typed := slices.ContainsFunc(n.Fields, func(g Field) bool { return g.Name == field.Name && g.Recipe == "" })
		if field.Plain || !typed || shape == secretvalue.File || f.Facts != nil {
			continue
		}
		for _, hint := range secretvalue.Hints(field.Value, n.About...) {
			f.Notes = append(f.Notes, "field "+field.Name+": "+hint)
		}
	}
	var infos []string
	for _, field := range fields {
		f.Size += field.Value.Len()
		info := field.Name + ":" + strconv.Itoa(field.Value.Len())
		if field.Plain {
			info += ":plain"
		}
		infos = append(infos, info)
	}
	f.Content, f.Fields = secretvalue.New(fields.Encode()), strings.Join(infos, " ")
	return f, checkSize(f.Size)
}

func (n Version) fillText() (f Filled, err error) {
	if len(n.Fields) > 0 {
		return f, chest.Invalid("fields", "this item has no fields: give a value")
	}
	f.Content = n.Content
	if n.Recipe != "" {
		if n.Content.Len() > 0 {
			return f, chest.Invalid("value", "give a value or a recipe, not both")
		}
		if f.Content, err = n.Recipe.Make(); err != nil {
			return f, chest.Invalid("generate", "%s", err)
		}
	}
	f.Size, f.EndsInNewline = f.Content.Len(), f.Content.EndsInNewline()
	if n.Recipe == "" {
		f.Notes = secretvalue.Hints(f.Content, n.About...)
	}
	f.Notes = append(f.Notes, n.publicNotes()...)
	return f, checkSize(f.Size)
}

func checkSize(size int) error {
	switch {
	case size == 0:
		return chest.Invalid("value", "the value is empty; a value has 1 to %d bytes", secretvalue.MaxSize)
	case size > secretvalue.MaxSize:
		return &chest.Error{Code: chest.TooLarge, Field: "value",
			Detail: fmt.Sprintf("the value has %d bytes; the most is %d", size, secretvalue.MaxSize)}
	}
	return nil
}

// Infos reads what a version's row says about its fields.
func Infos(text string) (infos []Info) {
	for _, part := range strings.Fields(text) {
		name, rest, _ := strings.Cut(part, ":")
		size, kind, _ := strings.Cut(rest, ":")
		n, _ := strconv.Atoi(size)
		infos = append(infos, Info{Name: name, Size: n, Plain: kind == "plain"})
	}
	return infos
}

// publicNotes point out that something that everybody can see looks like a value.
func (n Version) publicNotes() (notes []string) {
	if secretvalue.LooksLikeValue(n.Note) {
		notes = append(notes, "the note has something in it that looks like a value, and everybody who lists the item sees it")
	}
	return notes
}

// fillKey makes a new version of a key, or takes one that was made elsewhere.
func (n Version) fillKey() (f Filled, err error) {
	if n.Content.Len() > 0 || n.Recipe != "" || len(n.Fields) > 0 {
		return f, chest.Invalid("value", "this item is a key: a version is made in the chest, or brought along (brought), and has no value")
	}
	if n.ready != nil && n.ready.facts == *n.Key {
		f.Content, f.Size, f.PublicKey = secretvalue.New(n.ready.stored), len(n.ready.stored), n.ready.public
		return f, nil
	}
	stored, public, err := n.Key.Make(n.Brought.Reveal())
	f.Content, f.Size, f.PublicKey = secretvalue.New(stored), len(stored), public
	return f, err
}
