// Package rights is the room for who may do what: grants, roles and the policy as one text; requests and their answers; questions
// about access, before anything is done and after something was refused.
package rights

import (
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/trail"
	"tansu/internal/entity"
	"tansu/internal/store"
	"tansu/internal/usage"
)

// Records is what the room asks of a store.
type Records interface {
	usage.Records
	Entries(store.Filter, func(trail.Entry) bool) error
}

// Rights is the room. Its methods are safe for concurrent use.
type Rights struct {
	heart   *chest.Chest
	records Records
}

// New opens the room over a heart.
func New(heart *chest.Chest, records Records) *Rights { return &Rights{heart: heart, records: records} }

// grantLife is how long a grant lasts when nobody says otherwise.
const grantLife = 90 * 24 * time.Hour

// compareValue is what comparing a value with something is called in the trail.
const compareValue = "compare_value"

// allowGrant decides whether the caller may give and end grants on a scope. What follows rests on all of access.
func (s *Rights) allowGrant(c chest.Caller, scope access.Scope) (*chest.Attempt, error) {
	a := s.heart.Attempt(c, access.GrantAccess.String(), scope.String()).RestOnAccess()
	if err := a.Err(); err != nil {
		return nil, err
	}
	decision := a.St.Policy.DecideScope(c.ID, access.GrantAccess, scope, c.Context(a.Entry.At))
	return a, a.Decided(decision, access.GrantAccess, "")
}

// selectsSomething reports whether anything that exists is in a scope.
func selectsSomething(st *chest.Snapshot, scope access.Scope) bool {
	for _, d := range st.Drawers() {
		if scope.Matches(access.Target{Names: []string{d.Row.Name}, Labels: d.Labels}) || selectsItem(st, scope, d) {
			return true
		}
	}
	return false
}

func selectsItem(st *chest.Snapshot, scope access.Scope, d *chest.Drawer) (selects bool) {
	if !scope.Touches(d.Row.Name) {
		return false
	}
	_ = st.Each(d, store.ItemFilter{}, func(it *chest.Item) bool { // what cannot be read is no reason for a note
		selects = scope.Matches(it.Target(d))
		return !selects
	})
	return selects
}

// otherEnvironment finds a drawer in a scope that is for another environment than the one that an app runs in; nil for none.
func otherEnvironment(st *chest.Snapshot, subject entity.Identity, scope access.Scope) *chest.Drawer {
	if subject.Environment == "" {
		return nil
	}
	for _, d := range st.Drawers() {
		if d.Row.Environment != subject.Environment && (scope.Matches(access.Target{Names: []string{d.Row.Name}, Labels: d.Labels}) ||
			selectsItem(st, scope, d)) {
			return d
		}
	}
	return nil
}

// nearScope hints at a drawer or item whose name a scope without wildcards almost has.
func nearScope(st *chest.Snapshot, scope string) string {
	drawer, rest, found := strings.Cut(scope, "/")
	if st.Drawer(drawer) == nil {
		if near := reference.Nearest(drawer, st.DrawerNames()); near != "" {
			return "; did you mean the drawer " + near + "?"
		}
		return ""
	}
	if near := reference.Nearest(rest, st.NearNames(st.Drawer(drawer), rest)); found && near != "" {
		return "; did you mean " + drawer + "/" + near + "?"
	}
	return ""
}

// onlyKey returns the key of a map that has exactly one.
func onlyKey(m map[string]bool) string {
	for key := range m {
		if len(m) == 1 {
			return key
		}
	}
	return ""
}
