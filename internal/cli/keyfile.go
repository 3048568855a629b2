package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/sealedfile"
	"tansu/internal/wholefile"
)

// boundTo are the associated data of an option; nil when it is not given.
func boundTo(text string) []byte {
	if text == "" {
		return nil
	}
	return []byte(text)
}

const boundUsage = "bind it to this `text`: it is decrypted only together with the same"

func (a *app) keyEncryptCommand() *cobra.Command {
	var bound, out string
	command := &cobra.Command{
		Use: "encrypt DRAWER/KEY [FILE]", Short: "Encrypt a file of any length", Args: upTo(2, "DRAWER/KEY"),
		Long: `Encrypts FILE, or standard input. Up to a mebibyte it is encrypted in the chest, and comes out as a JWE (RFC 7516). What is longer
is encrypted here as it comes, under a key of its own that only the chest opens, in segments that are authenticated each at its place.
Both name key and version: they are decrypted with that version when the key has been rotated.`,
		Example: "  tansu key encrypt ticketing-prod/passenger-data passport.json --bound-to booking-4711 > passport.jwe\n" +
			"  tansu key encrypt fleet-telemetry-prod/voyage-archive voyages.tar --out voyages.tar.sealed",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			return a.between(strings.Join(arguments[1:], ""), out, func(w io.Writer, in io.Reader) error {
				first, err := io.ReadAll(io.LimitReader(in, mostMessage+1))
				if err != nil {
					return err
				}
				if len(first) <= mostMessage {
					jwe, err := c.Encrypt(ctx, ref.String(), first, boundTo(bound))
					if err == nil {
						_, err = fmt.Fprintln(w, jwe)
					}
					return err
				}
				results, err := c.UseKey(ctx, ref.String(), client.KeyUse{Op: "data_key", Length: sealedfile.KeySize, Associated: boundTo(bound)})
				if err != nil {
					return err
				}
				defer clear(results[0].Plaintext)
				return sealedfile.Write(w, io.MultiReader(strings.NewReader(string(first)), in), results[0].Plaintext, results[0].JWE, boundTo(bound))
			})
		}),
	}
	command.Flags().StringVar(&bound, "bound-to", "", boundUsage)
	command.Flags().StringVar(&out, "out", "", "write it to this new `file`")
	return a.withReason(command)
}

func (a *app) keyDecryptCommand() *cobra.Command {
	var bound, out string
	command := &cobra.Command{
		Use: "decrypt DRAWER/KEY [FILE]", Short: "Decrypt what a key encrypted", Args: upTo(2, "DRAWER/KEY"),
		Long: `Decrypts what tansu key encrypt made, in FILE or on standard input, with the version that it names. With --out there is a file
only when all of it was genuine. What goes to a program is written as far as it is genuine: heed the exit code. To a terminal nothing is
written.`,
		Example: "  tansu key decrypt ticketing-prod/passenger-data passport.jwe --bound-to booking-4711 --out passport.json",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			if out == "" && toTerminal(a.Out) {
				return usagef("what is decrypted is not written to a terminal: say --out FILE, or send it to a program")
			}
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			return a.between(strings.Join(arguments[1:], ""), out, func(w io.Writer, in io.Reader) error {
				buffered := bufio.NewReaderSize(in, mostMessage)
				sealed, err := sealedfile.Open(buffered)
				if err != nil {
					return err
				}
				jwe := ""
				if sealed != nil {
					jwe = sealed.JWE
				} else {
					text, err := io.ReadAll(io.LimitReader(buffered, 2*mostMessage))
					if err != nil {
						return err
					}
					jwe = strings.TrimSpace(string(text))
				}
				plain, err := c.Decrypt(ctx, ref.String(), jwe, boundTo(bound))
				if err != nil {
					return err
				}
				defer clear(plain)
				if sealed != nil {
					return sealed.WriteTo(w, plain, boundTo(bound))
				}
				_, err = w.Write(plain)
				return err
			})
		}),
	}
	command.Flags().StringVar(&bound, "bound-to", "", "the `text` that it was bound to")
	command.Flags().StringVar(&out, "out", "", "write it to this new `file`, for its owner only")
	return a.withReason(command)
}

// between reads a file, or standard input for nothing or "-", and writes to standard output or to a new file that only its owner can read,
// which is there whole or not at all.
func (a *app) between(name, out string, do func(w io.Writer, in io.Reader) error) error {
	in := io.Reader(a.In)
	if name != "" && name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return err
		}
		defer func() { _ = file.Close() }()
		in = file
	}
	if out == "" {
		return do(a.Out, in)
	}
	if _, err := os.Lstat(out); !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s is there already", out)
	}
	return wholefile.Replace(out, 0o600, func(w io.Writer) error { return do(w, in) })
}
