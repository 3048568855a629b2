package service_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
	"tansu/internal/people"
	"tansu/internal/powers"
	"tansu/internal/rights"
	"tansu/internal/service"
	"tansu/internal/shelf"
	"tansu/internal/store"
)

// organisation fills a chest with people of many kinds of power over d/i, which app:ticket-api reads, and d/two, for which a second
// person is wanted.
func organisation(t *testing.T, s *service.Service, steward chest.Caller) {
	t.Helper()
	for _, r := range []rights.NewRole{{Name: "registrar", Actions: []string{"register"}}, {Name: "helper", Actions: []string{"list"}}} {
		_, _, err := s.AddRole(steward, r)
		must(t, err)
	}
	for _, name := range []string{"ticketing-lead", "front-desk", "security-duty", "security-night", "platform-oncall", "harbour-master",
		"rota-trainee"} {
		person(t, s, steward, name)
	}
	_, err := s.Register(steward, people.NewIdentity{Kind: "person", Name: "starts-monday"}) // and has not enrolled yet
	must(t, err)
	for _, name := range []string{"readers", "gatekeepers", "outer"} {
		_, err := s.Register(steward, people.NewIdentity{Kind: "team", Name: name})
		must(t, err)
	}
	lead := chest.Caller{}
	for a, owner := range map[string]string{"ticket-api": "ticketing-lead", "old-api": "security-duty", "bare-api": "security-night"} {
		_, err := s.Register(steward, people.NewIdentity{Kind: "app", Name: a, Owner: "person:" + owner, NoSecret: true})
		must(t, err)
	}
	session, err := s.SignIn(origin, "ticketing-lead", secretvalue.FromString("a password for tests"), "", people.ViaCLI)
	must(t, err)
	lead, err = s.Authenticate(origin, string(session.Token.Reveal()))
	must(t, err)
	_, err = s.IssueCredential(lead, "app:ticket-api", people.NewCredential{})
	must(t, err)
	_, _, err = s.CreateItem(steward, reference.Reference{Drawer: "d", Item: "two"}, shelf.NewItem{},
		shelf.NewVersion{Content: secretvalue.FromString("v")})
	must(t, err)
	d, err := s.Drawer(steward, "d", shelf.WithoutRetired, "", 1)
	must(t, err)
	_, err = s.ChangeDrawer(steward, "d", d.Revision, shelf.Described{Approval: &shelf.Approval{Items: []string{"two"}, Of: "everyone"}})
	must(t, err)
	for _, g := range []struct{ subject, role, scope, effect string }{
		{"person:front-desk", "registrar", "**", ""}, {"person:security-duty", "gatekeeper", "**", ""},
		{"person:security-night", "gatekeeper", "**", ""}, {"person:security-duty", "helper", "d/**", ""},
		{"person:platform-oncall", "consumer", "d/two", ""}, {"person:platform-oncall", "gatekeeper", "d/**", ""},
		{"app:ticket-api", "consumer", "d/i", ""}, {"app:old-api", "consumer", "d/i", ""},
		{"team:readers", "consumer", "d/i", ""}, {"team:gatekeepers", "gatekeeper", "**", ""},
		{"person:harbour-master", "gatekeeper", "d/**", ""}, {"person:harbour-master", "consumer", "d/i", ""},
		{"person:harbour-master", "consumer", "d/i", "deny"},
		{"person:rota-trainee", "consumer", "d/**[tier=database]", ""}, {"person:rota-trainee", "curator", "d/**", ""},
		{"person:rota-trainee", "gatekeeper", "d/**", ""},
	} {
		_, _, err := s.Give(steward, rights.NewGrant{Subject: g.subject, Role: g.role, Scope: g.scope, Effect: g.effect})
		must(t, err)
	}
	_, err = s.SetState(steward, "app:old-api", chest.Suspended)
	must(t, err)
}

func found(list []powers.Way) (who []string) {
	for _, w := range list {
		who = append(append(who, w.Who), w.Alike...)
	}
	slices.Sort(who)
	return who
}

func written(w powers.Way) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %v:", w.Who, w.Alike)
	for _, step := range w.Steps {
		fmt.Fprintf(&b, " %s %s;", step.By, step.Does)
	}
	return b.String()
}

// By the rules as they are, nobody comes to a value alone but a steward, who exists to appoint, and who issued what an app that reads it
// proves itself with.
// Each rule taken out, the search finds what it kept from happening.
func TestSearchFindsWhatEachRuleIsFor(t *testing.T) {
	s, _, steward := open(t)
	organisation(t, s, steward)
	st, err := s.Heart.Look()
	must(t, err)
	look := func(item string, without ...chest.Rule) powers.Paths {
		t.Helper()
		p, err := powers.Search(t.Context(), st, access.ReadValue, []string{"d", item}, time.Now(), without...)
		must(t, err)
		if p.Cut && len(without) == 0 {
			t.Errorf("%s: %d states were not all", item, p.Searched)
		}
		return p
	}
	one, two := look("i"), look("two")
	if got := found(one.Alone); !slices.Equal(got, []string{"person:ticketing-lead"}) { // and the steward reads it
		t.Errorf("alone: %v", one.Alone)
	}
	if got := found(one.Letting); !slices.Contains(got, "person:security-duty") || slices.Contains(got, "person:front-desk") {
		t.Errorf("letting: %v", one.Letting)
	}
	if got := found(two.Alone); !slices.Equal(got, []string{"person:steward"}) {
		t.Errorf("alone, where a second person is wanted: %v", two.Alone)
	}
	for _, rule := range chest.Rules {
		noticed := ""
		for item, before := range map[string]powers.Paths{"i": one, "two": two} {
			after := look(item, rule)
			for _, w := range after.Alone {
				if !slices.Contains(found(before.Alone), w.Who) {
					noticed = "alone: " + written(w)
				}
			}
			for _, w := range after.Letting {
				if !slices.Contains(found(before.Letting), w.Who) {
					noticed = "letting: " + written(w)
				}
			}
		}
		t.Logf("without %-9s %s", rule, noticed)
		// these stand behind others, which hold when they do not; the tests of the API try them one by one
		behind := []chest.Rule{chest.RuleLift, chest.RuleAppoint, chest.RuleEnrolled}
		if noticed == "" && !slices.Contains(behind, rule) {
			t.Errorf("without the rule %q nothing is possible that was not", rule)
		}
	}
}

// What is one's own by any way is what a plain closure over who owns, made, is in and issued what says, whatever the organisation.
func TestOwnIsTheClosureOfWhoActsThroughWhom(t *testing.T) {
	s, _, _ := open(t)
	start, err := s.Heart.Look()
	must(t, err)
	random := rand.New(rand.NewPCG(3, 14))
	for round := range 300 {
		rows, members, credentials := randomOrganisation(random)
		trial := start.Trial()
		change := &store.Change{}
		for _, row := range rows {
			change.Insert(row)
		}
		for _, m := range members {
			change.Insert(m)
		}
		for _, cr := range credentials {
			change.Insert(cr)
		}
		must(t, trial.Apply(change))
		behind := closure(rows, members, credentials)
		for _, c := range rows {
			for _, other := range rows {
				want := false
				for id := range behind[c.ID] {
					want = want || behind[other.ID][id]
				}
				if got := trial.Own(chest.Caller{ID: c.ID, Name: chest.SubjectOf(c)}, other.ID); got != want {
					t.Fatalf("round %d: that %s is %s's own is %v, and %v by the closure\n%+v\n%+v\n%+v", round, other.Name, c.Name, got, want, rows,
						members, credentials)
				}
			}
		}
	}
}

func randomOrganisation(random *rand.Rand) (rows []entity.Identity, members []entity.Member, credentials []entity.Credential) {
	kinds := []string{"person", "app", "app", "team"}
	for n := range 3 + random.IntN(6) {
		rows = append(rows, entity.Identity{ID: fmt.Sprintf("id_x%d", n), Kind: kinds[random.IntN(len(kinds))], Name: fmt.Sprintf("x%d", n),
			State: chest.Active})
	}
	any := func() entity.Identity { return rows[random.IntN(len(rows))] }
	for i := range rows {
		rows[i].CreatedBy = chest.SubjectOf(any())
		rows[i].Unconfirmed = rows[i].Kind == "person" && random.IntN(2) == 0
		if rows[i].Unconfirmed {
			rows[i].CodeBy = chest.SubjectOf(any())
		}
		if random.IntN(3) > 0 {
			rows[i].Owner = chest.SubjectOf(any())
		}
		if rows[i].Kind == "app" && random.IntN(2) == 0 {
			credentials = append(credentials, entity.Credential{ID: "cr_" + rows[i].ID, Identity: rows[i].ID, Hash: []byte(rows[i].ID),
				CreatedBy: chest.SubjectOf(any())})
		}
	}
	for range random.IntN(6) {
		team, member := any(), any()
		if team.Kind == "team" && member.Kind != "team" {
			members = append(members, entity.Member{ID: team.ID + "/" + member.ID, Team: team.ID, Identity: member.ID})
		}
	}
	return rows, members, credentials
}

// closure says who stands behind whom, by going on until nothing is added any more.
func closure(rows []entity.Identity, members []entity.Member, credentials []entity.Credential) map[string]map[string]bool {
	behind, byName := map[string]map[string]bool{}, map[string]string{}
	for _, row := range rows {
		behind[row.ID] = map[string]bool{row.ID: true}
		byName[chest.SubjectOf(row)] = row.ID
	}
	for again := true; again; {
		again = false
		through := func(id, other string) {
			for one := range behind[other] {
				again = again || !behind[id][one]
				behind[id][one] = true
			}
		}
		for _, row := range rows {
			switch {
			case row.Kind == "app" && row.Owner != "":
				through(row.ID, byName[row.Owner])
			case row.Kind == "app" || row.Unconfirmed:
				through(row.ID, byName[row.CreatedBy])
			}
			if row.Unconfirmed {
				through(row.ID, byName[row.CodeBy])
			}
		}
		for _, m := range members {
			through(m.Team, m.Identity)
		}
		for _, cr := range credentials {
			through(cr.Identity, byName[cr.CreatedBy])
		}
	}
	return behind
}
