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

// Way is one path by which somebody could gain access: the fewest steps that were found, in order.
type Way struct {
	Who   string   // who could
	Alike []string // others with the same grants, who could do the same
	Steps []Step
}

// Paths answers who could do an action on a target: who may do it now, who could gain it alone, and who could let somebody else gain it.
type Paths struct {
	Now      []string // as subjects
	Alone    []Way
	Letting  []Way
	Searched int  // states that were looked at
	Cut      bool // there were too many states to look at all of them, so paths may be missing
}

// mostStates limits the states that are looked at for one person who manages access; mostSteps limits the length of a path.
const (
	mostStates = 2000
	mostSteps  = 6
)

// Search finds the paths to an action on a drawer or an item. For each identity that manages anything it tries, step by step and on
// trial snapshots, whatever the service's own rules allow: possible attacks are not listed anywhere but follow from the rules. All
// conditions of grants are assumed to hold. Rules can be left out, which shows what each of them is for.
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
	managers []entity.Identity            // who may change access, or act as somebody who may
	useful   []entity.Identity            // identities that are worth acting as: a few of each kind
	acted    map[string][]entity.Identity // a few of the apps worth acting as, by the identity that can act as them or could
	expected []entity.Identity            // who has no access and has not enrolled yet: whoever registers people could enrol in their place
	teams    []entity.Identity            // in which it is of use to be
	denials  []entity.Grant               // that reach the target
	approval bool                         // a second person is wanted
	labels   []string                     // labels by which scopes of useful grants would select the target
	made     int                          // how many of the moves, the first ones, invent somebody
	looked   int
	cut      bool
}

// as is the caller for an identity, with all conditions assumed to hold.
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

// powersOf writes the useful rights of somebody as a text, equal for those with equal rights; empty for none.
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

// survey collects the people and things that can play a part in a path.
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
		// those of one kind differ in nothing that any rule looks at, so a few of each are enough
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

// alikeTried is how many identities of one kind are tried.
const alikeTried = 2

// actors lists who can act as an app: its owners, and whoever issued one of its credentials.
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

// classes groups people who manage access and have the same useful rights: what one of a group can do, all of it can.
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

// state is the chest as some steps would leave it, and the identities that the person whose paths are searched could then act as.
type state struct {
	st    *chest.Snapshot
	hands []string // ids of identities
	moves []int    // that led to it
}

// Identities that a path invents, and an uninvolved person without access.
const (
	madeUpPerson = "id_made_up_person"
	madeUpApp    = "id_made_up_app"
	givenApp     = "id_made_up_app_of_another"
	somebody     = "id_somebody_else"
)

// begin is somebody's first state: they can act as themselves, and as the apps of which they have issued a credential.
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

// there reports whether a state reaches the goal: an identity that the person can act as may do the action, or somebody else may.
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

// find searches breadth first for the fewest moves after which somebody may do the action themselves, or somebody else may.
func (s *search) find(who entity.Identity, letting bool) (steps []Step, found bool) {
	moves := s.moves(who, letting)
	queue, seen, looked := []state{s.begin(who, letting)}, map[string]bool{}, 0
	defer func() { s.looked += looked }()
	if !letting && s.there(queue[0], false) {
		return s.seen(queue[0]), true
	}
	for n, m := range moves[:s.made] { // an invented person changes nothing for the other moves, so one order is enough
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

// seen lists identities that may do the action already and of which the person has issued a credential.
func (s *search) seen(x state) (steps []Step) {
	for _, id := range x.hands[1:] {
		if row := x.st.Identity(id); s.may(x.st, row, s.action, s.names...) {
			steps = append(steps, Step{chest.SubjectOf(x.st.Identity(x.hands[0])), "has issued a credential of " + chest.SubjectOf(row) +
				", and could act as it with that"})
		}
	}
	return steps[:1]
}

// fewest drops the steps that a path does not need, and writes the others as sentences.
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

// with is the state after a change; not ok if the change is not possible.
func (x state) with(rows ...store.RowChange) (state, bool) {
	trial := x.st.Trial()
	err := trial.Apply(&store.Change{Rows: rows})
	return state{st: trial.Snapshot, hands: x.hands}, err == nil
}

// holding is the state in which the person can act as one more identity.
func (x state) holding(id string) state {
	x.hands = append(slices.Clone(x.hands), id)
	return x
}
