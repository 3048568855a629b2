package cert

import (
	"crypto/rand"
	"crypto/rsa"
	"os"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// What is issued for SSH says what the profile says, ssh-keygen reads it, and nobody gets more.
func TestCertificatesOfSSHSayWhatTheirProfileSays(t *testing.T) {
	p, err := ReadProfile([]byte(`{"authority":"ca","ssh":"user","principals":["deploy","gate-*"],"extensions":["permit-pty"],` +
		`"networks":["10.1.0.0/16"],"command":"/usr/bin/gate-status","longest":"12h"}`))
	must(t, err)
	authority, err := ssh.NewSignerFromSigner(newKey(t, "ed25519"))
	must(t, err)
	public := func(kind string) []byte {
		key, err := ssh.NewPublicKey(newKey(t, kind).Public())
		must(t, err)
		return ssh.MarshalAuthorizedKey(key)
	}
	for _, kind := range []string{"ed25519", "ecdsa-p256", "rsa-2048"} {
		made, err := p.IssueSSH(SSHRequest{Public: public(kind), Principals: []string{"gate-3"}, Name: "person:mika"}, authority, time.Now())
		must(t, err)
		checker := ssh.CertChecker{SupportedCriticalOptions: []string{"force-command", "source-address"}}
		must(t, checker.CheckCert("gate-3", made))
		if err := checker.CheckCert("root", made); err == nil {
			t.Error("it is good for another account")
		}
		if made.ValidBefore > uint64(time.Now().Add(12*time.Hour).Unix()) || made.CriticalOptions["source-address"] != "10.1.0.0/16" {
			t.Errorf("%+v", made)
		}
		dir := t.TempDir()
		must(t, os.WriteFile(filepath.Join(dir, "id-cert.pub"), ssh.MarshalAuthorizedKey(made), 0o600))
		for _, want := range []string{`Key ID: "person:mika"`, "gate-3", "permit-pty", "force-command /usr/bin/gate-status"} {
			run(t, dir, want, "ssh-keygen", "-L", "-f", "id-cert.pub")
		}
	}
	small, err := rsa.GenerateKey(rand.Reader, 1024)
	if err == nil {
		weak, err := ssh.NewPublicKey(&small.PublicKey)
		must(t, err)
		_, err = p.IssueSSH(SSHRequest{Public: ssh.MarshalAuthorizedKey(weak), Principals: []string{"deploy"}}, authority, noon)
		refused(t, err, "public_key", "too short")
	}
	made, err := p.IssueSSH(SSHRequest{Public: public("ed25519"), Principals: []string{"deploy"}}, authority, noon)
	must(t, err)
	for _, r := range []struct {
		field string
		SSHRequest
	}{{"principals", SSHRequest{Principals: nil}}, {"principals", SSHRequest{Principals: []string{"root"}}},
		{"principals", SSHRequest{Principals: []string{"gate-1,root"}}},
		{"life", SSHRequest{Principals: []string{"deploy"}, Life: 13 * time.Hour}},
		{"public_key", SSHRequest{Public: []byte("words"), Principals: []string{"deploy"}}},
		{"public_key", SSHRequest{Public: ssh.MarshalAuthorizedKey(made), Principals: []string{"deploy"}}}} {
		if r.Public == nil {
			r.Public = public("ed25519")
		}
		_, err := p.IssueSSH(r.SSHRequest, authority, noon)
		refused(t, err, r.field, "")
	}
	_, err = gates.IssueSSH(SSHRequest{Public: public("ed25519"), Principals: []string{"deploy"}}, authority, noon)
	refused(t, err, "profile", "X.509")
}
