package cert

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode"

	"tansu/internal/core/lifecycle"
)

// MostJWTLife is the longest life of a token: nobody can take one back.
const MostJWTLife = 7 * 24 * time.Hour

// JWT is what a profile says of JSON Web Tokens (RFC 7519), which a key signs.
type JWT struct {
	Issuer    string   `json:"issuer"`              // iss: who says it
	Audiences []string `json:"audiences"`           // patterns of who it may be said to (aud); "*" is anything
	Subjects  []string `json:"subjects,omitempty"`  // patterns of whom it may be about (sub); empty for whoever asks, and nobody else
	Type      string   `json:"type,omitempty"`      // typ, such as at+jwt (RFC 8725, section 3.11); empty for JWT
	Algorithm string   `json:"algorithm,omitempty"` // alg; empty for the key's usual one
	// Claims that may be asked for, with patterns of what each may say.
	Claims map[string][]string `json:"claims,omitempty"`
	// Claims that each token has.
	Always map[string]json.RawMessage `json:"always,omitempty"`
}

// own are the claims and headers that a profile and a request have their own members for (RFC 7519, section 4.1).
var own = []string{"iss", "sub", "aud", "exp", "nbf", "iat", "jti"}

// Bounds of tokens, in bytes and in numbers.
const (
	mostClaims = 50
	mostText   = 500
	mostAlways = 4 << 10
	mostBody   = 8 << 10
)

// EdDSA is what a signature by Ed25519 is called (RFC 8037). RFC 9864 names it Ed25519 instead, which few verifiers know yet.
const EdDSA = "EdDSA"

func (p *Profile) checkJWT() error {
	j := p.JWT
	switch {
	case !printable(j.Issuer):
		return invalid("profile.jwt.issuer", "issuer is who the tokens are from, such as https://tickets.example; at most %d bytes", mostText)
	case len(j.Audiences) == 0:
		return invalid("profile.jwt.audiences", "audiences say to whom a token may be shown: one that is for anybody is for whoever finds it")
	case tooMany(j.Audiences, j.Subjects):
		return invalid("profile.jwt.audiences", "a profile has at most %d patterns", mostNames)
	case j.Type != "" && (!printable(j.Type) || strings.ContainsAny(j.Type, " \t")):
		return invalid("profile.jwt.type", "type is a media type, such as at+jwt")
	case p.Longest < lifecycle.Span(time.Minute) || p.Longest > lifecycle.Span(MostJWTLife):
		return invalid("profile.longest", "longest is the longest life of a token, from 1m to 7d, such as 15m: nobody can take one back")
	case len(j.Claims)+len(j.Always) > mostClaims:
		return invalid("profile.jwt.claims", "a token has at most %d claims", mostClaims)
	}
	for _, pattern := range slices.Concat(j.Audiences, j.Subjects) {
		if !printable(pattern) {
			return invalid("profile.jwt.audiences", "audiences and subjects are patterns of 1 to %d bytes on one line", mostText)
		}
	}
	for name, patterns := range j.Claims {
		if err := claim("profile.jwt.claims", name); err != nil {
			return err
		}
		if len(patterns) == 0 || tooMany(patterns) || slices.ContainsFunc(patterns, func(text string) bool { return !printable(text) }) {
			return invalid("profile.jwt.claims", "claim %s: give 1 to %d patterns of what it may say, on one line each", name, mostNames)
		}
		if _, both := j.Always[name]; both {
			return invalid("profile.jwt.always", "claim %s is in each token, and cannot be asked for as well", name)
		}
	}
	for name := range j.Always {
		if err := claim("profile.jwt.always", name); err != nil {
			return err
		}
	}
	if text, err := json.Marshal(j.Always); err != nil || len(text) > mostAlways {
		return invalid("profile.jwt.always", "the claims of each token have at most %d bytes", mostAlways)
	}
	return nil
}

// claim refuses what is no name of a claim, or of one that has its own member.
func claim(field, name string) error {
	if slices.Contains(own, name) {
		return invalid(field, "%s is not said here: the profile says issuer, audiences, subjects and longest", name)
	}
	if !printable(name) || len(name) > 100 {
		return invalid(field, "%.100q is not the name of a claim", name)
	}
	return nil
}

// printable reports whether a text has 1 to mostText bytes, on one line.
func printable(text string) bool {
	return text != "" && len(text) <= mostText && !strings.ContainsFunc(text, func(r rune) bool { return !unicode.IsPrint(r) })
}

// JWTRequest is what somebody wants a token for.
type JWTRequest struct {
	Asks      string   // who asks
	Subject   string   // empty for who asks
	Audiences []string // one at least
	Claims    map[string][]string
	Life      time.Duration // 0 for the longest
}

// JWTKey is the key that signs.
type JWTKey struct {
	ID        string // kid, by which verifiers find its public half
	Algorithm string
	Ends      time.Time // when it is served no more; zero for never
	Sign      func(message []byte) (signature []byte, err error)
}

// SignedJWT is a token.
type SignedJWT struct {
	Token    string // in compact serialisation (RFC 7515, section 7.1)
	ID       string // jti
	Subject  string
	NotAfter time.Time
}

// IssueJWT signs a token, if it says what the profile gives and no more.
func (p *Profile) IssueJWT(r JWTRequest, by JWTKey, now time.Time) (made SignedJWT, err error) {
	if err := p.Give(GivesJWT); err != nil {
		return made, err
	}
	if r.Subject == "" {
		r.Subject = r.Asks
	}
	if err := p.JWT.allows(r); err != nil {
		return made, err
	}
	made.NotAfter, err = p.endOf(r.Life, by.Ends, now)
	if err != nil {
		return made, err
	}
	var random [16]byte
	_, _ = rand.Read(random[:])
	made.ID, made.Subject = hex.EncodeToString(random[:]), r.Subject
	claims := map[string]any{}
	for name, value := range p.JWT.Always {
		claims[name] = value
	}
	for name, list := range r.Claims {
		claims[name] = oneOrAll(list)
	}
	claims["iss"], claims["sub"], claims["aud"], claims["jti"] = p.JWT.Issuer, r.Subject, oneOrAll(r.Audiences), made.ID
	claims["iat"], claims["exp"] = now.Unix(), made.NotAfter.Unix()
	header := map[string]string{"alg": by.Algorithm, "kid": by.ID, "typ": p.JWT.Type}
	if p.JWT.Type == "" {
		header["typ"] = "JWT"
	}
	head, err := json.Marshal(header)
	if err != nil {
		return made, err
	}
	body, err := json.Marshal(claims)
	if err != nil {
		return made, err
	}
	if len(body) > mostBody {
		return made, invalid("claims", "the token would say %d bytes; the most is %d, as many as verifiers take in a header", len(body), mostBody)
	}
	encoding := base64.RawURLEncoding
	input := encoding.EncodeToString(head) + "." + encoding.EncodeToString(body)
	signature, err := by.Sign([]byte(input))
	made.Token = input + "." + encoding.EncodeToString(signature)
	return made, err
}

// allows refuses a request that asks for more than the profile gives.
func (j *JWT) allows(r JWTRequest) error {
	switch {
	case len(r.Audiences) == 0 || len(r.Audiences) > mostNames:
		return invalid("audiences", "say who is to accept the token: 1 to %d audiences, of those that the profile gives (%s)", mostNames,
			listed(j.Audiences))
	case len(r.Claims) > mostClaims:
		return invalid("claims", "a token has at most %d claims", mostClaims)
	case len(j.Subjects) == 0 && r.Subject != r.Asks:
		return invalid("subject", "tokens of this profile are about whoever asks, which is %s", r.Asks)
	case len(j.Subjects) > 0 && !says(j.Subjects, r.Subject):
		return invalid("subject", "%.100s is none of the subjects that the profile gives (%s)", r.Subject, listed(j.Subjects))
	}
	for _, text := range r.Audiences {
		if !says(j.Audiences, text) {
			return invalid("audiences", "%.100s is none of the audiences that the profile gives (%s)", text, listed(j.Audiences))
		}
	}
	for name, list := range r.Claims {
		patterns, given := j.Claims[name]
		if !given {
			return invalid("claims", "the profile gives no claim %.100q; it gives %s", name,
				listed(slices.Sorted(maps.Keys(j.Claims))))
		}
		if len(list) == 0 || len(list) > mostNames {
			return invalid("claims", "claim %s says 1 to %d texts", name, mostNames)
		}
		for _, text := range list {
			if !says(patterns, text) {
				return invalid("claims", "claim %s may not say %.100q; it may say %s", name, text, listed(patterns))
			}
		}
	}
	return nil
}

// says reports whether one of the patterns selects a text, as it is written.
func says(patterns []string, text string) bool {
	return printable(text) && selects("", patterns, text, "")
}

// endOf is when a token ends: not after the key, whose public half is gone then.
func (p *Profile) endOf(life time.Duration, ends, now time.Time) (time.Time, error) {
	longest := time.Duration(p.Longest)
	switch {
	case life < 0 || life > longest || life > 0 && life < time.Second:
		return now, invalid("life", "a token of this profile lasts 1s to %s", p.Longest)
	case life == 0:
		life = longest
		if !ends.IsZero() && now.Add(life).After(ends) {
			life = ends.Sub(now)
		}
	case !ends.IsZero() && now.Add(life).After(ends):
		return now, invalid("life", "the key that signs ends before that, on %s", ends.UTC().Format(time.RFC3339))
	}
	end := now.Add(life).Truncate(time.Second)
	if !end.After(now) {
		return now, invalid("life", "the key that signs ends now")
	}
	return end, nil
}

// oneOrAll is a claim as it is usually written: a single text by itself.
func oneOrAll(list []string) any {
	if len(list) == 1 {
		return list[0]
	}
	return list
}
