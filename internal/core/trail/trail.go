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
	"strings"
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

	// What it was, whatever it was called: ids, which no rename changes. Empty where there is none, and in entries of the first form.
	SubjectID  string
	DrawerID   string
	ItemID     string
	Credential string // that a token was given for, or that was issued or ended
	Given      string // the grant that was given or ended
	// How a value was asked for.
	Pinned  bool   // by the number of its version, so that it keeps being read after a change
	Grace   bool   // after its end, as a rule allows
	OldName bool   // by a name that the item had before
	Field   string // one field of it
	Host    string // by an agent on that host, from what it keeps; the entry was written afterwards

	// Of the entry with which an epoch begins: its number, from 2, and how many entries were kept of those before it.
	Epoch int
	Kept  uint64
}

// Actions of entries by which a trail says that it is not whole: the first of an epoch, and one that stands where one is missing.
const (
	BeginEpoch = "begin_epoch"
	EntryLost  = "entry_lost"
)

// Lost is the entry that stands where one is missing.
func Lost(seq uint64, at time.Time) Entry {
	return Entry{Seq: seq, At: at, Subject: "chest", Action: EntryLost, Outcome: Failed}
}

// Form is that of an entry's encoding. Entries of both forms are read, found and verified; new ones have the newest.
type Form int

// The forms.
const (
	FormNames Form = 1 // names alone, and what was special about a read in the detail
	FormIDs   Form = 2 // ids beside the names, and facts as members of their own; it says "v":2
)

// Form tells which form an entry has: one that says anything of the second form has that.
func (e *Entry) Form() Form {
	if e.SubjectID != "" || e.DrawerID != "" || e.ItemID != "" || e.Credential != "" || e.Given != "" || e.Pinned || e.Grace || e.OldName ||
		e.Field != "" || e.Host != "" || e.Epoch != 0 {
		return FormIDs
	}
	return FormNames
}

// InWords is the detail for people: what the entry's own members say of how a value was asked for, and then its detail.
func (e *Entry) InWords() string {
	var parts []string
	add := func(is bool, text string) {
		if is {
			parts = append(parts, text)
		}
	}
	add(e.Pinned, "pinned by its number")
	add(e.Field != "", "field "+e.Field)
	add(e.Grace, "in grace")
	add(e.OldName, "by an old name")
	add(e.Credential != "" && e.Detail == "", "with "+e.Credential)
	add(e.Detail != "", e.Detail)
	return strings.Join(parts, ", ")
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
	b = appendMember(b, "credential", e.Credential)
	b = appendMember(b, "detail", e.Detail)
	b = appendMember(b, "drawer_id", e.DrawerID)
	if e.Epoch != 0 {
		b = append(b, `,"epoch":`...)
		b = strconv.AppendInt(b, int64(e.Epoch), 10)
	}
	b = appendMember(b, "field", e.Field)
	b = appendMember(b, "given", e.Given)
	b = appendFlag(b, "grace", e.Grace)
	b = appendMember(b, "grant", e.Grant)
	b = appendMember(b, "host", e.Host)
	b = appendMember(b, "item_id", e.ItemID)
	if e.Epoch != 0 {
		b = append(b, `,"kept":`...)
		b = strconv.AppendUint(b, e.Kept, 10)
	}
	b = appendFlag(b, "old_name", e.OldName)
	b = append(b, `,"outcome":`...)
	b = appendString(b, string(e.Outcome))
	b = appendFlag(b, "pinned", e.Pinned)
	b = appendMember(b, "reason", e.Reason)
	b = appendMember(b, "receipt", e.Receipt)
	b = appendMember(b, "request_id", e.RequestID)
	b = append(b, `,"seq":`...)
	b = strconv.AppendUint(b, e.Seq, 10)
	b = appendMember(b, "stated", e.Stated)
	b = append(b, `,"subject":`...)
	b = appendString(b, e.Subject)
	b = appendMember(b, "subject_id", e.SubjectID)
	b = appendMember(b, "target", e.Target)
	if e.Form() == FormIDs {
		b = append(b, `,"v":2`...)
	}
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

func appendFlag(b []byte, name string, set bool) []byte {
	if !set {
		return b
	}
	return append(append(append(b, ',', '"'), name...), `":true`...)
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

		V          Form   `json:"v"`
		SubjectID  string `json:"subject_id"`
		DrawerID   string `json:"drawer_id"`
		ItemID     string `json:"item_id"`
		Credential string `json:"credential"`
		Given      string `json:"given"`
		Pinned     bool   `json:"pinned"`
		Grace      bool   `json:"grace"`
		OldName    bool   `json:"old_name"`
		Field      string `json:"field"`
		Host       string `json:"host"`
		Epoch      int    `json:"epoch"`
		Kept       uint64 `json:"kept"`
	}
	if err := json.Unmarshal(encoded, &raw); err != nil {
		return Entry{}, fmt.Errorf("decode trail entry: %w", err)
	}
	if raw.V > FormIDs {
		return Entry{}, fmt.Errorf("decode trail entry %d: it has form %d, which a newer program wrote", raw.Seq, raw.V)
	}
	at, err := time.Parse(timeLayout, raw.At)
	if err != nil {
		return Entry{}, fmt.Errorf("decode trail entry %d: %w", raw.Seq, err)
	}
	return Entry{Seq: raw.Seq, At: at, Subject: raw.Subject, Via: raw.Via, Action: raw.Action, Target: raw.Target,
		Version: raw.Version, Outcome: raw.Outcome, Reason: raw.Reason, Grant: raw.Grant, Detail: raw.Detail,
		RequestID: raw.RequestID, Receipt: raw.Receipt, Addr: raw.Addr, Stated: raw.Stated, Count: raw.Count,
		SubjectID: raw.SubjectID, DrawerID: raw.DrawerID, ItemID: raw.ItemID, Credential: raw.Credential, Given: raw.Given, Pinned: raw.Pinned,
		Grace:   raw.Grace,
		OldName: raw.OldName, Field: raw.Field, Host: raw.Host, Epoch: raw.Epoch, Kept: raw.Kept}, nil
}
