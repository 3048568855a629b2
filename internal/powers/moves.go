package powers

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// move tries one step on a state. It returns the state afterwards, or says that the rules forbid the step.
type move func(state) (next state, step Step, ok bool)

// moves lists the steps to try: everything that the service lets a person who manages access do, applied to everybody and everything
// that can play a part.
func (s *search) moves(who entity.Identity, letting bool) (list []move) {
	list = append(list, s.registerPerson, s.registerApp(madeUpApp, ""))
	if other := s.bystander(who); other != "" {
		list = append(list, s.registerApp(givenApp, other))
	}
	s.made = len(list)
	list = append(list, s.confirm(madeUpPerson))
	takers := []string{who.ID, madeUpPerson, madeUpApp, givenApp}
	if letting {
		takers = append(takers, somebody)
	}
	tried := map[string]bool{who.ID: true}
	for _, row := range slices.Concat(s.owned(who), s.acted[who.ID], s.useful, s.expected) {
		if !tried[row.ID] {
			tried[row.ID] = true
			list = append(list, s.issue(row.ID))
			takers = append(takers, row.ID)
			if row.Kind == reference.App {
				list = append(list, s.own(row.ID, who.ID), s.own(row.ID, madeUpPerson))
				if letting {
					list = append(list, s.own(row.ID, somebody))
				}
			}
			if row.State != chest.Active {
				list = append(list, s.restore(row.ID))
			}
		}
	}
	role := access.SmallestRole(s.start.AllRoles(), s.action).Name
	for _, id := range takers {
		list = append(list, s.give(id, role))
		if s.action != access.GrantAccess {
			list = append(list, s.give(id, "gatekeeper"))
		}
		for _, team := range s.teams {
			list = append(list, s.join(team.ID, id))
		}
		if s.approval {
			list = append(list, s.agree(id))
		}
	}
	for _, g := range s.denials {
		list = append(list, s.end(g.ID))
		for _, m := range s.start.MembershipsOf(who.ID) {
			list = append(list, s.leave(m.Team, who.ID))
		}
	}
	for _, row := range s.start.CustomRoles() {
		list = append(list, s.widenRole(row.Name))
	}
	for _, labels := range s.labels {
		list = append(list, s.relabel(labels))
	}
	return append(list, s.lift)
}

// owned lists some of the apps that somebody owns, directly or through a team, and that have no useful access yet.
func (s *search) owned(who entity.Identity) (list []entity.Identity) {
	for _, owner := range append(s.start.TeamsOf(who.ID), chest.SubjectOf(who)) {
		for _, app := range s.start.OwnedBy(owner) {
			if app.Kind == reference.App && len(list) < alikeTried && s.powersOf(s.start, app) == "" {
				list = append(list, app)
			}
		}
	}
	return list
}

// toHold reports whether it is useful to give this identity something: the person whose paths are searched acts as it, or could from
// here, or it is the one who is to gain access.
func (s *search) toHold(x state, id string) bool {
	if id == somebody || slices.Contains(x.hands, id) {
		return true
	}
	_, _, takes := s.issue(id)(x)
	return takes
}

// bystander is an uninvolved person, in whose name something can be registered.
func (s *search) bystander(who entity.Identity) (subject string) {
	s.start.Identities(reference.Person+":", func(name string, row entity.Identity) bool {
		if row.Kind == reference.Person && row.ID != who.ID && row.State == chest.Active {
			subject = name
		}
		return subject == "" && row.Kind == reference.Person
	})
	return subject
}

// first finds an identity that the person whose paths are searched can act as, and that may do the action.
func (x state) first(may func(row entity.Identity, c chest.Caller) bool) (by entity.Identity, found bool) {
	for _, id := range x.hands {
		row := x.st.Identity(id)
		if row.State == chest.Active && may(row, as(row)) {
			return row, true
		}
	}
	return by, false
}

func (s *search) registers(x state, row entity.Identity) bool {
	return s.may(x.st, row, access.Register)
}

func (s *search) registerPerson(x state) (next state, step Step, ok bool) {
	by, ok := x.first(func(row entity.Identity, _ chest.Caller) bool { return s.registers(x, row) })
	if !ok {
		return x, step, false
	}
	made := entity.Identity{ID: madeUpPerson, Kind: reference.Person, Name: "made-up", State: chest.Active, Password: "x",
		CreatedBy: chest.SubjectOf(by)}
	next, ok = x.with(store.RowChange{After: Coded(x.st, as(by), made, s.now)})
	return next.holding(madeUpPerson), Step{chest.SubjectOf(by), "registers a person who does not exist, and enrols as them"}, ok
}

func (s *search) registerApp(id, owner string) move {
	return func(x state) (next state, step Step, ok bool) {
		by, ok := x.first(func(row entity.Identity, _ chest.Caller) bool { return s.registers(x, row) })
		if !ok {
			return x, step, false
		}
		name := chest.SubjectOf(by)
		next, ok = x.with(store.RowChange{After: entity.Identity{ID: id, Kind: reference.App, Name: strings.ReplaceAll(id, "_", "-"),
			Owner: owner,
			State: chest.Active, CreatedBy: name}}, store.RowChange{After: newCredential(id, name)})
		words := "registers an app, without an owner, and keeps its secret"
		if owner != "" {
			words = "registers an app of which somebody else is the owner, and keeps its secret"
		}
		return next.holding(id), Step{name, words}, ok
	}
}

func newCredential(of, by string) entity.Credential {
	return entity.Credential{ID: "cr_way_" + of, Identity: of, Kind: "appsecret", Hash: []byte("way " + of), CreatedBy: by}
}

// issue is the step of issuing a credential of an identity and then acting as it.
func (s *search) issue(of string) move {
	return func(x state) (next state, step Step, ok bool) {
		row := x.st.Identity(of)
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			owner := row.Kind == reference.App && x.st.Owns(c, row)
			return (owner || s.registers(x, p)) && MayIssue(x.st, c, row, s.now).None()
		})
		if !ok || slices.Contains(x.hands, of) || row.Kind == reference.Team {
			return x, step, false
		}
		rows := []store.RowChange{{After: newCredential(of, chest.SubjectOf(by))}}
		if row.Kind == reference.Person {
			after := Coded(x.st, as(by), row, s.now)
			after.Password = "y"
			rows = []store.RowChange{{Before: row, After: after}}
		}
		next, ok = x.with(rows...)
		return next.holding(of), Step{chest.SubjectOf(by), "issues a credential of " + chest.SubjectOf(row) + ", and acts as it"}, ok
	}
}

// own makes somebody the owner of an app.
func (s *search) own(of, owner string) move {
	return func(x state) (next state, step Step, ok bool) {
		row, heir := x.st.Identity(of), x.st.Identity(owner)
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			return s.registers(x, p) && MayLetAct(x.st, c, row, owner, s.now).None()
		})
		if !ok || heir.ID == "" || row.Owner == chest.SubjectOf(heir) {
			return x, step, false
		}
		after := row
		after.Owner = chest.SubjectOf(heir)
		next, ok = x.with(store.RowChange{Before: row, After: after})
		return next, Step{chest.SubjectOf(by), "makes " + called(heir) + " the owner of " + chest.SubjectOf(row)}, ok
	}
}

// called is how a step names somebody.
func called(row entity.Identity) string {
	switch row.ID {
	case madeUpPerson:
		return "the person who does not exist"
	case madeUpApp, givenApp:
		return "the app that they registered"
	case somebody:
		return "somebody else"
	}
	return chest.SubjectOf(row)
}

func (s *search) confirm(id string) move {
	return func(x state) (next state, step Step, ok bool) {
		row := x.st.Identity(id)
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			return s.registers(x, p) && MayConfirm(x.st, c, row).None()
		})
		if !ok || !row.Unconfirmed {
			return x, step, false
		}
		after := row
		after.Unconfirmed = false
		next, ok = x.with(store.RowChange{Before: row, After: after})
		return next, Step{chest.SubjectOf(by), "confirms " + called(row)}, ok
	}
}

func (s *search) restore(id string) move {
	return func(x state) (next state, step Step, ok bool) {
		row := x.st.Identity(id)
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			return s.registers(x, p) && MayRestore(x.st, c, row, s.now).None()
		})
		if !ok || row.State != chest.Suspended {
			return x, step, false
		}
		after := row
		after.State = chest.Active
		next, ok = x.with(store.RowChange{Before: row, After: after})
		return next, Step{chest.SubjectOf(by), "brings back " + called(row)}, ok
	}
}

// give is the step of granting somebody a role on the target.
func (s *search) give(to, role string) move {
	return func(x state) (next state, step Step, ok bool) {
		row := x.st.Identity(to)
		grant := entity.Grant{ID: "gr_way_" + to + role, Subject: to, Effect: string(access.Allow), Role: role, Scope: s.scope.String()}
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			return s.gives(x.st, p) && MayGive(x.st, c, to, grant, s.now).None()
		})
		if !ok || row.ID == "" || !s.toHold(x, to) {
			return x, step, false
		}
		next, ok = x.with(store.RowChange{After: grant})
		return next, Step{chest.SubjectOf(by), "gives " + called(row) + " the role " + role}, ok
	}
}

func (s *search) join(team, member string) move {
	return func(x state) (next state, step Step, ok bool) {
		t, row := x.st.Identity(team), x.st.Identity(member)
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			return s.registers(x, p) && MayJoin(x.st, c, t, row, s.now).None()
		})
		if _, is := x.st.Member(team, member); !ok || is || row.ID == "" || row.Kind == reference.Team || !s.toHold(x, member) {
			return x, step, false
		}
		next, ok = x.with(store.RowChange{After: entity.Member{ID: team + "/" + member, Team: team, Identity: member}})
		return next, Step{chest.SubjectOf(by), "puts " + called(row) + " into " + chest.SubjectOf(t)}, ok
	}
}

func (s *search) leave(team, member string) move {
	return func(x state) (next state, step Step, ok bool) {
		t, row := x.st.Identity(team), x.st.Identity(member)
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			return s.registers(x, p) && MayLeave(x.st, c, t, row, s.now).None()
		})
		m, is := x.st.Member(team, member)
		if !ok || !is {
			return x, step, false
		}
		next, ok = x.with(store.RowChange{Before: m})
		return next, Step{chest.SubjectOf(by), "takes " + called(row) + " out of " + chest.SubjectOf(t)}, ok
	}
}

// end ends a grant that denies.
func (s *search) end(id string) move {
	return func(x state) (next state, step Step, ok bool) {
		row := x.st.Grant(id)
		scope, err := access.ParseScope(row.Scope)
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			return x.st.Policy.DecideScope(p.ID, access.GrantAccess, scope, c.Context(s.now)).Allowed && MayEnd(x.st, c, row).None()
		})
		if !ok || err != nil || row.EndedAt != 0 {
			return x, step, false
		}
		after := row
		after.EndedAt = chest.Micros(s.now)
		next, ok = x.with(store.RowChange{Before: row, After: after})
		return next, Step{chest.SubjectOf(by), "ends " + id + ", which denies it to " + called(x.st.Identity(row.Subject))}, ok
	}
}

// agree is the step in which a second person approves a read, where the drawer's rules require that.
func (s *search) agree(to string) move {
	return func(x state) (next state, step Step, ok bool) {
		spot := x.st.At(s.names...)
		row := x.st.Identity(to)
		if spot.Item == nil || spot.Item.ApprovalOf(spot.Home) == "" || row.ID == "" || !s.toHold(x, to) {
			return x, step, false
		}
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			return s.gives(x.st, p) && MayAgree(x.st, c, to, to).None()
		})
		if !ok {
			return x, step, false
		}
		next, ok = x.with(store.RowChange{After: entity.Request{ID: "rq_way_" + to, Kind: chest.RequestRead, Asker: to, Subject: to,
			Action: s.action.String(), Target: strings.Join(s.names, "/"), TargetID: spot.Item.Row.ID, State: chest.RequestAllowed,
			AnsweredAt: chest.Micros(s.now), Until: chest.Micros(s.now.Add(time.Hour))}})
		return next, Step{chest.SubjectOf(by), "agrees that " + called(row) + " reads it"}, ok
	}
}

// lift is the step of removing the rule that requires a second person: one person tries it, and another agrees.
func (s *search) lift(x state) (next state, step Step, ok bool) {
	spot := x.st.At(s.names...)
	if spot.Item == nil || spot.Item.ApprovalOf(spot.Home) == "" {
		return x, step, false
	}
	changes := func(p entity.Identity) bool { return s.may(x.st, p, access.ChangeRules, spot.Home.Row.Name) }
	after := spot.Home.Row
	after.ApprovalItems, after.ApprovalOf = "", ""
	lifted, ok := x.with(store.RowChange{Before: spot.Home.Row, After: after})
	if !ok {
		return x, step, false
	}
	by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
		_, second := x.first(func(other entity.Identity, agreeing chest.Caller) bool {
			return other.ID != p.ID && changes(other) && MayAgree(x.st, agreeing, p.ID, p.ID).None()
		})
		return changes(p) && s.gives(x.st, p) && (second || !x.st.Holds(chest.RuleLift)) && !s.widens(x, c, lifted)
	})
	return lifted, Step{chest.SubjectOf(by), "lifts the rule that a second person agrees, and agrees to that"}, ok
}

// relabel is the step of giving the item labels that make a scope select it.
func (s *search) relabel(labels string) move {
	return func(x state) (next state, step Step, ok bool) {
		spot := x.st.At(s.names...)
		if spot.Item == nil || spot.Item.Row.Labels == labels {
			return x, step, false
		}
		after := spot.Item.Row
		after.Labels = labels
		next, ok = x.with(store.RowChange{Before: spot.Item.Row, After: after})
		if !ok {
			return x, step, false
		}
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			return s.may(x.st, p, access.ChangeItem, s.names...) && s.gives(x.st, p) && !s.widens(x, c, next)
		})
		return next, Step{chest.SubjectOf(by), "labels it " + labels}, ok
	}
}

func (s *search) widens(x state, c chest.Caller, after state) bool {
	if x.st.IsSteward(c, s.now) || !x.st.Holds(chest.RuleOwn) {
		return false
	}
	own, err := x.st.Widens(s.ctx, c, after.st, s.now)
	return own || err != nil
}

// widenRole is the step of adding the action to a custom role.
func (s *search) widenRole(name string) move {
	return func(x state) (next state, step Step, ok bool) {
		row, known := x.st.CustomRole(name)
		if !known || slices.Contains(strings.Fields(row.Actions), s.action.String()) {
			return x, step, false
		}
		after := row
		after.Actions += " " + s.action.String()
		next, ok = x.with(store.RowChange{Before: row, After: after})
		if !ok {
			return x, step, false
		}
		by, ok := x.first(func(p entity.Identity, c chest.Caller) bool {
			return x.st.Policy.DecideScope(p.ID, access.GrantAccess, chest.Everything, c.Context(s.now)).Allowed && !s.widens(x, c, next)
		})
		return next, Step{chest.SubjectOf(by), fmt.Sprintf("puts %s into the role %s", s.action, name)}, ok
	}
}
