package httpapi

import (
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"time"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/trail"
	"tansu/internal/exposuretext"
	"tansu/internal/record"
)

func (a *api) exposure(c *call) error {
	var body client.NewExposure
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	ref, err := valueReference(c, "")
	if err != nil {
		return err
	}
	x, err := a.service.ReportExposure(c.caller, ref, body.Since, body.Reason, body.Mark)
	if err != nil {
		return err
	}
	answer := client.Exposure{Reference: x.Reference, Since: x.Since, Reason: x.Reason, Marked: x.Marked, CreatedAt: x.CreatedAt,
		CreatedBy: x.CreatedBy, Current: x.Current, Serves: x.Serves,
		Partly: x.Partly, Used: x.Used, Uncompared: x.Uncompared,
		Readers: []client.ExposedReader{}, Holders: []client.ExposedHolder{}, Replace: []client.Replacement{}}
	for _, r := range x.Readers {
		answer.Readers = append(answer.Readers, client.ExposedReader(r))
	}
	for _, h := range x.Holders {
		one := client.ExposedHolder{Subject: h.Subject, State: h.State, Still: h.Still, Did: h.Did, Grants: []string{}}
		for _, g := range h.Grants {
			one.Grants = append(one.Grants, g.ID)
		}
		answer.Holders = append(answer.Holders, one)
	}
	for _, r := range x.Replace {
		answer.Replace = append(answer.Replace, client.Replacement(r))
	}
	if strings.Contains(c.Request().Header.Get("Accept"), "text/markdown") {
		return c.Blob(http.StatusOK, "text/markdown; charset=utf-8", []byte(exposuretext.Markdown(answer)))
	}
	return c.JSON(http.StatusOK, answer)
}

// How far back the reports go when nobody says otherwise.
const (
	unusualSince  = 7 * 24 * time.Hour
	activitySince = 7 * 24 * time.Hour
)

func (a *api) unusual(c *call) error {
	since, err := a.sinceOr(c, unusualSince)
	if err != nil {
		return err
	}
	list, err := a.service.Unusual(c.caller, since)
	if err != nil {
		return err
	}
	answer := []client.Unusual{}
	for _, u := range list {
		answer = append(answer, client.Unusual(u))
	}
	return listed(c, "unusual", answer)
}

func (a *api) activity(c *call) error {
	since, err := a.sinceOr(c, activitySince)
	if err != nil {
		return err
	}
	list, err := a.service.Activity(c.caller, since)
	if err != nil {
		return err
	}
	answer := []client.Activity{}
	for _, h := range list {
		answer = append(answer, client.Activity(h))
	}
	return listed(c, "activity", answer)
}

// watch sends entries as they are recorded, as server-sent events (the HTML standard, section 9.2).
func (a *api) watch(c *call) error {
	after, err := queryNumber(c, "after", 0)
	if err != nil {
		return err
	}
	if again := c.Request().Header.Get("Last-Event-ID"); again != "" { // a browser that lost the connection goes on
		if after, err = strconv.ParseUint(again, 10, 62); err != nil {
			return &chest.Error{Code: chest.InvalidInput, Field: "Last-Event-ID", Detail: "Last-Event-ID is not the number of an entry"}
		}
	}
	out, err := newPatient(c.Response())
	if err != nil {
		return err
	}
	alive := time.Now()
	return a.service.Watch(c.Request().Context(), c.caller, c.QueryParam("q"), after, record.Listener{
		Begin: func() error {
			c.Response().Header().Set("Content-Type", "text/event-stream")
			c.Response().WriteHeader(http.StatusOK)
			_, err := out.Write([]byte(": entries follow as they are recorded\n\n"))
			return err
		},
		Entry: func(e trail.Entry) error {
			encoded, err := json.Marshal(entryJSON(e))
			if err != nil {
				return err
			}
			_, err = out.Write([]byte("id: " + strconv.FormatUint(e.Seq, 10) + "\ndata: " + string(encoded) + "\n\n"))
			return err
		},
		Pause: func() error {
			if time.Since(alive) > goesOn/2 {
				alive = time.Now()
				if _, err := out.Write([]byte(": still here\n\n")); err != nil {
					return err
				}
			}
			return out.control.Flush()
		},
	})
}
