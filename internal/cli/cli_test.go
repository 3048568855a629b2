package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"

	"tansu/client"
	"tansu/internal/chesttest"
)

// program is the real binary, built once.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "tansu-cli-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "tansu")
	for name, cgo := range map[string]string{"tansu": "CGO_ENABLED=0", "tansu-hardware": "CGO_ENABLED=1"} {
		build := exec.Command("go", "build", "-o", filepath.Join(dir, name), "tansu/cmd/"+name)
		build.Env = append(os.Environ(), cgo)
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
			os.Exit(1)
		}
	}
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// user runs commands with profiles of their own.
type user struct{ home string }

type result struct {
	out, talk string
	code      int
}

func (u user) command(arguments ...string) *exec.Cmd {
	c := exec.Command(program, arguments...)
	c.Env = append(os.Environ(), "TANSU_HOME="+u.home, "TANSU_PROFILE=", "NO_COLOR=1")
	return c
}

func (u user) run(t *testing.T, stdin string, arguments ...string) result {
	t.Helper()
	c := u.command(arguments...)
	var out, talk bytes.Buffer
	c.Stdin, c.Stdout, c.Stderr = strings.NewReader(stdin), &out, &talk
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{out.String(), talk.String(), c.ProcessState.ExitCode()}
}

// ok runs a command that must succeed and returns its data.
func (u user) ok(t *testing.T, stdin string, arguments ...string) string {
	t.Helper()
	r := u.run(t, stdin, arguments...)
	if r.code != 0 {
		t.Fatalf("tansu %s: exit %d: %s%s", strings.Join(arguments, " "), r.code, r.out, r.talk)
	}
	return r.out
}

// serve starts the program as a service and returns its address once it says that it serves.
func (u user) serve(t *testing.T, arguments ...string) (address string, process *exec.Cmd) {
	t.Helper()
	c := u.command(append([]string{"serve", "--listen", "127.0.0.1:0", "--log", "json"}, arguments...)...)
	log, err := c.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	decoder := json.NewDecoder(log)
	for {
		var line struct{ Msg, Address string }
		if err := decoder.Decode(&line); err != nil {
			t.Fatalf("the service ended before it served: %v", err)
		}
		if line.Msg == "serving" {
			go func() { _, _ = io.Copy(io.Discard, io.MultiReader(decoder.Buffered(), log)) }()
			return line.Address, c
		}
	}
}

const passphrase = "nine ferries and four harbours"

// The path of somebody who starts from nothing, with a passphrase.
func TestFromAnEmptyDirectoryToAnAuditedRead(t *testing.T) {
	u := user{t.TempDir()}
	dir := filepath.Join(t.TempDir(), "chest")
	var founded struct {
		Fingerprint, Authority, Person string
		Code                           string `json:"enrolment_code"`
	}
	decode(t, u.ok(t, passphrase+"\n", "init", "--dir", dir, "-o", "json"), &founded)
	if r := u.run(t, passphrase+"\n", "init", "--dir", dir); r.code != 1 || !strings.Contains(r.talk, "already holds a chest") {
		t.Errorf("a second initialisation: %d %s", r.code, r.talk)
	}
	address, _ := u.serve(t, "--dir", dir)
	if r := u.run(t, "", "connect", address, "--fingerprint", strings.Repeat("0", 64)); r.code != 3 {
		t.Errorf("a wrong fingerprint: %d %s", r.code, r.talk)
	}
	u.ok(t, "", "connect", address, "--fingerprint", founded.Fingerprint)
	if r := u.run(t, "nothing that opens it\n", "unlock"); r.code != 3 || strings.Contains(r.talk, "nothing that") ||
		!strings.Contains(r.talk, "wrong passphrase") {
		t.Errorf("a wrong passphrase: %d %s", r.code, r.talk)
	}
	if r := u.run(t, founded.Code+"\n"+chesttest.Password+"\n", "enrol"); r.code != 6 {
		t.Errorf("enrolling at a locked chest: %d %s", r.code, r.talk)
	}
	u.ok(t, passphrase+"\n", "unlock")
	u.ok(t, founded.Code+"\n"+chesttest.Password+"\n", "enrol")
	u.ok(t, "", "drawer", "add", "ticketing-prod", "--env", "production")
	u.ok(t, "first\n", "put", "ticketing-prod/db-password")
	file := filepath.Join(t.TempDir(), "value")
	if err := os.WriteFile(file, []byte("second\x00bytes"), 0o600); err != nil {
		t.Fatal(err)
	}
	u.ok(t, "", "put", "ticketing-prod/db-password", "--new-version", "--file", file, "--note", "rotated")
	var app client.Registered
	decode(t, u.ok(t, "", "app", "add", "ticket-api", "-o", "json"), &app)
	u.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "ticketing-prod/**")

	a := user{t.TempDir()}
	a.ok(t, "", "connect", address, "--authority", filepath.Join(dir, "authority.crt"))
	a.ok(t, app.Credential.Secret+"\n", "sign-in", "app:ticket-api")
	if got := a.ok(t, "", "read", "ticketing-prod/db-password"); got != "second\x00bytes" {
		t.Errorf("current: %q", got)
	}
	if got := a.ok(t, "", "read", "tansu:ticketing-prod/db-password@1"); got != "first\n" {
		t.Errorf("version 1: %q", got)
	}
	if r := a.run(t, "", "check", "ticketing-prod/db-password@1"); r.code != 0 || strings.Contains(r.out+r.talk, "first") ||
		!strings.Contains(r.out, "6 bytes") {
		t.Errorf("check: %d %s%s", r.code, r.out, r.talk)
	}
	refused := a.run(t, "", "read", "fuel-billing-prod/ledger")
	receipt := regexp.MustCompile(`receipt\s+(\w+)`).FindStringSubmatch(refused.talk)
	if refused.code != 3 || refused.out != "" || receipt == nil {
		t.Fatalf("refused: %d %q %s", refused.code, refused.out, refused.talk)
	}
	if got := u.ok(t, "", "refusals"); !strings.Contains(got, "fuel-billing-prod/ledger") {
		t.Errorf("refusals: %s", got)
	}
	if got := u.ok(t, "", "receipt", receipt[1]); !strings.Contains(got,
		"tansu grant give app:ticket-api consumer 'fuel-billing-prod/ledger'") {
		t.Errorf("receipt: %s", got)
	}
	if got := u.ok(t, "", "grant", "for", receipt[1], "--until", "7d"); !strings.Contains(got,
		"app:ticket-api consumer on fuel-billing-prod/ledger, ends in 7 days") {
		t.Errorf("grant for: %s", got)
	}
	if r := u.run(t, "", "grant", "for", receipt[1]); r.code != 1 || !strings.Contains(r.talk, "nothing to give") {
		t.Errorf("grant for, again: exit %d: %s", r.code, r.talk)
	}
	history := u.ok(t, "", "history", "ticketing-prod/db-password")
	if !strings.Contains(history, "rotated") || !strings.Contains(history, "6 (newline)") || strings.Contains(history, "first\n") {
		t.Errorf("history: %s", history)
	}
	trail := u.ok(t, "", "trail", "--subject", "app:ticket-api", "--action", "read_value")
	if strings.Count(trail, "allowed") != 3 || strings.Count(trail, "refused") != 1 {
		t.Errorf("trail: %s", trail)
	}
}

func decode(t *testing.T, text string, into any) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), into); err != nil {
		t.Fatalf("%v in %s", err, text)
	}
}

// signedIn makes a user of a new chest who is the steward.
func signedIn(t *testing.T) (user, *chesttest.Chest) {
	t.Helper()
	chest := chesttest.Start(t)
	u := user{t.TempDir()}
	u.ok(t, "", "connect", chest.URL(), "--authority", filepath.Join(chest.Dir, "chest", "authority.crt"))
	u.ok(t, chesttest.Password+"\n", "sign-in", "steward")
	return u, chest
}

func TestExitCodesTellScriptsWhatHappened(t *testing.T) {
	u, chest := signedIn(t)
	chest.Fill(t, "ticketing-prod", "db-password", "v")
	nobody := user{t.TempDir()}
	for _, c := range []struct {
		name, stdin string
		u           user
		arguments   string
		code        int
		says        string
	}{
		{"help", "", u, "--help", 0, ""},
		{"unknown command", "", u, "fetch x", 2, "unknown command"},
		{"unknown subcommand", "", u, "grant frob", 2, "has no command"},
		{"unknown flag", "", u, "list --colour", 2, "unknown flag"},
		{"argument missing", "", u, "read", 2, "DRAWER/ITEM is missing"},
		{"another output", "", u, "list -o xml", 2, "allowed: table, json"},
		{"reference without a drawer", "", u, "read db-password", 2, "drawer/item"},
		{"version to put", "v", u, "put ticketing-prod/x@3", 2, "leave out @3"},
		{"bad duration", "v", u, "put ticketing-prod/x --not-after soon", 2, "12h"},
		{"empty value", "", u, "put ticketing-prod/x", 2, "value is empty"},
		{"value too large", strings.Repeat("x", 256<<10+1), u, "put ticketing-prod/x", 2, "more than 262144 bytes"},
		{"bad environment", "", u, "drawer add x --env prod", 2, "production"},
		{"not connected", "", nobody, "list", 2, "not connected"},
		{"refused", "", u, "read ticketing-prod/db-password", 3, "remedy"},
		{"nothing there", "", u, "history ticketing-prod/db-pasword", 4, "did you mean ticketing-prod/db-password?"},
		{"asked, and no", "", u, "ask may person:steward read_value ticketing-prod/db-password -o json", 3, ""},
		{"asked about nobody", "", u, "ask may person:stewart list ticketing-prod", 2, "did you mean person:steward?"},
		{"asked about no action", "", u, "ask may person:steward fetch ticketing-prod", 2, "is not an action"},
		{"exists", "v", u, "put ticketing-prod/db-password", 5, "exists already"},
		{"stale", "v", u, "put ticketing-prod/db-password --new-version --if-revision 7", 5, "revision"},
		{"nobody there", "", nobody, "connect http://127.0.0.1:1", 6, "no answer"},
		{"profile misspelt", "", u, "list --profile defualt", 2, "did you mean default?"},
	} {
		r := c.u.run(t, c.stdin, strings.Fields(c.arguments)...)
		if r.code != c.code || !strings.Contains(r.talk, c.says) || c.code != 0 && r.out != "" && c.says != "" {
			t.Errorf("%s: exit %d, data %q, talk %q; want exit %d and %q", c.name, r.code, r.out, r.talk, c.code, c.says)
		}
	}
}

func TestAValueAsAnArgumentIsRefusedAndNotRepeated(t *testing.T) {
	u, chest := signedIn(t)
	chest.Fill(t, "d", "i", "v")
	r := u.run(t, "", "put", "d/new", "hunter2-as-argument")
	if r.code != 2 || strings.Contains(r.talk, "hunter2") || !strings.Contains(r.talk, "never an argument") {
		t.Errorf("exit %d: %s", r.code, r.talk)
	}
}

func TestEveryCommandSpeaksJSON(t *testing.T) {
	u, chest := signedIn(t)
	chest.Fill(t, "d", "i", "v")
	for _, arguments := range []string{
		"status", "whoami", "list", "list d", "history d/i", "person list", "person add x", "person show x", "person suspend x",
		"person resume x",
		"team add z", "team join z person:x", "team show z", "team leave z person:x", "team list", "app add y", "app list",
		"app new-credential y", "roles", "refusals", "ask who d/i", "ask what person:steward", "ask may person:steward list d",
		"grant give app:y consumer d/**", "grant list", "trail", "describe d --description text",
		"describe d/i --description text",
	} {
		var data any
		decode(t, u.ok(t, "", append(strings.Fields(arguments), "-o", "json")...), &data)
	}
	r := u.run(t, "", "read", "d/i", "-o", "json")
	var problem client.Problem
	decode(t, r.talk, &problem)
	if r.code != 3 || r.out != "" || problem.Code != "refused" || problem.Remedy == nil {
		t.Errorf("a refusal: exit %d, data %q, %+v", r.code, r.out, problem)
	}
}

func TestTokensAreKeptForTheirOwnerAlone(t *testing.T) {
	u, _ := signedIn(t)
	file := filepath.Join(u.home, "profiles.json")
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if r := u.run(t, "", "whoami"); r.code != 1 || !strings.Contains(r.talk, "chmod 0600") {
		t.Errorf("exit %d: %s", r.code, r.talk)
	}
	if err := os.Chmod(file, 0o600); err != nil {
		t.Fatal(err)
	}
	u.ok(t, "", "sign-out")
	if content, err := os.ReadFile(file); err != nil || bytes.Contains(content, []byte("tansu_person_")) {
		t.Errorf("the token is still kept after signing out, %v", err)
	}
	if r := u.run(t, "", "whoami"); r.code != 3 {
		t.Errorf("signed out: exit %d", r.code)
	}
}

func TestClosedStandardInputIsSaid(t *testing.T) {
	u, chest := signedIn(t)
	chest.Fill(t, "d", "i", "v")
	for _, arguments := range []string{"put d/new", "sign-in steward", "unlock"} {
		shell := exec.Command("sh", "-c", `exec "$0" "$@" <&-`)
		shell.Args = append(shell.Args, append([]string{program}, strings.Fields(arguments)...)...)
		shell.Env = u.command().Env
		out, err := shell.CombinedOutput()
		if err == nil || shell.ProcessState.ExitCode() != 2 || !strings.Contains(string(out), "standard input is closed") &&
			!strings.Contains(string(out), "is empty") {
			t.Errorf("%s: exit %d: %s", arguments, shell.ProcessState.ExitCode(), out)
		}
	}
}

// terminal runs a command in a terminal of its own.
func (u user) terminal(t *testing.T, arguments ...string) (*os.File, *exec.Cmd, func(string) string) {
	t.Helper()
	c := u.command(arguments...)
	screen, err := pty.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = screen.Close(); _ = c.Process.Kill() })
	var seen strings.Builder
	until := func(text string) string { // reads until the text is on the screen
		t.Helper()
		if err := screen.SetReadDeadline(time.Now().Add(20 * time.Second)); err != nil {
			t.Fatal(err)
		}
		buffer := make([]byte, 1024)
		for !strings.Contains(seen.String(), text) {
			n, err := screen.Read(buffer)
			seen.Write(buffer[:n])
			if err != nil {
				t.Fatalf("%q did not appear: %v: %s", text, err, seen.String())
			}
		}
		return seen.String()
	}
	return screen, c, until
}

// An initialisation that is given up at the prompt must leave nothing that stands in the way of the next one.
func TestInitialisationGivenUpLeavesNothing(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "chest")
	screen, c, until := user{t.TempDir()}.terminal(t, "init", "--dir", dir)
	until("Passphrase: ")
	fmt.Fprint(screen, "\x03")
	until("nothing was done")
	_ = c.Wait()
	if _, err := os.Stat(dir); c.ProcessState.ExitCode() != 130 || !errors.Is(err, os.ErrNotExist) {
		t.Errorf("exit %d, %v", c.ProcessState.ExitCode(), err)
	}
	if r := (user{t.TempDir()}).run(t, "too short\n", "init", "--dir", dir); r.code == 0 || !strings.Contains(r.talk, "at least 12") {
		t.Errorf("a short passphrase: exit %d: %s", r.code, r.talk)
	}
	if _, err := os.Stat(dir); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("after a short passphrase something is left: %v", err)
	}
}

// A value on a terminal must not be able to move the cursor or change what was printed before it.
func TestValueWithControlCharactersIsKeptFromTheTerminal(t *testing.T) {
	u, chest := signedIn(t)
	chest.Fill(t, "d", "escape", "\x1b[2Jgone")
	chest.Fill(t, "d", "plain", "two\nlines")
	if _, err := chest.Client(t, chest.Steward).Give(context.Background(),
		client.NewGrant{Subject: "person:steward", Role: "consumer", Scope: "d/**"}); err != nil {
		t.Fatal(err)
	}
	_, c, until := u.terminal(t, "read", "d/escape")
	if shown := until("send it to a file"); strings.Contains(shown, "gone") {
		t.Errorf("the terminal got %q", shown)
	}
	_ = c.Wait()
	_, _, until = u.terminal(t, "read", "d/plain")
	until("lines")
	if got := u.ok(t, "", "read", "d/escape"); got != "\x1b[2Jgone" {
		t.Errorf("into a pipe: %q", got)
	}
}

func TestHiddenPromptHidesComparesAndStores(t *testing.T) {
	u, chest := signedIn(t)
	chest.Fill(t, "d", "i", "v")
	screen, c, until := u.terminal(t, "put", "d/typed")
	until("Value: ")
	fmt.Fprint(screen, "typed-secret\r")
	until("Value again: ")
	fmt.Fprint(screen, "typed-secret\r")
	if shown := until("is stored: 12 bytes"); strings.Contains(shown, "typed-secret") {
		t.Errorf("the terminal shows the value: %q", shown)
	}
	if err := c.Wait(); err != nil {
		t.Error(err)
	}
	screen, c, until = u.terminal(t, "put", "d/mistyped")
	until("Value: ")
	fmt.Fprint(screen, "one\r")
	until("Value again: ")
	fmt.Fprint(screen, "two\r")
	until("do not match")
	if _ = c.Wait(); c.ProcessState.ExitCode() != 2 {
		t.Errorf("exit %d", c.ProcessState.ExitCode())
	}
}

// Ctrl-C at a hidden prompt must give the terminal back as it was, or the next thing typed would not be seen.
func TestInterruptAtAHiddenPromptGivesTheTerminalBack(t *testing.T) {
	u, chest := signedIn(t)
	chest.Fill(t, "d", "i", "v")
	shell := exec.Command("sh", "-c", `trap : INT; "$0" put d/new; echo "exit $?"; stty -a | grep -o -- '-\?echo\b'; echo finished`, program)
	shell.Env = u.command().Env
	screen, err := pty.Start(shell)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = screen.Close() }()
	var seen strings.Builder
	buffer := make([]byte, 1024)
	interrupted := false
	for !strings.Contains(seen.String(), "finished") {
		n, err := screen.Read(buffer)
		seen.Write(buffer[:n])
		if err != nil {
			break
		}
		if !interrupted && strings.Contains(seen.String(), "Value: ") {
			interrupted = true
			fmt.Fprint(screen, "half\x03")
		}
	}
	_ = shell.Wait()
	if got := seen.String(); !strings.Contains(got, "exit 130") || strings.Contains(got, "-echo") ||
		!strings.Contains(got, "nothing was done") || strings.Contains(got, "half") {
		t.Errorf("got %q", got)
	}
}

// kill -9 at any instant: what was acknowledged is there, and every value that came out is in the trail.
func TestKilledServiceLosesNothingThatWasAcknowledged(t *testing.T) {
	u := user{t.TempDir()}
	base := t.TempDir()
	dir, key := filepath.Join(base, "chest"), filepath.Join(base, "key")
	var founded struct {
		Code string `json:"enrolment_code"`
	}
	decode(t, u.ok(t, "", "init", "--dir", dir, "--key-file", key, "-o", "json"), &founded)
	connect := func(address, token string) *client.Client {
		authority, err := os.ReadFile(filepath.Join(dir, "authority.crt"))
		if err != nil {
			t.Fatal(err)
		}
		c, err := client.New(client.Options{Address: address, Authority: authority, Token: token})
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	ctx := context.Background()
	address, process := u.serve(t, "--dir", dir, "--key-file", key)
	session, err := connect(address, "").Enrol(ctx, founded.Code, chesttest.Password)
	if err != nil {
		t.Fatal(err)
	}
	c := connect(address, session.Token)
	if _, err := c.CreateDrawer(ctx, client.NewDrawer{Name: "d", Environment: "staging"}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Give(ctx, client.NewGrant{Subject: "person:steward", Role: "consumer", Scope: "d/**"}); err != nil {
		t.Fatal(err)
	}
	var stored, reads int
	for n := 0; ; n++ {
		if n == 60 {
			go func() { _ = process.Process.Signal(syscall.SIGKILL) }() // some time during what follows
		}
		if _, err := c.CreateItem(ctx, "d", client.NewItem{Name: fmt.Sprintf("i%d", n),
			Version: client.Content(fmt.Append(nil, "value ", n))}); err != nil {
			break
		}
		stored++
		if _, _, err := c.Read(ctx, fmt.Sprintf("d/i%d", n)); err != nil {
			break
		}
		reads++
	}
	_ = process.Wait()
	address, _ = u.serve(t, "--dir", dir, "--key-file", key)
	c = connect(address, session.Token)
	page, err := c.Trail(ctx, client.TrailFilter{Action: "read_value", Limit: 500})
	if err != nil || len(page.Entries) < reads {
		t.Errorf("%d reads are in the trail, %d values came out, %v", len(page.Entries), reads, err)
	}
	for n := range stored {
		if got, _, err := c.Read(ctx, fmt.Sprintf("d/i%d", n)); err != nil || string(got) != fmt.Sprintf("value %d", n) {
			t.Errorf("item %d of %d: %q, %v", n, stored, got, err)
		}
	}
	if stored < 60 {
		t.Errorf("only %d items before the kill", stored)
	}
}

func TestServiceEndsCleanlyWhenTold(t *testing.T) {
	u := user{t.TempDir()}
	base := t.TempDir()
	u.ok(t, "", "init", "--dir", filepath.Join(base, "chest"), "--key-file", filepath.Join(base, "key"))
	_, process := u.serve(t, "--dir", filepath.Join(base, "chest"))
	second := u.run(t, "", "serve", "--dir", filepath.Join(base, "chest"))
	if second.code != 1 || !strings.Contains(second.talk, "in use by another Tansu process") {
		t.Errorf("a second service: exit %d: %s", second.code, second.talk)
	}
	if err := process.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := process.Wait(); err != nil {
		t.Errorf("got %v, want exit 0", err)
	}
}

func TestReadOnlyDirectoryIsSaid(t *testing.T) {
	u := user{t.TempDir()}
	base := t.TempDir()
	dir := filepath.Join(base, "chest")
	u.ok(t, "", "init", "--dir", dir, "--key-file", filepath.Join(base, "key"))
	if os.Geteuid() == 0 { // who is not held back by modes needs a disk that is
		if err := syscall.Mount(base, base, "", syscall.MS_BIND, ""); err != nil {
			t.Skipf("mounting is not allowed here: %v", err)
		}
		defer func() { _ = syscall.Unmount(base, syscall.MNT_DETACH) }()
		if err := syscall.Mount("", base, "", syscall.MS_REMOUNT|syscall.MS_BIND|syscall.MS_RDONLY, ""); err != nil {
			t.Skipf("mounting is not allowed here: %v", err)
		}
	} else {
		if err := os.Chmod(dir, 0o500); err != nil {
			t.Fatal(err)
		}
		defer func() { _ = os.Chmod(dir, 0o700) }()
	}
	r := u.run(t, "", "serve", "--dir", dir)
	if r.code != 1 || !strings.Contains(r.talk, "not writable") {
		t.Errorf("exit %d: %s", r.code, r.talk)
	}
}

// Tools and wrappers must be able to trust that demo --story fails when anything in it does.
func TestDemoTellsItsStory(t *testing.T) {
	u := user{t.TempDir()}
	out := u.ok(t, "", "demo", "--story")
	if !strings.Contains(out, "All 17 steps did what they say.") {
		t.Errorf("got %s", out)
	}
	full := t.TempDir()
	if err := os.WriteFile(filepath.Join(full, "mine"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if r := u.run(t, "", "demo", "--dir", full); r.code != 2 {
		t.Errorf("a directory with something in it: exit %d: %s", r.code, r.talk)
	}
	if _, err := os.Stat(filepath.Join(full, "mine")); err != nil {
		t.Errorf("the demo removed what is not its own: %v", err)
	}
}

// A person changes their password on the command line, and ends the sessions that they left open.
func TestOwnPasswordAndSessionsOnTheCommandLine(t *testing.T) {
	u, chest := signedIn(t)
	elsewhere := chest.Client(t, chest.SignIn(t, "steward"))
	const fresh = "seven lanterns over wet planks"
	if got := u.ok(t, "", "session", "list"); strings.Count(got, "se_") < 2 || strings.Count(got, "this one") != 1 {
		t.Errorf("sessions: %s", got)
	}
	if r := u.run(t, "", "session", "end"); r.code != 2 {
		t.Errorf("which one: %d %s", r.code, r.talk)
	}
	u.ok(t, "", "session", "end", "--others")
	if _, err := elsewhere.Me(t.Context()); chesttest.Code(err) != "unauthenticated" {
		t.Errorf("the other session: %v", err)
	}
	if r := u.run(t, "wrong\n"+fresh+"\n", "password"); r.code == 0 || !strings.Contains(r.talk, "current password is wrong") {
		t.Errorf("a wrong one: %d %s", r.code, r.talk)
	}
	u.ok(t, chesttest.Password+"\n"+fresh+"\n", "password")
	u.ok(t, "", "whoami")
	u.ok(t, fresh+"\n", "sign-in", "steward")
}
