package cli

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/importfile"
	"tansu/internal/core/manifest"
)

func (a *app) adoptCommand() *cobra.Command {
	var to, appName string
	n := client.NewImport{Encoding: "base64"}
	command := &cobra.Command{
		Use:   "adopt FILE ENVIRONMENT=DRAWER",
		Short: "Move an application's dotenv file into a drawer, and write the manifest that takes its place",
		Long: `Imports the file's entries into the drawer, as tansu import does, and writes a manifest that hands each of them over under the
name that it has in the file. The manifest holds no value and belongs in the repository; the file belongs nowhere any more.
Done again with another environment, it adds that environment's drawer to the manifest.`,
		Example: `  tansu adopt .env staging=ticketing-staging --app ticket-api
  tansu adopt .env.production production=ticketing-prod`,
		Args: exactly("FILE", "ENVIRONMENT=DRAWER"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			path := arguments[0]
			environment, drawer, given := strings.Cut(arguments[1], "=")
			if !given {
				return usagef("say which environment's drawer it is: %s staging=ticketing-staging", path)
			}
			m, err := manifestToAdd(to, appName)
			if err != nil {
				return err
			}
			if before := m.Drawers[environment]; before != "" && before != drawer {
				return usagef("%s has the drawer %s for %s already", to, before, environment)
			}
			content, err := os.ReadFile(path)
			if err != nil {
				return fmt.Errorf("read the file: %w", err)
			}
			defer clear(content)
			entries, problems := importfile.Read(importfile.Format(n.Format), content)
			if len(problems) > 0 {
				return usagef("%s: %v", path, problems[0])
			}
			m.Drawers[environment] = drawer
			known := map[string]bool{}
			for _, need := range m.Needs {
				known[need.Variable] = true
			}
			for _, e := range entries {
				if !known[e.Name] {
					known[e.Name] = true
					m.Needs = append(m.Needs, manifest.Need{Variable: e.Name, Reference: importfile.ItemName(e.Name)})
				}
			}
			written, err := manifest.Write(m)
			if err == nil {
				_, err = manifest.Read(written)
			}
			if err != nil {
				return usagef("the manifest would not be right: %v", err)
			}
			n.Content = base64.StdEncoding.EncodeToString(content)
			report, err := c.Import(ctx, drawer, n)
			if err != nil {
				return err
			}
			if err := a.show(report, func() { a.printImport(drawer, path, false, report) }); err != nil {
				return err
			}
			if !report.Done && !allThere(report) {
				return foundSomething{}
			}
			if err := os.WriteFile(to, written, 0o644); err != nil {
				return fmt.Errorf("write the manifest: %w", err)
			}
			a.say("%s lists what is needed, without values: commit it. Then: tansu preflight --in %s, and tansu run --in %s -- PROGRAM", to,
				environment, environment)
			return nil
		}),
	}
	command.Flags().StringVar(&to, "manifest", manifest.FileName, "the `file` that is written, or added to")
	command.Flags().StringVar(&appName, "app", "", "the `app` that runs it")
	command.Flags().StringVar(&n.Format, "format", string(importfile.Dotenv), "the file's `format`, as for tansu import")
	command.Flags().BoolVar(&n.Replace, "replace", false, "add a version to items that exist already")
	return command
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
