package service

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/policytext"
	"tansu/internal/store"
)

// Difference is what a change does to who may do what, on what exists now.
type Difference struct {
	Changes []access.Summary // subjects by name
	Notes   []string
}

// copied takes a copy of what decides access, so that a long look at it keeps nobody waiting.
func (s *Service) copied() (st *state, err error) {
	err = s.view(func(live *state) error { st = live.shadow(); return nil })
	return st, err
}

// shadow is a copy of what decides access, on which a change can be tried. Changing it leaves the original as it is, and
// the original may go on changing. It has no keys and tokens; items are read when they are looked at, and those that were
// tried otherwise are in place of them.
func (st *state) shadow() *state {
	copied := &state{
		policy:      make(access.Policy, len(st.policy)),
		identities:  maps.Clone(st.identities),
		members:     maps.Clone(st.members),
		subjects:    maps.Clone(st.subjects),
		grants:      maps.Clone(st.grants),
		placed:      make(map[string][]string, len(st.placed)),
		roles:       maps.Clone(st.roles),
		requests:    maps.Clone(st.requests),
		approved:    maps.Clone(st.approved),
		credentials: maps.Clone(st.credentials),
		drawers:     make(map[string]*drawer, len(st.drawers)),
		items:       newItemCache(st.items.records, st.items.now, st.items.log),
		tried:       map[itemKey]*item{},
		aliases:     maps.Clone(st.aliases),
	}
	for subject, grants := range st.policy {
		copied.policy[subject] = slices.Clip(grants) // so that adding one moves them first
	}
	for id, holders := range st.placed {
		copied.placed[id] = slices.Clip(holders)
	}
	for name, d := range st.drawers {
		copied.drawers[name] = &drawer{row: d.row, labels: d.labels, approval: d.approval, schedule: d.schedule}
	}
	return copied
}

// places lists everything that exists, the chest first and each drawer before what is in it, as it is and as it would
// be after a change that was tried: both lists name the same.
func (st *state) places(after *state) (was, becomes []access.Place, err error) {
	was, becomes = []access.Place{{}}, []access.Place{{}}
	for _, name := range sortedKeys(st.drawers) {
		d, twin := st.drawers[name], after.drawers[name]
		was, becomes = append(was, access.Place{Target: st.target(name)}), append(becomes, access.Place{Target: after.target(name)})
		err := st.all(d, func(it *item) {
			other := after.tried[itemKey{twin, it.row.Name}]
			if other == nil {
				other, _ = newItem(twin, store.Shelved{Item: it.row}) // its labels were readable a moment ago
			}
			was, becomes = append(was, it.place(d)), append(becomes, other.place(twin))
		})
		if err != nil {
			return nil, nil, err
		}
	}
	return was, becomes, nil
}

func (it *item) place(d *drawer) access.Place {
	return access.Place{Target: it.target(d), Approval: it.approvalOf(d)}
}

// compare says what differs between two states of access that have the same drawers and items.
func (st *state) compare(after *state, now time.Time) (d Difference, err error) {
	was, becomes, err := st.places(after)
	if err != nil {
		return d, err
	}
	changes := access.Compare(st.policy, after.policy, was, becomes, now)
	d.Changes = access.Summarise(changes, becomes)
	for i := range d.Changes {
		d.Changes[i].Subject = subjectOf(after.identities[d.Changes[i].Subject])
	}
	slices.SortStableFunc(d.Changes, func(x, y access.Summary) int { return cmp.Compare(x.Subject, y.Subject) })
	return d, nil
}

// widens reports whether a change of the state lets the caller, or an app that they own, do more than before: by their
// grants, which may also be about what does not exist yet, or by labels and rules of what does.
func (st *state) widens(c Caller, after *state, now time.Time) (bool, error) {
	before, becomes := access.Policy{}, access.Policy{}
	for id, row := range after.identities {
		if id != c.id && !c.controls(row) && !c.controls(st.identities[id]) {
			continue
		}
		before[id], becomes[id] = st.policy[id], after.policy[id]
		if access.Wider(before[id], becomes[id]) {
			return true, nil
		}
	}
	was, places, err := st.places(after)
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(access.Compare(before, becomes, was, places, now), func(change access.Change) bool {
		return change.Gained != 0 || change.Altered != 0 && st.loosens(change, after)
	}), nil
}

// loosens reports whether other terms may be wider ones because of what is said about the target: it has other labels,
// and so other grants reach it, or it needed a second person before and does not afterwards.
func (st *state) loosens(change access.Change, after *state) bool {
	if before := st.target(change.Target.Names...); before.Labels.String() != change.Target.Labels.String() {
		return true
	}
	if len(change.Target.Names) != 2 {
		return false
	}
	drawer, name := change.Target.Names[0], change.Target.Names[1]
	before, becomes := st.approvalOf(drawer, name), after.approvalOf(drawer, name)
	return before != becomes && (becomes == "" || before == policytext.OfEveryone)
}

// approvalOf says whose reads of an item need a second person; empty for nobody's.
func (it *item) approvalOf(d *drawer) string {
	if it == nil || !it.approval {
		return ""
	}
	return d.row.ApprovalOf
}

func (st *state) approvalOf(drawer, name string) string {
	it, _ := st.find(st.drawers[drawer], name) // that it can be read was seen when it was compared
	return it.approvalOf(st.drawers[drawer])
}

// Proposal is a change of access that can be looked at before it is made. It has one of its parts.
type Proposal struct {
	Give *NewGrant
	End  string // the id of a grant
	Role *NewRole
}

// Preview says what a change would do, without doing it. It takes the right to make the change.
func (s *Service) Preview(c Caller, p Proposal) (d Difference, err error) {
	switch {
	case p.Give != nil && p.End == "" && p.Role == nil:
		return s.previewGive(c, *p.Give)
	case p.Give == nil && p.End != "" && p.Role == nil:
		return s.previewEnd(c, p.End)
	case p.Give == nil && p.End == "" && p.Role != nil:
		return s.previewRole(c, *p.Role)
	}
	return d, invalid("give", "a proposal is one of give, end and role")
}

func (s *Service) previewGive(c Caller, n NewGrant) (d Difference, err error) {
	a, row, err := s.giving(c, n)
	if err != nil {
		return d, err
	}
	return s.preview(a, func(st, after *state) (notes []string, err error) {
		if n.Replaces != "" {
			ended := st.grants[n.Replaces]
			ended.EndedAt = micros(a.entry.At)
			_ = after.putGrant(ended)
		}
		if notes, err = st.notes(c, row, n.Replaces, a.entry.At); err != nil {
			return nil, err
		}
		return notes, after.putGrant(row)
	})
}

func (s *Service) previewEnd(c Caller, id string) (d Difference, err error) {
	var before store.Grant
	if err := s.view(func(st *state) error { before = st.grants[id]; return nil }); err != nil {
		return d, err
	}
	scope, err := access.ParseScope(before.Scope)
	if before.ID == "" || err != nil {
		scope = everything
	}
	a, err := s.allowGrant(c, scope)
	if err != nil {
		return d, err
	}
	if before.ID == "" || before.EndedAt != 0 {
		return d, a.fail(notFound("grant "+id+" that is not ended", ""))
	}
	return s.preview(a, func(_, after *state) ([]string, error) {
		before.EndedAt = micros(a.entry.At)
		return nil, after.putGrant(before)
	})
}

// preview tries a change on a shadow and records that it was looked at.
func (s *Service) preview(a *attempt, change func(st, after *state) ([]string, error)) (d Difference, err error) {
	a.entry.Action, a.entry.Detail = askAccess, "what would change: "+a.entry.Detail
	st, err := s.copied()
	if err != nil {
		return d, err
	}
	after := st.shadow()
	notes, err := change(st, after)
	if err != nil {
		return d, a.fail(err)
	}
	if d, err = st.compare(after, a.entry.At); err != nil {
		return d, a.fail(err)
	}
	d.Notes = notes
	return answer(a, d)
}
