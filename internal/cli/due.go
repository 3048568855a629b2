package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
)

func (a *app) dueCommand() *cobra.Command {
	var within, owner, drawer string
	command := &cobra.Command{
		Use:   "due",
		Short: "List what has ended, what ends soon, and what is not served: values, grants, credentials",
		Long: `Lists the items of which nothing is served now, and those whose served version ends soon without another one to follow,
as far as you may list them; and the grants, denials, credentials, approvals and unlock methods that end soon or ended in the
last two weeks, if they are yours, belong to an app that you answer for, or could be renewed by you. The exit code is 0 when there is none
and 5 when there is one, for pipelines.`,
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
			ends, err := a.accessEnds(ctx, c, span, owner, drawer)
			if err != nil {
				return err
			}
			both := []any{}
			for _, d := range list {
				both = append(both, dueItem{"item", d})
			}
			for _, end := range ends {
				both = append(both, end)
			}
			err = a.show(both, func() {
				if len(list) > 0 || len(ends) == 0 {
					a.printTable(t, "Nothing is due.")
				}
				if len(list) > 0 && len(ends) > 0 {
					fmt.Fprintln(a.Out)
				}
				if len(ends) > 0 {
					a.printAccessEnds(ends)
				}
			})
			if err != nil || len(both) == 0 {
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

// dueItem is an item among other things that are due.
type dueItem struct {
	Kind string `json:"kind"`
	client.Due
}

// accessEnds are those of access that end, narrowed as items are: to an owner, and to a drawer that they are about.
func (a *app) accessEnds(ctx context.Context, c *client.Client, span time.Duration, owner, drawer string) ([]client.AccessEnd, error) {
	list := []client.AccessEnd{}
	all, err := c.AccessEnds(ctx, span)
	for _, end := range all {
		about := drawer == "" || strings.HasSuffix(end.About, " on "+drawer) || strings.Contains(end.About, " on "+drawer+"/") ||
			strings.HasPrefix(end.About, drawer+"/")
		if about && (owner == "" || end.Owner == owner || end.Subject == owner) {
			list = append(list, end)
		}
	}
	return list, err
}

func (a *app) printAccessEnds(ends []client.AccessEnd) {
	t := table{head: []string{"ACCESS", "WHOSE", "WHAT", "ENDS", "OWNER", ""}}
	renewable := 0
	for _, end := range ends {
		mark := ""
		switch {
		case end.Last:
			mark = "nobody can give access from then on"
		case end.Kind == "denial":
			mark = "access opens again then"
		}
		if end.May && (end.Kind == "grant" || end.Kind == "denial") {
			renewable++
		}
		t.add(strings.ReplaceAll(end.Kind, "_", " ")+" "+end.ID, cmp.Or(end.Subject, "-"), end.About, relative(end.NotAfter, time.Now()),
			cmp.Or(end.Owner, "-"), mark)
	}
	a.printTable(t, "")
	if renewable > 0 {
		a.say("To let a grant last longer: tansu grant renew ID, or all at once: tansu grant renew --ending-within 14d")
	}
}

// foundSomething is what scripts see as the exit code of a conflict: there is something to do. It has been printed.
type foundSomething struct{}

func (foundSomething) Error() string { return "there is something to do" }
