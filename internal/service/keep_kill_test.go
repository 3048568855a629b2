package service_test

import (
	"bufio"
	"errors"
	"fmt"
	"math"
	mathrand "math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"tansu/internal/backup"
	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/recipient"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
	"tansu/internal/opening"
	"tansu/internal/recovery"
	"tansu/internal/service"
	"tansu/internal/shelf"
	"tansu/internal/store"
)

// A process that rotates the root key, adds and ends unlock methods, makes backups, rehearses them, restores and archives is killed
// again and again, wherever it happens to be. The chest always opens, by what it was founded with and by each method that was said to be
// there, and by none that was said to be ended; everything in it is as it was stored; each backup that is there is whole; and what was cut
// off amid restoring is no chest, or one that knows that it was restored. TANSU_KILLS says how often it is killed (make killed).
func TestKilledWhileWhatOpensItChanges(t *testing.T) {
	kills, err := strconv.Atoi(os.Getenv("TANSU_KILLS"))
	if err != nil {
		kills = 5
	}
	k := newKept(t, t.TempDir())
	for range kills {
		k.check(t, k.amidChanges(t, func(worker *os.Process) { _ = worker.Kill() }))
	}
	k.conclude(t, kills)
}

// The power is cut: what is left is what was on the disk at an instant, without what only the system's memory had. It takes a file system
// of its own, and so the right to mount one. TANSU_POWER_CUTS says how often it is cut (make killed).
func TestPowerIsCutWhileWhatOpensItChanges(t *testing.T) {
	cuts, err := strconv.Atoi(os.Getenv("TANSU_POWER_CUTS"))
	if err != nil {
		cuts = 3
	}
	disk := mountDisk(t)
	k := newKept(t, disk.at)
	disk.sync(t)
	for range cuts {
		acknowledged := k.amidChanges(t, func(worker *os.Process) {
			_ = worker.Signal(syscall.SIGSTOP) // nothing is written while the disk is copied
			disk.copy()
			_ = worker.Kill()
		})
		disk.boot(t)
		k.check(t, acknowledged)
		disk.sync(t) // what the look at it wrote
	}
	k.conclude(t, cuts)
}

// disk is a file system in a file.
type disk struct {
	at, image, cut string
	failed         error // while it was copied
}

func mountDisk(t *testing.T) *disk {
	t.Helper()
	dir := t.TempDir()
	d := &disk{at: filepath.Join(dir, "at"), image: filepath.Join(dir, "image"), cut: filepath.Join(dir, "cut")}
	file, err := os.OpenFile(d.image, os.O_CREATE|os.O_RDWR, 0o600)
	must(t, err)
	must(t, errors.Join(file.Truncate(192<<20), file.Close(), os.Mkdir(d.at, 0o700)))
	out, err := exec.Command("mkfs.ext4", "-q", "-E", "lazy_itable_init=0,lazy_journal_init=0", d.image).CombinedOutput()
	if err == nil {
		out, err = d.mount()
	}
	if err != nil {
		t.Skipf("no file system of its own can be mounted here, and the process is killed instead by the test before this one: %v %s", err, out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", d.at).Run() })
	return d
}

// mount mounts the image; the file system commits nothing by itself, only what somebody syncs.
func (d *disk) mount() ([]byte, error) {
	out, err := exec.Command("mount", "-o", "loop,commit=3600", d.image, d.at).CombinedOutput()
	return out, errors.Join(err, os.Chmod(d.at, 0o700))
}

func (d *disk) copy() {
	out, err := exec.Command("cp", "--sparse=always", d.image, d.cut).CombinedOutput()
	if err != nil {
		d.failed = fmt.Errorf("copy the disk: %w: %s", err, out)
	}
}

// boot puts what was copied in the place of the disk.
func (d *disk) boot(t *testing.T) {
	t.Helper()
	must(t, d.failed)
	must(t, exec.Command("umount", d.at).Run())
	must(t, os.Rename(d.cut, d.image))
	if out, err := d.mount(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

func (d *disk) sync(t *testing.T) {
	t.Helper()
	must(t, exec.Command("sync", "-f", d.at).Run())
}

// kept is a chest whose keeper is killed.
type kept struct {
	home, dir       string
	material, token string
	private         recipient.Private
	random          *mathrand.Rand
	methods         map[string]string // material by name, of those that were said to be there
	seen            map[string]int
}

func newKept(t *testing.T, home string) *kept {
	t.Helper()
	k := &kept{home: home, dir: filepath.Join(home, "chest"), random: mathrand.New(mathrand.NewPCG(uint64(os.Getpid()), 2)),
		methods: map[string]string{}, seen: map[string]int{}}
	k.material, k.token = foundForKilling(t, k.dir)
	k.private = recipientIn(t, home)
	must(t, os.Mkdir(filepath.Join(home, "backups"), 0o700))
	return k
}

func (k *kept) conclude(t *testing.T, rounds int) {
	t.Helper()
	for _, what := range []string{"turned", "added", "ended", "backup", "rehearsed", "restored", "archived"} {
		if k.seen[what] == 0 && rounds > 10 {
			t.Errorf("nothing was %s in any run", what)
		}
	}
	t.Logf("%d rounds: %v", rounds, k.seen)
}

// check looks at all that a keeper left, who had said that some things were done.
func (k *kept) check(t *testing.T, acknowledged []string) {
	t.Helper()
	for _, line := range acknowledged {
		what, rest, _ := strings.Cut(line, " ")
		k.seen[what]++
		if what == "added" {
			words := strings.Fields(rest)
			k.methods[words[0]] = words[1]
			if len(words) > 2 { // in whose place it is
				delete(k.methods, words[2])
				k.seen["ended"]++
			}
		}
	}
	records, err := store.Open(k.dir)
	must(t, err)
	s, err := service.New(records, service.Options{})
	must(t, err)
	if wrong, err := s.ExamineStopped(t.Context(), secretvalue.FromString(k.material)); err != nil || len(wrong) > 0 {
		t.Fatalf("examined after a kill: %v, %v", wrong, err)
	}
	there, _, err := records.Slots()
	must(t, err)
	gone := 0
	for name, content := range k.methods {
		if !slices.ContainsFunc(there, func(slot entity.Slot) bool { return slot.Name == name }) {
			gone++ // by a change that was done, and not said any more
			delete(k.methods, name)
			continue
		}
		if _, err := s.ExamineStopped(t.Context(), secretvalue.FromString(content)); err != nil {
			t.Errorf("%s was said to open the chest: %v", name, err)
		}
	}
	if gone > 1 { // the one change in which it was killed
		t.Errorf("%d methods that were said to be there are not", gone)
	}
	must(t, records.Close())
	k.checkBackups(t)
	half := filepath.Join(k.home, "restored")
	if records, err := store.Open(half); err == nil {
		restored, err := records.Restored()
		must(t, errors.Join(err, records.Close()))
		if restored == nil {
			t.Error("what was cut off amid restoring is a chest that does not know it")
		}
	}
	must(t, os.RemoveAll(half))
}

// checkBackups restores the newest backup.
func (k *kept) checkBackups(t *testing.T) {
	t.Helper()
	all, unreadable, err := backup.InDirectory(filepath.Join(k.home, "backups"))
	if err != nil || len(unreadable) > 0 {
		t.Fatalf("backups: %v, %v", unreadable, err)
	}
	if len(all) == 0 {
		return
	}
	wanted, err := backup.Newest(all, time.Time{})
	must(t, err)
	chain, err := backup.Chain(all, wanted)
	must(t, err)
	if _, err = backup.Restore(filepath.Join(t.TempDir(), "again"), chain, keysOf(k.private), backup.Outside{}, time.Now()); err != nil {
		t.Fatalf("the newest backup: %v", err)
	}
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

// amidChanges lets a keeper work in a process of its own, and ends it in its way at an instant that is arbitrary on purpose. It returns
// what the keeper had said was done.
func (k *kept) amidChanges(t *testing.T, end func(*os.Process)) (acknowledged []string) {
	t.Helper()
	worker := exec.Command(os.Args[0], "-test.run=TestKeeperToBeKilled")
	worker.Env = append(os.Environ(), "TANSU_KEEP_HOME="+k.home, "TANSU_KILL_MATERIAL="+k.material, "TANSU_KILL_TOKEN="+k.token)
	out, err := worker.StdoutPipe()
	must(t, err)
	must(t, worker.Start())
	lines, said := bufio.NewScanner(out), ""
	ended := make(chan struct{})
	when := 1 + k.random.IntN(14)
	for lines.Scan() {
		if what, is := strings.CutPrefix(lines.Text(), "done "); is {
			acknowledged = append(acknowledged, what)
		} else {
			said += lines.Text() + "\n"
		}
		if len(acknowledged) == when {
			time.AfterFunc(time.Duration(k.random.IntN(30_000))*time.Microsecond, func() {
				end(worker.Process)
				close(ended)
			})
		}
	}
	_ = worker.Wait()
	if len(acknowledged) < when {
		t.Fatalf("the worker ended by itself after %q: %s", acknowledged, said)
	}
	<-ended
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
	ref := reference.Reference{Drawer: "a", Item: "kept"}
	_, _, err = s.CreateItem(steward, ref, shelf.NewItem{}, shelf.NewVersion{Content: secretvalue.FromString("kept")})
	if existing := (*chest.Error)(nil); err != nil && (!errors.As(err, &existing) || existing.Code != chest.Exists) {
		t.Fatal(err)
	}
	for {
		_, err := s.RotateRoot(steward, founding)
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
		for range 11 { // a block of the trail, in four turns
			outcomes, err := s.ReadValues(steward, slices.Repeat([]reference.Reference{ref}, 100))
			must(t, err)
			must(t, outcomes[0].Err)
		}
		_, moved, err := records.ArchiveBefore(math.MaxInt64)
		must(t, err)
		if moved {
			fmt.Println("done archived")
		}
	}
}
