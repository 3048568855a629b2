package opening

import (
	"fmt"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/steady"
)

// Problem is something that is wrong with the chest as a whole, in words that anybody may read.
type Problem struct {
	What  string
	Since time.Time // zero for not known
	Next  string    // what to do about it
}

// problems lists what is wrong now.
func (s *Opening) problems() (list []Problem) {
	if since, err := s.records.Trouble(); err != nil {
		list = append(list, Problem{What: "nothing can be recorded, so that nothing is served", Since: since,
			Next: "look into the log of the service: the disk is full, failing or not the one it was"})
	}
	if behind := s.heart.ClockBehind(); behind > steady.Slack {
		list = append(list, Problem{What: fmt.Sprintf("the machine's clock is %s behind what was recorded last; time goes on from there",
			behind.Round(time.Second)), Next: "set the clock right; if it is right, start once with tansu serve --trust-clock"})
	}
	list = append(list, s.found.all()...)
	if s.options.Problems != nil {
		list = append(list, s.options.Problems()...)
	}
	if st := s.heart.Newest(); st != nil {
		list = append(list, s.endings(st)...)
		if last := st.LastGiver(s.heart.Now()); last.Grant != "" && last.Within(chest.Ahead, s.heart.Now()) {
			list = append(list, Problem{What: "nobody can give access from " + last.At.UTC().Format("2006-01-02 15:04 MST") + " on, when grant " +
				last.Grant + " ends", Since: last.At.Add(-chest.Ahead), Next: "renew it: tansu grant renew " + last.Grant})
		}
	}
	return list
}

// endings says which unlock methods end soon, and for which shares nobody has come.
func (s *Opening) endings(st *chest.Snapshot) (list []Problem) {
	now := s.heart.Now()
	for _, m := range describe(st) {
		waiting := 0
		for _, c := range m.Holders {
			if c.Taken.IsZero() {
				waiting++
			}
		}
		switch {
		case !m.End.IsZero() && now.Before(m.End) && m.End.Sub(now) < chest.Ahead:
			list = append(list, Problem{What: fmt.Sprintf("the unlock method %s ends on %s", m.Name, m.End.Format("2006-01-02")),
				Since: m.End.Add(-chest.Ahead), Next: "put another one in its place: tansu unlock-method replace " + m.Name})
		case waiting > 0:
			list = append(list, Problem{What: fmt.Sprintf("%d of the %d shares of %s, which unlock the chest, %s not taken yet", waiting,
				len(m.Holders), m.Name, isOrAre(waiting)), Since: m.CreatedAt, Next: "each custodian signs in and takes theirs: tansu share take"})
		}
	}
	return list
}

func isOrAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}
