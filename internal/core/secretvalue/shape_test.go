package secretvalue

import (
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

func fieldsOf(pairs ...string) (fs Fields) {
	for i := 0; i < len(pairs); i += 2 {
		fs = append(fs, Field{Name: pairs[i], Value: FromString(pairs[i+1])})
	}
	return fs
}

func TestShapesCheckTheirFields(t *testing.T) {
	for _, c := range []struct {
		shape  Shape
		fields Fields
		wrong  string // the field that is wrong; empty for none
	}{
		{Login, fieldsOf("password", "p", "user", "svc"), ""},
		{Login, fieldsOf("user", "svc"), "password"},
		{Login, fieldsOf("user", "svc\n", "password", "p"), "user"},
		{Login, fieldsOf("user", "svc", "password", "p", "host", "h"), "host"},
		{Login, fieldsOf("user", "svc", "user", "svc", "password", "p"), "user"},
		{Login, fieldsOf("user", "svc", "password", ""), "password"},
		{Connection, fieldsOf("engine", "postgresql", "host", "db.ferries.example", "port", "5432"), ""},
		{Connection, fieldsOf("engine", "1x", "host", "db"), "engine"},
		{Connection, fieldsOf("engine", "amqps", "host", "db/.."), "host"},
		{Connection, fieldsOf("engine", "amqps", "host", "db", "port", "065"), "port"},
		{Connection, fieldsOf("engine", "amqps", "host", "db", "port", "65536"), "port"},
		{Connection, fieldsOf("engine", "amqps", "host", "db", "options", "a=%zz"), "options"},
		{File, fieldsOf("content", "\x00\xff", "media_type", "application/octet-stream"), ""},
		{File, fieldsOf("content", "x", "media_type", "pdf"), "media_type"},
		{Free, fieldsOf("anything", "x"), ""},
		{SSHKey, fieldsOf("private", "no key"), "private"},
	} {
		_, _, err := Shaped(c.shape, c.fields)
		var problem *ShapeError
		if errors.As(err, &problem); problem == nil && c.wrong != "" || problem != nil && problem.Field != c.wrong {
			t.Errorf("%s of %d fields: got %v, want %q", c.shape, len(c.fields), err, c.wrong)
		}
	}
	_, _, err := Shaped(SSHKey, fieldsOf("private", strings.Repeat("A", mostSSHKey+1))) // which would take minutes to look into
	if err == nil || !strings.Contains(err.Error(), "longer") {
		t.Errorf("a very long key: %v", err)
	}
	if _, _, err := Shaped(Free, nil); err == nil {
		t.Error("no fields at all")
	}
}

// As a whole a connection is a URL that any library reads back to the same fields, whatever is in them.
func TestConnectionIsAURL(t *testing.T) {
	fields, _, err := Shaped(Connection, fieldsOf("engine", "postgresql", "host", "2001:db8::7", "port", "5432", "database",
		"tickets/old ones", "user", "svc@ferry", "password", "p@ss/w:rd? #", "options", "sslmode=verify-full"))
	if err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(string(fields.Whole(Connection).Reveal()))
	if err != nil {
		t.Fatal(err)
	}
	password, _ := u.User.Password()
	if u.Scheme != "postgresql" || u.Hostname() != "2001:db8::7" || u.Port() != "5432" || u.Path != "/tickets/old ones" ||
		u.User.Username() != "svc@ferry" || password != "p@ss/w:rd? #" || u.Query().Get("sslmode") != "verify-full" {
		t.Errorf("read back as another connection")
	}
}

func TestKeyPairBelongsTogether(t *testing.T) {
	pair := func() (private, public string) {
		_, key, err := ed25519.GenerateKey(nil)
		if err != nil {
			t.Fatal(err)
		}
		block, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			t.Fatal(err)
		}
		pub, err := ssh.NewPublicKey(key.Public())
		if err != nil {
			t.Fatal(err)
		}
		return string(pem.EncodeToMemory(block)), string(ssh.MarshalAuthorizedKey(pub))
	}
	private, public := pair()
	_, other := pair()
	fields, notes, err := Shaped(SSHKey, fieldsOf("private", private))
	if err != nil || len(fields) != 3 || len(notes) != 1 {
		t.Fatalf("%v, %d fields, notes %v", err, len(fields), notes)
	}
	if f, _ := fields.Find("public"); string(f.Value.Reveal()) != strings.TrimSpace(public) {
		t.Error("the public key is not the private key's")
	}
	if f, _ := fields.Find("fingerprint"); !strings.HasPrefix(string(f.Value.Reveal()), "SHA256:") {
		t.Error("no fingerprint")
	}
	if _, _, err := Shaped(SSHKey, fieldsOf("private", private, "public", public)); err != nil {
		t.Errorf("a pair that belongs together: %v", err)
	}
	if _, _, err := Shaped(SSHKey, fieldsOf("private", private, "public", other)); err == nil {
		t.Error("a mismatched pair is taken")
	}
	_, key, _ := ed25519.GenerateKey(nil)
	block, err := ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte("a passphrase"))
	if err != nil {
		t.Fatal(err)
	}
	if _, notes, err := Shaped(SSHKey, fieldsOf("private", string(pem.EncodeToMemory(block)))); err != nil || len(notes) != 0 {
		t.Errorf("a key under a passphrase: %v, %v", err, notes)
	}
}

func TestFieldsReadBackAndMerge(t *testing.T) {
	fields := Fields{{Name: "a", Value: New([]byte{0, 255}), Plain: true}, {Name: "b", Value: FromString("x")}}
	again, err := Decode(fields.Encode())
	if err != nil || len(again) != 2 || !again[0].Value.Equal(fields[0].Value) || !again[0].Plain || again[1].Plain {
		t.Errorf("%v", err)
	}
	merged := fields.Merge(fieldsOf("b", "y", "c", "z"))
	if string(merged.Whole(Free).Reveal()) != `{"a":"AP8=","b":"y","c":"z"}` || string(fields[1].Value.Reveal()) != "x" {
		t.Errorf("merged: %s", merged.object())
	}
	for _, text := range []string{"", "x", "{}", `{"format":2,"fields":[]}`} {
		if _, err := Decode([]byte(text)); err == nil {
			t.Errorf("%q is taken for fields", text)
		}
	}
}

func TestRecipes(t *testing.T) {
	for recipe, form := range map[Recipe]string{
		"bytes:32": `^[A-Za-z0-9_-]{43}$`, "characters:24": `^[A-Za-z0-9]{24}$`, "characters:20:lower+digits": `^[a-z0-9]{20}$`,
		"words:5": `^([bdfghjklmnprstv][aeiou]){2}[bdfghjklmnprstv](-([bdfghjklmnprstv][aeiou]){2}[bdfghjklmnprstv]){4}$`,
		"uuid":    `^[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$`,
	} {
		first, err := recipe.Make()
		if err != nil {
			t.Errorf("%s: %v", recipe, err)
			continue
		}
		second, _ := recipe.Make()
		if !regexp.MustCompile(form).Match(first.Reveal()) || first.Equal(second) {
			t.Errorf("%s made something else, or the same twice", recipe)
		}
	}
	for range 50 {
		v, err := Recipe("characters:16:lower+upper+digits+symbols").Make()
		if err != nil {
			t.Fatal(err)
		}
		for _, set := range sets {
			if !strings.ContainsAny(string(v.Reveal()), set) {
				t.Error("a set is missing")
			}
		}
	}
	for _, bad := range []Recipe{"", "bytes", "bytes:0", "bytes:7", "bytes:2000", "characters:8", "characters:20:lower+lower",
		"characters:20:runes", "words:3", "words:5:x", "uuid:4", "prayer:9"} {
		if _, err := bad.Make(); err == nil {
			t.Errorf("%q is a recipe", bad)
		}
	}
}
