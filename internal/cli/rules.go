package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/reference"
)

func (a *app) rulesCommand() *cobra.Command {
	command := &cobra.Command{Use: "rules", Short: "See and set what a drawer requires of its items: age, ends, grace, owners, versions kept",
		RunE: noSubcommand}
	command.AddCommand(a.showRulesCommand(), a.setRulesCommand())
	return command
}

func (a *app) showRulesCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show DRAWER[/ITEM]", Short: "Show the rules of a drawer or an item", Args: exactly("DRAWER[/ITEM]"),
		Example: "  tansu rules show ticketing-prod",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			if reference.CheckName(arguments[0]) == nil {
				d, err := c.Drawer(ctx, arguments[0])
				if err != nil {
					return err
				}
				return a.show(d.Drawer, func() { a.printDrawerRules(d.Drawer) })
			}
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			h, err := c.History(ctx, ref.Drawer, ref.Item)
			if err != nil {
				return err
			}
			return a.show(h.Item, func() {
				a.printRules("In force for "+h.Item.Reference, h.Item.Rules)
				a.printRules("Of its own", h.Item.OwnRules)
			})
		}),
	}
}

func (a *app) printDrawerRules(d client.Drawer) {
	a.printRules("In force in "+d.Name, d.Rules)
	if d.NextRules != nil {
		a.printRules("From "+stamp(d.RulesFrom)+" in their place", *d.NextRules)
	}
}

func (a *app) printRules(head string, r client.Rules) {
	fmt.Fprintf(a.Out, "%s:\n", head)
	lines := ruleLines(r)
	if len(lines) == 0 {
		lines = []string{"nothing is demanded"}
	}
	for _, line := range lines {
		fmt.Fprintf(a.Out, "  - %s\n", line)
	}
}

// ruleLines says rules in sentences.
func ruleLines(r client.Rules) (lines []string) {
	add := func(is bool, format string, arguments ...any) {
		if is {
			lines = append(lines, fmt.Sprintf(format, arguments...))
		}
	}
	add(r.MaxAge != "", "a version is served for %s after it is made", r.MaxAge)
	add(r.NeedsEnd, "a new version must have an end")
	add(r.Warn != "", "a version is due %s before its end", r.Warn)
	add(r.Grace != "", "it is served for %s after its end, and each read is marked", r.Grace)
	add(r.HostKeeps != "", "an agent on a host keeps it, and serves it for %s while the chest is away", r.HostKeeps)
	add(r.Idle != "", "an item that nobody reads for %s is not served until it is resumed", r.Idle)
	add(r.Keep == 1, "one version is kept; an older one is shredded when one is added")
	add(r.Keep > 1, "at most %d versions are kept; older ones are shredded when one is added", r.Keep)
	add(r.Owner == "any", "each item has an owner")
	add(r.Owner == "person" || r.Owner == "team", "a %s owns each item", r.Owner)
	add(r.Recipe != "", "values are made up by %s", r.Recipe)
	add(r.RetireFor != "", "an item is retired for %s before it can be shredded", r.RetireFor)
	add(r.TwoToShred, "a second person agrees before anything is shredded")
	return lines
}

func (a *app) setRulesCommand() *cobra.Command {
	var given client.Rules
	var from string
	n := client.NewRules{}
	command := &cobra.Command{
		Use:   "set DRAWER[/ITEM]",
		Short: "Set rules of a drawer, or stricter ones of an item, after a look at what they do",
		Long: `Sets the rules that are given and leaves the others as they are; "none" takes a rule away. They apply to what is there
already: --preview says which items that affects. Rules by which something stops being served at once are refused unless
they begin later (--from) or --allow-refusals says that this is meant; rules by which a version that is refused now would
be served again, such as a grace for what has ended, ask for --allow-again.`,
		Example: `  tansu rules set ticketing-prod --max-age 90d --warn 14d --preview
  tansu rules set ticketing-prod --max-age 90d --warn 14d --from 30d
  tansu rules set fuel-billing-prod --needs-end --owner team --two-to-shred`,
		Args: exactly("DRAWER[/ITEM]"),
		RunE: func(cmd *cobra.Command, arguments []string) (err error) {
			if n.From, err = moment("--from", from); err != nil {
				return err
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			if reference.CheckName(arguments[0]) != nil {
				return a.setItemRules(cmd, c, arguments[0], given, n)
			}
			contents, err := c.Drawer(cmd.Context(), arguments[0])
			if err != nil {
				return err
			}
			n.Rules = changedRules(cmd, contents.Drawer.Rules, given)
			report, err := c.SetDrawerRules(cmd.Context(), arguments[0], contents.Drawer.Revision, n)
			if err != nil {
				return err
			}
			return a.show(report, func() { a.printRulesReport(report, n) })
		},
	}
	flags := command.Flags()
	flags.StringVar(&given.MaxAge, "max-age", "", "serve a version for this `span` after it is made: 90d")
	flags.BoolVar(&given.NeedsEnd, "needs-end", false, "a new version must have an end")
	flags.StringVar(&given.Warn, "warn", "", "a version is due this `span` before its end (14d when there is no rule)")
	flags.StringVar(&given.Grace, "grace", "", "serve it for this `span` after its end, marked; 30d at most")
	flags.StringVar(&given.HostKeeps, "host-keeps", "",
		"let agents on hosts keep it, and serve it for this `span` while the chest is away; 7d at most")
	flags.StringVar(&given.Idle, "idle", "", "stop serving what nobody has read for this `span`")
	flags.IntVar(&given.Keep, "keep", 0, "how many `versions` are kept; 0 for all")
	flags.StringVar(&given.Owner, "owner", "", "who must own an item: any, person, team or none")
	flags.StringVar(&given.Recipe, "recipe", "", "the `recipe` by which values are made up, such as characters:32")
	flags.StringVar(&given.RetireFor, "retire-for", "", "an item is retired for this `span` before it can be shredded")
	flags.BoolVar(&given.TwoToShred, "two-to-shred", false, "a second person agrees before anything is shredded")
	flags.StringVar(&from, "from", "", "the rules begin at this `time` (2026-12-01, or RFC 3339) or after this long (30d)")
	flags.BoolVar(&n.AllowRefusals, "allow-refusals", false, "also when something stops being served at once")
	flags.BoolVar(&n.AllowAgain, "allow-again", false, "also when a version that is refused now would be served again")
	flags.BoolVar(&n.Preview, "preview", false, "only show what would happen")
	return command
}

// changedRules puts what was given in place of what is there.
func changedRules(cmd *cobra.Command, r, given client.Rules) client.Rules {
	flag := cmd.Flags().Changed
	text := func(name string, to *string, value string) {
		if flag(name) {
			*to = value
			if value == "none" {
				*to = ""
			}
		}
	}
	text("max-age", &r.MaxAge, given.MaxAge)
	text("warn", &r.Warn, given.Warn)
	text("grace", &r.Grace, given.Grace)
	text("host-keeps", &r.HostKeeps, given.HostKeeps)
	text("idle", &r.Idle, given.Idle)
	text("owner", &r.Owner, given.Owner)
	text("recipe", &r.Recipe, given.Recipe)
	text("retire-for", &r.RetireFor, given.RetireFor)
	if flag("needs-end") {
		r.NeedsEnd = given.NeedsEnd
	}
	if flag("two-to-shred") {
		r.TwoToShred = given.TwoToShred
	}
	if flag("keep") {
		r.Keep = given.Keep
	}
	return r
}

func (a *app) setItemRules(cmd *cobra.Command, c *client.Client, text string, given client.Rules, n client.NewRules) error {
	if n.Preview || !n.From.IsZero() {
		return usagef("--preview and --from are for the rules of a drawer")
	}
	ref, err := itemArgument(text)
	if err != nil {
		return err
	}
	h, err := c.History(cmd.Context(), ref.Drawer, ref.Item)
	if err != nil {
		return err
	}
	n.Rules = changedRules(cmd, h.Item.OwnRules, given)
	it, err := c.SetItemRules(cmd.Context(), ref.Drawer, ref.Item, h.Item.Revision, n)
	if err != nil {
		return err
	}
	return a.show(it, func() { a.printRules("In force for "+it.Reference, it.Rules) })
}

func (a *app) printRulesReport(r client.RulesReport, n client.NewRules) {
	t := table{head: []string{"ITEM", "WHAT THE RULES DO"}}
	for _, it := range r.Items {
		t.add(it.Reference, strings.Join(effectLines(it), "; "))
	}
	a.printTable(t, "They change nothing for what is there now.")
	if r.More > 0 {
		fmt.Fprintf(a.Out, "and %d more\n", r.More)
	}
	if !r.Done {
		fmt.Fprintf(a.Out, "\nThis was a preview: nothing is changed. Not served any more at once: %d. Served again: %d.\n", r.Stops, r.Again)
		return
	}
	fmt.Fprintln(a.Out)
	a.printDrawerRules(r.Drawer)
}

// effectLines says what rules do to one item.
func effectLines(it client.RuledItem) (lines []string) {
	if !it.Stops.IsZero() {
		why := map[string]string{"ended": "too old", "idle": "nobody reads it"}[it.Because]
		when := "at once"
		if it.Stops.After(time.Now()) {
			when = "from " + stamp(it.Stops)
		}
		lines = append(lines, "not served any more "+when+": "+why)
	}
	if len(it.Again) > 0 {
		lines = append(lines, "refused now, and served again: version "+numbersText(it.Again))
	}
	if it.Due {
		lines = append(lines, "becomes due")
	}
	if len(it.Surplus) > 0 {
		lines = append(lines, "the next version shreds version "+numbersText(it.Surplus))
	}
	if it.NoEnd {
		lines = append(lines, "its next version needs an end")
	}
	if it.Ownerless {
		lines = append(lines, "needs another owner")
	}
	return lines
}

func numbersText(list []int) string {
	var numbers []string
	for _, n := range list {
		numbers = append(numbers, strconv.Itoa(n))
	}
	return strings.Join(numbers, ", ")
}

func (a *app) moveCommand() *cobra.Command {
	var n client.NewPlace
	command := &cobra.Command{
		Use:   "move DRAWER/ITEM DRAWER/NAME",
		Short: "Rename an item, or move it to another drawer, with its history",
		Long: `Its versions are encrypted under the key of the drawer where it goes. References to the old name break, unless
--old-name-works lets them go on for a while: then who may read the old name still may, and tansu history shows who does.
A move that lets anybody do more than before requires the right to give access.`,
		Example: "  tansu item move ticketing-prod/db-password ticketing-prod/db-main-password --old-name-works 30d",
		Args:    exactly("DRAWER/ITEM", "DRAWER/NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			to, err := itemArgument(arguments[1])
			if err != nil {
				return err
			}
			if ref.Version != 0 || to.Version != 0 || ref.Field != "" || to.Field != "" {
				return usagef("an item is moved as a whole: leave out versions and fields")
			}
			n.Drawer, n.Name = to.Drawer, to.Item
			m, err := c.Move(ctx, ref.Drawer, ref.Item, n)
			if err != nil {
				return err
			}
			return a.show(m, func() { a.printMoved(m) })
		}),
	}
	command.Flags().StringVar(&n.Alias, "old-name-works", "", "for how long the old name goes on working: a `span` such as 30d")
	return command
}

func (a *app) printMoved(m client.Moved) {
	fmt.Fprintf(a.Out, "%s is now %s.\n", m.Old, m.Item.Reference)
	var readers []string
	for _, r := range m.Readers {
		readers = append(readers, r.Subject)
	}
	switch {
	case !m.Until.IsZero():
		fmt.Fprintf(a.Out, "The old name works until %s.\n", stamp(m.Until))
	case len(readers) > 0:
		fmt.Fprintln(a.Out, "The old name does not work any more.")
	}
	if len(readers) > 0 {
		fmt.Fprintf(a.Out, "Who read it under the old name in the last 90 days: %s\n", strings.Join(readers, ", "))
	}
}

func (a *app) forgetNameCommand() *cobra.Command {
	return &cobra.Command{
		Use: "forget-name DRAWER/OLD-NAME", Short: "Make an old name of an item stop working at once", Args: exactly("DRAWER/OLD-NAME"),
		Example: "  tansu item forget-name ticketing-prod/db-password",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			if err := c.EndAlias(ctx, ref.Drawer, ref.Item); err != nil {
				return err
			}
			return a.show(map[string]string{"ended": ref.String()}, func() { fmt.Fprintf(a.Out, "%s does not work any more.\n", ref) })
		}),
	}
}

func (a *app) differenceCommand() *cobra.Command {
	return &cobra.Command{
		Use: "difference DRAWER/ITEM@VERSION DRAWER/ITEM@VERSION", Short: "What differs between two versions, without their values",
		Args:    exactly("DRAWER/ITEM@VERSION", "DRAWER/ITEM@VERSION"),
		Example: "  tansu item difference ticketing-prod/db-password@1 ticketing-prod/db-password@2",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			var versions [2]client.Version
			for i, text := range arguments {
				ref, err := itemArgument(text)
				if err != nil {
					return err
				}
				h, err := c.History(ctx, ref.Drawer, ref.Item)
				if err != nil {
					return err
				}
				at := slices.IndexFunc(h.Versions, func(v client.Version) bool { return v.Version == ref.Version })
				if at < 0 {
					return usagef("%s: name a version that exists, such as %s/%s@%d", text, ref.Drawer, ref.Item, len(h.Versions))
				}
				versions[i] = h.Versions[at]
			}
			t := table{head: []string{"", arguments[0], arguments[1]}}
			rows := [][3]string{}
			for _, row := range versionFacts(versions[0], versions[1]) {
				if row[1] != row[2] {
					t.add(row[0], row[1], row[2])
					rows = append(rows, row)
				}
			}
			return a.show(rows, func() { a.printTable(t, "They differ in nothing but perhaps the value: tansu check A --same-as B") })
		}),
	}
}

// versionFacts are what is known of two versions, side by side.
func versionFacts(x, y client.Version) (rows [][3]string) {
	add := func(name, a, b string) { rows = append(rows, [3]string{name, a, b}) }
	add("state", x.State, y.State)
	add("size", bytesText(x.Size), bytesText(y.Size))
	add("newline at its end", yesNo(x.EndsInNewline), yesNo(y.EndsInNewline))
	add("not before", stamp(x.NotBefore), stamp(y.NotBefore))
	add("not after", stamp(x.NotAfter), stamp(y.NotAfter))
	add("ends", stamp(x.EndsAt), stamp(y.EndsAt))
	add("written", stamp(x.CreatedAt), stamp(y.CreatedAt))
	add("by", x.CreatedBy, y.CreatedBy)
	add("note", x.Note, y.Note)
	names := []string{}
	size := func(v client.Version, name string) string {
		for _, f := range v.Fields {
			if f.Name == name {
				return bytesText(f.Size)
			}
		}
		return "not there"
	}
	for _, f := range append(slices.Clone(x.Fields), y.Fields...) {
		if !slices.Contains(names, f.Name) {
			names = append(names, f.Name)
			add("field "+f.Name, size(x, f.Name), size(y, f.Name))
		}
	}
	return rows
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (a *app) rotateKeyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "rotate-key NAME",
		Short: "Rotate a drawer's key while it is in use",
		Long: `Makes a new key for a drawer and wraps the keys of its versions under it; then the old one is destroyed. Nothing waits for
it. If it is interrupted, run it again: it continues where it stopped.`,
		Example: "  tansu drawer rotate-key ticketing-prod",
		Args:    exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			for {
				r, err := c.RotateKey(ctx, arguments[0])
				if err != nil {
					return err
				}
				if r.Done {
					return a.show(r, func() { fmt.Fprintf(a.Out, "%s is under key %d, and the old key is destroyed.\n", arguments[0], r.Key) })
				}
				a.say("key %d: %s left", r.Key, plural(r.Left, "version"))
			}
		}),
	}
}

func (a *app) shredDrawerCommand() *cobra.Command {
	var name string
	command := &cobra.Command{
		Use:   "shred NAME",
		Short: "Destroy a drawer's key, and with it all that was ever in it",
		Long: `Everything in it must be retired first. Nothing brings it back from this database, not even the passphrase that unlocks the
chest. Backups made before still hold it: destroy those too, or wait until they end. Grants that name the drawer stay, and
would apply to a new drawer of that name: they are listed, so that you can end them.`,
		Example: "  tansu drawer shred crew-rota-staging --name crew-rota-staging",
		Args:    exactly("NAME"),
		RunE: func(cmd *cobra.Command, arguments []string) (err error) {
			typed := name
			if typed == "" {
				if typed, err = a.typed("Type its exact name to shred it for good: "); err != nil {
					return err
				}
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			r, err := c.ShredDrawer(cmd.Context(), arguments[0], typed)
			if err != nil {
				return err
			}
			return a.show(r, func() {
				fmt.Fprintf(a.Out, "Drawer %s is shredded, with %s.\n", r.Name, plural(r.Items, "item"))
				for _, scope := range r.Grants {
					fmt.Fprintf(a.Out, "A grant on %s is left: end it before the name is used again (tansu grant list).\n", scope)
				}
				for _, old := range r.OldNames {
					fmt.Fprintf(a.Out, "The old name %s worked until now: read %s instead.\n", old.Reference, cmp.Or(old.Now, "it by its own name"))
				}
			})
		},
	}
	command.Flags().StringVar(&name, "name", "", "the exact `name`, instead of typing it")
	return command
}
