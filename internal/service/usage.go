package service

import (
	"strings"
	"sync"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/trail"
)

// usage is what the trail says about who used what when. It is read from the trail when it is first asked for, and
// from where it left off afterwards, so that recording a read costs nothing more for it.
type usage struct {
	mu          sync.Mutex
	seq         uint64                          // the last entry that is counted
	grants      map[string]map[string]*use      // by id and action
	seen        map[string]Seen                 // by subject
	credentials map[string]time.Time            // when each was last used, by id
	readers     map[string]map[string]reading   // by item and subject
	targets     map[string]map[string]time.Time // by grant: what it was used on, and when last

	reads sync.RWMutex // guards readers against being asked while it is written: see lastRead
}

// use is how one action was used.
type use struct {
	last  time.Time
	count int
}

// reading is the last time that somebody read an item, and which version.
type reading struct {
	Version int
	Last    time.Time
	Pinned  bool
}

// Seen is when and how somebody was last there; the zero Seen is never.
type Seen struct {
	At   time.Time
	Addr string
	Via  string
}

func newUsage() *usage {
	return &usage{grants: map[string]map[string]*use{}, seen: map[string]Seen{}, credentials: map[string]time.Time{}, targets: map[string]map[string]time.Time{}, readers: map[string]map[string]reading{}}
}

// mostTargets bounds what is remembered of one grant: beyond it, narrowing its scope would not be proposed anyway.
const mostTargets = 50

// catchUp reads the entries that came since the last time, and then calls look with the usage, which must not be kept.
func (s *Service) catchUp(look func(*usage)) error {
	s.usage.mu.Lock()
	defer s.usage.mu.Unlock()
	err := s.records.EntriesAfter(s.usage.seq, func(e trail.Entry) bool {
		s.usage.count(e)
		return true
	})
	if err == nil {
		look(s.usage)
	}
	return err
}

func (u *usage) count(e trail.Entry) {
	u.seq = e.Seq
	if e.Outcome != trail.Allowed {
		return
	}
	if e.Via != "" && e.Subject != unknown && e.Addr != "" {
		u.seen[e.Subject] = Seen{At: e.At, Addr: e.Addr, Via: e.Via}
	}
	if id, found := strings.CutPrefix(e.Detail, "with cr_"); found && e.Action == "issue_token" {
		u.credentials["cr_"+id] = e.At
	}
	if e.Action == access.ReadValue.String() {
		u.reads.Lock()
		if u.readers[e.Target] == nil {
			u.readers[e.Target] = map[string]reading{}
		}
		u.readers[e.Target][e.Subject] = reading{Version: e.Version, Last: e.At, Pinned: strings.HasPrefix(e.Detail, byNumber)}
		u.reads.Unlock()
	}
	if e.Grant == "" {
		return
	}
	if u.grants[e.Grant] == nil {
		u.grants[e.Grant], u.targets[e.Grant] = map[string]*use{}, map[string]time.Time{}
	}
	action := actionUsed(e)
	if u.grants[e.Grant][action] == nil {
		u.grants[e.Grant][action] = &use{}
	}
	used := u.grants[e.Grant][action]
	used.last, used.count = e.At, used.count+1
	if targets := u.targets[e.Grant]; len(targets) <= mostTargets {
		targets[e.Target] = e.At
	}
}

// actionUsed is the access action that an entry used: overviews and whole-chest acts have names of their own.
func actionUsed(e trail.Entry) string {
	switch e.Action {
	case "list_drawers":
		return access.List.String()
	case "list_identities", "list_refusals", "read_policy":
		return "" // any of several actions allows it, so that it proves the use of none
	case "lock", "examine":
		return access.Operate.String()
	case "apply_policy", "answer_request":
		return access.GrantAccess.String()
	}
	if act, what, isAct := strings.Cut(e.Action, "_"); isAct && (what == "item" || what == "version") && rights[lifecycle.Act(act)] != 0 {
		return rights[lifecycle.Act(act)].String()
	}
	return e.Action
}

// lastRead is when an item was last read, as far as the trail was counted; zero for never. It may be asked while the
// usage is looked at.
func (u *usage) lastRead(target string) (last time.Time) {
	u.reads.RLock()
	defer u.reads.RUnlock()
	for _, r := range u.readers[target] {
		if r.Last.After(last) {
			last = r.Last
		}
	}
	return last
}

// lastUse is when a grant was last used for anything; zero for never.
func (u *usage) lastUse(grant string) (last time.Time) {
	for _, used := range u.grants[grant] {
		if used.last.After(last) {
			last = used.last
		}
	}
	return last
}
