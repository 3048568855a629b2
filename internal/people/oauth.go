package people

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"tansu/internal/chest"
	"time"

	"github.com/go-jose/go-jose/v4"

	"tansu/internal/core/assertion"
	"tansu/internal/core/credential"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/throttle"
	"tansu/internal/entity"
)

// AppToken is what an app gets for its proof.
type AppToken struct {
	Token secretvalue.Value
	Life  time.Duration
}

// AppProof is what an app proves itself with: its secret (RFC 6749, section 2.3.1), an assertion that it has signed itself
// (RFC 7523, section 2.2), one that an outside issuer has signed (section 2.1), or, when there is none of these, the
// certificate of its connection (RFC 8705, section 2.2).
type AppProof struct {
	App       string // its name; may be left out with an assertion of its own, which names it
	Secret    string
	Assertion string
	Outside   string // an outside issuer's token
}

// proved is an app that has proved itself.
type proved struct {
	identity entity.Identity
	used     entity.Credential
	via      string
	bound    string // the certificate to which a token is bound
}

// TokenPath is where an app gets its token; with the chest's address before it, it is what assertions are made out to.
const TokenPath = "/api/oauth/token"

// outsideLife is how long a token of an outside issuer may be good for.
const outsideLife = 24 * time.Hour

// IssueToken gives an app an access token for its proof. The proof may take its time, with a fetch over the network: the token rests
// on the app and its credential as they are when it is recorded.
func (s *People) IssueToken(ctx context.Context, origin chest.Origin, p AppProof) (issued AppToken, err error) {
	app, err := s.authenticateApp(ctx, s.heart.Attempt(chest.Anonymous(origin, "client_proof"), "issue_token", ""), p)
	if err != nil {
		return issued, err
	}
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(chest.Anonymous(origin, "client_proof"), "issue_token", "")
		if err := a.Err(); err != nil {
			return err
		}
		if !app.still(a) {
			return a.Refuse(errWrongProof())
		}
		a.Entry.Credential = app.used.ID
		token, hash := credential.New(credential.AppToken)
		issued = AppToken{Token: token, Life: appTokenLife}
		addToken(a, entity.Token{ID: hex.EncodeToString(hash[:]), Identity: app.identity.ID, Kind: string(credential.AppToken), Via: app.via,
			Credential: app.used.ID, Bound: app.bound, NotAfter: chest.Micros(a.Entry.At.Add(appTokenLife)), CreatedAt: chest.Micros(a.Entry.At),
			Generation: a.St.Identity(app.identity.ID).Generation})
		return a.Commit("token")
	})
	return issued, err
}

// still reports whether an app and the credential that it used are still valid, and makes the attempt depend on that.
func (app proved) still(a *chest.Attempt) bool {
	a.RestOnSubject(app.identity.ID)
	a.RestOnProof(app.used.ID)
	identity, used := a.St.Identity(app.identity.ID), a.St.Credential(app.used.ID)
	a.Entry.Subject, a.Entry.SubjectID = chest.SubjectOf(app.identity), app.identity.ID
	return identity.State == chest.Active && used.ID != "" && used.Revision == app.used.Revision &&
		(used.NotAfter == 0 || chest.Micros(a.Entry.At) < used.NotAfter)
}

func errWrongProof() *chest.Error {
	return &chest.Error{Code: chest.SignInFailed, Detail: "the app or its proof is wrong, or has ended", Reason: "client_failed"}
}

// authenticateApp checks an app's proof and puts the app into the entry. An error about a rejected proof is only about what the proof
// itself says; it never tells whether such an app exists.
func (s *People) authenticateApp(ctx context.Context, a *chest.Attempt, p AppProof) (app proved, err error) {
	if err := a.Err(); err != nil {
		return app, err
	}
	check := s.provedBySecret
	switch {
	case p.Outside != "" && (p.Assertion != "" || p.Secret != "") || p.Assertion != "" && p.Secret != "":
		return app, chest.Invalid("client_assertion", "an app uses one proof at a time")
	case p.Outside != "":
		check = s.provedByIssuer
	case p.Assertion != "":
		check = s.provedByKey
	case p.Secret == "" && a.Caller.Certificate != "":
		check = s.provedByCertificate
	}
	app, err = check(ctx, a, p)
	if app.identity.ID != "" {
		a.Entry.Subject, a.Entry.SubjectID = chest.SubjectOf(app.identity), app.identity.ID
	}
	if err == nil && app.identity.State == chest.Active && (app.used.NotAfter == 0 || chest.Micros(a.Entry.At) < app.used.NotAfter) {
		return app, nil
	}
	if errors.Is(err, chest.ErrLocked) {
		return app, err
	}
	if throttled := a.Take([]throttle.Limit{{Key: "client " + throttle.Neighbours(a.Entry.Addr), Most: 60,
		Window: 10 * time.Minute}}); throttled != nil {
		return app, throttled
	}
	refusal := errWrongProof()
	var problem *assertion.Problem
	if errors.As(err, &problem) {
		refusal.Detail, refusal.Reason = problem.Text, problem.Reason
	}
	return app, a.Refuse(refusal)
}

// errProof says that a proof is not valid, without saying why.
var errProof = errors.New("the proof is not accepted")

func (s *People) provedBySecret(_ context.Context, a *chest.Attempt, p AppProof) (app proved, err error) {
	hash, malformed := credential.Parse(credential.AppSecret, p.Secret)
	err = a.Look(func(st *chest.Snapshot) error {
		app.identity, _ = st.IdentityOf(reference.App + ":" + p.App)
		app.used, app.via = st.CredentialBy(kindAppSecret, hash), viaSecret
		if malformed != nil || app.identity.ID == "" || app.used.Identity != app.identity.ID {
			return errProof
		}
		return nil
	})
	return app, err
}

func (s *People) provedByCertificate(_ context.Context, a *chest.Attempt, p AppProof) (app proved, err error) {
	var hash credential.Hash
	if _, err := hex.Decode(hash[:], []byte(a.Caller.Certificate)); err != nil {
		return app, errProof
	}
	err = a.Look(func(st *chest.Snapshot) error {
		app.identity, _ = st.IdentityOf(reference.App + ":" + p.App)
		app.used, app.via, app.bound = st.CredentialBy(kindCert, hash), viaCert, a.Caller.Certificate
		if app.identity.ID == "" || app.used.Identity != app.identity.ID {
			return errProof
		}
		return nil
	})
	return app, err
}

func (s *People) provedByKey(_ context.Context, a *chest.Attempt, p AppProof) (app proved, err error) {
	t, err := s.ownAssertion(a, p.Assertion)
	if err != nil {
		return app, err
	}
	if t.Claims.Issuer != t.Claims.Subject || p.App != "" && p.App != t.Claims.Subject {
		return app, &assertion.Problem{Reason: "wrong_subject",
			Text: "the assertion's issuer, its subject and the client id are not one app's name"}
	}
	var keys []jose.JSONWebKey
	var rows []entity.Credential
	err = a.Look(func(st *chest.Snapshot) error {
		app.identity, _ = st.IdentityOf(reference.App + ":" + t.Claims.Subject)
		for _, cr := range proofsOf(st, app.identity.ID, kindKey) {
			if key, _, err := assertion.PublicKey(cr.detail.Key); err == nil {
				keys, rows = append(keys, key), append(rows, cr.Credential)
			}
		}
		return nil
	})
	if err != nil {
		return app, err
	}
	which, err := t.SignedBy(keys)
	if err != nil {
		return app, err
	}
	app.used, app.via = rows[which], viaKey
	if !s.spent.once(app.used.ID, t.Claims.ID, a.Entry.At, t.Claims.Expiry.Time().Add(assertion.Skew)) {
		return app, &assertion.Problem{Reason: "assertion_replayed", Text: "the assertion was used before: each is good for one time"}
	}
	return app, nil
}

// ownAssertion reads what somebody has signed for this chest, and checks what needs no key.
func (s *People) ownAssertion(a *chest.Attempt, text string) (t assertion.Token, err error) {
	if t, err = assertion.Read(text); err != nil {
		return t, err
	}
	var mine []string
	for _, one := range t.Claims.Audience {
		if s.isHere(one) {
			mine = append(mine, one)
		}
	}
	if err := errors.Join(t.For(mine...), t.Times(a.Entry.At, assertion.MaxLife), t.Identified()); err != nil {
		return t, err
	}
	// What was used before the chest was unlocked is not remembered, so assertions made before that are refused.
	if made := t.Claims.IssuedAt.Time(); made.Before(a.St.Since().Truncate(time.Second)) {
		return t, &assertion.Problem{Reason: "assertion_old", Text: "the assertion was made before this chest was unlocked: make a new one"}
	}
	return t, nil
}

// isHere reports whether an assertion's audience, the address of the token endpoint or of the issuer, is this chest, which is
// recognised by the names in its certificate. So an assertion that a client made for another chest cannot be replayed here.
func (s *People) isHere(audience string) bool {
	address, err := url.Parse(audience)
	if err != nil || address.Scheme != "https" && address.Scheme != "http" || address.User != nil ||
		address.Path != TokenPath && strings.Trim(address.Path, "/") != "" || address.RawQuery != "" || s.options.Names == nil ||
		!slices.Contains(s.options.Names(), address.Hostname()) {
		return false
	}
	// Every machine has a localhost, and many chests can be on one: there it is the port that tells which.
	return !isLoopback(address.Hostname()) || s.options.IsHere == nil || s.options.IsHere(address.Host)
}

func (s *People) provedByIssuer(ctx context.Context, a *chest.Attempt, p AppProof) (app proved, err error) {
	t, err := assertion.Read(p.Outside)
	if err != nil {
		return app, err
	}
	if err := t.Times(a.Entry.At, outsideLife); err != nil {
		return app, err
	}
	var trusted []proof
	err = a.Look(func(st *chest.Snapshot) error {
		app.identity, _ = st.IdentityOf(reference.App + ":" + p.App)
		trusted = proofsOf(st, app.identity.ID, kindIssuer)
		return nil
	})
	if err != nil {
		return app, err
	}
	app.via = viaIssuer
	for _, trust := range trusted {
		said := trust.detail.Issuer
		if said == nil || said.Issuer != t.Claims.Issuer || t.For(said.Audience) != nil || !t.Says(said.Claims) || trust.NotAfter != 0 &&
			trust.NotAfter <= chest.Micros(a.Entry.At) {
			continue
		}
		if s.options.IssuerKeys == nil {
			return app, errProof
		}
		keys, err := s.options.IssuerKeys(ctx, said.Issuer, said.Authority, t.KeyID)
		if err != nil {
			s.heart.Log().Warn("keys of an issuer cannot be fetched", "issuer", said.Issuer, "error", err)
			return app, &assertion.Problem{Reason: "issuer_unreachable", Text: "the issuer's keys cannot be fetched now: try again"}
		}
		if _, err := t.SignedBy(keys); err == nil {
			app.used = trust.Credential
			return app, nil
		}
	}
	return app, &assertion.Problem{Reason: "issuer_not_trusted",
		Text: "the token is not one of an issuer of this app: issuer, audience and every registered claim must be exactly what was " +
			"registered, and the signature must be by the issuer's key"}
}

// spent remembers the assertions that were used, for each credential by itself, so that nobody uses up another's room.
type spent struct {
	mu    sync.Mutex
	until map[string]map[[sha256.Size]byte]time.Time // by credential
}

// mostSpent bounds what is remembered of one credential: far more sign-ins than anybody has in six minutes.
const mostSpent = 20_000

// once reports whether this is the first use of an assertion that is good until a time.
func (s *spent) once(credential, id string, now, until time.Time) bool {
	key := sha256.Sum256([]byte(id))
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.until == nil {
		s.until = map[string]map[[sha256.Size]byte]time.Time{}
	}
	used := s.until[credential]
	if used == nil {
		used = map[[sha256.Size]byte]time.Time{}
		s.until[credential] = used
	}
	if _, before := used[key]; before {
		return false
	}
	if len(used) >= mostSpent {
		for known, end := range used {
			if !now.Before(end) {
				delete(used, known)
			}
		}
	}
	if len(used) >= mostSpent {
		return false
	}
	used[key] = until
	return true
}

// issuerDetail is an outside issuer who may say that it is the app.
type issuerDetail struct {
	Issuer    string            `json:"issuer"`
	Audience  string            `json:"audience"`
	Claims    map[string]string `json:"claims"`
	Authority string            `json:"authority,omitempty"` // PEM of the authority of its TLS certificate; empty for the system's
}

// proofDetail is what a credential's row says besides its hash.
type proofDetail struct {
	Key      json.RawMessage `json:"key,omitempty"`       // a JSON Web Key
	Subject  string          `json:"subject,omitempty"`   // of a certificate
	IssuedBy []byte          `json:"issued_by,omitempty"` // the name of a certificate's issuer (X.501, DER)
	Issuer   *issuerDetail   `json:"issuer,omitempty"`
	Networks []string        `json:"networks,omitempty"` // from where a code may be used
	// Of a code that was used, when, from where, and for which credential.
	UsedAt   int64  `json:"used_at,omitempty"`
	UsedFrom string `json:"used_from,omitempty"`
	UsedFor  string `json:"used_for,omitempty"`
}

func (d proofDetail) text() string {
	encoded, err := json.Marshal(d)
	if err != nil {
		panic(fmt.Sprintf("encode the detail of a credential: %v", err)) // it has nothing that cannot be
	}
	return string(encoded)
}

// proof is a credential that is no secret.
type proof struct {
	entity.Credential
	detail proofDetail
}

func detailOf(row entity.Credential) (d proofDetail) {
	if row.Detail != "" {
		_ = json.Unmarshal([]byte(row.Detail), &d) // the row is under a MAC: what cannot be read proves nothing
	}
	return d
}

// proofsOf lists the credentials of a kind that an identity has.
func proofsOf(st *chest.Snapshot, identity, kind string) (list []proof) {
	for _, row := range st.CredentialsOf(identity) {
		if row.Kind == kind {
			list = append(list, proof{row, detailOf(row)})
		}
	}
	return list
}

// RevokeToken ends a token (RFC 7009). An unknown token is no error (section 2.2), and an app can end only its own.
func (s *People) RevokeToken(ctx context.Context, origin chest.Origin, p AppProof, token string) error {
	app, err := s.authenticateApp(ctx, s.heart.Attempt(chest.Anonymous(origin, "client_proof"), "revoke_token", ""), p)
	if err != nil {
		return err
	}
	hash, malformed := credential.Parse(credential.AppToken, token)
	return s.heart.Try(func() error {
		a := s.heart.Attempt(chest.Anonymous(origin, "client_proof"), "revoke_token", "")
		if err := a.Err(); err != nil {
			return err
		}
		if !app.still(a) {
			return a.Refuse(errWrongProof())
		}
		row, found := a.St.Token(hex.EncodeToString(hash[:]))
		if malformed != nil || !found || row.Identity != app.identity.ID {
			a.Entry.Detail = "no such token"
			return a.Done()
		}
		deleteAll(a, []entity.Token{row})
		return a.Commit("token")
	})
}

// Introspected is what is told of a token that somebody was shown.
type Introspected struct {
	Active  bool
	Subject string // whose it is
	App     string // the client id of an app's; empty for a person's
	Begun   time.Time
	Ends    time.Time
	Bound   string // the SHA-256 of the certificate that it is bound to, in base64url; empty for none
}

// Introspect tells an app about a token that it was shown (RFC 7662): whose it is, as long as it would be taken here.
func (s *People) Introspect(ctx context.Context, origin chest.Origin, p AppProof, token string) (t Introspected, err error) {
	app, err := s.authenticateApp(ctx, s.heart.Attempt(chest.Anonymous(origin, "client_proof"), "introspect_token", ""), p)
	if err != nil {
		return t, err
	}
	hash, malformed := parseBearer(token)
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(chest.Anonymous(origin, "client_proof"), "introspect_token", "")
		if err := a.Err(); err != nil {
			return err
		}
		if !app.still(a) {
			return a.Refuse(errWrongProof())
		}
		row, found := a.St.Token(hex.EncodeToString(hash[:]))
		of := a.St.Identity(row.Identity)
		if malformed != nil || !found || of.State != chest.Active || row.NotAfter <= chest.Micros(a.Entry.At) || row.Via == ViaConsole ||
			!a.St.Proves(row, a.Entry.At) {
			t, a.Entry.Detail = Introspected{}, "not active"
			return a.Done()
		}
		t = Introspected{Active: true, Subject: chest.SubjectOf(of), Begun: chest.FromMicros(row.CreatedAt), Ends: chest.FromMicros(row.NotAfter)}
		if of.Kind == reference.App {
			t.App = of.Name
		}
		if sum, err := hex.DecodeString(row.Bound); err == nil && len(sum) > 0 {
			t.Bound = base64.RawURLEncoding.EncodeToString(sum)
		}
		a.Entry.Detail = "of " + t.Subject
		return a.Done()
	})
	return t, err
}
