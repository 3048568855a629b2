package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"tansu/client"
	"tansu/internal/launch"
	"tansu/internal/server"
	"tansu/internal/sshlend"
)

func (a *app) lendCommand() *cobra.Command {
	var references []string
	command := a.withReason(&cobra.Command{
		Use:   "lend --key REFERENCE -- PROGRAM [ARGUMENT …]",
		Short: "Lend SSH keys to a program for as long as it runs; they touch no disk",
		Long: `Starts a program with SSH_AUTH_SOCK at a socket where keys of the chest sign, as an SSH agent does. No key is held: a key of
tansu key signs in the chest, and never leaves it; of a key pair that is stored as a value each signature reads the key again. So each
use is decided anew and recorded, and stops as soon as the grant ends.`,
		Example: `  tansu lend --key harbour-gates-prod/gate-ssh -- ssh gate-3.harbour.example
  tansu lend --key harbour-gates-prod/gate-ssh -- rsync -a schedules/ gate-3.harbour.example:schedules/`,
		RunE: func(cmd *cobra.Command, arguments []string) error {
			if len(arguments) == 0 {
				return usagef("PROGRAM is missing; usage: %s", cmd.UseLine())
			}
			if len(references) == 0 {
				return usagef("--key is missing: which key is lent")
			}
			path, err := exec.LookPath(arguments[0])
			if err != nil {
				return usagef("%v", err)
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			if err := server.HideMemory(); err != nil {
				return err
			}
			ctx := context.WithoutCancel(cmd.Context())
			var keys []sshlend.Key
			var started atomic.Bool
			for _, reference := range references {
				if signer, err := c.SSHSigner(ctx, reference); err == nil { // it stays in the chest
					keys = append(keys, sshlend.Key{Name: reference, Signer: func() (ssh.Signer, error) { return signer, nil }})
					continue
				}
				keys = append(keys, sshlend.Key{Name: reference, Private: func() ([]byte, error) {
					content, _, err := c.Read(ctx, reference)
					var problem *client.Problem
					if started.Load() && errors.As(err, &problem) {
						a.printProblem(problem) // the program is told only that it cannot sign
					}
					return content, err
				}})
			}
			lending, err := sshlend.Start(keys)
			if err != nil {
				return err
			}
			defer func() { _ = lending.Close() }()
			started.Store(true)
			program := launch.Program{Path: path, Arguments: arguments[1:],
				Environment: append(withoutThese(os.Environ(), nil, nil), "SSH_AUTH_SOCK="+lending.Path), In: a.In, Out: a.Out, Err: a.Err}
			code, err := program.Run(ctx)
			if err == nil && code != 0 {
				return exitCodeOf(code)
			}
			return err
		},
	})
	command.Flags().SetInterspersed(false)
	command.Flags().StringArrayVar(&references, "key", nil, "a private key, by its `reference`; may be given again")
	return command
}

func (a *app) gitCredentialCommand() *cobra.Command {
	var host string
	command := &cobra.Command{
		Use:   "git-credential REFERENCE get|store|erase",
		Short: "Answer Git when it asks for a user and a password (gitcredentials(7))",
		Long: `Speaks Git's credential helper protocol, so that no password is in a URL, a file or Git's own store. The item is a login, or a
text, which is then the password. It answers for the given host only, and only over TLS.`,
		Example: "  git config --global credential.https://code.harbour.example.helper '!tansu git-credential harbour-ci/code-login --host " +
			"code.harbour.example'",
		Args: exactly("REFERENCE", "get|store|erase"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			asked, err := readAttributes(bufio.NewScanner(a.In))
			if err != nil {
				return err
			}
			if host == "" {
				return usagef("--host is missing: for which host the login is, and no other")
			}
			switch {
			case arguments[1] == "erase" && asked["host"] == host:
				a.say("Git says that %s was not accepted at %s.", arguments[0], host)
			case arguments[1] == "store", arguments[1] == "erase": // what is in the chest stays there
			case arguments[1] != "get":
				return usagef("%q is not get, store or erase", arguments[1])
			case asked["protocol"] != "https" || asked["host"] != host:
				a.say("%s is for https://%s, and Git asks for %s://%s: nothing is answered.", arguments[0], host, asked["protocol"], asked["host"])
			default:
				return a.answerGit(ctx, c, arguments[0], asked["username"])
			}
			return nil
		}),
	}
	command.Flags().StringVar(&host, "host", "", "the `host` that the login is for, with a port if it is not the usual one")
	return command
}

// answerGit reads a login and writes it as Git has it.
func (a *app) answerGit(ctx context.Context, c *client.Client, reference, user string) error {
	v, err := c.ReadValue(ctx, reference)
	if err != nil {
		return err
	}
	fields := map[string]string{"user": user}
	if len(v.Fields) == 0 {
		fields["password"] = v.Value
	}
	for _, f := range v.Fields {
		fields[f.Name] = f.Value
	}
	password, err := decodeText(fields["password"])
	if err != nil {
		return fmt.Errorf("%s has no password that Git could be given", reference)
	}
	if len(v.Fields) > 0 {
		if user, err = decodeText(fields["user"]); err != nil {
			return fmt.Errorf("%s has no user that Git could be given", reference)
		}
	}
	if user != "" {
		fmt.Fprintf(a.Out, "username=%s\n", user)
	}
	_, err = fmt.Fprintf(a.Out, "password=%s\n", password)
	return err
}

// readAttributes reads lines of the form name=value up to an empty one.
func readAttributes(lines *bufio.Scanner) (map[string]string, error) {
	asked := map[string]string{}
	for lines.Scan() && lines.Text() != "" {
		name, value, is := strings.Cut(lines.Text(), "=")
		if !is {
			return nil, usagef("standard input is not what Git writes to a credential helper")
		}
		asked[name] = value
	}
	return asked, lines.Err()
}

// decodeText decodes a value that must fit on a line of Git's protocol.
func decodeText(encoded string) (string, error) {
	content, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil || len(content) == 0 || bytes.ContainsAny(content, "\n\x00") {
		return "", errors.New("not a line")
	}
	return string(content), nil
}
