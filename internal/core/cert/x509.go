package cert

import (
	"crypto/x509"
	"net"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/lifecycle"
)

// MostLife is the longest life that a profile can give a certificate of X.509.
const MostLife = 10 * 365 * 24 * time.Hour

// X509 is what a profile says of certificates of X.509, besides networks of addresses.
type X509 struct {
	Names     []string `json:"names,omitempty"`     // patterns of host names; "*" is anything within a label
	URIs      []string `json:"uris,omitempty"`      // patterns; "*" is anything but "/"
	Mail      []string `json:"mail,omitempty"`      // patterns of mail addresses
	Subjects  []string `json:"subjects,omitempty"`  // patterns of common names that are none of the names
	Wildcards bool     `json:"wildcards,omitempty"` // whether a certificate may be for all names below one (*.harbour.example)
	KeyTypes  []string `json:"key_types,omitempty"` // empty for all that are good
	Usages    []string `json:"usages,omitempty"`    // server, client, code, mail; empty for server
}

func (x *X509) given() bool {
	return len(x.Names)+len(x.URIs)+len(x.Mail)+len(x.Subjects)+len(x.KeyTypes)+len(x.Usages) > 0 || x.Wildcards
}

func (p *Profile) checkX509() error {
	if len(p.Names)+len(p.Networks)+len(p.URIs)+len(p.Mail)+len(p.Subjects) == 0 {
		return invalid("profile.names", "the profile gives no names: give names, networks, uris, mail or subjects")
	}
	if tooMany(p.Names, p.Networks, p.URIs, p.Mail, p.Subjects) {
		return invalid("profile.names", "a profile has at most %d patterns", mostNames)
	}
	for _, pattern := range p.Names {
		if !hostName(strings.ReplaceAll(pattern, "*", "x")) {
			return invalid("profile.names", "%.100q is not a pattern of host names, such as *.harbour.example", pattern)
		}
	}
	for _, kind := range p.KeyTypes {
		if !slices.Contains(KeyTypes, kind) {
			return invalid("profile.key_types", "%.40q is not a type of key for certificates; they are %s", kind, strings.Join(KeyTypes, ", "))
		}
	}
	for _, usage := range p.Usages {
		if _, known := Usages[usage]; !known {
			return invalid("profile.usages", "%.40q is not a usage; they are %s", usage, strings.Join(UsageNames(), ", "))
		}
	}
	if len(p.Usages) == 0 {
		p.Usages = []string{"server"}
	}
	if p.Longest < lifecycle.Span(time.Minute) || p.Longest > lifecycle.Span(MostLife) {
		return invalid("profile.longest", "longest is the longest life of a certificate, from 1m to 3650d, such as 90d")
	}
	return nil
}

// Check refuses a request that asks for more than the profile gives, and says for what.
func (p *Profile) Check(r Request) error {
	if err := p.Give(GivesX509); err != nil {
		return err
	}
	if len(p.KeyTypes) > 0 && !slices.Contains(p.KeyTypes, r.KeyType) {
		return invalid(fieldKeyType, "the key is of the type %s; the profile takes %s", r.KeyType, strings.Join(p.KeyTypes, ", "))
	}
	for _, usage := range r.Usages {
		if !slices.Contains(p.Usages, usage) {
			return invalid("usages", "the request asks for the usage %s; the profile gives %s", usage, strings.Join(p.Usages, ", "))
		}
	}
	if r.Names.Empty() && r.Subject == "" {
		return invalid(fieldNames, "the request is for no name")
	}
	if err := p.CheckNames(r.Names); err != nil {
		return err
	}
	if r.Subject != "" && !slices.Contains(r.Names.Texts(), strings.ToLower(r.Subject)) && !matches(p.Subjects, r.Subject, "") {
		return invalid("subject", "the common name %.64q is neither one of the names asked for, nor one that the profile gives (%s)", r.Subject,
			listed(p.Subjects))
	}
	return commonName(r.Subject)
}

// CheckNames refuses names that the profile does not give.
func (p *Profile) CheckNames(names Names) error {
	if err := p.Give(GivesX509); err != nil {
		return err
	}
	for _, name := range names.DNS {
		if strings.HasPrefix(name, "*.") && !p.Wildcards {
			return invalid(fieldNames, "%s stands for all names below one, and the profile gives none of these", name)
		}
		if !matches(p.Names, name, ".") {
			return invalid(fieldNames, "%s is none of the names that the profile gives (%s)", name, listed(p.Names))
		}
	}
	for _, ip := range names.Addresses {
		if !slices.ContainsFunc(p.Networks, func(text string) bool { _, network, _ := net.ParseCIDR(text); return network.Contains(ip) }) {
			return invalid(fieldNames, "%s is in none of the networks that the profile gives (%s)", ip, listed(p.Networks))
		}
	}
	for _, uri := range names.URIs {
		if !matches(p.URIs, uri.String(), "/") {
			return invalid(fieldNames, "%s is none of the URIs that the profile gives (%s)", uri, listed(p.URIs))
		}
	}
	for _, address := range names.Mail {
		if !matches(p.Mail, address, "@") {
			return invalid(fieldNames, "%s is none of the mail addresses that the profile gives (%s)", address, listed(p.Mail))
		}
	}
	return nil
}

// extended are a profile's usages as X.509 has them.
func (p *Profile) extended() (list []x509.ExtKeyUsage) {
	for _, usage := range p.Usages {
		list = append(list, Usages[usage])
	}
	return list
}
