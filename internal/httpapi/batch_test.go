package httpapi_test

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"tansu/client"
	"tansu/internal/chesttest"
)

// Several values come in one call, each decided and recorded by itself under the one request.
func TestSeveralValuesInOneCall(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "one")
	chest.Fill(t, "d", "j", "two")
	chest.Fill(t, "e", "i", "not for it")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	answer := chest.Do(t, chesttest.Call{Method: "POST", Path: "/api/values", Token: token,
		Body: `{"references":["d/i","tansu:d/j@1","e/i","d/none","d/i@9","d/i"]}`})
	if answer.Status != 200 || strings.Contains(string(answer.Body), "not for it") {
		t.Fatalf("%d %s", answer.Status, answer.Body)
	}
	outcomes := must[[]client.Outcome](t)(chest.Client(t, token).ReadValues(ctx, "d/i", "tansu:d/j@1", "e/i", "d/none", "d/i@9", "d/i"))
	got := ""
	for _, o := range outcomes {
		if o.Problem != nil {
			got += o.Problem.Code + " "
			continue
		}
		content := must[[]byte](t)(base64.StdEncoding.DecodeString(o.Value.Value))
		got += fmt.Sprintf("%s=%s ", o.Value.Reference, content)
	}
	if want := "d/i@1=one d/j@1=two refused not_found not_found d/i@1=one "; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
	if outcomes[2].Problem.Receipt == "" || outcomes[2].Problem.Remedy == nil {
		t.Errorf("the refusal is %+v", outcomes[2].Problem)
	}
	steward := chest.Client(t, chest.Steward)
	page := must[client.TrailPage](t)(steward.Trail(ctx, client.TrailFilter{RequestID: answer.Header.Get("Request-Id")}))
	counts := map[string]int{}
	for _, e := range page.Entries {
		counts[e.Outcome]++
	}
	if counts["allowed"] != 3 || counts["refused"] != 1 || counts["failed"] != 2 {
		t.Errorf("the trail has %v", counts)
	}
	for _, body := range []string{`{}`, `{"references":[]}`, `{"references":["d"]}`, `{"references":["d/i",3]}`, `{"references":["` +
		strings.Repeat(`d/i","`, 100) + `d/i"]}`} {
		if a := chest.Do(t, chesttest.Call{Method: "POST", Path: "/api/values", Token: token, Body: body}); a.Status != 400 {
			t.Errorf("%.40s: %d", body, a.Status)
		}
	}
}

// What one call gets is bounded: the rest is asked for again, and is not in the trail as read.
func TestOneCallGetsABoundedAnswer(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", strings.Repeat("x", 256<<10))
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	references := strings.Split(strings.Repeat("d/i ", 30), " ")[:30]
	outcomes := must[[]client.Outcome](t)(chest.Client(t, token).ReadValues(ctx, references...))
	served := 0
	for _, o := range outcomes {
		if o.Value != nil {
			served++
		} else if o.Problem.Code != "too_large" {
			t.Error(o.Problem)
		}
	}
	page := must[client.TrailPage](t)(chest.Client(t, chest.Steward).Trail(ctx, client.TrailFilter{Action: "read_value"}))
	if served != 17 || len(page.Entries) != served {
		t.Errorf("%d served, %d in the trail", served, len(page.Entries))
	}
}
