package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/reference"
	"tansu/internal/core/render"
	"tansu/internal/placefile"
	"tansu/internal/server"
)

func (a *app) renderCommand() *cobra.Command {
	var o needsOptions
	var place placefile.Place
	var mode string
	var asTemplate bool
	command := a.withReason(&cobra.Command{
		Use:   "render FILE --to FILE",
		Short: "Fill a configuration file with values, for programs that take them from nowhere else",
		Long: `Reads a text with references in the place of values, such as tansu:ticketing-prod/db-password, and writes it with the values
filled in. With --in, tansu:./db-password is in the drawer that the manifest has for that environment. With --template, the
text is a template of Go's text/template, with the functions value, base64, json, shell, url and indent.

The file that is written is private from before its first byte, and appears whole or not at all. It is refused where others
would get it: readable by everybody, in a directory that everybody may write to, inside a repository. The values do stay on
the disk, though: prefer tansu run where a program allows it.`,
		Example: `  tansu render gate.conf.in --to /run/gate/gate.conf
  tansu render --in production --mode 0440 --owner :gate gate.conf.in --to /run/gate/gate.conf
  tansu render --template --in staging ledger.yaml.in --to /run/ledger/ledger.yaml`,
		Args: exactly("FILE"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			bits, err := strconv.ParseUint(mode, 8, 32)
			if err != nil {
				return usagef("--mode is %q, which is not an octal number such as 0400", mode)
			}
			place.Mode = fs.FileMode(bits)
			if place.Path == "" {
				return usagef("--to is missing: where the filled file goes")
			}
			if err := place.Check(); err != nil {
				return usagef("%v", err)
			}
			text, err := o.text(arguments[0], asTemplate)
			if err != nil {
				return err
			}
			if err := server.HideMemory(); err != nil {
				return err
			}
			filled, err := fill(ctx, c, text)
			if err != nil {
				return err
			}
			defer clear(filled)
			if err := place.Put(filled); err != nil {
				return err
			}
			a.say("%s is written with %s in it.", place.Path, plural(len(text.Needs()), "value"))
			return nil
		}),
	})
	o.add(command)
	command.Flags().StringVar(&place.Path, "to", "", "the `file` to write")
	command.Flags().StringVar(&mode, "mode", "0400", "who may read it, in `octal`: its owner, and perhaps its group")
	command.Flags().StringVar(&place.Owner, "owner", "", "whose it shall be: `user`, user:group or :group")
	command.Flags().BoolVar(&place.InRepository, "in-repository", false, "let it be written inside a repository")
	command.Flags().BoolVar(&asTemplate, "template", false, "the text is a Go template")
	return command
}

// text reads what is to be filled. A manifest is read only when an environment is named.
func (o *needsOptions) text(path string, asTemplate bool) (*render.Text, error) {
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, usagef("%s: %v", path, errors.Unwrap(err))
	}
	drawer := ""
	if o.environment != "" {
		m, err := o.read()
		if err != nil {
			return nil, err
		}
		environment, err := m.Environment(o.environment)
		if err != nil {
			return nil, usagef("%s: %s", o.file, err)
		}
		drawer = m.Drawers[environment]
	}
	read := render.Placeholders
	if asTemplate {
		read = render.Template
	}
	text, err := read(content, drawer)
	if err != nil {
		hint := ""
		if strings.Contains(err.Error(), "no environment") {
			hint = " (--in)"
		}
		return nil, usagef("%s: %v%s", path, err, hint)
	}
	return text, nil
}

// fill reads what a text needs, all of it or nothing.
func fill(ctx context.Context, c *client.Client, text *render.Text) ([]byte, error) {
	needs := text.Needs()
	references := make([]string, len(needs))
	for i, ref := range needs {
		references[i] = ref.String()
	}
	values, err := fetchAll(ctx, c, references)
	if err != nil {
		return nil, err
	}
	byReference := map[reference.Reference][]byte{}
	for i, ref := range needs {
		byReference[ref] = values[i].content
	}
	return text.Fill(func(ref reference.Reference) []byte { return byReference[ref] })
}

func plural(n int, what string) string { return reference.Counted(n, what) }
