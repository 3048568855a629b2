package cert

import (
	"bytes"
	"encoding/json"
	"net"
	"regexp"
	"slices"
	"strings"

	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
)

// Profile says what an authority certifies, or a key signs: for which names and uses, and for how long. Who may ask for it is said by
// grants on its name, as for everything. It has one of three parts, which stand beside each other in its JSON: what is said of certificates
// of X.509, of those of SSH, or of JSON Web Tokens.
type Profile struct {
	Authority string         `json:"authority"` // the item in the same drawer that signs; of SSH and of tokens a key
	Longest   lifecycle.Span `json:"longest"`   // the longest life
	// Networks of addresses, such as 10.1.0.0/16: that certificates of X.509 are for, or that users of SSH come from.
	Networks []string `json:"networks,omitempty"`
	X509
	SSH
	JWT *JWT `json:"jwt,omitempty"`
}

// Gives is what a profile gives.
type Gives string

// What they give.
const (
	GivesX509 Gives = "certificates of X.509"
	GivesSSH  Gives = "certificates of SSH"
	GivesJWT  Gives = "JSON Web Tokens"
)

// commands ask for each.
var commands = map[Gives]string{GivesX509: "tansu cert issue", GivesSSH: "tansu cert ssh", GivesJWT: "tansu jwt issue"}

// Gives tells what a profile gives.
func (p *Profile) Gives() Gives {
	switch {
	case p.JWT != nil:
		return GivesJWT
	case p.For != "":
		return GivesSSH
	}
	return GivesX509
}

// Give refuses to give something else than what a profile gives.
func (p *Profile) Give(what Gives) error {
	if gives := p.Gives(); gives != what {
		return invalid(fieldProfile, "the profile gives %s, and no %s (%s)", gives, what, commands[gives])
	}
	return nil
}

// ReadProfile reads and checks a profile as JSON; it has no other members than those.
func ReadProfile(text []byte) (p Profile, err error) {
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&p); err != nil || decoder.More() {
		return p, invalid(fieldProfile, "the profile is not an object of JSON with the members authority and longest; names, networks, uris, "+
			"mail, subjects, wildcards, key_types and usages; of SSH ssh, principals, extensions and command; of tokens jwt, with issuer, "+
			"audiences, subjects, claims, always, type and algorithm")
	}
	return p, p.check()
}

func (p *Profile) check() error {
	if reference.CheckName(p.Authority) != nil {
		return invalid("profile.authority", "authority is the name of the authority that signs, or of the key, in the same drawer")
	}
	for _, text := range p.Networks {
		if _, _, err := net.ParseCIDR(text); err != nil {
			return invalid("profile.networks", "%.100q is not a network, such as 10.1.0.0/16", text)
		}
	}
	switch {
	case p.JWT != nil && (p.X509.given() || p.SSH.given() || len(p.Networks) > 0):
		return invalid("profile.jwt", "a profile of tokens has authority, longest and jwt, and says nothing of certificates")
	case p.JWT != nil:
		return p.checkJWT()
	case p.For != "" && p.X509.given():
		return invalid("profile.names", "certificates of SSH are for principals: give these, and none of names, uris, mail, subjects, "+
			"wildcards, key_types and usages")
	case p.For != "":
		return p.checkSSH()
	case p.SSH.given():
		return invalid("profile.ssh", "principals, extensions and command are said of certificates of SSH: say ssh, user or host")
	}
	return p.checkX509()
}

// tooMany reports whether lists of a profile have more patterns together than it may have.
func tooMany(list ...[]string) bool {
	n := 0
	for _, one := range list {
		n += len(one)
	}
	return n > mostNames
}

func listed(patterns []string) string {
	if len(patterns) == 0 {
		return "none"
	}
	return strings.Join(patterns, ", ")
}

// matches reports whether one of the patterns selects a text, whatever its case; "*" in one is anything without the separator.
func matches(patterns []string, text, separator string) bool {
	return selects("(?i)", patterns, text, separator)
}

func selects(flags string, patterns []string, text, separator string) bool {
	within := ".*"
	if separator != "" {
		within = "[^" + regexp.QuoteMeta(separator) + "]*"
	}
	return slices.ContainsFunc(patterns, func(pattern string) bool {
		quoted := strings.ReplaceAll(regexp.QuoteMeta(pattern), `\*`, within)
		return regexp.MustCompile(flags + "^" + quoted + "$").MatchString(text) // quoted, so that it is one
	})
}
