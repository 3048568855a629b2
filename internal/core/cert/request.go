package cert

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"unicode"
)

// mostNames is the most names of one certificate.
const mostNames = 100

// Names are what a certificate is for (the subjectAltName of RFC 5280, section 4.2.1.6), sorted by kind.
type Names struct {
	DNS       []string
	Addresses []net.IP
	URIs      []*url.URL
	Mail      []string
}

// ReadNames sorts names by what they look like, and refuses what is none.
func ReadNames(list []string) (n Names, err error) {
	if len(list) > mostNames {
		return n, invalid(fieldNames, "a certificate has at most %d names", mostNames)
	}
	for _, name := range list {
		ip := net.ParseIP(name)
		switch {
		case ip != nil:
			n.Addresses = append(n.Addresses, ip)
		case strings.Contains(name, "://"):
			uri, err := url.Parse(name)
			if err != nil || uri.Host == "" || uri.User != nil {
				return n, invalid(fieldNames, "%.100q is not a URI with a host", name)
			}
			n.URIs = append(n.URIs, uri)
		case strings.Contains(name, "@"):
			parsed, err := mail.ParseAddress(name)
			if err != nil || parsed.Address != name {
				return n, invalid(fieldNames, "%.100q is not a mail address", name)
			}
			n.Mail = append(n.Mail, name)
		default:
			if !hostName(name) {
				return n, invalid(fieldNames, "%.100q is not a host name, such as gate-1.harbour.example, nor an address", name)
			}
			n.DNS = append(n.DNS, strings.ToLower(name))
		}
	}
	return n, nil
}

// hostName reports whether a text is a host name in ASCII, in which the first label may be "*" (RFC 9525, section 6.3).
func hostName(text string) bool {
	if len(text) > 253 {
		return false
	}
	labels := strings.Split(text, ".")
	for i, label := range labels {
		if i == 0 && label == "*" && len(labels) > 2 {
			continue
		}
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' ||
			strings.Trim(strings.ToLower(label), "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
			return false
		}
	}
	return true
}

// Texts lists all names.
func (n Names) Texts() []string {
	return namesOf(&x509.Certificate{DNSNames: n.DNS, IPAddresses: n.Addresses, URIs: n.URIs, EmailAddresses: n.Mail})
}

// Empty reports whether there is no name.
func (n Names) Empty() bool { return len(n.DNS)+len(n.Addresses)+len(n.URIs)+len(n.Mail) == 0 }

// commonName refuses what is none.
func commonName(text string) error {
	if len(text) > 64 { // ub-common-name of RFC 5280, appendix A.1
		return invalid("subject", "a common name has at most 64 bytes")
	}
	if strings.ContainsFunc(text, func(r rune) bool { return !unicode.IsPrint(r) }) {
		return invalid("subject", "a common name has nothing but characters that can be seen")
	}
	return nil
}

// Request is what somebody asks an authority to certify.
type Request struct {
	Public  crypto.PublicKey
	KeyType string
	Subject string // the common name; empty for none
	Names   Names
	Usages  []string // asked for by the request itself; nil for none
}

// NewRequest makes a request for a key (PKCS #10), as PEM.
func NewRequest(key crypto.Signer, subject string, names Names) ([]byte, error) {
	template := &x509.CertificateRequest{Subject: pkix.Name{CommonName: subject}, DNSNames: names.DNS, IPAddresses: names.Addresses,
		URIs: names.URIs, EmailAddresses: names.Mail}
	der, err := x509.CreateCertificateRequest(rand.Reader, template, key)
	if err != nil {
		return nil, fmt.Errorf("make a request: %w", err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}), nil
}

// ReadRequest reads a request in PEM or DER. One whose signature is not that of its key is an error: whoever asks has to have the private
// key. So is one that asks to be an authority, or for an extension that we do not know.
func ReadRequest(text []byte) (r Request, err error) {
	der := text
	if len(text) > longestPEM {
		return r, invalid(fieldRequest, "the request has %d bytes; the most is %d", len(text), longestPEM)
	}
	if len(text) == 0 || text[0] != 0x30 {
		block, _ := pem.Decode(text)
		if block == nil || block.Type != "CERTIFICATE REQUEST" && block.Type != "NEW CERTIFICATE REQUEST" {
			return r, invalid(fieldRequest, "there is no certificate request in PEM in it (-----BEGIN CERTIFICATE REQUEST-----)")
		}
		der = block.Bytes
	}
	parsed, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return r, invalid(fieldRequest, "the request cannot be read: it is no PKCS #10")
	}
	if r.KeyType, err = KeyType(parsed.PublicKey); err != nil { // first: to check by a key that is very long takes seconds
		return r, invalid(fieldRequest, "%s", err)
	}
	if parsed.CheckSignature() != nil {
		return r, invalid(fieldRequest, "the request is not signed by its own key")
	}
	r.Public, r.Subject = parsed.PublicKey, parsed.Subject.CommonName
	if err := commonName(r.Subject); err != nil {
		return r, err
	}
	texts := namesOf(&x509.Certificate{DNSNames: parsed.DNSNames, IPAddresses: parsed.IPAddresses, URIs: parsed.URIs,
		EmailAddresses: parsed.EmailAddresses})
	if r.Names, err = ReadNames(texts); err != nil {
		return r, err
	}
	return r, r.readExtensions(parsed.Extensions)
}

// Extensions that a request may have (RFC 5280, section 4.2.1).
var (
	oidNames       = asn1.ObjectIdentifier{2, 5, 29, 17}
	oidKeyUsage    = asn1.ObjectIdentifier{2, 5, 29, 15}
	oidExtKeyUsage = asn1.ObjectIdentifier{2, 5, 29, 37}
	oidConstraints = asn1.ObjectIdentifier{2, 5, 29, 19}
	oidSubjectKey  = asn1.ObjectIdentifier{2, 5, 29, 14}
)

func (r *Request) readExtensions(list []pkix.Extension) error {
	for _, e := range list {
		switch {
		case e.Id.Equal(oidNames), e.Id.Equal(oidKeyUsage), e.Id.Equal(oidSubjectKey): // the first was read; the others follow from the profile
		case e.Id.Equal(oidConstraints):
			var constraints struct {
				IsCA       bool `asn1:"optional"`
				MaxPathLen int  `asn1:"optional,default:-1"`
			}
			if _, err := asn1.Unmarshal(e.Value, &constraints); err != nil || constraints.IsCA {
				return invalid(fieldRequest, "the request asks for an authority: a profile gives none")
			}
		case e.Id.Equal(oidExtKeyUsage):
			var usages []asn1.ObjectIdentifier
			if _, err := asn1.Unmarshal(e.Value, &usages); err != nil {
				return invalid(fieldRequest, "the extended key usage of the request cannot be read")
			}
			for _, oid := range usages {
				name := usageOf(oid)
				if name == "" {
					return invalid(fieldRequest, "the request asks for the usage %s, which no profile gives", oid)
				}
				r.Usages = append(r.Usages, name)
			}
		default:
			return invalid(fieldRequest, "the request asks for the extension %s, which no profile gives", e.Id)
		}
	}
	return nil
}

// Usages are what a certificate may be used for (the extended key usages of RFC 5280, section 4.2.1.12).
var Usages = map[string]x509.ExtKeyUsage{"server": x509.ExtKeyUsageServerAuth, "client": x509.ExtKeyUsageClientAuth,
	"code": x509.ExtKeyUsageCodeSigning, "mail": x509.ExtKeyUsageEmailProtection}

var usageOIDs = map[string]string{"1.3.6.1.5.5.7.3.1": "server", "1.3.6.1.5.5.7.3.2": "client", "1.3.6.1.5.5.7.3.3": "code",
	"1.3.6.1.5.5.7.3.4": "mail"}

func usageOf(oid asn1.ObjectIdentifier) string { return usageOIDs[oid.String()] }

// UsageNames are the names of the usages, sorted.
func UsageNames() (names []string) {
	for name := range Usages {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
