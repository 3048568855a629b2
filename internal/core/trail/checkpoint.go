package trail

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// Checkpoint states how many entries a trail had at a time, and the root of the Merkle tree over them. It is written in
// the open format of transparency logs: lines with the origin, the size and the root in base64, and here one more,
// "at" and the time; a line more for each epoch that has begun; then an empty line and signatures, as a signed note. An origin has one
// key.
//
// A chest that was restored from a backup, or whose trail was damaged, goes on in another epoch: what it had recorded after some entry is
// lost, and the numbers of what is lost are not used again. A checkpoint of an earlier epoch says the truth about entries that are not
// there any more; it is compared with the trail as far as entries were kept.
type Checkpoint struct {
	Origin string
	Size   uint64
	Root   Hash
	At     time.Time // to the second
	Epochs []uint64  // how many entries were kept when each epoch after the first one began
}

// Comparable reports whether an earlier checkpoint is about entries that a trail still has, as a later one of it says. It is an error
// when the two are not of one history: two chests went on from the same backup.
func (c Checkpoint) Comparable(earlier Checkpoint) (is bool, err error) {
	if len(earlier.Epochs) > len(c.Epochs) || !slices.Equal(earlier.Epochs, c.Epochs[:len(earlier.Epochs)]) {
		return false, fmt.Errorf("the checkpoint of %d entries of %s is of another history: there the chest was restored otherwise",
			earlier.Size, earlier.At.UTC().Format(time.RFC3339))
	}
	for _, kept := range c.Epochs[len(earlier.Epochs):] {
		if earlier.Size > kept {
			return false, nil
		}
	}
	return true, nil
}

// OriginOf is the origin of the checkpoints of a chest, by its id.
func OriginOf(chest string) string { return "tansu/" + chest }

// text is what is signed.
func (c Checkpoint) text() string {
	text := fmt.Sprintf("%s\n%d\n%s\nat %s\n", c.Origin, c.Size, base64.StdEncoding.EncodeToString(c.Root[:]), c.At.UTC().Format(time.RFC3339))
	for i, kept := range c.Epochs {
		text += fmt.Sprintf("epoch %d kept %d\n", i+2, kept)
	}
	return text
}

// signer signs notes with a key that is worked out, not made at random. Its name is an origin.
type signer struct {
	name string
	key  ed25519.PrivateKey
}

// algorithm is the one byte that stands for Ed25519 in the key of a signed note.
const algorithm = 1

func (s signer) Name() string { return s.name }

func (s signer) KeyHash() uint32 {
	public := s.key.Public().(ed25519.PublicKey)
	sum := sha256.Sum256(append([]byte(s.name+"\n"), append([]byte{algorithm}, public...)...))
	return binary.BigEndian.Uint32(sum[:])
}

func (s signer) Sign(text []byte) ([]byte, error) { return ed25519.Sign(s.key, text), nil }

// Sign writes a checkpoint as a signed note.
func (c Checkpoint) Sign(key ed25519.PrivateKey) (string, error) {
	signed, err := note.Sign(&note.Note{Text: c.text()}, signer{c.Origin, key})
	return string(signed), err
}

// VerifierKey is the public half of a key that signs for an origin, as one line that anyone can keep.
func VerifierKey(origin string, key ed25519.PublicKey) (string, error) {
	return note.NewEd25519VerifierKey(origin, key)
}

// ErrNotSigned says that a note has no signature of the key that was expected.
var ErrNotSigned = errors.New("the checkpoint is not signed by this key")

// OpenCheckpoint reads a signed note whose signature verifies with a verifier key.
func OpenCheckpoint(signed, verifierKey string) (c Checkpoint, err error) {
	verifier, err := note.NewVerifier(strings.TrimSpace(verifierKey))
	if err != nil {
		return c, fmt.Errorf("the verifier key cannot be read: %w", err)
	}
	opened, err := note.Open([]byte(signed), note.VerifierList(verifier))
	var unknown *note.UnverifiedNoteError
	var bad *note.InvalidSignatureError
	if errors.As(err, &unknown) || errors.As(err, &bad) {
		return c, ErrNotSigned
	}
	if err != nil {
		return c, fmt.Errorf("the checkpoint cannot be read: %w", err)
	}
	if c, err = parseCheckpoint(opened.Text); err != nil {
		return c, err
	}
	if c.Origin != verifier.Name() {
		return c, fmt.Errorf("the checkpoint belongs to %s, and the key to %s", c.Origin, verifier.Name())
	}
	return c, nil
}

// ReadUnverified reads what a signed note says without looking at its signatures, for whoever has just made it.
func ReadUnverified(signed string) (Checkpoint, error) {
	text, _, _ := strings.Cut(signed, "\n\n")
	return parseCheckpoint(text + "\n")
}

// mostEpochs bounds what is read; nobody restores a chest that often.
const mostEpochs = 1000

func parseCheckpoint(text string) (c Checkpoint, err error) {
	bad := errors.New("the checkpoint is not of the form that chests write")
	lines := strings.Split(text, "\n")
	if len(lines) < 5 || len(lines) > 5+mostEpochs || lines[len(lines)-1] != "" {
		return c, bad
	}
	root, err := base64.StdEncoding.DecodeString(lines[2])
	if err != nil || len(root) != tlog.HashSize {
		return c, bad
	}
	c.Origin, c.Root = lines[0], Hash(root)
	if c.Size, err = strconv.ParseUint(lines[1], 10, 62); err != nil {
		return c, bad
	}
	for i, line := range lines[4 : len(lines)-1] {
		kept, found := strings.CutPrefix(line, fmt.Sprintf("epoch %d kept ", i+2))
		size, err := strconv.ParseUint(kept, 10, 62)
		if err != nil || !found {
			return c, bad
		}
		c.Epochs = append(c.Epochs, size)
	}
	at, found := strings.CutPrefix(lines[3], "at ")
	if c.At, err = time.Parse(time.RFC3339, at); err != nil || !found || c.text() != text {
		return c, bad
	}
	return c, nil
}

// SplitNotes finds the signed notes in a text that has several, one after the other, as witnesses keep them.
func SplitNotes(text string) (notes []string) {
	var lines []string
	signed := false
	end := func() {
		if signed {
			notes = append(notes, strings.Join(lines, "\n")+"\n")
		}
		lines, signed = nil, false
	}
	for line := range strings.SplitSeq(text, "\n") {
		isSignature := strings.HasPrefix(line, "— ")
		if signed && !isSignature {
			end()
		}
		if line == "" && len(lines) == 0 {
			continue
		}
		signed = signed || isSignature
		lines = append(lines, line)
	}
	end()
	return notes
}

// Proof shows that one entry is in the tree of a checkpoint (an inclusion proof, RFC 9162, section 2.1.3).
type Proof struct {
	Entry      string   // its bytes
	Seq        uint64   // its number, which is in its bytes, too
	Checkpoint string   // a signed note
	Hashes     [][]byte // from the leaf up
}

// Check verifies a proof with a verifier key, and returns the entry that it is about.
func (p Proof) Check(verifierKey string) (e Entry, c Checkpoint, err error) {
	if c, err = OpenCheckpoint(p.Checkpoint, verifierKey); err != nil {
		return e, c, err
	}
	if e, err = Decode([]byte(p.Entry)); err != nil {
		return e, c, err
	}
	if e.Seq != p.Seq || e.Seq == 0 || e.Seq > c.Size {
		return e, c, fmt.Errorf("the entry says that it is number %d, the proof that it is number %d of %d", e.Seq, p.Seq, c.Size)
	}
	hashes, err := hashesOf(p.Hashes)
	if err == nil {
		err = tlog.CheckRecord(hashes, int64(c.Size), c.Root, int64(p.Seq-1), LeafHash(p.Entry))
	}
	if err != nil {
		return e, c, fmt.Errorf("entry %d is not in the trail of this checkpoint: %w", p.Seq, err)
	}
	return e, c, nil
}

// CheckExtends verifies that the tree of a newer checkpoint begins with that of an older one (a consistency proof, RFC
// 9162, section 2.1.4).
func CheckExtends(older, newer Checkpoint, proof [][]byte) error {
	if older.Origin != newer.Origin {
		return fmt.Errorf("the checkpoints are of different chests, %s and %s", older.Origin, newer.Origin)
	}
	if same, err := newer.Comparable(older); err != nil {
		return err
	} else if !same {
		return fmt.Errorf("the older checkpoint, of %d entries, is of an earlier epoch: the chest was restored afterwards, and %d of its "+
			"entries were kept", older.Size, newer.Epochs[len(older.Epochs)])
	}
	if newer.Size < older.Size {
		return fmt.Errorf("the newer checkpoint has %d entries and the older one %d: entries were removed", newer.Size, older.Size)
	}
	if older.Size == newer.Size || older.Size == 0 {
		if older.Size != 0 && older.Root != newer.Root {
			return fmt.Errorf("two checkpoints of %d entries have different roots: the trail was rewritten", older.Size)
		}
		return nil
	}
	hashes, err := hashesOf(proof)
	if err == nil {
		err = tlog.CheckTree(tlog.TreeProof(hashes), int64(newer.Size), newer.Root, int64(older.Size), older.Root)
	}
	if err != nil {
		return fmt.Errorf("the newer trail does not begin with the older one: %w", err)
	}
	return nil
}

func hashesOf(list [][]byte) (tlog.RecordProof, error) {
	hashes := tlog.RecordProof{}
	for _, h := range list {
		if len(h) != tlog.HashSize {
			return nil, errors.New("a hash in the proof is not of 32 bytes")
		}
		hashes = append(hashes, Hash(h))
	}
	return hashes, nil
}

// seqOf reads the number out of an encoded entry, without the rest; 0 when there is none. No string in an entry can hold
// what is looked for, because a quotation mark in one is escaped.
func seqOf(body []byte) (seq uint64) {
	_, rest, _ := bytes.Cut(body, []byte(`"seq":`))
	for i := 0; i < len(rest) && i < 19 && rest[i] >= '0' && rest[i] <= '9'; i++ {
		seq = 10*seq + uint64(rest[i]-'0')
	}
	return seq
}
