package cli

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/reference"
)

func (a *app) authorityCommand() *cobra.Command {
	command := &cobra.Command{
		Use:   "authority",
		Short: "Authorities of your own, which sign certificates in the chest",
		Long: `An authority (CA) is an item whose key never leaves the chest: it signs certificates there. A profile says which names, keys and
lives it certifies, and a grant of the role subscriber on the profile says who may have such a certificate.

  tansu authority create harbour-gates-prod/gate-authority --subject "Harbour gates" --within harbour.example
  tansu authority profile harbour-gates-prod/gate-server --authority gate-authority --names "*.harbour.example" --longest 90d
  tansu grant give app:gate-controller subscriber harbour-gates-prod/gate-server
  tansu cert issue harbour-gates-prod/gate-server --names gate-1.harbour.example --into harbour-gates-prod/gate-1`,
		RunE: noSubcommand,
	}
	command.AddCommand(a.authorityCreateCommand(), a.authorityBringCommand(), a.authorityProfileCommand(), a.authorityShowCommand(),
		a.authorityRenewCommand(), a.authorityIssuedCommand(), a.authorityRevokeCommand())
	return command
}

// describedFlags are what is said of a new item.
type describedFlags struct{ description, owner string }

func (f *describedFlags) add(command *cobra.Command) {
	command.Flags().StringVar(&f.description, "description", "", "of a new item: what it is, on one line")
	command.Flags().StringVar(&f.owner, "owner", "", "of a new item: who answers for it, such as person:ticketing-lead")
}

// servedAt is where those who check a certificate find this chest: the flag, or the address of the connection. "none" is nowhere.
func servedAt(c *client.Client, flag string) string {
	switch {
	case flag == "none":
		return ""
	case flag != "":
		return flag
	case strings.HasPrefix(c.Address(), "http://agent"):
		return ""
	}
	return c.Address()
}

const servedAtHelp = "the `URL` of this chest for whoever checks a certificate, who finds there what is revoked; " +
	"none for no such URL (the address of the connection)"

func (a *app) authorityCreateCommand() *cobra.Command {
	var d describedFlags
	var n client.NewAuthority
	var at string
	below := -1
	command := &cobra.Command{
		Use: "create DRAWER/AUTHORITY", Short: "Make an authority in the chest", Args: exactly("DRAWER/AUTHORITY"),
		Long: `Makes an authority. By itself it is one that others have to be told to trust (tansu authority show --pem); --under another one
makes it an intermediate, which whoever trusts that trusts too. --within keeps what it signs to some host names, each with all below it,
and networks: say it, so that a mistake, or a thief, cannot certify anything else.`,
		Example: "  tansu authority create harbour-gates-prod/gate-root --subject \"Harbour root\" --within harbour.example --life 7300d\n" +
			"  tansu authority create harbour-gates-prod/gate-authority --subject \"Harbour gates\" --under harbour-gates-prod/gate-root",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			if n.Subject == "" {
				return usagef("say what it is called in certificates: --subject \"Harbour gates\"")
			}
			n.Name, n.Description, n.Owner, n.ServedAt = ref.Item, d.description, d.owner, servedAt(c, at)
			if below >= 0 {
				n.PathLength = &below
			}
			stored, err := c.CreateAuthority(ctx, ref.Drawer, n)
			if err != nil {
				return err
			}
			return a.show(stored, func() { a.printAuthorityMade(stored) })
		}),
	}
	d.add(command)
	command.Flags().StringVar(&n.Subject, "subject", "", "its `name` in certificates")
	command.Flags().StringVar(&n.Life, "life", "3650d", "how long it lasts")
	command.Flags().StringVar(&n.Under, "under", "",
		"the `authority` that certifies it, as DRAWER/AUTHORITY; it takes the right to change its rules")
	command.Flags().IntVar(&below, "path-length", -1, "how many authorities may follow below it (any number)")
	command.Flags().StringSliceVar(&n.Within, "within", nil, "the host names, each with all below it, and networks that it may sign for (any)")
	command.Flags().StringVar(&n.KeyType, "key-type", "", "its `type` of key, such as ecdsa-p384 or rsa-4096 (ecdsa-p256)")
	command.Flags().StringVar(&at, "served-at", "", servedAtHelp)
	return command
}

func (a *app) printAuthorityMade(stored client.Stored) {
	f := stored.Version.Certificate
	fmt.Fprintf(a.Out, "%s@%d is the authority %q, until %s. Its key never leaves the chest.\n", stored.Item.Reference, stored.Version.Version,
		f.CommonName, f.NotAfter.UTC().Format(time.DateOnly))
	for _, note := range stored.Version.Notes {
		a.say("Note: %s", note)
	}
}

func (a *app) authorityBringCommand() *cobra.Command {
	var d describedFlags
	var files broughtFlags
	var at string
	command := &cobra.Command{
		Use: "bring DRAWER/AUTHORITY", Short: "Bring an authority that was made elsewhere", Args: exactly("DRAWER/AUTHORITY"),
		Long: `Takes an authority's certificate, with those above it, and its private key. Its key never leaves the chest again: destroy the copy
that you brought it from.`,
		Example: "  tansu authority bring harbour-gates-prod/old-authority --certificate ca.pem --private ca.key",
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
			stored, err := c.CreateAuthority(ctx, ref.Drawer, client.NewAuthority{Name: ref.Item, Description: d.description, Owner: d.owner,
				ServedAt: servedAt(c, at), Certificate: string(chain), Private: private})
			if err != nil {
				return err
			}
			return a.show(stored, func() { a.printAuthorityMade(stored) })
		}),
	}
	d.add(command)
	files.add(command)
	command.Flags().StringVar(&at, "served-at", "", servedAtHelp)
	return command
}

func (a *app) authorityProfileCommand() *cobra.Command {
	var d describedFlags
	var p client.CertificateProfile
	command := &cobra.Command{
		Use: "profile DRAWER/PROFILE", Short: "Say which certificates an authority gives", Args: exactly("DRAWER/PROFILE"),
		Long: `Makes a profile, or changes one: which names, types of keys, usages and lives an authority in the same drawer certifies. Whoever
has the role subscriber on the profile may have such a certificate. It takes the right to change the rules of the authority.

In --names, "*" is anything within one label: *.harbour.example are the hosts right below harbour.example. --networks give addresses,
--uris URIs (a "*" is anything but a slash), --mail addresses of mail, and --subjects common names that are none of these.

With --ssh the authority is a key, and what it certifies is for SSH: --principals are accounts, or host names, and --networks from where a
user may come.`,
		Example: "  tansu authority profile harbour-gates-prod/gate-server --authority gate-authority --names \"*.harbour.example\"\n" +
			"  tansu authority profile harbour-gates-prod/gate-client --authority gate-authority --subjects \"gate-*\" --usages client --longest 7d",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			if p.Authority == "" {
				return usagef("say which authority signs: --authority NAME, of one in %s", ref.Drawer)
			}
			if p.Longest == "" {
				p.Longest = map[bool]string{true: "90d", false: "12h"}[p.SSH == ""]
			}
			stored, err := a.putProfile(ctx, c, ref, p, d)
			if err != nil {
				return err
			}
			return a.show(stored, func() {
				fmt.Fprintf(a.Out, "%s@%d: certificates of %s for %s, for at most %s. Let somebody have them: tansu grant give SUBJECT subscriber %s\n",
					stored.Item.Reference, stored.Version.Version, p.Authority, strings.Join(namesOf(p), ", "), p.Longest, stored.Item.Reference)
			})
		}),
	}
	d.add(command)
	command.Flags().StringVar(&p.Authority, "authority", "", "the `authority` that signs, by its name in the same drawer")
	command.Flags().StringSliceVar(&p.Names, "names", nil, "patterns of host names")
	command.Flags().StringSliceVar(&p.Networks, "networks", nil, "networks of addresses, such as 10.1.0.0/16")
	command.Flags().StringSliceVar(&p.URIs, "uris", nil, "patterns of URIs")
	command.Flags().StringSliceVar(&p.Mail, "mail", nil, "patterns of mail addresses")
	command.Flags().StringSliceVar(&p.Subjects, "subjects", nil, "patterns of common names that are none of the names")
	command.Flags().BoolVar(&p.Wildcards, "wildcards", false, "also certificates for all names below one, such as *.harbour.example")
	command.Flags().StringSliceVar(&p.KeyTypes, "key-types", nil, "the types of keys (all that are good)")
	command.Flags().StringSliceVar(&p.Usages, "usages", nil, "what the certificates are for: server, client, code, mail (server)")
	command.Flags().StringVar(&p.Longest, "longest", "", "the longest life (90d, of SSH 12h)")
	command.Flags().StringVar(&p.SSH, "ssh", "",
		"certificates of SSH, for a `user` or a host; then the authority is a key that signs (tansu key create)")
	command.Flags().StringSliceVar(&p.Principals, "principals", nil, "of SSH: patterns of accounts, or of host names")
	command.Flags().StringSliceVar(&p.Extensions, "extensions", nil, "of SSH: what a user may besides running programs, such as permit-pty")
	command.Flags().StringVar(&p.Command, "command", "", "of SSH: the `command` that is run, whatever a user asks for")
	return command
}

// putProfile makes a profile, or a new version of one.
func (a *app) putProfile(ctx context.Context, c *client.Client, ref reference.Reference, p client.CertificateProfile,
	d describedFlags) (stored client.Stored, err error) {
	p.Authority = strings.TrimPrefix(p.Authority, ref.Drawer+"/")
	text, err := json.Marshal(p)
	if err != nil {
		return stored, err
	}
	version := client.NewVersion{Value: base64.StdEncoding.EncodeToString(text), Encoding: "base64"}
	stored, err = c.AddVersion(ctx, ref.Drawer, ref.Item, 0, version)
	if isMissing(err) {
		stored, err = c.CreateItem(ctx, ref.Drawer, client.NewItem{Name: ref.Item, Description: d.description, Owner: d.owner,
			Shape: "profile", Version: version})
	}
	return stored, err
}

// namesOf are all the names that a profile gives.
func namesOf(p client.CertificateProfile) (names []string) {
	if p.JWT != nil {
		return p.JWT.Audiences
	}
	for _, list := range [][]string{p.Names, p.Principals, p.Networks, p.URIs, p.Mail, p.Subjects} {
		names = append(names, list...)
	}
	return names
}

func (a *app) authorityShowCommand() *cobra.Command {
	var pem bool
	command := &cobra.Command{
		Use: "show DRAWER/AUTHORITY", Short: "Show an authority, its profiles and its certificate", Args: exactly("DRAWER/AUTHORITY"),
		Long: `Shows an authority, how many certificates it has issued, and its profiles. With --pem its certificate alone is written: the one for
others to trust. Of an intermediate that is the one at the top, which it leads to.`,
		Example: "  tansu authority show harbour-gates-prod/gate-authority\n" +
			"  tansu authority show harbour-gates-prod/gate-authority --pem > harbour.pem",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			one, err := c.Authority(ctx, ref.Drawer, ref.Item)
			switch {
			case err != nil:
				return err
			case pem && one.Chain == "":
				return usagef("%s is a key, and has no certificate: tansu key show %s --public pem", ref, ref)
			case pem:
				_, err := fmt.Fprint(a.Out, lastOf(one.Chain))
				return err
			}
			return a.show(one, func() { a.printAuthority(c, one) })
		}),
	}
	command.Flags().BoolVar(&pem, "pem", false, "write the certificate to trust, in PEM")
	return command
}

// lastOf is the last certificate of a chain.
func lastOf(chain string) string {
	const begin = "-----BEGIN CERTIFICATE-----"
	return chain[strings.LastIndex(chain, begin):]
}

func (a *app) printAuthority(c *client.Client, one client.Authority) {
	f := one.Item.Certificate
	if f == nil { // a key
		fields(a.Out, "reference", one.Item.Reference, "description", one.Item.Description, "owner", one.Item.Owner, "state", one.Item.State,
			"certificates", fmt.Sprintf("%d good, %d ended", one.Good, one.Ended))
		fmt.Fprintln(a.Out)
		a.printProfiles(one)
		return
	}
	fields(a.Out, "reference", one.Item.Reference, "description", one.Item.Description, "owner", one.Item.Owner, "subject", f.Subject,
		"issuer", issuerText(*f), "key", f.KeyType, "state", one.Item.State, "ends", stamp(f.NotAfter)+" ("+relative(f.NotAfter, time.Now())+")",
		"may sign for", strings.Join(f.Within, ", "), "authorities below", pathText(f.PathLength),
		"certificates", fmt.Sprintf("%d good (%d end within 30 days), %d ended, %d revoked", one.Good, one.Ending, one.Ended, one.Revoked),
		"fingerprint", f.Fingerprint, "revoked list", publicURL(one, "/crl"), "OCSP", publicURL(one, "/ocsp"))
	fmt.Fprintln(a.Out)
	a.printProfiles(one)
}

func (a *app) printProfiles(one client.Authority) {
	if len(one.Profiles) == 0 {
		a.say("It has no profile that you may list: nobody gets anything signed by one (tansu authority profile, tansu jwt profile).")
		return
	}
	t := table{head: []string{"PROFILE", "NAMES", "USAGES", "KEYS", "LONGEST", "DESCRIPTION"}}
	for _, p := range one.Profiles {
		keys := strings.Join(p.Profile.KeyTypes, ", ")
		if keys == "" {
			keys = "any"
		}
		usages := strings.Join(p.Profile.Usages, ", ")
		switch {
		case p.Profile.JWT != nil:
			usages, keys = "tokens", ""
		case p.Profile.SSH != "":
			usages, keys = "SSH, "+p.Profile.SSH, ""
		}
		t.add(p.Reference, strings.Join(namesOf(p.Profile), ", "), usages, keys, p.Profile.Longest, p.Description)
	}
	t.print(a.Out)
}

func publicURL(one client.Authority, what string) string {
	if one.Item.ServedAt == "" {
		return ""
	}
	return one.Item.ServedAt + one.Public + what
}

func issuerText(f client.Certificate) string {
	if f.SelfSigned {
		return "itself"
	}
	return f.Issuer
}

func pathText(length *int) string {
	if length == nil {
		return ""
	}
	return map[bool]string{true: "none", false: "at most " + strconv.Itoa(*length)}[*length == 0]
}

func (a *app) authorityRenewCommand() *cobra.Command {
	var life, under string
	command := &cobra.Command{
		Use: "renew DRAWER/AUTHORITY", Short: "Let an authority last longer", Args: exactly("DRAWER/AUTHORITY"),
		Long: `Certifies an authority again, with its key, its name and its bounds, for a life from now on. What it has signed stays good; an
authority that stands by itself has to be trusted anew (tansu authority show --pem), as long as the old certificate still lasts.`,
		Example: "  tansu authority renew harbour-gates-prod/gate-authority --under harbour-gates-prod/gate-root",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			stored, err := c.RenewAuthority(ctx, ref.Drawer, ref.Item, life, under)
			if err != nil {
				return err
			}
			return a.show(stored, func() { a.printAuthorityMade(stored) })
		}),
	}
	command.Flags().StringVar(&life, "life", "3650d", "how long it lasts from now on")
	command.Flags().StringVar(&under, "under", "", "the `authority` above it, as DRAWER/AUTHORITY")
	return command
}

func (a *app) authorityIssuedCommand() *cobra.Command {
	var f client.IssuedFilter
	command := &cobra.Command{
		Use: "issued DRAWER/AUTHORITY", Short: "List the certificates that an authority has issued", Args: exactly("DRAWER/AUTHORITY"),
		Example: "  tansu authority issued harbour-gates-prod/gate-authority --search gate-1 --state good",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			list, next, err := c.Issued(ctx, ref.Drawer, ref.Item, f)
			if err != nil {
				return err
			}
			return a.show(list, func() {
				t := table{head: []string{"NAMES", "STATE", "ENDS", "ISSUED TO", "IN", "SERIAL NUMBER"}}
				for _, one := range list {
					names := strings.Join(one.Names, " ")
					if names == "" {
						names = one.Subject
					}
					state := one.State
					if one.Reason != "" {
						state += " (" + strings.ReplaceAll(one.Reason, "_", " ") + ")"
					}
					t.add(names, state, relative(one.NotAfter, time.Now()), one.CreatedBy, one.Place, one.Serial)
				}
				t.print(a.Out)
				if len(list) == 0 {
					a.say("None.")
				}
				if next != "" {
					a.say("There are more: give --limit 1000, or --search what you look for.")
				}
			})
		}),
	}
	command.Flags().StringVar(&f.Search, "search", "", "a part of a name, of the common name or of the serial number")
	command.Flags().StringVar(&f.State, "state", "", "only those that are good, ended or revoked")
	command.Flags().IntVar(&f.Limit, "limit", 100, "how many at most, from 1 to 1000")
	return command
}

func (a *app) authorityRevokeCommand() *cobra.Command {
	var why string
	command := &cobra.Command{
		Use: "revoke DRAWER/AUTHORITY SERIAL-NUMBER", Short: "Say that a certificate is not to be trusted any more",
		Args: exactly("DRAWER/AUTHORITY", "SERIAL-NUMBER"),
		Long: `Revokes a certificate, for good: from now on it is on the authority's list of revoked certificates, and its OCSP answer says so. It
takes the right to change the authority; whoever a certificate was issued to may revoke it without.`,
		Example: "  tansu authority revoke harbour-gates-prod/gate-authority 5f3c0d6a1b7e4c2f9a8d7c6b5a493827 --why key_compromise",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			one, err := c.RevokeCertificate(ctx, ref.Drawer, ref.Item, arguments[1], why)
			if err != nil {
				return err
			}
			return a.show(one, func() {
				fmt.Fprintf(a.Out, "The certificate %s of %s is revoked.\n", one.Serial, strings.Join(one.Names, " "))
				if one.Place != "" {
					fmt.Fprintf(a.Out, "It is in %s, where applications still get it: tansu cert renew %s\n", one.Place, one.Place)
				}
			})
		}),
	}
	command.Flags().StringVar(&why, "why", "unspecified",
		"key_compromise, affiliation_changed, superseded, cessation_of_operation, privilege_withdrawn or unspecified")
	return command
}

// broughtFlags name the files of a certificate that was made elsewhere.
type broughtFlags struct{ certificate, private, pkcs12, passwordFile string }

func (f *broughtFlags) add(command *cobra.Command) {
	command.Flags().StringVar(&f.certificate, "certificate", "", "the `file` of the certificate, with those that it leads to, in PEM")
	command.Flags().StringVar(&f.private, "private", "", "the `file` of its private key, in PEM, under no passphrase")
	command.Flags().StringVar(&f.pkcs12, "pkcs12", "", "the `file` that has all of it (PKCS #12: .p12 or .pfx)")
	command.Flags().StringVar(&f.passwordFile, "password-file", "", "the `file` with the password of that; asked for when it is left out")
}

// read reads the chain and the private key.
func (f *broughtFlags) read(a *app) (chain, private []byte, err error) {
	switch {
	case f.pkcs12 != "" && (f.certificate != "" || f.private != ""):
		return nil, nil, usagef("--pkcs12 has the certificate and its key: give no --certificate and no --private")
	case f.pkcs12 != "":
		return a.readPKCS12(f.pkcs12, f.passwordFile)
	case f.certificate == "" || f.private == "":
		return nil, nil, usagef("give the certificate and its key: --certificate FILE --private FILE, or --pkcs12 FILE")
	}
	if chain, err = a.input(f.certificate); err == nil {
		private, err = os.ReadFile(f.private)
	}
	return chain, private, err
}
