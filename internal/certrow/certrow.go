// Package certrow is what the row of a version says of a certificate, and how what is stored of one is checked.
package certrow

import (
	"crypto"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/cert"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
)

// Facts are what is known of a version of a certificate, an authority or a profile without opening it.
type Facts struct {
	cert.Facts
	Made    string `json:"made,omitempty"`    // the profile, by the item's id, that it was issued by; empty for none of the chest's
	Request string `json:"request,omitempty"` // what a certificate was requested with, in PEM, while there is none
	// Of a profile, all that it says; nil for a certificate.
	Profile *cert.Profile `json:"profile,omitempty"`
	Revoked string        `json:"revoked,omitempty"` // the reason for which its authority has revoked it; empty for none
	Signer  string        `json:"signer,omitempty"`  // and the authority that it names, by the item's id
}

// Of reads what a row says; nil for an item of another kind.
func Of(text string) *Facts {
	var f Facts
	if text == "" || json.Unmarshal([]byte(text), &f) != nil {
		return nil
	}
	return &f
}

// Profile checks the content of a profile, and returns what its row says.
func Profile(content []byte) (*Facts, error) {
	p, err := cert.ReadProfile(content)
	if err != nil {
		return nil, Told(err)
	}
	return &Facts{Profile: &p}, nil
}

// Complete checks the fields of a certificate, or of an authority, and returns them with what its row says: the chain in the order that TLS
// has it, its key the one that is given. Made is the profile that it was issued by. A certificate may be missing where there is a request
// for one: then it waits for its answer.
func Complete(shape secretvalue.Shape, fields secretvalue.Fields, made string) (secretvalue.Fields, *Facts, []string, error) {
	private, _ := fields.Find("private")
	key, err := cert.ReadPrivate(private.Value.Reveal())
	if err != nil {
		return nil, nil, nil, Told(err)
	}
	given, has := fields.Find("certificate")
	request, asked := fields.Find("request")
	if !has && !asked {
		return nil, nil, nil, chest.Invalid("fields", "field certificate is missing")
	}
	if !has {
		return waiting(fields, request.Value.Reveal(), key)
	}
	chain, notes, err := cert.ReadChain(given.Value.Reveal(), key.Public())
	if err != nil {
		return nil, nil, nil, Told(err)
	}
	f := &Facts{Facts: cert.Describe(chain[0]), Made: made}
	switch {
	case shape == secretvalue.Authority && !f.Authority:
		return nil, nil, nil, chest.Invalid("fields", "the certificate is not that of an authority: it may sign no others")
	case shape == secretvalue.Authority && f.SelfSigned && chain[0].CheckSignatureFrom(chain[0]) != nil:
		return nil, nil, nil, chest.Invalid("fields", "the certificate says that it is signed by itself, and is not")
	case shape == secretvalue.Certificate && f.Authority:
		notes = append(notes, "this is the certificate of an authority, and whoever may read it gets a key that can sign others: make an "+
			"authority of it (tansu authority bring), whose key stays in the chest")
	}
	if asked {
		notes = append(notes, "the request is not kept: its answer is here")
	}
	return secretvalue.Fields{{Name: "certificate", Value: secretvalue.New(cert.PEM(chain)), Plain: true}, private}, f, notes, nil
}

// waiting is a key for which a certificate was requested.
func waiting(fields secretvalue.Fields, request []byte, key crypto.Signer) (secretvalue.Fields, *Facts, []string, error) {
	r, err := cert.ReadRequest(request)
	if err != nil {
		return nil, nil, nil, Told(err)
	}
	if !cert.SameKey(r.Public, key.Public()) {
		return nil, nil, nil, chest.Invalid("fields", "the request is for another key than the private one")
	}
	f := &Facts{Facts: cert.Facts{CommonName: r.Subject, Names: r.Names.Texts(), KeyType: r.KeyType}, Request: string(request)}
	return fields, f, nil, nil
}

// Where finds where an item is now, which facts name by its id: a profile, or what signs.
func Where(st *chest.Snapshot, id string) (spot chest.Spot, ref reference.Reference, is bool) {
	if ref.Drawer, ref.Item, is = strings.Cut(st.NameOf(id), "/"); !is {
		return spot, ref, false
	}
	spot = st.At(ref.Drawer, ref.Item)
	return spot, ref, spot.Item != nil
}

// Text is what a row says; nothing, of an item of another kind.
func (f *Facts) Text() string {
	if f == nil {
		return ""
	}
	text, _ := json.Marshal(f) // texts, numbers and times only
	return string(text)
}

// Waits reports whether there is a request, and no certificate yet.
func (f *Facts) Waits() bool { return f != nil && f.Request != "" }

// Follows refuses a version of an authority that has another key than those before it: what it has signed would not be checked by it, and
// what it revokes not be believed.
func Follows(row entity.Item, before []entity.Version, f *Facts) error {
	if row.Kind != entity.KindAuthority || len(before) == 0 {
		return nil
	}
	if first := Of(before[0].Facts); first == nil || f == nil || first.KeyID != f.KeyID || first.Subject != f.Subject {
		return chest.Invalid("certificate", "an authority keeps its key and its name: make another authority for another key")
	}
	return nil
}

// Window is when a version of a certificate is served: as long as the certificate is valid, or shorter, as it is asked for.
func (f *Facts) Window(notBefore, notAfter, now time.Time) (from, until time.Time, err error) {
	from, until = notBefore, notAfter
	if f == nil || f.NotAfter.IsZero() {
		return from, until, nil
	}
	switch {
	case !f.NotAfter.After(now):
		return from, until, chest.Invalid("certificate", "the certificate ended on %s", f.NotAfter.Format(time.RFC3339))
	case until.After(f.NotAfter):
		return from, until, chest.Invalid("not_after", "the certificate ends before that, on %s", f.NotAfter.Format(time.RFC3339))
	case until.IsZero():
		until = f.NotAfter
	}
	if f.NotBefore.After(now) && from.Before(f.NotBefore) {
		from = f.NotBefore
	}
	return from, until, nil
}

// Told is an error about a certificate as it is answered.
func Told(err error) error {
	var invalid *cert.InvalidError
	if errors.As(err, &invalid) {
		return chest.Invalid(invalid.Field, "%s", invalid.Text)
	}
	return err
}
