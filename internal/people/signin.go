package people

import (
	"crypto/hmac"
	"encoding/base64"
	"encoding/hex"
	"strings"
	"sync"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/credential"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/throttle"
	"tansu/internal/entity"
)

const (
	kindEnrolment = string(credential.Enrolment)
	kindAppSecret = string(credential.AppSecret)
	kindHostCode  = string(credential.HostCode)
	kindKey       = string(credential.Key)
	kindCert      = string(credential.Certificate)
	kindIssuer    = string(credential.Issuer)
)

// Lives of tokens.
const (
	sessionLife  = 8 * time.Hour
	appTokenLife = time.Hour
)

// Ways of proving oneself, as entries hold them: those of access.Ways.
const (
	ViaConsole = "console_session"
	ViaCLI     = "person_token"
	viaSecret  = "app_secret"
	viaKey     = "app_key"
	viaCert    = "app_certificate"
	viaIssuer  = "app_issuer"
)

// Session is a person's proof of a sign-in.
type Session struct {
	Token   secretvalue.Value
	Mark    string // says that this person has signed in from this device before; no secret by itself opens anything with it
	Subject string
	End     time.Time
}

func signInLimits(subject, addr string, marked bool) []throttle.Limit {
	if marked {
		return []throttle.Limit{{Key: "marked " + subject, Most: 10, Window: 10 * time.Minute}}
	}
	addr = throttle.Neighbours(addr)
	return []throttle.Limit{
		{Key: "addr " + addr, Most: 20, Window: 10 * time.Minute},
		{Key: "pair " + subject + " " + addr, Most: 5, Window: 10 * time.Minute},
		{Key: "person " + subject, Most: 100, Window: time.Hour, Shared: true},
	}
}

// SignIn checks a person's password. A wrong name and a wrong password are the same refusal after the same work. The
// mark is what an earlier sign-in from the device gave, or empty; via is ViaConsole or ViaCLI.
//
// Hashing takes half a second: the session rests on the identity as it was when the password was looked up, so that a password that
// was replaced meanwhile starts none.
func (s *People) SignIn(origin chest.Origin, name string, password secretvalue.Value, mark, via string) (session Session, err error) {
	a := s.heart.Attempt(chest.Anonymous(origin, "password"), "sign_in", "")
	if err := a.Err(); err != nil {
		return session, err
	}
	subject := reference.Person + ":" + name
	row, known := a.St.IdentityOf(subject)
	if known {
		a.Entry.Subject, a.Entry.SubjectID = subject, row.ID
	}
	device := known && validMark(a.St, row.ID, mark)
	limits := signInLimits(subject, origin.Addr, device)
	if err := a.Take(limits); err != nil {
		return session, err
	}
	if !device {
		if s.waiting.Add(1) > mostStrangers {
			s.waiting.Add(-1)
			a.Refund(limits)
			return session, &chest.Error{Code: chest.Throttled, RetryAfter: 10 * time.Second,
				Detail: "too many people sign in from devices that are new here: try again in a moment"}
		}
		s.strangers <- struct{}{}
		s.waiting.Add(-1)
		defer func() { <-s.strangers }()
	}
	if !s.passwordMatches(password, row.Password) || row.State != chest.Active {
		return session, a.Refuse(errWrongPassword())
	}
	a.Refund(limits)
	err = s.heart.Try(func() error {
		session, err = s.startSession(origin, "password", row, via)
		return err
	})
	return session, err
}

// mostStrangers is how many sign-ins from unknown devices may wait for a password check at once. A check takes some tens of
// milliseconds; sign-ins from known devices do not wait in this queue.
const mostStrangers = 100

func errWrongPassword() *chest.Error {
	return &chest.Error{Code: chest.SignInFailed, Detail: "the name or the password is wrong", Reason: "sign_in_failed"}
}

// passwordMatches hashes at most two passwords at a time.
func (s *People) passwordMatches(password secretvalue.Value, stored string) bool {
	s.hashing <- struct{}{}
	defer func() { <-s.hashing }()
	return credential.PasswordMatches(password, stored)
}

// startSession gives a person a token, if their password is still the one that they have proved themselves with. It rests on the
// person, so that a change of the password or of the state that comes first starts none.
func (s *People) startSession(origin chest.Origin, proof string, proved entity.Identity, via string) (Session, error) {
	a := s.heart.Attempt(chest.Anonymous(origin, proof), "sign_in", "")
	if err := a.Err(); err != nil {
		return Session{}, err
	}
	row, id := a.St.Identity(proved.ID), proved.ID
	if row.State != chest.Active || row.Password != proved.Password {
		return Session{}, a.Refuse(errWrongPassword())
	}
	a.RestOnSubject(id)
	token, hash := credential.New(credential.PersonToken)
	end := a.Entry.At.Add(sessionLife)
	session := Session{Token: token, Subject: chest.SubjectOf(row), End: end, Mark: newMark(a.St, id)}
	a.Entry.Subject, a.Entry.SubjectID = session.Subject, id
	addToken(a, entity.Token{ID: hex.EncodeToString(hash[:]), Identity: id, Kind: string(credential.PersonToken),
		Via: via, NotAfter: chest.Micros(end), CreatedAt: chest.Micros(a.Entry.At), Generation: row.Generation})
	return session, a.Commit("token")
}

// mostTokens is how many tokens an identity can have at once. A new one replaces the oldest, because a program that signs in for each
// read would otherwise collect tokens without limit.
const mostTokens = 200

// addToken adds a token, and takes out those of the same identity that have ended, and the oldest when there are too many. It looks at
// few of them, however many there are.
func addToken(a *chest.Attempt, token entity.Token) {
	var out []entity.Token
	looked, live := 0, 0
	a.St.TokensOf(token.Identity, func(t entity.Token) bool {
		switch looked++; {
		case t.NotAfter <= token.CreatedAt && len(out) < 20:
			out = append(out, t)
		default:
			live++
		}
		return looked <= mostTokens+20
	})
	if live >= mostTokens {
		a.St.TokensOf(token.Identity, func(t entity.Token) bool {
			if t.NotAfter > token.CreatedAt {
				out = append(out, t)
				live--
			}
			return live >= mostTokens
		})
		a.Entry.Detail = wasteful
	}
	deleteAll(a, out)
	a.Change.Insert(token)
}

// wasteful records in the trail that somebody has more tokens than anybody needs.
const wasteful = "the oldest of 200 tokens gave way: it should keep its token until that ends, and not sign in for each read"

// endTokens ends all tokens of an identity, those too that are given while this is decided: a new generation begins.
func endTokens(a *chest.Attempt, after *entity.Identity) {
	after.Generation++
	deleteAll(a, a.St.AllTokensOf(after.ID))
}

// deleteAll removes tokens, and rests on them: one that is not there any more was removed by somebody else meanwhile.
func deleteAll(a *chest.Attempt, tokens []entity.Token) {
	for _, t := range tokens {
		a.RestOnProof(t.ID)
		a.Change.Delete(t)
	}
}

// Enrol uses an enrolment code to set a person's password. The code is gone afterwards, and so are sessions that were
// started with an earlier password.
func (s *People) Enrol(origin chest.Origin, code string, password secretvalue.Value, via string) (session Session, err error) {
	if err := credential.CheckPassword(password); err != nil {
		return session, chest.Invalid("password", "%s", err)
	}
	hash, malformed := credential.Parse(credential.Enrolment, strings.TrimSpace(code))
	limits := []throttle.Limit{{Key: "addr " + throttle.Neighbours(origin.Addr), Most: 20, Window: 10 * time.Minute}}
	a := s.heart.Attempt(chest.Anonymous(origin, "enrolment_code"), "enrol", "")
	if err := a.Err(); err != nil {
		return session, err
	}
	if err := a.Take(limits); err != nil {
		return session, err
	}
	if _, _, good := usableCode(a, hash, malformed); !good {
		return session, a.Refuse(errWrongCode())
	}
	a.Refund(limits)
	hashed, enrolled := s.hashPassword(password), entity.Identity{}
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(chest.Anonymous(origin, "enrolment_code"), "enrol", "")
		if err := a.Err(); err != nil {
			return err
		}
		used, before, good := usableCode(a, hash, malformed)
		if !good {
			return a.Refuse(errWrongCode())
		}
		a.RestOnProof(used.ID)
		a.RestOnSubject(before.ID)
		a.Entry.Subject, a.Entry.SubjectID, a.Entry.Credential = chest.SubjectOf(before), before.ID, used.ID
		after := before
		after.Password = hashed
		endTokens(a, &after)
		enrolled = after
		a.Change.Delete(used)
		a.Change.Update(before, after)
		return a.Commit("enrolment code")
	})
	if err != nil {
		return session, err
	}
	err = s.heart.Try(func() error {
		session, err = s.startSession(origin, "enrolment_code", enrolled, via)
		return err
	})
	return session, err
}

func errWrongCode() *chest.Error {
	return &chest.Error{Code: chest.SignInFailed, Detail: "the enrolment code is wrong, used or ended", Reason: "enrolment_failed"}
}

// usableCode finds an enrolment code that may be used now, and whose it is.
func usableCode(a *chest.Attempt, hash credential.Hash, malformed error) (used entity.Credential, row entity.Identity, good bool) {
	if malformed != nil {
		return used, row, false
	}
	used = a.St.CredentialBy(kindEnrolment, hash)
	row = a.St.Identity(used.Identity)
	return used, row, used.ID != "" && used.NotAfter > chest.Micros(a.Entry.At) && row.State == chest.Active
}

func (s *People) hashPassword(password secretvalue.Value) string {
	s.hashing <- struct{}{}
	defer func() { <-s.hashing }()
	return credential.HashPassword(password)
}

// SignOut ends the caller's session or token.
func (s *People) SignOut(c chest.Caller) error {
	return s.heart.Try(func() error {
		a := s.heart.Attempt(c, "sign_out", "")
		if err := a.Err(); err != nil {
			return err
		}
		token, _ := a.St.Token(c.Token)
		a.Change.Delete(token)
		return a.Commit("session")
	})
}

// Authenticate finds who a bearer token belongs to. A token that is cut, unknown, revoked or ended is refused, and
// that is in the trail; the reason says which only as far as the holder of the token could know anyway.
func (s *People) Authenticate(origin chest.Origin, token string) (chest.Caller, error) {
	hash, err := parseBearer(token)
	if err != nil {
		return chest.Caller{}, s.refuseToken(origin, "token_malformed", "the token is not complete: it is cut off or mistyped")
	}
	st, err := s.heart.Look()
	if err != nil {
		return chest.Caller{}, err
	}
	now := s.heart.Now()
	row, found := st.Token(hex.EncodeToString(hash[:]))
	identity := st.Identity(row.Identity)
	no := func(reason, detail string) (chest.Caller, error) {
		return chest.Caller{}, s.refuseTokenOf(origin, identity, reason, detail)
	}
	switch {
	case !found:
		return no("token_unknown", "the token is not known here: it was revoked, or another chest gave it")
	case chest.Micros(now) >= row.NotAfter:
		return no("token_ended", "the token has ended at "+chest.FromMicros(row.NotAfter).Format(time.RFC3339)+"; sign in again")
	case identity.State != chest.Active:
		return no("identity_suspended", chest.SubjectOf(identity)+" is suspended")
	case row.Bound != "" && row.Bound != origin.Certificate: // RFC 8705, section 3
		return no("token_bound", "the token is bound to a certificate, which this connection does not show")
	case row.Via == ViaConsole && s.idle(row, st.Since(), now):
		return no("session_idle", "the session was not used for an hour; sign in again")
	case !st.Proves(row, now):
		return no("credential_ended", "what the token was given for has ended: the credential, or the password that was used")
	}
	return chest.Proven(origin, st, identity, row, now), nil
}

// idleFor is after how long without a use a session of the console ends: a browser is left open, and a command line is not.
const idleFor = time.Hour

// mostSessions bounds how many sessions it is remembered of when they were used last; beyond it, all of them begin anew.
const mostSessions = 50_000

// sessions remembers when sessions of the console were used last, since the chest was unlocked.
type sessions struct {
	mu   sync.Mutex
	used map[string]time.Time
}

// idle reports whether a session was not used for too long, and otherwise counts this as a use of it.
func (s *People) idle(row entity.Token, unlocked, now time.Time) bool {
	l := &s.sessions
	l.mu.Lock()
	defer l.mu.Unlock()
	last, known := l.used[row.ID]
	if !known {
		if last = chest.FromMicros(row.CreatedAt); last.Before(unlocked) {
			last = unlocked
		}
	}
	if now.Sub(last) >= idleFor {
		delete(l.used, row.ID)
		return true
	}
	if l.used == nil || len(l.used) >= mostSessions {
		l.used = map[string]time.Time{}
	}
	l.used[row.ID] = now
	return false
}

// RefuseAnonymous records that somebody without a usable proof asked for something that needs one, and returns the refusal.
func (s *People) RefuseAnonymous(origin chest.Origin, reason, detail string) error {
	if _, err := s.heart.Look(); err != nil {
		return err
	}
	return s.refuseToken(origin, reason, detail)
}

func parseBearer(token string) (credential.Hash, error) {
	if hash, err := credential.Parse(credential.AppToken, token); err == nil {
		return hash, nil
	}
	return credential.Parse(credential.PersonToken, token)
}

func (s *People) refuseToken(origin chest.Origin, reason, detail string) error {
	return s.refuseTokenOf(origin, entity.Identity{}, reason, detail)
}

// refuseTokenOf refuses a token that is, or was, somebody's, whom the trail names then: they have proved that much. Nobody, for a token
// that is not known.
func (s *People) refuseTokenOf(origin chest.Origin, of entity.Identity, reason, detail string) error {
	a := s.heart.Attempt(chest.Anonymous(origin, "bearer"), "authenticate", "")
	if of.ID != "" && a.Err() == nil {
		a.Entry.Subject, a.Entry.SubjectID = chest.SubjectOf(of), of.ID
	}
	if err := a.Take([]throttle.Limit{{Key: "token " + throttle.Neighbours(origin.Addr), Most: 300, Window: 10 * time.Minute}}); err != nil {
		return err
	}
	return a.Refuse(&chest.Error{Code: chest.Unauthenticated, Detail: detail, Reason: reason})
}

// newMark makes a device mark: a nonce and a MAC over it and the person.
func newMark(st *chest.Snapshot, identity string) string {
	nonce := chest.NewID("")
	mac := st.Root().DeviceMark([]byte(identity + "\x00" + nonce))
	return nonce + "." + base64.RawURLEncoding.EncodeToString(mac[:])
}

func validMark(st *chest.Snapshot, identity, mark string) bool {
	nonce, encoded, _ := strings.Cut(mark, ".")
	given, err := base64.RawURLEncoding.DecodeString(encoded)
	want := st.Root().DeviceMark([]byte(identity + "\x00" + nonce))
	return err == nil && hmac.Equal(given, want[:])
}
