package main

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/cryptokey"
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

// timing measures whether time tells an app which items exist in a drawer in which it has nothing, and whoever may decrypt what is wrong
// with a ciphertext that does not open.
func timing(result map[string]any) error {
	for _, kind := range []cryptokey.Type{cryptokey.AES256, cryptokey.RSA2048, cryptokey.Hybrid} {
		ask, err := broken(kind)
		if err == nil {
			err = tell(result, string(kind), "of %d ciphertexts are sorted right by what is wrong with them", ask)
		}
		if err != nil {
			return err
		}
	}
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
			ask := func(n int) error { return way.ask(timed(n)) }
			if err := tell(result, way.what, "of %d names are sorted right by whether they exist", ask); err != nil {
				return err
			}
		}
		return nil
	})
}

// tell sorts by time, a few times over, and fails when that is right more often than chance.
func tell(result map[string]any, what, how string, ask func(n int) error) error {
	var right []float64
	for range timedSets {
		share, err := guessed(ask)
		if err != nil {
			return err
		}
		right = append(right, share)
	}
	slices.Sort(right)
	middle := right[len(right)/2]
	result["timing_"+what+"_right_percent"] = round(middle)
	fmt.Printf("%-18s %5.1f %% "+how+", by time, %d calls each (%.1f to %.1f in %d tries)\n", what, middle, timedNames, timedCalls, right[0],
		right[len(right)-1], timedSets)
	if middle > mostRight {
		return fmt.Errorf("time tells: %.1f %% are right by %s, and chance is 50", middle, what)
	}
	return nil
}

// broken makes ciphertexts that do not open with a key. Of an aes-256 key, those with even numbers have a wrong tag from its first byte on,
// the others in its last one; of a key with a public half, the content key of the even ones does not open, and that of the others does, and
// is the wrong one: what an oracle of padding would tell apart.
func broken(kind cryptokey.Type) (decrypt func(n int) error, err error) {
	key, err := cryptokey.New(kind, cryptokey.Encryption)
	if err != nil {
		return nil, err
	}
	var all [timedNames]*cryptokey.Sealed
	for n := range all {
		one, err := key.Encrypt("k", []byte("a message of some length"), nil)
		if err != nil {
			return nil, err
		}
		parts := strings.Split(string(one), ".")
		part := 4 // the tag
		if kind != cryptokey.AES256 {
			part = 1 // the encrypted key
		}
		bytes, err := base64.RawURLEncoding.DecodeString(parts[part])
		if err != nil {
			return nil, err
		}
		switch {
		case n%2 == 0:
			bytes[len(bytes)/3*(part%2)] ^= 1 // of what is encapsulated, somewhere in it
		case part == 4:
			bytes[len(bytes)-1] ^= 1
		default:
			other, err := key.Encrypt("k", []byte("another"), nil)
			if err != nil {
				return nil, err
			}
			parts[1] = strings.Split(string(other), ".")[1]
		}
		if n%2 == 0 || part == 4 {
			parts[part] = base64.RawURLEncoding.EncodeToString(bytes)
		}
		if all[n], err = cryptokey.ParseSealed([]byte(strings.Join(parts, "."))); err != nil {
			return nil, err
		}
	}
	return func(n int) error {
		if _, err := key.Decrypt(all[n], nil); !errors.Is(err, cryptokey.ErrNotOpened) {
			return fmt.Errorf("a ciphertext that was changed: %w", err)
		}
		return nil
	}, nil
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
func guessed(ask func(n int) error) (percent float64, err error) {
	least := make([]time.Duration, timedNames)
	for range timedCalls {
		for _, n := range rand.Perm(timedNames) {
			at := time.Now()
			if err := ask(n); err != nil {
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
