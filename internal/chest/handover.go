package chest

import (
	"fmt"
	"slices"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Ahead is how long in advance an end is warned of, and the least time for which somebody who takes over a duty must hold it.
const Ahead = 30 * 24 * time.Hour

// canSignIn reports whether an identity is a person who is active and has a password.
func (st *Snapshot) canSignIn(id string) bool {
	row := st.Identity(id)
	return row.Kind == reference.Person && row.State == Active && row.Password != ""
}

// SomeoneGrants reports whether somebody who can sign in may give access to everything.
func (st *Snapshot) SomeoneGrants(now time.Time) bool {
	return st.Policy.Someone(st.canSignIn, access.GrantAccess, Everything, now)
}

// LastGiver finds when the last way to give access to everything ends.
func (st *Snapshot) LastGiver(now time.Time) access.Last {
	return st.Policy.LastOf(st.canSignIn, access.GrantAccess, Everything, now)
}

// staysOpen refuses a change after which nobody could give access, now or within [Ahead], where somebody could before.
func (a *Attempt) staysOpen() error {
	if a.LockOut || !slices.ContainsFunc(a.Change.Rows, mayClose) {
		return nil
	}
	a.RestOnAccess() // two changes that are fine by themselves may not be so together
	after := a.St.Trial()
	if err := after.Apply(&a.Change); err != nil {
		return err
	}
	then := after.LastGiver(a.Entry.At)
	switch {
	case !then.Within(Ahead, a.Entry.At) || !then.Before(a.St.LastGiver(a.Entry.At)):
		return nil
	case then.Grant == "":
		return &Error{Code: NotHandedOver, Detail: "nobody could give access any more: first make another person gatekeeper on ** and let " +
			"them enrol"}
	}
	return &Error{Code: NotHandedOver, Detail: fmt.Sprintf("nobody could give access from %s on, when grant %s ends: first renew it (tansu "+
		"grant renew %s), or make another person gatekeeper on ** and let them enrol", then.At.UTC().Format("2006-01-02 15:04 MST"), then.Grant,
		then.Grant)}
}

// mayClose reports whether a row that changes may take access from somebody.
func mayClose(row store.RowChange) bool {
	switch before := row.Before.(type) {
	case nil:
		g, is := row.After.(entity.Grant)
		return is && g.Effect == string(access.Deny)
	case entity.Identity:
		after, is := row.After.(entity.Identity)
		return !is || before.State != after.State || after.Password == ""
	case entity.Grant, entity.Member, entity.Role:
		return true
	}
	return false
}
