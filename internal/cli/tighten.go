package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
)

func (a *app) tightenCommand() *cobra.Command {
	var since string
	var do string
	var yes bool
	command := &cobra.Command{
		Use:   "tighten",
		Short: "Show unused access, and what could be narrowed",
		Long: `Reads from the trail what was used, and lists what could be tighter: grants never used, actions and scopes wider than
what was used, people and apps that are not there any more, items that nobody may read, drawers that one person alone
can give access to, owners who have left. Nothing is changed unless you ask for one of the proposals with --do.`,
		Example: "  tansu tighten --since 90d\n  tansu tighten --do fi_4k7mqz2p",
		Args:    exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			from, err := sinceMoment(since)
			if err != nil {
				return err
			}
			findings, err := c.Tighten(ctx, from)
			if err != nil {
				return err
			}
			if do != "" {
				return a.doFinding(ctx, c, findings, do, yes)
			}
			return a.show(findings, func() { a.printFindings(findings) })
		}),
	}
	command.Flags().StringVar(&since, "since", "",
		"what counts as used: since this `time` (2026-12-01, or RFC 3339), or in the last 90d (default 30d)")
	command.Flags().StringVar(&do, "do", "", "do what the finding with this `id` proposes")
	command.Flags().BoolVar(&yes, "yes", false, "do not ask before doing it")
	return command
}

func (a *app) printFindings(findings []client.Finding) {
	if len(findings) == 0 {
		a.say("Nothing to tighten: all access that was given is used.")
		return
	}
	kind := ""
	for i, f := range findings {
		if f.Kind != kind {
			kind = f.Kind
			fmt.Fprintf(a.Out, "%s%s\n", map[bool]string{true: "\n"}[i > 0], strings.ToUpper(strings.ReplaceAll(kind, "_", " ")))
		}
		who := ""
		if f.Subject != "" && !strings.Contains(f.Detail, f.Subject) {
			who = f.Subject + ": "
		}
		fmt.Fprintf(a.Out, "%s  %s\n             → %s\n", f.ID, printable(who+f.Detail), printable(f.Command))
	}
	a.say("To do one that needs no judgement: tansu tighten --do ID.")
}

// doFinding does what is proposed, after asking.
func (a *app) doFinding(ctx context.Context, c *client.Client, findings []client.Finding, id string, yes bool) error {
	at := slices.IndexFunc(findings, func(f client.Finding) bool { return f.ID == id })
	if at < 0 {
		return usagef("there is no finding %s any more: look at the list again (tansu tighten)", id)
	}
	f := findings[at]
	if !f.End && !f.Suspend && f.Instead == nil {
		return fmt.Errorf("finding %s needs a person's judgement; something like: %s", id, f.Command)
	}
	if !yes {
		ok, err := a.confirm(fmt.Sprintf("%s: %s\n%s", f.Subject, f.Detail, f.Command))
		if err != nil || !ok {
			return err
		}
	}
	switch {
	case f.Instead != nil:
		return a.give(ctx, c, *f.Instead)
	case f.End:
		g, err := c.EndGrant(ctx, f.Grant)
		if err != nil {
			return err
		}
		return a.show(g, func() { fmt.Fprintf(a.Out, "Grant %s of %s is ended.\n", g.ID, g.Subject) })
	}
	i, err := c.SetState(ctx, f.Subject, "suspended")
	if err != nil {
		return err
	}
	return a.show(i, func() { fmt.Fprintf(a.Out, "%s is %s.\n", i.Subject, i.State) })
}

func (a *app) handOverCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "hand-over FROM [TO]",
		Short: "Give everything that somebody owns to somebody else, in one step",
		Long: `Makes TO the owner of all apps, teams, drawers and items that FROM owns, and of master keys that you may withdraw. Access is
not handed over: what TO needs is granted like everything else, and the grants that FROM holds are listed for it. Without TO it only
lists.`,
		Example: "  tansu hand-over person:rota-trainee\n  tansu hand-over person:rota-trainee person:harbour-master",
		Args: func(cmd *cobra.Command, arguments []string) error {
			if len(arguments) == 1 {
				return nil
			}
			return exactly("FROM", "TO")(cmd, arguments)
		},
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			if len(arguments) == 1 {
				owned, err := c.Owned(ctx, arguments[0])
				if err != nil {
					return err
				}
				return a.show(owned, func() { a.printOwned(arguments[0], owned) })
			}
			owned, err := c.HandOver(ctx, arguments[0], arguments[1])
			if err != nil {
				return err
			}
			return a.show(owned, func() {
				fmt.Fprintf(a.Out, "%s now owns %s, %s, and of apps and teams %d.\n", arguments[1], plural(len(owned.Drawers), "drawer"),
					plural(len(owned.Items), "item"), len(owned.Apps))
				if len(owned.MasterKeys) > 0 {
					fmt.Fprintf(a.Out, "Master keys, too: %s\n", strings.Join(owned.MasterKeys, ", "))
				}
				if len(owned.Grants) > 0 {
					fmt.Fprintf(a.Out, "\nGrants that %s still holds:\n", arguments[0])
					a.printGrants(owned.Grants)
				}
			})
		}),
	}
}

func (a *app) printOwned(subject string, owned client.Owned) {
	none := func(list []string) string {
		if len(list) == 0 {
			return "none"
		}
		return strings.Join(list, ", ")
	}
	fields(a.Out, "owner", subject, "apps and teams", none(owned.Apps), "drawers", none(owned.Drawers), "items", none(owned.Items),
		"master keys", none(owned.MasterKeys))
	fmt.Fprintln(a.Out)
	a.printGrants(owned.Grants)
}

func (a *app) askMatrixCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "matrix",
		Short: "Show what every person and app may do in every drawer",
		Long: `One letter an action: l list, m metadata, r read value, k use key, w write version, c change item, t retire, s shred,
u change rules, g grant, a read trail. "?" after it: only under conditions or with
approval. "~": not on everything in the drawer.`,
		Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			m, err := c.Matrix(ctx)
			if err != nil {
				return err
			}
			return a.show(m, func() {
				t := table{head: append([]string{"SUBJECT"}, m.Drawers...)}
				for _, row := range m.Rows {
					cells := []string{row.Subject}
					if row.State != "active" {
						cells[0] += " (" + row.State + ")"
					}
					for _, cell := range row.Cells {
						cells = append(cells, cellText(cell))
					}
					t.add(cells...)
				}
				a.printTable(t, "Nobody is registered.")
				a.say("l list  m metadata  r read value  e encrypt  d decrypt  i sign  v verify  p get certificates")
				a.say("w write  c change item  t retire  s shred  u rules  g grant  a trail")
				a.say("? only under conditions or with approval   ~ not on everything in the drawer")
			})
		}),
	}
}

var actionLetters = map[string]string{"list": "l", "see_metadata": "m", "read_value": "r", "encrypt": "e", "decrypt": "d", "sign": "i",
	"verify": "v", "issue": "p", "write_version": "w",
	"change_item": "c", "retire": "t",
	"shred": "s", "change_rules": "u", "grant": "g", "read_trail": "a"}

func cellText(cell client.MatrixCell) string {
	has := func(list []string, action string) bool {
		for _, other := range list {
			if other == action {
				return true
			}
		}
		return false
	}
	var b strings.Builder
	for _, action := range cell.Actions {
		b.WriteString(actionLetters[action])
		if has(cell.Conditions, action) {
			b.WriteByte('?')
		}
		if has(cell.Partial, action) {
			b.WriteByte('~')
		}
	}
	if b.Len() == 0 {
		return "·"
	}
	return b.String()
}

// seenText says when and from where somebody was last there.
func seenText(s client.Seen) string {
	if s.At.IsZero() {
		return "never"
	}
	return relative(s.At, time.Now()) + " from " + s.Addr
}
