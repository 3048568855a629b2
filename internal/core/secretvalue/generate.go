package secretvalue

import (
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"math/big"
	"strconv"
	"strings"
)

// Recipe says how a value is made up, as text:
//
//	bytes:32                       random bytes, written in base64 (URL alphabet, no padding)
//	characters:24                  lower- and upper-case letters and digits
//	characters:24:lower+digits     of these sets: lower, upper, digits, symbols; at least one of each
//	words:5                        made-up words that can be said aloud, 16 bits of chance each
//	uuid                           a random UUID (RFC 9562, version 4)
type Recipe string

const recipeForm = "bytes:32, characters:24, characters:24:lower+digits+symbols, words:5 or uuid"

var sets = map[string]string{
	"lower": "abcdefghijklmnopqrstuvwxyz", "upper": "ABCDEFGHIJKLMNOPQRSTUVWXYZ", "digits": "0123456789",
	"symbols": "!#$%&()*+,-./:;<=>?@[]^_{|}~",
}

// leastChance is how many bits of chance a recipe must have: fewer can be guessed.
const leastChance = 64

// Make makes a value up. The chance is from the operating system.
func (r Recipe) Make() (Value, error) {
	bits, make, err := r.read()
	if err == nil && bits < leastChance {
		err = fmt.Errorf("%s has about %.0f bits of randomness, which can be guessed; at least %d are needed", r, bits, leastChance)
	}
	if err != nil {
		return Value{}, err
	}
	return make(), nil
}

// Chance is how many bits of chance a value of the recipe has, rounded down; 0 for what is no recipe.
func (r Recipe) Chance() float64 {
	bits, _, _ := r.read()
	return bits
}

// read says how much chance a recipe has, and how a value is made by it.
func (r Recipe) read() (bits float64, make func() Value, err error) {
	kind, rest, _ := strings.Cut(string(r), ":")
	number, chosen, _ := strings.Cut(rest, ":")
	n, err := strconv.Atoi(number)
	switch {
	case kind == "uuid" && rest == "":
		return 122, uuid, nil
	case err != nil || n < 1 || n > 1024 || chosen != "" && kind != "characters":
	case kind == "bytes":
		return 8 * float64(n), func() Value { return randomBytes(n) }, nil
	case kind == "characters":
		return r.characters(n, chosen)
	case kind == "words":
		return 16 * float64(n), func() Value { return words(n) }, nil
	}
	return 0, nil, fmt.Errorf("%.60q is not a recipe; allowed: %s", string(r), recipeForm)
}

func randomBytes(n int) Value {
	content := make([]byte, n)
	_, _ = rand.Read(content)
	return FromString(base64.RawURLEncoding.EncodeToString(content))
}

func (r Recipe) characters(n int, chosen string) (bits float64, make func() Value, err error) {
	if chosen == "" {
		chosen = "lower+upper+digits"
	}
	names := strings.Split(chosen, "+")
	alphabet := ""
	for _, name := range names {
		if sets[name] == "" || strings.Contains(alphabet, sets[name]) {
			return 0, nil, fmt.Errorf("%.60q is not a recipe; allowed: %s", string(r), recipeForm)
		}
		alphabet += sets[name]
	}
	bits = float64(n) * float64(big.NewInt(int64(len(alphabet))).BitLen()-1) // rounded down
	return bits, func() Value {
		for { // until one of each set is there: a few tries at most with 64 bits or more
			text := pick(alphabet, n)
			if hasEach(text, names) {
				return New(text)
			}
		}
	}, nil
}

func hasEach(text []byte, names []string) bool {
	for _, name := range names {
		if !strings.ContainsAny(string(text), sets[name]) {
			return false
		}
	}
	return true
}

// pick chooses n characters of an alphabet, each as likely as any other.
func pick(alphabet string, n int) []byte {
	text := make([]byte, n)
	for i := range text {
		text[i] = alphabet[chance(len(alphabet))]
	}
	return text
}

func chance(below int) int {
	n, err := rand.Int(rand.Reader, big.NewInt(int64(below)))
	if err != nil {
		panic(err) // crypto/rand does not fail
	}
	return int(n.Int64())
}

// words makes up words of a consonant, a vowel, a consonant, a vowel and a consonant: 15×5×15×5×15 of them, 16.4 bits.
func words(n int) Value {
	const consonants, vowels = "bdfghjklmnprstv", "aeiou"
	made := make([]string, n)
	for i := range made {
		made[i] = string(pick(consonants, 1)) + string(pick(vowels, 1)) + string(pick(consonants, 1)) + string(pick(vowels, 1)) +
			string(pick(consonants, 1))
	}
	return FromString(strings.Join(made, "-"))
}

func uuid() Value {
	var b [16]byte
	_, _ = rand.Read(b[:])
	b[6] = b[6]&0x0f | 0x40 // version 4
	b[8] = b[8]&0x3f | 0x80 // the variant of RFC 9562, section 4.1
	return FromString(fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:]))
}
