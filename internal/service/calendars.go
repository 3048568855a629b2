package service

import (
	"fmt"
	"slices"
	"time"

	"tansu/internal/core/calendar"
	"tansu/internal/core/credential"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/store"
)

// viaCalendar is how who fetches a calendar has proved themselves: by its private address.
const viaCalendar = "calendar_address"

// Calendar is a private address of a calendar of what is due. Whoever has it sees what its person may list, and no values.
type Calendar struct {
	ID        string
	Note      string
	NotAfter  time.Time
	CreatedAt time.Time
	Address   secretvalue.Value // the secret part; only when it is made
}

// Bounds of calendars.
const (
	calendarLife  = 365 * 24 * time.Hour
	mostCalendars = 10 // of one person
	calendarAhead = 400 * 24 * time.Hour
)

// NewCalendar makes a private address for the caller, who is a person. It ends after a year.
func (s *Service) NewCalendar(c Caller, note string) (f Calendar, err error) {
	if err := checkText("note", note, MaxNote); err != nil {
		return f, err
	}
	a := s.attempt(c, "make_calendar", "")
	var own int
	err = s.view(func(st *state) error {
		if st.identities[c.id].Kind != reference.Person {
			return invalid("note", "a calendar is for a person")
		}
		for _, row := range st.calendars {
			if row.Identity == c.id {
				own++
			}
		}
		return nil
	})
	if err == nil && own >= mostCalendars {
		err = &Error{Code: NotPossible, Detail: fmt.Sprintf("you have %d calendar addresses; end one first", own)}
	}
	if err != nil {
		return f, a.fail(err)
	}
	address, hash := credential.New(credential.Calendar)
	row := store.Calendar{ID: newID("ca_"), Identity: c.id, Hash: hash[:], Note: note, NotAfter: micros(a.entry.At.Add(calendarLife)), CreatedAt: micros(a.entry.At)}
	a.entry.Detail = "calendar " + row.ID
	err = a.change("calendar", func(tx *store.Tx) (err error) { row, err = store.Insert(tx, row); return err },
		func(st *state) { st.calendars[string(row.Hash)] = row })
	if err != nil {
		return f, err
	}
	f = describeCalendar(row)
	f.Address = address
	return f, nil
}

func describeCalendar(row store.Calendar) Calendar {
	return Calendar{ID: row.ID, Note: row.Note, NotAfter: fromMicros(row.NotAfter), CreatedAt: fromMicros(row.CreatedAt)}
}

// Calendars lists the caller's calendar addresses, without their secret parts.
func (s *Service) Calendars(c Caller) (list []Calendar, err error) {
	a := s.attempt(c, "list_calendars", "")
	err = s.view(func(st *state) error {
		for _, row := range st.calendars {
			if row.Identity == c.id {
				list = append(list, describeCalendar(row))
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(list, func(x, y Calendar) int { return x.CreatedAt.Compare(y.CreatedAt) })
	return answer(a, list)
}

// EndCalendar makes a calendar address of the caller's own stop working at once.
func (s *Service) EndCalendar(c Caller, id string) error {
	a := s.attempt(c, "end_calendar", "")
	a.entry.Detail = "calendar " + id
	s.changing.Lock()
	defer s.changing.Unlock()
	var row store.Calendar
	err := s.view(func(st *state) error {
		for _, candidate := range st.calendars {
			if candidate.ID == id && candidate.Identity == c.id {
				row = candidate
				return nil
			}
		}
		return notFound("calendar "+id+" of yours", "")
	})
	if err != nil {
		return a.fail(err)
	}
	return a.change("calendar", func(tx *store.Tx) error { return store.Delete(tx, row) },
		func(st *state) { delete(st.calendars, string(row.Hash)) })
}

// Calendar is what is due to whom a private address belongs, as iCalendar. An address that does not work is not told
// from one that never was.
func (s *Service) Calendar(origin Origin, address string) ([]byte, error) {
	c := Caller{Origin: origin, name: unknown, via: viaCalendar}
	a := s.attempt(c, "read_calendar", "")
	hash, err := credential.Parse(credential.Calendar, address)
	known := false
	if err == nil {
		err = s.view(func(st *state) error {
			row, found := st.calendars[string(hash[:])]
			owner := st.identities[row.Identity]
			if known = found && a.entry.At.Before(fromMicros(row.NotAfter)) && owner.State == stateActive; known {
				c.id, c.name = owner.ID, subjectOf(owner)
				a.entry.Subject, a.entry.Detail = c.name, "calendar "+row.ID
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	if !known {
		if err := s.take(a, []limit{{"calendar " + origin.Addr, 20, time.Hour}}); err != nil {
			return nil, err
		}
		return nil, a.fail(notFound("calendar at this address", ""))
	}
	list, err := s.DueItems(c, calendarAhead)
	if err != nil {
		return nil, err
	}
	var events []calendar.Event
	for _, d := range list {
		e := calendar.Event{UID: d.Reference + "@" + s.chest.ID, At: d.NotAfter, Summary: d.Reference + " ends", Text: "Owner: " + d.Owner}
		if d.State != dueState {
			e.Summary = d.Reference + " is not served: " + d.State
		}
		if e.At.IsZero() {
			e.At = a.entry.At.Truncate(24 * time.Hour)
		}
		events = append(events, e)
	}
	return answer(a, calendar.Write("Due in Tansu", events, a.entry.At))
}
