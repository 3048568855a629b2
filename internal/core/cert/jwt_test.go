package cert

import (
	"crypto/ed25519"
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

const boarding = `{"authority":"ticket-signing","longest":"15m","jwt":{"issuer":"https://tickets.example","audiences":["gate-*"],` +
	`"claims":{"scope":["board","board:*"]},"always":{"level":3,"island":{"name":"north"}},"type":"at+jwt"}}`

// A token says what its profile says and what was asked for within that, another library reads it, and nobody gets more.
func TestTokensSayWhatTheirProfileSays(t *testing.T) {
	p, err := ReadProfile([]byte(boarding))
	must(t, err)
	text, err := json.Marshal(p)
	must(t, err)
	again, err := ReadProfile(text) // as it lies in a row
	must(t, err)
	key := newKey(t, "ed25519")
	now := time.Now()
	by := JWTKey{ID: "it_1.2", Algorithm: EdDSA, Sign: func(message []byte) ([]byte, error) {
		return ed25519.Sign(key.(ed25519.PrivateKey), message), nil
	}}
	asked := JWTRequest{Asks: "app:ticket-api", Audiences: []string{"gate-3"}, Claims: map[string][]string{"scope": {"board", "board:car"}}}
	made, err := again.IssueJWT(asked, by, now)
	must(t, err)
	token, err := jwt.ParseSigned(made.Token, []jose.SignatureAlgorithm{jose.EdDSA})
	must(t, err)
	var claims jwt.Claims
	var more struct {
		Scope  []string          `json:"scope"`
		Level  int               `json:"level"`
		Island map[string]string `json:"island"`
	}
	must(t, token.Claims(key.Public(), &claims, &more))
	must(t, claims.Validate(jwt.Expected{Issuer: "https://tickets.example", Subject: "app:ticket-api", AnyAudience: jwt.Audience{"gate-3"},
		Time: now}))
	head := token.Headers[0]
	if len(more.Scope) != 2 || more.Level != 3 || more.Island["name"] != "north" || head.KeyID != "it_1.2" ||
		head.ExtraHeaders["typ"] != "at+jwt" ||
		claims.ID != made.ID || len(made.ID) != 32 || claims.Expiry.Time().Sub(now) > 15*time.Minute {
		t.Errorf("%+v %+v %+v", claims, more, head)
	}
	for _, c := range []struct {
		field, text string
		change      func(r *JWTRequest)
	}{
		{"audiences", "say who", func(r *JWTRequest) { r.Audiences = nil }},
		{"audiences", "none of the audiences", func(r *JWTRequest) { r.Audiences = []string{"gate-3", "refund-desk"} }},
		{"audiences", "none of the audiences", func(r *JWTRequest) { r.Audiences = []string{"GATE-3"} }},
		{"audiences", "none of the audiences", func(r *JWTRequest) { r.Audiences = []string{"gate-3\nroot"} }},
		{"subject", "whoever asks", func(r *JWTRequest) { r.Subject = "person:mika" }},
		{"claims", "no claim", func(r *JWTRequest) { r.Claims = map[string][]string{"admin": {"true"}} }},
		{"claims", "no claim", func(r *JWTRequest) { r.Claims = map[string][]string{"level": {"9"}} }},
		{"claims", "no claim", func(r *JWTRequest) { r.Claims = map[string][]string{"exp": {"9999999999"}} }},
		{"claims", "may not say", func(r *JWTRequest) { r.Claims = map[string][]string{"scope": {"board", "refund"}} }},
		{"claims", "texts", func(r *JWTRequest) { r.Claims = map[string][]string{"scope": {}} }},
		{"claims", "8192", func(r *JWTRequest) {
			r.Claims = map[string][]string{"scope": slices.Repeat([]string{"board:" + strings.Repeat("x", 400)}, 50)}
		}},
		{"life", "1s to 15m", func(r *JWTRequest) { r.Life = 16 * time.Minute }},
		{"life", "1s to 15m", func(r *JWTRequest) { r.Life = time.Millisecond }},
	} {
		r := asked
		c.change(&r)
		_, err := p.IssueJWT(r, by, now)
		refused(t, err, c.field, c.text)
	}
	by.Ends = now.Add(5 * time.Minute)
	if made, err := p.IssueJWT(asked, by, now); err != nil || made.NotAfter.After(by.Ends) {
		t.Errorf("it outlives its key: %s %v", made.NotAfter, err)
	}
	asked.Life = 10 * time.Minute
	_, err = p.IssueJWT(asked, by, now)
	refused(t, err, "life", "ends before that")
	_, err = gates.IssueJWT(asked, by, now)
	refused(t, err, "profile", "tansu cert issue")
	refused(t, p.Check(Request{}), "profile", "tansu jwt issue")
}

// A profile of tokens that would give what nobody meant to is refused, by the field that is wrong.
func TestAProfileOfTokensIsChecked(t *testing.T) {
	for change, field := range map[string]string{
		`"longest":"15m"|"longest":"8d"`:                   "profile.longest",
		`"issuer":"https://tickets.example"|"issuer":""`:   "profile.jwt.issuer",
		`"audiences":["gate-*"]|"audiences":[]`:            "profile.jwt.audiences",
		`"level":3|"sub":"person:mika"`:                    "profile.jwt.always",
		`"level":3|"scope":"board"`:                        "profile.jwt.always",
		`"scope":["board","board:*"]|"aud":["*"]`:          "profile.jwt.claims",
		`"scope":["board","board:*"]|"scope":[]`:           "profile.jwt.claims",
		`"type":"at+jwt"|"type":"at jwt"`:                  "profile.jwt.type",
		`"longest":"15m"|"longest":"15m","names":["*"]`:    "profile.jwt",
		`"longest":"15m"|"longest":"15m","ssh":"user"`:     "profile.jwt",
		`"type":"at+jwt"|"alg":"none"`:                     "profile",
		`"longest":"15m"|"longest":"15m","networks":["x"]`: "profile.networks",
	} {
		before, after, _ := strings.Cut(change, "|")
		text := strings.Replace(boarding, before, after, 1)
		if text == boarding {
			t.Fatalf("%s changes nothing", change)
		}
		_, err := ReadProfile([]byte(text))
		refused(t, err, field, "")
	}
}
