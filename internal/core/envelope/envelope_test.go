package envelope

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"testing"
	"time"

	"tansu/internal/core/secretvalue"
)

func unhex(t *testing.T, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(text)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// Test case 16 of "The Galois/Counter Mode of Operation" (McGrew and Viega), the AES-256 case with associated data that
// NIST SP 800-38D refers to.
func TestKeyOpensTheStandardGCMVector(t *testing.T) {
	key := newKey([KeySize]byte(unhex(t, "feffe9928665731c6d6a8f9467308308feffe9928665731c6d6a8f9467308308")))
	nonce := unhex(t, "cafebabefacedbaddecaf888")
	sealed := unhex(t, "522dc1f099567d07f47f37a32a84427d643a8cdcbfe5c0c97598a2bd2555d1aa"+
		"8cb08e48590dbb3da7b08b1056828838c5f61e6393ba7a0abcc9f662"+
		"76fc6ece0f4e1768cddf8853bb2d551b")
	aad := unhex(t, "feedfacedeadbeeffeedfacedeadbeefabaddad2")
	want := unhex(t, "d9313225f88406e5a55909c5aff5269a86a7a9531534f7da2e4c303d8a318a72"+
		"1c3c0c95956809532fcf0e2449a6b525b16aedf5aa0de657ba637b39")
	got, err := key.aead.Open(nil, nil, append(nonce, sealed...), aad)
	if err != nil || !bytes.Equal(got, want) {
		t.Fatalf("got %x, %v; want %x", got, err, want)
	}
}

// From the Argon2 reference implementation's own tests: version 19, 2 passes, 64 MiB, 1 lane.
func TestStretchGivesTheReferenceArgon2idVector(t *testing.T) {
	got := Stretch{Passes: 2, Memory: 65536, Threads: 1}.key([]byte("password"), []byte("somesalt"))
	want := unhex(t, "09316115d5cf24ed5a15a31a3ba326e5cf32edc24702987c02b6566f61913cf7")
	if !bytes.Equal(got, want) {
		t.Fatalf("got %x, want %x", got, want)
	}
}

// Computed with another implementation of HKDF (RFC 5869). If this fails, chests made before would not open.
func TestDerivedKeysStayWhatTheyWere(t *testing.T) {
	secret := bytes.Repeat([]byte{7}, KeySize)
	got := derive(secret, "ch_fixed", "wrap keys")
	const want = "5c4cb02f7b57e4670cf2ba54bf3221a670e82a59a0830e269bcabf654ecb297a"
	if hex.EncodeToString(got[:]) != want {
		t.Fatalf("got %x, want %s", got, want)
	}
}

var place = Place{Chest: "ch_1", Drawer: "dr_1", Item: "it_1", Kind: "secret", Number: 3}

func TestVersionOpensOnlyAtItsPlace(t *testing.T) {
	key := NewKey()
	sealed := SealVersion(key, place, []byte("value"))
	got, err := OpenVersion(key, place, sealed)
	if err != nil || string(got) != "value" {
		t.Fatalf("at its place: got %q, %v", got, err)
	}
	for name, move := range map[string]func(*Place){
		"another chest":   func(p *Place) { p.Chest = "ch_2" },
		"another drawer":  func(p *Place) { p.Drawer = "dr_2" },
		"another item":    func(p *Place) { p.Item = "it_2" },
		"another kind":    func(p *Place) { p.Kind = "certificate" },
		"another version": func(p *Place) { p.Number = 4 },
		"fields run together differently": func(p *Place) {
			p.Drawer, p.Item = "dr_1it", "_1"
		},
	} {
		elsewhere := place
		move(&elsewhere)
		if got, err := OpenVersion(key, elsewhere, sealed); !errors.Is(err, ErrNotAuthentic) {
			t.Errorf("%s: got %q, %v; want ErrNotAuthentic", name, got, err)
		}
	}
}

func TestNoOtherKeyOpensAVersion(t *testing.T) {
	key, other := NewKey(), NewKey()
	first, second := SealVersion(key, place, []byte("one")), SealVersion(key, place, []byte("two"))
	if _, err := OpenVersion(other, place, first); !errors.Is(err, ErrNotAuthentic) {
		t.Errorf("with another drawer's key: got %v", err)
	}
	mixed := SealedVersion{WrappedKey: second.WrappedKey, Ciphertext: first.Ciphertext}
	if _, err := OpenVersion(key, place, mixed); !errors.Is(err, ErrNotAuthentic) {
		t.Errorf("with another version's data key: got %v", err)
	}
	swapped := SealedVersion{WrappedKey: first.Ciphertext, Ciphertext: first.WrappedKey}
	if _, err := OpenVersion(key, place, swapped); !errors.Is(err, ErrNotAuthentic) {
		t.Errorf("with key and content swapped: got %v", err)
	}
}

func TestOneFlippedBitNeverOpens(t *testing.T) {
	key := NewKey()
	sealed := SealVersion(key, place, []byte("a value of some length"))
	for _, part := range [][]byte{sealed.WrappedKey, sealed.Ciphertext} {
		for bit := range 8 * len(part) {
			part[bit/8] ^= 1 << (bit % 8)
			if _, err := OpenVersion(key, place, sealed); !errors.Is(err, ErrNotAuthentic) {
				t.Fatalf("bit %d flipped: got %v, want ErrNotAuthentic", bit, err)
			}
			part[bit/8] ^= 1 << (bit % 8)
		}
		for cut := range part {
			if _, err := key.Open(place, part[:cut]); !errors.Is(err, ErrNotAuthentic) {
				t.Fatalf("cut to %d bytes: got %v, want ErrNotAuthentic", cut, err)
			}
		}
	}
}

func TestDrawerKeyOpensOnlyForItsDrawerAndNumber(t *testing.T) {
	root := NewRoot("ch_1")
	wrapped := root.WrapDrawerKey("dr_1", 1, NewKey())
	if _, err := root.UnwrapDrawerKey("dr_1", 1, wrapped); err != nil {
		t.Fatal(err)
	}
	if _, err := root.UnwrapDrawerKey("dr_2", 1, wrapped); !errors.Is(err, ErrNotAuthentic) {
		t.Errorf("another drawer: got %v", err)
	}
	if _, err := root.UnwrapDrawerKey("dr_1", 2, wrapped); !errors.Is(err, ErrNotAuthentic) {
		t.Errorf("another number: got %v", err)
	}
	if _, err := NewRoot("ch_1").UnwrapDrawerKey("dr_1", 1, wrapped); !errors.Is(err, ErrNotAuthentic) {
		t.Errorf("another root key: got %v", err)
	}
}

func TestUnlockMaterialOpensOnlyItsChest(t *testing.T) {
	cheap := Stretch{Passes: 1, Memory: 64, Threads: 1}
	file := NewKeyFile(MethodKeyFile)
	for _, c := range []struct {
		method       string
		right, wrong secretvalue.Value
	}{
		{MethodPassphrase, secretvalue.FromString("correct horse battery"), secretvalue.FromString("correct horse batterz")},
		{MethodKeyFile, file, NewKeyFile(MethodKeyFile)},
		{MethodKeyFile, file, secretvalue.FromString("not a key file")},
		{MethodShares, secretvalue.New(bytes.Repeat([]byte{7}, 32)), secretvalue.New(bytes.Repeat([]byte{8}, 32))},
		{MethodShares, secretvalue.New(bytes.Repeat([]byte{7}, 32)), secretvalue.FromString("too short")},
	} {
		root, unlock := NewRoot("ch_1"), NewKey()
		slot, err := NewSlot("ch_1", unlock, c.method, c.right, cheap)
		if err != nil {
			t.Fatal(err)
		}
		key, err := slot.Open("ch_1", c.right)
		if err != nil {
			t.Fatalf("%s: the right material: %v", c.method, err)
		}
		opened, err := OpenRoot("ch_1", key, WrapRoot(unlock, root), nil)
		if err != nil || opened.RowMAC([]byte("x")) != root.RowMAC([]byte("x")) {
			t.Errorf("%s: the right material: got %v", c.method, err)
		}
		if _, err := slot.Open("ch_1", c.wrong); !errors.Is(err, ErrWrongMaterial) {
			t.Errorf("%s: wrong material: got %v, want ErrWrongMaterial", c.method, err)
		}
		if _, err := slot.Open("ch_2", c.right); !errors.Is(err, ErrWrongMaterial) {
			t.Errorf("%s: another chest: got %v, want ErrWrongMaterial", c.method, err)
		}
	}
}

// Another root key opens nothing that the one before sealed, and the other way round; what outlasts it is the same.
func TestTurnedRootOpensNothingOfTheOneBefore(t *testing.T) {
	unlock, first := NewKey(), NewRoot("ch_1")
	drawer := first.WrapDrawerKey("dr_1", 1, NewKey())
	second := first.Turned()
	third, err := OpenRoot("ch_1", unlock, WrapRoot(unlock, second.Turned()), nil)
	if err != nil {
		t.Fatal(err)
	}
	for name, other := range map[string]*Root{"the next": second, "another chest's, so to speak": third} {
		if _, err := other.UnwrapDrawerKey("dr_1", 1, drawer); !errors.Is(err, ErrNotAuthentic) {
			t.Errorf("%s root key opens a drawer of the first: %v", name, err)
		}
		if other.RowMAC([]byte("x")) == first.RowMAC([]byte("x")) {
			t.Errorf("%s root key authenticates rows as the first does", name)
		}
	}
	again, err := OpenRoot("ch_1", unlock, WrapRoot(unlock, second), second.SealedBase())
	if err != nil {
		t.Fatal(err)
	}
	if again.ManyMAC([]byte("x")) != first.ManyMAC([]byte("x")) || !bytes.Equal(again.TrailKey(), first.TrailKey()) ||
		again.HostKey("cr_1") != first.HostKey("cr_1") || again.Likeness([]byte("x")) != first.Likeness([]byte("x")) {
		t.Error("what should outlast the turn is another one")
	}
	if first.SealedBase() != nil || len(second.SealedBase()) == 0 {
		t.Error("the first root key is its own base, and the second is not")
	}
	if _, err := OpenRoot("ch_1", unlock, WrapRoot(unlock, third), second.SealedBase()); err == nil {
		t.Error("a base of another root key is taken")
	}
}

func TestStoredCostsOutOfBoundsAreRefused(t *testing.T) {
	for _, costs := range []Stretch{{}, {Passes: 1, Memory: 5 << 20, Threads: 1}, {Passes: 100000, Memory: 64, Threads: 1},
		{Passes: 1, Memory: 1, Threads: 1}} {
		slot := Slot{Method: MethodPassphrase, Costs: costs}
		if _, err := slot.Open("ch_1", secretvalue.FromString("a passphrase")); err == nil || errors.Is(err, ErrWrongMaterial) {
			t.Errorf("%+v: got %v, want an error about costs", costs, err)
		}
	}
}

func TestCalibrateChoosesPassesByTheClock(t *testing.T) {
	now := time.Unix(0, 0)
	clock := func() time.Time { now = now.Add(50 * time.Millisecond); return now }
	if got := Calibrate(500*time.Millisecond, 8, clock); got.Passes != 10 || got.Threads != 4 || got.Memory != 64<<10 {
		t.Errorf("got %+v, want 10 passes of 50 ms, 4 threads, 64 MiB", got)
	}
}

func TestKeysDoNotPrintThemselves(t *testing.T) {
	key := newKey([KeySize]byte{0xab, 0xcd})
	for _, format := range []string{"%v", "%+v", "%#v", "%x", "%s"} {
		if got := fmt.Sprintf(format, key); got != "[key]" {
			t.Errorf("%s gives %q", format, got)
		}
	}
}
