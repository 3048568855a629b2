package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
)

func (a *app) askCommand() *cobra.Command {
	command := &cobra.Command{Use: "ask", Short: "Ask who may do what, before it is tried", RunE: noSubcommand}
	command.AddCommand(a.askMayCommand(), a.askWhoCommand(), a.askPathsCommand(), a.askWhatCommand(), a.askMatrixCommand())
	return command
}

func (a *app) askMayCommand() *cobra.Command {
	var q client.Question
	var at string
	command := &cobra.Command{
		Use:   "may SUBJECT ACTION [TARGET]",
		Short: "Whether a subject may do an action on a drawer or an item, and why",
		Long: `Answers without trying: the exit code is 0 for yes and 3 for no. The circumstances count: give the address it would
come from, the time, how it signs in and the reason it would state, as far as its grants ask for them. Without TARGET it is
about the chest as a whole, as registering and operating are.`,
		Example: `  tansu ask may app:ticket-api read_value ticketing-prod/db-password
  tansu ask may person:harbour-master register
  tansu ask may app:gate-controller read_value harbour-gates-prod/radio-key --from 10.2.3.4 --at 2026-12-24T22:00:00Z --via app_token`,
		Args: upTo(3, "SUBJECT", "ACTION"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) (err error) {
			q.Subject, q.Action = arguments[0], arguments[1]
			if len(arguments) > 2 && arguments[2] != "chest" {
				q.Target = arguments[2]
			}
			if q.At, err = moment("--at", at); err != nil {
				return err
			}
			v, err := c.Ask(ctx, q)
			if err != nil {
				return err
			}
			if err := a.show(v, func() { a.printVerdict(q, v) }); err != nil || v.Allowed && v.NotServed == "" {
				return err
			}
			return answeredNo{}
		}),
	}
	command.Flags().StringVar(&q.Addr, "from", "", "as if it came from this `address`")
	command.Flags().StringVar(&at, "at", "", "as if it were this `time` (2026-12-01, or RFC 3339), or this long from now (12h)")
	command.Flags().StringVar(&q.Via, "via", "", "as if it had signed in this `way`, such as app_key, app_secret or person_token")
	command.Flags().StringVar(&q.Reason, "reason", "", "as if it stated this reason")
	return command
}

// answeredNo is the answer no, which scripts see as the exit code of a refusal. It has been printed already.
type answeredNo struct{}

func (answeredNo) Error() string { return "the answer is no" }

func (a *app) printVerdict(q client.Question, v client.Verdict) {
	if v.Allowed {
		fmt.Fprintf(a.Out, "Yes: %s may %s on %s, by grant %s.\n", q.Subject, q.Action, cmp.Or(q.Target, "the chest"), v.Grant)
		switch {
		case v.NotServed != "":
			fmt.Fprintf(a.Out, "But nothing would be served: %s.\n", v.NotServed)
		case v.Version != 0:
			fmt.Fprintf(a.Out, "Version %d would be served.\n", v.Version)
		}
		return
	}
	fmt.Fprintf(a.Out, "No: %s may not %s on %s: %s.\n\n", q.Subject, q.Action, cmp.Or(q.Target, "the chest"), reasonText(v.Reason))
	a.printConsidered(v.Considered)
	if v.Remedy != nil {
		fmt.Fprintf(a.Out, "The smallest grant that allows it:\n  %s\n", v.Remedy.Command)
	}
}

// mostConsidered is how many of a subject's grants are shown: those that came nearest.
const mostConsidered = 5

func (a *app) printConsidered(considered []client.Considered) {
	if len(considered) == 0 {
		fmt.Fprintf(a.Out, "The subject has no grants.\n\n")
		return
	}
	t := table{head: []string{"NEAREST GRANT", "ROLE", "SCOPE", "WHAT DOES NOT FIT"}}
	for i, c := range considered {
		if i == mostConsidered {
			break
		}
		miss := c.Miss
		if miss == "" {
			miss = "nothing: it applies"
		}
		t.add(c.Grant.ID, roleText(c.Grant), c.Grant.Scope, miss)
	}
	t.print(a.Out)
	fmt.Fprintln(a.Out)
}

func (a *app) askWhoCommand() *cobra.Command {
	var action string
	command := &cobra.Command{
		Use:   "who TARGET",
		Short: "Who may read a drawer or an item, or do another action on it",
		Example: `  tansu ask who fuel-billing-prod/ledger-db-password
  tansu ask who ticketing-prod --action grant`,
		Args: exactly("TARGET"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			holders, err := c.Holders(ctx, action, arguments[0])
			if err != nil {
				return err
			}
			return a.show(holders, func() {
				t := table{head: []string{"SUBJECT", "STATE", "BY", "CONDITIONS", "END"}}
				for _, h := range holders {
					for _, g := range h.Grants {
						t.add(h.Subject, h.State, roleText(g)+" on "+g.Scope, conditionText(g.Conditions), grantEnd(g))
					}
					for _, g := range h.Unless {
						t.add(h.Subject, h.State, "unless "+roleText(g)+" on "+g.Scope, conditionText(g.Conditions), grantEnd(g))
					}
				}
				a.printTable(t, "Nobody may.")
			})
		}),
	}
	command.Flags().StringVar(&action, "action", "read_value", "which `action`")
	return command
}

func (a *app) askPathsCommand() *cobra.Command {
	var action string
	command := &cobra.Command{
		Use:   "paths TARGET",
		Short: "Who could gain access to a drawer or an item, in how many steps, and with whose help",
		Long: `Searches what everybody who manages access, or owns an app, could do, step by step, by the rules that their acts are decided by.
Those who may read it now are not listed as paths; those who could gain access alone are, and those who could give it to others.`,
		Example: `  tansu ask paths fuel-billing-prod/ledger-db-password`,
		Args:    exactly("TARGET"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			p, err := c.Paths(ctx, action, arguments[0])
			if err != nil {
				return err
			}
			return a.show(p, func() {
				fmt.Fprintf(a.Out, "Now: %s\n", orNobody(strings.Join(p.Now, ", ")))
				a.printWays("Who could gain access alone", p.Alone)
				a.printWays("Who could let somebody else gain access", p.Letting)
				if p.Cut {
					a.say("note: there were too many ways to look at all of them, so some may be missing")
				}
			})
		}),
	}
	command.Flags().StringVar(&action, "action", "read_value", "which `action`")
	return command
}

func orNobody(text string) string {
	if text == "" {
		return "nobody"
	}
	return text
}

func (a *app) printWays(head string, ways []client.Way) {
	fmt.Fprintf(a.Out, "\n%s: ", head)
	if len(ways) == 0 {
		fmt.Fprintln(a.Out, "nobody")
		return
	}
	fmt.Fprintln(a.Out)
	for _, w := range ways {
		fmt.Fprintf(a.Out, "  %s\n", strings.Join(append([]string{w.Who}, w.Alike...), ", "))
		for n, step := range w.Steps {
			fmt.Fprintf(a.Out, "    %d. %s %s\n", n+1, step.By, step.Does)
		}
	}
}

func (a *app) askWhatCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "what SUBJECT",
		Short:   "Everything that exists and that a subject may do something with",
		Example: `  tansu ask what app:nightly-ledger`,
		Args:    exactly("SUBJECT"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			reach, err := c.Reach(ctx, arguments[0])
			if err != nil {
				return err
			}
			return a.show(reach, func() {
				t := table{head: []string{"TARGET", "ACTIONS"}}
				for _, r := range reach {
					target := r.Target
					if target == "" {
						target = "(chest)"
					}
					t.add(target, strings.Join(briefly(r.Actions), " "))
				}
				a.printTable(t, arguments[0]+" may do nothing with anything that exists.")
			})
		}),
	}
}
