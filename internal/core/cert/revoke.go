package cert

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"fmt"
	"math/big"
	"slices"
	"time"

	"golang.org/x/crypto/ocsp"
)

// Reasons are why a certificate is revoked, with their codes (RFC 5280, section 5.3.1). A hold is not among them: it is a suspension of an
// item here, and a certificate that was revoked once stays so.
var Reasons = map[string]int{"unspecified": 0, "key_compromise": 1, "affiliation_changed": 3, "superseded": 4, "cessation_of_operation": 5,
	"privilege_withdrawn": 9}

// ReasonNames are the names of the reasons, sorted.
func ReasonNames() (names []string) {
	for name := range Reasons {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// ReasonNamed finds the name of a code.
func ReasonNamed(code int) (string, bool) {
	for name, known := range Reasons {
		if known == code {
			return name, true
		}
	}
	return "", false
}

// Revoked is a certificate that was revoked.
type Revoked struct {
	Serial *big.Int
	At     time.Time
	Reason string
}

// Freshness of what an authority says: a list is good for a day, an answer about one certificate for an hour.
const (
	ListFresh   = 24 * time.Hour
	StatusFresh = time.Hour
)

// List signs the list of revoked certificates, in DER (a CRL, RFC 5280, section 5). Its number is that of the second in which it was made,
// so that a later one has a greater one.
func (i *Issuer) List(revoked []Revoked, now time.Time) ([]byte, error) {
	template := &x509.RevocationList{Number: big.NewInt(now.Unix()), ThisUpdate: now.Add(-backdate), NextUpdate: now.Add(ListFresh),
		RevokedCertificateEntries: make([]x509.RevocationListEntry, len(revoked))}
	for n, r := range revoked {
		template.RevokedCertificateEntries[n] = x509.RevocationListEntry{SerialNumber: r.Serial, RevocationTime: r.At,
			ReasonCode: Reasons[r.Reason]}
	}
	der, err := x509.CreateRevocationList(rand.Reader, template, i.Chain[0], i.Key)
	if err != nil {
		return nil, fmt.Errorf("sign the list of revoked certificates: %w", err)
	}
	return der, nil
}

// Status is what an authority knows of one of its certificates.
type Status struct {
	Known   bool // it has issued it
	Revoked *Revoked
}

// ErrBadQuestion is an OCSP request that cannot be read, or that is about another authority's certificates.
var ErrBadQuestion = invalid(fieldRequest, "the request is no OCSP request about certificates of this authority")

// ReadQuestion reads an OCSP request, in DER, and says which serial number it asks about.
func (i *Issuer) ReadQuestion(der []byte) (*big.Int, crypto.Hash, error) {
	question, err := ocsp.ParseRequest(der)
	if err != nil || question.HashAlgorithm != crypto.SHA1 && question.HashAlgorithm != crypto.SHA256 { // those that are used
		return nil, 0, ErrBadQuestion
	}
	twin, err := ocsp.CreateRequest(&x509.Certificate{SerialNumber: question.SerialNumber}, i.Chain[0], &ocsp.RequestOptions{
		Hash: question.HashAlgorithm})
	if err != nil {
		return nil, 0, ErrBadQuestion
	}
	own, err := ocsp.ParseRequest(twin)
	if err != nil || !slices.Equal(own.IssuerKeyHash, question.IssuerKeyHash) || !slices.Equal(own.IssuerNameHash, question.IssuerNameHash) {
		return nil, 0, ErrBadQuestion
	}
	return question.SerialNumber, question.HashAlgorithm, nil
}

// Answer signs what is known of a serial number, in DER (RFC 6960, section 4.2).
func (i *Issuer) Answer(number *big.Int, hash crypto.Hash, s Status, now time.Time) ([]byte, error) {
	template := ocsp.Response{Status: ocsp.Unknown, SerialNumber: number, ThisUpdate: now.Add(-backdate).Truncate(time.Second),
		NextUpdate: now.Add(StatusFresh).Truncate(time.Second), IssuerHash: hash}
	switch {
	case s.Revoked != nil:
		template.Status, template.RevokedAt, template.RevocationReason = ocsp.Revoked, s.Revoked.At, Reasons[s.Revoked.Reason]
	case s.Known:
		template.Status = ocsp.Good
	}
	der, err := ocsp.CreateResponse(i.Chain[0], i.Chain[0], template, i.Key)
	if err != nil {
		return nil, fmt.Errorf("sign an answer about a certificate: %w", err)
	}
	return der, nil
}

// The media types of what is served (RFC 5280, section 4.2.1.13 and RFC 6960, appendix C).
const (
	ListType        = "application/pkix-crl"
	CertificateType = "application/pkix-cert"
	StatusType      = "application/ocsp-response"
)

// Unauthorized is the answer about what an authority says nothing about (RFC 6960, section 2.3).
func Unauthorized() []byte { return slices.Clone(ocsp.UnauthorizedErrorResponse) }

// Malformed is the answer to a request that cannot be read (RFC 6960, section 4.2.1).
func Malformed() []byte { return slices.Clone(ocsp.MalformedRequestErrorResponse) }
