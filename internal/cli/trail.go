package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
)

func (a *app) trailCommand() *cobra.Command {
	var f client.TrailFilter
	var since string
	var all, asCSV bool
	command := &cobra.Command{
		Use:   "trail [QUERY]",
		Short: "Read the audit trail, newest first",
		Long: `Lists entries, newest first. QUERY is in the grammar of tansu search: words, which are looked for in who, what and why, and
terms that must all hold, with "*" for anything and "-" for not. The keys are subject, target, drawer, action, outcome, reason,
grant, from, request, receipt, since and until. The options say the same one by one.`,
		Example: `  tansu trail --target ticketing-prod
  tansu trail 'drawer:ticketing-prod -outcome:allowed since:7d'
  tansu trail --subject app:ticket-api --action read_value --since 7d
  tansu trail --outcome refused -o json
  tansu trail --subject app:ticket-api --action read_value --since 7d --csv > reads.csv
  tansu trail export --out trail.jsonl --key chest.key
  tansu trail verify trail.jsonl --key chest.key --checkpoint trail.jsonl.checkpoint`,
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) (err error) {
			f.Query = strings.Join(arguments, " ")
			if f.Since, err = sinceMoment(since); err != nil {
				return err
			}
			if asCSV && a.output == "json" {
				return usagef("--csv and --output json are two ways to print: give one of them")
			}
			if all || asCSV {
				return a.wholeTrail(ctx, c, f, asCSV)
			}
			page, err := c.Trail(ctx, f)
			if err != nil {
				return err
			}
			return a.show(page, func() { a.printEntries(page) })
		}),
	}
	flags := command.Flags()
	flags.StringVar(&f.Subject, "subject", "", "only what this `subject` did, such as app:ticket-api")
	flags.StringVar(&f.Target, "target", "", "only about this drawer and what is in it, or this `reference`")
	flags.StringVar(&f.Action, "action", "", "only this `action`, such as read_value")
	flags.StringVar(&f.Outcome, "outcome", "", "only allowed, refused or failed")
	flags.StringVar(&f.Reason, "why", "", "only with this `reason`, such as no_grant")
	flags.StringVar(&f.Grant, "grant", "", "only what this `grant` allowed or denied")
	flags.StringVar(&f.Addr, "from", "", "only from this `address`")
	flags.StringVar(&f.RequestID, "request", "", "only under this request `id`")
	flags.StringVar(&since, "since", "", "only since this `time` (2026-12-01, or RFC 3339), or in the last 12h or 90d")
	flags.StringVar(&f.Archive, "archive", "", "look into this archive, by its `name`, oldest first")
	flags.BoolVar(&all, "all", false, "every entry that is selected, not a page")
	flags.BoolVar(&asCSV, "csv", false, "every entry that is selected, as comma-separated values (RFC 4180) for a spreadsheet")
	flags.StringVar(&f.Cursor, "cursor", "", "continue where a page ended")
	flags.IntVar(&f.Limit, "limit", 0, "how `many` at most, up to 500 (default 50)")
	command.AddCommand(a.trailKeyCommand(), a.checkpointCommand(), a.trailExportCommand(), a.trailVerifyCommand(), a.proveCommand(),
		a.checkProofCommand(), a.watchCommand(), a.unusualCommand(), a.activityCommand(), a.archivesCommand(), a.upkeepCommand())
	return command
}

// wholeTrail prints every entry that a filter selects, page by page as they come, newest first.
func (a *app) wholeTrail(ctx context.Context, c *client.Client, f client.TrailFilter, asCSV bool) error {
	f.Limit = 500
	entries := []client.Entry{}
	rows := csv.NewWriter(a.Out)
	if asCSV {
		if err := rows.Write([]string{"number", "time", "subject", "action", "target", "version", "outcome", "reason", "address", "via", "grant",
			"detail", "request"}); err != nil {
			return err
		}
	}
	for {
		page, err := c.Trail(ctx, f)
		if err != nil {
			return err
		}
		if !asCSV {
			entries = append(entries, page.Entries...)
		}
		for _, e := range page.Entries {
			if !asCSV {
				break
			}
			version := ""
			if e.Version != 0 {
				version = strconv.Itoa(e.Version)
			}
			row := []string{strconv.FormatUint(e.Seq, 10), e.At.UTC().Format(time.RFC3339Nano), e.Subject, e.Action, e.Target, version, e.Outcome,
				e.Reason, e.Addr, e.Via, e.Grant, e.Detail, e.RequestID}
			for i := range row { // a cell that a spreadsheet would take for a formula
				if row[i] != "" && strings.ContainsAny(row[i][:1], "=+-@\t\r") {
					row[i] = "'" + row[i]
				}
			}
			if err := rows.Write(row); err != nil {
				return err
			}
		}
		if rows.Flush(); rows.Error() != nil {
			return rows.Error()
		}
		if f.Cursor = page.NextCursor; f.Cursor == "" {
			break
		}
	}
	if asCSV {
		return nil
	}
	page := client.TrailPage{Entries: entries}
	return a.show(page, func() { a.printEntries(page) })
}

func sinceMoment(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := duration(text); err == nil {
		return time.Now().Add(-d), nil
	}
	return moment("--since", text)
}

func (a *app) printEntries(page client.TrailPage) {
	t := table{head: []string{"NO", "TIME", "SUBJECT", "ACTION", "TARGET", "OUTCOME", "FROM", "DETAIL"}}
	for _, e := range page.Entries {
		t.add(strconv.FormatUint(e.Seq, 10), stamp(e.At), e.Subject, e.Action, targetText(e), outcomeText(e), e.Addr, detailText(e))
	}
	a.printTable(t, "No entry that this selects and you may read.")
	if page.NextCursor != "" {
		a.say("More: --cursor %s", page.NextCursor)
	}
}

func targetText(e client.Entry) string {
	if e.Target == "" {
		return "(chest)"
	}
	if e.Version != 0 {
		return e.Target + "@" + strconv.Itoa(e.Version)
	}
	return e.Target
}

// outcomeText has a mark besides the word, so that refusals are seen in a long list.
func outcomeText(e client.Entry) string {
	switch e.Outcome {
	case "refused":
		return "✗ refused"
	case "failed":
		return "! failed"
	}
	return e.Outcome
}

func detailText(e client.Entry) string {
	switch {
	case e.Receipt != "":
		return e.Reason + ", receipt " + e.Receipt
	case e.Reason != "":
		return e.Reason
	case e.Stated != "" && e.Detail != "":
		return e.Detail + "; reason: " + e.Stated
	case e.Stated != "":
		return "reason: " + e.Stated
	case e.Detail != "":
		return e.Detail
	case e.Grant != "":
		return "by " + e.Grant
	}
	return ""
}

func (a *app) receiptCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "receipt ID",
		Short: "Explain a refusal and show the smallest grant that would allow it",
		Args:  exactly("ID"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			r, err := c.Receipt(ctx, arguments[0])
			if err != nil {
				return err
			}
			return a.show(r, func() {
				fields(a.Out, "receipt", r.Entry.Receipt, "refused", r.Entry.Subject, "who it is", r.Description, "owner", r.Owner, "action",
					r.Entry.Action, "target", targetText(r.Entry),
					"why", reasonText(r.Entry.Reason), "when", stamp(r.Entry.At)+", "+relative(r.Entry.At, time.Now()), "from", r.Entry.Addr, "request",
					r.Entry.RequestID)
				fmt.Fprintln(a.Out)
				a.printConsidered(r.Considered)
				if r.Declined != "" {
					fmt.Fprintf(a.Out, "%s.\n", r.Declined)
				}
				switch {
				case r.NeedsApproval:
					fmt.Fprintf(a.Out, "A grant allows it, and a second person has to agree. Ask for it:\n  tansu request ask %s --reason WHY\n",
						r.Entry.Receipt)
				case r.AllowedNow:
					fmt.Fprintf(a.Out, "It would be allowed now, by grant %s.\n", r.GrantNow)
				case r.Entry.Reason == "reason_needed":
					fmt.Fprintln(a.Out, "Stating a reason (--reason) is all it takes.")
				case r.Remedy != nil:
					fmt.Fprintf(a.Out, "It would still be refused. The smallest grant that allows it:\n  %s\n", r.Remedy.Command)
				default:
					fmt.Fprintln(a.Out, "It would still be refused, and no one grant is proposed: what keeps it out was put there on purpose, or it "+
						"depends\non what it is for. A gatekeeper decides.")
				}
			})
		}),
	}
}

func (a *app) refusalsCommand() *cobra.Command {
	var since string
	command := &cobra.Command{
		Use:   "refusals",
		Short: "List what was refused and would be refused now, with what would allow it",
		Example: `  tansu refusals --since 24h
  tansu grant for RECEIPT --until 30d`,
		Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			from, err := sinceMoment(since)
			if err != nil {
				return err
			}
			groups, err := c.Refusals(ctx, from)
			if err != nil {
				return err
			}
			return a.show(groups, func() {
				t := table{head: []string{"RECEIPT", "TIMES", "LAST", "SUBJECT", "ACTION", "TARGET", "WHY", "OWNER"}}
				for _, g := range groups {
					t.add(g.Receipt, strconv.Itoa(g.Count), relative(g.Last, time.Now()), g.Subject, g.Action, targetText(client.Entry{Target: g.Target}),
						g.Reason, g.Owner)
				}
				a.printTable(t, "Nothing that was refused would be refused now.")
				if len(groups) > 0 {
					a.say("To give what one needs: tansu grant for RECEIPT. To decline: tansu request decline RECEIPT. To see why: tansu receipt RECEIPT.")
				}
			})
		}),
	}
	command.Flags().StringVar(&since, "since", "", "since this `time` (2026-12-01, or RFC 3339), or in the last 12h or 90d (default 7d)")
	return command
}

var reasons = map[string]string{
	"no_grant":         "no grant gives this action on this target",
	"grant_ended":      "the grant that gave it has ended",
	"denied":           "a grant denies it",
	"own_access":       "nobody changes their own access",
	"reason_needed":    "a grant would allow it with a stated reason",
	"approval_needed":  "a grant allows it, and a second person has to agree",
	"steward_only":     "only a steward may",
	"master_key_owner": "only the owner of the master key, or an operator, may",
	"condition_failed": "a grant would allow it, but one of its conditions did not hold",
}

func reasonText(reason string) string {
	if text, known := reasons[reason]; known {
		return text
	}
	return reason
}
