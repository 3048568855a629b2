package cli

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/certfiles"
	"tansu/internal/core/cert"
	"tansu/internal/server"
	"tansu/internal/wholefile"
	"tansu/internal/wire"
)

func (a *app) certCommand() *cobra.Command {
	command := &cobra.Command{
		Use:   "cert",
		Short: "Certificates: have them issued, renew them, bring them, write them to files",
		Long: `A certificate is an item with its chain and its private key. It ends when the certificate does, so that what is due, rules and
forewarnings know of it. Read it like any secret: #certificate and #private are its fields.

It comes from an authority of this chest (issue), from one elsewhere by ACME (order) or by hand (request, then answer), from files
(bring), or from itself (self-signed).`,
		RunE: noSubcommand,
	}
	command.AddCommand(a.certIssueCommand(), a.certRenewCommand(), a.certShowCommand(), a.certSaveCommand(), a.certKeepCommand(),
		a.certOrderCommand(),
		a.certBringCommand(), a.certSSHCommand(), a.certRequestCommand(), a.certAnswerCommand(), a.certSelfSignedCommand())
	return command
}

// orderFlags are what a certificate is wanted for.
type orderFlags struct {
	describedFlags
	client.Order
}

func (f *orderFlags) addAll(command *cobra.Command, names string) {
	f.add(command)
	command.Flags().StringSliceVar(&f.Names, "names", nil, names)
	command.Flags().StringVar(&f.Subject, "subject", "", "the common `name`, where something still asks for one (none)")
	command.Flags().StringVar(&f.KeyType, "key-type", "", "the `type` of key: ecdsa-p256, ecdsa-p384, ecdsa-p521, rsa-2048 to rsa-4096, "+
		"ed25519 (ecdsa-p256)")
}

func (f *orderFlags) order() client.Order {
	f.Description, f.Owner = f.description, f.owner
	return f.Order
}

func (a *app) certIssueCommand() *cobra.Command {
	var f orderFlags
	var request, out, keyOut string
	command := &cobra.Command{
		Use: "issue DRAWER/PROFILE", Short: "Have a certificate issued", Args: exactly("DRAWER/PROFILE"),
		Long: `Has the authority of a profile sign a certificate. Who has the key decides how:

  --into DRAWER/ITEM     the key is made in the chest and kept there with its certificate, for whoever may read the item
  --request FILE         the key is where it is, and FILE is a request for it (PKCS #10)
  --key FILE             a key is made here, into this new file that only you can read; no other machine ever has it

The certificate, with its chain, is written to standard output, or to --out FILE.`,
		Example: "  tansu cert issue harbour-gates-prod/gate-server --names gate-1.harbour.example --into harbour-gates-prod/gate-1\n" +
			"  tansu cert issue harbour-gates-prod/gate-server --request gate-2.csr --out gate-2.pem\n" +
			"  tansu cert issue harbour-gates-prod/gate-server --names gate-3.harbour.example --key gate-3.key --out gate-3.pem",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			ways := 0
			for _, way := range []string{f.Into, request, keyOut} {
				if way != "" {
					ways++
				}
			}
			if ways != 1 {
				return usagef("say who has the key: one of --into DRAWER/ITEM, --request FILE, --key FILE")
			}
			o := f.order()
			switch {
			case request != "":
				text, err := a.input(request)
				if err != nil {
					return err
				}
				o.Request = string(text)
				if block, _ := pem.Decode(text); block == nil { // DER
					o.Request = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: text}))
				}
			case keyOut != "":
				if o.Request, err = newRequest(o, keyOut); err != nil {
					return err
				}
				o.Names, o.Subject, o.KeyType = nil, "", ""
			}
			made, err := c.IssueCertificate(ctx, ref.Drawer, ref.Item, o)
			if err != nil {
				if keyOut != "" {
					_ = os.Remove(keyOut)
				}
				return err
			}
			return a.printMade(made, out)
		}),
	}
	f.addAll(command, "the host names, addresses, URIs or mail addresses that it is for")
	command.Flags().StringVar(&f.Life, "life", "", "how long it lasts, such as 30d (as long as the profile lets it)")
	command.Flags().StringVar(&f.Into, "into", "", "make the key in the chest, and put it with its certificate into this `item`")
	command.Flags().BoolVar(&f.Staged, "staged", false, "with --into: let it wait until somebody promotes it")
	command.Flags().StringVar(&request, "request", "", "the `file` of a request (PKCS #10); - for standard input")
	command.Flags().StringVar(&keyOut, "key", "", "make the key here, into this new `file`")
	command.Flags().StringVar(&out, "out", "", "write the certificate to this `file`")
	return command
}

// newRequest makes a key into a new file, and a request for it.
func newRequest(o client.Order, keyOut string) (string, error) {
	names, err := cert.ReadNames(o.Names)
	if err != nil {
		return "", usageError{err}
	}
	key, err := cert.NewKey(o.KeyType)
	if err != nil {
		return "", usageError{err}
	}
	private, err := cert.WritePrivate(key)
	if err != nil {
		return "", err
	}
	defer clear(private)
	request, err := cert.NewRequest(key, o.Subject, names)
	if err != nil {
		return "", err
	}
	file, err := os.OpenFile(keyOut, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return "", fmt.Errorf("%s exists: a new key goes into a new file", keyOut)
	}
	if err != nil {
		return "", err
	}
	_, err = file.Write(private)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		_ = os.Remove(keyOut)
	}
	return string(request), err
}

// printMade says what was issued, and where it is; a certificate that is in no item is written.
func (a *app) printMade(made client.MadeCertificate, out string) error {
	if made.Item == nil && out == "" && a.output == "table" {
		_, err := fmt.Fprint(a.Out, made.Certificate)
		return err
	}
	if out != "" {
		err := wholefile.Replace(out, 0o644, func(w io.Writer) error { _, err := io.WriteString(w, made.Certificate); return err })
		if err != nil {
			return err
		}
	}
	return a.show(made, func() {
		f := made.Facts
		where := out
		if made.Item != nil {
			where = fmt.Sprintf("%s@%d", made.Item.Reference, made.Version.Version)
		}
		names := strings.Join(f.Names, ", ")
		if names == "" {
			names = f.CommonName
		}
		fmt.Fprintf(a.Out, "%s is a certificate for %s, until %s (%s). Serial number %s.\n", where, names, stamp(f.NotAfter),
			relative(f.NotAfter, time.Now()), f.Serial)
		if made.Version != nil {
			for _, note := range made.Version.Notes {
				a.say("Note: %s", note)
			}
		}
	})
}

func (a *app) certRenewCommand() *cobra.Command {
	var life string
	var staged bool
	command := &cobra.Command{
		Use: "renew DRAWER/CERTIFICATE", Short: "Have a certificate issued again, for a new key", Args: exactly("DRAWER/CERTIFICATE"),
		Long: `Has the profile that a certificate was issued by sign another one for the same names and a new key, as a new version. It takes the
roles depositor on the item and subscriber on the profile. An agent does it
by itself (certificates in its file), and so does tansu cert keep.`,
		Example: "  tansu cert renew harbour-gates-prod/gate-1",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			made, err := c.RenewCertificate(ctx, ref.Drawer, ref.Item, life, staged)
			if err != nil {
				return err
			}
			return a.printMade(made, "")
		}),
	}
	command.Flags().StringVar(&life, "life", "", "how long it lasts, such as 30d (as long as the profile lets it)")
	command.Flags().BoolVar(&staged, "staged", false, "let it wait until somebody promotes it")
	return command
}

func (a *app) certShowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show DRAWER/CERTIFICATE | FILE", Short: "Show what a certificate says", Args: exactly("DRAWER/CERTIFICATE"),
		Long:    `Shows a certificate of the chest and its versions, or what a file in PEM says.`,
		Example: "  tansu cert show harbour-gates-prod/gate-1\n  tansu cert show ./gate-2.pem",
		RunE: func(cmd *cobra.Command, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil || strings.HasPrefix(arguments[0], ".") {
				return a.showFile(arguments[0])
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			h, err := c.History(cmd.Context(), ref.Drawer, ref.Item)
			if err != nil {
				return err
			}
			if h.Item.Certificate == nil {
				return fmt.Errorf("%s is a %s, and no certificate", h.Item.Reference, h.Item.Kind)
			}
			return a.show(h, func() { a.printHistory(h) })
		},
	}
}

func (a *app) showFile(name string) error {
	text, err := a.input(name)
	if err != nil {
		return err
	}
	chain, notes, err := cert.ReadChain(text, nil)
	if err != nil {
		return err
	}
	return a.show(cert.Describe(chain[0]), func() {
		for i, c := range chain {
			if i > 0 {
				fmt.Fprintln(a.Out)
			}
			fields(a.Out, certificateLines(wire.CertificateFacts(cert.Describe(c)))...)
		}
		for _, note := range notes {
			a.say("Note: %s", note)
		}
	})
}

// certificateLines say what a certificate says, or a profile.
func certificateLines(f client.Certificate) []string {
	if p := f.Profile; p != nil && p.JWT != nil {
		lines := []string{"key", p.Authority, "gives", "JSON Web Tokens", "issuer", p.JWT.Issuer, "audiences",
			strings.Join(p.JWT.Audiences, ", "),
			"subjects", cmp.Or(strings.Join(p.JWT.Subjects, ", "), "whoever asks"), "type", p.JWT.Type, "algorithm", p.JWT.Algorithm}
		for _, name := range slices.Sorted(maps.Keys(p.JWT.Claims)) {
			lines = append(lines, "may say "+name, strings.Join(p.JWT.Claims[name], ", "))
		}
		for _, name := range slices.Sorted(maps.Keys(p.JWT.Always)) {
			lines = append(lines, "says "+name, string(p.JWT.Always[name]))
		}
		return append(lines, "longest life", p.Longest)
	} else if p != nil {
		return []string{"authority", p.Authority, "gives names", strings.Join(namesOf(*p), ", "), "usages", strings.Join(p.Usages, ", "),
			"types of keys", strings.Join(p.KeyTypes, ", "), "longest life", p.Longest}
	}
	waits := ""
	if f.Request != "" {
		waits = "a key waits for its certificate"
	}
	revoked := ""
	if f.Revoked != "" {
		revoked = strings.ReplaceAll(f.Revoked, "_", " ") + ": renew it (tansu cert renew)"
	}
	ends := ""
	if !f.NotAfter.IsZero() {
		ends = stamp(f.NotAfter) + " (" + relative(f.NotAfter, time.Now()) + ")"
	}
	return []string{"subject", f.Subject, "names", strings.Join(f.Names, ", "), "issued by", issuerText(f), "serial number", f.Serial,
		"type of key", f.KeyType, "usages", strings.Join(f.Usages, ", "), "valid from", stamp(f.NotBefore), "valid until", ends, "fingerprint",
		f.Fingerprint, "may sign for", strings.Join(f.Within, ", "), "request", waits, "REVOKED", revoked}
}

func (a *app) certSaveCommand() *cobra.Command {
	var certificate, private, pkcs, passwordFile string
	command := &cobra.Command{
		Use: "save DRAWER/CERTIFICATE[@VERSION]", Short: "Write a certificate and its key to files", Args: exactly("DRAWER/CERTIFICATE"),
		Long: `Reads a certificate as whoever is signed in, and writes it to files that only you can read, each whole or not at all: the
certificate with its chain, the private key, or both in one file of PKCS #12 under a password that is asked for. Where a program is to have
them for longer, let an agent keep the files new (tansu agent).`,
		Example: "  tansu cert save harbour-gates-prod/gate-1 --certificate gate-1.pem --private gate-1.key\n" +
			"  tansu cert save harbour-gates-prod/gate-1 --pkcs12 gate-1.p12",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			if certificate == "" && private == "" && pkcs == "" {
				return usagef("say where to: --certificate FILE, --private FILE, or --pkcs12 FILE")
			}
			value, err := c.ReadValue(ctx, ref.String())
			if err != nil {
				return err
			}
			chain, key := value.Field("certificate"), value.Field("private")
			defer clear(key)
			if value.Shape != "certificate" || len(chain) == 0 || len(key) == 0 {
				return fmt.Errorf("%s is no certificate with its key", ref)
			}
			files := map[string][]byte{}
			if certificate != "" {
				files[certificate] = chain
			}
			if private != "" {
				files[private] = key
			}
			if pkcs != "" {
				password, err := a.filePassword(pkcs, passwordFile)
				if err != nil {
					return err
				}
				defer password.Wipe()
				if files[pkcs], err = writePKCS12(chain, key, string(password.Reveal())); err != nil {
					return err
				}
			}
			for name, content := range files {
				err := wholefile.Replace(name, 0o600, func(w io.Writer) error { _, err := w.Write(content); return err })
				if err != nil {
					return err
				}
			}
			a.say("Version %d of %s is in the files, which only you can read.", value.Version, ref)
			return nil
		}),
	}
	command.Flags().StringVar(&certificate, "certificate", "", "the `file` of the certificate and its chain, in PEM")
	command.Flags().StringVar(&private, "private", "", "the `file` of the private key, in PEM")
	command.Flags().StringVar(&pkcs, "pkcs12", "", "the `file` of both, in PKCS #12")
	command.Flags().StringVar(&passwordFile, "password-file", "", "the `file` with the password of that; asked for when it is left out")
	return a.withReason(command)
}

// isMissing reports whether an error says that what was named does not exist.
func isMissing(err error) bool {
	var problem *client.Problem
	return errors.As(err, &problem) && problem.Code == "not_found"
}

func (a *app) certBringCommand() *cobra.Command {
	var d describedFlags
	var files broughtFlags
	command := &cobra.Command{
		Use: "bring DRAWER/CERTIFICATE", Short: "Bring a certificate and its key from files", Args: exactly("DRAWER/CERTIFICATE"),
		Long: `Takes a certificate with those that it leads to, in any order, and its private key; a new version, if there is one already. A
certificate and a key that do not belong together are refused.`,
		Example: "  tansu cert bring ticketing-prod/web-certificate --certificate fullchain.pem --private privkey.pem\n" +
			"  tansu cert bring ticketing-prod/web-certificate --pkcs12 web.p12",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			chain, private, err := files.read(a)
			if err != nil {
				return err
			}
			defer clear(private)
			version := client.NewVersion{Fields: []client.NewField{{Name: "certificate", Value: base64.StdEncoding.EncodeToString(chain)},
				{Name: "private", Value: base64.StdEncoding.EncodeToString(private)}}}
			stored, err := c.AddVersion(ctx, ref.Drawer, ref.Item, 0, version)
			if isMissing(err) {
				stored, err = c.CreateItem(ctx, ref.Drawer, client.NewItem{Name: ref.Item, Description: d.description, Owner: d.owner,
					Shape: "certificate", Version: version})
			}
			if err != nil {
				return err
			}
			return a.printMade(client.MadeCertificate{Facts: *stored.Version.Certificate, Item: &stored.Item, Version: &stored.Version}, "")
		}),
	}
	d.add(command)
	files.add(command)
	return command
}

func (a *app) certRequestCommand() *cobra.Command {
	var f orderFlags
	command := &cobra.Command{
		Use: "request DRAWER/CERTIFICATE", Short: "Make a key and a request, for an authority elsewhere", Args: exactly("DRAWER/CERTIFICATE"),
		Long: `Makes a key in the chest and writes a request for its certificate (PKCS #10), for an authority elsewhere. The key waits in a staged
version until the certificate is put beside it (tansu cert answer).`,
		Example: "  tansu cert request ticketing-prod/web-certificate --names tickets.ferries.example > web.csr",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			made, err := c.RequestCertificate(ctx, ref.Drawer, ref.Item, f.order())
			if err != nil {
				return err
			}
			return a.show(made, func() {
				fmt.Fprint(a.Out, made.Request)
				a.say("Its key waits in %s@%d. When the certificate has come: tansu cert answer %s FILE", made.Item.Reference,
					made.Version.Version, made.Item.Reference)
			})
		}),
	}
	f.addAll(command, "the host names, addresses, URIs or mail addresses that it is for")
	return command
}

func (a *app) certAnswerCommand() *cobra.Command {
	var staged bool
	command := &cobra.Command{
		Use: "answer DRAWER/CERTIFICATE FILE", Short: "Put the certificate beside the key that waits for it",
		Args: exactly("DRAWER/CERTIFICATE", "FILE"), Example: "  tansu cert answer ticketing-prod/web-certificate web.pem",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			text, err := a.input(arguments[1])
			if err != nil {
				return err
			}
			stored, err := c.AnswerCertificate(ctx, ref.Drawer, ref.Item, string(text), staged)
			if err != nil {
				return err
			}
			return a.printMade(client.MadeCertificate{Facts: *stored.Version.Certificate, Item: &stored.Item, Version: &stored.Version}, "")
		}),
	}
	command.Flags().BoolVar(&staged, "staged", false, "let it wait until somebody promotes it")
	return command
}

func (a *app) certSelfSignedCommand() *cobra.Command {
	var f orderFlags
	command := &cobra.Command{
		Use: "self-signed DRAWER/CERTIFICATE", Short: "Make a certificate that is signed by its own key", Args: exactly("DRAWER/CERTIFICATE"),
		Long: `Makes a key and a certificate that nothing but its own key signs, for programs that are told to trust this one. Where several
machines trust several others, an authority is less work (tansu authority).`,
		Example: "  tansu cert self-signed fleet-telemetry-prod/broker --names broker.ferries.example --life 365d",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			made, err := c.SelfSigned(ctx, ref.Drawer, ref.Item, f.order())
			if err != nil {
				return err
			}
			return a.printMade(made, "")
		}),
	}
	f.addAll(command, "the host names, addresses, URIs or mail addresses that it is for")
	command.Flags().StringVar(&f.Life, "life", "365d", "how long it lasts")
	return command
}

func (a *app) certKeepCommand() *cobra.Command {
	var f certfiles.Files
	var outside outsideFlags
	command := &cobra.Command{
		Use: "keep DRAWER/CERTIFICATE [-- COMMAND …]", Short: "Keep the files of a certificate new", Args: cobra.MinimumNArgs(1),
		Long: `Writes a certificate and its key to files and stays: it has the certificate renewed after two thirds of its life, puts the new one
into the files, each whole or not at all, and runs COMMAND, so that the program that has them open takes them. With --by a certificate that
does not exist yet is issued first; with --from it is ordered from an authority outside, as by tansu cert order, and each one after it. An
agent does the same for all certificates of a host (certificates in its file).

It takes the role consumer on the certificate, and to renew it depositor there and subscriber on its profile.`,
		Example: "  tansu cert keep harbour-gates-prod/gate-1 --chain /etc/nginx/gate.pem --key /etc/nginx/gate.key -- nginx -s reload\n" +
			"  tansu cert keep harbour-gates-prod/gate-1 --both /etc/nginx/gate.pem \\\n" +
			"    --by harbour-gates-prod/gate-server --names gate-1.harbour.example -- nginx -s reload",
		RunE: func(cmd *cobra.Command, arguments []string) error {
			f.Certificate, f.Then = arguments[0], arguments[1:]
			if dash := cmd.ArgsLenAtDash(); len(f.Then) > 0 && dash != 1 {
				return usagef("the command comes after two dashes: tansu cert keep %s … -- COMMAND", arguments[0])
			}
			order, err := outside.order()
			if err != nil {
				return err
			}
			f.Order = order
			for _, path := range []*string{&f.Chain, &f.Key, &f.Both} {
				if *path == "" {
					continue
				}
				absolute, err := filepath.Abs(*path)
				if err != nil {
					return err
				}
				*path = absolute
			}
			if f.Both == "" && (f.Chain == "" || f.Key == "") {
				return usagef("say where it goes: --chain FILE --key FILE, or --both FILE")
			}
			if err := f.Check(); err != nil {
				return usageError{err}
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			if err := server.HideMemory(); err != nil {
				return err
			}
			keeper := certfiles.Keeper{Files: f, Chest: c, Log: slog.New(slog.NewTextHandler(a.Err, nil))}
			keeper.Keep(cmd.Context())
			return nil
		},
	}
	command.Flags().StringVar(&f.Chain, "chain", "", "the `file` of the certificate with those that it leads to")
	command.Flags().StringVar(&f.Key, "key", "", "the `file` of its private key")
	command.Flags().StringVar(&f.Both, "both", "", "one `file` for all of it, instead")
	command.Flags().StringVar(&f.Owner, "owner", "", "whose the files shall be: `user`, user:group or :group")
	command.Flags().StringVar(&f.Mode, "mode", "", "who may read them, in `octal` (0400)")
	command.Flags().StringVar(&f.By, "by", "", "the `profile` that issues it when it does not exist yet")
	command.Flags().StringSliceVar(&f.Names, "names", nil, "with --by and --from: the names that it is for")
	outside.add(command)
	return command
}

func (a *app) certSSHCommand() *cobra.Command {
	var o client.Order
	var public, out string
	command := &cobra.Command{
		Use: "ssh DRAWER/PROFILE", Short: "Have a certificate for SSH issued", Args: exactly("DRAWER/PROFILE"),
		Long: `Has the key of a profile certify a public key for SSH, for a short time: ssh then presents it by itself, and servers that trust the
authority's key let in whom it names. Nothing is kept on the servers, and nothing of the private key is seen by the chest.

The certificate is written beside the public key, as ssh looks for it (id_ed25519-cert.pub), or to --out.`,
		Example: "  tansu cert ssh harbour-gates-prod/gate-login --names deploy --life 8h\n" +
			"  tansu cert ssh harbour-gates-prod/gate-host --names gate-1.harbour.example --public /etc/ssh/ssh_host_ed25519_key.pub",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			if public == "" {
				home, err := os.UserHomeDir()
				if err != nil {
					return usagef("say which public key: --public FILE")
				}
				public = filepath.Join(home, ".ssh", "id_ed25519.pub")
			}
			key, err := a.input(public)
			if err != nil {
				return err
			}
			o.PublicKey = string(key)
			made, err := c.IssueCertificate(ctx, ref.Drawer, ref.Item, o)
			if err != nil {
				return err
			}
			if out == "" {
				out = strings.TrimSuffix(public, ".pub") + "-cert.pub"
			}
			err = wholefile.Replace(out, 0o644, func(w io.Writer) error { _, err := io.WriteString(w, made.Certificate); return err })
			if err != nil {
				return err
			}
			return a.show(made, func() {
				fmt.Fprintf(a.Out, "%s is a certificate for %s, until %s (%s). See what it says: ssh-keygen -L -f %s\n", out,
					strings.Join(made.Facts.Names, ", "), stamp(made.Facts.NotAfter), relative(made.Facts.NotAfter, time.Now()), out)
			})
		}),
	}
	command.Flags().StringSliceVar(&o.Names, "names", nil, "the principals: accounts, or host names")
	command.Flags().StringVar(&public, "public", "", "the `file` of the public key (~/.ssh/id_ed25519.pub)")
	command.Flags().StringVar(&out, "out", "", "write the certificate to this `file`")
	command.Flags().StringVar(&o.Life, "life", "", "how long it lasts, such as 8h (as long as the profile lets it)")
	return command
}
