package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/drawerkeys"
)

func (a *app) drawerCommand() *cobra.Command {
	command := &cobra.Command{Use: "drawer", Short: "Create and list drawers, rotate their keys, shred them", RunE: noSubcommand}
	var n client.NewDrawer
	add := &cobra.Command{
		Use:     "add NAME --env ENVIRONMENT",
		Short:   "Create an empty drawer with its own key",
		Example: `  tansu drawer add ticketing-prod --env production --owner person:ticketing-lead --description "Ticket sales, live"`,
		Args:    exactly("NAME"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			c, err := a.connected()
			if err != nil {
				return err
			}
			n.Name = arguments[0]
			d, err := c.CreateDrawer(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.show(d, func() { fmt.Fprintf(a.Out, "Drawer %s (%s) is created.\n", d.Name, d.Environment) })
		},
	}
	add.Flags().StringVar(&n.Environment, "env", "", "production, staging or development")
	add.Flags().StringVar(&n.Description, "description", "", "what it is for, on one line")
	add.Flags().StringVar(&n.Owner, "owner", "", "who answers for it, such as person:ticketing-lead")
	add.Flags().StringVar(&n.MasterKey, "master-key", "", "a master `key` that it is to be under as well as under the root key")
	_ = add.MarkFlagRequired("env")
	command.AddCommand(a.drawerListCommand(), a.drawerShowCommand(), add, a.rotateKeyCommand(), a.shredDrawerCommand())
	return command
}

// noSubcommand answers a group of commands that was called without one, or with one that does not exist.
func noSubcommand(cmd *cobra.Command, arguments []string) error {
	if len(arguments) == 0 {
		return usagef("%s needs one of its commands: %s --help", cmd.CommandPath(), cmd.CommandPath())
	}
	hint := cmd.CommandPath() + " --help"
	cmd.SuggestionsMinimumDistance = 2
	if near := cmd.SuggestionsFor(arguments[0]); len(near) > 0 {
		hint = "did you mean " + cmd.CommandPath() + " " + near[0] + "?"
	}
	return usagef("%s has no command %q: %s", cmd.CommandPath(), arguments[0], hint)
}

// putFlags are the options of put.
type putFlags struct {
	file, description, owner, note, notBefore, notAfter string
	newVersion, staged, useOnly                         bool
	labels                                              map[string]string
	revision                                            int64
	fieldFlags
}

func (a *app) putCommand() *cobra.Command {
	var f putFlags
	command := &cobra.Command{
		Use:   "put DRAWER/ITEM",
		Short: "Put a secret in, or a new version of one",
		Long: `Puts a secret into a drawer. The value is asked for twice without showing it, or is the exact bytes of standard input
when that is not a terminal, or those of --file; it is never an argument. It may have up to 256 KiB.

With --generate the value is generated and stored without ever being shown: characters:24, characters:20:lower+digits,
bytes:32, words:5 or uuid; or rule, by the recipe that the drawer's rules name.

With --shape an item has fields: login (user, password), connection (engine, host, port, database, user, password,
options), ssh_key (private; public and fingerprint follow), file (content, media_type, file_name), or fields of your own.
Each --field is asked for without showing it, --plain is for what is not sensitive, --generate generates one. One is
read as DRAWER/ITEM#FIELD, and a connection as a whole is a URL. With --new-version fields that you leave out stay.

Names have lower-case letters, digits, -, _ and ., and begin and end with a letter or digit. An item that exists already is
a conflict unless --new-version asks to add one.`,
		Example: `  tansu put ticketing-prod/db-password
  tansu put ticketing-prod/db-password --new-version --note "quarterly change"
  tansu put ticketing-prod/session-key --generate bytes:32
  tansu put ticketing-prod/mail-relay --shape login --plain user=svc-mail --generate password=characters:24
  tansu put ticketing-prod/db --shape connection --plain engine=postgresql --plain host=db.ferries.example --plain user=svc --field password
  head -c 32 /dev/urandom | tansu put harbour-gates-prod/radio-key --not-after 90d`,
		Args: exactly("DRAWER/ITEM"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			ref, err := reference.Parse(arguments[0])
			if err != nil {
				return usageError{err}
			}
			if ref.Version != 0 {
				return usagef("a version gets its number from the chest: leave out @%d", ref.Version)
			}
			return a.put(cmd, ref, f)
		},
	}
	command.Flags().StringVar(&f.file, "file", "", "take the bytes of this `file`")
	f.fieldFlags.add(command)
	command.Flags().BoolVar(&f.newVersion, "new-version", false, "add a version to an item that exists")
	command.Flags().StringVar(&f.description, "description", "", "what it is, on one line")
	command.Flags().StringVar(&f.owner, "owner", "", "who answers for it, such as person:ticketing-lead")
	command.Flags().StringToStringVar(&f.labels, "labels", nil, "all its `labels`: key=value, separated by commas")
	command.Flags().StringVar(&f.note, "note", "", "why this version, on one line")
	command.Flags().BoolVar(&f.staged, "staged", false, "let it wait until somebody promotes it (tansu item promote)")
	command.Flags().StringVar(&f.notBefore, "not-before", "",
		"serve it only from this `time` (2026-12-01, or RFC 3339) or after this long (12h, 90d)")
	command.Flags().StringVar(&f.notAfter, "not-after", "",
		"serve it only until this `time` (2026-12-01, or RFC 3339) or for this long (12h, 90d)")
	command.Flags().BoolVar(&f.useOnly, "use-only", false,
		"no person is ever shown its value, only applications get it; for a new item, and for good")
	command.Flags().Int64Var(&f.revision, "if-revision", 0, "with --new-version: only if the item still has this `revision`")
	return command
}

func (a *app) put(cmd *cobra.Command, ref reference.Reference, f putFlags) error {
	switch shapes := secretvalue.Shapes; {
	case f.shape != "" && !slices.Contains(shapes, secretvalue.Shape(f.shape)):
		return usagef("there is no shape %.40q; the shapes are %v", f.shape, shapes)
	case f.newVersion && (f.shape != "" || f.useOnly):
		return usagef("--shape and --use-only are for a new item: a new version has the shape of its item")
	case !f.newVersion && f.revision != 0:
		return usagef("--if-revision goes with --new-version: a new item has no revision yet")
	case ref.Field != "":
		return usagef("a new version has all fields: leave out #%s, and give --field %s", ref.Field, ref.Field)
	}
	notBefore, err := moment("--not-before", f.notBefore)
	if err != nil {
		return err
	}
	notAfter, err := moment("--not-after", f.notAfter)
	if err != nil {
		return err
	}
	c, err := a.connected()
	if err != nil {
		return err
	}
	if err := a.beforeTyping(cmd.Context(), c, ref, f); err != nil {
		return err
	}
	version, err := a.newContent(f)
	if err != nil {
		return err
	}
	version.Note, version.NotBefore, version.NotAfter, version.Staged = f.note, notBefore, notAfter, f.staged
	var stored client.Stored
	if f.newVersion {
		stored, err = c.AddVersion(cmd.Context(), ref.Drawer, ref.Item, f.revision, version)
	} else {
		stored, err = c.CreateItem(cmd.Context(), ref.Drawer,
			client.NewItem{Name: ref.Item, Shape: f.shape, Description: f.description, Owner: f.owner, UseOnly: f.useOnly, Version: version})
	}
	if err != nil {
		return err
	}
	for _, note := range stored.Version.Notes {
		a.say("note: %s", note)
	}
	if err := a.describeStored(cmd.Context(), c, ref, stored, f); err != nil {
		return err
	}
	if stored.Version.EndsInNewline {
		a.say("note: the value ends in a newline, which is kept; if that is not meant, add a version without it (printf %%s)")
	}
	return a.show(stored, func() {
		fmt.Fprintf(a.Out, "%s@%d is stored: %s. Nothing was shown.\n", ref, stored.Version.Version, bytesText(stored.Version.Size))
	})
}

// beforeTyping looks, before somebody types a value twice, whether it could be stored: as far as they may know of the item. A script finds
// out when it stores.
func (a *app) beforeTyping(ctx context.Context, c *client.Client, ref reference.Reference, f putFlags) error {
	if !a.terminal() || f.file != "" || len(f.generate) > 0 {
		return nil
	}
	me, err := c.Me(ctx)
	if err != nil {
		return err
	}
	name := ref.Drawer + "/" + ref.Item
	if may, err := c.Ask(ctx, client.Question{Subject: me.Subject, Action: "see_metadata", Target: name}); err != nil || !may.Allowed {
		return nil
	}
	h, err := c.History(ctx, ref.Drawer, ref.Item)
	var problem *client.Problem
	switch {
	case err == nil && !f.newVersion:
		return usagef("%s exists already, with %s: to add one, give --new-version", name, plural(h.Item.Versions, "version"))
	case f.newVersion && errors.As(err, &problem) && problem.Code == "not_found":
		return err
	}
	return nil
}

// describeStored says what else was given about an item: its labels, and of one that was there already its description and owner.
func (a *app) describeStored(ctx context.Context, c *client.Client, ref reference.Reference, stored client.Stored, f putFlags) error {
	var changes client.Described
	if f.newVersion && f.description != "" {
		changes.Description = &f.description
	}
	if f.newVersion && f.owner != "" {
		changes.Owner = &f.owner
	}
	if f.labels != nil {
		changes.Labels = f.labels
	}
	if changes.Description == nil && changes.Owner == nil && changes.Labels == nil {
		return nil
	}
	if _, err := c.ChangeItem(ctx, ref.Drawer, ref.Item, stored.Item.Revision, changes); err != nil {
		a.say("%s@%d is stored, but its description and labels were not changed:", ref, stored.Version.Version)
		return err
	}
	return nil
}

func bytesText(n int) string {
	if n == 1 {
		return "1 byte"
	}
	return strconv.Itoa(n) + " bytes"
}

// moment reads a time, a day, which begins at midnight UTC, or a duration from now: 30m, 12h, 90d, 2w, 1y.
func moment(flag, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{time.RFC3339, time.DateOnly} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UTC(), nil
		}
	}
	d, err := duration(text)
	if err != nil {
		return time.Time{}, usagef("%s is %q; allowed: a time such as 2026-12-01T08:00:00Z, a day such as 2026-12-01 (from midnight UTC), or a "+
			"duration such as 30m, 12h, 90d, 2w or 1y", flag, text)
	}
	return time.Now().Add(d).UTC().Truncate(time.Second), nil
}

// duration reads a length of time that is not nothing.
func duration(text string) (time.Duration, error) {
	span, err := lifecycle.ParseSpan(text)
	if err == nil && span == 0 {
		err = fmt.Errorf("%q is not a duration", text)
	}
	return time.Duration(span), err
}

func (a *app) listCommand() *cobra.Command {
	var retired bool
	command := &cobra.Command{
		Use:   "list [DRAWER]",
		Short: "List the drawers, or the items of one, without values",
		Args: func(_ *cobra.Command, arguments []string) error {
			if len(arguments) > 1 {
				return usagef("list takes one drawer at most")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, arguments []string) error {
			c, err := a.connected()
			if err != nil {
				return err
			}
			if len(arguments) == 0 {
				return a.listDrawers(cmd, c)
			}
			return a.listItems(cmd, c, arguments[0], retired)
		},
	}
	command.Flags().BoolVar(&retired, "retired", false, "the retired items of a drawer too")
	return command
}

func (a *app) listDrawers(cmd *cobra.Command, c *client.Client) error {
	drawers, err := c.Drawers(cmd.Context())
	if err != nil {
		return err
	}
	return a.show(drawers, func() {
		t := table{head: []string{"DRAWER", "ENVIRONMENT", "ITEMS", "DUE", "OVERDUE", "OWNER", "DESCRIPTION"}}
		for _, d := range drawers {
			t.add(d.Name, d.Environment, strconv.Itoa(d.Items), number(d.Due), number(d.Overdue), d.Owner, d.Description)
		}
		a.printTable(t, "No drawer that you may list. A curator makes one with: tansu drawer add NAME --env ENVIRONMENT")
		a.sayClosed(drawers...)
	})
}

// sayClosed says which drawers are closed, because their master keys are away.
func (a *app) sayClosed(drawers ...client.Drawer) {
	for _, d := range drawers {
		switch d.MasterKeyState {
		case drawerkeys.Withdrawn:
			fmt.Fprintf(a.Out, "\n✗ %s is closed: its master key %s was withdrawn.\n", d.Name, d.MasterKey)
		case drawerkeys.Missing:
			fmt.Fprintf(a.Out, "\n✗ %s is closed: its master key %s was not given since the chest was unlocked.\n", d.Name, d.MasterKey)
		}
	}
}

func (a *app) listItems(cmd *cobra.Command, c *client.Client, drawer string, retired bool) error {
	list := c.Drawer
	if retired {
		list = c.DrawerWithRetired
	}
	contents, err := list(cmd.Context(), drawer)
	if err != nil {
		return err
	}
	return a.show(contents, func() {
		defer a.sayClosed(contents.Drawer)
		t := table{head: []string{"ITEM", "STATE", "CURRENT", "VERSIONS", "ENDS", "CHANGED", "BY", "DESCRIPTION"}}
		now := time.Now()
		for _, it := range contents.Items {
			ends := ""
			if !it.EndsAt.IsZero() {
				ends = relative(it.EndsAt, now)
			}
			t.add(it.Name, it.State, number(it.Current), strconv.Itoa(it.Versions), ends, relative(it.ChangedAt, now), it.ChangedBy, it.Description)
		}
		a.printTable(t, "The drawer is empty, or you may list nothing in it. Put something in with: tansu put "+drawer+"/NAME")
	})
}

// number leaves a zero blank, so that what is not zero stands out.
func number(n int) string {
	if n == 0 {
		return "-"
	}
	return strconv.Itoa(n)
}

func (a *app) printTable(t table, empty string) {
	if len(t.rows) == 0 {
		a.say("%s", empty)
		return
	}
	t.print(a.Out)
}

func itemArgument(text string) (reference.Reference, error) {
	ref, err := reference.Parse(text)
	if err != nil {
		return ref, usageError{err}
	}
	return ref, nil
}

func (a *app) historyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "history DRAWER/ITEM",
		Short: "Show the versions of an item, without values",
		Args:  exactly("DRAWER/ITEM"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			history, err := c.History(cmd.Context(), ref.Drawer, ref.Item)
			if err != nil {
				return err
			}
			return a.show(history, func() { a.printHistory(history) })
		},
	}
}

func (a *app) printHistory(h client.History) {
	key, uses, stays, from := keyLines(h.Item.Key)
	fields(a.Out, "reference", h.Item.Reference, "kind", h.Item.Kind, "shape", h.Item.Shape, "key", key, "for", uses, "the key", stays,
		"decrypts from", from, "state", h.Item.State, "description",
		h.Item.Description,
		"owner", h.Item.Owner, "labels", labelsText(h.Item.Labels), "approval", approvalText(h.Item.Approval), "rules",
		strings.Join(ruleLines(h.Item.Rules), "; "), "for use only", useOnlyText(h.Item.UseOnly), "revision",
		strconv.FormatInt(h.Item.Revision, 10))
	if f := h.Item.Certificate; f != nil {
		fmt.Fprintln(a.Out)
		fields(a.Out, certificateLines(*f)...)
	}
	fmt.Fprintln(a.Out)
	size := "SIZE"
	if h.Item.Key != nil {
		size = "THUMBPRINT"
	}
	t := table{head: []string{"VERSION", "STATE", size, "WRITTEN", "BY", "NOT BEFORE", "ENDS", "NOTE"}}
	for _, v := range h.Versions {
		state := v.State
		if v.Current {
			state = "current"
		}
		size := strconv.Itoa(v.Size)
		if h.Item.Key != nil {
			size = cmp.Or(thumbprintOf(v.PublicKey), "-")
		}
		if v.EndsInNewline {
			size += " (newline)"
		}
		for i, field := range v.Fields {
			size += map[bool]string{true: ": ", false: ", "}[i == 0] + field.Name + " " + strconv.Itoa(field.Size)
		}
		t.add(strconv.Itoa(v.Version), state, size, stamp(v.CreatedAt), v.CreatedBy, stamp(v.NotBefore), stamp(v.EndsAt), v.Note)
	}
	t.print(a.Out)
	for _, alias := range h.Aliases {
		var users []string
		for _, u := range alias.Users {
			users = append(users, u.Subject+" "+relative(u.Last, time.Now()))
		}
		if len(users) == 0 {
			users = []string{"nobody"}
		}
		fmt.Fprintf(a.Out, "\nUntil %s also served as %s, which is read by: %s\n", stamp(alias.Until), alias.Reference, strings.Join(users, ", "))
	}
}

func useOnlyText(useOnly bool) string {
	if useOnly {
		return "no person is ever shown its value"
	}
	return ""
}

func labelsText(labels client.Labels) string {
	var parts []string
	for key, value := range labels {
		parts = append(parts, key+"="+value)
	}
	slices.Sort(parts)
	return strings.Join(parts, ", ")
}

func approvalText(needed bool) string {
	if needed {
		return "a second person has to agree before it is read"
	}
	return ""
}

func (a *app) describeCommand() *cobra.Command {
	var description, owner, of string
	var useOnly, keysOpen bool
	var labels map[string]string
	var approval []string
	command := &cobra.Command{
		Use:   "describe DRAWER[/ITEM]",
		Short: "Change the description, owner or labels of a drawer or an item, and whose reads need approval",
		Long: `Changes the description, owner or labels of a drawer or an item. Labels are all set at once; scopes of grants can ask
for them, so that a label that lets somebody do more takes the right to give access.

With --approval a drawer demands that somebody else agrees before the values of certain items are read.`,
		Example: `  tansu describe ticketing-prod/db-password --owner person:ticketing-lead --labels tier=database
  tansu describe fuel-billing-prod --approval 'ledger-*' --approval-of persons`,
		Args: exactly("DRAWER[/ITEM]"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			var changes client.Described
			if cmd.Flags().Changed("description") {
				changes.Description = &description
			}
			if cmd.Flags().Changed("owner") {
				changes.Owner = &owner
			}
			if useOnly {
				changes.UseOnly = &useOnly
			}
			if cmd.Flags().Changed("labels") {
				changes.Labels = labels
			}
			if cmd.Flags().Changed("keys-open") {
				changes.KeysOpen = &keysOpen
			}
			if cmd.Flags().Changed("approval") {
				changes.Approval = &client.Approval{Items: slices.DeleteFunc(approval, func(text string) bool { return text == "" }), Of: of}
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			return a.describe(cmd, c, arguments[0], changes)
		},
	}
	command.Flags().StringVar(&description, "description", "", "what it is for, on one line")
	command.Flags().StringVar(&owner, "owner", "", "who answers for it, such as person:ticketing-lead")
	command.Flags().StringToStringVar(&labels, "labels", nil, "all its `labels`: key=value, separated by commas; empty for none")
	command.Flags().BoolVar(&useOnly, "use-only", false, "of an item: no person is ever shown its value, for good")
	command.Flags().BoolVar(&keysOpen, "keys-open", false,
		"of a drawer: anybody gets the public halves of its keys, without signing in; --keys-open=false ends that")
	command.Flags().StringSliceVar(&approval, "approval", nil,
		"of a drawer: the `items`, as patterns, that nobody reads alone; empty for none")
	command.Flags().StringVar(&of, "approval-of", "everyone", "whose reads need it: everyone or persons")
	return command
}

func (a *app) describe(cmd *cobra.Command, c *client.Client, target string, changes client.Described) error {
	if reference.CheckName(target) == nil {
		contents, err := c.Drawer(cmd.Context(), target)
		if err != nil {
			return err
		}
		d, err := c.ChangeDrawer(cmd.Context(), target, contents.Drawer.Revision, changes)
		if err != nil {
			return err
		}
		for _, note := range d.Notes {
			a.say("note: %s", note)
		}
		return a.show(d, func() { fmt.Fprintf(a.Out, "Drawer %s is changed.\n", d.Name) })
	}
	ref, err := itemArgument(target)
	if err != nil {
		return err
	}
	history, err := c.History(cmd.Context(), ref.Drawer, ref.Item)
	if err != nil {
		return err
	}
	it, err := c.ChangeItem(cmd.Context(), ref.Drawer, ref.Item, history.Item.Revision, changes)
	if err != nil {
		return err
	}
	for _, note := range it.Notes {
		a.say("note: %s", note)
	}
	return a.show(it, func() { fmt.Fprintf(a.Out, "Item %s is changed.\n", it.Reference) })
}
