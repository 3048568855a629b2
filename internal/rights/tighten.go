package rights

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base32"
	"fmt"
	"slices"
	"strings"
	"tansu/internal/chest"
	"tansu/internal/usage"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Kinds of finding.
const (
	FindUnusedGrant   = "unused_grant"   // a grant that was never used in the period
	FindUnusedActions = "unused_actions" // a grant of which some actions were not
	FindWideScope     = "wide_scope"     // a grant that was used on much less than its scope
	FindUnseen        = "unseen"         // somebody who was not seen in the period
	FindUnreadable    = "unreadable"     // an item whose value nobody may read
	FindSingleManager = "single_manager" // a drawer that only one person can give access to
	FindOwnerLeft     = "owner_left"     // things whose owner has left
	FindNoOwner       = "no_owner"       // an app that nobody answers for
)

// findingOrder lists what is most telling first.
var findingOrder = map[string]int{FindOwnerLeft: 1, FindNoOwner: 2, FindUnusedGrant: 3, FindWideScope: 4, FindUnusedActions: 5,
	FindUnseen: 6, FindSingleManager: 7, FindUnreadable: 8}

// Finding is one thing that could be tighter, and what would make it so.
type Finding struct {
	ID       string // the same for the same finding and proposal in every list
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
// access on everything, or to read the whole trail. It stops when nobody waits for the answer any more.
func (s *Rights) Tighten(c chest.Caller, since time.Time) (findings []Finding, err error) {
	a, err := s.allowPolicy(c, access.GrantAccess|access.ReadTrail)
	if err != nil {
		return nil, err
	}
	a.Entry.Action = "tighten"
	t := tightening{st: a.St, ctx: c.Ctx(), since: since, now: a.Entry.At, sizes: map[string]int{}}
	if err := t.look(s.records); err != nil {
		return nil, a.Fail(err)
	}
	slices.SortStableFunc(t.findings, byKind)
	for i := range t.findings {
		t.findings[i].ID = t.findings[i].id()
	}
	return chest.Reply(a, t.findings)
}

// id is derived from what a finding says and proposes, so that nobody confirms one proposal and gets another.
func (f Finding) id() string {
	sum := sha256.Sum256([]byte(strings.Join([]string{f.Kind, f.Subject, f.Target, f.Grant, f.Command}, "\x00")))
	return "fi_" + strings.ToLower(base32.StdEncoding.EncodeToString(sum[:5]))
}

// tightening gathers findings.
type tightening struct {
	st       *chest.Snapshot
	ctx      context.Context
	used     map[string]map[string]time.Time                         // by grant and action: the last time
	targets  func(grant string) (list []string, all bool, err error) // what a grant was used on in the period
	seen     map[string]usage.Seen                                   // by subject
	places   []access.Place                                          // all that exists, once it was asked for
	sizes    map[string]int                                          // what exists in a scope
	since    time.Time
	now      time.Time
	findings []Finding
}

func (t *tightening) look(records Records) error {
	grants, err := usage.UpToDate(records, store.UseFilter{Kind: usage.Grant})
	if err != nil {
		return err
	}
	t.used = map[string]map[string]time.Time{}
	for _, use := range grants {
		if t.used[use.Key] == nil {
			t.used[use.Key] = map[string]time.Time{}
		}
		t.used[use.Key][use.Other] = chest.FromMicros(use.At)
	}
	seen, err := records.Uses(store.UseFilter{Kind: usage.Presence})
	if err != nil {
		return err
	}
	t.seen = map[string]usage.Seen{}
	for _, use := range seen {
		t.seen[use.Key] = usage.SeenOf(use)
	}
	t.targets = func(grant string) (list []string, all bool, err error) {
		uses, err := records.Uses(store.UseFilter{Kind: usage.GrantTarget, Keys: []string{grant}, Since: chest.Micros(t.since),
			Most: mostTargets + 1})
		for _, use := range uses {
			list = append(list, use.Other)
		}
		return list, len(list) <= mostTargets, err
	}
	return cmp.Or(t.grants(), t.subjects(), t.drawers())
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
	var given []entity.Grant
	t.st.Given(func(row entity.Grant) bool { given = append(given, row); return true })
	for _, row := range given {
		if err := t.ctx.Err(); err != nil {
			return err
		}
		g, id := t.st.DescribeGrant(row, t.now), row.ID
		// A grant given within the period has not had its time to be used.
		if !g.InForce || g.Effect == string(access.Deny) || g.CreatedAt.After(t.since) || t.st.Identity(row.Subject).State == chest.SetAside {
			continue
		}
		last := t.lastUse(id)
		if t.keepsOpen(row) {
			continue // ending it, or giving less, would be refused
		}
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
	return " since " + last.Format(time.DateOnly)
}

// keepsOpen reports whether a grant is the last by which somebody could give access from now on or soon.
func (t *tightening) keepsOpen(row entity.Grant) bool {
	if role, _ := t.st.Role(row.Role); role.Actions&access.GrantAccess == 0 {
		return false
	}
	without := row
	without.EndedAt, without.EndedBy = chest.Micros(t.now), "tighten"
	change := &store.Change{}
	change.Update(row, without)
	trial := t.st.Trial()
	if err := trial.Apply(change); err != nil {
		return true
	}
	last := trial.LastGiver(t.now)
	return last.Within(chest.Ahead, t.now) && last.Before(t.st.LastGiver(t.now))
}

// narrowRole proposes the smallest role that has what was used.
func (t *tightening) narrowRole(g chest.GrantInfo, last time.Time) bool {
	role, _ := t.st.Role(g.Role)
	var used access.Action
	for name, last := range t.used[g.ID] {
		if action, known := access.ParseAction(name); known && !last.Before(t.since) {
			used |= action & role.Actions
		}
	}
	unused := role.Actions &^ used &^ access.UseKey // who reads values may use keys, too: a chest without keys is no finding
	if used == 0 || unused == 0 {
		return false
	}
	f := Finding{Kind: FindUnusedActions, Subject: g.Subject, Target: g.Scope, Grant: g.ID, LastUsed: last,
		Detail: fmt.Sprintf("of %s on %s only %s was used; not used: %s", g.Role, g.Scope, strings.Join(used.Names(), ", "),
			strings.Join(unused.Names(), ", "))}
	if smaller := access.SmallestRole(t.st.AllRoles(), used); smaller.Name != "" && smaller.Actions.Count() < role.Actions.Count() &&
		smaller.Actions&^role.Actions == 0 {
		f.Instead = t.instead(g, smaller.Name, g.Scope)
		f.Command = giveCommand(*f.Instead)
	} else {
		f.Command = fmt.Sprintf("tansu role add NAME %s", strings.Join(used.Names(), " "))
	}
	t.add(f)
	return true
}

// narrowScope proposes the drawer, or the one item, on which alone a grant was used.
func (t *tightening) narrowScope(g chest.GrantInfo, last time.Time) error {
	targets, all, err := t.targets(g.ID)
	if err != nil {
		return err
	}
	var drawers []string
	for _, target := range targets {
		names := chest.TargetOf(target)
		if len(names) == 0 || t.st.Drawer(names[0]) == nil {
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
func (t *tightening) selects(text string) int {
	if count, known := t.sizes[text]; known {
		return count
	}
	scope, err := access.ParseScope(text)
	if err != nil {
		return 0
	}
	if t.places == nil {
		if t.places, _, err = t.st.Places(t.ctx, t.st); err != nil {
			return 0 // nothing is proposed about what cannot be read
		}
	}
	count := 0
	for _, place := range t.places {
		if scope.Matches(place.Target) {
			count++
		}
	}
	t.sizes[text] = count
	return count
}

// instead is a narrower grant in the place of another, otherwise the same.
func (t *tightening) instead(g chest.GrantInfo, role, scope string) *NewGrant {
	return &NewGrant{Subject: g.Subject, Role: role, Scope: scope, Reason: g.Reason, NotAfter: g.NotAfter, NeverEnds: g.NotAfter.IsZero(),
		Replaces: g.ID, Conditions: g.Conditions}
}

// giveCommand writes a grant as somebody types it.
func giveCommand(n NewGrant) string {
	return fmt.Sprintf("tansu grant give %s %s '%s' --instead-of %s", n.Subject, n.Role, n.Scope, n.Replaces)
}

func (t *tightening) subjects() error {
	t.st.Identities("", func(subject string, row entity.Identity) bool {
		if row.State == chest.Active {
			t.subject(subject, row)
		}
		return t.ctx.Err() == nil
	})
	return t.ctx.Err()
}

func (t *tightening) subject(subject string, row entity.Identity) {
	if row.Kind == reference.App && row.Owner == "" {
		t.add(Finding{Kind: FindNoOwner, Subject: subject, Detail: "nobody answers for it", Command: "tansu app describe " + row.Name +
			" --owner PERSON"})
	}
	if t.hasLeft(row.Owner) {
		t.ownerLeft(row.Owner, subject)
	}
	if row.Kind == reference.Team || chest.FromMicros(row.CreatedAt).After(t.since) {
		return
	}
	if seen := t.seen[subject].At; seen.Before(t.since) {
		text := "was never seen"
		if !seen.IsZero() {
			text = "was not seen" + lastText(seen)
		}
		t.add(Finding{Kind: FindUnseen, Subject: subject, LastUsed: seen, Suspend: true, Detail: text, Command: "tansu " + row.Kind +
			" suspend " + row.Name})
	}
}

// hasLeft reports whether an owner does not exist or is not active.
func (t *tightening) hasLeft(owner string) bool {
	row, known := t.st.IdentityOf(owner)
	return owner != "" && (!known || row.State != chest.Active)
}

func (t *tightening) ownerLeft(owner, target string) {
	t.add(Finding{Kind: FindOwnerLeft, Subject: owner, Target: target, Detail: owner + " has left and owns " + target,
		Command: "tansu hand-over " + owner + " PERSON"})
}

func (t *tightening) drawers() error {
	giving, reading := t.reachOf(access.GrantAccess), t.reachOf(access.ReadValue)
	for _, d := range t.st.Drawers() {
		name := d.Row.Name
		if t.hasLeft(d.Row.Owner) {
			t.ownerLeft(d.Row.Owner, name)
		}
		if managers := t.managers(giving.of(name), d); len(managers) == 1 {
			t.add(Finding{Kind: FindSingleManager, Target: name, Subject: managers[0], Detail: "only " + managers[0] + " can give access to " + name,
				Command: fmt.Sprintf("tansu grant give PERSON gatekeeper '%s/**'", name)})
		}
		readers := reading.of(name)
		_ = t.st.Each(d, store.ItemFilter{}, func(it *chest.Item) bool { // what cannot be read is logged
			target := name + "/" + it.Row.Name
			if t.hasLeft(it.Row.Owner) {
				t.ownerLeft(it.Row.Owner, target)
			}
			if !t.readable(readers, it.Target(d)) {
				t.add(Finding{Kind: FindUnreadable, Target: target, Detail: "nobody who is active may read " + target +
					": either somebody is missing a grant, or it is not needed any more",
					Command: fmt.Sprintf("tansu grant give SUBJECT consumer '%s'", target)})
			}
			return t.ctx.Err() == nil
		})
		if err := t.ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

// reach is who could do an action in a drawer, judged by their scopes: those that name the drawer, and those that select many drawers.
type reach struct {
	named map[string][]string // by drawer
	many  []string
}

// reachOf finds the active identities that have an action on something, once for all drawers.
func (t *tightening) reachOf(action access.Action) (r reach) {
	r.named = map[string][]string{}
	t.st.Policy.Subjects(func(subject string, grants []access.Grant) bool {
		if t.st.Identity(subject).State != chest.Active {
			return true
		}
		for i := range grants {
			if g := &grants[i]; g.Effect == access.Allow && g.Role.Actions&action != 0 {
				if drawer := g.Scope.Drawer(); drawer != "" {
					r.named[drawer] = append(r.named[drawer], subject)
				} else {
					r.many = append(r.many, subject)
				}
			}
		}
		return true
	})
	slices.Sort(r.many)
	r.many = slices.Compact(r.many)
	return r
}

// of lists who could do something in one drawer.
func (r reach) of(drawer string) []string {
	list := append(slices.Clone(r.named[drawer]), r.many...)
	slices.Sort(list)
	return slices.Compact(list)
}

// readable reports whether one of some may read an item.
func (t *tightening) readable(candidates []string, target access.Target) bool {
	return slices.ContainsFunc(candidates, func(subject string) bool {
		return t.st.Policy.Actions(subject, target, t.now)&access.ReadValue != 0
	})
}

// managers lists the persons among some who can give access to a drawer, except stewards.
func (t *tightening) managers(candidates []string, d *chest.Drawer) (list []string) {
	target := access.Target{Names: []string{d.Row.Name}, Labels: d.Labels}
	for _, subject := range candidates {
		row := t.st.Identity(subject)
		if row.Kind == reference.Person && t.st.Policy.Actions(subject, target, t.now)&access.GrantAccess != 0 &&
			!t.st.Policy.Holds(subject, access.Steward, access.Context{Now: t.now}) {
			list = append(list, chest.SubjectOf(row))
		}
	}
	slices.Sort(list)
	return list
}
