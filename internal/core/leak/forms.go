// Package leak finds secret values where they should not be: in a stream, which it masks while it passes, and in files,
// which it searches. It knows the forms in which programs write a value: as it is, in base64 at each of the three places
// that a byte can have in it, also twice over, in base32, in hexadecimal with and without separators, escaped for URLs, JSON, XML, mail
// and shells, in UTF-16, a PEM block as DER, and line by line, also of base64.
//
// A [Matcher] looks for all forms of all values at once. At every fourth place of a text it asks a small table of bits whether
// the eight bytes there are in the beginning of any form; only where they may be does it compare. So its speed hardly depends
// on how many values there are. Forms of less than eleven bytes are looked for at each place, by their first four bytes, and
// values of less than four not at all: they would be found everywhere.
package leak

import (
	"bytes"
	"encoding/base32"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"html"
	"net/url"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// MinValue is the size in bytes of the smallest value that is looked for, and of the smallest form of one.
const MinValue = 4

// mostCut is the size of the largest value that is looked for in parts, in bytes: the longest of private keys. Most places of a larger one
// are in lines of their own.
const mostCut = 4 << 10

// minLine is the size of the smallest line of a value that is looked for by itself.
const minLine = 8

// Form is one way in which a value may be written.
type Form struct {
	Kind  string // such as "plain", "base64", "hex" or "line"
	Bytes []byte
	Cut   bool // it is looked for with line breaks in it, too
}

// Forms lists the forms of a value that differ from each other; none of a value that is too small.
func Forms(value []byte) (list []Form) {
	if len(value) < MinValue {
		return nil
	}
	put := func(kind string, b []byte, cut bool) {
		cut = cut && len(value) <= mostCut
		if len(b) >= MinValue && !slices.ContainsFunc(list, func(f Form) bool { return bytes.Equal(f.Bytes, b) }) {
			list = append(list, Form{kind, b, cut})
		}
	}
	add := func(kind string, b []byte) { put(kind, b, false) }
	put("plain", value, true)
	for before := range 3 {
		std := aligned(value, before)
		put("base64", std, true)
		put("base64", []byte(strings.NewReplacer("+", "-", "/", "_").Replace(string(std))), true)
	}
	put("hex", []byte(hex.EncodeToString(value)), true)
	add("hex", []byte(strings.ToUpper(hex.EncodeToString(value))))
	if text := string(value); utf8.Valid(value) {
		for _, escaped := range []string{url.QueryEscape(text), url.PathEscape(text), strings.ReplaceAll(url.QueryEscape(text), "+", "%20")} {
			add("url", []byte(escaped))
			add("url", lowerEscapes(escaped))
		}
		for _, forHTML := range []bool{false, true} {
			add("json", jsonEscaped(text, forHTML))
		}
		for _, escaped := range shellEscaped(text) {
			add("shell", []byte(escaped))
		}
		add("xml", []byte(html.EscapeString(text)))
		add("quoted-printable", quotedPrintable(value))
		add("utf-16", utf16le(text))
	}
	for _, separator := range []byte{':', ' ', '-'} { // fingerprints, dumps, addresses
		spaced := separated(value, separator)
		put("hex", spaced, true)
		add("hex", bytes.ToUpper(spaced))
	}
	if len(value) <= mostDumped {
		for _, dump := range dumped(value) {
			put("hex", dump, true)
		}
	}
	add("base32", bytes.TrimRight(base32.StdEncoding.AppendEncode(nil, value), "=")[:8*len(value)/5])
	for before := range 3 {
		add("base64 twice", aligned(base64.StdEncoding.AppendEncode(nil, value), before))
	}
	for block, rest := pem.Decode(value); block != nil; block, rest = pem.Decode(rest) {
		add("DER", block.Bytes) // as keystores and certificates have it
		add("base64", base64.RawStdEncoding.AppendEncode(nil, block.Bytes))
	}
	// Base64 is often broken into lines, of 76 characters (RFC 2045) or of 64 (RFC 7468), each of which stands for bytes of its own.
	for _, size := range []int{57, 48} {
		if len(value) <= size {
			continue
		}
		for part := range slices.Chunk(value, size) {
			if len(part) >= minLine {
				add("base64 line", base64.RawStdEncoding.AppendEncode(nil, part))
			}
		}
	}
	if bytes.IndexByte(value, '\n') >= 0 {
		for line := range bytes.Lines(value) {
			line = bytes.TrimSpace(line)
			if len(line) >= minLine && !bytes.HasPrefix(line, []byte("-----")) { // what frames a key is no secret
				add("line", line)
			}
		}
	}
	return list
}

// aligned is what base64 text (RFC 4648) is bound to hold when the value begins so many bytes after a group of three: without
// the characters at both ends that depend on its neighbours, too.
func aligned(value []byte, before int) []byte {
	all := append(make([]byte, before, before+len(value)), value...)
	text := base64.RawStdEncoding.AppendEncode(nil, all)
	first, last := (8*before+5)/6, 8*len(all)/6
	return text[min(first, last):last]
}

// separated is hexadecimal with a separator between the bytes.
func separated(value []byte, separator byte) (text []byte) {
	for i, b := range value {
		if i > 0 {
			text = append(text, separator)
		}
		text = hex.AppendEncode(text, []byte{b})
	}
	return text
}

// mostDumped is the size of the largest value that is looked for as dumps in columns have it, in bytes: each has ten forms.
const mostDumped = 256

// dumped lists how a value is in a dump of hexadecimal: with another space after each column of eight bytes, wherever the value begins in
// one, and in groups of two bytes.
func dumped(value []byte) (list [][]byte) {
	for before := range 8 {
		var text []byte
		for i, b := range value {
			if i > 0 {
				if text = append(text, ' '); (before+i)%8 == 0 {
					text = append(text, ' ')
				}
			}
			text = hex.AppendEncode(text, []byte{b})
		}
		list = append(list, text)
	}
	for before := range 2 {
		var text []byte
		for i, b := range value {
			if i > 0 && (before+i)%2 == 0 {
				text = append(text, ' ')
			}
			text = hex.AppendEncode(text, []byte{b})
		}
		list = append(list, text)
	}
	return list
}

// quotedPrintable is how mail carries a text (RFC 2045, section 6.7), on one line.
func quotedPrintable(value []byte) (text []byte) {
	for _, b := range value {
		if b == '=' || b < ' ' && b != '\t' || b > '~' {
			text = fmt.Appendf(text, "=%02X", b)
		} else {
			text = append(text, b)
		}
	}
	return text
}

// lowerEscapes writes percent escapes with lower-case digits.
func lowerEscapes(escaped string) []byte {
	b := []byte(escaped)
	for i := 0; i+2 < len(b); i++ {
		if b[i] == '%' {
			copy(b[i+1:], bytes.ToLower(b[i+1:i+3]))
			i += 2
		}
	}
	return b
}

func jsonEscaped(text string, html bool) []byte {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(html)
	if err := encoder.Encode(text); err != nil {
		return nil
	}
	return bytes.TrimSuffix(bytes.TrimPrefix(bytes.TrimSpace(out.Bytes()), []byte{'"'}), []byte{'"'})
}

// shellEscaped lists how shells write a text: in single quotes with a quote put in by either usual way, in double quotes, and
// without quotes.
func shellEscaped(text string) []string {
	var double, bare strings.Builder
	for _, r := range text {
		if strings.ContainsRune("\\\"$`", r) {
			double.WriteByte('\\')
		}
		if strings.ContainsRune("\\\"$`' \t!&|;<>()*?[]{}~#^", r) {
			bare.WriteByte('\\')
		}
		double.WriteRune(r)
		bare.WriteRune(r)
	}
	return []string{strings.ReplaceAll(text, "'", `'\''`), strings.ReplaceAll(text, "'", `'"'"'`), double.String(), bare.String()}
}

func utf16le(text string) (b []byte) {
	for _, unit := range utf16.Encode([]rune(text)) {
		b = append(b, byte(unit), byte(unit>>8))
	}
	return b
}
