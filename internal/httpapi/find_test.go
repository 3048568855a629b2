package httpapi_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
)

func namesFound(t *testing.T, c *client.Client, words string) string {
	t.Helper()
	var names []string
	for _, f := range must[[]client.Found](t)(c.Find(ctx, words)) {
		names = append(names, f.Kind+" "+f.Name)
	}
	return strings.Join(names, ", ")
}

// Whatever has a name is found by who may know of it, the nearest first, and by nobody else; what is looked for is not in the trail.
func TestWhatHasANameIsFound(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	chest.Fill(t, "fuel-prod", "ticket-key", "v")
	chest.App(t, "ticket-api")
	steward := chest.Client(t, chest.Steward)
	viewer := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "**"}))
	must[client.Given](t)(steward.Give(ctx,
		client.NewGrant{Subject: "person:ticketing-lead", Role: "viewer", Scope: "fuel-prod/**", Effect: "deny"}))
	nobody := chest.Client(t, chest.Person(t, "rota-trainee"))
	for _, one := range []struct {
		who         *client.Client
		words, want string
	}{
		{steward, "ticket", "app app:ticket-api, drawer ticketing-prod, item fuel-prod/ticket-key, person person:ticketing-lead, " +
			"item ticketing-prod/db-password"},
		{steward, "db ticketing", "item ticketing-prod/db-password"},
		{steward, "app:ticket-api", "app app:ticket-api"},
		{steward, "consumer", "role consumer"},
		{viewer, "ticket", "drawer ticketing-prod, person person:ticketing-lead, item ticketing-prod/db-password"},
		{viewer, "fuel", ""}, // a denial counts
		{nobody, "ticket", ""},
		{nobody, "trainee", "person person:rota-trainee"},
	} {
		if got := namesFound(t, one.who, one.words); got != one.want {
			t.Errorf("%q finds %q, and not %q", one.words, got, one.want)
		}
	}
	if _, err := steward.Find(ctx, "  "); chesttest.Code(err) != "invalid_input" {
		t.Errorf("without words: %v", err)
	}
	entries := must[client.TrailPage](t)(steward.Trail(ctx, client.TrailFilter{Action: "search"})).Entries
	if len(entries) != 8 || slices.ContainsFunc(entries, func(e client.Entry) bool { return e.Detail != "" || e.Target != "" }) {
		t.Errorf("in the trail: %+v", entries)
	}
}

// What a caller may do is said of their own grants alone, whether or not there is anything of a name, and is no entry.
func TestWhatOneMayDoIsSaid(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	lead := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "ticketing-*/**"},
		chesttest.Grant{Role: "consumer", Scope: "ticketing-prod/db-*"}))
	before := must[client.TrailPage](t)(chest.Client(t, chest.Steward).Trail(ctx, client.TrailFilter{})).Entries[0].Seq
	for target, want := range map[string]string{
		"ticketing-prod":             "list see_metadata read_value encrypt decrypt sign verify",
		"ticketing-prod/db-password": "list see_metadata read_value encrypt decrypt sign verify",
		"ticketing-prod/mail":        "list see_metadata", "ticketing-none/db": "list see_metadata", "fuel-prod/db-password": "",
	} {
		if got := strings.Join(must[client.There](t)(lead.MayThere(ctx, target)).Actions, " "); got != want {
			t.Errorf("on %s: %q, and not %q", target, got, want)
		}
	}
	if _, err := lead.MayThere(ctx, "not a name"); chesttest.Code(err) != "invalid_input" {
		t.Errorf("%v", err)
	}
	me := must[client.Me](t)(lead.Me(ctx))
	somewhere := strings.Join(me.May.Somewhere, " ")
	if somewhere != "list see_metadata read_value encrypt decrypt sign verify" || len(me.May.Chest)+len(me.May.Everything) != 0 {
		t.Errorf("%+v", me.May)
	}
	own := client.TrailFilter{Subject: "person:ticketing-lead"}
	entries := must[client.TrailPage](t)(chest.Client(t, chest.Steward).Trail(ctx, own)).Entries
	if slices.ContainsFunc(entries, func(e client.Entry) bool { return e.Seq > before }) {
		t.Errorf("saying it is in the trail: %+v", entries[0])
	}
}

// What a grant allows only with a reason, with a second person, or under a condition that does not hold is said before it is tried: nobody
// has to be refused to find out, nor to ask for the second person.
func TestWhatIsNeededBesidesAGrantIsSaidBeforeItIsTried(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	for _, item := range []string{"ledger", "mail", "pump"} {
		chest.Fill(t, "fuel", item, "v")
	}
	token := chest.Person(t, "oncall", chesttest.Grant{Role: "viewer", Scope: "fuel/**"})
	duty := chest.Client(t, chest.Person(t, "duty", chesttest.Grant{Role: "gatekeeper", Scope: "fuel/**"}))
	for item, conditions := range map[string]client.Conditions{"ledger": {NeedsReason: true}, "mail": {NeedsReason: true},
		"pump": {Networks: []string{"192.0.2.0/24"}}} {
		must[client.Given](t)(steward.Give(ctx, client.NewGrant{Subject: "person:oncall", Role: "consumer", Scope: "fuel/" + item,
			Conditions: conditions}))
	}
	contents := must[client.DrawerContents](t)(steward.Drawer(ctx, "fuel"))
	must[client.Drawer](t)(steward.ChangeDrawer(ctx, "fuel", contents.Drawer.Revision,
		client.Described{Approval: &client.Approval{Items: []string{"ledger"}, Of: "persons"}}))
	oncall := chest.Client(t, token)
	there := must[client.There](t)(oncall.MayThere(ctx, "fuel/mail"))
	if !slices.Contains(there.NeedReason, "read_value") || len(there.NeedApproval)+len(there.Unmet) != 0 {
		t.Errorf("with a reason: %+v", there)
	}
	there = must[client.There](t)(oncall.MayThere(ctx, "fuel/pump"))
	if slices.Contains(there.Actions, "read_value") || len(there.Unmet) != 5 || !strings.Contains(there.Unmet[0].Why, "192.0.2.0/24") {
		t.Errorf("under a condition: %+v", there)
	}
	there = must[client.There](t)(oncall.MayThere(ctx, "fuel/ledger"))
	if !slices.Contains(there.Actions, "read_value") || !slices.Contains(there.NeedApproval, "read_value") {
		t.Errorf("with approval: %+v", there)
	}
	ask := func(item string) (client.Request, error) {
		return oncall.AskFor(ctx, client.NewRequest{Read: item, Reason: "incident 212"})
	}
	for item, code := range map[string]string{"fuel/mail": "exists", "fuel/pump": "invalid_input", "fuel/none": "invalid_input",
		"fuel": "invalid_input", "rota/none": "invalid_input"} {
		if _, err := ask(item); chesttest.Code(err) != code {
			t.Errorf("%s: %v", item, err)
		}
	}
	asked := must[client.Request](t)(ask("fuel/ledger"))
	if there = must[client.There](t)(oncall.MayThere(ctx, "fuel/ledger")); there.Requested != asked.ID {
		t.Errorf("what is requested is not said: %+v", there)
	}
	if _, err := oncall.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true}); chesttest.Code(err) == "" {
		t.Error("whoever asks answers it")
	}
	must[client.Request](t)(duty.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true}))
	authority := must[[]byte](t)(chest.Authority())
	stating := must[*client.Client](t)(client.New(client.Options{Address: chest.URL(), Authority: authority, Token: token,
		Reason: "incident 212"}))
	if _, _, err := stating.Read(ctx, "fuel/ledger"); err != nil {
		t.Errorf("agreed, and %v", err)
	}
	if there = must[client.There](t)(oncall.MayThere(ctx, "fuel/ledger")); len(there.NeedApproval) != 0 {
		t.Errorf("agreed, and still asked for: %+v", there)
	}
	refused := must[client.TrailPage](t)(steward.Trail(ctx, client.TrailFilter{Subject: "person:oncall", Action: "read_value",
		Outcome: "refused"}))
	if len(refused.Entries) != 0 {
		t.Errorf("a read was refused on the way: %+v", refused.Entries[0])
	}
}

// The queue has what was wanted of drawers and items; what was refused of the chest as a whole is in the trail alone.
func TestTheQueueHasWhatWasWanted(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	lead := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "d/**"}))
	refused := func(err error) {
		t.Helper()
		if chesttest.Code(err) != "refused" {
			t.Fatal(err)
		}
	}
	_, err := lead.Trail(ctx, client.TrailFilter{})
	refused(err)
	_, err = lead.Identities(ctx)
	refused(err)
	_, err = lead.Give(ctx, client.NewGrant{Subject: "person:ticketing-lead", Role: "consumer", Scope: "**"})
	refused(err)
	_, _, err = lead.Read(ctx, "d/i")
	refused(err)
	chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "d/**"}, chesttest.Grant{Role: "auditor", Scope: "**"})
	chest.Person(t, "audit-desk", chesttest.Grant{Role: "auditor", Scope: "**"})
	for person, gives := range map[string]bool{"security-duty": true, "audit-desk": false} {
		queue := must[[]client.RefusalGroup](t)(chest.Client(t, chest.SignIn(t, person)).Refusals(ctx, time.Time{}))
		if len(queue) != 1 || queue[0].Target != "d/i" || queue[0].MayGive != gives {
			t.Errorf("%s sees %+v", person, queue)
		}
	}
}

// A file can be moved into a drawer whose rules want an owner: it is said who that is.
func TestAFileIsMovedInWithItsOwner(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward := chest.Client(t, chest.Steward)
	chest.Person(t, "ticketing-lead")
	drawer := must[client.DrawerContents](t)(steward.Drawer(ctx, "d")).Drawer
	must[client.RulesReport](t)(steward.SetDrawerRules(ctx, "d", drawer.Revision, client.NewRules{Rules: client.Rules{Owner: "person"}}))
	file := dotenv("TOKEN=1\n")
	if r := must[client.ImportReport](t)(steward.Import(ctx, "d", file)); r.Done || results(r) != "token invalid" {
		t.Errorf("without an owner: %s", results(r))
	}
	file.Owner = "person:nobody"
	if _, err := steward.Import(ctx, "d", file); chesttest.Code(err) != "invalid_input" {
		t.Errorf("an owner that there is not: %v", err)
	}
	file.Owner = "person:ticketing-lead"
	if r := must[client.ImportReport](t)(steward.Import(ctx, "d", file)); !r.Done {
		t.Errorf("with an owner: %s", results(r))
	}
	if h := must[client.History](t)(steward.History(ctx, "d", "token")); h.Item.Owner != "person:ticketing-lead" {
		t.Errorf("%+v", h.Item)
	}
}
