package calendar

import (
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

func TestCalendarKeepsItsForm(t *testing.T) {
	long := strings.Repeat("héron, ", 40)
	at := time.Date(2026, 12, 1, 9, 30, 0, 0, time.FixedZone("", 3600))
	text := string(Write("What is due; to me",
		[]Event{{UID: "it_1@ch_1", At: at, Summary: "ticketing-prod/db-password ends", Text: long + "\nBEGIN:VEVENT"}}, at))
	for _, line := range strings.SplitAfter(text, "\r\n") {
		if len(line) > 77 || !utf8.ValidString(line) || line != "" && !strings.HasSuffix(line, "\r\n") {
			t.Errorf("a line of %d bytes: %q", len(line), line)
		}
	}
	unfolded := strings.ReplaceAll(text, "\r\n ", "")
	for _, want := range []string{"\r\nDTSTART:20261201T083000Z\r\n", "\r\nNAME:What is due\\; to me\r\n",
		strings.ReplaceAll(long, ",", "\\,") + "\\nBEGIN:VEVENT\r\n"} {
		if !strings.Contains(unfolded, want) {
			t.Errorf("no %q in %q", want, unfolded)
		}
	}
	if strings.Count(unfolded, "\r\nBEGIN:VEVENT\r\n") != 1 {
		t.Error("a text made an event of its own")
	}
	if late := stamp(time.Date(10000, 1, 1, 0, 0, 0, 0, time.UTC)); late != "99991231T235959Z" {
		t.Errorf("the year 10000 is written %s", late)
	}
}
