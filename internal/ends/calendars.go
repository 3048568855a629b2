package ends

import (
	"fmt"
	"slices"
	"strings"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/calendar"
	"tansu/internal/core/credential"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/throttle"
	"tansu/internal/entity"
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
func (e *Ends) NewCalendar(c chest.Caller, note string) (f Calendar, err error) {
	if err := chest.CheckText("note", note, chest.MaxNote); err != nil {
		return f, err
	}
	err = e.heart.Try(func() error {
		a := e.heart.Attempt(c, "make_calendar", "")
		if err := a.Err(); err != nil {
			return err
		}
		if a.St.Identity(c.ID).Kind != reference.Person {
			return a.Fail(chest.Invalid("note", "a calendar is for a person"))
		}
		if own := len(a.St.CalendarsOf(c.ID)); own >= mostCalendars {
			return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: fmt.Sprintf("you have %d calendar addresses; end one first", own)})
		}
		address, hash := credential.New(credential.Calendar)
		row := entity.Calendar{ID: chest.NewID("ca_"), Identity: c.ID, Hash: hash[:], Note: note,
			NotAfter: chest.Micros(a.Entry.At.Add(calendarLife)), CreatedAt: chest.Micros(a.Entry.At)}
		a.Entry.Detail = "calendar " + row.ID
		a.Change.Insert(row)
		f = describeCalendar(row)
		f.Address = address
		return a.Commit("calendar")
	})
	if err != nil {
		return Calendar{}, err
	}
	return f, nil
}

func describeCalendar(row entity.Calendar) Calendar {
	return Calendar{ID: row.ID, Note: row.Note, NotAfter: chest.FromMicros(row.NotAfter), CreatedAt: chest.FromMicros(row.CreatedAt)}
}

// Calendars lists the caller's calendar addresses, without their secret parts.
func (e *Ends) Calendars(c chest.Caller) (list []Calendar, err error) {
	a := e.heart.Attempt(c, "list_calendars", "")
	if err := a.Err(); err != nil {
		return nil, err
	}
	for _, row := range a.St.CalendarsOf(c.ID) {
		list = append(list, describeCalendar(row))
	}
	slices.SortFunc(list, func(x, y Calendar) int { return x.CreatedAt.Compare(y.CreatedAt) })
	return chest.Reply(a, list)
}

// EndCalendar makes a calendar address of the caller's own stop working at once.
func (e *Ends) EndCalendar(c chest.Caller, id string) error {
	return e.heart.Try(func() error {
		a := e.heart.Attempt(c, "end_calendar", "")
		if err := a.Err(); err != nil {
			return err
		}
		a.Entry.Detail = "calendar " + id
		own := a.St.CalendarsOf(c.ID)
		at := slices.IndexFunc(own, func(row entity.Calendar) bool { return row.ID == id })
		if at < 0 {
			return a.Fail(chest.Missing("calendar "+id+" of yours", ""))
		}
		a.Change.Delete(own[at])
		return a.Commit("calendar")
	})
}

// Calendar is what is due to whom a private address belongs, as iCalendar. An address that does not work is not told
// from one that never was.
func (e *Ends) Calendar(origin chest.Origin, address string) ([]byte, error) {
	c := chest.Anonymous(origin, viaCalendar)
	a := e.heart.Attempt(c, "read_calendar", "")
	if err := a.Err(); err != nil {
		return nil, err
	}
	hash, err := credential.Parse(credential.Calendar, address)
	row, known := a.St.CalendarBy(hash[:])
	owner := a.St.Identity(row.Identity)
	if err != nil || !known || !a.Entry.At.Before(chest.FromMicros(row.NotAfter)) || owner.State != chest.Active {
		if err := a.Take([]throttle.Limit{{Key: "calendar " + throttle.Neighbours(origin.Addr), Most: 20, Window: time.Hour}}); err != nil {
			return nil, err
		}
		return nil, a.Fail(chest.Missing("calendar at this address", ""))
	}
	c.ID, c.Name = owner.ID, chest.SubjectOf(owner)
	a = e.heart.Attempt(c, "read_calendar", "")
	a.Entry.Detail = "calendar " + row.ID
	if err := a.CountReads(); err != nil {
		return nil, a.Fail(err)
	}
	list, err := dueItems(a, calendarAhead)
	if err != nil {
		return nil, a.Fail(err)
	}
	var events []calendar.Event
	for _, d := range list {
		event := calendar.Event{UID: d.Reference + "@" + e.heart.ID(), At: d.NotAfter, Summary: d.Reference + " ends", Text: "Owner: " + d.Owner}
		if d.State != chest.DueState {
			event.Summary = d.Reference + " is not served: " + d.State
		}
		if event.At.IsZero() {
			event.At = a.Entry.At.Truncate(24 * time.Hour)
		}
		events = append(events, event)
	}
	for _, end := range accessEnds(a, calendarAhead) {
		events = append(events, calendar.Event{UID: end.ID + "@" + e.heart.ID(), At: end.NotAfter, Text: "Owner: " + end.Owner,
			Summary: strings.TrimSpace(end.Subject+" "+end.About) + " ends (" + strings.ReplaceAll(end.Kind, "_", " ") + ")"})
	}
	return chest.Reply(a, calendar.Write("Due in Tansu", events, chest.FromMicros(row.CreatedAt)))
}
