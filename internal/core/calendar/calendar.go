// Package calendar writes events as iCalendar (RFC 5545), for the calendars that people look at anyway.
//
// An [Event] is a moment at which something has to be done. Writing takes no I/O and no clock.
package calendar

import (
	"strings"
	"time"
	"unicode/utf8"
)

// Event is one moment, with what is to be done about it.
type Event struct {
	UID     string // the same for the same thing in every writing (RFC 5545, section 3.8.4.7)
	At      time.Time
	Summary string
	Text    string
}

// Write returns a calendar with events. The stamp of all of them (RFC 5545, section 3.8.7.2) is one moment that stays, such as when the
// calendar was made: who fetches it again sees that nothing has changed.
func Write(name string, events []Event, made time.Time) []byte {
	var w writer
	w.line("BEGIN", "VCALENDAR")
	w.line("VERSION", "2.0")
	w.line("PRODID", "-//Tansu//Tansu//EN")
	w.line("CALSCALE", "GREGORIAN")
	w.text("NAME", name) // RFC 7986, section 5.1
	w.line("REFRESH-INTERVAL;VALUE=DURATION", "PT1H")
	for _, e := range events {
		w.line("BEGIN", "VEVENT")
		w.text("UID", e.UID)
		w.line("DTSTAMP", stamp(made))
		w.line("DTSTART", stamp(e.At))
		w.text("SUMMARY", e.Summary)
		if e.Text != "" {
			w.text("DESCRIPTION", e.Text)
		}
		w.line("TRANSP", "TRANSPARENT") // nobody is busy because of it
		w.line("END", "VEVENT")
	}
	w.line("END", "VCALENDAR")
	return []byte(w.String())
}

// stamp is a date-time in UTC (RFC 5545, section 3.3.5, form 2), which has four digits for the year.
func stamp(t time.Time) string {
	if t = t.UTC(); t.Year() > 9999 {
		t = time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)
	}
	return t.Format("20060102T150405Z")
}

type writer struct{ strings.Builder }

// escape is for texts (RFC 5545, section 3.3.11).
var escape = strings.NewReplacer(`\`, `\\`, `;`, `\;`, `,`, `\,`, "\r\n", `\n`, "\n", `\n`, "\r", `\n`)

func (w *writer) text(name, text string) { w.line(name, escape.Replace(text)) }

// line writes a line, folded after 75 bytes without cutting a character (RFC 5545, section 3.1).
func (w *writer) line(name, value string) {
	rest, room := name+":"+value, 75
	for len(rest) > room {
		cut := room
		for cut > 0 && !utf8.RuneStart(rest[cut]) {
			cut--
		}
		w.WriteString(rest[:cut] + "\r\n ")
		rest, room = rest[cut:], 74
	}
	w.WriteString(rest + "\r\n")
}
