// Package trail holds the entries of the audit trail and their one encoding.
//
// An entry is written once and kept for ever as the bytes it was first encoded to, so that a hash over those bytes
// means something years later. The encoding is JSON in canonical form (RFC 8785): members sorted by name, no space
// between them, numbers only as integers below 2^53, strings escaped only where they must be. Anyone can read it with
// ordinary tools, and anyone can make the same bytes again.
//
// An entry names who did what, where and with which result. It never holds a value.
package trail

import (
	"encoding/json"
	"fmt"
	"strconv"
	"time"
	"unicode/utf8"
)

// Outcome is how an attempt ended.
type Outcome string

// The outcomes.
const (
	Allowed Outcome = "allowed" // it was done
	Refused Outcome = "refused" // the answer was no
	Failed  Outcome = "failed"  // allowed, but not possible: a conflict, a missing item
)

// Entry is one event. Empty fields are left out of the encoding.
type Entry struct {
	Seq       uint64    // position in the trail, from 1; given by the writer
	At        time.Time // when it was decided, to the microsecond
	Subject   string    // "app:ticket-api", "person:audit-desk"; "unknown" when nobody proved who they are
	Via       string    // how the subject proved itself: "app_key", "person_token", "password" …
	Action    string    // an access action, or "sign_in", "unlock" …
	Target    string    // a drawer, an item reference, a subject or a grant; empty for the chest
	Version   int       // of the item
	Outcome   Outcome
	Reason    string // a stable code when the outcome is not Allowed
	Grant     string // the grant that allowed or denied it
	Stated    string // the reason that the subject stated
	Detail    string // what was changed, in a few words, never a value
	RequestID string
	Receipt   string // the receipt of a refusal
	Addr      string // the address the request came from, without port
	Count     int64  // how many more refusals like it this entry stands for; 0 for an entry of one
}

// timeLayout is RFC 3339 in UTC with microseconds, always the same length so that text order is time order.
const timeLayout = "2006-01-02T15:04:05.000000Z"

// FormatTime writes a time the way entries hold it.
func FormatTime(t time.Time) string { return string(new(Encoder).appendTime(nil, t)) }

// AppendCanonical appends the canonical encoding of the entry to b. Members appear in RFC 8785 order, which for these
// names is plain alphabetical order.
func (e *Entry) AppendCanonical(b []byte) []byte { return new(Encoder).Append(b, e) }

// Encoder encodes entries that follow each other: it writes the second of a time once, however many entries have it. The zero
// Encoder is ready; it must not be used by several goroutines at once.
type Encoder struct {
	second int64
	text   [len("2006-01-02T15:04:05")]byte
}

// Append appends what [Entry.AppendCanonical] does.
func (n *Encoder) Append(b []byte, e *Entry) []byte {
	b = append(b, `{"action":`...)
	b = appendString(b, e.Action)
	b = appendMember(b, "addr", e.Addr)
	b = append(b, `,"at":"`...)
	b = n.appendTime(b, e.At)
	b = append(b, '"')
	if e.Count != 0 {
		b = append(b, `,"count":`...)
		b = strconv.AppendInt(b, e.Count, 10)
	}
	b = appendMember(b, "detail", e.Detail)
	b = appendMember(b, "grant", e.Grant)
	b = append(b, `,"outcome":`...)
	b = appendString(b, string(e.Outcome))
	b = appendMember(b, "reason", e.Reason)
	b = appendMember(b, "receipt", e.Receipt)
	b = appendMember(b, "request_id", e.RequestID)
	b = append(b, `,"seq":`...)
	b = strconv.AppendUint(b, e.Seq, 10)
	b = appendMember(b, "stated", e.Stated)
	b = append(b, `,"subject":`...)
	b = appendString(b, e.Subject)
	b = appendMember(b, "target", e.Target)
	if e.Version != 0 {
		b = append(b, `,"version":`...)
		b = strconv.AppendInt(b, int64(e.Version), 10)
	}
	b = appendMember(b, "via", e.Via)
	return append(b, '}')
}

// appendTime writes a time as timeLayout says.
func (n *Encoder) appendTime(b []byte, t time.Time) []byte {
	if second := t.Unix(); second != n.second || n.text[0] == 0 {
		n.second = second
		t.UTC().AppendFormat(n.text[:0], time.DateOnly+"T"+time.TimeOnly)
	}
	b = append(append(b, n.text[:]...), '.')
	micros := t.Nanosecond() / 1000
	for unit := 100_000; unit > 0; unit /= 10 {
		b = append(b, '0'+byte(micros/unit%10))
	}
	return append(b, 'Z')
}

func appendMember(b []byte, name, text string) []byte {
	if text == "" {
		return b
	}
	b = append(b, ',', '"')
	b = append(b, name...)
	b = append(b, '"', ':')
	return appendString(b, text)
}

// appendString escapes as RFC 8785, section 3.2.2.2, asks: only what JSON demands, control characters in lower-case hex.
// Bytes that are not UTF-8 become U+FFFD.
func appendString(b []byte, text string) []byte {
	const hex = "0123456789abcdef"
	b = append(b, '"')
	if plain(text) {
		return append(append(b, text...), '"')
	}
	for i := 0; i < len(text); {
		c := text[i]
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRuneInString(text[i:])
			b = utf8.AppendRune(b, r)
			i += size
			continue
		}
		i++
		switch {
		case c == '"' || c == '\\':
			b = append(b, '\\', c)
		case c >= 0x20:
			b = append(b, c)
		case c == '\b':
			b = append(b, '\\', 'b')
		case c == '\t':
			b = append(b, '\\', 't')
		case c == '\n':
			b = append(b, '\\', 'n')
		case c == '\f':
			b = append(b, '\\', 'f')
		case c == '\r':
			b = append(b, '\\', 'r')
		default:
			b = append(b, '\\', 'u', '0', '0', hex[c>>4], hex[c&15])
		}
	}
	return append(b, '"')
}

// plain reports whether a text is printable ASCII that stands for itself in JSON, as nearly all of an entry is.
func plain(text string) bool {
	for i := range len(text) {
		if c := text[i]; c < 0x20 || c >= utf8.RuneSelf || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}

// Decode reads an encoded entry back.
func Decode(encoded []byte) (Entry, error) {
	var raw struct {
		Action    string  `json:"action"`
		Addr      string  `json:"addr"`
		At        string  `json:"at"`
		Count     int64   `json:"count"`
		Detail    string  `json:"detail"`
		Grant     string  `json:"grant"`
		Outcome   Outcome `json:"outcome"`
		Reason    string  `json:"reason"`
		Receipt   string  `json:"receipt"`
		RequestID string  `json:"request_id"`
		Seq       uint64  `json:"seq"`
		Stated    string  `json:"stated"`
		Subject   string  `json:"subject"`
		Target    string  `json:"target"`
		Version   int     `json:"version"`
		Via       string  `json:"via"`
	}
	if err := json.Unmarshal(encoded, &raw); err != nil {
		return Entry{}, fmt.Errorf("decode trail entry: %w", err)
	}
	at, err := time.Parse(timeLayout, raw.At)
	if err != nil {
		return Entry{}, fmt.Errorf("decode trail entry %d: %w", raw.Seq, err)
	}
	return Entry{Seq: raw.Seq, At: at, Subject: raw.Subject, Via: raw.Via, Action: raw.Action, Target: raw.Target,
		Version: raw.Version, Outcome: raw.Outcome, Reason: raw.Reason, Grant: raw.Grant, Detail: raw.Detail,
		RequestID: raw.RequestID, Receipt: raw.Receipt, Addr: raw.Addr, Stated: raw.Stated, Count: raw.Count}, nil
}
