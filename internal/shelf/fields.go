package shelf

import (
	"strings"
	"time"

	"tansu/internal/chest"

	"tansu/internal/core/access"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
)

// shapeOf is the shape of an item.
func shapeOf(row entity.Item) secretvalue.Shape {
	if row.Shape == "" {
		return secretvalue.Text
	}
	return secretvalue.Shape(row.Shape)
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
	if shape.Plain() {
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
