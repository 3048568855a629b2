package service

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/go-jose/go-jose/v4"

	"tansu/internal/core/access"
	"tansu/internal/core/importfile"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// NewExport says what is given out of a drawer, how it is written, and to whom it is encrypted.
type NewExport struct {
	Format    importfile.Format // importfile.Dotenv or importfile.JSON
	Recipient []byte            // a public key as JWK (RFC 7517); empty only with Clear
	Clear     bool              // in clear, to somebody who said so
}

// Exported is what became of one item.
type Exported struct {
	Reference string
	Version   int    // 0 when it is not in the file
	Why       string // it is not
}

// Export is a file, and what is in it.
type Export struct {
	Content secretvalue.Value // a JWE in compact form (RFC 7516, section 3.1), or the file in clear
	Items   []Exported
}

// recipientAlgorithms are those that a recipient's key can be for: key agreement or encryption that hides which key was
// used from nobody, and nothing with PKCS #1 v1.5 (RFC 8725, section 3.2).
var recipientAlgorithms = map[string]jose.KeyAlgorithm{"EC": jose.ECDH_ES_A256KW, "OKP": jose.ECDH_ES_A256KW, "RSA": jose.RSA_OAEP_256}

// mostExported bounds one file.
const mostExported = 10_000

// ExportDrawer writes the current values of a drawer that the caller may read into one file, encrypted to a recipient
// unless it is asked for in clear. Each value in it is in the trail as read, before the file is given out.
func (s *Service) ExportDrawer(c Caller, drawer string, n NewExport) (e Export, err error) {
	if err := checkName("drawer", drawer); err != nil {
		return e, err
	}
	if n.Format != importfile.Dotenv && n.Format != importfile.JSON {
		return e, invalid("format", "format is dotenv or json")
	}
	encrypter, err := n.encrypter()
	if err != nil {
		return e, err
	}
	a, err := s.allow(c, access.List, drawer)
	if err != nil {
		return e, err
	}
	a.entry.Action, a.entry.Detail = "export", "encrypted"
	if n.Clear {
		a.entry.Detail = "in clear"
	}
	var file exportFile
	err = s.view(func(st *state) error {
		d := st.drawers[drawer]
		if d == nil {
			return notFound("drawer "+drawer, s.nearestDrawer(st, c, drawer, a.entry.At))
		}
		return st.each(d, store.ItemFilter{}, func(it *item) bool {
			if it.life.RetiredAt.IsZero() && st.mayList(c, d, it, a.entry.At) {
				s.exportOne(st, c, a, &file, &e, reference.Reference{Drawer: drawer, Item: it.row.Name})
			}
			return len(e.Items) <= mostExported
		})
	})
	if err == nil && len(e.Items) > mostExported {
		err = &Error{Code: NotPossible, Detail: fmt.Sprintf("there are more than %d items in %s, which is the most that one file takes", mostExported, drawer)}
	}
	if err != nil {
		return Export{}, a.fail(err)
	}
	if len(a.more) == 0 {
		return e, a.fail(&Error{Code: NotPossible, Detail: "there is nothing in " + drawer + " whose value you may read and that is served now"})
	}
	a.entry.Detail += fmt.Sprintf(", %d values", len(a.more))
	content, err := file.write(n.Format)
	if err == nil && encrypter != nil {
		content, err = encrypted(encrypter, content)
	}
	if err != nil {
		return Export{}, a.fail(err)
	}
	e.Content = secretvalue.New(content)
	return answer(a, e)
}

func (s *Service) exportOne(st *state, c Caller, a *attempt, file *exportFile, e *Export, ref reference.Reference) {
	one := Exported{Reference: ref.String()}
	decision := st.decide(c.id, access.ReadValue, c.context(a.entry.At), ref.Drawer, ref.Item)
	if !decision.Allowed {
		one.Why = "you may not read it"
		e.Items = append(e.Items, one)
		return
	}
	served, err := s.decrypt(st, c, ref, a.entry.At, toShow)
	if err != nil {
		one.Why = storeError(err, one.Reference).Error()
		e.Items = append(e.Items, one)
		return
	}
	defer served.Content.Wipe()
	if problem := file.add(ref.Item, served); problem != "" {
		one.Why = problem
		e.Items = append(e.Items, one)
		return
	}
	one.Version = served.Reference.Version
	e.Items = append(e.Items, one)
	entry := a.entry
	entry.Action, entry.Target, entry.Version, entry.Grant, entry.Outcome, entry.Detail = access.ReadValue.String(), one.Reference, one.Version, decision.Grant, trail.Allowed, "by export, "+a.entry.Detail
	a.more = append(a.more, entry)
}

// exportFile is the values on their way into a file, in the order of names.
type exportFile struct{ names, values []string }

// add takes a value in; what a text file cannot hold is left out and said.
func (f *exportFile) add(name string, served Served) (problem string) {
	content := string(served.Content.Reveal())
	if strings.ContainsRune(content, 0) || strings.ToValidUTF8(content, "") != content {
		return "it is not text; read it by itself (tansu read --out)"
	}
	f.names, f.values = append(f.names, name), append(f.values, content)
	return ""
}

// write writes what importfile reads back.
func (f *exportFile) write(format importfile.Format) ([]byte, error) {
	if format == importfile.JSON {
		values := make(map[string]string, len(f.names))
		for i, name := range f.names {
			values[name] = f.values[i]
		}
		return json.MarshalIndent(values, "", "  ")
	}
	var text strings.Builder
	for i, name := range f.names {
		text.WriteString(importfile.DotenvLine(name, f.values[i]))
	}
	return []byte(text.String()), nil
}

// encrypter is for the recipient; nil for a file in clear.
func (n NewExport) encrypter() (jose.Encrypter, error) {
	if n.Clear {
		if len(n.Recipient) > 0 {
			return nil, invalid("clear", "a file is encrypted to a recipient or in clear, not both")
		}
		return nil, nil
	}
	var key jose.JSONWebKey
	if err := json.Unmarshal(n.Recipient, &key); err != nil || !key.Valid() {
		return nil, invalid("recipient", "recipient is not a key as JWK (RFC 7517); tansu recipient FILE makes one")
	}
	if !key.IsPublic() {
		return nil, invalid("recipient", "recipient is a private key: give its public half, and keep this one to yourself")
	}
	var shape struct {
		Kty string `json:"kty"`
	}
	_ = json.Unmarshal(n.Recipient, &shape) // it was read a moment ago
	algorithm, known := recipientAlgorithms[shape.Kty]
	if !known {
		return nil, invalid("recipient", "recipient is a key of the kind %.10q; it must be EC or RSA", shape.Kty)
	}
	encrypter, err := jose.NewEncrypter(jose.A256GCM, jose.Recipient{Algorithm: algorithm, Key: &key}, nil)
	if err != nil {
		return nil, invalid("recipient", "recipient cannot be encrypted to: %s", err)
	}
	return encrypter, nil
}

func encrypted(encrypter jose.Encrypter, content []byte) ([]byte, error) {
	defer clear(content)
	object, err := encrypter.Encrypt(content)
	if err != nil {
		return nil, err
	}
	text, err := object.CompactSerialize()
	return []byte(text + "\n"), err
}
