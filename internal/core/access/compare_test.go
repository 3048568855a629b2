package access

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"tansu/internal/core/reference"
)

func places(t testing.TB, texts ...string) (list []Place) {
	t.Helper()
	for _, text := range texts {
		name, rest, _ := strings.Cut(text, "[")
		labels, err := reference.ParseLabels(strings.TrimSuffix(rest, "]"))
		if err != nil {
			t.Fatal(err)
		}
		place := Place{Target: Target{Labels: labels}}
		if name != "" {
			place.Names = strings.Split(name, "/")
		}
		list = append(list, place)
	}
	return list
}

// consumes is what the role consumer may do.
const consumes = "read_value,encrypt,decrypt,sign,verify"

func TestCompareSaysWhoGainsAndLosesWhat(t *testing.T) {
	later := now.Add(time.Hour)
	here := places(t, "", "d", "d/a", "d/b", "e", "e/a")
	consumer := grant(t, "1", Allow, "consumer", "d/**", later)
	reasoned := consumer
	reasoned.Conditions.NeedsReason = true
	labelled := grant(t, "2", Allow, "consumer", "**[tier=database]", later)
	for _, c := range []struct {
		name          string
		before, after []Grant
		was, becomes  []Place
		want          string
	}{
		{"the same under another id is no change", []Grant{consumer}, []Grant{grant(t, "9", Allow, "consumer", "d/**", later)}, here, here, ""},
		{"a grant more", nil, []Grant{consumer}, here, here, "gains " + consumes + " on d/**"},
		{"a grant less", []Grant{consumer}, nil, here, here, "loses " + consumes + " on d/**"},
		{"part of a drawer", nil, []Grant{grant(t, "1", Allow, "consumer", "*/a", later)}, here, here, "gains " + consumes + " on d/a e/a"},
		{"another condition", []Grant{consumer}, []Grant{reasoned}, here, here, "altered " + consumes + " on d/**"},
		{"a superfluous condition", []Grant{consumer, grant(t, "3", Allow, "consumer", "**", time.Time{})},
			[]Grant{reasoned, grant(t, "3", Allow, "consumer", "**", time.Time{})}, here, here, ""},
		{"a denial", []Grant{consumer}, []Grant{consumer, grant(t, "2", Deny, "consumer", "d/b", later)}, here, here,
			"loses " + consumes + " on d/b"},
		{"an ended grant counts for nothing", nil, []Grant{grant(t, "1", Allow, "consumer", "d/**", now)}, here, here, ""},
		{"a label that a scope asks for", []Grant{labelled}, []Grant{labelled}, here,
			places(t, "", "d", "d/a[tier=database]", "d/b", "e", "e/a"), "gains " + consumes + " on d/a"},
		{"a label that nothing asks for", []Grant{consumer}, []Grant{consumer}, here, places(t, "", "d", "d/a[team=x]", "d/b", "e", "e/a"), ""},
	} {
		changes := Compare(PolicyOf(map[string][]Grant{"me": c.before}), PolicyOf(map[string][]Grant{"me": c.after}), c.was, c.becomes, now)
		var got []string
		for _, s := range Summarise(changes, c.becomes) {
			for word, actions := range map[string]Action{"gains": s.Gained, "loses": s.Lost, "altered": s.Altered} {
				if actions != 0 {
					got = append(got, fmt.Sprintf("%s %s on %s", word, actions, strings.Join(s.Targets, " ")))
				}
			}
		}
		if text := strings.Join(got, "; "); text != c.want {
			t.Errorf("%s: got %q, want %q", c.name, text, c.want)
		}
	}
}

func TestCompareSeesApprovalsComeAndGo(t *testing.T) {
	policy := PolicyOf(map[string][]Grant{"me": {grant(t, "1", Allow, "consumer", "d/**", time.Time{})}})
	was, becomes := places(t, "d/a", "d/b"), places(t, "d/a", "d/b")
	becomes[0].Approval = "everyone"
	changes := Compare(policy, policy, was, becomes, now)
	if len(changes) != 1 || changes[0].Altered != ReadValue || changes[0].Target.String() != "d/a" {
		t.Errorf("got %+v", changes)
	}
}

// Whatever the two policies, what Compare says is what asking for every subject, target and action says.
func TestCompareAgreesWithAskingEverything(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 11))
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	subjects := []string{"x", "y", "z"}
	for range 3000 {
		var sides [2]Policy
		var targets [2][]Place
		for side := range sides {
			draft := Policy{}.Draft()
			for n := range random.IntN(8) {
				effect := Allow
				if random.IntN(4) == 0 {
					effect = Deny
				}
				g := grant(t, fmt.Sprint(n), effect, pick("viewer", "consumer", "gatekeeper"),
					pick("**", "d/**", "*/a", "d/a", "e*/**", "**[tier=x]", "d/**[tier=y]"), now.Add(time.Hour))
				g.Subject = subjects[random.IntN(3)]
				draft.Add(g)
			}
			sides[side] = draft.Policy
			tier := func() string { return pick("", "[tier=x]", "[tier=y]") }
			targets[side] = places(t, "", "d"+tier(), "d/a"+tier(), "d/b"+tier(), "e"+tier(), "e/a"+tier())
		}
		changes := Compare(sides[0], sides[1], targets[0], targets[1], now)
		for _, subject := range subjects {
			for i := range targets[0] {
				before, after := sides[0].Actions(subject, targets[0][i].Target, now), sides[1].Actions(subject, targets[1][i].Target, now)
				at := slices.IndexFunc(changes, func(c Change) bool { return c.Subject == subject && c.Target.String() == targets[1][i].String() })
				var change Change
				if at >= 0 {
					change = changes[at]
				}
				if change.Gained != after&^before || change.Lost != before&^after {
					t.Fatalf("%s on %s has %s and then %s; Compare says %+v\n%+v\n%+v", subject, targets[1][i], before, after, change, sides[0], sides[1])
				}
			}
		}
	}
}

func TestScopesReadBackAndSayWhatTheyCover(t *testing.T) {
	for _, c := range []struct {
		a, b               string
		covers, intersects bool
	}{
		{"**[tier=x]", "d/**[tier=x,team=y]", true, true},
		{"**[tier=x]", "d/**", false, true},
		{"**", "d/**[tier=x]", true, true},
		{"**[tier=x]", "**[tier=y]", false, false},
		{"d/**[tier=x]", "e/**[tier=x]", false, false},
	} {
		a, errA := ParseScope(c.a)
		b, errB := ParseScope(c.b)
		if errA != nil || errB != nil || a.String() != c.a {
			t.Fatalf("%s, %s: %v %v", c.a, c.b, errA, errB)
		}
		if a.Covers(b) != c.covers || a.Intersects(b) != c.intersects || b.Intersects(a) != c.intersects {
			t.Errorf("%s and %s: covers %v, intersects %v", c.a, c.b, a.Covers(b), a.Intersects(b))
		}
	}
	for _, text := range []string{"", "[tier=x]", "d/**[", "d/**[]", "d/**[tier]", "d/**[tier=]", "d/**[tier=x,tier=y]", "d/**[tier=x]y",
		"d/**[tier=x][team=y]", "d/**[Tier=x]"} {
		if scope, err := ParseScope(text); err == nil {
			t.Errorf("%q is taken for %s", text, scope)
		}
	}
}

func FuzzParseScope(f *testing.F) {
	for _, seed := range []string{"**", "d/a*[tier=x]", "ticketing-*/**[tier=x,team=y]"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		scope, err := ParseScope(text)
		if err != nil {
			return
		}
		if again, err := ParseScope(scope.String()); err != nil || again.String() != scope.String() || !scope.Covers(again) {
			t.Fatalf("%q reads as %s, which reads as %s, %v", text, scope, again, err)
		}
	})
}
