package service_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/credential"
	"tansu/internal/core/importfile"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/people"
	"tansu/internal/record"
	"tansu/internal/rights"
	"tansu/internal/service"
	"tansu/internal/shelf"
	"tansu/internal/store"
)

// The tests here force an interleaving: what somebody decided is on its way to the writer when something else is done, which could
// have made the decision another one. b.before runs between the two.

// once runs f the first time an entry of an action is submitted, before it is.
func once(b *broken, action string, f func()) {
	b.before = func(work *store.Work) {
		if work.Entry.Action == action && b.before != nil {
			b.before = nil
			f()
		}
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// person registers somebody, lets them enrol, and returns them signed in.
func person(t testing.TB, s *service.Service, by chest.Caller, name string) chest.Caller {
	t.Helper()
	made, err := s.Register(by, people.NewIdentity{Kind: "person", Name: name})
	must(t, err)
	return enrolled(t, s, made.Credential.Secret)
}

func enrolled(t testing.TB, s *service.Service, code secretvalue.Value) chest.Caller {
	t.Helper()
	session, err := s.Enrol(origin, string(code.Reveal()), secretvalue.FromString("a password for tests"), people.ViaCLI)
	must(t, err)
	c, err := s.Authenticate(origin, string(session.Token.Reveal()))
	must(t, err)
	return c
}

// app registers one and returns its secret.
func app(t testing.TB, s *service.Service, by chest.Caller, name string) (people.Registered, people.AppProof) {
	t.Helper()
	made, err := s.Register(by, people.NewIdentity{Kind: "app", Name: name, Owner: "person:steward"})
	must(t, err)
	return made, people.AppProof{App: name, Secret: string(made.Credential.Secret.Reveal())}
}

func grant(t testing.TB, s *service.Service, by chest.Caller, subject, role, scope string) chest.GrantInfo {
	t.Helper()
	g, _, err := s.Give(by, rights.NewGrant{Subject: subject, Role: role, Scope: scope})
	must(t, err)
	return g
}

// Hashing a password takes half a second. Whoever signs in with an old password while a new one is chosen has no session afterwards.
func TestSignInByAPasswordThatIsReplacedMeanwhile(t *testing.T) {
	s, b, steward := open(t)
	person(t, s, steward, "ticketing-lead")
	code, err := s.IssueCredential(steward, "person:ticketing-lead", people.NewCredential{})
	must(t, err)
	var fresh people.Session
	once(b, "sign_in", func() {
		fresh, err = s.Enrol(origin, string(code.Secret.Reveal()), secretvalue.FromString("another password for tests"), people.ViaCLI)
		must(t, err)
	})
	_, err = s.SignIn(origin, "ticketing-lead", secretvalue.FromString("a password for tests"), "", people.ViaCLI)
	if codeOf(err) != chest.SignInFailed {
		t.Errorf("the old password starts a session: %v", err)
	}
	if _, err := s.Authenticate(origin, string(fresh.Token.Reveal())); err != nil {
		t.Errorf("the session by the new password: %v", err)
	}
}

// A session or a token that is given while all of them are being ended is not among those that are removed, and is worth nothing all the
// same: also after the identity is active again.
func TestTokensGivenWhileAllAreEnded(t *testing.T) {
	s, b, steward := open(t)
	person(t, s, steward, "ticketing-lead")
	signIn := func() string {
		session, err := s.SignIn(origin, "ticketing-lead", secretvalue.FromString("a password for tests"), "", people.ViaCLI)
		must(t, err)
		return string(session.Token.Reveal())
	}
	late := map[string]string{}
	once(b, "register", func() { late["a suspension"] = signIn() })
	_, err := s.SetState(steward, "person:ticketing-lead", "suspended")
	must(t, err)
	_, err = s.SetState(steward, "person:ticketing-lead", "active")
	must(t, err)
	code, err := s.IssueCredential(steward, "person:ticketing-lead", people.NewCredential{})
	must(t, err)
	once(b, "enrol", func() { late["another password"] = signIn() })
	_, err = s.Enrol(origin, string(code.Secret.Reveal()), secretvalue.FromString("another password for tests"), people.ViaCLI)
	must(t, err)
	_, proof := app(t, s, steward, "rota-sync")
	once(b, "register", func() {
		issued, err := s.IssueToken(context.Background(), origin, proof)
		must(t, err)
		late["the suspension of an app"] = string(issued.Token.Reveal())
	})
	_, err = s.SetState(steward, "app:rota-sync", "suspended")
	must(t, err)
	_, err = s.SetState(steward, "app:rota-sync", "active")
	must(t, err)
	for what, token := range late {
		if _, err := s.Authenticate(origin, token); codeOf(err) != chest.Unauthenticated {
			t.Errorf("a token given amid %s is taken afterwards: %v", what, err)
		}
	}
	if len(late) != 3 {
		t.Errorf("only %d of three interleavings happened", len(late))
	}
}

// A token is not issued for a credential that is ended, or to an app that is suspended, while the proof is being checked; and it does
// not live again when the app is active again.
func TestTokenOfWhatEndsMeanwhile(t *testing.T) {
	s, b, steward := open(t)
	for name, end := range map[string]func(made people.Registered) error{
		"revoked": func(made people.Registered) error {
			return s.RevokeCredential(steward, made.Identity.Subject, made.Credential.ID)
		},
		"suspended": func(made people.Registered) error {
			_, err := s.SetState(steward, made.Identity.Subject, "suspended")
			return err
		},
	} {
		made, proof := app(t, s, steward, "rota-sync-"+name)
		once(b, "issue_token", func() { must(t, end(made)) })
		issued, err := s.IssueToken(context.Background(), origin, proof)
		if codeOf(err) != chest.SignInFailed || issued.Token.Len() != 0 && err == nil {
			t.Errorf("%s: got a token, %v", name, err)
		}
		if name == "suspended" {
			_, err := s.SetState(steward, made.Identity.Subject, "active")
			must(t, err)
			if issued.Token.Len() > 0 {
				if _, err := s.Authenticate(origin, string(issued.Token.Reveal())); err == nil {
					t.Error("a token of the suspension lives again")
				}
			}
		}
	}
}

// A token whose credential is not there any more proves nothing, even if it was left behind.
func TestTokenOutlivesNoCredential(t *testing.T) {
	s, _, steward := open(t)
	made, proof := app(t, s, steward, "gate-controller")
	end := time.Now().Add(90 * time.Minute)
	short, err := s.IssueCredential(steward, "app:gate-controller", people.NewCredential{NotAfter: end})
	must(t, err)
	issued, err := s.IssueToken(context.Background(), origin, people.AppProof{App: "gate-controller", Secret: string(short.Secret.Reveal())})
	must(t, err)
	if _, err := s.Authenticate(origin, string(issued.Token.Reveal())); err != nil {
		t.Fatal(err)
	}
	must(t, s.RevokeCredential(steward, "app:gate-controller", short.ID))
	if _, err := s.Authenticate(origin, string(issued.Token.Reveal())); codeOf(err) != chest.Unauthenticated {
		t.Errorf("after its credential ended: %v", err)
	}
	if _, err := s.IssueToken(context.Background(), origin, proof); err != nil {
		t.Errorf("the other credential of %s: %v", made.Identity.Subject, err)
	}
}

// Two who manage access suspend each other in the same moment: one of them stays, and somebody can give access afterwards.
func TestTwoGatekeepersSuspendEachOther(t *testing.T) {
	s, b, steward := open(t)
	one, two := person(t, s, steward, "security-duty"), person(t, s, steward, "platform-oncall")
	for _, who := range []string{"person:security-duty", "person:platform-oncall"} {
		grant(t, s, steward, who, "gatekeeper", "**")
	}
	_, err := s.SetStewardsAside(steward)
	must(t, err)
	once(b, "register", func() {
		_, err := s.SetState(two, "person:security-duty", "suspended")
		must(t, err)
	})
	if _, err := s.SetState(one, "person:platform-oncall", "suspended"); err == nil {
		t.Error("both were suspended")
	}
	if _, err := s.SetState(two, "person:platform-oncall", "suspended"); codeOf(err) != chest.NotHandedOver {
		t.Errorf("the last one who can give access suspends themselves: %v", err)
	}
	if _, err := s.Register(two, people.NewIdentity{Kind: "person", Name: "audit-desk"}); err != nil {
		t.Errorf("who is left: %v", err)
	}
}

// A read that was decided before its grant ended is not served after it, and neither is one of an item that was suspended, moved into a
// drawer where it is denied, or by a token that was ended.
func TestReadRestsOnWhatItWasDecidedOn(t *testing.T) {
	ref := reference.Reference{Drawer: "d", Item: "i"}
	for name, change := range map[string]func(s *service.Service, steward, reader chest.Caller, g chest.GrantInfo) error{
		"the grant ends": func(s *service.Service, steward, _ chest.Caller, g chest.GrantInfo) error {
			_, err := s.End(steward, g.ID)
			return err
		},
		"a denial is given": func(s *service.Service, steward, _ chest.Caller, g chest.GrantInfo) error {
			_, _, err := s.Give(steward, rights.NewGrant{Subject: g.Subject, Effect: "deny", Role: "consumer", Scope: "d/i"})
			return err
		},
		"the reader is suspended": func(s *service.Service, steward, _ chest.Caller, g chest.GrantInfo) error {
			_, err := s.SetState(steward, g.Subject, "suspended")
			return err
		},
		"the token is ended": func(s *service.Service, _, reader chest.Caller, _ chest.GrantInfo) error { return s.SignOut(reader) },
		"the item is suspended": func(s *service.Service, steward, _ chest.Caller, _ chest.GrantInfo) error {
			_, _, err := s.Act(steward, ref, lifecycle.Suspend, "")
			return err
		},
		"the item is moved": func(s *service.Service, steward, _ chest.Caller, _ chest.GrantInfo) error {
			_, err := s.Move(steward, ref, shelf.NewPlace{To: reference.Reference{Drawer: "d", Item: "k"}})
			return err
		},
		"the chest is locked": func(s *service.Service, steward, _ chest.Caller, _ chest.GrantInfo) error { return s.Lock(steward) },
	} {
		s, b, steward := open(t)
		reader := person(t, s, steward, "ticketing-lead")
		g := grant(t, s, steward, "person:ticketing-lead", "consumer", "d/**")
		if _, err := s.ReadValue(reader, ref); err != nil {
			t.Fatal(err)
		}
		before := len(reads(t, s, steward))
		once(b, "read_value", func() { must(t, change(s, steward, reader, g)) })
		served, err := s.ReadValue(reader, ref)
		if err == nil || served.Content.Len() != 0 {
			t.Errorf("%s: the value was served", name)
		}
		if name != "the chest is locked" && len(reads(t, s, steward)) != before {
			t.Errorf("%s: the trail says that it was served", name)
		}
		before = len(reads(t, s, steward))
		if name == "the grant ends" { // a batch is one commit, and rests on all that it has
			once(b, "read_value", func() {})
			grant(t, s, steward, "person:ticketing-lead", "consumer", "d/i")
			g := grant(t, s, steward, "person:ticketing-lead", "consumer", "d/j")
			once(b, "read_value", func() { _, err := s.End(steward, g.ID); must(t, err) })
			outcomes, err := s.ReadValues(reader, []reference.Reference{ref, {Drawer: "d", Item: "j"}})
			must(t, err)
			if outcomes[0].Err != nil || outcomes[1].Err == nil || outcomes[1].Served.Content.Len() != 0 {
				t.Errorf("a batch: %v, %v", outcomes[0].Err, outcomes[1].Err)
			}
			if got := len(reads(t, s, steward)); got != before+1 {
				t.Errorf("a batch has %d entries of reads", got-before)
			}
		}
	}
}

// reads lists the entries of reads that were served; none while the chest is locked.
func reads(t testing.TB, s *service.Service, c chest.Caller) []trail.Entry {
	t.Helper()
	if s.Heart.Newest() == nil {
		return nil
	}
	page, err := s.Trail(c, store.Filter{Action: "read_value", Outcome: "allowed"}, nil, 1000)
	must(t, err)
	return page.Entries
}

// Both of two writers succeed, one after the other, whatever comes first; and one that is overtaken again and again gets its turn.
func TestOvertakenWritersAreTriedAgain(t *testing.T) {
	s, b, steward := open(t)
	ref := reference.Reference{Drawer: "d", Item: "i"}
	add := func(text string) error {
		_, _, err := s.AddVersion(steward, ref, 0, shelf.NewVersion{Content: secretvalue.FromString(text)})
		return err
	}
	overtaken := 0
	b.before = func(work *store.Work) {
		if work.Entry.Detail == "add version" && overtaken < 3 {
			overtaken++
			before := b.before
			b.before = nil
			must(t, add(fmt.Sprint("between ", overtaken)))
			b.before = before
		}
	}
	must(t, add("the last"))
	served, err := s.ReadValue(steward, ref)
	must(t, err)
	if string(served.Content.Reveal()) != "the last" || served.Reference.Version != 5 {
		t.Errorf("version %d is %s", served.Reference.Version, served.Content.Reveal())
	}
}

// A version that is sealed while its drawer gets another key is under the new one when it is stored.
func TestSealedWhileTheKeyIsTurned(t *testing.T) {
	s, b, steward := open(t)
	once(b, "write_version", func() {
		r, err := s.RotateKey(steward, "d", nil, time.Minute)
		must(t, err)
		if !r.Done {
			t.Error("the rotation is not finished")
		}
	})
	ref := reference.Reference{Drawer: "d", Item: "new"}
	_, _, err := s.CreateItem(steward, ref, shelf.NewItem{}, shelf.NewVersion{Content: secretvalue.FromString("sealed meanwhile")})
	must(t, err)
	grant(t, s, steward, "person:steward", "consumer", "d/new")
	served, err := s.ReadValue(steward, ref)
	if err != nil || string(served.Content.Reveal()) != "sealed meanwhile" {
		t.Errorf("%v", err)
	}
}

// An app that signs in for each read has a bounded number of tokens, the trail says that it wastes them, and issuing stays quick.
func TestTokensOfOneAppAreBounded(t *testing.T) {
	s, _, steward := open(t)
	made, proof := app(t, s, steward, "telemetry-collector")
	var first people.AppToken
	for n := range 230 {
		issued, err := s.IssueToken(context.Background(), origin, proof)
		must(t, err)
		if n == 0 {
			first = issued
		}
	}
	row, _ := s.Heart.Newest().IdentityOf(made.Identity.Subject)
	if n := len(s.Heart.Newest().AllTokensOf(row.ID)); n != 200 {
		t.Errorf("it has %d tokens", n)
	}
	if _, err := s.Authenticate(origin, string(first.Token.Reveal())); codeOf(err) != chest.Unauthenticated {
		t.Errorf("the oldest token: %v", err)
	}
	page, err := s.Trail(steward, store.Filter{Action: "issue_token", Subject: made.Identity.Subject}, nil, 1)
	must(t, err)
	if len(page.Entries) != 1 || !strings.Contains(page.Entries[0].Detail, "gave way") || page.Entries[0].Credential != made.Credential.ID {
		t.Errorf("the trail says %+v", page.Entries)
	}
}

// Whoever has an IPv6 subnet has as many addresses as they want: they count as one.
func TestThrottleCountsSubnets(t *testing.T) {
	s, _, steward := open(t)
	person(t, s, steward, "ticketing-lead")
	let := 0
	for n := range 60 {
		from := chest.Origin{Addr: fmt.Sprintf("2001:db8:0:1::%x", n+1), RequestID: "test"}
		_, err := s.Enrol(from, string(credential.Enrolment)+fmt.Sprint(n), secretvalue.FromString("a password for tests"), people.ViaCLI)
		if codeOf(err) == chest.SignInFailed {
			let++
		}
	}
	if let != 20 {
		t.Errorf("%d attempts of one subnet were let through, want 20", let)
	}
}

// What is read under an old name, before a rename, or from a drawer that it was moved out of counts for the item: it is not idle, and an
// exposure report names who read it.
func TestReadsFollowAnItemAcrossItsNames(t *testing.T) {
	s, _, steward := open(t)
	reader, older := person(t, s, steward, "ticketing-lead"), person(t, s, steward, "harbour-master")
	grant(t, s, steward, "person:ticketing-lead", "consumer", "d/**")
	g := grant(t, s, steward, "person:harbour-master", "consumer", "d/**")
	ref, next := reference.Reference{Drawer: "d", Item: "i"}, reference.Reference{Drawer: "d", Item: "renamed"}
	_, err := s.ReadValue(older, ref)
	must(t, err)
	_, err = s.End(steward, g.ID)
	must(t, err)
	_, err = s.Move(steward, ref, shelf.NewPlace{To: next, Alias: time.Hour})
	must(t, err)
	_, err = s.ReadValue(reader, ref) // by the old name
	must(t, err)
	must(t, s.EndAlias(steward, ref))
	list, err := s.Readers(steward, next, time.Time{})
	must(t, err)
	if len(list) != 2 {
		t.Errorf("who reads it: %+v", list)
	}
	next.Version = 1
	x, err := s.ReportExposure(steward, next, time.Time{}, "", false)
	must(t, err)
	var who []string
	for _, r := range x.Readers {
		who = append(who, r.Subject)
	}
	if len(who) != 2 {
		t.Errorf("the report names %v as its readers", who)
	}
	_, it, err := s.Heart.Newest().ReadItem(reference.Reference{Drawer: "d", Item: "renamed"})
	must(t, err)
	last, err := s.Heart.LastRead(it.Row.ID, "d/renamed")
	must(t, err)
	if time.Since(last) > time.Minute {
		t.Errorf("it was last read at %s", last)
	}
}

// asking is a request's context that looks, at each place where a long answer asks whether somebody still waits.
type asking struct {
	context.Context
	looked func(times int)
	times  int
}

func (a *asking) Err() error {
	a.times++
	a.looked(a.times)
	return a.Context.Err()
}

// While a long answer is put together, others read and change things, each as if nobody else were there; the answer is of the
// moment when it was asked for. And one that nobody waits for any more ends.
func TestLongAnswersHoldNobodyUp(t *testing.T) {
	s, _, steward := open(t)
	for n := range 40 {
		_, err := s.Register(steward,
			people.NewIdentity{Kind: "app", Name: fmt.Sprintf("rota-sync-%d", n), Owner: "person:steward", NoSecret: true})
		must(t, err)
		grant(t, s, steward, fmt.Sprintf("app:rota-sync-%d", n), "consumer", "d/i")
	}
	for what, ask := range map[string]func(c chest.Caller) error{
		"the matrix": func(c chest.Caller) error { _, err := s.Matrix(c, rights.Part{}); return err },
		"tighten":    func(c chest.Caller) error { _, err := s.Tighten(c, time.Now().Add(-time.Hour)); return err },
		"search":     func(c chest.Caller) error { _, err := s.Search(c, "i", "", 100); return err },
	} {
		c, done := steward, false
		c.Asking = &asking{Context: context.Background(), looked: func(times int) {
			if times == 1 {
				_, err := s.SetState(steward, "app:rota-sync-7", "suspended")
				must(t, err)
				_, err = s.ReadValue(steward, reference.Reference{Drawer: "d", Item: "i"})
				must(t, err)
				_, err = s.SetState(steward, "app:rota-sync-7", "active")
				must(t, err)
				done = true
			}
		}}
		if err := ask(c); err != nil || !done {
			t.Errorf("%s: %v, and something else was done meanwhile: %v", what, err, done)
		}
		gone, leave := context.WithCancel(context.Background())
		c.Asking = &asking{Context: gone, looked: func(times int) {
			leave()
			if times > 10 {
				t.Errorf("%s goes on when nobody waits for it", what)
			}
		}}
		if err := ask(c); err == nil {
			t.Errorf("%s is answered to nobody", what)
		}
	}
}

// What a host says that it served is a read only if it can have been: a version that was there, by a grant there was, with a
// rule that lets hosts keep it. All else is in the trail as refused, and proves nothing of anybody's use.
func TestKeptReadsThatCannotHaveBeenAreNotReads(t *testing.T) {
	s, _, steward := open(t)
	_, proof := app(t, s, steward, "gate-controller")
	grant(t, s, steward, "app:gate-controller", "consumer", "d/i")
	issued, err := s.IssueToken(context.Background(), origin, proof)
	must(t, err)
	c, err := s.Authenticate(origin, string(issued.Token.Reveal()))
	must(t, err)
	report := func(item string, version int, at time.Time) (served bool) {
		t.Helper()
		before := len(reads(t, s, steward))
		must(t, s.ReportReads(c, "quay-3", []record.KeptRead{{Number: 1, Reference: reference.Reference{Drawer: "d", Item: item},
			Version: version, At: at, By: "user gate"}}))
		return len(reads(t, s, steward)) > before
	}
	if report("i", 1, time.Now()) {
		t.Error("it was never given to that host, and counts as a read")
	}
	_, err = s.ReadValue(c, reference.Reference{Drawer: "d", Item: "i"})
	must(t, err)
	now := time.Now()
	if report("i", 1, now) {
		t.Error("no rule lets hosts keep it, and it counts as a read")
	}
	drawer, err := s.Drawer(steward, "d", shelf.WithoutRetired, "", 1)
	must(t, err)
	_, err = s.SetDrawerRules(steward, "d", drawer.Revision, shelf.NewRules{Rules: lifecycle.Rules{HostKeeps: lifecycle.Span(time.Hour)}})
	must(t, err)
	for what, one := range map[string]struct {
		item    string
		version int
		at      time.Time
		want    bool
	}{
		"as it was":                    {"i", 1, now, true},
		"another item":                 {"j", 1, now, false},
		"no item":                      {"none", 1, now, false},
		"no version":                   {"i", 2, now, false},
		"before there was the item":    {"i", 1, now.Add(-time.Hour), false},
		"at a time that is to come":    {"i", 1, now.Add(time.Hour), false},
		"and of another drawer's name": {"i ", 1, now, false},
	} {
		if got := report(one.item, one.version, one.at); got != one.want {
			t.Errorf("%s: a read: %v", what, got)
		}
	}
}

// A file of several parts, each made ready while the one before it is written: all of it is there; and when somebody makes an item of
// a name in it meanwhile, what was put in before stays, and the answer says how much.
func TestFileOfSeveralPartsIsPutInInOrder(t *testing.T) {
	s, b, steward := open(t)
	file := func(from, to int) shelf.NewImport {
		return shelf.NewImport{Format: importfile.Dotenv, Content: plaintext(from, to)}
	}
	report, err := s.Import(steward, "d", file(0, 500))
	must(t, err)
	page, err := s.Drawer(steward, "d", shelf.WithoutRetired, "", 1000)
	must(t, err)
	if !report.Done || len(page.Items) < 500 {
		t.Errorf("done %v, %d items are there", report.Done, len(page.Items))
	}
	parts := 0
	b.before = func(work *store.Work) {
		if work.Entry.Action != "import" {
			return
		}
		if parts++; parts == 2 {
			ref := reference.Reference{Drawer: "d", Item: "berth-0000950-key"}
			_, _, err := s.CreateItem(steward, ref, shelf.NewItem{}, shelf.NewVersion{Content: secretvalue.FromString("theirs")})
			must(t, err)
		}
	}
	_, err = s.Import(steward, "d", file(500, 1000))
	b.before = nil
	if err == nil || !strings.Contains(err.Error(), "were put in, and the others not") {
		t.Errorf("a name was taken meanwhile: %v", err)
	}
}
