package secretvalue

import (
	"bytes"
	"crypto"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/ssh"
)

// Shape says what the fields of a secret are and what it is as a whole.
type Shape string

// The shapes.
const (
	Text       Shape = "text"       // bytes without fields
	Login      Shape = "login"      // user, password
	Connection Shape = "connection" // engine, host, port, database, user, password, options; as a whole a URL
	SSHKey     Shape = "ssh_key"    // private, public, fingerprint; as a whole the private key
	Free       Shape = "fields"     // any fields; as a whole a JSON object
	File       Shape = "file"       // content, media_type, file_name; as a whole the content
	Key        Shape = "key"        // of an item that is a key: no fields, and a value only where it is given out
	// Of items of other kinds: certificate, private, request; as a whole the certificate with its chain and the private key, in PEM.
	Certificate Shape = "certificate"
	Authority   Shape = "authority" // a certificate that signs others, and is never given out
	Profile     Shape = "profile"   // what an authority certifies, as JSON
)

// Shapes are those that an item can be made with; a key is made otherwise.
var Shapes = []Shape{Text, Login, Connection, SSHKey, Free, File, Certificate, Authority, Profile}

// Plain reports whether a shape has no fields.
func (s Shape) Plain() bool { return s == Text || s == Key || s == Profile }

// Field is a named part of a secret.
type Field struct {
	Name  string
	Value Value
	Plain bool // not sensitive: a host, a user name
}

// Fields are the parts of one version, in the order in which they are shown.
type Fields []Field

// MaxFields is the most fields of one secret.
const MaxFields = 64

// rule is what a shape says about one of its fields.
type rule struct {
	name     string
	required bool
	plain    bool
	check    func(string) error // of its text; nil for any bytes
}

var rules = map[Shape][]rule{
	Login: {{"user", true, true, oneLine}, {"password", true, false, nil}},
	Connection: {{"engine", true, true, engine}, {"host", true, true, host}, {"port", false, true, port}, {"database", false, true, oneLine},
		{"user", false, true, oneLine}, {"password", false, false, nil}, {"options", false, true, options}},
	SSHKey:      {{"private", true, false, nil}, {"public", false, true, nil}, {"fingerprint", false, true, nil}},
	Certificate: {{"certificate", false, true, nil}, {"private", true, false, nil}, {"request", false, true, nil}},
	Authority:   {{"certificate", true, true, nil}, {"private", true, false, nil}},
	File:        {{"content", true, false, nil}, {"media_type", false, true, mediaType}, {"file_name", false, true, oneLine}},
}

// ShapeError says which field of a secret is wrong; nothing of a value is in it.
type ShapeError struct {
	Field   string
	Problem string
}

func (e *ShapeError) Error() string { return "field " + e.Field + " " + e.Problem }

// Shaped checks fields against a shape and returns them completed and in the shape's order, with notes about what is
// unusual. An error is a [*ShapeError].
func Shaped(shape Shape, fields Fields) (Fields, []string, error) {
	if len(fields) > MaxFields {
		return nil, nil, &ShapeError{fields[MaxFields].Name, fmt.Sprintf("is one too many: the most is %d", MaxFields)}
	}
	seen := map[string]bool{}
	for _, f := range fields {
		if seen[f.Name] {
			return nil, nil, &ShapeError{f.Name, "is there twice"}
		}
		if f.Value.Len() == 0 {
			return nil, nil, &ShapeError{f.Name, "is empty"}
		}
		seen[f.Name] = true
	}
	if shape == Free {
		if len(fields) == 0 {
			return nil, nil, &ShapeError{"", "is missing: there are no fields"}
		}
		return fields, nil, nil
	}
	ordered, err := ordered(shape, fields)
	if err != nil || shape != SSHKey {
		return ordered, nil, err
	}
	return sshKey(ordered)
}

// ordered checks the fields of a shape that has rules.
func ordered(shape Shape, fields Fields) (Fields, error) {
	var done Fields
	for _, r := range rules[shape] {
		at := slices.IndexFunc(fields, func(f Field) bool { return f.Name == r.name })
		if at < 0 {
			if r.required {
				return nil, &ShapeError{r.name, "is missing"}
			}
			continue
		}
		f := fields[at]
		f.Plain = r.plain
		if r.check != nil {
			if err := r.check(string(f.Value.Reveal())); err != nil {
				return nil, &ShapeError{r.name, err.Error()}
			}
		}
		done = append(done, f)
	}
	for _, f := range fields {
		if _, known := done.Find(f.Name); !known {
			return nil, &ShapeError{f.Name, "is none of the fields of this shape: " + strings.Join(fieldNames(shape), ", ")}
		}
	}
	return done, nil
}

func fieldNames(shape Shape) (names []string) {
	for _, r := range rules[shape] {
		names = append(names, r.name)
	}
	return names
}

// Find returns the field of a name.
func (fs Fields) Find(name string) (Field, bool) {
	for _, f := range fs {
		if f.Name == name {
			return f, true
		}
	}
	return Field{}, false
}

// Merge returns the fields with those of changes in the place of theirs, or added.
func (fs Fields) Merge(changes Fields) Fields {
	merged := slices.Clone(fs)
	for _, change := range changes {
		at := slices.IndexFunc(merged, func(f Field) bool { return f.Name == change.Name })
		if at < 0 {
			merged = append(merged, change)
		} else {
			merged[at] = change
		}
	}
	return merged
}

func oneLine(text string) error {
	if len(text) > 1024 || !utf8.ValidString(text) || strings.ContainsFunc(text, func(r rune) bool { return r < 0x20 || r == 0x7f }) {
		return errors.New("is not a text on one line of at most 1024 bytes")
	}
	return nil
}

// engine is what stands before "://" in a URL (RFC 3986, section 3.1).
func engine(text string) error {
	for i, r := range text {
		letter := r >= 'a' && r <= 'z'
		if !letter && (i == 0 || !(r >= '0' && r <= '9' || r == '+' || r == '-' || r == '.')) {
			return errors.New("is not a URL's scheme, such as postgresql or amqps")
		}
	}
	return nil
}

func host(text string) error {
	if net.ParseIP(text) != nil {
		return nil
	}
	for label := range strings.SplitSeq(text, ".") {
		if label == "" || len(label) > 63 || strings.Trim(strings.ToLower(label), "abcdefghijklmnopqrstuvwxyz0123456789-_") != "" {
			return errors.New("is neither a host name nor an address, such as db.ferries.example or 192.0.2.7")
		}
	}
	return nil
}

func port(text string) error {
	if n, err := strconv.Atoi(text); err != nil || n < 1 || n > 65535 || strconv.Itoa(n) != text {
		return errors.New("is not a port from 1 to 65535")
	}
	return nil
}

func options(text string) error {
	if _, err := url.ParseQuery(text); err != nil || oneLine(text) != nil {
		return errors.New("are not options such as sslmode=verify-full&connect_timeout=5")
	}
	return nil
}

func mediaType(text string) error {
	kind, rest, found := strings.Cut(text, "/")
	if !found || kind == "" || rest == "" || oneLine(text) != nil {
		return errors.New("is not a media type, such as application/pdf")
	}
	return nil
}

// sshKey completes a key pair: the public key and the fingerprint follow from the private key, and what is given must
// be theirs. A private key under a passphrase cannot be looked into, so that its public key has to be given.
func sshKey(fields Fields) (Fields, []string, error) {
	private, _ := fields.Find("private")
	given, hasPublic := fields.Find("public")
	var notes []string
	if private.Value.Len() > mostSSHKey {
		return nil, nil, &ShapeError{"private", "is longer than any key that is good: of RSA at most 8192 bits"}
	}
	public, err := publicOf(private.Value)
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		if public = locked.PublicKey; public == nil && !hasPublic {
			return nil, nil, &ShapeError{"public", "is missing: the private key is under a passphrase, and its public key cannot be worked out"}
		}
	case err != nil:
		return nil, nil, &ShapeError{"private", "is not a private key for SSH in PEM or OpenSSH form"}
	default:
		notes = append(notes, "the private key is not under a passphrase: who reads it can use it")
	}
	if hasPublic {
		key, _, _, _, err := ssh.ParseAuthorizedKey(given.Value.Reveal())
		if err != nil {
			return nil, nil, &ShapeError{"public", "is not a public key in the form of authorized_keys"}
		}
		if public != nil && !bytes.Equal(public.Marshal(), key.Marshal()) {
			return nil, nil, &ShapeError{"public", "belongs to another private key"}
		}
		public = key
	} else {
		given = Field{Name: "public", Value: New(bytes.TrimSpace(ssh.MarshalAuthorizedKey(public)))}
	}
	fingerprint := ssh.FingerprintSHA256(public)
	if f, there := fields.Find("fingerprint"); there && string(f.Value.Reveal()) != fingerprint {
		return nil, nil, &ShapeError{"fingerprint", "is not that of the key"}
	}
	return Fields{private, {Name: "public", Value: given.Value, Plain: true},
		{Name: "fingerprint", Value: FromString(fingerprint), Plain: true}}, notes, nil
}

// mostSSHKey bounds a private key of SSH, in bytes of its file: one of RSA with 8 192 bits takes about 6 400. Whether the parts of a much
// longer one belong together takes minutes to find out.
const mostSSHKey = 8 << 10

func publicOf(private Value) (ssh.PublicKey, error) {
	key, err := ssh.ParseRawPrivateKey(private.Reveal())
	if err != nil {
		return nil, err
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, errors.New("not a key that signs")
	}
	return ssh.NewPublicKey(signer.Public())
}

// Whole is what a secret is as one: the value of an app that asks for no field.
func (fs Fields) Whole(shape Shape) Value {
	text := func(name string) string { f, _ := fs.Find(name); return string(f.Value.Reveal()) }
	switch shape {
	case SSHKey:
		f, _ := fs.Find("private")
		return f.Value
	case Certificate:
		return FromString(strings.TrimRight(text("certificate"), "\n") + "\n" + text("private"))
	case File:
		f, _ := fs.Find("content")
		return f.Value
	case Connection:
		u := url.URL{Scheme: text("engine"), Host: text("host"), RawQuery: text("options")}
		if strings.Contains(u.Host, ":") {
			u.Host = "[" + u.Host + "]"
		}
		if port := text("port"); port != "" {
			u.Host += ":" + port
		}
		if database := text("database"); database != "" {
			u.Path = "/" + database
		}
		_, hasPassword := fs.Find("password")
		switch user := text("user"); {
		case hasPassword:
			u.User = url.UserPassword(user, text("password"))
		case user != "":
			u.User = url.User(user)
		}
		return FromString(u.String())
	}
	return New(fs.object())
}

// object is a JSON object of the fields as text; what is not text is in base64, as encoding/json writes bytes.
func (fs Fields) object() []byte {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, f := range fs {
		if i > 0 {
			b.WriteByte(',')
		}
		name, _ := json.Marshal(f.Name)
		var value []byte
		if content := f.Value.Reveal(); utf8.Valid(content) {
			value, _ = json.Marshal(string(content))
		} else {
			value, _ = json.Marshal(content)
		}
		b.Write(name)
		b.WriteByte(':')
		b.Write(value)
	}
	b.WriteByte('}')
	return b.Bytes()
}

// stored is the form in which fields are encrypted.
type stored struct {
	Format int           `json:"format"`
	Fields []storedField `json:"fields"`
}

type storedField struct {
	Name  string `json:"name"`
	Value []byte `json:"value"`
	Plain bool   `json:"plain,omitempty"`
}

// Encode writes fields as the bytes of one version; Decode reads them back.
func (fs Fields) Encode() []byte {
	s := stored{Format: 1}
	for _, f := range fs {
		s.Fields = append(s.Fields, storedField{f.Name, f.Value.Reveal(), f.Plain})
	}
	encoded, _ := json.Marshal(s) // strings, bytes and booleans only
	return encoded
}

// Decode reads the fields of a version.
func Decode(content []byte) (Fields, error) {
	var s stored
	if err := json.Unmarshal(content, &s); err != nil || s.Format != 1 {
		return nil, errors.New("the content is not that of fields")
	}
	var fields Fields
	for _, f := range s.Fields {
		fields = append(fields, Field{Name: f.Name, Value: New(f.Value), Plain: f.Plain})
	}
	return fields, nil
}
