package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"tansu/client"
	"tansu/internal/core/manifest"
	"tansu/internal/core/reference"
	"tansu/internal/core/sample"
	"tansu/internal/service"
)

func (a *api) askVerdict(c *call) error {
	if err := onlyQuery(c, "subject", "action", "target", "at", "addr", "via", "reason"); err != nil {
		return err
	}
	question := service.Question{Subject: c.QueryParam("subject"), Action: c.QueryParam("action"), Target: c.QueryParam("target"),
		Addr: c.QueryParam("addr"), Via: c.QueryParam("via"), Reason: c.QueryParam("reason")}
	var err error
	if question.At, err = queryTime(c, "at"); err != nil {
		return err
	}
	v, err := a.service.Ask(c.caller, question)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, client.Verdict{Allowed: v.Allowed, Grant: v.Grant, Reason: v.Reason, Remedy: remedyJSON(v.Remedy), Considered: consideredJSON(v.Considered), Version: v.Version, NotServed: v.NotServed})
}

func (a *api) askHolders(c *call) error {
	if err := onlyQuery(c, "action", "target"); err != nil {
		return err
	}
	list, err := a.service.Holders(c.caller, c.QueryParam("action"), c.QueryParam("target"))
	if err != nil {
		return err
	}
	answer := []client.Holder{}
	for _, h := range list {
		answer = append(answer, client.Holder{Subject: h.Subject, State: h.State, Grants: grantsJSON(h.Grants), Unless: grantsJSON(h.Unless)})
	}
	return c.JSON(http.StatusOK, map[string]any{"holders": answer})
}

func (a *api) askReach(c *call) error {
	if err := onlyQuery(c, "subject"); err != nil {
		return err
	}
	list, err := a.service.Reach(c.caller, c.QueryParam("subject"))
	if err != nil {
		return err
	}
	answer := []client.Reach{}
	for _, r := range list {
		answer = append(answer, client.Reach(r))
	}
	return c.JSON(http.StatusOK, map[string]any{"reach": answer})
}

func grantsJSON(list []service.Grant) []client.Grant {
	answer := []client.Grant{}
	for _, g := range list {
		answer = append(answer, grantJSON(g))
	}
	return answer
}

func consideredJSON(list []service.Considered) []client.Considered {
	answer := []client.Considered{}
	for _, c := range list {
		answer = append(answer, client.Considered{Grant: grantJSON(c.Grant), Miss: c.Miss})
	}
	return answer
}

func (a *api) preflight(c *call) error {
	var body client.Preflight
	if err := a.decode(c, listBody, &body); err != nil {
		return err
	}
	refs, err := parseReferences(body.References)
	if err != nil {
		return err
	}
	checks, err := a.service.Check(c.caller, service.Preflight{Subject: body.Subject, References: refs, Addr: body.Addr, Via: body.Via, Reason: body.Reason})
	if err != nil {
		return err
	}
	answer := []client.Check{}
	for _, ch := range checks {
		answer = append(answer, checkJSON(ch))
	}
	return c.JSON(http.StatusOK, map[string]any{"checks": answer})
}

// manifestBody is more than the largest manifest takes in JSON.
const manifestBody = 2*manifest.MaxSize + 1024

// readManifest says what a manifest needs in each environment. It looks at nothing but the text.
func (a *api) readManifest(c *call) error {
	var body struct {
		Text string `json:"text"`
	}
	if err := a.decode(c, manifestBody, &body); err != nil {
		return err
	}
	m, err := manifest.Read([]byte(body.Text))
	if err != nil {
		return &service.Error{Code: service.InvalidInput, Field: "text", Detail: strings.ReplaceAll(err.Error(), "\n", "; ")}
	}
	environments := m.Environments()
	if len(environments) == 0 {
		environments = []string{""}
	}
	answer := client.ManifestNeeds{App: m.App, Environments: []client.EnvironmentNeeds{}}
	for _, name := range environments {
		needs, err := m.For(name)
		if err != nil {
			return err // not met: every environment has a drawer
		}
		of := client.EnvironmentNeeds{Name: name, Needs: []client.ManifestNeed{}}
		for _, n := range needs {
			of.Needs = append(of.Needs, client.ManifestNeed{Reference: n.Reference.String(), Delivery: n.Delivery()})
		}
		answer.Environments = append(answer.Environments, of)
	}
	return c.JSON(http.StatusOK, answer)
}

// samples are programs that read a value; they say nothing about whether it is there.
func (a *api) samples(c *call) error {
	if err := onlyQuery(c, "reference"); err != nil {
		return err
	}
	refs, err := parseReferences([]string{c.QueryParam("reference")})
	if err != nil {
		return err
	}
	list, err := sample.For(refs[0])
	if err != nil {
		return err
	}
	answer := []client.Sample{}
	for _, s := range list {
		answer = append(answer, client.Sample(s))
	}
	return c.JSON(http.StatusOK, map[string]any{"samples": answer})
}

// reportReads records what an agent on a host served from what it keeps.
func (a *api) reportReads(c *call) error {
	var body client.KeptReads
	if err := a.decode(c, 512<<10, &body); err != nil {
		return err
	}
	reads := make([]service.KeptRead, len(body.Reads))
	for i, read := range body.Reads {
		refs, err := parseReferences([]string{read.Reference})
		if err != nil {
			return err
		}
		reads[i] = service.KeptRead{Number: read.Number, Reference: refs[0], Version: read.Version, At: read.At, By: read.By, Away: read.Away}
	}
	if err := a.service.ReportReads(c.caller, body.Host, reads); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// hostKey gives an app's host the key under which it may keep values on its disk.
func (a *api) hostKey(c *call) error {
	key, err := a.service.HostKey(c.caller)
	if err != nil {
		return err
	}
	defer clear(key[:])
	return c.JSON(http.StatusOK, client.HostKey{Key: key[:]})
}

func checkJSON(ch service.Check) client.Check {
	return client.Check{Reference: ch.Reference.String(), Served: ch.Served, Reason: ch.Reason, Detail: ch.Detail, Remedy: remedyJSON(ch.Remedy),
		Version: ch.Version, NotAfter: ch.NotAfter, Until: ch.Changes, Warning: ch.Warning}
}

// watchValues tells of values that change, as events of the HTML standard (section 9.2), for as long as somebody listens.
func (a *api) watchValues(c *call) error {
	var body client.Watching
	if err := a.decode(c, listBody, &body); err != nil {
		return err
	}
	refs, err := parseReferences(body.References)
	if err != nil {
		return err
	}
	out, err := newPatient(c.Response())
	if err != nil {
		return err
	}
	return a.service.WatchValues(c.Request().Context(), c.caller, refs, service.Watcher{
		Begin: func() error {
			c.Response().Header().Set("Content-Type", "text/event-stream")
			c.Response().WriteHeader(http.StatusOK)
			return nil
		},
		Change: func(ch service.Check) error {
			encoded, err := json.Marshal(checkJSON(ch))
			if err != nil {
				return err
			}
			_, err = out.Write([]byte("data: " + string(encoded) + "\n\n"))
			return err
		},
		Pause: func() error {
			if _, err := out.Write([]byte(": still here\n\n")); err != nil {
				return err
			}
			return out.control.Flush()
		},
	})
}

// parseReferences reads references to items.
func parseReferences(texts []string) ([]reference.Reference, error) {
	refs := make([]reference.Reference, len(texts))
	for i, text := range texts {
		ref, err := reference.Parse(text)
		if err != nil || ref.Item == "" {
			return nil, &service.Error{Code: service.InvalidInput, Field: "references", Detail: fmt.Sprintf("number %d is not of the form drawer/item, drawer/item@3 or drawer/item#field", i+1)}
		}
		refs[i] = ref
	}
	return refs, nil
}
