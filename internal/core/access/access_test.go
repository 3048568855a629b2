package access

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"tansu/internal/core/reference"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func target(names ...string) Target { return Target{Names: names} }

func at(t time.Time) Context { return Context{Now: t} }

func grant(t *testing.T, id string, effect Effect, role, scope string, end time.Time) Grant {
	t.Helper()
	r, known := FindRole(role)
	p, err := ParseScope(scope)
	if err != nil || !known {
		t.Fatalf("grant %s: %v", id, err)
	}
	return Grant{ID: id, Subject: "me", Effect: effect, Role: r, Scope: p, End: end}
}

func TestDecide(t *testing.T) {
	later, earlier := now.Add(time.Hour), now.Add(-time.Hour)
	read := func(names ...string) Request {
		return Request{Subject: "me", Action: ReadValue, Target: target(names...), Context: at(now)}
	}
	for _, c := range []struct {
		name    string
		grants  []Grant
		request Request
		want    Decision
	}{
		{"without a grant the answer is no", nil, read("d", "i"), Decision{Reason: NoGrant}},
		{"a grant on the scope allows", []Grant{grant(t, "g", Allow, "consumer", "d/**", later)}, read("d", "i"),
			Decision{Allowed: true, Grant: "g", Ends: later}},
		{"a grant on another scope does not", []Grant{grant(t, "g", Allow, "consumer", "e/**", later)}, read("d", "i"),
			Decision{Reason: NoGrant}},
		{"a role without the action does not", []Grant{grant(t, "g", Allow, "curator", "**", later)}, read("d", "i"), Decision{Reason: NoGrant}},
		{"an ended grant does not, and is named", []Grant{grant(t, "g", Allow, "consumer", "**", earlier)}, read("d", "i"),
			Decision{Grant: "g", Reason: GrantEnded, Miss: MissEnd}},
		{"a grant ends at its end, not after it", []Grant{grant(t, "g", Allow, "consumer", "**", now)}, read("d", "i"),
			Decision{Grant: "g", Reason: GrantEnded, Miss: MissEnd}},
		{"a grant without end allows", []Grant{grant(t, "g", Allow, "consumer", "**", time.Time{})}, read("d", "i"),
			Decision{Allowed: true, Grant: "g"}},
		{"it is allowed until the last grant ends", []Grant{grant(t, "g", Allow, "consumer", "d/**", later),
			grant(t, "h", Allow, "consumer", "**", later.Add(time.Hour))}, read("d", "i"),
			Decision{Allowed: true, Grant: "g", Ends: later.Add(time.Hour)}},
		{"and for ever by one without an end", []Grant{grant(t, "g", Allow, "consumer", "d/**", time.Time{}),
			grant(t, "h", Allow, "consumer", "**", later)}, read("d", "i"), Decision{Allowed: true, Grant: "g"}},
		{"a denial wins", []Grant{grant(t, "g", Allow, "consumer", "**", later), grant(t, "n", Deny, "consumer", "d/i", later)}, read("d", "i"),
			Decision{Grant: "n", Reason: Denied}},
		{"a denial elsewhere does not", []Grant{grant(t, "g", Allow, "consumer", "**", later), grant(t, "n", Deny, "consumer", "e/**", later)},
			read("d", "i"), Decision{Allowed: true, Grant: "g", Ends: later}},
		{"an ended denial does not", []Grant{grant(t, "g", Allow, "consumer", "**", later), grant(t, "n", Deny, "consumer", "**", earlier)},
			read("d", "i"), Decision{Allowed: true, Grant: "g", Ends: later}},
		{"a grant of somebody else does not", []Grant{grant(t, "g", Allow, "consumer", "**", later)},
			Request{Subject: "you", Action: ReadValue, Target: target("d", "i"), Context: at(now)}, Decision{Reason: NoGrant}},
		{"a drawer's grant is not one on the chest", []Grant{grant(t, "g", Allow, "operator", "d/**", later)},
			Request{Subject: "me", Action: Operate, Context: at(now)}, Decision{Reason: NoGrant}},
	} {
		policy := Policy{}.Draft()
		for _, g := range c.grants {
			policy.Add(g)
		}
		if got := policy.Decide(c.request); got != c.want {
			t.Errorf("%s: got %+v, want %+v", c.name, got, c.want)
		}
	}
}

func TestOrderOfGrantsDoesNotMatter(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	scopes := []string{"**", "d/**", "d/i", "e/**", "*/i"}
	roles := []string{"consumer", "viewer", "curator"}
	effects := []Effect{Allow, Allow, Deny}
	ends := []time.Time{{}, now.Add(time.Hour), now.Add(-time.Hour)}
	for range 2000 {
		var grants []Grant
		for range 1 + random.IntN(5) {
			grants = append(grants, grant(t, "g", effects[random.IntN(3)], roles[random.IntN(3)], scopes[random.IntN(5)], ends[random.IntN(3)]))
		}
		request := Request{Subject: "me", Action: []Action{List, ReadValue}[random.IntN(2)], Target: target("d", "i"), Context: at(now)}
		first := PolicyOf(map[string][]Grant{"me": grants}).Decide(request)
		for range 4 {
			random.Shuffle(len(grants), func(i, j int) { grants[i], grants[j] = grants[j], grants[i] })
			if got := PolicyOf(map[string][]Grant{"me": grants}).Decide(request); got.Allowed != first.Allowed || got.Reason != first.Reason {
				t.Fatalf("%+v in another order: got %+v, first %+v", grants, got, first)
			}
		}
	}
}

func TestManagingNeverImpliesReading(t *testing.T) {
	for _, role := range Roles {
		reads := role.Actions&(ReadValue|UseKey) != 0
		if reads != (role.Name == "consumer") {
			t.Errorf("role %s reads values: %v", role.Name, reads)
		}
	}
}

func TestRemoveTakesOneGrantAway(t *testing.T) {
	policy := Policy{}.Draft()
	policy.Add(grant(t, "a", Allow, "consumer", "d/**", time.Time{}))
	policy.Add(grant(t, "b", Allow, "consumer", "e/**", time.Time{}))
	policy.Remove("me", "a")
	if policy.Decide(Request{Subject: "me", Action: ReadValue, Target: target("d", "i"), Context: at(now)}).Allowed {
		t.Error("a removed grant still allows")
	}
	if !policy.Decide(Request{Subject: "me", Action: ReadValue, Target: target("e", "i"), Context: at(now)}).Allowed {
		t.Error("the other grant is gone too")
	}
}

func TestDelegationStaysInsideOnesOwnScope(t *testing.T) {
	gate := grant(t, "g", Allow, "gatekeeper", "ticketing-*/**", now.Add(time.Hour))
	denied := grant(t, "n", Deny, "gatekeeper", "*-prod/**", now.Add(time.Hour))
	for _, c := range []struct {
		grants []Grant
		scope  string
		want   Decision
	}{
		{[]Grant{gate}, "ticketing-prod/**", Decision{Allowed: true, Grant: "g"}},
		{[]Grant{gate}, "ticketing-*/db-*", Decision{Allowed: true, Grant: "g"}},
		{[]Grant{gate}, "**", Decision{Reason: NoGrant}},
		{[]Grant{gate}, "*/db-password", Decision{Reason: NoGrant}},
		{[]Grant{gate, denied}, "ticketing-staging/**", Decision{Allowed: true, Grant: "g"}},
		{[]Grant{gate, denied}, "ticketing-*/**", Decision{Grant: "n", Reason: Denied}},
	} {
		p, err := ParseScope(c.scope)
		if err != nil {
			t.Fatal(err)
		}
		if got := PolicyOf(map[string][]Grant{"me": c.grants}).DecideScope("me", GrantAccess, p, at(now)); got != c.want {
			t.Errorf("%s: got %+v, want %+v", c.scope, got, c.want)
		}
	}
}

func TestADrawerIsSeenThroughOneItem(t *testing.T) {
	policy := PolicyOf(map[string][]Grant{"me": {grant(t, "g", Allow, "viewer", "crew-rota-prod/rota-*", now.Add(time.Hour))}}).Draft()
	if !policy.Reaches("me", List, target("crew-rota-prod"), at(now)).Allowed {
		t.Error("the drawer of a listed item is not seen")
	}
	if policy.Reaches("me", List, target("fuel-billing-prod"), at(now)).Allowed {
		t.Error("another drawer is seen")
	}
	policy.Add(grant(t, "n", Deny, "viewer", "crew-rota-prod/**", now.Add(time.Hour)))
	if policy.Reaches("me", List, target("crew-rota-prod"), at(now)).Allowed {
		t.Error("a drawer that is denied whole is seen")
	}
}

func TestSmallestRoleIsTheNarrowest(t *testing.T) {
	for action, want := range map[Action]string{ReadValue: "consumer", List: "viewer", WriteVersion: "depositor", ReadTrail: "auditor",
		Operate: "operator", GrantAccess: "gatekeeper", Shred: "curator"} {
		if got := SmallestRole(Roles, action).Name; got != want {
			t.Errorf("%s: got %s, want %s", action, got, want)
		}
		if parsed, known := ParseAction(action.String()); !known || parsed != action {
			t.Errorf("%s does not read back", action)
		}
	}
}

// The cost of a decision must not grow with other subjects' grants: a look-up by subject is all that they add.
func TestDecideAllocatesNothing(t *testing.T) {
	policy := PolicyOf(map[string][]Grant{"me": {grant(t, "g", Allow, "consumer", "d/**", time.Time{})}})
	place := target("d", "i")
	if n := testing.AllocsPerRun(100, func() {
		policy.Decide(Request{Subject: "me", Action: ReadValue, Target: place, Context: at(now)})
	}); n != 0 {
		t.Errorf("a decision allocates %v times", n)
	}
}

// Being a steward excuses from rules about one's own access: it counts only while the grant of it is in force, with its
// conditions.
func TestARoleIsHeldOnlyWhileItsGrantIsInForce(t *testing.T) {
	conditional := grant(t, "c", Allow, Steward, "**", time.Time{})
	conditional.Conditions.NeedsReason = true
	for _, c := range []struct {
		name  string
		grant Grant
		ctx   Context
		want  bool
	}{
		{"in force", grant(t, "g", Allow, Steward, "**", time.Time{}), at(now), true},
		{"ended", grant(t, "g", Allow, Steward, "**", now), at(now), false},
		{"another role", grant(t, "g", Allow, "curator", "**", time.Time{}), at(now), false},
		{"denied", grant(t, "g", Deny, Steward, "**", time.Time{}), at(now), false},
		{"its condition does not hold", conditional, at(now), false},
		{"its condition holds", conditional, Context{Now: now, Reason: "handing over"}, true},
	} {
		if got := (PolicyOf(map[string][]Grant{"me": {c.grant}})).Holds("me", Steward, c.ctx); got != c.want {
			t.Errorf("%s: got %v", c.name, got)
		}
	}
}

// What was made of a policy stays as it is, whatever is made of it later, and two drafts of one do not see each other.
func TestDraftsShareNothingThatChanges(t *testing.T) {
	ids := func(p Policy) (list string) {
		for _, g := range p.Of("app:a") {
			list += g.ID
		}
		return list
	}
	grant := func(id string) Grant { return Grant{ID: id, Subject: "app:a"} }
	first := PolicyOf(nil).Draft()
	for _, id := range []string{"1", "2", "3", "4", "5"} { // enough for a list with room at its end
		first.Add(grant(id))
	}
	before := first.Policy
	one, other := before.Draft(), before.Draft()
	one.Add(grant("a"))
	other.Add(grant("b"))
	other.Remove("app:a", "2")
	one.Add(grant("c"))
	other.Add(grant("d"))
	for _, c := range []struct {
		policy Policy
		want   string
	}{{before, "12345"}, {one.Policy, "12345ac"}, {other.Policy, "1345bd"}} {
		if got := ids(c.policy); got != c.want {
			t.Errorf("got %s, want %s", got, c.want)
		}
	}
}

// What is asked of the grants that touch a drawer has the same answer as what is asked of all of them.
func TestGrantsByDrawerDecideTheSame(t *testing.T) {
	var grants []Grant
	for n, scope := range []string{"**", "quay-*/**", "quay-1/**", "quay-1/berth-*", "quay-2", "*/berth-1", "quay-1/**[line=north]",
		"*-1/berth-2", "pier/**", "**[line=south]"} {
		parsed, err := ParseScope(scope)
		if err != nil {
			t.Fatal(scope, err)
		}
		effect := Allow
		if n%4 == 3 {
			effect = Deny
		}
		grants = append(grants, Grant{ID: fmt.Sprint(n), Subject: "app:a", Effect: effect, Scope: parsed, Role: Role{Actions: 1 << n}})
	}
	labels, err := reference.ParseLabels("line=north")
	if err != nil {
		t.Fatal(err)
	}
	for n := range grants { // with each of them missing once
		some := slices.Delete(slices.Clone(grants), n, n+1)
		policy, byDrawer := PolicyOf(map[string][]Grant{"app:a": some}), NewByDrawer(some)
		for _, drawer := range []string{"quay-1", "quay-2", "quay-10", "pier", "crane"} {
			for _, names := range [][]string{{drawer}, {drawer, "berth-1"}, {drawer, "berth-2"}, {drawer, "other"}} {
				for _, l := range []reference.Labels{nil, labels} {
					target, touching := Target{Names: names, Labels: l}, byDrawer.Touching(drawer)
					if got, want := ActionsOf(touching, target, time.Time{}), policy.Actions("app:a", target, time.Time{}); got != want {
						t.Errorf("%v %v: may %v, want %v", names, l, got, want)
					}
					if got, want := FirmOf(touching, target, time.Time{}), policy.Firm("app:a", target, time.Time{}); got != want {
						t.Errorf("%v %v: firmly %v, want %v", names, l, got, want)
					}
				}
			}
		}
	}
}
