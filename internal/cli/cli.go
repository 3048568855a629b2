// Package cli is the command line: one file a group of commands. Commands that are not about running a chest on this
// machine talk to the service through package client only.
//
// Data goes to standard output, talk to standard error, and values never come from arguments.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"tansu/client"
)

// Version of the program; the build may set it.
var Version = "0.1.0"

// Streams are what a command reads and writes.
type Streams struct {
	In  *os.File
	Out io.Writer
	Err io.Writer
}

// Exit codes, for scripts.
const (
	exitDone     = 0
	exitFailed   = 1
	exitUsage    = 2
	exitRefused  = 3
	exitNotFound = 4
	exitConflict = 5
	exitLocked   = 6 // locked, or no answer
	exitNotAll   = 7 // nothing was found, and not everything was looked at
)

// exitCodes gives the exit code of each problem code; all others are exitFailed.
var exitCodes = map[string]int{
	"invalid_input": exitUsage, "too_large": exitUsage,
	"refused": exitRefused, "unauthenticated": exitRefused, "sign_in_failed": exitRefused, "wrong_material": exitRefused,
	"invalid_client": exitRefused, "throttled": exitRefused,
	"not_found": exitNotFound,
	"exists":    exitConflict, "stale": exitConflict, "needs_revision": exitConflict, "not_servable": exitConflict,
	"not_handed_over": exitConflict, "not_possible": exitConflict, "already_unlocked": exitConflict,
	"locked": exitLocked, "not_recorded": exitLocked,
}

// usageError is a command that was typed wrong.
type usageError struct{ error }

func usagef(format string, arguments ...any) error {
	return usageError{fmt.Errorf(format, arguments...)}
}

// app is what all commands share.
type app struct {
	Streams
	profile string // --profile
	output  string // --output
	reason  string // --reason of the commands that have it
	warned  bool   // whether it was said that this is the steward
}

// Groups of the help, in the order in which a newcomer meets them.
const (
	groupChest  = "chest"
	groupSignIn = "signin"
	groupFill   = "fill"
	groupAccess = "access"
	groupRead   = "read"
	groupProve  = "prove"
)

// Main runs the program and returns its exit code.
func Main(arguments []string, streams Streams) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{Streams: streams}
	root := a.root()
	root.SetArgs(arguments)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	return a.report(err)
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "tansu",
		Short: "A shared secrets vault: a chest of drawers for secrets",
		Long: `Tansu keeps an organisation's secrets in one chest: drawers hold items, items have versions,
grants say who may do what, and every read is in the trail before the value leaves.

A first tour:
  tansu demo                                   a chest with made-up data, to look around
  tansu init --dir /var/lib/tansu              create a chest of your own
  tansu serve --dir /var/lib/tansu             run it; then, in another terminal:
  tansu connect https://127.0.0.1:8267 --authority /var/lib/tansu/authority.crt
  tansu unlock && tansu enrol                  open it and become its steward`,
		SilenceErrors: true, SilenceUsage: true,
		Version:           Version,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: false},
	}
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	root.SetVersionTemplate("tansu {{.Version}}\n")
	root.PersistentFlags().StringVar(&a.profile, "profile", os.Getenv("TANSU_PROFILE"), "the connection `profile` to use")
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "how to print data: table or json")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if a.output != "table" && a.output != "json" {
			return usagef(`--output is %q; allowed: table, json`, a.output)
		}
		return nil
	}
	root.AddGroup(
		&cobra.Group{ID: groupChest, Title: "Run a chest:"},
		&cobra.Group{ID: groupSignIn, Title: "Come in:"},
		&cobra.Group{ID: groupFill, Title: "Fill it:"},
		&cobra.Group{ID: groupAccess, Title: "Let people and apps use it:"},
		&cobra.Group{ID: groupRead, Title: "Get a value:"},
		&cobra.Group{ID: groupProve, Title: "See what happened:"},
	)
	groups := map[string][]*cobra.Command{
		groupChest: {a.demoCommand(), a.initCommand(), a.serveCommand(), a.unlockCommand(), a.lockCommand(), a.statusCommand(),
			a.examineCommand(), a.renewCertificateCommand(), a.unlockMethodCommand(), a.shareCommand(), a.rootKeyCommand(),
			a.masterKeyCommand(),
			a.backupCommand(), a.restoreCommand(), a.stewardCommand(), a.manualCommand()},
		groupSignIn: {a.connectCommand(), a.enrolCommand(), a.signInCommand(), a.signOutCommand(), a.whoamiCommand(), a.passwordCommand(),
			a.sessionCommand(), a.profileCommand()},
		groupFill: {a.drawerCommand(), a.putCommand(), a.importCommand(), a.listCommand(), a.findCommand(), a.searchCommand(),
			a.dueCommand(),
			a.calendarCommand(), a.rulesCommand(), a.historyCommand(), a.describeCommand(), a.itemCommand(), a.keyCommand(),
			a.certCommand(), a.authorityCommand(), a.jwtCommand()},
		groupAccess: {a.personCommand(), a.appCommand(), a.teamCommand(), a.grantCommand(), a.rolesCommand(), a.roleCommand(),
			a.requestCommand(), a.policyCommand(), a.tightenCommand(), a.handOverCommand()},
		groupRead: {a.adoptCommand(), a.preflightCommand(), a.runCommand(), a.renderCommand(), a.manifestCommand(), a.readCommand(),
			a.sampleCommand(), a.checkCommand(), a.agentCommand(), a.lendCommand(), a.gitCredentialCommand(), a.leaksCommand(),
			a.weakCommand(),
			a.fingerprintsCommand(), a.exportCommand(), a.recipientCommand(), a.openCommand()},
		groupProve: {a.askCommand(), a.trailCommand(), a.exposureCommand(), a.refusalsCommand(), a.receiptCommand()},
	}
	for group, commands := range groups {
		for _, command := range commands {
			command.GroupID = group
			root.AddCommand(command)
		}
	}
	cobra.EnableCommandSorting = false
	a.complete(root)
	suggest(root)
	root.SuggestionsMinimumDistance = 1
	return root
}

// exactly checks the number of arguments and names the missing ones.
func exactly(names ...string) cobra.PositionalArgs { return upTo(len(names), names...) }

// upTo checks that there are the arguments that are named, and no more than so many; -1 for any number.
func upTo(most int, names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, arguments []string) error {
		if len(arguments) < len(names) {
			return usagef("%s is missing; usage: %s", names[len(arguments)], cmd.UseLine())
		}
		if most >= 0 && len(arguments) > most {
			// What is too much may be a value, which must not be repeated.
			return usagef("%s takes %s, not %d; a value is never an argument: give it at the prompt, on standard input or with --file",
				cmd.CommandPath(), plural(most, "argument"), len(arguments))
		}
		for i, name := range names {
			if arguments[i] == "" { // an unset variable of a script, more often than not
				return usagef("%s is empty; usage: %s", name, cmd.UseLine())
			}
		}
		return nil
	}
}

// connected makes a client for the profile in use.
func (a *app) connected() (*client.Client, error) {
	profile, err := a.currentProfile()
	if err != nil {
		return nil, err
	}
	return profile.client(a.reason, a.warnSteward)
}

// warnSteward says, once a command, that it was done as the steward.
func (a *app) warnSteward() {
	if !a.warned {
		a.warned = true
		a.say("You are working as the steward, who exists to appoint others: give duties to named people, then tansu steward set-aside.")
	}
}

// report prints an error where errors go and returns the exit code.
func (a *app) report(err error) int {
	var problem *client.Problem
	var unreachable *client.Unreachable
	var usage usageError
	var program exitCodeOf
	var notServed missing
	var unrunnable notRunnable
	switch {
	case errors.As(err, &problem):
		a.printProblem(problem)
		return exitCode(problem.Code)
	case errors.As(err, &unreachable):
		a.printError("unreachable", unreachable.Error()+"; is the service running, and is the profile's address right?")
		return exitLocked
	case errors.As(err, &usage):
		a.printError("wrong_usage", err.Error())
		return exitUsage
	case errors.As(err, &program):
		return int(program)
	case errors.As(err, &unrunnable):
		a.printError("not_runnable", err.Error())
		return unrunnable.code()
	case errors.As(err, &notServed):
		a.printError("not_served", notServed.Error())
		return exitRefused
	case errors.As(err, &answeredNo{}):
		return exitRefused
	case errors.As(err, &foundSomething{}):
		return exitConflict
	case errors.As(err, &notAll{}):
		return exitNotAll
	case errors.Is(err, context.Canceled), errors.As(err, &failedQuietly{}):
		return exitFailed
	}
	if text, is := cobraUsage(err); is {
		a.printError("wrong_usage", text)
		return exitUsage
	}
	a.printError("failed", err.Error())
	return exitFailed
}

func exitCode(code string) int {
	if exit, known := exitCodes[code]; known {
		return exit
	}
	return exitFailed
}

// cobraUsage recognises Cobra's own complaints about how a command was typed, which have no type, and says them in our words.
func cobraUsage(err error) (text string, is bool) {
	text = err.Error()
	switch {
	case strings.HasPrefix(text, "unknown command"):
		return strings.ReplaceAll(strings.TrimSpace(text), "\n\t", "\n  tansu "), true
	case strings.HasPrefix(text, "required flag(s) "):
		flags := strings.TrimSuffix(strings.TrimPrefix(text, "required flag(s) "), " not set")
		return "missing: --" + strings.ReplaceAll(strings.ReplaceAll(flags, `"`, ""), ", ", ", --"), true
	case strings.HasPrefix(text, "if any flags in the group ["):
		flags, _, _ := strings.Cut(strings.TrimPrefix(text, "if any flags in the group ["), "]")
		return "of these options, only one at a time: --" + strings.ReplaceAll(flags, " ", ", --"), true
	case strings.HasPrefix(text, "at least one of the flags in the group ["):
		flags, _, _ := strings.Cut(strings.TrimPrefix(text, "at least one of the flags in the group ["), "]")
		return "one of these is missing: --" + strings.ReplaceAll(flags, " ", ", --"), true
	}
	return text, false
}

func (a *app) printError(code, text string) {
	if a.output == "json" {
		a.printJSON(a.Err, map[string]string{"code": code, "detail": text})
		return
	}
	fmt.Fprintf(a.Err, "tansu: %s\n", printableLines(text))
}

// optionOf says in the words of the command line what the interface calls by its own.
var optionOf = strings.NewReplacer("allow_refusals", "--allow-refusals", "allow_again", "--allow-again", "allow_lockout", "--allow-lockout",
	"never_ends", "--never", "(from)", "(--from)", "not_after", "the end", "not_before", "the beginning", "max_age", "--max-age",
	"retire_for", "--retire-for", "host_keeps", "--host-keeps", "needs_end", "--needs-end", "two_to_shred", "--two-to-shred")

func (a *app) printProblem(p *client.Problem) {
	if a.output == "json" {
		a.printJSON(a.Err, p)
		return
	}
	fmt.Fprintf(a.Err, "tansu: %s\n", printableLines(optionOf.Replace(p.Detail)))
	if p.Receipt != "" {
		fmt.Fprintf(a.Err, "  receipt   %s   (a gatekeeper can look it up: tansu receipt %s)\n", p.Receipt, p.Receipt)
	}
	if p.Remedy != nil {
		fmt.Fprintf(a.Err, "  remedy    %s\n", printable(p.Remedy.Command))
	}
	switch p.Code {
	case "unauthenticated":
		fmt.Fprintln(a.Err, "  sign in with: tansu sign-in NAME")
	case "internal", "not_recorded":
		fmt.Fprintf(a.Err, "  request   %s\n", p.RequestID)
	}
}

func (a *app) printJSON(w io.Writer, data any) {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	_ = encoder.Encode(data)
}

// show prints data as JSON, or else as a person reads it.
func (a *app) show(data any, table func()) error {
	if a.output == "json" {
		a.printJSON(a.Out, data)
		return nil
	}
	table()
	return nil
}

// say prints talk, which is never data.
func (a *app) say(format string, arguments ...any) {
	if a.output != "json" {
		fmt.Fprintln(a.Err, printableLines(fmt.Sprintf(format, arguments...)))
	}
}
