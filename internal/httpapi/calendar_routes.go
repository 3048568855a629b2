package httpapi

import (
	"net/http"

	"tansu/client"
	"tansu/internal/ends"
)

// calendarPath is where calendars are; the private part of an address follows it.
const calendarPath = "/api/calendar/"

func calendarJSON(f ends.Calendar) client.Calendar {
	answer := client.Calendar{ID: f.ID, Note: f.Note, NotAfter: f.NotAfter, CreatedAt: f.CreatedAt}
	if f.Address.Len() > 0 {
		answer.Path = calendarPath + string(f.Address.Reveal())
	}
	return answer
}

func (a *api) listCalendars(c *call) error {
	list, err := a.service.Calendars(c.caller)
	if err != nil {
		return err
	}
	answer := []client.Calendar{}
	for _, f := range list {
		answer = append(answer, calendarJSON(f))
	}
	return listed(c, "calendars", answer)
}

func (a *api) newCalendar(c *call) error {
	var body struct {
		Note string `json:"note"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	f, err := a.service.NewCalendar(c.caller, body.Note)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, calendarJSON(f))
}

func (a *api) endCalendar(c *call) error {
	if err := a.service.EndCalendar(c.caller, c.param("calendar")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// calendar gives what is due as iCalendar to whoever has the private address, which stands in for a sign-in: programs that
// show calendars have no other.
func (a *api) calendar(c *call) error {
	content, err := a.service.Calendar(c.origin, c.param("address"))
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, "text/calendar; charset=utf-8", content)
}
