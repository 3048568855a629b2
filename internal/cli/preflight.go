package cli

import (
	"context"
	"fmt"

	"slices"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/manifest"
)

func (a *app) preflightCommand() *cobra.Command {
	var o needsOptions
	var p client.Preflight
	var ask string
	var compare bool
	command := &cobra.Command{
		Use:   "preflight",
		Short: "See whether everything that a manifest lists would be served, before anything runs",
		Long: `Asks about everything that the manifest lists at once: identity, network, grant, state, version, field and the time that is
left. No value is opened. One line each; the exit code is 3 when something would not be served.

With --as it asks about somebody else: whoever may grant or read the trail there can, and whoever owns the app. With --compare it
says where that app may do more or less than you, who run the same code at a desk. With --request it asks for whatever lacks a
grant in the same step.`,
		Example: `  tansu preflight
  tansu preflight --in production --as app:ticket-api --addr 10.20.0.7
  tansu preflight --in production --request "ticket-api reads its database password"`,
		Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			m, needs, err := o.load()
			if err != nil {
				return err
			}
			checks, err := checkAll(ctx, c, p, needs)
			if err != nil {
				return err
			}
			whoami, err := c.Me(ctx)
			if err != nil {
				return err
			}
			who := p.Subject
			if who == "" {
				who = whoami.Subject
			}
			if m.App != "" && who != "app:"+m.App {
				a.say("The manifest is for app:%s, and this asks as %s: what app:%s may do can differ (--compare, --as app:%s).", m.App, who, m.App,
					m.App)
			}
			if compare {
				if err := a.compareWith(ctx, c, m.App, who, needs, checks); err != nil {
					return err
				}
			}
			a.warnEnvironment(o.environment, checks)
			failed := 0
			for i, ch := range checks {
				if fails(needs[i], ch) {
					failed++
				}
			}
			if err := a.show(checks, func() { a.printChecks(needs, checks, failed) }); err != nil {
				return err
			}
			if failed == 0 {
				return nil
			}
			if ask != "" {
				if err := a.askForAll(ctx, c, checks, ask); err != nil {
					return err
				}
			}
			return answeredNo{}
		}),
	}
	o.add(command)
	command.Flags().StringVar(&p.Subject, "as", "", "whether this `subject` would be served, such as app:ticket-api")
	command.Flags().StringVar(&p.Addr, "addr", "", "from this `address`, with --as")
	command.Flags().StringVar(&p.Reason, "reason", "", "with this reason stated, with --as")
	command.Flags().BoolVar(&compare, "compare", false, "say where the manifest's app would be served more or less than this")
	command.Flags().StringVar(&ask, "request", "", "ask for what lacks a grant, `because`")
	return command
}

// compareWith says where the app of the manifest would be answered something else.
func (a *app) compareWith(ctx context.Context, c *client.Client, app, who string, needs []manifest.Resolved, checks []client.Check) error {
	if app == "" || who == "app:"+app {
		return usagef("there is nothing to compare: the manifest names no app, or this is it")
	}
	others, err := checkAll(ctx, c, client.Preflight{Subject: "app:" + app}, needs)
	if err != nil {
		return err
	}
	same := true
	for i, other := range others {
		mine := checks[i]
		switch {
		case other.Served == mine.Served && other.Version == mine.Version:
			continue
		case other.Served && !mine.Served:
			a.say("%s: app:%s would be served version %d, and %s nothing.", mine.Reference, app, other.Version, who)
		case mine.Served && !other.Served:
			a.say("%s: %s would be served version %d, and app:%s nothing: %s", mine.Reference, who, mine.Version, app, other.Detail)
		default:
			a.say("%s: %s would be served version %d, and app:%s version %d.", mine.Reference, who, mine.Version, app, other.Version)
		}
		same = false
	}
	if same {
		a.say("app:%s would be served the same.", app)
	}
	return nil
}

// checkAll asks about all needs, as many at once as one call takes.
func checkAll(ctx context.Context, c *client.Client, p client.Preflight, needs []manifest.Resolved) ([]client.Check, error) {
	references, at := referencesOf(needs)
	var list []client.Check
	for part := range slices.Chunk(references, mostAtOnce) {
		p.References = part
		checks, err := c.Check(ctx, p)
		if err != nil {
			return nil, err
		}
		list = append(list, checks...)
	}
	checks := make([]client.Check, len(needs))
	for i := range needs {
		checks[i] = list[at[i]]
	}
	return checks, nil
}

// fails reports whether a check keeps what needs it from running.
func fails(n manifest.Resolved, ch client.Check) bool {
	return !ch.Served && !(n.Optional && ch.Reason == "not_found")
}

func (a *app) printChecks(needs []manifest.Resolved, checks []client.Check, failed int) {
	t := table{head: []string{"", "HANDED OVER AS", "REFERENCE", "VERSION", ""}}
	for i, ch := range checks {
		mark, version, detail := "✓", "", ch.Warning
		if ch.Served {
			version = fmt.Sprint(ch.Version)
			if ch.Warning != "" {
				mark = "!"
			}
			if !ch.NotAfter.IsZero() {
				detail = joined(detail, "ends "+relative(ch.NotAfter, time.Now()))
			}
			if !ch.Access.IsZero() {
				detail = joined(detail, "access ends "+relative(ch.Access, time.Now()))
			}
		} else if mark, detail = "✗", ch.Detail; !fails(needs[i], ch) {
			mark, detail = "–", "optional, and missing"
		}
		t.add(mark, needs[i].Delivery(), ch.Reference, version, detail)
	}
	a.printTable(t, "")
	if failed == 0 {
		fmt.Fprintf(a.Out, "\nAll %d would be served. No value was opened.\n", len(checks))
		return
	}
	fmt.Fprintf(a.Out, "\n%d of %d would not be served. No value was opened.\n", failed, len(checks))
	said := map[string]bool{}
	for _, ch := range checks {
		if ch.Remedy != nil && !said[ch.Remedy.Command] {
			if len(said) == 0 {
				fmt.Fprint(a.Out, "What would allow it:\n")
			}
			said[ch.Remedy.Command] = true
			fmt.Fprintf(a.Out, "  %s\n", ch.Remedy.Command)
		}
	}
}

func joined(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// askForAll files a request for each grant that is missing.
func (a *app) askForAll(ctx context.Context, c *client.Client, checks []client.Check, why string) error {
	asked := map[string]bool{}
	for _, ch := range checks {
		if ch.Served || ch.Remedy == nil || asked[ch.Remedy.Command] {
			continue
		}
		asked[ch.Remedy.Command] = true
		r, err := c.AskFor(ctx, client.NewRequest{Reason: why,
			Grant: &client.NewGrant{Subject: ch.Remedy.Subject, Role: ch.Remedy.Role, Scope: ch.Remedy.Scope}})
		if err != nil {
			return err
		}
		a.say("Asked for %s on %s: request %s.", ch.Remedy.Role, ch.Remedy.Scope, r.ID)
	}
	return nil
}

func (a *app) manifestCommand() *cobra.Command {
	command := &cobra.Command{Use: "manifest", Short: "Check a manifest, and print its JSON Schema"}
	command.AddCommand(&cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of manifests, for editors", Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			_, err := a.Out.Write(manifest.Schema())
			return err
		},
	})
	var o needsOptions
	check := &cobra.Command{
		Use: "check", Short: "Read a manifest without asking a chest, and list what it needs", Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			_, needs, err := o.load()
			if err != nil {
				return err
			}
			t := table{head: []string{"HANDED OVER AS", "REFERENCE"}}
			for _, n := range needs {
				t.add(n.Delivery(), n.Reference.String())
			}
			a.printTable(t, "")
			return nil
		},
	}
	o.add(check)
	command.AddCommand(check)
	return command
}
