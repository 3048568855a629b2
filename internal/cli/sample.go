package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tansu/internal/core/reference"
	"tansu/internal/core/sample"
)

func (a *app) sampleCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "sample REFERENCE [LANGUAGE]",
		Short: "Print a program that reads a value, to copy: shell, curl, go, python, javascript, java or csharp",
		Example: `  tansu sample ticketing-prod/db-password
  tansu sample ticketing-prod/db-password python > read.py`,
		Args: upTo(2, "REFERENCE"),
		RunE: func(_ *cobra.Command, arguments []string) error {
			ref, err := reference.Parse(arguments[0])
			if err != nil {
				return usageError{err}
			}
			list, err := sample.For(ref)
			if err != nil {
				return err
			}
			if len(arguments) == 1 {
				return a.show(list, func() {
					for _, s := range list {
						fmt.Fprintf(a.Out, "── %s (tansu sample %s %s > %s)\n\n%s\n", s.Title, ref, s.Language, s.File, s.Text)
					}
				})
			}
			var known []string
			for _, s := range list {
				if s.Language == arguments[1] {
					fmt.Fprint(a.Out, s.Text)
					return nil
				}
				known = append(known, s.Language)
			}
			return usagef("there is no sample for %.40q; there are samples for %s", arguments[1], strings.Join(known, ", "))
		},
	}
}
