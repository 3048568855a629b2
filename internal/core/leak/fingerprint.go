package leak

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// Fingerprints find values in texts without holding them, so that a pipeline can look for what it may not read. Whoever has
// them can check guesses, as with anything that tells whether a text is the value; so they are made only of values that
// nobody can guess in any time (see [Strong]), and what is left out is said.
//
// Of each form of a value they hold a keyed check (HMAC-SHA-256, RFC 2104, the first 16 bytes) over the whole, and thirty bits of a
// hash of the sixteen bytes at each of its first four places. The thirty bits say where the check is worth computing.
//
// They are not changed after they are made, and safe for concurrent use.
type Fingerprints struct {
	salt    [32]byte
	values  []fingerprinted
	bits    []uint64
	at      map[uint32][]trace
	longest int
}

// fingerprinted is one value in the file.
type fingerprinted struct {
	Reference string `json:"reference"`
	Forms     []mark `json:"forms"`
}

type mark struct {
	Kind    string         `json:"kind"`
	Size    int            `json:"size"`    // in bytes
	Windows [stride]uint32 `json:"windows"` // of its first places
	Check   []byte         `json:"check"`
}

// trace says that a window is in a form, so many bytes after its begin.
type trace struct{ value, form, offset int }

const (
	windowSize     = 16
	minMarked      = windowSize + stride - 1
	checkSize      = 16
	traceBits      = 30
	traceTableBits = 22 // makes a table of 512 KiB
)

// minDifferent is how many different bytes 32 random ones have at least, but for one in a hundred thousand times.
const minDifferent = 24

// minBits is the least strength, in bits, of what fingerprints are made of: a machine that tries a million million values in a second
// needs 38 000 years for 2^80.
const minBits = 80

var run = regexp.MustCompile(`[A-Za-z0-9+/_=.~-]+`)

// Strong reports whether a value is beyond guessing: a run of characters in it looks random and has at least 80 bits, or, if it is not
// text, it has many different bytes. It cannot see how a value was made and errs on the side of no: words, dates and sequences are not
// random.
func Strong(value []byte) bool {
	if !utf8.Valid(value) {
		different := map[byte]bool{}
		for _, b := range value {
			different[b] = true
		}
		return len(different) >= minDifferent
	}
	return slices.ContainsFunc(run.FindAll(value, -1), func(token []byte) bool { return randomBits(token) >= minBits })
}

var hexadecimal = regexp.MustCompile(`^([0-9]*[a-f][0-9a-f]*|[0-9]*[A-F][0-9A-F]*)$`)

// common are pairs of letters that make up three quarters of what people write, and a fifth of random letters.
var common = func() map[string]bool {
	pairs := map[string]bool{}
	for _, pair := range strings.Fields(`th he in er an re on at en nd ti es or te of ed is it al ar st to nt ng se ha as ou io le ve co me de hi ri ro ic ne ea
		ra ce li ch ll be ma si om ur ca el ta la ns di fo ho pe ec pr no ct us ac ot il tr ly nc et ut ss so rs un lo wa ge ie wh ee wi em ad ol
		rt po we na ul ni ts mo ow pa im mi ai sh ir su id os iv ia am fi ci vi pl ig tu ev ld ry mp fe bl ab gh ty op wo sa ay ex ke fr oo ag rd`) {
		pairs[pair] = true
	}
	return pairs
}()

// mostWordlike is how much of a token may be unsurprising before it counts as words: of random letters a sixth is, of words more
// than half.
const mostWordlike = 0.4

// randomBits estimates how many bits a token has, 0 if it does not look random.
func randomBits(token []byte) float64 {
	alphabet, different, counted, size := 0.0, map[byte]bool{}, 0.0, 0
	hex := hexadecimal.Match(token)
	for i, c := range token {
		if kindOf(c) == '-' {
			continue // what separates says nothing
		}
		size++
		different[c] = true
		switch {
		case i == 0 || kindOf(token[i-1]) == '-':
			counted++
		case max(c, token[i-1])-min(c, token[i-1]) <= 1, common[strings.ToLower(string(token[i-1:i+1]))]:
			counted += 0.1 // a sequence, a repetition, or as in a word
		case kindOf(c) == '0' && kindOf(token[i-1]) == '0' && !hex:
			counted += 0.5 // as in dates and numbers
		default:
			counted++
		}
	}
	for kind, many := range map[byte]float64{'0': 10, 'a': 26, 'A': 26} {
		if slices.ContainsFunc(token, func(c byte) bool { return kindOf(c) == kind }) {
			alphabet += many
		}
	}
	if hex {
		alphabet = 16
	}
	if counted < (1-mostWordlike)*float64(size) {
		return 0
	}
	return min(counted, 2*float64(len(different))) * math.Log2(max(alphabet, 2))
}

// kindOf is the kind of a character: '0' for digits, 'a' and 'A' for letters, '-' for all others.
func kindOf(c byte) byte {
	switch {
	case c >= '0' && c <= '9':
		return '0'
	case c >= 'a' && c <= 'z':
		return 'a'
	case c >= 'A' && c <= 'Z':
		return 'A'
	}
	return '-'
}

// NewFingerprints makes fingerprints of values under a fresh salt, and returns the names of those that are left out because
// they are too weak or too short.
func NewFingerprints(secrets []Secret) (f *Fingerprints, leftOut []string) {
	f = &Fingerprints{}
	_, _ = rand.Read(f.salt[:])
	for _, secret := range secrets {
		made := fingerprinted{Reference: secret.Name}
		if Strong(secret.Value) {
			for _, form := range Forms(secret.Value) {
				if len(form.Bytes) >= minMarked && (form.Kind != "line" && form.Kind != "base64 line" || Strong(form.Bytes)) {
					made.Forms = append(made.Forms, f.mark(form))
				}
			}
		}
		if len(made.Forms) == 0 {
			leftOut = append(leftOut, secret.Name)
			continue
		}
		f.values = append(f.values, made)
	}
	f.index()
	return f, leftOut
}

func (f *Fingerprints) mark(form Form) mark {
	m := mark{Kind: form.Kind, Size: len(form.Bytes), Check: f.check(form.Bytes)}
	for offset := range stride {
		m.Windows[offset] = f.keys().window(form.Bytes[offset:])
	}
	return m
}

func (f *Fingerprints) check(text []byte) []byte {
	mac := hmac.New(sha256.New, f.salt[:])
	mac.Write(text)
	return mac.Sum(nil)[:checkSize]
}

// windowKeys are the parts of the salt that windows are hashed with.
type windowKeys [2]uint64

func (f *Fingerprints) keys() windowKeys {
	return windowKeys{binary.LittleEndian.Uint64(f.salt[:]), binary.LittleEndian.Uint64(f.salt[8:])}
}

// window hashes the first sixteen bytes of a text: the halves, each with a key, multiplied, and the product folded.
func (k windowKeys) window(text []byte) uint32 {
	_ = text[windowSize-1]
	high, low := bits.Mul64(binary.LittleEndian.Uint64(text)^k[0], binary.LittleEndian.Uint64(text[8:])^k[1])
	return uint32((high ^ low) * spread >> (64 - traceBits))
}

func (f *Fingerprints) index() {
	f.bits, f.at = make([]uint64, 1<<(traceTableBits-6)), map[uint32][]trace{}
	for v, value := range f.values {
		for i, form := range value.Forms {
			f.longest = max(f.longest, form.Size)
			for offset, w := range form.Windows {
				place := w >> (traceBits - traceTableBits)
				f.bits[place>>6] |= 1 << (place & 63)
				f.at[w] = append(f.at[w], trace{v, i, offset})
			}
		}
	}
}

// Longest is what [Matcher.Longest] is.
func (f *Fingerprints) Longest() int { return f.longest }

// Values is how many values can be found.
func (f *Fingerprints) Values() int { return len(f.values) }

// Find is what [Matcher.Find] is.
func (f *Fingerprints) Find(text []byte, before int, visit func(Finding)) {
	keys, from := f.keys(), 0
	for i := 0; i < min(before+stride-1, len(text)-windowSize+1); i += stride {
		w := keys.window(text[i : i+windowSize])
		if place := w >> (traceBits - traceTableBits); f.bits[place>>6]>>(place&63)&1 == 0 {
			continue
		}
		if found, is := f.confirm(text, i, from, before, f.at[w]); is {
			visit(found)
			from = found.At + found.Length
			i = max(i, from/stride*stride-stride)
		}
	}
}

// confirm computes the checks of what may be at a place, and returns what begins first and is longest there.
func (f *Fingerprints) confirm(text []byte, at, from, before int, traces []trace) (found Finding, is bool) {
	for _, t := range traces {
		form, begin := f.values[t.value].Forms[t.form], at-t.offset
		if begin < from || begin >= before || begin+form.Size > len(text) || is &&
			(begin > found.At || begin == found.At && form.Size <= found.Length) {
			continue
		}
		if subtle.ConstantTimeCompare(f.check(text[begin:begin+form.Size]), form.Check) == 1 {
			found, is = Finding{Name: f.values[t.value].Reference, Kind: form.Kind, At: begin, Length: form.Size}, true
		}
	}
	return found, is
}

// fingerprintFile is how fingerprints are written.
type fingerprintFile struct {
	Version int             `json:"fingerprints"` // 1
	Salt    []byte          `json:"salt"`
	Values  []fingerprinted `json:"values"`
}

// MarshalJSON writes them as a file that [ReadFingerprints] reads.
func (f *Fingerprints) MarshalJSON() ([]byte, error) {
	return json.Marshal(fingerprintFile{1, f.salt[:], f.values})
}

// The most that a file may have.
const (
	mostMarked   = 100_000 // values
	mostFormSize = 1 << 20
)

// ReadFingerprints reads a file back.
func ReadFingerprints(content []byte) (*Fingerprints, error) {
	var file fingerprintFile
	decoder := json.NewDecoder(strings.NewReader(string(content)))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&file); err != nil {
		return nil, fmt.Errorf("it is not a file of fingerprints: %w", err)
	}
	f := &Fingerprints{values: file.Values}
	if file.Version != 1 || len(file.Salt) != len(f.salt) || len(file.Values) == 0 || len(file.Values) > mostMarked {
		return nil, errors.New("it is not a file of fingerprints of this version")
	}
	copy(f.salt[:], file.Salt)
	for _, value := range f.values {
		for _, form := range value.Forms {
			if form.Size < minMarked || form.Size > mostFormSize || len(form.Check) != checkSize || slices.Max(form.Windows[:]) >= 1<<traceBits {
				return nil, fmt.Errorf("what it has of %q was not written by this program", value.Reference)
			}
		}
	}
	f.index()
	return f, nil
}
