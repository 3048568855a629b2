package shelf

import "tansu/internal/chest"

// lifting refuses to lift a rule that two must agree to until a second person agrees to that: else one of the two could do without the
// other. The id is that of the drawer or the item that the rule is about.
func lifting(a *chest.Attempt, id, name string) error {
	return a.Seconded(chest.RequestLift, id, "this lifts a rule of "+name+" that asks for a second person, and so asks for one, too")
}
