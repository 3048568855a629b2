package launch

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"

	"tansu/internal/core/leak"
)

const value = "canary-3f9a'7c2e\"41 d8"

func maskOf(values ...string) *leak.Matcher {
	var list []leak.Secret
	for i, v := range values {
		list = append(list, leak.Secret{Name: fmt.Sprint("d/", i), Value: []byte(v)})
	}
	m, _ := leak.NewMatcher(list)
	return m
}

// sh runs a shell script as the program, and returns what came out of it.
func sh(t *testing.T, p Program, script string) (out, errs string, code int) {
	t.Helper()
	path, err := exec.LookPath("sh")
	if err != nil {
		t.Fatal(err)
	}
	var stdout, stderr bytes.Buffer
	p.Path, p.Arguments, p.Out, p.Err = path, []string{"-c", script}, &stdout, &stderr
	p.Environment = append(p.Environment, "PATH="+os.Getenv("PATH"))
	code, err = p.Run(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	return stdout.String(), stderr.String(), code
}

func TestExitCodesAndSignalsOfTheProgramAreOurs(t *testing.T) {
	if _, _, code := sh(t, Program{}, "exit 7"); code != 7 {
		t.Errorf("exit 7 is %d", code)
	}
	if _, _, code := sh(t, Program{Mask: maskOf(value)}, "kill -KILL $$"); code != 128+9 {
		t.Errorf("a kill is %d", code)
	}
	if _, err := (&Program{Path: filepath.Join(t.TempDir(), "none")}).Run(context.Background()); err == nil {
		t.Error("what is not there was started")
	}
}

func TestWhatTheProgramPrintsIsMasked(t *testing.T) {
	out, errs, _ := sh(t, Program{Environment: []string{"V=" + value}, Mask: maskOf(value)},
		`printf %s "$V"; printf %s "$V" | base64; printf %s "$V" | od -An -tx1 | tr -d ' \n'; printf '%s' "$V" | cut -c1-10 >&2; printf '%s' "$V" | cut -c11- >&2; printf "%s" "$V" >&2`)
	if strings.Contains(out, "canary") || strings.Count(out, "[masked: d/0]") != 3 {
		t.Errorf("standard output: %q", out)
	}
	if strings.Contains(errs, "canary") || strings.Count(errs, "[masked: d/0]") != 2 { // once in two lines, and once whole
		t.Errorf("standard error: %q", errs)
	}
	if out, _, _ := sh(t, Program{Environment: []string{"V=" + value}}, `printf %s "$V"`); out != value {
		t.Errorf("unmasked: %q", out)
	}
}

// A file is private, sealed, holds exactly the bytes, and is in no directory.
func TestFilesAreInMemoryOnly(t *testing.T) {
	binary := string([]byte{0, 1, 0xff, '\n'}) + value
	p := Program{Files: []File{{Name: "server.key", Variable: "KEY", Mode: 0o400, Content: []byte(binary)},
		{Name: "other", Variable: "OTHER", Mode: 0o600, Content: []byte("x")}}}
	out, errs, code := sh(t, p, `stat -Lc %a "$KEY" "$OTHER"; readlink "$KEY"; (echo changed > "$OTHER") 2>/dev/null || echo sealed; cat "$KEY"`)
	if want := "400\n600\n/memfd:server.key (deleted)\nsealed\n" + binary; out != want || code != 0 {
		t.Errorf("got %q, %q; want %q", out, errs, want)
	}
}

// A value that is larger than a pipe gets through, and a program that does not read it ends all the same.
func TestStandardInputTakesLargeValues(t *testing.T) {
	large := bytes.Repeat([]byte("0123456789abcdef"), 64<<10)
	if out, _, _ := sh(t, Program{Stdin: large, Mask: maskOf(value)}, "wc -c"); strings.TrimSpace(out) != fmt.Sprint(len(large)) {
		t.Errorf("%s of %d bytes came", out, len(large))
	}
	if _, _, code := sh(t, Program{Stdin: large}, "exit 3"); code != 3 {
		t.Errorf("exit code %d", code)
	}
}

// On a terminal the program has a terminal of its own, with the same size, and what it prints there is masked.
func TestOnATerminalTheProgramHasATerminal(t *testing.T) {
	ours, theirs, err := pty.Open()
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = ours.Close() }()
	if err := pty.Setsize(theirs, &pty.Winsize{Rows: 33, Cols: 77}); err != nil {
		t.Fatal(err)
	}
	const end = "the end of the test"
	var said bytes.Buffer
	var reading sync.WaitGroup
	reading.Go(func() {
		for piece := make([]byte, 1024); !strings.Contains(said.String(), end); {
			n, err := ours.Read(piece)
			if err != nil {
				return
			}
			said.Write(piece[:n])
		}
	})
	path, err := exec.LookPath("sh")
	if err != nil {
		t.Fatal(err)
	}
	p := Program{Path: path, Arguments: []string{"-c",
		`test -t 0 && test -t 1 && stty size; echo "$V"; read answer; echo "got $answer"; exit 5`},
		Environment: []string{"V=" + value, "PATH=" + os.Getenv("PATH")}, Mask: maskOf(value), In: theirs, Out: theirs, Err: theirs}
	if _, err := ours.WriteString("an answer\n"); err != nil {
		t.Fatal(err)
	}
	code, err := p.Run(context.Background())
	if _, err := theirs.WriteString(end); err != nil {
		t.Fatal(err)
	}
	reading.Wait()
	if err != nil || code != 5 {
		t.Errorf("%d, %v", code, err)
	}
	for _, want := range []string{"33 77", "[masked: d/0]", "got an answer"} {
		if !strings.Contains(said.String(), want) {
			t.Errorf("%q is not in %q", want, said.String())
		}
	}
	if strings.Contains(said.String(), "canary") {
		t.Errorf("the value is on the terminal: %q", said.String())
	}
}

// Ctrl-Z suspends the program and who started it, so that the shell has the terminal again, and fg goes on with both.
func TestCtrlZGivesTheShellItsTerminalBack(t *testing.T) {
	shell := exec.Command("bash", "--norc", "--noprofile", "-i")
	shell.Env = append(os.Environ(), "PS1=prompt> ", "TERM=dumb", "HISTFILE=")
	terminal, err := pty.Start(shell)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = terminal.Close(); _ = shell.Process.Kill(); _ = shell.Wait() }()
	said, more := "", make(chan string)
	go func() {
		defer close(more)
		for piece := make([]byte, 1024); ; {
			n, err := terminal.Read(piece)
			if err != nil {
				return
			}
			more <- string(piece[:n])
		}
	}()
	after := func(typed, want string) {
		t.Helper()
		if _, err := terminal.WriteString(typed); err != nil {
			t.Fatal(err)
		}
		for deadline := time.After(20 * time.Second); !strings.Contains(said, want); {
			select {
			case piece := <-more:
				said += piece
			case <-deadline:
				t.Fatalf("after %q there is no %q in %q", typed, want, said)
			}
		}
		said = said[strings.Index(said, want)+len(want):]
	}
	after("", "prompt> ")
	after("LAUNCH_HELPER=typed "+os.Args[0]+"\n", "ready\r\n")
	after("\x1a", "Stopped")
	after("echo the shell is $((40+2))\n", "the shell is 42")
	after("fg\n", os.Args[0])
	after("an answer\n", "got an answer, [masked: d/0]")
	after("\n", "prompt> ")
}

// helper is the program that TestKilledLeavesNothing kills.
func init() {
	if os.Getenv("LAUNCH_HELPER") == "" {
		return
	}
	if os.Getenv("LAUNCH_HELPER") == "typed" {
		p := Program{Path: "/bin/sh", Arguments: []string{"-c", `echo ready; read answer; echo "got $answer, $V"`},
			Environment: []string{"V=" + value}, Mask: maskOf(value), In: os.Stdin, Out: os.Stdout, Err: os.Stderr}
		code, _ := p.Run(context.Background())
		os.Exit(code)
	}
	content, err := io.ReadAll(os.Stdin)
	if err != nil {
		os.Exit(1)
	}
	p := Program{Path: "/bin/sh", Arguments: []string{"-c", `echo started; cat "$KEY" >/dev/null; exec sleep 600`}, Out: os.Stdout,
		Err: os.Stderr, Mask: maskOf(string(content)),
		Files: []File{{Name: "key", Variable: "KEY", Mode: 0o400, Content: content}}, Environment: []string{"V=" + string(content)}}
	_, _ = p.Run(context.Background())
	os.Exit(0)
}

// Killed with no chance to clean up, nothing is left: the program is told to end, and the value is in no process and no file.
func TestKilledLeavesNothing(t *testing.T) {
	canary := fmt.Sprintf("canary-%d-of-the-killed", time.Now().UnixNano())
	dir := t.TempDir()
	helper := exec.Command(os.Args[0])
	helper.Env = []string{"LAUNCH_HELPER=1", "TMPDIR=" + dir, "HOME=" + dir, "XDG_RUNTIME_DIR=" + dir}
	helper.Dir, helper.Stdin = dir, strings.NewReader(canary)
	out, err := helper.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := helper.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(out, make([]byte, len("started"))); err != nil {
		t.Fatal(err)
	}
	if !slicesContain(processesWith(canary), "environ") {
		t.Fatal("the program does not have the value: the search would find nothing")
	}
	if err := helper.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	_, _ = io.Copy(io.Discard, out) // ends when the program has, too
	_ = helper.Wait()
	for deadline := time.Now().Add(20 * time.Second); len(processesWith(canary)) > 0; {
		if time.Now().After(deadline) {
			t.Fatalf("still there: %v", processesWith(canary))
		}
	}
	for _, place := range []string{dir, "/dev/shm"} {
		_ = filepath.WalkDir(place, func(path string, entry os.DirEntry, err error) error {
			if err == nil && entry.Type().IsRegular() {
				if content, err := os.ReadFile(path); err == nil && bytes.Contains(content, []byte(canary)) {
					t.Errorf("the value is in %s", path)
				}
			}
			return nil
		})
	}
}

// processesWith lists where in /proc a text is in other processes' arguments or environments.
func processesWith(text string) (places []string) {
	for _, what := range []string{"cmdline", "environ"} {
		files, _ := filepath.Glob("/proc/[0-9]*/" + what)
		for _, file := range files {
			if content, err := os.ReadFile(file); err == nil && bytes.Contains(content, []byte(text)) {
				places = append(places, file)
			}
		}
	}
	return places
}

func slicesContain(places []string, what string) bool {
	for _, place := range places {
		if strings.HasSuffix(place, what) {
			return true
		}
	}
	return false
}
