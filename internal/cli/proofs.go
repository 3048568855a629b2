package cli

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"tansu/client"
	"tansu/internal/core/reference"
)

// issueCommand makes a command that gives an app one more proof.
func (a *app) issueCommand(use, short, long, example string, prepare func(*client.NewCredential) error) (*cobra.Command,
	*client.NewCredential) {
	n := &client.NewCredential{}
	var until string
	command := &cobra.Command{
		Use: use + " NAME", Short: short, Long: long, Example: example, Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, arguments []string) (err error) {
			if n.NotAfter, err = moment("--until", until); err != nil {
				return err
			}
			if err := prepare(n); err != nil {
				return err
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			issued, err := c.IssueCredential(cmd.Context(), reference.App+":"+arguments[0], *n)
			if err != nil {
				return err
			}
			return a.show(issued, func() { a.printIssued(issued) })
		},
	}
	command.Flags().StringVar(&until, "until", "", "when it ends: a `time` (2026-12-01, or RFC 3339) or a duration (30d)")
	return command, n
}

func (a *app) appKeyCommand() *cobra.Command {
	var file string
	command, n := a.issueCommand("add-key", "Register a public key: the app signs in with the private half, which stays where it is",
		`Registers a public key. The app proves itself by signing a short statement with the private half (RFC 7523), so that no secret
is stored on either side. The file is a public key in PEM form, a JSON Web Key (RFC 7517), an OpenSSH public key, or a
certificate, of which the key is taken.`,
		"  tansu app add-key ticket-api --file ticket-api.pub", func(n *client.NewCredential) (err error) {
			content, err := readSmall("--file", file)
			if err != nil {
				return err
			}
			if n.PublicKey, err = publicKey(content); err != nil {
				return usagef("%s: %v", file, err)
			}
			return nil
		})
	n.Kind = "key"
	command.Flags().StringVar(&file, "file", "", "the public key, a `file` in PEM or JSON form")
	return command
}

// publicKey reads a public key, in whatever form people have one, as a JSON Web Key; what is one already stays.
func publicKey(content []byte) (json.RawMessage, error) {
	var key any
	switch block, _ := pem.Decode(content); {
	case block != nil && block.Type == "CERTIFICATE":
		certificate, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, errors.New("the certificate cannot be read")
		}
		key = certificate.PublicKey
	case block != nil:
		return client.PublicKey(content)
	case bytes.HasPrefix(content, []byte("ssh-")) || bytes.HasPrefix(content, []byte("ecdsa-sha2-")):
		parsed, _, _, _, err := ssh.ParseAuthorizedKey(content)
		if err != nil {
			return nil, errors.New("the OpenSSH key cannot be read")
		}
		of, is := parsed.(ssh.CryptoPublicKey)
		if !is {
			return nil, errors.New("an OpenSSH key of this kind is not accepted")
		}
		key = of.CryptoPublicKey()
	case !json.Valid(content):
		return nil, errors.New("it is not a public key: PEM, a JSON Web Key, an OpenSSH key or a certificate")
	default:
		return content, nil
	}
	der, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return nil, errors.New("a key of this kind is not accepted: it must be Ed25519, P-256, P-384 or RSA")
	}
	return client.PublicKey(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
}

func (a *app) appCertificateCommand() *cobra.Command {
	var file string
	command, n := a.issueCommand("add-certificate", "Register a certificate that the app shows when it connects (RFC 8705)", "",
		"  tansu app add-certificate gate-controller --file gate.crt", func(n *client.NewCredential) error {
			content, err := readSmall("--file", file)
			n.Certificate = string(content)
			return err
		})
	n.Kind = "certificate"
	command.Flags().StringVar(&file, "file", "", "the certificate, a PEM `file`")
	return command
}

func (a *app) appACMECommand() *cobra.Command {
	command, n := a.issueCommand("acme-key", "Make a key with which an ACME client, such as certbot, acts as the app",
		`Makes an external account binding (RFC 8555, section 7.3.4): whoever has it can register an ACME client, whose certificates are then
issued to the app by what it is granted. It is good until it is ended (tansu app end-credential), and so is each client that was
registered with it.

  certbot register --server https://chest.ferries.example:8267/acme/harbour-gates-prod/gate-panel/directory \
    --eab-kid CREDENTIAL --eab-hmac-key KEY --agree-tos --register-unsafely-without-email`,
		"  tansu app acme-key gate-controller --until 7d", func(*client.NewCredential) error { return nil })
	n.Kind = "acme"
	return command
}

func (a *app) appIssuerCommand() *cobra.Command {
	var claims []string
	var authority string
	command, n := a.issueCommand("add-issuer", "Take another issuer's word that a job or workload is the app, such as a pipeline system's",
		`Registers an outside issuer. Whoever brings a token that the issuer has signed, made out to the audience and saying exactly the
claims, is the app (RFC 7523, section 2.1). The issuer's keys are found as OpenID Connect Discovery has it.`,
		`  tansu app add-issuer nightly-ledger --issuer https://pipeline.ferries.example --audience tansu --claim sub=job:ledger --claim branch=main`, func(n *client.NewCredential) error {
			n.Claims = map[string]string{}
			for _, one := range claims {
				name, value, is := strings.Cut(one, "=")
				if !is || n.Claims[name] != "" {
					return usagef("--claim %q is not of the form NAME=VALUE, or is there twice", one)
				}
				n.Claims[name] = value
			}
			if authority == "" {
				return nil
			}
			content, err := readSmall("--authority", authority)
			n.Authority = string(content)
			return err
		})
	n.Kind = "issuer"
	command.Flags().StringVar(&n.Issuer, "issuer", "", "the issuer's `address`, exactly as its tokens have it")
	command.Flags().StringVar(&n.Audience, "audience", "", "to `whom` its tokens must be made out, exactly")
	command.Flags().StringArrayVar(&claims, "claim", nil, "what its tokens must say: `NAME=VALUE`; may be given again")
	command.Flags().StringVar(&authority, "authority", "",
		"the authority of its TLS certificate, a PEM `file`, if the system does not know it")
	return command
}

func (a *app) appInviteCommand() *cobra.Command {
	command, n := a.issueCommand("host-code", "Print a code with which a host makes the app a key pair of its own, once",
		`Prints a code that is good once and for a short time. On the host, tansu enrol exchanges it for a key pair that is made there
and never leaves. When a code is used a second time, that is an alarm in the trail: somebody has a key who should not.`,
		"  tansu app host-code gate-controller --network 10.20.0.0/16 --until 20m", func(*client.NewCredential) error { return nil })
	n.Kind = "host"
	command.Flags().StringArrayVar(&n.Networks, "network", nil, "from which `network` it may be used; may be given again")
	return command
}

// mostInFile is more than any key or certificate has.
const mostInFile = 64 << 10

func readSmall(flag, path string) ([]byte, error) {
	if path == "" {
		return nil, usagef("%s is missing", flag)
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, usagef("%s: %v", path, errors.Unwrap(err))
	}
	if info.Size() > mostInFile {
		return nil, usagef("%s is too large for what it should be", path)
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, usagef("%s: %v", path, errors.Unwrap(err))
	}
	return content, nil
}

func credentialUse(cr client.Credential) string {
	if cr.Kind != "host" {
		return "last used " + relative(cr.LastUsed, time.Now())
	}
	if cr.UsedAt.IsZero() {
		return "not used yet"
	}
	return "used " + relative(cr.UsedAt, time.Now()) + " from " + cr.UsedFrom
}

// credentialDetail says in one line what a credential is that is no secret.
func credentialDetail(cr client.Credential) string {
	switch {
	case cr.Issuer != "":
		var claims []string
		for name, value := range cr.Claims {
			claims = append(claims, name+"="+value)
		}
		slices.Sort(claims)
		return fmt.Sprintf("%s, for %s, saying %s", cr.Issuer, cr.Audience, strings.Join(claims, " and "))
	case cr.Subject != "":
		return cr.Subject + ", SHA-256 " + cr.Thumbprint
	case cr.Thumbprint != "":
		return "SHA-256 " + cr.Thumbprint
	case len(cr.Networks) > 0:
		return "from " + strings.Join(cr.Networks, ", ")
	}
	return ""
}

// hostCode is how a code for a host begins.
const hostCode = "tansu_host_"

// enrolHost makes a key pair, registers it for a code, and signs in with it.
func (a *app) enrolHost(ctx context.Context, c *client.Client, code string) error {
	private, _, err := client.NewKey()
	if err != nil {
		return err
	}
	enrolled, err := c.EnrolHost(ctx, code, private)
	if err != nil {
		return err
	}
	name := strings.TrimPrefix(enrolled.Subject, reference.App+":")
	if err := a.changeProfile(func(p *profile) {
		p.App, p.Key, p.Subject, p.Token = name, string(private), enrolled.Subject,
			""
	}); err != nil {
		return err
	}
	return a.show(enrolled, func() {
		fmt.Fprintf(a.Out, "This host is %s from now on. Its key was made here and is in the profile, readable by you alone; the code is "+
			"used up.\n", enrolled.Subject)
	})
}
