package httpapi

import (
	"net/http"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/credential"
	"tansu/internal/core/importfile"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
)

func (a *api) limits(c *call) error {
	return c.JSON(http.StatusOK, client.Limits{Name: reference.MaxName, NamePattern: reference.NamePattern, NameForm: reference.NameForm,
		Labels:      reference.MaxLabels,
		Description: chest.MaxDescription, Note: chest.MaxNote, Value: secretvalue.MaxSize, Fields: secretvalue.MaxFields,
		ImportFile: importfile.MaxSize,
		Formats:    formatNames(), Password: credential.MinPassword})
}

func formatNames() (names []string) {
	for _, f := range importfile.Formats {
		names = append(names, string(f))
	}
	return names
}

func (a *api) examine(c *call) error {
	touched, err := a.service.Examine(c.caller)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"touched": append([]string{}, touched...)})
}

func (a *api) health(c *call) error { return c.JSON(http.StatusOK, map[string]string{"status": "ok"}) }

func (a *api) ready(c *call) error {
	if err := a.service.Ready(); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]string{"status": "ready"})
}

func (a *api) openapi(c *call) error { return c.Blob(http.StatusOK, "application/yaml", contract) }
