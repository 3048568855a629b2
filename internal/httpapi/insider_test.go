package httpapi_test

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"tansu/client"
	"tansu/internal/chesttest"
)

// insiders are a chest with those who manage it: one who only registers, and two gatekeepers.
type insiders struct {
	*chesttest.Chest
	steward, registrar, gate, other *client.Client
}

func startInsiders(t *testing.T) insiders {
	t.Helper()
	chest := chesttest.Start(t)
	chest.Fill(t, "d", "i", "v")
	steward := chest.Client(t, chest.Steward)
	must[client.RoleStored](t)(steward.AddRole(ctx, client.NewRole{Name: "registrar", Actions: []string{"register"}}))
	return insiders{chest, steward,
		chest.Client(t, chest.Person(t, "front-desk", chesttest.Grant{Role: "registrar", Scope: "**"})),
		chest.Client(t, chest.Person(t, "security-duty", chesttest.Grant{Role: "gatekeeper", Scope: "**"})),
		chest.Client(t, chest.Person(t, "security-night", chesttest.Grant{Role: "gatekeeper", Scope: "**"}))}
}

func refused(t *testing.T, what string, err error, reason string) {
	t.Helper()
	var problem *client.Problem
	if !errors.As(err, &problem) || problem.Code != "refused" || problem.Reason != reason {
		t.Errorf("%s: got %v, want a refusal because of %s", what, err, reason)
	}
}

// agree lets somebody ask for what was refused until a second person agrees, and somebody else agree.
func agree(t *testing.T, refusal error, asker, second *client.Client) {
	t.Helper()
	var problem *client.Problem
	if !errors.As(refusal, &problem) || problem.Receipt == "" {
		t.Fatalf("no receipt in %v", refusal)
	}
	asked := must[client.Request](t)(asker.AskFor(ctx, client.NewRequest{Receipt: problem.Receipt, Reason: "a test"}))
	if _, err := asker.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true}); err == nil {
		t.Error("who asks for a second person is the second person")
	}
	must[client.Request](t)(second.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true}))
}

// Whoever can act as an app has what it has: what it proves itself with is issued by its owner, or with a second person.
func TestRegistrarDoesNotBecomeAnApp(t *testing.T) {
	in := startInsiders(t)
	owner := in.Client(t, in.Person(t, "ticketing-lead"))
	own := "person:ticketing-lead"
	must[client.Registered](t)(in.registrar.Register(ctx, client.NewIdentity{Kind: "app", Name: "ticket-api", Owner: own, NoSecret: true}))
	must[client.Issued](t)(in.registrar.IssueCredential(ctx, "app:ticket-api", client.NewCredential{})) // it has nothing yet
	give(t, in.gate, "app:ticket-api", "consumer", "d/**")
	_, err := in.registrar.IssueCredential(ctx, "app:ticket-api", client.NewCredential{})
	refused(t, "a second secret of what has access", err, "approval_needed")
	_, gateErr := in.gate.IssueCredential(ctx, "app:ticket-api", client.NewCredential{})
	refused(t, "the same by who gives access", gateErr, "approval_needed")
	for _, to := range []string{"person:front-desk", "person:security-duty"} {
		_, err := in.gate.ChangeIdentity(ctx, "app:ticket-api", client.IdentityChanges{Owner: &to})
		if to == "person:security-duty" {
			refused(t, "becoming its owner", err, "approval_needed")
		} else if err != nil { // who gives access may say who is its owner
			t.Errorf("another owner, by a gatekeeper: %v", err)
		}
	}
	must[client.Identity](t)(in.gate.ChangeIdentity(ctx, "app:ticket-api", client.IdentityChanges{Owner: &own}))
	mine := "person:front-desk"
	_, takes := in.registrar.ChangeIdentity(ctx, "app:ticket-api", client.IdentityChanges{Owner: &mine})
	refused(t, "a registrar becomes its owner", takes, "approval_needed")
	_, hands := in.registrar.HandOver(ctx, own, "person:security-night")
	refused(t, "a registrar hands it to somebody", hands, "no_grant")

	secret := must[client.Issued](t)(owner.IssueCredential(ctx, "app:ticket-api", client.NewCredential{}))
	for _, cr := range must[client.Identity](t)(owner.Identity(ctx, "app:ticket-api")).Credentials {
		if cr.ID != secret.ID {
			if err := owner.RevokeCredential(ctx, "app:ticket-api", cr.ID); err != nil {
				t.Errorf("an owner ends what somebody else issued: %v", err)
			}
		}
	}
	if _, err := owner.IssueCredential(ctx, "app:other", client.NewCredential{}); chesttest.Code(err) != "refused" {
		t.Errorf("an owner issues for what is not theirs: %v", err)
	}
	in.Person(t, "harbour-master") // who has a password, and may do nothing
	_, code := in.registrar.IssueCredential(ctx, "person:harbour-master", client.NewCredential{})
	refused(t, "a new password for somebody who has one", code, "approval_needed")
	agree(t, code, in.registrar, in.other)
	if forgot := must[client.Issued](t)(in.registrar.IssueCredential(ctx, "person:harbour-master", client.NewCredential{})); true {
		must[client.Session](t)(in.Client(t, "").Enrol(ctx, forgot.Secret, "five kettles under dry sails"))
	}
	if made := must[client.Identity](t)(in.other.Identity(ctx, "person:harbour-master")); made.Confirmed {
		t.Error("who may have been impersonated counts as confirmed")
	}
	_, code = in.registrar.IssueCredential(ctx, "person:steward", client.NewCredential{})
	refused(t, "a new password for a steward", code, "steward_only")
	agree(t, err, in.registrar, in.other)
	must[client.Issued](t)(in.registrar.IssueCredential(ctx, "app:ticket-api", client.NewCredential{}))
}

// A person who was made up counts as their maker, whoever gives them what: they get nothing by that one's hand, and agree to nothing.
func TestSomebodyMadeUpIsTheirMakers(t *testing.T) {
	in := startInsiders(t)
	registered := must[client.Registered](t)(in.gate.Register(ctx, client.NewIdentity{Kind: "person", Name: "relief"}))
	if registered.Identity.Confirmed || len(registered.Notes) == 0 {
		t.Errorf("%+v", registered)
	}
	_, err := in.gate.Give(ctx, client.NewGrant{Subject: "person:relief", Role: "consumer", Scope: "d/**"})
	refused(t, "giving to them", err, "own_access")
	if !strings.Contains(err.Error(), "tansu person confirm relief") {
		t.Errorf("what would change it is not said: %v", err)
	}
	must[client.Registered](t)(in.gate.Register(ctx, client.NewIdentity{Kind: "app", Name: "lamp", NoSecret: true}))
	must[client.Registered](t)(in.gate.Register(ctx, client.NewIdentity{Kind: "app", Name: "buoy", NoSecret: true, Owner: "person:relief"}))
	for app, why := range map[string]string{"lamp": "has no owner", "buoy": "tansu person confirm relief"} {
		if got := must[client.Identity](t)(in.gate.Identity(ctx, "app:"+app)); !strings.Contains(got.MayNotGive, why) {
			t.Errorf("why one may not give it to %s: %q", app, got.MayNotGive)
		}
		if got := must[client.Identity](t)(in.other.Identity(ctx, "app:"+app)); got.MayNotGive != "" {
			t.Errorf("another gatekeeper may not give it to %s: %q", app, got.MayNotGive)
		}
	}
	team(t, in.steward, "readers")
	give(t, in.steward, "team:readers", "consumer", "d/**")
	_, err = in.gate.Join(ctx, "team:readers", "person:relief")
	refused(t, "putting them into a team that reads", err, "own_access")
	text := must[string](t)(in.gate.Policy(ctx))
	for _, change := range []string{
		strings.Replace(text, "grants:\n", "grants:\n  - {subject: person:relief, role: consumer, scope: d/**, reason: x}\n", 1),
		strings.Replace(text, "- name: readers\n", "- name: readers\n    members: [person:relief]\n", 1),
	} {
		if change == text {
			t.Fatalf("nothing is changed in %s", text)
		}
		_, err = in.gate.ApplyPolicy(ctx, client.Applying{Policy: change})
		refused(t, "the same by a policy", err, "own_access")
	}
	_, err = in.gate.Confirm(ctx, "person:relief")
	refused(t, "their maker confirms them", err, "own_access")

	// Somebody whom a colleague registered and who has not enrolled yet is no other way to the same.
	must[client.Registered](t)(in.other.Register(ctx, client.NewIdentity{Kind: "person", Name: "starts-monday"}))
	must[client.Issued](t)(in.gate.IssueCredential(ctx, "person:starts-monday", client.NewCredential{}))
	_, err = in.gate.Give(ctx, client.NewGrant{Subject: "person:starts-monday", Role: "consumer", Scope: "d/**"})
	refused(t, "giving to somebody whose code one has issued", err, "own_access")
	_, err = in.gate.Confirm(ctx, "person:starts-monday")
	refused(t, "confirming them", err, "own_access")
	must[client.Registered](t)(in.steward.Register(ctx, client.NewIdentity{Kind: "person", Name: "starts-tuesday"}))
	give(t, in.other, "person:starts-tuesday", "consumer", "d/**")
	mine := "person:security-duty"
	must[client.Identity](t)(in.gate.ChangeIdentity(ctx, "person:starts-tuesday", client.IdentityChanges{Owner: &mine}))
	_, err = in.gate.IssueCredential(ctx, "person:starts-tuesday", client.NewCredential{})
	refused(t, "a code for somebody who has access, as whom one has made oneself answer for", err, "approval_needed")

	relief := in.Client(t, in.Enrol(t, registered.Credential.Secret))
	give(t, in.other, "person:relief", "gatekeeper", "**")
	second := must[client.Registered](t)(relief.Register(ctx, client.NewIdentity{Kind: "person", Name: "second"}))
	_, err = in.gate.Confirm(ctx, "person:second")
	refused(t, "the maker of who made them confirms them", err, "own_access")
	_, err = relief.Confirm(ctx, "person:second")
	refused(t, "somebody who is not confirmed confirms", err, "not_confirmed")
	if second.Identity.Confirmed {
		t.Error("somebody is confirmed from the beginning")
	}
	asked := must[client.Request](t)(in.gate.AskFor(ctx, client.NewRequest{Reason: "x",
		Grant: &client.NewGrant{Subject: "person:security-duty", Role: "consumer", Scope: "d/**"}}))
	_, err = relief.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true})
	refused(t, "they answer their maker's request", err, "not_confirmed")
	if code := readCode(in.gate, "d/i"); code != "refused" {
		t.Errorf("the gatekeeper reads: %q", code)
	}
	_, err = relief.Give(ctx, client.NewGrant{Subject: "person:security-duty", Role: "consumer", Scope: "d/**"})
	refused(t, "they give to their maker", err, "own_access")

	confirmed := must[client.Identity](t)(in.other.Confirm(ctx, "person:relief"))
	if !confirmed.Confirmed {
		t.Errorf("%+v", confirmed)
	}
	if _, err := in.other.Confirm(ctx, "person:relief"); chesttest.Code(err) != "exists" {
		t.Errorf("twice: %v", err)
	}
	give(t, in.gate, "person:relief", "viewer", "d/**")
	must[client.Request](t)(relief.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true}))
}

// What a team has is given by putting somebody into it: that takes what giving it takes, also for what the apps have that it owns.
func TestMembershipIsAccess(t *testing.T) {
	in := startInsiders(t)
	in.Person(t, "ticketing-lead")
	for _, name := range []string{"readers", "gatekeepers", "outer", "owners"} {
		team(t, in.steward, name)
	}
	give(t, in.steward, "team:readers", "consumer", "d/**")
	give(t, in.steward, "team:gatekeepers", "gatekeeper", "**")
	must[client.Identity](t)(in.steward.Join(ctx, "team:outer", "team:readers"))
	must[client.Registered](t)(in.steward.Register(ctx, client.NewIdentity{Kind: "app", Name: "ticket-api", Owner: "team:owners"}))
	give(t, in.steward, "app:ticket-api", "consumer", "d/**")
	for _, name := range []string{"readers", "gatekeepers", "owners"} {
		_, err := in.registrar.Join(ctx, "team:"+name, "person:ticketing-lead")
		refused(t, "a registrar puts somebody into "+name, err, "no_grant")
	}
	must[client.Identity](t)(in.registrar.Join(ctx, "team:outer", "person:ticketing-lead")) // it has nothing
	narrow := in.Client(t, in.Person(t, "harbour-master", chesttest.Grant{Role: "registrar", Scope: "**"},
		chesttest.Grant{Role: "gatekeeper", Scope: "e/**"}))
	_, err := narrow.Join(ctx, "team:readers", "person:ticketing-lead")
	refused(t, "who gives access elsewhere", err, "no_grant")
	must[client.Identity](t)(in.gate.Join(ctx, "team:readers", "person:ticketing-lead"))

	must[client.Given](t)(in.steward.Give(ctx, client.NewGrant{Subject: "team:outer", Role: "consumer", Scope: "e/**", Effect: "deny"}))
	_, err = in.registrar.Leave(ctx, "team:outer", "team:readers")
	refused(t, "a registrar ends what denies", err, "no_grant")
	_, err = in.registrar.Leave(ctx, "team:readers", "person:ticketing-lead") // which the denial of the outer team reaches
	refused(t, "the same one team further in", err, "no_grant")
}

// What is one's own, by whatever way, one widens by no way.
func TestOnesOwnByOtherWays(t *testing.T) {
	in := startInsiders(t)
	team(t, in.steward, "crew", "person:security-duty")
	must[client.Registered](t)(in.steward.Register(ctx, client.NewIdentity{Kind: "app", Name: "crew-app", Owner: "team:crew"}))
	_, err := in.gate.Give(ctx, client.NewGrant{Subject: "app:crew-app", Role: "consumer", Scope: "d/**"})
	refused(t, "to an app of a team that one is in", err, "own_access")

	registered := must[client.Registered](t)(in.steward.Register(ctx, client.NewIdentity{Kind: "app", Name: "robot",
		Owner: "person:security-duty"}))
	give(t, in.steward, "app:robot", "gatekeeper", "**")
	token, _, err := in.Client(t, "").AppToken(ctx, "robot", registered.Credential.Secret)
	if err != nil {
		t.Fatal(err)
	}
	robot := in.Client(t, token)
	_, err = robot.Give(ctx, client.NewGrant{Subject: "person:security-duty", Role: "consumer", Scope: "d/**"})
	refused(t, "an app gives to its owner", err, "own_access")
	asked := must[client.Request](t)(in.gate.AskFor(ctx, client.NewRequest{Reason: "x",
		Grant: &client.NewGrant{Subject: "person:security-duty", Role: "consumer", Scope: "d/**"}}))
	_, err = robot.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true})
	refused(t, "an app answers its owner's request", err, "own_access")

	kept := must[client.Registered](t)(in.gate.Register(ctx, client.NewIdentity{Kind: "app", Name: "kept", Owner: "person:security-night"}))
	_, err = in.gate.Give(ctx, client.NewGrant{Subject: "app:kept", Role: "consumer", Scope: "d/**"})
	refused(t, "to an app whose secret one has seen", err, "own_access")
	must[client.Issued](t)(in.other.IssueCredential(ctx, "app:kept", client.NewCredential{}))
	if err := in.other.RevokeCredential(ctx, "app:kept", kept.Credential.ID); err != nil {
		t.Fatal(err)
	}
	give(t, in.gate, "app:kept", "consumer", "d/**")

	team(t, in.steward, "inner", "app:crew-app")
	team(t, in.steward, "around", "team:inner")
	must[client.Given](t)(in.steward.Give(ctx, client.NewGrant{Subject: "team:around", Role: "consumer", Scope: "d/**", Effect: "deny"}))
	_, err = in.gate.Leave(ctx, "team:inner", "app:crew-app")
	refused(t, "out of a team whose outer one is denied", err, "own_access")

	give(t, in.steward, "app:crew-app", "viewer", "d/**")
	must[client.Identity](t)(in.other.SetState(ctx, "app:crew-app", "suspended"))
	_, err = in.gate.SetState(ctx, "app:crew-app", "active")
	refused(t, "bringing one's own back", err, "own_access")
	_, err = in.registrar.SetState(ctx, "app:crew-app", "active")
	refused(t, "bringing back what one could not give", err, "no_grant")
	must[client.Identity](t)(in.other.SetState(ctx, "app:crew-app", "active"))
}

// What a second person agrees to is a thing, and not its name: another thing of that name needs its own yes.
func TestApprovalIsForTheThingAndNotForItsName(t *testing.T) {
	in := startInsiders(t)
	in.Fill(t, "d", "low", "a timetable")
	in.Fill(t, "d", "high", "the ledger's password")
	contents := must[client.DrawerContents](t)(in.steward.Drawer(ctx, "d"))
	must[client.Drawer](t)(in.steward.ChangeDrawer(ctx, "d", contents.Drawer.Revision,
		client.Described{Approval: &client.Approval{Items: []string{"*"}, Of: "everyone"}}))
	mallory := in.Client(t, in.Person(t, "platform-oncall", chesttest.Grant{Role: "consumer", Scope: "d/**"},
		chesttest.Grant{Role: "curator", Scope: "d/**"}))
	_, _, err := mallory.Read(ctx, "d/low")
	refused(t, "without a yes", err, "approval_needed")
	agree(t, err, mallory, in.gate)
	if code := readCode(mallory, "d/low"); code != "" {
		t.Fatalf("with a yes: %q", code)
	}
	must[client.Moved](t)(mallory.Move(ctx, "d", "low", client.NewPlace{Drawer: "d", Name: "aside"}))
	must[client.Moved](t)(mallory.Move(ctx, "d", "high", client.NewPlace{Drawer: "d", Name: "low"}))
	_, _, err = mallory.Read(ctx, "d/low")
	refused(t, "another item under the name", err, "approval_needed")
	if code := readCode(mallory, "d/aside"); code != "" {
		t.Errorf("the item itself under its new name: %q", code)
	}

	// renamed while the question is open, it is not answered
	var problem *client.Problem
	if !errors.As(err, &problem) {
		t.Fatal(err)
	}
	asked := must[client.Request](t)(mallory.AskFor(ctx, client.NewRequest{Receipt: problem.Receipt, Reason: "x"}))
	must[client.Moved](t)(mallory.Move(ctx, "d", "low", client.NewPlace{Drawer: "d", Name: "high"}))
	if _, err := in.gate.AnswerRequest(ctx, asked.ID, client.Answer{Allow: true}); chesttest.Code(err) != "stale" ||
		!strings.Contains(err.Error(), "d/high") {
		t.Errorf("a yes to what has another name now: %v", err)
	}
}

// A rule that asks for two is not lifted by one: not by changing it, not by another rule, and not by moving what it is about.
func TestLiftingARuleForTwoTakesTwo(t *testing.T) {
	in := startInsiders(t)
	in.Fill(t, "d", "ledger", "v")
	in.Fill(t, "e", "other", "v")
	in.Fill(t, "p", "other", "v")
	curator := in.Client(t, in.Person(t, "platform-oncall", chesttest.Grant{Role: "curator", Scope: "**"},
		chesttest.Grant{Role: "gatekeeper", Scope: "**"}))
	second := in.Client(t, in.Person(t, "harbour-master", chesttest.Grant{Role: "curator", Scope: "**"}))
	change := func(drawer string, c client.Described) error {
		contents := must[client.DrawerContents](t)(curator.Drawer(ctx, drawer))
		_, err := curator.ChangeDrawer(ctx, drawer, contents.Drawer.Revision, c)
		return err
	}
	rules := func(r client.Rules) error {
		contents := must[client.DrawerContents](t)(curator.Drawer(ctx, "d"))
		_, err := curator.SetDrawerRules(ctx, "d", contents.Drawer.Revision, client.NewRules{Rules: r})
		return err
	}
	if err := change("d", client.Described{Approval: &client.Approval{Items: []string{"led*", "i"}, Of: "everyone"}}); err != nil {
		t.Fatal(err)
	}
	if err := change("p", client.Described{Approval: &client.Approval{Items: []string{"*"}, Of: "persons"}}); err != nil {
		t.Fatal(err)
	}
	if err := rules(client.Rules{TwoToShred: true, Keep: 5}); err != nil {
		t.Fatal(err)
	}
	place := func(drawer string) client.NewPlace { return client.NewPlace{Drawer: drawer, Name: "i"} }
	for what, lift := range map[string]func() error{
		"no approval any more": func() error { return change("d", client.Described{Approval: &client.Approval{}}) },
		"of fewer items": func() error {
			return change("d", client.Described{Approval: &client.Approval{Items: []string{"led*"}, Of: "everyone"}})
		},
		"of persons only": func() error {
			return change("d", client.Described{Approval: &client.Approval{Items: []string{"led*", "i"}, Of: "persons"}})
		},
		"no two to shred any more":        func() error { return rules(client.Rules{Keep: 5}) },
		"fewer versions kept":             func() error { return rules(client.Rules{TwoToShred: true, Keep: 1}) },
		"moved to where no rule is":       func() error { return onlyError(curator.Move(ctx, "d", "i", place("e"))) },
		"moved to where it is of persons": func() error { return onlyError(curator.Move(ctx, "d", "i", place("p"))) },
		"renamed to what the rule is not for": func() error {
			return onlyError(curator.Move(ctx, "d", "ledger", client.NewPlace{Drawer: "d", Name: "x"}))
		},
	} {
		refused(t, what, lift(), "approval_needed")
	}
	if err := rules(client.Rules{TwoToShred: true, Keep: 9}); err != nil {
		t.Errorf("more versions kept takes one: %v", err)
	}
	lifted := change("d", client.Described{Approval: &client.Approval{Items: []string{"led*"}, Of: "everyone"}})
	agree(t, lifted, curator, second)
	if err := change("d", client.Described{Approval: &client.Approval{Items: []string{"led*"}, Of: "everyone"}}); err != nil {
		t.Errorf("with a second person: %v", err)
	}
	moved := onlyError(curator.Move(ctx, "d", "ledger", client.NewPlace{Drawer: "e", Name: "ledger"}))
	agree(t, moved, curator, second)
	must[client.Moved](t)(curator.Move(ctx, "d", "ledger", client.NewPlace{Drawer: "e", Name: "ledger"}))
}

// onlyError is the error of a call that returns something else, too.
func onlyError[T any](_ T, err error) error { return err }

// Who could come to a value is asked, and is an expectation of the policy: a policy after which somebody could is not applied.
func TestPathsAreAskedAndExpected(t *testing.T) {
	in := startInsiders(t)
	lead := in.Client(t, in.Person(t, "ticketing-lead"))
	must[client.Registered](t)(in.steward.Register(ctx,
		client.NewIdentity{Kind: "app", Name: "ticket-api", Owner: "person:ticketing-lead", NoSecret: true}))
	give(t, in.gate, "app:ticket-api", "consumer", "d/**")
	p := must[client.Paths](t)(in.gate.Paths(ctx, "read_value", "d/i"))
	if len(p.Now) != 1 || len(p.Alone) != 2 || p.Alone[1].Who != "person:ticketing-lead" || len(p.Alone[1].Steps) != 1 || p.Cut {
		t.Errorf("%+v", p)
	}
	if len(p.Letting) == 0 || !strings.Contains(p.Letting[0].Who, "person:s") {
		t.Errorf("who could let somebody: %+v", p.Letting)
	}
	if _, err := lead.Paths(ctx, "read_value", "d/i"); chesttest.Code(err) != "refused" {
		t.Errorf("asked by whoever may not know who can: %v", err)
	}
	if _, err := in.gate.Paths(ctx, "read_value", "d/gone"); chesttest.Code(err) != "not_found" {
		t.Errorf("to what is not there: %v", err)
	}

	text := must[string](t)(in.gate.Policy(ctx))
	expecting := text + "expectations:\n  - {alone: [person:steward], can: read_value, scope: d/**}\n"
	d := must[client.PolicyDifference](t)(in.gate.DiffPolicy(ctx, expecting))
	if len(d.Failures) != 1 || !strings.Contains(d.Failures[0].Why, "person:ticketing-lead could come to d/i") {
		t.Errorf("%+v", d.Failures)
	}
	if _, err := in.gate.ApplyPolicy(ctx, client.Applying{Policy: expecting}); chesttest.Code(err) != "invalid_input" {
		t.Errorf("applied: %v", err)
	}
	d = must[client.PolicyDifference](t)(in.gate.DiffPolicy(ctx, strings.Replace(expecting, "[person:steward]",
		"[person:steward, person:ticketing-lead]", 1)))
	if len(d.Failures) != 0 {
		t.Errorf("%+v", d.Failures)
	}
}

// A PIN of four digits, for which only writing is allowed, is not found by guesses that are stored and compared by reference: not as
// fields of one's own item, not under another name of the item, and not with a second account.
func TestAStoredGuessIsAGuess(t *testing.T) {
	in := startInsiders(t)
	in.Fill(t, "d", "pin", "4711")
	writer := in.Client(t, in.Person(t, "platform-oncall", chesttest.Grant{Role: "depositor", Scope: "**"},
		chesttest.Grant{Role: "consumer", Scope: "e/**"}, chesttest.Grant{Role: "curator", Scope: "d/**"}))
	in.Fill(t, "e", "other", "x")
	tried := func(c *client.Client, first int) (asked int) {
		t.Helper()
		fields := []client.NewField{}
		for n := range 64 {
			fields = append(fields, client.NewField{Name: fmt.Sprintf("g%d", n), Value: base64.StdEncoding.EncodeToString(fmt.Appendf(nil, "%04d",
				first+n))})
		}
		must[client.Stored](t)(c.CreateItem(ctx, "e", client.NewItem{Name: fmt.Sprintf("guesses-%d", first), Shape: "fields",
			Version: client.NewVersion{Fields: fields}}))
		for n := range 64 {
			same, err := c.Same(ctx, "d/pin", fmt.Sprintf("e/guesses-%d#g%d", first, n))
			if same {
				t.Fatalf("the value was found after %d guesses", first+n)
			}
			if err == nil {
				asked++
			} else if chesttest.Code(err) != "throttled" {
				t.Fatal(err)
			}
		}
		return asked
	}
	if asked := tried(writer, 4000); asked != 5 {
		t.Errorf("%d guesses by reference", asked)
	}
	must[client.Moved](t)(writer.Move(ctx, "d", "pin", client.NewPlace{Drawer: "d", Name: "other-pin"}))
	if _, err := writer.Equals(ctx, "d/other-pin", []byte("1")); chesttest.Code(err) != "throttled" {
		t.Errorf("under another name: %v", err)
	}
	must[client.Moved](t)(writer.Move(ctx, "d", "other-pin", client.NewPlace{Drawer: "d", Name: "pin"}))
	all := 5
	for n := range 5 {
		second := in.Client(t, in.Person(t, fmt.Sprintf("relief-%d", n), chesttest.Grant{Role: "depositor", Scope: "**"},
			chesttest.Grant{Role: "consumer", Scope: "e/**"}))
		all += tried(second, 5000+100*n)
	}
	if all > 20 {
		t.Errorf("%d guesses by several accounts", all)
	}
	found := must[[]client.Unusual](t)(in.steward.Unusual(ctx, time.Time{}))
	if !slices.ContainsFunc(found, func(u client.Unusual) bool { return u.Kind == "guessing" && u.Subject == "person:platform-oncall" }) {
		t.Errorf("nothing unusual is seen in it: %+v", found)
	}
}

// Somebody who may do nothing keeps nobody else waiting and takes no memory without bound: watches and requests are bounded.
func TestStrangersTakeABoundedRoom(t *testing.T) {
	in := startInsiders(t)
	_, token := in.App(t, "stranger")
	stranger := in.Client(t, token)
	watching, stop := context.WithCancel(ctx)
	defer stop()
	began := make(chan error, 100)
	for range 16 {
		go func() {
			told := false
			began <- stranger.WatchValues(watching, []string{"d/i"}, func(client.Check) error {
				if !told {
					told = true
					began <- nil
				}
				return nil
			})
		}()
	}
	for range 16 {
		if err := <-began; err != nil {
			t.Fatal(err)
		}
	}
	if err := stranger.WatchValues(ctx, []string{"d/i"}, func(client.Check) error { return nil }); chesttest.Code(err) != "throttled" {
		t.Errorf("a seventeenth: %v", err)
	}
	person := in.Client(t, in.Person(t, "relief"))
	asked := 0
	for n := range 100 {
		r, err := person.AskFor(ctx, client.NewRequest{Reason: fmt.Sprint(n), Grant: &client.NewGrant{Subject: "person:relief", Role: "viewer",
			Scope: "d/**"}})
		if err != nil {
			if chesttest.Code(err) != "throttled" {
				t.Fatal(err)
			}
			continue
		}
		asked++
		must[client.Request](t)(person.Withdraw(ctx, r.ID))
	}
	if list := must[[]client.Request](t)(person.Requests(ctx)); asked != 60 || len(list) != 0 {
		t.Errorf("%d were asked, and %d are kept", asked, len(list))
	}
}
