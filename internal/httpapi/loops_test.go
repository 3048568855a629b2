package httpapi_test

import (
	"fmt"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"

	"tansu/client"
	"tansu/internal/chesttest"
)

// The tests here do again, many times and beside loops that do not wait, what the tests of forced interleavings in internal/service do
// once. TANSU_ROUNDS says how many rounds (make loops).
func rounds() int {
	n, err := strconv.Atoi(os.Getenv("TANSU_ROUNDS"))
	if err != nil {
		return 2
	}
	return n
}

// beside runs f in some loops, calls done when each of them has come round once, and returns when all of them have stopped after it.
func beside(loops int, f func(), done func()) {
	var stop atomic.Bool
	var first, all sync.WaitGroup
	for range loops {
		first.Add(1)
		all.Go(func() {
			f()
			first.Done()
			for !stop.Load() {
				f()
			}
		})
	}
	first.Wait()
	defer all.Wait()
	defer stop.Store(true)
	done()
}

// tokens is what the loops were given.
type tokens struct {
	mu  sync.Mutex
	all []string
}

func (k *tokens) add(token string, err error) {
	if err != nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.all = append(k.all, token)
}

// Whatever was given for a password, a secret or an identity is worth nothing once that was replaced, ended or suspended and the answer
// is there, however many are asking for more in that moment; and being active again does not bring it back.
func TestNothingOutlivesWhatItWasGivenFor(t *testing.T) {
	outlived, given := 0, 0
	for range rounds() {
		chest := chesttest.Start(t) // its own each time, because a network is heard only so often with tokens that are worth nothing
		steward, anybody := chest.Client(t, chest.Steward), chest.Client(t, "")
		count := func(what string, k *tokens) {
			if len(k.all) == 0 {
				t.Errorf("%s: the loops were given nothing", what)
			}
			given += len(k.all)
			for _, token := range k.all[max(0, len(k.all)-12):] { // the last ones are those in question
				if _, err := chest.Client(t, token).Me(ctx); chesttest.Code(err) != "unauthenticated" {
					outlived++
					t.Errorf("%s: a token is taken afterwards (%v)", what, err)
				}
			}
		}
		const name, app = "relief", "rota-sync"
		chest.Person(t, name)
		code := must[client.Issued](t)(steward.IssueCredential(ctx, "person:"+name, client.NewCredential{}))
		var sessions tokens
		beside(3, func() {
			session, err := anybody.SignIn(ctx, name, chesttest.Password, "")
			sessions.add(session.Token, err)
		}, func() {
			must[client.Session](t)(anybody.Enrol(ctx, code.Secret, "another password for tests"))
		})
		count("a password that was replaced", &sessions)

		registered := must[client.Registered](t)(steward.Register(ctx, client.NewIdentity{Kind: "app", Name: app}))
		ask := func(secret string, k *tokens) func() {
			return func() {
				token, _, err := anybody.AppToken(ctx, app, secret)
				k.add(token, err)
			}
		}
		var ended tokens
		beside(4, ask(registered.Credential.Secret, &ended), func() {
			if err := steward.RevokeCredential(ctx, "app:"+app, registered.Credential.ID); err != nil {
				t.Fatal(err)
			}
		})
		count("a secret that was ended", &ended)

		again := must[client.Issued](t)(steward.IssueCredential(ctx, "app:"+app, client.NewCredential{}))
		var suspended tokens
		beside(4, ask(again.Secret, &suspended), func() {
			must[client.Identity](t)(steward.SetState(ctx, "app:"+app, "suspended"))
		})
		must[client.Identity](t)(steward.SetState(ctx, "app:"+app, "active"))
		count("an app that was suspended and is active again", &suspended)
		_ = chest.Stop()
	}
	t.Logf("%d rounds: %d tokens given, %d outlived what they were given for", rounds(), given, outlived)
}

// Two who manage access suspend each other, end each other's grants or take each other out of the team that gives it, all at once. One
// of them stays able to give access.
func TestSomebodyCanAlwaysGiveAccess(t *testing.T) {
	none := 0
	for n := range rounds() {
		for what, act := range map[string]func(by *client.Client, other string) error{
			"suspend": func(by *client.Client, other string) error {
				_, err := by.SetState(ctx, "person:"+other, "suspended")
				return err
			},
			"end grants": func(by *client.Client, other string) error {
				grants, err := by.Grants(ctx, "person:"+other)
				for _, g := range grants {
					if _, e := by.EndGrant(ctx, g.ID); e != nil {
						err = e
					}
				}
				return err
			},
			"leave the team": func(by *client.Client, other string) error {
				_, err := by.Leave(ctx, "gate", "person:"+other)
				return err
			},
		} {
			chest := chesttest.Start(t)
			steward := chest.Client(t, chest.Steward)
			names := []string{"security-duty", "security-night"}
			var two []*client.Client
			for _, name := range names {
				two = append(two, chest.Client(t, chest.Person(t, name)))
			}
			if what == "leave the team" {
				team(t, steward, "gate", "person:"+names[0], "person:"+names[1])
				give(t, steward, "team:gate", "gatekeeper", "**")
			} else {
				for _, name := range names {
					give(t, steward, "person:"+name, "gatekeeper", "**")
				}
			}
			must[[]string](t)(steward.SetStewardsAside(ctx))
			var at sync.WaitGroup
			for i := range two {
				for j := range 2 { // each acts on the other and on themselves
					at.Go(func() { _ = act(two[i], names[j]) })
				}
			}
			at.Wait()
			stay := 0
			for i := range two {
				if _, err := two[i].Register(ctx, client.NewIdentity{Kind: "person", Name: fmt.Sprintf("relief-%d", i)}); err == nil {
					stay++
				}
			}
			if stay == 0 {
				none++
				t.Errorf("round %d, %s: nobody can add anybody any more", n, what)
			}
			_ = chest.Stop()
		}
	}
	t.Logf("%d rounds of three kinds: %d without anybody who can give access", rounds(), none)
}

// A drawer is shredded, and a role removed, while others put something in, move something there or give it. Nothing is left half: what
// was taken was there before, and what was not is refused; the chest starts again, and examines clean.
func TestNothingIsPutIntoWhatIsRemoved(t *testing.T) {
	chest := chesttest.Start(t)
	steward := chest.Client(t, chest.Steward)
	chest.Person(t, "ticketing-lead")
	chest.Fill(t, "aside", "first", "v")
	var n atomic.Int64
	shredded := 0
	for round := range rounds() {
		fleet, before := fmt.Sprint("fleet-", round), shredded
		must[client.Drawer](t)(steward.CreateDrawer(ctx, client.NewDrawer{Name: fleet, Environment: "production"}))
		beside(3, func() {
			name := fmt.Sprint("i-", n.Add(1))
			_, _ = steward.CreateItem(ctx, fleet, client.NewItem{Name: name, Version: client.Content([]byte("v"))})
			_, _ = steward.Act(ctx, fleet, name, client.Act{Act: "retire"}) // a drawer is shredded when all in it is retired
			if _, err := steward.CreateItem(ctx, "aside", client.NewItem{Name: name, Version: client.Content([]byte("v"))}); err == nil {
				_, _ = steward.Move(ctx, "aside", name, client.NewPlace{Drawer: fleet, Name: name + "-moved"})
				_, _ = steward.Act(ctx, fleet, name+"-moved", client.Act{Act: "retire"})
			}
		}, func() {
			for range 200 {
				if _, err := steward.ShredDrawer(ctx, fleet, fleet); err == nil {
					shredded++
					return
				}
			}
		})
		if _, err := steward.Drawer(ctx, fleet); shredded > before && chesttest.Code(err) != "not_found" {
			t.Errorf("the drawer after it was shredded: %v", err)
		}
		must[client.RoleStored](t)(steward.AddRole(ctx, client.NewRole{Name: "rotator", Actions: []string{"list"}}))
		removed := false
		beside(3, func() {
			if given, err := steward.Give(ctx, client.NewGrant{Subject: "person:ticketing-lead", Role: "rotator", Scope: "aside/**"}); err == nil {
				_, _ = steward.EndGrant(ctx, given.Grant.ID)
			}
		}, func() {
			for range 200 { // a role that is in use is not removed
				if removed = steward.RemoveRole(ctx, "rotator") == nil; removed {
					return
				}
			}
		})
		for _, g := range must[[]client.Grant](t)(steward.Grants(ctx, "person:ticketing-lead")) {
			if removed && g.InForce {
				t.Errorf("grant %s of a role that was removed is in force", g.ID)
			}
		}
		if !removed {
			_ = steward.RemoveRole(ctx, "rotator")
		}
	}
	if findings := must[[]string](t)(steward.Examine(ctx)); len(findings) > 0 {
		t.Errorf("examined: %v", findings)
	}
	chest.Restart(t)
	steward = chest.Client(t, chest.SignIn(t, "steward"))
	if findings := must[[]string](t)(steward.Examine(ctx)); len(findings) > 0 {
		t.Errorf("examined after a restart: %v", findings)
	}
	t.Logf("%d rounds beside %d items: shredded %d times", rounds(), n.Load(), shredded)
}
