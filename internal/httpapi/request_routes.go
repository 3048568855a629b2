package httpapi

import (
	"net/http"

	"tansu/client"
	"tansu/internal/rights"
)

func (a *api) listRequests(c *call) error {
	list, err := a.service.Requests(c.caller)
	if err != nil {
		return err
	}
	answer := []client.Request{}
	for _, r := range list {
		answer = append(answer, requestJSON(r))
	}
	return listed(c, "requests", answer)
}

func (a *api) askFor(c *call) error {
	var body client.NewRequest
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	n := rights.NewRequest{Receipt: body.Receipt, Read: body.Read, Reason: body.Reason}
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
	r, err := a.service.AnswerRequest(c.caller, c.param("request"), rights.Answer(body))
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

func requestJSON(r rights.Request) client.Request {
	answer := client.Request{ID: r.ID, Kind: r.Kind, Asker: r.Asker, Subject: r.Subject, Action: r.Action, Target: r.Target, Reason: r.Reason,
		Receipt: r.Receipt,
		State:   r.State, Answer: r.Answer, AnsweredAt: r.AnsweredAt, AnsweredBy: r.AnsweredBy, GrantID: r.GrantID, Until: r.Until,
		CreatedAt: r.CreatedAt, MayAnswer: r.MayAnswer, MayAllow: r.MayAllow}
	if r.Grant != nil {
		grant := newGrantJSON(*r.Grant)
		answer.Grant = &grant
	}
	return answer
}
