package chest

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Ahead is how long before it happens something that ends is pointed out, and how long whoever takes a duty over must have it for.
const Ahead = 30 * 24 * time.Hour

// SomeoneGrants reports whether a person who is active and has a password may give access to everything.
func (st *Snapshot) SomeoneGrants(now time.Time) (someone bool) {
	st.givers(func(id string, _ []access.Grant) bool {
		someone = st.Policy.Surely(id, access.GrantAccess, Everything, now)
		return !someone
	})
	return someone
}

func (st *Snapshot) givers(visit func(id string, grants []access.Grant) bool) {
	st.Policy.Subjects(func(id string, grants []access.Grant) bool {
		row := st.Identity(id)
		return row.Kind != reference.Person || row.State != Active || row.Password == "" || visit(id, grants)
	})
}

// LastGiver is the end of the last way to give access to everything.
type LastGiver struct {
	At    time.Time // nobody can from then on; zero for no end
	Grant string    // that ends then; empty when nobody can now
}

// before reports whether a way ends earlier than another one.
func (l LastGiver) before(other LastGiver) bool {
	return !l.At.IsZero() && (other.At.IsZero() || l.At.Before(other.At))
}

// Soon reports whether the way ends within what is looked ahead.
func (l LastGiver) Soon(now time.Time) bool { return !l.At.IsZero() && l.At.Sub(now) < Ahead }

// LastGiver finds when the last way to give access ends, if nobody does anything about it.
func (st *Snapshot) LastGiver(now time.Time) LastGiver {
	if !st.SomeoneGrants(now) {
		return LastGiver{At: now}
	}
	var ends []LastGiver
	st.givers(func(_ string, grants []access.Grant) bool {
		for _, g := range grants {
			if g.Effect == access.Allow && g.Role.Actions&access.GrantAccess != 0 && now.Before(g.End) && g.Scope.Covers(Everything) {
				ends = append(ends, LastGiver{g.End, g.ID})
			}
		}
		return true
	})
	slices.SortFunc(ends, func(x, y LastGiver) int { return cmp.Or(x.At.Compare(y.At), cmp.Compare(x.Grant, y.Grant)) })
	for _, end := range ends {
		if !st.SomeoneGrants(end.At) {
			return end
		}
	}
	return LastGiver{}
}

// staysOpen keeps a change from leaving nobody who can give access, now or within what is looked ahead, where somebody could before.
func (a *Attempt) staysOpen() error {
	if a.LockOut || !slices.ContainsFunc(a.Change.Rows, mayClose) {
		return nil
	}
	a.RestOnAccess() // two changes that are fine by themselves may not be so together
	after := a.St.Trial()
	if err := after.Apply(&a.Change); err != nil {
		return err
	}
	now := a.Entry.At
	then := after.LastGiver(now)
	if !then.Soon(now) || !then.before(a.St.LastGiver(now)) {
		return nil
	}
	return NobodyGrants(then)
}

// mayClose reports whether a row that changes may take access from somebody.
func mayClose(row store.RowChange) bool {
	if row.Before == nil {
		g, is := row.After.(entity.Grant)
		return is && g.Effect == string(access.Deny)
	}
	switch row.Before.(type) {
	case entity.Grant, entity.Member, entity.Role, entity.Identity:
		return true
	}
	return false
}

// NobodyGrants says that something would leave nobody who can give access, from some moment on.
func NobodyGrants(then LastGiver) *Error {
	if then.Grant == "" {
		return &Error{Code: NotHandedOver, Detail: "nobody could give access any more: first make another person gatekeeper on ** and let " +
			"them enrol"}
	}
	return &Error{Code: NotHandedOver, Detail: fmt.Sprintf("nobody could give access from %s on, when grant %s ends: first renew it (tansu "+
		"grant renew %s), or make another person gatekeeper on ** and let them enrol", then.At.UTC().Format("2006-01-02 15:04 MST"), then.Grant,
		then.Grant)}
}
