package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"tansu/internal/chest"
	names "tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/people"
	"tansu/internal/rights"
	"tansu/internal/shelf"
)

// What a stranger tries: so many names, half of which exist, each asked about so many times; and how many of them they may get right by
// the time that it takes. Half is chance; of so many names chance alone gets a few more or fewer right.
const (
	timedNames = 200
	timedCalls = 100
	mostRight  = 55 // in a hundred
	timedSets  = 5  // of which the middle one counts
)

// timing measures whether time tells an app which items exist in a drawer in which it has nothing.
func timing(result map[string]any) error {
	return inProcess(func(s *scale) error {
		stranger, err := s.stranger()
		if err != nil {
			return err
		}
		for _, way := range []struct {
			what string
			ask  func(names.Reference) error
		}{
			{"preflight", func(ref names.Reference) error {
				refs := make([]names.Reference, shelf.MaxReferences)
				for i := range refs {
					refs[i] = ref
				}
				_, err := s.vault.Check(stranger, shelf.Preflight{References: refs})
				return err
			}},
			{"read", func(ref names.Reference) error {
				if _, err := s.vault.ReadValue(stranger, ref); err == nil {
					return fmt.Errorf("%s was read", ref)
				}
				return nil
			}},
		} {
			var right []float64
			for range timedSets {
				share, err := guessed(way.ask)
				if err != nil {
					return err
				}
				right = append(right, share)
			}
			slices.Sort(right)
			middle := right[len(right)/2]
			result["timing_"+way.what+"_right_percent"] = round(middle)
			fmt.Printf("%-12s %5.1f %% of %d names are sorted right by time, %d calls each (%.1f to %.1f in %d tries)\n", way.what, middle,
				timedNames, timedCalls, right[0], right[len(right)-1], timedSets)
			if middle > mostRight {
				return fmt.Errorf("time tells what exists: %.1f %% are right by %s, and chance is 50", middle, way.what)
			}
		}
		return nil
	})
}

// stranger fills a drawer, and signs an app in that may read another one.
func (s *scale) stranger() (c chest.Caller, err error) {
	for _, drawer := range []string{"hidden", "own"} {
		if _, err := s.vault.CreateDrawer(s.steward, shelf.NewDrawer{Name: drawer, Environment: "staging"}); err != nil {
			return c, err
		}
	}
	for n := range timedNames / 2 {
		_, _, err := s.vault.CreateItem(s.steward, timed(2*n), shelf.NewItem{}, shelf.NewVersion{Content: secretvalue.FromString("value")})
		if err != nil {
			return c, err
		}
	}
	made, err := s.vault.Register(s.steward, people.NewIdentity{Kind: "app", Name: "stranger", Owner: "person:steward"})
	if err != nil {
		return c, err
	}
	if _, _, err := s.vault.Give(s.steward, rights.NewGrant{Subject: "app:stranger", Role: "consumer", Scope: "own/**"}); err != nil {
		return c, err
	}
	issued, err := s.vault.IssueToken(context.Background(), s.origin, people.AppProof{App: "stranger",
		Secret: string(made.Credential.Secret.Reveal())})
	if err != nil {
		return c, err
	}
	return s.vault.Authenticate(s.origin, string(issued.Token.Reveal()))
}

// timed is one of the names; the even ones exist.
func timed(n int) names.Reference {
	return names.Reference{Drawer: "hidden", Item: fmt.Sprintf("berth-%03d-key", n)}
}

// guessed is how many of the names are sorted right, in a hundred, by the least time that each took: the better one of "what takes longer
// exists" and "what takes longer does not".
func guessed(ask func(names.Reference) error) (percent float64, err error) {
	least := make([]time.Duration, timedNames)
	for range timedCalls {
		for _, n := range rand.Perm(timedNames) {
			at := time.Now()
			if err := ask(timed(n)); err != nil {
				return 0, err
			}
			if took := time.Since(at); least[n] == 0 || took < least[n] {
				least[n] = took
			}
		}
	}
	order := make([]int, timedNames)
	for n := range order {
		order[n] = n
	}
	slices.SortFunc(order, func(x, y int) int { return int(least[x] - least[y]) })
	right := 0
	for rank, n := range order {
		if (rank < timedNames/2) == (n%2 == 0) {
			right++
		}
	}
	return 100 * float64(max(right, timedNames-right)) / timedNames, nil
}
