package httpapi_test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
)

// version adds a version with a value, and returns its number.
func version(t *testing.T, c *client.Client, drawer, item, value string, change func(*client.NewVersion)) int {
	t.Helper()
	v := client.Content([]byte(value))
	if change != nil {
		change(&v)
	}
	return must[client.Stored](t)(c.AddVersion(ctx, drawer, item, 0, v)).Version.Version
}

// Each act counts at once, for the value that is served and for nothing else, and after a restart.
func TestActsDecideWhatIsServed(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "one")
	curator := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "curator", Scope: "**"}))
	secret, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	app := chest.Client(t, token)
	version(t, curator, "d", "i", "two", nil)
	version(t, curator, "d", "i", "three", func(v *client.NewVersion) { v.Staged = true })
	version(t, curator, "d", "i", "four", func(v *client.NewVersion) { v.NotBefore = time.Now().Add(time.Hour) })
	served := func() string {
		t.Helper()
		value, _, err := app.Read(ctx, "d/i")
		if err != nil {
			return chesttest.Code(err) + " " + err.(*client.Problem).Reason
		}
		return string(value)
	}
	if got := served(); got != "two" {
		t.Fatalf("a staged or a waiting version is served: %q", got)
	}
	for _, step := range []struct {
		act     string
		version int
		want    string
	}{
		{"hold", 1, "one"}, {"suspend", 1, "not_servable suspended"}, {"resume", 1, "one"}, {"release", 0, "two"},
		{"promote", 3, "three"}, {"suspend", 3, "two"}, {"resume", 3, "three"},
		{"suspend", 0, "not_servable suspended"}, {"resume", 0, "three"},
		{"retire", 0, "not_servable retired"}, {"restore", 0, "three"}, {"hold", 2, "two"},
	} {
		h := must[client.History](t)(curator.Act(ctx, "d", "i", client.Act{Act: step.act, Version: step.version}))
		if got := served(); got != step.want {
			t.Errorf("after %s %d: %q, want %q; the item is %+v", step.act, step.version, got, step.want, h.Item)
		}
	}
	chest.Restart(t)
	token, _, err := chest.Client(t, "").AppToken(ctx, "ticket-api", secret)
	if err != nil {
		t.Fatal(err)
	}
	app, curator = chest.Client(t, token), chest.Client(t, chest.SignIn(t, "security-duty"))
	if got := served(); got != "two" {
		t.Errorf("after a restart: %q", got)
	}
	must[client.History](t)(curator.Act(ctx, "d", "i", client.Act{Act: "release"}))
	chest.Clock.Set(-2 * time.Hour) // the app's token has ended by then
	token, _, err = chest.Client(t, "").AppToken(ctx, "ticket-api", secret)
	if err != nil {
		t.Fatal(err)
	}
	app = chest.Client(t, token)
	if got := served(); got != "four" {
		t.Errorf("a version did not become current by time alone: %q", got)
	}
	if _, _, err := app.Read(ctx, "d/i@9"); chesttest.Code(err) != "not_found" {
		t.Errorf("a version that is not there: %v", err)
	}
}

func TestActsTakeTheirRightsAndSayWhatIsWrong(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	curator := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "curator", Scope: "**"}))
	lead := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "**"},
		chesttest.Grant{Role: "depositor", Scope: "**"}))
	for _, act := range []string{"suspend", "resume", "promote", "hold", "release", "retire", "restore", "shred"} {
		if _, err := lead.Act(ctx, "d", "i", client.Act{Act: act, Name: "d/i"}); chesttest.Code(err) != "refused" {
			t.Errorf("a depositor does %s: %v", act, err)
		}
	}
	for _, c := range []struct {
		act  client.Act
		code string
		says string
	}{
		{client.Act{Act: "fly"}, "invalid_input", "the acts are"},
		{client.Act{Act: "hold"}, "not_possible", "say which version"},
		{client.Act{Act: "hold", Version: 7}, "not_possible", "it has 1 version"},
		{client.Act{Act: "restore"}, "not_possible", "it is not retired"},
		{client.Act{Act: "shred"}, "invalid_input", "type its exact name: d/i"},
		{client.Act{Act: "shred", Name: "d/j"}, "invalid_input", "type its exact name: d/i"},
		{client.Act{Act: "shred", Name: "d/i"}, "not_possible", "retire it first"},
		{client.Act{Act: "shred", Version: 1, Name: "d/i@1"}, "not_possible", "it is the current one"},
	} {
		if _, err := curator.Act(ctx, "d", "i", c.act); chesttest.Code(err) != c.code || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: got %v", c.act, err)
		}
	}
	if _, err := curator.Act(ctx, "d", "j", client.Act{Act: "retire"}); chesttest.Code(err) != "not_found" {
		t.Errorf("an item that is not there: %v", err)
	}
}

// A retired item is hidden and keeps its name; shredding frees the name, leaves the history, and leaves nothing in the
// files that the key of the version could be found in.
func TestRetiredIsHiddenAndShreddedIsGone(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "first")
	curator := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "curator", Scope: "**"}))
	chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "consumer", Scope: "**"})
	version(t, curator, "d", "i", "second", nil)
	wrapped := func() map[string][]byte {
		keys := map[string][]byte{}
		for _, row := range chest.Rows(t, "SELECT id, wrapped_key FROM versions WHERE length(wrapped_key) > 1") {
			keys[row[0].(string)] = row[1].([]byte)
		}
		return keys
	}
	before := wrapped()
	if len(before) != 2 {
		t.Fatalf("%d keys", len(before))
	}
	inFiles := func(key []byte) bool {
		for _, name := range []string{"chest.db", "chest.db-wal"} {
			content, err := os.ReadFile(filepath.Join(chest.Dir, "chest", name))
			if err == nil && bytes.Contains(content, key) {
				return true
			}
		}
		return false
	}
	must[client.History](t)(curator.Act(ctx, "d", "i", client.Act{Act: "shred", Version: 1, Name: "d/i@1"}))
	after := wrapped()
	if len(after) != 1 {
		t.Fatalf("%d keys after one version was shredded", len(after))
	}
	for id, key := range before {
		if inFiles(key) != (after[id] != nil) {
			t.Errorf("the key of %s: in the files %v, in its row %v", id, inFiles(key), after[id] != nil)
		}
	}
	must[client.History](t)(curator.Act(ctx, "d", "i", client.Act{Act: "retire"}))
	if list := must[client.DrawerContents](t)(curator.Drawer(ctx, "d")); len(list.Items) != 0 || list.Drawer.Items != 0 {
		t.Errorf("a retired item is listed: %+v", list)
	}
	if list := must[client.DrawerContents](t)(curator.DrawerWithRetired(ctx, "d")); len(list.Items) != 1 || list.Items[0].State != "retired" {
		t.Errorf("a retired item is not listed when asked for: %+v", list)
	}
	again := client.NewItem{Name: "i", Version: client.Content([]byte("third"))}
	if _, err := curator.CreateItem(ctx, "d", again); chesttest.Code(err) != "exists" ||
		!strings.Contains(err.Error(), "restore it, or shred it") {
		t.Errorf("the name of a retired item: %v", err)
	}
	must[client.History](t)(curator.Act(ctx, "d", "i", client.Act{Act: "shred", Name: "d/i"}))
	for id, key := range before {
		if inFiles(key) {
			t.Errorf("the key of %s is still in the files", id)
		}
	}
	stored := must[client.Stored](t)(curator.CreateItem(ctx, "d", again))
	if stored.Version.Version != 1 {
		t.Errorf("%+v", stored)
	}
	if left := must[[]client.Shredded](t)(curator.Shredded(ctx, "d")); len(left) != 1 || left[0].Name != "i" || left[0].Versions != 2 ||
		left[0].By != "person:security-duty" {
		t.Errorf("the history says %+v", left)
	}
	chest.Restart(t)
	curator = chest.Client(t, chest.SignIn(t, "security-duty"))
	if left := must[[]client.Shredded](t)(curator.Shredded(ctx, "d")); len(left) != 1 {
		t.Errorf("after a restart: %+v", left)
	}
	if _, _, err := chest.Client(t, chest.SignIn(t, "ticketing-lead")).Read(ctx, "d/i@2"); chesttest.Code(err) != "not_found" {
		t.Errorf("a shredded version through the name's new item: %v", err)
	}
}

// Who still reads which version comes from the trail, with what pins it.
func TestReadersSayWhoIsBehind(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "one")
	curator := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "curator", Scope: "**"}))
	_, behind := chest.App(t, "nightly-ledger", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	_, ahead := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	version(t, curator, "d", "i", "two", nil)
	readCode(chest.Client(t, behind), "d/i@1")
	readCode(chest.Client(t, ahead), "d/i@1")
	readCode(chest.Client(t, ahead), "d/i")
	readers := must[[]client.Reader](t)(curator.Readers(ctx, "d", "i", time.Time{}))
	if len(readers) != 2 || readers[0].Subject != "app:nightly-ledger" || readers[0].Version != 1 || !readers[0].Pinned ||
		readers[1].Version != 2 || readers[1].Pinned {
		t.Errorf("%+v", readers)
	}
}

// What is due comes from the windows alone: a version that follows in time makes an end harmless.
func TestDueIsWhatNobodyFollows(t *testing.T) {
	chest := chesttest.Start(t)
	for _, item := range []string{"endless", "ends-soon", "followed", "ended", "suspended", "retired"} {
		chest.Fill(t, "d", item, "v")
	}
	curator := chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "curator", Scope: "**"}))
	soon := time.Now().Add(24 * time.Hour).Truncate(time.Second)
	ending := func(v *client.NewVersion) { v.NotAfter = soon }
	for _, item := range []string{"ends-soon", "followed", "ended"} {
		version(t, curator, "d", item, "w", ending)
		must[client.History](t)(curator.Act(ctx, "d", item, client.Act{Act: "shred", Version: 1, Name: "d/" + item + "@1"}))
	}
	version(t, curator, "d", "followed", "x", func(v *client.NewVersion) { v.NotBefore = soon })
	must[client.History](t)(curator.Act(ctx, "d", "suspended", client.Act{Act: "suspend"}))
	must[client.History](t)(curator.Act(ctx, "d", "retired", client.Act{Act: "retire"}))
	due := func(within time.Duration) (found []string) {
		t.Helper()
		for _, d := range must[[]client.Due](t)(curator.Due(ctx, within)) {
			found = append(found, d.Reference+" "+d.State)
		}
		return found
	}
	if got := strings.Join(due(48*time.Hour), ", "); got != "d/suspended suspended, d/ended due, d/ends-soon due" {
		t.Errorf("got %s", got)
	}
	if got := strings.Join(due(time.Hour), ", "); got != "d/suspended suspended" {
		t.Errorf("within an hour: %s", got)
	}
	chest.Clock.Set(-25 * time.Hour)
	curator = chest.Client(t, chest.SignIn(t, "security-duty"))
	if got := strings.Join(due(time.Hour), ", "); got != "d/suspended suspended, d/ended ended, d/ends-soon ended" {
		t.Errorf("a day later: %s", got)
	}
}

// A search finds only what the asker may list, and its pages neither repeat nor lose anything that was there throughout.
func TestSearchFindsWhatOneMayList(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	chest.Fill(t, "fuel-billing-prod", "item", "v")
	var many strings.Builder
	for n := range 119 {
		fmt.Fprintf(&many, "ITEM_%d=v\n", n)
	}
	if report := must[client.ImportReport](t)(steward.Import(ctx, "fuel-billing-prod", dotenv(many.String()))); !report.Done {
		t.Fatalf("%+v", report)
	}
	if err := label(steward, "ticketing-prod", client.Labels{"team": "ticketing"}); err != nil {
		t.Fatal(err)
	}
	some := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "viewer", Scope: "ticketing-*/**"},
		chesttest.Grant{Role: "consumer", Scope: "**"}))
	for query, want := range map[string]int{"password": 1, "item": 0, "label:team=*": 1, "-label:team=*": 0, "drawer:fuel*": 0,
		"read:never": 1, "state:usable shape:text": 1} {
		if page := must[client.SearchPage](t)(some.Search(ctx, query, "")); len(page.Items) != want {
			t.Errorf("%q: %d items, want %d", query, len(page.Items), want)
		}
	}
	readCode(some, "ticketing-prod/db-password")
	if page := must[client.SearchPage](t)(some.Search(ctx, "read:never", "")); len(page.Items) != 0 {
		t.Errorf("a read item counts as never read")
	}
	seen := map[string]int{}
	cursor := ""
	for pages := 0; ; pages++ {
		page := must[client.SearchPage](t)(steward.Search(ctx, "drawer:fuel-*", cursor))
		for _, it := range page.Items {
			seen[it.Name]++
		}
		if pages == 0 {
			chest.Fill(t, "fuel-billing-prod", "aaa-new", "v")
			must[client.History](t)(steward.Act(ctx, "fuel-billing-prod", page.Items[0].Name, client.Act{Act: "suspend"}))
		}
		if cursor = page.NextCursor; cursor == "" {
			break
		}
	}
	if len(seen) != 120 {
		t.Errorf("%d items over all pages", len(seen))
	}
	for name, n := range seen {
		if n != 1 {
			t.Errorf("%s is there %d times", name, n)
		}
	}
	for _, bad := range []string{"colour:red", `"open`} {
		if _, err := steward.Search(ctx, bad, ""); chesttest.Code(err) != "invalid_input" {
			t.Errorf("%q: %v", bad, err)
		}
	}
	if _, err := steward.Search(ctx, "x", "nonsense"); chesttest.Code(err) != "invalid_input" {
		t.Errorf("a made-up cursor: %v", err)
	}
}

// An end is changed without the value: a later one, an earlier one, none; never by accident so that what was refused is served again.
func TestAnEndIsChangedWithoutTheValue(t *testing.T) {
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "one")
	curator := chest.Client(t, chest.Person(t, "harbour-master", chesttest.Grant{Role: "curator", Scope: "d/**"}))
	writer := chest.Client(t, chest.Person(t, "ticketing-lead", chesttest.Grant{Role: "depositor", Scope: "d/**"}))
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	app := chest.Client(t, token)
	soon := time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	h := must[client.History](t)(curator.SetWindow(ctx, "d", "i", client.NewWindow{NotAfter: soon}))
	if !h.Versions[0].NotAfter.Equal(soon) {
		t.Errorf("%+v", h.Versions[0])
	}
	if v, err := app.ReadValue(ctx, "d/i"); err != nil || !v.NotAfter.Equal(soon) {
		t.Errorf("%+v, %v", v, err)
	}
	for what, w := range map[string]client.NewWindow{"no word about the end": {}, "one in the past": {NotAfter: time.Now().Add(-time.Hour)},
		"both": {NotAfter: soon, NeverEnds: true}, "one that begins later": {NotBefore: soon, NeverEnds: true}} {
		if _, err := curator.SetWindow(ctx, "d", "i", w); chesttest.Code(err) != "invalid_input" {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := curator.SetWindow(ctx, "d", "i", client.NewWindow{Version: 7, NeverEnds: true}); chesttest.Code(err) != "not_found" {
		t.Errorf("of a version that is not there: %v", err)
	}
	if _, err := writer.SetWindow(ctx, "d", "i", client.NewWindow{NeverEnds: true}); chesttest.Code(err) != "refused" {
		t.Errorf("a depositor changes an end: %v", err)
	}
	chest.Clock.Set(-2 * time.Hour)
	curator = chest.Client(t, chest.SignIn(t, "harbour-master"))
	later := client.NewWindow{Version: 1, NotAfter: time.Now().Add(90 * 24 * time.Hour)}
	var problem *client.Problem
	if _, err := curator.SetWindow(ctx, "d", "i", later); !errors.As(err, &problem) || problem.Field != "allow_again" {
		t.Errorf("what had ended is served again without a word: %v", err)
	}
	later.AllowAgain = true
	if _, err := curator.SetWindow(ctx, "d", "i", later); err != nil {
		t.Error(err)
	}
}
