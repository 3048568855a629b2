package httpapi_test

import (
	"bytes"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/httpapi"
)

// What somebody may not know of is in no answer to them: not by its name, its description, or as the scope of somebody's grant. All
// operations of the contract that read are walked as each of a dozen identities of narrow rights, about all that they may know of.
func TestNoAnswerNamesWhatItsReaderMayNotKnow(t *testing.T) {
	in := startInsiders(t)
	in.Fill(t, "vault-x", "secret-y", "the same")
	in.Fill(t, "d", "j", "the same")
	steward := in.steward
	contents := must[client.DrawerContents](t)(steward.Drawer(ctx, "vault-x"))
	about := "canary-words"
	owner := "person:ticketing-lead"
	lead := in.Person(t, "ticketing-lead", chesttest.Grant{Role: "consumer", Scope: "vault-x/**"}, chesttest.Grant{Role: "viewer",
		Scope: "d/i"})
	must[client.Drawer](t)(steward.ChangeDrawer(ctx, "vault-x", contents.Drawer.Revision, client.Described{Description: &about, Owner: &owner,
		Approval: &client.Approval{Items: []string{"*"}, Of: "persons"}}))
	version(t, steward, "vault-x", "secret-y", func() string { return "another" }(), func(v *client.NewVersion) {
		v.NotAfter = time.Now().Add(48 * time.Hour)
	})
	version(t, steward, "d", "i", "two", func(v *client.NewVersion) { v.NotAfter = time.Now().Add(48 * time.Hour) })
	_, appToken := in.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "vault-x/**"}, chesttest.Grant{Role: "consumer",
		Scope: "d/**"})
	team(t, steward, "crew", "app:ticket-api", owner)
	give(t, steward, "team:crew", "consumer", "vault-x/**")
	_, _, err := in.Client(t, lead).Read(ctx, "vault-x/secret-y")
	var receipt string
	if problem, is := err.(*client.Problem); is {
		receipt = problem.Receipt
		must[client.Request](t)(in.Client(t, lead).AskFor(ctx, client.NewRequest{Receipt: receipt, Reason: "canary-words"}))
	}
	for _, name := range []string{"d/i", "d/j", "vault-x/secret-y"} {
		must[client.Value](t)(in.Client(t, appToken).ReadValue(ctx, name))
	}
	for name, actions := range map[string][]string{"ruler": {"change_rules"}, "changer": {"change_item"}, "shredder": {"shred"},
		"lister": {"list"}} {
		must[client.RoleStored](t)(steward.AddRole(ctx, client.NewRole{Name: name, Actions: actions}))
	}
	narrow := map[string]string{}
	for name, g := range map[string]chesttest.Grant{"a": {Role: "viewer", Scope: "d/i"}, "b": {Role: "consumer", Scope: "d/i"},
		"c": {Role: "curator", Scope: "d/**"}, "e": {Role: "depositor", Scope: "d/**"}, "f": {Role: "auditor", Scope: "d/i"},
		"g": {Role: "auditor", Scope: "d/**"}, "h": {Role: "gatekeeper", Scope: "d/**"}, "i": {Role: "registrar", Scope: "**"},
		"j": {Role: "operator", Scope: "**"}, "k": {Role: "ruler", Scope: "d/**"}, "l": {Role: "changer", Scope: "d/i"},
		"m": {Role: "shredder", Scope: "d/i"}, "n": {Role: "lister", Scope: "d"}, "o": {Role: "gatekeeper", Scope: "d/i"}} {
		if testing.Short() && !strings.Contains("fhijc", name) { // each of them asks hundreds of questions
			continue
		}
		narrow[g.Role+" on "+g.Scope] = in.Person(t, "narrow-"+name, g)
	}
	_, narrow["an app"] = in.App(t, "narrow-app", chesttest.Grant{Role: "consumer", Scope: "d/i"})

	document, err := openapi3.NewLoader().LoadFromData(httpapi.Contract())
	if err != nil {
		t.Fatal(err)
	}
	parameter := regexp.MustCompile(`\{(\w+)\}`)
	values := map[string][]string{"drawer": {"d"}, "item": {"i"}, "subject": {"app:ticket-api", owner, "team:crew"}, "action": {"read_value"},
		"target": {"d/i"}, "reference": {"d/i"}, "q": {"x", "vault"}, "receipt": {receipt}, "request": {"rq_none"}, "seq": {"20"},
		"other": {"d/j"}}
	canaries := []string{"vault-x", "secret-y", "canary-words"}
	asked := 0
	for who, token := range narrow {
		for path, item := range document.Paths.Map() {
			if item.Get == nil || strings.Contains(path, "watch") || strings.Contains(path, "live") || strings.HasPrefix(path, "/api/calendars/") {
				continue
			}
			for _, call := range calls(path, item.Get, parameter, values) {
				asked++
				answer := in.Do(t, chesttest.Call{Method: "GET", Path: call, Token: token})
				for _, canary := range canaries {
					asking, _ := url.QueryUnescape(call)
					if bytes.Contains(answer.Body, []byte(canary)) && !strings.Contains(asking, canary[:5]) {
						t.Errorf("%s learns of %s by GET %s: %s", who, canary, call, excerpt(answer.Body, canary))
					}
				}
			}
		}
		for path, body := range map[string]string{
			"/api/ask/difference": `{"give":{"subject":"app:ticket-api","role":"viewer","scope":"d/i"}}`,
			"/api/preflight":      `{"references":[{"reference":"d/i"}]}`,
		} {
			answer := in.Do(t, chesttest.Call{Method: "POST", Path: path, Token: token, Body: body})
			for _, canary := range canaries {
				if bytes.Contains(answer.Body, []byte(canary)) {
					t.Errorf("%s learns of %s by POST %s: %s", who, canary, path, excerpt(answer.Body, canary))
				}
			}
		}
	}
	if asked < 800 {
		t.Errorf("only %d questions were asked", asked)
	}
	t.Logf("%d questions", asked)
}

// calls fills the parameters of an operation with all values that there are for them.
func calls(path string, operation *openapi3.Operation, parameter *regexp.Regexp, values map[string][]string) []string {
	list := []string{path}
	for _, found := range parameter.FindAllStringSubmatch(path, -1) {
		var next []string
		for _, one := range list {
			for _, value := range append([]string{}, values[found[1]]...) {
				next = append(next, strings.Replace(one, found[0], url.PathEscape(value), 1))
			}
			if values[found[1]] == nil {
				next = append(next, strings.Replace(one, found[0], "none", 1))
			}
		}
		list = next
	}
	for _, p := range operation.Parameters {
		if p.Value.In != "query" || values[p.Value.Name] == nil || strings.Contains(path, "{"+p.Value.Name+"}") {
			continue
		}
		var next []string
		for _, one := range list {
			for _, value := range values[p.Value.Name] {
				separator := "?"
				if strings.Contains(one, "?") {
					separator = "&"
				}
				if value != "" || p.Value.Required {
					next = append(next, one+separator+p.Value.Name+"="+url.QueryEscape(value))
				} else {
					next = append(next, one)
				}
			}
			if !p.Value.Required {
				next = append(next, one)
			}
		}
		list = next
	}
	return list
}

func excerpt(body []byte, around string) string {
	at := bytes.Index(body, []byte(around))
	return string(body[max(0, at-150):min(len(body), at+100)])
}
