package cli

import (
	"context"
	"crypto/tls"
	"encoding/pem"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/authority"
	"tansu/internal/core/reference"
	"tansu/internal/server"
)

func (a *app) connectCommand() *cobra.Command {
	var authorityFile, fingerprint string
	command := &cobra.Command{
		Use:   "connect ADDRESS (--authority FILE | --fingerprint SHA256)",
		Short: "Remember where a chest is and pin its authority",
		Long: `Remembers a chest under the profile in use (--profile, or "default") after checking that it answers.

An agent on the same host is connected to by its socket: unix:/run/tansu/agent.sock.

The chest's certificate authority is pinned: from the file authority.crt of its data directory, or by the fingerprint
that tansu init printed. Plain HTTP needs neither and is only for loopback.`,
		Example: `  tansu connect https://127.0.0.1:8267 --authority /var/lib/tansu/authority.crt
  tansu connect unix:/run/tansu/agent.sock
  tansu --profile harbour connect https://chest.ferries.example:8267 --fingerprint 4f0c…`,
		Args: exactly("ADDRESS"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			pinned, err := pin(cmd.Context(), arguments[0], authorityFile, fingerprint)
			if err != nil {
				return err
			}
			return a.connect(cmd.Context(), &profile{Address: arguments[0], Authority: pinned})
		},
	}
	command.Flags().StringVar(&authorityFile, "authority", "", "the chest's authority certificate, a PEM `file`")
	command.Flags().StringVar(&fingerprint, "fingerprint", "", "the SHA-256 `fingerprint` of the authority")
	return command
}

// pin gets the authority's certificate as PEM; nothing for plain HTTP.
func pin(ctx context.Context, address, file, fingerprint string) (string, error) {
	if strings.HasPrefix(address, "unix:") { // the agent on this host: the kernel says who owns the socket
		return "", nil
	}
	parsed, err := url.Parse(address)
	if err != nil || parsed.Host == "" {
		return "", usagef("the address %q is not of the form https://host:port", address)
	}
	switch {
	case parsed.Scheme == "http":
		return "", nil
	case file != "" && fingerprint != "":
		return "", usagef("give --authority or --fingerprint, not both")
	case file != "":
		content, err := os.ReadFile(file)
		if err != nil {
			return "", fmt.Errorf("read the authority: %w", err)
		}
		if _, err := authority.Fingerprint(content); err != nil {
			return "", fmt.Errorf("%s: %w", file, err)
		}
		return string(content), nil
	case fingerprint != "":
		return pinByFingerprint(ctx, address, parsed.Host, fingerprint)
	}
	return "", usagef("how is the chest recognised? give --authority FILE, or --fingerprint as tansu init printed it")
}

// pinByFingerprint takes the authority out of the handshake, which is not trusted for anything else.
func pinByFingerprint(ctx context.Context, address, host, fingerprint string) (string, error) {
	dialer := &tls.Dialer{Config: &tls.Config{MinVersion: tls.VersionTLS13, InsecureSkipVerify: true}}
	connection, err := dialer.DialContext(ctx, "tcp", host)
	if err != nil {
		return "", &client.Unreachable{Address: address, Err: err}
	}
	defer func() { _ = connection.Close() }()
	var seen []string
	for _, certificate := range connection.(*tls.Conn).ConnectionState().PeerCertificates {
		if authority.SameFingerprint(authority.FingerprintDER(certificate.Raw), fingerprint) {
			return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate.Raw})), nil
		}
		seen = append(seen, authority.FingerprintDER(certificate.Raw))
	}
	return "", &client.Problem{Code: "refused",
		Detail: fmt.Sprintf("the chest at %s is another one: none of its certificates (%s) has that fingerprint", address,
			strings.Join(seen, ", "))}
}

// connect checks that the chest answers, and saves the profile.
func (a *app) connect(ctx context.Context, p *profile) error {
	c, err := p.client("", nil)
	if err != nil {
		return usageError{err}
	}
	status, err := c.Status(ctx)
	if err != nil {
		return err
	}
	all, err := loadProfiles()
	if err != nil {
		return err
	}
	name := a.profileName(all)
	all.Profiles[name] = p
	if all.Current == "" {
		all.Current = name
	}
	if err := all.save(); err != nil {
		return err
	}
	return a.show(status, func() {
		fmt.Fprintf(a.Out, "Connected to chest %s at %s (profile %s, %s).\n", status.Chest, p.Address, name, status.State)
	})
}

func (a *app) enrolCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "enrol",
		Short: "Use an enrolment code: choose a password and sign in, or make this host's app a key",
		Long: `Asks for an enrolment code without showing it. For a person's, it asks for a new password, too. For an app's (tansu app
host-code), it makes a key pair on this host, which is what the app proves itself with from then on. When standard input is
not a terminal, code and password are its first two lines. The code works once.`,
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.connected()
			if err != nil {
				return err
			}
			code, err := a.ask("enrolment code")
			if err != nil {
				return err
			}
			if strings.HasPrefix(string(code.Reveal()), hostCode) {
				return a.enrolHost(cmd.Context(), c, strings.TrimSpace(string(code.Reveal())))
			}
			password, err := a.askNew("new password")
			if err != nil {
				return err
			}
			defer password.Wipe()
			session, err := c.Enrol(cmd.Context(), string(code.Reveal()), string(password.Reveal()))
			if err != nil {
				return err
			}
			return a.keepSession(session)
		},
	}
}

func (a *app) signInCommand() *cobra.Command {
	var keyFile, outsideFile string
	command := &cobra.Command{
		Use:   "sign-in NAME",
		Short: "Sign in as a person, or as an app with app:NAME",
		Long: `Asks for the password of a person, or for the secret of an app (app:NAME), without showing it. When standard input is
not a terminal, it is its first line. The token is kept in the profile, readable by you alone.

An app needs no secret when it has a key (--key: tansu app add-key) or a token of an issuer that it has registered
(--token-file: tansu app add-issuer); it then signs in again by itself whenever it needs to.`,
		Example: `  tansu sign-in ticketing-lead
  tansu sign-in app:ticket-api < /run/credentials/ticket-api
  tansu sign-in app:nightly-ledger --token-file "$JOB_TOKEN_FILE"`,
		Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			name := arguments[0]
			if !strings.Contains(name, ":") {
				name = reference.Person + ":" + name
			}
			subject, err := reference.ParseSubject(name)
			if err != nil {
				return usageError{err}
			}
			p, err := a.currentProfile()
			if err != nil {
				return err
			}
			if keyFile != "" || outsideFile != "" {
				return a.signInWithout(cmd.Context(), p, subject, keyFile, outsideFile)
			}
			session, err := a.signIn(cmd.Context(), p, subject)
			if err != nil {
				return err
			}
			return a.keepSession(session)
		},
	}
	command.Flags().StringVar(&keyFile, "key", "", "sign in with the private key in a PEM `file`")
	command.Flags().StringVar(&outsideFile, "token-file", "",
		"sign in with an outside issuer's token in a `file`, read again whenever one is needed")
	return command
}

// signInWithout signs an app in without a secret, and remembers how.
func (a *app) signInWithout(ctx context.Context, p *profile, subject reference.Subject, keyFile, outsideFile string) error {
	if subject.Kind != reference.App || keyFile != "" && outsideFile != "" {
		return usagef("--key and --token-file are for an app (app:NAME), one of them")
	}
	as := &profile{Address: p.Address, Authority: p.Authority, App: subject.Name}
	if keyFile != "" {
		content, err := server.ReadKeyFile(keyFile)
		if err != nil {
			return usageError{err}
		}
		as.Key = string(content.Reveal())
	} else {
		path, err := filepath.Abs(outsideFile)
		if err != nil {
			return err
		}
		as.OutsideFile = path
	}
	c, err := as.client("", nil)
	if err != nil {
		return usageError{err}
	}
	me, err := c.Me(ctx)
	if err != nil {
		return err
	}
	if err := a.changeProfile(func(p *profile) {
		p.Subject, p.Token, p.App, p.Key, p.OutsideFile = me.Subject, "", as.App, as.Key, as.OutsideFile
	}); err != nil {
		return err
	}
	return a.show(me, func() { fmt.Fprintf(a.Out, "Signed in as %s, and again whenever that is needed.\n", me.Subject) })
}

func (a *app) signIn(ctx context.Context, p *profile, subject reference.Subject) (session client.Session, err error) {
	c, err := client.New(client.Options{Address: p.Address, Authority: []byte(p.Authority)})
	if err != nil {
		return session, err
	}
	if subject.Kind == reference.App {
		secret, err := a.ask("secret of " + subject.String())
		if err != nil {
			return session, err
		}
		token, life, err := c.AppToken(ctx, subject.Name, string(secret.Reveal()))
		return client.Session{Subject: subject.String(), Token: token, Ends: time.Now().Add(life).UTC().Truncate(time.Second)}, err
	}
	password, err := a.ask("password of " + subject.String())
	if err != nil {
		return session, err
	}
	defer password.Wipe()
	return c.SignIn(ctx, subject.Name, string(password.Reveal()), p.Device)
}

// keepSession stores the token and shows who is signed in, without the token.
func (a *app) keepSession(session client.Session) error {
	if err := a.changeProfile(func(p *profile) { p.signedIn(session) }); err != nil {
		return err
	}
	session.Token, session.Device = "", ""
	return a.show(session, func() {
		fmt.Fprintf(a.Out, "Signed in as %s until %s.\n", session.Subject, session.Ends.Local().Format("15:04 on 2 January"))
	})
}

func (a *app) signOutCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "sign-out",
		Short: "End the session and forget its token",
		Args:  exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.connected()
			if err != nil {
				return err
			}
			ended := c.SignOut(cmd.Context())
			if err := a.changeProfile(func(p *profile) { p.signedIn(client.Session{}) }); err != nil {
				return err
			}
			if ended != nil {
				a.say("The token is forgotten here.")
				return ended
			}
			a.say("Signed out.")
			return nil
		},
	}
}

func (a *app) passwordCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "password",
		Short: "Change your own password",
		Long: `Asks for the current password and twice for the new one, without showing them; when standard input is not a terminal,
they are its first two lines. All your sessions end, on other devices too, and this one goes on as a new one. Who has
forgotten their password gets a code for a new one from whoever registers people (tansu person new-credential NAME).`,
		Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			present, err := a.ask("current password")
			if err != nil {
				return err
			}
			defer present.Wipe()
			password, err := a.askNew("new password")
			if err != nil {
				return err
			}
			defer password.Wipe()
			session, err := c.ChangePassword(ctx, string(present.Reveal()), string(password.Reveal()))
			if err != nil {
				return err
			}
			a.say("The password is changed. Sessions on other devices have ended.")
			return a.keepSession(session)
		}),
	}
}

func (a *app) sessionCommand() *cobra.Command {
	command := &cobra.Command{Use: "session", Short: "See where you are signed in, and end sessions of yours", RunE: noSubcommand}
	list := &cobra.Command{
		Use: "list", Short: "List your sessions and tokens, newest first", Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			sessions, err := c.Sessions(ctx)
			if err != nil {
				return err
			}
			return a.show(sessions, func() {
				t := table{head: []string{"ID", "PROVED BY", "BEGUN", "ENDS", ""}}
				for _, s := range sessions {
					t.add(s.ID, s.Via, stamp(s.Begun), stamp(s.Ends), map[bool]string{true: "this one"}[s.Current])
				}
				a.printTable(t, "")
			})
		}),
	}
	var others bool
	end := &cobra.Command{
		Use: "end [ID …]", Short: "End sessions of yours", Example: "  tansu session end se_9f2c41d07be3a816\n  tansu session end --others",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, ids []string) error {
			if (len(ids) == 0) != others {
				return usagef("name the sessions to end (tansu session list), or give --others")
			}
			if others {
				sessions, err := c.Sessions(ctx)
				if err != nil {
					return err
				}
				for _, s := range sessions {
					if !s.Current {
						ids = append(ids, s.ID)
					}
				}
			}
			for _, id := range ids {
				if err := c.EndSession(ctx, id); err != nil {
					return err
				}
			}
			return a.show(map[string][]string{"ended": ids}, func() { fmt.Fprintf(a.Out, "%s ended.\n", plural(len(ids), "session")) })
		}),
	}
	end.Flags().BoolVar(&others, "others", false, "end all but this one")
	command.AddCommand(list, end)
	return command
}

func (a *app) whoamiCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "whoami",
		Short: "Show who you are here and what you may do",
		Args:  exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.connected()
			if err != nil {
				return err
			}
			me, err := c.Me(cmd.Context())
			if err != nil {
				return err
			}
			return a.show(me, func() {
				fields(a.Out, "subject", me.Subject, "description", me.Description, "signed in by", me.Via, "until", stamp(me.Ends))
				if me.Steward {
					fmt.Fprintln(a.Out, "You are the steward, who exists to appoint others: give duties to named people and work as one of them.")
				}
				fmt.Fprintln(a.Out)
				a.printGrants(me.Grants)
			})
		},
	}
}
