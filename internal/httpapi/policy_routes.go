package httpapi

import (
	"net/http"

	"tansu/client"
	"tansu/internal/core/policytext"
	"tansu/internal/rights"
)

// policyBody is more than the largest policy takes as a JSON string.
const policyBody = 2*policytext.MaxSize + 1024

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
	d, err := a.service.ApplyPolicy(c.caller, []byte(body.Policy), rights.Applying{Onto: body.Onto, Lockout: body.AllowLockout})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, policyDifferenceJSON(d))
}

func policyDifferenceJSON(d rights.PolicyDifference) client.PolicyDifference {
	answer := client.PolicyDifference{Difference: differenceJSON(d.Difference), Mark: d.Mark, Stale: d.Stale, Lockout: d.Locked,
		Steps: append([]string{}, d.Steps...), Failures: []client.FailedExpectation{}}
	for _, f := range d.Failures {
		answer.Failures = append(answer.Failures,
			client.FailedExpectation{Line: f.Expectation.Line, Expectation: f.Expectation.String(), Why: f.Why})
	}
	return answer
}
