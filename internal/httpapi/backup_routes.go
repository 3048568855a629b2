package httpapi

import (
	"net/http"
	"time"

	"tansu/client"
	"tansu/internal/core/lifecycle"
	"tansu/internal/recovery"
)

func backupJSON(b recovery.Backup) client.Backup {
	return client.Backup{Number: b.Number, AddsTo: b.AddsTo, Name: b.Name, Made: b.Made, Last: b.Last, Size: b.Size,
		Seconds: b.Took.Seconds(), Problem: b.Problem}
}

func rehearsalJSON(r recovery.Rehearsal) client.Rehearsal {
	return client.Rehearsal{Number: r.Number, At: r.At, Seconds: r.Took.Seconds(), Entries: r.Entries, Values: r.Values, Lost: r.Lost,
		Problems: append([]string{}, r.Problems...)}
}

// spanText is how often something is done; empty for what is done only when somebody asks.
func spanText(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return lifecycle.Span(d).String()
}

func (a *api) listBackups(c *call) error {
	o, err := a.service.Backups(c.caller)
	if err != nil {
		return err
	}
	answer := client.Backups{To: o.To, Every: spanText(o.Every), FullEvery: spanText(o.FullEvery), Keep: o.Keep,
		Rehearse: spanText(o.Rehearse), Next: o.Next, Now: o.Now, Backups: []client.Backup{}, Rehearsals: []client.Rehearsal{}}
	for _, b := range o.Backups {
		answer.Backups = append(answer.Backups, backupJSON(b))
	}
	for _, r := range o.Rehearsals {
		answer.Rehearsals = append(answer.Rehearsals, rehearsalJSON(r))
	}
	return c.JSON(http.StatusOK, answer)
}

func (a *api) backUp(c *call) error {
	var body struct {
		Full bool `json:"full"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	b, err := a.service.Backup(c.caller, body.Full)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, backupJSON(b))
}

func (a *api) rehearse(c *call) error {
	var body struct {
		Number int `json:"number"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	r, err := a.service.Rehearse(c.caller, body.Number)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, rehearsalJSON(r))
}
