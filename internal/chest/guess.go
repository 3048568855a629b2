package chest

import (
	"time"

	"tansu/internal/core/throttle"
)

// How many guesses at a value that the caller cannot read are allowed in an hour: by one caller about one item, by one caller about
// all items, and by all callers about one item. Every question that could confirm a guess counts here, so that nobody finds out a
// value by asking.
const (
	guessesOfOne  = 5
	guessesByOne  = 20
	guessesAtItem = 20
	guessesAtAll  = 60 // questions about all items at once, such as a report of what else holds an exposed value
	guessWindow   = time.Hour
)

// Guess counts a question whose answer tells whether an item that the caller may not read holds a certain value, and refuses it when
// there were too many. The item is an id; empty for a question about all items at once. A question that turns out not to be a guess is
// refunded ([Attempt.Refund]).
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
