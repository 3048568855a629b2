package recovery

import (
	"encoding/gob"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"tansu/internal/backup"
	"tansu/internal/wholefile"
)

// state is which backups and rehearsals there were, oldest first.
type state struct {
	Number     int // the last one that was given to a backup, whatever became of it
	Backups    []Backup
	Rehearsals []Rehearsal
}

// Files of the room in the data directory: what backups there are, and of what pages the last one was.
const (
	stateName = "backups.json"
	seenName  = "backups.pages"
)

func readState(dir string) (s state, err error) {
	content, err := os.ReadFile(filepath.Join(dir, stateName))
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = json.Unmarshal(content, &s)
	}
	if err != nil {
		return s, fmt.Errorf("read which backups there are (%s; it can be removed, and the next backup is a full one): %w", stateName, err)
	}
	return s, nil
}

func writeState(dir string, s state) error {
	content, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return wholefile.Replace(filepath.Join(dir, stateName), 0o600, wholefile.Content(content))
}

// readSeen is of what the last backup was; nil if that is not known, so that the next one is a full one.
func readSeen(dir string) *backup.Seen {
	file, err := os.Open(filepath.Join(dir, seenName))
	if err != nil {
		return nil
	}
	defer func() { _ = file.Close() }()
	var seen backup.Seen
	if gob.NewDecoder(file).Decode(&seen) != nil {
		return nil
	}
	return &seen
}

func writeSeen(dir string, seen backup.Seen) error {
	return wholefile.Replace(filepath.Join(dir, seenName), 0o600, func(out io.Writer) error { return gob.NewEncoder(out).Encode(seen) })
}

// good are those that are there.
func (s state) good() (list []Backup) {
	for _, b := range s.Backups {
		if b.Problem == "" {
			list = append(list, b)
		}
	}
	return list
}

func (s state) lastFull() (last Backup) {
	for _, b := range s.good() {
		if b.AddsTo == "" {
			last = b
		}
	}
	return last
}

func (s state) lastTried() (at time.Time) {
	if n := len(s.Backups); n > 0 {
		at = s.Backups[n-1].Made
	}
	return at
}

func (s state) lastGood() (last Backup) {
	if list := s.good(); len(list) > 0 {
		last = list[len(list)-1]
	}
	return last
}

func (s state) lastRehearsed() (at time.Time) {
	if n := len(s.Rehearsals); n > 0 {
		at = s.Rehearsals[n-1].At
	}
	return at
}

func (s state) newestFirst() (backups []Backup, rehearsals []Rehearsal) {
	backups, rehearsals = slices.Clone(s.Backups), slices.Clone(s.Rehearsals)
	slices.Reverse(backups)
	slices.Reverse(rehearsals)
	return backups, rehearsals
}

// How many failures and rehearsals are remembered.
const (
	mostFailures   = 20
	mostRehearsals = 50
)

// thin leaves the newest full backups and what adds to them, and returns the names of those that are to be removed.
func (s *state) thin(keep int) (gone []string) {
	fulls, failures := 0, 0
	first := 0 // the number of the oldest that stays
	for _, b := range slices.Backward(s.Backups) {
		if b.Problem == "" && b.AddsTo == "" {
			if fulls++; fulls == keep {
				first = b.Number
			}
		}
	}
	var stay []Backup
	for _, b := range slices.Backward(s.Backups) {
		switch {
		case b.Problem != "":
			if failures++; failures <= mostFailures {
				stay = append(stay, b)
			}
		case keep > 0 && b.Number < first:
			gone = append(gone, b.Name)
		default:
			stay = append(stay, b)
		}
	}
	slices.Reverse(stay)
	s.Backups = stay
	if n := len(s.Rehearsals); n > mostRehearsals {
		s.Rehearsals = s.Rehearsals[n-mostRehearsals:]
	}
	return gone
}
