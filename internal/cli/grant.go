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

func (a *app) grantCommand() *cobra.Command {
	command := &cobra.Command{Use: "grant", Short: "Give, list and end access", RunE: noSubcommand}
	command.AddCommand(a.giveCommand(), a.grantForCommand(), a.grantRenewCommand(), a.grantListCommand(), a.grantEndCommand())
	return command
}

func (a *app) giveCommand() *cobra.Command {
	var n client.NewGrant
	var until string
	var deny, preview bool
	command := &cobra.Command{
		Use:   "give SUBJECT ROLE SCOPE",
		Short: "Give a role on a scope, for 90 days unless you say otherwise",
		Long: `Gives a person or an app the actions of a role on everything a scope selects. It is in force at once. Without --until it ends after
90 days; a denial, and what lets somebody give access to everything, have no end unless you name one. What ends soon is in tansu due.

A scope is a pattern over references: "*" stands for anything inside a name, "**" for everything below. Labels in
brackets narrow it to what has them, on the item or on its drawer.`,
		Example: `  tansu grant give app:ticket-api consumer 'ticketing-prod/**'
  tansu grant give app:gate-controller consumer 'harbour-gates-prod/radio-*' --until 30d --reason "winter timetable"
  tansu grant give app:telemetry-collector consumer 'fleet-telemetry-prod/**' --from 10.1.0.0/16 --via app_token
  tansu grant give person:ticketing-lead consumer 'ticketing-prod/**' --hours "mon-fri 08:00-18:00 Europe/Lisbon" --needs-reason
  tansu grant give team:ticketing viewer '**[team=ticketing]' --preview
  tansu grant give person:rota-trainee viewer 'crew-rota-prod/*' --until 2027-01-31T00:00:00Z`,
		Args: exactly("SUBJECT", "ROLE", "SCOPE"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) (err error) {
			n.Subject, n.Role, n.Scope = arguments[0], arguments[1], arguments[2]
			if deny {
				n.Effect = "deny"
			}
			if n.NotAfter, err = moment("--until", until); err != nil {
				return err
			}
			if preview {
				d, err := c.Preview(ctx, client.Proposal{Give: &n})
				if err != nil {
					return err
				}
				return a.show(d, func() { a.printDifference(d) })
			}
			return a.give(ctx, c, n)
		}),
	}
	command.Flags().BoolVar(&preview, "preview", false, "only show what it would change, on what exists now")
	command.Flags().StringVar(&n.Replaces, "instead-of", "", "end this `grant` of the same subject in the same instant")
	command.Flags().StringVar(&until, "until", "", "when it ends: a `time` (2026-12-01, or RFC 3339) or a duration (12h, 30d)")
	command.Flags().BoolVar(&n.NeverEnds, "never-ends", false, "let it have no end, on purpose")
	command.Flags().StringVar(&n.Reason, "reason", "", "why, on one line")
	command.Flags().StringSliceVar(&n.Networks, "from", nil, "only from this `network` (CIDR) or address; can be repeated")
	command.Flags().StringVar(&n.Hours, "hours", "", "only in these `hours`: days, span and time zone")
	command.Flags().StringSliceVar(&n.Via, "via", nil,
		"only for who signed in this `way`: app_token (any app), app_secret, app_key, app_certificate, app_issuer, app_acme, person_token or "+
			"console_session; can be repeated")
	command.Flags().BoolVar(&n.NeedsReason, "needs-reason", false, "only with a stated reason")
	command.Flags().BoolVar(&deny, "deny", false, "deny these actions instead; a denial wins over every grant")
	return command
}

func (a *app) give(ctx context.Context, c *client.Client, n client.NewGrant) error {
	given, err := c.Give(ctx, n)
	if err != nil {
		return err
	}
	for _, note := range given.Notes {
		a.say("note: %s", note)
	}
	return a.show(given, func() {
		fmt.Fprintf(a.Out, "Grant %s is in force now: %s %s on %s, %s.\n", given.Grant.ID, given.Grant.Subject, roleText(given.Grant),
			given.Grant.Scope, grantEnd(given.Grant))
	})
}

func (a *app) grantForCommand() *cobra.Command {
	var until, reason string
	var preview bool
	command := &cobra.Command{
		Use:   "for RECEIPT",
		Short: "Give the smallest grant that allows what a receipt says was refused",
		Args:  exactly("RECEIPT"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			end, err := moment("--until", until)
			if err != nil {
				return err
			}
			r, err := c.Receipt(ctx, arguments[0])
			if err != nil {
				return err
			}
			switch {
			case r.AllowedNow:
				return fmt.Errorf("nothing to give: it would be allowed now, by grant %s", r.GrantNow)
			case r.NeedsApproval:
				return fmt.Errorf("no grant is missing: somebody has to ask, and another person to agree: tansu request ask %s --reason WHY",
					arguments[0])
			case r.Remedy == nil:
				return fmt.Errorf("no one grant is proposed for it, because a condition or a denial keeps it out on purpose: see tansu receipt %s",
					arguments[0])
			}
			n := client.NewGrant{Subject: r.Remedy.Subject, Role: r.Remedy.Role, Scope: r.Remedy.Scope, NotAfter: end,
				Reason: cmp.Or(reason, "receipt "+arguments[0])}
			if preview {
				d, err := c.Preview(ctx, client.Proposal{Give: &n})
				if err != nil {
					return err
				}
				return a.show(d, func() {
					fmt.Fprintf(a.Out, "It would be: %s %s on %s.\n", n.Subject, n.Role, n.Scope)
					a.printDifference(d)
				})
			}
			return a.give(ctx, c, n)
		}),
	}
	command.Flags().StringVar(&until, "until", "",
		"when it ends: a `time` (2026-12-01, or RFC 3339) or a duration (12h, 30d); 90 days if left out")
	command.Flags().StringVar(&reason, "reason", "", "`why`, on one line; that it answers the receipt when left out")
	command.Flags().BoolVar(&preview, "preview", false, "only show what it would change")
	return command
}

func (a *app) grantRenewCommand() *cobra.Command {
	var until, within, subject string
	var r client.Renewal
	command := &cobra.Command{
		Use:   "renew GRANT …",
		Short: "Renew grants: single ones, or all that end soon",
		Long: `Replaces each grant with the same one and a later end, 90 days from now unless you say otherwise; also one that has run out.
With --ending-within, it renews all that end within that time, as far as you may give them.`,
		Example: `  tansu grant renew gr_7b2f0c9d4e1a8350 --until 30d
  tansu grant renew --ending-within 30d --subject app:ticket-api`,
		Args: upTo(-1),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, ids []string) (err error) {
			if r.NotAfter, err = moment("--until", until); err != nil {
				return err
			}
			if (len(ids) == 0) == (within == "") {
				return usagef("name the grants, or give --ending-within 30d for all that end within it")
			}
			if within != "" {
				if ids, err = a.endingGrants(ctx, c, within, subject); err != nil {
					return err
				}
			} else if subject != "" {
				return usagef("--subject goes with --ending-within")
			}
			return a.renew(ctx, c, ids, r)
		}),
	}
	command.Flags().StringVar(&until, "until", "",
		"when they end: a `time` (2026-12-01, or RFC 3339) or a duration (12h, 30d); 90 days if left out")
	command.Flags().BoolVar(&r.NeverEnds, "never-ends", false, "let them have no end, on purpose")
	command.Flags().StringVar(&within, "ending-within", "", "all that end within this `duration`, such as 30d")
	command.Flags().StringVar(&subject, "subject", "", "of those, only this `subject`'s")
	return command
}

// endingGrants are those that end soon and that the caller may give.
func (a *app) endingGrants(ctx context.Context, c *client.Client, within, subject string) (ids []string, err error) {
	span, err := duration(within)
	if err != nil {
		return nil, usagef("--ending-within is %q; allowed: a duration such as 12h or 30d", within)
	}
	ends, err := c.AccessEnds(ctx, span)
	if err != nil {
		return nil, err
	}
	for _, end := range ends {
		if (end.Kind == "grant" || end.Kind == "denial") && end.May && (subject == "" || end.Subject == subject) {
			ids = append(ids, end.ID)
		}
	}
	return ids, nil
}

// renew renews one after the other. What could not be is said, and is not 0.
func (a *app) renew(ctx context.Context, c *client.Client, ids []string, r client.Renewal) error {
	list, failed := []client.Grant{}, 0
	for _, id := range ids {
		given, err := c.RenewGrant(ctx, id, r)
		if err != nil {
			a.say("✗ %s: %v", id, err)
			failed++
			continue
		}
		for _, note := range given.Notes {
			a.say("note: %s: %s", given.Grant.ID, note)
		}
		list = append(list, given.Grant)
	}
	err := a.show(list, func() {
		if len(ids) == 0 {
			fmt.Fprintln(a.Out, "No grant that you may renew ends that soon.")
			return
		}
		a.printGrants(list)
	})
	if err == nil && failed > 0 {
		err = fmt.Errorf("%d of %d could not be renewed", failed, len(ids))
	}
	return err
}

func roleText(g client.Grant) string {
	if g.Effect == "deny" {
		return "denied " + g.Role
	}
	return g.Role
}

// conditionText says conditions in a few words; "-" for none.
func conditionText(c client.Conditions) string {
	var parts []string
	if len(c.Networks) > 0 {
		parts = append(parts, "from "+strings.Join(c.Networks, ", "))
	}
	if c.Hours != "" {
		parts = append(parts, c.Hours)
	}
	if len(c.Via) > 0 {
		parts = append(parts, "via "+strings.Join(c.Via, " or "))
	}
	if c.NeedsReason {
		parts = append(parts, "with a reason")
	}
	if len(parts) == 0 {
		return "-"
	}
	return strings.Join(parts, "; ")
}

func grantEnd(g client.Grant) string {
	switch {
	case !g.EndedAt.IsZero():
		return "ended by " + g.EndedBy
	case g.NotAfter.IsZero():
		return "never ends"
	case g.InForce:
		return "ends " + relative(g.NotAfter, time.Now())
	}
	return "ended " + relative(g.NotAfter, time.Now())
}

func (a *app) grantListCommand() *cobra.Command {
	var subject string
	command := &cobra.Command{
		Use: "list", Short: "List the grants that you may see", Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			grants, err := c.Grants(ctx, subject)
			if err != nil {
				return err
			}
			return a.show(grants, func() { a.printGrants(grants) })
		}),
	}
	command.Flags().StringVar(&subject, "subject", "", "only those of this `subject`")
	return command
}

func (a *app) printGrants(grants []client.Grant) {
	t := table{head: []string{"GRANT", "SUBJECT", "ROLE", "SCOPE", "CONDITIONS", "END", "GIVEN BY", "REASON"}}
	for _, g := range grants {
		t.add(g.ID, g.Subject, roleText(g), g.Scope, conditionText(g.Conditions), grantEnd(g), g.CreatedBy, g.Reason)
	}
	a.printTable(t, "No grants.")
}

func (a *app) grantEndCommand() *cobra.Command {
	var preview bool
	command := &cobra.Command{
		Use: "end GRANT", Short: "End a grant at once", Args: exactly("GRANT"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			if preview {
				d, err := c.Preview(ctx, client.Proposal{End: arguments[0]})
				if err != nil {
					return err
				}
				return a.show(d, func() { a.printDifference(d) })
			}
			g, err := c.EndGrant(ctx, arguments[0])
			if err != nil {
				return err
			}
			return a.show(g, func() { fmt.Fprintf(a.Out, "Grant %s of %s is ended.\n", g.ID, g.Subject) })
		}),
	}
	command.Flags().BoolVar(&preview, "preview", false, "only show what it would change")
	return command
}
