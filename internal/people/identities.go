package people

import (
	"cmp"
	"encoding/hex"
	"slices"
	"tansu/internal/chest"
	"tansu/internal/usage"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/credential"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
	"tansu/internal/powers"
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
	Confirmed   bool // that a person is who they are said to be, by somebody who did not register them
	CreatedAt   time.Time
	CreatedBy   string
	Revision    int64
	Credentials []Credential
	Seen        usage.Seen // when and how it was last there
	Teams       []string   // that a person or an app is in
	Members     []string   // of a team
	MayNotGive  string     // of one looked up alone: why the caller, who gives access, may not give it to this one
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
	Grants  []chest.GrantInfo
	Steward bool
	Ends    time.Time // of the token
	Operate bool      // they may look after the chest as a whole
	May     May
	Waiting int // shares of what opens the chest that wait for them to be taken
	Masters int // master keys that they may withdraw and give back
}

// Me describes the caller.
func (s *People) Me(c chest.Caller) (me Me, err error) {
	st, err := s.heart.Look()
	if err != nil {
		return me, err
	}
	now := s.heart.Now()
	token, _ := st.Token(c.Token)
	me.Identity, me.Ends, me.Steward = describeIdentity(st, st.Identity(c.ID)), chest.FromMicros(token.NotAfter), st.IsSteward(c, now)
	holders := []string{c.ID}
	for _, team := range me.Teams {
		row, _ := st.IdentityOf(team)
		holders = append(holders, row.ID)
	}
	for _, holder := range holders {
		for _, row := range append(st.GivenTo(holder), st.PastOf(holder)...) {
			me.Grants = append(me.Grants, st.DescribeGrant(row, now))
		}
	}
	slices.SortFunc(me.Grants, func(a, b chest.GrantInfo) int { return cmp.Compare(a.ID, b.ID) })
	me.May = mayOf(st, c, c.Context(now))
	me.Operate = me.May.Chest&access.Operate != 0
	for _, share := range st.Shares() {
		if share.Holder == c.ID && share.TakenAt == 0 {
			me.Waiting++
		}
	}
	for _, m := range st.Masters() {
		if st.Manages(c, m.Row, now) {
			me.Masters++
		}
	}
	return me, nil
}

func describeIdentity(st *chest.Snapshot, row entity.Identity) Identity {
	d := Identity{Subject: chest.SubjectOf(row), Description: row.Description, Owner: row.Owner, State: row.State, Purpose: row.Purpose,
		Environment: row.Environment,
		Teams:       st.TeamsOf(row.ID), Members: st.MemberNames(row.ID),
		Enrolled: row.Kind != reference.Person || row.Password != "", Confirmed: !row.Unconfirmed, CreatedAt: chest.FromMicros(row.CreatedAt),
		CreatedBy: row.CreatedBy,
		Revision:  row.Revision}
	for _, cr := range st.CredentialsOf(row.ID) {
		d.Credentials = append(d.Credentials, describeCredential(cr))
	}
	slices.SortFunc(d.Credentials, func(a, b Credential) int { return a.CreatedAt.Compare(b.CreatedAt) })
	return d
}

func describeCredential(row entity.Credential) Credential {
	detail := detailOf(row)
	d := Credential{ID: row.ID, Kind: row.Kind, CreatedAt: chest.FromMicros(row.CreatedAt), CreatedBy: row.CreatedBy,
		NotAfter: chest.FromMicros(row.NotAfter),
		Subject:  detail.Subject, Networks: detail.Networks, UsedAt: chest.FromMicros(detail.UsedAt), UsedFrom: detail.UsedFrom}
	if row.Kind == kindKey || row.Kind == kindCert || row.Kind == kindAccount {
		d.Thumbprint = hex.EncodeToString(row.Hash)
	}
	if detail.Issuer != nil {
		d.Issuer, d.Audience, d.Claims = detail.Issuer.Issuer, detail.Issuer.Audience, detail.Issuer.Claims
	}
	return d
}

// IdentityFilter selects identities; empty fields select all.
type IdentityFilter struct {
	Kind  string // of package reference
	After string // only subjects that follow this one: the Next of the page before
	Most  int    // 0 for no limit
}

// IdentityPage is some identities, in the order of subjects. Next is the last one of them, after which the next page begins; empty at
// the end.
type IdentityPage struct {
	Identities []Identity
	Next       string
}

// Identities lists persons, apps and teams for those who register, grant or audit.
func (s *People) Identities(c chest.Caller, f IdentityFilter) (page IdentityPage, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverIdentities)
	if err != nil {
		return page, err
	}
	after := f.After
	if f.Kind != "" && after < f.Kind+":" {
		after = f.Kind + ":"
	}
	a.St.Identities(after, func(subject string, row entity.Identity) bool {
		if f.Kind != "" && row.Kind != f.Kind {
			return row.Kind < f.Kind // those that follow are of other kinds, too
		}
		if f.Most != 0 && len(page.Identities) == f.Most {
			page.Next = page.Identities[f.Most-1].Subject
			return false
		}
		page.Identities = append(page.Identities, describeIdentity(a.St, row))
		return true
	})
	if err := s.addPresence(page.Identities); err != nil {
		return page, a.Fail(err)
	}
	return chest.Reply(a, page)
}

// Identity describes one person or app.
func (s *People) Identity(c chest.Caller, subject string) (d Identity, err error) {
	if err := chest.CheckSubject("subject", subject); err != nil {
		return d, err
	}
	a, err := s.allowLook(c, subject)
	if err != nil {
		return d, err
	}
	a.Entry.Action, a.Entry.Target = access.SeeMetadata.String(), subject
	row, err := a.St.KnownSubject("", subject)
	if err != nil {
		return d, a.Fail(err)
	}
	list := []Identity{describeIdentity(a.St, row)}
	if gives := a.St.Policy.Anywhere(c.ID, access.GrantAccess, c.Context(a.Entry.At)); gives.Allowed {
		list[0].MayNotGive = powers.MayReceive(a.St, c, row.ID, a.Entry.At).Detail
	}
	if err := s.addPresence(list); err != nil {
		return d, a.Fail(err)
	}
	return chest.Reply(a, list[0])
}

// allowLook decides whether the caller may see what is known of an identity: as who registers, grants or audits, or as its owner.
func (s *People) allowLook(c chest.Caller, subject string) (*chest.Attempt, error) {
	a := s.heart.Attempt(c, chest.OverIdentities.Name, "")
	if a.Err() == nil {
		if row, known := a.St.IdentityOf(subject); known && (row.ID == c.ID || a.St.Owns(c, row)) {
			return a, nil
		}
	}
	return s.heart.AllowOverview(c, chest.OverIdentities)
}

// check refuses what cannot be registered.
func (n NewIdentity) check() error {
	if n.Kind != reference.Person && n.Kind != reference.App && n.Kind != reference.Team {
		return chest.Invalid("kind", `kind is none of "person", "app" and "team"`)
	}
	if err := chest.CheckName("name", n.Name); err != nil {
		return err
	}
	if err := cmp.Or(chest.CheckText("description", n.Description, chest.MaxDescription),
		chest.CheckText("purpose", n.Purpose, chest.MaxDescription)); err != nil {
		return err
	}
	if n.Kind != reference.App && (n.Purpose != "" || n.Environment != "" || n.NoSecret) {
		return chest.Invalid("purpose", "only an app has purpose, environment and no_secret")
	}
	return checkEnvironment(n.Environment)
}

func checkEnvironment(name string) error {
	if name != "" && !slices.Contains(chest.Environments, name) {
		return chest.Invalid("environment", "environment is not one of %v", chest.Environments)
	}
	return nil
}

// Register adds a person, who gets an enrolment code, an app, which gets a secret, or a team, which gets nothing. What
// they get is shown once.
func (s *People) Register(c chest.Caller, n NewIdentity) (registered Registered, err error) {
	if err := n.check(); err != nil {
		return registered, err
	}
	subject := n.Kind + ":" + n.Name
	err = s.heart.Try(func() error {
		registered = Registered{}
		a, err := s.heart.Allow(c, access.Register)
		if err != nil {
			return err
		}
		a.Entry.Target = subject
		if err := a.St.KnownOwner(n.Owner); err != nil {
			return a.Fail(err)
		}
		row := entity.Identity{ID: chest.NewID("id_"), Kind: n.Kind, Name: n.Name, Description: n.Description, Owner: n.Owner, Purpose: n.Purpose,
			Environment: n.Environment, State: chest.Active, CreatedAt: chest.Micros(a.Entry.At), CreatedBy: c.Name}
		row = powers.Coded(a.St, c, row, a.Entry.At)
		a.Change.Insert(row)
		if n.Kind != reference.Team && !n.NoSecret {
			issued, cr := newCredential(row, a.Entry.At, time.Time{}, c.Name)
			registered.Credential, a.Entry.Credential = issued, cr.ID
			a.Change.Insert(cr)
		}
		if err := a.Commit(subject); err != nil {
			return err
		}
		registered.Identity = describeIdentity(a.After(), store.Stored[entity.Identity](&a.Change, row.ID))
		for _, near := range a.St.Alike(subject) {
			registered.Notes = append(registered.Notes, "its name looks like "+near+": make sure that nobody takes one for the other")
		}
		switch {
		case n.Kind == reference.App && n.Owner == "":
			registered.Notes = append(registered.Notes, "it has no owner: nobody answers for it")
		case n.Kind == reference.App && registered.Credential.ID != "" && !a.St.IsSteward(c, a.Entry.At) && n.Owner != c.Name:
			registered.Notes = append(registered.Notes, "you have seen its secret, and so it counts as your own: to give it access yourself, "+
				"let its owner issue one and end this, or register it without a secret (--no-secret)")
		case row.Unconfirmed:
			registered.Notes = append(registered.Notes, "nobody else has confirmed who that is: until somebody does, they count as your own")
		}
		return nil
	})
	if err != nil {
		return Registered{}, err
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
func newCredential(row entity.Identity, now, end time.Time, by string) (Issued, entity.Credential) {
	issued := Issued{ID: chest.NewID("cr_"), Kind: kindAppSecret, NotAfter: end}
	if row.Kind == reference.Person {
		issued.Kind, issued.NotAfter = kindEnrolment, now.Add(chest.EnrolmentLife)
	}
	secret, hash := credential.New(credential.Kind(issued.Kind))
	issued.Secret = secret
	return issued, entity.Credential{ID: issued.ID, Identity: row.ID, Kind: issued.Kind, Hash: hash[:],
		NotAfter:  chest.Micros(issued.NotAfter),
		CreatedAt: chest.Micros(now), CreatedBy: by}
}

// mayIssue refuses a credential by which its issuer could act as somebody else, unless a second person has agreed.
func mayIssue(a *chest.Attempt, row entity.Identity) error {
	l := powers.MayIssue(a.St, a.Caller, row, a.Entry.At)
	if l.Reason == string(access.ApprovalNeeded) {
		return a.Seconded(chest.RequestAct, row.ID, l.Detail)
	}
	return powers.Unless(a, l)
}

// RevokeCredential ends a credential and every token that was given for it.
func (s *People) RevokeCredential(c chest.Caller, subject, id string) error {
	return s.heart.Try(func() error {
		a, row, err := s.toHandle(c, subject, "revoke credential "+id)
		if err != nil {
			return err
		}
		cr := a.St.Credential(id)
		if cr.ID == "" || cr.Identity != row.ID {
			return a.Fail(chest.Missing("credential "+id+" of "+subject, ""))
		}
		a.Entry.Credential = id
		deleteAll(a, a.St.TokensFor(id))
		a.Change.Delete(cr)
		return a.Commit("credential")
	})
}

// SetState suspends an identity, which ends its tokens and makes every credential of it useless, or activates it again.
func (s *People) SetState(c chest.Caller, subject, to string) (d Identity, err error) {
	if to != chest.Active && to != chest.Suspended {
		return d, chest.Invalid("state", `state is neither "active" nor "suspended"`)
	}
	err = s.heart.Try(func() error {
		a, before, err := s.toChange(c, subject, "state "+to)
		if err != nil {
			return err
		}
		if before.State == chest.SetAside {
			return a.Refuse(&chest.Error{Code: chest.Refused, Reason: chest.StewardOnly,
				Detail: "a steward who was set aside is brought back only from the machine itself: tansu steward bring-back"})
		}
		if before.Kind == reference.Team {
			return a.Fail(chest.Invalid("subject", "a team cannot be suspended: end its grants, or let its members leave"))
		}
		if to == chest.Active && before.State != chest.Active {
			if err := powers.Unless(a, powers.MayRestore(a.St, c, before, a.Entry.At)); err != nil {
				return err
			}
		}
		after := before
		after.State = to
		if to == chest.Suspended {
			after.Generation++ // its tokens end, and stay known: who comes with one hears that it is suspended
		} else {
			endTokens(a, &after)
		}
		a.Change.Update(before, after)
		if err := a.Commit(subject); err != nil {
			return err
		}
		d = describeIdentity(a.After(), store.Stored[entity.Identity](&a.Change, before.ID))
		return nil
	})
	return d, err
}

// Confirm records that a person is who they say they are, and that nobody else enrolled in their name. It takes somebody who may
// register people and did not register this one. Until then, the person's access and approvals count as those of whoever registered
// them.
func (s *People) Confirm(c chest.Caller, subject string) (d Identity, err error) {
	err = s.heart.Try(func() error {
		a, before, err := s.toChange(c, subject, "confirm")
		if err != nil {
			return err
		}
		if before.Kind != reference.Person {
			return a.Fail(chest.Invalid("confirmed", "only people are confirmed: an owner answers for an app, and members for a team"))
		}
		if !before.Unconfirmed {
			return a.Fail(&chest.Error{Code: chest.Exists, Detail: subject + " is confirmed already"})
		}
		if err := powers.Unless(a, powers.MayConfirm(a.St, c, before)); err != nil {
			return err
		}
		after := before
		after.Unconfirmed = false
		a.Change.Update(before, after)
		d, err = commitIdentity(a, subject, before.ID)
		return err
	})
	return d, err
}

// commitIdentity commits what was changed of an identity, and describes what it is then.
func commitIdentity(a *chest.Attempt, subject, id string) (Identity, error) {
	if err := a.Commit(subject); err != nil {
		return Identity{}, err
	}
	return describeIdentity(a.After(), store.Stored[entity.Identity](&a.Change, id)), nil
}

// toHandle is toChange for changes that the owner of an app may also make.
func (s *People) toHandle(c chest.Caller, subject, detail string) (*chest.Attempt, entity.Identity, error) {
	if err := chest.CheckSubject("subject", subject); err != nil {
		return nil, entity.Identity{}, err
	}
	a := s.heart.Attempt(c, access.Register.String(), subject).RestOnAccess()
	if err := a.Err(); err != nil {
		return nil, entity.Identity{}, err
	}
	row, _ := a.St.IdentityOf(subject)
	if row.Kind != reference.App || !a.St.Owns(c, row) {
		return s.toChange(c, subject, detail)
	}
	a.Entry.Detail = detail
	return a, row, nil
}

// toChange decides on a change of an identity and finds it. It rests on all of access, because whether it may be changed does.
func (s *People) toChange(c chest.Caller, subject, detail string) (*chest.Attempt, entity.Identity, error) {
	if err := chest.CheckSubject("subject", subject); err != nil {
		return nil, entity.Identity{}, err
	}
	a, err := s.heart.Allow(c, access.Register)
	if err != nil {
		return nil, entity.Identity{}, err
	}
	a.RestOnAccess()
	a.Entry.Target, a.Entry.Detail = subject, detail
	row, err := a.St.KnownSubject("", subject)
	if err != nil {
		return nil, row, a.Fail(err)
	}
	return a, row, nil
}

// IdentityChanges change the description, owner, purpose or environment of an identity; nil leaves a field as it is.
type IdentityChanges struct {
	Description, Owner, Purpose, Environment *string
}

// check validates the changes.
func (ch IdentityChanges) check() error {
	for _, said := range []struct {
		field string
		text  *string
	}{{"description", ch.Description}, {"purpose", ch.Purpose}} {
		if said.text != nil {
			if err := chest.CheckText(said.field, *said.text, chest.MaxDescription); err != nil {
				return err
			}
		}
	}
	if ch.Environment != nil {
		return checkEnvironment(*ch.Environment)
	}
	return nil
}

// ChangeIdentity changes the description, owner, purpose or environment of an identity.
func (s *People) ChangeIdentity(c chest.Caller, subject string, ch IdentityChanges) (d Identity, err error) {
	if err := ch.check(); err != nil {
		return d, err
	}
	err = s.heart.Try(func() error {
		a, before, err := s.toChange(c, subject, "change its description or owner")
		if err != nil {
			return err
		}
		if before.Kind != reference.App && (ch.Purpose != nil || ch.Environment != nil) {
			return a.Fail(chest.Invalid("purpose", "only an app has a purpose and an environment"))
		}
		if ch.Owner != nil {
			if err := a.St.KnownOwner(*ch.Owner); err != nil {
				return a.Fail(err)
			}
			if heir, named := a.St.IdentityOf(*ch.Owner); named && *ch.Owner != before.Owner {
				if err := powers.Unless(a, letAct(a, before, heir)); err != nil {
					return err
				}
			}
			if before.Owner == c.Name && *ch.Owner != c.Name {
				return a.Refuse(&chest.Error{Code: chest.Refused, Reason: chest.OwnAccess,
					Detail: "whoever registers apps may not give away one they own, since they could then grant it access; another gatekeeper can"})
			}
		}
		after := before
		for _, field := range []struct{ to, from *string }{{&after.Description, ch.Description}, {&after.Owner, ch.Owner},
			{&after.Purpose, ch.Purpose}, {&after.Environment, ch.Environment}} {
			if field.from != nil {
				*field.to = *field.from
			}
		}
		a.Change.Update(before, after)
		d, err = commitIdentity(a, subject, before.ID)
		return err
	})
	return d, err
}

// addPresence adds what the trail says about identities and their credentials.
func (s *People) addPresence(list []Identity) error {
	subjects, credentials := []string{}, []string{} // nil would be all
	for _, identity := range list {
		subjects = append(subjects, identity.Subject)
		for _, c := range identity.Credentials {
			credentials = append(credentials, c.ID)
		}
	}
	seen, err := usage.UpToDate(s.records, store.UseFilter{Kind: usage.Presence, Keys: subjects})
	if err != nil {
		return err
	}
	used, err := s.records.Uses(store.UseFilter{Kind: usage.Credential, Keys: credentials})
	if err != nil {
		return err
	}
	last := map[string]store.Use{}
	for _, use := range append(seen, used...) {
		last[use.Key] = use
	}
	for i := range list {
		if use, was := last[list[i].Subject]; was {
			list[i].Seen = usage.SeenOf(use)
		}
		for j := range list[i].Credentials {
			if use, was := last[list[i].Credentials[j].ID]; was {
				list[i].Credentials[j].LastUsed = chest.FromMicros(use.At)
			}
		}
	}
	return nil
}
