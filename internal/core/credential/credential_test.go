package credential

import (
	"errors"
	"strings"
	"testing"

	"tansu/internal/core/secretvalue"
)

func TestTokenReadsBackAsItsKindOnly(t *testing.T) {
	token, hash := New(AppToken)
	text := string(token.Reveal())
	got, err := Parse(AppToken, text)
	if err != nil || got != hash || !got.Matches(hash[:]) {
		t.Fatalf("got %x, %v; want %x", got, err, hash)
	}
	for _, kind := range []Kind{AppSecret, PersonToken, Enrolment} {
		if _, err := Parse(kind, text); !errors.Is(err, ErrMalformed) {
			t.Errorf("an app token is taken for %s: %v", kind, err)
		}
	}
}

func TestDamagedTokenIsRefusedWithoutALookUp(t *testing.T) {
	token, _ := New(PersonToken)
	text := string(token.Reveal())
	swapped := []byte(text)
	swapped[20], swapped[21] = swapped[21]^1, swapped[20]^1
	for what, damaged := range map[string]string{
		"cut by one": text[:len(text)-1], "one more": text + "A", "empty": "", "brand only": "tansu_person_",
		"changed inside": string(swapped), "other case": strings.ToUpper(text), "with a space": " " + text[1:],
	} {
		if _, err := Parse(PersonToken, damaged); !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: got %v, want ErrMalformed", what, err)
		}
	}
}

func TestTokensDoNotRepeat(t *testing.T) {
	seen := map[Hash]bool{}
	for range 1000 {
		_, hash := New(AppSecret)
		if seen[hash] {
			t.Fatal("two tokens have one hash")
		}
		seen[hash] = true
	}
}

func TestPasswordIsStoredSaltedAndChecked(t *testing.T) {
	password := secretvalue.FromString("a harbour at night")
	stored := HashPassword(password)
	if stored == HashPassword(password) {
		t.Error("one password hashes to the same text twice")
	}
	if !PasswordMatches(password, stored) {
		t.Error("the password does not match its own hash")
	}
	for _, other := range []string{"", "a harbour at nighT", "a harbour at night "} {
		if PasswordMatches(secretvalue.FromString(other), stored) {
			t.Errorf("%q matches too", other)
		}
	}
	for _, damaged := range []string{"", "AAAA", stored[:40], "!" + stored[1:]} {
		if PasswordMatches(password, damaged) {
			t.Errorf("the stored form %q matches", damaged)
		}
	}
}

func TestPasswordLengthIsBounded(t *testing.T) {
	mixed := strings.Repeat("quay lantern 47 otter ", 60)
	for length, allowed := range map[int]bool{0: false, 11: false, 12: true, 1024: true, 1025: false} {
		if err := CheckPassword(secretvalue.FromString(mixed[:length])); (err == nil) != allowed {
			t.Errorf("%d bytes: got %v", length, err)
		}
	}
}

// What is on every list, or made of what is, is refused, and says why; words that do not belong together are taken.
func TestPasswordsThatAreGuessedFirstAreRefused(t *testing.T) {
	for password, allowed := range map[string]bool{"password1234": false, "Password123!": false, "qwertyuiop12": false, "123456789012": false,
		"aaaaaaaaaaaa": false, "letmein123456": false, "harbour lantern otter": true, "x7K!mq02Wv9Z": true} {
		err := CheckPassword(secretvalue.FromString(password))
		if (err == nil) != allowed || err != nil && strings.Contains(err.Error(), password) {
			t.Errorf("%s: got %v", password, err)
		}
	}
}
