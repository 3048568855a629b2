package cli

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/recipient"
)

func (a *app) exportCommand() *cobra.Command {
	n := client.NewExport{}
	var to, out string
	command := &cobra.Command{
		Use:   "export DRAWER --for FILE",
		Short: "Write the values of a drawer that you may read into one file, encrypted to a recipient",
		Long: `Writes the current values that you may read as a dotenv file or as JSON, encrypted to the public key of whoever gets it (JWE,
RFC 7516, for a key as JWK, RFC 7517, of the kind EC or RSA; HPKE, RFC 9180, for one of the other kind). tansu recipient
makes a key pair, and tansu open opens the file. Each value is in the trail as read.

In clear it is written only with --in-clear and --out, to a file that only you can read, and never to a terminal.`,
		Example: `  tansu recipient moving.key
  tansu export crew-rota-staging --for moving.key.pub --out rota.jwe
  tansu open rota.jwe --key moving.key --out rota.env`,
		Args: exactly("DRAWER"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			switch {
			case (to == "") == !n.Clear:
				return usagef("--for FILE (the recipient's key) or --in-clear is needed")
			case n.Clear && out == "":
				return usagef("a file in clear is written with --out FILE only, and never to a terminal or a pipe")
			}
			if to != "" {
				content, err := os.ReadFile(to)
				if err != nil {
					return fmt.Errorf("read the recipient's key: %w", err)
				}
				if !json.Valid(content) {
					return usagef("%s is not a key; tansu recipient FILE makes one", to)
				}
				n.Recipient = content
			}
			e, err := c.Export(ctx, arguments[0], n)
			if err != nil {
				return err
			}
			content, err := base64.StdEncoding.DecodeString(e.Content)
			if err != nil {
				return errors.New("the chest's answer is damaged")
			}
			defer clear(content)
			return a.writeExport(e, content, out)
		}),
	}
	command.Flags().StringVar(&to, "for", "", "encrypt it to the public key in this `file`")
	command.Flags().StringVar(&out, "out", "", "write it to this `file`; standard output when it is left out")
	command.Flags().StringVar(&n.Format, "format", "dotenv", "dotenv or json")
	command.Flags().BoolVar(&n.Clear, "in-clear", false, "write the values so that everybody who gets the file can read them")
	return a.withReason(command)
}

func (a *app) writeExport(e client.Export, content []byte, out string) error {
	written := 0
	for _, it := range e.Items {
		if it.Version != 0 {
			written++
			continue
		}
		a.say("left out: %s: %s", it.Reference, it.Why)
	}
	if out == "" {
		if err := a.writeWhole(content); err != nil {
			return fmt.Errorf("write the file: %w", err)
		}
	} else if err := writePrivate(out, content); err != nil {
		return err
	}
	a.say("%s, %d left out.", plural(written, "value"), len(e.Items)-written)
	return nil
}

// writeWhole writes something as it is to standard output, where a line break after it is for people only.
func (a *app) writeWhole(content []byte) error {
	if toTerminal(a.Out) && !bytes.HasSuffix(content, []byte("\n")) {
		content = append(content, '\n')
	}
	_, err := a.Out.Write(content)
	return err
}

// writePrivate makes a new file that only its owner can read, from before its first byte.
func writePrivate(path string, content []byte) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("write %s: %w", path, errors.Unwrap(err))
	}
	_, err = file.Write(content)
	if err := errors.Join(err, file.Close()); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return nil
}

func (a *app) recipientCommand() *cobra.Command {
	var hybrid bool
	command := &cobra.Command{
		Use:   "recipient FILE",
		Short: "Make a key pair to which exports, backups and shares are encrypted: FILE, and FILE.pub for others",
		Long: `Makes a key pair as JWK (RFC 7517), which other programs know as well; or, with --post-quantum, one for HPKE (RFC 9180) with
the KEM that joins ML-KEM-768 and X25519: what is encrypted to it stays closed to somebody who keeps it until there are
quantum computers.`,
		Example: "  tansu recipient moving.key\n  tansu recipient backup.key --post-quantum",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, arguments []string) error {
			private, public, err := recipient.New(hybrid)
			if err != nil {
				return err
			}
			defer private.Wipe()
			name := arguments[0]
			if err := writePrivate(name, private.Reveal()); err != nil {
				return err
			}
			if err := writePrivate(name+".pub", public); err != nil {
				return errors.Join(err, os.Remove(name)) // which nobody has used
			}
			a.say("%s opens what is encrypted to %s: keep it to yourself.", filepath.Base(name), filepath.Base(name)+".pub")
			return nil
		},
	}
	command.Flags().BoolVar(&hybrid, "post-quantum", false, "make one for HPKE, with ML-KEM-768 and X25519")
	return command
}

// readPublicKey reads the key of a recipient.
func readPublicKey(file string) (*recipient.Public, error) {
	content, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read a recipient: %w", err)
	}
	key, err := recipient.ReadPublic(content)
	if err != nil {
		return nil, usagef("%s %v", file, err)
	}
	return &key, nil
}

// readPrivateKey reads the private key of a recipient.
func readPrivateKey(file string) (key recipient.Private, err error) {
	content, err := os.ReadFile(file)
	if err != nil {
		return key, fmt.Errorf("read the key: %w", err)
	}
	defer clear(content)
	if key, err = recipient.ReadPrivate(content); err != nil {
		return key, usagef("%s %v", file, err)
	}
	return key, nil
}

// mostOpened bounds an export, in bytes.
const mostOpened = 64 << 20

func (a *app) openCommand() *cobra.Command {
	var keyFile, out string
	command := &cobra.Command{
		Use:     "open FILE --key FILE",
		Short:   "Open an export or a share that was encrypted to you",
		Example: "  tansu open rota.jwe --key moving.key --out rota.env",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, arguments []string) error {
			if out == "" && toTerminal(a.Out) {
				return usagef("values are not written to a terminal: say --out FILE, or send them to a program")
			}
			key, err := readPrivateKey(keyFile)
			if err != nil {
				return err
			}
			file, err := os.Open(arguments[0])
			if err != nil {
				return fmt.Errorf("read the export: %w", err)
			}
			defer func() { _ = file.Close() }()
			sealed, err := io.ReadAll(io.LimitReader(file, mostOpened))
			if err != nil {
				return fmt.Errorf("read the export: %w", err)
			}
			content, err := key.Open(sealed)
			if err != nil {
				return fmt.Errorf("%s: %w", arguments[0], err)
			}
			defer clear(content)
			if out != "" {
				return writePrivate(out, content)
			}
			_, err = a.Out.Write(content)
			return err
		},
	}
	command.Flags().StringVar(&keyFile, "key", "", "the private key in this `file`")
	command.Flags().StringVar(&out, "out", "", "write it to this new `file`, which only you can read")
	_ = command.MarkFlagRequired("key")
	return command
}

func (a *app) calendarCommand() *cobra.Command {
	command := &cobra.Command{Use: "calendar", Short: "See what is due in your calendar program", RunE: noSubcommand}
	var note string
	add := &cobra.Command{
		Use: "add", Short: "Make a private address that a calendar program can subscribe to", Args: exactly(),
		Long: `Makes an address under which what is due is given as iCalendar (RFC 5545), without a sign-in: whoever has it sees the
names and ends of what you may list, and no values. It is shown once, ends after a year, and can be ended at once.`,
		Example: "  tansu calendar add --note phone",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			made, err := c.NewCalendar(ctx, note)
			if err != nil {
				return err
			}
			return a.show(made, func() {
				fmt.Fprintf(a.Out, "%s%s\n", c.Address(), made.Path)
				a.say("Subscribe to it; it is shown this once. End it with: tansu calendar end %s", made.ID)
			})
		}),
	}
	add.Flags().StringVar(&note, "note", "", "what it is for, on one line")
	list := &cobra.Command{
		Use: "list", Short: "List your calendar addresses, without their private parts", Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			calendars, err := c.Calendars(ctx)
			if err != nil {
				return err
			}
			return a.show(calendars, func() {
				t := table{head: []string{"CALENDAR", "NOTE", "MADE", "ENDS"}}
				for _, f := range calendars {
					t.add(f.ID, f.Note, stamp(f.CreatedAt), stamp(f.NotAfter))
				}
				a.printTable(t, "You have no calendar address. Make one with: tansu calendar add")
			})
		}),
	}
	end := &cobra.Command{
		Use: "end CALENDAR", Short: "End a calendar address at once", Args: exactly("CALENDAR"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			if err := c.EndCalendar(ctx, arguments[0]); err != nil {
				return err
			}
			return a.show(map[string]string{"ended": arguments[0]}, func() { fmt.Fprintf(a.Out, "%s is ended.\n", arguments[0]) })
		}),
	}
	command.AddCommand(add, list, end)
	return command
}
