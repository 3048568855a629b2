package cli

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
)

func (a *app) readCommand() *cobra.Command {
	return a.withReason(&cobra.Command{
		Use:   "read DRAWER/ITEM[@VERSION]",
		Short: "Write the bytes of a value to standard output, and nothing else",
		Long: `Writes the exact bytes of the current version, or of the one asked for, to standard output. The read is in the trail
before the value leaves the chest. To see whether a read works, use tansu check, which shows no value.`,
		Example: `  tansu read ticketing-prod/db-password | psql-with-password-on-stdin
  tansu read ticketing-prod/db-password@1 > old-password`,
		Args: exactly("DRAWER/ITEM"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			v, content, err := a.fetch(cmd, arguments[0])
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.show(v, nil)
			}
			if toTerminal(a.Out) && bytes.ContainsFunc(content, movesCursor) {
				return fmt.Errorf("the value has control characters, which a terminal would act on: send it to a file or a program")
			}
			if _, err := a.Out.Write(content); err != nil {
				return fmt.Errorf("write the value: %w", err)
			}
			if toTerminal(a.Out) && content[len(content)-1] != '\n' {
				fmt.Fprintln(a.Err)
			}
			return nil
		},
	})
}

// movesCursor reports whether a terminal would act on a character instead of showing it.
func movesCursor(r rune) bool {
	return r < 0x20 && r != '\n' && r != '\t' && r != '\r' || r >= 0x7f && r < 0xa0
}

// withReason gives a command that reads values the option that some grants ask for.
func (a *app) withReason(command *cobra.Command) *cobra.Command {
	command.Flags().StringVar(&a.reason, "reason", "", "why you read it, for grants that ask; it is in the trail")
	return command
}

func (a *app) checkCommand() *cobra.Command {
	var equals bool
	var sameAs, as string
	command := a.withReason(&cobra.Command{
		Use:   "check DRAWER/ITEM[@VERSION][#FIELD]",
		Short: "Prove that a read works, without showing the value",
		Long: `Reads a value as whoever is signed in and throws it away: what comes back is which version was served, how long it is
and until when it may be served. It is a read like any other, and in the trail like any other.

With --equals a value is asked for without showing it, and the answer is only whether it is the same: exit code 0 for yes
and 3 for no. After five wrong guesses in an hour there is no answer. Who may write an item may ask this, too, also of a
version that is staged or waits for its time (DRAWER/ITEM@2): it is checked before anybody is served it.
With --same-as the answer is whether two references hold the same value. With --as nothing is read: the answer is whether
somebody else would get a value now, and why not.`,
		Example: `  tansu check ticketing-prod/db-password
  tansu check ticketing-prod/db-password --equals < old-password
  tansu check ticketing-prod/db-password@1 --same-as ticketing-prod/db-password@2
  tansu check ticketing-prod/db-password --as app:ticket-api`,
		Args: exactly("DRAWER/ITEM"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			if as != "" {
				return a.checkAs(cmd, as, arguments[0])
			}
			if sameAs != "" {
				return a.checkSame(cmd, arguments[0], sameAs)
			}
			if equals {
				return a.checkEquals(cmd, arguments[0])
			}
			v, content, err := a.fetch(cmd, arguments[0])
			if err != nil {
				return err
			}
			clear(content)
			v.Value, v.Encoding = "", ""
			checked := map[string]any{"reference": v.Reference, "version": v.Version, "size": v.Size, "created_at": v.CreatedAt}
			ends := "The value has no end"
			if !v.NotAfter.IsZero() {
				checked["not_after"] = v.NotAfter
				ends = "The value ends " + relative(v.NotAfter, time.Now())
			}
			if v.Grace {
				checked["grace"] = true
				ends = "The value ended " + relative(v.NotAfter, time.Now()) + " and is served until " + stamp(v.Until) + " by a rule: replace it"
			}
			if !v.Access.IsZero() {
				checked["access_ends"] = v.Access
				ends += ", and your access to it ends " + relative(v.Access, time.Now())
			}
			return a.show(checked, func() {
				fmt.Fprintf(a.Out, "It works: %s, %s, written %s. The value was not shown.\n%s.\n", v.Reference, bytesText(v.Size),
					relative(v.CreatedAt, time.Now()), ends)
			})
		},
	})
	command.Flags().StringVar(&sameAs, "same-as", "", "only whether another `reference` holds the same value")
	command.Flags().StringVar(&as, "as", "", "only whether this `subject` would get it now, such as app:ticket-api")
	command.Flags().BoolVar(&equals, "equals", false, "only whether a value that you give is the same")
	return command
}

// checkAs asks whether somebody else would get a value.
func (a *app) checkAs(cmd *cobra.Command, subject, text string) error {
	ref, err := itemArgument(text)
	if err != nil {
		return err
	}
	if ref.Version != 0 || ref.Field != "" {
		return usagef("--as is about what is served now: leave out version and field")
	}
	c, err := a.connected()
	if err != nil {
		return err
	}
	q := client.Question{Subject: subject, Action: "read_value", Target: ref.String(), Reason: a.reason}
	v, err := c.Ask(cmd.Context(), q)
	if err != nil {
		return err
	}
	if err := a.show(v, func() { a.printVerdict(q, v) }); err != nil || v.Allowed && v.NotServed == "" {
		return err
	}
	return answeredNo{}
}

func (a *app) checkSame(cmd *cobra.Command, one, other string) error {
	first, err := itemArgument(one)
	if err != nil {
		return err
	}
	second, err := itemArgument(other)
	if err != nil {
		return err
	}
	c, err := a.connected()
	if err != nil {
		return err
	}
	same, err := c.Same(cmd.Context(), first.String(), second.String())
	if err != nil {
		return err
	}
	err = a.show(map[string]any{"references": []string{first.String(), second.String()}, "equal": same}, func() {
		fmt.Fprintln(a.Out, map[bool]string{true: "Yes, both hold the same value.", false: "No, they hold different values."}[same])
	})
	if err != nil || same {
		return err
	}
	return answeredNo{}
}

func (a *app) checkEquals(cmd *cobra.Command, text string) error {
	ref, err := itemArgument(text)
	if err != nil {
		return err
	}
	c, err := a.connected()
	if err != nil {
		return err
	}
	given, err := a.content("")
	if err != nil {
		return err
	}
	defer given.Wipe()
	equal, err := c.Equals(cmd.Context(), ref.String(), given.Reveal())
	if err != nil {
		return err
	}
	err = a.show(map[string]any{"reference": ref.String(), "equal": equal}, func() {
		fmt.Fprintln(a.Out, map[bool]string{true: "Yes, it is the same.", false: "No, it is another one."}[equal])
	})
	if err != nil || equal {
		return err
	}
	return answeredNo{}
}

func (a *app) fetch(cmd *cobra.Command, text string) (v client.Value, content []byte, err error) {
	ref, err := itemArgument(text)
	if err != nil {
		return v, nil, err
	}
	c, err := a.connected()
	if err != nil {
		return v, nil, err
	}
	if v, err = c.ReadValue(cmd.Context(), ref.String()); err != nil {
		return v, nil, err
	}
	if content, err = base64.StdEncoding.DecodeString(v.Value); err != nil {
		return v, nil, fmt.Errorf("the chest's answer is damaged")
	}
	return v, content, nil
}
