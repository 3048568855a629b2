// Package cert reads, checks and makes X.509 certificates (RFC 5280), the requests for them (PKCS #10, RFC 2986), and what an authority
// says of those that it made: revocation lists (RFC 5280, section 5) and answers about single ones (OCSP, RFC 6960).
//
// It has no clock and keeps nothing: the moment is the caller's, and so is what was made. Its functions are safe for concurrent use.
package cert

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"
)

// InvalidError says which member of what was given is wrong. Nothing of a private key is in it.
type InvalidError struct {
	Field string
	Text  string
}

func (e *InvalidError) Error() string { return e.Text }

func invalid(field, format string, arguments ...any) error {
	return &InvalidError{field, fmt.Sprintf(format, arguments...)}
}

// The names of what is wrong.
const (
	fieldCertificate = "certificate"
	fieldPrivate     = "private"
	fieldRequest     = "request"
	fieldNames       = "names"
	fieldKeyType     = "key_type"
	fieldIssuer      = "issuer"
	fieldProfile     = "profile"
)

// mostInChain is the most certificates of one chain, and longestPEM the most bytes of one.
const (
	mostInChain = 10
	longestPEM  = 256 << 10
)

// Facts are what a certificate says. They are public.
type Facts struct {
	Subject     string    `json:"subject,omitempty"`     // the distinguished name
	CommonName  string    `json:"common_name,omitempty"` // of the subject; empty for none
	Names       []string  `json:"names,omitempty"`       // DNS names, addresses, URIs, mail addresses
	Issuer      string    `json:"issuer,omitempty"`
	Serial      string    `json:"serial,omitempty"` // in hex
	NotBefore   time.Time `json:"not_before,omitzero"`
	NotAfter    time.Time `json:"not_after,omitzero"`
	KeyType     string    `json:"key_type,omitempty"`
	Usages      []string  `json:"usages,omitempty"`
	Fingerprint string    `json:"fingerprint,omitempty"` // SHA-256 of the certificate, in hex
	SelfSigned  bool      `json:"self_signed,omitempty"`
	Authority   bool      `json:"authority,omitempty"`   // it may sign other certificates
	PathLength  *int      `json:"path_length,omitempty"` // of an authority: how many may follow below it; nil for any number
	Within      []string  `json:"within,omitempty"`      // of an authority: the names and networks that it may sign for; empty for any
	KeyID       string    `json:"key_id,omitempty"`      // SHA-256 of the public key (SPKI), in hex
}

// ReadChain reads a certificate and those that it leads to, as PEM or as one in DER, in any order, and puts the one in front that the key
// belongs to, or, when that is nil, the one that issued none of the others. Notes say what was mended. A certificate that has nothing to do
// with the others is an error, and so is a key that is too weak.
func ReadChain(text []byte, key crypto.PublicKey) (chain []*x509.Certificate, notes []string, err error) {
	given, err := readAll(text)
	if err != nil {
		return nil, nil, err
	}
	first := leafOf(given, key)
	if first < 0 && key != nil {
		return nil, nil, invalid(fieldPrivate, "the private key belongs to none of the certificates: it was made for another one")
	}
	if first < 0 {
		return nil, nil, invalid(fieldCertificate, "the certificates are several that have nothing to do with each other")
	}
	chain, rest := []*x509.Certificate{given[first]}, slices.Delete(slices.Clone(given), first, first+1)
	for len(rest) > 0 {
		last := chain[len(chain)-1]
		next := slices.IndexFunc(rest, func(c *x509.Certificate) bool { return issued(c, last) })
		if next < 0 || bytes.Equal(last.RawIssuer, last.RawSubject) {
			return nil, nil, invalid(fieldCertificate, "the certificate of %q has nothing to do with that of %q: it is of another chain",
				rest[0].Subject, chain[0].Subject)
		}
		chain, rest = append(chain, rest[next]), slices.Delete(rest, next, next+1)
	}
	if !slices.EqualFunc(chain, given, (*x509.Certificate).Equal) {
		notes = append(notes, "the certificates were in another order: they are stored as TLS has them, each followed by its issuer's")
	}
	_, err = KeyType(chain[0].PublicKey)
	return chain, notes, err
}

// readAll reads the certificates of a text, each of them once.
func readAll(text []byte) (list []*x509.Certificate, err error) {
	if len(text) > longestPEM {
		return nil, invalid(fieldCertificate, "the certificates have %d bytes; the most is %d", len(text), longestPEM)
	}
	var ders [][]byte
	if len(text) > 0 && text[0] == 0x30 { // a SEQUENCE: DER
		ders = [][]byte{text}
	}
	for rest := text; ders == nil || len(rest) > 0 && text[0] != 0x30; {
		block, more := pem.Decode(rest)
		if block == nil {
			break
		}
		if strings.HasSuffix(block.Type, "PRIVATE KEY") {
			return nil, invalid(fieldCertificate, "there is a private key among the certificates: give it as the field private")
		}
		if block.Type != "CERTIFICATE" {
			return nil, invalid(fieldCertificate, "there is a %.40q among the certificates", block.Type)
		}
		ders, rest = append(ders, block.Bytes), more
		if len(ders) > mostInChain {
			return nil, invalid(fieldCertificate, "a chain has at most %d certificates", mostInChain)
		}
	}
	for _, der := range ders {
		one, err := x509.ParseCertificate(der)
		if err != nil {
			return nil, invalid(fieldCertificate, "a certificate cannot be read: it is no X.509 in DER")
		}
		if long, is := one.PublicKey.(*rsa.PublicKey); is && long.N.BitLen() > mostBits {
			return nil, invalid(fieldCertificate, "a certificate has an RSA key of %d bits; the most is %d", long.N.BitLen(), mostBits)
		}
		if !slices.ContainsFunc(list, one.Equal) {
			list = append(list, one)
		}
	}
	if len(list) == 0 {
		return nil, invalid(fieldCertificate, "there is no certificate in PEM in it (-----BEGIN CERTIFICATE-----)")
	}
	return list, nil
}

// leafOf finds the certificate that a chain is for; -1 for none, or several.
func leafOf(list []*x509.Certificate, key crypto.PublicKey) int {
	if key != nil {
		return slices.IndexFunc(list, func(c *x509.Certificate) bool { return SameKey(c.PublicKey, key) })
	}
	found := -1
	for i, c := range list {
		issues := slices.ContainsFunc(list, func(other *x509.Certificate) bool { return other != c && issued(c, other) })
		switch {
		case issues:
		case found >= 0:
			return -1
		default:
			found = i
		}
	}
	return found
}

// issued reports whether one certificate has signed another.
func issued(issuer, of *x509.Certificate) bool {
	return bytes.Equal(issuer.RawSubject, of.RawIssuer) && of.CheckSignatureFrom(issuer) == nil
}

// SameKey reports whether two public keys are one.
func SameKey(a, b crypto.PublicKey) bool {
	comparable, ok := a.(interface{ Equal(crypto.PublicKey) bool })
	return ok && comparable.Equal(b)
}

// PEM writes certificates one after the other.
func PEM(chain []*x509.Certificate) []byte {
	var b bytes.Buffer
	for _, c := range chain {
		_ = pem.Encode(&b, &pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}) // a Buffer takes all
	}
	return b.Bytes()
}

// Describe says what a certificate says.
func Describe(c *x509.Certificate) Facts {
	f := Facts{Subject: c.Subject.String(), CommonName: c.Subject.CommonName, Names: namesOf(c), Issuer: c.Issuer.String(),
		Serial:    Serial(c.SerialNumber),
		NotBefore: c.NotBefore.UTC(), NotAfter: c.NotAfter.UTC(), Fingerprint: Fingerprint(c.Raw), KeyID: Fingerprint(c.RawSubjectPublicKeyInfo),
		SelfSigned: bytes.Equal(c.RawIssuer, c.RawSubject), Authority: c.BasicConstraintsValid && c.IsCA}
	f.KeyType, _ = KeyType(c.PublicKey) // "" for one that we would not take
	for _, usage := range c.ExtKeyUsage {
		for name, known := range Usages {
			if known == usage {
				f.Usages = append(f.Usages, name)
			}
		}
	}
	if f.Authority {
		if c.MaxPathLen > 0 || c.MaxPathLenZero {
			length := c.MaxPathLen
			f.PathLength = &length
		}
		f.Within = append(f.Within, c.PermittedDNSDomains...)
		for _, network := range c.PermittedIPRanges {
			f.Within = append(f.Within, network.String())
		}
	}
	slices.Sort(f.Usages)
	return f
}

// RenewAt is when a certificate is to be renewed: after two thirds of its life, and somewhat earlier by a chance of 0 to 1, so that
// those that were issued together are not renewed together.
func (f *Facts) RenewAt(chance float64) time.Time {
	life := f.NotAfter.Sub(f.NotBefore)
	return f.NotBefore.Add(time.Duration(float64(life) * (2.0/3 - chance/20)))
}

func namesOf(c *x509.Certificate) (names []string) {
	names = slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	for _, uri := range c.URIs {
		names = append(names, uri.String())
	}
	return append(names, c.EmailAddresses...)
}

// Serial writes a serial number as people compare it.
func Serial(number *big.Int) string { return fmt.Sprintf("%032x", number) }

// ParseSerial reads a serial number in hex, with or without colons.
func ParseSerial(text string) (*big.Int, error) {
	number, ok := new(big.Int).SetString(strings.ReplaceAll(text, ":", ""), 16)
	if !ok || number.Sign() <= 0 || number.BitLen() > 160 { // RFC 5280, section 4.1.2.2: at most 20 bytes
		return nil, invalid("serial", "serial is a serial number in hex, as the list of certificates has it")
	}
	return number, nil
}

// Fingerprint is the SHA-256 of a certificate in DER, in hex.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

// mostBits is the longest RSA key that anything is checked by: each time takes the chest more than whoever asks.
const mostBits = 8192

// KeyTypes are the types of keys that certificates are for.
var KeyTypes = []string{"ecdsa-p256", "ecdsa-p384", "ecdsa-p521", "rsa-2048", "rsa-3072", "rsa-4096", "ed25519"}

// KeyType is the type of a public key, in the words that keys have; an error for one that is too weak, or of another kind. An RSA key of a
// length in between counts as the next shorter one.
func KeyType(public crypto.PublicKey) (string, error) {
	switch key := public.(type) {
	case *ecdsa.PublicKey:
		if bits := key.Curve.Params().BitSize; bits >= 256 {
			return fmt.Sprintf("ecdsa-p%d", bits), nil
		}
		return "", invalid(fieldCertificate, "the key is on a curve of %d bits; P-256, P-384 and P-521 are good", key.Curve.Params().BitSize)
	case *rsa.PublicKey:
		switch bits := key.N.BitLen(); {
		case bits < 2048 || bits > mostBits:
			return "", invalid(fieldCertificate, "the RSA key has %d bits; 2048 to 8192 are good", bits)
		case bits < 3072:
			return "rsa-2048", nil
		case bits < 4096:
			return "rsa-3072", nil
		default:
			return "rsa-4096", nil
		}
	case ed25519.PublicKey:
		return "ed25519", nil
	}
	return "", invalid(fieldCertificate, "the key is neither RSA, ECDSA nor Ed25519")
}
