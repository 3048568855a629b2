package powers

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Step is one thing on a way, by whom.
type Step struct{ By, Does string }

// Way is how somebody could come to it: the fewest steps that were found, the first one first.
type Way struct {
	Who   string   // who could
	Alike []string // others who could in the same way, because they have the same grants
	Steps []Step
}

// Paths are the ways to an action on a target: who may do it now, who could come to it alone, and who could let somebody else come to it.
type Paths struct {
	Now      []string // as subjects
	Alone    []Way
	Letting  []Way
	Searched int  // states that were looked at
	Cut      bool // somebody's states were too many to look at all of them
}

// mostStates bounds the states that are looked at for one who manages access, and mostSteps the steps of one way.
const (
	mostStates = 2000
	mostSteps  = 6
)

// Search finds the ways to an action on a drawer or an item. It tries what each identity that manages anything could do, step by step, by
// the rules that their acts are decided by, on trials of the snapshot: what is possible is not listed anywhere but follows from the
// rules. Conditions of grants are taken to hold. Some rules may be left out, to see what they are for.
func Search(ctx context.Context, st *chest.Snapshot, action access.Action, names []string, now time.Time, without ...chest.Rule) (p Paths,
	err error) {
	s := &search{ctx: ctx, action: action, names: names, now: now}
	start := st.Trial()
	start.Without(without...)
	s.start = start.Snapshot
	if s.scope, err = access.ParseScope(strings.Join(names, "/")); err != nil {
		return p, err
	}
	s.survey()
	for id := range s.doers {
		p.Now = append(p.Now, chest.SubjectOf(st.Identity(id)))
	}
	slices.Sort(p.Now)
	for _, class := range s.classes() {
		who := s.start.Identity(class[0])
		if !s.doers[who.ID] {
			if steps, found := s.find(who, false); found {
				p.Alone = append(p.Alone, wayOf(st, class, steps))
			}
		}
		if steps, found := s.find(who, true); found {
			p.Letting = append(p.Letting, wayOf(st, class, steps))
		}
		if err := ctx.Err(); err != nil {
			return p, err
		}
	}
	for _, list := range [][]Way{p.Alone, p.Letting} {
		slices.SortFunc(list, func(x, y Way) int {
			return cmp.Or(cmp.Compare(len(x.Steps), len(y.Steps)), cmp.Compare(x.Who, y.Who))
		})
	}
	p.Searched, p.Cut = s.looked, s.cut
	return p, nil
}

func wayOf(st *chest.Snapshot, class []string, steps []Step) Way {
	w := Way{Who: chest.SubjectOf(st.Identity(class[0])), Steps: steps}
	for _, id := range class[1:] {
		w.Alike = append(w.Alike, chest.SubjectOf(st.Identity(id)))
	}
	slices.Sort(w.Alike)
	return w
}

type search struct {
	ctx    context.Context
	start  *chest.Snapshot
	action access.Action
	names  []string
	scope  access.Scope
	now    time.Time

	doers    map[string]bool              // who may do it now, or could if they were active, agreed to, or not denied
	managers []entity.Identity            // who may do something to access, or act as somebody who may
	useful   []entity.Identity            // as whom it is of use to act: a few of each kind
	acted    map[string][]entity.Identity // by who can act as them, or could: a few of the apps as which it is of use to act
	expected []entity.Identity            // who may do nothing and has not enrolled yet: who registers could do it for them
	teams    []entity.Identity            // in which it is of use to be
	denials  []entity.Grant               // that reach the target
	approval bool                         // a second person is wanted
	labels   []string                     // by which scopes of useful grants would select the target
	made     int                          // how many moves, the first ones, make somebody up
	looked   int
	cut      bool
}

// as is a caller in whose favour all conditions are taken.
func as(row entity.Identity) chest.Caller {
	return chest.Caller{ID: row.ID, Name: chest.SubjectOf(row), Anyhow: true}
}

// may reports whether an identity that is active may do an action on the target, or on the chest.
func (s *search) may(st *chest.Snapshot, row entity.Identity, action access.Action, names ...string) bool {
	return row.State == chest.Active && st.Decide(row.ID, action, as(row).Context(s.now), names...).Allowed
}

func (s *search) gives(st *chest.Snapshot, row entity.Identity) bool {
	return row.State == chest.Active && st.Policy.DecideScope(row.ID, access.GrantAccess, s.scope, as(row).Context(s.now)).Allowed
}

// powersOf says what of use somebody may do, as a text that is the same for those who may do the same; empty for nothing.
func (s *search) powersOf(st *chest.Snapshot, row entity.Identity) (text string) {
	for word, can := range map[string]bool{
		"a": st.Policy.Could(row.ID, s.action, s.scope, s.now) != "", "b": s.gives(st, row), "c": s.may(st, row, access.Register),
		"d": s.may(st, row, access.ChangeRules, s.names...), "e": s.may(st, row, access.ChangeItem, s.names...),
	} {
		if can {
			text += word
		}
	}
	return sorted(text)
}

func sorted(text string) string {
	b := []byte(text)
	slices.Sort(b)
	return string(b)
}

// survey finds who and what can play a part.
func (s *search) survey() {
	s.doers, s.acted = map[string]bool{}, map[string][]entity.Identity{}
	st, manages, kinds := s.start, map[string]bool{}, map[string]int{}
	st.Policy.Subjects(func(id string, grants []access.Grant) bool {
		row := st.Identity(id)
		powers := s.powersOf(st, row)
		if powers == "" {
			return true
		}
		if s.may(st, row, s.action, s.names...) {
			s.doers[id] = true
		}
		for _, g := range grants {
			if text := g.Scope.Labels(); text != "" && g.Effect == access.Allow && g.Role.Actions&s.action != 0 && g.Scope.Intersects(s.scope) &&
				!slices.Contains(s.labels, text) && len(s.labels) < 4*alikeTried {
				s.labels = append(s.labels, text)
			}
		}
		if strings.ContainsAny(powers, "bcde") {
			manages[id] = true
		}
		for _, id := range s.actors(st, row) {
			manages[id] = true
			if len(s.acted[id]) < 2*alikeTried {
				s.acted[id] = append(s.acted[id], row)
			}
		}
		// those of one kind differ in nothing that a rule asks about; a few of each are enough
		if owner, known := st.IdentityOf(row.Owner); known && owner.Kind == reference.Person && !slices.ContainsFunc(s.useful,
			func(u entity.Identity) bool { return u.ID == owner.ID }) && kinds["owner"] < alikeTried {
			kinds["owner"]++
			s.useful = append(s.useful, owner)
		}
		kind := fmt.Sprint(row.Kind, row.State, row.Password != "", row.Unconfirmed, row.Owner == "", len(st.CredentialsOf(id)) > 0, powers)
		if kinds[kind]++; kinds[kind] <= alikeTried {
			s.useful = append(s.useful, row)
		}
		return s.ctx.Err() == nil
	})
	for _, id := range slices.Sorted(maps.Keys(manages)) {
		if row := st.Identity(id); row.State == chest.Active && row.Kind != reference.Team {
			s.managers = append(s.managers, row)
		}
	}
	st.Identities(reference.Person+":", func(_ string, row entity.Identity) bool {
		if row.Kind == reference.Person && row.Password == "" && row.State == chest.Active && len(st.Policy.Of(row.ID)) == 0 {
			s.expected = append(s.expected, row)
		}
		return row.Kind == reference.Person && len(s.expected) < alikeTried
	})
	st.Given(func(g entity.Grant) bool {
		if g.Effect == string(access.Deny) {
			if scope, err := access.ParseScope(g.Scope); err == nil && scope.Intersects(s.scope) {
				s.denials = append(s.denials, g)
			}
		}
		return true
	})
	spot := st.At(s.names...)
	s.approval = spot.Item.ApprovalOf(spot.Home) != ""
	st.Identities(reference.Team+":", func(_ string, row entity.Identity) bool {
		for _, g := range reaching(st, row.ID) {
			if g.Role.Actions&(s.action|access.GrantAccess|access.Register) != 0 && !g.Ended(s.now) && g.Scope.Intersects(s.scope) {
				s.teams = append(s.teams, row)
				return true
			}
		}
		return true
	})
}

// alikeTried is how many of those that are alike are tried.
const alikeTried = 2

// actors are those who can act as an app, or could by a credential that they issue: its owners, and whoever issued one.
func (s *search) actors(st *chest.Snapshot, row entity.Identity) (ids []string) {
	if row.Kind != reference.App {
		return nil
	}
	if owner, known := st.IdentityOf(row.Owner); known {
		ids = append(ids, st.Holders(owner.ID)...)
	}
	for _, cr := range st.CredentialsOf(row.ID) {
		if by, known := st.IdentityOf(cr.CreatedBy); known {
			ids = append(ids, by.ID)
		}
	}
	return ids
}

// classes puts those who manage together that have the same grants and nothing else of use: what one of them can do, all can.
func (s *search) classes() (list [][]string) {
	at := map[string]int{}
	for _, row := range s.managers {
		key := row.ID
		if len(s.acted[row.ID]) == 0 && len(s.start.MembershipsOf(row.ID)) == 0 {
			var grants []string
			for _, g := range s.start.Policy.Of(row.ID) {
				grants = append(grants, fmt.Sprint(g.Effect, g.Role.Name, g.Scope.String()))
			}
			slices.Sort(grants)
			key = fmt.Sprint(row.Kind, row.Unconfirmed, grants)
		}
		if n, known := at[key]; known {
			list[n] = append(list[n], row.ID)
			continue
		}
		at[key] = len(list)
		list = append(list, []string{row.ID})
	}
	return list
}

// state is what could have become of the chest, and as whom whoever began can act then.
type state struct {
	st    *chest.Snapshot
	hands []string // ids of identities
	moves []int    // that led to it
}

// Those who are made up on a way, and somebody else, who has nothing and is not whoever began it.
const (
	madeUpPerson = "id_made_up_person"
	madeUpApp    = "id_made_up_app"
	givenApp     = "id_made_up_app_of_another"
	somebody     = "id_somebody_else"
)

// begin is the state from which somebody begins: they can act as themselves, and as the apps of which they have issued a credential.
func (s *search) begin(who entity.Identity, letting bool) state {
	x := state{st: s.start, hands: []string{who.ID}}
	for _, row := range s.acted[who.ID] {
		issued := func(cr entity.Credential) bool { return cr.CreatedBy == chest.SubjectOf(who) }
		if row.ID != who.ID && row.Kind == reference.App && slices.ContainsFunc(s.start.CredentialsOf(row.ID), issued) {
			x.hands = append(x.hands, row.ID)
		}
	}
	if letting {
		x, _ = x.with(store.RowChange{After: entity.Identity{ID: somebody, Kind: reference.Person, Name: "somebody-else", State: chest.Active,
			Password: "x", CreatedBy: "init"}})
	}
	return x
}

// there reports whether it has been come to: by one as whom whoever began can act, or by somebody else.
func (s *search) there(x state, letting bool) bool {
	if !letting {
		return slices.ContainsFunc(x.hands, func(id string) bool { return s.may(x.st, x.st.Identity(id), s.action, s.names...) })
	}
	other := x.st.Identity(somebody)
	return s.may(x.st, other, s.action, s.names...) || slices.ContainsFunc(x.st.OwnedBy(chest.SubjectOf(other)),
		func(app entity.Identity) bool {
			return s.may(x.st, app, s.action, s.names...)
		})
}

// find looks for the fewest moves by which somebody comes to it, or lets somebody else come to it; breadth first.
func (s *search) find(who entity.Identity, letting bool) (steps []Step, found bool) {
	moves := s.moves(who, letting)
	queue, seen, looked := []state{s.begin(who, letting)}, map[string]bool{}, 0
	defer func() { s.looked += looked }()
	if !letting && s.there(queue[0], false) {
		return s.seen(queue[0]), true
	}
	for n, m := range moves[:s.made] { // that somebody is made up is in nobody's way: it need not be tried with and without
		if next, _, ok := m(queue[0]); ok {
			next.moves = append(queue[0].moves, n)
			queue[0] = next
		}
	}
	most := len(queue[0].moves) + mostSteps
	for len(queue) > 0 {
		x := queue[0]
		queue = queue[1:]
		for n, m := range moves {
			if slices.Contains(x.moves, n) || len(x.moves) == most {
				continue
			}
			key := fmt.Sprint(slices.Sorted(slices.Values(append(slices.Clone(x.moves), n))))
			if seen[key] {
				continue
			}
			next, _, ok := m(x)
			if !ok {
				continue
			}
			if looked++; looked > mostStates || s.ctx.Err() != nil {
				s.cut = true
				return nil, false
			}
			seen[key] = true
			next.moves = append(slices.Clone(x.moves), n)
			if s.there(next, letting) {
				return s.fewest(who, letting, moves, next.moves), true
			}
			queue = append(queue, next)
		}
	}
	return nil, false
}

// seen says of what somebody has issued a credential that may do it already.
func (s *search) seen(x state) (steps []Step) {
	for _, id := range x.hands[1:] {
		if row := x.st.Identity(id); s.may(x.st, row, s.action, s.names...) {
			steps = append(steps, Step{chest.SubjectOf(x.st.Identity(x.hands[0])), "has issued a credential of " + chest.SubjectOf(row) +
				", and could act as it with that"})
		}
	}
	return steps[:1]
}

// fewest leaves out of a way what it does not need, and says the rest.
func (s *search) fewest(who entity.Identity, letting bool, moves []move, way []int) []Step {
	for i := 0; i < len(way); {
		without := slices.Delete(slices.Clone(way), i, i+1)
		if _, ok := s.follow(who, letting, moves, without); ok {
			way = without
		} else {
			i++
		}
	}
	steps, _ := s.follow(who, letting, moves, way)
	return steps
}

func (s *search) follow(who entity.Identity, letting bool, moves []move, way []int) (steps []Step, ok bool) {
	x := s.begin(who, letting)
	for _, n := range way {
		next, step, ok := moves[n](x)
		if !ok {
			return nil, false
		}
		x, steps = next, append(steps, step)
	}
	return steps, s.there(x, letting)
}

// with is a state after a change, which is not possible if it is not ok.
func (x state) with(rows ...store.RowChange) (state, bool) {
	trial := x.st.Trial()
	err := trial.Apply(&store.Change{Rows: rows})
	return state{st: trial.Snapshot, hands: x.hands}, err == nil
}

// holding is a state in which whoever began can act as one more identity.
func (x state) holding(id string) state {
	x.hands = append(slices.Clone(x.hands), id)
	return x
}
