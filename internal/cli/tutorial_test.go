package cli_test

import (
	"bufio"
	"os"
	"regexp"
	"strings"
	"syscall"
	"testing"
)

// Every command of the tutorial is run on the demo, in its order: each does what the tutorial says of it, down to whether it is refused,
// and with the words that it prints there.
func TestTheTutorialIsAsItSays(t *testing.T) {
	home := t.TempDir()
	demo := user{home}.command("demo", "--dir", home+"/demo", "--listen", "127.0.0.1:0")
	out, err := demo.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := demo.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = demo.Process.Signal(syscall.SIGTERM)
		_ = demo.Wait()
	}()
	at := regexp.MustCompile(`TANSU_HOME=(\S+);`)
	u := user{}
	for lines := bufio.NewScanner(out); u.home == "" && lines.Scan(); {
		if found := at.FindStringSubmatch(lines.Text()); found != nil {
			u.home = found[1]
		}
	}
	if u.home == "" {
		t.Fatal("the demo ended before it said how to come in")
	}
	text, err := os.ReadFile("../../docs/tutorial.md")
	if err != nil {
		t.Fatal(err)
	}
	ran, receipt := 0, ""
	inTutorial := regexp.MustCompile(`oeq2kzuvpm`)
	given := regexp.MustCompile(`receipt +(\w{10})`)
	words := regexp.MustCompile(`'[^']*'|"[^"]*"|\S+`)
	lines := strings.Split(string(text), "\n")
	for i, line := range lines {
		command, is := strings.CutPrefix(line, "$ tansu ")
		if !is {
			continue
		}
		typed := inTutorial.ReplaceAllString(command, receipt)
		var arguments []string
		for _, word := range words.FindAllString(typed, -1) {
			arguments = append(arguments, strings.Trim(word, `'"`))
		}
		r := u.run(t, "a value for the tutorial", arguments...)
		ran++
		says := ""
		if i+1 < len(lines) && !strings.HasPrefix(lines[i+1], "```") && !strings.HasPrefix(lines[i+1], "$") {
			says = lines[i+1]
		}
		refused := strings.HasPrefix(says, "tansu:") || strings.HasPrefix(says, "No:")
		if (r.code == 3) != refused || r.code != 0 && !refused {
			t.Errorf("tansu %s: exit %d, and the tutorial says %q: %s%s", typed, r.code, says, r.out, r.talk)
		}
		if before, _, _ := strings.Cut(says, "…"); !strings.HasPrefix(says, "Value") && !printed(r.out+r.talk, before) {
			t.Errorf("tansu %s does not print %q: %s%s", typed, before, r.out, r.talk)
		}
		if found := given.FindStringSubmatch(r.talk); found != nil && receipt == "" {
			receipt = found[1]
		}
	}
	if ran < 12 || receipt == "" {
		t.Errorf("%d commands were run, and the receipt is %q", ran, receipt)
	}
}

// printed reports whether an output has a text, whatever numbers, ids and line breaks are in both.
func printed(output, text string) bool {
	plain := func(s string) string {
		s = regexp.MustCompile(`\b\w{10}\b|[0-9]+`).ReplaceAllString(s, "#")
		return strings.Join(strings.Fields(s), " ")
	}
	return strings.Contains(plain(output), plain(text))
}
