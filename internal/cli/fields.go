package cli

import (
	"encoding/base64"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/secretvalue"
)

// fieldFlags are the options of tansu put that say what is in the secret.
type fieldFlags struct {
	shape      string
	fields     []string // names, asked for
	plain      []string // name=value, of what is not sensitive
	fieldFiles []string // name=path
	generate   []string // recipe, or name=recipe
}

func (f *fieldFlags) add(command *cobra.Command) {
	command.Flags().StringVar(&f.shape, "shape", "", "the `shape` of a new item: text, login, connection, ssh_key, fields or file")
	command.Flags().StringArrayVar(&f.fields, "field", nil, "ask for this `field` without showing it; can be repeated")
	command.Flags().StringArrayVar(&f.plain, "plain", nil, "a field that is not sensitive, as `name=value`; can be repeated")
	command.Flags().StringArrayVar(&f.fieldFiles, "field-file", nil, "a field from a file, as `name=path`; can be repeated")
	command.Flags().StringArrayVar(&f.generate, "generate", nil,
		"generate the value by this `recipe`, or a field as name=recipe; can be repeated")
}

// newContent gets what is to be stored: a value, or fields.
func (a *app) newContent(f putFlags) (v client.NewVersion, err error) {
	if len(f.fields)+len(f.plain)+len(f.fieldFiles) > 0 || slices.ContainsFunc(f.generate, isFieldRecipe) {
		return a.newFields(f)
	}
	switch {
	case len(f.generate) > 1:
		return v, usagef("--generate is given %d times: a value is generated once, and a field as name=recipe", len(f.generate))
	case len(f.generate) == 1 && f.file != "":
		return v, usagef("--generate and --file exclude each other: give one of them")
	case len(f.generate) == 1:
		v.Generate = f.generate[0]
		return v, nil
	case f.shape != "" && f.shape != "text" && f.shape != "file":
		return v, usagef("an item of the shape %s has fields: give them with --field, --plain, --field-file or --generate name=recipe", f.shape)
	}
	content, err := a.content(f.file)
	if err != nil {
		return v, err
	}
	defer content.Wipe()
	if f.shape == "file" {
		v.Fields = []client.NewField{field("content", content)}
		return v, nil
	}
	return client.Content(content.Reveal()), nil
}

func isFieldRecipe(text string) bool { return strings.Contains(text, "=") }

// newFields gets fields; with a new version those that are left out stay.
func (a *app) newFields(f putFlags) (v client.NewVersion, err error) {
	v.Merge = f.newVersion
	if f.file != "" {
		return v, usagef("--file is for a whole value; give a field with --field-file name=path")
	}
	for _, list := range []struct {
		flag  string
		pairs []string
		put   func(name, text string) error
	}{
		{"--plain", f.plain, func(name, text string) error {
			made := field(name, secretvalue.FromString(text))
			made.Plain = true
			v.Fields = append(v.Fields, made)
			return nil
		}},
		{"--field-file", f.fieldFiles, func(name, path string) error {
			content, err := os.ReadFile(path)
			if err != nil {
				return fmt.Errorf("read field %s: %w", name, err)
			}
			v.Fields = append(v.Fields, field(name, secretvalue.New(content)))
			return nil
		}},
		{"--generate", f.generate, func(name, recipe string) error {
			v.Fields = append(v.Fields, client.NewField{Name: name, Generate: recipe})
			return nil
		}},
	} {
		for _, pair := range list.pairs {
			name, rest, found := strings.Cut(pair, "=")
			if !found || name == "" || rest == "" {
				return v, usagef("%s is not of the form name=…", list.flag)
			}
			if err := list.put(name, rest); err != nil {
				return v, err
			}
		}
	}
	for _, name := range f.fields {
		value, err := a.askNew("field " + name)
		if err != nil {
			return v, err
		}
		v.Fields = append(v.Fields, field(name, value))
	}
	return v, nil
}

func field(name string, value secretvalue.Value) client.NewField {
	return client.NewField{Name: name, Value: base64.StdEncoding.EncodeToString(value.Reveal())}
}
