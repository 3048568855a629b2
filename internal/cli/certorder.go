package cli

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/acmeclient"
	"tansu/internal/core/cert"
)

// outsideFlags say from which authority outside a certificate comes, and how its names are proved.
type outsideFlags struct {
	acmeclient.Order
	dns string
}

func (f *outsideFlags) add(command *cobra.Command) {
	flags := command.Flags()
	flags.StringVar(&f.From, "from", "", "the `URL` of the authority's ACME directory")
	flags.StringVar(&f.Account, "account", "", "the `key` of the account with it, as DRAWER/KEY: ECDSA or RSA, made once by tansu key create")
	flags.StringVar(&f.Binding, "binding", "", "a `login`, as DRAWER/LOGIN, that binds the account to one that you have: key ID and key")
	flags.StringSliceVar(&f.Contact, "contact", nil, "an `address` of mail for the authority")
	flags.BoolVar(&f.Terms, "accept-terms", false, "the authority's terms were read, and are accepted")
	flags.StringVar(&f.Trust, "authority-file", "", "a `file` with what the authority's own certificate leads to (what this machine trusts)")
	flags.StringVar(&f.Webroot, "webroot", "", "prove names by http-01, through the `directory` from which a web server serves files")
	flags.StringVar(&f.HTTP, "http-on", "", "prove names by http-01, at an `address` of this machine such as :80")
	flags.StringVar(&f.TLS, "tls-on", "", "prove names by tls-alpn-01, at an `address` of this machine such as :443")
	flags.StringVar(&f.dns, "dns-command", "", "prove names by dns-01: a `program` that gets set or remove, and a TXT record's name and text")
}

// order is what they say, checked; nil for nothing.
func (f *outsideFlags) order() (*acmeclient.Order, error) {
	if f.From == "" && f.Account == "" {
		return nil, nil
	}
	if f.dns != "" {
		f.DNS = []string{f.dns}
	}
	for _, path := range []*string{&f.Webroot, &f.Trust} {
		if *path == "" {
			continue
		}
		absolute, err := filepath.Abs(*path)
		if err != nil {
			return nil, err
		}
		*path = absolute
	}
	if err := f.Check(); err != nil {
		return nil, usageError{err}
	}
	return &f.Order, nil
}

func (a *app) certOrderCommand() *cobra.Command {
	var f outsideFlags
	var names []string
	var ifDue bool
	command := &cobra.Command{
		Use: "order DRAWER/CERTIFICATE", Short: "Have a certificate from an authority outside, by ACME", Args: exactly("DRAWER/CERTIFICATE"),
		Long: `Orders a certificate from an authority that speaks ACME (RFC 8555). Its key is made in the chest and asks there; the key of the
account signs there. This machine proves that the names are its own, in one of four ways, and the certificate goes into the item as the
version that is served. The service itself connects to nobody.

Say --if-due in a timer: then it does nothing until two thirds of the life of the one that is served are over. tansu cert keep, and an
agent, order again by themselves. It takes the role consumer on the account's key and depositor on the certificate.`,
		Example: "  tansu key create ticketing-prod/ca-account --type ecdsa-p256\n" +
			"  tansu cert order ticketing-prod/web-certificate --names tickets.ferries.example --from https://ca.example/directory " +
			"--account ticketing-prod/ca-account --webroot /var/www/html --accept-terms",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			o, err := f.order()
			switch {
			case err != nil:
				return err
			case o == nil:
				return usagef("say from where it comes, and as whom: --from URL --account DRAWER/KEY")
			case len(names) == 0:
				return usagef("say which names it is for: --names")
			}
			if ifDue {
				end, waits, err := notDue(ctx, c, ref.Drawer, ref.Item)
				if err != nil {
					return err
				}
				if waits {
					a.say("%s is not due: it lasts until %s (%s).", ref, stamp(end), relative(end, time.Now()))
					return nil
				}
			}
			stored, err := o.Obtain(ctx, c, ref.String(), names)
			if err != nil {
				return err
			}
			return a.printMade(client.MadeCertificate{Facts: *stored.Version.Certificate, Item: &stored.Item, Version: &stored.Version}, "")
		}),
	}
	f.add(command)
	command.Flags().StringVar(&f.KeyType, "key-type", "", "the `type` of its key (ecdsa-p256)")
	command.Flags().StringSliceVar(&names, "names", nil, "the host names, or addresses, that it is for")
	command.Flags().BoolVar(&ifDue, "if-due", false, "do nothing while the one that is served lasts")
	return command
}

// notDue reports that an item has a certificate that is served and need not be renewed yet, and when that ends.
func notDue(ctx context.Context, c *client.Client, drawer, item string) (end time.Time, is bool, err error) {
	var facts cert.Facts
	there, err := c.MayThere(ctx, drawer+"/"+item)
	switch {
	case err != nil:
		return end, false, err
	case slices.Contains(there.Actions, "see_metadata"):
		h, err := c.History(ctx, drawer, item)
		if err != nil && !isMissing(err) {
			return end, false, err
		}
		if at := slices.IndexFunc(h.Versions, func(v client.Version) bool { return v.Current && v.Certificate != nil }); at >= 0 {
			facts.NotBefore, facts.NotAfter = h.Versions[at].Certificate.NotBefore, h.Versions[at].Certificate.NotAfter
		}
	case slices.Contains(there.Actions, "read_value"):
		value, err := c.ReadValue(ctx, drawer+"/"+item)
		var problem *client.Problem
		if isMissing(err) || errors.As(err, &problem) && problem.Code == "not_servable" { // it ended, or its key waits
			return end, false, nil
		}
		if err != nil {
			return end, false, err
		}
		chain, _, err := cert.ReadChain(value.Field("certificate"), nil)
		if err != nil {
			return end, false, err
		}
		facts = cert.Describe(chain[0])
	default:
		return end, false, usagef("you may neither see %s/%s nor read it, so that --if-due cannot tell", drawer, item)
	}
	return facts.NotAfter, !facts.NotAfter.IsZero() && time.Now().Before(facts.RenewAt(0)), nil
}
