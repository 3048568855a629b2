package httpapi

import (
	"net/http"
	"strconv"
	"time"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/trail"
	"tansu/internal/record"
)

// Pages of the trail.
const (
	defaultPage = 50
	maxPage     = 500
)

func (a *api) trail(c *call) error {
	filter, rest, err := record.TrailQuery(c.QueryParam("q"), a.service.Heart.Now())
	if err != nil {
		return err
	}
	for name, field := range map[string]*string{"subject": &filter.Subject, "action": &filter.Action, "target": &filter.Target,
		"outcome":    &filter.Outcome,
		"request_id": &filter.RequestID, "receipt": &filter.Receipt, "reason": &filter.Reason, "grant": &filter.Grant, "addr": &filter.Addr} {
		if given := c.QueryParam(name); given != "" {
			if err := record.CheckTerm(name, given); err != nil {
				return chest.Invalid(name, "%s", err)
			}
			*field = given
		}
	}
	for name, field := range map[string]*time.Time{"since": &filter.Since, "until": &filter.Until} {
		given, err := queryTime(c, name)
		if err != nil {
			return err
		}
		if !given.IsZero() {
			*field = given
		}
	}
	if cursor := c.QueryParam("cursor"); cursor != "" {
		if filter.Before, err = strconv.ParseUint(cursor, 10, 63); err != nil || filter.Before == 0 {
			return &chest.Error{Code: chest.InvalidInput, Field: "cursor", Detail: "cursor is not one that this route gave"}
		}
	}
	most := defaultPage
	if limit := c.QueryParam("limit"); limit != "" {
		if most, err = strconv.Atoi(limit); err != nil || most < 1 || most > maxPage {
			return &chest.Error{Code: chest.InvalidInput, Field: "limit", Detail: "limit is not a whole number from 1 to 500"}
		}
	}
	var page record.TrailPage
	if archive := c.QueryParam("archive"); archive != "" {
		page, err = a.service.ArchivedTrail(c.caller, archive, filter, rest, most)
	} else {
		page, err = a.service.Trail(c.caller, filter, rest, most)
	}
	if err != nil {
		return err
	}
	answer := client.TrailPage{Entries: []client.Entry{}}
	for _, e := range page.Entries {
		answer.Entries = append(answer.Entries, entryJSON(e))
	}
	if page.Next != 0 {
		answer.NextCursor = strconv.FormatUint(page.Next, 10)
	}
	return c.JSON(http.StatusOK, answer)
}

// queryTime reads an RFC 3339 time; the zero time when the parameter is not there.
func queryTime(c *call, name string) (t time.Time, err error) {
	text := c.QueryParam(name)
	if text == "" {
		return t, nil
	}
	if t, err = time.Parse(time.RFC3339, text); err != nil {
		return t, &chest.Error{Code: chest.InvalidInput, Field: name, Detail: name + " is not in RFC 3339 form, such as 2026-11-23T08:00:00Z"}
	}
	return t, nil
}

func (a *api) receipt(c *call) error {
	r, err := a.service.Receipt(c.caller, c.param("receipt"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, client.Receipt{Entry: entryJSON(r.Entry), Description: r.Description, Owner: r.Owner,
		AllowedNow: r.AllowedNow, GrantNow: r.GrantNow, NeedsApproval: r.NeedsApproval, Declined: r.Declined, Remedy: remedyJSON(r.Remedy),
		Considered: consideredJSON(r.Considered)})
}

// refusalsSince is how far back the queue of refusals goes when nobody says otherwise.
const refusalsSince = 7 * 24 * time.Hour

func (a *api) refusals(c *call) error {
	since, err := a.sinceOr(c, refusalsSince)
	if err != nil {
		return err
	}
	groups, err := a.service.Refusals(c.caller, since)
	if err != nil {
		return err
	}
	answer := []client.RefusalGroup{}
	for _, g := range groups {
		answer = append(answer, client.RefusalGroup{Subject: g.Subject, Owner: g.Owner, Action: g.Action, Target: g.Target, Reason: g.Reason,
			Count: g.Count, First: g.First, Last: g.Last, Receipt: g.Receipt, Remedy: remedyJSON(g.Remedy),
			MayGive: g.MayGive})
	}
	return listed(c, "refusals", answer)
}

// sinceOr reads the one parameter of a report, or goes back as far as the report does when nobody says otherwise.
func (a *api) sinceOr(c *call, back time.Duration) (time.Time, error) {
	since, err := queryTime(c, "since")
	if err == nil && since.IsZero() {
		since = a.service.Heart.Now().Add(-back)
	}
	return since, err
}

func entryJSON(e trail.Entry) client.Entry {
	return client.Entry{Seq: e.Seq, At: e.At, Subject: e.Subject, Via: e.Via, Action: e.Action, Target: e.Target, Version: e.Version,
		Outcome: string(e.Outcome), Reason: e.Reason, Grant: e.Grant, Detail: e.InWords(), Stated: e.Stated, RequestID: e.RequestID,
		Receipt: e.Receipt, Addr: e.Addr, Count: e.Count,
		SubjectID: e.SubjectID, DrawerID: e.DrawerID, ItemID: e.ItemID, Credential: e.Credential, Given: e.Given,
		Pinned: e.Pinned, Grace: e.Grace, OldName: e.OldName, Field: e.Field, Host: e.Host}
}

func (a *api) archives(c *call) error {
	list, err := a.service.Archives(c.caller)
	if err != nil {
		return err
	}
	answer := []client.Archive{}
	for _, one := range list {
		answer = append(answer, client.Archive(one))
	}
	return listed(c, "archives", answer)
}
