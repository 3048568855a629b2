package chest

import (
	"time"

	"tansu/internal/core/throttle"
)

// How often in an hour it may be asked whether something that cannot be read is a certain value: by one about one item, by one about all
// of them, and by all about one item. Whatever the question is called and however the value gets there, it counts here, so that nobody
// finds a value out by asking.
const (
	guessesOfOne  = 5
	guessesByOne  = 20
	guessesAtItem = 20
	guessesAtAll  = 60 // questions about all items at once, such as a report of what else holds an exposed value
	guessWindow   = time.Hour
)

// Guess counts a question whose answer tells whether an item that the caller may not read holds a value; when there were too many, it is
// refused. The item is an id; empty for a question about all of them at once. What turns out to be no guess is given back
// ([Attempt.Refund]).
func (a *Attempt) Guess(item string) (limits []throttle.Limit, err error) {
	of := func(key string, most int) throttle.Limit {
		return throttle.Limit{Key: key, Most: most, Window: guessWindow}
	}
	if by := a.Caller.ID; item == "" {
		limits = []throttle.Limit{of("guess at all by "+by, guessesAtAll)}
	} else {
		limits = []throttle.Limit{of("guess by "+by, guessesByOne), of("guess by "+by+" at "+item, guessesOfOne),
			of("guess at "+item, guessesAtItem)}
		limits[2].Shared = true
	}
	return limits, a.Take(limits)
}
