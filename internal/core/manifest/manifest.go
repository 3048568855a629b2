// Package manifest reads and writes manifests: the file in an application's repository that lists which values it needs and
// how each is handed over. It holds no secret, so that it belongs under version control, and the environment chooses the
// drawer, so that one file serves all of them:
//
//	manifest: 1
//	app: ticket-api
//	drawers:
//	  production: ticketing-prod
//	  staging: ticketing-staging
//	needs:
//	  - variable: DB_PASSWORD
//	    reference: db-password
//	  - file: server.key
//	    variable: TLS_KEY_FILE
//	    reference: tls#private_key
//	    mode: "0400"
//	  - variable: MAIL_TOKEN
//	    reference: mail-token
//	    only: [production]
//	constants:
//	  - variable: LOG_LEVEL
//	    value: info
package manifest

import (
	"bytes"
	"cmp"
	_ "embed" // for the schema
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"tansu/internal/core/reference"
)

//go:embed manifest.schema.json
var schema []byte

// Schema returns the JSON Schema (draft 2020-12) of manifests, for editors.
func Schema() []byte { return slices.Clone(schema) }

// FileName is what a manifest is called when nobody says otherwise.
const FileName = "tansu.yaml"

// Bounds of a manifest.
const (
	MaxSize  = 1 << 20 // bytes
	MaxNeeds = 5000
)

// Manifest is what an application needs.
type Manifest struct {
	Version   int               `yaml:"manifest"`
	App       string            `yaml:"app,omitempty"`
	Drawers   map[string]string `yaml:"drawers,omitempty"` // by environment
	Needs     []Need            `yaml:"needs"`
	Constants []Constant        `yaml:"constants,omitempty"`
}

// Constant is a variable whose value is no secret: it stands in the manifest, is not masked and is not looked for.
type Constant struct {
	Variable string   `yaml:"variable"`
	Value    string   `yaml:"value"`
	Only     []string `yaml:"only,omitempty,flow"` // the environments that have it; all when it is left out

	line int
}

// Need is one value and how it is handed over: as an environment variable; as a file, whose path a variable may hold; or on
// standard input.
type Need struct {
	Reference string `yaml:"reference"` // of an item in the environment's drawer, or with a drawer
	Variable  string `yaml:"variable,omitempty"`
	File      string `yaml:"file,omitempty"` // its name, without a directory
	Mode      string `yaml:"mode,omitempty"` // of the file, in octal; "0400" when it is left out
	Stdin     bool   `yaml:"stdin,omitempty"`

	Only     []string `yaml:"only,omitempty,flow"` // the environments that need it; all when it is left out
	Optional bool     `yaml:"optional,omitempty"`  // when there is no such item, it is left out

	line int
}

// Problem is one thing that is wrong in a manifest.
type Problem struct {
	Line int // 0 when it is about the whole
	Text string
}

func (p Problem) Error() string {
	if p.Line == 0 {
		return p.Text
	}
	return fmt.Sprintf("line %d: %s", p.Line, p.Text)
}

// Read reads a manifest. The error joins a [Problem] for each thing that is wrong; none repeats more than names.
func Read(content []byte) (m Manifest, err error) {
	if len(content) > MaxSize {
		return m, Problem{Text: fmt.Sprintf("a manifest has at most %d bytes", MaxSize)}
	}
	decoder := yaml.NewDecoder(bytes.NewReader(content))
	decoder.KnownFields(true)
	if err := decoder.Decode(&m); err != nil {
		if errors.Is(err, io.EOF) {
			return m, Problem{Text: "the manifest is empty"}
		}
		return m, Problem{Text: inWords(err)}
	}
	if decoder.Decode(new(yaml.Node)) == nil {
		return m, Problem{Text: "there is a second document"}
	}
	return m, errors.Join(m.problems()...)
}

var (
	unknownField = regexp.MustCompile(`field (\S+) not found in type \S+`)
	otherKind    = regexp.MustCompile("cannot unmarshal !!(\\w+)( `[^`]*`)? into (\\S+)")
)

// kinds are what the parts of a manifest are, by their types.
var kinds = map[string]string{"string": "a text", "bool": "true or false", "int": "a number", "[]string": "a list of texts",
	"map[string]string": "a mapping of texts", "seq": "a list", "map": "a mapping", "str": "a text", "null": "nothing",
	"[]manifest.Need": "a list of needs", "[]manifest.Constant": "a list of constants", "manifest.Manifest": "a mapping"}

// inWords explains an error of the YAML decoder without names of types and without the content of the file.
func inWords(err error) string {
	text := strings.TrimPrefix(strings.TrimPrefix(err.Error(), "yaml: "), "unmarshal errors:\n  ")
	text = unknownField.ReplaceAllStringFunc(text, func(found string) string {
		name := unknownField.FindStringSubmatch(found)[1]
		fields := []string{"manifest", "app", "drawers", "needs", "constants"}
		if near := reference.Nearest(name, fields); near != "" {
			return fmt.Sprintf("there is no field %.40q; did you mean %s?", name, near)
		}
		return fmt.Sprintf("there is no field %.40q; there is %s", name, strings.Join(fields, ", "))
	})
	return otherKind.ReplaceAllStringFunc(text, func(found string) string {
		parts := otherKind.FindStringSubmatch(found)
		return fmt.Sprintf("here is %s, and %s belongs here", cmp.Or(kinds[parts[1]], parts[1]), cmp.Or(kinds[parts[3]], "something else"))
	})
}

// UnmarshalYAML notes the line, and is strict about fields, which a decoder does not hand on.
func (n *Need) UnmarshalYAML(node *yaml.Node) error {
	type plain Need
	if node.Kind != yaml.MappingNode {
		return fmt.Errorf("line %d: a need has a reference and how it is handed over", node.Line)
	}
	if err := known(node, "a need", "reference", "variable", "file", "mode", "stdin", "only", "optional"); err != nil {
		return err
	}
	n.line = node.Line
	return node.Decode((*plain)(n))
}

// UnmarshalYAML notes the line, and is strict about fields.
func (c *Constant) UnmarshalYAML(node *yaml.Node) error {
	type plain Constant
	if node.Kind != yaml.MappingNode {
		return fmt.Errorf("line %d: a constant has a variable and a value", node.Line)
	}
	if err := known(node, "a constant", "variable", "value", "only"); err != nil {
		return err
	}
	c.line = node.Line
	return node.Decode((*plain)(c))
}

// known refuses fields that a mapping does not have.
func known(node *yaml.Node, what string, fields ...string) error {
	for i := 0; i < len(node.Content); i += 2 {
		if key := node.Content[i]; !slices.Contains(fields, key.Value) {
			return fmt.Errorf("line %d: %s has no %.40q; it has %s", key.Line, what, key.Value, strings.Join(fields, ", "))
		}
	}
	return nil
}

var (
	variable    = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
	fileName    = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._-]{0,99}$`)
	environment = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)
)

// loaders are variables that make a program load or run something else, or write down what it should not: whoever can change an item must
// not choose that. They are those that the GNU C library takes from privileged programs (ld.so(8) and its unsecvars.h), and those by
// which the manuals of common shells, interpreters and tools let code, options or configuration in.
var loaders = strings.Fields(`
	PATH IFS ENV BASH_ENV SHELLOPTS BASHOPTS PS4 PROMPT_COMMAND CDPATH FPATH ZDOTDIR SHELL EDITOR VISUAL PAGER LESSOPEN LESSCLOSE
	GCONV_PATH GETCONF_DIR GLIBC_TUNABLES HOSTALIASES LOCALDOMAIN LOCPATH MALLOC_TRACE NIS_PATH NLSPATH RESOLV_HOST_CONF RES_OPTIONS
	TMPDIR TZDIR
	PYTHONPATH PYTHONHOME PYTHONSTARTUP PYTHONINSPECT PYTHONBREAKPOINT PYTHONWARNINGS PYTHONUSERBASE PYTHONEXECUTABLE
	PERLLIB PERL5LIB PERL5OPT PERL5DB PERL5SHELL RUBYOPT RUBYLIB RUBYSHELL GEM_PATH GEM_HOME BUNDLE_GEMFILE LUA_INIT LUA_PATH LUA_CPATH
	NODE_OPTIONS NODE_PATH NODE_REPL_EXTERNAL_MODULE JAVA_TOOL_OPTIONS _JAVA_OPTIONS JDK_JAVA_OPTIONS CLASSPATH JAVA_OPTS
	DOTNET_STARTUP_HOOKS CORECLR_PROFILER CORECLR_PROFILER_PATH COR_PROFILER COR_PROFILER_PATH PHPRC PHP_INI_SCAN_DIR R_PROFILE R_ENVIRON
	ERL_FLAGS ERL_AFLAGS ERL_ZFLAGS ELIXIR_ERL_OPTIONS JULIA_LOAD_PATH TCLLIBPATH EMACSLOADPATH GODEBUG GOFLAGS
	OPENSSL_CONF OPENSSL_ENGINES OPENSSL_MODULES SSLKEYLOGFILE SSH_ASKPASS SSH_SK_PROVIDER CURL_HOME WGETRC
	GIT_EXEC_PATH GIT_SSH GIT_SSH_COMMAND GIT_PROXY_COMMAND GIT_ASKPASS GIT_EDITOR GIT_SEQUENCE_EDITOR GIT_PAGER GIT_EXTERNAL_DIFF
	GIT_CONFIG_GLOBAL GIT_CONFIG_SYSTEM GIT_CONFIG_COUNT GIT_TEMPLATE_DIR GIT_DIR PGSYSCONFDIR MYSQL_HOME LIBMYSQL_PLUGINS`)

// loaderPrefixes are what such variables begin with: of the dynamic loaders, and functions that shells take from the environment.
var loaderPrefixes = []string{"LD_", "DYLD_", "BASH_FUNC_", "GIT_CONFIG_KEY_", "GIT_CONFIG_VALUE_"}

// loads reports whether a variable is one of them.
func loads(variable string) bool {
	name := strings.ToUpper(variable)
	begins := func(prefix string) bool { return strings.HasPrefix(name, prefix) }
	return slices.Contains(loaders, name) || slices.ContainsFunc(loaderPrefixes, begins)
}

func (m *Manifest) problems() (list []error) {
	add := func(line int, format string, arguments ...any) {
		list = append(list, Problem{line, fmt.Sprintf(format, arguments...)})
	}
	if m.Version != 1 {
		add(0, "the manifest begins with: manifest: 1")
	}
	if m.App != "" && reference.CheckName(m.App) != nil {
		add(0, "%.60q cannot be the name of an app", m.App)
	}
	for name, drawer := range m.Drawers {
		if !environment.MatchString(name) {
			add(0, "%.60q cannot be the name of an environment: lower-case letters, digits and -", name)
		}
		if reference.CheckName(drawer) != nil {
			add(0, "%.60q, for %s, cannot be the name of a drawer", drawer, name)
		}
	}
	if len(m.Needs) == 0 {
		add(0, "it needs nothing: list references under needs")
	}
	if len(m.Needs)+len(m.Constants) > MaxNeeds {
		add(0, "it has more than %d needs and constants", MaxNeeds)
		return list
	}
	seen := map[string]int{} // the line, by environment and what is handed over there
	once := func(line int, only []string, what string) {
		for _, environment := range only {
			if m.Drawers[environment] == "" {
				add(line, "only: there is no environment %.60q; there is %s", environment, strings.Join(m.Environments(), ", "))
			}
		}
		if len(only) == 0 {
			only = append(m.Environments(), "")
		}
		for _, environment := range only {
			if before := seen[environment+" "+what]; before != 0 {
				add(line, "%s is there already, on line %d", what, before)
				break
			}
			seen[environment+" "+what] = line
		}
	}
	aVariable := func(line int, only []string, name string) {
		switch {
		case !variable.MatchString(name):
			add(line, "%.60q cannot be the name of a variable", name)
		case loads(name):
			add(line, "%s decides what runs, and does not come from a manifest or an item that somebody may change", name)
		}
		once(line, only, "the variable "+name)
	}
	for _, c := range m.Constants {
		aVariable(c.line, c.Only, c.Variable)
		if strings.ContainsRune(c.Value, 0) || len(c.Value) > 4096 {
			add(c.line, "the value of %.60q has a zero byte, or more than 4096 bytes", c.Variable)
		}
	}
	for _, n := range m.Needs {
		switch {
		case n.Variable == "" && n.File == "" && !n.Stdin:
			add(n.line, "%.140s: say how it is handed over: variable, file or stdin", n.Reference)
		case n.Stdin && (n.Variable != "" || n.File != ""):
			add(n.line, "%.140s: what goes to standard input cannot be a variable or a file as well", n.Reference)
		}
		if n.Variable != "" {
			aVariable(n.line, n.Only, n.Variable)
		}
		if n.File != "" {
			if !fileName.MatchString(n.File) {
				add(n.line, "%.60q cannot be the name of a file: letters, digits, dots, - and _, without a directory", n.File)
			}
			once(n.line, n.Only, "the file "+n.File)
		}
		if n.Stdin {
			once(n.line, n.Only, "standard input")
		}
		if n.Mode != "" && n.File == "" {
			add(n.line, "mode is for files")
		}
		if _, err := n.Permissions(); err != nil {
			add(n.line, "%v", err)
		}
		if _, err := m.resolve(n, "x"); err != nil {
			add(n.line, "%v", err)
		} else if !strings.Contains(n.Reference, "/") && len(m.Drawers) == 0 {
			add(n.line, "%.140s has no drawer: list drawers by environment, or write drawer/item", n.Reference)
		}
	}
	return list
}

// Permissions of the file; nobody but its owner may do anything with it.
func (n Need) Permissions() (uint32, error) {
	if n.Mode == "" {
		return 0o400, nil
	}
	mode, err := strconv.ParseUint(n.Mode, 8, 32)
	if err != nil || mode&^0o700 != 0 || mode&0o400 == 0 {
		return 0, fmt.Errorf("mode %.20q is not that of a private file, such as \"0400\" or \"0600\"", n.Mode)
	}
	return uint32(mode), nil
}

// Delivery says in a few words how a need is handed over.
func (n Need) Delivery() string {
	switch {
	case n.Stdin:
		return "standard input"
	case n.File != "" && n.Variable != "":
		return n.Variable + " = path of " + n.File
	case n.File != "":
		return "file " + n.File
	}
	return n.Variable
}

func (m *Manifest) resolve(n Need, drawer string) (reference.Reference, error) {
	text := strings.TrimPrefix(n.Reference, reference.Scheme)
	if item, _, _ := strings.Cut(text, "#"); !strings.Contains(item, "/") {
		text = drawer + "/" + text
	}
	ref, err := reference.Parse(text)
	if err == nil && ref.Item == "" {
		err = errors.New("it names no item")
	}
	if err != nil {
		return ref, fmt.Errorf("reference %.140q: %w", n.Reference, err)
	}
	return ref, nil
}

// Environments lists those that the manifest has a drawer for.
func (m *Manifest) Environments() (names []string) {
	for name := range m.Drawers {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Resolved is a need in one environment.
type Resolved struct {
	Need
	Reference reference.Reference
}

// Environment is the one that is named, or the only one when none is; empty for a manifest without environments.
func (m *Manifest) Environment(name string) (string, error) {
	names := m.Environments()
	switch {
	case name == "" && len(names) == 1:
		return names[0], nil
	case m.Drawers[name] != "" || len(names) == 0:
		return name, nil
	case name == "":
		return "", fmt.Errorf("say which environment: %s", strings.Join(names, ", "))
	}
	return "", fmt.Errorf("the manifest has no environment %.60q; it has %s", name, strings.Join(names, ", "))
}

// in reports whether something that is only for some environments is for one.
func in(only []string, environment string) bool {
	return len(only) == 0 || slices.Contains(only, environment)
}

// ConstantsIn lists the constants of an environment, which the manifest has.
func (m *Manifest) ConstantsIn(environment string) (list []Constant) {
	for _, c := range m.Constants {
		if in(c.Only, environment) {
			list = append(list, c)
		}
	}
	return list
}

// For resolves the needs in an environment, as Environment has it.
func (m *Manifest) For(name string) (list []Resolved, err error) {
	environment, err := m.Environment(name)
	if err != nil {
		return nil, err
	}
	drawer := m.Drawers[environment]
	for _, n := range m.Needs {
		if !in(n.Only, environment) {
			continue
		}
		ref, err := m.resolve(n, drawer)
		if err != nil {
			return nil, err
		}
		list = append(list, Resolved{n, ref})
	}
	return list, nil
}

// Write writes a manifest as people would.
func Write(m Manifest) ([]byte, error) {
	var out bytes.Buffer
	out.WriteString("# What this application needs from Tansu. It holds no secret: keep it with the code.\n")
	encoder := yaml.NewEncoder(&out)
	encoder.SetIndent(2)
	if err := encoder.Encode(m); err != nil {
		return nil, fmt.Errorf("write the manifest: %w", err)
	}
	return out.Bytes(), nil
}
