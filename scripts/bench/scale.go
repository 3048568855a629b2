package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/importfile"
	"tansu/internal/core/lifecycle"
	names "tansu/internal/core/reference"
	"tansu/internal/core/search"
	"tansu/internal/core/secretvalue"
	"tansu/internal/opening"
	"tansu/internal/people"
	"tansu/internal/rights"
	"tansu/internal/service"
	"tansu/internal/shelf"
	"tansu/internal/store"
)

// A chest of the largest size that is planned for, with as many items as -items says.
const (
	scaleApps     = 20_000
	scaleGrants   = 100_000 // of which busyGrants are one app's
	busyGrants    = 30_000
	scaleDrawers  = 5_000
	scaleVersions = 1_000 // of one item
)

// scale is a chest in this process, and its steward.
type scale struct {
	vault   *service.Service
	steward chest.Caller
	origin  chest.Origin
	secrets []secretvalue.Value // of apps

	material secretvalue.Value // what opens the chest
}

// atScale fills a chest and measures what people and apps do all day in it, and what is done in bulk.
func atScale(result map[string]any) error {
	return inProcess(func(s *scale) error {
		if err := s.fill(result); err != nil {
			return err
		}
		if err := s.daily(result); err != nil {
			return err
		}
		return s.bulk(result)
	})
}

// inProcess founds a chest in this process for as long as a part of the bench needs it.
func inProcess(use func(*scale) error) error {
	dir, err := os.MkdirTemp("", "tansu-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	records, err := store.Create(dir + "/chest")
	if err != nil {
		return err
	}
	defer func() { _ = records.Close() }()
	s := &scale{origin: chest.Origin{Addr: "127.0.0.1"}}
	if err := s.found(records); err != nil {
		return err
	}
	defer s.vault.Stop()
	return use(s)
}

func (s *scale) found(records *store.Store) (err error) {
	material := envelope.NewKeyFile(envelope.MethodKeyFile)
	s.material = material
	founded, err := opening.Found(records, opening.Founding{Method: envelope.MethodKeyFile, Material: material, Hosts: []string{"127.0.0.1"}})
	if err != nil {
		return err
	}
	if s.vault, err = service.New(records, service.Options{}); err != nil {
		return err
	}
	if err := s.vault.Unlock(s.origin, material); err != nil {
		return err
	}
	password := secretvalue.FromString("a password of the bench")
	session, err := s.vault.Enrol(s.origin, string(founded.Enrolment.Reveal()), password, people.ViaCLI)
	if err != nil {
		return err
	}
	s.steward, err = s.vault.Authenticate(s.origin, string(session.Token.Reveal()))
	return err
}

// many does something many times, a few at once, and says how long each took.
func (s *scale) many(result map[string]any, what string, n int, do func(int) error) error {
	began := time.Now()
	var all sync.WaitGroup
	next, failed := make(chan int), make(chan error, 16)
	for range 16 {
		all.Go(func() {
			for i := range next {
				if err := do(i); err != nil {
					select {
					case failed <- fmt.Errorf("%s: %w", what, err):
					default:
					}
				}
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	all.Wait()
	each := time.Since(began).Seconds() * 1000 / float64(n)
	result["scale_"+what+"_each_ms"] = round(each)
	fmt.Printf("%-36s %10.3f ms each, %d of them\n", what, each, n)
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}

func (s *scale) fill(result map[string]any) error {
	s.secrets = make([]secretvalue.Value, scaleApps)
	err := s.many(result, "register", scaleApps, func(i int) error {
		made, err := s.vault.Register(s.steward, people.NewIdentity{Kind: "app", Name: fmt.Sprintf("gate-%05d", i), Owner: "person:steward"})
		s.secrets[i] = made.Credential.Secret
		return err
	})
	if err != nil {
		return err
	}
	err = s.many(result, "create_drawer", scaleDrawers, func(i int) error {
		_, err := s.vault.CreateDrawer(s.steward, shelf.NewDrawer{Name: fmt.Sprintf("quay-%04d", i), Environment: "staging"})
		return err
	})
	if err != nil {
		return err
	}
	if err := s.give(result); err != nil {
		return err
	}
	_, _, err = s.vault.Give(s.steward, rights.NewGrant{Subject: "person:steward", Role: "consumer", Scope: "**"})
	if err != nil {
		return err
	}
	began := time.Now()
	for d := range drawers {
		if err := fillDrawer(s.vault, s.steward, fmt.Sprintf("harbour-%d", d), *items/drawers); err != nil {
			return err
		}
	}
	result["scale_import_per_second"] = round(float64(*items) / time.Since(began).Seconds())
	fmt.Printf("%-36s %10.0f a second, %d of them\n", "import", float64(*items)/time.Since(began).Seconds(), *items)
	ref := names.Reference{Drawer: "quay-0000", Item: "anchor"}
	for n := range scaleVersions {
		v := shelf.NewVersion{Content: secretvalue.FromString(fmt.Sprintf("value %d", n))}
		if n == 0 {
			_, _, err = s.vault.CreateItem(s.steward, ref, shelf.NewItem{}, v)
		} else {
			_, _, err = s.vault.AddVersion(s.steward, ref, 0, v)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// give gives all grants by one policy.
func (s *scale) give(result map[string]any) error {
	policy, err := s.vault.ExportPolicy(s.steward)
	if err != nil {
		return err
	}
	var more strings.Builder
	more.WriteString("grants:\n")
	for i := range scaleGrants {
		app := 0
		if i >= busyGrants {
			app = i % scaleApps
		}
		fmt.Fprintf(&more, "  - subject: app:gate-%05d\n    role: consumer\n    scope: quay-%04d/berth-%d\n    until: never\n", app,
			i%scaleDrawers, i)
	}
	began := time.Now()
	_, err = s.vault.ApplyPolicy(s.steward, []byte(strings.Replace(string(policy), "grants:\n", more.String(), 1)), rights.Applying{})
	if err != nil {
		return err
	}
	each := milliseconds(time.Since(began)) / scaleGrants
	result["scale_policy_ms_a_grant"] = round(each)
	fmt.Printf("%-36s %10.3f ms each, %d of them by one policy\n", "give", each, scaleGrants)
	return nil
}

// daily measures single things; each is done a few times, and the middle one counts.
func (s *scale) daily(result map[string]any) error {
	ctx := context.Background()
	n := 0
	app := func(i int) (chest.Caller, error) {
		proof := people.AppProof{App: fmt.Sprintf("gate-%05d", i), Secret: string(s.secrets[i].Reveal())}
		issued, err := s.vault.IssueToken(ctx, s.origin, proof)
		if err != nil {
			return chest.Caller{}, err
		}
		return s.vault.Authenticate(s.origin, string(issued.Token.Reveal()))
	}
	busy, err := app(0)
	if err != nil {
		return err
	}
	refusedOnly := func(err error) error {
		var known *chest.Error
		if errors.As(err, &known) && known.Code == chest.Refused {
			return nil
		}
		return fmt.Errorf("it was not refused: %w", err)
	}
	for _, one := range []struct {
		what string
		do   func() error
	}{
		{"register_one", func() error {
			_, err := s.vault.Register(s.steward, people.NewIdentity{Kind: "app", Name: fmt.Sprintf("crane-%d", n), Owner: "person:steward"})
			return err
		}},
		{"make_team_one", func() error {
			if _, err := s.vault.Register(s.steward, people.NewIdentity{Kind: "team", Name: fmt.Sprintf("crew-%d", n)}); err != nil {
				return err
			}
			_, err := s.vault.Join(s.steward, fmt.Sprintf("team:crew-%d", n), fmt.Sprintf("app:crane-%d", n))
			return err
		}},
		{"give_one", func() error {
			_, _, err := s.vault.Give(s.steward, rights.NewGrant{Subject: fmt.Sprintf("app:crane-%d", n), Role: "consumer", Scope: "quay-0001/**"})
			return err
		}},
		{"sign_in_app", func() error { _, err := app(1 + n); return err }},
		{"read_one", func() error {
			_, err := s.vault.ReadValue(s.steward, names.Reference{Drawer: "harbour-1", Item: fmt.Sprintf("gate-%07d-key", n)})
			return err
		}},
		{"refused_read_of_the_busy_app", func() error {
			_, err := s.vault.ReadValue(busy, names.Reference{Drawer: "harbour-1", Item: fmt.Sprintf("gate-%07d-key", n)})
			return refusedOnly(err)
		}},
		{"queue_of_refusals", func() error { _, err := s.vault.Refusals(s.steward, time.Now().Add(-time.Hour)); return err }},
		{"put_one", func() error {
			_, _, err := s.vault.AddVersion(s.steward, names.Reference{Drawer: "harbour-2", Item: "gate-0000001-key"}, 0,
				shelf.NewVersion{Content: secretvalue.FromString("another value")})
			return err
		}},
		{"put_one_new", func() error {
			_, _, err := s.vault.CreateItem(s.steward, names.Reference{Drawer: "harbour-2", Item: fmt.Sprintf("new-%d", n)}, shelf.NewItem{},
				shelf.NewVersion{Content: secretvalue.FromString("another value")})
			return err
		}},
		{"put_version_after_1000", func() error {
			_, _, err := s.vault.AddVersion(s.steward, names.Reference{Drawer: "quay-0000", Item: "anchor"}, 0,
				shelf.NewVersion{Content: secretvalue.FromString("another value")})
			return err
		}},
		{"suspend_version_of_1000", func() error {
			_, _, err := s.vault.Act(s.steward, names.Reference{Drawer: "quay-0000", Item: "anchor", Version: 1 + n},
				lifecycle.Suspend, "")
			return err
		}},
		{"page_of_people", func() error { _, err := s.vault.Identities(s.steward, people.IdentityFilter{Most: 100}); return err }},
		{"page_of_grants", func() error { _, err := s.vault.Grants(s.steward, rights.GrantFilter{Most: 100}); return err }},
		{"page_of_drawers", func() error { _, err := s.vault.Drawers(s.steward, "", 100); return err }},
		{"page_of_items", func() error {
			_, err := s.vault.Drawer(s.steward, "harbour-3", shelf.WithoutRetired, "", 100)
			return err
		}},
		{"page_of_search", func() error { _, err := s.vault.Search(s.steward, "gate-00000", "", 100); return err }},
		{"page_of_trail", func() error { _, err := s.vault.Trail(s.steward, store.Filter{}, search.Query{}, 100); return err }},
		{"page_of_matrix", func() error { _, err := s.vault.Matrix(s.steward, rights.Part{Most: 100}); return err }},
		{"due", func() error { _, err := s.vault.DueItems(s.steward, 14*24*time.Hour); return err }},
		{"who_can_read_one", func() error {
			_, err := s.vault.Holders(s.steward, access.ReadValue.String(), "quay-0003/berth-3")
			return err
		}},
		{"what_the_busy_app_reaches", func() error { _, err := s.vault.Reach(s.steward, "app:gate-00000"); return err }},
	} {
		n = 0
		var times []time.Duration
		for range 5 {
			at := time.Now()
			if err := one.do(); err != nil {
				return fmt.Errorf("%s: %w", one.what, err)
			}
			times, n = append(times, time.Since(at)), n+1
		}
		slices.Sort(times)
		result["scale_"+one.what+"_ms"] = round(milliseconds(times[2]))
		fmt.Printf("%-36s %10.2f ms, the slowest %.2f\n", one.what, milliseconds(times[2]), milliseconds(times[4]))
	}
	return nil
}

// bulk measures what looks at everything there is.
func (s *scale) bulk(result map[string]any) error {
	var policy []byte
	for _, one := range []struct {
		what string
		do   func() error
	}{
		{"tighten", func() error { _, err := s.vault.Tighten(s.steward, time.Now().Add(-time.Hour)); return err }},
		{"export_policy", func() (err error) { policy, err = s.vault.ExportPolicy(s.steward); return err }},
		{"compare_policy", func() error { _, err := s.vault.DiffPolicy(s.steward, policy); return err }},
		{"export_drawer", func() error {
			e, err := s.vault.ExportDrawer(s.steward, "harbour-4", shelf.NewExport{Format: importfile.JSON, Clear: true})
			if err == nil && len(e.Items) != *items/drawers {
				err = fmt.Errorf("%d of %d items are in the export", len(e.Items), *items/drawers)
			}
			return err
		}},
	} {
		at := time.Now()
		if err := one.do(); err != nil {
			return fmt.Errorf("%s: %w", one.what, err)
		}
		result["scale_"+one.what+"_ms"] = round(milliseconds(time.Since(at)))
		fmt.Printf("%-36s %10.0f ms\n", one.what, milliseconds(time.Since(at)))
	}
	at := time.Now()
	for {
		r, err := s.vault.RotateKey(s.steward, "harbour-5", nil, time.Minute)
		if err != nil {
			return err
		}
		if r.Done {
			break
		}
	}
	rate := float64(*items/drawers) / time.Since(at).Seconds()
	result["scale_turned_items_per_second"] = round(rate)
	fmt.Printf("%-36s %10.0f items a second\n", "turn_key", rate)
	return nil
}
