package client

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/sha512"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"math/big"
	"strings"

	"github.com/go-jose/go-jose/v4"
	"golang.org/x/crypto/ssh"
)

// sshSigner is a key of the chest as SSH has it. It is an ssh.AlgorithmSigner.
type sshSigner struct {
	*Signer
	public ssh.PublicKey
}

// SSHSigner returns a signer for SSH (RFC 4252) with a key that stays in the chest: each signature is a call, and an entry in the trail.
func (c *Client) SSHSigner(ctx context.Context, reference string) (ssh.AlgorithmSigner, error) {
	signer, err := c.Signer(ctx, reference)
	if err != nil {
		return nil, err
	}
	public, err := ssh.NewPublicKey(signer.Public())
	if err != nil {
		return nil, err
	}
	return &sshSigner{signer, public}, nil
}

func (s *sshSigner) PublicKey() ssh.PublicKey { return s.public }

// Sign signs with the usual algorithm of the key; of RSA keys that is rsa-sha2-512.
func (s *sshSigner) Sign(random io.Reader, data []byte) (*ssh.Signature, error) {
	return s.SignWithAlgorithm(random, data, "")
}

// SignWithAlgorithm signs with an algorithm of the key (RFC 5656, 8332, 8709). SHA-1 is refused.
func (s *sshSigner) SignWithAlgorithm(random io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	var options crypto.SignerOpts
	format := s.public.Type()
	if format == ssh.KeyAlgoRSA {
		hashes := map[string]crypto.Hash{"": crypto.SHA512, ssh.KeyAlgoRSASHA512: crypto.SHA512, ssh.KeyAlgoRSASHA256: crypto.SHA256}
		hash, known := hashes[algorithm]
		if !known {
			return nil, errors.New("an RSA key signs with rsa-sha2-256 or rsa-sha2-512")
		}
		if format = algorithm; format == "" {
			format = ssh.KeyAlgoRSASHA512
		}
		options = hash
	}
	blob, err := s.SignMessage(random, data, options)
	if err != nil {
		return nil, err
	}
	if _, is := s.Public().(*ecdsa.PublicKey); is { // RFC 5656, section 3.1.2: two mpint, and not ASN.1
		var pair struct{ R, S *big.Int }
		if _, err := asn1.Unmarshal(blob, &pair); err != nil {
			return nil, err
		}
		blob = ssh.Marshal(pair)
	}
	return &ssh.Signature{Format: format, Blob: blob}, nil
}

// SSHSignature signs a message for a namespace, such as file or git, in the form that ssh-keygen -Y verify checks (OpenSSH's
// PROTOCOL.sshsig): armoured, with the public half in it.
func (c *Client) SSHSignature(ctx context.Context, reference, namespace string, message []byte) ([]byte, error) {
	if namespace == "" {
		return nil, errors.New("a namespace says what the signature is for, such as file")
	}
	signer, err := c.SSHSigner(ctx, reference)
	if err != nil {
		return nil, err
	}
	const magic, hash = "SSHSIG", "sha512"
	digest := sha512.Sum512(message)
	signed := ssh.Marshal(struct {
		Namespace, Reserved, Hash string
		Digest                    []byte
	}{namespace, "", hash, digest[:]})
	signature, err := signer.Sign(nil, append([]byte(magic), signed...))
	if err != nil {
		return nil, err
	}
	blob := ssh.Marshal(struct {
		Version                   uint32
		Public                    []byte
		Namespace, Reserved, Hash string
		Signature                 []byte
	}{1, signer.PublicKey().Marshal(), namespace, "", hash, ssh.Marshal(signature)})
	text := base64.StdEncoding.EncodeToString(append([]byte(magic), blob...))
	var armoured strings.Builder
	armoured.WriteString("-----BEGIN SSH SIGNATURE-----\n")
	for len(text) > 0 {
		line := text[:min(70, len(text))]
		armoured.WriteString(line + "\n")
		text = text[len(line):]
	}
	armoured.WriteString("-----END SSH SIGNATURE-----\n")
	return []byte(armoured.String()), nil
}

var errNoSSH = errors.New("OpenSSH knows no keys of this type: take the public half as a JWK, or PEM")

// PublicSSH writes the public half of a version as a line of authorized_keys (sshd(8)).
func PublicSSH(jwk json.RawMessage) ([]byte, error) {
	var key jose.JSONWebKey
	_ = key.UnmarshalJSON(jwk) // what it does not know is no key of OpenSSH either
	public, err := ssh.NewPublicKey(key.Key)
	if err != nil {
		return nil, errNoSSH
	}
	return ssh.MarshalAuthorizedKey(public), nil
}
