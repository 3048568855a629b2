// Package keyrow is what the row of an item says of a key, and how a version of one is made.
package keyrow

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"tansu/internal/chest"
	"tansu/internal/core/cert"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
)

// Facts are what is said of a key for good, when it is made.
type Facts struct {
	Type       cryptokey.Type       // empty for that of a key that is brought
	Operations cryptokey.Operations // 0 for what keys of the type are usually for
	GivenOut   bool                 // whether its bytes may be read
}

// Of is what a row says of its key; nil for a secret.
func Of(row entity.Item) *Facts {
	if row.KeyType == "" {
		return nil
	}
	ops, _ := cryptokey.ParseOperations(strings.Fields(row.KeyOps)) // checked when it was stored
	return &Facts{Type: cryptokey.Type(row.KeyType), Operations: ops, GivenOut: row.GivenOut}
}

// Into writes the facts into the row of a new item; those of a secret are nil, and nothing is written.
func (f *Facts) Into(row *entity.Item) {
	if f != nil {
		row.Kind, row.Shape, row.KeyType = entity.KindKey, string(secretvalue.Key), string(f.Type)
		row.KeyOps, row.GivenOut = strings.Join(f.Operations.Names(), " "), f.GivenOut
	}
}

// Usual are the operations that keys of a type are usually for; of an unknown type, those of which a key of some type has one.
func Usual(kind cryptokey.Type) []cryptokey.Operations {
	if about, known := kind.Facts(); known {
		return about.Operations
	}
	return []cryptokey.Operations{cryptokey.Signing, cryptokey.Encryption, cryptokey.Agreement}
}

// bring reads a key that was made elsewhere; it is for what is said of it, or for what is usual.
func (f *Facts) bring(text []byte) (key *cryptokey.Key, err error) {
	if f.Operations != 0 {
		return cryptokey.Bring(text, f.Operations)
	}
	for _, f.Operations = range Usual(f.Type) {
		if key, err = cryptokey.Bring(text, f.Operations); err == nil {
			break
		}
	}
	return key, err
}

// Make makes a new version of a key, or takes one that was made elsewhere, and returns it as it is stored, with its public half as a JWK.
// What was left open of the facts is filled in.
func (f *Facts) Make(brought []byte) (stored []byte, public string, err error) {
	var made *cryptokey.Key
	if len(brought) > 0 {
		made, err = f.bring(brought)
	} else {
		if about, known := f.Type.Facts(); known && f.Operations == 0 {
			f.Operations = about.Operations[0]
		}
		made, err = cryptokey.New(f.Type, f.Operations)
	}
	if err != nil {
		return nil, "", Told(err)
	}
	if f.Type != "" && made.Type() != f.Type {
		return nil, "", chest.Invalid("brought", "the key is of the type %s, and not %s", made.Type(), f.Type)
	}
	f.Type = made.Type()
	if half := made.Public(); half != nil {
		text, err := json.Marshal(half.JWK(""))
		if err != nil {
			return nil, "", err
		}
		public = string(text)
	}
	stored, err = made.Stored()
	return stored, public, err
}

// JWTAlgorithms are the names that JOSE has for how a key of the type signs; the first is the usual one in tokens.
func (f *Facts) JWTAlgorithms() (names []string) {
	for _, scheme := range f.Type.Schemes() {
		if scheme == cryptokey.SchemeEd25519 {
			names = append(names, cert.EdDSA) // which verifiers know
		}
		names = append(names, string(scheme))
	}
	return names
}

// Told is an error about a key as it is answered.
func Told(err error) error {
	var invalid *cryptokey.InvalidError
	if errors.As(err, &invalid) {
		return chest.Invalid(invalid.Field, "%s", invalid.Text)
	}
	return err
}

// ID names a version of a key to whoever has something that was made with it (the kid of RFC 7517): it stays when the key is renamed.
func ID(item string, version int) string { return fmt.Sprintf("%s.%d", item, version) }

// Published is the public half of a version, as a JWK with the version's ID; empty for none.
func Published(item string, row entity.Version) string {
	var jwk cryptokey.JWK
	if row.PublicKey == "" || json.Unmarshal([]byte(row.PublicKey), &jwk) != nil {
		return ""
	}
	jwk.KeyID = ID(item, row.Number)
	text, _ := json.Marshal(jwk) // texts only
	return string(text)
}

// VersionOf reads an ID of the same key; 0 for that of another one, or none.
func VersionOf(item, id string) int {
	number, of := strings.CutPrefix(id, item+".")
	version, err := strconv.Atoi(number)
	if !of || err != nil || version < 1 || strconv.Itoa(version) != number {
		return 0
	}
	return version
}
