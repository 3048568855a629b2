package cli

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/importfile"
	"tansu/internal/core/manifest"
	"tansu/internal/wholefile"
)

func (a *app) adoptCommand() *cobra.Command {
	var to, appName string
	var plain []string
	n := client.NewImport{Encoding: "base64"}
	command := &cobra.Command{
		Use:   "adopt FILE ENVIRONMENT=DRAWER",
		Short: "Move an application's dotenv file into a drawer, and write the manifest that takes its place",
		Long: `Imports the file's entries into the drawer, as tansu import does, and writes a manifest that hands each of them over under the
name that it has in the file. The manifest holds no secret and belongs in the repository; the file belongs nowhere any more.
What --plain names is no secret, such as a level or a port, and becomes a constant in the manifest instead.
Run again for another environment, it adds that environment's drawer to the manifest: what only one of the files has is
needed in that environment only.`,
		Example: `  tansu adopt .env staging=ticketing-staging --app ticket-api
  tansu adopt .env.production production=ticketing-prod`,
		Args: exactly("FILE", "ENVIRONMENT=DRAWER"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			path := arguments[0]
			environment, drawer, given := strings.Cut(arguments[1], "=")
			if !given {
				return usagef("say which environment the drawer is for: %s staging=ticketing-staging", path)
			}
			m, err := manifestToAdd(to, appName)
			if err != nil {
				return err
			}
			content, err := os.ReadFile(path)
			if err != nil {
				return fmt.Errorf("read the file: %w", err)
			}
			defer clear(content)
			entries, problems := importfile.Read(importfile.Format(n.Format), content)
			wrong := make([]string, len(problems))
			for i, p := range problems {
				wrong[i] = p.Error()
			}
			list, unsure, unknown := adopted(&m, entries, plain)
			for _, name := range unknown {
				wrong = append(wrong, "it has no "+name+", which --plain names")
			}
			if len(wrong) > 0 {
				return usagef("%s: %s", path, strings.Join(wrong, "\n  "))
			}
			notes, err := m.Adopt(environment, drawer, list)
			if err != nil {
				return usagef("%s: %v", to, err)
			}
			written, err := manifest.Write(m)
			if err == nil {
				_, err = manifest.Read(written)
			}
			if err != nil {
				return usagef("the manifest would not be right: %v", err)
			}
			for _, e := range list {
				if e.Plain {
					n.Except = append(n.Except, e.Variable)
				}
			}
			n.Content = base64.StdEncoding.EncodeToString(content)
			report, err := c.Import(ctx, drawer, n)
			if err != nil {
				return err
			}
			if err := a.show(report, func() { a.printImport(drawer, path, n.Preview, report) }); err != nil {
				return err
			}
			for _, note := range notes {
				a.say("note: %s.", note)
			}
			if len(unsure) > 0 {
				a.say("note: %s: this does not look like a secret. What is not secret belongs in the manifest, and is then neither masked nor looked "+
					"for: tansu adopt %s %s --plain %s", strings.Join(unsure, ", "), path, arguments[1], strings.Join(unsure, ","))
			}
			if n.Preview {
				a.say("%s would be:\n%s", to, written)
				return unfinished(report)
			}
			if !report.Done && !allThere(report) {
				a.say("%s was not written. --replace adds versions to what exists already; --each puts in what is new, and leaves the drawer's "+
					"values of the others as they are.", to)
				return foundSomething{}
			}
			if err := wholefile.Replace(to, modeOf(to), wholefile.Content(written)); err != nil {
				return fmt.Errorf("write the manifest: %w", err)
			}
			a.say("%s lists what is needed, without values: commit it. Then: tansu preflight --in %s, and tansu run --in %s -- PROGRAM", to,
				environment, environment)
			if needs, err := m.For(environment); err == nil && len(needs) > 0 {
				// who may put values in may not always be served them: then there is nothing to warn of here, and preflight does
				checks, _ := checkAll(ctx, c, client.Preflight{}, needs[:1])
				a.warnEnvironment(environment, checks)
			}
			if len(report.Items) > 0 && unfinished(report) != nil {
				a.say("The values of the file that say \"exists\" were not put in, and the drawer's may be others: --replace adds them as new " +
					"versions.")
			}
			return unfinished(report)
		}),
	}
	command.Flags().StringVar(&to, "manifest", manifest.FileName, "the `file` that is written, or added to")
	command.Flags().StringVar(&appName, "app", "", "the `app` that runs it")
	command.Flags().StringVar(&n.Format, "format", string(importfile.Dotenv), "the file's `format`, as for tansu import")
	command.Flags().StringSliceVar(&plain, "plain", nil, "these `names` of the file are not secret: keep them in the manifest")
	command.Flags().BoolVar(&n.Preview, "preview", false, "only show what would happen, and the manifest")
	command.Flags().BoolVar(&n.Each, "each", false, "put in what is new, even if other items exist already; those stay as they are")
	command.Flags().BoolVar(&n.Replace, "replace", false, "add a version to items that exist already")
	return command
}

// adopted sorts a file's entries for the manifest. It also lists entries that do not look like secrets and are not named as plain, and
// plain names that the file does not have. A constant of another environment is a constant here.
func adopted(m *manifest.Manifest, entries []importfile.Entry, plain []string) (list []manifest.Entry, unsure, unknown []string) {
	for _, name := range plain {
		if !slices.ContainsFunc(entries, func(e importfile.Entry) bool { return e.Name == name }) {
			unknown = append(unknown, name)
		}
	}
	for _, e := range entries {
		one := manifest.Entry{Variable: e.Name, Reference: importfile.ItemName(e.Name)}
		if slices.Contains(plain, e.Name) || m.Constant(e.Name) {
			one.Plain, one.Value = true, string(e.Value.Reveal())
		} else if e.LooksPlain() {
			unsure = append(unsure, e.Name)
		}
		list = append(list, one)
	}
	return list, unsure, unknown
}

// warnEnvironment points out what an environment of the manifest has from a drawer for another one.
func (a *app) warnEnvironment(environment string, checks []client.Check) {
	said := map[string]bool{}
	for _, ch := range checks {
		drawer, _, _ := strings.Cut(ch.Reference, "/")
		if ch.Environment != "" && ch.Environment != environment && slices.Contains(chest.Environments, environment) && !said[drawer] {
			said[drawer] = true
			a.say("note: %s of the manifest takes values from %s, which is a drawer for %s.", environment, drawer, ch.Environment)
		}
	}
}

// allThere reports whether everything was in the drawer already, with whatever values: then only the manifest is missing.
func allThere(report client.ImportReport) bool {
	for _, it := range report.Items {
		if it.Result != "same" && it.Result != "exists" {
			return false
		}
	}
	return len(report.Problems) == 0 && len(report.Items) > 0
}

// manifestToAdd reads the manifest that is there, or begins one.
func manifestToAdd(file, appName string) (m manifest.Manifest, err error) {
	content, err := os.ReadFile(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		m.Version = 1
	case err != nil:
		return m, fmt.Errorf("read the manifest: %w", err)
	default:
		if m, err = manifest.Read(content); err != nil {
			return m, usagef("%s: %v", file, err)
		}
	}
	if appName != "" {
		m.App = strings.TrimPrefix(appName, "app:")
	}
	if m.Drawers == nil {
		m.Drawers = map[string]string{}
	}
	return m, nil
}
