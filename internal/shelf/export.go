package shelf

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strings"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/importfile"
	"tansu/internal/core/recipient"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// NewExport says what is given out of a drawer, how it is written, and to whom it is encrypted.
type NewExport struct {
	Format    importfile.Format // importfile.Dotenv or importfile.JSON
	Recipient []byte            // a public key (package recipient); empty only with Clear
	Clear     bool              // in clear, to somebody who said so
}

// Exported is what became of one item.
type Exported struct {
	Reference string
	Version   int    // 0 when it is not in the file
	Why       string // it is not
}

// Export is a file, and what is in it.
type Export struct {
	Content secretvalue.Value // encrypted, or the file in clear
	Items   []Exported
}

// mostExported bounds one file, in bytes of values.
const mostExported = 64 << 20

// ExportDrawer writes the current values of a drawer that the caller may read into one file, encrypted to a recipient
// unless it is asked for in clear. Each value in it is in the trail as read, before the file is given out.
func (s *Shelf) ExportDrawer(c chest.Caller, drawer string, n NewExport) (e Export, err error) {
	if err := chest.CheckName("drawer", drawer); err != nil {
		return e, err
	}
	if n.Format != importfile.Dotenv && n.Format != importfile.JSON {
		return e, chest.Invalid("format", "format is dotenv or json")
	}
	a, err := s.heart.Allow(c, access.List, drawer)
	if err != nil {
		return e, err
	}
	to, err := n.recipient()
	if err != nil {
		return e, a.Fail(err)
	}
	a.Entry.Action, a.Entry.Detail = "export", "encrypted"
	if n.Clear {
		a.Entry.Detail = "in clear"
	}
	d := a.St.Drawer(drawer)
	if d == nil {
		return e, a.Fail(chest.Missing("drawer "+drawer, a.St.NearestDrawer(c, drawer, a.Entry.At)))
	}
	a.RestOnAccess()
	var file exportFile
	size := 0
	err = a.St.Each(d, store.ItemFilter{}, func(it *chest.Item) bool {
		if it.Life.RetiredAt.IsZero() && a.St.MayList(c, d, it, a.Entry.At) {
			size += exportOne(a, &file, &e, reference.Reference{Drawer: drawer, Item: it.Row.Name})
		}
		return size <= mostExported && c.Ctx().Err() == nil
	})
	if err == nil && size > mostExported {
		err = &chest.Error{Code: chest.TooLarge, Detail: fmt.Sprintf("the values of %s take more than %d MiB, which is the most that one "+
			"file takes", drawer, mostExported>>20)}
	}
	if err = cmp.Or(err, c.Ctx().Err()); err != nil {
		return Export{}, a.Fail(err)
	}
	if len(a.More) == 0 {
		return e, a.Fail(&chest.Error{Code: chest.NotPossible, Detail: "there is nothing in " + drawer +
			" whose value you may read and that is served now"})
	}
	a.Entry.Detail += ", " + reference.Counted(len(a.More), "value")
	content, err := file.write(n.Format)
	if err == nil && to != nil {
		written := content
		content, err = to.Seal(written)
		clear(written) // no line break after it: a JWE has none (RFC 7516, section 7.1), and there are programs that stop at one
	}
	if err != nil {
		return Export{}, a.Fail(err)
	}
	e.Content = secretvalue.New(content)
	return chest.Reply(a, e)
}

// exportOne adds one item to a file, and returns how many bytes its value has.
func exportOne(a *chest.Attempt, file *exportFile, e *Export, ref reference.Reference) (size int) {
	one := Exported{Reference: ref.String()}
	defer func() { e.Items = append(e.Items, one) }()
	spot := a.St.At(ref.Drawer, ref.Item)
	decision := a.St.Policy.Decide(a.St.QuestionAt(spot, a.Caller.ID, access.ReadValue, a.Caller.Context(a.Entry.At)))
	if !decision.Allowed {
		one.Why = "you may not read it"
		return 0
	}
	served, err := decrypt(a, ref, toShow)
	if err != nil {
		one.Why = chest.StoreError(err, one.Reference).Error()
		return 0
	}
	defer served.Content.Wipe()
	if problem := file.add(ref.Item, served); problem != "" {
		one.Why = problem
		return 0
	}
	one.Version = served.Reference.Version
	entry := a.Entry
	entry.Action, entry.Target, entry.Version, entry.Grant, entry.Outcome = access.ReadValue.String(), one.Reference, one.Version,
		decision.Grant, trail.Allowed
	entry.Detail, entry.ItemID, entry.DrawerID = "by export, "+a.Entry.Detail, spot.Item.Row.ID, spot.Home.Row.ID
	a.More = append(a.More, entry)
	return served.Content.Len()
}

// exportFile is the values on their way into a file, in the order of names.
type exportFile struct{ names, values []string }

// add takes a value in; what a text file cannot hold is left out and said.
func (f *exportFile) add(name string, served Served) (problem string) {
	content := string(served.Content.Reveal())
	if strings.ContainsRune(content, 0) || strings.ToValidUTF8(content, "") != content {
		return "it is not text; read it by itself (tansu read --out)"
	}
	f.names, f.values = append(f.names, name), append(f.values, content)
	return ""
}

// write writes what importfile reads back.
func (f *exportFile) write(format importfile.Format) ([]byte, error) {
	if format == importfile.JSON {
		values := make(map[string]string, len(f.names))
		for i, name := range f.names {
			values[name] = f.values[i]
		}
		return json.MarshalIndent(values, "", "  ")
	}
	var text strings.Builder
	for i, name := range f.names {
		text.WriteString(importfile.DotenvLine(name, f.values[i]))
	}
	return []byte(text.String()), nil
}

// recipient is to whom it is encrypted; nil for a file in clear.
func (n NewExport) recipient() (*recipient.Public, error) {
	if n.Clear {
		if len(n.Recipient) > 0 {
			return nil, chest.Invalid("clear", "a file is encrypted to a recipient or in clear, not both")
		}
		return nil, nil
	}
	key, err := recipient.ReadPublic(n.Recipient)
	if err != nil {
		return nil, chest.Invalid("recipient", "recipient %s", err)
	}
	return &key, nil
}
