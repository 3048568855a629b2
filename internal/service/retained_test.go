package service_test

import (
	"runtime"
	"testing"
	"weak"

	"tansu/internal/chest"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/shelf"
)

// The index of the trail keeps entries for a while. They do not keep the snapshots that they were decided on: thousands of changes
// would be as many states of the chest in memory.
func TestEntriesDoNotKeepSnapshots(t *testing.T) {
	s, _, steward := open(t)
	ref := reference.Reference{Drawer: "d", Item: "i"}
	_, _, err := s.AddVersion(steward, ref, 0, shelf.NewVersion{Content: secretvalue.FromString("v")})
	must(t, err)
	old := weakSnapshot(s.Heart)
	_, err = s.Drawers(steward, "", 10) // recorded, and decided on it
	must(t, err)
	_, _, err = s.AddVersion(steward, ref, 0, shelf.NewVersion{Content: secretvalue.FromString("w")})
	must(t, err)
	runtime.GC()
	runtime.GC()
	if old.Value() != nil {
		t.Error("a snapshot is still in memory after another one has taken its place")
	}
}

func weakSnapshot(heart *chest.Chest) weak.Pointer[chest.Snapshot] {
	return weak.Make(heart.Attempt(chest.Caller{}, "test", "").St)
}
