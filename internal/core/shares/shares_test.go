package shares

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"

	"tansu/internal/core/secretvalue"
)

func split(t *testing.T, needed, count int) (secretvalue.Value, Set, []Share) {
	t.Helper()
	secret, set, list, err := Split(needed, count)
	if err != nil {
		t.Fatal(err)
	}
	return secret, set, list
}

// Any two of three give the secret back, in any order, and one is not enough, not even twice.
func TestAnyOfThemThatAreEnoughGiveTheSecret(t *testing.T) {
	secret, set, list := split(t, 2, 3)
	for _, some := range [][]Share{{list[0], list[1]}, {list[2], list[0]}, {list[1], list[2]}, {list[2], list[1], list[0]}} {
		if got, err := set.Join(some); err != nil || !bytes.Equal(got.Reveal(), secret.Reveal()) {
			t.Errorf("%d shares: %v", len(some), err)
		}
	}
	for _, few := range [][]Share{nil, {list[0]}, {list[0], list[0]}} {
		if _, err := set.Join(few); err == nil {
			t.Errorf("%d shares, of which one is another, are enough", len(few))
		}
	}
}

// A wrong share is found by itself: one of another set, with another number, or with other bits.
func TestWrongShareIsKnownByItself(t *testing.T) {
	_, set, list := split(t, 2, 3)
	_, _, others := split(t, 2, 3)
	renumbered, changed, strange := list[0], list[0], list[0]
	renumbered.Number, strange.Number = 2, 4
	changed.value[3] ^= 1
	claimed := others[0]
	claimed.Set = set.ID()
	for what, share := range map[string]Share{"of another chest": others[0], "of another one, that claims to be of this": claimed,
		"with another number": renumbered, "with a number that nobody has": strange, "with another bit": changed} {
		if err := set.Check(share); !errors.Is(err, ErrWrongShare) {
			t.Errorf("a share %s: %v", what, err)
		}
		if _, err := set.Join([]Share{share, list[1], list[2]}); err == nil {
			t.Errorf("joined with a share %s", what)
		}
	}
	if err := set.Check(list[2]); err != nil {
		t.Errorf("a good share: %v", err)
	}
}

// What is on paper reads back, however it is spaced and written, and one letter that is read wrongly is noticed.
func TestWordsReadBackAndMistakesAreNoticed(t *testing.T) {
	_, set, list := split(t, 3, 5)
	for _, share := range list {
		words := string(share.Words().Reveal())
		spaced := strings.ToUpper(strings.ReplaceAll(words, "-", "  \n"))
		for _, text := range []string{words, spaced} {
			if got, err := Parse(secretvalue.FromString(text)); err != nil || got != share {
				t.Errorf("share %d does not read back: %v", share.Number, err)
			}
		}
		if err := set.Check(share); err != nil {
			t.Errorf("share %d: %v", share.Number, err)
		}
	}
	words := string(list[0].Words().Reveal())
	for i := range words {
		if words[i] == '-' {
			continue
		}
		for _, letter := range "bdfgaiou" {
			wrong := words[:i] + string(letter) + words[i+1:]
			if _, err := Parse(secretvalue.FromString(wrong)); wrong != words && !errors.Is(err, ErrNoShare) {
				t.Fatalf("with %q in the place of letter %d it is taken: %v", letter, i, err)
			}
		}
	}
	for _, text := range []string{"", "babab", words[6:], words + "-babab", strings.Replace(words, "-", "", 1)} {
		if _, err := Parse(secretvalue.FromString(text)); !errors.Is(err, ErrNoShare) {
			t.Errorf("%d letters are taken", len(text))
		}
	}
}

func TestWhatCannotBeSplitIsSaid(t *testing.T) {
	for _, of := range [][2]int{{1, 3}, {0, 0}, {4, 3}, {2, Most + 1}} {
		if _, _, _, err := Split(of[0], of[1]); err == nil {
			t.Errorf("%d of %d are made", of[0], of[1])
		}
	}
	if _, _, list, err := Split(2, 2); err != nil || fmt.Sprintf("%v %+v %s", list[0], list, list[1]) != "[share] [[share] [share]] [share]" {
		t.Errorf("a share prints itself, or %v", err)
	}
}
