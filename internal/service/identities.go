package service

import (
	"cmp"
	"encoding/hex"
	"errors"
	"slices"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/credential"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/store"
)

// Identity is a person or an app as others see it.
type Identity struct {
	Subject     string
	Description string
	Owner       string
	Purpose     string // of an app
	Environment string // of an app; empty for any
	State       string
	Enrolled    bool // a person with a password, or an app
	CreatedAt   time.Time
	CreatedBy   string
	Revision    int64
	Credentials []Credential
	Seen        Seen     // when and how it was last there
	Teams       []string // that a person or an app is in
	Members     []string // of a team
}

// Credential is what is known of one without the secret.
type Credential struct {
	ID        string
	Kind      string
	CreatedAt time.Time
	CreatedBy string
	NotAfter  time.Time
	LastUsed  time.Time // of an app's; zero for never
	// Of one that is no secret:
	Thumbprint string            // of a public key (RFC 7638) or a certificate, SHA-256 in hex
	Subject    string            // of a certificate
	Issuer     string            // who else may say that it is the app,
	Audience   string            // to whom,
	Claims     map[string]string // and what
	Networks   []string          // from where a code may be used
	UsedAt     time.Time         // of a code; zero while it was not
	UsedFrom   string
}

// NewIdentity is what registering needs.
type NewIdentity struct {
	Kind        string
	Name        string
	Description string
	Owner       string // a subject; empty for none
	Purpose     string // of an app: what it does with what it reads
	Environment string // of an app: one of those a drawer can be for; empty for any
	NoSecret    bool   // of an app: it gets none, because it proves itself in another way
}

// Issued is a credential shown once.
type Issued struct {
	ID       string
	Kind     string
	Secret   secretvalue.Value
	NotAfter time.Time // zero for no end
}

// Me is what callers may know of themselves.
type Me struct {
	Identity
	Grants  []Grant
	Steward bool
	Ends    time.Time // of the token
}

// Me describes the caller.
func (s *Service) Me(c Caller) (me Me, err error) {
	err = s.view(func(st *state) error {
		me.Identity = describeIdentity(st, st.identities[c.id])
		me.Ends = fromMicros(st.tokens[c.token].NotAfter)
		me.Steward = st.isSteward(c, s.now())
		teams := st.teamsOf(c.id)
		for _, row := range st.grants {
			if row.Subject == c.id || slices.Contains(teams, subjectOf(st.identities[row.Subject])) {
				me.Grants = append(me.Grants, describeGrant(st, row).inForce(s.now()))
			}
		}
		slices.SortFunc(me.Grants, func(a, b Grant) int { return cmp.Compare(a.ID, b.ID) })
		return nil
	})
	return me, err
}

func (st *state) isSteward(c Caller, now time.Time) bool {
	return st.policy.Holds(c.id, access.Steward, c.context(now))
}

func describeIdentity(st *state, row store.Identity) Identity {
	d := Identity{Subject: subjectOf(row), Description: row.Description, Owner: row.Owner, State: row.State, Purpose: row.Purpose, Environment: row.Environment,
		Teams: st.teamsOf(row.ID), Members: st.membersOf(row.ID),
		Enrolled: row.Kind != reference.Person || row.Password != "", CreatedAt: fromMicros(row.CreatedAt), CreatedBy: row.CreatedBy, Revision: row.Revision}
	for _, cr := range st.credentials {
		if cr.Identity == row.ID {
			d.Credentials = append(d.Credentials, describeCredential(cr))
		}
	}
	slices.SortFunc(d.Credentials, func(a, b Credential) int { return a.CreatedAt.Compare(b.CreatedAt) })
	return d
}

func describeCredential(row store.Credential) Credential {
	detail := detailOf(row)
	d := Credential{ID: row.ID, Kind: row.Kind, CreatedAt: fromMicros(row.CreatedAt), CreatedBy: row.CreatedBy, NotAfter: fromMicros(row.NotAfter),
		Subject: detail.Subject, Networks: detail.Networks, UsedAt: fromMicros(detail.UsedAt), UsedFrom: detail.UsedFrom}
	if row.Kind == kindKey || row.Kind == kindCert {
		d.Thumbprint = hex.EncodeToString(row.Hash)
	}
	if detail.Issuer != nil {
		d.Issuer, d.Audience, d.Claims = detail.Issuer.Issuer, detail.Issuer.Audience, detail.Issuer.Claims
	}
	return d
}

// Identities lists persons and apps for those who register, grant or audit.
func (s *Service) Identities(c Caller) (list []Identity, err error) {
	a, err := s.allowOverview(c, overIdentities)
	if err != nil {
		return nil, err
	}
	err = s.view(func(st *state) error {
		for _, subject := range sortedKeys(st.subjects) {
			list = append(list, describeIdentity(st, st.identities[st.subjects[subject]]))
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if err := s.addPresence(list); err != nil {
		return nil, a.fail(err)
	}
	return answer(a, list)
}

// overview is a question about the chest as a whole whose answer is cut to what the caller may see: it takes one of
// the actions on anything at all.
type overview struct {
	name    string // in the trail
	what    string // completes "may not …"
	actions access.Action
}

var (
	overDrawers    = overview{"list_drawers", "list any drawer", access.List}
	overIdentities = overview{"list_identities", "see people and apps", access.Register | access.GrantAccess | access.ReadTrail}
	overTrail      = overview{"read_trail", "read any of the trail", access.ReadTrail}
	overRefusals   = overview{"list_refusals", "see what was refused", access.GrantAccess | access.ReadTrail}
	overviews      = []overview{overDrawers, overIdentities, overTrail, overRefusals}
)

// remedy is a grant that would allow it. There is none for listing drawers: on which one is for a gatekeeper to say.
func (o overview) remedy(st *state, subject string) *Remedy {
	if o.actions == access.List {
		return nil
	}
	return st.remedyFor(subject, access.ReadTrail, "")
}

// allowOverview decides on an overview.
func (s *Service) allowOverview(c Caller, o overview) (*attempt, error) {
	a := s.attempt(c, o.name, "")
	var decision access.Decision
	var remedy *Remedy
	err := s.view(func(st *state) error {
		decision, remedy = st.policy.Anywhere(c.id, o.actions, c.context(a.entry.At)), o.remedy(st, c.name)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return a, a.answered(decision, o.what, "", remedy)
}

// Identity describes one person or app.
func (s *Service) Identity(c Caller, subject string) (d Identity, err error) {
	if _, err := reference.ParseSubject(subject); err != nil {
		return d, invalid("subject", "%s", err)
	}
	a, err := s.allowOverview(c, overIdentities)
	if err != nil {
		return d, err
	}
	a.entry.Action, a.entry.Target = access.SeeMetadata.String(), subject
	row, err := s.knownSubject("", subject)
	if err != nil {
		return d, a.fail(err)
	}
	list := make([]Identity, 1)
	err = s.view(func(st *state) error { list[0] = describeIdentity(st, row); return nil })
	if err != nil {
		return d, err
	}
	if err := s.addPresence(list); err != nil {
		return d, a.fail(err)
	}
	return answer(a, list[0])
}

// Register adds a person, who gets an enrolment code, an app, which gets a secret, or a team, which gets nothing. What
// they get is shown once.
func (s *Service) Register(c Caller, n NewIdentity) (Registered, error) {
	var none Registered
	if n.Kind != reference.Person && n.Kind != reference.App && n.Kind != reference.Team {
		return none, invalid("kind", `kind is none of "person", "app" and "team"`)
	}
	if err := checkName("name", n.Name); err != nil {
		return none, err
	}
	if err := cmp.Or(checkText("description", n.Description, MaxDescription), checkText("purpose", n.Purpose, MaxDescription)); err != nil {
		return none, err
	}
	if n.Kind != reference.App && (n.Purpose != "" || n.Environment != "" || n.NoSecret) {
		return none, invalid("purpose", "purpose, environment and no_secret are an app's")
	}
	if n.Environment != "" && !slices.Contains(environments, n.Environment) {
		return none, invalid("environment", "environment is not one of %v", environments)
	}
	a, err := s.allow(c, access.Register)
	if err != nil {
		return none, err
	}
	subject := n.Kind + ":" + n.Name
	a.entry.Target = subject
	if n.Owner != "" {
		if _, err := s.knownSubject("owner", n.Owner); err != nil {
			return none, a.fail(err)
		}
	}
	row := store.Identity{ID: newID("id_"), Kind: n.Kind, Name: n.Name, Description: n.Description, Owner: n.Owner, Purpose: n.Purpose, Environment: n.Environment,
		State: stateActive, CreatedAt: micros(a.entry.At), CreatedBy: c.name}
	registered := Registered{}
	issued, cr := newCredential(row, a.entry.At, time.Time{}, c.name)
	if n.Kind == reference.Team || n.NoSecret {
		cr = store.Credential{}
	} else {
		registered.Credential = issued
	}
	change := func(tx *store.Tx) (err error) {
		if row, err = store.Insert(tx, row); err != nil || cr.ID == "" {
			return err
		}
		cr, err = store.Insert(tx, cr)
		return err
	}
	err = a.change(subject, change, func(st *state) {
		st.putIdentity(row)
		if cr.ID != "" {
			st.putCredential(cr)
		}
		registered.Identity = describeIdentity(st, row)
		for _, near := range st.alike(subject) {
			registered.Notes = append(registered.Notes, "its name looks like "+near+": make sure that nobody takes one for the other")
		}
		if n.Kind == reference.App && n.Owner == "" {
			registered.Notes = append(registered.Notes, "it has no owner: nobody answers for it")
		}
	})
	if err != nil {
		return none, err
	}
	return registered, nil
}

// Registered is a new identity, what it proves itself with, and what is unusual about it.
type Registered struct {
	Identity   Identity
	Credential Issued // without an id for a team
	Notes      []string
}

// newCredential makes an app's secret, which ends when it is told to, or a person's enrolment code.
func newCredential(row store.Identity, now, end time.Time, by string) (Issued, store.Credential) {
	issued := Issued{ID: newID("cr_"), Kind: kindAppSecret, NotAfter: end}
	if row.Kind == reference.Person {
		issued.Kind, issued.NotAfter = kindEnrolment, now.Add(enrolmentLife)
	}
	secret, hash := credential.New(credential.Kind(issued.Kind))
	issued.Secret = secret
	return issued, store.Credential{ID: issued.ID, Identity: row.ID, Kind: issued.Kind, Hash: hash[:], NotAfter: micros(issued.NotAfter),
		CreatedAt: micros(now), CreatedBy: by}
}

// mayIssue keeps who registers from becoming somebody else: a code for a person who has a password already hands over
// everything that person may do.
func (s *Service) mayIssue(c Caller, a *attempt, row store.Identity) error {
	if row.ID == c.id {
		return a.refuse(&Error{Code: Refused, Reason: ownAccess, Detail: "nobody issues credentials to themselves"})
	}
	if row.Kind == reference.App || row.Password == "" {
		return nil
	}
	var steward bool
	if err := s.view(func(st *state) error { steward = st.isSteward(c, a.entry.At); return nil }); err != nil {
		return err
	}
	if !steward {
		return a.refuse(&Error{Code: Refused, Reason: stewardOnly, Detail: "only a steward lets somebody who has a password choose a new one: the code hands over all that they may do"})
	}
	return nil
}

// RevokeCredential ends a credential and every token that was given for it.
func (s *Service) RevokeCredential(c Caller, subject, id string) error {
	a, row, err := s.toChange(c, subject, "revoke credential "+id)
	if err != nil {
		return err
	}
	var cr store.Credential
	var tokens []store.Token
	err = s.view(func(st *state) error {
		cr = st.credentials[id]
		for _, t := range st.tokens {
			if t.Credential == id {
				tokens = append(tokens, t)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if cr.ID == "" || cr.Identity != row.ID {
		return a.fail(notFound("credential "+id+" of "+subject, ""))
	}
	return a.change("credential", func(tx *store.Tx) error {
		if err := deleteAll(tx, tokens); err != nil {
			return err
		}
		return store.Delete(tx, cr)
	}, func(st *state) {
		st.dropCredential(cr)
		st.dropTokens(tokens)
	})
}

// tokensOf lists the tokens of an identity.
func (s *Service) tokensOf(identity string) (tokens []store.Token, err error) {
	err = s.view(func(st *state) error {
		for _, t := range st.tokens {
			if t.Identity == identity {
				tokens = append(tokens, t)
			}
		}
		return nil
	})
	return tokens, err
}

func deleteAll(tx *store.Tx, tokens []store.Token) error {
	for _, t := range tokens {
		// One that is not there any more was removed by somebody else meanwhile: there is nothing left to do.
		if err := store.Delete(tx, t); err != nil && !errors.Is(err, store.ErrStale) {
			return err
		}
	}
	return nil
}

// SetState suspends an identity, which ends its tokens and makes every credential of it useless, or activates it again.
func (s *Service) SetState(c Caller, subject, to string) (d Identity, err error) {
	if to != stateActive && to != stateSuspended {
		return d, invalid("state", `state is neither "active" nor "suspended"`)
	}
	a, before, err := s.toChange(c, subject, "state "+to)
	if err != nil {
		return d, err
	}
	if before.State == stateSetAside {
		return d, a.refuse(&Error{Code: Refused, Reason: stewardOnly, Detail: "a steward who was set aside is brought back only from the machine itself: tansu steward bring-back"})
	}
	if before.Kind == reference.Team {
		return d, a.fail(invalid("subject", "a team cannot be suspended: end its grants, or let its members leave"))
	}
	if to == stateSuspended {
		if err := s.staysOpen(a, func(st *state) error { row := before; row.State = to; st.putIdentity(row); return nil }); err != nil {
			return d, err
		}
	}
	after := before
	after.State = to
	var tokens []store.Token
	if to == stateSuspended {
		if tokens, err = s.tokensOf(before.ID); err != nil {
			return d, err
		}
	}
	err = a.change(subject, func(tx *store.Tx) (err error) {
		if err := deleteAll(tx, tokens); err != nil {
			return err
		}
		after, err = store.Update(tx, before, after)
		return err
	}, func(st *state) {
		st.putIdentity(after)
		st.dropTokens(tokens)
		d = describeIdentity(st, after)
	})
	return d, err
}

// toChange decides on a change of an identity and finds it.
func (s *Service) toChange(c Caller, subject, detail string) (*attempt, store.Identity, error) {
	if _, err := reference.ParseSubject(subject); err != nil {
		return nil, store.Identity{}, invalid("subject", "%s", err)
	}
	a, err := s.allow(c, access.Register)
	if err != nil {
		return nil, store.Identity{}, err
	}
	a.entry.Target, a.entry.Detail = subject, detail
	row, err := s.knownSubject("", subject)
	if err != nil {
		return nil, row, a.fail(err)
	}
	return a, row, nil
}

// knownSubject finds an identity for somebody who may know which there are; a near name is pointed out. With a field
// set, the error is about that field of the input.
func (s *Service) knownSubject(field, subject string) (row store.Identity, err error) {
	if _, err := reference.ParseSubject(subject); err != nil {
		return row, invalid(field, "%s", err)
	}
	err = s.view(func(st *state) error {
		found := false
		if row, found = st.identity(subject); found {
			return nil
		}
		missing := notFound(subject, reference.Nearest(subject, sortedKeys(st.subjects)))
		if field != "" {
			missing.Code, missing.Field = InvalidInput, field
		}
		return missing
	})
	return row, err
}

// IdentityChanges are changes to what is said about an identity; nil leaves as it is.
type IdentityChanges struct {
	Description, Owner, Purpose, Environment *string
}

// ChangeIdentity changes what is said about an identity.
func (s *Service) ChangeIdentity(c Caller, subject string, ch IdentityChanges) (d Identity, err error) {
	for _, text := range []struct {
		field string
		text  *string
	}{{"description", ch.Description}, {"purpose", ch.Purpose}} {
		if text.text != nil {
			if err := checkText(text.field, *text.text, MaxDescription); err != nil {
				return d, err
			}
		}
	}
	if ch.Environment != nil && *ch.Environment != "" && !slices.Contains(environments, *ch.Environment) {
		return d, invalid("environment", "environment is not one of %v", environments)
	}
	a, before, err := s.toChange(c, subject, "change what is said about it")
	if err != nil {
		return d, err
	}
	if before.Kind != reference.App && (ch.Purpose != nil || ch.Environment != nil) {
		return d, a.fail(invalid("purpose", "purpose and environment are an app's"))
	}
	if err := s.checkOwner(Described{Owner: ch.Owner}); err != nil {
		return d, a.fail(err)
	}
	if ch.Owner != nil && before.Owner == c.name && *ch.Owner != c.name {
		return d, a.refuse(&Error{Code: Refused, Reason: ownAccess, Detail: "nobody who registers gives away what they own, and with it the reason not to grant it anything; another gatekeeper can"})
	}
	after := before
	for _, field := range []struct{ to, from *string }{{&after.Description, ch.Description}, {&after.Owner, ch.Owner}, {&after.Purpose, ch.Purpose}, {&after.Environment, ch.Environment}} {
		if field.from != nil {
			*field.to = *field.from
		}
	}
	err = a.change(subject, func(tx *store.Tx) (err error) { after, err = store.Update(tx, before, after); return err },
		func(st *state) {
			st.putIdentity(after)
			d = describeIdentity(st, after)
		})
	return d, err
}
