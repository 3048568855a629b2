package httpapi_test

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
	"tansu/internal/core/access"
)

const validVersion = `{"value":"YQ==","encoding":"base64"}`

// Everything that anybody does leaves an entry with who, what, on what, how it ended, by which grant and under which
// request.
func TestEverythingDoneIsInTheTrail(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	secret, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	steward := chest.Client(t, chest.Steward)
	spare, err := steward.Register(ctx, client.NewIdentity{Kind: "app", Name: "spare"})
	if err != nil {
		t.Fatal(err)
	}
	given, err := steward.Give(ctx, client.NewGrant{Subject: "app:spare", Role: "viewer", Scope: "d/**"})
	if err != nil {
		t.Fatal(err)
	}
	form := map[string]string{"Content-Type": "application/x-www-form-urlencoded"}
	for _, c := range []struct {
		call                             chesttest.Call
		subject, action, target, outcome string
		byGrant                          bool
	}{
		{chesttest.Call{Method: "GET", Path: "/api/drawers"}, "", "list_drawers", "", "allowed", true},
		{chesttest.Call{Method: "POST", Path: "/api/drawers", Body: `{"name":"e","environment":"staging"}`}, "", "change_rules", "e", "allowed",
			true},
		{chesttest.Call{Method: "GET", Path: "/api/drawers/d"}, "", "list", "d", "allowed", true},
		{chesttest.Call{Method: "PATCH", Path: "/api/drawers/d", Body: `{"description":"x"}`, Header: map[string]string{"If-Match": `"r1"`}}, "",
			"change_rules", "d", "allowed", true},
		{chesttest.Call{Method: "PATCH", Path: "/api/drawers/d", Body: `{"description":"x"}`, Header: map[string]string{"If-Match": `"r1"`}}, "",
			"change_rules", "d", "failed", true},
		{chesttest.Call{Method: "POST", Path: "/api/drawers/d/items", Body: `{"name":"j","version":` + validVersion + `}`}, "", "write_version",
			"d/j", "allowed", true},
		{chesttest.Call{Method: "GET", Path: "/api/drawers/d/items/i"}, "", "see_metadata", "d/i", "allowed", true},
		{chesttest.Call{Method: "PATCH", Path: "/api/drawers/d/items/i", Body: `{"description":"x"}`,
			Header: map[string]string{"If-Match": `"r1"`}}, "", "change_item", "d/i", "allowed", true},
		{chesttest.Call{Method: "POST", Path: "/api/drawers/d/items/i/versions", Body: validVersion}, "", "write_version", "d/i", "allowed",
			true},
		{chesttest.Call{Method: "GET", Path: "/api/values/d/i", Token: token}, "app:ticket-api", "read_value", "d/i", "allowed", true},
		{chesttest.Call{Method: "GET", Path: "/api/values/d/none", Token: token}, "app:ticket-api", "read_value", "d/none", "failed", true},
		{chesttest.Call{Method: "GET", Path: "/api/values/e/i", Token: token}, "app:ticket-api", "read_value", "e/i", "refused", false},
		{chesttest.Call{Method: "GET", Path: "/api/identities"}, "", "list_identities", "", "allowed", true},
		{chesttest.Call{Method: "GET", Path: "/api/identities/app:spare"}, "", "see_metadata", "app:spare", "allowed", true},
		{chesttest.Call{Method: "POST", Path: "/api/identities", Body: `{"kind":"app","name":"new"}`}, "", "register", "app:new", "allowed",
			true},
		{chesttest.Call{Method: "PATCH", Path: "/api/identities/app:new", Body: `{"state":"suspended"}`}, "", "register", "app:new", "allowed",
			true},
		{chesttest.Call{Method: "POST", Path: "/api/identities/app:spare/credentials"}, "", "register", "app:spare", "allowed", true},
		{chesttest.Call{Method: "DELETE", Path: "/api/identities/app:spare/credentials/" + spare.Credential.ID}, "", "register", "app:spare",
			"allowed", true},
		{chesttest.Call{Method: "GET", Path: "/api/grants"}, "", "list_grants", "", "allowed", true},
		{chesttest.Call{Method: "POST", Path: "/api/grants", Body: `{"subject":"app:spare","role":"viewer","scope":"e/**"}`}, "", "grant",
			"app:spare", "allowed", true},
		{chesttest.Call{Method: "DELETE", Path: "/api/grants/" + given.Grant.ID}, "", "grant", "d/**", "allowed", true},
		{chesttest.Call{Method: "DELETE", Path: "/api/grants/gr_nothing"}, "", "grant", "**", "failed", true},
		{chesttest.Call{Method: "GET", Path: "/api/ask/verdict?subject=app:spare&action=list&target=d"}, "", "ask_access", "d", "allowed", true},
		{chesttest.Call{Method: "GET", Path: "/api/ask/holders?action=read_value&target=d/i", Token: token}, "app:ticket-api", "ask_access",
			"d/i", "refused", false},
		{chesttest.Call{Method: "POST", Path: "/api/identities", Body: `{"kind":"team","name":"crew"}`}, "", "register", "team:crew", "allowed",
			true},
		{chesttest.Call{Method: "PUT", Path: "/api/identities/team:crew/members/app:spare"}, "", "register", "team:crew", "allowed", true},
		{chesttest.Call{Method: "DELETE", Path: "/api/identities/team:crew/members/app:spare"}, "", "register", "team:crew", "allowed", true},
		{chesttest.Call{Method: "GET", Path: "/api/refusals"}, "", "list_refusals", "", "allowed", true},
		{chesttest.Call{Method: "GET", Path: "/api/trail"}, "", "read_trail", "", "allowed", true},
		{chesttest.Call{Method: "GET", Path: "/api/receipts/nothing"}, "", "see_receipt", "", "failed", false},
		{chesttest.Call{Method: "POST", Path: "/api/sign-in", Body: `{"person":"steward","password":"` + chesttest.Password +
			`","session":"token"}`, Token: "-"}, "person:steward", "sign_in", "", "allowed", false},
		{chesttest.Call{Method: "POST", Path: "/api/sign-in", Body: `{"person":"steward","password":"wrong password","session":"token"}`,
			Token: "-"}, "person:steward", "sign_in", "", "refused", false},
		{chesttest.Call{Method: "POST", Path: "/api/enrol", Body: `{"code":"x","password":"` + chesttest.Password + `","session":"token"}`,
			Token: "-"}, "unknown", "enrol", "", "refused", false},
		{chesttest.Call{Method: "POST", Path: "/api/oauth/token", Body: "grant_type=client_credentials&client_id=ticket-api&client_secret=" +
			secret, Header: form, Token: "-"}, "app:ticket-api", "issue_token", "", "allowed", false},
		{chesttest.Call{Method: "POST", Path: "/api/oauth/token", Body: "grant_type=client_credentials&client_id=ticket-api&client_secret=x",
			Header: form, Token: "-"}, "app:ticket-api", "issue_token", "", "refused", false},
		{chesttest.Call{Method: "POST", Path: "/api/oauth/revoke", Body: "token=" + token + "&client_id=ticket-api&client_secret=" + secret,
			Header: form, Token: "-"}, "app:ticket-api", "revoke_token", "", "allowed", false},
		{chesttest.Call{Method: "GET", Path: "/api/values/d/i", Token: token}, "unknown", "authenticate", "", "refused", false},
		{chesttest.Call{Method: "GET", Path: "/api/values/d/i", Token: "-"}, "unknown", "authenticate", "", "refused", false},
	} {
		if c.call.Token == "" {
			c.call.Token, c.subject = chest.Steward, "person:steward"
		}
		if c.call.Token == "-" {
			c.call.Token = ""
		}
		answer := chest.Do(t, c.call)
		page, err := steward.Trail(ctx, client.TrailFilter{RequestID: answer.Header.Get("Request-Id")})
		if err != nil || len(page.Entries) != 1 {
			t.Errorf("%s %s (%d): %d entries under its request, %v", c.call.Method, c.call.Path, answer.Status, len(page.Entries), err)
			continue
		}
		e := page.Entries[0]
		if e.Subject != c.subject || e.Action != c.action || e.Target != c.target || e.Outcome != c.outcome || (e.Grant != "") != c.byGrant ||
			e.Addr != "127.0.0.1" || e.Via == "" || (e.Outcome != "allowed") != (e.Reason != "") {
			t.Errorf("%s %s (%d): got %+v", c.call.Method, c.call.Path, answer.Status, e)
		}
	}
}

// Each built-in role does what its actions say over the network, and nothing else.
func TestEachRoleMayDoExactlyItsActions(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	_, _ = chest.App(t, "spare")
	attempts := map[access.Action]chesttest.Call{
		access.List:         {Method: "GET", Path: "/api/drawers/d"},
		access.SeeMetadata:  {Method: "GET", Path: "/api/drawers/d/items/i"},
		access.ReadValue:    {Method: "GET", Path: "/api/values/d/i"},
		access.WriteVersion: {Method: "POST", Path: "/api/drawers/d/items/i/versions", Body: validVersion},
		access.ChangeItem: {Method: "PATCH", Path: "/api/drawers/d/items/i", Body: `{"description":"x"}`,
			Header: map[string]string{"If-Match": `"r99"`}},
		access.ChangeRules: {Method: "PATCH", Path: "/api/drawers/d", Body: `{"description":"x"}`,
			Header: map[string]string{"If-Match": `"r99"`}},
		access.GrantAccess: {Method: "POST", Path: "/api/grants", Body: `{"subject":"app:spare","role":"viewer","scope":"d/**"}`},
		access.Register:    {Method: "POST", Path: "/api/identities", Body: `{"kind":"app","name":"spare"}`},
		access.ReadTrail:   {Method: "GET", Path: "/api/trail"},
	}
	for _, role := range access.Roles {
		token := chest.Person(t, "with-"+role.Name, chesttest.Grant{Role: role.Name, Scope: "**"})
		for action, call := range attempts {
			call.Token = token
			answer := chest.Do(t, call)
			allowed := answer.Status != http.StatusForbidden // it may still fail for another reason, such as a stale revision
			if want := role.Actions&action != 0; allowed != want {
				t.Errorf("role %s, action %s: got %d %s, want allowed %v", role.Name, action, answer.Status, answer.Problem.Detail, want)
			}
		}
	}
}

func TestEnrolmentCodeWorksOnceAndEnds(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	anyone := chest.Client(t, "")
	register := func(name string) client.Issued {
		registered, err := steward.Register(ctx, client.NewIdentity{Kind: "person", Name: name})
		if err != nil {
			t.Fatal(err)
		}
		return registered.Credential
	}
	first := register("ticketing-lead")
	if _, err := anyone.Enrol(ctx, first.Secret, "short"); chesttest.Code(err) != "invalid_input" {
		t.Errorf("a short password: %v", err)
	}
	var sessions sync.Map
	var wg sync.WaitGroup
	for n := range 5 {
		wg.Go(func() {
			if session, err := anyone.Enrol(ctx, first.Secret, chesttest.Password); err == nil {
				sessions.Store(n, session.Token)
			}
		})
	}
	wg.Wait()
	used, token := 0, ""
	sessions.Range(func(_, value any) bool { used++; token = value.(string); return true })
	if used != 1 {
		t.Fatalf("the code was used %d times by five at once", used)
	}
	late := register("harbour-master")
	chest.Clock.Set(-73 * time.Hour)
	if _, err := anyone.Enrol(ctx, late.Secret, chesttest.Password); chesttest.Code(err) != "sign_in_failed" {
		t.Errorf("after its end: %v", err)
	}
	steward = chest.Client(t, chest.SignIn(t, "steward"))
	again, err := steward.IssueCredential(ctx, "person:ticketing-lead", client.NewCredential{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := anyone.Enrol(ctx, again.Secret, chesttest.Password+" changed"); err != nil {
		t.Fatal(err)
	}
	if _, err := chest.Client(t, token).Me(ctx); chesttest.Code(err) != "unauthenticated" {
		t.Errorf("a session from before the new password: %v", err)
	}
	if _, err := anyone.SignIn(ctx, "ticketing-lead", chesttest.Password, ""); chesttest.Code(err) != "sign_in_failed" {
		t.Errorf("the old password: %v", err)
	}
}

// Locking while others read: every answer is a value or says that the chest is locked, never anything in between.
func TestLockingUnderLoadIsClean(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "value")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	material, err := os.ReadFile(filepath.Join(chest.Dir, "unlock.key"))
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			app := chest.Client(t, token)
			for {
				select {
				case <-done:
					return
				default:
				}
				content, _, err := app.Read(ctx, "d/i")
				if err == nil && string(content) != "value" || err != nil && chesttest.Code(err) != "locked" {
					t.Errorf("got %q, %v", content, err)
					return
				}
			}
		})
	}
	steward := chest.Client(t, chest.Steward)
	for range 10 {
		if _, err := steward.Lock(ctx); err != nil {
			t.Error(err)
		}
		if _, err := steward.Unlock(ctx, string(material)); err != nil {
			t.Error(err)
		}
	}
	close(done)
	wg.Wait()
}

// The remedy that a refusal names must be one that helps: given as it stands, the same question is answered with yes.
func TestRemedyHelps(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward := chest.Client(t, chest.Steward)
	for n, call := range []chesttest.Call{
		{Method: "GET", Path: "/api/values/d/i"},
		{Method: "GET", Path: "/api/drawers/d"},
		{Method: "GET", Path: "/api/drawers/d/items/i"},
		{Method: "POST", Path: "/api/drawers/d/items/i/versions", Body: validVersion},
		{Method: "PATCH", Path: "/api/drawers/d/items/i", Body: `{"owner":""}`, Header: map[string]string{"If-Match": `"r99"`}},
		{Method: "POST", Path: "/api/drawers", Body: `{"name":"new","environment":"staging"}`},
		{Method: "POST", Path: "/api/grants", Body: `{"subject":"person:steward","role":"viewer","scope":"d/*"}`},
		{Method: "GET", Path: "/api/identities"},
		{Method: "POST", Path: "/api/identities", Body: `{"kind":"app","name":"new"}`},
		{Method: "GET", Path: "/api/trail"},
		{Method: "GET", Path: "/api/refusals"},
		{Method: "GET", Path: "/api/ask/holders?action=read_value&target=d/i"},
		{Method: "POST", Path: "/api/lock"},
	} {
		call.Token = chest.Person(t, fmt.Sprintf("person-%d", n))
		refused := chest.Do(t, call)
		remedy := refused.Problem.Remedy
		if refused.Status != http.StatusForbidden || remedy == nil {
			t.Errorf("%s %s: got %d, remedy %v", call.Method, call.Path, refused.Status, remedy)
			continue
		}
		if _, err := steward.Give(ctx, client.NewGrant{Subject: remedy.Subject, Role: remedy.Role, Scope: remedy.Scope}); err != nil {
			t.Errorf("%s %s: the remedy cannot be given: %v", call.Method, call.Path, err)
		}
		receipt, err := steward.Receipt(ctx, refused.Problem.Receipt)
		if err != nil || !receipt.AllowedNow || receipt.Remedy != nil {
			t.Errorf("%s %s: the receipt says %+v, %v", call.Method, call.Path, receipt, err)
		}
		if answer := chest.Do(t, call); answer.Status == http.StatusForbidden {
			t.Errorf("%s %s: still refused after %s: %s", call.Method, call.Path, remedy.Command, answer.Problem.Detail)
		}
	}
}

// Who refers to a name with a typo is helped, as far as they may know what there is.
func TestNearestNameIsHintedOnlyToWhoMaySeeIt(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	_, all := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "**"}, chesttest.Grant{Role: "viewer", Scope: "**"})
	_, blind := chest.App(t, "rota-sync", chesttest.Grant{Role: "consumer", Scope: "**"})
	for _, path := range []string{"/api/values/ticketing-prod/db-pasword", "/api/values/ticketing-prd/db-password"} {
		seen := chest.Do(t, chesttest.Call{Method: "GET", Path: path, Token: all})
		hidden := chest.Do(t, chesttest.Call{Method: "GET", Path: path, Token: blind})
		if seen.Status != 404 || !strings.Contains(seen.Problem.Detail, "did you mean ticketing-prod") {
			t.Errorf("%s for whoever may list: %d %s", path, seen.Status, seen.Problem.Detail)
		}
		if hidden.Status != 404 || strings.Contains(hidden.Problem.Detail, "did you mean") {
			t.Errorf("%s for whoever may not: %d %s", path, hidden.Status, hidden.Problem.Detail)
		}
	}
	var problem *client.Problem
	if _, err := chest.Client(t, chest.Steward).Identity(ctx, "app:tiket-api"); !errors.As(err, &problem) ||
		!strings.Contains(problem.Detail, "app:ticket-api") {
		t.Errorf("a subject: %v", err)
	}
}

// A flood of refusals fills no disk and hides nobody: what is alike is counted, durably, and becomes one entry with the exact
// count.
func TestAFloodOfRefusalsIsFolded(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	_, flooder := chest.App(t, "map-printer")
	app := chest.Client(t, flooder)
	receipts := map[string]int{}
	for range 300 {
		_, _, err := app.Read(ctx, "d/i")
		if chesttest.Code(err) != "refused" {
			t.Fatal(err)
		}
		receipts[err.(*client.Problem).Receipt]++
	}
	if len(receipts) != 10 {
		t.Errorf("%d receipts", len(receipts))
	}
	steward := chest.Client(t, chest.Steward)
	for receipt := range receipts { // what is counted has the receipt of one that is recorded
		must[client.Receipt](t)(steward.Receipt(ctx, receipt))
	}
	var group sync.WaitGroup
	var throttled atomic.Int64
	for part := range 4 {
		group.Go(func() {
			for n := range 300 {
				if _, _, err := app.Read(ctx, fmt.Sprintf("d/guess-%d-%d", part, n)); chesttest.Code(err) == "throttled" {
					throttled.Add(1)
				}
			}
		})
	}
	group.Wait()
	if throttled.Load() != 1200-990 {
		t.Errorf("%d of 1200 were turned away", throttled.Load())
	}
	must[client.Value](t)(chest.Client(t, token).ReadValue(ctx, "d/i")) // another from the same address is not touched
	refused := func() (entries, folded int) {
		f := client.TrailFilter{Subject: "app:map-printer", Outcome: "refused", Limit: 500}
		for {
			page := must[client.TrailPage](t)(chest.Client(t, chest.SignIn(t, "steward")).Trail(ctx, f))
			for _, e := range page.Entries {
				if e.Count > 0 {
					folded += int(e.Count)
				} else {
					entries++
				}
			}
			if f.Cursor = page.NextCursor; f.Cursor == "" {
				return entries, folded
			}
		}
	}
	if entries, folded := refused(); entries != 1000 || folded != 0 {
		t.Errorf("%d entries, %d folded", entries, folded)
	}
	if counted := chest.Rows(t, "SELECT sum(count) FROM folds"); fmt.Sprint(counted) != "[[500]]" {
		t.Errorf("counted in the file: %v", counted)
	}
	chest.Clock.Set(-11 * time.Minute)
	chest.Service.Upkeep()
	if entries, folded := refused(); entries != 1000 || folded != 500 {
		t.Errorf("afterwards %d entries, %d folded", entries, folded)
	}
	groups := must[[]client.RefusalGroup](t)(chest.Client(t, chest.SignIn(t, "steward")).Refusals(ctx, time.Time{}))
	if at := slices.IndexFunc(groups, func(g client.RefusalGroup) bool { return g.Target == "d/i" }); at < 0 || groups[at].Count != 300 ||
		groups[at].Receipt == "" {
		t.Errorf("the queue has %+v", groups[:min(3, len(groups))])
	}
	if _, _, err := app.Read(ctx, "d/i"); chesttest.Code(err) != "refused" || receipts[err.(*client.Problem).Receipt] > 0 {
		t.Errorf("in the next window: %v", err)
	}
}

// An auditor of one item and one drawer is answered from what is said of these: page after page, all of it and nothing else.
func TestNarrowAuditorSeesAllOfTheirsInOrder(t *testing.T) {
	chest := chesttest.Start(t)
	for _, name := range []string{"d/i", "d/j", "e/k", "f/l"} {
		drawer, item, _ := strings.Cut(name, "/")
		chest.Fill(t, drawer, item, "v")
	}
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "**"})
	for n := range 40 {
		name := []string{"d/i", "d/j", "e/k", "f/l"}[n*7%4]
		must[client.Value](t)(chest.Client(t, token).ReadValue(ctx, name))
	}
	auditor := chest.Client(t, chest.Person(t, "audit-desk", chesttest.Grant{Role: "auditor", Scope: "d/i"},
		chesttest.Grant{Role: "auditor", Scope: "e/**"}))
	var want []uint64
	for _, e := range must[client.TrailPage](t)(chest.Client(t, chest.Steward).Trail(ctx, client.TrailFilter{Action: "read_value",
		Limit: 500})).Entries {
		if e.Target == "d/i" || e.Target == "e/k" {
			want = append(want, e.Seq)
		}
	}
	var got []uint64
	filter := client.TrailFilter{Action: "read_value", Limit: 3}
	for range 50 {
		page := must[client.TrailPage](t)(auditor.Trail(ctx, filter))
		for _, e := range page.Entries {
			got = append(got, e.Seq)
		}
		if filter.Cursor = page.NextCursor; filter.Cursor == "" {
			break
		}
	}
	if len(want) != 20 || !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
}
