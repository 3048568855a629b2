package service_test

import (
	"fmt"
	"testing"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/entity"
	"tansu/internal/powers"
	"tansu/internal/store"
)

// The benchmark behind the figure paths_ms_20k: the ways to one item in an organisation of 20 000 identities and 100 000 grants, of which
// 2 000 apps, owned by 500 persons, read it, and 400 persons and apps manage access in forty different ways.
func BenchmarkPaths20k(b *testing.B) {
	s, _, _ := open(b)
	st, err := s.Heart.Look()
	must(b, err)
	change := &store.Change{}
	grants := 0
	give := func(subject, role, scope string) {
		grants++
		change.Insert(entity.Grant{ID: fmt.Sprintf("gr_%06d", grants), Subject: subject, Effect: "allow", Role: role, Scope: scope})
	}
	change.Insert(entity.Role{ID: "ro_1", Name: "registrar", Actions: "register"})
	for i := range 2000 {
		change.Insert(entity.Identity{ID: fmt.Sprintf("id_p%05d", i), Kind: "person", Name: fmt.Sprintf("p%05d", i), State: chest.Active,
			Password: "x", CreatedBy: "person:steward"})
	}
	for i := range 18_000 {
		id, owner := fmt.Sprintf("id_a%05d", i), fmt.Sprintf("person:p%05d", 400+i%1600)
		if i < 2000 {
			owner = fmt.Sprintf("person:p%05d", 400+i%500)
		}
		change.Insert(entity.Identity{ID: id, Kind: "app", Name: fmt.Sprintf("a%05d", i), Owner: owner, State: chest.Active,
			CreatedBy: "person:p00001"})
		change.Insert(entity.Credential{ID: "cr_" + id, Identity: id, Kind: "appsecret", Hash: []byte(id), CreatedBy: owner})
		if i < 2000 {
			give(id, "consumer", "d/i")
		}
	}
	for i := range 400 { // who manages access
		id := fmt.Sprintf("id_p%05d", i)
		switch i % 40 {
		case 0:
			give(id, "gatekeeper", "**")
		case 1:
			give(id, "registrar", "**")
		default:
			give(id, "gatekeeper", "d/**")
			give(id, "viewer", fmt.Sprintf("quay-%02d/**", i%40))
		}
	}
	for i := 0; grants < 100_000; i++ {
		give(fmt.Sprintf("id_a%05d", i%18_000), "consumer", fmt.Sprintf("quay-%04d/berth-%d", i%1000, i))
	}
	trial := st.Trial()
	must(b, trial.Apply(change))
	for b.Loop() {
		p, err := powers.Search(b.Context(), trial.Snapshot, access.ReadValue, []string{"d", "i"}, time.Now())
		if err != nil || p.Cut || len(p.Now) < 2000 || len(found(p.Alone)) < 500 || len(found(p.Letting)) < 390 {
			b.Fatalf("%d now, %d alone, %d letting, %d states, %v", len(p.Now), len(found(p.Alone)), len(found(p.Letting)), p.Searched, err)
		}
		b.ReportMetric(float64(p.Searched), "states/op")
	}
}
