package service_test

import (
	"bufio"
	"fmt"
	mathrand "math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"tansu/internal/backup"
	"tansu/internal/core/envelope"
	"tansu/internal/core/recipient"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
	"tansu/internal/opening"
	"tansu/internal/recovery"
	"tansu/internal/service"
	"tansu/internal/store"
)

// A process that turns the root key, adds and ends methods of unlocking, makes backups, rehearses them and restores is killed again and
// again, wherever it happens to be. The chest always opens, by what it was founded with and by each method that was said to be there, and
// by none that was said to be ended; everything in it is as it was stored; each backup that is there is whole; and what was cut off amid
// restoring is no chest. TANSU_KILLS says how often it is killed (make killed).
func TestKilledWhileWhatOpensItChanges(t *testing.T) {
	kills, err := strconv.Atoi(os.Getenv("TANSU_KILLS"))
	if err != nil {
		kills = 5
	}
	home := t.TempDir()
	dir := filepath.Join(home, "chest")
	material, token := foundForKilling(t, dir)
	private := recipientIn(t, home)
	if err := os.Mkdir(filepath.Join(home, "backups"), 0o700); err != nil {
		t.Fatal(err)
	}
	random := mathrand.New(mathrand.NewPCG(uint64(os.Getpid()), 2))
	methods, seen := map[string]string{}, map[string]int{} // material by name
	for range kills {
		for _, line := range killAmidChanges(t, home, material, token, random) {
			what, rest, _ := strings.Cut(line, " ")
			seen[what]++
			if what == "added" {
				words := strings.Fields(rest)
				methods[words[0]] = words[1]
				if len(words) > 2 { // in whose place it is
					delete(methods, words[2])
					seen["ended"]++
				}
			}
		}
		records, err := store.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		s, err := service.New(records, service.Options{})
		if err != nil {
			t.Fatal(err)
		}
		if wrong, err := s.ExamineStopped(t.Context(), secretvalue.FromString(material)); err != nil || len(wrong) > 0 {
			t.Fatalf("examined after a kill: %v, %v", wrong, err)
		}
		there, _, err := records.Slots()
		if err != nil {
			t.Fatal(err)
		}
		ended := map[string]bool{} // by a change that was done, and not said any more
		for name := range methods {
			ended[name] = !slices.ContainsFunc(there, func(slot entity.Slot) bool { return slot.Name == name })
		}
		gone := 0
		for _, is := range ended {
			if is {
				gone++
			}
		}
		if gone > 1 { // the one change in which it was killed
			t.Errorf("%d methods that were said to be there are not", gone)
		}
		for name, content := range methods {
			if ended[name] {
				delete(methods, name)
				continue
			}
			if _, err := s.ExamineStopped(t.Context(), secretvalue.FromString(content)); err != nil {
				t.Errorf("%s was said to open the chest: %v", name, err)
			}
		}
		if err := records.Close(); err != nil {
			t.Fatal(err)
		}
		all, unreadable, err := backup.InDirectory(filepath.Join(home, "backups"))
		if err != nil || len(unreadable) > 0 {
			t.Fatalf("backups: %v, %v", unreadable, err)
		}
		if len(all) == 0 {
			continue
		}
		wanted, err := backup.Newest(all, time.Time{})
		if err != nil {
			t.Fatal(err)
		}
		chain, err := backup.Chain(all, wanted)
		if err != nil {
			t.Fatal(err)
		}
		again := filepath.Join(t.TempDir(), "again")
		_, err = backup.Restore(again, chain, keysOf(private), backup.Outside{}, time.Now())
		if err != nil {
			t.Fatalf("the newest backup: %v", err)
		}
		_ = os.RemoveAll(filepath.Join(home, "restored")) // what was cut off
	}
	for _, what := range []string{"turned", "added", "ended", "backup", "rehearsed", "restored"} {
		if seen[what] == 0 && kills > 10 {
			t.Errorf("nothing was %s in any run", what)
		}
	}
	t.Logf("%d kills: %v", kills, seen)
}

func keysOf(private recipient.Private) func(backup.Header) (backup.Key, error) {
	return func(h backup.Header) (backup.Key, error) { return h.KeyFor(private) }
}

// recipientIn makes a key pair for backups, and writes it where the worker finds it.
func recipientIn(t *testing.T, home string) recipient.Private {
	t.Helper()
	secret, _, err := recipient.New(false)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(home, "backup.key"), secret.Reveal(), 0o600); err != nil {
		t.Fatal(err)
	}
	private, err := recipient.ReadPrivate(secret.Reveal())
	if err != nil {
		t.Fatal(err)
	}
	return private
}

func killAmidChanges(t *testing.T, home, material, token string, random *mathrand.Rand) (acknowledged []string) {
	t.Helper()
	worker := exec.Command(os.Args[0], "-test.run=TestKeeperToBeKilled")
	worker.Env = append(os.Environ(), "TANSU_KEEP_HOME="+home, "TANSU_KILL_MATERIAL="+material, "TANSU_KILL_TOKEN="+token)
	out, err := worker.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := worker.Start(); err != nil {
		t.Fatal(err)
	}
	lines, said := bufio.NewScanner(out), ""
	whenToKill := 1 + random.IntN(12)
	for lines.Scan() {
		if what, is := strings.CutPrefix(lines.Text(), "done "); is {
			acknowledged = append(acknowledged, what)
		} else {
			said += lines.Text() + "\n"
		}
		if len(acknowledged) == whenToKill {
			time.AfterFunc(time.Duration(random.IntN(30_000))*time.Microsecond, func() { _ = worker.Process.Kill() })
		}
	}
	_ = worker.Wait()
	if len(acknowledged) < whenToKill {
		t.Fatalf("the worker ended by itself after %q: %s", acknowledged, said)
	}
	return acknowledged
}

// TestKeeperToBeKilled is the other process; by itself it does nothing.
func TestKeeperToBeKilled(t *testing.T) {
	home := os.Getenv("TANSU_KEEP_HOME")
	if home == "" {
		t.Skip("it is run by TestKilledWhileWhatOpensItChanges")
	}
	content, err := os.ReadFile(filepath.Join(home, "backup.key"))
	must(t, err)
	private, err := recipient.ReadPrivate(content)
	must(t, err)
	dir := filepath.Join(home, "chest")
	to, err := backup.To(filepath.Join(home, "backups"), dir)
	must(t, err)
	records, err := store.Open(dir)
	must(t, err)
	s, err := service.New(records, service.Options{Recovery: recovery.Options{Dir: dir, To: to, Keep: 2, FullEvery: time.Hour,
		Recipients: backup.Recipients{private.Public()}, Scratch: home}})
	must(t, err)
	founding := secretvalue.FromString(os.Getenv("TANSU_KILL_MATERIAL"))
	must(t, s.Unlock(origin, founding))
	steward, err := s.Authenticate(origin, os.Getenv("TANSU_KILL_TOKEN"))
	must(t, err)
	for {
		_, err := s.TurnRoot(steward, founding)
		must(t, err)
		fmt.Println("done turned")
		key := envelope.NewKeyFile(envelope.MethodKeyFile)
		name := fmt.Sprint("m-", time.Now().UnixNano())
		list, err := s.Methods(steward)
		must(t, err)
		n := opening.NewMethod{Name: name, Kind: envelope.MethodKeyFile, Material: key}
		old := ""
		if len(list) > 3 {
			n.Replaces, old = list[1].ID, list[1].Name
		}
		_, err = s.AddMethod(steward, n, founding)
		must(t, err)
		fmt.Printf("done added %s %s %s\n", name, strings.TrimSpace(string(key.Reveal())), old)
		_, err = s.Backup(steward, false)
		must(t, err)
		fmt.Println("done backup")
		done, err := s.Rehearse(steward, 0)
		must(t, err)
		if len(done.Problems) > 0 {
			t.Fatalf("rehearsed: %v", done.Problems)
		}
		fmt.Println("done rehearsed")
		all, _, err := backup.InDirectory(filepath.Join(home, "backups"))
		must(t, err)
		wanted, err := backup.Newest(all, time.Time{})
		must(t, err)
		chain, err := backup.Chain(all, wanted)
		must(t, err)
		again := filepath.Join(home, "restored")
		_, err = backup.Restore(again, chain, keysOf(private), backup.Outside{}, time.Now())
		must(t, err)
		must(t, os.RemoveAll(again))
		fmt.Println("done restored")
	}
}
