package httpapi_test

import (
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/server"
)

// The machine's clock is set back by two days: what had ended does not begin again, entries do not seem to have happened earlier than
// those before them, and it is said; also when the chest starts with such a clock.
func TestClockThatIsSetBackEndsNothingLess(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	secret, token := chest.App(t, "rota-sync", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	chest.Clock.Set(-2 * time.Hour) // two hours later the app's token has ended, and the steward's has not
	if code := readCode(chest.Client(t, token), "d/i"); code != "unauthenticated" {
		t.Fatalf("a token of two hours ago: %q", code)
	}
	check := func(when string) {
		t.Helper()
		if code := readCode(chest.Client(t, token), "d/i"); code != "unauthenticated" {
			t.Errorf("%s: a token that had ended is %q", when, code)
		}
		fresh, _, err := chest.Client(t, "").AppToken(ctx, "rota-sync", secret)
		if err != nil {
			t.Fatal(err)
		}
		if code := readCode(chest.Client(t, fresh), "d/i"); code != "" {
			t.Errorf("%s: a token of now is %q", when, code)
		}
		page := must[client.TrailPage](t)(chest.Client(t, chest.Steward).Trail(ctx, client.TrailFilter{Limit: 500}))
		for i, e := range page.Entries[1:] {
			if e.At.After(page.Entries[i].At) { // newest first
				t.Errorf("%s: entry %d is of %v, and entry %d of %v", when, e.Seq, e.At, page.Entries[i].Seq, page.Entries[i].At)
			}
		}
	}
	chest.Clock.Set(46 * time.Hour)
	check("set back")
	unusual := must[[]client.Unusual](t)(chest.Client(t, chest.Steward).Unusual(ctx, time.Time{}))
	if len(unusual) == 0 || unusual[0].Kind != "clock" || !strings.Contains(unusual[0].Detail, "set back by 48h") {
		t.Errorf("unusual is %+v", unusual)
	}
	if status := must[client.Status](t)(chest.Client(t, "").Status(ctx)); len(status.Problems) != 1 ||
		!strings.Contains(status.Problems[0].What, "clock") {
		t.Errorf("the status has %+v", status.Problems)
	}
	chest.Restart(t)
	check("started with a clock that is behind")
	if !strings.Contains(chest.Log.String(), "the machine's clock is behind what was recorded last") {
		t.Error("the log does not say that the clock is behind")
	}
	if err := chest.Reopen(t, func(o *server.Options) { o.TrustClock = true }); err != nil {
		t.Fatal(err)
	}
	if status := must[client.Status](t)(chest.Client(t, "").Status(ctx)); len(status.Problems) != 0 {
		t.Errorf("with a clock that is trusted the status has %+v", status.Problems)
	}
}
