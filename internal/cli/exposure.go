package cli

import (
	"context"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/exposuretext"
)

func (a *app) watchCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "watch [QUERY]",
		Short:   "Show entries as they are recorded, until Ctrl-C",
		Example: "  tansu trail watch 'subject:* -outcome:allowed'\n  tansu trail watch drawer:ticketing-prod -o json",
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			return c.Watch(ctx, strings.Join(arguments, " "), func(e client.Entry) error {
				return a.show(e, func() {
					fmt.Fprintln(a.Out, printable(strings.Join([]string{stamp(e.At), outcomeText(e), e.Subject, e.Action, targetText(e), e.Addr,
						detailText(e)}, "  ")))
				})
			})
		}),
	}
}

// unusualText says what a kind means.
var unusualText = map[string]string{"first_read": "first read", "new_network": "new network", "new_hour": "new hour", "burst": "burst",
	"guessing": "guessing", "clock": "the clock was set back",
	"ending": "ends soon", "gone": "not served", "proof": "used twice"}

func (a *app) unusualCommand() *cobra.Command {
	var since string
	command := &cobra.Command{
		Use:   "unusual",
		Short: "Show what was done for the first time, or far more often than before",
		Long: `Lists, for readers who have been there for a day or more: items read for the first time, networks and hours of the
day that are new for that reader, hours with ten times more reads than usual, and what ends within seven days and is still read.`,
		Example: "  tansu trail unusual --since 24h",
		Args:    exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			from, err := sinceMoment(since)
			if err != nil {
				return err
			}
			list, err := c.Unusual(ctx, from)
			if err != nil {
				return err
			}
			return a.show(list, func() {
				t := table{head: []string{"TIME", "WHAT", "WHO", "ON", "DETAIL", "ENTRY"}}
				for _, u := range list {
					entry := ""
					if u.Seq != 0 {
						entry = strconv.FormatUint(u.Seq, 10)
					}
					t.add(stamp(u.At), unusualText[u.Kind], u.Subject, u.Target, u.Detail, entry)
				}
				a.printTable(t, "Nothing unusual.")
			})
		}),
	}
	command.Flags().StringVar(&since, "since", "", "only since this `time` (2026-12-01, or RFC 3339), or in the last 12h or 90d (default 7d)")
	return command
}

// barWidth is how wide the longest bar of a plot is.
const barWidth = 40

func (a *app) activityCommand() *cobra.Command {
	var since string
	command := &cobra.Command{
		Use:     "activity",
		Short:   "Show how much is read, by day, and by drawer and reader",
		Example: "  tansu trail activity --since 30d",
		Args:    exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			from, err := sinceMoment(since)
			if err != nil {
				return err
			}
			list, err := c.Activity(ctx, from)
			if err != nil {
				return err
			}
			return a.show(list, func() { a.printActivity(list) })
		}),
	}
	command.Flags().StringVar(&since, "since", "", "only since this `time` (2026-12-01, or RFC 3339), or in the last 12h or 90d (default 7d)")
	return command
}

func (a *app) printActivity(list []client.Activity) {
	days, pairs := map[string]int64{}, map[[2]string]int64{}
	for _, h := range list {
		days[h.Hour.UTC().Format("2006-01-02")] += h.Count
		pairs[[2]string{h.Drawer, h.Subject}] += h.Count
	}
	names := make([]string, 0, len(days))
	most := int64(1)
	for day, n := range days {
		names, most = append(names, day), max(most, n)
	}
	sort.Strings(names)
	t := table{head: []string{"DAY", "READS", ""}}
	for _, day := range names {
		t.add(day, strconv.FormatInt(days[day], 10), strings.Repeat("█", int((days[day]*barWidth+most-1)/most)))
	}
	a.printTable(t, "Nothing was read that you may know of.")
	if len(pairs) == 0 {
		return
	}
	keys := make([][2]string, 0, len(pairs))
	for k := range pairs {
		keys = append(keys, k)
	}
	sort.Slice(keys, func(i, j int) bool {
		if pairs[keys[i]] != pairs[keys[j]] {
			return pairs[keys[i]] > pairs[keys[j]]
		}
		return keys[i][0]+keys[i][1] < keys[j][0]+keys[j][1]
	})
	fmt.Fprintln(a.Out)
	who := table{head: []string{"DRAWER", "WHO", "READS"}}
	for _, k := range keys {
		who.add(k[0], k[1], strconv.FormatInt(pairs[k], 10))
	}
	a.printTable(who, "")
}

func (a *app) exposureCommand() *cobra.Command {
	var n client.NewExposure
	var since string
	var markdown bool
	command := &cobra.Command{
		Use:   "exposure DRAWER/ITEM@VERSION",
		Short: "Report an exposed version: who could read it, who did, and what to replace",
		Long: `Works out what follows when a value was seen where it should not be: who has read it since then and who could have, how long
it has been there, what else has the same value or was read by the same readers, and what to replace, in order. With --mark the trail
says from then on that it is exposed. --markdown writes the report for people who have no access to the chest.`,
		Example: `  tansu exposure ticketing-prod/db-password@2 --since 3d
  tansu exposure ticketing-prod/db-password@2 --since 2026-11-20T08:00:00Z --mark --reason "seen in a build log" --markdown > report.md`,
		Args: exactly("DRAWER/ITEM@VERSION"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) (err error) {
			ref, err := itemArgument(arguments[0])
			if err != nil {
				return err
			}
			if n.Since, err = sinceMoment(since); err != nil {
				return err
			}
			x, err := c.Exposure(ctx, ref.String(), n)
			if err != nil {
				return err
			}
			if markdown {
				_, err = fmt.Fprint(a.Out, exposuretext.Markdown(x))
				return err
			}
			return a.show(x, func() { a.printExposure(x) })
		}),
	}
	command.Flags().StringVar(&since, "since", "",
		"exposed since this `time` (2026-12-01, or RFC 3339), or this long ago; since it was stored, when left out")
	command.Flags().StringVar(&n.Reason, "reason", "", "where it was seen; it is in the report, and in the trail with --mark")
	command.Flags().BoolVar(&n.Mark, "mark", false, "record in the trail that it is exposed")
	command.Flags().BoolVar(&markdown, "markdown", false, "write the report as Markdown")
	return command
}

func (a *app) printExposure(x client.Exposure) {
	serves := "it is not served any more"
	if x.Serves {
		serves = "✗ it is still served"
	}
	fields(a.Out, "exposed", x.Reference, "since", stamp(x.Since)+", "+relative(x.Since, time.Now()), "put in",
		stamp(x.CreatedAt)+" by "+x.CreatedBy, "now", serves)
	fmt.Fprintln(a.Out, "\nReplace, in this order:")
	steps := table{head: []string{"", "WHAT", "WHY", "WITH"}}
	for i, r := range x.Replace {
		steps.add(strconv.Itoa(i+1), r.Reference, r.Why, r.Command)
	}
	a.printTable(steps, "Nothing: it is not served, and nothing else is known to depend on it.")
	if x.Uncompared != "" {
		fmt.Fprintf(a.Out, "\n✗ Not all was looked at: %s.\n", x.Uncompared)
	}
	fmt.Fprintf(a.Out, "\nWho %s it:\n", exposuretext.Did(x))
	readers := table{head: []string{"WHO", "SINCE THEN", "IN ALL", "LAST", "FROM"}}
	for _, r := range x.Readers {
		readers.add(r.Subject, strconv.Itoa(r.After), strconv.Itoa(r.Count), stamp(r.Last), strings.Join(r.Addrs, ", "))
	}
	a.printTable(readers, "Nobody.")
	if x.Partly {
		a.say("There were more reads than the report looked at.")
	}
	fmt.Fprintln(a.Out, "\nWho could have, since then:")
	holders := table{head: []string{"WHO", "DID", "CAN NOW", "BY"}}
	for _, h := range x.Holders {
		holders.add(h.Subject, yesNo(h.Did), yesNo(h.Still), strings.Join(h.Grants, ", "))
	}
	a.printTable(holders, "Nobody.")
}
