// Package shares splits a secret among several people, so that some number of them together have it and fewer have nothing of it.
//
// The secret is the value at zero of a random polynomial over the scalars of ristretto255 (RFC 9496), and a share is its value at the
// share's number: as many points as the polynomial has coefficients give it back, and one point fewer fits every secret equally well
// (A. Shamir, "How to share a secret", 1979). Whoever splits also publishes the coefficients as points of the group, from which each
// share can be checked by itself without telling anything of the secret (P. Feldman, "A practical scheme for non-interactive verifiable
// secret sharing", 1987): a share that is wrong is known to be wrong, and whose it is, before the others are there. The arithmetic is
// that of package secretsharing.
//
// On paper a share is words of five letters, each of which is sixteen bits (D. Wilkerson, "A proposal for proquints", 2009), with a
// checksum, so that somebody can read it to somebody else, and a mistake is noticed before anything is tried.
package shares

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"github.com/cloudflare/circl/group"
	"github.com/cloudflare/circl/secretsharing"

	"tansu/internal/core/secretvalue"
)

const (
	// Most is how many shares there may be.
	Most = 32

	scalarSize  = 32
	elementSize = 32
	idSize      = 4
	sumSize     = 4
	encodedSize = 1 + idSize + 1 + scalarSize + sumSize
	version     = 1 // the first byte of a share
)

var curve = group.Ristretto255

// Set is what is public of one splitting.
type Set struct {
	Needed int    `json:"needed"` // how many shares give the secret
	Count  int    `json:"count"`  // how many there are
	Points []byte `json:"points"` // the coefficients as points, 32 bytes each, that of the secret first
}

// ID says which set a share is of.
func (s Set) ID() [idSize]byte {
	sum := sha256.Sum256(s.Points)
	return [idSize]byte(sum[:])
}

// Share is one person's part. It prints as nothing useful.
type Share struct {
	Set    [idSize]byte
	Number int // from 1
	value  [scalarSize]byte
}

// Format hides the share in every verb.
func (s Share) Format(f fmt.State, _ rune) { _, _ = f.Write([]byte("[share]")) }

// Split makes a secret of 32 bytes, and shares of it of which some number gives it back.
func Split(needed, count int) (secret secretvalue.Value, set Set, list []Share, err error) {
	if needed < 2 || count < needed || count > Most {
		return secret, set, nil, fmt.Errorf("of %d shares, %d cannot be the number needed: it is at least 2, and there are at most %d "+
			"shares", count, needed, Most)
	}
	scalar := curve.RandomNonZeroScalar(rand.Reader)
	sharing := secretsharing.New(rand.Reader, uint(needed-1), scalar)
	set = Set{Needed: needed, Count: count}
	for _, point := range sharing.CommitSecret() {
		encoded, err := point.MarshalBinaryCompress()
		if err != nil {
			return secret, set, nil, err
		}
		set.Points = append(set.Points, encoded...)
	}
	for n, share := range sharing.Share(uint(count)) {
		encoded, err := share.Value.MarshalBinary()
		if err != nil {
			return secret, set, nil, err
		}
		list = append(list, Share{Set: set.ID(), Number: n + 1, value: [scalarSize]byte(encoded)})
	}
	encoded, err := scalar.MarshalBinary()
	return secretvalue.New(encoded), set, list, err
}

// ErrWrongShare says that a share is not what its holder was given.
var ErrWrongShare = errors.New("the share is wrong")

// Check reports whether a share is one of a set, as it was given out.
func (s Set) Check(share Share) error {
	_, err := s.open(share)
	return err
}

func (s Set) open(share Share) (opened secretsharing.Share, err error) {
	if share.Set != s.ID() || share.Number < 1 || share.Number > s.Count {
		return opened, ErrWrongShare
	}
	if len(s.Points) != s.Needed*elementSize || s.Needed < 2 || s.Needed > Most {
		return opened, errors.New("the stored shares are damaged")
	}
	var points secretsharing.SecretCommitment
	for encoded := range chunks(s.Points) {
		point := curve.NewElement()
		if err := point.UnmarshalBinary(encoded); err != nil {
			return opened, errors.New("the stored shares are damaged")
		}
		points = append(points, point)
	}
	opened = secretsharing.Share{ID: curve.NewScalar().SetUint64(uint64(share.Number)), Value: curve.NewScalar()}
	if err := opened.Value.UnmarshalBinary(share.value[:]); err != nil || !secretsharing.Verify(uint(s.Needed-1), opened, points) {
		return opened, ErrWrongShare
	}
	return opened, nil
}

func chunks(points []byte) func(func([]byte) bool) {
	return func(yield func([]byte) bool) {
		for at := 0; at < len(points); at += elementSize {
			if !yield(points[at : at+elementSize]) {
				return
			}
		}
	}
}

// Join gives the secret back from as many different shares as are needed.
func (s Set) Join(list []Share) (secret secretvalue.Value, err error) {
	var opened []secretsharing.Share
	seen := map[int]bool{}
	for _, share := range list {
		one, err := s.open(share)
		if err != nil {
			return secret, err
		}
		if !seen[share.Number] {
			opened = append(opened, one)
		}
		seen[share.Number] = true
	}
	scalar, err := secretsharing.Recover(uint(s.Needed-1), opened)
	if err != nil {
		return secret, fmt.Errorf("%d shares are needed, and %d are there", s.Needed, len(opened))
	}
	encoded, err := scalar.MarshalBinary()
	return secretvalue.New(encoded), err
}

// Words writes a share for paper.
func (s Share) Words() secretvalue.Value {
	content := append([]byte{version}, s.Set[:]...)
	content = append(content, byte(s.Number))
	content = append(content, s.value[:]...)
	sum := sha256.Sum256(content)
	content = append(content, sum[:sumSize]...)
	var words []string
	for at := 0; at < len(content); at += 2 {
		words = append(words, word(binary.BigEndian.Uint16(content[at:])))
	}
	return secretvalue.FromString(strings.Join(words, "-"))
}

// ErrNoShare says that a text is no share, or was read or typed wrongly.
var ErrNoShare = errors.New("this is not a share, or there is a mistake in it: a share is twenty-one words of five letters")

// WordCount is how many words a share has.
const WordCount = encodedSize / 2

// Fields are the words in a line of a share, or of a part of one.
func Fields(line []byte) [][]byte {
	return bytes.FieldsFunc(line, func(r rune) bool { return strings.ContainsRune("- \n\r\t", r) })
}

// Parse reads what Words wrote, with any spaces, hyphens or line breaks between the words. A mistake is [ErrNoShare].
func Parse(text secretvalue.Value) (share Share, err error) {
	var content []byte
	for _, w := range Fields(text.Reveal()) {
		w = bytes.ToLower(w)
		bits, ok := bitsOf(w)
		if !ok {
			return share, ErrNoShare
		}
		content = binary.BigEndian.AppendUint16(content, bits)
	}
	if len(content) != encodedSize || content[0] != version {
		return share, ErrNoShare
	}
	sum := sha256.Sum256(content[:encodedSize-sumSize])
	if !bytes.Equal(sum[:sumSize], content[encodedSize-sumSize:]) {
		return share, ErrNoShare
	}
	share.Set, share.Number = [idSize]byte(content[1:]), int(content[1+idSize])
	copy(share.value[:], content[2+idSize:])
	clear(content)
	return share, nil
}

const (
	consonants = "bdfghjklmnprstvz" // four bits each
	vowels     = "aiou"             // two bits each
)

// word is the word for sixteen bits: consonant, vowel, consonant, vowel, consonant, from the highest bits down.
func word(bits uint16) string {
	return string([]byte{consonants[bits>>12], vowels[bits>>10&3], consonants[bits>>6&15], vowels[bits>>4&3], consonants[bits&15]})
}

func bitsOf(word []byte) (bits uint16, ok bool) {
	if len(word) != 5 {
		return 0, false
	}
	for i, letter := range word {
		from, width := consonants, 4
		if i%2 == 1 {
			from, width = vowels, 2
		}
		at := strings.IndexByte(from, letter)
		if at < 0 {
			return 0, false
		}
		bits = bits<<width | uint16(at)
	}
	return bits, true
}
