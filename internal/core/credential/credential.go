// Package credential makes and checks what an identity proves itself with.
//
// A token is random and opaque: what it allows is looked up, never carried in it. Its text says what it is, so that a
// person or a leak search recognises it, and ends in a checksum, so that a cut or mistyped one is refused without a
// look-up:
//
//	tansu_app_ + 43 characters (256 random bits) + 6 characters (CRC-32 of all that stands before)
//
// Only the SHA-256 of a token is stored. A fast hash is enough because the token has 256 bits of its own; a person's
// password has not, so it is stored as Argon2id (RFC 9106).
package credential

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"hash/crc32"
	"strings"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"

	"tansu/internal/core/secretvalue"
)

// Kind is what a token is for.
type Kind string

// The kinds.
const (
	AppSecret   Kind = "appsecret" // the long-lived secret of an app (RFC 6749, section 2.3.1)
	AppToken    Kind = "app"       // an app's access token
	PersonToken Kind = "person"    // a person's session
	Enrolment   Kind = "enrol"     // used once, to set a first password
	HostCode    Kind = "host"      // used once, by an app on its host, to register a key pair made there
	Calendar    Kind = "calendar"  // the private part of a calendar's address
)

// Kinds of credentials that are no tokens.
const (
	Key         Kind = "key"         // a public key, whose private half signs assertions (RFC 7523)
	Certificate Kind = "certificate" // a client certificate (RFC 8705, section 2.2)
	Issuer      Kind = "issuer"      // who else may say that it is the app (RFC 7523, section 2.1)
	ACME        Kind = "acme"        // what registers ACME accounts (RFC 8555, section 7.3.4)
	ACMEAccount Kind = "acme_account"
)

const (
	brand       = "tansu_"
	bodyLength  = 43 // 32 bytes in unpadded URL-safe base64
	checkLength = 6  // 4 bytes likewise
)

// ErrMalformed says that a text is not a whole token of the kind asked for.
var ErrMalformed = errors.New("not a complete token of this kind")

// Hash is the SHA-256 of a token: what is stored and looked up.
type Hash [sha256.Size]byte

// New makes a token and its hash. The token is shown once, to the one who asked for it.
func New(kind Kind) (secretvalue.Value, Hash) {
	var secret [32]byte
	_, _ = rand.Read(secret[:])
	text := brand + string(kind) + "_" + base64.RawURLEncoding.EncodeToString(secret[:])
	text += checksum(text)
	return secretvalue.FromString(text), sha256.Sum256([]byte(text))
}

// Parse checks the form of a token of the given kind and returns its hash, or [ErrMalformed]. It allocates nothing
// that depends on the token's content.
func Parse(kind Kind, text string) (Hash, error) {
	head := len(brand) + len(kind) + 1
	if len(text) != head+bodyLength+checkLength || !strings.HasPrefix(text, brand) ||
		text[len(brand):head-1] != string(kind) || text[head-1] != '_' {
		return Hash{}, ErrMalformed
	}
	body := text[:head+bodyLength]
	if subtle.ConstantTimeCompare([]byte(checksum(body)), []byte(text[head+bodyLength:])) != 1 {
		return Hash{}, ErrMalformed
	}
	return sha256.Sum256([]byte(text)), nil
}

func checksum(text string) string {
	sum := crc32.ChecksumIEEE([]byte(text))
	return base64.RawURLEncoding.EncodeToString([]byte{byte(sum >> 24), byte(sum >> 16), byte(sum >> 8), byte(sum)})
}

// Matches compares hashes in constant time.
func (h Hash) Matches(stored []byte) bool { return subtle.ConstantTimeCompare(h[:], stored) == 1 }

// Costs of hashing a password: 19 MiB, 2 passes, 1 thread, which is about 30 ms on a small machine and lets few
// sign-ins at once fit in memory.
const (
	passwordPasses  = 2
	passwordMemory  = 19 << 10
	passwordThreads = 1
)

// Bounds of a password, in bytes.
const (
	MinPassword = 12
	MaxPassword = 1024
)

// leastGuesses is how many guesses a password must withstand from somebody who knows how people choose passwords (D. Wheeler, "zxcvbn:
// Low-Budget Password Strength Estimation", USENIX Security 2016). Weaker ones are on common lists or made of words from them.
const leastGuesses = 1e8

// estimated bounds how much of a password is estimated, because that takes longer than its length.
const estimated = 64

// CheckPassword refuses passwords that are too short or too long, and those that are guessed first, as NIST SP 800-63B, section 3.1.1.2,
// demands. There are no composition rules, against which it advises.
func CheckPassword(password secretvalue.Value) error {
	if password.Len() < MinPassword || password.Len() > MaxPassword {
		return fmt.Errorf("a password has %d to %d bytes; this one has %d", MinPassword, MaxPassword, password.Len())
	}
	text := string(password.Reveal())
	if zxcvbn.PasswordStrength(text[:min(len(text), estimated)], []string{"tansu"}).Guesses < leastGuesses {
		return errors.New("this password is among those that are guessed first: take some words that do not belong together, or let a password " +
			"manager make one up")
	}
	return nil
}

// HashPassword returns the stored form of a password: a format byte, a 16-byte salt and the Argon2id output, in base64.
func HashPassword(password secretvalue.Value) string {
	stored := make([]byte, 17, storedLength)
	stored[0] = 1
	_, _ = rand.Read(stored[1:17])
	return base64.StdEncoding.EncodeToString(append(stored, stretch(password, stored[1:17])...))
}

const storedLength = 1 + 16 + 32

// PasswordMatches compares a password with a stored form. It takes the same time for a stored form that is empty, so
// that an unknown person cannot be told from a wrong password.
func PasswordMatches(password secretvalue.Value, encoded string) bool {
	stored, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil || len(stored) != storedLength || stored[0] != 1 {
		stretch(password, make([]byte, 16))
		return false
	}
	return subtle.ConstantTimeCompare(stretch(password, stored[1:17]), stored[17:]) == 1
}

func stretch(password secretvalue.Value, salt []byte) []byte {
	return argon2.IDKey(password.Reveal(), salt, passwordPasses, passwordMemory, passwordThreads, 32)
}
