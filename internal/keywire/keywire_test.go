package keywire

import (
	"encoding/json"
	"reflect"
	"testing"

	"tansu/client"
	"tansu/internal/keys"
)

// What is read the fast way is what the strict decoder reads; what only that can read, or refuse, is left to it.
func TestPlainUsesAreThoseOfTheStrictDecoder(t *testing.T) {
	written, err := json.Marshal(client.KeyUses{Uses: []client.KeyUse{{Op: "sign", Message: []byte("line 4"), Scheme: "PS256"},
		{Op: "encrypt", Message: []byte{}, Associated: []byte("booking 1")}, {Op: "decrypt", JWE: "a.b.c.d.e"},
		{Op: "verify", Message: []byte{0, 1, 2}, Signature: []byte{255}}}})
	if err != nil {
		t.Fatal(err)
	}
	for _, body := range []string{string(written), string(written) + "\n", `{"uses":[{"op":"sign"}]}`, `{"uses":[{"message":"","op":"sign"}]}`} {
		plain, ok := plainUses([]byte(body))
		strict, err := decode([]byte(body))
		if !ok || err != nil || !reflect.DeepEqual(used(plain), used(strict)) {
			t.Errorf("%s: %v %+v, and strictly %+v, %v", body, ok, plain, strict, err)
		}
	}
	for _, body := range []string{``, `{}`, `{"uses":[]}`, `{"uses":[{}]}`, `{"uses":[{"op":"sign"}`, `{"uses":[{"op":"sign"}]} `, `{"uses":[{"op":"sign"}]}}`,
		`{"uses":[{"op":"sign","op":"sign"}]}`, `{"uses":[{"op":"si\u0067n"}]}`, `{"uses":[{"op":1}]}`, `{"uses":[{"op":"sign","message":"_w=="}]}`,
		`{"uses":[{"op":"sign","message":"AB=="}]}`, `{"uses":[{"Op":"sign"}]}`, `{"uses":[{"op":"sign","length":16}]}`, `{"uses":[{"op":"sign"},]}`,
		`{"uses":[{"op":"sign",}]}`, `{"uses":[{"op":"s` + "\x01" + `"}]}`, `{"uses":[{"op":"sign"}],"more":1}`} {
		if plain, ok := plainUses([]byte(body)); ok {
			t.Errorf("%q is read the fast way: %+v", body, plain)
		}
	}
}

// used makes nothing and an empty text one: no use tells them apart, but for associated data.
func used(uses []keys.Use) []keys.Use {
	for i := range uses {
		for _, field := range []*[]byte{&uses[i].Message, &uses[i].Signature, &uses[i].Peer, &uses[i].Salt, &uses[i].Info} {
			if len(*field) == 0 {
				*field = nil
			}
		}
	}
	return uses
}

// Every answer is what the client reads, whatever is in it.
func TestResultsAreReadByTheClient(t *testing.T) {
	for _, c := range []struct {
		op     keys.Op
		result keys.Result
		want   client.KeyResult
	}{
		{keys.Sign, keys.Result{Version: 3, Scheme: "PS256", Signature: []byte{0, 255}}, client.KeyResult{Version: 3, Scheme: "PS256",
			Signature: []byte{0, 255}}},
		{keys.Encrypt, keys.Result{Version: 1, Ciphertext: []byte(`{"protected":"a","aad":"b"}`)},
			client.KeyResult{Version: 1, JWE: `{"protected":"a","aad":"b"}`}},
		{keys.Wrap, keys.Result{Version: 1, Ciphertext: []byte{1, '"'}}, client.KeyResult{Version: 1, Wrapped: []byte{1, '"'}}},
		{keys.Decrypt, keys.Result{Version: 2, Plaintext: []byte("passport")}, client.KeyResult{Version: 2, Plaintext: []byte("passport")}},
		{keys.Verify, keys.Result{Version: 2, Valid: true}, client.KeyResult{Version: 2, Valid: true}},
	} {
		answer := Append(nil, c.result, c.op)
		var got client.KeyResult
		if err := json.Unmarshal(answer, &got); err != nil || !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %s is read as %+v, %v", c.op, answer, got, err)
		}
		if room := Room([]keys.Result{c.result}); room < len(answer) {
			t.Errorf("%s: %d bytes of room for %d", c.op, room, len(answer))
		}
	}
}
