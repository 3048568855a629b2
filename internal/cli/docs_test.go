package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// Every command that the documents, the help and the errors tell people to type must exist, with those options and
// that number of arguments.
func TestCommandsInTheDocumentsExist(t *testing.T) {
	a := &app{Streams: Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}}
	root := a.root()
	texts := map[string]string{}
	for _, pattern := range []string{"../../README.md", "../../CONTRIBUTING.md", "../../docs/*.md", "../../docs/*.service",
		"../../examples/*.md"} {
		files, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, file := range files {
			content, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			texts[filepath.Base(file)] = string(content)
		}
	}
	walk(root, func(c *cobra.Command) { texts["help of "+c.CommandPath()] = c.Long + "\n" + c.Example })
	line := regexp.MustCompile("(?m)(?:^(?:\\$ )?|^ +|`|&& |u tansu |=/usr/local/bin/|bin/)tansu ([^`#\n]*)")
	continued := regexp.MustCompile(`\s*\\\n\s*`)
	checked := 0
	for where, text := range texts {
		text = continued.ReplaceAllString(text, " ")
		for _, found := range line.FindAllStringSubmatch(text, -1) {
			typed, _, _ := strings.Cut(found[1], "&&")
			typed, _, _ = strings.Cut(typed, " |")
			typed, _, _ = strings.Cut(typed, "  ")
			words := split(typed)
			if len(words) == 0 || !regexp.MustCompile(`^[-a-z]+$`).MatchString(words[0]) {
				continue // prose that begins with the name
			}
			checked++
			if problem := parses(root, words); problem != "" {
				t.Errorf("%s: tansu %s: %s", where, typed, problem)
			}
		}
	}
	if checked < 50 {
		t.Errorf("only %d commands were found", checked)
	}
}

func walk(c *cobra.Command, visit func(*cobra.Command)) {
	visit(c)
	for _, sub := range c.Commands() {
		walk(sub, visit)
	}
}

// split cuts a line at spaces outside quotes, and drops redirections.
func split(line string) (words []string) {
	for _, word := range regexp.MustCompile(`'[^']*'|"[^"]*"|[^\s]+`).FindAllString(line, -1) {
		if word == "<" || word == ">" || word == "…" {
			break
		}
		words = append(words, strings.Trim(word, `'"`))
	}
	return words
}

func parses(root *cobra.Command, words []string) string {
	command, rest, err := root.Find(words)
	if err != nil {
		return err.Error()
	}
	if command == root && words[0] != "--help" && !strings.HasPrefix(words[0], "--") {
		return "no such command"
	}
	if err := command.ParseFlags(rest); err != nil {
		return err.Error()
	}
	if command.Args != nil {
		if err := command.Args(command, command.Flags().Args()); err != nil && !strings.Contains(err.Error(), "is missing") {
			return err.Error() // naming a command without its arguments is fine in prose
		}
	}
	return ""
}
