package rights

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/powers"
	"tansu/internal/store"
)

// NewGrant is what giving a grant needs.
type NewGrant struct {
	Subject  string
	Effect   string // empty for allow
	Role     string
	Scope    string
	Reason   string
	NotAfter time.Time // zero for 90 days from now, unless NeverEnds
	// NeverEnds asks for a grant without end, on purpose.
	NeverEnds bool
	// Replaces is the id of a grant of the same subject that ends in the same instant; empty for none.
	Replaces string
	chest.Conditions
}

// GrantFilter selects grants; empty fields select all.
type GrantFilter struct {
	Subject string // and the teams that it is in
	After   string // only those whose ids follow this one: the Next of the page before
	Most    int    // 0 for no limit
}

// GrantPage is some grants; Next is where the page after it begins, empty at the end. Pages are in the order of ids; a list that is
// not in pages is in the order of subjects.
type GrantPage struct {
	Grants []chest.GrantInfo
	Next   string
}

// Grants lists the grants that the caller may see, of one subject and the teams it is in if it is not empty: their own,
// those whose whole scope they may give, and all of them for whoever reads the whole trail.
func (s *Rights) Grants(c chest.Caller, f GrantFilter) (page GrantPage, err error) {
	a := s.heart.Attempt(c, "list_grants", "")
	if err := a.Err(); err != nil {
		return page, err
	}
	st := a.St
	a.Entry.Grant = st.Decide(c.ID, access.ReadTrail, c.Context(a.Entry.At)).Grant
	full := false
	visit := func(row entity.Grant) bool {
		if !st.KnowsGrant(c, row, a.Entry.At) {
			return true
		}
		if full = f.Most != 0 && len(page.Grants) == f.Most; full {
			page.Next = page.Grants[f.Most-1].ID
			return false
		}
		info := st.DescribeGrant(row, a.Entry.At)
		if scope, err := access.ParseScope(row.Scope); err == nil && info.EndedAt.IsZero() {
			gives := st.Policy.DecideScope(c.ID, access.GrantAccess, scope, c.Context(a.Entry.At)).Allowed
			info.MayEnd = gives && powers.MayEnd(st, c, row).None()
			info.MayRenew = gives && powers.MayGive(st, c, row.Subject, row, a.Entry.At).None()
		}
		page.Grants = append(page.Grants, info)
		return c.Ctx().Err() == nil
	}
	if f.Subject == "" {
		st.Grants(f.After, visit)
	} else {
		for _, row := range grantsOf(st, f.Subject) {
			if row.ID > f.After && !visit(row) {
				break
			}
		}
	}
	if err := c.Ctx().Err(); err != nil {
		return page, a.Fail(chest.Gone(err))
	}
	if f.Most == 0 {
		slices.SortFunc(page.Grants, func(x, y chest.GrantInfo) int {
			return cmp.Or(cmp.Compare(x.Subject, y.Subject), x.CreatedAt.Compare(y.CreatedAt), cmp.Compare(x.ID, y.ID))
		})
	}
	return chest.Reply(a, page)
}

// grantsOf lists the grants of a subject and of the teams that it is in, also those that have ended, in the order of ids.
func grantsOf(st *chest.Snapshot, subject string) (list []entity.Grant) {
	row, _ := st.IdentityOf(subject)
	for _, holder := range append(st.TeamsOf(row.ID), subject) {
		row, _ := st.IdentityOf(holder)
		list = append(append(list, st.GivenTo(row.ID)...), st.PastOf(row.ID)...)
	}
	slices.SortFunc(list, func(x, y entity.Grant) int { return cmp.Compare(x.ID, y.ID) })
	return list
}

// Give adds a grant, in force from the moment it returns. The notes point out what is unusual about it.
func (s *Rights) Give(c chest.Caller, n NewGrant) (g chest.GrantInfo, notes []string, err error) {
	err = s.heart.Try(func() error {
		a, row, replaced, err := s.giving(c, n)
		if err != nil {
			return err
		}
		if notes, err = grantNotes(a, row, replaced.ID); err != nil {
			return a.Fail(err)
		}
		if err := a.Commit("grant"); err != nil {
			return err
		}
		g = a.After().DescribeGrant(store.Stored[entity.Grant](&a.Change, row.ID), a.Entry.At)
		return nil
	})
	return g, notes, err
}

// giving checks a new grant, decides whether the caller may give it, and puts it, and the end of the one that it replaces, into the
// attempt's change.
func (s *Rights) giving(c chest.Caller, n NewGrant) (a *chest.Attempt, row, replaced entity.Grant, err error) {
	st, err := s.heart.Look()
	if err != nil {
		return nil, row, replaced, err
	}
	if row, err = newGrantRow(st, c.Name, n, s.heart.Now()); err != nil {
		return nil, row, replaced, err
	}
	scope, err := access.ParseScope(n.Scope)
	if err != nil {
		return nil, row, replaced, chest.Invalid("scope", "%s", err)
	}
	if a, err = s.allowGrant(c, scope); err != nil {
		return nil, row, replaced, err
	}
	subject, err := a.St.KnownSubject("subject", n.Subject)
	if err != nil {
		return nil, row, replaced, a.Fail(err)
	}
	row.Subject, row.Scope = subject.ID, scope.String()
	if err := powers.Unless(a, powers.MayGive(a.St, c, subject.ID, row, a.Entry.At)); err != nil {
		return nil, row, replaced, err
	}
	a.Entry.Target, a.Entry.Detail = n.Subject, givingText(row, n.Subject)
	a.Entry.Given = row.ID
	if n.Replaces != "" {
		if replaced, err = toReplace(a, row, n.Replaces); err != nil {
			return nil, row, replaced, err
		}
		a.Change.Update(replaced, ended(replaced, a))
		a.Entry.Detail += ", in the place of " + replaced.ID
	}
	a.Change.Insert(row)
	return a, row, replaced, nil
}

// givingText says in an entry that a grant is given.
func givingText(row entity.Grant, subject string) string {
	return fmt.Sprintf("%s %s %s on %s, grant %s", row.Effect, subject, row.Role, row.Scope, row.ID)
}

// endingText says in an entry that a grant is ended. By that of one that allows, it is known after a restore what is to be ended again.
func endingText(row entity.Grant) string {
	text := "end grant " + row.ID
	if row.Effect != string(access.Allow) {
		text += ", which denied"
	}
	return text
}

// ended is a grant as it is when an attempt's caller ends it.
func ended(row entity.Grant, a *chest.Attempt) entity.Grant {
	row.EndedAt, row.EndedBy = chest.Micros(a.Entry.At), a.Caller.Name
	return row
}

// toReplace finds the grant that a new one takes the place of.
func toReplace(a *chest.Attempt, row entity.Grant, id string) (before entity.Grant, err error) {
	before = a.St.Grant(id)
	if before.ID == "" || before.EndedAt != 0 || before.Subject != row.Subject || before.Effect != row.Effect {
		return before, a.Fail(chest.Invalid("replaces", "%.40q is not a grant of the same subject and effect that is not ended", id))
	}
	scope, err := access.ParseScope(before.Scope)
	if err != nil {
		return before, a.Fail(err)
	}
	if !a.St.Policy.DecideScope(a.Caller.ID, access.GrantAccess, scope, a.Caller.Context(a.Entry.At)).Allowed {
		return before, a.Fail(chest.Invalid("replaces", "you may not end grant %s", id))
	}
	a.Entry.Detail += " instead of " + id
	return before, nil
}

// newGrantRow checks the input of a grant; its subject is filled in later.
func newGrantRow(st *chest.Snapshot, by string, n NewGrant, now time.Time) (entity.Grant, error) {
	n.Role = access.RoleName(n.Role)
	if _, known := st.Role(n.Role); !known {
		var names []string
		for _, role := range st.AllRoles() {
			names = append(names, role.Name)
		}
		return entity.Grant{}, chest.Invalid("role", "there is no role %.60q; the roles are %v", n.Role, names)
	}
	effect := cmp.Or(n.Effect, string(access.Allow))
	if effect != string(access.Allow) && effect != string(access.Deny) {
		return entity.Grant{}, chest.Invalid("effect", `effect is neither "allow" nor "deny"`)
	}
	if err := chest.CheckText("reason", n.Reason, chest.MaxNote); err != nil {
		return entity.Grant{}, err
	}
	if _, err := n.Conditions.Parse(); err != nil {
		return entity.Grant{}, err
	}
	end := n.NotAfter
	switch {
	case n.NeverEnds && !end.IsZero():
		return entity.Grant{}, chest.Invalid("not_after", "not_after is set and never_ends too; give one of them")
	case n.NeverEnds:
		end = time.Time{}
	case end.IsZero() && lastsByItself(roleOf(st, n.Role), n.Scope, effect):
	case end.IsZero():
		end = now.Add(grantLife)
	case !end.After(now):
		return entity.Grant{}, chest.Invalid("not_after", "not_after is not in the future")
	}
	end = end.Truncate(time.Second) // what people read and write in a policy
	return entity.Grant{ID: chest.NewID("gr_"), Effect: effect, Role: n.Role, Scope: n.Scope, Reason: n.Reason,
		NotAfter: chest.Micros(end), CreatedAt: chest.Micros(now), CreatedBy: by, Networks: strings.Join(n.Networks, " "), Hours: n.Hours,
		Via: strings.Join(n.Via, " "), NeedsReason: n.NeedsReason}, nil
}

func roleOf(st *chest.Snapshot, name string) access.Role {
	role, _ := st.Role(name)
	return role
}

// lastsByItself reports whether a grant without a stated end never ends: a denial, because its end would open access again, and a
// gatekeeper of everything, because nobody could give access when the last of these has ended.
func lastsByItself(role access.Role, scopeText, effect string) bool {
	scope, err := access.ParseScope(scopeText)
	return effect == string(access.Deny) || err == nil && role.Actions&access.GrantAccess != 0 && scope.Covers(chest.Everything)
}

// Renewal is another end for a grant that is not ended: in 90 days, if it says nothing, or none for what has none by itself.
type Renewal struct {
	NotAfter  time.Time
	NeverEnds bool
}

// Renew puts a grant that is the same but for its end in the place of one, which may have run out by itself.
func (s *Rights) Renew(c chest.Caller, id string, r Renewal) (g chest.GrantInfo, notes []string, err error) {
	st, err := s.heart.Look()
	if err != nil {
		return g, nil, err
	}
	before := st.Grant(id)
	if before.ID == "" || before.EndedAt != 0 || !st.KnowsGrant(c, before, s.heart.Now()) {
		a := s.heart.Attempt(c, access.GrantAccess.String(), "")
		a.Entry.Detail = "renew grant " + id
		return g, nil, a.Fail(chest.Missing("grant "+id+" that is not ended", ""))
	}
	info := st.DescribeGrant(before, s.heart.Now())
	return s.Give(c, NewGrant{Subject: info.Subject, Effect: info.Effect, Role: info.Role, Scope: info.Scope, Reason: info.Reason,
		Conditions: info.Conditions, NotAfter: r.NotAfter, NeverEnds: r.NeverEnds, Replaces: id})
}

// grantNotes says what is unusual about a new grant that may take the place of another.
func grantNotes(a *chest.Attempt, row entity.Grant, replaces string) (notes []string, err error) {
	st, now := a.St, a.Entry.At
	add := func(format string, arguments ...any) { notes = append(notes, fmt.Sprintf(format, arguments...)) }
	made, err := st.GrantOf(row)
	if err != nil {
		return nil, err
	}
	subject := st.Identity(row.Subject)
	name := chest.SubjectOf(subject)
	if row.NotAfter == 0 && row.Effect == string(access.Allow) {
		add("this grant never ends")
	}
	if subject.State != chest.Active {
		add("%s is %s", name, subject.State)
	}
	if !selectsSomething(st, made.Scope) {
		add("nothing that exists now is in this scope%s", nearScope(st, row.Scope))
	}
	holders := st.Holders(row.Subject)
	if len(holders) == 0 {
		add("%s has nobody in it", name)
	}
	covering := map[string]bool{}
	for _, holder := range holders {
		made.Subject = holder
		covering[st.Policy.CoveredBy(made)] = true
	}
	if id := onlyKey(covering); id != "" && id != replaces {
		add("it gives nothing new: grant %s does all that already", id)
	} else if id := outlasted(st, made, holders, now); id != "" && id != replaces {
		add("until %s it gives nothing new: grant %s does all that", chest.FromMicros(st.Grant(id).NotAfter).Format("2006-01-02"), id)
	}
	if smaller := askedFor(st, row, made); smaller != "" {
		add("%s", smaller)
	}
	if d := otherEnvironment(st, subject, made.Scope); d != nil {
		add("%s runs in %s, and %s is for %s", name, subject.Environment, d.Row.Name, d.Row.Environment)
	}
	for _, alike := range st.Alike(name) {
		add("%s looks like %s: make sure that it is the one you mean", name, alike)
	}
	if slices.Contains(holders, a.Caller.ID) {
		add("you gave this to yourself, which only a steward can: the steward exists to appoint others")
	}
	if made.Role.Actions&access.Yields != 0 {
		notes = append(notes, othersWho(st, subject)...)
	}
	return notes, nil
}

// othersWho names others who could act as a subject, such as whoever issued its credential.
func othersWho(st *chest.Snapshot, subject entity.Identity) (notes []string) {
	name := chest.SubjectOf(subject)
	if subject.Unconfirmed {
		notes = append(notes, fmt.Sprintf("nobody but %s, who registered them, has confirmed that %s is who they are said to be (tansu "+
			"person confirm)",
			subject.CreatedBy, name))
	}
	for _, cr := range st.CredentialsOf(subject.ID) {
		if by,
			known := st.IdentityOf(cr.CreatedBy); known && subject.Kind == reference.App && cr.CreatedBy != subject.Owner && by.ID != subject.ID {
			return append(notes, fmt.Sprintf("%s issued %s of %s: whoever still has it can read this", cr.CreatedBy, cr.ID, name))
		}
	}
	return notes
}

// outlasted finds a grant that does all that a new one does, and ends before it.
func outlasted(st *chest.Snapshot, made access.Grant, holders []string, now time.Time) string {
	found := map[string]bool{}
	made.End = now.Add(time.Nanosecond)
	for _, holder := range holders {
		made.Subject = holder
		found[st.Policy.CoveredBy(made)] = true
	}
	return onlyKey(found)
}

// askedFor says that a grant gives more than somebody asked for in an open request that it would answer.
func askedFor(st *chest.Snapshot, row entity.Grant, made access.Grant) string {
	for _, r := range st.OpenRequests("") {
		n, err := proposalOf(r)
		if r.Subject != row.Subject || err != nil || n == nil {
			continue
		}
		asked, err := access.ParseScope(n.Scope)
		role, known := st.Role(n.Role)
		if err == nil && known && made.Scope.Covers(asked) && made.Role.Actions&role.Actions == role.Actions &&
			(!asked.Covers(made.Scope) || made.Role.Actions != role.Actions) {
			return fmt.Sprintf("it gives more than was asked for: request %s asks for %s on %s only (tansu request allow %s)", r.ID, n.Role,
				n.Scope, r.ID)
		}
	}
	return ""
}

// endable finds a grant that the caller may end, and decides on it.
func (s *Rights) endable(c chest.Caller, id string) (a *chest.Attempt, before entity.Grant, err error) {
	st, err := s.heart.Look()
	if err != nil {
		return nil, before, err
	}
	scope, err := access.ParseScope(st.Grant(id).Scope)
	if err != nil {
		scope = chest.Everything // who may give anything may know which grants exist
	}
	if a, err = s.allowGrant(c, scope); err != nil {
		return nil, before, err
	}
	if before = a.St.Grant(id); before.ID == "" || before.EndedAt != 0 {
		return nil, before, a.Fail(chest.Missing("grant "+id+" that is not ended", ""))
	}
	return a, before, nil
}

// End ends a grant at once.
func (s *Rights) End(c chest.Caller, id string) (g chest.GrantInfo, err error) {
	err = s.heart.Try(func() error {
		a, before, err := s.endable(c, id)
		if err != nil {
			return err
		}
		a.Entry.Detail, a.Entry.Given = endingText(before), id
		if err := powers.Unless(a, powers.MayEnd(a.St, c, before)); err != nil {
			return err
		}
		a.Change.Update(before, ended(before, a))
		if err := a.Commit("grant"); err != nil {
			return err
		}
		g = a.After().DescribeGrant(store.Stored[entity.Grant](&a.Change, id), a.Entry.At)
		return nil
	})
	return g, err
}
