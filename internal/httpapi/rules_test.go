package httpapi_test

import (
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"

	"github.com/go-jose/go-jose/v4"

	"tansu/client"
	"tansu/internal/chesttest"
)

const days = 24 * time.Hour

// ruled is a chest with one item, a curator and an app that reads it.
type ruled struct {
	*chesttest.Chest
	curator *client.Client
	secret  string
}

func startRuled(t *testing.T) *ruled {
	t.Helper()
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "one")
	r := &ruled{Chest: chest, curator: chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "curator", Scope: "**"}))}
	r.secret, _ = chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	return r
}

// at moves the clock forward and returns the app and the curator with new tokens.
func (r *ruled) at(t *testing.T, later time.Duration) (app, curator *client.Client) {
	t.Helper()
	r.Clock.Set(-later)
	token, _, err := r.Client(t, "").AppToken(ctx, "ticket-api", r.secret)
	if err != nil {
		t.Fatal(err)
	}
	return r.Client(t, token), r.Client(t, r.SignIn(t, "security-duty"))
}

func (r *ruled) set(t *testing.T, curator *client.Client, n client.NewRules) (client.RulesReport, error) {
	t.Helper()
	d := must[client.DrawerContents](t)(curator.Drawer(ctx, "d"))
	return curator.SetDrawerRules(ctx, "d", d.Drawer.Revision, n)
}

// A rule about age ends a version to the second, grace lets it be served marked, and both are in the answer and the trail.
func TestAgeAndGraceByRule(t *testing.T) {
	r := startRuled(t)
	if _, err := r.set(t, r.curator, client.NewRules{Rules: client.Rules{MaxAge: "30d", Grace: "2d", Warn: "7d"}}); err != nil {
		t.Fatal(err)
	}
	r.Person(t, "audit-desk", chesttest.Grant{Role: "auditor", Scope: "**"})
	app, curator := r.at(t, 29*days)
	v := must[client.Value](t)(app.ReadValue(ctx, "d/i"))
	if v.Grace || v.NotAfter.IsZero() || !v.Until.Equal(v.NotAfter) {
		t.Errorf("before its end: %+v", v)
	}
	for query, want := range map[string]int{"ends:3d": 1, "ends:12h": 0, "-ends:12h": 1, "unread:1d": 0, "unread:0s": 1, "i ends:3d": 1} {
		if page := must[client.SearchPage](t)(curator.Search(ctx, query, "")); len(page.Items) != want {
			t.Errorf("%s finds %d", query, len(page.Items))
		}
	}
	if _, err := curator.Search(ctx, "ends:soon", ""); chesttest.Code(err) != "invalid_input" {
		t.Errorf("a length of time that is none: %v", err)
	}
	due := must[[]client.Due](t)(curator.Due(ctx, 3*days))
	if len(due) != 1 || due[0].State != "due" || !due[0].NotAfter.Equal(v.NotAfter) {
		t.Errorf("a day before its end: %+v", due)
	}
	_, curator = r.at(t, 31*days)
	answer := r.Do(t, chesttest.Call{Method: "GET", Path: "/api/values/d/i", Token: appToken(t, r)})
	if answer.Header.Get("Tansu-Grace") != "true" || answer.Header.Get("Sunset") == "" || answer.Header.Get("Expires") == "" ||
		answer.Header.Get("Cache-Control") != "no-store" {
		t.Errorf("in grace: %v", answer.Header)
	}
	if due := must[[]client.Due](t)(curator.Due(ctx, 0)); len(due) != 1 || due[0].State != "grace" {
		t.Errorf("in grace: %+v", due)
	}
	auditor := r.Client(t, r.SignIn(t, "audit-desk"))
	if page := must[client.TrailPage](t)(auditor.Trail(ctx,
		client.TrailFilter{Action: "read_value", Limit: 1})); !strings.Contains(page.Entries[0].Detail, "in grace") {
		t.Errorf("the trail says %q", page.Entries[0].Detail)
	}
	app, _ = r.at(t, 33*days)
	if _, _, err := app.Read(ctx, "d/i"); chesttest.Code(err) != "not_servable" || err.(*client.Problem).Reason != "ended" {
		t.Errorf("after its grace: %v", err)
	}
}

func appToken(t *testing.T, r *ruled) string {
	t.Helper()
	token, _, err := r.Client(t, "").AppToken(ctx, "ticket-api", r.secret)
	if err != nil {
		t.Fatal(err)
	}
	return token
}

// Rules hold for what is there already, and yet surprise nobody.
func TestRulesSurpriseNobody(t *testing.T) {
	r := startRuled(t)
	r.Person(t, "ticketing-lead", chesttest.Grant{Role: "depositor", Scope: "**"}, chesttest.Grant{Role: "viewer", Scope: "**"})
	_, curator := r.at(t, 40*days)
	strict := client.Rules{MaxAge: "30d"}
	preview := must[client.RulesReport](t)(r.set(t, curator, client.NewRules{Rules: strict, Preview: true}))
	if preview.Done || preview.Stops != 1 || len(preview.Items) != 1 || preview.Items[0].Reference != "d/i" ||
		preview.Items[0].Because != "ended" {
		t.Errorf("the preview says %+v", preview)
	}
	if _, err := r.set(t, curator, client.NewRules{Rules: strict}); chesttest.Code(err) != "not_possible" ||
		!strings.Contains(err.Error(), "d/i") {
		t.Errorf("a rule that stops something at once: %v", err)
	}
	if d := must[client.DrawerContents](t)(curator.Drawer(ctx, "d")); d.Drawer.Rules != (client.Rules{}) {
		t.Errorf("a refused change changed %+v", d.Drawer.Rules)
	}
	from := time.Now().Add(50 * days).UTC().Truncate(time.Second)
	later := must[client.RulesReport](t)(r.set(t, curator, client.NewRules{Rules: strict, From: from}))
	if !later.Done || later.Drawer.NextRules == nil || !later.Drawer.RulesFrom.Equal(from) {
		t.Errorf("a rule that begins later: %+v", later)
	}
	app, _ := r.at(t, 49*days)
	if v := must[client.Value](t)(app.ReadValue(ctx, "d/i")); !v.NotAfter.Equal(from) {
		t.Errorf("it ends %s, the rule begins %s", v.NotAfter, from)
	}
	app, curator = r.at(t, 51*days)
	if _, _, err := app.Read(ctx, "d/i"); chesttest.Code(err) != "not_servable" {
		t.Errorf("the rule did not begin: %v", err)
	}
	// Taking it away, or a grace, would serve again what is refused: both say so, and ask whether that is meant.
	for _, rules := range []client.Rules{{}, {MaxAge: "30d", Grace: "30d"}} {
		preview := must[client.RulesReport](t)(r.set(t, curator, client.NewRules{Rules: rules, Preview: true}))
		if preview.Again != 1 || len(preview.Items) != 1 || !slices.Equal(preview.Items[0].Again, []int{1}) {
			t.Errorf("what is served again by %+v: %+v", rules, preview)
		}
		var problem *client.Problem
		if _, err := r.set(t, curator, client.NewRules{Rules: rules}); !errors.As(err, &problem) || problem.Field != "allow_again" ||
			!strings.Contains(err.Error(), "d/i") {
			t.Errorf("something is served again without a word: %v", err)
		}
	}
	if _, err := r.set(t, curator, client.NewRules{AllowAgain: true}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := app.Read(ctx, "d/i"); err != nil {
		t.Errorf("a rule that was taken away still decides: %v", err)
	}
	lead := r.Client(t, r.SignIn(t, "ticketing-lead"))
	if _, err := r.set(t, lead, client.NewRules{Rules: strict}); chesttest.Code(err) != "refused" {
		t.Errorf("a depositor sets rules: %v", err)
	}
	for field, rules := range map[string]client.Rules{"rules.max_age": {MaxAge: "90"}, "rules.grace": {Grace: "31d"},
		"rules.warn": {Warn: "30d", MaxAge: "30d"}, "rules.keep": {Keep: -1}, "rules.owner": {Owner: "app"},
		"rules.recipe": {Recipe: "characters:3"}} {
		if _, err := r.set(t, curator, client.NewRules{Rules: rules}); chesttest.Code(err) != "invalid_input" ||
			err.(*client.Problem).Field != field {
			t.Errorf("%+v: %v", rules, err)
		}
	}
}

// What nobody reads is not served any more until somebody resumes it, and reading it keeps it awake.
func TestIdleItemsAreSuspended(t *testing.T) {
	r := startRuled(t)
	if _, err := r.set(t, r.curator, client.NewRules{Rules: client.Rules{Idle: "10d"}}); err != nil {
		t.Fatal(err)
	}
	for _, later := range []time.Duration{9 * days, 18 * days, 27 * days} {
		app, _ := r.at(t, later)
		if _, _, err := app.Read(ctx, "d/i"); err != nil {
			t.Fatalf("after %s: %v", later, err)
		}
	}
	app, curator := r.at(t, 38*days)
	if _, _, err := app.Read(ctx, "d/i"); chesttest.Code(err) != "not_servable" || err.(*client.Problem).Reason != "idle" {
		t.Errorf("nobody read it for eleven days: %v", err)
	}
	if due := must[[]client.Due](t)(curator.Due(ctx, 0)); len(due) != 1 || due[0].State != "idle" {
		t.Errorf("due: %+v", due)
	}
	if page := must[client.SearchPage](t)(curator.Search(ctx, "state:idle", "")); len(page.Items) != 1 {
		t.Errorf("search finds %+v", page.Items)
	}
	must[client.History](t)(curator.Act(ctx, "d", "i", client.Act{Act: "resume"}))
	if _, _, err := app.Read(ctx, "d/i"); err != nil {
		t.Errorf("after it was resumed: %v", err)
	}
}

// What a drawer demands of new versions is demanded, of every way in.
func TestRulesAboutWhatIsPutIn(t *testing.T) {
	r := startRuled(t)
	rules := client.Rules{NeedsEnd: true, Owner: "person", Recipe: "characters:40", Keep: 2}
	if _, err := r.set(t, r.curator, client.NewRules{Rules: rules}); err != nil {
		t.Fatal(err)
	}
	end := time.Now().Add(90 * days)
	add := func(v client.NewVersion) error {
		_, err := r.curator.AddVersion(ctx, "d", "i", 0, v)
		return err
	}
	if err := add(client.Content([]byte("two"))); chesttest.Code(err) != "invalid_input" || err.(*client.Problem).Field != "not_after" {
		t.Errorf("a version without an end: %v", err)
	}
	if err := add(client.NewVersion{Generate: "characters:20", NotAfter: end}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("a recipe that leaves less to chance: %v", err)
	}
	if err := add(client.NewVersion{Generate: "rule", NotAfter: end}); err != nil {
		t.Errorf("the recipe of the rules: %v", err)
	}
	item := client.NewItem{Name: "j", Version: client.NewVersion{Generate: "rule", NotAfter: end}}
	if _, err := r.curator.CreateItem(ctx, "d", item); chesttest.Code(err) != "invalid_input" || err.(*client.Problem).Field != "owner" {
		t.Errorf("an item without an owner: %v", err)
	}
	stranger := r.Client(t, r.Person(t, "rota-trainee"))
	for _, drawer := range []string{"d", "not-there"} {
		file := client.NewImport{Format: "dotenv", Encoding: "base64", Content: base64.StdEncoding.EncodeToString([]byte("I=1\nNEW=1\n"))}
		if told := must[client.ImportReport](t)(stranger.Import(ctx, drawer, file)); told.Items[0].Result != "refused" ||
			told.Items[1].Result != "refused" || strings.Contains(told.Items[1].Detail, "rules") {
			t.Errorf("an import tells a stranger of %s: %+v", drawer, told.Items)
		}
	}
	item.Owner = "person:security-duty"
	must[client.Stored](t)(r.curator.CreateItem(ctx, "d", item))
	report := must[client.ImportReport](t)(r.curator.Import(ctx, "d",
		client.NewImport{Format: "dotenv", Encoding: "base64", Content: base64.StdEncoding.EncodeToString([]byte("A=1\n"))}))
	if report.Done || report.Items[0].Result != "invalid" {
		t.Errorf("an import around the rules: %+v", report)
	}
	stored := must[client.Stored](t)(r.curator.AddVersion(ctx, "d", "i", 0, client.NewVersion{Generate: "rule", NotAfter: end}))
	if len(stored.Version.Notes) != 1 || !strings.Contains(stored.Version.Notes[0], "version 1 is shredded") {
		t.Errorf("notes: %q", stored.Version.Notes)
	}
	h := must[client.History](t)(r.curator.History(ctx, "d", "i"))
	if h.Versions[2].State != "shredded" || h.Versions[1].State != "usable" || h.Item.Current != 3 {
		t.Errorf("with two versions kept: %+v", h.Versions)
	}
	rows := r.Rows(t, "SELECT count(*) FROM contents c JOIN versions v ON v.id = c.version WHERE v.shredded_at != 0")
	if fmt.Sprint(rows) != "[[0]]" {
		t.Errorf("%v ciphertexts of shredded versions are left", rows)
	}
	file := client.NewImport{Format: "dotenv", Encoding: "base64", Content: base64.StdEncoding.EncodeToString([]byte("I=imported\n")),
		Replace: true, NotAfter: end}
	if again := must[client.ImportReport](t)(r.curator.Import(ctx, "d", file)); !again.Done {
		t.Errorf("%+v", again)
	}
	if h := must[client.History](t)(r.curator.History(ctx, "d", "i")); h.Versions[2].State != "shredded" || h.Item.Current != 4 {
		t.Errorf("an import leaves more versions than are kept: %+v", h.Versions)
	}
	auditor := r.Client(t, r.Person(t, "audit-desk", chesttest.Grant{Role: "auditor", Scope: "**"}))
	if page := must[client.TrailPage](t)(auditor.Trail(ctx, client.TrailFilter{Action: "shred_version"})); len(page.Entries) != 2 ||
		page.Entries[1].Version != 1 || page.Entries[0].Version != 2 || page.Entries[0].Target != "d/i" {
		t.Errorf("the trail has %+v", page.Entries)
	}
}

// A rule can ask for a second person before anything is shredded; the first one cannot be the second.
func TestShreddingWithASecondPerson(t *testing.T) {
	r := startRuled(t)
	if _, err := r.set(t, r.curator, client.NewRules{Rules: client.Rules{TwoToShred: true, RetireFor: "2d"}}); err != nil {
		t.Fatal(err)
	}
	r.Person(t, "platform-oncall", chesttest.Grant{Role: "curator", Scope: "d/**"})
	r.Person(t, "ticketing-lead", chesttest.Grant{Role: "gatekeeper", Scope: "**"})
	must[client.History](t)(r.curator.Act(ctx, "d", "i", client.Act{Act: "retire"}))
	shred := client.Act{Act: "shred", Name: "d/i"}
	if _, err := r.curator.Act(ctx, "d", "i", shred); chesttest.Code(err) != "not_possible" ||
		!strings.Contains(err.Error(), "retired until") {
		t.Errorf("before its time: %v", err)
	}
	_, curator := r.at(t, 3*days)
	second, gatekeeper := r.Client(t, r.SignIn(t, "platform-oncall")), r.Client(t, r.SignIn(t, "ticketing-lead"))
	_, err := curator.Act(ctx, "d", "i", shred)
	if chesttest.Code(err) != "refused" {
		t.Fatalf("alone: %v", err)
	}
	request := must[client.Request](t)(curator.AskFor(ctx,
		client.NewRequest{Receipt: err.(*client.Problem).Receipt, Reason: "the contract ended"}))
	if request.Kind != "shred" || request.Target != "d/i" {
		t.Fatalf("the request is %+v", request)
	}
	if _, err := curator.AnswerRequest(ctx, request.ID, client.Answer{Allow: true}); chesttest.Code(err) != "refused" {
		t.Errorf("who asked answers: %v", err)
	}
	if _, err := gatekeeper.AnswerRequest(ctx, request.ID, client.Answer{Allow: true}); chesttest.Code(err) != "not_found" {
		t.Errorf("who may not shred answers: %v", err)
	}
	must[client.Request](t)(second.AnswerRequest(ctx, request.ID, client.Answer{Allow: true}))
	if _, err := second.Act(ctx, "d", "i", shred); chesttest.Code(err) != "refused" {
		t.Errorf("the second person uses the first one's leave: %v", err)
	}
	must[client.History](t)(curator.Act(ctx, "d", "i", shred))

	if _, err := curator.ShredDrawer(ctx, "d", "d"); chesttest.Code(err) != "refused" {
		t.Errorf("a drawer alone: %v", err)
	}
}

// Shredding a drawer leaves no key and no ciphertext of it, frees its name, and says what still names it.
func TestADrawerIsShreddedWhole(t *testing.T) {
	r := startRuled(t)
	if _, err := r.curator.ShredDrawer(ctx, "d", "d"); chesttest.Code(err) != "not_possible" ||
		!strings.Contains(err.Error(), "d/i is not retired") {
		t.Errorf("while something is served: %v", err)
	}
	must[client.History](t)(r.curator.Act(ctx, "d", "i", client.Act{Act: "retire"}))
	r.Fill(t, "d", "gone", "two")
	r.Fill(t, "e", "other", "three")
	mover := r.Client(t, r.Person(t, "ticketing-lead", chesttest.Grant{Role: "curator", Scope: "**"},
		chesttest.Grant{Role: "consumer", Scope: "**"}, chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	must[client.Moved](t)(mover.Move(ctx, "d", "gone", client.NewPlace{Drawer: "e", Name: "there", Alias: "10d"}))
	if _, err := r.curator.ShredDrawer(ctx, "d", "e"); chesttest.Code(err) != "invalid_input" {
		t.Errorf("another name typed: %v", err)
	}
	oncall := r.Client(t, r.Person(t, "platform-oncall", chesttest.Grant{Role: "curator", Scope: "d/i"}))
	if _, err := oncall.ShredDrawer(ctx, "d", "d"); chesttest.Code(err) != "refused" {
		t.Errorf("by whoever may shred one item of it: %v", err)
	}
	wrapped := r.Rows(t,
		`SELECT wrapped_key FROM versions WHERE item IN (SELECT i.id FROM items i JOIN drawers d ON d.id = i.drawer WHERE d.name = 'd')
		UNION SELECT wrapped FROM drawer_keys WHERE drawer IN (SELECT id FROM drawers WHERE name = 'd')`)
	if len(wrapped) < 2 {
		t.Fatalf("%d keys", len(wrapped))
	}
	gone := must[client.ShreddedDrawer](t)(r.curator.ShredDrawer(ctx, "d", "d"))
	if gone.Items != 1 || len(gone.Grants) == 0 {
		t.Errorf("%+v", gone)
	}
	if len(gone.OldNames) != 1 || gone.OldNames[0] != (client.OldName{Reference: "d/gone", Now: "e/there"}) {
		t.Errorf("the old names that ended: %+v", gone.OldNames)
	}
	for _, name := range []string{"chest.db", "chest.db-wal"} {
		content, err := os.ReadFile(filepath.Join(r.Dir, "chest", name))
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range wrapped {
			if key, is := row[0].([]byte); is && strings.Contains(string(content), string(key)) {
				t.Errorf("a wrapped key is still in %s", name)
			}
		}
	}
	app, _ := r.at(t, 0)
	if _, _, err := app.Read(ctx, "d/i"); chesttest.Code(err) != "not_found" {
		t.Errorf("a value of it: %v", err)
	}
	r.Restart(t)
	curator := r.Client(t, r.SignIn(t, "security-duty"))
	if list := must[[]client.ShreddedDrawer](t)(curator.ShreddedDrawers(ctx)); len(list) != 1 || list[0].Name != "d" ||
		list[0].By != "person:security-duty" {
		t.Errorf("its history: %+v", list)
	}
	must[client.Drawer](t)(curator.CreateDrawer(ctx, client.NewDrawer{Name: "d", Environment: "staging"}))
	if d := must[client.DrawerContents](t)(curator.Drawer(ctx, "d")); len(d.Items) != 0 {
		t.Errorf("a new drawer of that name has %+v", d.Items)
	}
}

// An item that moves keeps its history, its values and, for a while, its old name; it is no way around grants.
func TestMovingAnItem(t *testing.T) {
	r := startRuled(t)
	r.Fill(t, "e", "other", "x")
	version(t, r.curator, "d", "i", "two", nil)
	app, _ := r.at(t, 0)
	if _, _, err := app.Read(ctx, "d/i@1"); err != nil {
		t.Fatal(err)
	}
	reader := r.Person(t, "platform-oncall", chesttest.Grant{Role: "consumer", Scope: "e/**"})
	if _, err := r.curator.Move(ctx, "d", "i", client.NewPlace{Drawer: "e", Name: "moved"}); chesttest.Code(err) != "refused" {
		t.Fatalf("a curator opens a value up to others by moving it: %v", err)
	}
	if _, _, err := r.Client(t, reader).Read(ctx, "e/moved"); chesttest.Code(err) != "not_found" {
		t.Fatal(err)
	}
	both := r.Client(t, r.Person(t, "ticketing-lead", chesttest.Grant{Role: "curator", Scope: "**"},
		chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	if _, err := both.Move(ctx, "d", "i", client.NewPlace{Drawer: "e", Name: "other"}); chesttest.Code(err) != "exists" {
		t.Errorf("onto another item: %v", err)
	}
	moved := must[client.Moved](t)(both.Move(ctx, "d", "i", client.NewPlace{Drawer: "e", Name: "moved", Alias: "10d"}))
	if moved.Item.Reference != "e/moved" || moved.Item.Versions != 2 || moved.Until.IsZero() || len(moved.Readers) != 1 ||
		moved.Readers[0].Subject != "app:ticket-api" {
		t.Errorf("%+v", moved)
	}
	r.Restart(t)
	app, curator := r.at(t, 0)
	for reference, want := range map[string]string{"d/i": "two", "d/i@1": "one"} {
		if value, _, err := app.Read(ctx, reference); err != nil || string(value) != want {
			t.Errorf("%s by its old name: %q, %v", reference, value, err)
		}
	}
	if _, _, err := app.Read(ctx, "e/moved"); chesttest.Code(err) != "refused" {
		t.Errorf("the old name gave the app the new one: %v", err)
	}
	if value, _, err := r.Client(t, r.SignIn(t, "platform-oncall")).Read(ctx, "e/moved"); err != nil || string(value) != "two" {
		t.Errorf("by its new name: %q, %v", value, err)
	}
	h := must[client.History](t)(curator.History(ctx, "e", "moved"))
	if len(h.Versions) != 2 || len(h.Aliases) != 1 || h.Aliases[0].Reference != "d/i" || len(h.Aliases[0].Users) != 1 {
		t.Errorf("its history: %+v", h)
	}
	holders := must[[]client.Holder](t)(r.Client(t, r.SignIn(t, "ticketing-lead")).Holders(ctx, "read_value", "e/moved"))
	if len(holders) < 2 || holders[0].Subject != "app:ticket-api" {
		t.Errorf("who can read it leaves out who reads it by its old name: %+v", holders)
	}
	if _, err := curator.CreateItem(ctx, "d",
		client.NewItem{Name: "i", Version: client.Content([]byte("squatter"))}); chesttest.Code(err) != "exists" {
		t.Errorf("another item takes the old name while it works: %v", err)
	}
	depositor := r.Client(t, r.Person(t, "harbour-master", chesttest.Grant{Role: "curator", Scope: "d/**"}))
	report := must[client.ImportReport](t)(depositor.Import(ctx, "d",
		client.NewImport{Format: "dotenv", Encoding: "base64", Content: base64.StdEncoding.EncodeToString([]byte("i=squatter\n")),
			Replace: true}))
	if report.Done || report.Items[0].Result != "invalid" {
		t.Errorf("an import takes the old name while it works: %+v", report)
	}
	useOnly := true
	for what, write := range map[string]func() error{
		"a version": func() error {
			_, err := depositor.AddVersion(ctx, "d", "i", 0, client.Content([]byte("planted")))
			return err
		},
		"words": func() error {
			_, err := depositor.ChangeItem(ctx, "d", "i", h.Item.Revision, client.Described{UseOnly: &useOnly})
			return err
		},
		"rules": func() error {
			_, err := depositor.SetItemRules(ctx, "d", "i", h.Item.Revision, client.NewRules{Rules: client.Rules{MaxAge: "1d"}})
			return err
		},
		"an act": func() error { _, err := depositor.Act(ctx, "d", "i", client.Act{Act: "suspend"}); return err },
		"another move": func() error {
			_, err := depositor.Move(ctx, "d", "i", client.NewPlace{Drawer: "d", Name: "back"})
			return err
		},
	} {
		if err := write(); chesttest.Code(err) != "invalid_input" || !strings.Contains(err.Error(), "old name of e/moved") {
			t.Errorf("%s by the old name: %v", what, err)
		}
	}
	if value, _, err := app.Read(ctx, "d/i"); err != nil || string(value) != "two" {
		t.Errorf("after these: %q, %v", value, err)
	}
	both = r.Client(t, r.SignIn(t, "ticketing-lead"))
	must[client.Given](t)(both.Give(ctx, client.NewGrant{Subject: "app:ticket-api", Role: "consumer", Scope: "e/moved", Effect: "deny"}))
	if _, _, err := app.Read(ctx, "d/i"); chesttest.Code(err) != "refused" {
		t.Errorf("a grant denies the new name, and the old one is served: %v", err)
	}
	app, _ = r.at(t, 11*days)
	if _, _, err := app.Read(ctx, "d/i"); chesttest.Code(err) != "not_found" {
		t.Errorf("after its time: %v", err)
	}
}

// A value for use only is compared and used, and no person gets it, whatever their grants and by no way.
func TestUseOnlyValuesAreShownToNobody(t *testing.T) {
	r := startRuled(t)
	reader := r.Client(t, r.Person(t, "platform-oncall", chesttest.Grant{Role: "consumer", Scope: "**"},
		chesttest.Grant{Role: "viewer", Scope: "**"}, chesttest.Grant{Role: "curator", Scope: "**"}))
	useOnly := true
	h := must[client.History](t)(r.curator.History(ctx, "d", "i"))
	it := must[client.Item](t)(r.curator.ChangeItem(ctx, "d", "i", h.Item.Revision, client.Described{UseOnly: &useOnly}))
	if _, _, err := reader.Read(ctx, "d/i"); chesttest.Code(err) != "not_servable" || err.(*client.Problem).Reason != "use_only" {
		t.Errorf("a person reads it: %v", err)
	}
	if there := must[client.There](t)(reader.MayThere(ctx, "d/i")); !there.UseOnly {
		t.Errorf("a person is offered it: %+v", there)
	}
	if _, err := reader.Export(ctx, "d", client.NewExport{Format: "json", Clear: true}); chesttest.Code(err) != "not_possible" {
		t.Errorf("a person exports it: %v", err)
	}
	if same, err := reader.Equals(ctx, "d/i", []byte("one")); err != nil || !same {
		t.Errorf("comparing it: %v, %v", same, err)
	}
	app, _ := r.at(t, 0)
	if value, _, err := app.Read(ctx, "d/i"); err != nil || string(value) != "one" {
		t.Errorf("an app: %q, %v", value, err)
	}
	useOnly = false
	if _, err := reader.ChangeItem(ctx, "d", "i", it.Revision, client.Described{UseOnly: &useOnly}); chesttest.Code(err) != "not_possible" {
		t.Errorf("undone: %v", err)
	}
	if v := must[client.Verdict](t)(reader.Ask(ctx,
		client.Question{Subject: "person:platform-oncall", Action: "read_value", Target: "d/i"})); !v.Allowed || v.NotServed == "" {
		t.Errorf("asked before: %+v", v)
	}
}

// An export is opened by its recipient and nobody else, and each value in it is in the trail as read.
func TestExportIsEncryptedToItsRecipient(t *testing.T) {
	r := startRuled(t)
	must[client.Stored](t)(r.curator.CreateItem(ctx, "d", client.NewItem{Name: "odd", Version: client.Content([]byte("$x \"y\"\nz\\"))}))
	must[client.Stored](t)(r.curator.CreateItem(ctx, "d", client.NewItem{Name: "bytes", Version: client.Content([]byte{0xff, 0})}))
	token := r.Person(t, "platform-oncall", chesttest.Grant{Role: "consumer", Scope: "d/**"}, chesttest.Grant{Role: "viewer", Scope: "d/**"})
	reader := r.Client(t, token)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	public := must[[]byte](t)(json.Marshal(jose.JSONWebKey{Key: &key.PublicKey}))
	private := must[[]byte](t)(json.Marshal(jose.JSONWebKey{Key: key}))
	e := must[client.Export](t)(reader.Export(ctx, "d", client.NewExport{Format: "json", Recipient: public}))
	sealed := must[[]byte](t)(base64.StdEncoding.DecodeString(e.Content))
	object, err := jose.ParseEncryptedCompact(strings.TrimSpace(string(sealed)), []jose.KeyAlgorithm{jose.ECDH_ES_A256KW},
		[]jose.ContentEncryption{jose.A256GCM})
	if err != nil {
		t.Fatal(err)
	}
	opened := must[[]byte](t)(object.Decrypt(key))
	var values map[string]string
	if err := json.Unmarshal(opened, &values); err != nil || values["i"] != "one" || values["odd"] != "$x \"y\"\nz\\" || len(values) != 2 {
		t.Errorf("it holds %q, %v", opened, err)
	}
	left := 0
	for _, it := range e.Items {
		if it.Version == 0 {
			left++
		}
	}
	if left != 1 {
		t.Errorf("%+v", e.Items)
	}
	auditor := r.Client(t, r.Person(t, "audit-desk", chesttest.Grant{Role: "auditor", Scope: "**"}))
	page := must[client.TrailPage](t)(auditor.Trail(ctx, client.TrailFilter{Action: "read_value", Subject: "person:platform-oncall"}))
	if len(page.Entries) != 2 {
		t.Errorf("the trail has %+v", page.Entries)
	}
	for name, n := range map[string]client.NewExport{"no recipient": {Format: "json"}, "a private key": {Format: "json", Recipient: private},
		"both":            {Format: "json", Recipient: public, Clear: true},
		"a symmetric key": {Format: "json", Recipient: []byte(`{"kty":"oct","k":"c2VjcmV0c2VjcmV0"}`)},
		"another format":  {Format: "xml", Clear: true}} {
		if _, err := reader.Export(ctx, "d", n); chesttest.Code(err) != "invalid_input" || strings.Contains(fmt.Sprint(err), "c2Vj") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := r.curator.Export(ctx, "d", client.NewExport{Format: "json", Recipient: public}); chesttest.Code(err) != "not_possible" {
		t.Errorf("by whoever may read nothing: %v", err)
	}
}

// What is pointed out about a new value must not be a way to find out about values that one may not read.
func TestHintsTellNothingOfOtherValues(t *testing.T) {
	r := startRuled(t)
	add := func(c *client.Client, name, value string) []string {
		t.Helper()
		return must[client.Stored](t)(c.CreateItem(ctx, "d", client.NewItem{Name: name, Version: client.Content([]byte(value))})).Version.Notes
	}
	strong := "Rk8xq2vLp0sTz7Wb4M"
	if notes := add(r.curator, "a", strong); len(notes) != 0 {
		t.Errorf("an ordinary value: %q", notes)
	}
	if notes := add(r.curator, "b", strong+"\n"); len(notes) != 0 {
		t.Errorf("who may not read the other is told of it: %q", notes)
	}
	reader := r.Client(t, r.Person(t, "platform-oncall", chesttest.Grant{Role: "consumer", Scope: "d/a"},
		chesttest.Grant{Role: "depositor", Scope: "d/**"}))
	if notes := add(reader, "c", strong); len(notes) != 1 || !strings.Contains(notes[0], "d/a@1") {
		t.Errorf("who may read the other: %q", notes)
	}
	if notes := add(r.curator, "e", "changeme"); len(notes) != 1 || strings.Contains(notes[0], "changeme") {
		t.Errorf("a value that is guessed first: %q", notes)
	}
	h := must[client.History](t)(r.curator.History(ctx, "d", "a"))
	if it := must[client.Item](t)(r.curator.ChangeItem(ctx, "d", "a", h.Item.Revision,
		client.Described{Labels: client.Labels{"key": "rk8xq2vlp0stz7wb4m"}})); len(it.Notes) != 1 {
		t.Errorf("a label that looks like a value: %q", it.Notes)
	}
	if same, err := reader.Same(ctx, "d/a", "d/c"); err != nil || !same {
		t.Errorf("two that are the same: %v, %v", same, err)
	}
	if _, err := r.Client(t, r.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "**"})).Same(ctx, "d/a",
		"d/c"); chesttest.Code(err) != "refused" {
		t.Errorf("a viewer compares: %v", err)
	}
}

// A calendar's address works alone, tells no more than its person may list, and ends at once.
func TestCalendarAddress(t *testing.T) {
	r := startRuled(t)
	r.Fill(t, "e", "hidden", "x")
	end := time.Now().Add(20 * days)
	version(t, r.curator, "d", "i", "two", func(v *client.NewVersion) { v.NotAfter = end })
	must[client.History](t)(r.curator.Act(ctx, "d", "i", client.Act{Act: "hold", Version: 2}))
	token := r.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "d/**"})
	lead := r.Client(t, token)
	made := must[client.Calendar](t)(lead.NewCalendar(ctx, "phone"))
	get := func() chesttest.Answer { return r.Do(t, chesttest.Call{Method: "GET", Path: made.Path}) }
	answer := get()
	if answer.Status != http.StatusOK || !strings.HasPrefix(answer.Header.Get("Content-Type"), "text/calendar") ||
		!strings.Contains(string(answer.Body), "SUMMARY:d/i ends") || strings.Contains(string(answer.Body), "hidden") {
		t.Errorf("%d %s", answer.Status, answer.Body)
	}
	if list := must[[]client.Calendar](t)(lead.Calendars(ctx)); len(list) != 1 || list[0].Path != "" {
		t.Errorf("the list shows %+v", list)
	}
	if strings.Contains(r.Log.String(), made.Path) {
		t.Error("the address is in the log")
	}
	if err := r.curator.EndCalendar(ctx, made.ID); chesttest.Code(err) != "not_found" {
		t.Errorf("somebody else ends it: %v", err)
	}
	if err := lead.EndCalendar(ctx, made.ID); err != nil {
		t.Fatal(err)
	}
	if answer := get(); answer.Status != http.StatusNotFound {
		t.Errorf("after its end: %d", answer.Status)
	}
}

// A drawer is listed page by page, without gaps and repeats, while others add and take away.
func TestADrawerIsListedInPages(t *testing.T) {
	r := startRuled(t)
	var file strings.Builder
	for n := range 1201 {
		fmt.Fprintf(&file, "K%04d=v\n", n)
	}
	imported := must[client.ImportReport](t)(r.curator.Import(ctx, "d",
		client.NewImport{Format: "dotenv", Encoding: "base64", Content: base64.StdEncoding.EncodeToString([]byte(file.String()))}))
	if !imported.Done {
		t.Fatal(imported)
	}
	d := must[client.DrawerContents](t)(r.curator.Drawer(ctx, "d"))
	if len(d.Items) != 1202 || d.Drawer.Items != 1202 || d.Items[0].Name != "i" || d.Items[1201].Name != "k1200" {
		t.Errorf("%d items, %d counted", len(d.Items), d.Drawer.Items)
	}
	limits := must[client.Limits](t)(r.curator.Limits(ctx))
	if limits.Name != 64 || limits.Value != 256<<10 || len(limits.Formats) != 5 {
		t.Errorf("%+v", limits)
	}
}

// A drawer's key is changed while it is used, goes on after a restart, and leaves nothing of the old one.
func TestADrawersKeyIsChanged(t *testing.T) {
	r := startRuled(t)
	old := r.Rows(t, "SELECT wrapped FROM drawer_keys")[0][0].([]byte)
	before := must[[]byte](t)(os.ReadFile(filepath.Join(r.Dir, "chest", "chest.db-wal")))
	if !strings.Contains(string(before), string(old)) {
		t.Fatal("the wrapped key is not where it is looked for")
	}
	version(t, r.curator, "d", "i", "two", nil)
	lead := r.Client(t, r.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "**"}))
	if _, err := lead.RotateKey(ctx, "d", nil); chesttest.Code(err) != "refused" {
		t.Errorf("a viewer changes it: %v", err)
	}
	for round := 2; round <= 3; round++ {
		done := must[client.Rotation](t)(r.curator.RotateKey(ctx, "d", nil))
		if !done.Done || done.Key != round || done.Left != 0 {
			t.Errorf("%+v", done)
		}
	}
	app, _ := r.at(t, 0)
	read := func() {
		t.Helper()
		for reference, want := range map[string]string{"d/i@1": "one", "d/i": "two"} {
			if value, _, err := app.Read(ctx, reference); err != nil || string(value) != want {
				t.Errorf("%s: %q, %v", reference, value, err)
			}
		}
	}
	read()
	for _, name := range []string{"chest.db", "chest.db-wal"} {
		if content := must[[]byte](t)(os.ReadFile(filepath.Join(r.Dir, "chest", name))); strings.Contains(string(content), string(old)) {
			t.Errorf("the old wrapped key is still in %s", name)
		}
	}
	r.Restart(t)
	app, _ = r.at(t, 0)
	read()
}

// Items are read from the file when they are needed: one that was edited there is not served, not listed, and the others still are. While
// the chest runs, nothing is served any more from a file that something else has written to.
func TestAnItemEditedInTheFileIsNotServed(t *testing.T) {
	r := startRuled(t)
	end := time.Now().Add(time.Hour)
	version(t, r.curator, "d", "i", "two", func(v *client.NewVersion) { v.NotAfter = end })
	must[client.Stored](t)(r.curator.CreateItem(ctx, "d", client.NewItem{Name: "j", Version: client.Content([]byte("other"))}))
	db := must[*sql.DB](t)(sql.Open("sqlite", "file:"+filepath.Join(r.Dir, "chest", "chest.db")))
	defer func() { _ = db.Close() }()
	app, _ := r.at(t, 0)
	if _, err := db.Exec("UPDATE versions SET not_after = 0 WHERE number = 2"); err != nil {
		t.Fatal(err)
	}
	if _, _, err := app.Read(ctx, "d/j"); chesttest.Code(err) != "not_recorded" || !strings.Contains(err.Error(), "something other than "+
		"Tansu") {
		t.Errorf("while it runs: %v", err)
	}
	r.Restart(t)
	app, curator := r.at(t, 2*time.Hour)
	if _, _, err := app.Read(ctx, "d/i"); chesttest.Code(err) != "internal" || strings.Contains(err.Error(), "two") {
		t.Errorf("an edited row: %v", err)
	}
	if value, _, err := app.Read(ctx, "d/j"); err != nil || string(value) != "other" {
		t.Errorf("the one beside it: %q, %v", value, err)
	}
	if _, err := curator.Drawer(ctx, "d"); chesttest.Code(err) != "internal" {
		t.Errorf("a list with it: %v", err)
	}
	if _, err := curator.AddVersion(ctx, "d", "i", 0, client.Content([]byte("three"))); chesttest.Code(err) != "internal" {
		t.Errorf("a new version of it: %v", err)
	}
	if !strings.Contains(r.Log.String(), "is not what was stored") {
		t.Error("the log does not say it")
	}
}

// Of two names that differ by their separators only, people take one for the other: the second is refused, beside an old name that still
// works, too. The item itself may get such a name.
func TestNamesThatLookAlikeAreRefused(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "gates-prod", "radio-key", "v")
	steward := chest.Client(t, chest.Steward)
	put := func(name string) error {
		_, err := steward.CreateItem(ctx, "gates-prod", client.NewItem{Name: name, Version: client.Content([]byte("x"))})
		return err
	}
	refused := func(what string, err error) {
		t.Helper()
		if chesttest.Code(err) != "exists" {
			t.Errorf("%s: %v", what, err)
		}
	}
	refused("beside an item", put("radio_key"))
	_, err := steward.CreateDrawer(ctx, client.NewDrawer{Name: "gates_prod", Environment: "production"})
	refused("a drawer beside a drawer", err)
	to := client.NewPlace{Drawer: "gates-prod", Name: "main-radio-key", Alias: "10d"}
	must[client.Moved](t)(steward.Move(ctx, "gates-prod", "radio-key", to))
	refused("beside an old name that works", put("radio.key"))
	must[client.Moved](t)(steward.Move(ctx, "gates-prod", "main-radio-key", client.NewPlace{Drawer: "gates-prod", Name: "main_radio_key"}))
	if err := put("radio"); err != nil {
		t.Error(err)
	}
}
