package client

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// AgentSocket is where the agent of a host listens when nobody says otherwise.
const AgentSocket = "/run/tansu/agent.sock"

// Find configures a client from its environment, so that the same code runs on a host, in a pipeline and at a developer's desk, under
// the identity found there. It takes the first of:
//
//   - TANSU_ADDRESS, with TANSU_AUTHORITY (a PEM file), and TANSU_APP with one of TANSU_KEY_FILE (a private key, PEM),
//     TANSU_TOKEN_FILE (an outside issuer's token) and TANSU_SECRET_FILE; an address unix:/path needs nothing else;
//   - the agent of this host at [AgentSocket];
//   - the profile that tansu connect and tansu sign-in have left (TANSU_PROFILE, TANSU_HOME).
//
// Files are read again whenever a token is needed.
func Find() (*Client, error) {
	if address := os.Getenv("TANSU_ADDRESS"); address != "" {
		return fromEnvironment(address)
	}
	if info, err := os.Stat(AgentSocket); err == nil && info.Mode()&os.ModeSocket != 0 {
		return New(Options{Address: "unix:" + AgentSocket})
	}
	return fromProfile()
}

func fromEnvironment(address string) (*Client, error) {
	o := Options{Address: address, App: os.Getenv("TANSU_APP")}
	if file := os.Getenv("TANSU_AUTHORITY"); file != "" {
		content, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("TANSU_AUTHORITY: %w", err)
		}
		o.Authority = content
	}
	text := func(variable string) func() (string, error) {
		file := os.Getenv(variable)
		if file == "" {
			return nil
		}
		return func() (string, error) {
			content, err := os.ReadFile(file)
			return strings.TrimSpace(string(content)), err
		}
	}
	o.Secret, o.Outside = text("TANSU_SECRET_FILE"), text("TANSU_TOKEN_FILE")
	if file := os.Getenv("TANSU_KEY_FILE"); file != "" {
		content, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("TANSU_KEY_FILE: %w", err)
		}
		o.Key = content
	}
	ways := 0
	for _, is := range []bool{o.Secret != nil, o.Outside != nil, len(o.Key) > 0} {
		if is {
			ways++
		}
	}
	if !strings.HasPrefix(address, "unix:") && (o.App == "" || ways != 1) {
		return nil, errors.New("TANSU_ADDRESS needs TANSU_APP and one of TANSU_KEY_FILE, TANSU_TOKEN_FILE and TANSU_SECRET_FILE")
	}
	return New(o)
}

// fromProfile reads what the command line has left; it never changes it.
func fromProfile() (*Client, error) {
	dir := os.Getenv("TANSU_HOME")
	if dir == "" {
		config, err := os.UserConfigDir()
		if err != nil {
			return nil, fmt.Errorf("find the profiles: %w", err)
		}
		dir = filepath.Join(config, "tansu")
	}
	content, err := os.ReadFile(filepath.Join(dir, "profiles.json"))
	if err != nil {
		return nil, errors.New("nothing says where the chest is and who this is: set TANSU_ADDRESS, run the agent, or use tansu connect and " +
			"tansu sign-in")
	}
	var all struct {
		Current  string
		Profiles map[string]struct {
			Address, Authority, Token, App, Key string
			OutsideFile                         string `json:"outside_file"`
		}
	}
	if err := json.Unmarshal(content, &all); err != nil {
		return nil, fmt.Errorf("the profiles in %s are damaged", dir)
	}
	name := all.Current
	if wanted := os.Getenv("TANSU_PROFILE"); wanted != "" {
		name = wanted
	}
	p, found := all.Profiles[name]
	if !found {
		return nil, fmt.Errorf("there is no profile %q", name)
	}
	o := Options{Address: p.Address, Authority: []byte(p.Authority), Token: p.Token, App: p.App, Key: []byte(p.Key)}
	if p.OutsideFile != "" {
		o.Outside = func() (string, error) {
			content, err := os.ReadFile(p.OutsideFile)
			return strings.TrimSpace(string(content)), err
		}
	}
	return New(o)
}
