package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
)

func (a *app) requestCommand() *cobra.Command {
	command := &cobra.Command{
		Use:   "request",
		Short: "Request access, and answer requests",
		Long: `Whoever was refused asks for what they need, with a reason; a gatekeeper says yes or no; both see the state. Somebody
who may give access, but not to themselves, asks another gatekeeper in the same way.`,
		RunE: noSubcommand,
	}
	command.AddCommand(a.requestAskCommand(), a.requestReadCommand(), a.requestGrantCommand(), a.requestListCommand(), a.requestAllowCommand(),
		a.requestDeclineCommand(), a.requestWithdrawCommand())
	return command
}

func (a *app) requestAskCommand() *cobra.Command {
	n := client.NewRequest{}
	command := &cobra.Command{
		Use: "ask RECEIPT", Short: "Request what you, or an app that you own, was refused", Args: exactly("RECEIPT"),
		Example: `  tansu request ask 7ueu36qjse --reason "the nightly ledger reads the new fuel prices"`,
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			n.Receipt = arguments[0]
			return a.sendRequest(ctx, c, n)
		}),
	}
	command.Flags().StringVar(&n.Reason, "reason", "", "why you need it, on one line")
	_ = command.MarkFlagRequired("reason")
	return command
}

func (a *app) requestReadCommand() *cobra.Command {
	n := client.NewRequest{}
	command := &cobra.Command{
		Use: "read DRAWER/ITEM", Short: "Request a second person's approval to read a value", Args: exactly("DRAWER/ITEM"),
		Example: `  tansu request read fuel-billing-prod/ledger-db-password --reason "the night run stopped, incident 212"`,
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			n.Read = arguments[0]
			return a.sendRequest(ctx, c, n)
		}),
	}
	command.Flags().StringVar(&n.Reason, "reason", "", "why you need it, on one line")
	_ = command.MarkFlagRequired("reason")
	return command
}

func (a *app) sendRequest(ctx context.Context, c *client.Client, n client.NewRequest) error {
	r, err := c.AskFor(ctx, n)
	if err != nil {
		return err
	}
	return a.show(r, func() {
		fmt.Fprintf(a.Out, "Request %s is open: %s. See what comes of it with: tansu request list\n", r.ID, requestText(r))
	})
}

func (a *app) requestGrantCommand() *cobra.Command {
	n := client.NewRequest{Grant: &client.NewGrant{}}
	var until string
	command := &cobra.Command{
		Use: "grant SUBJECT ROLE SCOPE", Short: "Request a grant that you may not give yourself", Args: exactly("SUBJECT", "ROLE", "SCOPE"),
		Example: `  tansu request grant person:security-duty consumer 'ticketing-staging/**' --until 12h --reason "debugging a refund"`,
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) (err error) {
			n.Grant.Subject, n.Grant.Role, n.Grant.Scope = arguments[0], arguments[1], arguments[2]
			if n.Grant.NotAfter, err = moment("--until", until); err != nil {
				return err
			}
			return a.sendRequest(ctx, c, n)
		}),
	}
	command.Flags().StringVar(&n.Reason, "reason", "", "why, on one line")
	command.Flags().StringVar(&until, "until", "",
		"when it ends: a `time` (2026-12-01, or RFC 3339) or a duration (12h, 30d); 90 days if left out")
	_ = command.MarkFlagRequired("reason")
	return command
}

// requestText says what a request asks for.
func requestText(r client.Request) string {
	switch {
	case r.Kind == "read":
		return fmt.Sprintf("%s to read %s for a while", r.Subject, r.Target)
	case r.Grant != nil:
		return fmt.Sprintf("%s to be %s on %s", r.Subject, r.Grant.Role, r.Grant.Scope)
	}
	return fmt.Sprintf("%s to %s %s", r.Subject, r.Action, r.Target)
}

func (a *app) requestListCommand() *cobra.Command {
	var open bool
	command := &cobra.Command{
		Use: "list", Short: "List your requests, and those that you may answer", Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.Requests(ctx)
			if err != nil {
				return err
			}
			list := []client.Request{}
			for _, r := range all {
				if open && r.State != "open" {
					continue
				}
				list = append(list, r)
			}
			return a.show(list, func() { a.printRequests(list) })
		}),
	}
	command.Flags().BoolVar(&open, "open", false, "only open ones")
	return command
}

// printRequests prints two or three lines a request: a table of so many long texts would fit no terminal.
func (a *app) printRequests(list []client.Request) {
	if len(list) == 0 {
		a.say("No requests.")
		return
	}
	for _, r := range list {
		who := ""
		if r.Asker != r.Subject {
			who = r.Asker + " asks for "
		}
		fmt.Fprintf(a.Out, "%-9s  %s  %s, %s\n", r.State, r.ID, who+requestText(r), relative(r.CreatedAt, time.Now()))
		if r.Reason != "" {
			fmt.Fprintf(a.Out, "           because: %s\n", printable(r.Reason))
		}
		switch {
		case r.State == "declined":
			fmt.Fprintf(a.Out, "           %s declined: %s\n", r.AnsweredBy, printable(r.Answer))
		case r.State == "allowed" && !r.Until.IsZero():
			fmt.Fprintf(a.Out, "           %s agreed, until %s\n", r.AnsweredBy, stamp(r.Until))
		case r.State == "allowed":
			fmt.Fprintf(a.Out, "           %s gave grant %s\n", r.AnsweredBy, r.GrantID)
		}
	}
	a.say("To answer one: tansu request allow REQUEST, or tansu request decline REQUEST --because WHY.")
}

func (a *app) requestAllowCommand() *cobra.Command {
	var until string
	command := &cobra.Command{
		Use: "allow REQUEST", Short: "Allow a request: give the grant, or approve the read for an hour", Args: exactly("REQUEST"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			end, err := moment("--until", until)
			if err != nil {
				return err
			}
			r, err := c.AnswerRequest(ctx, arguments[0], client.Answer{Allow: true, Until: end})
			if err != nil {
				return err
			}
			return a.show(r, func() {
				if r.Kind == "read" {
					fmt.Fprintf(a.Out, "In force now: %s may read %s until %s.\n", r.Subject, r.Target, stamp(r.Until))
					return
				}
				fmt.Fprintf(a.Out, "In force now: %s, by grant %s.\n", requestText(r), r.GrantID)
			})
		}),
	}
	command.Flags().StringVar(&until, "until", "", "when it ends: a `time` (2026-12-01, or RFC 3339) or a duration (2h, 30d)")
	return command
}

func (a *app) requestDeclineCommand() *cobra.Command {
	var because string
	command := &cobra.Command{
		Use: "decline REQUEST|RECEIPT", Short: "Decline a request, or a refusal that nobody has requested access for", Args: exactly("REQUEST"),
		Example: `  tansu request decline rq_4mxo2v7gz5nhc3ab --because "the ledger has its own copy"
  tansu request decline 7ueu36qjse --because "gates do not sell tickets"`,
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) (err error) {
			var r client.Request
			if id := arguments[0]; len(id) > 3 && id[:3] == "rq_" {
				r, err = c.AnswerRequest(ctx, id, client.Answer{Because: because})
			} else {
				r, err = c.DeclineRefusal(ctx, id, because)
			}
			if err != nil {
				return err
			}
			return a.show(r, func() {
				fmt.Fprintf(a.Out, "Declined: %s. %s is told why when they look, and when they are refused again.\n", requestText(r), r.Subject)
			})
		}),
	}
	command.Flags().StringVar(&because, "because", "", "why not, on one line")
	_ = command.MarkFlagRequired("because")
	return command
}

func (a *app) requestWithdrawCommand() *cobra.Command {
	return &cobra.Command{
		Use: "withdraw REQUEST", Short: "Withdraw a request of your own", Args: exactly("REQUEST"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			r, err := c.Withdraw(ctx, arguments[0])
			if err != nil {
				return err
			}
			return a.show(r, func() { fmt.Fprintf(a.Out, "Request %s is withdrawn.\n", r.ID) })
		}),
	}
}
