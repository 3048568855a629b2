package service_test

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/importfile"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/opening"
	"tansu/internal/people"
	"tansu/internal/rights"
	"tansu/internal/service"
	"tansu/internal/shelf"
	"tansu/internal/store"
)

// A process that imports, moves, shreds and rotates keys is killed again and again, wherever it happens to be. Whatever
// it had said was done is there afterwards, each import is there whole or not at all, each item is in one place with a
// value that opens, and the file is as Tansu stored it.
func TestKilledAtAnyInstantEachItemIsWhole(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "chest")
	material, token := foundForKilling(t, dir)
	random := rand.New(rand.NewPCG(uint64(os.Getpid()), 1))
	next := 0
	seen := map[string]int{}
	for range 10 {
		acknowledged := runAndKill(t, dir, material, token, next, random)
		for _, line := range acknowledged {
			what, number, _ := strings.Cut(line, " ")
			seen[what]++
			n, _ := strconv.Atoi(number)
			next = max(next, n)
		}
		next += 2 // the turn in which it was killed, which may be one that it had said nothing of, is not repeated
		survey(t, dir, material, token, acknowledged)
	}
	for _, what := range []string{"imported", "moved", "shredded", "rotated"} {
		if seen[what] == 0 {
			t.Errorf("nothing was %s in any run", what)
		}
	}
}

// inTurn is how many items one import has.
const inTurn = 12

func foundForKilling(t *testing.T, dir string) (material, token string) {
	t.Helper()
	records, err := store.Create(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = records.Close() }()
	key := envelope.NewKeyFile(envelope.MethodKeyFile)
	material = string(key.Reveal())
	founded, err := opening.Found(records, opening.Founding{Method: envelope.MethodKeyFile, Material: key, Hosts: []string{"localhost"}})
	if err != nil {
		t.Fatal(err)
	}
	s, err := service.New(records, service.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Unlock(origin, secretvalue.FromString(material)); err != nil {
		t.Fatal(err)
	}
	session, err := s.Enrol(origin, string(founded.Enrolment.Reveal()), secretvalue.FromString("a password for tests"), people.ViaCLI)
	if err != nil {
		t.Fatal(err)
	}
	token = string(session.Token.Reveal())
	steward, err := s.Authenticate(origin, token)
	if err != nil {
		t.Fatal(err)
	}
	for _, drawer := range []string{"a", "b"} {
		if _, err := s.CreateDrawer(steward, shelf.NewDrawer{Name: drawer, Environment: "staging"}); err != nil {
			t.Fatal(err)
		}
	}
	if _, _, err := s.Give(steward, rights.NewGrant{Subject: "person:steward", Role: "consumer", Scope: "**"}); err != nil {
		t.Fatal(err)
	}
	return material, token
}

// runAndKill runs the worker in a process of its own and kills it; it returns what the worker had said was done.
func runAndKill(t *testing.T, dir, material, token string, first int, random *rand.Rand) (acknowledged []string) {
	t.Helper()
	worker := exec.Command(os.Args[0], "-test.run=TestWorkerToBeKilled")
	worker.Env = append(os.Environ(), "TANSU_KILL_DIR="+dir, "TANSU_KILL_MATERIAL="+material, "TANSU_KILL_TOKEN="+token,
		"TANSU_KILL_FIRST="+strconv.Itoa(first))
	out, err := worker.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := worker.Start(); err != nil {
		t.Fatal(err)
	}
	lines, said := bufio.NewScanner(out), ""
	whenToKill := 4 + random.IntN(12)
	for lines.Scan() {
		if what, is := strings.CutPrefix(lines.Text(), "done "); is {
			acknowledged = append(acknowledged, what)
		} else {
			said += lines.Text() + "\n"
		}
		if len(acknowledged) == whenToKill {
			// Somewhere in what comes next: the moment is arbitrary on purpose, and nothing depends on which one it is.
			time.AfterFunc(time.Duration(random.IntN(15_000))*time.Microsecond, func() { _ = worker.Process.Kill() })
		}
	}
	_ = worker.Wait()
	if len(acknowledged) < whenToKill {
		t.Fatalf("the worker ended by itself after %q: %s", acknowledged, said)
	}
	return acknowledged
}

// TestWorkerToBeKilled is the other process; by itself it does nothing.
func TestWorkerToBeKilled(t *testing.T) {
	dir := os.Getenv("TANSU_KILL_DIR")
	if dir == "" {
		t.Skip("it is run by TestKilledAtAnyInstantEachItemIsWhole")
	}
	s, steward, _ := reopen(t, dir, os.Getenv("TANSU_KILL_MATERIAL"), os.Getenv("TANSU_KILL_TOKEN"))
	first, _ := strconv.Atoi(os.Getenv("TANSU_KILL_FIRST"))
	must := func(err error) {
		if err != nil {
			t.Fatal(err)
		}
	}
	for n := first; ; n++ {
		var file strings.Builder
		for i := range inTurn {
			fmt.Fprintf(&file, "T%04d_%02d=value %d\n", n, i, i)
		}
		report, err := s.Import(steward, "a", shelf.NewImport{Format: importfile.Dotenv, Content: secretvalue.FromString(file.String())})
		must(err)
		if !report.Done {
			t.Fatalf("%+v", report)
		}
		fmt.Printf("done imported %d\n", n)
		_, err = s.Move(steward, itemOfTurn("a", n, 0), shelf.NewPlace{To: itemOfTurn("b", n, 0)})
		must(err)
		fmt.Printf("done moved %d\n", n)
		doomed := itemOfTurn("a", n, 1)
		_, _, err = s.Act(steward, doomed, lifecycle.Retire, "")
		must(err)
		_, _, err = s.Act(steward, doomed, lifecycle.Shred, doomed.String())
		must(err)
		fmt.Printf("done shredded %d\n", n)
		for done := false; !done; {
			r, err := s.RotateKey(steward, "a", nil, 0)
			must(err)
			done = r.Done
		}
		fmt.Printf("done rotated %d\n", n)
	}
}

func itemOfTurn(drawer string, turn, i int) reference.Reference {
	return reference.Reference{Drawer: drawer, Item: fmt.Sprintf("t%04d-%02d", turn, i)}
}

func reopen(t *testing.T, dir, material, token string) (*service.Service, chest.Caller, *store.Store) {
	t.Helper()
	records, err := store.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = records.Close() })
	s, err := service.New(records, service.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Unlock(origin, secretvalue.FromString(material)); err != nil {
		t.Fatal(err)
	}
	steward, err := s.Authenticate(origin, token)
	if err != nil {
		t.Fatal(err)
	}
	return s, steward, records
}

// survey opens what a killed process left behind and looks at every item.
func survey(t *testing.T, dir, material, token string, acknowledged []string) {
	t.Helper()
	s, steward, records := reopen(t, dir, material, token)
	there := map[string]bool{}
	turns := map[string]int{}
	for _, drawer := range []string{"a", "b"} {
		page, err := s.Drawer(steward, drawer, shelf.WithRetired, "", 100_000)
		if err != nil {
			t.Fatal(err)
		}
		for _, it := range page.Items {
			there[it.Reference] = true
			turns[it.Name[:5]]++
			if !it.RetiredAt.IsZero() {
				continue // on its way to be shredded
			}
			ref := reference.Reference{Drawer: drawer, Item: it.Name}
			i, _ := strconv.Atoi(it.Name[6:])
			served, err := s.ReadValue(steward, ref)
			if want := fmt.Sprintf("value %d", i); err != nil || string(served.Content.Reveal()) != want {
				t.Fatalf("%s: %q, %v", ref, served.Content.Reveal(), err)
			}
		}
	}
	for turn, count := range turns {
		if count != inTurn && count != inTurn-1 {
			t.Errorf("%d of the %d items of %s are there", count, inTurn, turn)
		}
	}
	for _, line := range acknowledged {
		what, number, _ := strings.Cut(line, " ")
		n, _ := strconv.Atoi(number)
		switch {
		case what == "imported" && !there[itemOfTurn("a", n, 2).String()],
			what == "moved" && (there[itemOfTurn("a", n, 0).String()] || !there[itemOfTurn("b", n, 0).String()]),
			what == "shredded" && there[itemOfTurn("a", n, 1).String()]:
			t.Errorf("%s was acknowledged and is not so", line)
		}
	}
	s.Stop()
	if err := records.Close(); err != nil {
		t.Fatal(err)
	}
}
