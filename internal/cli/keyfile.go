package cli

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/cryptokey"
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
	var bound, out, to string
	command := &cobra.Command{
		Use: "encrypt (DRAWER/KEY | --to PUBLIC) [FILE]", Short: "Encrypt a file of any length", Args: cobra.MaximumNArgs(2),
		Long: `Encrypts FILE, or standard input. Up to a mebibyte it is encrypted in the chest, and comes out as a JWE (RFC 7516). What is longer
is encrypted here as it comes, under a key of its own that only the chest opens, in segments that are authenticated each at its place.
Both name key and version: they are decrypted with that version when the key has been rotated.

With --to it is encrypted here to a public half, as tansu key show --public jwk writes it: that takes no chest and no right, and whoever
has the key decrypts it with tansu key decrypt.`,
		Example: "  tansu key encrypt ticketing-prod/passenger-data passport.json --bound-to booking-4711 > passport.jwe\n" +
			"  tansu key encrypt fleet-telemetry-prod/voyage-archive voyages.tar --out voyages.tar.sealed\n" +
			"  tansu key encrypt --to insurer.jwk claim.pdf > claim.jwe",
		RunE: func(cmd *cobra.Command, arguments []string) error {
			if to != "" {
				if len(arguments) > 1 {
					return usagef("with --to there is one argument, the file: the key is %s", to)
				}
				public, id, err := publicIn(to)
				if err != nil {
					return err
				}
				return a.encryptBy(&toPublic{public, id}, strings.Join(arguments, ""), out, boundTo(bound))
			}
			if len(arguments) == 0 {
				return usagef("say which key: DRAWER/KEY, or --to the file of a public half")
			}
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			return a.encryptBy(&inChest{cmd.Context(), c, ref.String()}, strings.Join(arguments[1:], ""), out, boundTo(bound))
		},
	}
	command.Flags().StringVar(&to, "to", "", "encrypt here to the public half in this `file`: a JWK, or PEM of an RSA key")
	command.Flags().StringVar(&bound, "bound-to", "", boundUsage)
	command.Flags().StringVar(&out, "out", "", "write it to this new `file`")
	return a.withReason(command)
}

// encrypter encrypts a message of up to mostMessage bytes, or a new key for what is longer.
type encrypter interface {
	encrypt(message, bound []byte) (jwe string, err error)
	dataKey(bound []byte) (key []byte, jwe string, err error)
}

func (a *app) encryptBy(by encrypter, name, out string, bound []byte) error {
	return a.between(name, out, func(w io.Writer, in io.Reader) error {
		first, err := io.ReadAll(io.LimitReader(in, mostMessage+1))
		if err != nil {
			return err
		}
		if len(first) <= mostMessage {
			jwe, err := by.encrypt(first, bound)
			if err == nil {
				_, err = fmt.Fprintln(w, jwe)
			}
			return err
		}
		key, jwe, err := by.dataKey(bound)
		if err != nil {
			return err
		}
		defer clear(key)
		return sealedfile.Write(w, io.MultiReader(strings.NewReader(string(first)), in), key, jwe, bound)
	})
}

// inChest encrypts by a key in the chest.
type inChest struct {
	ctx       context.Context
	c         *client.Client
	reference string
}

func (k *inChest) encrypt(message, bound []byte) (string, error) {
	return k.c.Encrypt(k.ctx, k.reference, message, bound)
}

func (k *inChest) dataKey(bound []byte) (key []byte, jwe string, err error) {
	results, err := k.c.UseKey(k.ctx, k.reference, client.KeyUse{Op: "data_key", Length: sealedfile.KeySize, Associated: bound})
	if err != nil {
		return nil, "", err
	}
	return results[0].Plaintext, results[0].JWE, nil
}

// toPublic encrypts here to a public half.
type toPublic struct {
	public *cryptokey.Public
	id     string
}

func (k *toPublic) encrypt(message, bound []byte) (string, error) {
	jwe, err := k.public.Encrypt(k.id, message, bound)
	return string(jwe), err
}

func (k *toPublic) dataKey(bound []byte) (key []byte, jwe string, err error) {
	key = make([]byte, sealedfile.KeySize)
	_, _ = rand.Read(key) // never fails
	jwe, err = k.encrypt(key, bound)
	return key, jwe, err
}

// publicIn reads the file of a public half that one encrypts to.
func publicIn(file string) (public *cryptokey.Public, id string, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, "", fmt.Errorf("read the public key: %w", err)
	}
	if public, err = cryptokey.ReadPublic(text, cryptokey.Encryption); err != nil {
		return nil, "", fmt.Errorf("%s: %w", file, err)
	}
	if err := public.Type().Check(cryptokey.Encryption); err != nil {
		return nil, "", fmt.Errorf("%s: %w", file, err)
	}
	return public, cryptokey.KeyIDOf(text), nil
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
