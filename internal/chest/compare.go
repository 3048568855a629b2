package chest

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/policytext"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Difference is what a change does to who may do what, on what exists now.
type Difference struct {
	Changes []access.Summary // subjects by name
	Notes   []string
}

// Places lists everything that exists, the chest first and each drawer before what is in it, as it is and as it would
// be after a change that was tried: both lists name the same.
func (st *Snapshot) Places(ctx context.Context, after *Snapshot) (was, becomes []access.Place, err error) {
	return st.places(ctx, after, func(_, _ *Drawer) bool { return true })
}

// Differing is Places without the drawers in which nothing can be another than before: no grant that is on one side only reaches them,
// and nothing is said otherwise about them or what is in them.
func (st *Snapshot) Differing(ctx context.Context, after *Snapshot) (was, becomes []access.Place, err error) {
	scopes := access.DifferingScopes(st.Policy, after.Policy)
	tried := map[string]bool{}
	for k := range after.tried {
		tried[k.drawer] = true
	}
	return st.places(ctx, after, func(d, twin *Drawer) bool {
		return twin != d || tried[d.Row.ID] || slices.ContainsFunc(scopes, func(s access.Scope) bool { return s.Touches(d.Row.Name) })
	})
}

// places lists what exists, of the drawers that look asks for.
func (st *Snapshot) places(ctx context.Context, after *Snapshot, look func(d, twin *Drawer) bool) (was, becomes []access.Place, err error) {
	was, becomes = []access.Place{{}}, []access.Place{{}}
	for _, d := range st.Drawers() {
		if err := ctx.Err(); err != nil {
			return nil, nil, err
		}
		twin := after.DrawerByID(d.Row.ID)
		if twin == nil || !look(d, twin) {
			continue
		}
		here := access.Place{Target: access.Target{Names: []string{d.Row.Name}, Labels: d.Labels}}
		there := here
		there.Labels = twin.Labels
		was, becomes = append(was, here), append(becomes, there)
		changed := twin != d
		err := st.All(d, func(it *Item) {
			other := after.tried[itemKey{d.Row.ID, it.Row.Name}]
			switch {
			case other != nil:
			case changed:
				other, _ = newItem(twin, store.Shelved{Item: it.Row}) // its labels were readable a moment ago
			default:
				other = it
			}
			was, becomes = append(was, it.place(d)), append(becomes, other.place(twin))
		})
		if err != nil {
			return nil, nil, err
		}
	}
	return was, becomes, nil
}

func (it *Item) place(d *Drawer) access.Place {
	return access.Place{Target: it.Target(d), Approval: it.ApprovalOf(d)}
}

// ApprovalOf says whose reads of an item need a second person; empty for nobody's.
func (it *Item) ApprovalOf(d *Drawer) string {
	if it == nil || !it.Approval {
		return ""
	}
	return d.Row.ApprovalOf
}

// ApprovalLoosened reports whether a drawer's rule about approval asks for less than before.
func ApprovalLoosened(before, after entity.Drawer) bool {
	kept := strings.Fields(after.ApprovalItems)
	gone := slices.ContainsFunc(strings.Fields(before.ApprovalItems), func(item string) bool {
		return !slices.Contains(kept, item) && !slices.Contains(kept, "*")
	})
	return gone || ApprovalLess(before.ApprovalOf, after.ApprovalOf) && before.ApprovalItems != ""
}

// ApprovalLess reports whether fewer people's reads need a second person than before.
func ApprovalLess(before, after string) bool {
	return before != after && before != "" && (after == "" || before == policytext.OfEveryone)
}

// Compare says what differs between two states of access that have the same drawers and items.
func (st *Snapshot) Compare(ctx context.Context, after *Snapshot, now time.Time) (d Difference, err error) {
	was, becomes, err := st.Differing(ctx, after)
	if err != nil {
		return d, err
	}
	changes := access.Compare(st.Policy, after.Policy, was, becomes, now)
	d.Changes = access.Summarise(changes, becomes)
	for i := range d.Changes {
		d.Changes[i].Subject = SubjectOf(after.Identity(d.Changes[i].Subject))
	}
	slices.SortStableFunc(d.Changes, func(x, y access.Summary) int { return cmp.Compare(x.Subject, y.Subject) })
	return d, nil
}

// Widens reports whether a change of the state lets the caller, or an app that they own, do more than before: by their
// grants, which may also be about what does not exist yet, or by labels and rules of what does.
func (st *Snapshot) Widens(ctx context.Context, c Caller, after *Snapshot, now time.Time) (bool, error) {
	before, becomes := access.Policy{}.Draft(), access.Policy{}.Draft()
	for _, id := range st.own(c, after) {
		had, has := st.Policy.Of(id), after.Policy.Of(id)
		before.Replace(id, had)
		becomes.Replace(id, has)
		if access.Wider(had, has) {
			return true, nil
		}
	}
	was, places, err := st.Differing(ctx, after)
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(access.Compare(before.Policy, becomes.Policy, was, places, now), func(change access.Change) bool {
		return change.Gained != 0 || change.Altered != 0 && st.Loosens(change, after)
	}), nil
}

// Loosens reports whether other terms may be wider ones because of what is said about the target: it has other labels,
// and so other grants reach it, or it needed a second person before and does not afterwards.
func (st *Snapshot) Loosens(change access.Change, after *Snapshot) bool {
	if before := st.Target(change.Target.Names...); before.Labels.String() != change.Target.Labels.String() {
		return true
	}
	if len(change.Target.Names) != 2 {
		return false
	}
	drawer, name := change.Target.Names[0], change.Target.Names[1]
	before, becomes := st.approvalOf(drawer, name), after.approvalOf(drawer, name)
	return before != becomes && (becomes == "" || before == policytext.OfEveryone)
}

func (st *Snapshot) approvalOf(drawer, name string) string {
	it, _ := st.Find(st.Drawer(drawer), name) // that it can be read was seen when it was compared
	return it.ApprovalOf(st.Drawer(drawer))
}
