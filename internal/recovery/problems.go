package recovery

import (
	"cmp"
	"fmt"
	"time"
)

// Problem is something that is wrong with backups or their rehearsal, in words that anybody may read.
type Problem struct {
	What  string
	Since time.Time
	Next  string
}

// Problems lists what is wrong now.
func (r *Recovery) Problems() (list []Problem) {
	if r.options.To == nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	now, last := r.heart.Now(), r.state.lastGood()
	if n := len(r.state.Backups); n > 0 && r.state.Backups[n-1].Problem != "" {
		list = append(list, Problem{What: "the last backup failed", Since: r.failingSince(),
			Next: "tansu backup list says why; then tansu backup now"})
	} else if r.options.Every > 0 && last.Number > 0 && now.Sub(last.Made) > 2*r.options.Every {
		list = append(list, Problem{What: "no backup was made for " + days(now.Sub(last.Made)), Since: last.Made.Add(r.options.Every),
			Next: "tansu backup now"})
	}
	if last.Number == 0 {
		return list
	}
	if n := len(r.state.Rehearsals); n > 0 && len(r.state.Rehearsals[n-1].Problems) > 0 {
		list = append(list, Problem{What: "the last rehearsal of restoring found faults", Since: r.state.Rehearsals[n-1].At,
			Next: "tansu backup list names them; then make a full backup (tansu backup now --full), and rehearse again (tansu backup rehearse)"})
	} else if since, within := r.rehearsedOrBegun(), cmp.Or(r.options.Rehearse, rehearseWithin); now.Sub(since) > within {
		list = append(list, Problem{What: "restoring was not rehearsed for " + days(now.Sub(since)), Since: since.Add(within),
			Next: "tansu backup rehearse"})
	}
	return list
}

// rehearseWithin is when a rehearsal is due that is done only when somebody asks for it.
const rehearseWithin = 30 * 24 * time.Hour

// failingSince is when the first of the backups was tried that failed one after the other.
func (r *Recovery) failingSince() (since time.Time) {
	for i := len(r.state.Backups) - 1; i >= 0 && r.state.Backups[i].Problem != ""; i-- {
		since = r.state.Backups[i].Made
	}
	return since
}

// rehearsedOrBegun is when restoring was rehearsed last, or when the first backup was made if it never was.
func (r *Recovery) rehearsedOrBegun() time.Time {
	if at := r.state.lastRehearsed(); !at.IsZero() {
		return at
	}
	return r.state.good()[0].Made
}

func days(d time.Duration) string {
	if n := int(d / (24 * time.Hour)); n > 1 {
		return fmt.Sprintf("%d days", n)
	}
	return d.Round(time.Hour).String()
}
