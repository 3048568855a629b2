package cli

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
)

func (a *app) itemCommand() *cobra.Command {
	command := &cobra.Command{
		Use:   "item",
		Short: "See items, and change what is served: end, hold, promote, suspend, retire, restore, shred, move",
		Long: `Decides which version of an item is served, or that none is. Everything takes effect at once and is in the trail.

A version that is put in with --staged waits until it is promoted. Holding an older version keeps it current whatever
newer ones there are. A suspended item or version is not served until it is resumed. A retired item is hidden and not
served until it is restored. Shredding destroys the data keys: nobody ever reads it again from this database.`,
		RunE: noSubcommand,
	}
	command.AddCommand(a.itemListCommand(), a.itemShowCommand(), a.setEndCommand(),
		a.actCommand("hold DRAWER/ITEM@VERSION", "Keep a version current, whatever newer ones there are",
			"  tansu item hold ticketing-prod/db-password@2"),
		a.actCommand("release DRAWER/ITEM", "Release a held version: the newest usable one is current again",
			"  tansu item release ticketing-prod/db-password"),
		a.actCommand("promote DRAWER/ITEM@VERSION", "Let a staged version be served", "  tansu item promote ticketing-prod/db-password@4"),
		a.actCommand("suspend DRAWER/ITEM[@VERSION]", "Stop serving it, until it is resumed",
			"  tansu item suspend ticketing-prod/db-password@3"),
		a.actCommand("resume DRAWER/ITEM[@VERSION]", "Serve it again", "  tansu item resume ticketing-prod/db-password@3"),
		a.actCommand("retire DRAWER/ITEM", "Hide an item and stop serving it, until it is restored or shredded",
			"  tansu item retire ticketing-prod/mail-relay-login"),
		a.actCommand("restore DRAWER/ITEM", "Restore a retired item with all its versions",
			"  tansu item restore ticketing-prod/mail-relay-login"),
		a.shredCommand(), a.readersCommand(), a.moveCommand(), a.forgetNameCommand(), a.differenceCommand())
	return command
}

// actCommand makes the command of an act whose name is the first word of use.
func (a *app) actCommand(use, short, example string) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Example: example, Args: exactly("DRAWER/ITEM"),
		RunE: func(cmd *cobra.Command, arguments []string) error { return a.act(cmd, arguments[0], "") },
	}
}

func (a *app) act(cmd *cobra.Command, reference, typed string) error {
	ref, err := itemArgument(reference)
	if err != nil {
		return err
	}
	if ref.Field != "" {
		return usagef("%s is about an item or a version, and not about one field of it", cmd.Name())
	}
	c, err := a.connected()
	if err != nil {
		return err
	}
	h, err := c.Act(cmd.Context(), ref.Drawer, ref.Item, client.Act{Act: cmd.Name(), Version: ref.Version, Name: typed})
	if err != nil {
		return err
	}
	return a.show(h, func() {
		served := "nothing of it is served"
		if h.Item.Current != 0 {
			served = fmt.Sprintf("version %d is served", h.Item.Current)
		}
		if h.Item.Held != 0 {
			served += ", held"
		}
		fmt.Fprintf(a.Out, "Done: %s is %s, %s.\n", ref.Drawer+"/"+ref.Item, h.Item.State, served)
	})
}

func (a *app) shredCommand() *cobra.Command {
	var name string
	command := &cobra.Command{
		Use:   "shred DRAWER/ITEM[@VERSION]",
		Short: "Destroy an item or a version for good",
		Long: `Destroys the data keys and the ciphertext, in the database and in its journal. Nothing brings it back from this
database, not even the passphrase that unlocks the chest. Backups made before still hold it: destroy those too, or wait until they end.

An item must be retired first; a version must not be the current one. The exact name has to be typed, or given with --name.`,
		Example: "  tansu item shred ticketing-prod/db-password@1\n  tansu item shred ticketing-prod/mail-relay-login --name " +
			"ticketing-prod/mail-relay-login",
		Args: exactly("DRAWER/ITEM"),
		RunE: func(cmd *cobra.Command, arguments []string) (err error) {
			typed := name
			if typed == "" {
				if typed, err = a.typed("Type its exact name to shred it for good: "); err != nil {
					return err
				}
			}
			return a.act(cmd, arguments[0], typed)
		},
	}
	command.Flags().StringVar(&name, "name", "", "the exact `name`, instead of typing it")
	return command
}

func (a *app) readersCommand() *cobra.Command {
	var since string
	command := &cobra.Command{
		Use: "readers DRAWER/ITEM", Short: "Who still reads which version, from the trail", Args: exactly("DRAWER/ITEM"),
		Example: "  tansu item readers ticketing-prod/db-password",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			from, err := sinceMoment(since)
			if err != nil {
				return err
			}
			readers, err := c.Readers(ctx, ref.Drawer, ref.Item, from)
			if err != nil {
				return err
			}
			history, err := c.History(ctx, ref.Drawer, ref.Item)
			if err != nil {
				return err
			}
			return a.show(readers, func() { a.printReaders(history.Item.Current, readers) })
		}),
	}
	command.Flags().StringVar(&since, "since", "", "since this `time` (2026-12-01, or RFC 3339), or in the last 12h or 30d (default 90d)")
	return command
}

func (a *app) printReaders(current int, readers []client.Reader) {
	t := table{head: []string{"READER", "VERSION", "LAST READ", "HOW"}}
	behind := 0
	for _, r := range readers {
		how := "the current one"
		if r.Pinned {
			how = "asks for it by its number"
		}
		if r.Version != current {
			behind++
		}
		t.add(r.Subject, strconv.Itoa(r.Version), relative(r.Last, time.Now()), how)
	}
	a.printTable(t, "Nobody read it.")
	if len(readers) > 0 {
		fmt.Fprintf(a.Out, "\n%d of %d read another version than the current one, %d.\n", behind, len(readers), current)
	}
}
