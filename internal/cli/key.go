package cli

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
)

func (a *app) keyCommand() *cobra.Command {
	command := &cobra.Command{
		Use:   "key",
		Short: "Keys that stay in the chest: sign, encrypt and decrypt there",
		Long: `A key is an item that is used in the chest, and that nobody reads: it signs, encrypts and decrypts there, and each use is
in the trail before its result leaves. A new version is made by rotating it; older versions go on decrypting and verifying what they made.

What to choose: ed25519 to sign, aes-256 to encrypt, hmac-sha-256 to authenticate between two who share it; others are for peers that
do not know these (tansu key types).`,
		RunE: noSubcommand,
	}
	command.AddCommand(a.keyTypesCommand(), a.keyCreateCommand(), a.keyRotateCommand(), a.keyShowCommand(), a.keySignCommand(),
		a.keyVerifyCommand(), a.keyEncryptCommand(), a.keyDecryptCommand(), a.keyRewrapCommand(), a.keyDataKeyCommand(), a.keyUsersCommand(),
		a.keyDecryptFromCommand(), a.keySetCommand())
	return command
}

func (a *app) keyTypesCommand() *cobra.Command {
	return &cobra.Command{
		Use: "types", Short: "The types of keys, and what each is good for", Args: exactly(), Example: "  tansu key types",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			types, err := c.KeyTypes(ctx)
			if err != nil {
				return err
			}
			return a.show(types, func() {
				t := table{head: []string{"TYPE", "FOR", "FIPS 140-3", "WHAT IT IS GOOD FOR"}}
				for _, k := range types {
					var sets []string
					for _, set := range k.Operations {
						sets = append(sets, strings.Join(set, ","))
					}
					t.add(k.Type, strings.Join(sets, " or "), map[bool]string{true: "approved", false: "no"}[k.Approved], k.About)
				}
				t.print(a.Out)
			})
		}),
	}
}

// newKeyFlags are what is said of a key, or a version of one.
type newKeyFlags struct {
	kind, bring, under, description, owner, note, until string
	uses                                                []string
	givenOut, staged                                    bool
}

func (f newKeyFlags) version(a *app) (v client.NewVersion, err error) {
	v = client.NewVersion{Note: f.note, Staged: f.staged}
	if v.NotAfter, err = moment("--not-after", f.until); err != nil {
		return v, err
	}
	if f.bring != "" {
		content, err := a.input(f.bring)
		if err != nil {
			return v, err
		}
		v.Brought, v.BroughtUnder = content, f.under
		if f.under != "" {
			v.BroughtType = f.kind
		}
	} else if f.under != "" {
		return v, usagef("--wrapped-to is about a key that is brought: --bring FILE")
	}
	return v, nil
}

func (f *newKeyFlags) add(command *cobra.Command) {
	command.Flags().StringVar(&f.bring, "bring", "",
		"take the key in this `file` (PEM, PKCS #8 or JWK; - for standard input) instead of making one")
	command.Flags().StringVar(&f.under, "wrapped-to", "",
		"the key was wrapped for its way to this `key` of the chest (RSA-OAEP and RFC 5649), so that no machine on the way saw it")
	command.Flags().StringVar(&f.note, "note", "", "why this version, on one line")
	command.Flags().StringVar(&f.until, "not-after", "",
		"let it be used only until this `time` (2026-12-01, or RFC 3339) or for this long (90d)")
	command.Flags().BoolVar(&f.staged, "staged", false, "let it wait until somebody promotes it (tansu item promote)")
}

func (a *app) keyCreateCommand() *cobra.Command {
	var f newKeyFlags
	command := &cobra.Command{
		Use: "create DRAWER/KEY", Short: "Make a key in the chest, or bring one that was made elsewhere", Args: exactly("DRAWER/KEY"),
		Long: `Makes a key. Its type, and what it is for, are said once and never changed. Nobody gets the key itself, unless --given-out
says now that whoever may read the item may.`,
		Example: "  tansu key create ticketing-prod/ticket-signing --type ed25519\n" +
			"  tansu key create ticketing-prod/passenger-data --type aes-256\n" +
			"  tansu key create fleet-telemetry-prod/backup --bring backup.pem --for decrypt",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			if f.kind == "" && f.bring == "" {
				return usagef("say what to make (--type, see tansu key types), or bring a key (--bring FILE)")
			}
			version, err := f.version(a)
			if err != nil {
				return err
			}
			stored, err := c.CreateItem(ctx, ref.Drawer, client.NewItem{Name: ref.Item, Description: f.description, Owner: f.owner,
				Key: &client.NewKeyFacts{Type: f.kind, Operations: f.uses, GivenOut: f.givenOut}, Version: version})
			if err != nil {
				return err
			}
			return a.show(stored, func() { a.printKeyStored(ref, stored) })
		}),
	}
	f.add(command)
	command.Flags().StringVar(&f.kind, "type", "", "the `type` of key, such as ed25519 or aes-256")
	command.Flags().StringSliceVar(&f.uses, "for", nil, "what it is for: sign, verify, encrypt, decrypt, wrapKey, unwrapKey, deriveBits")
	command.Flags().BoolVar(&f.givenOut, "given-out", false, "whoever may read the item gets the key itself; for good")
	command.Flags().StringVar(&f.description, "description", "", "what it is, on one line")
	command.Flags().StringVar(&f.owner, "owner", "", "who answers for it, such as person:ticketing-lead")
	return command
}

func (a *app) printKeyStored(ref reference.Reference, stored client.Stored) {
	k := stored.Item.Key
	fmt.Fprintf(a.Out, "%s/%s@%d is a key of the type %s, for %s. ", ref.Drawer, ref.Item, stored.Version.Version, k.Type,
		strings.Join(k.Operations, ", "))
	if k.GivenOut {
		fmt.Fprintln(a.Out, "Whoever may read the item gets it.")
	} else {
		fmt.Fprintln(a.Out, "It never leaves the chest.")
	}
	for _, note := range stored.Version.Notes {
		a.say("Note: %s", note)
	}
}

func (a *app) keyRotateCommand() *cobra.Command {
	var f newKeyFlags
	command := &cobra.Command{
		Use: "rotate DRAWER/KEY", Short: "Make the next version of a key", Args: exactly("DRAWER/KEY"),
		Long: `Makes a new version, which signs and encrypts from now on. Older ones go on decrypting and verifying what they made. See who
still needs them (tansu key users), and move what they encrypted under the new one (tansu key rewrap).`,
		Example: "  tansu key rotate ticketing-prod/ticket-signing",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			version, err := f.version(a)
			if err != nil {
				return err
			}
			stored, err := c.AddVersion(ctx, ref.Drawer, ref.Item, 0, version)
			var problem *client.Problem
			if errors.As(err, &problem) && (problem.Field == "value" || strings.Contains(problem.Detail, "is no key")) {
				return fmt.Errorf("%s/%s is a secret, and no key: tansu put %s/%s --new-version", ref.Drawer, ref.Item, ref.Drawer, ref.Item)
			}
			if err != nil {
				return err
			}
			return a.show(stored, func() { a.printKeyStored(ref, stored) })
		}),
	}
	f.add(command)
	return command
}

func (a *app) keyShowCommand() *cobra.Command {
	var form string
	command := &cobra.Command{
		Use: "show DRAWER/KEY[@VERSION]", Short: "Show a key and its public half", Args: exactly("DRAWER/KEY"),
		Long: `Shows what is known of a key and its versions. With --public the public half of the current version, or of the one that is
named, is written to standard output: as PEM, or as a JWK whose kid names key and version.`,
		Example: "  tansu key show ticketing-prod/ticket-signing\n" +
			"  tansu key show ticketing-prod/ticket-signing --public pem > ticket-signing.pem",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			switch form {
			case "":
			case "pem", "jwk", "ssh": // which whoever may use the key gets, too
				results, err := c.UseKey(ctx, ref.String(), client.KeyUse{Op: "public"})
				if err != nil {
					return err
				}
				return a.printPublic(results[0].PublicKey, form)
			default:
				return usagef("--public is %.20q; allowed: pem, jwk, ssh", form)
			}
			h, err := c.History(ctx, ref.Drawer, ref.Item)
			if err != nil {
				return err
			}
			if h.Item.Key == nil {
				return fmt.Errorf("%s/%s is a secret, and no key", ref.Drawer, ref.Item)
			}
			return a.show(h, func() {
				a.printHistory(h)
				if slices.Contains(h.Item.Key.Operations, "sign") {
					if one, err := c.Authority(ctx, ref.Drawer, ref.Item); err == nil && len(one.Profiles) > 0 {
						fmt.Fprintln(a.Out, "\nIt signs by profiles, for their subscribers:")
						a.printProfiles(one)
					}
				}
			})
		}),
	}
	command.Flags().StringVar(&form, "public", "", "write the public half alone, as pem, jwk or ssh")
	return command
}

func (a *app) printPublic(jwk json.RawMessage, form string) error {
	text, err := append([]byte(jwk), '\n'), error(nil)
	switch form {
	case "pem":
		text, err = client.PublicPEM(jwk)
	case "ssh":
		text, err = client.PublicSSH(jwk)
	}
	if err != nil {
		return err
	}
	_, err = a.Out.Write(text)
	return err
}

// mostMessage bounds what is sent to be signed or encrypted, in bytes: the chest takes as much in one call.
const mostMessage = 1 << 20

// input reads a file, or standard input for "-" or nothing.
func (a *app) input(name string) ([]byte, error) {
	in := io.Reader(a.In)
	if name != "" && name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer func() { _ = file.Close() }()
		in = file
	}
	content, err := io.ReadAll(io.LimitReader(in, mostMessage+1))
	if err == nil && len(content) > mostMessage {
		err = fmt.Errorf("there are more than %d bytes, which is the most in one call", mostMessage)
	}
	return content, err
}

// output writes a result to standard output, or to a new file that only its owner can read.
func (a *app) result(out string, content []byte) error {
	if out != "" {
		return writeNew(out, secretvalue.New(content))
	}
	_, err := a.Out.Write(content)
	return err
}

// useOne uses the key in the first argument once, on the input that the second names.
func (a *app) useOne(cmd *cobra.Command, arguments []string, use func(input []byte) (client.KeyUse, error)) (client.KeyResult, error) {
	ref, err := itemArgument(arguments[0])
	if err != nil {
		return client.KeyResult{}, err
	}
	c, err := a.connected()
	if err != nil {
		return client.KeyResult{}, err
	}
	content, err := a.input(strings.Join(arguments[1:], ""))
	if err != nil {
		return client.KeyResult{}, err
	}
	one, err := use(content)
	if err != nil {
		return client.KeyResult{}, err
	}
	results, err := c.UseKey(cmd.Context(), ref.String(), one)
	if err != nil {
		return client.KeyResult{}, err
	}
	return results[0], nil
}

func (a *app) keySignCommand() *cobra.Command {
	var scheme, out, namespace string
	var der bool
	command := &cobra.Command{
		Use: "sign DRAWER/KEY [FILE]", Short: "Sign a file, or make its MAC", Args: upTo(2, "DRAWER/KEY"),
		Long: `Signs the bytes of FILE, or of standard input. The signature is written in base64, or as it is to the new file that --out
names. The chest hashes what it signs: nothing of the key or of a hash is to be chosen, but for RSA (--scheme RS256 for old peers).`,
		Example: "  tansu key sign ticketing-prod/ticket-signing ticket.json\n" +
			"  tansu key sign ticketing-prod/ticket-signing release.tar --ssh file > release.tar.sig\n" +
			"  tansu key sign harbour-gates-prod/firmware gate.bin --der --out gate.bin.sig",
		RunE: func(cmd *cobra.Command, arguments []string) error {
			if namespace != "" {
				return a.signForSSH(cmd, arguments, namespace, out)
			}
			r, err := a.useOne(cmd, arguments, func(input []byte) (client.KeyUse, error) {
				return client.KeyUse{Op: "sign", Message: input, Scheme: scheme, Form: formOf(der)}, nil
			})
			switch {
			case err != nil:
				return err
			case out != "":
				return a.result(out, r.Signature)
			}
			return a.show(r, func() { fmt.Fprintln(a.Out, base64.StdEncoding.EncodeToString(r.Signature)) })
		},
	}
	command.Flags().StringVar(&scheme, "scheme", "", "the `scheme`, as JOSE calls it: PS256, RS256, ES256; the key's usual one when left out")
	command.Flags().BoolVar(&der, "der", false, "an ECDSA signature in the form that openssl and certificates have")
	command.Flags().StringVar(&out, "out", "", "write the signature to this new `file`")
	command.Flags().StringVar(&namespace, "ssh", "", "sign for this `namespace`, such as file or git, as ssh-keygen -Y verify checks it")
	return a.withReason(command)
}

// signForSSH signs a file in the form of OpenSSH.
func (a *app) signForSSH(cmd *cobra.Command, arguments []string, namespace, out string) error {
	ref, err := itemArgument(arguments[0])
	if err != nil {
		return err
	}
	c, err := a.connected()
	if err != nil {
		return err
	}
	content, err := a.input(strings.Join(arguments[1:], ""))
	if err != nil {
		return err
	}
	signature, err := c.SSHSignature(cmd.Context(), ref.String(), namespace, content)
	if err != nil {
		return err
	}
	return a.result(out, signature)
}

func formOf(der bool) string {
	if der {
		return "der"
	}
	return "fixed"
}

func (a *app) keyVerifyCommand() *cobra.Command {
	var scheme, signature string
	var der bool
	command := &cobra.Command{
		Use: "verify DRAWER/KEY [FILE] --signature FILE", Short: "Check the signature of a file, or its MAC", Args: upTo(2, "DRAWER/KEY"),
		Long: `Says whether a signature is that of FILE, or of standard input, by any version of the key that is served: exit code 0 for
yes and 3 for no. The signature is a file as tansu key sign wrote it, in base64 or as it is.`,
		Example: "  tansu key verify ticketing-prod/ticket-signing ticket.json --signature ticket.sig",
		RunE: func(cmd *cobra.Command, arguments []string) error {
			if signature == "" {
				return usagef("--signature is missing: the file with the signature")
			}
			r, err := a.useOne(cmd, arguments, func(input []byte) (client.KeyUse, error) {
				content, err := a.input(signature)
				if text, bad := base64.StdEncoding.DecodeString(strings.TrimSpace(string(content))); bad == nil {
					content = text
				}
				return client.KeyUse{Op: "verify", Message: input, Signature: content, Scheme: scheme, Form: formOf(der)}, err
			})
			if err != nil {
				return err
			}
			err = a.show(r, func() {
				if r.Valid {
					fmt.Fprintf(a.Out, "Yes, it is by version %d of the key.\n", r.Version)
				} else {
					fmt.Fprintln(a.Out, "No, it is not the signature of this file by this key.")
				}
			})
			if err != nil || r.Valid {
				return err
			}
			return answeredNo{}
		},
	}
	command.Flags().StringVar(&signature, "signature", "", "the `file` with the signature")
	command.Flags().StringVar(&scheme, "scheme", "", "the `scheme` it was signed with; the key's usual one when left out")
	command.Flags().BoolVar(&der, "der", false, "an ECDSA signature in the form that openssl and certificates have")
	return a.withReason(command)
}

func (a *app) keyRewrapCommand() *cobra.Command {
	var bound string
	command := &cobra.Command{
		Use: "rewrap DRAWER/KEY [FILE]", Short: "Move what was encrypted under the newest version, without showing it",
		Args: upTo(2, "DRAWER/KEY"),
		Long: `Reads JWEs, one to a line, from FILE or standard input, and writes each of them under the current version. What was encrypted stays
in the chest. Up to 1 000 go in one call.`,
		Example: "  tansu key rewrap ticketing-prod/passenger-data < old.jwe > new.jwe",
		RunE: func(cmd *cobra.Command, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			content, err := a.input(strings.Join(arguments[1:], ""))
			if err != nil {
				return err
			}
			var uses []client.KeyUse
			for line := range strings.Lines(string(content)) {
				if line = strings.TrimSpace(line); line != "" {
					uses = append(uses, client.KeyUse{Op: "rewrap", JWE: line, Associated: boundTo(bound)})
				}
			}
			results, err := c.UseKey(cmd.Context(), ref.String(), uses...)
			if err != nil {
				return err
			}
			failed := 0
			for i, r := range results {
				if r.Problem != nil {
					failed++
					a.say("line %d: %s", i+1, r.Problem.Detail)
					continue
				}
				fmt.Fprintln(a.Out, r.JWE)
			}
			if failed > 0 {
				return fmt.Errorf("%s could not be moved and was left out", plural(failed, "line"))
			}
			return nil
		},
	}
	command.Flags().StringVar(&bound, "bound-to", "", "the `text` that all of them were bound to")
	return a.withReason(command)
}

func (a *app) keyDataKeyCommand() *cobra.Command {
	var bound, out string
	var length int
	command := &cobra.Command{
		Use: "data-key DRAWER/KEY", Short: "Make a key to encrypt with elsewhere, and the same under a key of the chest",
		Args: exactly("DRAWER/KEY"),
		Long: `Makes random bytes to encrypt something large with. They are written to the new file that --out names, and forgotten; what is
kept beside the data is the JWE on standard output, which tansu key decrypt opens again. Without --out only the JWE is made.`,
		Example: "  tansu key data-key ticketing-prod/passenger-data --out data.key > data.key.jwe",
		RunE: func(cmd *cobra.Command, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			results, err := c.UseKey(cmd.Context(), ref.String(), client.KeyUse{Op: "data_key", Length: length, Associated: boundTo(bound),
				Hidden: out == ""})
			if err != nil {
				return err
			}
			if out != "" {
				if err := writeNew(out, secretvalue.New(results[0].Plaintext)); err != nil {
					return err
				}
			}
			_, err = fmt.Fprintln(a.Out, results[0].JWE)
			return err
		},
	}
	command.Flags().StringVar(&bound, "bound-to", "", boundUsage)
	command.Flags().StringVar(&out, "out", "", "write the bytes to this new `file`, for its owner only")
	command.Flags().IntVar(&length, "length", 32, "how many `bytes`, 16 to 64")
	return a.withReason(command)
}

func (a *app) keyUsersCommand() *cobra.Command {
	return &cobra.Command{
		Use: "users DRAWER/KEY", Short: "Who used a key for what, and which version", Args: exactly("DRAWER/KEY"),
		Long:    `Says from the trail who used which version for what: who still needs an old one, before it is ended.`,
		Example: "  tansu key users ticketing-prod/passenger-data",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			users, err := c.KeyUsers(ctx, arguments[0])
			if err != nil {
				return err
			}
			return a.show(users, func() {
				t := table{head: []string{"VERSION", "WHO", "USED IT TO", "TIMES", "FIRST", "LAST"}}
				for _, u := range users {
					t.add(strconv.Itoa(u.Version), u.Subject, u.Action, strconv.FormatInt(u.Times, 10), relative(u.First, time.Now()),
						relative(u.Last, time.Now()))
				}
				a.printTable(t, "Nobody has used it yet.")
			})
		}),
	}
}

func (a *app) keyDecryptFromCommand() *cobra.Command {
	return &cobra.Command{
		Use: "decrypt-from DRAWER/KEY VERSION", Short: "Let versions before this one decrypt no more", Args: exactly("DRAWER/KEY", "VERSION"),
		Long: `Versions before VERSION decrypt no more from now on; they go on verifying. 0 lets all of them decrypt that are served. Look first
who still decrypts with an old one (tansu key users): they fail.`,
		Example: "  tansu key decrypt-from ticketing-prod/passenger-data 2",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			from, err := strconv.Atoi(arguments[1])
			if err != nil {
				return usagef("%.20q is not the number of a version", arguments[1])
			}
			h, err := c.History(ctx, ref.Drawer, ref.Item)
			if err != nil {
				return err
			}
			it, err := c.ChangeItem(ctx, ref.Drawer, ref.Item, h.Item.Revision, client.Described{DecryptFrom: &from})
			if err != nil {
				return err
			}
			return a.show(it, func() {
				if from == 0 {
					fmt.Fprintf(a.Out, "All versions of %s that are served decrypt.\n", it.Reference)
				} else {
					fmt.Fprintf(a.Out, "Versions of %s before %d decrypt no more.\n", it.Reference, from)
				}
			})
		}),
	}
}

func (a *app) keySetCommand() *cobra.Command {
	return &cobra.Command{
		Use: "jwks DRAWER", Short: "Write the public halves of a drawer's keys, as a JWK set", Args: exactly("DRAWER"),
		Long: `Writes a JWK set (RFC 7517): what verifiers need, with a kid that names key and version. A version is in it from when it is staged
until it has ended. Programs fetch it at /api/drawers/DRAWER/jwks, without signing in where the drawer is open (tansu describe
DRAWER --keys-open).`,
		Example: "  tansu key jwks ticketing-prod > jwks.json",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			set, err := c.PublicKeys(ctx, arguments[0])
			if err != nil {
				return err
			}
			text, err := json.MarshalIndent(map[string]any{"keys": set}, "", "  ")
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.Out, "%s\n", text)
			return err
		}),
	}
}

// keyActions are all uses of a key, which roles mostly have together.
var keyActions = access.UseKey.Names()

// briefly names actions for people: all uses of a key together are one word.
func briefly(actions []string) (list []string) {
	all := 0
	for _, action := range actions {
		if slices.Contains(keyActions, action) {
			all++
		}
	}
	if all < len(keyActions) {
		return actions
	}
	for _, action := range actions {
		switch {
		case action == keyActions[0]:
			list = append(list, access.FormerUseKey)
		case !slices.Contains(keyActions, action):
			list = append(list, action)
		}
	}
	return list
}

// keyLines say of a key what it is, for people; nothing for a secret.
func keyLines(k *client.KeyFacts) (kind, uses, stays, from string) {
	if k == nil {
		return "", "", "", ""
	}
	stays = "never leaves the chest"
	if k.GivenOut {
		stays = "is given to whoever may read it"
	}
	if k.DecryptFrom > 0 {
		from = "version " + strconv.Itoa(k.DecryptFrom)
	}
	return k.Type, strings.Join(k.Operations, ", "), stays, from
}

// thumbprintOf names a public half briefly; nothing for none.
func thumbprintOf(jwk json.RawMessage) string {
	if len(jwk) == 0 {
		return ""
	}
	text, err := client.Thumbprint(jwk)
	if err != nil {
		return ""
	}
	return text
}
