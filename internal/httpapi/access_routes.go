package httpapi

import (
	"net/http"
	"time"

	"tansu/client"
	"tansu/internal/core/access"
	"tansu/internal/core/policytext"
	"tansu/internal/service"
)

// policyBody is more than the largest policy takes as a JSON string.
const policyBody = 2*policytext.MaxSize + 1024

func (a *api) listRoles(c *call) error {
	list, err := a.service.Roles(c.caller)
	if err != nil {
		return err
	}
	answer := []client.Role{}
	for _, role := range list {
		answer = append(answer, client.Role(role))
	}
	return c.JSON(http.StatusOK, map[string]any{"roles": answer})
}

func (a *api) addRole(c *call) error {
	var body client.NewRole
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	role, notes, err := a.service.AddRole(c.caller, service.NewRole(body))
	if err != nil {
		return err
	}
	c.Response().Header().Set("Location", "/api/roles/"+role.Name)
	return c.JSON(http.StatusCreated, client.RoleStored{Role: client.Role(role), Notes: append([]string{}, notes...)})
}

func (a *api) changeRole(c *call) error {
	var body client.NewRole
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	if body.Name != c.param("role") {
		return &service.Error{Code: service.InvalidInput, Field: "name", Detail: "a role keeps its name: the body and the path differ"}
	}
	role, notes, err := a.service.ChangeRole(c.caller, service.NewRole(body))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, client.RoleStored{Role: client.Role(role), Notes: append([]string{}, notes...)})
}

func (a *api) removeRole(c *call) error {
	if err := a.service.RemoveRole(c.caller, c.param("role")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (a *api) askDifference(c *call) error {
	var body client.Proposal
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	proposal := service.Proposal{End: body.End}
	if body.Give != nil {
		n := newGrant(*body.Give)
		proposal.Give = &n
	}
	if body.Role != nil {
		role := service.NewRole(*body.Role)
		proposal.Role = &role
	}
	d, err := a.service.Preview(c.caller, proposal)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, differenceJSON(d))
}

func (a *api) askMatrix(c *call) error {
	m, err := a.service.Matrix(c.caller)
	if err != nil {
		return err
	}
	answer := client.Matrix{Drawers: append([]string{}, m.Drawers...), Rows: []client.MatrixRow{}}
	for _, row := range m.Rows {
		r := client.MatrixRow{Subject: row.Subject, State: row.State, Cells: []client.MatrixCell{}}
		for _, cell := range row.Cells {
			r.Cells = append(r.Cells, client.MatrixCell{Actions: append([]string{}, cell.Actions...), Conditions: append([]string{}, cell.Conditions...), Partial: append([]string{}, cell.Partial...)})
		}
		answer.Rows = append(answer.Rows, r)
	}
	return c.JSON(http.StatusOK, answer)
}

func differenceJSON(d service.Difference) client.Difference {
	answer := client.Difference{Changes: []client.Change{}, Notes: append([]string{}, d.Notes...)}
	names := func(actions access.Action) []string { return append([]string{}, actions.Names()...) }
	for _, s := range d.Changes {
		answer.Changes = append(answer.Changes, client.Change{Subject: s.Subject, Gained: names(s.Gained), Lost: names(s.Lost), Altered: names(s.Altered), Targets: s.Targets})
	}
	return answer
}

func (a *api) listRequests(c *call) error {
	list, err := a.service.Requests(c.caller)
	if err != nil {
		return err
	}
	answer := []client.Request{}
	for _, r := range list {
		answer = append(answer, requestJSON(r))
	}
	return c.JSON(http.StatusOK, map[string]any{"requests": answer})
}

func (a *api) askFor(c *call) error {
	var body client.NewRequest
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	n := service.NewRequest{Receipt: body.Receipt, Reason: body.Reason}
	if body.Grant != nil {
		grant := newGrant(*body.Grant)
		n.Grant = &grant
	}
	r, err := a.service.AskFor(c.caller, n)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, requestJSON(r))
}

func (a *api) answerRequest(c *call) error {
	var body client.Answer
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	r, err := a.service.AnswerRequest(c.caller, c.param("request"), service.Answer(body))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, requestJSON(r))
}

func (a *api) withdraw(c *call) error {
	r, err := a.service.Withdraw(c.caller, c.param("request"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, requestJSON(r))
}

func (a *api) declineRefusal(c *call) error {
	var body struct {
		Because string `json:"because"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	r, err := a.service.DeclineRefusal(c.caller, c.param("receipt"), body.Because)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, requestJSON(r))
}

func requestJSON(r service.Request) client.Request {
	answer := client.Request{ID: r.ID, Kind: r.Kind, Asker: r.Asker, Subject: r.Subject, Action: r.Action, Target: r.Target, Reason: r.Reason, Receipt: r.Receipt,
		State: r.State, Answer: r.Answer, AnsweredAt: r.AnsweredAt, AnsweredBy: r.AnsweredBy, GrantID: r.GrantID, Until: r.Until, CreatedAt: r.CreatedAt}
	if r.Grant != nil {
		grant := newGrantJSON(*r.Grant)
		answer.Grant = &grant
	}
	return answer
}

func newGrant(n client.NewGrant) service.NewGrant {
	return service.NewGrant{Subject: n.Subject, Effect: n.Effect, Role: n.Role, Scope: n.Scope, Reason: n.Reason, NotAfter: n.NotAfter, NeverEnds: n.NeverEnds,
		Replaces: n.Replaces, Conditions: service.Conditions(n.Conditions)}
}

func newGrantJSON(n service.NewGrant) client.NewGrant {
	return client.NewGrant{Subject: n.Subject, Effect: n.Effect, Role: n.Role, Scope: n.Scope, Reason: n.Reason, NotAfter: n.NotAfter, NeverEnds: n.NeverEnds,
		Replaces: n.Replaces, Conditions: client.Conditions(n.Conditions)}
}

func (a *api) exportPolicy(c *call) error {
	text, err := a.service.ExportPolicy(c.caller)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]string{"policy": string(text)})
}

func (a *api) diffPolicy(c *call) error {
	var body struct {
		Policy string `json:"policy"`
	}
	if err := a.decode(c, policyBody, &body); err != nil {
		return err
	}
	d, err := a.service.DiffPolicy(c.caller, []byte(body.Policy))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, policyDifferenceJSON(d))
}

func (a *api) applyPolicy(c *call) error {
	var body client.Applying
	if err := a.decode(c, policyBody, &body); err != nil {
		return err
	}
	d, err := a.service.ApplyPolicy(c.caller, []byte(body.Policy), service.Applying{Onto: body.Onto, Lockout: body.AllowLockout})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, policyDifferenceJSON(d))
}

func policyDifferenceJSON(d service.PolicyDifference) client.PolicyDifference {
	answer := client.PolicyDifference{Difference: differenceJSON(d.Difference), Mark: d.Mark, Stale: d.Stale, Lockout: d.Locked,
		Steps: append([]string{}, d.Steps...), Failures: []client.FailedExpectation{}}
	for _, f := range d.Failures {
		answer.Failures = append(answer.Failures, client.FailedExpectation{Line: f.Expectation.Line, Expectation: f.Expectation.String(), Why: f.Why})
	}
	return answer
}

// tightenSince is how far back use is looked for when nobody says otherwise.
const tightenSince = 30 * 24 * time.Hour

func (a *api) tighten(c *call) error {
	since, err := sinceOr(c, tightenSince)
	if err != nil {
		return err
	}
	list, err := a.service.Tighten(c.caller, since)
	if err != nil {
		return err
	}
	answer := []client.Finding{}
	for _, f := range list {
		finding := client.Finding{Kind: f.Kind, Subject: f.Subject, Target: f.Target, Grant: f.Grant, Detail: f.Detail, LastUsed: f.LastUsed, End: f.End, Suspend: f.Suspend, Command: f.Command}
		if f.Instead != nil {
			instead := newGrantJSON(*f.Instead)
			finding.Instead = &instead
		}
		answer = append(answer, finding)
	}
	return c.JSON(http.StatusOK, map[string]any{"findings": answer})
}

func (a *api) owned(c *call) error {
	l, err := a.service.LeftBehind(c.caller, c.param("subject"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, ownedJSON(l))
}

func (a *api) handOver(c *call) error {
	var body struct {
		To string `json:"to"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	l, err := a.service.HandOver(c.caller, c.param("subject"), body.To)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, ownedJSON(l))
}

func ownedJSON(l service.LeftBehind) client.Owned {
	return client.Owned{Apps: append([]string{}, l.Apps...), Drawers: append([]string{}, l.Drawers...), Items: append([]string{}, l.Items...), Grants: grantsJSON(l.Grants)}
}

func (a *api) setStewardsAside(c *call) error {
	aside, err := a.service.SetStewardsAside(c.caller)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"set_aside": aside})
}

func (a *api) examine(c *call) error {
	touched, err := a.service.Examine(c.caller)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"touched": append([]string{}, touched...)})
}
