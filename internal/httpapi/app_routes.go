package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/manifest"
	"tansu/internal/core/reference"
	"tansu/internal/core/sample"
	"tansu/internal/record"
	"tansu/internal/shelf"
)

func (a *api) preflight(c *call) error {
	var body client.Preflight
	if err := a.decode(c, listBody, &body); err != nil {
		return err
	}
	refs, err := parseReferences(body.References)
	if err != nil {
		return err
	}
	checks, err := a.service.Check(c.caller,
		shelf.Preflight{Subject: body.Subject, References: refs, Addr: body.Addr, Via: body.Via, Reason: body.Reason})
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
		return &chest.Error{Code: chest.InvalidInput, Field: "text", Detail: strings.ReplaceAll(err.Error(), "\n", "; ")}
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
	reads := make([]record.KeptRead, len(body.Reads))
	for i, read := range body.Reads {
		refs, err := parseReferences([]string{read.Reference})
		if err != nil {
			return err
		}
		reads[i] = record.KeptRead{Number: read.Number, Reference: refs[0], Version: read.Version, At: read.At, By: read.By, Away: read.Away}
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

func checkJSON(ch shelf.Check) client.Check {
	return client.Check{Reference: ch.Reference.String(), Served: ch.Served, Reason: ch.Reason, Detail: ch.Detail,
		Remedy: remedyJSON(ch.Remedy), Version: ch.Version, NotAfter: ch.NotAfter, Until: ch.Changes, Access: ch.Access, Warning: ch.Warning,
		Environment: ch.Environment, Revoked: ch.Revoked}
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
	return a.service.WatchValues(c.Request().Context(), c.caller, refs, shelf.Watcher{
		Begin: func() error {
			c.Response().Header().Set("Content-Type", "text/event-stream")
			c.Response().WriteHeader(http.StatusOK)
			return nil
		},
		Change: func(ch shelf.Check) error {
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
			return nil, &chest.Error{Code: chest.InvalidInput, Field: "references",
				Detail: fmt.Sprintf("number %d is not of the form drawer/item, drawer/item@3 or drawer/item#field", i+1)}
		}
		refs[i] = ref
	}
	return refs, nil
}
