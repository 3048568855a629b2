// Package exposuretext writes the report of an exposure for people who have no access to the chest.
package exposuretext

import (
	"fmt"
	"strings"
	"time"

	"tansu/client"
)

// Did is what happened with what is exposed: it was read, or, of a key that stays in the chest, used.
func Did(x client.Exposure) string {
	if x.Used {
		return "used"
	}
	return "read"
}

// Markdown writes the report.
func Markdown(x client.Exposure) string {
	var b strings.Builder
	line := func(format string, arguments ...any) { fmt.Fprintf(&b, format+"\n", arguments...) }
	at := func(t time.Time) string { return t.UTC().Format(time.RFC3339) }
	line("# Exposure of `%s`\n", x.Reference)
	if x.Reason != "" {
		line("%s\n", markdownText(x.Reason))
	}
	line("- Exposed since %s", at(x.Since))
	line("- Put in at %s by `%s`", at(x.CreatedAt), x.CreatedBy)
	line("- %s", map[bool]string{true: "**It is still served**", false: "It is not served any more"}[x.Serves])
	line("\n## Replace, in this order\n")
	for i, r := range x.Replace {
		command := ""
		if r.Command != "" {
			command = " (`" + r.Command + "`)"
		}
		line("%d. `%s`: %s%s", i+1, r.Reference, r.Why, command)
	}
	if len(x.Replace) == 0 {
		line("Nothing: it is not served, and nothing else is known to depend on it.")
	}
	if x.Uncompared != "" {
		line("\nNot all was looked at: %s.", x.Uncompared)
	}
	line("\n## Who %s it\n", Did(x))
	line("| who | since then | in all | last | from |\n| --- | ---: | ---: | --- | --- |")
	for _, r := range x.Readers {
		line("| `%s` | %d | %d | %s | %s |", r.Subject, r.After, r.Count, at(r.Last), strings.Join(r.Addrs, ", "))
	}
	if len(x.Readers) == 0 {
		line("| nobody | | | | |")
	}
	if x.Partly {
		line("\nThere were more reads than this report looked at.")
	}
	line("\n## Who could have, since then\n")
	line("| who | did | can now | by |\n| --- | --- | --- | --- |")
	yes := map[bool]string{true: "yes", false: "no"}
	for _, h := range x.Holders {
		line("| `%s` | %s | %s | %s |", h.Subject, yes[h.Did], yes[h.Still], strings.Join(h.Grants, ", "))
	}
	line("\nTeams count with the members that they have now.")
	return b.String()
}

// markdownText keeps what somebody wrote from being anything but text.
func markdownText(text string) string {
	return strings.NewReplacer("\\", "\\\\", "`", "\\`", "*", "\\*", "_", "\\_", "<", "&lt;", "[", "\\[", "|", "\\|", "#", "\\#").Replace(text)
}
