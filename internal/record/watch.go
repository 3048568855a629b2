package record

import (
	"context"
	"strings"
	"sync"
	"time"

	"tansu/internal/chest"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/search"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// TrailKeys are what entries can be looked for by, besides words.
var TrailKeys = []string{"subject", "target", "drawer", "action", "outcome", "reason", "grant", "from", "request", "receipt", "since",
	"until"}

// TrailQuery reads a query about entries, in the grammar of package search: what an index can find goes into the filter, and
// the rest is left to be looked at.
func TrailQuery(text string, now time.Time) (f store.Filter, rest search.Query, err error) {
	query, err := search.Parse(text, TrailKeys)
	if err != nil {
		return f, nil, chest.Invalid("q", "%s", err)
	}
	fields := map[string]*string{"subject": &f.Subject, "target": &f.Target, "drawer": &f.Target, "action": &f.Action, "outcome": &f.Outcome,
		"reason": &f.Reason,
		"grant":  &f.Grant, "from": &f.Addr, "request": &f.RequestID, "receipt": &f.Receipt}
	for _, t := range query {
		into := fields[t.Key]
		if err := CheckTerm(t.Key, t.Value); err != nil {
			return f, nil, chest.Invalid("q", "%s", err)
		}
		switch {
		case t.Key == "since" || t.Key == "until":
			at, err := momentOf(t.Value, now)
			if err != nil || t.Not {
				return f, nil, chest.Invalid("q", "%s: a time in RFC 3339 form, or how long ago, such as 7d", t.Key)
			}
			if t.Key == "since" {
				f.Since = at
			} else {
				f.Until = at
			}
		case into != nil && *into == "" && !t.Not && !strings.Contains(t.Value, "*"):
			*into = t.Value
		default:
			rest = append(rest, t)
		}
	}
	return f, rest, nil
}

func momentOf(text string, now time.Time) (time.Time, error) {
	if span, err := lifecycle.ParseSpan(text); err == nil {
		return now.Add(-time.Duration(span)), nil
	}
	return time.Parse(time.RFC3339, strings.ToUpper(text))
}

// entryThing is an entry as search sees it.
type entryThing struct{ trail.Entry }

func (e entryThing) Texts() []string {
	return []string{e.Subject, e.Target, e.InWords(), e.Stated, e.Reason}
}

func (e entryThing) Has(key, value string) bool {
	drawer, _, _ := strings.Cut(e.Target, "/")
	return search.Any(value, map[string]string{"subject": e.Subject, "target": e.Target, "drawer": drawer, "action": e.Action,
		"outcome": string(e.Outcome),
		"reason":  e.Reason, "grant": e.Grant, "from": e.Addr, "request": e.RequestID, "receipt": e.Receipt}[key])
}

// How many watch at once, in all and of one identity: each looks at every entry.
const (
	mostWatching = 200
	mostByOne    = 10
)

// seats counts those who watch.
type seats struct {
	mu  sync.Mutex
	all int
	by  map[string]int
}

// take finds room for one more of somebody, until they free it.
func (s *seats) take(who string) (free func(), room bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by == nil {
		s.by = map[string]int{}
	}
	if s.all >= mostWatching || s.by[who] >= mostByOne {
		return nil, false
	}
	s.all++
	s.by[who]++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.all--
		if s.by[who]--; s.by[who] == 0 {
			delete(s.by, who)
		}
	}, true
}

// watchEvery is how often the live view looks for something new.
const watchEvery = 300 * time.Millisecond

// Listener is who watches. An error says that nobody listens any more.
type Listener struct {
	Begin func() error // when it is decided that the caller may
	Entry func(trail.Entry) error
	Pause func() error // when there is nothing new for now
}

// Watch tells a listener of entries as they are recorded, as far as the caller may read them and they match a query, until
// the context ends, nobody listens any more, or the caller's token is no good any more. It begins with those after a number;
// 0 is with what comes next.
func (s *Record) Watch(ctx context.Context, c chest.Caller, query string, after uint64, l Listener) error {
	a, err := s.heart.AllowOverview(c, chest.OverTrail)
	if err != nil {
		return err
	}
	filter, rest, err := TrailQuery(query, a.Entry.At)
	if err != nil {
		return err
	}
	a.Entry.Detail = "as it grows"
	if after == 0 {
		after = s.records.Last()
	}
	free, room := s.watching.take(c.ID)
	if !room {
		return a.Fail(&chest.Error{Code: chest.Throttled, Detail: "too many are watching the trail: close one of your views, or try again later",
			RetryAfter: time.Minute})
	}
	defer free()
	if err := a.Done(); err != nil {
		return err
	}
	if err := l.Begin(); err != nil {
		return err
	}
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for {
		if last := s.records.Last(); last > after {
			now := s.heart.Attempt(c, a.Entry.Action, "") // what may be seen is decided anew at each look
			if now.Err() != nil {
				return nil
			}
			may := now.MayReadEntry(access.ReadTrail)
			if after, err = s.watched(after, last, filter, rest, may, l.Entry); err != nil {
				return err
			}
		}
		if err := l.Pause(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		if !s.heart.StillGood(c) {
			return nil
		}
	}
}

// watched shows what came after a number up to another, and returns the other.
func (s *Record) watched(after, last uint64, filter store.Filter, rest search.Query, may func(trail.Entry) bool,
	visit func(trail.Entry) error) (uint64, error) {
	var failed error
	err := s.records.Bodies(after+1, func(seq uint64, body string) bool {
		if seq > last {
			return false
		}
		e, err := trail.Decode([]byte(body))
		if err == nil && filter.Selects(e) && rest.Matches(entryThing{e}) {
			if may(e) {
				err = visit(e)
			}
		}
		failed = err
		return err == nil
	})
	if err == nil {
		err = failed
	}
	return last, err
}
