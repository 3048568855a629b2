package people

import (
	"fmt"
	"slices"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/powers"
	"tansu/internal/store"
)

// LeftBehind is what somebody answers for.
type LeftBehind struct {
	Apps    []string // and teams
	Drawers []string
	Items   []string
	Masters []string          // master keys, by name
	Grants  []chest.GrantInfo // that they hold themselves, and that are in force
}

// owned lists what a subject owns, and the grants that it holds itself.
func owned(st *chest.Snapshot, subject string, now time.Time) (l LeftBehind, err error) {
	for _, row := range st.OwnedBy(subject) {
		l.Apps = append(l.Apps, chest.SubjectOf(row))
	}
	for _, d := range st.Drawers() {
		if d.Row.Owner == subject {
			l.Drawers = append(l.Drawers, d.Row.Name)
		}
		err := st.Each(d, store.ItemFilter{Owner: subject}, func(it *chest.Item) bool {
			l.Items = append(l.Items, d.Row.Name+"/"+it.Row.Name)
			return true
		})
		if err != nil {
			return l, err
		}
	}
	for _, m := range st.Masters() {
		if m.Row.Owner == subject {
			l.Masters = append(l.Masters, m.Row.Name)
		}
	}
	row, _ := st.IdentityOf(subject)
	for _, g := range st.GivenTo(row.ID) {
		if chest.InForce(g, now) {
			l.Grants = append(l.Grants, st.DescribeGrant(g, now))
		}
	}
	return l, nil
}

// HandOver gives everything that one subject owns to another, in one step: apps, teams, drawers, items, and those master keys that the
// caller may withdraw. Access is not handed over: what the new owner needs is granted like everything else.
func (s *People) HandOver(c chest.Caller, from, to string) (l LeftBehind, err error) {
	err = s.heart.Try(func() error {
		a, _, err := s.toChange(c, from, "hand over to "+to)
		if err != nil {
			return err
		}
		heir, err := a.St.KnownSubject("to", to)
		if err != nil {
			return a.Fail(err)
		}
		if heir.State != chest.Active || from == to || heir.Kind == reference.App {
			return a.Fail(chest.Invalid("to", "%s cannot take over: an owner is another person, or a team, and is active", to))
		}
		if l, err = owned(a.St, from, a.Entry.At); err == nil && from == c.Name && len(l.Apps) > 0 {
			return a.Refuse(&chest.Error{Code: chest.Refused, Reason: chest.OwnAccess,
				Detail: "whoever manages access may not give away the apps they own, since they could then grant them access; another " +
					"gatekeeper can"})
		}
		for _, app := range l.Apps {
			if err == nil {
				row, _ := a.St.IdentityOf(app)
				if err := powers.Unless(a, letAct(a, row, heir)); err != nil {
					return err
				}
			}
		}
		l.Masters = slices.DeleteFunc(l.Masters, func(name string) bool {
			m, _ := a.St.MasterNamed(name)
			return !a.St.Manages(c, m.Row, a.Entry.At)
		})
		if err == nil {
			err = handOver(a, l, to)
		}
		if err != nil {
			return a.Fail(err)
		}
		a.Entry.Detail = fmt.Sprintf("hand over to %s: apps and teams: %d, %s, %s", to, len(l.Apps),
			reference.Counted(len(l.Drawers), "drawer"), reference.Counted(len(l.Items), "item"))
		if len(l.Masters) > 0 {
			a.Entry.Detail += ", " + reference.Counted(len(l.Masters), "master key")
		}
		if err := a.Commit("what " + from + " owns"); err != nil {
			return err
		}
		l = l.known(a.St, c, a.Entry.At)
		return nil
	})
	return l, err
}

// letAct checks making somebody the owner of an app or of a team. Nobody acts as a team, so its access does not count.
func letAct(a *chest.Attempt, row, owner entity.Identity) powers.Lack {
	if row.Kind != reference.App {
		return powers.Lack{}
	}
	return powers.MayLetAct(a.St, a.Caller, row, owner.ID, a.Entry.At)
}

// handOver gives everything in a list another owner.
func handOver(a *chest.Attempt, l LeftBehind, to string) error {
	for _, subject := range l.Apps {
		row, _ := a.St.IdentityOf(subject)
		after := row
		after.Owner = to
		a.Change.Update(row, after)
	}
	for _, name := range l.Masters {
		m, _ := a.St.MasterNamed(name)
		after := m.Row
		after.Owner = to
		a.Change.Update(m.Row, after)
	}
	for _, name := range l.Drawers {
		row := a.St.Drawer(name).Row
		after := row
		after.Owner = to
		a.Change.Update(row, after)
	}
	for _, text := range l.Items {
		ref, _ := reference.Parse(text) // it is one of ours
		_, it, err := a.St.ItemOf(ref)
		if err != nil {
			return err
		}
		after := it.Row
		after.Owner = to
		a.Change.Update(it.Row, after)
	}
	return nil
}

// known removes from what somebody owns what the caller may not know of.
func (l LeftBehind) known(st *chest.Snapshot, c chest.Caller, now time.Time) LeftBehind {
	ctx := c.Context(now)
	unknown := func(name string) bool {
		names := chest.TargetOf(name)
		return len(names) == 1 && !st.Touches(c.ID, access.List, name) || len(names) == 2 && !st.Decide(c.ID, access.List, ctx, names...).Allowed
	}
	l.Drawers, l.Items = slices.DeleteFunc(l.Drawers, unknown), slices.DeleteFunc(l.Items, unknown)
	chooses := st.Policy.Anywhere(c.ID, access.ChangeRules|access.Operate, ctx).Allowed
	l.Masters = slices.DeleteFunc(l.Masters, func(name string) bool {
		m, _ := st.MasterNamed(name)
		return !chooses && !st.Manages(c, m.Row, now)
	})
	l.Grants = slices.DeleteFunc(l.Grants, func(g chest.GrantInfo) bool { return !st.KnowsGrant(c, st.Grant(g.ID), now) })
	return l
}

// LeftBehind lists what a subject answers for, as far as the caller may know of it.
func (s *People) LeftBehind(c chest.Caller, subject string) (l LeftBehind, err error) {
	a, err := s.allowLook(c, subject)
	if err != nil {
		return l, err
	}
	a.Entry.Target = subject
	if _, err := a.St.KnownSubject("", subject); err != nil {
		return l, a.Fail(err)
	}
	if l, err = owned(a.St, subject, a.Entry.At); err != nil {
		return l, a.Fail(err)
	}
	return chest.Reply(a, l.known(a.St, c, a.Entry.At))
}
