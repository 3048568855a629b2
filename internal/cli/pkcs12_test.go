package cli_test

import (
	"bytes"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"software.sslmate.com/src/go-pkcs12"
)

// A file of PKCS #12 that openssl made is brought, and one that is saved is read by openssl; a wrong password, and a file that asks for
// days of work, are refused at once, and nothing is stored.
func TestCertificatesComeAndGoAsPKCS12(t *testing.T) {
	steward, _ := signedIn(t)
	steward.ok(t, "", "drawer", "add", "ticketing-prod", "--env", "production")
	steward.ok(t, "", "grant", "give", "person:steward", "consumer", "ticketing-prod/**")
	dir := t.TempDir()
	file := func(name string) string { return filepath.Join(dir, name) }
	write := func(name string, content []byte) {
		if err := os.WriteFile(file(name), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	openssl := func(arguments ...string) []byte {
		program := exec.Command(tool(t, "openssl"), arguments...)
		program.Dir = dir
		out, err := program.Output()
		if err != nil {
			t.Fatalf("openssl %v: %v", arguments, err)
		}
		return out
	}
	write("password", []byte("quay\n"))
	write("wrong", []byte("pier\n"))
	openssl("req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", "web.key", "-out", "web.pem", "-subj",
		"/CN=tickets.ferries.example", "-addext", "subjectAltName=DNS:tickets.ferries.example", "-addext", "basicConstraints=CA:false")
	openssl("pkcs12", "-export", "-in", "web.pem", "-inkey", "web.key", "-out", "web.p12", "-passout", "pass:quay", "-iter", "4096")
	bomb, err := os.ReadFile(file("web.p12"))
	if err != nil {
		t.Fatal(err)
	}
	at := bytes.LastIndex(bomb, []byte{2, 2, 0x10, 0}) // 4096 iterations of its MAC, at its end
	if at < 0 {
		t.Fatal("the iterations are not where they are looked for")
	}
	bomb = append(bytes.Clone(bomb[:at]), 2, 4, 0x7f, 0xff, 0xff, 0xff)
	bomb[macOf(t, bomb)+1] += 2 // the lengths of what is around it
	binary.BigEndian.PutUint16(bomb[2:], binary.BigEndian.Uint16(bomb[2:])+2)
	write("bomb.p12", bomb)

	for says, arguments := range map[string][]string{
		"password is wrong":     {"--pkcs12", file("web.p12"), "--password-file", file("wrong")},
		"so much work":          {"--pkcs12", file("bomb.p12"), "--password-file", file("password")},
		"cannot be read":        {"--pkcs12", file("web.pem"), "--password-file", file("password")},
		"give no --certificate": {"--pkcs12", file("web.p12"), "--certificate", file("web.pem")},
		"belongs to none":       {"--certificate", file("web.pem"), "--private", file("other.key")},
	} {
		if _, err := os.Stat(file("other.key")); err != nil {
			write("other.key", openssl("genpkey", "-algorithm", "ED25519"))
		}
		r := steward.run(t, "", append([]string{"cert", "bring", "ticketing-prod/web"}, arguments...)...)
		if r.code == 0 || !strings.Contains(r.talk, says) {
			t.Errorf("%v: exit %d, %s; want %q", arguments, r.code, r.talk, says)
		}
	}
	if r := steward.run(t, "", "history", "ticketing-prod/web"); r.code != 4 {
		t.Errorf("something was stored: %+v", r)
	}

	steward.ok(t, "", "cert", "bring", "ticketing-prod/web", "--pkcs12", file("web.p12"), "--password-file", file("password"))
	steward.ok(t, "", "cert", "save", "ticketing-prod/web", "--pkcs12", file("saved.p12"), "--private", file("saved.key"), "--password-file",
		file("password"))
	out := openssl("pkcs12", "-in", "saved.p12", "-passin", "pass:quay", "-nokeys")
	block, _ := pem.Decode(out[bytes.Index(out, []byte("-----BEGIN")):])
	saved, err := x509.ParseCertificate(block.Bytes)
	if err != nil || saved.Subject.CommonName != "tickets.ferries.example" {
		t.Errorf("saved: %v, %v", saved, err)
	}
	content, err := os.ReadFile(file("saved.p12"))
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := pkcs12.Decode(content, "pier"); err == nil {
		t.Error("it opens with another password")
	}
	for _, name := range []string{"saved.p12", "saved.key"} {
		if info, err := os.Stat(file(name)); err != nil || info.Mode() != 0o600 {
			t.Errorf("%s: %v, %v", name, info, err)
		}
	}
}

// macOf finds where the MAC of a file begins: it is the last of the three parts of what the file is.
func macOf(t *testing.T, der []byte) (at int) {
	t.Helper()
	if der[0] != 0x30 || der[1] != 0x82 {
		t.Fatal("the file is no sequence of a usual length")
	}
	at = 4
	for range 2 {
		size, head := int(der[at+1]), 2
		if size == 0x82 {
			size, head = int(binary.BigEndian.Uint16(der[at+2:])), 4
		}
		at += head + size
	}
	if der[at] != 0x30 || der[at+1] >= 0x80-2 {
		t.Fatal("the MAC is not where it is looked for")
	}
	return at
}
