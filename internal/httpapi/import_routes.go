package httpapi

import (
	"encoding/base64"
	"net/http"

	"tansu/client"
	"tansu/internal/core/importfile"
	"tansu/internal/core/lifecycle"
	"tansu/internal/shelf"
)

func (a *api) exportDrawer(c *call) error {
	var body client.NewExport
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	e, err := a.service.ExportDrawer(c.caller, c.param("drawer"),
		shelf.NewExport{Format: importfile.Format(body.Format), Recipient: body.Recipient, Clear: body.Clear})
	if err != nil {
		return err
	}
	defer e.Content.Wipe()
	answer := client.Export{Content: base64.StdEncoding.EncodeToString(e.Content.Reveal()), Encoding: "base64", Items: []client.Exported{}}
	for _, it := range e.Items {
		answer.Items = append(answer.Items, client.Exported(it))
	}
	return c.JSON(http.StatusOK, answer)
}

// importBody is more than the largest file takes in base64.
const importBody = importfile.MaxSize*4/3 + 1024

func (a *api) importFile(c *call) error {
	var body client.NewImport
	if err := a.decode(c, importBody, &body); err != nil {
		return err
	}
	content, err := fromBase64("content", body.Content)
	if err != nil {
		return err
	}
	defer content.Wipe()
	report, err := a.service.Import(c.caller, c.param("drawer"), shelf.NewImport{Format: importfile.Format(body.Format), Content: content,
		Replace: body.Replace, Each: body.Each, Preview: body.Preview, Except: body.Except, Note: body.Note, Owner: body.Owner,
		Window: lifecycle.Window{NotAfter: body.NotAfter}})
	if err != nil {
		return err
	}
	answer := client.ImportReport{Done: report.Done, Items: []client.Imported{}, Problems: []client.ImportProblem{}}
	for _, it := range report.Items {
		answer.Items = append(answer.Items, client.Imported(it))
	}
	for _, p := range report.Problem {
		answer.Problems = append(answer.Problems, client.ImportProblem(p))
	}
	return c.JSON(http.StatusOK, answer)
}
