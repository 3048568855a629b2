package cli

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/cert"
	"tansu/internal/core/cryptokey"
)

func (a *app) jwtCommand() *cobra.Command {
	command := &cobra.Command{
		Use:   "jwt",
		Short: "JSON Web Tokens, signed by a key that stays in the chest",
		Long: `A profile says which tokens (RFC 7519) a key in the same drawer signs: from whom, for whom, about whom, with which claims and for
how long. Whoever has the role subscriber on the profile may have such a token, and no other; whoever may sign with the key itself could
write anything into one. Verifiers find the public half by its kid in the drawer's JWKS.`,
		RunE: noSubcommand,
	}
	command.AddCommand(a.jwtProfileCommand(), a.jwtIssueCommand(), a.jwtCheckCommand())
	return command
}

// claimTexts reads NAME=TEXT, several of them for a claim that says several things.
func claimTexts(flag string, texts []string) (claims map[string][]string, err error) {
	claims = map[string][]string{}
	for _, text := range texts {
		name, says, is := strings.Cut(text, "=")
		if !is || name == "" {
			return nil, usagef("--%s is NAME=TEXT, and not %q", flag, text)
		}
		claims[name] = append(claims[name], says)
	}
	return claims, nil
}

func (a *app) jwtProfileCommand() *cobra.Command {
	var d describedFlags
	var claims, always []string
	p := client.CertificateProfile{JWT: &client.JWTProfile{}}
	command := &cobra.Command{
		Use: "profile DRAWER/PROFILE", Short: "Say which tokens a key signs", Args: exactly("DRAWER/PROFILE"),
		Long: `Makes a profile of tokens, or a new version of one. It takes the right to change the rules of the key. In patterns "*" is anything.

A token is about whoever asks for it, unless --subjects says about whom it may be. --claim says what may be asked for, --always what each
token says: text, or JSON where it is some (--always 'level=3').`,
		Example: "  tansu jwt profile ticketing-prod/boarding --key ticket-signing --issuer tickets.example --audiences \"gate-*\"\n" +
			"  tansu jwt profile ticketing-prod/refunds --key ticket-signing --issuer tickets.example --audiences refund-desk --claim scope=refunds",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			if p.Authority == "" {
				return usagef("say which key signs: --key NAME, of one in %s", ref.Drawer)
			}
			if p.JWT.Claims, err = claimTexts("claim", claims); err != nil {
				return err
			}
			p.JWT.Always = map[string]json.RawMessage{}
			for _, text := range always {
				name, says, is := strings.Cut(text, "=")
				if !is {
					return usagef("--always is NAME=VALUE, and not %q", text)
				}
				if p.JWT.Always[name] = json.RawMessage(says); !json.Valid([]byte(says)) {
					p.JWT.Always[name], _ = json.Marshal(says) // a text
				}
			}
			stored, err := a.putProfile(ctx, c, ref, p, d)
			if err != nil {
				return err
			}
			return a.show(stored, func() {
				fmt.Fprintf(a.Out, "%s@%d: tokens of %s for %s, for at most %s. Let somebody have them: tansu grant give SUBJECT subscriber %s\n",
					stored.Item.Reference, stored.Version.Version, p.JWT.Issuer, strings.Join(p.JWT.Audiences, ", "), p.Longest,
					stored.Item.Reference)
			})
		}),
	}
	d.add(command)
	command.Flags().StringVar(&p.Authority, "key", "", "the `key` that signs, by its name in the same drawer")
	command.Flags().StringVar(&p.JWT.Issuer, "issuer", "", "who says it (iss), such as https://tickets.example")
	command.Flags().StringSliceVar(&p.JWT.Audiences, "audiences", nil, "patterns of whom a token may be for (aud)")
	command.Flags().StringSliceVar(&p.JWT.Subjects, "subjects", nil, "patterns of whom it may be about (sub); without, whoever asks")
	command.Flags().StringArrayVar(&claims, "claim", nil, "a claim that may be asked for, with a pattern: `NAME=PATTERN`; again for several")
	command.Flags().StringArrayVar(&always, "always", nil, "a claim that each token has: `NAME=VALUE`")
	command.Flags().StringVar(&p.JWT.Type, "type", "", "its media `type` (typ), such as at+jwt")
	command.Flags().StringVar(&p.JWT.Algorithm, "algorithm", "", "how it is signed (alg), such as RS256 for old peers (the key's usual one)")
	command.Flags().StringVar(&p.Longest, "longest", "15m", "the longest life, up to 7d: nobody can take a token back")
	return command
}

func (a *app) jwtIssueCommand() *cobra.Command {
	var n client.NewJWT
	var claims []string
	var out string
	command := &cobra.Command{
		Use: "issue DRAWER/PROFILE", Short: "Have a token signed", Args: exactly("DRAWER/PROFILE"),
		Long: `Has the key of a profile sign a token, and writes it to standard output for another program, or to a new file that only you can
read. It is a credential: it is not written to a terminal. What it says, and that it is good, is shown by tansu jwt check.`,
		Example: "  tansu jwt issue ticketing-prod/boarding --audience gate-3 --life 5m --out boarding.jwt\n" +
			"  tansu jwt issue ticketing-prod/refunds --audience refund-desk --claim scope=refunds:read | tansu jwt check ticketing-prod",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			if n.Claims, err = claimTexts("claim", claims); err != nil {
				return err
			}
			if out == "" && toTerminal(a.Out) {
				return usagef("a token is not written to a terminal: say --out FILE, or send it to a program, such as tansu jwt check %s", ref.Drawer)
			}
			made, err := c.IssueJWT(ctx, ref.Drawer, ref.Item, n)
			if err != nil {
				return err
			}
			if out == "" {
				return a.show(made, func() { fmt.Fprintln(a.Out, made.Token) })
			}
			if err := a.result(out, []byte(made.Token+"\n")); err != nil {
				return err
			}
			a.say("%s has a token about %s, until %s (%s).", out, made.Subject, stamp(made.NotAfter), relative(made.NotAfter, time.Now()))
			return nil
		}),
	}
	command.Flags().StringSliceVar(&n.Audiences, "audience", nil, "who is to accept it")
	command.Flags().StringVar(&n.Subject, "subject", "", "whom it is about (you)")
	command.Flags().StringArrayVar(&claims, "claim", nil, "what else it says: `NAME=TEXT`; again for several")
	command.Flags().StringVar(&n.Life, "life", "", "how long it lasts, such as 5m (as long as the profile lets it)")
	command.Flags().StringVar(&out, "out", "", "write it to this new `file`")
	return command
}

func (a *app) jwtCheckCommand() *cobra.Command {
	var audience string
	command := &cobra.Command{
		Use: "check DRAWER [FILE]", Short: "Check a token by a drawer's public keys, and show what it says", Args: upTo(2, "DRAWER"),
		Long: `Reads a token from FILE, or from standard input, finds the key that its kid names among the public keys of the drawer, and checks
the signature, the times and, with --audience, that it is meant for somebody. It shows the claims, and not the token. It ends with 3
when the token is not good.`,
		Example: "  tansu jwt check ticketing-prod boarding.jwt --audience gate-3",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			text, err := a.input(strings.Join(arguments[1:], ""))
			if err != nil {
				return err
			}
			set, err := c.PublicKeys(ctx, arguments[0])
			if err != nil {
				return err
			}
			claims, err := checkJWT(string(bytes.TrimSpace(text)), set, arguments[0])
			if err != nil {
				return a.notGood(err)
			}
			err = a.show(claims, func() {
				var lines []string
				for _, name := range slices.Sorted(maps.Keys(claims)) {
					lines = append(lines, name, claimText(name, claims[name]))
				}
				fields(a.Out, lines...)
			})
			if err != nil {
				return err
			}
			if err := goodNow(claims, audience, time.Now()); err != nil {
				return a.notGood(err)
			}
			a.say("\nThe token is good.")
			return nil
		}),
	}
	command.Flags().StringVar(&audience, "audience", "", "whom it is to be for")
	return command
}

// notGood says what is wrong with a token, which is an answer.
func (a *app) notGood(err error) error {
	fmt.Fprintln(a.Err, printableLines("The token is not good: "+err.Error()+"."))
	return answeredNo{}
}

// checkJWT verifies the signature of a token by a set of public keys, and returns its claims.
func checkJWT(token string, set []json.RawMessage, drawer string) (claims map[string]json.RawMessage, err error) {
	notToken := errors.New("it is no token: three parts in base64url with dots between them (RFC 7515)")
	parts := strings.Split(token, ".")
	var header struct {
		Algorithm string `json:"alg"`
		KeyID     string `json:"kid"`
	}
	var decoded [3][]byte
	for i, part := range parts {
		if i > 2 {
			return nil, notToken
		}
		if decoded[i], err = base64.RawURLEncoding.DecodeString(part); err != nil {
			return nil, notToken
		}
	}
	if len(parts) != 3 || json.Unmarshal(decoded[0], &header) != nil || json.Unmarshal(decoded[1], &claims) != nil {
		return nil, notToken
	}
	for _, jwk := range set {
		var named struct {
			KeyID string `json:"kid"`
		}
		if json.Unmarshal(jwk, &named) != nil || named.KeyID != header.KeyID || header.KeyID == "" {
			continue
		}
		public, err := cryptokey.ReadPublic(jwk, cryptokey.Signing)
		if err != nil {
			return nil, err
		}
		scheme := cryptokey.Scheme(header.Algorithm)
		if header.Algorithm == cert.EdDSA {
			scheme = cryptokey.SchemeEd25519
		}
		if err := public.Verify(scheme, cryptokey.Fixed, []byte(parts[0]+"."+parts[1]), decoded[2]); err != nil {
			return nil, fmt.Errorf("its signature is not that of %s by %s", header.KeyID, header.Algorithm)
		}
		return claims, nil
	}
	return nil, fmt.Errorf("no public key in %s that you may see is called %q: it was signed elsewhere, or by a version that has ended",
		drawer, header.KeyID)
}

// claimText is a claim as it is shown: texts without quotes, and times as times.
func claimText(name string, raw json.RawMessage) string {
	var text string
	var seconds int64
	switch {
	case json.Unmarshal(raw, &text) == nil:
		return text
	case (name == "exp" || name == "iat" || name == "nbf") && json.Unmarshal(raw, &seconds) == nil:
		at := time.Unix(seconds, 0)
		return stamp(at) + " (" + relative(at, time.Now()) + ")"
	}
	return string(raw)
}

// goodNow refuses a token that is not valid at a time, or not meant for an audience, if one is named (RFC 7519, section 4.1).
func goodNow(claims map[string]json.RawMessage, audience string, now time.Time) error {
	moment := func(name string) (at time.Time, is bool) {
		var seconds float64
		if json.Unmarshal(claims[name], &seconds) != nil {
			return at, false
		}
		return time.Unix(int64(seconds), 0), true
	}
	if end, is := moment("exp"); !is {
		return errors.New("it has no end (exp)")
	} else if !now.Before(end) {
		return fmt.Errorf("it ended %s", relative(end, now))
	}
	if begin, is := moment("nbf"); is && now.Before(begin) {
		return fmt.Errorf("it is valid from %s on", stamp(begin))
	}
	var one string
	var several []string
	if json.Unmarshal(claims["aud"], &one) == nil {
		several = []string{one}
	} else {
		_ = json.Unmarshal(claims["aud"], &several) // which leaves none
	}
	if audience != "" && !slices.Contains(several, audience) {
		return fmt.Errorf("it is for %s, and not for %s", strings.Join(several, ", "), audience)
	}
	return nil
}
