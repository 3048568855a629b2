// Package lifecycle decides which version of an item may be served at a moment.
//
// A version has a window: it may be served from not_before, included, to not_after, excluded (the X.509 terms, with an
// exclusive end so that two windows can follow each other without a gap). The current version is the newest one whose
// window contains the moment. Nothing here reads a clock: the moment is a parameter.
package lifecycle

import (
	"fmt"
	"time"
)

// Window is when a version may be served; a zero time leaves that side open.
type Window struct {
	NotBefore time.Time
	NotAfter  time.Time
}

// Check reports whether the window makes sense.
func (w Window) Check() error {
	if !w.NotBefore.IsZero() && !w.NotAfter.IsZero() && !w.NotBefore.Before(w.NotAfter) {
		return fmt.Errorf("not_before %s is not before not_after %s", w.NotBefore.Format(time.RFC3339), w.NotAfter.Format(time.RFC3339))
	}
	return nil
}

// State is what a version is at a moment, in one word.
type State string

// The states.
const (
	Usable  State = "usable"  // the window contains the moment
	Waiting State = "waiting" // not_before is still to come
	Ended   State = "ended"   // not_after has passed
)

// At returns the state at a moment.
func (w Window) At(now time.Time) State {
	if !w.NotBefore.IsZero() && now.Before(w.NotBefore) {
		return Waiting
	}
	if !w.NotAfter.IsZero() && !now.Before(w.NotAfter) {
		return Ended
	}
	return Usable
}

// Versions are the windows of an item's versions, oldest first: element i belongs to version i+1.
type Versions []Window

// NotServable says why no version, or not the one asked for, can be served.
type NotServable struct {
	Version int       // the version asked for, or the newest when none was; 0 when the item has none
	State   State     // Waiting or Ended
	When    time.Time // when it becomes or stopped being usable
}

func (e *NotServable) Error() string {
	if e.Version == 0 {
		return "the item has no version yet"
	}
	if e.State == Waiting {
		return fmt.Sprintf("version %d may not be served before %s", e.Version, e.When.UTC().Format(time.RFC3339))
	}
	return fmt.Sprintf("version %d may not be served since %s", e.Version, e.When.UTC().Format(time.RFC3339))
}

// Current returns the number of the newest usable version, or a [*NotServable] about the newest one.
func (vs Versions) Current(now time.Time) (int, error) {
	for i := len(vs) - 1; i >= 0; i-- {
		if vs[i].At(now) == Usable {
			return i + 1, nil
		}
	}
	if len(vs) == 0 {
		return 0, &NotServable{}
	}
	return 0, vs.Servable(len(vs), now)
}

// Servable returns nil when the numbered version may be served, or a [*NotServable]. The number is 1 to len(vs).
func (vs Versions) Servable(number int, now time.Time) error {
	window := vs[number-1]
	switch state := window.At(now); state {
	case Waiting:
		return &NotServable{Version: number, State: state, When: window.NotBefore}
	case Ended:
		return &NotServable{Version: number, State: state, When: window.NotAfter}
	default:
		return nil
	}
}
