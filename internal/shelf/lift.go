package shelf

import (
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/lifecycle"
)

// lifting refuses to lift a rule that two must agree to until a second person agrees to that: else one of the two could do without the
// other. The id is that of the drawer or the item that the rule is about.
func lifting(a *chest.Attempt, id, name string) error {
	return a.Seconded(chest.RequestLift, id, "this lifts a rule of "+name+" that asks for a second person, and so asks for one, too")
}

// scheduleLoosened reports whether something that two must agree to shred could be shredded by one, or by a rule that keeps fewer
// versions, under another schedule.
func scheduleLoosened(before, after lifecycle.Schedule, now time.Time) bool {
	for _, at := range []time.Time{now, before.From, after.From} {
		was, is := before.At(at), after.At(at)
		if !at.IsZero() && was.TwoToShred && (!is.TwoToShred || is.Keep != 0 && (was.Keep == 0 || is.Keep < was.Keep)) {
			return true
		}
	}
	return false
}
