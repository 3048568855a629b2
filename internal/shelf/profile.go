package shelf

import (
	"slices"
	"strings"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/cert"
	"tansu/internal/core/cryptokey"
	"tansu/internal/entity"
	"tansu/internal/keyrow"
)

// maySay decides whether somebody may say what an authority signs, which takes the right to change its rules: a profile would else give it
// to whoever may write any item beside it. The profile keeps to that authority, whatever gets its name later.
func (s *Shelf) maySay(a *chest.Attempt, d *chest.Drawer, f *certrow.Facts) error {
	if f == nil || f.Profile == nil {
		return nil
	}
	if _, err := s.heart.Allow(a.Caller, access.ChangeRules, d.Row.Name, f.Profile.Authority); err != nil {
		return err
	}
	a.RestOnAccess()
	_, it, err := a.St.Named(d, f.Profile.Authority)
	if err != nil {
		return err
	}
	wanted, gives := entity.KindAuthority, f.Profile.Gives()
	if gives != cert.GivesX509 {
		wanted = entity.KindKey
	}
	if it == nil || it.Row.Kind != wanted {
		return chest.Invalid("profile.authority", "%s/%s is not %s", d.Row.Name, f.Profile.Authority,
			map[string]string{entity.KindAuthority: "an authority", entity.KindKey: "a key"}[wanted])
	}
	if facts := keyrow.Of(it.Row); facts != nil && (facts.Operations&cryptokey.Sign == 0 || len(it.Versions) == 0 ||
		it.Versions[0].PublicKey == "") {
		return chest.Invalid("profile.authority", "%s/%s is no key that signs for others to check: ed25519, ECDSA or RSA, for sign", d.Row.Name,
			f.Profile.Authority)
	} else if gives == cert.GivesJWT && f.Profile.JWT.Algorithm != "" &&
		!slices.Contains(facts.JWTAlgorithms(), f.Profile.JWT.Algorithm) {
		return chest.Invalid("profile.jwt.algorithm", "%.20q is no algorithm of a key of the type %s; they are %s", f.Profile.JWT.Algorithm,
			facts.Type, strings.Join(facts.JWTAlgorithms(), ", "))
	}
	f.Signer = it.Row.ID
	return nil
}
