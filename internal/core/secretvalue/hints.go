package secretvalue

import (
	"bytes"
	"encoding/base64"
	"math"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
)

// wellKnown are values that are tried first by everybody who guesses, in lower case, without what people put at the end.
var wellKnown = map[string]bool{}

func init() {
	for _, word := range strings.Fields(`password passwort passwd pass secret admin administrator root user guest test testing demo example sample default
		changeme change-me change_me changeit letmein welcome qwerty qwertz azerty abc abcd abcde abcdef iloveyou monkey dragon master login
		hello sunshine princess football baseball superman batman trustno shadow ninja access mustang michael jordan harley ranger hunter
		temp temporary todo tbd fixme none null nil undefined empty blank unset n/a na xxx xxxx xxxxx placeholder dummy fake foo bar foobar
		yes no true false on off secretkey secret-key secret_key apikey api-key api_key token mytoken mysecret supersecret topsecret
		password1 p@ssw0rd passw0rd asdf asdfgh zxcvbn zxcvbnm postgres mysql mariadb redis mongo rabbit oracle sa dev prod staging`) {
		wellKnown[word] = true
	}
}

var placeholder = regexp.MustCompile(`^(<[^<>]*>|\$\{?[A-Za-z_][A-Za-z0-9_]*\}?|\{\{.*\}\}|%[A-Za-z_]+%|\[[A-Za-z _-]+\]|your[-_ ].*|insert[-_ ].*|replace[-_ ].*|enter[-_ ].*)$`)

// Hints say what is unusual about a value, one sentence each, without repeating any of it: that it can be guessed, that it
// looks like something that was to be filled in, or that something was copied along with it. None of them is an error:
// the value may be meant so. The names are those of where it goes to, which somebody who guesses would try.
func Hints(v Value, names ...string) (hints []string) {
	content := v.Reveal()
	text := strings.TrimSpace(string(content))
	lower := strings.ToLower(text)
	switch base := strings.TrimRight(lower, "0123456789!.-_"); {
	case text == "":
		return append(hints, "it has nothing but spaces and line breaks")
	case placeholder.MatchString(lower):
		hints = append(hints, "it looks like a place that was to be filled in, and not like a value")
	case wellKnown[lower] || base != "" && wellKnown[base] || digitsInOrder(text):
		hints = append(hints, "it is one of the values that are guessed first")
	case utf8.Valid(content) && len(text) <= estimated && !strings.ContainsAny(text, "\n") && (guessable(text) || likely(text, names)):
		hints = append(hints, "it is easy to guess for somebody who knows how people choose passwords; one can be generated (--generate)")
	}
	switch {
	case len(text) >= 2 && (text[0] == '"' || text[0] == '\'') && text[0] == text[len(text)-1]:
		hints = append(hints, "it stands in quotes, which are a part of it")
	case text != strings.TrimRight(string(content), "\r\n"):
		hints = append(hints, "it begins or ends with a space, which is a part of it")
	case bytes.Contains(content, []byte("\r\n")):
		hints = append(hints, "its lines end as on Windows, which is a part of it")
	}
	return hints
}

// estimated is the size in bytes of the longest value that is weighed word by word, which takes longer than its length; what is longer and
// chosen by a person is a passphrase.
const estimated = 24

// likely reports whether a text is found in few guesses by somebody who knows how people choose passwords (D. Wheeler, "zxcvbn: Low-Budget
// Password Strength Estimation", USENIX Security 2016), and what it is for.
func likely(text string, names []string) bool {
	var words []string
	for _, name := range names {
		words = append(words, name)
		words = append(words, strings.FieldsFunc(name, func(r rune) bool { return r == '-' || r == '_' || r == '.' || r == '/' })...)
	}
	return zxcvbn.PasswordStrength(text, words).Guesses < 1e10
}

// guessable reports whether a text has less than about 40 bits, counted generously: by the kinds of its characters, and
// how many different ones there are.
func guessable(text string) bool {
	kinds, different, length := map[string]float64{}, map[rune]bool{}, 0
	for _, r := range text {
		length++
		different[r] = true
		switch {
		case unicode.IsDigit(r):
			kinds["digit"] = 10
		case unicode.IsLower(r):
			kinds["lower"] = 26
		case unicode.IsUpper(r):
			kinds["upper"] = 26
		default:
			kinds["other"] = 32
		}
	}
	alphabet := 0.0
	for _, size := range kinds {
		alphabet += size
	}
	bits := float64(min(length, 2*len(different))) * math.Log2(alphabet)
	return bits < 40
}

// digitsInOrder reports a run such as 12345678 or 00000000.
func digitsInOrder(text string) bool {
	if len(text) < 3 {
		return false
	}
	step := int(text[1]) - int(text[0])
	for i := 1; i < len(text); i++ {
		if !unicode.IsDigit(rune(text[i])) || !unicode.IsDigit(rune(text[i-1])) || int(text[i])-int(text[i-1]) != step {
			return false
		}
	}
	return step >= -1 && step <= 1
}

var urlPassword = regexp.MustCompile(`://[^/\s:@]+:[^/\s@]+@`)

var longToken = regexp.MustCompile(`[A-Za-z0-9+/_=.~-]{16,}`)

// LooksLikeValue reports whether a text that everybody can see, such as a description or a label, has something in it
// that looks like a value: a key block, a URL with a password, or a long token of mixed characters.
func LooksLikeValue(text string) bool {
	if strings.Contains(text, "-----BEGIN") || urlPassword.MatchString(text) {
		return true
	}
	for _, token := range longToken.FindAllString(text, -1) {
		if mixed(token) {
			return true
		}
	}
	return false
}

// mixed reports whether a token changes between kinds of characters more often than words and names do.
func mixed(token string) bool {
	if _, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(token, "=")); err == nil && strings.ContainsAny(token, "+/=") &&
		len(token) >= 20 {
		return true
	}
	changes, digits, letters := 0, 0, 0
	kind := func(r byte) int {
		switch {
		case r >= '0' && r <= '9':
			return 1
		case r >= 'A' && r <= 'Z':
			return 2
		case r >= 'a' && r <= 'z':
			return 3
		}
		return 0
	}
	for i := range len(token) {
		k := kind(token[i])
		if k == 1 {
			digits++
		} else if k != 0 {
			letters++
		}
		if i > 0 && k != 0 && kind(token[i-1]) != 0 && k != kind(token[i-1]) {
			changes++
		}
	}
	return digits >= 2 && letters >= 2 && changes*4 >= len(token)
}
