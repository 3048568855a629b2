package service

import (
	"crypto/hmac"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"strings"
	"time"

	"tansu/internal/core/credential"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/store"
)

// unknown is the subject of entries about somebody who has not proved who they are. A name that was only claimed is
// never recorded: people type passwords into name fields.
const unknown = "unknown"

const (
	stateActive    = "active"
	stateSuspended = "suspended"
	kindEnrolment  = string(credential.Enrolment)
	kindAppSecret  = string(credential.AppSecret)
	kindHostCode   = string(credential.HostCode)
	kindKey        = string(credential.Key)
	kindCert       = string(credential.Certificate)
	kindIssuer     = string(credential.Issuer)
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

// SignIn checks a person's password. A wrong name and a wrong password are the same refusal after the same work. The
// mark is what an earlier sign-in from the device gave, or empty; via is ViaConsole or ViaCLI.
func (s *Service) SignIn(origin Origin, name string, password secretvalue.Value, mark, via string) (Session, error) {
	a := s.attempt(Caller{Origin: origin, name: unknown, via: "password"}, "sign_in", "")
	subject := reference.Person + ":" + name
	var row store.Identity
	var marked bool
	err := s.view(func(st *state) error {
		row, _ = st.identity(subject)
		marked = row.ID != "" && validMark(st, row.ID, mark)
		return nil
	})
	if err != nil {
		return Session{}, err
	}
	if row.ID != "" {
		a.entry.Subject = subject
	}
	limits := signInLimits(subject, origin.Addr, marked)
	if err := s.take(a, limits); err != nil {
		return Session{}, err
	}
	if !s.passwordMatches(password, row.Password) || row.State != stateActive {
		return Session{}, a.refuse(&Error{Code: SignInFailed, Detail: "the name or the password is wrong", Reason: "sign_in_failed"})
	}
	s.throttle.refund(limits)
	return s.startSession(a, row, via)
}

// passwordMatches hashes at most two passwords at a time.
func (s *Service) passwordMatches(password secretvalue.Value, stored string) bool {
	s.hashing <- struct{}{}
	defer func() { <-s.hashing }()
	return credential.PasswordMatches(password, stored)
}

func (s *Service) startSession(a *attempt, row store.Identity, via string) (Session, error) {
	token, hash := credential.New(credential.PersonToken)
	end := a.entry.At.Add(sessionLife)
	session := Session{Token: token, Subject: subjectOf(row), End: end}
	a.entry.Subject = session.Subject
	err := s.view(func(st *state) error { session.Mark = newMark(st, row.ID); return nil })
	if err != nil {
		return Session{}, err
	}
	return session, a.addToken(store.Token{ID: hex.EncodeToString(hash[:]), Identity: row.ID, Kind: string(credential.PersonToken),
		Via: via, NotAfter: micros(end), CreatedAt: micros(a.entry.At)})
}

// addToken stores a token and, on the way, forgets those of the same identity that have ended.
func (a *attempt) addToken(token store.Token) error {
	var ended []store.Token
	err := a.s.view(func(st *state) error {
		for _, t := range st.tokens {
			if t.Identity == token.Identity && t.NotAfter <= token.CreatedAt && len(ended) < 100 {
				ended = append(ended, t)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	change := func(tx *store.Tx) (err error) {
		if err := deleteAll(tx, ended); err != nil {
			return err
		}
		token, err = store.Insert(tx, token)
		return err
	}
	return a.change("token", change, func(st *state) {
		st.dropTokens(ended)
		st.tokens[token.ID] = token
	})
}

// Enrol uses an enrolment code to set a person's password. The code is gone afterwards, and so are sessions that were
// started with an earlier password.
func (s *Service) Enrol(origin Origin, code string, password secretvalue.Value, via string) (Session, error) {
	a := s.attempt(Caller{Origin: origin, name: unknown, via: "enrolment_code"}, "enrol", "")
	if err := credential.CheckPassword(password); err != nil {
		return Session{}, invalid("password", "%s", err)
	}
	limits := []limit{{"addr " + origin.Addr, 20, 10 * time.Minute}}
	if err := s.take(a, limits); err != nil {
		return Session{}, err
	}
	var used store.Credential
	var before store.Identity
	hash, malformed := credential.Parse(credential.Enrolment, strings.TrimSpace(code))
	err := s.view(func(st *state) error {
		if malformed == nil {
			used = st.credential(kindEnrolment, hash)
			before = st.identities[used.Identity]
		}
		return nil
	})
	if err != nil {
		return Session{}, err
	}
	if used.ID == "" || used.NotAfter <= micros(a.entry.At) || before.State != stateActive {
		return Session{}, a.refuse(&Error{Code: SignInFailed, Detail: "the enrolment code is wrong, used or ended", Reason: "enrolment_failed"})
	}
	s.throttle.refund(limits)
	a.entry.Subject = subjectOf(before)
	after := before
	after.Password = s.hashPassword(password)
	tokens, err := s.tokensOf(before.ID)
	if err != nil {
		return Session{}, err
	}
	change := func(tx *store.Tx) (err error) {
		if err := errors.Join(deleteAll(tx, tokens), store.Delete(tx, used)); err != nil {
			return err
		}
		after, err = store.Update(tx, before, after)
		return err
	}
	err = a.change("enrolment code", change, func(st *state) {
		st.dropCredential(used)
		st.putIdentity(after)
		st.dropTokens(tokens)
	})
	if err != nil {
		return Session{}, err
	}
	return s.startSession(s.attempt(Caller{Origin: origin, name: subjectOf(after), via: "enrolment_code"}, "sign_in", ""), after, via)
}

func (s *Service) hashPassword(password secretvalue.Value) string {
	s.hashing <- struct{}{}
	defer func() { <-s.hashing }()
	return credential.HashPassword(password)
}

// SignOut ends the caller's session or token.
func (s *Service) SignOut(c Caller) error {
	a := s.attempt(c, "sign_out", "")
	var token store.Token
	if err := s.view(func(st *state) error { token = st.tokens[c.token]; return nil }); err != nil {
		return err
	}
	return a.change("session", func(tx *store.Tx) error { return store.Delete(tx, token) },
		func(st *state) { delete(st.tokens, token.ID) })
}

// Authenticate finds who a bearer token belongs to. A token that is cut, unknown, revoked or ended is refused, and
// that is in the trail; the reason says which only as far as the holder of the token could know anyway.
func (s *Service) Authenticate(origin Origin, token string) (Caller, error) {
	hash, err := parseBearer(token)
	if err != nil {
		return Caller{}, s.refuseToken(origin, "token_malformed", "the token is not complete: it is cut off or mistyped")
	}
	c := Caller{Origin: origin, token: hex.EncodeToString(hash[:])}
	s.mu.RLock()
	if s.state == nil {
		s.mu.RUnlock()
		return Caller{}, errLocked
	}
	row, found := s.state.tokens[c.token]
	identity := s.state.identities[row.Identity]
	c.id, c.name, c.via = identity.ID, subjectOf(identity), row.Via
	c.steward = identity.Kind == reference.Person && s.state.isSteward(c, s.now())
	s.mu.RUnlock()
	switch {
	case !found:
		return Caller{}, s.refuseToken(origin, "token_unknown", "the token is not known here: it was revoked, or another chest gave it")
	case micros(s.now()) >= row.NotAfter:
		return Caller{}, s.refuseToken(origin, "token_ended", "the token has ended at "+fromMicros(row.NotAfter).Format(time.RFC3339)+"; sign in again")
	case identity.State != stateActive:
		return Caller{}, s.refuseToken(origin, "identity_suspended", "the identity is suspended")
	case row.Bound != "" && row.Bound != origin.Certificate: // RFC 8705, section 3
		return Caller{}, s.refuseToken(origin, "token_bound", "the token is bound to a certificate, which this connection does not show")
	}
	return c, nil
}

// RefuseAnonymous records that somebody without a usable proof asked for something that needs one, and returns the refusal.
func (s *Service) RefuseAnonymous(origin Origin, reason, detail string) error {
	if !s.Status().Unlocked {
		return errLocked
	}
	return s.refuseToken(origin, reason, detail)
}

func parseBearer(token string) (credential.Hash, error) {
	if hash, err := credential.Parse(credential.AppToken, token); err == nil {
		return hash, nil
	}
	return credential.Parse(credential.PersonToken, token)
}

func (s *Service) refuseToken(origin Origin, reason, detail string) error {
	a := s.attempt(Caller{Origin: origin, name: unknown, via: "bearer"}, "authenticate", "")
	if err := s.take(a, []limit{{"token " + origin.Addr, 300, 10 * time.Minute}}); err != nil {
		return err
	}
	return a.refuse(&Error{Code: Unauthenticated, Detail: detail, Reason: reason})
}

// newMark makes a device mark: a nonce and a MAC over it and the person.
func newMark(st *state, identity string) string {
	nonce := newID("")
	mac := st.root.DeviceMark([]byte(identity + "\x00" + nonce))
	return nonce + "." + base64.RawURLEncoding.EncodeToString(mac[:])
}

func validMark(st *state, identity, mark string) bool {
	nonce, encoded, _ := strings.Cut(mark, ".")
	given, err := base64.RawURLEncoding.DecodeString(encoded)
	want := st.root.DeviceMark([]byte(identity + "\x00" + nonce))
	return err == nil && hmac.Equal(given, want[:])
}
