package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/secretvalue"
	"tansu/internal/opening"
	"tansu/internal/store"
)

func (a *app) stewardCommand() *cobra.Command {
	command := &cobra.Command{Use: "steward", Short: "End the steward's time, or bring the steward back", RunE: noSubcommand}
	command.AddCommand(a.setAsideCommand(), a.bringBackCommand())
	return command
}

func (a *app) setAsideCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "set-aside",
		Short: "End the steward's time, once the duties are handed to named people",
		Long: `Nobody signs in as a steward from then on, and nothing that comes over the network changes that: only this machine
itself brings the steward back (tansu steward bring-back). Somebody else must be gatekeeper on ** and enrolled first.`,
		Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			aside, err := c.SetStewardsAside(ctx)
			if err != nil {
				return err
			}
			return a.show(aside, func() { fmt.Fprintf(a.Out, "%s: set aside.\n", strings.Join(aside, ", ")) })
		}),
	}
}

func (a *app) bringBackCommand() *cobra.Command {
	var dir, keyFile string
	command := &cobra.Command{
		Use:   "bring-back --dir DIR [--key-file FILE]",
		Short: "Make the founding person steward again, on the machine itself",
		Long: `Works on the data directory while no service runs on it, and asks for what unlocks the chest: who has both may do this.
It prints a new enrolment code; the old password, sessions and codes no longer work. It is in the trail.`,
		Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			return a.offline(dir, keyFile, func(records *store.Store, material secretvalue.Value) error {
				code, err := opening.BringStewardBack(records, material, time.Now())
				if err != nil {
					return err
				}
				return a.show(map[string]string{"person": chest.Founder, "enrolment_code": string(code.Reveal())}, func() {
					fields(a.Out, "person", chest.Founder, "enrolment code", string(code.Reveal()))
					a.say("It is shown only now, and ends in 72 hours. Start the service again, then: tansu enrol")
				})
			})
		},
	}
	a.offlineFlags(command, &dir, &keyFile)
	return command
}

func (a *app) offlineFlags(command *cobra.Command, dir, keyFile *string) {
	command.Flags().StringVar(dir, "dir", "", "the chest's data `directory`")
	command.Flags().StringVar(keyFile, "key-file", "", "the unlock key `file`; the passphrase is asked for without it")
}

// offline opens a data directory that no service runs on.
func (a *app) offline(dir, keyFile string, run func(*store.Store, secretvalue.Value) error) (err error) {
	if dir == "" {
		return usagef("--dir is missing: the chest's data directory")
	}
	records, err := store.Open(dir)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, records.Close()) }()
	material, err := a.unlockMaterial(keyFile)
	if err != nil {
		return err
	}
	defer material.Wipe()
	return run(records, material)
}
