package record

import (
	"log/slog"
	"sync"
	"time"
)

// checkpoint is a note and the size it speaks of.
type checkpoint struct {
	size uint64
	note string
}

// witnesses tells each witness the newest checkpoint, one after the other and without keeping anybody waiting: one that is
// slow or away misses some, and gets the newest when it is there again.
type witnesses struct {
	log  *slog.Logger
	each []*told
	all  sync.WaitGroup
}

type told struct {
	Witness
	news chan checkpoint // holds the newest one that is to be told

	mu    sync.Mutex
	state Follower
}

// noted says what came of telling.
func (t *told) noted(size uint64, now time.Time, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.state.noted(size, now, err)
}

func (f *Follower) noted(position uint64, now time.Time, err error) {
	if err == nil {
		f.Position, f.At, f.Failing, f.Problem = position, now, time.Time{}, ""
		return
	}
	f.Problem = err.Error()
	if f.Failing.IsZero() {
		f.Failing = now
	}
}

// states lists how far they are.
func (ws *witnesses) states() (list []Follower) {
	for _, w := range ws.each {
		w.mu.Lock()
		state := w.state
		w.mu.Unlock()
		state.Name = w.String()
		list = append(list, state)
	}
	return list
}

func newWitnesses(list []Witness, log *slog.Logger) *witnesses {
	ws := &witnesses{log: log}
	for _, w := range list {
		one := &told{Witness: w, news: make(chan checkpoint, 1)}
		ws.each = append(ws.each, one)
		ws.all.Go(func() {
			for point := range one.news {
				err := one.Keep(point.note)
				one.noted(point.size, time.Now(), err)
				if err != nil {
					ws.log.Error("a witness did not take a checkpoint", "witness", one.String(), "error", err)
				}
			}
		})
	}
	return ws
}

// tell is not called by two at a time.
func (ws *witnesses) tell(size uint64, note string) {
	for _, w := range ws.each {
		select {
		case <-w.news: // what was not told yet is out of date
		default:
		}
		w.news <- checkpoint{size, note}
	}
}

// stopFor is how long stopping waits for witnesses: whoever does not take the last checkpoint by then gets it after the next start.
const stopFor = 5 * time.Second

// StopWitnesses waits until all have been told the last checkpoint, for a bounded time. Nothing is told afterwards.
func (s *Record) StopWitnesses() { s.witnesses.stop(stopFor) }

func (ws *witnesses) stop(most time.Duration) {
	for _, w := range ws.each {
		close(w.news)
	}
	told := make(chan struct{})
	go func() {
		ws.all.Wait()
		close(told)
	}()
	select {
	case <-told:
	case <-time.After(most):
		ws.log.Error("a witness does not answer: it is not waited for")
	}
}
