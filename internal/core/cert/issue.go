package cert

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net"
	"time"
)

// Issuer is an authority that can sign: its certificate, those above it, and its key.
type Issuer struct {
	Chain []*x509.Certificate // its own first
	Key   crypto.Signer
	// Where its list of revoked certificates, its answers about single ones, and its own certificate are found; empty for nowhere.
	ListURL, StatusURL, CertificateURL string
}

// backdate tolerates clocks that are a little behind.
const backdate = 5 * time.Minute

// serial is random, 127 bits (RFC 5280, section 4.1.2.2, allows up to 20 bytes and asks for no order).
func serial() *big.Int {
	var random [16]byte
	_, _ = rand.Read(random[:])
	random[0] = random[0]&0x7f | 0x40 // never shorter
	return new(big.Int).SetBytes(random[:])
}

// usageOf the key of an end entity: a signature for all, and key encipherment for RSA, which TLS before 1.3 may use.
func keyUsage(public crypto.PublicKey) x509.KeyUsage {
	if _, is := public.(*rsa.PublicKey); is {
		return x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment
	}
	return x509.KeyUsageDigitalSignature
}

// Usable refuses an authority that cannot sign at a moment.
func (i *Issuer) Usable(now time.Time) error {
	for n, c := range i.Chain {
		switch whose := map[bool]string{true: "the authority", false: "the authority above it"}[n == 0]; {
		case now.Before(c.NotBefore):
			return invalid(fieldIssuer, "%s is not valid before %s", whose, c.NotBefore.UTC().Format(time.RFC3339))
		case !now.Before(c.NotAfter):
			return invalid(fieldIssuer, "%s ended on %s", whose, c.NotAfter.UTC().Format(time.RFC3339))
		}
	}
	return nil
}

// ends is the earlier of a moment and the end of the authority, or of one above it: what is signed does not outlive them.
func (i *Issuer) ends(until time.Time) time.Time {
	for _, c := range i.Chain {
		if c.NotAfter.Before(until) {
			until = c.NotAfter
		}
	}
	return until
}

// Issue certifies a request for as long as is asked, or for the profile's longest life when that is 0. The request was checked against the
// profile. A certificate that its own authority may not give, by its name constraints or its path length, is an error. What would outlive
// the authority ends with it.
func (i *Issuer) Issue(p *Profile, r Request, life time.Duration, now time.Time) (*x509.Certificate, error) {
	switch longest := time.Duration(p.Longest); {
	case life < 0 || life > longest:
		return nil, invalid("life", "a certificate of this profile lasts at most %s", p.Longest)
	case life == 0:
		life = longest
	}
	template := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: r.Subject}, DNSNames: r.Names.DNS,
		IPAddresses: r.Names.Addresses, URIs: r.Names.URIs, EmailAddresses: r.Names.Mail, KeyUsage: keyUsage(r.Public),
		ExtKeyUsage: p.extended(), BasicConstraintsValid: true, NotBefore: now.Add(-backdate), NotAfter: i.ends(now.Add(life))}
	return i.sign(template, r.Public, now)
}

// Below is what is asked of a new authority.
type Below struct {
	Subject    string        // its name
	Life       time.Duration // how long it lasts
	PathLength *int          // how many authorities may follow below it; nil for any number
	Within     []string      // the host names, each with what is below it, and the networks that it may sign for; empty for any
}

// BelowOf is what an authority's certificate says of it, for another one with the same bounds.
func BelowOf(c *x509.Certificate, life time.Duration) Below {
	f := Describe(c)
	return Below{Subject: f.CommonName, Life: life, PathLength: f.PathLength, Within: f.Within}
}

// NewAuthority certifies a key as an authority: one under the issuer, or when that is nil, one that stands by itself.
func NewAuthority(issuer *Issuer, key crypto.Signer, b Below, now time.Time) (*x509.Certificate, error) {
	if b.Subject == "" {
		return nil, invalid("subject", "subject is the name of the authority in certificates")
	}
	if err := commonName(b.Subject); err != nil {
		return nil, err
	}
	if b.Life < time.Hour || b.Life > 2*MostLife {
		return nil, invalid("life", "an authority lasts from 1h to 7300d")
	}
	template := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: b.Subject}, IsCA: true, BasicConstraintsValid: true,
		MaxPathLen: -1, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign | x509.KeyUsageDigitalSignature,
		NotBefore: now.Add(-backdate), NotAfter: now.Add(b.Life)}
	if b.PathLength != nil {
		if *b.PathLength < 0 || *b.PathLength > 10 {
			return nil, invalid("path_length", "path_length is how many authorities may follow below this one, from 0 to 10")
		}
		template.MaxPathLen, template.MaxPathLenZero = *b.PathLength, *b.PathLength == 0
	}
	for _, text := range b.Within {
		if _, network, err := net.ParseCIDR(text); err == nil {
			template.PermittedIPRanges = append(template.PermittedIPRanges, network)
		} else if hostName(text) {
			template.PermittedDNSDomains = append(template.PermittedDNSDomains, text)
		} else {
			return nil, invalid("within", "%.100q is neither a host name, such as harbour.example, nor a network", text)
		}
	}
	// RFC 5280, section 4.2.1.10: a kind of name that nothing is said about is not constrained. Who says which host names wants no addresses.
	if len(template.PermittedDNSDomains) > 0 && len(template.PermittedIPRanges) == 0 {
		template.ExcludedIPRanges = []*net.IPNet{{IP: net.IPv4zero.To4(), Mask: net.CIDRMask(0, 32)},
			{IP: net.IPv6zero, Mask: net.CIDRMask(0, 128)}}
	}
	template.PermittedDNSDomainsCritical = len(b.Within) > 0
	if issuer == nil {
		der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
		if err != nil {
			return nil, fmt.Errorf("make an authority: %w", err)
		}
		return x509.ParseCertificate(der)
	}
	template.NotAfter = issuer.ends(template.NotAfter)
	return issuer.sign(template, key.Public(), now)
}

// SelfSigned certifies a key by itself, for what trusts single certificates.
func SelfSigned(key crypto.Signer, subject string, names Names, life time.Duration, now time.Time) (*x509.Certificate, error) {
	if names.Empty() && subject == "" {
		return nil, invalid(fieldNames, "the certificate is for no name")
	}
	if err := commonName(subject); err != nil {
		return nil, err
	}
	if life < time.Minute || life > MostLife {
		return nil, invalid("life", "a certificate lasts from 1m to 3650d")
	}
	template := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: subject}, DNSNames: names.DNS,
		IPAddresses: names.Addresses, URIs: names.URIs, EmailAddresses: names.Mail, KeyUsage: keyUsage(key.Public()),
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
		BasicConstraintsValid: true, NotBefore: now.Add(-backdate), NotAfter: now.Add(life)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, fmt.Errorf("make a certificate: %w", err)
	}
	return x509.ParseCertificate(der)
}

// sign signs, and looks whether anybody who trusts the authority would believe what it signed.
func (i *Issuer) sign(template *x509.Certificate, public crypto.PublicKey, now time.Time) (*x509.Certificate, error) {
	if err := i.Usable(now); err != nil {
		return nil, err
	}
	if i.ListURL != "" {
		template.CRLDistributionPoints = []string{i.ListURL}
	}
	if i.StatusURL != "" {
		template.OCSPServer = []string{i.StatusURL}
	}
	if i.CertificateURL != "" {
		template.IssuingCertificateURL = []string{i.CertificateURL}
	}
	if own := i.Chain[0].NotBefore; template.NotBefore.Before(own) {
		template.NotBefore = own
	}
	if i.Chain[0].MaxPathLenZero && template.IsCA {
		return nil, invalid(fieldIssuer, "the path length of the authority %q lets no other one stand below it", i.Chain[0].Subject.CommonName)
	}
	der, err := x509.CreateCertificate(rand.Reader, template, i.Chain[0], public, i.Key)
	if err != nil {
		return nil, fmt.Errorf("sign a certificate: %w", err)
	}
	made, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, fmt.Errorf("read what was signed: %w", err)
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	for n, c := range i.Chain {
		if n == len(i.Chain)-1 {
			roots.AddCert(c)
		} else {
			between.AddCert(c)
		}
	}
	if _, err := made.Verify(x509.VerifyOptions{Roots: roots, Intermediates: between, CurrentTime: now,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}); err != nil {
		return nil, invalid(fieldNames, "the authority may not sign this: %s", refusal(err))
	}
	return made, nil
}

func refusal(err error) string {
	if bad, is := err.(x509.CertificateInvalidError); is {
		switch bad.Reason {
		case x509.CANotAuthorizedForThisName:
			return "its name constraints do not allow the name (" + bad.Detail + ")"
		case x509.TooManyIntermediates:
			return "a path length above it is exceeded"
		}
	}
	return err.Error()
}
