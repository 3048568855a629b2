// Package keywire is how uses of keys, and what comes of them, lie in the bodies of requests and answers.
package keywire

import (
	"bytes"
	"encoding/base64"
	"strconv"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/cryptokey"
	"tansu/internal/keys"
	"tansu/internal/strictjson"
)

// Uses reads a client.KeyUses.
func Uses(body []byte) ([]keys.Use, error) {
	if uses, plain := plainUses(body); plain {
		return uses, nil
	}
	return decode(body)
}

// decode reads uses strictly.
func decode(body []byte) ([]keys.Use, error) {
	var asked client.KeyUses
	if err := strictjson.Decode(body, &asked); err != nil {
		return nil, err
	}
	uses := make([]keys.Use, len(asked.Uses))
	for i, u := range asked.Uses {
		form, known := forms[u.Form]
		if !known {
			return nil, chest.Invalid("form", "%.20q is not a form of a signature: fixed or der", u.Form)
		}
		uses[i] = keys.Use{Op: keys.Op(u.Op), Message: u.Message, Signature: u.Signature, Ciphertext: u.Wrapped, Associated: u.Associated,
			Scheme: cryptokey.Scheme(u.Scheme), Form: form, Peer: []byte(u.Peer), Salt: u.Salt, Info: u.Info, Length: u.Length, Hidden: u.Hidden}
		if u.JWE != "" {
			uses[i].Ciphertext = []byte(u.JWE)
		}
	}
	return uses, nil
}

var forms = map[string]cryptokey.Form{"": cryptokey.Fixed, "fixed": cryptokey.Fixed, "der": cryptokey.DER}

// plainUses reads uses as clients mostly write them, which takes a fifth of the time of the strict decoder: that matters where hundreds of
// messages come in one call. It is not ok for any other form.
func plainUses(body []byte) (uses []keys.Use, ok bool) {
	room := make([]byte, 0, len(body)*3/4+3) // of all that is decoded
	count, ok := strictjson.PlainObjects(body, "uses", func(i int, member, value []byte, text bool) bool {
		if i == len(uses) {
			uses = append(uses, keys.Use{})
		}
		u := &uses[i]
		var into *[]byte
		switch string(member) {
		case "op":
			u.Op = keys.Op(value)
		case "scheme":
			u.Scheme = cryptokey.Scheme(value)
		case "jwe":
			u.Ciphertext = bytes.Clone(value)
		case "message":
			into = &u.Message
		case "signature":
			into = &u.Signature
		case "associated":
			into = &u.Associated
		default:
			return false
		}
		if into != nil && text {
			from := len(room)
			var err error
			if room, err = base64.StdEncoding.Strict().AppendDecode(room, value); err != nil {
				return false
			}
			*into = room[from:len(room):len(room)]
		}
		return text
	})
	return uses, ok && count == len(uses)
}

// Room is about how many bytes results take in an answer: growing would leave copies behind.
func Room(results []keys.Result) (room int) {
	for _, r := range results {
		text := len(r.Ciphertext)
		if text > 0 && r.Ciphertext[0] == '{' || r.Err != nil {
			text = 2*text + 512 // with a backslash before each quote; or a problem instead
		}
		room += 128 + base64.StdEncoding.EncodedLen(text) + base64.StdEncoding.EncodedLen(len(r.Plaintext)) +
			base64.StdEncoding.EncodedLen(len(r.Signature)) + len(r.PublicKey)
	}
	return room
}

// Append writes a client.KeyResult.
func Append(b []byte, r keys.Result, op keys.Op) []byte {
	b = strconv.AppendInt(append(b, `{"version":`...), int64(r.Version), 10)
	if r.Scheme != "" {
		b = append(append(append(b, `,"scheme":"`...), r.Scheme...), '"')
	}
	for name, content := range map[string][]byte{"signature": r.Signature, "plaintext": r.Plaintext} {
		if len(content) > 0 {
			b = base64.StdEncoding.AppendEncode(append(append(append(b, `,"`...), name...), `":"`...), content)
			b = append(b, '"')
		}
	}
	switch {
	case len(r.Ciphertext) == 0:
	case op == keys.Wrap:
		b = append(base64.StdEncoding.AppendEncode(append(b, `,"wrapped":"`...), r.Ciphertext), '"')
	default:
		text := r.Ciphertext // printable ASCII
		if bytes.IndexByte(text, '"') >= 0 {
			text = bytes.ReplaceAll(text, []byte(`"`), []byte(`\"`))
		}
		b = append(append(append(b, `,"jwe":"`...), text...), '"')
	}
	if r.Valid {
		b = append(b, `,"valid":true`...)
	}
	if r.PublicKey != "" {
		b = append(append(b, `,"public_key":`...), r.PublicKey...)
	}
	return append(b, '}')
}
