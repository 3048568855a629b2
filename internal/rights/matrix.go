package rights

import (
	"cmp"
	"slices"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
)

// Matrix is who may do what in which drawer. Next is the last subject in it, after which the next page begins; empty at the end.
type Matrix struct {
	Drawers []string
	Rows    []MatrixRow
	Next    string
}

// MatrixRow is one person or app; its cells are in the order of the drawers.
type MatrixRow struct {
	Subject string
	State   string
	Cells   []MatrixCell
}

// MatrixCell is what a subject may do in a drawer, on the drawer or on anything in it.
type MatrixCell struct {
	Actions    []string
	Conditions []string // those of the actions that are only given under conditions or with approval
	Partial    []string // those that are not given on everything in the drawer
}

// Part selects a part of a matrix: what follows one subject, at most so many, and one drawer with those who may do something in it.
type Part struct {
	After  string
	Most   int    // 0 for no limit
	Drawer string // empty for all
}

// Matrix lists every person and app against every drawer on which the caller may grant or read the trail.
func (s *Rights) Matrix(c chest.Caller, part Part) (m Matrix, err error) {
	a, err := s.heart.AllowOverview(c, chest.OverIdentities)
	if err != nil {
		return m, err
	}
	a.Entry.Action, a.Entry.Detail = chest.AskAccess, "everybody, on every drawer"
	if part.Drawer != "" {
		a.Entry.Detail, a.Entry.Target = "everybody", part.Drawer
	}
	if err := m.fill(a, part); err != nil {
		return m, a.Fail(err)
	}
	return chest.Reply(a, m)
}

func (m *Matrix) fill(a *chest.Attempt, part Part) error {
	st, ctx := a.St, a.Caller.Context(a.Entry.At)
	var columns []*column
	for _, d := range st.Drawers() {
		name := d.Row.Name
		if part.Drawer != "" && part.Drawer != name {
			continue
		}
		if st.Decide(a.Caller.ID, access.GrantAccess, ctx, name).Allowed || st.Decide(a.Caller.ID, access.ReadTrail, ctx, name).Allowed {
			columns = append(columns, &column{st: st, d: d, now: a.Entry.At, target: access.Target{Names: []string{name}, Labels: d.Labels}})
			m.Drawers = append(m.Drawers, name)
		}
	}
	var problem error
	st.Identities(part.After, func(subject string, row entity.Identity) bool {
		if row.Kind == reference.Team {
			return true
		}
		if part.Most != 0 && len(m.Rows) == part.Most {
			m.Next = m.Rows[part.Most-1].Subject
			return false
		}
		r := MatrixRow{Subject: subject, State: row.State, Cells: make([]MatrixCell, len(columns))}
		grants := access.NewByDrawer(st.Policy.Of(row.ID))
		for i, col := range columns {
			if r.Cells[i], problem = col.cell(row, grants.Touching(col.d.Row.Name)); problem != nil {
				return false
			}
		}
		if part.Drawer == "" || slices.ContainsFunc(r.Cells, func(cell MatrixCell) bool { return len(cell.Actions) > 0 }) {
			m.Rows = append(m.Rows, r)
		}
		problem = a.Caller.Ctx().Err()
		return problem == nil
	})
	return problem
}

// column is a drawer in a matrix. Its items are read once, and only when some grant tells them apart.
type column struct {
	st     *chest.Snapshot
	d      *chest.Drawer
	now    time.Time
	target access.Target
	items  []*chest.Item
	read   bool
}

func (col *column) load() error {
	if col.read {
		return nil
	}
	col.read = true
	return col.st.All(col.d, func(it *chest.Item) { col.items = append(col.items, it) })
}

// cell is what somebody can do in the drawer by the grants that touch it.
func (col *column) cell(row entity.Identity, grants []access.Grant) (cell MatrixCell, err error) {
	if len(grants) == 0 {
		return cell, nil
	}
	// Whether one tells the items in it apart.
	apart := slices.ContainsFunc(grants, func(g access.Grant) bool { return !g.Scope.Whole(col.d.Row.Name) })
	some, firm := access.ActionsOf(grants, col.target, col.now), access.FirmOf(grants, col.target, col.now)
	all := some
	if apart || some&access.Yields != 0 && col.d.Row.ApprovalItems != "" {
		if err := col.load(); err != nil {
			return cell, err
		}
		for i, it := range col.items {
			target := it.Target(col.d)
			actions, sure := access.ActionsOf(grants, target, col.now), access.FirmOf(grants, target, col.now)
			if it.ApprovalFor(col.st, col.d, row.ID, access.ReadValue, col.now) != access.NotNeeded {
				sure &^= access.Yields
			}
			some |= actions
			firm |= sure
			if i == 0 {
				all = actions
			}
			all &= actions
		}
		if len(col.items) == 0 {
			all = some
		}
	}
	some &^= ofChest
	return MatrixCell{Actions: some.Names(), Conditions: (some &^ firm).Names(), Partial: (some &^ all).Names()}, nil
}

// byKind sorts findings: what is most telling first.
func byKind(x, y Finding) int {
	return cmp.Or(cmp.Compare(findingOrder[x.Kind], findingOrder[y.Kind]), cmp.Compare(x.Subject, y.Subject), cmp.Compare(x.Target, y.Target),
		cmp.Compare(x.Grant, y.Grant))
}
