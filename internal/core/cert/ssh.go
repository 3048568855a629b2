package cert

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"tansu/internal/core/lifecycle"
)

// extensions are what a user's certificate can permit (PROTOCOL.certkeys of OpenSSH, "Extensions").
var extensions = []string{"permit-pty", "permit-port-forwarding", "permit-agent-forwarding", "permit-X11-forwarding", "permit-user-rc"}

// MostSSHLife is the longest life of a certificate of SSH: they are short, since few servers look for those that are revoked.
const MostSSHLife = 90 * 24 * time.Hour

// SSH is what a profile says of certificates of SSH, besides the networks that a user may come from.
type SSH struct {
	For        string   `json:"ssh,omitempty"`        // "user" or "host"; empty for no certificates of SSH
	Principals []string `json:"principals,omitempty"` // patterns of accounts, or of host names
	Extensions []string `json:"extensions,omitempty"` // what a user may besides running programs, such as permit-pty
	Command    string   `json:"command,omitempty"`    // that is run, whatever a user asks for
}

func (s *SSH) given() bool { return len(s.For)+len(s.Principals)+len(s.Extensions)+len(s.Command) > 0 }

func (p *Profile) checkSSH() error {
	switch {
	case p.For != "user" && p.For != "host":
		return invalid("profile.ssh", "ssh is user or host")
	case len(p.Principals) == 0 || len(p.Principals) > mostNames:
		return invalid("profile.principals", "principals are 1 to %d patterns of accounts, or of host names", mostNames)
	case p.For == "host" && len(p.Extensions)+len(p.Command)+len(p.Networks) > 0:
		return invalid("profile.extensions", "extensions, command and networks are said of certificates of users")
	case p.Longest < lifecycle.Span(time.Minute) || p.Longest > lifecycle.Span(MostSSHLife):
		return invalid("profile.longest", "longest is the longest life of a certificate of SSH, from 1m to 90d, such as 12h")
	case len(p.Command) > 1000 || strings.ContainsFunc(p.Command, func(r rune) bool { return r < ' ' }):
		return invalid("profile.command", "command is one line")
	}
	for _, pattern := range p.Principals {
		if principal(strings.ReplaceAll(pattern, "*", "x")) != nil {
			return invalid("profile.principals", "%.100q is not a pattern of accounts or host names", pattern)
		}
	}
	for _, name := range p.Extensions {
		if !slices.Contains(extensions, name) {
			return invalid("profile.extensions", "%.40q is not an extension; they are %s", name, strings.Join(extensions, ", "))
		}
	}
	return nil
}

// principal refuses what is no account and no host name; a comma would be read as two of them.
func principal(text string) error {
	if text == "" || len(text) > 100 || strings.Trim(strings.ToLower(text), "abcdefghijklmnopqrstuvwxyz0123456789._-@") != "" {
		return invalid("principals", "%.100q is not a principal: an account or a host name", text)
	}
	return nil
}

// SSHRequest is what somebody wants a certificate of SSH for.
type SSHRequest struct {
	Public     []byte // a line of authorized_keys
	Principals []string
	Life       time.Duration // 0 for the longest
	Name       string        // who it is given to, for the log of the server
}

// IssueSSH certifies a key for principals (OpenSSH's PROTOCOL.certkeys), signed by the authority's key.
func (p *Profile) IssueSSH(r SSHRequest, authority ssh.Signer, now time.Time) (*ssh.Certificate, error) {
	if err := p.Give(GivesSSH); err != nil {
		return nil, err
	}
	public, _, _, rest, err := ssh.ParseAuthorizedKey(r.Public)
	if err != nil || len(bytes.TrimSpace(rest)) > 0 {
		return nil, invalid("public_key", "public_key is one public key as ssh-keygen writes it")
	}
	if err := sshKey(public); err != nil {
		return nil, err
	}
	if len(r.Principals) == 0 || len(r.Principals) > mostNames { // without any it would be good for all
		return nil, invalid("principals", "a certificate is for 1 to %d principals: accounts, or host names", mostNames)
	}
	for _, name := range r.Principals {
		if err := principal(name); err != nil {
			return nil, err
		}
		if !matches(p.Principals, name, "") {
			return nil, invalid("principals", "%s is none of the principals that the profile gives (%s)", name, listed(p.Principals))
		}
	}
	life := r.Life
	switch longest := time.Duration(p.Longest); {
	case life < 0 || life > longest:
		return nil, invalid("life", "a certificate of this profile lasts at most %s", p.Longest)
	case life == 0:
		life = longest
	}
	var random [8]byte
	_, _ = rand.Read(random[:])
	made := &ssh.Certificate{Key: public, Serial: binary.BigEndian.Uint64(random[:]), CertType: ssh.UserCert, KeyId: r.Name,
		ValidPrincipals: r.Principals, ValidAfter: uint64(now.Add(-backdate).Unix()), ValidBefore: uint64(now.Add(life).Unix())}
	if p.For == "host" {
		made.CertType = ssh.HostCert
	} else {
		made.CriticalOptions, made.Extensions = map[string]string{}, map[string]string{}
		for _, name := range p.Extensions {
			made.Extensions[name] = ""
		}
		if p.Command != "" {
			made.CriticalOptions["force-command"] = p.Command
		}
		if len(p.Networks) > 0 {
			made.CriticalOptions["source-address"] = strings.Join(p.Networks, ",")
		}
	}
	if err := made.SignCert(rand.Reader, authority); err != nil {
		return nil, fmt.Errorf("sign a certificate of SSH: %w", err)
	}
	return made, nil
}

// sshKey refuses a key that is too weak, and what is a certificate already.
func sshKey(public ssh.PublicKey) error {
	switch public.Type() {
	case ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoSKED25519, ssh.KeyAlgoSKECDSA256:
		return nil
	case ssh.KeyAlgoRSA:
		of, is := public.(ssh.CryptoPublicKey)
		if key, rsaKey := of.CryptoPublicKey().(*rsa.PublicKey); is && rsaKey && key.N.BitLen() >= 2048 && key.N.BitLen() <= 8192 {
			return nil
		}
		return invalid("public_key", "the RSA key is too short; 2048 to 8192 bits are good")
	}
	return invalid("public_key", "a key of the type %.60s gets no certificate", public.Type())
}
