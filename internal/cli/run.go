package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
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
	var onChange string
	command := a.withReason(&cobra.Command{
		Use:   "run -- PROGRAM [ARGUMENT …]",
		Short: "Run a program with the values that its manifest lists, and leave none behind",
		Long: `Reads every value that the manifest lists, as whoever is signed in, and starts the program with them: in its environment, on
its standard input, or as private files that exist in memory only, whose paths are in variables. If one value is not served,
nothing is started, and each missing one is said. Nothing is written to a file system; when the program ends, or is killed,
nothing is left.

What the program writes is passed on with the values masked, in the forms in which programs usually write them. Signals,
the exit code and the terminal pass through.

With --on-change restart, the program is started anew when a value that it has gets a new current version: the new values are
read first, and if one of them is not served, it goes on with those that it has.`,
		Example: `  tansu run -- ./ticket-api
  tansu run --in staging -- psql --no-password
  tansu run --on-change restart -- ./gate-controller
  tansu run --in production -- sh -c 'nginx -c "$NGINX_CONF"'`,
		RunE: func(cmd *cobra.Command, arguments []string) error {
			if len(arguments) == 0 {
				return usagef("PROGRAM is missing; usage: %s", cmd.UseLine())
			}
			if _, known := signals[onChange]; onChange != "" && onChange != restart && !known {
				return usagef("--on-change is %q; allowed: restart, HUP, USR1, USR2, TERM", onChange)
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
				a.say("The manifest is for app:%s, and this runs it as %s, who may be allowed more or less: tansu preflight --as app:%s", m.App,
					profile.Subject, m.App)
			}
			if err := server.HideMemory(); err != nil {
				return err
			}
			job := &job{a: a, c: c, path: path, arguments: arguments[1:], needs: needs, unmasked: unmasked}
			code, err := job.run(context.WithoutCancel(cmd.Context()), onChange) // what would cancel it is passed on to the program
			if err == nil && code != 0 {
				return exitCodeOf(code)
			}
			return err
		},
	})
	command.Flags().SetInterspersed(false)
	o.add(command)
	command.Flags().StringVar(&onChange, "on-change", "",
		"when a value changes, `restart` the program with the new one, or send it HUP, USR1, USR2 or TERM")
	command.Flags().BoolVar(&unmasked, "show-values", false, "let what the program writes through as it is, values and all")
	return command
}

// signals are those that a program can be sent when a value changes.
var signals = map[string]syscall.Signal{"HUP": syscall.SIGHUP, "USR1": syscall.SIGUSR1, "USR2": syscall.SIGUSR2, "TERM": syscall.SIGTERM}

const restart = "restart"

// job is a program that runs with values.
type job struct {
	a         *app
	c         *client.Client
	path      string
	arguments []string
	needs     []manifest.Resolved
	unmasked  bool
}

// program reads the values and makes what is started with them, and says which version of each it has.
func (j *job) program(ctx context.Context) (*launch.Program, map[string]int, error) {
	references, at := referencesOf(j.needs)
	values, err := fetchAll(ctx, j.c, references)
	if err != nil {
		return nil, nil, err
	}
	p := &launch.Program{Path: j.path, Arguments: j.arguments, Environment: withoutThese(os.Environ(), j.needs), In: j.a.In, Out: j.a.Out,
		Err: j.a.Err}
	if err := handOver(p, j.needs, values, at); err != nil {
		return nil, nil, err
	}
	if !j.unmasked {
		p.Mask = j.a.maskerOf(values)
	}
	has := map[string]int{}
	for i, ref := range references {
		has[ref] = values[i].version()
	}
	return p, has, nil
}

// run runs the program until it ends by itself.
func (j *job) run(ctx context.Context, onChange string) (code int, err error) {
	p, has, err := j.program(ctx)
	if err != nil {
		return 0, err
	}
	if onChange == "" {
		return p.Run(ctx)
	}
	watching, done := context.WithCancel(ctx)
	defer done()
	changes := watchFor(watching, j.a, j.c, j.needs)
	send := make(chan os.Signal, 1)
	for {
		p.Signals = send
		running, stop := context.WithCancel(ctx)
		next := make(chan *launch.Program, 1)
		heard := make(chan struct{})
		go func() {
			defer close(heard)
			j.listen(running, changes, has, onChange, send, func(q *launch.Program) { next <- q; stop() })
		}()
		code, err := p.Run(running)
		stop()
		<-heard
		select {
		case p = <-next:
			j.a.say("Started again: a value has changed.")
		default:
			return code, err
		}
	}
}

// listen waits for a value to change from what the program has, and does what is to be done then.
func (j *job) listen(ctx context.Context, changes <-chan client.Check, has map[string]int, onChange string, send chan<- os.Signal,
	again func(*launch.Program)) {
	for {
		select {
		case <-ctx.Done():
			return
		case ch := <-changes:
			if !ch.Served {
				j.a.say("%s is not served any more: %s The program goes on with what it has.", ch.Reference, ch.Detail)
				continue
			}
			if had, known := has[ch.Reference]; !known || had == ch.Version {
				continue
			}
			if onChange != restart {
				has[ch.Reference] = ch.Version
				send <- signals[onChange]
				continue
			}
			p, now, err := j.program(ctx)
			if err != nil {
				j.a.say("A value has changed, and the new ones cannot all be had; the program goes on with what it has: %v", err)
				continue
			}
			maps.Copy(has, now)
			again(p)
			return
		}
	}
}

// pauseBetween is how long a watch that broke off waits before it begins again; up to twice that, so that those whom one chest
// told come back one after another.
const pauseBetween = 2 * time.Second

// watchFor tells of changes of what is needed until the context ends, whatever becomes of the chest meanwhile.
func watchFor(ctx context.Context, a *app, c *client.Client, needs []manifest.Resolved) <-chan client.Check {
	changes := make(chan client.Check)
	references, _ := referencesOf(needs)
	for part := range slices.Chunk(references, mostAtOnce) {
		go func() {
			for refused := 0; ctx.Err() == nil; {
				err := c.WatchValues(ctx, part, func(ch client.Check) error {
					select {
					case changes <- ch:
					case <-ctx.Done():
					}
					return ctx.Err()
				})
				var problem *client.Problem
				if errors.As(err, &problem) && problem.Code == "unauthenticated" {
					refused++
				} else {
					refused = 0
				}
				if refused == 2 || errors.As(err, &problem) && problem.Code == "not_found" { // an app with a key has signed in again by then
					a.say("Changes are not heard of any more: %s", problem.Detail)
					return
				}
				select {
				case <-ctx.Done():
				case <-time.After(pauseBetween + rand.N(pauseBetween)):
				}
			}
		}()
	}
	return changes
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
			return fmt.Errorf("%s: the value has %d bytes, and an environment variable holds less than %d: hand it over as a file", n.Variable,
				len(content), mostInVariable)
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
