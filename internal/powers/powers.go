// Package powers holds the rules for people who manage access: what each of them may change, decided on a snapshot and without
// changing anything. It also searches for paths: how somebody could gain access to a value by steps that these rules allow.
package powers

import (
	"slices"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
)

// Lack says why somebody may not do something to an identity; the zero Lack means that they may.
type Lack struct {
	Reason string // of a refusal that no grant would change
	Detail string
	// Or the caller lacks the right to give access in a scope: the decision on that scope, and what it would be needed for.
	Decision access.Decision
	Scope    access.Scope
	What     string
}

// None reports whether nothing is lacking.
func (l Lack) None() bool { return l.Reason == "" && l.What == "" }

// Unless records a lack as the refusal of an attempt, and returns it; nil if nothing is lacking.
func Unless(a *chest.Attempt, l Lack) error {
	switch {
	case l.None():
		return nil
	case l.Reason != "":
		return a.Refuse(&chest.Error{Code: chest.Refused, Reason: l.Reason, Detail: l.Detail})
	}
	a.Entry.Action, a.Entry.Target = access.GrantAccess.String(), l.Scope.String()
	return a.Answered(l.Decision, l.What, "", a.Remedy(access.GrantAccess))
}

// WidensOwn is the answer to somebody who gives access to themselves.
const WidensOwn = "nobody may widen their own access, directly or through a team, nor that of an app they own or of anyone whom nobody " +
	"else has confirmed; another gatekeeper can: ask with tansu request grant"

// MayReceive checks the receiving side: what forbids this caller to give anything at all to this subject.
func MayReceive(st *chest.Snapshot, c chest.Caller, subject string, now time.Time) (l Lack) {
	if st.IsSteward(c, now) || !st.Holds(chest.RuleOwn) || !st.Own(c, subject) {
		return l
	}
	l = Lack{Reason: chest.OwnAccess, Detail: WidensOwn}
	if because := ownBecause(st, c, st.Identity(subject)); because != "" {
		l.Detail = because + "; or let another gatekeeper give this: tansu request grant"
	}
	return l
}

// ownBecause says why a person's or an app's access counts as the caller's own, and what would change that; empty where nothing would.
func ownBecause(st *chest.Snapshot, c chest.Caller, row entity.Identity) string {
	name := chest.SubjectOf(row)
	owner, owned := st.IdentityOf(row.Owner)
	switch {
	case row.ID == c.ID || row.Kind == reference.Team || row.Kind == reference.App && owned && owner.ID == c.ID:
		return ""
	case row.Kind == reference.Person && !row.Unconfirmed: // the caller is the one whom nobody else has confirmed
		return ""
	case row.Kind == reference.Person:
		return "nobody else has confirmed who " + name + " is, and so they count as you, who may not widen your own access: let somebody " +
			"else confirm them (tansu person confirm " + row.Name + ")"
	case !owned:
		return name + " has no owner, and so it counts as yours, and nobody may widen their own access: name somebody else as its owner, who " +
			"adds its credentials, and end those that you issued"
	case owner.Kind == reference.Person && owner.Unconfirmed && st.Own(c, owner.ID):
		return name + " belongs to " + row.Owner + ", and " + ownBecause(st, c, owner)
	}
	for _, cr := range st.CredentialsOf(row.ID) {
		if cr.CreatedBy == c.Name {
			return "you issued " + cr.ID + " of " + name + ": whoever has it can act as it, and nobody widens their own access; let its owner " +
				"issue one, and end yours"
		}
	}
	return ""
}

// MayGive says what a caller lacks to give a role to a subject, besides the right to give access in its scope.
func MayGive(st *chest.Snapshot, c chest.Caller, subject string, grant entity.Grant, now time.Time) Lack {
	if grant.Effect == string(access.Deny) || st.IsSteward(c, now) {
		return Lack{}
	}
	if l := MayReceive(st, c, subject, now); !l.None() {
		return l
	}
	if grant.Role == access.Steward && st.Holds(chest.RuleAppoint) {
		return Lack{Reason: chest.StewardOnly, Detail: "only a steward appoints another steward"}
	}
	return Lack{}
}

// MayEnd says what a caller lacks to end a grant, besides the right to give access in its scope.
func MayEnd(st *chest.Snapshot, c chest.Caller, grant entity.Grant) Lack {
	if grant.Effect == string(access.Deny) && st.Holds(chest.RuleOwn) && st.Own(c, grant.Subject) {
		return Lack{Reason: chest.OwnAccess, Detail: "nobody ends what denies themselves or an app they own; another gatekeeper can"}
	}
	return Lack{}
}

// mayGiveAll checks that the caller could give every one of some grants; what completes the sentence "may not …".
func mayGiveAll(st *chest.Snapshot, c chest.Caller, grants []access.Grant, what string, now time.Time) Lack {
	ctx := c.Context(now)
	for _, g := range grants {
		switch {
		case g.Effect != access.Allow || g.Ended(now):
			continue
		case g.Role.Name == access.Steward && st.Holds(chest.RuleAppoint) && !st.IsSteward(c, now):
			return Lack{Reason: chest.StewardOnly, Detail: "that makes a steward of somebody, which only a steward does"}
		}
		if d := st.Policy.DecideScope(c.ID, access.GrantAccess, g.Scope, ctx); !d.Allowed {
			return Lack{Decision: d, Scope: g.Scope, What: what + ", which gives " + g.Role.Name + " on " + g.Scope.String()}
		}
	}
	return Lack{}
}

// reaching lists the grants that a member of a team has through it: the team's own, and those of the team that it is nested in.
func reaching(st *chest.Snapshot, team string) (grants []access.Grant) {
	for _, m := range append([]entity.Member{{Team: team}}, st.MembershipsOf(team)...) {
		for _, row := range st.GivenTo(m.Team) {
			if made, err := st.GrantOf(row); err == nil { // they were read when they were stored
				grants = append(grants, made)
			}
		}
	}
	return grants
}

// MayJoin checks adding somebody to a team. It takes the right to give all access that the team has, and that of the apps that the
// team owns; and nobody adds themselves.
func MayJoin(st *chest.Snapshot, c chest.Caller, team, member entity.Identity, now time.Time) Lack {
	if l := MayReceive(st, c, member.ID, now); !l.None() || !st.Holds(chest.RuleMember) {
		return l
	}
	what := "put " + chest.SubjectOf(member) + " into " + chest.SubjectOf(team)
	if l := mayGiveAll(st, c, reaching(st, team.ID), what, now); !l.None() {
		return l
	}
	for _, app := range st.OwnedBy(chest.SubjectOf(team)) {
		if l := mayGiveAll(st, c, st.Policy.Of(app.ID), what+", which owns "+chest.SubjectOf(app), now); !l.None() && st.Holds(chest.RuleActing) {
			return l
		}
	}
	return Lack{}
}

// MayLeave checks removing somebody from a team. If the team is denied something, leaving it lifts that denial, so it takes the right to
// give what was denied.
func MayLeave(st *chest.Snapshot, c chest.Caller, team, member entity.Identity, now time.Time) Lack {
	denied := slices.DeleteFunc(reaching(st, team.ID), func(g access.Grant) bool { return g.Effect != access.Deny || g.Ended(now) })
	if member.ID == c.ID || len(denied) > 0 && st.Own(c, member.ID) && st.Holds(chest.RuleOwn) && !st.IsSteward(c, now) {
		return Lack{Reason: chest.OwnAccess, Detail: "nobody takes themselves, or an app of theirs, out of a team, since a team can be " +
			"denied things as well; another gatekeeper can"}
	}
	if !st.Holds(chest.RuleMember) {
		return Lack{}
	}
	for i := range denied {
		denied[i].Effect = access.Allow
	}
	return mayGiveAll(st, c, denied, "take "+chest.SubjectOf(member)+" out of "+chest.SubjectOf(team)+", which is denied something", now)
}

// having lists the grants in force for whoever acts as an identity: its own, and those of the apps that it owns, directly or through a
// team, because whoever acts as the owner can act as the app.
func having(st *chest.Snapshot, row entity.Identity, now time.Time) (grants []access.Grant) {
	ids := []string{row.ID}
	if st.Holds(chest.RuleOwner) {
		for _, owner := range append(st.TeamsOf(row.ID), chest.SubjectOf(row)) {
			for _, app := range st.OwnedBy(owner) {
				ids = append(ids, app.ID)
			}
		}
	}
	for _, id := range ids {
		for _, g := range st.Policy.Of(id) {
			if g.Effect == access.Allow && !g.Ended(now) {
				grants = append(grants, g)
			}
		}
	}
	return grants
}

// MayLetAct checks acts that let somebody act as an identity: issuing a credential, which the issuer sees, or making somebody the
// owner of an app. Whoever acts as the identity has all its access. The owner of an app may do this; so may anybody who registers, as
// long as the app has no access.
func MayLetAct(st *chest.Snapshot, c chest.Caller, as entity.Identity, who string, now time.Time) Lack {
	has := having(st, as, now)
	if len(has) == 0 || st.IsSteward(c, now) || as.Kind == reference.App && st.Owns(c, as) || !st.Holds(chest.RuleActing) {
		return Lack{}
	}
	if st.Own(c, who) {
		return Lack{Reason: string(access.ApprovalNeeded), Detail: chest.SubjectOf(as) + " has access already, and whoever acts as it has that " +
			"access: its owner can do this, or you when a second person agrees"}
	}
	return mayGiveAll(st, c, has, "let "+chest.SubjectOf(st.Identity(who))+" act as "+chest.SubjectOf(as), now)
}

// MayIssue checks issuing a credential of an identity.
func MayIssue(st *chest.Snapshot, c chest.Caller, row entity.Identity, now time.Time) Lack {
	switch {
	case row.ID == c.ID:
		return Lack{Reason: chest.OwnAccess, Detail: "nobody issues credentials to themselves"}
	case row.Kind == reference.Person && row.Password != "" && !st.IsSteward(c, now) && st.Holds(chest.RuleEnrolled):
		if st.Policy.Holds(row.ID, access.Steward, access.Context{Now: now}) {
			return Lack{Reason: chest.StewardOnly, Detail: "only a steward lets a steward choose a new password"}
		}
		return Lack{Reason: string(access.ApprovalNeeded), Detail: chest.SubjectOf(row) + " has a password, and whoever has the code has all " +
			"that they may do: you issue one when a second person agrees, or a steward does"}
	}
	return MayLetAct(st, c, row, c.ID, now)
}

// Coded is a person for whom the caller issues an enrolment code, or whom they register. Whoever sees the code could enrol as that
// person, so until somebody else confirms the person, they count as the caller's own. A steward need not be confirmed by anybody.
func Coded(st *chest.Snapshot, c chest.Caller, row entity.Identity, now time.Time) entity.Identity {
	if row.Kind == reference.Person && !st.IsSteward(c, now) {
		row.Unconfirmed, row.CodeBy = true, c.Name
	}
	return row
}

// MayRestore checks reactivating a suspended identity.
func MayRestore(st *chest.Snapshot, c chest.Caller, row entity.Identity, now time.Time) Lack {
	if st.IsSteward(c, now) || !st.Holds(chest.RuleRestore) {
		return Lack{}
	}
	has := having(st, row, now)
	if len(has) > 0 && st.Own(c, row.ID) {
		return Lack{Reason: chest.OwnAccess, Detail: "nobody reactivates an app of their own; another gatekeeper can"}
	}
	return mayGiveAll(st, c, has, "bring back "+chest.SubjectOf(row), now)
}

// MayConfirm says what a caller who registers lacks to confirm that a person is who they are said to be.
func MayConfirm(st *chest.Snapshot, c chest.Caller, row entity.Identity) Lack {
	switch me := st.Identity(c.ID); {
	case !st.Holds(chest.RuleConfirm):
	case me.Kind != reference.Person || me.Unconfirmed:
		return Lack{Reason: chest.NotConfirmed, Detail: "only a confirmed person confirms others"}
	case st.Own(c, row.ID):
		return Lack{Reason: chest.OwnAccess, Detail: "you registered " + chest.SubjectOf(row) + ": somebody else confirms that they are who " +
			"you say"}
	}
	return Lack{}
}

// MayAgree says what a caller lacks to agree to something that a subject asked for or would gain by, whoever may agree to it.
func MayAgree(st *chest.Snapshot, c chest.Caller, asker, subject string) Lack {
	switch {
	case !st.Holds(chest.RuleAgree):
	case st.Identity(c.ID).Unconfirmed:
		return Lack{Reason: chest.NotConfirmed, Detail: "you have not been confirmed by anybody but whoever registered you: until you " +
			"are, you cannot agree to anything"}
	case asker == c.ID || st.Own(c, asker) || st.Own(c, subject):
		return Lack{Reason: chest.OwnAccess, Detail: "nobody answers a request of their own, or one that they would gain from; another " +
			"gatekeeper can"}
	}
	return Lack{}
}

// Opening is what a change that is not a grant does to who may do what.
type Opening struct {
	Opens    bool            // somebody can do more by it
	Own      bool            // who makes it can, or an app of theirs
	Steward  bool            // who makes it is a steward
	Decision access.Decision // whether they may give access there
}

// MayOpen refuses a change that opens something up to who makes it, or to others without the right to give access to the
// target. What is missing is that right: that is what the entry and its receipt are about then.
func MayOpen(a *chest.Attempt, o Opening, target, what string) error {
	switch {
	case !o.Opens:
		return nil
	case o.Own && !o.Steward:
		return a.Refuse(&chest.Error{Code: chest.Refused, Reason: chest.OwnAccess,
			Detail: "this lets you, or an app you own, do more than before; another gatekeeper can do it"})
	case o.Decision.Allowed:
		return nil
	}
	a.Entry.Action, a.Entry.Target = access.GrantAccess.String(), target
	return a.Answered(o.Decision, what, "", a.Remedy(access.GrantAccess))
}
