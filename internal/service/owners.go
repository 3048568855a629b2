package service

import (
	"fmt"

	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// LeftBehind is what somebody answers for.
type LeftBehind struct {
	Apps    []string // and teams
	Drawers []string
	Items   []string
	Grants  []Grant // that they hold themselves, and that are in force
}

// owned lists what a subject owns, and the grants that it holds itself.
func (st *state) owned(subject string, a *attempt) (l LeftBehind, err error) {
	for _, other := range sortedKeys(st.subjects) {
		if st.identities[st.subjects[other]].Owner == subject {
			l.Apps = append(l.Apps, other)
		}
	}
	for _, name := range sortedKeys(st.drawers) {
		d := st.drawers[name]
		if d.row.Owner == subject {
			l.Drawers = append(l.Drawers, name)
		}
		err := st.each(d, store.ItemFilter{Owner: subject}, func(it *item) bool {
			l.Items = append(l.Items, name+"/"+it.row.Name)
			return true
		})
		if err != nil {
			return l, err
		}
	}
	for _, id := range sortedKeys(st.grants) {
		if g := describeGrant(st, st.grants[id]).inForce(a.entry.At); g.InForce && g.Subject == subject {
			l.Grants = append(l.Grants, g)
		}
	}
	return l, nil
}

// HandOver gives everything that one subject owns to another, in one step: apps, teams, drawers and items. Access is
// not handed over: what the new owner needs is granted like everything else.
func (s *Service) HandOver(c Caller, from, to string) (l LeftBehind, err error) {
	a, _, err := s.toChange(c, from, "hand over to "+to)
	if err != nil {
		return l, err
	}
	heir, err := s.knownSubject("to", to)
	if err != nil {
		return l, a.fail(err)
	}
	if heir.State != stateActive || from == to || heir.Kind == reference.App {
		return l, a.fail(invalid("to", "%s cannot take over: an owner is another person or a team, and active", to))
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	b := builder{now: a.entry.At, by: c.name, p: &plan{}}
	var own bool
	err = s.view(func(st *state) error {
		if l, err = st.owned(from, a); err != nil {
			return err
		}
		own = from == c.name && len(l.Apps) > 0
		b.st = st
		return b.handOver(l, to)
	})
	switch {
	case err != nil:
		return l, a.fail(err)
	case own:
		return l, a.refuse(&Error{Code: Refused, Reason: ownAccess, Detail: "nobody who manages access gives away the apps they own, and with them the reason not to grant these anything; another gatekeeper can"})
	}
	a.entry.Detail = fmt.Sprintf("hand over to %s: %d apps and teams, %d drawers, %d items", to, len(l.Apps), len(l.Drawers), len(l.Items))
	return l, a.change("what "+from+" owns", b.p.rows, func(st *state) { _ = b.p.apply(st) })
}

func (b *builder) handOver(l LeftBehind, to string) error {
	for _, subject := range l.Apps {
		row, _ := b.st.identity(subject)
		after := row
		after.Owner = to
		updating(b, subject, row, after, putIdentity)
	}
	for _, name := range l.Drawers {
		row := b.st.drawers[name].row
		after := row
		after.Owner = to
		updating(b, name, row, after, func(st *state, row store.Drawer) error { return st.putDrawer(st.drawers[row.Name], row) })
	}
	for _, text := range l.Items {
		ref, _ := reference.Parse(text) // it is one of ours
		_, it, err := b.st.item(ref)
		if err != nil {
			return err
		}
		after := it.row
		after.Owner = to
		updating(b, text, it.row, after, func(st *state, row store.Item) error { return st.revise(st.drawers[ref.Drawer], row) })
	}
	return nil
}

// LeftBehind lists what a subject answers for.
func (s *Service) LeftBehind(c Caller, subject string) (l LeftBehind, err error) {
	a, err := s.allowOverview(c, overIdentities)
	if err != nil {
		return l, err
	}
	a.entry.Target = subject
	if _, err := s.knownSubject("", subject); err != nil {
		return l, a.fail(err)
	}
	if err := s.view(func(st *state) error { l, err = st.owned(subject, a); return err }); err != nil {
		return l, a.fail(err)
	}
	return answer(a, l)
}

// hasLeft reports whether an owner is not there any more.
func (st *state) hasLeft(owner string) bool {
	row, known := st.identity(owner)
	return owner != "" && (!known || row.State != stateActive)
}
