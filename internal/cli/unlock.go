package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/envelope"
	"tansu/internal/core/recipient"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/shares"
	"tansu/internal/hardware"
	"tansu/internal/server"
)

// unlockMaterial reads the key file, or asks for the passphrase when there is none.
func (a *app) unlockMaterial(keyFile string) (secretvalue.Value, error) {
	if keyFile != "" {
		return server.ReadKeyFile(keyFile)
	}
	return a.ask("passphrase")
}

func (a *app) unlockCommand() *cobra.Command {
	var keyFile string
	var share bool
	command := &cobra.Command{
		Use:   "unlock [--key-file FILE | --share]",
		Short: "Open the chest with its passphrase, a key file or shares",
		Long: `Opens the chest by any of its unlock methods. With --share you hand in your share, whose words are asked for without showing
them, or read from standard input: from anywhere, without signing in, and nobody sees another one's. The chest opens with the last
one that is needed. If no other share comes for fifteen minutes, those that were handed in are forgotten.`,
		Example: "  tansu unlock\n  tansu unlock --key-file /root/tansu.key\n  tansu unlock --share",
		Args:    exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			if share && keyFile != "" {
				return usagef("--share and --key-file are two methods: give one of them")
			}
			if share {
				return a.handIn(ctx, c)
			}
			material, err := a.unlockMaterial(keyFile)
			if err != nil {
				return err
			}
			defer material.Wipe()
			status, err := c.Unlock(ctx, string(material.Reveal()))
			if err != nil {
				return err
			}
			return a.show(status, func() { fmt.Fprintf(a.Out, "Chest %s is unlocked.\n", status.Chest) })
		}),
	}
	command.Flags().StringVar(&keyFile, "key-file", "", "an unlock key `file`")
	command.Flags().BoolVar(&share, "share", false, "hand in your share, which is asked for")
	return command
}

// askShare reads the words of a share, on one line or on several as they were printed.
func (a *app) askShare() (secretvalue.Value, error) {
	read := func() (secretvalue.Value, error) {
		var words [][]byte
		for len(words) < shares.WordCount {
			line, err := a.readLine()
			if err != nil && !errors.Is(err, io.EOF) {
				return secretvalue.Value{}, usagef("the share could not be read; it comes from a terminal or from standard input")
			}
			words = append(words, shares.Fields(line)...)
			if err != nil || len(line) == 0 {
				break
			}
		}
		if len(words) == 0 {
			return secretvalue.Value{}, usagef("nothing was entered; the words of the share come from a terminal or from standard input")
		}
		return secretvalue.New(bytes.Join(words, []byte("-"))), nil
	}
	if !a.terminal() {
		return read()
	}
	return a.quietly(func() (secretvalue.Value, error) {
		fmt.Fprint(a.Err, "The words of your share, which are not shown; on one line or several: ")
		defer fmt.Fprintln(a.Err)
		return read()
	})
}

// handIn hands in a share. The exit code is 0 although more are needed: what was asked for is done.
func (a *app) handIn(ctx context.Context, c *client.Client) error {
	before, err := c.Status(ctx)
	if err != nil {
		return err
	}
	words, err := a.askShare()
	if err != nil {
		return err
	}
	defer words.Wipe()
	status, err := c.HandIn(ctx, string(words.Reveal()))
	if err != nil {
		return err
	}
	return a.show(status, func() {
		switch {
		case len(status.Shares) > 0:
			for _, h := range status.Shares {
				fmt.Fprintf(a.Out, "%s: %d of %d shares are there. The next one has a quarter of an hour.\n", h.Method, h.Have, h.Needed)
			}
		case before.State == "locked":
			fmt.Fprintf(a.Out, "Chest %s is unlocked.\n", status.Chest)
		default:
			fmt.Fprintln(a.Out, "The shares are enough: within ten minutes they stand in for the current material of one change, with --by-shares.")
		}
	})
}

func (a *app) lockCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "lock",
		Short: "Lock the chest: it forgets its keys until the next unlock",
		Args:  exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			status, err := c.Lock(ctx)
			if err != nil {
				return err
			}
			return a.show(status, func() { fmt.Fprintf(a.Out, "Chest %s is locked.\n", status.Chest) })
		}),
	}
}

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "status",
		Short: "Show whether the chest answers and is unlocked, and what is wrong with it",
		Long: `Shows the chest's state, and what is wrong with it as a whole: since when, and what to do about it. The exit code is 6 while it is
locked or nothing can be recorded, and 1 when something else is wrong.`,
		Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			status, err := c.Status(ctx)
			if err != nil {
				return err
			}
			if err := a.show(status, func() { a.printStatus(c, status) }); err != nil {
				return err
			}
			switch {
			case status.State == "locked" || !status.Records:
				return exitCodeOf(exitLocked)
			case len(status.Problems) > 0:
				return exitCodeOf(exitFailed)
			}
			return nil
		}),
	}
}

func (a *app) printStatus(c *client.Client, status client.Status) {
	trail := "can be written"
	if !status.Records {
		trail = "cannot be written, so that nothing is served"
	}
	fields(a.Out, "chest", status.Chest, "address", c.Address(), "state", status.State, "trail", trail,
		"unlocked by", strings.Join(status.Methods, ", "), "version", status.Version)
	for _, h := range status.Shares {
		fmt.Fprintf(a.Out, "\n%d of %d shares of %s were handed in, the first %s.\n", h.Have, h.Needed, h.Method, relative(h.Since, time.Now()))
	}
	for _, p := range status.Problems {
		since := ""
		if !p.Since.IsZero() {
			since = " (since " + stamp(p.Since) + ")"
		}
		fmt.Fprintf(a.Out, "\n✗ %s%s\n  → %s\n", printable(p.What), since, printable(p.Next))
	}
}

func (a *app) unlockMethodCommand() *cobra.Command {
	command := &cobra.Command{Use: "unlock-method", Short: "Manage unlock methods: passphrases, key files, shares of custodians",
		RunE: noSubcommand}
	command.AddCommand(a.listMethodsCommand(), a.addMethodCommand(false), a.addMethodCommand(true), a.endMethodCommand())
	return command
}

func (a *app) listMethodsCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the unlock methods, when each was used last, and who holds shares",
		Args:  exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.UnlockMethods(ctx)
			if err != nil {
				return err
			}
			return a.show(list, func() {
				t := table{head: []string{"NAME", "KIND", "END", "USED", "MADE", "BY", "SHARES"}}
				for _, m := range list {
					t.add(m.Name, m.Kind, cmp.Or(endText(m.NotAfter), "no end"), relative(m.Used, time.Now()),
						relative(m.CreatedAt, time.Now()), m.CreatedBy, sharesText(m))
				}
				a.printTable(t, "")
			})
		}),
	}
}

func endText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return relative(t, time.Now())
}

func sharesText(m client.UnlockMethod) string {
	if m.Needed == 0 {
		return "-"
	}
	var holders []string
	for _, h := range m.Custodians {
		text := h.Subject
		if h.Taken.IsZero() {
			text += " (not taken yet)"
		}
		holders = append(holders, text)
	}
	return fmt.Sprintf("%d of %d: %s", m.Needed, len(m.Custodians), strings.Join(holders, ", "))
}

// proofFlags are how one shows what opens the chest now.
type proofFlags struct {
	keyFile string
	shares  bool
}

func (p *proofFlags) add(command *cobra.Command) {
	command.Flags().StringVar(&p.keyFile, "key-file", "",
		"show that you can open the chest with this key `file`; a passphrase is asked for without it")
	command.Flags().BoolVar(&p.shares, "by-shares", false, "shares were handed in a moment ago (tansu unlock --share)")
}

// current asks for what opens the chest now.
func (a *app) current(p proofFlags) (secretvalue.Value, error) {
	switch {
	case p.shares:
		return secretvalue.Value{}, nil
	case p.keyFile != "":
		return server.ReadKeyFile(p.keyFile)
	}
	return a.ask("current passphrase")
}

const addMethodLong = `A chest can have several unlock methods at once, each of which opens it by itself: a passphrase, which is
asked for twice; a key file, which is made, and can be sealed by a TPM or a PKCS #11 token, so that a copy of it opens nothing
elsewhere; or shares, of which some number together opens it. Each custodian signs in and takes their share themselves
(tansu share take). You show what opens the chest now, because whoever could add a passphrase without that could open any
copy of the file.`

func (a *app) addMethodCommand(replace bool) *cobra.Command {
	var n client.NewUnlockMethod
	var proof proofFlags
	var made keyFile
	var until, name string
	var passphrase bool
	command := &cobra.Command{
		Use:   "add NAME (--passphrase | --new-key-file FILE | --shares N --custodian PERSON …)",
		Short: "Add an unlock method",
		Long:  addMethodLong,
		Example: `  tansu unlock-method add night-shift --passphrase
  tansu unlock-method add boot --new-key-file /etc/tansu/boot.key
  tansu unlock-method add boot --new-key-file /etc/tansu/boot.sealed --sealed-by tpm:pcrs=7
  tansu unlock-method add boot --new-key-file /etc/tansu/boot.sealed \
    --sealed-by 'pkcs11:token=chest;object=unlock?module-path=/usr/lib/softhsm/libsofthsm2.so&pin-source=file:/etc/tansu/token.pin'
  tansu unlock-method add custodians --shares 2 --custodian security-duty --custodian harbour-master --custodian audit-desk`,
		Args: exactly("NAME"),
	}
	if replace {
		command.Use = "replace NAME (--passphrase | --new-key-file FILE | --shares N --custodian PERSON …)"
		command.Short = "Put another passphrase, key file or set of shares in the place of one"
		command.Long = "Adds a method and ends the one that it replaces, in one step. Copies of the chest from before still open by " +
			"the old one.\n\n" + addMethodLong
		command.Example = `  tansu unlock-method replace founding --passphrase
  tansu unlock-method replace custodians --name custodians-2027 --shares 3 --custodian security-duty --custodian harbour-master …`
		command.Flags().StringVar(&name, "name", "", "the new one's `name`; the old one's with a number, if left out")
	}
	command.RunE = a.withClient(func(ctx context.Context, c *client.Client, arguments []string) (err error) {
		n.Name = arguments[0]
		if replace {
			if n.Name, n.Replaces, err = replacing(ctx, c, arguments[0], name); err != nil {
				return err
			}
		}
		if n.NotAfter, err = moment("--until", until); err != nil {
			return err
		}
		if n.Kind, err = kindOf(passphrase, made, n); err != nil {
			return err
		}
		for i, who := range n.Custodians {
			if !strings.Contains(who, ":") {
				n.Custodians[i] = "person:" + who
			}
		}
		return a.addMethod(ctx, c, n, proof, made)
	})
	command.Flags().BoolVar(&passphrase, "passphrase", false, "by a passphrase, which is asked for twice")
	command.Flags().StringVar(&made.name, "new-key-file", "", "by a key `file`, which is made")
	command.Flags().StringVar(&made.sealedBy, "sealed-by", "", "seal the new key file by this `hardware`: tpm:, or a PKCS #11 URI (RFC 7512)")
	command.Flags().IntVar(&n.Needed, "shares", 0, "by so `many` of the custodians' shares together")
	command.Flags().StringArrayVar(&n.Custodians, "custodian", nil, "a `person` who gets a share; can be repeated")
	command.Flags().StringVar(&until, "until", "", "when it ends: a `time`, or a duration such as 90d; no end, if left out")
	proof.add(command)
	return command
}

// keyFile is one that is to be made.
type keyFile struct{ name, sealedBy string }

func kindOf(passphrase bool, file keyFile, n client.NewUnlockMethod) (kind string, err error) {
	chosen := 0
	for by, is := range map[string]bool{envelope.MethodPassphrase: passphrase, envelope.MethodKeyFile: file.name != "",
		envelope.MethodShares: n.Needed > 0 || len(n.Custodians) > 0} {
		if is {
			kind = by
			chosen++
		}
	}
	if chosen != 1 {
		return "", usagef("give one of --passphrase, --new-key-file FILE, or --shares N with --custodian PERSON")
	}
	if file.sealedBy != "" && kind != envelope.MethodKeyFile {
		return "", usagef("--sealed-by goes with --new-key-file FILE: the file has what only that hardware opens")
	}
	if file.sealedBy != "" {
		kind = envelope.MethodHardware
	}
	return kind, nil
}

// replacing finds the method that ends, and a name for the one in its place.
func replacing(ctx context.Context, c *client.Client, old, name string) (_, id string, err error) {
	list, err := c.UnlockMethods(ctx)
	if err != nil {
		return "", "", err
	}
	var names []string
	for _, m := range list {
		names = append(names, m.Name)
		if m.Name == old {
			id = m.ID
		}
	}
	if id == "" {
		return "", "", usagef("there is no unlock method named %s; there are %s", old, strings.Join(names, ", "))
	}
	for n := 2; name == ""; n++ {
		if next := fmt.Sprintf("%s-%d", strings.TrimRight(strings.TrimRight(old, "0123456789"), "-"), n); !slices.Contains(names, next) {
			name = next
		}
	}
	return name, id, nil
}

func (a *app) addMethod(ctx context.Context, c *client.Client, n client.NewUnlockMethod, proof proofFlags, file keyFile) error {
	current, err := a.current(proof)
	if err != nil {
		return err
	}
	defer current.Wipe()
	n.Current = string(current.Reveal())
	var material secretvalue.Value
	switch n.Kind {
	case envelope.MethodPassphrase:
		if material, err = a.askNew("new passphrase"); err != nil {
			return err
		}
		if err := envelope.CheckPassphrase(material); err != nil {
			return usageError{err}
		}
	case envelope.MethodKeyFile, envelope.MethodHardware:
		material = envelope.NewKeyFile(n.Kind)
		content := material
		if n.Kind == envelope.MethodHardware {
			sealed, err := hardware.Seal(file.sealedBy, material)
			if err != nil {
				return fmt.Errorf("seal the key: %w", err)
			}
			content = secretvalue.New(sealed)
		}
		if err := writeNew(file.name, content); err != nil { // first, so that there is no method that nothing opens
			return err
		}
	}
	defer material.Wipe()
	n.Material = string(material.Reveal())
	made, err := c.AddUnlockMethod(ctx, n)
	if err != nil {
		var problem *client.Problem
		if file.name != "" && errors.As(err, &problem) { // else it may have been added
			_ = os.Remove(file.name)
		}
		return err
	}
	return a.show(made, func() {
		fmt.Fprintf(a.Out, "%s opens the chest, by %s.\n", made.Name, strings.ReplaceAll(made.Kind, "_", " "))
		if n.Kind == envelope.MethodHardware {
			fmt.Fprintln(a.Out, "It is lost with the machine or the token: one of the other methods must stay.")
		}
		if n.Replaces != "" {
			fmt.Fprintln(a.Out, "What it replaces no longer opens the chest; older copies of the chest still open by it.")
		}
		if len(made.Custodians) > 0 {
			fmt.Fprintf(a.Out, "Each of these takes their share now, once: tansu share take\n  %s\n", sharesText(made))
		}
	})
}

func (a *app) endMethodCommand() *cobra.Command {
	var proof proofFlags
	command := &cobra.Command{
		Use:   "end NAME",
		Short: "End an unlock method, once another one opens the chest",
		Long: `Prove that another method still opens the chest by giving its passphrase or key file. Older copies of the chest still open by the
method that you end: if it was exposed, rotate the root key as well (tansu root-key rotate), and make new backups.`,
		Args: exactly("NAME"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			_, id, err := replacing(ctx, c, arguments[0], "-")
			if err != nil {
				return err
			}
			current, err := a.current(proof)
			if err != nil {
				return err
			}
			defer current.Wipe()
			if err := c.EndUnlockMethod(ctx, id, string(current.Reveal())); err != nil {
				return err
			}
			return a.show(map[string]string{"ended": arguments[0]}, func() { fmt.Fprintf(a.Out, "%s no longer opens the chest.\n", arguments[0]) })
		}),
	}
	proof.add(command)
	return command
}

func (a *app) rootKeyCommand() *cobra.Command {
	command := &cobra.Command{Use: "root-key", Short: "Rotate the chest's root key", RunE: noSubcommand}
	var proof proofFlags
	rotate := &cobra.Command{
		Use:     "rotate",
		Aliases: []string{"turn"}, // what it was called before
		Short:   "Make a new root key, and wrap all keys under it",
		Long: `Makes a new root key and wraps the keys of all drawers, and that of the certificate authority, under it; the old one opens nothing
that is in the file any more. It is one step: whole, or not at all. How the chest is unlocked does not change. Whoever had the old root
key may have the keys of drawers from it: tansu drawer rotate-key replaces those.`,
		Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			current, err := a.current(proof)
			if err != nil {
				return err
			}
			defer current.Wipe()
			wrapped, err := c.RotateRootKey(ctx, string(current.Reveal()))
			if err != nil {
				return err
			}
			return a.show(map[string]int{"wrapped": wrapped}, func() {
				fmt.Fprintf(a.Out, "The root key is rotated; %s wrapped under the new one. Earlier backups still open as they did.\n",
					keysWere(wrapped))
			})
		}),
	}
	proof.add(rotate)
	command.AddCommand(rotate)
	return command
}

func keysWere(n int) string {
	if n == 1 {
		return "1 key was"
	}
	return fmt.Sprintf("%d keys were", n)
}

func (a *app) shareCommand() *cobra.Command {
	command := &cobra.Command{Use: "share", Short: "See and take your share of what unlocks the chest", RunE: noSubcommand}
	list := &cobra.Command{
		Use:   "list",
		Short: "List the shares that you hold, or that wait for you",
		Args:  exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			shares, err := c.Shares(ctx)
			if err != nil {
				return err
			}
			return a.show(shares, func() {
				t := table{head: []string{"METHOD", "SHARE", "NEEDED", "TAKEN"}}
				for _, s := range shares {
					t.add(s.Method, fmt.Sprintf("%d of %d", s.Number, s.Count), fmt.Sprint(s.Needed), cmp.Or(stamp(s.Taken), "not yet"))
				}
				a.printTable(t, "You hold no share.")
			})
		}),
	}
	var to string
	take := &cobra.Command{
		Use:   "take [METHOD]",
		Short: "Take your share, once: it is kept nowhere else from then on",
		Long: `Prints the words of your share on standard output. Write them on paper, or give them to a program that keeps them for you; they are not
shown again. By themselves they open nothing. With --for they are encrypted to the public key of a pair of yours before they are written
anywhere (tansu recipient makes one).`,
		Example: `  tansu share take
  tansu share take custodians --for my.key.pub > share.sealed
  tansu open share.sealed --key my.key | tansu unlock --share`,
		Args: upTo(1),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			waiting, err := c.Shares(ctx)
			if err != nil {
				return err
			}
			waiting = slices.DeleteFunc(waiting, func(s client.Custody) bool {
				return !s.Taken.IsZero() || len(arguments) > 0 && s.Method != arguments[0]
			})
			switch {
			case len(waiting) == 0:
				return errors.New("no share waits for you: tansu share list shows those that you hold")
			case len(waiting) > 1:
				return usagef("%d shares wait for you: name the method (tansu share list)", len(waiting))
			}
			var key *recipient.Public
			if to != "" { // before it is taken, which is once
				if key, err = readPublicKey(to); err != nil {
					return err
				}
			}
			taken, err := c.TakeShare(ctx, waiting[0].ID)
			if err != nil {
				return err
			}
			if key != nil {
				sealed, err := key.Seal([]byte(taken.Words))
				if err != nil { // it is not given again
					fmt.Fprintln(a.Out, taken.Words)
					return fmt.Errorf("the share could not be encrypted, and is written as it is: %w", err)
				}
				a.say("Share %d of %d of %s is encrypted to %s.", taken.Number, taken.Count, taken.Method, filepath.Base(to))
				return a.writeWhole(sealed)
			}
			return a.show(taken, func() {
				a.say("Share %d of %d of %s; %d open the chest together. Keep it: it is not shown again.", taken.Number, taken.Count, taken.Method,
					taken.Needed)
				words := strings.Split(taken.Words, "-")
				for line := range slices.Chunk(words, 7) {
					fmt.Fprintln(a.Out, strings.Join(line, " "))
				}
			})
		}),
	}
	take.Flags().StringVar(&to, "for", "", "encrypt it to the public key in this `file`")
	command.AddCommand(list, take)
	return command
}
