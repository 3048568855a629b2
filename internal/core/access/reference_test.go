package access

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"tansu/internal/core/reference"
)

// plain is a grant as somebody would write it down, and naive is the decision as somebody would explain it: slow, and
// obviously right. They share nothing with the engine.
type plain struct {
	deny, needsReason bool
	actions           map[string]bool
	scope             string
	label             string // "tier=database"; empty for any
	endsIn            int    // hours from now; 0 for never
	networks, via     []string
	days              string // "" for always, else like "mon" with from and to hours in UTC
	from, to          int
}

type question struct {
	action, target, addr, via, reason string
	labels                            string // "team=ticketing,tier=database"
	unapproved                        bool   // a second person has to agree and has not
	now                               time.Time
}

func naive(grants []plain, q question) (allowed bool, denied bool) {
	for _, g := range grants {
		if !g.fits(q) {
			continue
		}
		if g.deny {
			denied = true
		} else {
			allowed = true
		}
	}
	return allowed && !denied && !q.unapproved, denied
}

func (g plain) fits(q question) bool {
	if !g.actions[q.action] || !selects(strings.Split(g.scope, "/"), strings.Split(q.target, "/")) {
		return false
	}
	if g.label != "" && !strings.Contains(","+q.labels+",", ","+g.label+",") {
		return false
	}
	if g.endsIn != 0 && g.endsIn < 0 || g.needsReason && q.reason == "" {
		return false
	}
	if len(g.networks) > 0 {
		in := false
		for _, network := range g.networks { // "10.1." stands for 10.1.0.0/16, a whole address for itself
			in = in || strings.HasPrefix(q.addr, network)
		}
		if !in {
			return false
		}
	}
	if len(g.via) > 0 && !strings.Contains(" "+strings.Join(g.via, " ")+" ", " "+q.via+" ") {
		return false
	}
	if g.days != "" {
		in := false
		for start := -1; start <= 0; start++ { // a span that began today or yesterday
			day := time.Date(q.now.Year(), q.now.Month(), q.now.Day()+start, 0, 0, 0, 0, time.UTC)
			if strings.ToLower(day.Format("Mon")) != g.days {
				continue
			}
			begin, end := day.Add(time.Duration(g.from)*time.Hour), day.Add(time.Duration(g.to)*time.Hour)
			if g.to <= g.from {
				end = end.Add(24 * time.Hour)
			}
			in = in || !q.now.Before(begin) && q.now.Before(end)
		}
		if !in {
			return false
		}
	}
	return true
}

// selects tries every way to give the segments of a target to those of a pattern.
func selects(pattern, target []string) bool {
	if len(pattern) == 0 {
		return len(target) == 0
	}
	if pattern[0] == "**" {
		for n := 0; n <= len(target); n++ {
			if selects(pattern[1:], target[n:]) {
				return true
			}
		}
		return false
	}
	return len(target) > 0 && glob(pattern[0], target[0]) && selects(pattern[1:], target[1:])
}

func glob(pattern, text string) bool {
	if pattern == "" {
		return text == ""
	}
	if pattern[0] == '*' {
		for n := 0; n <= len(text); n++ {
			if glob(pattern[1:], text[n:]) {
				return true
			}
		}
		return false
	}
	return text != "" && pattern[0] == text[0] && glob(pattern[1:], text[1:])
}

// engine makes the grant that the engine uses of a plain one.
func (g plain) engine(t testing.TB, id string, now time.Time) Grant {
	t.Helper()
	text := g.scope
	if g.label != "" {
		text += "[" + g.label + "]"
	}
	scope, err := ParseScope(text)
	if err != nil {
		t.Fatal(err)
	}
	made := Grant{ID: id, Subject: "me", Effect: Allow, Scope: scope, Conditions: Conditions{Via: g.via, NeedsReason: g.needsReason}}
	if g.deny {
		made.Effect = Deny
	}
	for name := range g.actions {
		action, _ := ParseAction(name)
		made.Role.Actions |= action
	}
	if g.endsIn != 0 {
		made.End = now.Add(time.Duration(g.endsIn) * time.Hour)
	}
	var networks []string
	for _, network := range g.networks {
		if strings.HasSuffix(network, ".") {
			network += "0.0/16"
		}
		networks = append(networks, network)
	}
	if made.Conditions.Networks, err = ParseNetworks(networks); err != nil {
		t.Fatal(err)
	}
	if g.days != "" {
		text := fmt.Sprintf("%s %02d:00-%02d:00 UTC", g.days, g.from, g.to)
		if made.Conditions.Hours, err = ParseHours(text, time.LoadLocation); err != nil {
			t.Fatal(err)
		}
	}
	return made
}

const cases = 1_000_000

// A million random questions: the engine and the naive reading agree, whatever the order of the grants, and the
// explanation is of the same decision.
func TestEngineAgreesWithTheNaiveReading(t *testing.T) {
	total := cases
	if testing.Short() {
		total = cases / 20
	}
	random := rand.New(rand.NewPCG(20261123, 7))
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	some := func(list ...string) (chosen []string) {
		for _, element := range list {
			if random.IntN(6) == 0 {
				chosen = append(chosen, element)
			}
		}
		return chosen
	}
	start := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	counts := map[string]int{}
	for done := 0; done < total; {
		now := start.Add(time.Duration(random.IntN(7*24*60)) * time.Minute)
		var grants []plain
		var policy []Grant
		for n := range random.IntN(6) {
			g := plain{deny: random.IntN(5) == 0, needsReason: random.IntN(8) == 0,
				scope:  pick("**", "a/**", "a/*", "*/b", "a*/b*", "ab/b", "**/b", "*"),
				endsIn: []int{0, 1, 5, -1}[random.IntN(4)], networks: some("10.1.", "192.0.2.7"), via: some("app_token", "console_session"),
				label:   pick("", "", "", "team=ticketing", "tier=database"),
				actions: map[string]bool{pick("list", "read_value"): true, pick("list", "read_value", "grant"): true}}
			if random.IntN(4) == 0 {
				g.days, g.from, g.to = pick("mon", "wed", "sun"), random.IntN(24), random.IntN(24)
				if g.from == g.to {
					g.to = 24
				}
			}
			grants = append(grants, g)
			policy = append(policy, g.engine(t, fmt.Sprintf("g%d", n), now))
		}
		for range 10 {
			q := question{action: pick("list", "read_value", "grant"), target: pick("a", "a/b", "ab/b", "ab/ba", "b/b", "a/c"),
				addr: pick("10.1.2.3", "10.2.3.4", "192.0.2.7", "192.0.2.8"), via: pick("app_token", "person_token", "console_session"),
				reason: pick("", "why"), now: now,
				labels: pick("", "team=ticketing", "team=rota,tier=database", "team=ticketing,tier=database"), unapproved: random.IntN(5) == 0}
			labels, err := reference.ParseLabels(q.labels)
			if err != nil {
				t.Fatal(err)
			}
			action, _ := ParseAction(q.action)
			request := Request{Subject: "me", Action: action, Target: Target{Names: strings.Split(q.target, "/"), Labels: labels},
				Context: Context{Now: now, Addr: netip.MustParseAddr(q.addr), Via: q.via, Reason: q.reason}}
			if q.unapproved {
				request.Approval = Missing
			}
			got := PolicyOf(map[string][]Grant{"me": policy}).Decide(request)
			allowed, denied := naive(grants, q)
			if got.Allowed != allowed || (got.Reason == Denied) != denied {
				t.Fatalf("%+v\n%+v\nthe engine says %+v, the naive reading says allowed %v, denied %v", grants, q, got, allowed, denied)
			}
			counts[fmt.Sprint(got.Allowed, got.Reason)]++
			if done%10 == 0 {
				random.Shuffle(len(policy), func(i, j int) { policy[i], policy[j] = policy[j], policy[i] })
				again, considered := PolicyOf(map[string][]Grant{"me": policy}).Explain(request)
				if again != got || len(considered) != len(policy) || len(considered) > 0 &&
					(got.Allowed || denied || got.Reason == ApprovalNeeded) != (considered[0].Miss == "") {
					t.Fatalf("in another order, explained: %+v with %+v, first %+v", again, considered, got)
				}
			}
			done++
		}
	}
	if len(counts) < 6 {
		t.Errorf("too few kinds of answers were compared: %v", counts)
	}
	t.Logf("%d cases: %v", total, counts)
}

func TestConditionsSayWhatFailed(t *testing.T) {
	load := time.LoadLocation
	hours, err := ParseHours("mon-fri 08:00-18:00 Europe/Lisbon", load)
	if err != nil {
		t.Fatal(err)
	}
	networks, err := ParseNetworks([]string{"10.1.0.0/16", "2001:db8::1"})
	if err != nil {
		t.Fatal(err)
	}
	monday := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	good := Context{Now: monday, Addr: netip.MustParseAddr("::ffff:10.1.2.3"), Via: "app_token", Reason: "ticket 7"}
	for _, c := range []struct {
		name string
		edit func(*Context)
		want string
	}{
		{"all hold", func(*Context) {}, ""},
		{"another network", func(c *Context) { c.Addr = netip.MustParseAddr("10.2.3.4") },
			"network 10.1.0.0/16, 2001:db8::1/128 does not contain 10.2.3.4"},
		{"no address", func(c *Context) { c.Addr = netip.Addr{} }, "network 10.1.0.0/16, 2001:db8::1/128 does not contain invalid IP"},
		{"in the evening", func(c *Context) { c.Now = monday.Add(9 * time.Hour) },
			"hours mon-fri 08:00-18:00 Europe/Lisbon do not contain Mon 18:00"},
		{"on Sunday", func(c *Context) { c.Now = monday.Add(-24 * time.Hour) },
			"hours mon-fri 08:00-18:00 Europe/Lisbon do not contain Sun 09:00"},
		{"another proof", func(c *Context) { c.Via = "person_token" }, "it is for those who proved themselves by app_token, not by person_token"},
		{"no reason", func(c *Context) { c.Reason = "" }, "it needs a stated reason"},
	} {
		ctx := good
		c.edit(&ctx)
		g := grant(t, "g", Allow, "consumer", "d/**", time.Time{})
		g.Conditions = Conditions{Networks: networks, Hours: hours, Via: []string{"app_token"}, NeedsReason: true}
		decision, considered := PolicyOf(map[string][]Grant{"me": {g}}).Explain(Request{Subject: "me", Action: ReadValue,
			Target: target("d", "i"), Context: ctx})
		if considered[0].Reason != c.want || decision.Allowed != (c.want == "") {
			t.Errorf("%s: got %q, %+v", c.name, considered[0].Reason, decision)
		}
		if c.want != "" && decision.Reason != ConditionFailed && c.name != "no reason" {
			t.Errorf("%s: the reason is %s", c.name, decision.Reason)
		}
	}
}

func TestHoursFollowTheClockOfTheirZone(t *testing.T) {
	for _, c := range []struct {
		hours, at string
		want      bool
	}{
		{"mon-fri 08:00-18:00 Europe/Lisbon", "2026-07-06T07:30:00Z", true}, // summer time: 08:30 there
		{"mon-fri 08:00-18:00 Europe/Lisbon", "2026-12-07T07:30:00Z", false},
		{"sat,sun 22:00-06:00 UTC", "2026-11-23T05:59:00Z", true}, // Monday morning belongs to Sunday night
		{"sat,sun 22:00-06:00 UTC", "2026-11-23T06:00:00Z", false},
		{"sat,sun 22:00-06:00 UTC", "2026-11-23T22:30:00Z", false},
		{"fri-mon 00:00-24:00 UTC", "2026-11-23T23:59:00Z", true},
		{"fri-mon 00:00-24:00 UTC", "2026-11-24T00:00:00Z", false},
		{"daily 12:00-12:01 UTC", "2026-11-24T12:00:59Z", true},
	} {
		hours, err := ParseHours(c.hours, time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		at, err := time.Parse(time.RFC3339, c.at)
		if err != nil {
			t.Fatal(err)
		}
		if got := hours.Contain(at); got != c.want {
			t.Errorf("%s at %s: got %v", c.hours, c.at, got)
		}
	}
}

func TestConditionsThatMeanNothingAreRefused(t *testing.T) {
	for _, text := range []string{"mon", "mon 08:00-18:00", "mon 08:00-18:00 Atlantis/Port", "day 08:00-18:00 UTC", "mon 8:00-18:00 UTC",
		"mon 08:00-08:00 UTC",
		"mon 25:00-26:00 UTC", "mon 08:60-18:00 UTC", "mon 24:00-02:00 UTC", "mon- 08:00-18:00 UTC", "mon 08:00-18:00 Local",
		"mon  08:00-18:00 UTC"} {
		if hours, err := ParseHours(text, time.LoadLocation); err == nil {
			t.Errorf("%q is taken for %s", text, hours)
		}
	}
	for _, text := range []string{"", "10.1.0.0", "10.1.0.1/16", "10.1.0.0/33", "ferries.example", "fe80::1%eth0", "::ffff:10.0.0.0/104"} {
		if networks, err := ParseNetworks([]string{text}); err == nil && text != "10.1.0.0" {
			t.Errorf("%q is taken for %v", text, networks)
		}
	}
}

func FuzzParseHours(f *testing.F) {
	for _, seed := range []string{"mon-fri 08:00-18:00 UTC", "daily 22:00-06:00 UTC", "sat,sun,tue-thu 00:00-24:00 UTC"} {
		f.Add(seed)
	}
	utc := func(string) (*time.Location, error) { return time.UTC, nil }
	f.Fuzz(func(t *testing.T, text string) {
		hours, err := ParseHours(text, utc)
		if err != nil || text == "" {
			return
		}
		if again, err := ParseHours(hours.String(), utc); err != nil || again != hours {
			t.Fatalf("%q reads as %+v; written as %q it reads as %+v, %v", text, hours, hours.String(), again, err)
		}
	})
}

func TestHoldersAndActionsLookPastConditionsOnly(t *testing.T) {
	conditional := grant(t, "c", Allow, "consumer", "d/**", now.Add(time.Hour))
	conditional.Conditions.NeedsReason = true
	unless := grant(t, "u", Deny, "consumer", "d/i", now.Add(time.Hour))
	unless.Conditions.NeedsReason = true
	policy := PolicyOf(map[string][]Grant{
		"with-condition": {conditional},
		"unless":         {grant(t, "g", Allow, "consumer", "**", time.Time{}), unless},
		"denied":         {grant(t, "g", Allow, "consumer", "**", time.Time{}), grant(t, "n", Deny, "consumer", "d/**", time.Time{})},
		"ended":          {grant(t, "g", Allow, "consumer", "**", now)},
		"elsewhere":      {grant(t, "g", Allow, "consumer", "e/**", time.Time{})},
		"manager":        {grant(t, "g", Allow, "curator", "**", time.Time{})},
	})
	var names []string
	for _, h := range policy.Holders(ReadValue, target("d", "i"), now) {
		names = append(names, fmt.Sprint(h.Subject, len(h.Grants), len(h.Unless)))
	}
	if got := strings.Join(names, " "); got != "unless1 1 with-condition1 0" {
		t.Errorf("got %s", got)
	}
	for subject, want := range map[string]Action{"with-condition": ReadValue | UseKey, "denied": 0, "ended": 0, "unless": ReadValue | UseKey} {
		if got := policy.Actions(subject, target("d", "i"), now); got != want {
			t.Errorf("%s: got %s, want %s", subject, got, want)
		}
	}
}

// The benchmarks behind the figures decision_ns_g10, decision_ns_g100k and who_can_ms_100k of make bench.

func benchPolicy(b *testing.B, others int) (Policy, Request) {
	policy := Policy{}.Draft()
	scopes := []string{"ticketing-prod/**", "harbour-*/radio-*", "crew-rota-prod/rota-db-password", "fuel-*/**"}
	add := func(subject, id string, n int) {
		scope, err := ParseScope(scopes[n%len(scopes)])
		if err != nil {
			b.Fatal(err)
		}
		role, _ := FindRole([]string{"viewer", "consumer"}[n%2])
		policy.Add(Grant{ID: id, Subject: subject, Effect: Allow, Role: role, Scope: scope, End: now.Add(time.Hour)})
	}
	for n := range 10 {
		add("me", fmt.Sprintf("me%d", n), n)
	}
	for n := range others {
		add(fmt.Sprintf("other%d", n/10), fmt.Sprintf("g%d", n), n)
	}
	return policy.Policy, Request{Subject: "me", Action: ReadValue, Target: target("fuel-billing-prod", "ledger"), Context: at(now)}
}

func BenchmarkDecisionG10(b *testing.B)   { benchDecision(b, 0) }
func BenchmarkDecisionG100k(b *testing.B) { benchDecision(b, 100_000) }

func benchDecision(b *testing.B, others int) {
	policy, request := benchPolicy(b, others)
	for b.Loop() {
		if !policy.Decide(request).Allowed {
			b.Fatal("refused")
		}
	}
}

func BenchmarkWhoCan100k(b *testing.B) {
	policy, request := benchPolicy(b, 100_000)
	for b.Loop() {
		if len(policy.Holders(ReadValue, request.Target, now)) == 0 {
			b.Fatal("nobody")
		}
	}
}
