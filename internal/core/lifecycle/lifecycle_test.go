package lifecycle

import (
	"errors"
	"testing"
	"time"
)

var (
	noon   = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	before = noon.Add(-time.Hour)
	after  = noon.Add(time.Hour)
)

func TestWindowIncludesItsBeginAndNotItsEnd(t *testing.T) {
	for _, c := range []struct {
		name   string
		window Window
		want   State
	}{
		{"open on both sides", Window{}, Usable},
		{"begins now", Window{NotBefore: noon}, Usable},
		{"begins later", Window{NotBefore: after}, Waiting},
		{"ends now", Window{NotAfter: noon}, Ended},
		{"ends later", Window{NotBefore: before, NotAfter: after}, Usable},
		{"has ended", Window{NotAfter: before}, Ended},
	} {
		if got := c.window.At(noon); got != c.want {
			t.Errorf("%s: got %s, want %s", c.name, got, c.want)
		}
	}
	if err := (Window{NotBefore: noon, NotAfter: noon}).Check(); err == nil {
		t.Error("an empty window is allowed")
	}
}

func TestCurrentIsTheNewestUsableVersion(t *testing.T) {
	for _, c := range []struct {
		name     string
		versions Versions
		want     int
		problem  *NotServable
	}{
		{"of two open ones the newer", Versions{{}, {}}, 2, nil},
		{"a staged one is passed over", Versions{{}, {NotBefore: after}}, 1, nil},
		{"an ended one is passed over", Versions{{}, {NotAfter: before}}, 1, nil},
		{"none is left", Versions{{NotAfter: before}, {NotBefore: after}}, 0, &NotServable{Version: 2, State: Waiting, When: after}},
		{"there is none", nil, 0, &NotServable{}},
	} {
		got, err := c.versions.Current(noon)
		var problem *NotServable
		errors.As(err, &problem)
		if got != c.want || (problem == nil) != (c.problem == nil) || problem != nil && *problem != *c.problem {
			t.Errorf("%s: got %d, %v; want %d, %v", c.name, got, err, c.want, c.problem)
		}
	}
}
