// Package ends is the room for what ends and for telling people before it does: what is due, and calendars of it.
package ends

import "tansu/internal/chest"

// Ends is the room. Its methods are safe for concurrent use.
type Ends struct{ heart *chest.Chest }

// New opens the room over a heart.
func New(heart *chest.Chest) *Ends { return &Ends{heart} }
