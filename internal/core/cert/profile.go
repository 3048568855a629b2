package cert

import (
	"crypto/x509"
	"encoding/json"
	"net"
	"regexp"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
)

// Profile says what an authority certifies: which names, for which keys and uses, and for how long. Who may ask for it is said by grants on
// its name, as for everything.
type Profile struct {
	Authority string         `json:"authority"`           // the item in the same drawer that signs
	Names     []string       `json:"names,omitempty"`     // patterns of host names; "*" is anything within a label
	Networks  []string       `json:"networks,omitempty"`  // of addresses, such as 10.1.0.0/16
	URIs      []string       `json:"uris,omitempty"`      // patterns; "*" is anything but "/"
	Mail      []string       `json:"mail,omitempty"`      // patterns of mail addresses
	Subjects  []string       `json:"subjects,omitempty"`  // patterns of common names that are none of the names
	Wildcards bool           `json:"wildcards,omitempty"` // whether a certificate may be for all names below one (*.harbour.example)
	KeyTypes  []string       `json:"key_types,omitempty"` // empty for all that are good
	Usages    []string       `json:"usages,omitempty"`    // server, client, code, mail; empty for server
	Longest   lifecycle.Span `json:"longest"`             // the longest life

	// Of certificates of SSH: "user" or "host"; empty for X.509. Then the authority is a key of the chest that signs, and of the others
	// networks alone mean something: from where a user may come.
	SSH        string   `json:"ssh,omitempty"`
	Principals []string `json:"principals,omitempty"` // patterns of accounts, or of host names
	Extensions []string `json:"extensions,omitempty"` // what a user may besides running programs, such as permit-pty
	Command    string   `json:"command,omitempty"`    // that is run, whatever a user asks for
}

// MostLife is the longest life that a profile can give.
const MostLife = 10 * 365 * 24 * time.Hour

// ReadProfile reads and checks a profile as JSON; it has no other members than those.
func ReadProfile(text []byte) (p Profile, err error) {
	decoder := json.NewDecoder(strings.NewReader(string(text)))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&p); err != nil || decoder.More() {
		return p, invalid(fieldProfile, "the profile is not an object of JSON with the members authority, names, networks, uris, mail, "+
			"subjects, wildcards, key_types, usages and longest; of SSH ssh, principals, extensions and command")
	}
	return p, p.check()
}

func (p *Profile) check() error {
	if reference.CheckName(p.Authority) != nil {
		return invalid("profile.authority", "authority is the name of the authority that signs, in the same drawer")
	}
	if p.SSH != "" {
		return p.checkSSH()
	}
	if len(p.Principals)+len(p.Extensions)+len(p.Command) > 0 {
		return invalid("profile.ssh", "principals, extensions and command are said of certificates of SSH: say ssh, user or host")
	}
	if len(p.Names)+len(p.Networks)+len(p.URIs)+len(p.Mail)+len(p.Subjects) == 0 {
		return invalid("profile.names", "the profile gives no names: give names, networks, uris, mail or subjects")
	}
	if len(p.Names)+len(p.Networks)+len(p.URIs)+len(p.Mail)+len(p.Subjects) > mostNames {
		return invalid("profile.names", "a profile has at most %d patterns", mostNames)
	}
	for _, pattern := range p.Names {
		if !hostName(strings.ReplaceAll(pattern, "*", "x")) {
			return invalid("profile.names", "%.100q is not a pattern of host names, such as *.harbour.example", pattern)
		}
	}
	for _, text := range p.Networks {
		if _, _, err := net.ParseCIDR(text); err != nil {
			return invalid("profile.networks", "%.100q is not a network, such as 10.1.0.0/16", text)
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
	if p.SSH != "" {
		return invalid(fieldProfile, "the profile gives certificates of SSH, and none of X.509 (tansu cert ssh)")
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
	if p.SSH != "" {
		return invalid(fieldProfile, "the profile gives certificates of SSH, and none of X.509 (tansu cert ssh)")
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

func listed(patterns []string) string {
	if len(patterns) == 0 {
		return "none"
	}
	return strings.Join(patterns, ", ")
}

// matches reports whether one of the patterns selects a text; "*" in one is anything without the separator.
func matches(patterns []string, text, separator string) bool {
	within := ".*"
	if separator != "" {
		within = "[^" + regexp.QuoteMeta(separator) + "]*"
	}
	return slices.ContainsFunc(patterns, func(pattern string) bool {
		quoted := strings.ReplaceAll(regexp.QuoteMeta(pattern), `\*`, within)
		return regexp.MustCompile("(?i)^" + quoted + "$").MatchString(text) // quoted, so that it is one
	})
}

// extended are a profile's usages as X.509 has them.
func (p *Profile) extended() (list []x509.ExtKeyUsage) {
	for _, usage := range p.Usages {
		list = append(list, Usages[usage])
	}
	return list
}
