package client_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"tansu/client"
	"tansu/internal/chesttest"
)

// Whatever the chest sends the client takes: a batch whose values come to many megabytes, a drawer exported whole, and what
// became of an import of many entries.
func TestTheClientTakesLargeAnswers(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	_, token := chest.App(t, "map-printer", chesttest.Grant{Role: "consumer", Scope: "tiles/**"})
	app, references := chest.Client(t, token), []string(nil)
	if _, err := steward.Give(t.Context(), client.NewGrant{Subject: "person:steward", Role: "consumer", Scope: "tiles/**"}); err != nil {
		t.Fatal(err)
	}
	const size, count = 60_000, 60
	for n := range count {
		chest.Fill(t, "tiles", fmt.Sprintf("sheet-%d", n), fmt.Sprintf("%0*d", size, n))
		references = append(references, fmt.Sprintf("tiles/sheet-%d", n))
	}
	values, err := app.ReadValues(t.Context(), references...)
	if err != nil || len(values) != count {
		t.Fatalf("%d values, %v", len(values), err)
	}
	for n, one := range values {
		if one.Value == nil {
			t.Fatalf("%s: %v", one.Reference, one.Problem)
		}
		content, err := base64.StdEncoding.DecodeString(one.Value.Value)
		if err != nil || string(content) != fmt.Sprintf("%0*d", size, n) {
			t.Fatalf("%s has %d bytes, %v", one.Reference, len(content), err)
		}
	}
	exported, err := steward.Export(t.Context(), "tiles", client.NewExport{Format: "json", Clear: true})
	if err != nil {
		t.Fatal(err)
	}
	content, err := base64.StdEncoding.DecodeString(exported.Content)
	if err != nil {
		t.Fatal(err)
	}
	var file map[string]any
	if err := json.Unmarshal(content, &file); err != nil || len(exported.Items) != count || len(content) < size*count {
		t.Errorf("a file of %d bytes with %d items, %v", len(content), len(exported.Items), err)
	}
	var text strings.Builder
	for n := range 15_000 {
		fmt.Fprintf(&text, "MADE_UP_NAME_OF_A_TILE_SERVER_SETTING_NUMBER_%d=%d\n", n, n)
	}
	report, err := steward.Import(t.Context(), "tiles", client.NewImport{Format: "dotenv", Encoding: "base64", Preview: true,
		Content: base64.StdEncoding.EncodeToString([]byte(text.String()))})
	if err != nil || len(report.Items) != 15_000 {
		t.Errorf("what would become of %d entries, %v", len(report.Items), err)
	}
}
