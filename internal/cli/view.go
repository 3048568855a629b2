package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"tansu/client"
)

// What there is, under the words under which people look for it.

func (a *app) drawerListCommand() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the drawers", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.connected()
			if err != nil {
				return err
			}
			return a.listDrawers(cmd, c)
		},
	}
}

func (a *app) drawerShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show what a drawer is for, its labels, rules and approval, and what is due in it", Args: exactly("NAME"),
		Example: "  tansu drawer show ticketing-prod",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			contents, err := c.Drawer(ctx, arguments[0])
			if err != nil {
				return err
			}
			d := contents.Drawer
			return a.show(d, func() {
				fields(a.Out, "drawer", d.Name, "environment", d.Environment, "description", d.Description, "owner", d.Owner, "labels",
					labelsText(d.Labels), "approval", drawerApproval(d.Approval), "items", strconv.Itoa(d.Items), "due", number(d.Due), "not served",
					number(d.Overdue), "master key", d.MasterKey, "made", stamp(d.CreatedAt), "by", d.CreatedBy)
				a.sayClosed(d)
				fmt.Fprintln(a.Out)
				a.printDrawerRules(d)
				a.say("Its items: tansu list %s. Who may do what in it: tansu ask matrix.", d.Name)
			})
		}),
	}
}

func drawerApproval(approval client.Approval) string {
	if len(approval.Items) == 0 {
		return ""
	}
	return "a second person agrees before " + cmp.Or(approval.Of, "everyone") + " read: " + strings.Join(approval.Items, ", ")
}

func (a *app) itemListCommand() *cobra.Command {
	var retired bool
	command := &cobra.Command{
		Use: "list DRAWER", Short: "List the items of a drawer, without values", Args: exactly("DRAWER"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			c, err := a.connected()
			if err != nil {
				return err
			}
			return a.listItems(cmd, c, arguments[0], retired)
		},
	}
	command.Flags().BoolVar(&retired, "retired", false, "the retired items too")
	return command
}

func (a *app) itemShowCommand() *cobra.Command {
	command := a.historyCommand()
	command.Use, command.Short = "show DRAWER/ITEM", "Show what is known of an item and its versions, without values"
	return command
}

func (a *app) setEndCommand() *cobra.Command {
	var until, from string
	var w client.NewWindow
	command := &cobra.Command{
		Use:   "set-end DRAWER/ITEM[@VERSION]",
		Short: "Change when a version ends, without putting its value again",
		Long: `Changes from when, and until when, the current version or the one that you name is served. Its value stays as it is. A
version that has ended is served again by a later end only with --allow-again: a new value is better.`,
		Example: "  tansu item set-end ticketing-prod/db-password --not-after 2027-03-01\n" +
			"  tansu item set-end ticketing-prod/db-password --never",
		Args: exactly("DRAWER/ITEM"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			if (until == "") != w.NeverEnds {
				return usagef("say when it ends: --not-after TIME, or --never")
			}
			if w.NotAfter, err = moment("--not-after", until); err != nil {
				return err
			}
			if w.NotBefore, err = moment("--not-before", from); err != nil {
				return err
			}
			w.Version = ref.Version
			h, err := c.SetWindow(ctx, ref.Drawer, ref.Item, w)
			if err != nil {
				return err
			}
			return a.show(h, func() { a.printHistory(h) })
		}),
	}
	command.Flags().StringVar(&until, "not-after", "", "serve it until this `time` (2026-12-01, or RFC 3339) or for this long (90d)")
	command.Flags().StringVar(&from, "not-before", "", "serve it only from this `time` (2026-12-01, or RFC 3339) or after this long (12h)")
	command.Flags().BoolVar(&w.NeverEnds, "never", false, "it has no end")
	command.Flags().BoolVar(&w.AllowAgain, "allow-again", false, "also when it is refused now and would be served again")
	return command
}

func (a *app) profileCommand() *cobra.Command {
	command := &cobra.Command{Use: "profile", Short: "See the chests that are remembered here, and choose one", RunE: noSubcommand}
	list := &cobra.Command{
		Use: "list", Short: "List the profiles, without tokens", Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			all, err := loadProfiles()
			if err != nil {
				return err
			}
			type row struct {
				Name    string    `json:"name"`
				Address string    `json:"address"`
				Subject string    `json:"subject,omitempty"`
				Ends    time.Time `json:"ends,omitzero"`
				Current bool      `json:"current"`
			}
			rows := []row{}
			for name, p := range all.Profiles {
				rows = append(rows, row{name, p.Address, p.Subject, p.Ends, name == a.profileName(all)})
			}
			slices.SortFunc(rows, func(x, y row) int { return strings.Compare(x.Name, y.Name) })
			return a.show(rows, func() {
				t := table{head: []string{"", "PROFILE", "ADDRESS", "SIGNED IN AS", "UNTIL"}}
				for _, r := range rows {
					t.add(map[bool]string{true: "*"}[r.Current], r.Name, r.Address, r.Subject, stamp(r.Ends))
				}
				a.printTable(t, "No chest is remembered yet: tansu connect https://HOST:8267 --authority FILE")
			})
		},
	}
	change := func(use, short string, do func(all *profiles, name string)) *cobra.Command {
		return &cobra.Command{
			Use: use + " NAME", Short: short, Args: exactly("NAME"),
			RunE: func(_ *cobra.Command, arguments []string) error {
				all, err := loadProfiles()
				if err != nil {
					return err
				}
				if all.Profiles[arguments[0]] == nil {
					return usagef("there is no profile %q: tansu profile list", arguments[0])
				}
				do(all, arguments[0])
				return all.save()
			},
		}
	}
	command.AddCommand(list,
		change("use", "Use a profile when none is named with --profile", func(all *profiles, name string) { all.Current = name }),
		change("forget", "Forget a chest and the token for it; the session goes on until it ends: tansu sign-out ends it",
			func(all *profiles, name string) {
				delete(all.Profiles, name)
				if all.Current == name {
					all.Current = ""
				}
			}))
	return command
}

func (a *app) manualCommand() *cobra.Command {
	var dir string
	command := &cobra.Command{
		Use:     "manual --dir DIR",
		Short:   "Write manual pages of all commands, for man(1)",
		Example: "  tansu manual --dir /usr/local/share/man/man1",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return fmt.Errorf("make the directory: %w", err)
			}
			root := cmd.Root()
			root.DisableAutoGenTag = true
			if err := doc.GenManTree(root, &doc.GenManHeader{Section: "1", Source: "Tansu " + Version, Manual: "Tansu"}, dir); err != nil {
				return fmt.Errorf("write the pages: %w", err)
			}
			a.say("The pages are in %s: man -l %s/tansu.1", dir, dir)
			return nil
		},
	}
	command.Flags().StringVar(&dir, "dir", "", "the `directory` they are written to")
	_ = command.MarkFlagRequired("dir")
	return command
}
