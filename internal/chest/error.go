package chest

import (
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// Code names a kind of failure. Codes are part of the API: they do not change.
type Code string

// The codes.
const (
	InvalidInput    Code = "invalid_input"    // a field has a form that is not allowed
	TooLarge        Code = "too_large"        // more bytes than allowed
	Unauthenticated Code = "unauthenticated"  // no credential, or one that proves nothing any more
	SignInFailed    Code = "sign_in_failed"   // wrong name or password, without saying which
	Refused         Code = "refused"          // the subject is known and may not do this
	NotFound        Code = "not_found"        // the subject may know, and there is nothing
	Exists          Code = "exists"           // the name is taken
	Stale           Code = "stale"            // changed since the caller read it
	NeedsRevision   Code = "needs_revision"   // a change without If-Match
	NotServable     Code = "not_servable"     // the window does not allow it now
	NotPossible     Code = "not_possible"     // allowed, but the thing is not in a state for it
	NotHandedOver   Code = "not_handed_over"  // nobody else could do what the caller is about to stop doing
	Locked          Code = "locked"           // the chest has no root key in memory
	AlreadyUnlocked Code = "already_unlocked" // there is nothing to unlock
	WrongMaterial   Code = "wrong_material"   // the passphrase or key file does not open the chest
	Throttled       Code = "throttled"        // too many failed attempts
	NotRecorded     Code = "not_recorded"     // the trail cannot be written, so nothing is done
	Internal        Code = "internal"         // a defect or damage
)

// Error is the one error type that use cases return. Nothing in it is a value.
type Error struct {
	Code       Code
	Detail     string // a sentence for the person who reads it
	Field      string // the field of the input that is wrong
	Reason     string // the reason of a refusal or of an Unauthenticated
	RetryAfter time.Duration
	Refusal    *Refusal
	Err        error // the cause, for the log and not for the answer
}

func (e *Error) Error() string { return string(e.Code) + ": " + e.Detail }

func (e *Error) Unwrap() error { return e.Err }

// Refusal is what a refused caller is told. It follows from the request and the caller's own grants alone, so it reveals nothing about
// what exists.
type Refusal struct {
	Receipt string
	Subject string
	Action  string
	Target  string
	Reason  access.Reason
	Remedy  *Remedy // nil when no grant would help
}

// Remedy is the smallest grant that would allow what was refused.
type Remedy struct {
	Subject string
	Role    string
	Scope   string
}

// Command is the remedy as a gatekeeper types it.
func (r Remedy) Command() string {
	return fmt.Sprintf("tansu grant give %s %s '%s'", r.Subject, r.Role, r.Scope)
}

// Invalid says that a field has a form that is not allowed.
func Invalid(field, format string, arguments ...any) *Error {
	return &Error{Code: InvalidInput, Field: field, Detail: fmt.Sprintf(format, arguments...)}
}

// Missing says that nothing has that name, to a caller who may know that; it suggests a similar name.
func Missing(what, hint string) *Error {
	detail := "there is no " + strings.ReplaceAll(what, "\n", "·") // it may be what somebody typed
	if hint != "" {
		detail += "; did you mean " + hint + "?"
	}
	return &Error{Code: NotFound, Detail: detail}
}

// ErrLocked says that the chest has no root key in memory.
var ErrLocked = &Error{Code: Locked, Detail: "the chest is locked: an operator unlocks it with tansu unlock"}

// StoreError translates what the store says about a change of something.
func StoreError(err error, what string) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, store.ErrExists):
		return &Error{Code: Exists, Detail: what + " exists already", Err: err}
	case errors.Is(err, store.ErrDone):
		return &Error{Code: Exists, Detail: store.ErrDone.Error(), Err: err}
	case errors.Is(err, store.ErrStale):
		return &Error{Code: Stale, Detail: what + " was changed by somebody else; read it again", Err: err}
	case errors.Is(err, store.ErrNotBound):
		return ErrLocked
	case errors.Is(err, store.ErrOthers):
		return &Error{Code: NotRecorded, Detail: "something other than Tansu wrote to the database, so nothing is served or changed: stop " +
			"the service, examine the file (tansu examine --dir), and start it again", Err: err}
	case errors.Is(err, store.ErrSwapped):
		return &Error{Code: NotRecorded, Detail: "the database was removed, or another one was put in its place, so nothing is served or " +
			"changed: stop the service, and start it with the right one", Err: err}
	case errors.Is(err, store.ErrNotRecorded):
		return &Error{Code: NotRecorded, Err: err, Detail: "the trail cannot be written, so nothing is served or changed: look at the disk"}
	}
	return &Error{Code: Internal, Detail: "something went wrong inside the chest; its log says what", Err: err}
}

// CheckName gives the error of a name the field it came in.
func CheckName(field, text string) error {
	if err := reference.CheckName(text); err != nil {
		return Invalid(field, "%s", err)
	}
	return nil
}

// CheckSubject gives the error of a subject the field it came in.
func CheckSubject(field, text string) error {
	if _, err := reference.ParseSubject(text); err != nil {
		return Invalid(field, "%s", err)
	}
	return nil
}

// Limits of free texts, in bytes.
const (
	MaxDescription = 500
	MaxNote        = 200
)

// CheckReason checks a stated reason: at most 200 bytes on one line.
func CheckReason(text string) error { return CheckText("Tansu-Reason", text, MaxNote) }

// hidden are characters that are not seen, or make others look like what they are not: controls, formats (some turn the direction of
// text), and separators of lines.
var hidden = []*unicode.RangeTable{unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Co}

// CheckText allows printable text on one line, without anything hidden that could make it read as something else.
func CheckText(field, text string, limit int) error {
	if len(text) > limit {
		return Invalid(field, "%s is %d bytes long; the most is %d", field, len(text), limit)
	}
	for _, r := range text {
		if unicode.In(r, hidden...) && r != '\u200c' && r != '\u200d' || r == utf8.RuneError { // those two join letters
			return Invalid(field, "%s has the character U+%04X; allowed: text on one line without control characters", field, r)
		}
	}
	return nil
}

// ErrDamaged says that an item cannot be looked at, so that nothing is decided about it.
var ErrDamaged = &Error{Code: Internal, Detail: "the item cannot be read as it was stored, so nothing is served; the chest's log says " +
	"what is wrong"}

// Gone says that whoever asked does not wait for the answer any more, so that nobody went on working on it.
func Gone(err error) *Error {
	return &Error{Code: NotPossible, Detail: "nobody is waiting for the answer any more, so the work on it was stopped", Err: err}
}

// AnyRevision asks for a change of whatever revision there is.
const AnyRevision = -1
