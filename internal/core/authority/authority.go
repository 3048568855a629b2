// Package authority makes the chest's own certificate authority and the server certificate under it (X.509, RFC 5280).
//
// A chest serves TLS from its first start. Its authority is made with it and signs nothing but its own server
// certificate; clients pin the authority, by file or by fingerprint, when they first connect.
package authority

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"strings"
	"time"
)

// Lifetimes.
const (
	authorityLife = 10 * 365 * 24 * time.Hour
	serverLife    = 365 * 24 * time.Hour
	// RenewBefore is how long before its end a server certificate is replaced.
	RenewBefore = 30 * 24 * time.Hour
	// backdate tolerates clocks that are a little behind.
	backdate = 5 * time.Minute
)

// Authority can issue server certificates.
type Authority struct {
	Certificate []byte // PEM
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

// New makes an authority for a chest; the clock is the caller's.
func New(chest string, now time.Time) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, fmt.Errorf("make authority key: %w", err)
	}
	template := &x509.Certificate{
		SerialNumber:          serial(),
		Subject:               pkix.Name{CommonName: "Tansu authority of chest " + chest},
		NotBefore:             now.Add(-backdate),
		NotAfter:              now.Add(authorityLife),
		IsCA:                  true,
		BasicConstraintsValid: true,
		MaxPathLenZero:        true,
		KeyUsage:              x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, fmt.Errorf("make authority certificate: %w", err)
	}
	return restore(encode("CERTIFICATE", der), key)
}

// Key returns the private key, PKCS #8, to be sealed.
func (a *Authority) Key() ([]byte, error) { return x509.MarshalPKCS8PrivateKey(a.key) }

// Restore makes the authority again of its certificate and private key.
func Restore(certificate, key []byte) (*Authority, error) {
	parsed, err := x509.ParsePKCS8PrivateKey(key)
	if err != nil {
		return nil, fmt.Errorf("read authority key: %w", err)
	}
	private, ok := parsed.(*ecdsa.PrivateKey)
	if !ok {
		return nil, errors.New("the authority key is not an ECDSA key")
	}
	return restore(certificate, private)
}

func restore(certificate []byte, key *ecdsa.PrivateKey) (*Authority, error) {
	parsed, err := parse(certificate)
	if err != nil {
		return nil, err
	}
	return &Authority{Certificate: certificate, certificate: parsed, key: key}, nil
}

// Issue makes a server certificate for host names and IP addresses. Both results are PEM; the certificate is followed
// by the authority's, so that a client which knows only the fingerprint can check it.
func (a *Authority) Issue(hosts []string, now time.Time) (certificate, key []byte, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, fmt.Errorf("make server key: %w", err)
	}
	template := &x509.Certificate{
		SerialNumber: serial(),
		Subject:      pkix.Name{CommonName: "Tansu"},
		NotBefore:    now.Add(-backdate),
		NotAfter:     now.Add(serverLife),
		KeyUsage:     x509.KeyUsageDigitalSignature,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	for _, host := range hosts {
		if ip := net.ParseIP(host); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, host)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, a.certificate, private.Public(), a.key)
	if err != nil {
		return nil, nil, fmt.Errorf("make server certificate: %w", err)
	}
	encodedKey, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, nil, fmt.Errorf("encode server key: %w", err)
	}
	return append(encode("CERTIFICATE", der), a.Certificate...), encode("PRIVATE KEY", encodedKey), nil
}

// RenewalDue reports whether a server certificate ends within RenewBefore.
func RenewalDue(certificate []byte, now time.Time) bool {
	parsed, err := parse(certificate)
	return err != nil || now.Add(RenewBefore).After(parsed.NotAfter)
}

// Hosts returns the names and addresses a server certificate is for.
func Hosts(certificate []byte) ([]string, error) {
	parsed, err := parse(certificate)
	if err != nil {
		return nil, err
	}
	hosts := append([]string(nil), parsed.DNSNames...)
	for _, ip := range parsed.IPAddresses {
		hosts = append(hosts, ip.String())
	}
	return hosts, nil
}

// Fingerprint is the SHA-256 of a certificate, in hex, as people compare it. The certificate is PEM.
func Fingerprint(certificate []byte) (string, error) {
	parsed, err := parse(certificate)
	if err != nil {
		return "", err
	}
	return FingerprintDER(parsed.Raw), nil
}

// FingerprintDER is Fingerprint of a DER certificate, as a TLS handshake gives it.
func FingerprintDER(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

// SameFingerprint compares fingerprints as people write them: any case, with or without colons.
func SameFingerprint(a, b string) bool {
	plain := func(text string) string { return strings.ToLower(strings.ReplaceAll(text, ":", "")) }
	return plain(a) == plain(b)
}

func parse(certificate []byte) (*x509.Certificate, error) {
	block, _ := pem.Decode(certificate)
	if block == nil || block.Type != "CERTIFICATE" {
		return nil, errors.New("not a PEM certificate")
	}
	parsed, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("read certificate: %w", err)
	}
	return parsed, nil
}

func encode(kind string, der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})
}

// serial is random, 127 bits (RFC 5280, section 4.1.2.2, allows up to 20 bytes).
func serial() *big.Int {
	var bytes [16]byte
	_, _ = rand.Read(bytes[:])
	bytes[0] &= 0x7f
	return new(big.Int).SetBytes(bytes[:])
}
