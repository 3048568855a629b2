package service

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/policytext"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// overPolicy is what looking at the whole access state takes: to give anything, or to audit everything.
var overPolicy = overview{"read_policy", "see the whole access state", access.GrantAccess | access.ReadTrail}

// mark identifies the access state as it is: every act that changes it changes the mark, and time alone does not.
func (st *state) mark() string {
	hash := sha256.New()
	add := func(kind, id string, revision int64) { fmt.Fprintf(hash, "%s %s %d\n", kind, id, revision) }
	for _, id := range sortedKeys(st.identities) {
		if row := st.identities[id]; row.Kind == reference.Team {
			add("team", id, row.Revision)
		}
	}
	for _, id := range sortedKeys(st.members) {
		add("member", id, st.members[id].Revision)
	}
	for _, name := range sortedKeys(st.roles) {
		add("role", st.roles[name].ID, st.roles[name].Revision)
	}
	for _, id := range sortedKeys(st.grants) {
		if st.grants[id].EndedAt == 0 {
			add("grant", id, st.grants[id].Revision)
		}
	}
	for _, name := range sortedKeys(st.drawers) {
		d := st.drawers[name]
		fmt.Fprintf(hash, "drawer %s %s %s %s\n", d.row.ID, d.row.Labels, d.row.ApprovalItems, d.row.ApprovalOf)
		err := st.each(d, store.ItemFilter{Labelled: true}, func(it *item) bool {
			fmt.Fprintf(hash, "item %s %s\n", it.row.ID, it.row.Labels)
			return true
		})
		if err != nil {
			return "" // no state has this mark, so that nothing is applied onto it
		}
	}
	return hex.EncodeToString(hash.Sum(nil)[:8])
}

// document writes the access state as a policy.
func (st *state) document(now time.Time) *policytext.Document {
	d := &policytext.Document{BasedOn: st.mark()}
	for _, subject := range sortedKeys(st.subjects) {
		if row := st.identities[st.subjects[subject]]; row.Kind == reference.Team {
			d.Teams = append(d.Teams, policytext.Team{Name: row.Name, Description: row.Description, Members: st.membersOf(row.ID)})
		}
	}
	for _, name := range sortedKeys(st.roles) {
		row := st.roles[name]
		d.Roles = append(d.Roles, policytext.Role{Name: name, Description: row.Description, Actions: strings.Fields(row.Actions)})
	}
	for _, row := range st.grants {
		if describeGrant(st, row).inForce(now).InForce {
			d.Grants = append(d.Grants, st.grantText(row))
		}
	}
	slices.SortFunc(d.Grants, func(a, b policytext.Grant) int {
		return strings.Compare(a.Subject+"\x00"+a.Role+"\x00"+a.Scope+"\x00"+a.ID, b.Subject+"\x00"+b.Role+"\x00"+b.Scope+"\x00"+b.ID)
	})
	for _, name := range sortedKeys(st.drawers) {
		if text := st.drawerText(st.drawers[name]); len(text.Labels) > 0 || text.Approval != nil || len(text.Items) > 0 {
			d.Drawers = append(d.Drawers, text)
		}
	}
	return d
}

func (st *state) grantText(row store.Grant) policytext.Grant {
	conditions := conditionsOf(row)
	g := policytext.Grant{ID: row.ID, Subject: subjectOf(st.identities[row.Subject]), Role: row.Role, Scope: row.Scope, From: conditions.Networks,
		Hours: conditions.Hours, Via: conditions.Via, NeedsReason: conditions.NeedsReason, Until: policytext.Never, Reason: row.Reason}
	if row.Effect == string(access.Deny) {
		g.Effect = row.Effect
	}
	if row.NotAfter != 0 {
		g.Until = fromMicros(row.NotAfter).Format(time.RFC3339Nano)
	}
	return g
}

func (st *state) drawerText(d *drawer) policytext.Drawer {
	own, _ := reference.ParseLabels(d.row.Labels)
	text := policytext.Drawer{Name: d.row.Name, Labels: own.Map()}
	if d.row.ApprovalItems != "" {
		text.Approval = &policytext.Approval{Items: strings.Fields(d.row.ApprovalItems), Of: d.row.ApprovalOf}
	}
	_ = st.each(d, store.ItemFilter{Labelled: true}, func(it *item) bool { // the mark is empty when they cannot be read
		labels, _ := reference.ParseLabels(it.row.Labels)
		text.Items = append(text.Items, policytext.Item{Name: it.row.Name, Labels: labels.Map()})
		return true
	})
	return text
}

// ExportPolicy writes the whole access state as text.
func (s *Service) ExportPolicy(c Caller) (text []byte, err error) {
	a, err := s.allowWholePolicy(c, overPolicy.actions)
	if err != nil {
		return nil, err
	}
	st, err := s.copied()
	if err != nil {
		return nil, err
	}
	if text, err = policytext.Format(st.document(a.entry.At)); err != nil {
		return nil, a.fail(err)
	}
	return answer(a, text)
}

// allowWholePolicy decides whether the caller may do one of the actions on everything.
func (s *Service) allowWholePolicy(c Caller, actions access.Action) (*attempt, error) {
	return s.allowWhole(c, overPolicy.name, overPolicy.what, actions)
}

// allowWhole decides whether the caller may do one of some actions on everything, and not only on a part; what completes the
// sentence "may not …".
func (s *Service) allowWhole(c Caller, name, what string, actions access.Action) (*attempt, error) {
	a := s.attempt(c, name, "")
	var decision access.Decision
	err := s.view(func(st *state) error {
		decision = st.policy.DecideScope(c.id, actions, everything, c.context(a.entry.At))
		return nil
	})
	if err != nil {
		return nil, err
	}
	return a, a.answered(decision, what, "", a.remedy(access.ReadTrail))
}

// PolicyDifference is what applying a policy would do.
type PolicyDifference struct {
	Difference
	Mark     string   // of the access state that it was compared with
	Stale    bool     // whether the file was exported from another state
	Steps    []string // what would be done, one line each
	Locked   bool     // whether nobody could give access any more
	Failures []policytext.Failure
}

// DiffPolicy says what applying a policy would change.
func (s *Service) DiffPolicy(c Caller, text []byte) (d PolicyDifference, err error) {
	a, err := s.allowWholePolicy(c, overPolicy.actions)
	if err != nil {
		return d, err
	}
	p, err := s.plan(c, text, a.entry.At)
	if err != nil {
		return d, a.fail(err)
	}
	return answer(a, p.difference)
}

// Applying says on what conditions a policy is applied.
type Applying struct {
	Onto    string // the mark of the state that the caller has seen; empty for the one that the file names
	Lockout bool   // whether it may leave nobody who can give access
}

// ApplyPolicy makes the access state what a policy says, all of it or nothing, if it still is what the caller has seen.
func (s *Service) ApplyPolicy(c Caller, text []byte, how Applying) (d PolicyDifference, err error) {
	a, err := s.allowGrant(c, everything)
	if err != nil {
		return d, err
	}
	a.entry.Action, a.entry.Target = "apply_policy", ""
	s.changing.Lock()
	defer s.changing.Unlock()
	p, err := s.plan(c, text, a.entry.At)
	if err == nil {
		err = p.acceptable(how)
	}
	if err != nil {
		return d, a.fail(err)
	}
	if p.refusal != nil {
		return d, a.refuse(p.refusal)
	}
	a.entry.Detail = fmt.Sprintf("%d steps onto %s", len(p.steps), p.difference.Mark)
	err = a.change("the policy", p.rows, func(st *state) {
		_ = p.apply(st) // it was tried on a shadow
		p.difference.Mark = st.mark()
	})
	return p.difference, err
}

// acceptable refuses a policy that was made for another state, fails its own expectations or locks everyone out.
func (p *plan) acceptable(how Applying) error {
	onto := how.Onto
	if onto == "" {
		onto = p.basedOn
	}
	switch {
	case onto == "":
		return &Error{Code: NeedsRevision, Field: "onto", Detail: "the file does not say what it is based on: look at the difference first and say onto which state it is applied (" + p.difference.Mark + ")"}
	case onto != p.difference.Mark:
		return &Error{Code: Stale, Detail: fmt.Sprintf("the access state is %s and not %s: somebody changed it meanwhile; look at the difference again", p.difference.Mark, onto)}
	case len(p.difference.Failures) > 0:
		f := p.difference.Failures[0]
		return invalid("policy", "line %d: it does not hold that %s: %s", f.Expectation.Line, f.Expectation, f.Why)
	case p.difference.Locked && !how.Lockout:
		return invalid("lockout", "nobody could give access any more afterwards; if that is meant, say so (--allow-lockout)")
	}
	return nil
}

// plan is what a policy does to the state it was made for.
type plan struct {
	basedOn    string
	steps      []step
	difference PolicyDifference
	refusal    *Error // why this caller may not apply it; nil when they may
}

// step is one change of a row, and the same change of what is in memory.
type step struct {
	text  string
	row   func(*store.Tx) error
	apply func(*state) error
}

func (p *plan) rows(tx *store.Tx) error {
	for _, s := range p.steps {
		if err := s.row(tx); err != nil {
			return err
		}
	}
	return nil
}

func (p *plan) apply(st *state) error {
	for _, s := range p.steps {
		if err := s.apply(st); err != nil {
			return err
		}
	}
	return nil
}

// plan reads a policy and works out what it would do. An error of the text is an [*Error] with all problems.
func (s *Service) plan(c Caller, text []byte, now time.Time) (*plan, error) {
	doc, err := policytext.Parse(text, time.LoadLocation)
	if err != nil {
		return nil, &Error{Code: InvalidInput, Field: "policy", Detail: err.Error()}
	}
	st, err := s.copied()
	if err != nil {
		return nil, err
	}
	b := builder{st: st, doc: doc, now: now, by: c.name, p: &plan{basedOn: doc.BasedOn}, teams: map[string]string{}}
	b.build()
	if len(b.problems) > 0 {
		return nil, &Error{Code: InvalidInput, Field: "policy", Detail: b.problems.Error()}
	}
	after := st.shadow()
	if err := b.p.apply(after); err != nil {
		return nil, err
	}
	difference, err := st.compare(after, now)
	if err != nil {
		return nil, err
	}
	d := PolicyDifference{Difference: difference, Mark: st.mark(), Failures: doc.Check(time.LoadLocation, now), Locked: !after.someoneGrants(now)}
	d.Stale = doc.BasedOn != "" && doc.BasedOn != d.Mark
	for _, s := range b.p.steps {
		d.Steps = append(d.Steps, s.text)
	}
	if d.Locked {
		d.Notes = append(d.Notes, "nobody who is active and enrolled could give access any more")
	}
	b.p.difference = d
	if steward := st.isSteward(c, now); !steward {
		b.p.refusal = st.mayApply(c, after, b.touched, now)
	}
	return b.p, nil
}

// mayApply keeps somebody who is no steward from widening their own access, from appointing stewards, and from changing
// teams and drawers without the right to do that by itself.
func (st *state) mayApply(c Caller, after *state, touched []touched, now time.Time) *Error {
	for _, t := range touched {
		if !st.decide(c.id, t.action, c.context(now), t.names...).Allowed {
			return &Error{Code: Refused, Reason: string(access.NoGrant), Detail: fmt.Sprintf("the policy changes %s, which takes the right to %s", t.what, t.action.Phrase()+" it")}
		}
	}
	for id, g := range after.grants {
		if _, before := st.grants[id]; !before && g.Role == access.Steward {
			return &Error{Code: Refused, Reason: stewardOnly, Detail: "only a steward appoints another, also not by a policy"}
		}
	}
	if own, err := st.widens(c, after, now); own || err != nil {
		return &Error{Code: Refused, Reason: ownAccess, Detail: "the policy widens your own access or that of an app you own; another gatekeeper can apply it"}
	}
	return nil
}

// staysOpen keeps a change from leaving nobody who can give access, where somebody could before.
func (s *Service) staysOpen(a *attempt, change func(*state) error) error {
	err := s.view(func(st *state) error {
		after := st.shadow()
		if err := change(after); err != nil {
			return err
		}
		if st.someoneGrants(a.entry.At) && !after.someoneGrants(a.entry.At) {
			return errNobodyGrants
		}
		return nil
	})
	if err != nil {
		return a.fail(err)
	}
	return nil
}

var errNobodyGrants = &Error{Code: NotHandedOver, Detail: "nobody could give access any more: first make another person gatekeeper on ** and let them enrol"}

// someoneGrants reports whether a person who is active and has a password may give access to everything and register.
func (st *state) someoneGrants(now time.Time) bool {
	for id, row := range st.identities {
		if row.Kind == reference.Person && row.State == stateActive && row.Password != "" && st.policy.Surely(id, access.GrantAccess, everything, now) {
			return true
		}
	}
	return false
}
