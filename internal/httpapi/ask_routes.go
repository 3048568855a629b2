package httpapi

import (
	"net/http"
	"time"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/powers"
	"tansu/internal/rights"
)

func (a *api) askVerdict(c *call) error {
	question := rights.Question{Subject: c.QueryParam("subject"), Action: c.QueryParam("action"), Target: c.QueryParam("target"),
		Addr: c.QueryParam("addr"), Via: c.QueryParam("via"), Reason: c.QueryParam("reason")}
	var err error
	if question.At, err = queryTime(c, "at"); err != nil {
		return err
	}
	v, err := a.service.Ask(c.caller, question)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, client.Verdict{Allowed: v.Allowed, Grant: v.Grant, Reason: v.Reason, Remedy: remedyJSON(v.Remedy),
		Considered: consideredJSON(v.Considered), Version: v.Version, NotServed: v.NotServed})
}

func (a *api) askHolders(c *call) error {
	list, err := a.service.Holders(c.caller, c.QueryParam("action"), c.QueryParam("target"))
	if err != nil {
		return err
	}
	answer := []client.Holder{}
	for _, h := range list {
		answer = append(answer, client.Holder{Subject: h.Subject, State: h.State, Grants: grantsJSON(h.Grants), Unless: grantsJSON(h.Unless)})
	}
	return listed(c, "holders", answer)
}

func (a *api) askPaths(c *call) error {
	p, err := a.service.Paths(c.caller, c.QueryParam("action"), c.QueryParam("target"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, client.Paths{Now: append([]string{}, p.Now...), Alone: waysJSON(p.Alone), Letting: waysJSON(p.Letting),
		Searched: p.Searched, Cut: p.Cut})
}

func waysJSON(list []powers.Way) []client.Way {
	answer := []client.Way{}
	for _, w := range list {
		way := client.Way{Who: w.Who, Alike: append([]string{}, w.Alike...), Steps: []client.WayStep{}}
		for _, step := range w.Steps {
			way.Steps = append(way.Steps, client.WayStep(step))
		}
		answer = append(answer, way)
	}
	return answer
}

func (a *api) askReach(c *call) error {
	list, err := a.service.Reach(c.caller, c.QueryParam("subject"))
	if err != nil {
		return err
	}
	answer := []client.Reach{}
	for _, r := range list {
		answer = append(answer, client.Reach(r))
	}
	return listed(c, "reach", answer)
}

func consideredJSON(list []rights.Considered) []client.Considered {
	answer := []client.Considered{}
	for _, c := range list {
		answer = append(answer, client.Considered{Grant: grantJSON(c.Grant), Miss: c.Miss})
	}
	return answer
}

func (a *api) askDifference(c *call) error {
	var body client.Proposal
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	proposal := rights.Proposal{End: body.End}
	if body.Give != nil {
		n := newGrant(*body.Give)
		proposal.Give = &n
	}
	if body.Role != nil {
		role := rights.NewRole(*body.Role)
		proposal.Role = &role
	}
	d, err := a.service.Preview(c.caller, proposal)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, differenceJSON(d))
}

func (a *api) askMatrix(c *call) error {
	after, most, err := page(c)
	if err != nil {
		return err
	}
	m, err := a.service.Matrix(c.caller, rights.Part{After: after, Most: most, Drawer: c.QueryParam("drawer")})
	if err != nil {
		return err
	}
	answer := client.Matrix{Drawers: append([]string{}, m.Drawers...), Rows: []client.MatrixRow{}, NextCursor: m.Next}
	for _, row := range m.Rows {
		r := client.MatrixRow{Subject: row.Subject, State: row.State, Cells: []client.MatrixCell{}}
		for _, cell := range row.Cells {
			r.Cells = append(r.Cells, client.MatrixCell{Actions: append([]string{}, cell.Actions...),
				Conditions: append([]string{}, cell.Conditions...), Partial: append([]string{}, cell.Partial...)})
		}
		answer.Rows = append(answer.Rows, r)
	}
	return c.JSON(http.StatusOK, answer)
}

func differenceJSON(d chest.Difference) client.Difference {
	answer := client.Difference{Changes: []client.Change{}, Notes: append([]string{}, d.Notes...)}
	for _, s := range d.Changes {
		answer.Changes = append(answer.Changes,
			client.Change{Subject: s.Subject, Gained: names(s.Gained), Lost: names(s.Lost), Altered: names(s.Altered), Targets: s.Targets})
	}
	return answer
}

// tightenSince is how far back use is looked for when nobody says otherwise.
const tightenSince = 30 * 24 * time.Hour

func (a *api) tighten(c *call) error {
	since, err := a.sinceOr(c, tightenSince)
	if err != nil {
		return err
	}
	list, err := a.service.Tighten(c.caller, since)
	if err != nil {
		return err
	}
	answer := []client.Finding{}
	for _, f := range list {
		finding := client.Finding{ID: f.ID, Kind: f.Kind, Subject: f.Subject, Target: f.Target, Grant: f.Grant, Detail: f.Detail,
			LastUsed: f.LastUsed, End: f.End, Suspend: f.Suspend, Command: f.Command}
		if f.Instead != nil {
			instead := newGrantJSON(*f.Instead)
			finding.Instead = &instead
		}
		answer = append(answer, finding)
	}
	return listed(c, "findings", answer)
}
