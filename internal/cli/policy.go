package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/policytext"
	"tansu/internal/wholefile"
)

func (a *app) policyCommand() *cobra.Command {
	command := &cobra.Command{
		Use:   "policy",
		Short: "Keep who may do what as a file: export, check, compare and apply it",
		Long: `The whole access state (teams, roles, grants, labels and approvals of drawers) as one YAML file that can be read,
reviewed and kept in a repository. The file is the whole state: what it leaves out is ended when it is applied.`,
		RunE: noSubcommand,
	}
	command.AddCommand(a.policyExportCommand(), a.policyCheckCommand(), a.policyDiffCommand(), a.policyApplyCommand(), a.policySchemaCommand())
	return command
}

func (a *app) policyExportCommand() *cobra.Command {
	var to string
	command := &cobra.Command{
		Use: "export", Short: "Write the access state as it is now; expectations that the file has stay in it", Args: exactly(),
		Example: "  tansu policy export --to access.yaml",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			text, err := c.Policy(ctx)
			if err != nil {
				return err
			}
			if to == "" {
				_, err = io.WriteString(a.Out, text)
				return err
			}
			content := []byte(text)
			if before, err := os.ReadFile(to); err == nil {
				content = policytext.WithExpectations(content, before)
			}
			if err := wholefile.Replace(to, modeOf(to), wholefile.Content(content)); err != nil {
				return err
			}
			kept := ""
			if len(content) > len(text) {
				kept = ", and the expectations that the file had"
			}
			a.say("The access state is in %s%s.", to, kept)
			return nil
		}),
	}
	command.Flags().StringVar(&to, "to", "", "write to this `file` instead of standard output")
	return command
}

// modeOf is the mode of a file that is there, or that of a new one that others may read.
func modeOf(path string) os.FileMode {
	if before, err := os.Stat(path); err == nil {
		return before.Mode().Perm()
	}
	return 0o644
}

// readPolicy reads a policy file and what it says; every problem is told with its line.
func readPolicy(path string) ([]byte, *policytext.Document, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, nil, fmt.Errorf("read the policy: %w", err)
	}
	document, err := policytext.Parse(text, time.LoadLocation)
	var problems policytext.Problems
	if errors.As(err, &problems) {
		lines := make([]string, len(problems))
		for i, p := range problems {
			lines[i] = fmt.Sprintf("%s:%d:%d: %s", path, p.Line, p.Column, p.Text)
		}
		return nil, nil, usageError{errors.New("the policy has problems\n" + strings.Join(lines, "\n"))}
	}
	return text, document, err
}

func (a *app) policyCheckCommand() *cobra.Command {
	var live bool
	command := &cobra.Command{
		Use:   "check FILE",
		Short: "Check a file and its expectations, without a chest",
		Long: `Checks that a policy file can be read, and that its own grants meet its expectations. It needs no chest, so that a
pipeline can run it. With --live the expectations are held against the chest as it is now instead.

The exit code is 0 when all expectations hold, 3 when one does not, and 2 when the file has problems.`,
		Example: "  tansu policy check access.yaml\n  tansu policy check access.yaml --live",
		Args:    exactly("FILE"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			_, document, err := readPolicy(arguments[0])
			if err != nil {
				return err
			}
			for _, note := range document.Notes {
				a.say("note: %s", note)
			}
			state := document
			if live {
				if state, err = a.livePolicy(cmd.Context()); err != nil {
					return err
				}
			}
			return a.tellExpectations(arguments[0], document, document.CheckAgainst(state, time.LoadLocation, time.Now()))
		},
	}
	command.Flags().BoolVar(&live, "live", false, "hold the expectations against the chest as it is now")
	return command
}

func (a *app) livePolicy(ctx context.Context) (*policytext.Document, error) {
	c, err := a.connected()
	if err != nil {
		return nil, err
	}
	text, err := c.Policy(ctx)
	if err != nil {
		return nil, err
	}
	document, err := policytext.Parse([]byte(text), time.LoadLocation)
	if err != nil {
		return nil, err
	}
	for i := range document.Grants {
		document.Grants[i].At = policytext.At{} // its lines are not those of the file
	}
	return document, nil
}

func (a *app) tellExpectations(path string, document *policytext.Document, failures []policytext.Failure) error {
	failed := []client.FailedExpectation{}
	for _, f := range failures {
		failed = append(failed, client.FailedExpectation{Line: f.Expectation.Line, Expectation: f.Expectation.String(), Why: f.Why})
	}
	err := a.show(map[string]any{"expectations": len(document.Expectations), "failures": failed}, func() {
		for _, f := range failures {
			fmt.Fprintf(a.Out, "%s:%d:%d: it does not hold that %s\n  %s\n", path, f.Expectation.Line, f.Expectation.Column, f.Expectation, f.Why)
		}
		fmt.Fprintf(a.Out, "%d of %s hold. %s, %s, %s.\n", len(document.Expectations)-len(failures),
			plural(len(document.Expectations), "expectation"),
			plural(len(document.Grants), "grant"), plural(len(document.Teams), "team"), plural(len(document.Roles), "custom role"))
		if n := document.Alone(); n > 0 {
			fmt.Fprintf(a.Out, "%d of them say who comes to something alone, which only a chest can tell: tansu policy diff %s\n", n, path)
		}
	})
	if err != nil || len(failures) == 0 {
		return err
	}
	return answeredNo{}
}

func (a *app) policyDiffCommand() *cobra.Command {
	return &cobra.Command{
		Use: "diff FILE", Short: "Show who would gain and lose what if the file were applied", Args: exactly("FILE"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			text, _, err := readPolicy(arguments[0])
			if err != nil {
				return err
			}
			d, err := c.DiffPolicy(ctx, string(text))
			if err != nil {
				return err
			}
			return a.show(d, func() {
				a.printPolicyDifference(d)
				switch {
				case len(d.Steps) == 0:
				case d.Stale:
					fmt.Fprintf(a.Out, "\nThe file is based on another access state than the one it was compared with. If this is what you want:\n  "+
						"tansu policy apply %s --onto %s\n", arguments[0], d.Mark)
				default:
					fmt.Fprintf(a.Out, "\nTo do it: tansu policy apply %s --onto %s\n", arguments[0], d.Mark)
				}
			})
		}),
	}
}

func (a *app) printPolicyDifference(d client.PolicyDifference) {
	if len(d.Steps) == 0 {
		fmt.Fprintln(a.Out, "No difference: the chest is as the file says.")
		return
	}
	a.printDifference(d.Difference)
	fmt.Fprintln(a.Out, "\nStep by step:")
	for _, step := range d.Steps {
		fmt.Fprintln(a.Out, "  "+printable(step))
	}
	for _, f := range d.Failures {
		fmt.Fprintf(a.Out, "\nLine %d: it would not hold that %s: %s\n", f.Line, f.Expectation, f.Why)
	}
}

// printDifference says who gains and who loses what.
func (a *app) printDifference(d client.Difference) {
	t := table{head: []string{"SUBJECT", "", "ACTIONS", "ON"}}
	for _, change := range d.Changes {
		on := make([]string, len(change.Targets))
		for i, target := range change.Targets {
			if on[i] = target; target == "" {
				on[i] = "(chest)"
			}
		}
		for _, part := range []struct {
			word    string
			actions []string
		}{{"+ gains", change.Gained}, {"- loses", change.Lost}, {"~ keeps, on other terms", change.Altered}} {
			if len(part.actions) > 0 {
				t.add(change.Subject, part.word, strings.Join(briefly(part.actions), " "), some(on))
			}
		}
	}
	a.printTable(t, "Nobody gains or loses anything on what exists now.")
	for _, note := range d.Notes {
		a.say("note: %s", note)
	}
}

// mostShown is how many targets one line names.
const mostShown = 6

func some(list []string) string {
	if len(list) <= mostShown {
		return strings.Join(list, " ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:mostShown], " "), len(list)-mostShown)
}

func (a *app) policyApplyCommand() *cobra.Command {
	var p client.Applying
	var stamp bool
	command := &cobra.Command{
		Use:   "apply FILE",
		Short: "Make the access state what the file says, all of it or nothing",
		Long: `Applies a policy in one step: all of it, or nothing. It is refused when the access state is not the one that the file
is based on any more, or that you name with --onto after looking at the difference; when one of its expectations does
not hold; when it would widen your own access; and when nobody could give access any more afterwards.`,
		Example: "  tansu policy diff access.yaml\n  tansu policy apply access.yaml --onto 3f9a0c1d2e4b5a69 --stamp",
		Args:    exactly("FILE"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			text, _, err := readPolicy(arguments[0])
			if err != nil {
				return err
			}
			p.Policy = string(text)
			d, err := c.ApplyPolicy(ctx, p)
			if err != nil {
				return err
			}
			if stamp {
				if err := wholefile.Replace(arguments[0], modeOf(arguments[0]), wholefile.Content(stamped(text, d.Mark))); err != nil {
					return err
				}
			}
			return a.show(d, func() {
				a.printPolicyDifference(d)
				fmt.Fprintf(a.Out, "\nIn force now. The access state is %s.\n", d.Mark)
			})
		}),
	}
	command.Flags().StringVar(&p.Onto, "onto", "", "the `mark` of the access state that you have seen; the file's based_on when left out")
	command.Flags().BoolVar(&p.AllowLockout, "allow-lockout", false, "apply it even if nobody could give access any more")
	command.Flags().BoolVar(&stamp, "stamp", false, "then write the new mark into the file's based_on, for the next time")
	return command
}

// stamped writes the mark of the access state into a policy's based_on, which it adds when there is none.
func stamped(text []byte, mark string) []byte {
	lines := strings.SplitAfter(string(text), "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, "based_on:") {
			lines[i] = "based_on: \"" + mark + "\"\n"
			return []byte(strings.Join(lines, ""))
		}
	}
	for i, line := range lines {
		if strings.HasPrefix(line, "tansu_policy:") {
			lines[i] = strings.TrimSuffix(line, "\n") + "\nbased_on: \"" + mark + "\"\n"
			break
		}
	}
	return []byte(strings.Join(lines, ""))
}

func (a *app) policySchemaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of policy files, for editors", Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			_, err := a.Out.Write(policytext.Schema())
			return err
		},
	}
}
