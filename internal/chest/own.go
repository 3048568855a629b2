package chest

import (
	"slices"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
)

// Rule is one of the rules that keep people who manage access from widening their own. A trial can be made without some of them, by
// which the search for paths shows what each rule prevents.
type Rule string

// The rules.
const (
	RuleOwn      Rule = "own"      // nobody gives access to themselves, or to an identity that counts as their own
	RuleOwner    Rule = "owner"    // an app's access is its owner's, and so is what it gives
	RuleMaker    Rule = "maker"    // an unconfirmed identity, or one whose credential its creator saw, is the creator's own
	RuleMember   Rule = "member"   // adding somebody to a team gives them the team's access
	RuleActing   Rule = "acting"   // letting somebody act as an identity gives them its access
	RuleEnrolled Rule = "enrolled" // a code for somebody who has a password takes a steward, or a second person
	RuleRestore  Rule = "restore"  // reactivating an identity gives it its access again
	RuleAppoint  Rule = "appoint"  // only a steward appoints another steward
	RuleConfirm  Rule = "confirm"  // nobody confirms an identity that is their own, and only confirmed people confirm
	RuleLift     Rule = "lift"     // removing a rule that requires two people takes two people
	RuleAgree    Rule = "agree"    // nobody approves what they would gain by, and only confirmed people approve anything
)

// Rules are all of them.
var Rules = []Rule{RuleOwn, RuleOwner, RuleMaker, RuleMember, RuleActing, RuleEnrolled, RuleRestore, RuleAppoint, RuleConfirm, RuleLift,
	RuleAgree}

// Holds reports whether a rule applies: all do, except in a trial made without some.
func (st *Snapshot) Holds(rule Rule) bool { return !slices.Contains(st.without, rule) }

// Without returns a trial in which some rules do not apply. It is only looked at; nothing is ever decided on it.
func (d *Draft) Without(rules ...Rule) { d.without = rules }

// behind calls visit with the ids of all who can act through an identity, itself among them: an app's owner, the members of a team
// that owns it, whoever issued one of its credentials, and the creator of an identity that nobody else has confirmed. It stops when
// visit returns true.
func (st *Snapshot) behind(id string, visit func(id string) bool) bool {
	var seen [8]string // usually few; a longer list goes to the heap
	return st.walkBehind(id, seen[:0], visit)
}

func (st *Snapshot) walkBehind(id string, above []string, visit func(id string) bool) bool {
	if slices.Contains(above, id) { // a team that owns an app that is in it
		return false
	}
	if visit(id) {
		return true
	}
	row, known := st.identities.Get(id)
	if !known {
		return false
	}
	above = append(above, id)
	by := func(subject string) bool {
		other, known := st.bySubject.Get(subject)
		return known && st.walkBehind(other.ID, above, visit)
	}
	switch row.Kind {
	case reference.Team:
		return slices.ContainsFunc(st.Holders(id), func(holder string) bool { return st.walkBehind(holder, above, visit) })
	case reference.Person:
		return row.Unconfirmed && st.Holds(RuleMaker) && (by(row.CreatedBy) || by(row.CodeBy))
	}
	if st.Holds(RuleOwner) && by(row.Owner) || row.Owner == "" && by(row.CreatedBy) {
		return true
	}
	return st.Holds(RuleMaker) && slices.ContainsFunc(st.CredentialsOf(id), func(cr entity.Credential) bool { return by(cr.CreatedBy) })
}

// Own reports whether an identity's access counts as the caller's own: somebody who can act through the one can act through the other.
// For a team, one such member is enough.
func (st *Snapshot) Own(c Caller, id string) bool {
	var mine [8]string
	all := mine[:0]
	st.behind(c.ID, func(id string) bool { all = append(all, id); return false })
	return st.ownOf(all, id)
}

// ownOf is Own for a caller whose list of those behind them is known already.
func (st *Snapshot) ownOf(mine []string, id string) bool {
	return st.behind(id, func(id string) bool { return slices.Contains(mine, id) })
}

// own lists the identities whose access is the caller's own, before or after a change.
func (st *Snapshot) own(c Caller, after *Snapshot) (ids []string) {
	for _, state := range []*Snapshot{st, after} {
		var mine []string
		state.behind(c.ID, func(id string) bool { mine = append(mine, id); return false })
		state.identities.Scan(func(id string, row *entity.Identity) bool {
			if row.Kind != reference.Team && state.ownOf(mine, id) {
				ids = append(ids, id)
			}
			return true
		})
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// Owns reports whether the caller is the owner of an app, or in the team that is.
func (st *Snapshot) Owns(c Caller, row entity.Identity) bool {
	owner, known := st.IdentityOf(row.Owner)
	return known && (owner.ID == c.ID || slices.Contains(st.Holders(owner.ID), c.ID))
}

// Seconded refuses an act that needs a second person until somebody else has agreed to it. Kind is the kind of the request for it, and
// id what it is about.
func (a *Attempt) Seconded(kind, id, what string) error {
	if Micros(a.Entry.At) < a.St.ApprovedUntil(kind, a.Caller.ID, id) {
		return nil
	}
	receipt := NewReceipt()
	refusal := &Refusal{Receipt: receipt, Subject: a.Entry.Subject, Action: a.Entry.Action, Target: a.Entry.Target,
		Reason: access.ApprovalNeeded}
	return a.Refuse(&Error{Code: Refused, Reason: string(access.ApprovalNeeded), Refusal: refusal,
		Detail: what + ": tansu request ask " + receipt + " --reason WHY; then do it again"})
}
