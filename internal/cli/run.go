package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
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
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/manifest"
	"tansu/internal/launch"
	"tansu/internal/server"
)

// exitCodeOf is the exit code of a program that was run, as our own.
type exitCodeOf int

func (e exitCodeOf) Error() string { return fmt.Sprintf("the program ended with exit code %d", int(e)) }

// notRunnable is a program that cannot be run: not there, or not a program.
type notRunnable struct{ error }

func (e notRunnable) Unwrap() error { return e.error }

// code is the exit code that shells have for it.
func (e notRunnable) code() int {
	if errors.Is(e, fs.ErrPermission) {
		return 126
	}
	return 127
}

func (a *app) runCommand() *cobra.Command {
	var o needsOptions
	var unmasked bool
	var onChange, wait string
	command := a.withReason(&cobra.Command{
		Use:   "run -- PROGRAM [ARGUMENT …]",
		Short: "Run a program with the values that its manifest lists, and leave none behind",
		Long: `Reads every value that the manifest lists, as whoever is signed in, and starts the program with them: in its environment, on
its standard input, or as private files that exist in memory only, whose paths are in variables. If one value is not served,
nothing is started, and every missing one is named. Nothing is written to a file system; when the program ends, or is killed,
nothing is left.

What the program writes is passed on with the values masked, in the forms in which programs usually write them. Signals,
the exit code and the terminal pass through; as with a shell, 127 says that there is no such program, and 126 that it
cannot be run.

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
			span, err := lifecycle.ParseSpan(wait)
			if err != nil {
				return usagef("--wait: %v", err)
			}
			path, err := exec.LookPath(arguments[0])
			if err != nil {
				return notRunnable{err}
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
			a.pinned(needs)
			if err := server.HideMemory(); err != nil {
				return err
			}
			job := &job{a: a, c: c, path: path, arguments: arguments[1:], needs: needs, constants: m.ConstantsIn(o.environment), unmasked: unmasked,
				patience: time.Duration(span)}
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
	command.Flags().StringVar(&wait, "wait", "30s",
		"wait for so long, a `span`, for a chest that does not answer yet or is locked; 0s for not at all")
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
	constants []manifest.Constant
	unmasked  bool
	patience  time.Duration // how long it waits for a chest that does not answer yet
}

// program reads the values and makes what is started with them, and says which version of each it has.
func (j *job) program(ctx context.Context) (*launch.Program, map[string]int, error) {
	needs, values, at, err := fetchNeeds(ctx, j.c, j.needs)
	if err != nil {
		return nil, nil, err
	}
	p := &launch.Program{Path: j.path, Arguments: j.arguments, Environment: withoutThese(os.Environ(), j.needs, j.constants), In: j.a.In,
		Out: j.a.Out, Err: j.a.Err}
	for _, c := range j.constants {
		p.Environment = append(p.Environment, c.Variable+"="+c.Value)
	}
	if err := handOver(p, needs, values, at); err != nil {
		return nil, nil, err
	}
	if !j.unmasked {
		p.Mask = j.a.maskerOf(values)
	}
	has := map[string]int{}
	for i, n := range needs {
		has[n.Reference.String()] = values[at[i]].version()
	}
	return p, has, nil
}

// whenThere is program, for a chest that may still be starting: it tries again for as long as there is patience.
func (j *job) whenThere(ctx context.Context) (*launch.Program, map[string]int, error) {
	until, pause := time.Now().Add(j.patience), 100*time.Millisecond
	for told := false; ; told = true {
		p, has, err := j.program(ctx)
		var problem *client.Problem
		var unreachable *client.Unreachable
		away := errors.As(err, &unreachable) || errors.As(err, &problem) && problem.Code == "locked"
		if !away || time.Now().Add(pause).After(until) {
			return p, has, err
		}
		if !told {
			j.a.say("The chest does not serve yet: waiting for it, until %s at most.", stamp(until))
		}
		select {
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-time.After(pause):
			pause = min(2*pause, 2*time.Second)
		}
	}
}

// run runs the program until it ends by itself.
func (j *job) run(ctx context.Context, onChange string) (code int, err error) {
	p, has, err := j.whenThere(ctx)
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
					a.say("Changes are no longer reported: %s", problem.Detail)
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

// withoutThese leaves out variables that the manifest sets, because some programs take the first of two, and what is only for this
// command: the place where tokens are kept.
func withoutThese(environment []string, needs []manifest.Resolved, constants []manifest.Constant) (list []string) {
	set := map[string]bool{"TANSU_HOME": true}
	for _, c := range constants {
		set[c.Variable] = true
	}
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
	if len(tooSmall) > 0 {
		a.say("note: too short to be masked, because they would be found everywhere: %s", strings.Join(tooSmall, ", "))
	}
	return matcher
}
