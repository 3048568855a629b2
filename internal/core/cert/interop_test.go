package cert

import (
	"crypto/x509"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// run runs another program in a directory, and wants its output to have a text in it.
func run(t *testing.T, dir, want, name string, arguments ...string) {
	t.Helper()
	program := exec.Command(name, arguments...)
	program.Dir = dir
	output, err := program.CombinedOutput()
	if err != nil || !strings.Contains(string(output), want) {
		t.Errorf("%s %s: %v; want %q in\n%s", name, strings.Join(arguments, " "), err, want, output)
	}
}

func write(t *testing.T, dir, name string, text []byte) {
	t.Helper()
	must(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
}

func read(t *testing.T, dir, name string) []byte {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, name))
	must(t, err)
	return text
}

// What is made here is checked by two other programs, and what they make is read here.
func TestOthersBelieveWhatIsIssuedAndAreBelieved(t *testing.T) {
	now := time.Now() // these programs have no other clock
	dir := t.TempDir()
	root := authority(t, nil, Below{Subject: "Harbour root", Within: []string{"harbour.example"}})
	gate := authority(t, root, Below{})
	gate.ListURL, gate.StatusURL = "http://127.0.0.1:1/crl", "http://127.0.0.1:1/ocsp"
	write(t, dir, "root.pem", PEM(root.Chain))
	write(t, dir, "gate.pem", PEM(gate.Chain[:1]))

	for _, kind := range []string{"ec:P-256", "rsa:2048", "ed25519"} {
		openssl := []string{"genpkey", "-out", "key.pem", "-algorithm"}
		switch name, size, _ := strings.Cut(kind, ":"); name {
		case "ec":
			openssl = append(openssl, "EC", "-pkeyopt", "ec_paramgen_curve:"+size)
		case "rsa":
			openssl = append(openssl, "RSA", "-pkeyopt", "rsa_keygen_bits:"+size)
		default:
			openssl = append(openssl, "ED25519")
		}
		run(t, dir, "", "openssl", openssl...)
		run(t, dir, "", "openssl", "req", "-new", "-key", "key.pem", "-out", "request.pem", "-subj", "/CN=gate-1.harbour.example",
			"-addext", "subjectAltName=DNS:gate-1.harbour.example")
		r, err := ReadRequest(read(t, dir, "request.pem"))
		must(t, err)
		must(t, gates.Check(r))
		leaf, err := gate.Issue(&gates, r, 0, now)
		must(t, err)
		key, err := ReadPrivate(read(t, dir, "key.pem"))
		must(t, err)
		if !SameKey(key.Public(), leaf.PublicKey) {
			t.Errorf("%s: another key", kind)
		}
		write(t, dir, "leaf.pem", PEM(append([]*x509.Certificate{leaf}, gate.Chain...)))
		run(t, dir, "OK", "openssl", "verify", "-x509_strict", "-purpose", "sslserver", "-verify_hostname",
			"gate-1.harbour.example", "-CAfile", "root.pem", "-untrusted", "gate.pem", "leaf.pem")
		run(t, dir, "Verified. The certificate is trusted", "certtool", "--verify", "--load-ca-certificate", "root.pem", "--infile",
			"leaf.pem")
	}

	own, err := WritePrivate(newKey(t, "ecdsa-p521"))
	must(t, err)
	write(t, dir, "own.pem", own)
	run(t, dir, "secp521r1", "openssl", "pkey", "-in", "own.pem", "-noout", "-text")
	names, err := ReadNames([]string{"gate-2.harbour.example"})
	must(t, err)
	request, err := NewRequest(newKey(t, "rsa-2048"), "", names)
	must(t, err)
	write(t, dir, "own-request.pem", request)
	run(t, dir, "verify OK", "openssl", "req", "-in", "own-request.pem", "-noout", "-verify")
	self, err := SelfSigned(newKey(t, "ed25519"), "", names, 30*day, now)
	must(t, err)
	write(t, dir, "self.pem", PEM([]*x509.Certificate{self}))
	run(t, dir, "OK", "openssl", "verify", "-CAfile", "self.pem", "self.pem")

	write(t, dir, "template", []byte("cn = gate-3.harbour.example\ndns_name = gate-3.harbour.example\n"))
	run(t, dir, "", "certtool", "--generate-privkey", "--key-type", "ecdsa", "--curve", "secp384r1", "--no-text", "--outfile", "gnutls.pem")
	run(t, dir, "", "certtool", "--generate-request", "--load-privkey", "gnutls.pem", "--template", "template", "--outfile",
		"gnutls-request.pem")
	r, err := ReadRequest(read(t, dir, "gnutls-request.pem"))
	must(t, err)
	if err := gates.Check(r); err != nil || r.KeyType != "ecdsa-p384" {
		t.Errorf("%+v, %v", r, err)
	}
}

func TestOthersBelieveWhatIsRevoked(t *testing.T) {
	now := time.Now()
	dir := t.TempDir()
	gate := authority(t, nil, Below{})
	write(t, dir, "gate.pem", PEM(gate.Chain))
	var leafs []*x509.Certificate
	for _, name := range []string{"good.pem", "bad.pem"} {
		leaf, err := gate.Issue(&gates, requestFor(t, newKey(t, ""), "gate-1.harbour.example"), 0, now)
		must(t, err)
		write(t, dir, name, PEM([]*x509.Certificate{leaf}))
		leafs = append(leafs, leaf)
	}
	revoked := Revoked{Serial: leafs[1].SerialNumber, At: now, Reason: "key_compromise"}
	list, err := gate.List([]Revoked{revoked}, now)
	must(t, err)
	write(t, dir, "list.crl", list)
	run(t, dir, "verify OK", "openssl", "crl", "-inform", "DER", "-in", "list.crl", "-CAfile", "gate.pem", "-noout")
	run(t, dir, "Key Compromise", "openssl", "crl", "-inform", "DER", "-in", "list.crl", "-noout", "-text")
	run(t, dir, "", "openssl", "crl", "-inform", "DER", "-in", "list.crl", "-out", "list.pem")
	run(t, dir, "OK", "openssl", "verify", "-crl_check", "-CAfile", "gate.pem", "-CRLfile", "list.pem", "good.pem")
	run(t, dir, "REVOKED", "sh", "-c",
		"! openssl verify -crl_check -CAfile gate.pem -CRLfile list.pem bad.pem || echo; echo REVOKED")

	for hash, name := range map[string]string{"-sha1": "good.pem", "-sha256": "bad.pem"} {
		run(t, dir, "", "openssl", "ocsp", hash, "-issuer", "gate.pem", "-cert", name, "-no_nonce", "-reqout", "question.der")
		number, by, err := gate.ReadQuestion(read(t, dir, "question.der"))
		must(t, err)
		status, want := Status{Known: true}, ": good"
		if number.Cmp(leafs[1].SerialNumber) == 0 {
			status.Revoked, want = &revoked, "keyCompromise"
		}
		answer, err := gate.Answer(number, by, status, now)
		must(t, err)
		write(t, dir, "answer.der", answer)
		run(t, dir, want, "openssl", "ocsp", hash, "-issuer", "gate.pem", "-cert", name, "-CAfile", "gate.pem", "-respin", "answer.der",
			"-no_nonce", "-text")
	}
	other := authority(t, nil, Below{Subject: "Elsewhere"})
	if _, _, err := other.ReadQuestion(read(t, dir, "question.der")); err != ErrBadQuestion {
		t.Errorf("a question about another authority: %v", err)
	}
	if _, _, err := gate.ReadQuestion([]byte("words")); err != ErrBadQuestion {
		t.Errorf("no question: %v", err)
	}
	for _, text := range []string{"", "xyz", "-1", "0", strings.Repeat("f", 60)} {
		_, err := ParseSerial(text)
		refused(t, err, "serial", "")
	}
	if number, err := ParseSerial("0A:ff"); err != nil || number.Cmp(big.NewInt(0xaff)) != 0 {
		t.Errorf("%v, %v", number, err)
	}
}
