package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

func manifestIn(t *testing.T, needs string) (dir string) {
	t.Helper()
	dir = t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "tansu.yaml"), []byte("manifest: 1\nneeds:\n"+needs), 0o600); err != nil {
		t.Fatal(err)
	}
	return dir
}

// Five thousand values are read in calls of a hundred, handed over, and masked.
func TestRunWithFiveThousandValues(t *testing.T) {
	steward, chest := signedIn(t)
	steward.ok(t, "", "drawer", "add", "many", "--env", "staging")
	var dotenv, needs strings.Builder
	for n := range 5000 {
		fmt.Fprintf(&dotenv, "V%d=value-number-%d-of-many\n", n, n)
		fmt.Fprintf(&needs, "  - { variable: V%d, reference: many/v%d }\n", n, n)
	}
	file := filepath.Join(t.TempDir(), "env")
	if err := os.WriteFile(file, []byte(dotenv.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	steward.ok(t, "", "import", "many", file, "--format", "dotenv")
	u := asApp(t, steward, chest)
	steward.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "many/**")
	dir := manifestIn(t, needs.String())
	if r := u.in(t, dir, "", "preflight"); r.code != 0 || !strings.Contains(r.out, "All 5000 would be served") {
		t.Fatalf("preflight: exit %d, %.300s", r.code, r.talk)
	}
	r := u.in(t, dir, "", "run", "--", "sh", "-c", `env | grep -c '^V[0-9]*=value-number'; echo "$V4999"`)
	if r.code != 0 || r.out != "5000\n[masked: many/v4999@1]\n" {
		t.Errorf("exit %d: %.300s%.300s", r.code, r.out, r.talk)
	}
	if err := os.WriteFile(filepath.Join(dir, "tansu.yaml"),
		[]byte("manifest: 1\nneeds:\n"+needs.String()+"  - { variable: ONE_MORE, reference: many/v0 }\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := u.in(t, dir, "", "run", "--", "true"); r.code != 2 || !strings.Contains(r.talk, "more than 5000") {
		t.Errorf("one more: exit %d, %.300s", r.code, r.talk)
	}
}

// A value that is larger than a pipe goes through one, and a program that does not want it hangs nobody.
func TestRunHandsOverMoreThanAPipeHolds(t *testing.T) {
	steward, chest := signedIn(t)
	chest.Fill(t, "d", "large", strings.Repeat("0123456789abcdef", 15<<10)) // 240 KiB; a pipe holds 64
	u := asApp(t, steward, chest)
	steward.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "d/**")
	dir := manifestIn(t, "  - { stdin: true, reference: d/large }\n")
	if r := u.in(t, dir, "", "run", "--", "sh", "-c", "wc -c | tr -d ' '"); r.code != 0 || r.out != "245760\n" {
		t.Errorf("%+v", r)
	}
	if r := u.in(t, dir, "", "run", "--", "sh", "-c", "head -c 3; exit 4"); r.code != 4 {
		t.Errorf("a program that reads a little: exit %d, %.200s", r.code, r.talk)
	}
	if r := u.in(t, dir, "", "run", "--", "sh", "-c", "exit 5"); r.code != 5 {
		t.Errorf("a program that reads nothing: exit %d, %.200s", r.code, r.talk)
	}
}

// A chest that is locked or away starts nothing, and says which of the two it is. What runs already is not disturbed by that, nor by
// a grant that ends.
func TestRunWhileTheChestIsLockedOrAway(t *testing.T) {
	steward, chest := signedIn(t)
	chest.Fill(t, "d", "i", "four")
	u := asApp(t, steward, chest)
	var given struct {
		Grant struct{ ID string } `json:"grant"`
	}
	decode(t, steward.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "d/**", "-o", "json"), &given)
	dir := manifestIn(t, "  - { variable: V, reference: d/i }\n")
	started, goOn := filepath.Join(dir, "started"), filepath.Join(dir, "go-on")
	for _, fifo := range []string{started, goOn} {
		if err := syscall.Mkfifo(fifo, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	t.Chdir(dir)
	over := make(chan result, 1)
	go func() {
		over <- u.run(t, "", "run", "--on-change", "restart", "--", "sh", "-c", `echo ${#V} > started; cat go-on; exit 8`)
	}()
	if first, err := os.ReadFile(started); err != nil || string(first) != "4\n" {
		t.Fatalf("%q, %v", first, err)
	}
	steward.ok(t, "", "grant", "end", given.Grant.ID)
	touched := filepath.Join(dir, "touched")
	if r := u.run(t, "", "run", "--", "touch", touched); r.code != 3 {
		t.Errorf("without a grant: %+v", r)
	}
	steward.ok(t, "", "lock")
	if r := u.run(t, "", "run", "--wait", "1s", "--", "touch", touched); r.code != 6 || !strings.Contains(r.talk, "locked") {
		t.Errorf("locked: %+v", r)
	}
	if err := chest.Stop(); err != nil {
		t.Fatal(err)
	}
	if r := u.run(t, "", "run", "--wait", "1s", "--", "touch", touched); r.code != 6 || !strings.Contains(r.talk, "no answer") {
		t.Errorf("away: %+v", r)
	}
	if _, err := os.Stat(touched); err == nil {
		t.Error("a program was started without its value")
	}
	if err := os.WriteFile(goOn, []byte("done\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := <-over; r.code != 8 || r.out != "done\n" || !strings.Contains(r.talk, "is not served any more") {
		t.Errorf("what ran already: %+v", r)
	}
}
