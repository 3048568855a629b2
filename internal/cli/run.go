package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"github.com/spf13/cobra"

	"tansu/internal/core/leak"
	"tansu/internal/core/manifest"
	"tansu/internal/launch"
	"tansu/internal/server"
)

// exitCodeOf is the exit code of a program that was run, as our own.
type exitCodeOf int

func (e exitCodeOf) Error() string { return fmt.Sprintf("the program ended with exit code %d", int(e)) }

func (a *app) runCommand() *cobra.Command {
	var o needsOptions
	var unmasked bool
	command := a.withReason(&cobra.Command{
		Use:   "run -- PROGRAM [ARGUMENT …]",
		Short: "Run a program with the values that its manifest lists, and leave none behind",
		Long: `Reads every value that the manifest lists, as whoever is signed in, and starts the program with them: in its environment, on
its standard input, or as private files that exist in memory only, whose paths are in variables. If one value is not served,
nothing is started, and each missing one is said. Nothing is written to a file system; when the program ends, or is killed,
nothing is left.

What the program writes is passed on with the values masked, in the forms in which programs usually write them. Signals,
the exit code and the terminal pass through.`,
		Example: `  tansu run -- ./ticket-api
  tansu run --in staging -- psql --no-password
  tansu run --in production -- sh -c 'nginx -c "$NGINX_CONF"'`,
		RunE: func(cmd *cobra.Command, arguments []string) error {
			if len(arguments) == 0 {
				return usagef("PROGRAM is missing; usage: %s", cmd.UseLine())
			}
			path, err := exec.LookPath(arguments[0])
			if err != nil {
				return usagef("%v", err)
			}
			m, needs, err := o.load()
			if err != nil {
				return err
			}
			profile, err := a.currentProfile()
			if err != nil {
				return err
			}
			c, err := profile.client(a.reason, a.warnSteward)
			if err != nil {
				return err
			}
			if m.App != "" && profile.Subject != "app:"+m.App {
				a.say("The manifest is for app:%s, and this runs it as %s, who may be allowed more or less: tansu preflight --as app:%s", m.App, profile.Subject, m.App)
			}
			if err := server.HideMemory(); err != nil {
				return err
			}
			references, at := referencesOf(needs)
			values, err := fetchAll(cmd.Context(), c, references)
			if err != nil {
				return err
			}
			program := launch.Program{Path: path, Arguments: arguments[1:], Environment: withoutThese(os.Environ(), needs), In: a.In, Out: a.Out, Err: a.Err}
			if err := handOver(&program, needs, values, at); err != nil {
				return err
			}
			if !unmasked {
				program.Mask = a.maskerOf(values)
			}
			code, err := program.Run(context.WithoutCancel(cmd.Context())) // what would cancel it is passed on to the program
			if err == nil && code != 0 {
				return exitCodeOf(code)
			}
			return err
		},
	})
	command.Flags().SetInterspersed(false)
	o.add(command)
	command.Flags().BoolVar(&unmasked, "show-values", false, "let what the program writes through as it is, values and all")
	return command
}

// withoutThese leaves out variables that needs set, because some programs take the first of two, and what is only for this
// command: the place where tokens are kept.
func withoutThese(environment []string, needs []manifest.Resolved) (list []string) {
	set := map[string]bool{"TANSU_HOME": true}
	for _, n := range needs {
		set[n.Variable] = true
	}
	for _, one := range environment {
		if name, _, _ := strings.Cut(one, "="); !set[name] {
			list = append(list, one)
		}
	}
	return list
}

// mostInVariable is how many bytes Linux takes for one variable (MAX_ARG_STRLEN), with its name.
const mostInVariable = 128 << 10

// handOver puts each value where its need says.
func handOver(program *launch.Program, needs []manifest.Resolved, values []fetched, at []int) error {
	for i, n := range needs {
		content := values[at[i]].content
		switch {
		case n.Stdin:
			program.Stdin = content
		case n.File != "":
			mode, err := n.Permissions()
			if err != nil {
				return err
			}
			program.Files = append(program.Files, launch.File{Name: n.File, Variable: n.Variable, Mode: mode, Content: content})
		case bytes.IndexByte(content, 0) >= 0:
			return fmt.Errorf("%s: the value has a zero byte, which no environment variable can hold: hand it over as a file", n.Variable)
		case len(n.Variable)+1+len(content) >= mostInVariable:
			return fmt.Errorf("%s: the value has %d bytes, and an environment variable holds less than %d: hand it over as a file", n.Variable, len(content), mostInVariable)
		default:
			program.Environment = append(program.Environment, n.Variable+"="+string(content))
		}
	}
	return nil
}

// maskerOf looks for values, and says which are too small to be looked for.
func (a *app) maskerOf(values []fetched) *leak.Matcher {
	var secrets []leak.Secret
	for _, v := range values {
		secrets = append(secrets, leak.Secret{Name: v.reference, Value: v.content})
	}
	matcher, tooSmall := leak.NewMatcher(secrets)
	for _, name := range tooSmall {
		a.say("%s is too short to be masked: it would be found everywhere.", name)
	}
	return matcher
}
