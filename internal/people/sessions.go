package people

import (
	"fmt"
	"slices"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/credential"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/throttle"
	"tansu/internal/entity"
)

// ChangePassword gives the caller another password. The present one is asked for, since a session alone may be in other hands. Every
// session of theirs ends, and a new one begins in the place of the one that this was done with. Via is ViaConsole or ViaCLI.
func (s *People) ChangePassword(c chest.Caller, present, password secretvalue.Value, via string) (session Session, err error) {
	if err := credential.CheckPassword(password); err != nil {
		return session, chest.Invalid("new_password", "%s", err)
	}
	a := s.heart.Attempt(c, "change_password", c.Name)
	if err := a.Err(); err != nil {
		return session, err
	}
	before := a.St.Identity(c.ID)
	if before.Kind != reference.Person {
		return session, a.Refuse(&chest.Error{Code: chest.Refused, Reason: "people_only", Detail: "only a person has a password"})
	}
	limits := []throttle.Limit{{Key: "own password " + c.ID, Most: 5, Window: 10 * time.Minute}}
	if err := a.Take(limits); err != nil {
		return session, err
	}
	if !s.passwordMatches(present, before.Password) {
		return session, a.Refuse(&chest.Error{Code: chest.SignInFailed, Field: "password", Reason: "sign_in_failed",
			Detail: "the current password is wrong; if you have forgotten it, whoever registers people can give you a code"})
	}
	a.Refund(limits)
	hashed, changed := s.hashPassword(password), entity.Identity{}
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(c, "change_password", c.Name)
		if err := a.Err(); err != nil {
			return err
		}
		now := a.St.Identity(c.ID)
		if now.Password != before.Password {
			return a.Fail(&chest.Error{Code: chest.Stale, Detail: "the password was changed by somebody else meanwhile"})
		}
		a.RestOnSubject(c.ID)
		changed = now
		changed.Password = hashed
		endTokens(a, &changed)
		a.Change.Update(now, changed)
		return a.Commit("password")
	})
	if err != nil {
		return session, err
	}
	err = s.heart.Try(func() error {
		session, err = s.startSession(c.Origin, "password", changed, via)
		return err
	})
	return session, err
}

// OwnSession is a token that the caller has.
type OwnSession struct {
	ID      string // names it, and opens nothing
	Via     string // how it was proved, one of access.Ways
	Begun   time.Time
	Ends    time.Time
	Current bool // whether this was asked with it
}

// ownSessionID is what a token is called: the beginning of its hash.
func ownSessionID(t entity.Token) string { return "se_" + t.ID[:min(len(t.ID), 16)] }

// Sessions lists the caller's tokens that are good, newest first.
func (s *People) Sessions(c chest.Caller) (list []OwnSession, err error) {
	st, err := s.heart.Look()
	if err != nil {
		return nil, err
	}
	for _, t := range s.ownTokens(st, c) {
		list = append(list, OwnSession{ID: ownSessionID(t), Via: t.Via, Begun: chest.FromMicros(t.CreatedAt), Ends: chest.FromMicros(t.NotAfter),
			Current: t.ID == c.Token})
	}
	slices.SortFunc(list, func(a, b OwnSession) int { return b.Begun.Compare(a.Begun) })
	return list, nil
}

func (s *People) ownTokens(st *chest.Snapshot, c chest.Caller) (list []entity.Token) {
	now := s.heart.Now()
	for _, t := range st.AllTokensOf(c.ID) {
		if t.NotAfter > chest.Micros(now) && st.Proves(t, now) {
			list = append(list, t)
		}
	}
	return list
}

// EndSession ends one of the caller's tokens, which may be the one that this is done with.
func (s *People) EndSession(c chest.Caller, id string) error {
	return s.heart.Try(func() error {
		a := s.heart.Attempt(c, "end_session", c.Name)
		if err := a.Err(); err != nil {
			return err
		}
		own := s.ownTokens(a.St, c)
		at := slices.IndexFunc(own, func(t entity.Token) bool { return ownSessionID(t) == id })
		if at < 0 {
			return a.Fail(chest.Missing(fmt.Sprintf("session %.40q of yours", id), ""))
		}
		a.Entry.Detail = "the one of " + chest.FromMicros(own[at].CreatedAt).Format(time.RFC3339)
		deleteAll(a, own[at:at+1])
		return a.Commit("session")
	})
}
