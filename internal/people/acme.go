package people

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"slices"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/assertion"
	"tansu/internal/core/credential"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/throttle"
	"tansu/internal/entity"
)

// An ACME client (RFC 8555) has a key of its own, with which it signs all that it asks. It registers that key with another one that was
// given to it for that (section 7.3.4), and acts as the app that this was made for. Nothing of that one is stored: it follows from the root
// key.
const (
	kindACME    = string(credential.ACME)
	kindAccount = string(credential.ACMEAccount)

	viaACME = "app_acme"
)

// registerACME is what registering such a key is called in the trail.
const registerACME = "register_acme_account"

func acmeKey(st *chest.Snapshot, id string) [32]byte { return st.Root().HostKey("acme " + id) }

// acme fills in what registers ACME accounts.
func (issued *Issued) acme(st *chest.Snapshot, cr *entity.Credential) {
	cr.Hash = make([]byte, 32)
	_, _ = rand.Read(cr.Hash) // it is found by its id only
	key := acmeKey(st, cr.ID)
	defer clear(key[:])
	issued.Secret = secretvalue.FromString(base64.RawURLEncoding.EncodeToString(key[:]))
}

// errNoAccount is the one answer to whoever cannot register or is not registered.
func errNoAccount(reason string) *chest.Error {
	return &chest.Error{Code: chest.SignInFailed, Reason: reason, Detail: "the external account binding is not good: make a key with " +
		"tansu app acme-key"}
}

// RegisterACME registers the key of an ACME client for the app that a binding was made for. Check gets the key of the binding and says
// whether it was signed with that. A key that is registered for this app already stays as it is.
func (s *People) RegisterACME(origin chest.Origin, binding string, check func(key []byte) error, public json.RawMessage) (account string,
	err error) {
	limits := []throttle.Limit{{Key: "addr " + throttle.Neighbours(origin.Addr), Most: 20, Window: 10 * time.Minute}}
	first := true
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(chest.Anonymous(origin, viaACME), registerACME, "")
		if err := a.Err(); err != nil {
			return err
		}
		if first {
			first = false
			if err := a.Take(limits); err != nil {
				return err
			}
		}
		before := a.St.Credential(binding)
		row := a.St.Identity(before.Identity)
		if before.Kind != kindACME || row.State != chest.Active || before.NotAfter != 0 && chest.Micros(a.Entry.At) >= before.NotAfter {
			return a.Refuse(errNoAccount("binding_unknown"))
		}
		key := acmeKey(a.St, before.ID)
		defer clear(key[:])
		if check(key[:]) != nil {
			return a.Refuse(errNoAccount("binding_not_signed"))
		}
		jwk, thumbprint, err := assertion.PublicKey(public)
		if err != nil {
			return a.Fail(chest.Invalid("public_key", "public_key: %v", err))
		}
		a.Refund(limits)
		if known := a.St.CredentialWith(thumbprint[:]); known.Kind == kindAccount && known.Identity == row.ID {
			account = known.ID
			return nil
		}
		encoded, err := jwk.MarshalJSON()
		if err != nil {
			return a.Fail(chest.Invalid("public_key", "public_key cannot be encoded"))
		}
		made := entity.Credential{ID: chest.NewID("cr_"), Identity: row.ID, Kind: kindAccount, Hash: thumbprint[:],
			Detail: proofDetail{Key: encoded}.text(), CreatedAt: chest.Micros(a.Entry.At), CreatedBy: before.CreatedBy}
		ended, err := roomFor(a.St, row, made, a.Entry.At)
		if err != nil {
			return a.Fail(err)
		}
		for _, old := range ended {
			a.Change.Delete(old)
		}
		a.RestOnSubject(row.ID)
		a.RestOnProof(before.ID)
		a.Entry.Credential, a.Entry.Detail = made.ID, chest.SubjectOf(row)+", account "+made.ID+" by "+before.ID
		a.Change.Insert(made)
		account = made.ID
		return a.Commit("credential")
	})
	return account, err
}

// ACMEAccount finds the account of an ACME client by its id or, where that is empty, by its key: who acts with it, and its key as a JWK.
func (s *People) ACMEAccount(origin chest.Origin, id string, public json.RawMessage) (c chest.Caller, account string, key json.RawMessage,
	err error) {
	st, err := s.heart.Look()
	if err != nil {
		return c, "", nil, err
	}
	cr := st.Credential(id)
	if id == "" {
		_, thumbprint, err := assertion.PublicKey(public)
		if err != nil {
			return c, "", nil, errNoAccount("account_unknown")
		}
		cr = st.CredentialWith(thumbprint[:])
	}
	row := st.Identity(cr.Identity)
	if cr.Kind != kindAccount || row.State != chest.Active || cr.NotAfter != 0 && chest.Micros(s.heart.Now()) >= cr.NotAfter {
		return c, "", nil, errNoAccount("account_unknown")
	}
	return chest.Caller{Origin: origin, ID: row.ID, Name: chest.SubjectOf(row), Proof: viaACME}, cr.ID, detailOf(cr).Key, nil
}

// TurnACMEKey puts another key in the place of an account's (RFC 8555, section 7.3.5).
func (s *People) TurnACMEKey(c chest.Caller, id string, public json.RawMessage) error {
	jwk, thumbprint, err := assertion.PublicKey(public)
	if err != nil {
		return chest.Invalid("public_key", "public_key: %v", err)
	}
	encoded, err := jwk.MarshalJSON()
	if err != nil {
		return chest.Invalid("public_key", "public_key cannot be encoded")
	}
	return s.ofAccount(c, id, "change the key of ACME account "+id, func(a *chest.Attempt, before entity.Credential) error {
		if other := a.St.CredentialWith(thumbprint[:]); other.ID != "" {
			return &chest.Error{Code: chest.Exists, Detail: "that key is the key of another account"}
		}
		after := before
		after.Hash, after.Detail = thumbprint[:], proofDetail{Key: encoded}.text()
		a.Change.Update(before, after)
		return nil
	})
}

// EndACMEAccount ends an account on behalf of its client (RFC 8555, section 7.3.6).
func (s *People) EndACMEAccount(c chest.Caller, id string) error {
	return s.ofAccount(c, id, "revoke credential "+id, func(a *chest.Attempt, before entity.Credential) error {
		a.Change.Delete(before)
		return nil
	})
}

func (s *People) ofAccount(c chest.Caller, id, what string, do func(*chest.Attempt, entity.Credential) error) error {
	return s.heart.Try(func() error {
		a := s.heart.Attempt(c, "register", c.Name)
		if err := a.Err(); err != nil {
			return err
		}
		own := a.St.CredentialsOf(c.ID)
		at := slices.IndexFunc(own, func(cr entity.Credential) bool { return cr.ID == id && cr.Kind == kindAccount })
		if at < 0 {
			return errNoAccount("account_unknown")
		}
		a.RestOnProof(id)
		a.Entry.Credential, a.Entry.Detail = id, what
		if err := do(a, own[at]); err != nil {
			return a.Fail(err)
		}
		return a.Commit("credential")
	})
}
