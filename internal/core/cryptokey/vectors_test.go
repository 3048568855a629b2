package cryptokey

import (
	"bytes"
	"compress/gzip"
	"crypto/aes"
	"crypto/ecdh"
	"crypto/hkdf"
	"crypto/hpke"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"testing"
)

func unhex(t *testing.T, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(text)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func unbase64(t *testing.T, text string) []byte {
	t.Helper()
	b, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// unpacked reads a compressed file of vectors.
func unpacked(t *testing.T, name string) []byte {
	t.Helper()
	file, err := os.Open("testdata/" + name + ".gz")
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	content, err := gzip.NewReader(file)
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(content)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// wycheproof reads a suite of project Wycheproof's vectors.
func wycheproof(t *testing.T, name string, suite any) {
	t.Helper()
	if err := json.Unmarshal(unpacked(t, "wycheproof_"+name+".json"), suite); err != nil {
		t.Fatal(err)
	}
}

// AES key wrap: RFC 3394, sections 4.1, 4.3 and 4.6.
func TestBlocksAreWrappedAsInRFC3394(t *testing.T) {
	for _, c := range []struct{ kek, key, wrapped string }{
		{"000102030405060708090A0B0C0D0E0F", "00112233445566778899AABBCCDDEEFF", "1FA68B0A8112B447AEF34BD8FB5A7B829D3E862371D2CFE5"},
		{"000102030405060708090A0B0C0D0E0F101112131415161718191A1B1C1D1E1F", "00112233445566778899AABBCCDDEEFF",
			"64E8C3F9CE0F5BA263E9777905818A2A93C8191E7D6E8AE7"},
		{"000102030405060708090A0B0C0D0E0F101112131415161718191A1B1C1D1E1F",
			"00112233445566778899AABBCCDDEEFF000102030405060708090A0B0C0D0E0F",
			"28C9F404C4B810F4CBCCB35CFB87F8263F5786E2D80ED326CBC7F0E71A99F43BFB988B9B7A02DD21"},
	} {
		block, err := aes.NewCipher(unhex(t, c.kek))
		if err != nil {
			t.Fatal(err)
		}
		text := append(unhex(t, "A6A6A6A6A6A6A6A6"), unhex(t, c.key)...)
		if wrapBlocks(block, text); !bytes.Equal(text, unhex(t, c.wrapped)) {
			t.Errorf("wrapped %x, and not %s", text, c.wrapped)
		}
		if unwrapBlocks(block, text); !bytes.Equal(text[8:], unhex(t, c.key)) {
			t.Errorf("unwrapped %x", text)
		}
	}
}

// AES key wrap with padding: RFC 5649, section 6.
func TestKeysAreWrappedAsInRFC5649(t *testing.T) {
	kek := unhex(t, "5840df6e29b02af1ab493b705bf16ea1ae8338f4dcc176a8")
	for key, want := range map[string]string{
		"c37b7e6492584340bed12207808941155068f738": "138bdeaa9b8fa7fc61f97742e72248ee5ae6ae5360d1ae6a5f54f373fa543b6a",
		"466f7250617369": "afbeb0f07dfbf5419200f2ccb50bb24f",
	} {
		wrapped, err := wrapPadded(kek, unhex(t, key))
		if err != nil || !bytes.Equal(wrapped, unhex(t, want)) {
			t.Errorf("%s: wrapped %x, %v", key, wrapped, err)
		}
		opened, err := unwrapPadded(kek, unhex(t, want))
		if err != nil || !bytes.Equal(opened, unhex(t, key)) {
			t.Errorf("%s: opened %x, %v", key, opened, err)
		}
	}
}

// A key for wrapping wraps, and no other does.
func TestOnlyAKeyForWrappingWraps(t *testing.T) {
	key, err := New(AES256, Wrapping)
	if err != nil {
		t.Fatal(err)
	}
	wrapped, err := key.Wrap([]byte("a data key of some bytes"))
	if err != nil {
		t.Fatal(err)
	}
	if opened, err := key.Unwrap(wrapped); err != nil || string(opened) != "a data key of some bytes" {
		t.Errorf("%q, %v", opened, err)
	}
	for _, c := range []struct {
		kind Type
		may  Operations
	}{{AES256, Encryption}, {HMAC256, Signing}, {RSA2048, Wrapping}} {
		other, err := New(c.kind, c.may)
		if err != nil {
			t.Fatal(err)
		}
		_, wrapErr := other.Wrap([]byte("x"))
		_, unwrapErr := other.Unwrap(wrapped)
		if wrapErr == nil || unwrapErr == nil || unwrapErr == ErrNotOpened {
			t.Errorf("%s for %s: %v, %v", c.kind, c.may, wrapErr, unwrapErr)
		}
	}
	for _, length := range []int{0, mostWrapped + 1} {
		if _, err := key.Wrap(make([]byte, length)); !isInvalid(err, "message") {
			t.Errorf("%d bytes are wrapped: %v", length, err)
		}
	}
}

// Every length opens again, and every changed bit does not.
func TestWrappedKeysThatWereChangedDoNotOpen(t *testing.T) {
	kek := bytes.Repeat([]byte{7}, 32)
	for length := 1; length <= 40; length++ {
		key := bytes.Repeat([]byte{0xab}, length)
		wrapped, err := wrapPadded(kek, key)
		if err != nil {
			t.Fatal(err)
		}
		if opened, err := unwrapPadded(kek, wrapped); err != nil || !bytes.Equal(opened, key) {
			t.Fatalf("%d bytes: %x, %v", length, opened, err)
		}
		for bit := range len(wrapped) * 8 {
			wrapped[bit/8] ^= 1 << (bit % 8)
			if _, err := unwrapPadded(kek, wrapped); err != ErrNotOpened {
				t.Fatalf("%d bytes, bit %d changed: %v", length, bit, err)
			}
			wrapped[bit/8] ^= 1 << (bit % 8)
		}
		if _, err := unwrapPadded(kek, wrapped[:len(wrapped)-8]); err != ErrNotOpened {
			t.Fatalf("cut: %v", err)
		}
	}
}

// Ed25519: project Wycheproof's vectors, with signatures that are malleable, too long, or of a point of small order.
func TestEd25519VerifiesAsProjectWycheproofSays(t *testing.T) {
	var suite struct {
		NumberOfTests int
		TestGroups    []struct {
			Key   struct{ SK string }
			Tests []struct {
				TcID                      int
				Comment, Msg, Sig, Result string
			}
		}
	}
	wycheproof(t, "ed25519", &suite)
	seen := 0
	for _, group := range suite.TestGroups {
		key, err := Bring([]byte(`{"kty":"OKP","crv":"Ed25519","d":"`+base64.RawURLEncoding.EncodeToString(unhex(t, group.Key.SK))+
			`","x":"`+publicOf(t, group.Key.SK)+`"}`), Signing)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range group.Tests {
			seen++
			err := key.Public().Verify("", Fixed, unhex(t, c.Msg), unhex(t, c.Sig))
			if (err == nil) != (c.Result == "valid") {
				t.Errorf("vector %d (%s) is %s, and here: %v", c.TcID, c.Comment, c.Result, err)
			}
			if c.Result != "valid" {
				continue
			}
			if signature, _, err := key.Sign("", Fixed, unhex(t, c.Msg)); err != nil || !bytes.Equal(signature, unhex(t, c.Sig)) {
				t.Errorf("vector %d: signed %x, %v", c.TcID, signature, err)
			}
		}
	}
	if seen != suite.NumberOfTests || seen < 100 {
		t.Errorf("%d of %d vectors were looked at", seen, suite.NumberOfTests)
	}
}

// ECDSA: NIST's vectors for verifying (CAVP, FIPS 186-4), which lie beside Go's implementation, in both forms of a signature.
func TestECDSAVerifiesAsNISTSays(t *testing.T) {
	crv, octets, seen := "", 0, map[string]int{}
	is := map[string][]byte{}
	for line := range strings.Lines(string(unpacked(t, "cavp_ecdsa.rsp"))) {
		name, value, said := strings.Cut(strings.TrimSpace(line), " = ")
		switch {
		case strings.HasPrefix(line, "["):
			crv = line[1:6]
			octets = map[string]int{"P-256": 32, "P-384": 48, "P-521": 66}[crv]
		case said && name != "Result":
			if len(value)%2 == 1 {
				value = "0" + value
			}
			is[name] = unhex(t, value)
		case said:
			fixed := func(name string) []byte { return append(make([]byte, max(0, octets-len(is[name]))), is[name]...) }
			encoded := func(name string) string { return base64.RawURLEncoding.EncodeToString(fixed(name)) }
			right := strings.HasPrefix(value, "P")
			key, err := ReadPublic([]byte(`{"kty":"EC","crv":"`+crv+`","x":"`+encoded("Qx")+`","y":"`+encoded("Qy")+`"}`), Signing)
			if err == nil {
				signature := append(fixed("R"), fixed("S")...)
				err = key.Verify("", Fixed, is["Msg"], signature)
				if der := key.Verify("", DER, is["Msg"], toDER(signature, octets)); (der == nil) != (err == nil) {
					t.Errorf("in the two forms %v and %v", err, der)
				}
			}
			if (err == nil) != right {
				t.Errorf("%s: %s, and here: %v", crv, value, err)
			}
			seen[fmt.Sprint(crv, right)]++
		}
	}
	if len(seen) != 6 || seen["P-256true"]+seen["P-256false"] != 15 || seen["P-521true"]+seen["P-521false"] != 15 {
		t.Errorf("vectors that were looked at: %v", seen)
	}
}

// publicOf is the public half of an Ed25519 seed, in base64url.
func publicOf(t *testing.T, seed string) string {
	t.Helper()
	key, err := Open(Ed25519, Signing, append(unhex(t, "302e020100300506032b657004220420"), unhex(t, seed)...)) // RFC 8410, section 7
	if err != nil {
		t.Fatal(err)
	}
	return key.Public().JWK("").X
}

// ECDSA: RFC 7515, appendix A.3. Ed25519: RFC 8037, appendices A.3 and A.4.
func TestSignaturesAreThoseOfJOSE(t *testing.T) {
	const payload = "eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ"
	es, err := Bring([]byte(`{"kty":"EC","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",
		"y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0","d":"jpsQnnGQmL-YBIffH1136cspYG6-0iY7X1fCE9-E9LI"}`), Signing)
	if err != nil {
		t.Fatal(err)
	}
	message := []byte("eyJhbGciOiJFUzI1NiJ9." + payload)
	signature := unbase64(t, "DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q")
	if err := es.Public().Verify(SchemeES256, Fixed, message, signature); err != nil {
		t.Errorf("RFC 7515, A.3: %v", err)
	}
	if err := es.Public().Verify(SchemeES256, DER, message, signature); err != ErrNotVerified {
		t.Errorf("in the other form: %v", err)
	}
	ed, err := Bring([]byte(`{"kty":"OKP","crv":"Ed25519","d":"nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A",
		"x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}`), Signing)
	if err != nil {
		t.Fatal(err)
	}
	got, _, err := ed.Sign("", Fixed, []byte("eyJhbGciOiJFZERTQSJ9.RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc"))
	want := "hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg"
	if base64.RawURLEncoding.EncodeToString(got) != want || err != nil {
		t.Errorf("RFC 8037, A.4: %x, %v", got, err)
	}
	if ed.Public().Thumbprint() != "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k" { // RFC 8037, appendix A.3
		t.Errorf("thumbprint %s", ed.Public().Thumbprint())
	}
}

// HMAC: RFC 4231, test case 2, with a key that is made as long as ours are by the rule of HMAC itself: zeros behind it change nothing.
func TestMACsAreThoseOfRFC4231(t *testing.T) {
	for kind, want := range map[Type]string{
		HMAC256: "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843",
		HMAC384: "af45d2e376484031617f78d2b58a6b1b9c7ef464f5a01b47e42ec3736322445e8e2240ca5e69e2c78b3239ecfab21649",
		HMAC512: "164b7a7bfcf819e2e395fbe73b56e0a387bd64222e831fd610270cd7ea250554" +
			"9758bf75c05a994a6d034f65f8f0e6fdcaeab1a34d4a6b4b636e070a38bce737",
	} {
		key, err := Open(kind, Signing, append([]byte("Jefe"), make([]byte, secretSize[kind]-4)...))
		if err != nil {
			t.Fatal(err)
		}
		mac, _, err := key.Sign("", Fixed, []byte("what do ya want for nothing?"))
		if err != nil || hex.EncodeToString(mac) != want {
			t.Errorf("%s: %x, %v", kind, mac, err)
		}
		if err := key.Verify("", Fixed, []byte("what do ya want for nothing?"), mac); err != nil {
			t.Errorf("%s: %v", kind, err)
		}
		mac[0] ^= 1
		if err := key.Verify("", Fixed, []byte("what do ya want for nothing?"), mac); err != ErrNotVerified {
			t.Errorf("%s: changed, and %v", kind, err)
		}
	}
}

// X25519: RFC 7748, section 6.1, and project Wycheproof's vectors; what is derived is HKDF of the shared secret that they have. With a peer
// of small order, where that secret is zero, nothing is derived.
func TestX25519AgreesAsProjectWycheproofSays(t *testing.T) {
	type vector struct {
		TcID                             int
		Comment, Public, Private, Shared string
	}
	var suite []vector
	wycheproof(t, "x25519", &suite)
	suite = append(suite, vector{Comment: "RFC 7748, section 6.1",
		Private: "77076d0a7318a57d3c16c17251b26645df4c2f87ebc0992ab177fba51db92c2a",
		Public:  "de9edb7d7b7dc1b4d35b61c2ece435373f8343c85b78674dadfc7e146f882b4f",
		Shared:  "4a5d9d5ba4ce2de1728e3bf480350f25e07e21c947d19e3376f09b3c1e161742"})
	if len(suite) < 80 {
		t.Fatalf("%d vectors", len(suite))
	}
	for _, c := range suite {
		key, err := Open(X25519, Agreement, append(unhex(t, "302e020100300506032b656e04220420"), unhex(t, c.Private)...)) // RFC 8410
		if err != nil {
			t.Fatal(err)
		}
		public, err := ecdh.X25519().NewPublicKey(unhex(t, c.Public))
		if err != nil {
			t.Fatal(err)
		}
		got, err := key.Agree(&Public{kind: X25519, may: Agreement, key: public}, []byte("salt"), []byte("tickets"), 32)
		if c.Shared == strings.Repeat("0", 64) {
			if !isInvalid(err, "peer") {
				t.Errorf("vector %d (%s): %v", c.TcID, c.Comment, err)
			}
			continue
		}
		want, hkdfErr := hkdf.Key(sha256.New, unhex(t, c.Shared), []byte("salt"), "tickets", 32)
		if err != nil || hkdfErr != nil || !bytes.Equal(got, want) {
			t.Errorf("vector %d (%s): %x, %v", c.TcID, c.Comment, got, err)
		}
	}
}

// Both sides derive the same, and something else for another purpose.
func TestBothSidesAgree(t *testing.T) {
	one, err := New(X25519, Agreement)
	if err != nil {
		t.Fatal(err)
	}
	two, err := New(X25519, Agreement)
	if err != nil {
		t.Fatal(err)
	}
	tickets, err := one.Agree(two.Public(), nil, []byte("tickets"), 32)
	if err != nil {
		t.Fatal(err)
	}
	if same, err := two.Agree(one.Public(), nil, []byte("tickets"), 32); err != nil || !bytes.Equal(tickets, same) {
		t.Errorf("%x and %x, %v", tickets, same, err)
	}
	if gates, _ := two.Agree(one.Public(), nil, []byte("gates"), 32); bytes.Equal(tickets, gates) {
		t.Error("the same bytes for another purpose")
	}
}

// The seeds of draft-ietf-hpke-pq's vectors for the KEM 0x647a, as they lie beside Go's implementation, give the public halves of these.
func TestHybridKeysAreThoseOfTheDraft(t *testing.T) {
	for seed, public := range map[string]string{
		"b3f98b03126a431ccecc62ae0f68e102c2d8e1cc7b21ba85d821d8e31761e0f8": "120b60e0ae3c00c1c9def1c61aeb12de710bfa49646ae6f99a7e564b25ace493",
		"977e67dd1cb3cbe7d2ba07816bd3d3d00f9b57a1c69426a628f4a1ca5ecb49fc": "672edcd9fc7874e45fe644c88bdf42acda487160a407e592d7e39e08043ab641",
	} {
		k := must[*Key](t)(Open(Hybrid, Encryption, unhex(t, seed)))
		sum := sha256.Sum256(unbase64(t, k.Public().JWK("").Pub))
		if got := hex.EncodeToString(sum[:]); got != public {
			t.Errorf("the public half of %s has the digest %s", seed, got)
		}
	}
}

// What is encrypted to the public half is a JWE whose content key any implementation of HPKE opens, and what was changed anywhere is not
// opened, by the same error.
func TestHybridJWEsAreHPKE(t *testing.T) {
	k := must[*Key](t)(New(Hybrid, Encryption))
	public := must[*Public](t)(ReadPublic(must[[]byte](t)(json.Marshal(k.Public().JWK("it_x.1"))), Encryption))
	sealed := must[[]byte](t)(public.Encrypt("it_x.1", []byte("passport number"), nil))
	parsed := must[*Sealed](t)(ParseSealed(sealed))
	if got := must[[]byte](t)(k.Decrypt(parsed, nil)); string(got) != "passport number" || parsed.KeyID() != "it_x.1" {
		t.Errorf("%s under %s", got, parsed.KeyID())
	}
	kem, kdf, aead := hpke.MLKEM768X25519(), hpke.HKDFSHA256(), hpke.AES256GCM()
	theirs := must[hpke.PrivateKey](t)(kem.NewPrivateKey(must[[]byte](t)(k.Stored())))
	content, err := hpke.Open(theirs, kdf, aead, hybridInfo, unbase64(t, parsed.parts.Encrypted))
	if err != nil || len(content) != 32 {
		t.Errorf("by HPKE itself: %v", err)
	}
	other := must[*Key](t)(New(Hybrid, Encryption))
	if _, err := other.Decrypt(parsed, nil); !errors.Is(err, ErrNotOpened) {
		t.Errorf("by another key: %v", err)
	}
	if _, err := k.Decrypt(parsed, []byte("booking 4711")); !errors.Is(err, ErrNotOpened) {
		t.Errorf("bound to something else: %v", err)
	}
	parts := strings.Split(string(sealed), ".")
	for i, part := range parts {
		for _, at := range []int{0, len(part) / 2} {
			changed := slices.Clone(parts)
			letter := byte('A')
			if part[at] == letter {
				letter = 'B'
			}
			changed[i] = part[:at] + string(letter) + part[at+1:]
			if s, err := ParseSealed([]byte(strings.Join(changed, "."))); err == nil {
				if _, err := k.Decrypt(s, nil); !errors.Is(err, ErrNotOpened) {
					t.Errorf("part %d changed at %d: %v", i, at, err)
				}
			}
		}
	}
	for what, text := range map[string]string{"without its seed": `{"kty":"AKP","alg":"` + algorithmHybrid + `"}`,
		"another algorithm": `{"kty":"AKP","alg":"ML-DSA-65","priv":"AAAA"}`,
		"a short seed":      `{"kty":"AKP","alg":"` + algorithmHybrid + `","priv":"AAAA"}`,
		"another's public half": strings.Replace(string(must[[]byte](t)(Given(Hybrid, must[[]byte](t)(k.Stored())))), k.Public().JWK("").Pub,
			other.Public().JWK("").Pub, 1)} {
		if _, err := Bring([]byte(text), Encryption); err == nil {
			t.Errorf("%s is brought", what)
		}
	}
}
