// Package secretvalue holds the type of everything that must not be printed: the bytes of a secret, a passphrase, a
// token, a key. A [Value] shows itself as "[hidden]" to fmt in every verb, to encoding/json, to log/slog and to
// anything that asks for a text; only [Value.Reveal] gives the bytes, so that every place where a value leaves can be
// found by searching for that one word.
package secretvalue

import (
	"crypto/subtle"
	"fmt"
	"io"
	"log/slog"
)

// MaxSize is the most bytes a version may hold: 256 KiB.
const MaxSize = 256 << 10

const hidden = "[hidden]"

// Value is a sequence of bytes that never prints itself. The zero Value holds nothing. It is not safe for concurrent
// use with Wipe.
type Value struct{ content []byte }

// New takes ownership of content: the caller neither keeps nor changes it.
func New(content []byte) Value { return Value{content} }

// FromString copies text.
func FromString(text string) Value { return Value{[]byte(text)} }

// Reveal returns the bytes themselves, which the Value still owns.
func (v Value) Reveal() []byte { return v.content }

// Len returns the number of bytes.
func (v Value) Len() int { return len(v.content) }

// Equal compares in constant time for values of one length.
func (v Value) Equal(other Value) bool {
	return subtle.ConstantTimeCompare(v.content, other.content) == 1
}

// EndsInNewline reports whether the last byte is a line feed, which is kept but is often a mistake.
func (v Value) EndsInNewline() bool { return len(v.content) > 0 && v.content[len(v.content)-1] == '\n' }

// Wipe overwrites the bytes. The Go runtime may have copied them before; this narrows the window, it does not close it.
func (v Value) Wipe() { clear(v.content) }

// String hides the value.
func (v Value) String() string { return hidden }

// Format hides the value in every verb and flag.
func (v Value) Format(f fmt.State, _ rune) { _, _ = io.WriteString(f, hidden) }

// MarshalText hides the value from encoders.
func (v Value) MarshalText() ([]byte, error) { return []byte(hidden), nil }

// LogValue hides the value from log/slog.
func (v Value) LogValue() slog.Value { return slog.StringValue(hidden) }
