package shelf

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
)

// NewField is a field of a new version: its value, or a recipe that makes one up.
type NewField struct {
	Name   string
	Value  secretvalue.Value
	Recipe secretvalue.Recipe
	Plain  bool // of free fields: not sensitive
}

// FieldInfo is what is known of a field without its value.
type FieldInfo struct {
	Name  string
	Size  int
	Plain bool
}

// shapeOf is the shape of an item.
func shapeOf(row entity.Item) secretvalue.Shape {
	if row.Shape == "" {
		return secretvalue.Text
	}
	return secretvalue.Shape(row.Shape)
}

// filled is the content of a new version, checked and completed.
type filled struct {
	content       secretvalue.Value // the bytes to encrypt
	size          int
	endsInNewline bool
	infos         string // of fields, as rows hold them
	public        string // the public half of a key, as a JWK
	notes         []string
}

// fill checks the given fields against a shape, generates those with a recipe, and adds those that follow from others.
func (n NewVersion) fill(shape secretvalue.Shape, previous secretvalue.Fields) (f filled, err error) {
	switch {
	case n.key != nil:
		return n.fillKey()
	case n.Brought.Len() > 0:
		return f, chest.Invalid("brought", "this item is no key: give a value")
	case shape == secretvalue.Text:
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
	f.notes = append(notes, n.publicNotes()...)
	for _, field := range fields {
		typed := slices.ContainsFunc(n.Fields, func(g NewField) bool { return g.Name == field.Name && g.Recipe == "" })
		if field.Plain || !typed || shape == secretvalue.File {
			continue
		}
		for _, hint := range secretvalue.Hints(field.Value, n.about...) {
			f.notes = append(f.notes, "field "+field.Name+": "+hint)
		}
	}
	var infos []string
	for _, field := range fields {
		f.size += field.Value.Len()
		info := field.Name + ":" + strconv.Itoa(field.Value.Len())
		if field.Plain {
			info += ":plain"
		}
		infos = append(infos, info)
	}
	f.content, f.infos = secretvalue.New(fields.Encode()), strings.Join(infos, " ")
	return f, checkSize(f.size)
}

func (n NewVersion) fillText() (f filled, err error) {
	if len(n.Fields) > 0 {
		return f, chest.Invalid("fields", "this item has no fields: give a value")
	}
	f.content = n.Content
	if n.Recipe != "" {
		if n.Content.Len() > 0 {
			return f, chest.Invalid("value", "give a value or a recipe, not both")
		}
		if f.content, err = n.Recipe.Make(); err != nil {
			return f, chest.Invalid("generate", "%s", err)
		}
	}
	f.size, f.endsInNewline = f.content.Len(), f.content.EndsInNewline()
	if n.Recipe == "" {
		f.notes = secretvalue.Hints(f.content, n.about...)
	}
	f.notes = append(f.notes, n.publicNotes()...)
	return f, checkSize(f.size)
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

// fieldInfos reads what a version's row says about its fields.
func fieldInfos(text string) (infos []FieldInfo) {
	for _, part := range strings.Fields(text) {
		name, rest, _ := strings.Cut(part, ":")
		size, kind, _ := strings.Cut(rest, ":")
		n, _ := strconv.Atoi(size)
		infos = append(infos, FieldInfo{Name: name, Size: n, Plain: kind == "plain"})
	}
	return infos
}

// currentFields opens the fields of the current version, for a new one that keeps some of them.
func currentFields(st *chest.Snapshot, d *chest.Drawer, it *chest.Item, now time.Time) (secretvalue.Fields, error) {
	number, err := it.Life.Current(now)
	if err != nil {
		return nil, &chest.Error{Code: chest.NotPossible, Detail: "there is no current version to keep fields of: give them all (" +
			err.Error() + ")"}
	}
	content, err := st.Content(d, it, number)
	if err != nil {
		return nil, err
	}
	return secretvalue.Decode(content)
}

// choose takes out of an item's content what the reference asks for: all of it, with its fields, or one field.
func choose(row entity.Item, ref reference.Reference, content []byte) (secretvalue.Value, secretvalue.Fields, error) {
	shape := shapeOf(row)
	if shape == secretvalue.Text || shape == secretvalue.Key {
		if ref.Field != "" {
			return secretvalue.Value{}, nil, chest.Missing("field "+ref.Field+" of "+ref.Drawer+"/"+ref.Item+", which has no fields", "")
		}
		if shape == secretvalue.Key {
			given, err := cryptokey.Given(cryptokey.Type(row.KeyType), content)
			return secretvalue.New(given), nil, err
		}
		return secretvalue.New(content), nil, nil
	}
	fields, err := secretvalue.Decode(content)
	if err != nil {
		return secretvalue.Value{}, nil, err
	}
	if ref.Field == "" {
		return fields.Whole(shape), fields, nil
	}
	field, found := fields.Find(ref.Field)
	if !found {
		var names []string
		for _, f := range fields {
			names = append(names, f.Name)
		}
		return secretvalue.Value{}, nil, chest.Missing("field "+ref.Field+" of "+ref.Drawer+"/"+ref.Item+"; its fields are "+strings.Join(names,
			", "), "")
	}
	return field.Value, nil, nil
}

// Equals answers whether an item's value, or one field of it, equals a given one, without showing it, and in constant time for values
// of one length. It takes the right to read the value, or to write it.
func (s *Shelf) Equals(c chest.Caller, ref reference.Reference, given secretvalue.Value) (equal bool, err error) {
	a, item, err := s.toCompare(c, ref)
	if err != nil {
		return false, err
	}
	limits, err := a.Guess(item)
	if err != nil {
		return false, err
	}
	served, err := decrypt(a, ref, toCompare)
	if err != nil {
		return false, a.Fail(err)
	}
	defer served.Content.Wipe()
	a.Entry.Version = served.Reference.Version
	if equal = served.Content.Equal(given); equal {
		a.Refund(limits)
	}
	a.Entry.Detail = map[bool]string{true: "equal", false: "not equal"}[equal]
	return chest.Reply(a, equal)
}

// toCompare decides whether a caller may compare an item's value, and finds the item.
func (s *Shelf) toCompare(c chest.Caller, ref reference.Reference) (a *chest.Attempt, item string, err error) {
	a = s.heart.Attempt(c, compareValue, ref.Drawer+"/"+ref.Item)
	a.Entry.Version = ref.Version
	if err := a.Err(); err != nil {
		return nil, "", err
	}
	ctx := c.Context(a.Entry.At)
	spot := a.St.For(c.ID, access.ReadValue|access.WriteVersion, ref.Drawer, ref.Item)
	a.RestOnSpot(spot)
	if spot.Item != nil {
		item = spot.Item.Row.ID
	}
	decision := a.St.Policy.Decide(a.St.QuestionAt(spot, c.ID, access.ReadValue, ctx))
	if writer := a.St.Policy.Decide(a.St.QuestionAt(spot, c.ID, access.WriteVersion, ctx)); !decision.Allowed && writer.Allowed {
		decision = writer
	}
	return a, item, a.Answered(decision, "compare the value of "+a.Entry.Target, "", a.Remedy(access.WriteVersion))
}

// knows reports whether the attempt's caller may read an item's value, so that nothing about it has to be kept from them.
func knows(a *chest.Attempt, ref reference.Reference) bool {
	spot := a.St.At(ref.Drawer, ref.Item)
	if spot.Item == nil {
		return false
	}
	reason, _ := spot.Item.Row.KeptFrom(a.St.Identity(a.Caller.ID).Kind)
	return reason == "" && a.St.Policy.Decide(a.St.QuestionAt(spot, a.Caller.ID, access.ReadValue, a.Caller.Context(a.Entry.At))).Allowed
}
