package cli

import (
	"context"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
)

func (a *app) searchCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "search TERM...",
		Short: "Find items by words, owner, label, shape, state and more",
		Long: `All terms must hold. A word is looked for in names and descriptions; KEY:VALUE looks at one thing, with "*" for
anything. "-" in front excludes what a term selects (then put "--" before the first term). Keys: drawer, name, owner, label, shape,
state, environment, by (who made it), read (never or ever). Only what you may list is found.`,
		Example: "  tansu search ticket owner:person:ticketing-lead\n  tansu search 'label:team=ticketing' state:due\n  tansu search -- " +
			"-read:ever environment:production",
		Args: func(cmd *cobra.Command, arguments []string) error {
			if len(arguments) == 0 {
				return usagef("there is nothing to look for; usage: %s", cmd.UseLine())
			}
			return nil
		},
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			var terms []string
			for _, term := range arguments {
				if strings.Contains(term, " ") && !strings.Contains(term, `"`) {
					term = `"` + term + `"`
				}
				terms = append(terms, term)
			}
			list := []client.Item{}
			for cursor := ""; ; {
				page, err := c.Search(ctx, strings.Join(terms, " "), cursor)
				if err != nil {
					return err
				}
				list = append(list, page.Items...)
				if cursor = page.NextCursor; cursor == "" {
					break
				}
			}
			return a.show(list, func() {
				t := table{head: []string{"ITEM", "STATE", "ENDS", "OWNER", "CHANGED", "DESCRIPTION"}}
				for _, it := range list {
					ends := "-"
					if !it.EndsAt.IsZero() {
						ends = relative(it.EndsAt, time.Now())
					}
					t.add(it.Reference, it.State, ends, it.Owner, relative(it.ChangedAt, time.Now()), it.Description)
				}
				a.printTable(t, "Nothing that you may list matches.")
			})
		}),
	}
}

func (a *app) findCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "find WORD...",
		Short: "Find drawers, items, people, apps, teams and roles by name",
		Long: `Each word must be in the name or the description. The twenty whose names are nearest come first. To select items by what
is known of them, see tansu search.`,
		Example: "  tansu find ticket\n  tansu find db password",
		Args: func(cmd *cobra.Command, arguments []string) error {
			if len(arguments) == 0 {
				return usagef("there is nothing to look for; usage: %s", cmd.UseLine())
			}
			return nil
		},
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			list, err := c.Find(ctx, strings.Join(arguments, " "))
			if err != nil {
				return err
			}
			return a.show(list, func() {
				t := table{head: []string{"KIND", "NAME", "DESCRIPTION"}}
				for _, f := range list {
					t.add(f.Kind, f.Name, f.Description)
				}
				a.printTable(t, "Nothing that you may know of has such a name.")
			})
		}),
	}
}
