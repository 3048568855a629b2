// Package internal_test checks how the code is laid out, as docs/layout.md says it is.
package internal_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"tansu/internal/record"
)

// layers are the packages from top to bottom; what stands on one line is beside each other. A package imports what is below
// it, and nothing beside it or above it: the rooms of the service do not know each other, and the core knows nothing else.
var layers = []string{
	"cmd/tansu cmd/tansu-hardware scripts/bench scripts/screenshots",
	"internal/cli internal/chesttest internal/nameserver",
	"internal/demo",
	"internal/server",
	"internal/httpapi internal/witness",
	"internal/certapi internal/masterapi internal/acme",
	"internal/service internal/keywire internal/wire internal/route internal/exposuretext",
	"internal/certs",
	"internal/people internal/rights internal/shelf internal/keys internal/ends internal/record internal/opening internal/recovery " +
		"internal/masters",
	"internal/powers internal/horizon internal/finding internal/inspect internal/strictjson internal/waking internal/content",
	"internal/keyrow internal/certrow",
	"internal/chest internal/usage",
	"internal/backup",
	"internal/store",
	"internal/outlet internal/agent internal/warm internal/drawerkeys",
	"internal/certfiles",
	"internal/acmeclient",
	"internal/schema internal/entity internal/entryrow",
	"internal/datadir",
	"internal/archive",
	"internal/hardware internal/hardware/tpm internal/hardware/token",
	"client internal/web internal/issuer internal/sshlend internal/placefile internal/wholefile internal/launch internal/sift " +
		"internal/sealedfile internal/addressed internal/pace internal/replies internal/paging internal/turns",
	"internal/core/cert internal/core/policytext internal/core/manifest internal/core/render internal/core/sample internal/core/search " +
		"internal/core/shares internal/core/folding internal/core/recipient",
	"internal/core/access internal/core/assertion internal/core/authority internal/core/calendar internal/core/credential " +
		"internal/core/cryptokey internal/core/envelope internal/core/importfile internal/core/leak internal/core/lifecycle internal/core/trail",
	"internal/core/reference internal/core/secretvalue internal/core/steady internal/core/throttle",
	"examples/ticket-board",
}

// outside is what the core may not import: files, the network, other programs, SQL.
var outside = []string{"os", "os/exec", "net/http", "database/sql", "github.com/jmoiron/sqlx", "log", "syscall"}

// Every file of the project's own Go, tests and what is built aside.
func goFiles(t *testing.T, visit func(dir, file string)) {
	t.Helper()
	err := filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && (entry.Name() == "node_modules" || entry.Name() == "build" || entry.Name() == "testdata" ||
			entry.Name() == "generated" || // a module of its own
			len(entry.Name()) > 2 && entry.Name()[0] == '.'):
			return filepath.SkipDir
		case strings.HasSuffix(path, ".go"):
			visit(filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), "../")), path)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

func TestImportsPointDown(t *testing.T) {
	floor := map[string]int{}
	for n, layer := range layers {
		for _, name := range strings.Fields(layer) {
			floor[name] = n
		}
	}
	met := map[string]bool{}
	goFiles(t, func(dir, file string) {
		if strings.HasSuffix(file, "_test.go") {
			return
		}
		met[dir] = true
		at, known := floor[dir]
		if !known {
			t.Errorf("%s has no place in the layers", dir)
			return
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		if err != nil {
			t.Fatal(err)
		}
		for _, spec := range parsed.Imports {
			path, err := strconv.Unquote(spec.Path.Value)
			if err != nil {
				t.Fatal(err)
			}
			if strings.HasPrefix(dir, "internal/core/") && slices.Contains(outside, path) {
				t.Errorf("%s: the core imports %s", file, path)
			}
			if own, is := strings.CutPrefix(path, "tansu/"); is && floor[own] <= at {
				t.Errorf("%s imports %s, which is not below it", file, own)
			}
		}
	})
	for name := range floor {
		if !met[name] {
			t.Errorf("%s stands in the layers, and is not there", name)
		}
	}
}

// The longest line of code, in bytes with a tab counted as one; and the most lines that a package of the service may have,
// tests aside: a room that nobody can keep in mind is two rooms. The command line has a file for each group of commands.
const (
	longest = 140
	largest = 4000
)

func TestRoomsAndLinesAreOfASizeToRead(t *testing.T) {
	lines := map[string]int{}
	goFiles(t, func(dir, file string) {
		content, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		raw := false // inside a text that goes over lines
		n := 0
		for line := range strings.Lines(string(content)) {
			n++
			quotes := strings.Count(line, "`")
			if len(strings.TrimSuffix(line, "\n")) > longest && !raw && quotes == 0 {
				t.Errorf("%s:%d has %d characters", file, n, len(line)-1)
			}
			raw = raw != (quotes%2 == 1)
			if !strings.HasSuffix(file, "_test.go") {
				lines[dir]++
			}
		}
	})
	for dir, n := range lines {
		if n > largest && dir != "internal/cli" {
			t.Errorf("%s has %d lines", dir, n)
		}
	}
	if len(lines) < 20 {
		t.Errorf("only %d packages were read", len(lines))
	}
}

// What is written into the trail as an action is one that can be looked for there: a filter that knows too little would refuse it.
func TestActionsInTheTrailAreKnown(t *testing.T) {
	known := record.Actions()
	literal := regexp.MustCompile(`(?:Attempt\((?:c|caller), |Anonymous\(origin, "[a-z_]+"\), |begin\(c, |r\.note\(|` +
		`Entry\.Action = |\bAction: )"([a-z_]+)"`)
	found := 0
	goFiles(t, func(dir, file string) {
		if strings.HasSuffix(file, "_test.go") || !strings.HasPrefix(dir, "internal/") {
			return
		}
		content, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, match := range literal.FindAllStringSubmatch(string(content), -1) {
			if found++; !slices.Contains(known, match[1]) {
				t.Errorf("%s: the action %q is not among record.Actions", file, match[1])
			}
		}
	})
	if found < 40 {
		t.Errorf("only %d actions were found: is the way in which they are written another one?", found)
	}
}
