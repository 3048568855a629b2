package service

import (
	"log/slog"
	"sync"
)

// witnesses tells each witness the newest checkpoint, one after the other and without keeping anybody waiting: one that is
// slow or away misses some, and gets the newest when it is there again.
type witnesses struct {
	log  *slog.Logger
	each []*told
	all  sync.WaitGroup
}

type told struct {
	Witness
	news chan string // holds the newest one that is to be told
}

func newWitnesses(list []Witness, log *slog.Logger) *witnesses {
	ws := &witnesses{log: log}
	for _, w := range list {
		one := &told{Witness: w, news: make(chan string, 1)}
		ws.each = append(ws.each, one)
		ws.all.Go(func() {
			for note := range one.news {
				if err := one.Keep(note); err != nil {
					ws.log.Error("a witness did not take a checkpoint", "witness", one.String(), "error", err)
				}
			}
		})
	}
	return ws
}

// tell is not called by two at a time.
func (ws *witnesses) tell(note string) {
	for _, w := range ws.each {
		select {
		case <-w.news: // what was not told yet is out of date
		default:
		}
		w.news <- note
	}
}

// stop waits until all have been told the last one. Nothing is told afterwards.
func (ws *witnesses) stop() {
	for _, w := range ws.each {
		close(w.news)
	}
	ws.all.Wait()
}
