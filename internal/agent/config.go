// Package agent is the one process on a host that has to do with the chest, so that nothing else there needs to prove who it is:
// the kernel says which user asks (SO_PEERCRED, unix(7)), and a rule says as which app that user reads.
//
// It speaks the part of the chest's own API that reads values, over a Unix socket, so that every client of the chest is one of
// the agent, too. A value is kept, encrypted in memory, only where a rule of its drawer says so; while the chest can be heard, it
// is served from there as long as the chest says nothing else, and while the chest is away, for as long as the rule says. Each read
// that the chest has not recorded itself is in a journal on the host's disk before the answer leaves, and reported.
package agent

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"strconv"

	"go.yaml.in/yaml/v3"

	"tansu/internal/certfiles"
	"tansu/internal/core/reference"
)

// Config is what an agent does.
type Config struct {
	Version int    `yaml:"agent"`   // 1
	Socket  string `yaml:"socket"`  // where it listens
	Journal string `yaml:"journal"` // the file for reads that are not reported yet
	// Shelf is a directory in which what is kept outlives a restart of the agent; empty for memory only.
	Shelf  string `yaml:"shelf,omitempty"`
	Serves []Rule `yaml:"serves"`
	// Credentials is where systemd connects for LoadCredential=, and Units are those that it may do that for.
	Credentials string `yaml:"credentials,omitempty"`
	Units       []Unit `yaml:"units,omitempty"`
	// Certificates are kept in files of this host.
	Certificates []Kept `yaml:"certificates,omitempty"`
}

// Kept is a certificate that the agent keeps in files, as an app.
type Kept struct {
	Profile         string `yaml:"profile"` // of tansu connect, signed in as an app
	certfiles.Files `yaml:",inline"`
}

// Unit is a unit of systemd whose credentials are the items of a drawer.
type Unit struct {
	Unit    string `yaml:"unit"` // such as gate.service
	Profile string `yaml:"profile"`
	Drawer  string `yaml:"drawer"`
}

// Rule says as which app somebody reads. The first rule that matches the asking process counts.
type Rule struct {
	User       string   `yaml:"user"`              // a name or a number of this host
	Program    string   `yaml:"program,omitempty"` // the file that the asking process runs; any when it is left out
	Profile    string   `yaml:"profile"`           // of tansu connect, signed in as an app
	References []string `yaml:"references"`        // what it may ask for; grants decide besides

	uid      uint32
	patterns []reference.Pattern
}

var unitName = regexp.MustCompile(`^[A-Za-z0-9:_.@-]{1,200}\.[a-z]+$`)

// ReadConfig reads a configuration and looks up its users. The error joins all that is wrong.
func ReadConfig(content []byte) (c Config, err error) {
	decoder := yaml.NewDecoder(bytes.NewReader(content))
	decoder.KnownFields(true)
	if err := decoder.Decode(&c); err != nil {
		return c, err
	}
	var problems []error
	add := func(format string, arguments ...any) { problems = append(problems, fmt.Errorf(format, arguments...)) }
	if c.Version != 1 {
		add("the file begins with: agent: 1")
	}
	if !filepath.IsAbs(c.Socket) || len(c.Socket) > 100 {
		add("socket is the absolute path of at most 100 bytes of where the agent listens")
	}
	if !filepath.IsAbs(c.Journal) {
		add("journal is the absolute path of the file for reads that are not reported yet")
	}
	if c.Shelf != "" && !filepath.IsAbs(c.Shelf) {
		add("shelf is the absolute path of a directory for what is kept across restarts of the agent")
	}
	if len(c.Serves) == 0 && len(c.Units) == 0 && len(c.Certificates) == 0 {
		add("it serves nobody: list users under serves")
	}
	for i := range c.Certificates {
		one := &c.Certificates[i]
		if err := one.Check(); err != nil || one.Profile == "" {
			add("certificates, number %d: %w", i+1, cmp.Or(err, errors.New("profile is missing")))
		}
	}
	if (c.Credentials == "") != (len(c.Units) == 0) || c.Credentials != "" && (!filepath.IsAbs(c.Credentials) || len(c.Credentials) > 100) {
		add("credentials, an absolute path, and units come together")
	}
	for _, u := range c.Units {
		if !unitName.MatchString(u.Unit) || u.Profile == "" || reference.CheckName(u.Drawer) != nil {
			add("unit %.60q: it has the name of a unit, a profile, and a drawer", u.Unit)
		}
	}
	for i := range c.Serves {
		if err := c.Serves[i].check(); err != nil {
			add("serves, number %d: %w", i+1, err)
		}
	}
	return c, errors.Join(problems...)
}

func (r *Rule) check() (err error) {
	if r.uid, err = userID(r.User); err != nil {
		return err
	}
	if r.Program != "" && !filepath.IsAbs(r.Program) {
		return errors.New("program is an absolute path")
	}
	if r.Program != "" {
		if real, err := filepath.EvalSymlinks(r.Program); err == nil {
			r.Program = real // what the kernel says of a process has no links
		}
	}
	if r.Profile == "" {
		return errors.New("profile is missing: make one on this host with tansu --profile NAME connect and enrol")
	}
	if len(r.References) == 0 {
		return errors.New(`references are missing: what it may ask for, such as "ticketing-prod/**"`)
	}
	for _, text := range r.References {
		pattern, err := reference.ParsePattern(text)
		if err != nil {
			return err
		}
		r.patterns = append(r.patterns, pattern)
	}
	return nil
}

func userID(name string) (uint32, error) {
	if number, err := strconv.ParseUint(name, 10, 32); err == nil {
		return uint32(number), nil
	}
	found, err := user.Lookup(name)
	if err != nil {
		return 0, fmt.Errorf("there is no user %.60q here", name)
	}
	number, err := strconv.ParseUint(found.Uid, 10, 32)
	return uint32(number), err
}

// selects reports whether a rule lets somebody ask for a reference.
func (r *Rule) selects(ref reference.Reference) bool {
	for _, pattern := range r.patterns {
		if pattern.Matches(ref.Drawer, ref.Item) {
			return true
		}
	}
	return false
}

// LoadConfig reads a file that nobody but its owner may change, because who changes it decides who reads what.
func LoadConfig(path string) (c Config, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return c, err
	}
	if info.Mode().Perm()&0o022 != 0 {
		return c, fmt.Errorf("%s has mode %04o, and others may change it: run chmod go-w %s", path, info.Mode().Perm(), path)
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return c, err
	}
	return ReadConfig(content)
}
