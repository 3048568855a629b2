package shelf

import "tansu/internal/chest"

// lifting refuses to remove a rule that requires two people until a second person agrees: otherwise one of the two could get around
// the other. The id is that of the drawer or item with the rule.
func lifting(a *chest.Attempt, id, name string) error {
	return a.Seconded(chest.RequestLift, id, "this lifts a rule of "+name+" that asks for a second person, and so asks for one, too")
}
