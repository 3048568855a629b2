package content

import (
	"slices"
	"strings"

	"tansu/internal/chest"
	"tansu/internal/core/cert"
	"tansu/internal/core/cryptokey"
	"tansu/internal/entity"
	"tansu/internal/keyrow"
)

// Signs refuses a profile that names what cannot sign as it says: nil, for an item that is not there, an authority where it gives other
// things than certificates of X.509, or a key that others could not check.
func Signs(p *cert.Profile, drawer string, it *chest.Item) error {
	wanted, what := entity.KindAuthority, "an authority"
	if p.Gives() != cert.GivesX509 {
		wanted, what = entity.KindKey, "a key"
	}
	if it == nil || it.Row.Kind != wanted {
		return chest.Invalid("profile.authority", "%s/%s is not %s", drawer, p.Authority, what)
	}
	facts := keyrow.Of(it.Row)
	switch {
	case facts == nil:
		return nil
	case facts.Operations&cryptokey.Sign == 0 || len(it.Versions) == 0 || it.Versions[0].PublicKey == "":
		return chest.Invalid("profile.authority", "%s/%s is no key that signs for others to check: ed25519, ECDSA or RSA, for sign", drawer,
			p.Authority)
	case p.JWT != nil && p.JWT.Algorithm != "" && !slices.Contains(facts.JWTAlgorithms(), p.JWT.Algorithm):
		return chest.Invalid("profile.jwt.algorithm", "%.20q is no algorithm of a key of the type %s; they are %s", p.JWT.Algorithm, facts.Type,
			strings.Join(facts.JWTAlgorithms(), ", "))
	}
	return nil
}
