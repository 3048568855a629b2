package httpapi_test

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"tansu/client"
	"tansu/internal/chesttest"
)

func dotenv(text string) client.NewImport {
	return client.NewImport{Format: "dotenv", Content: base64.StdEncoding.EncodeToString([]byte(text)), Encoding: "base64"}
}

func results(r client.ImportReport) string {
	var parts []string
	for _, it := range r.Items {
		parts = append(parts, it.Item+" "+it.Result)
	}
	for _, p := range r.Problems {
		parts = append(parts, fmt.Sprintf("line %d", p.Line))
	}
	return strings.Join(parts, ", ")
}

// A file is moved in whole or not at all; a preview changes nothing; what is there already is in the way until asked.
func TestFileIsMovedInWholeOrNotAtAll(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "existing", "old")
	depositor := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "depositor", Scope: "d/**"},
		chesttest.Grant{Role: "consumer", Scope: "d/e*"}))
	reader := chest.Client(t, chest.Person(t, "platform-oncall", chesttest.Grant{Role: "consumer", Scope: "d/**"}))
	must2 := func(n client.NewImport) client.ImportReport {
		t.Helper()
		return must[client.ImportReport](t)(depositor.Import(ctx, "d", n))
	}
	file := "DB_PASSWORD='p w'\nEXISTING=new\nBROKEN=$X\nBAD!=1\nEMPTY=\n"
	report := must2(dotenv(file))
	if got := results(report); report.Done || got != "db-password new, existing exists, empty invalid, line 3, line 4" {
		t.Errorf("%v: %s", report.Done, got)
	}
	if got := readCode(reader, "d/db-password"); got != "not_found" {
		t.Errorf("part of a file that cannot be moved in whole is in: %q", got)
	}
	each := dotenv(file)
	each.Each, each.Replace, each.Preview = true, true, true
	if report := must2(each); report.Done || results(report) != "db-password new, existing changed, empty invalid, line 3, line 4" {
		t.Errorf("the preview: %v %s", report.Done, results(report))
	}
	if got := readCode(reader, "d/db-password"); got != "not_found" {
		t.Errorf("a preview puts something in: %q", got)
	}
	each.Preview = false
	if report := must2(each); !report.Done {
		t.Errorf("item by item: %s", results(report))
	}
	for ref, want := range map[string]string{"d/db-password": "p w", "d/existing": "new", "d/existing@1": "old"} {
		if value, _, err := reader.Read(ctx, ref); err != nil || string(value) != want {
			t.Errorf("%s: %q, %v", ref, value, err)
		}
	}
	again := dotenv("DB_PASSWORD='p w'\nEXISTING=new\n")
	again.Replace = true
	if report := must2(again); results(report) != "db-password changed, existing same" {
		t.Errorf("who may not read it is told that it is the same: %s", results(report))
	}
	page := must[client.TrailPage](t)(chest.Client(t, chest.Steward).Trail(ctx,
		client.TrailFilter{Subject: "person:ticketing-lead", Action: "write_version", Target: "d/db-password"}))
	if len(page.Entries) != 2 || page.Entries[0].Version != 2 || page.Entries[0].Detail != "by import" {
		t.Errorf("the trail has %+v", page.Entries)
	}
	chest.Restart(t)
	reader = chest.Client(t, chest.SignIn(t, "platform-oncall"))
	if got := readCode(reader, "d/db-password"); got != "" {
		t.Errorf("after a restart: %q", got)
	}
}

func TestImportIsRefusedItemByItem(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	some := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "depositor", Scope: "d/db-*"}))
	report := must[client.ImportReport](t)(some.Import(ctx, "d", dotenv("DB_A=1\nI=2\nDB_A_2=x")))
	if report.Done || results(report) != "db-a new, i refused, db-a-2 new" {
		t.Errorf("%s", results(report))
	}
	nobody := chest.Client(t, chest.Person(t, "rota-trainee"))
	here, there := must[client.ImportReport](t)(nobody.Import(ctx, "d", dotenv("I=2"))),
		must[client.ImportReport](t)(nobody.Import(ctx, "nothing", dotenv("I=2")))
	if results(here) != "i refused" || results(there) != "i refused" {
		t.Errorf("what exists shows: %s and %s", results(here), results(there))
	}
	for what, n := range map[string]client.NewImport{"another format": {Format: "toml", Encoding: "base64"},
		"no base64": {Format: "json", Content: "?", Encoding: "base64"}} {
		if _, err := some.Import(ctx, "d", n); chesttest.Code(err) != "invalid_input" {
			t.Errorf("%s: %v", what, err)
		}
	}
	var large strings.Builder
	for n := range 2000 {
		fmt.Fprintf(&large, "DB_%d=value-%d\n", n, n)
	}
	if report := must[client.ImportReport](t)(some.Import(ctx, "d", dotenv(large.String()))); !report.Done || len(report.Items) != 2000 {
		t.Errorf("%d of 2000, done %v", len(report.Items), report.Done)
	}
}
