package cli

import (
	"crypto"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"software.sslmate.com/src/go-pkcs12"

	"tansu/internal/core/cert"
	"tansu/internal/core/secretvalue"
)

// A file of PKCS #12 says itself how often its password is to be hashed, and one that was made to harm names a number that takes days.
// What is counted in the open is bounded; what is counted inside is tried for so long.
const (
	mostHashes = 10_000_000
	patience   = 20 * time.Second
)

// hashes is how often a password is hashed before anything of a file is opened (RFC 7292, section 4 and appendix A); 0 where it does not
// say so in the open.
func hashes(file []byte) int {
	var pfx struct {
		Version int
		Safe    asn1.RawValue
		Mac     struct {
			Digest asn1.RawValue
			Salt   []byte
			Times  int `asn1:"optional,default:1"`
		} `asn1:"optional"`
	}
	if _, err := asn1.Unmarshal(file, &pfx); err != nil {
		return 0
	}
	return pfx.Mac.Times
}

var errSlowFile = errors.New("the file asks for so much work to try one password that nobody means well by it; nothing was done")

// readPKCS12 reads the chain and the private key of a PKCS #12 file (RFC 7292), in PEM.
func (a *app) readPKCS12(name, passwordFile string) (chain, private []byte, err error) {
	content, err := a.input(name)
	if err != nil {
		return nil, nil, err
	}
	if hashes(content) > mostHashes {
		return nil, nil, errSlowFile
	}
	password, err := a.filePassword(name, passwordFile)
	if err != nil {
		return nil, nil, err
	}
	defer password.Wipe()
	type read struct {
		key  any
		leaf *x509.Certificate
		more []*x509.Certificate
		err  error
	}
	done := make(chan read, 1)
	go func() {
		var r read
		r.key, r.leaf, r.more, r.err = pkcs12.DecodeChain(content, string(password.Reveal()))
		done <- r
	}()
	var r read
	select {
	case r = <-done:
	case <-time.After(patience):
		return nil, nil, errSlowFile
	}
	switch {
	case errors.Is(r.err, pkcs12.ErrIncorrectPassword):
		return nil, nil, fmt.Errorf("%s: the password is wrong", name)
	case r.err != nil:
		return nil, nil, fmt.Errorf("%s cannot be read as PKCS #12 with one certificate and its key: %w", name, r.err)
	}
	signer, is := r.key.(crypto.Signer)
	if !is {
		return nil, nil, fmt.Errorf("%s has a private key of a type that certificates are not for", name)
	}
	private, err = cert.WritePrivate(signer)
	return cert.PEM(append([]*x509.Certificate{r.leaf}, r.more...)), private, err
}

// writePKCS12 puts a chain and a private key into a PKCS #12 file under a password.
func writePKCS12(chain, private []byte, password string) ([]byte, error) {
	key, err := cert.ReadPrivate(private)
	if err != nil {
		return nil, err
	}
	list, _, err := cert.ReadChain(chain, key.Public())
	if err != nil {
		return nil, err
	}
	return pkcs12.Modern2023.Encode(key, list[0], list[1:], password)
}

// filePassword is the password of a file: the first line of another one, or asked for.
func (a *app) filePassword(name, passwordFile string) (secretvalue.Value, error) {
	if passwordFile != "" {
		content, err := os.ReadFile(passwordFile)
		if err != nil {
			return secretvalue.Value{}, err
		}
		first, _, _ := strings.Cut(string(content), "\n")
		return secretvalue.FromString(strings.TrimSuffix(first, "\r")), nil
	}
	if !a.terminal() {
		return secretvalue.Value{}, usagef("there is no terminal to ask for the password of %s on: give --password-file", name)
	}
	return a.hidden("Password of " + name + ": ")
}
