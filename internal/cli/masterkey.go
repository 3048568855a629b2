package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/secretvalue"
	"tansu/internal/drawerkeys"
	"tansu/internal/server"
)

func (a *app) masterKeyCommand() *cobra.Command {
	command := &cobra.Command{
		Use:   "master-key",
		Short: "Put drawers under keys that can be taken away: your own, or one in a token",
		Long: `A drawer's key is under the chest's root key. It can be under a master key as well, and is then opened by both together: take the
master key away, and nobody reads or changes what is in the drawer until it is given back, not even who has the root key.

A master key is made by the chest, brought by its owner, who keeps it too, or sealed by a key in a PKCS #11 token of the service's
machine. Its owner and operators of the chest withdraw it and give it back; only they take drawers from under it.`,
		RunE: noSubcommand,
	}
	command.AddCommand(a.listMastersCommand(), a.showMasterCommand(), a.makeMasterCommand(), a.bringMasterCommand(), a.changeMasterCommand(),
		a.withdrawMasterCommand(), a.giveBackMasterCommand(), a.replaceMasterCommand(), a.destroyMasterCommand())
	return command
}

// masterNamed finds a master key by its name.
func masterNamed(ctx context.Context, c *client.Client, name string) (k client.MasterKey, err error) {
	list, err := c.MasterKeys(ctx)
	if err != nil {
		return k, err
	}
	at := slices.IndexFunc(list, func(k client.MasterKey) bool { return k.Name == name })
	if at < 0 {
		return k, &client.Problem{Status: 404, Code: "not_found",
			Detail: fmt.Sprintf("there is no master key %.60s: tansu master-key list", name)}
	}
	return list[at], nil
}

// managedMaster is one with whom its going would concern, for whoever may withdraw it.
func managedMaster(ctx context.Context, c *client.Client, name string) (client.MasterKey, error) {
	k, err := masterNamed(ctx, c, name)
	if err != nil {
		return k, err
	}
	return c.MasterKey(ctx, k.ID)
}

func (a *app) listMastersCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the master keys, whether they are at hand, and what is under them",
		Args:  exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.MasterKeys(ctx)
			if err != nil {
				return err
			}
			return a.show(list, func() {
				t := table{head: []string{"NAME", "STATE", "ORIGIN", "OWNER", "FINGERPRINT", "DRAWERS"}}
				for _, k := range list {
					t.add(k.Name, masterState(k), originText(k), k.Owner, k.Fingerprint, under(k))
				}
				a.printTable(t, "There are no master keys: drawers are under the root key alone. tansu master-key bring NAME --from FILE")
			})
		}),
	}
}

func masterState(k client.MasterKey) string {
	switch k.State {
	case drawerkeys.Withdrawn:
		return "✗ withdrawn " + relative(k.WithdrawnAt, time.Now())
	case drawerkeys.Missing:
		return "✗ not given since the unlock"
	}
	return "at hand"
}

func originText(k client.MasterKey) string {
	switch {
	case k.Origin == drawerkeys.Token:
		return "token " + k.Token
	case k.InMemory:
		return k.Origin + ", in memory only"
	}
	return k.Origin
}

// under names the drawers under a master key.
func under(k client.MasterKey) string {
	text := strings.Join(k.Drawers, ", ")
	if k.MoreDrawers > 0 {
		if text != "" {
			text += " and "
		}
		text += plural(k.MoreDrawers, "drawer") + " that you may not list"
	}
	if text == "" {
		return "-"
	}
	return text
}

// concerns says what a master key's going would concern.
func concerns(k client.MasterKey) string {
	readers := strings.Join(k.Readers, ", ")
	if k.MoreReaders > 0 {
		if readers != "" {
			readers += " and "
		}
		readers += fmt.Sprintf("%d whom you may not know of", k.MoreReaders)
	}
	if readers == "" {
		readers = "nobody"
	}
	return fmt.Sprintf("under it: %s, with %s\nread there in the last 7 days: %s", under(k), plural(k.Items, "item"), readers)
}

func (a *app) printMaster(k client.MasterKey) {
	list := []string{"name", k.Name, "state", masterState(k), "origin", originText(k), "owner", k.Owner, "fingerprint", k.Fingerprint,
		"made", relative(k.CreatedAt, time.Now()) + " by " + k.CreatedBy}
	if k.Description != "" {
		list = append(list, "description", k.Description)
	}
	if !k.GivenAt.IsZero() {
		list = append(list, "given back", relative(k.GivenAt, time.Now()))
	}
	if k.WithdrawnBy != "" {
		list = append(list, "withdrawn by", k.WithdrawnBy)
	}
	fields(a.Out, append(list, "drawers", under(k), "items", fmt.Sprint(k.Items))...)
}

func (a *app) showMasterCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "show NAME",
		Short: "Show a master key that you manage, and whom it would concern if it were withdrawn",
		Args:  exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			k, err := managedMaster(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			return a.show(k, func() {
				a.printMaster(k)
				fmt.Fprintf(a.Out, "\nIf it were withdrawn:\n  %s\n", strings.ReplaceAll(printableLines(concerns(k)), "\n", "\n  "))
			})
		}),
	}
}

func (a *app) makeMasterCommand() *cobra.Command {
	n := client.NewMasterKey{Origin: drawerkeys.Made}
	command := &cobra.Command{
		Use:   "make NAME [--token TOKEN]",
		Short: "Have the chest make a master key, kept by the chest or sealed by a PKCS #11 token",
		Long: `Makes a master key that only the chest has, under the root key. It cannot be withdrawn, since nobody could give it back. It keeps
drawers in the hands of its owner: only they and operators take one from under it.

With --token it is sealed by an AES key in a PKCS #11 token of the service's machine, which has to be there at each unlock. The
service knows the token by a name: tansu serve --pkcs11-token 'NAME=pkcs11:…'.`,
		Example: "  tansu master-key make crew --owner team:crew-office\n  tansu master-key make strongroom --token yard",
		Args:    exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			if n.Name = arguments[0]; n.Token != "" {
				n.Origin = drawerkeys.Token
			}
			return a.madeMaster(c.MakeMasterKey(ctx, n))
		}),
	}
	command.Flags().StringVar(&n.Token, "token", "", "the `name` of the token that seals it")
	describeMaster(command, &n)
	return command
}

func describeMaster(command *cobra.Command, n *client.NewMasterKey) {
	command.Flags().StringVar(&n.Owner, "owner", "", "who may withdraw it and give it back, such as team:crew-office (you)")
	command.Flags().StringVar(&n.Description, "description", "", "what it is for, on one line")
}

func (a *app) madeMaster(k client.MasterKey, err error) error {
	if err != nil {
		return err
	}
	return a.show(k, func() {
		fmt.Fprintf(a.Out, "Master key %s is there; its fingerprint is %s.\n", k.Name, k.Fingerprint)
		if k.Origin == drawerkeys.Brought {
			fmt.Fprintln(a.Out, "Keep your copy: withdrawn, it opens again only with that.")
		}
		fmt.Fprintf(a.Out, "Put a drawer under it: tansu drawer rotate-key DRAWER --master-key %s\n", k.Name)
	})
}

func (a *app) bringMasterCommand() *cobra.Command {
	n := client.NewMasterKey{Origin: drawerkeys.Brought}
	var file string
	command := &cobra.Command{
		Use:   "bring NAME --from FILE",
		Short: "Bring a master key of your own: 32 bytes that you keep, too",
		Long: `Brings a key of 32 random bytes from a file, or from standard input. Until you withdraw it the chest keeps it, under the root
key; backups that were made meanwhile have it as well. With --in-memory it is never stored: no copy of the database has it, and it is
given again after each unlock.`,
		Example: `  openssl rand -out crew.masterkey 32 && chmod 600 crew.masterkey
  tansu master-key bring crew --from crew.masterkey --owner team:crew-office`,
		Args: exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			material, err := a.material(file)
			if err != nil {
				return err
			}
			defer material.Wipe()
			n.Name, n.Material = arguments[0], material.Reveal()
			return a.madeMaster(c.MakeMasterKey(ctx, n))
		}),
	}
	command.Flags().StringVar(&file, "from", "", "the `file` with its 32 bytes; standard input without it")
	command.Flags().BoolVar(&n.InMemory, "in-memory", false, "never store it: it is given again after each unlock")
	describeMaster(command, &n)
	return command
}

// material reads a master key from a file that only its owner can read, or from standard input.
func (a *app) material(file string) (secretvalue.Value, error) {
	switch {
	case file != "":
		return server.ReadKeyFile(file)
	case a.terminal():
		return secretvalue.Value{}, usagef("give the file with the key: --from FILE")
	}
	return readValue(a.In)
}

func (a *app) changeMasterCommand() *cobra.Command {
	var name, description, owner string
	command := &cobra.Command{
		Use:     "change NAME",
		Short:   "Change a master key's name, owner or description",
		Example: "  tansu master-key change crew --owner team:crew-office",
		Args:    exactly("NAME"),
	}
	command.RunE = a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
		k, err := masterNamed(ctx, c, arguments[0])
		if err != nil {
			return err
		}
		var ch client.MasterKeyChanges
		for flag, target := range map[string]struct {
			to   **string
			text *string
		}{"name": {&ch.Name, &name}, "description": {&ch.Description, &description}, "owner": {&ch.Owner, &owner}} {
			if command.Flags().Changed(flag) {
				*target.to = target.text
			}
		}
		if ch == (client.MasterKeyChanges{}) {
			return usagef("say what to change: --name, --owner or --description")
		}
		k, err = c.ChangeMasterKey(ctx, k.ID, k.Revision, ch)
		if err != nil {
			return err
		}
		return a.show(k, func() { a.printMaster(k) })
	})
	command.Flags().StringVar(&name, "name", "", "its new `name`")
	command.Flags().StringVar(&description, "description", "", "what it is for, on one line")
	command.Flags().StringVar(&owner, "owner", "", "who may withdraw it and give it back")
	return command
}

func (a *app) withdrawMasterCommand() *cobra.Command {
	var typed string
	command := &cobra.Command{
		Use:   "withdraw NAME",
		Short: "Take a master key away: nobody reads or changes what is under it until it is given back",
		Long: `Has the chest forget a master key that was brought or is in a token. It says first which drawers are under it and who read there
in the last days, and asks for the exact name. From the moment in which it is acknowledged nothing there is served, by whatever grant.
A host that is cut off from the chest goes on with what it keeps, for as long as rules of the drawers let it.

Whoever has the key gives it back. If nobody has it any more, what is under it is lost.`,
		Args: exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			k, err := managedMaster(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			if typed == "" {
				a.say("%s", concerns(k))
				if typed, err = a.typed("Nobody reads or changes it until the key is given back. Type its exact name to withdraw it: "); err != nil {
					return err
				}
			}
			if k, err = c.WithdrawMasterKey(ctx, k.ID, typed); err != nil {
				return err
			}
			return a.show(k, func() {
				fmt.Fprintf(a.Out, "Master key %s is withdrawn: nothing in %s is served. To give it back:\n  %s\n", k.Name, under(k), giveBackWith(k))
			})
		}),
	}
	command.Flags().StringVar(&typed, "name", "", "its exact `name` as confirmation, for scripts")
	return command
}

func giveBackWith(k client.MasterKey) string {
	if k.Origin == drawerkeys.Token {
		return "tansu master-key give-back " + k.Name
	}
	return "tansu master-key give-back " + k.Name + " --from FILE"
}

func (a *app) giveBackMasterCommand() *cobra.Command {
	var file string
	var inMemory, kept bool
	command := &cobra.Command{
		Use:   "give-back NAME [--from FILE]",
		Short: "Give a master key back that was withdrawn, or is not at hand since the chest was unlocked",
		Long: `Gives back the same 32 bytes, from a file or standard input; another key is refused by its fingerprint. One in a token is asked for
from the token, and needs no file.`,
		Example: "  tansu master-key give-back crew --from crew.masterkey\n  tansu master-key give-back strongroom",
		Args:    exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			k, err := masterNamed(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			var material secretvalue.Value
			if k.Origin != drawerkeys.Token {
				if material, err = a.material(file); err != nil {
					return err
				}
				defer material.Wipe()
			}
			given := client.GivenBack{Material: material.Reveal()}
			if inMemory || kept {
				given.InMemory = &inMemory
			}
			if k, err = c.GiveMasterKeyBack(ctx, k.ID, given); err != nil {
				return err
			}
			return a.show(k, func() { fmt.Fprintf(a.Out, "Master key %s is at hand: %s is served again.\n", k.Name, under(k)) })
		}),
	}
	command.Flags().StringVar(&file, "from", "", "the `file` with its 32 bytes; standard input without it")
	command.Flags().BoolVar(&inMemory, "in-memory", false, "never store it from now on")
	command.Flags().BoolVar(&kept, "kept", false, "let the chest keep it from now on, so that it is there after each unlock")
	command.MarkFlagsMutuallyExclusive("in-memory", "kept")
	return command
}

func (a *app) destroyMasterCommand() *cobra.Command {
	var typed string
	command := &cobra.Command{
		Use:   "destroy NAME",
		Short: "Forget a master key for good, when no drawer is under it any more",
		Args:  exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			k, err := masterNamed(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			if typed == "" {
				if typed, err = a.typed("Type its exact name to destroy it: "); err != nil {
					return err
				}
			}
			if err := c.DestroyMasterKey(ctx, k.ID, typed); err != nil {
				return err
			}
			return a.show(map[string]string{"destroyed": k.Name}, func() { fmt.Fprintf(a.Out, "Master key %s is destroyed.\n", k.Name) })
		}),
	}
	command.Flags().StringVar(&typed, "name", "", "its exact `name` as confirmation, for scripts")
	return command
}

// masterFlags say what a drawer's key is to be under.
type masterFlags struct {
	name string
	none bool
}

func (f *masterFlags) add(command *cobra.Command) {
	command.Flags().StringVar(&f.name, "master-key", "", "put it under this master `key` as well as under the root key")
	command.Flags().BoolVar(&f.none, "no-master-key", false, "take it from under its master key: it is under the root key alone")
	command.MarkFlagsMutuallyExclusive("master-key", "no-master-key")
}

// under is nil for what it is under now.
func (f *masterFlags) under() *string {
	if f.name == "" && !f.none {
		return nil
	}
	return &f.name
}

func (a *app) replaceMasterCommand() *cobra.Command {
	var to masterFlags
	command := &cobra.Command{
		Use:   "replace NAME (--master-key OTHER | --no-master-key)",
		Short: "Put another master key, or none, in the place of one, for each drawer under it",
		Long: `Rotates the key of each drawer under a master key, one after the other and while they are in use, so that nothing is under it any
more. If it is interrupted, run it again: it continues where it stopped. The master key must be at hand, and can be destroyed afterwards.`,
		Example: "  tansu master-key replace crew --master-key crew-2027\n  tansu master-key replace crew --no-master-key",
		Args:    exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			if to.under() == nil {
				return usagef("say what the drawers are to be under: --master-key OTHER, or --no-master-key")
			}
			if to.name == arguments[0] {
				return usagef("the drawers are under %s already", to.name)
			}
			k, err := masterNamed(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			for n, drawer := range k.Drawers {
				a.say("drawer %d of %d: %s", n+1, len(k.Drawers), drawer)
				if _, err := a.rotateKey(ctx, c, drawer, to.under()); err != nil {
					return err
				}
			}
			if k, err = masterNamed(ctx, c, arguments[0]); err != nil {
				return err
			}
			if len(k.Drawers) > 0 || k.MoreDrawers > 0 {
				return fmt.Errorf("still under %s: %s", k.Name, under(k))
			}
			return a.show(k, func() {
				fmt.Fprintf(a.Out, "No drawer is under %s any more: tansu master-key destroy %s\n", k.Name, k.Name)
			})
		}),
	}
	to.add(command)
	return command
}

// rotateKey gives a drawer another key, and waits until nothing is under the old one.
func (a *app) rotateKey(ctx context.Context, c *client.Client, drawer string, under *string) (r client.Rotation, err error) {
	for {
		if r, err = c.RotateKey(ctx, drawer, under); err != nil || r.Done {
			return r, err
		}
		a.say("key %d: %s left", r.Key, plural(r.Left, "version"))
		under = nil // it has begun
	}
}
