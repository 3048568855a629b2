package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"
)

// table prints rows in columns; a terminal gets a bold head unless NO_COLOR is set. Anything that is not printable in
// a cell is escaped, so that what others wrote cannot move the cursor.
type table struct {
	head []string
	rows [][]string
}

func (t *table) add(cells ...string) { t.rows = append(t.rows, cells) }

func (t *table) print(w io.Writer) {
	widths := make([]int, len(t.head))
	for _, row := range append([][]string{t.head}, t.rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(printable(cell)))
		}
	}
	before, after := "", ""
	if fancy(w) {
		before, after = "\x1b[1m", "\x1b[0m"
	}
	fmt.Fprintf(w, "%s%s%s\n", before, line(t.head, widths), after)
	for _, row := range t.rows {
		fmt.Fprintln(w, line(row, widths))
	}
}

func line(cells []string, widths []int) string {
	var b strings.Builder
	for i, cell := range cells {
		cell = printable(cell)
		b.WriteString(cell)
		if i < len(cells)-1 {
			b.WriteString(strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell)+2))
		}
	}
	return strings.TrimRight(b.String(), " ")
}

// printable writes a dot for what would move the cursor, or turn the text around.
func printable(cell string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) {
			return '·'
		}
		return r
	}, cell)
}

// printableLines is printable for a text of several lines.
func printableLines(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = printable(lines[i])
	}
	return strings.Join(lines, "\n")
}

// fancy reports whether w is a terminal that may be sent colours.
func fancy(w io.Writer) bool {
	return os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" && toTerminal(w)
}

func toTerminal(w io.Writer) bool {
	file, ok := w.(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}

// fields prints names and texts in two columns, leaving out empty texts.
func fields(w io.Writer, pairs ...string) {
	width := 0
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			width = max(width, len(pairs[i]))
		}
	}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			fmt.Fprintf(w, "%-*s  %s\n", width, printable(pairs[i]), printable(pairs[i+1]))
		}
	}
}

// relative says when something is, seen from now: "in 6 days", "3 hours ago".
func relative(t, now time.Time) string {
	if t.IsZero() {
		return "never"
	}
	distance := t.Sub(now)
	if distance < 0 {
		return span(-distance) + " ago"
	}
	return "in " + span(distance)
}

func span(d time.Duration) string {
	units := []struct {
		size time.Duration
		name string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}, {time.Second, "second"}}
	for _, unit := range units {
		if d >= unit.size-unit.size/100 {
			n := int((d + unit.size/2) / unit.size)
			if n == 1 {
				return "1 " + unit.name
			}
			return fmt.Sprintf("%d %ss", n, unit.name)
		}
	}
	return "a moment"
}

// stamp is a time in full.
func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}
