package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
)

func (a *app) rolesCommand() *cobra.Command {
	return &cobra.Command{
		Use: "roles", Short: "List the roles and what each may do", Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			roles, err := c.Roles(ctx)
			if err != nil {
				return err
			}
			return a.show(roles, func() {
				t := table{head: []string{"ROLE", "KIND", "GRANTS", "ACTIONS", "FOR"}}
				for _, role := range roles {
					kind := "custom"
					if role.BuiltIn {
						kind = "built-in"
					}
					t.add(role.Name, kind, strconv.Itoa(role.InUse), strings.Join(briefly(role.Actions), " "), role.Summary)
				}
				t.print(a.Out)
			})
		}),
	}
}

func (a *app) roleCommand() *cobra.Command {
	command := &cobra.Command{Use: "role", Short: "Make roles of your own, of exactly the actions you want", RunE: noSubcommand}
	command.AddCommand(
		a.rolePutCommand("add", "Make a role; it gives nothing until it is granted",
			`  tansu role add rotator see_metadata write_version --description "puts new versions in"`, (*client.Client).AddRole),
		a.rolePutCommand("change", "Change what a role can do, at once for everyone who has it",
			"  tansu role change rotator see_metadata write_version retire --preview", (*client.Client).ChangeRole),
		&cobra.Command{
			Use: "remove NAME", Short: "Remove a role that no grant has any more", Args: exactly("NAME"),
			RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
				if err := c.RemoveRole(ctx, arguments[0]); err != nil {
					return err
				}
				a.say("Role %s is removed.", arguments[0])
				return nil
			}),
		})
	return command
}

func (a *app) rolePutCommand(name, short, example string,
	put func(*client.Client, context.Context, client.NewRole) (client.RoleStored, error)) *cobra.Command {
	var n client.NewRole
	var preview bool
	command := &cobra.Command{
		Use: name + " NAME ACTION...", Short: short, Example: example,
		Args: func(cmd *cobra.Command, arguments []string) error {
			if len(arguments) < 2 {
				return usagef("a role has a name and at least one action; usage: %s", cmd.UseLine())
			}
			return nil
		},
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			n.Name, n.Actions = arguments[0], arguments[1:]
			if preview {
				d, err := c.Preview(ctx, client.Proposal{Role: &n})
				if err != nil {
					return err
				}
				return a.show(d, func() { a.printDifference(d) })
			}
			stored, err := put(c, ctx, n)
			if err != nil {
				return err
			}
			for _, note := range stored.Notes {
				a.say("note: %s", note)
			}
			return a.show(stored, func() {
				fmt.Fprintf(a.Out, "Role %s can %s; it is in %s.\n", stored.Role.Name, strings.Join(stored.Role.Actions, ", "),
					plural(stored.Role.InUse, "grant"))
			})
		}),
	}
	command.Flags().StringVar(&n.Description, "description", "", "what it is for, on one line")
	if name == "change" {
		command.Flags().BoolVar(&preview, "preview", false, "only show who would gain and lose what")
	}
	return command
}
