package certs

import (
	"encoding/asn1"
	"fmt"
	"io"
	"math/big"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"golang.org/x/crypto/ssh"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/core/cert"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
)

// sshAuthority is a key of the chest that signs certificates of SSH. It is an ssh.Signer.
type sshAuthority struct {
	key    *cryptokey.Key
	public ssh.PublicKey
}

func (s *sshAuthority) PublicKey() ssh.PublicKey { return s.public }

// Sign signs by the usual algorithm of the key; of RSA keys that is rsa-sha2-512 (RFC 8332).
func (s *sshAuthority) Sign(_ io.Reader, data []byte) (*ssh.Signature, error) {
	var scheme cryptokey.Scheme
	format := s.public.Type()
	if format == ssh.KeyAlgoRSA {
		scheme, format = "RS512", ssh.KeyAlgoRSASHA512
	}
	blob, _, err := s.key.Sign(scheme, cryptokey.DER, data)
	if err != nil {
		return nil, err
	}
	if strings.HasPrefix(format, "ecdsa-") { // RFC 5656, section 3.1.2: two mpint, and not ASN.1
		var pair struct{ R, S *big.Int }
		if _, err := asn1.Unmarshal(blob, &pair); err != nil {
			return nil, err
		}
		blob = ssh.Marshal(pair)
	}
	return &ssh.Signature{Format: format, Blob: blob}, nil
}

// sshSigner is the key of a profile, to sign for SSH.
func sshSigner(found chest.Serving, key *cryptokey.Key) (*sshAuthority, error) {
	var jwk jose.JSONWebKey
	if err := jwk.UnmarshalJSON([]byte(found.Item.Versions[found.Number-1].PublicKey)); err != nil {
		return nil, err
	}
	public, err := ssh.NewPublicKey(jwk.Key)
	if err != nil {
		return nil, err
	}
	return &sshAuthority{key, public}, nil
}

// IssueSSH has the key of a profile certify a key for SSH, and records it.
func (s *Certs) IssueSSH(c chest.Caller, ref reference.Reference, r cert.SSHRequest) (made *ssh.Certificate, err error) {
	r.Name = c.Name
	err = s.heart.Try(func() error {
		a, p, found, key, err := s.beginWith(c, ref, cert.GivesSSH)
		if err != nil {
			return err
		}
		by, err := sshSigner(found, key)
		if err != nil {
			return a.Fail(err)
		}
		if err := s.inTurn(c, by.key.Type(), func() error {
			made, err = p.IssueSSH(r, by, a.Entry.At)
			return err
		}); err != nil {
			return a.Fail(certrow.Told(err))
		}
		serial := fmt.Sprintf("%032x", made.Serial)
		until := time.Unix(int64(made.ValidBefore), 0)
		fingerprint := cert.Fingerprint(made.Marshal())
		a.Entry.Detail = fmt.Sprintf("certificate %s of SSH for %.200s until %s", serial, strings.Join(made.ValidPrincipals, " "),
			until.UTC().Format(time.RFC3339))
		a.Change.Insert(entity.Issued{ID: p.signer + "/" + serial, Authority: p.signer, Serial: serial, Subject: made.KeyId,
			Names: strings.Join(made.ValidPrincipals, " "), KeyType: made.Key.Type(), Fingerprint: fingerprint,
			NotBefore: chest.Micros(time.Unix(int64(made.ValidAfter), 0)), NotAfter: chest.Micros(until), Profile: p.row.ID, Holder: c.ID,
			CreatedAt: chest.Micros(a.Entry.At), CreatedBy: c.Name})
		return a.Commit("certificate " + serial)
	})
	if err != nil { // what was signed and could not be recorded is not served
		return nil, err
	}
	return made, nil
}
