package service_test

import (
	"fmt"
	"strings"
	"testing"

	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/people"
	"tansu/internal/rights"
	"tansu/internal/shelf"
)

// The benchmark behind the figure policy_diff_ms_10k: a policy of 10 000 grants of 500 apps over 50 drawers with 20
// items each, every tenth grant another one than in the chest; from the text to who gains and loses what.
func BenchmarkPolicyDiff10k(b *testing.B) {
	s, _, steward := open(b)
	for n := range 500 {
		if _, err := s.Register(steward, people.NewIdentity{Kind: "app", Name: fmt.Sprintf("app-%d", n), Owner: "person:steward"}); err != nil {
			b.Fatal(err)
		}
	}
	for d := range 50 {
		drawer := fmt.Sprintf("drawer-%d", d)
		if _, err := s.CreateDrawer(steward, shelf.NewDrawer{Name: drawer, Environment: "staging"}); err != nil {
			b.Fatal(err)
		}
		for i := range 20 {
			ref := reference.Reference{Drawer: drawer, Item: fmt.Sprintf("item-%d", i)}
			if _, _, err := s.CreateItem(steward, ref, shelf.NewItem{}, shelf.NewVersion{Content: secretvalue.FromString("v")}); err != nil {
				b.Fatal(err)
			}
		}
	}
	policy := func(other int) []byte {
		exported, err := s.ExportPolicy(steward)
		if err != nil {
			b.Fatal(err)
		}
		var more strings.Builder
		for n := range 10_000 {
			item := n % 20
			if n%10 == 0 {
				item = (n + other) % 20
			}
			fmt.Fprintf(&more, "  - subject: app:app-%d\n    role: consumer\n    scope: drawer-%d/item-%d\n    until: never\n    reason: grant "+
				"%d\n", n/20, n%50, item, n)
		}
		return []byte(strings.Replace(string(exported), "grants:\n", "grants:\n"+more.String(), 1))
	}
	if _, err := s.ApplyPolicy(steward, policy(0), rights.Applying{}); err != nil {
		b.Fatal(err)
	}
	exported, err := s.ExportPolicy(steward)
	if err != nil {
		b.Fatal(err)
	}
	changed := strings.ReplaceAll(string(exported), "/item-10\n", "/item-11\n")
	for b.Loop() {
		d, err := s.DiffPolicy(steward, []byte(changed))
		if err != nil || len(d.Steps) < 1000 || len(d.Changes) == 0 {
			b.Fatal(len(d.Steps), err)
		}
	}
	b.ReportMetric(10_000, "grants")
}
