package trail

import (
	"crypto/ed25519"
	"crypto/sha256"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/mod/sumdb/tlog"
)

var (
	testKey    = ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	testOrigin = OriginOf("ch_test")
	testAt     = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
)

func verifierKey(t testing.TB) string {
	t.Helper()
	key, err := VerifierKey(testOrigin, testKey.Public().(ed25519.PublicKey))
	if err != nil {
		t.Fatal(err)
	}
	return key
}

// lines are a trail of n entries.
func lines(n int) (list []string) {
	for i := range n {
		e := Entry{Seq: uint64(i) + 1, At: testAt.Add(time.Duration(i) * time.Second), Subject: "app:ticket-api", Action: "read_value",
			Target:  "d/i",
			Outcome: Allowed, Detail: fmt.Sprintf(`"seq":%d`, i)}
		list = append(list, string(e.AppendCanonical(nil)))
	}
	return list
}

func pointOf(list []string, size int) Checkpoint {
	var edge Edge
	for _, line := range list[:size] {
		edge.Add(LeafHash(line))
	}
	return Checkpoint{Origin: testOrigin, Size: uint64(size), Root: edge.Root(), At: testAt}
}

// storedHashes is the tree as another implementation makes it.
func storedHashes(t *testing.T, list []string) tlog.HashReader {
	t.Helper()
	var stored []tlog.Hash
	reader := tlog.HashReaderFunc(func(indexes []int64) (found []tlog.Hash, err error) {
		for _, i := range indexes {
			found = append(found, stored[i])
		}
		return found, nil
	})
	for i, line := range list {
		more, err := tlog.StoredHashes(int64(i), []byte(line), reader)
		if err != nil {
			t.Fatal(err)
		}
		stored = append(stored, more...)
	}
	return reader
}

func TestRootIsThatOfRFC9162(t *testing.T) {
	list := lines(300)
	reader := storedHashes(t, list)
	if pointOf(list, 0).Root != Hash(sha256.Sum256(nil)) {
		t.Error("the empty tree")
	}
	for size := 1; size <= len(list); size++ {
		want, err := tlog.TreeHash(int64(size), reader)
		if err != nil || pointOf(list, size).Root != want {
			t.Fatalf("size %d: %v", size, err)
		}
	}
}

// Trails around the sizes at which chunks begin are verified with one checkpoint or several, wherever these end.
func TestVerifyAcceptsWhatWasSigned(t *testing.T) {
	list := lines(2*chunkLines + 10)
	for _, size := range []int{1, 2, chunkLines - 1, chunkLines, chunkLines + 1, 2 * chunkLines, 2*chunkLines + 10} {
		points := []Checkpoint{pointOf(list, size), pointOf(list, size/2+1), pointOf(list, 0)}
		var seen uint64
		r, err := Verify(strings.NewReader(strings.Join(list, "\n")+"\n"), points, func(n uint64) { seen = n })
		if err != nil || len(r.Problems) > 0 || r.Matched != 3 || r.Covered.Size != uint64(size) || r.Size != uint64(len(list)) ||
			seen != r.Size {
			t.Errorf("size %d: %+v, %v", size, r, err)
		}
	}
	if r, err := Verify(strings.NewReader(strings.Join(list, "\n")), []Checkpoint{pointOf(list, len(list))}, nil); err != nil ||
		len(r.Problems) > 0 {
		t.Errorf("without a newline at the end: %+v, %v", r, err)
	}
}

// Each way of changing a trail that was signed is found and named.
func TestVerifyNamesEachTampering(t *testing.T) {
	list := lines(chunkLines + 50)
	points := []Checkpoint{pointOf(list, 10), pointOf(list, 40), pointOf(list, len(list))}
	for name, c := range map[string]struct {
		change func([]string) []string
		want   string
	}{
		"a byte flipped": {func(l []string) []string { l[20] = strings.Replace(l[20], "ticket-api", "ticket-apj", 1); return l },
			"something among entries 11 to 40 is not what it was"},
		"the first": {func(l []string) []string { l[0] = strings.Replace(l[0], "read", "Read", 1); return l },
			"something among entries 1 to 10 is not"},
		"one deleted":   {func(l []string) []string { return slices.Delete(l, 20, 21) }, "entry 21 is missing: entry 22 stands in its place"},
		"three deleted": {func(l []string) []string { return slices.Delete(l, 20, 23) }, "entries 21 to 23 are missing"},
		"one put in": {func(l []string) []string { return slices.Insert(l, 20, l[5]) },
			"an entry with the number 6 stands in the place of entry 21"},
		"one put in, new": {func(l []string) []string { return slices.Insert(l, 20, `{"action":"x","seq":21}`) },
			"an entry with the number 21 stands in the place of entry 22"},
		"reordered": {func(l []string) []string { l[20], l[21] = l[21], l[20]; return l }, "entry 21 is missing: entry 22"},
		"renumbered": {func(l []string) []string { return renumbered(slices.Delete(l, 20, 21)) },
			"something among entries 11 to 40 is not"},
		"the end cut": {func(l []string) []string { return l[:len(l)-3] },
			fmt.Sprintf("the trail ends at entry %d, and at 2026-11-23T08:00:00Z it had %d", len(list)-3, len(list))},
		"all gone": {func([]string) []string { return nil }, "the trail ends at entry 0"},
		"no entry": {func(l []string) []string { l[20] = "{}"; return l }, "what stands in the place of entry 21 is not an entry"},
		"in a second chunk": {func(l []string) []string { l[chunkLines+7] += " "; return l },
			fmt.Sprintf("something among entries 41 to %d is not", len(list))},
	} {
		changed := c.change(slices.Clone(list))
		r, err := Verify(strings.NewReader(strings.Join(changed, "\n")), points, nil)
		if err != nil || len(r.Problems) == 0 || !strings.Contains(strings.Join(r.Problems, "; "), c.want) {
			t.Errorf("%s: %v, %v", name, r.Problems, err)
		}
	}
}

func renumbered(list []string) []string {
	for i := range list {
		e, err := Decode([]byte(list[i]))
		if err != nil {
			panic(err)
		}
		e.Seq = uint64(i) + 1
		list[i] = string(e.AppendCanonical(nil))
	}
	return list
}

// Any single change of any byte is found.
func TestVerifyFindsAnyFlippedByte(t *testing.T) {
	list := lines(64)
	whole := []byte(strings.Join(list, "\n") + "\n")
	random := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		changed := slices.Clone(whole)
		at, bit := random.IntN(len(changed)), byte(1)<<random.IntN(8)
		changed[at] ^= bit
		r, err := Verify(strings.NewReader(string(changed)), []Checkpoint{pointOf(list, 64)}, nil)
		if err != nil || len(r.Problems) == 0 {
			t.Fatalf("byte %d, bit %x: %+v, %v", at, bit, r, err)
		}
	}
}

func TestLineWithoutEndIsNotReadForEver(t *testing.T) {
	_, err := Verify(endless{}, nil, nil)
	if err == nil || !strings.Contains(err.Error(), "longer than any entry") {
		t.Error(err)
	}
}

type endless struct{}

func (endless) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = 'a'
	}
	return len(b), nil
}

// A trail that goes on in another epoch verifies against checkpoints of the earlier one as far as its entries were kept; what was lost is
// noted, and is no contradiction. Without a checkpoint that says so it is one, and so is another history.
func TestTrailGoesOnInAnotherEpoch(t *testing.T) {
	before := lines(50)
	after := slices.Clone(before[:20]) // restored from a backup of 20 entries; up to 52 the numbers are not used again
	for seq := uint64(21); seq <= 52; seq++ {
		e := Lost(seq, testAt.Add(time.Hour))
		after = append(after, string(e.AppendCanonical(nil)))
	}
	begin := Entry{Seq: 53, At: testAt.Add(time.Hour), Subject: "chest", Action: BeginEpoch, Outcome: Allowed, Epoch: 2, Kept: 20}
	after = append(after, string(begin.AppendCanonical(nil)))
	if read, err := Decode([]byte(after[52])); err != nil || !reflect.DeepEqual(read, begin) {
		t.Errorf("the entry reads back as %+v, %v", read, err)
	}
	early, late, now := pointOf(before, 15), pointOf(before, 45), pointOf(after, 53)
	now.Epochs = []uint64{20}
	signed, err := now.Sign(testKey)
	if err != nil || !strings.Contains(signed, "\nepoch 2 kept 20\n\n") {
		t.Errorf("the note is %q, %v", signed, err)
	}
	if opened, err := OpenCheckpoint(signed, verifierKey(t)); err != nil || !reflect.DeepEqual(opened, now) {
		t.Errorf("it reads back as %+v, %v", opened, err)
	}
	report, err := Verify(strings.NewReader(strings.Join(after, "\n")+"\n"), []Checkpoint{late, now, early}, nil)
	if err != nil || len(report.Problems) != 0 || report.Matched != 2 || len(report.Notes) != 1 ||
		!strings.Contains(report.Notes[0], "kept 20") {
		t.Errorf("%+v, %v", report, err)
	}
	report, err = Verify(strings.NewReader(strings.Join(after, "\n")+"\n"), []Checkpoint{late, early}, nil)
	if err != nil || len(report.Problems) == 0 {
		t.Errorf("without a checkpoint of the new epoch: %+v, %v", report, err)
	}
	other := pointOf(before, 45)
	other.Epochs = []uint64{30}
	report, err = Verify(strings.NewReader(strings.Join(after, "\n")+"\n"), []Checkpoint{other, now}, nil)
	if err != nil || len(report.Problems) == 0 || !strings.Contains(report.Problems[0], "another history") {
		t.Errorf("a checkpoint of another history: %+v, %v", report, err)
	}
	if err := CheckExtends(late, now, nil); err == nil || !strings.Contains(err.Error(), "earlier epoch") {
		t.Errorf("extends: %v", err)
	}
}

func TestCheckpointIsSignedAndOpened(t *testing.T) {
	p := pointOf(lines(5), 5)
	signed, err := p.Sign(testKey)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(signed, "tansu/ch_test\n5\n") || !strings.Contains(signed, "\nat 2026-11-23T08:00:00Z\n\n— tansu/ch_test ") {
		t.Errorf("the note is %q", signed)
	}
	got, err := OpenCheckpoint(signed, verifierKey(t)+"\n")
	if err != nil || !reflect.DeepEqual(got, p) {
		t.Errorf("%+v, %v", got, err)
	}
	other, err := VerifierKey(testOrigin, ed25519.NewKeyFromSeed(append(make([]byte, 31), 1)).Public().(ed25519.PublicKey))
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct{ note, key string }{
		"another key":    {signed, other},
		"another size":   {strings.Replace(signed, "\n5\n", "\n6\n", 1), verifierKey(t)},
		"another origin": {strings.Replace(signed, "tansu/ch_test\n", "tansu/ch_tesT\n", 1), verifierKey(t)},
	} {
		if _, err := OpenCheckpoint(c.note, c.key); !errors.Is(err, ErrNotSigned) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, bad := range []string{"", "x", "— x y\n", signed[:len(signed)/2]} {
		if _, err := OpenCheckpoint(bad, verifierKey(t)); err == nil {
			t.Errorf("%q opens", bad)
		}
	}
	if _, err := OpenCheckpoint(signed, "no key"); err == nil {
		t.Error("no key")
	}
	again, err := pointOf(lines(7), 7).Sign(testKey)
	if err != nil {
		t.Fatal(err)
	}
	if notes := SplitNotes(signed + "\n" + again + "\n" + signed); len(notes) != 3 || notes[0] != signed || notes[1] != again ||
		notes[2] != signed {
		t.Errorf("%q", notes)
	}
}

// Proofs are made by another implementation of the RFC, and checked here for every entry and every pair of sizes.
func TestProofsAreChecked(t *testing.T) {
	list := lines(33)
	reader := storedHashes(t, list)
	point := pointOf(list, 33)
	signed, err := point.Sign(testKey)
	if err != nil {
		t.Fatal(err)
	}
	for i, line := range list {
		made, err := tlog.ProveRecord(33, int64(i), reader)
		if err != nil {
			t.Fatal(err)
		}
		p := Proof{Entry: line, Seq: uint64(i) + 1, Checkpoint: signed, Hashes: bytesOf(made)}
		if e, c, err := p.Check(verifierKey(t)); err != nil || e.Seq != p.Seq || !reflect.DeepEqual(c, point) {
			t.Fatalf("entry %d: %+v, %v", i+1, e, err)
		}
		wrong := p
		wrong.Entry = strings.Replace(line, "app:ticket-api", "app:ticket-apj", 1)
		moved := p
		moved.Seq++
		short := p
		short.Hashes = p.Hashes[1:]
		odd := p
		odd.Hashes = append([][]byte{{1}}, p.Hashes[1:]...)
		for name, bad := range map[string]Proof{"another entry": wrong, "another number": moved, "a hash less": short, "half a hash": odd} {
			if _, _, err := bad.Check(verifierKey(t)); err == nil {
				t.Errorf("entry %d with %s is proved", i+1, name)
			}
		}
	}
	for older := 1; older <= 33; older++ {
		made, err := tlog.ProveTree(33, int64(older), reader)
		if err != nil {
			t.Fatal(err)
		}
		if err := CheckExtends(pointOf(list, older), point, bytesOf(made)); err != nil {
			t.Errorf("from %d: %v", older, err)
		}
		rewritten := pointOf(renumbered(append([]string{list[1]}, list[1:]...)), older)
		if err := CheckExtends(rewritten, point, bytesOf(made)); err == nil {
			t.Errorf("a rewritten trail of %d extends", older)
		}
	}
	if err := CheckExtends(point, pointOf(list, 30), nil); err == nil || !strings.Contains(err.Error(), "removed") {
		t.Errorf("a shorter trail: %v", err)
	}
}

func bytesOf(hashes []tlog.Hash) (list [][]byte) {
	for _, h := range hashes {
		list = append(list, h[:])
	}
	return list
}

func FuzzCheckpoint(f *testing.F) {
	signed, err := pointOf(lines(5), 5).Sign(testKey)
	if err != nil {
		f.Fatal(err)
	}
	key := verifierKey(f)
	f.Add(signed)
	f.Add("a\n1\nx\nat 2026\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, one := range SplitNotes(text) {
			if c, err := OpenCheckpoint(one, key); err == nil && c.Size != 5 {
				t.Fatalf("%+v was never signed", c)
			}
		}
	})
}

func BenchmarkVerify(b *testing.B) {
	text := strings.Join(lines(100_000), "\n")
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := Verify(strings.NewReader(text), nil, nil); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkSHA256 is what the machine does with the same bytes.
func BenchmarkSHA256(b *testing.B) {
	text := []byte(strings.Join(lines(100_000), "\n"))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		sha256.Sum256(text)
	}
}
