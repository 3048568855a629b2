package demo

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/policytext"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/people"
	"tansu/internal/rights"
	"tansu/internal/service"
	"tansu/internal/shelf"
)

const day = 24 * time.Hour

// person of the operator, named by duty.
type person struct {
	name, description string
	grants            []grant
}

type grant struct {
	role, scope, reason string
	days                int // for which a person has it; 0 for a year
	chest.Conditions
}

var persons = []person{
	{"security-duty", "Security engineer on duty",
		[]grant{{role: "curator", scope: "**", reason: "sets up drawers and rules"},
			{role: "gatekeeper", scope: "**", reason: "answers access requests"}, {role: "operator", scope: "**", reason: "runs the chest"},
			{role: "auditor", scope: "**", reason: "reviews reads"}}},
	{"security-relief", "Stands in for the security engineer",
		[]grant{{role: "gatekeeper", scope: "ticketing-*/**", reason: "answers when security-duty is away"},
			{role: "gatekeeper", scope: "fuel-billing-prod/**", reason: "second pair of eyes"},
			{role: "viewer", scope: "**", reason: "sees what there is"}}},
	{"platform-oncall", "Platform engineer on call",
		[]grant{{role: "viewer", scope: "**", reason: "sees what there is"}, {role: "operator", scope: "**", reason: "locks and unlocks"},
			{role: "consumer", scope: "fuel-billing-prod/ledger-*", reason: "repairs the ledger by night",
				Conditions: chest.Conditions{NeedsReason: true}}}},
	{"ticketing-lead", "Leads the ticketing team",
		[]grant{{role: "viewer", scope: "ticketing-*/**", reason: "runs ticketing"},
			{role: "depositor", scope: "ticketing-*/**", reason: "changes ticketing's secrets"},
			{role: "consumer", scope: "ticketing-staging/**", reason: "debugs staging", days: 100},
			{role: "consumer", scope: "ticketing-prod/mail-*", reason: "answers complaints",
				Conditions: chest.Conditions{Hours: "mon-fri 07:00-19:00 Europe/Lisbon", NeedsReason: true}}}},
	{"harbour-master", "Answers for the harbour gates",
		[]grant{{role: "viewer", scope: "harbour-gates-prod/**", reason: "runs the gates"},
			{role: "depositor", scope: "harbour-gates-prod/**", reason: "changes radio keys"}}},
	{"audit-desk", "Internal audit", []grant{{role: "auditor", scope: "**", reason: "yearly audit"}}},
	{"rota-trainee", "New in the crew office",
		[]grant{{role: "viewer", scope: "crew-rota-prod/rota-*", reason: "learns the rota"}}},
	{"summer-relief", "Stood in over the summer, and has left",
		[]grant{{role: "viewer", scope: "fleet-telemetry-prod/**", reason: "watched the engines"}}},
}

// rules are what drawers are labelled with, and which of their items no person reads alone.
var rules = []struct {
	drawer   string
	labels   map[string]string
	approval []string
}{
	{"ticketing-prod", map[string]string{"team": "ticketing"}, nil},
	{"ticketing-staging", map[string]string{"team": "ticketing"}, nil},
	{"harbour-gates-prod", map[string]string{"team": "harbour"}, nil},
	{"fuel-billing-prod", map[string]string{"team": "platform", "books": "yes"}, []string{"ledger-*"}},
}

type drawerSeed struct {
	name, environment, description, owner string
	items                                 []itemSeed
}

// itemSeed has one element of versions for each version: how long ago it was put in, and for how long from then it
// may be served (0 for no end).
type itemSeed struct {
	name, description string
	versions          []versionSeed
}

type versionSeed struct {
	ago, life time.Duration
	note      string
	shape     func() string
}

var drawers = []drawerSeed{
	{"ticketing-prod", "production", "Ticket sales for all lines", "person:ticketing-lead", []itemSeed{
		{"db-password", "Password of the ticket database",
			[]versionSeed{{88 * day, 0, "first", password}, {41 * day, 0, "quarterly change", password},
				{6 * day, 0, "after the staff change", password}}},
		{"payment-api-key", "Key for the card terminals' gateway", []versionSeed{{85 * day, 96 * day, "yearly contract", token}}},
		{"seat-map-signing-key", "Signs seat maps so that boarding gates trust them", []versionSeed{{80 * day, 0, "", token}}},
		{"refund-webhook-secret", "Checks that refund messages are ours",
			[]versionSeed{{79 * day, 0, "", token}, {20 * day, 0, "partner asked for longer", token}}},
		{"mail-relay-login", "Login for confirmation mail", []versionSeed{{60 * day, 0, "", nil}}},
	}},
	{"ticketing-staging", "staging", "The same with made-up passengers", "person:ticketing-lead", []itemSeed{
		{"db-password", "Password of the staging database", []versionSeed{{88 * day, 0, "", password}}},
		{"payment-api-key", "Test key of the gateway", []versionSeed{{85 * day, 0, "", token}}},
	}},
	{"harbour-gates-prod", "production", "Gates and ramps of the four harbours", "person:harbour-master", []itemSeed{
		{"radio-key", "Key of the gate radios", []versionSeed{{87 * day, 0, "", token}, {3 * day, 0, "radio exchange", token}}},
		{"ramp-controller-login", "Login of the ramp controllers", []versionSeed{{87 * day, 80 * day, "", nil}}},
		{"camera-feed-token-for-the-north-quay-and-the-old-car-deck-ramp-1", "A long name, for the camera that sees both",
			[]versionSeed{{50 * day, 0, "", token}}},
	}},
	{"fleet-telemetry-prod", "production", "Position and engine data of nine ferries", "person:platform-oncall", []itemSeed{
		{"ingest-token", "Lets ferries send their data",
			[]versionSeed{{86 * day, 0, "", token}, {30 * day, 36 * day, "six weeks by contract", token}}},
		{"map-tiles-key", "Key for the chart server", []versionSeed{{70 * day, 0, "", token}}},
	}},
	{"crew-rota-prod", "production", "Who sails when", "person:platform-oncall", []itemSeed{
		{"rota-db-password", "Password of the rota database", []versionSeed{{84 * day, 0, "", password}}},
		{"rota-calendar-token", "Publishes the rota to crew calendars", []versionSeed{{40 * day, 0, "", token}}},
	}},
	{"fuel-billing-prod", "production", "Bunkering invoices", "person:platform-oncall", []itemSeed{
		{"ledger-db-password", "Password of the billing ledger", []versionSeed{{83 * day, 0, "", password}}},
		{"supplier-sftp-login", "Fetches the supplier's invoices", []versionSeed{{83 * day, 90 * day, "", nil}}},
	}},
	{"timetable-dev", "development", "Nothing in it yet", "", nil},
}

var apps = []struct {
	name, description, purpose, environment, owner string
	grants                                         []grant
}{
	{"ticket-api", "Sells tickets", "opens the ticket database and charges cards", "production", "person:ticketing-lead",
		[]grant{{role: "consumer", scope: "ticketing-prod/**", reason: "runs on it"},
			{role: "subscriber", scope: "ticketing-prod/car-deck-pass", reason: "passes that gates check by themselves"}}},
	{"gate-controller", "Opens gates and ramps", "talks to the gate radios and ramp controllers", "production", "person:harbour-master",
		[]grant{{role: "consumer", scope: "harbour-gates-prod/**", reason: "runs on it",
			Conditions: chest.Conditions{Networks: []string{"198.51.100.0/24"}, Via: []string{"app_token"}}},
			{role: "subscriber", scope: "harbour-gates-prod/gate-panel", reason: "its panels have certificates"},
			{role: "depositor", scope: "harbour-gates-prod/gate-north", reason: "renews it"},
			{role: "depositor", scope: "harbour-gates-prod/gate-south", reason: "renews it"}}},
	{"rota-sync", "Copies the rota to calendars", "reads the rota database", "production", "person:platform-oncall",
		[]grant{{role: "consumer", scope: "crew-rota-prod/rota-*", reason: "runs on it"}}},
	{"telemetry-collector", "Collects what ferries send", "checks the token of each ferry", "production", "person:platform-oncall",
		[]grant{{role: "consumer", scope: "fleet-telemetry-prod/ingest-token", reason: "runs on it"}}},
	{"nightly-ledger", "Books the day's sales at night", "reads sales and writes the ledger", "production", "person:platform-oncall",
		[]grant{{role: "consumer", scope: "fuel-billing-prod/ledger-*", reason: "runs on it"},
			{role: "consumer", scope: "ticketing-prod/db-password", reason: "reads the day's sales"}}},
	{"map-printer", "Printed charts; not used any more", "printed charts for the bridge", "", "person:summer-relief",
		[]grant{{role: "consumer", scope: "fleet-telemetry-prod/**", reason: "prints charts"}}},
}

// filler does the filling as the people who would do it.
type filler struct {
	s        *service.Service
	clock    *Clock
	url      string // where the chest is served
	pipeline string // the address of the pipeline system
	password secretvalue.Value
	secrets  map[string]secretvalue.Value
	unlock   secretvalue.Value // what opens the chest
	dir      string            // of the demo

	oldest, oldestBooking []byte // what was encrypted first, and what it is bound to
}

// origins of the made-up past.
const (
	office = "192.0.2.10" // RFC 5737 documentation addresses
	ship   = "198.51.100.7"
	laptop = "203.0.113.40" // where no app should read from
)

// Pipeline is the address of the operator's pipeline system, which does not exist.
const Pipeline = "https://pipeline.ferries.example"

// JobAudience and JobClaims are what the pipeline system says in tokens of the job that is app:nightly-ledger.
const JobAudience = "tansu"

var JobClaims = map[string]string{"sub": "job:ledger", "branch": "main", "protected": "true"}

// Fill puts the scenario into a chest that was founded 90 days ago by its clock, and sets the clock right. The pipeline system
// is at an address, [Pipeline] or that of one that stands in for it. Fill returns
// one password for all persons, and the apps' secrets.
func Fill(c *Chest, pipeline string) (password secretvalue.Value, secrets map[string]secretvalue.Value, err error) {
	f := &filler{s: c.Service, clock: c.Clock, url: c.URL(), pipeline: pipeline, password: secretvalue.FromString("ferry-" + random(10)),
		secrets: map[string]secretvalue.Value{}, unlock: c.unlock, dir: c.Dir}
	for _, step := range []func() error{
		func() error { return f.appoint(c.Enrolment) }, f.makeDrawers, f.registerApps, f.makeTeams, f.makeRules, f.makeCustodians, f.live,
		f.astray, f.order, f.backUp, f.recent, f.ask,
	} {
		if err := step(); err != nil {
			return password, nil, err
		}
	}
	c.Clock.Set(0)
	return f.password, f.secrets, nil
}

// appoint: the steward comes in once and hands the duties over.
func (f *filler) appoint(enrolment secretvalue.Value) error {
	session, err := f.s.Enrol(origin(office), string(enrolment.Reveal()), f.password, people.ViaCLI)
	if err != nil {
		return err
	}
	steward, err := f.s.Authenticate(origin(office), string(session.Token.Reveal()))
	if err != nil {
		return err
	}
	for _, p := range persons {
		registered, err := f.s.Register(steward, people.NewIdentity{Kind: reference.Person, Name: p.name, Description: p.description})
		if err != nil {
			return err
		}
		if _, err := f.s.Enrol(origin(office), string(registered.Credential.Secret.Reveal()), f.password, people.ViaConsole); err != nil {
			return err
		}
		for _, g := range p.grants {
			if _, _, err := f.s.Give(steward, rights.NewGrant{Subject: "person:" + p.name, Role: g.role, Scope: g.scope, Reason: g.reason,
				Conditions: g.Conditions, NotAfter: f.clock.Now().Add(time.Duration(cmp.Or(g.days, 365)) * day)}); err != nil {
				return err
			}
		}
	}
	_, err = f.s.SetStewardsAside(steward)
	return err
}

// makeRules: labels, a second pair of eyes, a role of the operator's own, and somebody who leaves.
func (f *filler) makeRules() error {
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	for _, r := range rules {
		d, err := f.s.Drawer(duty, r.drawer, shelf.WithoutRetired, "", 1)
		if err != nil {
			return err
		}
		changes := shelf.Described{Labels: r.labels}
		if r.approval != nil {
			changes.Approval = &shelf.Approval{Items: r.approval, Of: policytext.OfPersons}
		}
		if _, err := f.s.ChangeDrawer(duty, r.drawer, d.Revision, changes); err != nil {
			return err
		}
	}
	if _, _, err := f.s.AddRole(duty, rights.NewRole{Name: "rotator", Description: "puts new versions in, and sees what is there",
		Actions: []string{"list", "see_metadata", "write_version"}}); err != nil {
		return err
	}
	if _, _, err := f.s.Give(duty, rights.NewGrant{Subject: "team:gangway", Role: "rotator", Scope: "**[team=harbour]",
		Reason: "exchanges radio keys", NotAfter: f.clock.Now().Add(120 * day)}); err != nil {
		return err
	}
	if _, err = f.s.SetState(duty, "person:summer-relief", "suspended"); err != nil {
		return err
	}
	// A new colleague has enrolled, and nobody but who registered them has seen them yet.
	registered, err := f.s.Register(duty, people.NewIdentity{Kind: reference.Person, Name: "quay-clerk", Description: "New in the quay " +
		"office"})
	if err != nil {
		return err
	}
	_, err = f.s.Enrol(origin(office), string(registered.Credential.Secret.Reveal()), f.password, people.ViaConsole)
	return err
}

// ask: people ask for what they were refused, and are answered, or wait.
func (f *filler) ask() error {
	f.clock.Set(10 * time.Minute)
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	lead, err := f.as("ticketing-lead")
	if err != nil {
		return err
	}
	oncall, err := f.as("platform-oncall")
	if err != nil {
		return err
	}
	asked := func(c chest.Caller, item, reason string) (rights.Request, error) {
		ref, err := reference.Parse(item)
		if err != nil {
			return rights.Request{}, err
		}
		c.Reason = "demo"
		_, err = f.s.ReadValue(c, ref)
		var refused *chest.Error
		if !errors.As(err, &refused) || refused.Refusal == nil {
			return rights.Request{}, fmt.Errorf("%s was not refused: %w", item, err)
		}
		return f.s.AskFor(c, rights.NewRequest{Receipt: refused.Refusal.Receipt, Reason: reason})
	}
	declined, err := asked(lead, "ticketing-prod/payment-api-key", "to see whether it is the new one")
	if err != nil {
		return err
	}
	if _, err := f.s.AnswerRequest(duty, declined.ID, rights.Answer{Because: "tansu check says it without showing the key"}); err != nil {
		return err
	}
	if _, err := asked(oncall, "fuel-billing-prod/ledger-db-password", "the night run stopped half-way, see incident 212"); err != nil {
		return err
	}
	if _, err := asked(lead, "ticketing-prod/seat-map-signing-key", "boarding gates refuse our seat maps since noon"); err != nil {
		return err
	}
	_, err = f.s.AskFor(duty, rights.NewRequest{Reason: "debugging a refund with the ticketing team",
		Grant: &rights.NewGrant{Subject: "person:security-duty", Role: "consumer", Scope: "ticketing-staging/**",
			NotAfter: f.clock.Now().Add(12 * time.Hour)}})
	return err
}

// as signs a person in at the clock's time.
func (f *filler) as(name string) (chest.Caller, error) {
	session, err := f.s.SignIn(origin(office), name, f.password, "", people.ViaConsole)
	if err != nil {
		return chest.Caller{}, err
	}
	return f.s.Authenticate(origin(office), string(session.Token.Reveal()))
}

// app gets an access token for an app at the clock's time.
func (f *filler) app(name, addr string) (chest.Caller, error) {
	token, err := f.s.IssueToken(context.Background(), origin(addr), people.AppProof{App: name, Secret: string(f.secrets[name].Reveal())})
	if err != nil {
		return chest.Caller{}, err
	}
	return f.s.Authenticate(origin(addr), string(token.Token.Reveal()))
}

func (f *filler) makeDrawers() error {
	f.clock.Set(89 * day)
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	for _, d := range drawers {
		if _, err := f.s.CreateDrawer(duty, shelf.NewDrawer{Name: d.name, Environment: d.environment, Description: d.description,
			Owner: d.owner}); err != nil {
			return err
		}
	}
	return nil
}

// teams of the operator, with who is in them.
var teams = []struct {
	name, description string
	members           []string
	grants            []grant
}{
	{"gangway", "Moors and lets go", []string{"person:rota-trainee"}, nil},
	{"harbour-crew", "Opens and closes the gates", []string{"person:harbour-master", "team:gangway"},
		[]grant{{role: "viewer", scope: "crew-rota-prod/**", reason: "plans the day"}}},
}

func (f *filler) makeTeams() error {
	f.clock.Set(88*day + 6*time.Hour)
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	for _, team := range teams {
		subject := reference.Team + ":" + team.name
		if _, err := f.s.Register(duty, people.NewIdentity{Kind: reference.Team, Name: team.name, Description: team.description}); err != nil {
			return err
		}
		for _, member := range team.members {
			if _, err := f.s.Join(duty, subject, member); err != nil {
				return err
			}
		}
		for _, g := range team.grants {
			if _, _, err := f.s.Give(duty, rights.NewGrant{Subject: subject, Role: g.role, Scope: g.scope, Reason: g.reason,
				Conditions: g.Conditions, NotAfter: f.clock.Now().Add(120 * day)}); err != nil {
				return err
			}
		}
	}
	return nil
}

func (f *filler) registerApps() error {
	f.clock.Set(88*day + 12*time.Hour)
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	for _, a := range apps {
		_, err := f.s.Register(duty,
			people.NewIdentity{Kind: reference.App, Name: a.name, Description: a.description, Owner: a.owner, Purpose: a.purpose,
				Environment: a.environment, NoSecret: true})
		if err != nil {
			return err
		}
		for _, g := range a.grants {
			if _, _, err := f.s.Give(duty, rights.NewGrant{Subject: "app:" + a.name, Role: g.role, Scope: g.scope, Reason: g.reason,
				Conditions: g.Conditions, NotAfter: f.clock.Now().Add(120 * day)}); err != nil {
				return err
			}
		}
		if f.secrets[a.name], err = f.issue(a.owner, "app:"+a.name, people.NewCredential{}); err != nil {
			return err
		}
	}
	// A job of the pipeline is the ledger because the pipeline system says so, and a host of the telemetry makes a key of its own.
	for subject, n := range map[string]people.NewCredential{
		"app:nightly-ledger":      {Kind: "issuer", Issuer: f.pipeline, Audience: JobAudience, Claims: JobClaims},
		"app:telemetry-collector": {Kind: "host", Networks: []string{"198.51.100.0/24"}, NotAfter: f.clock.Now().Add(time.Hour)},
	} {
		if _, err := f.issue("person:platform-oncall", subject, n); err != nil {
			return err
		}
	}
	return nil
}

// issue lets the owner of an app issue what it proves itself with: nobody who gives access has it.
func (f *filler) issue(owner, subject string, n people.NewCredential) (secretvalue.Value, error) {
	caller, err := f.as(strings.TrimPrefix(owner, "person:"))
	if err != nil {
		return secretvalue.Value{}, err
	}
	issued, err := f.s.IssueCredential(caller, subject, n)
	return issued.Secret, err
}

// live goes through the days from the oldest to the newest: versions are put in, and apps read.
func (f *filler) live() error {
	for ago := 88 * day; ago > 0; ago -= day {
		if err := f.deposit(ago); err != nil {
			return err
		}
		if err := f.makeKeys(ago); err != nil {
			return err
		}
		if err := f.makeProfiles(ago); err != nil {
			return err
		}
		if err := f.makeCertificates(ago); err != nil {
			return err
		}
		if err := f.makeMasterKey(ago); err != nil {
			return err
		}
		if ago == 35*day {
			if err := f.rehearse(); err != nil {
				return err
			}
		}
		if (ago/day)%4 != 0 && ago > 5*day {
			continue // every fourth day, and then daily
		}
		f.clock.Set(ago - 6*time.Hour)
		if err := f.readAll(); err != nil {
			return err
		}
		if err := f.useKeys(ago); err != nil {
			return err
		}
	}
	return nil
}

func (f *filler) deposit(ago time.Duration) error {
	f.clock.Set(ago)
	var duty *chest.Caller
	for _, d := range drawers {
		for _, it := range d.items {
			for i, v := range it.versions {
				if v.ago != ago {
					continue
				}
				if duty == nil {
					caller, err := f.as("security-duty")
					if err != nil {
						return err
					}
					duty = &caller
				}
				if err := f.put(*duty, reference.Reference{Drawer: d.name, Item: it.name}, i == 0, it.description, d.owner, v); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (f *filler) put(c chest.Caller, ref reference.Reference, isNew bool, description, owner string, v versionSeed) error {
	n, described := shelf.NewVersion{Note: v.note}, shelf.NewItem{Description: description, Owner: owner}
	if strings.HasSuffix(ref.Item, "-login") {
		described.Shape = secretvalue.Login
		n.Fields = []shelf.NewField{{Name: "user", Value: secretvalue.FromString("svc-" + random(4))},
			{Name: "password", Recipe: "characters:24"}}
	} else {
		n.Content = secretvalue.FromString(v.shape())
	}
	if v.life > 0 {
		n.Window = lifecycle.Window{NotAfter: f.clock.Now().Add(v.life).Truncate(time.Hour)}
	}
	var err error
	if isNew {
		_, _, err = f.s.CreateItem(c, ref, described, n)
	} else {
		_, _, err = f.s.AddVersion(c, ref, 0, n)
	}
	return err
}

// reads of an ordinary day. nightly-ledger pins an old version, which is what makes rotations hard.
var reads = []struct{ app, addr, item string }{
	{"ticket-api", office, "ticketing-prod/db-password"},
	{"ticket-api", office, "ticketing-prod/payment-api-key"},
	{"ticket-api", office, "ticketing-prod/refund-webhook-secret"},
	{"gate-controller", ship, "harbour-gates-prod/radio-key"},
	{"rota-sync", office, "crew-rota-prod/rota-db-password"},
	{"telemetry-collector", ship, "fleet-telemetry-prod/ingest-token"},
	{"nightly-ledger", office, "fuel-billing-prod/ledger-db-password"},
	{"nightly-ledger", office, "ticketing-prod/db-password@1"},
}

func (f *filler) readAll() error {
	callers := map[string]chest.Caller{}
	for _, r := range reads {
		caller, known := callers[r.app]
		if !known {
			var err error
			if caller, err = f.app(r.app, r.addr); err != nil {
				return err
			}
			callers[r.app] = caller
		}
		ref, err := reference.Parse(r.item)
		if err != nil {
			return err
		}
		if _, err := f.s.ReadValue(caller, ref); err != nil && !expected(err) {
			return err
		}
	}
	return nil
}

// expected are the answers that belong to the story.
func expected(err error) bool {
	var known *chest.Error
	return errors.As(err, &known) && (known.Code == chest.Refused || known.Code == chest.NotFound || known.Code == chest.NotServable ||
		known.Code == chest.SignInFailed)
}

// astray: last night an app read something that it never needed, from where it never was.
func (f *filler) astray() error {
	f.clock.Set(17*time.Hour + 30*time.Minute)
	app, err := f.app("ticket-api", laptop)
	if err != nil {
		return err
	}
	_, err = f.s.ReadValue(app, reference.Reference{Drawer: "ticketing-prod", Item: "seat-map-signing-key"})
	return err
}

// order: after that the duty looked at how long things live: rules, one of them for later, a better name, and a value
// that no person needs to see.
func (f *filler) order() error {
	f.clock.Set(17 * time.Hour)
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	for _, r := range []struct {
		drawer string
		from   time.Duration
		rules  lifecycle.Rules
	}{
		{"ticketing-prod", 0, lifecycle.Rules{Warn: span(14), Keep: 5}},
		{"ticketing-prod", 32 * day, lifecycle.Rules{MaxAge: span(120), Warn: span(14), Grace: span(3), Keep: 5}},
		{"fuel-billing-prod", 0, lifecycle.Rules{NeedsEnd: true, Owner: lifecycle.OwnedByAny, Warn: span(21), TwoToShred: true}},
		{"harbour-gates-prod", 0, lifecycle.Rules{HostKeeps: lifecycle.Span(4 * time.Hour)}}, // gates open while the chest is away
		{"crew-rota-prod", 0, lifecycle.Rules{Idle: span(100), RetireFor: span(7), Recipe: "characters:32"}},
	} {
		d, err := f.s.Drawer(duty, r.drawer, shelf.WithoutRetired, "", 1)
		if err != nil {
			return err
		}
		n := shelf.NewRules{Rules: r.rules}
		if r.from != 0 {
			n.From = f.clock.Now().Add(r.from)
		}
		if _, err := f.s.SetDrawerRules(duty, r.drawer, d.Revision, n); err != nil {
			return err
		}
	}
	tiles := reference.Reference{Drawer: "fleet-telemetry-prod", Item: "map-tiles-key"}
	if _, err := f.s.Move(duty, tiles, shelf.NewPlace{To: reference.Reference{Drawer: tiles.Drawer, Item: "chart-server-key"},
		Alias: 60 * day}); err != nil {
		return err
	}
	seat := reference.Reference{Drawer: "ticketing-prod", Item: "seat-map-signing-key"}
	it, _, err := f.s.History(duty, seat)
	if err != nil {
		return err
	}
	useOnly := true
	_, err = f.s.ChangeItem(duty, seat, it.Revision, shelf.Described{UseOnly: &useOnly})
	return err
}

func span(days int) lifecycle.Span { return lifecycle.Span(time.Duration(days) * day) }

// recent is what happened in the last day: refusals that wait for somebody, a failed sign-in, a look around.
func (f *filler) recent() error {
	steps := []struct {
		ago time.Duration
		do  func() error
	}{
		{9 * time.Hour, func() error { return f.refused("rota-sync", office, "crew-rota-prod/crew-mail-token") }},
		{7 * time.Hour, func() error { return f.refused("gate-controller", ship, "ticketing-prod/db-password") }},
		{5 * time.Hour, func() error {
			_, err := f.s.SignIn(origin("203.0.113.99"), "ticketing-lead", secretvalue.FromString("guessed-by-a-stranger"), "", people.ViaConsole)
			return ignore(err)
		}},
		{3 * time.Hour, func() error { return f.refused("ticket-api", office, "fuel-billing-prod/ledger-db-password") }},
		{2 * time.Hour, func() error { return f.refused("gate-controller", ship, "harbour-gates-prod/ramp-controller-login") }},
		// from another network than its grant says
		{90 * time.Minute, func() error { return f.refused("gate-controller", office, "harbour-gates-prod/radio-key") }},
		{time.Hour, func() error { return f.look("ticketing-lead", "ticketing-prod/db-password") }},
		{20 * time.Minute, func() error { return f.readAll() }},
	}
	for _, step := range steps {
		f.clock.Set(step.ago)
		if err := step.do(); err != nil {
			return err
		}
	}
	return nil
}

func (f *filler) refused(app, addr, item string) error {
	caller, err := f.app(app, addr)
	if err != nil {
		return err
	}
	return f.refusedRead(caller, item)
}

// look: a person tries to see a value in production and may not.
func (f *filler) look(name, item string) error {
	caller, err := f.as(name)
	if err != nil {
		return err
	}
	return f.refusedRead(caller, item)
}

func (f *filler) refusedRead(caller chest.Caller, item string) error {
	ref, err := reference.Parse(item)
	if err != nil {
		return err
	}
	_, err = f.s.ReadValue(caller, ref)
	return ignore(err)
}

func ignore(err error) error {
	if err == nil {
		return errors.New("something was allowed that the story expects to be refused")
	}
	if expected(err) {
		return nil
	}
	return err
}

func origin(addr string) chest.Origin {
	return chest.Origin{Addr: addr, RequestID: random(16)}
}

// random is lower-case text of n characters, up to 16.
func random(n int) string {
	var bytes [10]byte
	_, _ = rand.Read(bytes[:])
	return strings.ToLower(base32.StdEncoding.EncodeToString(bytes[:]))[:n]
}

// The shapes of made-up values.
func password() string { return random(8) + "-" + random(8) + "-" + random(6) }
func token() string    { return "made-up-" + random(16) + random(16) }
