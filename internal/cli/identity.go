package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/reference"
)

func (a *app) personCommand() *cobra.Command {
	return a.identityCommand(reference.Person, "Register people, and list them",
		"Register a person and print the enrolment code to pass on", "Print a code for choosing a new password, for one who forgot it")
}

func (a *app) appCommand() *cobra.Command {
	return a.identityCommand(reference.App, "Register applications, and list them",
		"Register an application and print its secret, once", "Print one more secret, to rotate it without downtime")
}

func (a *app) teamCommand() *cobra.Command {
	command := &cobra.Command{Use: "team", Short: "Put people and apps into teams, which can be granted access", RunE: noSubcommand}
	n := client.NewIdentity{Kind: reference.Team}
	add := &cobra.Command{
		Use: "add NAME", Short: "Create an empty team", Args: exactly("NAME"),
		Example: `  tansu team add harbour-crew --description "Opens and closes the gates"
  tansu team join harbour-crew person:harbour-master
  tansu grant give team:harbour-crew viewer 'harbour-gates-prod/**'`,
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			n.Name = arguments[0]
			registered, err := c.Register(ctx, n)
			if err != nil {
				return err
			}
			return a.show(registered.Identity, func() {
				fmt.Fprintf(a.Out, "%s is created. It has no members yet.\n", registered.Identity.Subject)
			})
		}),
	}
	add.Flags().StringVar(&n.Description, "description", "", "what it is for, on one line")
	command.AddCommand(add, a.identityListCommand(reference.Team), a.identityShowCommand(reference.Team),
		a.memberCommand("join", "Put a person or an app into a team; its grants reach them at once", (*client.Client).Join),
		a.memberCommand("leave", "Take a member out of a team; its grants stop reaching them at once", (*client.Client).Leave))
	return command
}

func (a *app) memberCommand(name, short string,
	change func(*client.Client, context.Context, string, string) (client.Identity, error)) *cobra.Command {
	return &cobra.Command{
		Use: name + " TEAM SUBJECT", Short: short, Args: exactly("TEAM", "SUBJECT"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			team, err := change(c, ctx, reference.Team+":"+arguments[0], arguments[1])
			if err != nil {
				return err
			}
			return a.show(team, func() {
				members := strings.Join(team.Members, ", ")
				if members == "" {
					members = "nobody"
				}
				fmt.Fprintf(a.Out, "%s has %s in it.\n", team.Subject, members)
			})
		}),
	}
}

// identityCommand makes the commands that persons and apps share.
func (a *app) identityCommand(kind, short, addShort, credentialShort string) *cobra.Command {
	command := &cobra.Command{Use: kind, Short: short, RunE: noSubcommand}
	n := client.NewIdentity{Kind: kind}
	add := &cobra.Command{
		Use: "add NAME", Short: addShort, Args: exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			n.Name = arguments[0]
			registered, err := c.Register(ctx, n)
			if err != nil {
				return err
			}
			for _, note := range registered.Notes {
				a.say("note: %s", note)
			}
			return a.show(registered, func() {
				fmt.Fprintf(a.Out, "%s is registered and may do nothing yet.\n", registered.Identity.Subject)
				if registered.Credential.ID == "" {
					a.say("It cannot sign in yet: its owner issues a secret (tansu app new-credential), or adds a sign-in method without one " +
						"(host-code, add-key, " +
						"add-issuer, add-certificate).")
					return
				}
				fmt.Fprintln(a.Out)
				a.printIssued(registered.Credential)
			})
		}),
	}
	add.Flags().StringVar(&n.Description, "description", "", "who or what it is, on one line")
	add.Flags().StringVar(&n.Owner, "owner", "", "who answers for it, such as person:ticketing-lead")
	if kind == reference.App {
		add.Flags().StringVar(&n.Purpose, "purpose", "", "what it does with what it reads, on one line")
		add.Flags().BoolVar(&n.NoSecret, "no-secret", false,
			"print none: its owner issues one, or it signs in with a key, a certificate or an issuer's token")
		add.Flags().StringVar(&n.Environment, "env", "", "where it runs: production, staging or development")
	}
	if kind == reference.Person {
		command.AddCommand(a.confirmCommand())
	}
	if kind == reference.App {
		command.AddCommand(a.appKeyCommand(), a.appCertificateCommand(), a.appIssuerCommand(), a.appACMECommand(),
			a.appInviteCommand())
	}
	command.AddCommand(add, a.changeIdentityCommand(kind), a.identityListCommand(kind), a.identityShowCommand(kind),
		a.stateCommand(kind, "suspend", "suspended", "Suspend it: its tokens end at once"),
		a.stateCommand(kind, "resume", "active", "Reactivate it"),
		a.newCredentialCommand(kind, credentialShort),
		&cobra.Command{
			Use: "end-credential NAME ID", Short: "End a credential and every token given for it", Args: exactly("NAME", "ID"),
			RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
				if err := c.RevokeCredential(ctx, kind+":"+arguments[0], arguments[1]); err != nil {
					return err
				}
				a.say("Credential %s is ended, and so are its tokens.", arguments[1])
				return nil
			}),
		})
	return command
}

func (a *app) confirmCommand() *cobra.Command {
	return &cobra.Command{
		Use: "confirm NAME", Args: exactly("NAME"),
		Short: "Confirm that a person whom a colleague registered is who they are said to be",
		Long: "Who registers a person sees the enrolment code, and could use it. Until somebody else has made sure that the person exists, and " +
			"that it was them who enrolled, what they are given and what they agree to counts as done by whoever registered them.",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			i, err := c.Confirm(ctx, reference.Person+":"+arguments[0])
			if err != nil {
				return err
			}
			return a.show(i, func() { fmt.Fprintf(a.Out, "%s is confirmed.\n", i.Subject) })
		}),
	}
}

func (a *app) newCredentialCommand(kind, short string) *cobra.Command {
	var until string
	command := &cobra.Command{
		Use: "new-credential NAME", Short: short, Args: exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			end, err := moment("--until", until)
			if err != nil {
				return err
			}
			issued, err := c.IssueCredential(ctx, kind+":"+arguments[0], client.NewCredential{NotAfter: end})
			if err != nil {
				return err
			}
			return a.show(issued, func() { a.printIssued(issued) })
		}),
	}
	if kind == reference.App {
		command.Flags().StringVar(&until, "until", "", "when it ends: a `time` (2026-12-01, or RFC 3339) or a duration (30d); never if left out")
	}
	return command
}

// changeIdentityCommand makes the command that changes what is said about a person or an app.
func (a *app) changeIdentityCommand(kind string) *cobra.Command {
	var description, owner, purpose, environment string
	command := &cobra.Command{
		Use: "describe NAME", Short: "Change its description, owner or purpose", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			changes := client.IdentityChanges{}
			for flag, field := range map[string]struct {
				text *string
				to   **string
			}{"description": {&description, &changes.Description}, "owner": {&owner, &changes.Owner}, "purpose": {&purpose, &changes.Purpose},
				"env": {&environment, &changes.Environment}} {
				if cmd.Flags().Changed(flag) {
					*field.to = field.text
				}
			}
			if changes == (client.IdentityChanges{}) {
				return usagef("nothing to change: give a description, an owner or a purpose; usage: %s", cmd.UseLine())
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			i, err := c.ChangeIdentity(cmd.Context(), kind+":"+arguments[0], changes)
			if err != nil {
				return err
			}
			return a.show(i, func() { fmt.Fprintf(a.Out, "%s is changed.\n", i.Subject) })
		},
	}
	command.Flags().StringVar(&description, "description", "", "who or what it is, on one line")
	command.Flags().StringVar(&owner, "owner", "", "who answers for it, such as person:ticketing-lead")
	if kind == reference.App {
		command.Flags().StringVar(&purpose, "purpose", "", "what it does with what it reads, on one line")
		command.Flags().StringVar(&environment, "env", "", "where it runs: production, staging or development; empty for any")
	}
	return command
}

// withClient makes a command's function of one that needs the client.
func (a *app) withClient(run func(context.Context, *client.Client, []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, arguments []string) error {
		c, err := a.connected()
		if err != nil {
			return err
		}
		return run(cmd.Context(), c, arguments)
	}
}

var credentialNames = map[string]string{"appsecret": "client secret", "enrol": "enrolment code", "host": "code for a host",
	"key": "public key", "certificate": "certificate", "issuer": "issuer",
	"acme": "key for ACME accounts", "acme_account": "ACME account"}

// printIssued prints a credential on a line of its own, so that it can be piped to where it belongs.
func (a *app) printIssued(issued client.Issued) {
	if issued.Secret == "" {
		fields(a.Out, "credential", issued.ID, "kind", credentialNames[issued.Kind], "ends", stamp(issued.NotAfter))
		return
	}
	fields(a.Out, "credential", issued.ID, credentialNames[issued.Kind], issued.Secret, "ends", stamp(issued.NotAfter))
	a.say("It is shown only now.")
}

func (a *app) identityListCommand(kind string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List them", Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.Identities(ctx)
			if err != nil {
				return err
			}
			list := []client.Identity{}
			t := table{head: []string{"SUBJECT", "STATE", "LAST SEEN", "OWNER", "REGISTERED", "DESCRIPTION"}}
			for _, i := range all {
				if !strings.HasPrefix(i.Subject, kind+":") {
					continue
				}
				state := i.State
				if !i.Enrolled {
					state += ", not enrolled"
				}
				if !i.Confirmed {
					state += ", not confirmed"
				}
				list = append(list, i)
				t.add(i.Subject, state, seenText(i.Seen), i.Owner, relative(i.CreatedAt, time.Now()), i.Description)
			}
			return a.show(list, func() { a.printTable(t, "None yet. Register one with: tansu "+kind+" add NAME") })
		}),
	}
}

func (a *app) identityShowCommand(kind string) *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show one with its credentials and grants", Args: exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			subject := kind + ":" + arguments[0]
			i, err := c.Identity(ctx, subject)
			if err != nil {
				return err
			}
			grants, err := c.Grants(ctx, subject)
			if err != nil {
				return err
			}
			reads, err := readingsOf(ctx, c, subject)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"identity": i, "grants": grants, "reads": reads}, func() {
				confirmed := ""
				if !i.Confirmed {
					confirmed = "not yet by anybody but " + i.CreatedBy + ": tansu person confirm " + arguments[0]
				}
				fields(a.Out, "subject", i.Subject, "state", i.State, "confirmed", confirmed, "owner", i.Owner,
					"description", i.Description, "purpose", i.Purpose,
					"environment", i.Environment,
					"last seen", seenText(i.Seen), "registered", stamp(i.CreatedAt)+" by "+i.CreatedBy,
					"teams", strings.Join(i.Teams, ", "), "members", strings.Join(i.Members, ", "))
				for _, cr := range i.Credentials {
					fmt.Fprintf(a.Out, "%s  %s, since %s, %s, %s\n", cr.ID, credentialNames[cr.Kind], stamp(cr.CreatedAt), credentialEnd(cr),
						credentialUse(cr))
					if detail := credentialDetail(cr); detail != "" {
						fmt.Fprintf(a.Out, "    %s\n", detail)
					}
				}
				fmt.Fprintln(a.Out)
				if i.MayNotGive != "" {
					fmt.Fprintf(a.Out, "You cannot give it access: %s\n", i.MayNotGive)
				}
				a.printGrants(grants)
				a.printReadings(reads)
			})
		}),
	}
}

// readingsOf lists what somebody reads; nothing for whoever may not read the trail. It is not asked then, so that looking is no refusal.
func readingsOf(ctx context.Context, c *client.Client, subject string) ([]client.Reading, error) {
	if strings.HasPrefix(subject, reference.Team+":") {
		return nil, nil
	}
	me, err := c.Me(ctx)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(me.May.Somewhere, "read_trail") && me.Subject != subject {
		return nil, nil
	}
	return c.Readings(ctx, subject)
}

func (a *app) printReadings(reads []client.Reading) {
	if len(reads) == 0 {
		return
	}
	t := table{head: []string{"READS", "VERSION", "CURRENT", "TIMES", "LAST", ""}}
	for _, r := range reads {
		note, current := "", fmt.Sprint(r.Current)
		switch {
		case r.Current == 0:
			current, note = "none", "nothing is served any more"
		case r.Version != r.Current && r.Pinned:
			note = "is pinned to an old version"
		case r.Version != r.Current:
			note = "has not read the current version yet"
		}
		t.add(r.Reference, fmt.Sprint(r.Version), current, fmt.Sprint(r.Count), relative(r.Last, time.Now()), note)
	}
	fmt.Fprintln(a.Out)
	a.printTable(t, "")
}

func (a *app) stateCommand(kind, name, state, short string) *cobra.Command {
	return &cobra.Command{
		Use: name + " NAME", Short: short, Args: exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			i, err := c.SetState(ctx, kind+":"+arguments[0], state)
			if err != nil {
				return err
			}
			if state == "active" {
				return a.show(i, func() { fmt.Fprintf(a.Out, "%s is %s.\n", i.Subject, i.State) })
			}
			owned, err := c.Owned(ctx, i.Subject)
			if err != nil {
				return err
			}
			return a.show(i, func() {
				fmt.Fprintf(a.Out, "%s is %s.\n", i.Subject, i.State)
				if len(owned.Apps)+len(owned.Drawers)+len(owned.Items)+len(owned.MasterKeys)+len(owned.Grants) > 0 {
					fmt.Fprintf(a.Out, "\nWhat they own (hand it over with tansu hand-over %s TO):\n", i.Subject)
					a.printOwned(i.Subject, owned)
				}
			})
		}),
	}
}

func credentialEnd(cr client.Credential) string {
	if cr.NotAfter.IsZero() {
		return "no end"
	}
	return "ends " + relative(cr.NotAfter, time.Now())
}
