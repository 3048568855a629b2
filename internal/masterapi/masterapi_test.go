package masterapi_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
)

var ctx = context.Background()

func must[T any](t testing.TB) func(T, error) T {
	return func(v T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

func random(t testing.TB) []byte {
	t.Helper()
	material := make([]byte, 32)
	_, _ = rand.Read(material)
	return material
}

// start is a chest with the drawer crew under a master key that was brought, an app that reads it, and people: a curator of everything, and
// the owner of the key, who is an app for the sake of shortness and may do nothing else.
func start(t *testing.T, inMemory bool) (chest *chesttest.Chest, material []byte, key client.MasterKey, p people) {
	t.Helper()
	chest = chesttest.Start(t)
	_, p.owner = chest.App(t, "crew-office")
	_, p.app = chest.App(t, "rota-sync", chesttest.Grant{Role: "consumer", Scope: "crew/**"})
	p.curator = chest.Person(t, "curator", chesttest.Grant{Role: "curator", Scope: "**"})
	material = random(t)
	steward := chest.Client(t, chest.Steward)
	key = must[client.MasterKey](t)(steward.MakeMasterKey(ctx, client.NewMasterKey{Name: "crew", Origin: "brought", Owner: "app:crew-office",
		Material: material, InMemory: inMemory}))
	must[client.Drawer](t)(steward.CreateDrawer(ctx, client.NewDrawer{Name: "crew", Environment: "production", MasterKey: "crew"}))
	chest.Fill(t, "crew", "login", "the crew's password")
	chest.Fill(t, "open", "login", "no secret to speak of")
	return chest, material, key, p
}

type people struct{ owner, app, curator string } // tokens

// reads is what reading gives: "served", or the code and the reason of why not.
func reads(c *client.Client, reference string) string {
	value, _, err := c.Read(ctx, reference)
	if problem, is := err.(*client.Problem); is {
		return problem.Code + " " + problem.Reason
	}
	if err != nil || len(value) == 0 {
		return fmt.Sprint("lost: ", err)
	}
	return "served"
}

func wants(t *testing.T, what string, c *client.Client, reference, want string) {
	t.Helper()
	if got := reads(c, reference); got != want {
		t.Errorf("%s: %s is %q, want %q", what, reference, got, want)
	}
}

// A master key that its owner has brought closes the drawers under it while it is withdrawn, for everybody and in every way, and opens them
// again when the same key is given back.
func TestAKeyIsWithdrawnAndGivenBack(t *testing.T) {
	chest, material, key, p := start(t, false)
	steward, curator := chest.Client(t, chest.Steward), chest.Client(t, p.curator)
	owner, app := chest.Client(t, p.owner), chest.Client(t, p.app)
	must[client.Stored](t)(curator.CreateItem(ctx, "crew", client.NewItem{Name: "stamp", Key: &client.NewKeyFacts{Type: "ed25519"}}))
	must[client.KeyResult](t)(app.Sign(ctx, "crew/stamp", "", []byte("rota")))
	wants(t, "at first", app, "crew/login", "served")

	// An empty drawer does not hide those who read in another one.
	must[client.Drawer](t)(steward.CreateDrawer(ctx, client.NewDrawer{Name: "a-new-one", Environment: "staging", MasterKey: "crew"}))
	one := must[client.MasterKey](t)(owner.MasterKey(ctx, key.ID))
	if !one.Manages || len(one.Drawers) != 0 || one.MoreDrawers != 2 || one.Items != 2 || len(one.Readers) != 0 || one.MoreReaders != 1 {
		t.Errorf("what the owner, who may list nothing, is told before: %+v", one)
	}
	one = must[client.MasterKey](t)(steward.MasterKey(ctx, key.ID))
	if !slices.Equal(one.Drawers, []string{"a-new-one", "crew"}) || one.MoreDrawers != 0 {
		t.Errorf("what an operator is told before: %+v", one)
	}
	if _, err := owner.WithdrawMasterKey(ctx, key.ID, "Crew"); chesttest.Code(err) != "invalid_input" {
		t.Errorf("without its exact name: %v", err)
	}
	must[client.MasterKey](t)(owner.WithdrawMasterKey(ctx, key.ID, "crew"))

	const closed = "not_servable key_withdrawn"
	wants(t, "withdrawn", app, "crew/login", closed)
	wants(t, "the drawer beside it", curator, "open/login", "refused no_grant")
	for what, err := range map[string]error{
		"sign":       second(app.Sign(ctx, "crew/stamp", "", []byte("rota"))),
		"write":      second(curator.AddVersion(ctx, "crew", "login", 0, client.Content([]byte("another")))),
		"create":     second(curator.CreateItem(ctx, "crew", client.NewItem{Name: "more", Version: client.Content([]byte("x"))})),
		"make a key": second(curator.AddVersion(ctx, "crew", "stamp", 0, client.NewVersion{})),
		"compare":    second(app.Equals(ctx, "crew/login", []byte("the crew's password"))),
		"move in":    second(steward.Move(ctx, "open", "login", client.NewPlace{Drawer: "crew", Name: "moved"})),
		"rotate":     second(steward.RotateKey(ctx, "crew", nil)),
		"batch":      second(app.ReadValues(ctx, "crew/login")),
	} {
		if what == "batch" {
			continue
		}
		if chesttest.Code(err) != "not_servable" {
			t.Errorf("%s while it is withdrawn: %v", what, err)
		}
	}
	if outcomes := must[[]client.Outcome](t)(app.ReadValues(ctx, "crew/login")); outcomes[0].Problem == nil ||
		outcomes[0].Problem.Code != "not_servable" {
		t.Errorf("in a batch: %+v", outcomes)
	}
	if checks := must[[]client.Check](t)(app.Check(ctx, client.Preflight{References: []string{"crew/login"}})); checks[0].Served ||
		checks[0].Reason != "key_withdrawn" {
		t.Errorf("what a preflight says: %+v", checks)
	}
	if contents := must[client.DrawerContents](t)(curator.Drawer(ctx, "crew")); len(contents.Items) != 2 ||
		contents.Drawer.MasterKeyState != "withdrawn" || contents.Drawer.MasterKey != "crew" {
		t.Errorf("what is in it is listed, and says why it is closed: %+v", contents.Drawer)
	}
	chest.Fill(t, "open", "same", "the crew's password")
	x := must[client.Exposure](t)(steward.Exposure(ctx, "open/same@1", client.NewExposure{}))
	if !strings.Contains(x.Uncompared, "1 item may have the same value") {
		t.Errorf("an exposure report that cannot look at everything says %q", x.Uncompared)
	}
	if rows := chest.Rows(t, "SELECT length(sealed) FROM master_keys"); rows[0][0].(int64) != 1 {
		t.Errorf("the chest keeps %v bytes of a key that was withdrawn", rows[0][0])
	}
	wrong := must[[]string](t)(steward.Examine(ctx))
	if len(wrong) != 1 || !strings.Contains(wrong[0], "2 values were not looked at") {
		t.Errorf("an examination that cannot look at everything: %v", wrong)
	}
	unlock := must[[]byte](t)(os.ReadFile(filepath.Join(chest.Dir, "unlock.key")))
	must[int](t)(steward.RotateRootKey(ctx, string(unlock)))
	chest.Restart(t)
	steward, owner, app = chest.Client(t, chest.SignIn(t, "steward")), chest.Client(t, p.owner), chest.Client(t, p.app)
	wants(t, "after a restart", app, "crew/login", closed)

	for what, given := range map[string][]byte{"another key": random(t), "too short": material[:31], "nothing": nil,
		"its text": []byte("0123456789abcdef0123456789abcdef")} {
		if _, err := owner.GiveMasterKeyBack(ctx, key.ID, client.GivenBack{Material: given}); chesttest.Code(err) != "invalid_input" {
			t.Errorf("%s is given back: %v", what, err)
		}
	}
	wants(t, "after others were given", app, "crew/login", closed)
	back := must[client.MasterKey](t)(owner.GiveMasterKeyBack(ctx, key.ID, client.GivenBack{Material: material}))
	if back.State != "at_hand" || back.Fingerprint != key.Fingerprint {
		t.Errorf("given back: %+v", back)
	}
	wants(t, "given back", app, "crew/login", "served")
	if _, err := app.Sign(ctx, "crew/stamp", "", []byte("rota")); err != nil {
		t.Errorf("signing, when it is given back: %v", err)
	}
	if wrong := must[[]string](t)(steward.Examine(ctx)); len(wrong) != 0 {
		t.Errorf("an examination afterwards: %v", wrong)
	}
	chest.Restart(t)
	wants(t, "after another restart", chest.Client(t, p.app), "crew/login", "served")
	page := must[client.TrailPage](t)(chest.Client(t, chest.SignIn(t, "steward")).Trail(ctx, client.TrailFilter{Action: "withdraw_master_key",
		Outcome: "allowed"}))
	if len(page.Entries) != 3 || page.Entries[2].Subject != "app:crew-office" || page.Entries[2].Detail != "crew, over 2 drawers" ||
		page.Entries[0].Target != "crew" || page.Entries[0].Detail != "master key crew" {
		t.Errorf("the trail: %+v", page.Entries)
	}
}

func second[T any](_ T, err error) error { return err }

// A master key that is never stored is in no file of the chest, and given again after each unlock.
func TestAKeyInMemoryIsNotStored(t *testing.T) {
	chest, material, key, p := start(t, true)
	wants(t, "at first", chest.Client(t, p.app), "crew/login", "served")
	must[client.Rotation](t)(chest.Client(t, p.curator).RotateKey(ctx, "crew", nil))
	wants(t, "after a rotation", chest.Client(t, p.app), "crew/login", "served")
	chest.Restart(t)
	for _, name := range must[[]os.DirEntry](t)(os.ReadDir(filepath.Join(chest.Dir, "chest"))) {
		if content, err := os.ReadFile(filepath.Join(chest.Dir, "chest", name.Name())); err == nil && bytes.Contains(content, material) {
			t.Errorf("%s has the key", name.Name())
		}
	}
	app, owner := chest.Client(t, p.app), chest.Client(t, p.owner)
	wants(t, "after a restart", app, "crew/login", "locked key_missing")
	told := must[client.Status](t)(app.Status(ctx)).Problems
	if len(told) != 1 || !strings.Contains(told[0].What, "master key") || strings.Contains(told[0].What, "crew") {
		t.Errorf("what anybody is told: %+v", told)
	}
	kept := false
	must[client.MasterKey](t)(owner.GiveMasterKeyBack(ctx, key.ID, client.GivenBack{Material: material, InMemory: &kept}))
	wants(t, "given again", app, "crew/login", "served")
	chest.Restart(t)
	wants(t, "kept from then on", chest.Client(t, p.app), "crew/login", "served")
}

// What is under a master key does not come out from under it behind its owner's back: not by another key of the drawer, not by a move, and
// the key itself is changed and destroyed by nobody else.
func TestNobodyElseTakesADrawerFromUnderAKey(t *testing.T) {
	chest, _, key, p := start(t, false)
	steward, curator := chest.Client(t, chest.Steward), chest.Client(t, p.curator)
	owner, app := chest.Client(t, p.owner), chest.Client(t, p.app)
	none, other := "", "other"
	must[client.MasterKey](t)(steward.MakeMasterKey(ctx, client.NewMasterKey{Name: "other", Origin: "made"}))
	for what, err := range map[string]error{
		"to the root key alone": second(curator.RotateKey(ctx, "crew", &none)),
		"to another":            second(curator.RotateKey(ctx, "crew", &other)),
		"by a move":             second(curator.Move(ctx, "crew", "login", client.NewPlace{Drawer: "open", Name: "crew-login"})),
		"withdraw":              second(curator.WithdrawMasterKey(ctx, key.ID, "crew")),
		"destroy":               curator.DestroyMasterKey(ctx, key.ID, "crew"),
		"change":                second(curator.ChangeMasterKey(ctx, key.ID, key.Revision, client.MasterKeyChanges{Owner: &none})),
		"look at it":            second(curator.MasterKey(ctx, key.ID)),
		"list them":             second(app.MasterKeys(ctx)),
		"make one":              second(curator.MakeMasterKey(ctx, client.NewMasterKey{Name: "mine", Origin: "made"})),
		"one that is not there": second(app.MasterKey(ctx, "mk_none")),
		"the owner, a drawer":   second(owner.RotateKey(ctx, "crew", &none)),
	} {
		if chesttest.Code(err) != "refused" {
			t.Errorf("%s: %v", what, err)
		}
	}
	for what, n := range map[string]client.NewMasterKey{
		"a token that the service does not know": {Name: "x", Origin: "token", Token: "yard"},
		"a library of one's own":                 {Name: "x", Origin: "token", Token: "pkcs11:token=x;object=y?module-path=/tmp/x.so"},
		"a name that is taken":                   {Name: "crew", Origin: "made"},
		"an owner that there is not":             {Name: "x", Origin: "made", Owner: "team:nobody"},
		"text":                                   {Name: "x", Origin: "brought", Material: []byte("correct horse battery staple 123")},
		"zeros":                                  {Name: "x", Origin: "brought", Material: make([]byte, 32)},
		"material of one that is made":           {Name: "x", Origin: "made", Material: random(t)},
		"one that nobody has, in memory":         {Name: "x", Origin: "made", InMemory: true},
		"an origin that there is not":            {Name: "x", Origin: "found"},
	} {
		if _, err := steward.MakeMasterKey(ctx, n); err == nil || chesttest.Code(err) == "internal" {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := steward.CreateDrawer(ctx, client.NewDrawer{Name: "n", Environment: "staging", MasterKey: "nobody"}); chesttest.Code(err) !=
		"invalid_input" {
		t.Errorf("a drawer under a key that there is not: %v", err)
	}
	if err := steward.DestroyMasterKey(ctx, key.ID, "crew"); chesttest.Code(err) != "not_possible" || !strings.Contains(err.Error(), "crew") {
		t.Errorf("destroyed with a drawer under it: %v", err)
	}
	made := must[client.MasterKey](t)(steward.MakeMasterKey(ctx, client.NewMasterKey{Name: "made", Origin: "made"}))
	if _, err := steward.WithdrawMasterKey(ctx, made.ID, "made"); chesttest.Code(err) != "not_possible" {
		t.Errorf("one that nobody else has is withdrawn: %v", err)
	}

	if r := must[client.Rotation](t)(steward.RotateKey(ctx, "crew", &other)); !r.Done {
		t.Errorf("by an operator: %+v", r)
	}
	wants(t, "under another", app, "crew/login", "served")
	if err := owner.DestroyMasterKey(ctx, key.ID, "crew"); err != nil {
		t.Errorf("destroyed by its owner, when nothing is under it: %v", err)
	}
	chest.Restart(t)
	wants(t, "after a restart", chest.Client(t, p.app), "crew/login", "served")
	if keys := must[[]client.MasterKey](t)(chest.Client(t, chest.SignIn(t, "steward")).MasterKeys(ctx)); len(keys) != 2 {
		t.Errorf("%d are left", len(keys))
	}
}

// A master key goes to another owner with the rest of what somebody owns, where whoever hands over may withdraw it; and in a drawer that is
// closed nothing keeps its end from it.
func TestAKeyMeetsItsOwnersLeaveAndADrawersEnd(t *testing.T) {
	chest, _, key, p := start(t, false)
	steward := chest.Client(t, chest.Steward)
	registrar := chest.Client(t, chest.Person(t, "registrar", chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	if owned := must[client.Owned](t)(registrar.Owned(ctx, "app:crew-office")); len(owned.MasterKeys) != 0 {
		t.Errorf("whoever may not see master keys is told of %v", owned.MasterKeys)
	}
	if owned := must[client.Owned](t)(registrar.HandOver(ctx, "app:crew-office", "person:curator")); len(owned.MasterKeys) != 0 {
		t.Errorf("handed over by whoever may not withdraw it: %v", owned.MasterKeys)
	}
	if owned := must[client.Owned](t)(steward.Owned(ctx, "app:crew-office")); !slices.Equal(owned.MasterKeys, []string{"crew"}) {
		t.Errorf("what it owns: %v", owned.MasterKeys)
	}
	must[client.Owned](t)(steward.HandOver(ctx, "app:crew-office", "person:curator"))
	if _, err := chest.Client(t, p.owner).MasterKey(ctx, key.ID); chesttest.Code(err) != "refused" {
		t.Errorf("the owner before: %v", err)
	}
	curator := chest.Client(t, p.curator)
	must[client.MasterKey](t)(curator.WithdrawMasterKey(ctx, key.ID, "crew"))
	must[client.History](t)(curator.Act(ctx, "crew", "login", client.Act{Act: "retire"}))
	must[client.ShreddedDrawer](t)(steward.ShredDrawer(ctx, "crew", "crew"))
	if err := curator.DestroyMasterKey(ctx, key.ID, "crew"); err != nil {
		t.Errorf("nothing is under it any more: %v", err)
	}
	chest.Restart(t)
	if wrong := must[[]string](t)(chest.Client(t, chest.SignIn(t, "steward")).Examine(ctx)); len(wrong) > 0 {
		t.Errorf("examined afterwards: %v", wrong)
	}
}

// Strangers, who may ask what an authority has revoked, are told nothing of the drawer that is closed.
func TestStrangersLearnNothingOfAClosedDrawer(t *testing.T) {
	chest, material, key, p := start(t, false)
	curator, steward := chest.Client(t, p.curator), chest.Client(t, chest.Steward)
	must[client.Stored](t)(curator.CreateAuthority(ctx, "crew", client.NewAuthority{Name: "berths", Subject: "Berths", Life: "90d"}))
	path := must[client.Authority](t)(curator.Authority(ctx, "crew", "berths")).Public + "/crl"
	if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: path}); answer.Status != 200 {
		t.Fatalf("%d %s", answer.Status, answer.Body)
	}
	must[client.MasterKey](t)(steward.WithdrawMasterKey(ctx, key.ID, "crew"))
	answer := chest.Do(t, chesttest.Call{Method: "GET", Path: path})
	if answer.Status != 503 || bytes.Contains(answer.Body, []byte("crew")) || bytes.Contains(answer.Body, []byte("steward")) {
		t.Errorf("%d %s", answer.Status, answer.Body)
	}
	must[client.MasterKey](t)(steward.GiveMasterKeyBack(ctx, key.ID, client.GivenBack{Material: material}))
	if answer := chest.Do(t, chesttest.Call{Method: "GET", Path: path}); answer.Status != 200 {
		t.Errorf("given back: %d %s", answer.Status, answer.Body)
	}
}

// Forty loops read while the key is withdrawn: from that entry on nothing is served.
func TestNothingIsServedAfterAWithdrawal(t *testing.T) {
	chest, material, key, p := start(t, false)
	app, owner := chest.Client(t, p.app), chest.Client(t, p.owner)
	for range 3 {
		var wait sync.WaitGroup
		some := make(chan struct{}, 1<<16)
		for range 40 {
			wait.Go(func() {
				for got := "served"; got == "served"; some <- struct{}{} {
					if got = reads(app, "crew/login"); got != "served" && got != "not_servable key_withdrawn" {
						t.Errorf("a read is %s", got)
					}
				}
			})
		}
		for range 400 {
			<-some
		}
		must[client.MasterKey](t)(owner.WithdrawMasterKey(ctx, key.ID, "crew"))
		wait.Wait()
		steward := chest.Client(t, chest.SignIn(t, "steward"))
		newest := func(action string) uint64 {
			page := must[client.TrailPage](t)(steward.Trail(ctx, client.TrailFilter{Action: action, Outcome: "allowed", Limit: 1}))
			return page.Entries[0].Seq
		}
		if read, withdrawn := newest("read_value"), newest("withdraw_master_key"); read > withdrawn {
			t.Errorf("a read has entry %d, and the withdrawal %d", read, withdrawn)
		}
		must[client.MasterKey](t)(owner.GiveMasterKeyBack(ctx, key.ID, client.GivenBack{Material: material}))
		wants(t, "given back", app, "crew/login", "served")
	}
}

// A rotation from under one key to another that is interrupted by a withdrawal goes on when the key is given back; meanwhile what is under
// the new key is served, and what is under the old one not.
func TestARotationWaitsForAKeyThatIsAway(t *testing.T) {
	chest, material, key, p := start(t, false)
	steward, app := chest.Client(t, chest.Steward), chest.Client(t, p.app)
	for n := range 1200 { // more than one step takes
		must[client.Stored](t)(steward.CreateItem(ctx, "crew", client.NewItem{Name: fmt.Sprintf("berth-%d", n),
			Version: client.Content([]byte("x"))}))
	}
	must[client.MasterKey](t)(steward.MakeMasterKey(ctx, client.NewMasterKey{Name: "next", Origin: "made"}))
	next := "next"
	begun := make(chan error, 1)
	go func() { begun <- second(steward.RotateKey(ctx, "crew", &next)) }()
	withdrawn := false
	for deadline := time.Now().Add(time.Minute); !withdrawn && time.Now().Before(deadline); {
		rows := chest.Rows(t, "SELECT count(*) FROM drawer_keys JOIN drawers d ON d.id = drawer WHERE name = 'crew'")
		if rows[0][0].(int64) == 2 {
			must[client.MasterKey](t)(steward.WithdrawMasterKey(ctx, key.ID, "crew"))
			withdrawn = true
		}
	}
	if err := <-begun; err != nil && chesttest.Code(err) != "not_servable" {
		t.Errorf("the rotation: %v", err)
	}
	left := chest.Rows(t, "SELECT count(*) FROM versions JOIN items i ON i.id = item JOIN drawers d ON d.id = drawer "+
		"WHERE drawer_key = 1 AND d.name = 'crew'")[0][0].(int64)
	counts := map[string]int{}
	for n := range 1200 {
		counts[reads(app, fmt.Sprintf("crew/berth-%d", n))]++
	}
	counts[reads(app, "crew/login")]++
	if counts["not_servable key_withdrawn"] != int(left) || counts["served"] != 1201-int(left) {
		t.Errorf("%d are under the key that is away: %v", left, counts)
	}
	must[client.MasterKey](t)(steward.GiveMasterKeyBack(ctx, key.ID, client.GivenBack{Material: material}))
	for r := (client.Rotation{}); !r.Done; {
		r = must[client.Rotation](t)(steward.RotateKey(ctx, "crew", nil))
	}
	if err := steward.DestroyMasterKey(ctx, key.ID, "crew"); err != nil {
		t.Errorf("nothing is under it any more: %v", err)
	}
	wants(t, "all under the next", app, "crew/berth-1199", "served")
	wants(t, "all under the next", app, "crew/login", "served")
}
