package recipient

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"errors"
	"strings"
	"testing"

	"github.com/go-jose/go-jose/v4"
)

func pair(t *testing.T, hybrid bool) (Private, Public, []byte) {
	t.Helper()
	secret, public, err := New(hybrid)
	if err != nil {
		t.Fatal(err)
	}
	mine, err := ReadPrivate(secret.Reveal())
	if err != nil {
		t.Fatal(err)
	}
	theirs, err := ReadPublic(public)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := ReadPublic(secret.Reveal()); !errors.Is(err, errPrivate) {
		t.Errorf("a private key as a public one: %v", err)
	}
	if _, err := ReadPrivate(public); err == nil {
		t.Error("a public key as a private one")
	}
	return mine, theirs, public
}

// Each way opens with its own key alone, whole, and with nothing changed.
func TestOnlyTheRecipientOpensIt(t *testing.T) {
	content := []byte("what is for the audit desk only")
	keys := map[string]Private{}
	sealed := map[string][]byte{}
	for name, hybrid := range map[string]bool{"JWE": false, "another JWE": false, "HPKE": true, "another HPKE": true} {
		mine, theirs, _ := pair(t, hybrid)
		keys[name] = mine
		for what, public := range map[string]Public{name: theirs, name + ", by the other half": mine.Public()} {
			text, err := public.Seal(content)
			if err != nil || bytes.Contains(text, content) || bytes.ContainsAny(text, "\n") {
				t.Fatalf("%s: %v %s", what, err, text)
			}
			sealed[what] = text
		}
	}
	for what, text := range sealed {
		for name, key := range keys {
			got, err := key.Open(append(bytes.Clone(text), '\n'))
			if name == strings.TrimSuffix(what, ", by the other half") {
				if err != nil || !bytes.Equal(got, content) {
					t.Errorf("%s opened by its own key: %q, %v", what, got, err)
				}
			} else if !errors.Is(err, ErrNotMine) {
				t.Errorf("%s opened by %s: %q, %v", what, name, got, err)
			}
		}
		own := keys[strings.TrimSuffix(what, ", by the other half")]
		for _, at := range []int{len(text) / 3, len(text) / 2, len(text) - 6} {
			changed := bytes.Clone(text)
			if changed[at]++; changed[at] == '.' {
				changed[at]++
			}
			if got, err := own.Open(changed); err == nil && !bytes.Equal(got, content) {
				t.Errorf("%s with a byte changed at %d opened to %q", what, at, got)
			}
		}
	}
}

func TestKeysThatCannotBeRecipientsAreNamed(t *testing.T) {
	_, _, hybrid := pair(t, true)
	weak, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	good, err := (&jose.JSONWebKey{Key: &weak.PublicKey}).MarshalJSON()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := ReadPublic(good); err != nil {
		t.Errorf("an RSA key: %v", err)
	}
	with := func(field string) string { return strings.Replace(string(good), "{", "{"+field+",", 1) }
	for _, field := range []string{`"use":"enc"`, `"key_ops":["wrapKey"]`, `"alg":"RSA-OAEP-256"`} {
		if _, err := ReadPublic([]byte(with(field))); err != nil {
			t.Errorf("an RSA key with %s: %v", field, err)
		}
	}
	long := make([]byte, 20_000) // to encrypt to it would take seconds
	long[0], long[len(long)-1] = 0x80, 1
	for text, says := range map[string]string{
		`{"kty":"RSA","e":"AQAB","n":"` + base64.RawURLEncoding.EncodeToString(long) + `"}`: "160000 bits",
		with(`"use":"sig"`):          `use is "sig"`,
		with(`"key_ops":["verify"]`): "a key for verify",
		with(`"alg":"RS256"`):        `a key for "RS256"`,
		"":                           "is not a key",
		"{}":                         "is not a key",
		`{"kty":"oct","k":"AAECAwQFBgcICQoLDA0ODw"}`:                                      "is not a key",
		`{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}`: `kind "OKP"`,
		`{"kem":16,"public_key":"AAAA"}`:                                                  "KEM 16",
		`{"kem":25722,"public_key":"AAAA"}`:                                               "damaged",
		string(bytes.Replace(hybrid, []byte("2"), nil, 1)):                                "KEM",
		string(bytes.Replace(hybrid, []byte("public"), []byte("private"), 1)):             "private key",
	} {
		if _, err := ReadPublic([]byte(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%.60s: %v", text, err)
		}
	}
	mine, _, _ := pair(t, false)
	for _, text := range []string{"", "{}", "a.b.c.d.e", `{"kem":16,"sealed":"AAAA"}`} {
		if _, err := mine.Open([]byte(text)); !errors.Is(err, ErrNotSealed) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
