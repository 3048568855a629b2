package rights

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/policytext"
	"tansu/internal/core/reference"
	"tansu/internal/core/trail"
	"tansu/internal/entity"
	"tansu/internal/powers"
	"tansu/internal/store"
)

// markOf identifies the access state as it is: every act that changes it changes the mark, and time alone does not.
func markOf(st *chest.Snapshot) string {
	hash := sha256.New()
	add := func(kind, id string, revision int64) { fmt.Fprintf(hash, "%s %s %d\n", kind, id, revision) }
	teams := map[string]entity.Identity{}
	st.Identities(reference.Team+":", func(_ string, row entity.Identity) bool {
		if row.Kind == reference.Team {
			teams[row.ID] = row
		}
		return row.Kind == reference.Team
	})
	for _, id := range slices.Sorted(maps.Keys(teams)) {
		add("team", id, teams[id].Revision)
	}
	for _, m := range st.MembersOf("") {
		add("member", m.ID, m.Revision)
	}
	for _, row := range st.CustomRoles() {
		add("role", row.ID, row.Revision)
	}
	var given []entity.Grant
	st.Given(func(row entity.Grant) bool { given = append(given, row); return true })
	slices.SortFunc(given, func(x, y entity.Grant) int { return strings.Compare(x.ID, y.ID) })
	for _, row := range given {
		add("grant", row.ID, row.Revision)
	}
	for _, d := range st.Drawers() {
		fmt.Fprintf(hash, "drawer %s %s %s %s\n", d.Row.ID, d.Row.Labels, d.Row.ApprovalItems, d.Row.ApprovalOf)
		err := st.Each(d, store.ItemFilter{Labelled: true}, func(it *chest.Item) bool {
			fmt.Fprintf(hash, "item %s %s\n", it.Row.ID, it.Row.Labels)
			return true
		})
		if err != nil {
			return "" // no state has this mark, so that nothing is applied onto it
		}
	}
	return hex.EncodeToString(hash.Sum(nil)[:8])
}

// document writes the access state as a policy.
func document(st *chest.Snapshot, now time.Time) *policytext.Document {
	d := &policytext.Document{BasedOn: markOf(st)}
	st.Identities(reference.Team+":", func(_ string, row entity.Identity) bool {
		if row.Kind == reference.Team {
			d.Teams = append(d.Teams, policytext.Team{Name: row.Name, Description: row.Description, Members: st.MemberNames(row.ID)})
		}
		return row.Kind == reference.Team
	})
	for _, row := range st.CustomRoles() {
		d.Roles = append(d.Roles, policytext.Role{Name: row.Name, Description: row.Description, Actions: chest.RoleOf(row).Actions.Names()})
	}
	st.Given(func(row entity.Grant) bool {
		if chest.InForce(row, now) {
			d.Grants = append(d.Grants, grantText(st, row))
		}
		return true
	})
	slices.SortFunc(d.Grants, func(a, b policytext.Grant) int {
		return cmp.Or(strings.Compare(a.Subject, b.Subject), strings.Compare(a.Role, b.Role), strings.Compare(a.Scope, b.Scope),
			strings.Compare(a.ID, b.ID))
	})
	for _, drawer := range st.Drawers() {
		if text := drawerText(st, drawer); len(text.Labels) > 0 || text.Approval != nil || len(text.Items) > 0 {
			d.Drawers = append(d.Drawers, text)
		}
	}
	return d
}

func grantText(st *chest.Snapshot, row entity.Grant) policytext.Grant {
	conditions := chest.ConditionsOf(row)
	g := policytext.Grant{ID: row.ID, Subject: chest.SubjectOf(st.Identity(row.Subject)), Role: row.Role, Scope: row.Scope,
		From:  conditions.Networks,
		Hours: conditions.Hours, Via: conditions.Via, NeedsReason: conditions.NeedsReason, Until: policytext.Never, Reason: row.Reason}
	if row.Effect == string(access.Deny) {
		g.Effect = row.Effect
	}
	if row.NotAfter != 0 {
		g.Until = chest.FromMicros(row.NotAfter).Format(time.RFC3339Nano)
	}
	return g
}

func drawerText(st *chest.Snapshot, d *chest.Drawer) policytext.Drawer {
	own, _ := reference.ParseLabels(d.Row.Labels)
	text := policytext.Drawer{Name: d.Row.Name, Labels: own.Map()}
	if d.Row.ApprovalItems != "" {
		text.Approval = &policytext.Approval{Items: strings.Fields(d.Row.ApprovalItems), Of: d.Row.ApprovalOf}
	}
	_ = st.Each(d, store.ItemFilter{Labelled: true}, func(it *chest.Item) bool { // the mark is empty when they cannot be read
		labels, _ := reference.ParseLabels(it.Row.Labels)
		text.Items = append(text.Items, policytext.Item{Name: it.Row.Name, Labels: labels.Map()})
		return true
	})
	return text
}

// ExportPolicy writes the access state as a policy.
func (s *Rights) ExportPolicy(c chest.Caller) (text []byte, err error) {
	a, err := s.allowPolicy(c, chest.OverPolicy.Actions)
	if err != nil {
		return nil, err
	}
	if text, err = policytext.Format(document(a.St, a.Entry.At)); err != nil {
		return nil, a.Fail(err)
	}
	return chest.Reply(a, text)
}

// allowPolicy decides whether the caller may do one of the actions on everything.
func (s *Rights) allowPolicy(c chest.Caller, actions access.Action) (*chest.Attempt, error) {
	return s.heart.AllowWhole(c, chest.OverPolicy.Name, chest.OverPolicy.What, actions)
}

// PolicyDifference is what applying a policy would do.
type PolicyDifference struct {
	chest.Difference
	Mark     string   // of the access state that it was compared with
	Stale    bool     // whether the file was exported from another state
	Steps    []string // what would be done, one line each
	Locked   bool     // whether nobody could give access any more, now or within what is looked ahead
	Failures []policytext.Failure
}

// DiffPolicy says what applying a policy would change.
func (s *Rights) DiffPolicy(c chest.Caller, text []byte) (d PolicyDifference, err error) {
	a, err := s.allowPolicy(c, chest.OverPolicy.Actions)
	if err != nil {
		return d, err
	}
	p, err := planOf(a, text)
	if err != nil {
		return d, a.Fail(err)
	}
	a.Change = store.Change{} // it is only looked at
	return chest.Reply(a, p.difference)
}

// Applying says on what conditions a policy is applied.
type Applying struct {
	Onto    string // the mark of the state that the caller has seen; empty for the one that the file names
	Lockout bool   // whether it may leave nobody who can give access
}

// ApplyPolicy makes the access state what a policy says, all of it or nothing, if it still is what the caller has seen.
func (s *Rights) ApplyPolicy(c chest.Caller, text []byte, how Applying) (d PolicyDifference, err error) {
	err = s.heart.Try(func() error {
		a, err := s.allowGrant(c, chest.Everything)
		if err != nil {
			return err
		}
		a.Entry.Action, a.Entry.Target = "apply_policy", ""
		p, err := planOf(a, text)
		if err == nil {
			err = p.acceptable(how)
		}
		if err != nil {
			return a.Fail(err)
		}
		if p.refusal != nil {
			return a.Refuse(p.refusal)
		}
		a.LockOut = how.Lockout
		a.Entry.Detail = fmt.Sprintf("%d steps onto %s", len(p.difference.Steps), p.difference.Mark)
		noteSteps(a)
		if err := a.Commit("the policy"); err != nil {
			return err
		}
		d = p.difference
		d.Mark = markOf(a.After())
		return nil
	})
	return d, err
}

// noteSteps adds an entry for each grant that a policy gives or ends and each member that it removes from a team, as if each had been
// done on its own, so that the history of a grant is complete.
func noteSteps(a *chest.Attempt) {
	of := func(id string) string {
		if row := a.St.Identity(id); row.ID != "" {
			return chest.SubjectOf(row)
		}
		if row := store.Stored[entity.Identity](&a.Change, id); row.ID != "" { // which the policy makes
			return chest.SubjectOf(row)
		}
		return ""
	}
	for _, change := range a.Change.Rows {
		e := a.Entry
		e.Outcome = trail.Allowed
		switch after := change.After.(type) {
		case entity.Grant:
			switch e.Action, e.Given = access.GrantAccess.String(), after.ID; {
			case change.Before == nil:
				e.Target = of(after.Subject)
				e.Detail = givingText(after, e.Target)
			case after.EndedAt != 0:
				e.Target, e.Detail = after.Scope, endingText(after)
			default:
				continue
			}
		case nil:
			m, is := change.Before.(entity.Member)
			if !is {
				continue
			}
			e.Action, e.Target, e.Detail = access.Register.String(), of(m.Team), "leave "+of(m.Identity)
		default:
			continue
		}
		a.More = append(a.More, e)
	}
}

// acceptable refuses a policy that was made for another state, fails its own expectations or locks everyone out.
func (p *plan) acceptable(how Applying) error {
	onto := how.Onto
	if onto == "" {
		onto = p.basedOn
	}
	switch {
	case onto == "":
		return &chest.Error{Code: chest.NeedsRevision, Field: "onto",
			Detail: "the file does not say what it is based on: look at the difference first and say onto which state it is applied (" +
				p.difference.Mark + ")"}
	case onto != p.difference.Mark:
		return &chest.Error{Code: chest.Stale, Detail: fmt.Sprintf("the access state is %s and not %s: somebody changed it meanwhile; look "+
			"at the difference again", p.difference.Mark, onto)}
	case len(p.difference.Failures) > 0:
		f := p.difference.Failures[0]
		return chest.Invalid("policy", "line %d: it does not hold that %s: %s", f.Expectation.Line, f.Expectation, f.Why)
	case p.difference.Locked && !how.Lockout:
		return chest.Invalid("lockout", "nobody could give access any more afterwards, or within 30 days; if that is meant, say so "+
			"(--allow-lockout)")
	}
	return nil
}

// plan is what a policy does to the state it was made for.
type plan struct {
	basedOn    string
	difference PolicyDifference
	refusal    *chest.Error // why this caller may not apply it; nil when they may
}

// planOf reads a policy, works out what it would do, and puts it into an attempt's change. An error of the text is an [*chest.Error]
// with all problems.
func planOf(a *chest.Attempt, text []byte) (p plan, err error) {
	doc, err := policytext.Parse(text, time.LoadLocation)
	if err != nil {
		return p, &chest.Error{Code: chest.InvalidInput, Field: "policy", Detail: err.Error()}
	}
	st, now := a.St, a.Entry.At
	b := builder{st: st, change: &a.Change, doc: doc, now: now, by: a.Caller.Name, teams: map[string]string{}, names: map[string]string{}}
	b.build()
	if len(b.problems) > 0 {
		return p, &chest.Error{Code: chest.InvalidInput, Field: "policy", Detail: b.problems.Error()}
	}
	after := st.Trial()
	if err := after.Apply(&a.Change); err != nil {
		return p, err
	}
	difference, err := st.Compare(a.Caller.Ctx(), after.Snapshot, now)
	if err != nil {
		return p, err
	}
	p.basedOn = doc.BasedOn
	last := after.LastGiver(now)
	d := PolicyDifference{Difference: difference, Mark: markOf(st), Failures: doc.Check(time.LoadLocation, now), Steps: b.steps,
		Locked: last.Within(chest.Ahead, now) && last.Before(st.LastGiver(now))}
	alone, err := aloneFailures(a.Caller.Ctx(), after.Snapshot, doc, now)
	if err != nil {
		return p, chest.Gone(err)
	}
	d.Failures = append(d.Failures, alone...)
	d.Notes = append(d.Notes, doc.Notes...)
	d.Stale = doc.BasedOn != "" && doc.BasedOn != d.Mark
	switch {
	case d.Locked && last.Grant != "":
		d.Notes = append(d.Notes, fmt.Sprintf("nobody could give access from %s on, when grant %s ends",
			last.At.UTC().Format("2006-01-02 15:04 MST"), last.Grant))
	case d.Locked:
		d.Notes = append(d.Notes, "nobody who is active and enrolled could give access any more")
	}
	p.difference = d
	p.refusal = b.mayApply(a, after.Snapshot)
	return p, nil
}

// mayApply keeps a policy from removing rules that require two people. It keeps anybody but a steward from widening their own access
// by one, from appointing stewards, and from changing teams and drawers without the right to do that on its own.
func (b *builder) mayApply(a *chest.Attempt, after *chest.Snapshot) *chest.Error {
	for _, d := range b.lifts {
		if chest.Micros(b.now) >= b.st.ApprovedUntil(chest.RequestLift, a.Caller.ID, d.ID) {
			return &chest.Error{Code: chest.Refused, Reason: string(access.ApprovalNeeded), Detail: "the policy lifts a rule of " + d.Name +
				" that asks for a second person, and so takes one: try to change that drawer by itself, ask with the receipt that you get, and " +
				"apply the policy when somebody has agreed"}
		}
	}
	if b.st.IsSteward(a.Caller, b.now) {
		return nil
	}
	for _, t := range b.touched {
		if !b.st.Decide(a.Caller.ID, t.action, a.Caller.Context(b.now), t.names...).Allowed {
			return &chest.Error{Code: chest.Refused, Reason: string(access.NoGrant),
				Detail: fmt.Sprintf("the policy changes %s, which takes the right to %s", t.what, t.action.Phrase()+" it")}
		}
	}
	for _, row := range b.change.Rows {
		var l powers.Lack
		switch made := row.After.(type) {
		case entity.Grant:
			if row.Before == nil {
				l = powers.MayGive(after, a.Caller, made.Subject, made, b.now)
			}
		case entity.Member:
			l = powers.MayJoin(after, a.Caller, after.Identity(made.Team), after.Identity(made.Identity), b.now)
		}
		if left, is := row.Before.(entity.Member); is && row.After == nil {
			l = powers.MayLeave(b.st, a.Caller, b.st.Identity(left.Team), b.st.Identity(left.Identity), b.now)
		}
		if l.Reason == chest.OwnAccess {
			l.Detail = policyWidensOwn
		}
		if !l.None() {
			return &chest.Error{Code: chest.Refused, Reason: cmp.Or(l.Reason, string(l.Decision.Reason)),
				Detail: cmp.Or(l.Detail, "the policy would "+l.What+", which takes the right to give that")}
		}
	}
	if own, err := b.st.Widens(a.Caller.Ctx(), a.Caller, after, b.now); own || err != nil {
		return &chest.Error{Code: chest.Refused, Reason: chest.OwnAccess, Detail: policyWidensOwn}
	}
	return nil
}

const policyWidensOwn = "the policy widens your own access or that of an app you own; another gatekeeper can apply it"
