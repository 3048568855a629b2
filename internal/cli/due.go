package cli

import (
	"context"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
)

func (a *app) dueCommand() *cobra.Command {
	var within, owner, drawer string
	command := &cobra.Command{
		Use:   "due",
		Short: "List what has ended, what ends soon, and what is not served",
		Long: `Lists the items of which nothing is served now, and those whose served version ends soon without another one to follow,
as far as you may list them. The exit code is 0 when there is none and 5 when there is one, for pipelines.`,
		Example: "  tansu due\n  tansu due --within 30d --owner person:ticketing-lead",
		Args:    exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			span, err := duration(within)
			if err != nil {
				return usagef("--within is %q; allowed: a duration such as 12h or 30d", within)
			}
			all, err := c.Due(ctx, span)
			if err != nil {
				return err
			}
			list := []client.Due{}
			t := table{head: []string{"ITEM", "STATE", "ENDS", "NEXT VERSION", "OWNER"}}
			for _, d := range all {
				if owner != "" && d.Owner != owner || drawer != "" && !strings.HasPrefix(d.Reference, drawer+"/") {
					continue
				}
				list = append(list, d)
				ends, next := "-", "-"
				if !d.NotAfter.IsZero() {
					ends = relative(d.NotAfter, time.Now())
				}
				if !d.Next.IsZero() {
					next = relative(d.Next, time.Now())
				}
				t.add(d.Reference, d.State, ends, next, d.Owner)
			}
			if err := a.show(list, func() { a.printTable(t, "Nothing is due.") }); err != nil || len(list) == 0 {
				return err
			}
			return foundSomething{}
		}),
	}
	command.Flags().StringVar(&within, "within", "14d", "how soon: a `duration` such as 12h or 30d")
	command.Flags().StringVar(&drawer, "drawer", "", "only what is in this `drawer`")
	command.Flags().StringVar(&owner, "owner", "", "only what this `subject` answers for")
	return command
}

// foundSomething is what scripts see as the exit code of a conflict: there is something to do. It has been printed.
type foundSomething struct{}

func (foundSomething) Error() string { return "there is something to do" }
