package service

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// Kinds of finding.
const (
	FindUnusedGrant   = "unused_grant"   // a grant that was never used in the period
	FindUnusedActions = "unused_actions" // a grant of which some actions were not
	FindWideScope     = "wide_scope"     // a grant that was used on much less than its scope
	FindUnseen        = "unseen"         // somebody who was not there in the period
	FindUnreadable    = "unreadable"     // an item whose value nobody may read
	FindSingleManager = "single_manager" // a drawer that only one person can give access to
	FindOwnerLeft     = "owner_left"     // things whose owner is not there any more
	FindNoOwner       = "no_owner"       // an app that nobody answers for
)

// findingOrder lists what is most telling first.
var findingOrder = map[string]int{FindOwnerLeft: 1, FindNoOwner: 2, FindUnusedGrant: 3, FindWideScope: 4, FindUnusedActions: 5, FindUnseen: 6, FindSingleManager: 7, FindUnreadable: 8}

// Finding is one thing that could be tighter, and what would make it so.
type Finding struct {
	Kind     string
	Subject  string // whom it is about; empty for an item or a drawer
	Target   string // a drawer, an item or a scope
	Grant    string // the id of the grant it is about
	Detail   string // a sentence
	LastUsed time.Time
	// What is proposed; at most one of these, nothing when it takes a person's judgement.
	End     bool      // end the grant
	Instead *NewGrant // give this in its place
	Suspend bool      // suspend the subject
	Command string    // the proposal as somebody types it
}

// Tighten lists what could be tighter, from what the trail says was used since a moment. It takes the right to give
// access on everything, or to read the whole trail.
func (s *Service) Tighten(c Caller, since time.Time) (findings []Finding, err error) {
	a, err := s.allowWholePolicy(c, access.GrantAccess|access.ReadTrail)
	if err != nil {
		return nil, err
	}
	a.entry.Action = "tighten"
	st, err := s.copied()
	if err != nil {
		return nil, err
	}
	t := tightening{st: st, since: since, now: a.entry.At}
	if err := t.look(s); err != nil {
		return nil, a.fail(err)
	}
	slices.SortStableFunc(t.findings, func(x, y Finding) int {
		return cmp.Or(cmp.Compare(findingOrder[x.Kind], findingOrder[y.Kind]), cmp.Compare(x.Subject, y.Subject), cmp.Compare(x.Target, y.Target), cmp.Compare(x.Grant, y.Grant))
	})
	return answer(a, t.findings)
}

// tightening gathers findings.
type tightening struct {
	st       *state
	used     map[string]map[string]time.Time                         // by grant and action: the last time
	targets  func(grant string) (list []string, all bool, err error) // what a grant was used on in the period
	seen     map[string]Seen                                         // by subject
	since    time.Time
	now      time.Time
	findings []Finding
}

func (t *tightening) look(s *Service) error {
	grants, err := s.uses(store.UseFilter{Kind: useGrant})
	if err != nil {
		return err
	}
	t.used = map[string]map[string]time.Time{}
	for _, use := range grants {
		if t.used[use.Key] == nil {
			t.used[use.Key] = map[string]time.Time{}
		}
		t.used[use.Key][use.Other] = fromMicros(use.At)
	}
	seen, err := s.records.Uses(store.UseFilter{Kind: useSeen})
	if err != nil {
		return err
	}
	t.seen = map[string]Seen{}
	for _, use := range seen {
		t.seen[use.Key] = seenOf(use)
	}
	t.targets = func(grant string) (list []string, all bool, err error) {
		uses, err := s.records.Uses(store.UseFilter{Kind: useGrantTarget, Keys: []string{grant}, Since: micros(t.since), Most: mostTargets + 1})
		for _, use := range uses {
			list = append(list, use.Other)
		}
		return list, len(list) <= mostTargets, err
	}
	if err := t.grants(); err != nil {
		return err
	}
	t.subjects()
	t.drawers()
	return nil
}

// mostTargets bounds what is looked at of one grant: beyond it, narrowing its scope would not be proposed anyway.
const mostTargets = 50

// lastUse is when a grant was last used for anything; zero for never.
func (t *tightening) lastUse(grant string) (last time.Time) {
	for _, at := range t.used[grant] {
		if at.After(last) {
			last = at
		}
	}
	return last
}

func (t *tightening) add(f Finding) { t.findings = append(t.findings, f) }

func (t *tightening) grants() error {
	for _, id := range sortedKeys(t.st.grants) {
		row := t.st.grants[id]
		g := describeGrant(t.st, row).inForce(t.now)
		// A grant given within the period has not had its time to be used.
		if !g.InForce || g.Effect == string(access.Deny) || g.CreatedAt.After(t.since) || t.st.identities[row.Subject].State == stateSetAside {
			continue
		}
		last := t.lastUse(id)
		if last.Before(t.since) {
			t.add(Finding{Kind: FindUnusedGrant, Subject: g.Subject, Target: g.Scope, Grant: id, LastUsed: last, End: true,
				Detail: fmt.Sprintf("%s on %s was not used%s", g.Role, g.Scope, lastText(last)), Command: "tansu grant end " + id})
			continue
		}
		if !t.narrowRole(g, last) {
			if err := t.narrowScope(g, last); err != nil {
				return err
			}
		}
	}
	return nil
}

func lastText(last time.Time) string {
	if last.IsZero() {
		return " since it was given"
	}
	return " since " + last.Format("2006-01-02")
}

// narrowRole proposes the smallest role that has what was used.
func (t *tightening) narrowRole(g Grant, last time.Time) bool {
	role, _ := t.st.role(g.Role)
	var used access.Action
	for name, last := range t.used[g.ID] {
		if action, known := access.ParseAction(name); known && !last.Before(t.since) {
			used |= action & role.Actions
		}
	}
	unused := role.Actions &^ used &^ access.UseKey // there are no keys yet that could have been used
	if used == 0 || unused == 0 {
		return false
	}
	f := Finding{Kind: FindUnusedActions, Subject: g.Subject, Target: g.Scope, Grant: g.ID, LastUsed: last,
		Detail: fmt.Sprintf("of %s on %s only %s was used; not used: %s", g.Role, g.Scope, strings.Join(used.Names(), ", "), strings.Join(unused.Names(), ", "))}
	if smaller := access.SmallestRole(t.st.allRoles(), used); smaller.Name != "" && smaller.Actions.Count() < role.Actions.Count() && smaller.Actions&^role.Actions == 0 {
		f.Instead = t.instead(g, smaller.Name, g.Scope)
		f.Command = giveCommand(*f.Instead)
	} else {
		f.Command = fmt.Sprintf("tansu role add NAME %s", strings.Join(used.Names(), " "))
	}
	t.add(f)
	return true
}

// narrowScope proposes the drawer, or the one item, on which alone a grant was used.
func (t *tightening) narrowScope(g Grant, last time.Time) error {
	targets, all, err := t.targets(g.ID)
	if err != nil {
		return err
	}
	var drawers []string
	for _, target := range targets {
		names := targetOf(target)
		if len(names) == 0 || t.st.drawers[names[0]] == nil {
			return nil // used on the chest itself, or on something that is not there
		}
		drawers = append(drawers, names[0])
	}
	slices.Sort(drawers)
	drawers = slices.Compact(drawers)
	if len(drawers) != 1 || !all {
		return nil
	}
	narrow := drawers[0] + "/**"
	if len(targets) == 1 && strings.Contains(targets[0], "/") {
		narrow = targets[0]
	}
	if t.selects(g.Scope) <= t.selects(narrow) {
		return nil
	}
	f := Finding{Kind: FindWideScope, Subject: g.Subject, Target: g.Scope, Grant: g.ID, LastUsed: last, Instead: t.instead(g, g.Role, narrow),
		Detail: fmt.Sprintf("%s on %s was used on %s only", g.Role, g.Scope, narrow)}
	f.Command = giveCommand(*f.Instead)
	t.add(f)
	return nil
}

// selects counts what exists in a scope.
func (t *tightening) selects(text string) (count int) {
	scope, err := access.ParseScope(text)
	if err != nil {
		return 0
	}
	places, _, err := t.st.places(t.st)
	if err != nil {
		return 0 // nothing is proposed about what cannot be read
	}
	for _, place := range places {
		if scope.Matches(place.Target) {
			count++
		}
	}
	return count
}

// instead is a narrower grant in the place of another, otherwise the same.
func (t *tightening) instead(g Grant, role, scope string) *NewGrant {
	return &NewGrant{Subject: g.Subject, Role: role, Scope: scope, Reason: g.Reason, NotAfter: g.NotAfter, NeverEnds: g.NotAfter.IsZero(), Replaces: g.ID, Conditions: g.Conditions}
}

// giveCommand writes a grant as somebody types it.
func giveCommand(n NewGrant) string {
	return fmt.Sprintf("tansu grant give %s %s '%s' --instead-of %s", n.Subject, n.Role, n.Scope, n.Replaces)
}

func (t *tightening) subjects() {
	for _, subject := range sortedKeys(t.st.subjects) {
		row := t.st.identities[t.st.subjects[subject]]
		if row.State != stateActive {
			continue
		}
		if row.Kind == reference.App && row.Owner == "" {
			t.add(Finding{Kind: FindNoOwner, Subject: subject, Detail: "nobody answers for it", Command: "tansu app describe " + row.Name + " --owner PERSON"})
		}
		if t.st.hasLeft(row.Owner) {
			t.ownerLeft(row.Owner, subject)
		}
		if row.Kind == reference.Team || fromMicros(row.CreatedAt).After(t.since) {
			continue
		}
		if seen := t.seen[subject].At; seen.Before(t.since) {
			text := "was never there"
			if !seen.IsZero() {
				text = "was not there" + lastText(seen)
			}
			t.add(Finding{Kind: FindUnseen, Subject: subject, LastUsed: seen, Suspend: true, Detail: text, Command: "tansu " + row.Kind + " suspend " + row.Name})
		}
	}
}

func (t *tightening) ownerLeft(owner, target string) {
	t.add(Finding{Kind: FindOwnerLeft, Subject: owner, Target: target, Detail: owner + " is not there any more and owns " + target,
		Command: "tansu hand-over " + owner + " PERSON"})
}

func (t *tightening) drawers() {
	for _, name := range sortedKeys(t.st.drawers) {
		d := t.st.drawers[name]
		if t.st.hasLeft(d.row.Owner) {
			t.ownerLeft(d.row.Owner, name)
		}
		if managers := t.persons(access.GrantAccess, name); len(managers) == 1 {
			t.add(Finding{Kind: FindSingleManager, Target: name, Subject: managers[0], Detail: "only " + managers[0] + " can give access to " + name,
				Command: fmt.Sprintf("tansu grant give PERSON gatekeeper '%s/**'", name)})
		}
		_ = t.st.all(d, func(it *item) { // what cannot be read is logged
			target := name + "/" + it.row.Name
			if t.st.hasLeft(it.row.Owner) {
				t.ownerLeft(it.row.Owner, target)
			}
			if !t.anyReader(it.target(d)) {
				t.add(Finding{Kind: FindUnreadable, Target: target, Detail: "nobody who is active may read " + target + ": either somebody is missing a grant, or it is not needed any more",
					Command: fmt.Sprintf("tansu grant give SUBJECT consumer '%s'", target)})
			}
		})
	}
}

func (t *tightening) anyReader(target access.Target) bool {
	holders := t.st.policy.Holders(access.ReadValue, target, t.now)
	return slices.ContainsFunc(holders, func(h access.Holder) bool { return t.st.identities[h.Subject].State == stateActive })
}

// persons lists who among the active persons has an action on a target, except stewards.
func (t *tightening) persons(action access.Action, names ...string) (list []string) {
	for _, h := range t.st.policy.Holders(action, t.st.target(names...), t.now) {
		row := t.st.identities[h.Subject]
		if row.Kind == reference.Person && row.State == stateActive && !t.st.policy.Holds(h.Subject, access.Steward, access.Context{Now: t.now}) {
			list = append(list, subjectOf(row))
		}
	}
	slices.Sort(list)
	return list
}

// addPresence adds what the trail says about identities and their credentials.
func (s *Service) addPresence(list []Identity) error {
	subjects, credentials := []string{}, []string{} // nil would be all
	for _, identity := range list {
		subjects = append(subjects, identity.Subject)
		for _, c := range identity.Credentials {
			credentials = append(credentials, c.ID)
		}
	}
	seen, err := s.uses(store.UseFilter{Kind: useSeen, Keys: subjects})
	if err != nil {
		return err
	}
	used, err := s.records.Uses(store.UseFilter{Kind: useCredential, Keys: credentials})
	if err != nil {
		return err
	}
	last := map[string]store.Use{}
	for _, use := range append(seen, used...) {
		last[use.Key] = use
	}
	for i := range list {
		if use, was := last[list[i].Subject]; was {
			list[i].Seen = seenOf(use)
		}
		for j := range list[i].Credentials {
			if use, was := last[list[i].Credentials[j].ID]; was {
				list[i].Credentials[j].LastUsed = fromMicros(use.At)
			}
		}
	}
	return nil
}
