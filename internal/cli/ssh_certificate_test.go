package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	osuser "os/user"
	"path/filepath"
	"strings"
	"testing"
)

// ssh and sshd themselves believe each other by certificates that keys of the chest have signed, without a list of keys on either side; for
// another account there is none, nor for whoever has no grant.
func TestAnSSHLoginByCertificates(t *testing.T) {
	steward, chest := signedIn(t)
	dir := t.TempDir()
	file := func(name string) string { return filepath.Join(dir, name) }
	for _, name := range []string{"host", "login"} {
		if out, err := exec.Command(tool(t, "ssh-keygen"), "-q", "-t", "ed25519", "-N", "", "-f", file(name)).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	me, err := osuser.Current()
	if err != nil {
		t.Fatal(err)
	}
	steward.ok(t, "", "drawer", "add", "gates", "--env", "staging")
	u := asApp(t, steward, chest)
	for _, kind := range []string{"ed25519", "ecdsa-p256", "rsa-3072"} {
		ca := "gates/ca-" + kind
		steward.ok(t, "", "key", "create", ca, "--type", kind, "--for", "sign,verify")
		steward.ok(t, "", "authority", "profile", "gates/login-"+kind, "--authority", "ca-"+kind, "--ssh", "user", "--principals",
			me.Username+",gate-*", "--extensions", "permit-pty", "--longest", "8h")
		steward.ok(t, "", "authority", "profile", "gates/host-"+kind, "--authority", "ca-"+kind, "--ssh", "host", "--principals",
			"*.harbour.example", "--longest", "30d")
		if r := u.run(t, "", "cert", "ssh", "gates/login-"+kind, "--names", me.Username, "--public", file("login.pub")); r.code != 3 {
			t.Errorf("without a grant: %+v", r)
		}
		for _, profile := range []string{"login-", "host-"} {
			steward.ok(t, "", "grant", "give", "app:ticket-api", "subscriber", "gates/"+profile+kind)
		}
		u.ok(t, "", "cert", "ssh", "gates/login-"+kind, "--names", me.Username, "--life", "1h", "--public", file("login.pub"))
		u.ok(t, "", "cert", "ssh", "gates/host-"+kind, "--names", "gate-3.harbour.example", "--public", file("host.pub"))
		public := steward.ok(t, "", "key", "show", ca, "--public", "ssh")
		for name, content := range map[string]string{"ca": public, "known": "@cert-authority *.harbour.example " + public,
			"sshd.conf": fmt.Sprintf("HostKey %s\nHostCertificate %s\nTrustedUserCAKeys %s\nAuthorizedKeysFile none\nStrictModes no\nUsePAM no\n"+
				"PasswordAuthentication no\nPermitRootLogin yes\nPidFile none\n", file("host"), file("host-cert.pub"), file("ca"))} {
			if err := os.WriteFile(file(name), []byte(content), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if os.Getuid() == 0 {
			if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // sshd's own place, which its package makes at start
				t.Fatal(err)
			}
		}
		login := func(account, host string) (string, error) {
			out, err := exec.Command(tool(t, "ssh"), "-F", "none", "-i", file("login"), "-o", "ProxyCommand="+tool(t, "sshd")+" -i -f "+
				file("sshd.conf"), "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=yes", "-o", "UserKnownHostsFile="+file("known"), "-o",
				"BatchMode=yes", "-o", "LogLevel=ERROR", account+"@"+host, "echo the gate is open").CombinedOutput()
			return string(out), err
		}
		if out, err := login(me.Username, "gate-3.harbour.example"); err != nil || out != "the gate is open\n" {
			t.Errorf("%s: %v: %s", kind, err, out)
		}
		if out, err := login(me.Username, "gate-4.harbour.example"); err == nil {
			t.Errorf("%s: a host of another name is believed: %s", kind, out)
		}
		u.ok(t, "", "cert", "ssh", "gates/login-"+kind, "--names", "gate-7", "--public", file("login.pub"))
		if out, err := login(me.Username, "gate-3.harbour.example"); err == nil {
			t.Errorf("%s: a certificate for another account is good: %s", kind, out)
		}
		if r := u.run(t, "", "cert", "ssh", "gates/login-"+kind, "--names", "somebody-else", "--public", file("login.pub")); r.code != 2 {
			t.Errorf("for an account that the profile does not give: %+v", r)
		}
		if issued := steward.ok(t, "", "authority", "issued", ca); strings.Count(issued, "app:ticket-api") != 3 {
			t.Errorf("issued:\n%s", issued)
		}
	}
	steward.ok(t, "", "key", "create", "gates/seals", "--type", "aes-256")
	for _, authority := range []string{"seals", "missing"} {
		r := steward.run(t, "", "authority", "profile", "gates/wrong", "--authority", authority, "--ssh", "user", "--principals", "x")
		if r.code != 2 {
			t.Errorf("%s signs for SSH: %+v", authority, r)
		}
	}
}
