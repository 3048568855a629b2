package cli

import (
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/importfile"
)

func (a *app) importCommand() *cobra.Command {
	n := client.NewImport{Encoding: "base64"}
	var until string
	command := &cobra.Command{
		Use:   "import DRAWER FILE",
		Short: "Move the secrets of a plaintext file into a drawer",
		Long: `Reads a dotenv file, a flat JSON object, a flat YAML mapping, a CSV table with the columns name and value, or a Java
properties file, and makes an item of each entry: DB_PASSWORD
becomes db-password. Nothing is put in unless everything can be, or --each asks for what can be. Items that exist already are a
conflict unless --replace adds a version to them. Run again after an interruption, it skips what is already there.
The exit code is 5 when something of the file is not in the drawer afterwards, or would not be.
The file itself is left as it is: remove it afterwards.`,
		Example: "  tansu import ticketing-staging .env --preview\n  tansu import ticketing-staging .env",
		Args:    exactly("DRAWER", "FILE"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			drawer, path := arguments[0], arguments[1]
			var err error
			if n.NotAfter, err = moment("--not-after", until); err != nil {
				return err
			}
			if n.Format == "" {
				n.Format = string(importfile.FormatOf(path))
			}
			if n.Format == "" {
				return usagef("the name of %s does not say what it is; say --format dotenv, json, yaml, csv or properties", path)
			}
			content, err := os.ReadFile(path)
			if err != nil {
				return fmt.Errorf("read the file: %w", err)
			}
			defer clear(content)
			n.Content = base64.StdEncoding.EncodeToString(content)
			done := a.waiting("the chest takes " + path + " in, all of it or nothing")
			report, err := c.Import(ctx, drawer, n)
			done()
			if err != nil {
				return err
			}
			if err := a.show(report, func() { a.printImport(drawer, path, n.Preview, report) }); err != nil {
				return err
			}
			return unfinished(report)
		}),
	}
	command.Flags().StringVar(&n.Format, "format", "", "the file's `format`: dotenv, json, yaml, csv or properties; by its name when left out")
	command.Flags().StringVar(&until, "not-after", "",
		"serve the values only until this `time` (2026-12-01, or RFC 3339) or for this long (90d)")
	command.Flags().StringVar(&n.Note, "note", "", "why, on one line; each version has it")
	command.Flags().StringVar(&n.Owner, "owner", "", "who answers for items that are not there yet, such as `person:NAME`")
	command.Flags().BoolVar(&n.Preview, "preview", false, "only show what would happen")
	command.Flags().BoolVar(&n.Replace, "replace", false, "add a version to items that exist already")
	command.Flags().BoolVar(&n.Each, "each", false, "put in what can be, even if not everything can")
	return command
}

// unfinished is the error of an import by which something of the file is not, or would not be, in the drawer.
func unfinished(report client.ImportReport) error {
	if len(report.Problems) > 0 || slices.ContainsFunc(report.Items, func(it client.Imported) bool {
		return it.Result == "exists" || it.Result == "invalid" || it.Result == "refused"
	}) {
		return foundSomething{}
	}
	return nil
}

func (a *app) printImport(drawer, path string, preview bool, report client.ImportReport) {
	t := table{head: []string{"LINE", "NAME", "ITEM", "RESULT", ""}}
	count := map[string]int{}
	for _, it := range report.Items {
		count[it.Result]++
		t.add(strconv.Itoa(it.Line), it.Name, drawer+"/"+it.Item, it.Result, it.Detail)
	}
	for _, p := range report.Problems {
		t.add(strconv.Itoa(p.Line), "", "", "invalid", p.Text)
	}
	a.printTable(t, "The file has no entries.")
	var parts []string
	for _, result := range []string{"new", "changed", "same", "exists", "invalid", "refused"} {
		if count[result] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[result], result))
		}
	}
	if len(report.Problems) > 0 {
		parts = append(parts, fmt.Sprintf("%d not readable", len(report.Problems)))
	}
	summary := strings.Join(parts, ", ")
	switch {
	case report.Done:
		fmt.Fprintf(a.Out, "\n%s. Nothing was shown.\n", summary)
		if unfinished(report) != nil {
			a.say("Not all of %s was put in: the lines above that say exists, invalid or refused are still in the file alone.", path)
			return
		}
		a.say(`Left to do:
  - remove %s, and its copies: editors and backups keep some
  - if it was ever in a repository, its history keeps every value: replace those, do not only delete the file
  - replace what was seen by others, in chat or in a log`, path)
	case preview:
		fmt.Fprintf(a.Out, "\n%s. Nothing was put in: this was a preview.\n", summary)
	default:
		fmt.Fprintf(a.Out, "\n%s. Nothing was put in.\n", summary)
	}
}
