package chest

import (
	"slices"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
)

// Rule is one of those that keep who manages access from widening their own. A trial can be made without some of them: that is how the
// search for ways to a value shows what each of them is for.
type Rule string

// The rules.
const (
	RuleOwn      Rule = "own"      // nobody gives anything to themselves, or to what is theirs
	RuleOwner    Rule = "owner"    // what an app has, its owner has; what it gives, its owner gives
	RuleMaker    Rule = "maker"    // what nobody else has confirmed, or proves itself with what its maker saw, is its maker's
	RuleMember   Rule = "member"   // putting somebody into a team gives what the team has
	RuleActing   Rule = "acting"   // letting somebody act as an identity gives what it has
	RuleEnrolled Rule = "enrolled" // nobody but a steward lets somebody who has a password choose another alone
	RuleRestore  Rule = "restore"  // bringing an identity back gives it what it has
	RuleAppoint  Rule = "appoint"  // only a steward appoints another steward
	RuleConfirm  Rule = "confirm"  // nobody confirms who is theirs, and nobody who is not confirmed confirms
	RuleLift     Rule = "lift"     // two agree to lifting a rule that asks for two
	RuleAgree    Rule = "agree"    // nobody agrees to what they would gain by, and nobody who is not confirmed agrees to anything
)

// Rules are all of them.
var Rules = []Rule{RuleOwn, RuleOwner, RuleMaker, RuleMember, RuleActing, RuleEnrolled, RuleRestore, RuleAppoint, RuleConfirm, RuleLift,
	RuleAgree}

// Holds reports whether a rule holds: they all do, but in a trial made without some.
func (st *Snapshot) Holds(rule Rule) bool { return !slices.Contains(st.without, rule) }

// Without makes a trial one in which some rules do not hold. Nothing is decided by it: it is only looked at.
func (d *Draft) Without(rules ...Rule) { d.without = rules }

// behind calls visit with the ids of all who can act through an identity, itself among them: the owner of an app, the members of a team
// that owns it, whoever saw what it proves itself with, and who made what nobody else has confirmed. It stops when visit returns true.
func (st *Snapshot) behind(id string, visit func(id string) bool) bool {
	var seen [8]string // few stand behind one; a longer list goes to the heap
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

// Own reports whether what an identity has is the caller's own, by any way: somebody who can act through the one can act through the
// other. For a team it is enough that it is so of one member.
func (st *Snapshot) Own(c Caller, id string) bool {
	var mine [8]string
	all := mine[:0]
	st.behind(c.ID, func(id string) bool { all = append(all, id); return false })
	return st.ownOf(all, id)
}

// ownOf is Own for somebody of whom it is known who stands behind them.
func (st *Snapshot) ownOf(mine []string, id string) bool {
	return st.behind(id, func(id string) bool { return slices.Contains(mine, id) })
}

// own are the identities whose access is the caller's own, before or after a change.
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

// Seconded refuses what two must agree to until somebody else has: kind is that of the request for it, and id says what it is about.
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
