package service_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/people"
	"tansu/internal/powers"
	"tansu/internal/rights"
	"tansu/internal/service"
	"tansu/internal/shelf"
)

// organisation fills a chest with people of many kinds of power over d/i, which app:ticket-api reads, and d/two, for which a second
// person is wanted.
func organisation(t *testing.T, s *service.Service, steward chest.Caller) {
	t.Helper()
	for _, r := range []rights.NewRole{{Name: "registrar", Actions: []string{"register"}}, {Name: "helper", Actions: []string{"list"}}} {
		_, _, err := s.AddRole(steward, r)
		must(t, err)
	}
	for _, name := range []string{"ticketing-lead", "front-desk", "security-duty", "security-night", "platform-oncall", "harbour-master"} {
		person(t, s, steward, name)
	}
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
