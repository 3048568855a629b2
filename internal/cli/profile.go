package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"tansu/client"
	"tansu/internal/core/reference"
	"tansu/internal/wholefile"
)

// profiles is the file that remembers where chests are and what tokens this person has: mode 0600, in TANSU_HOME or
// else in the user's configuration directory.
type profiles struct {
	Current  string              `json:"current"`
	Profiles map[string]*profile `json:"profiles"`
	path     string
}

type profile struct {
	Address   string    `json:"address"`
	Authority string    `json:"authority,omitempty"` // PEM
	Subject   string    `json:"subject,omitempty"`
	Token     string    `json:"token,omitempty"`
	Ends      time.Time `json:"ends,omitzero"`
	Device    string    `json:"device,omitempty"`
	// An app that signs in by itself whenever it needs to, and with what: a private key (PEM), or a file that an outside issuer's
	// tokens are put into.
	App         string `json:"app,omitempty"`
	Key         string `json:"key,omitempty"`
	OutsideFile string `json:"outside_file,omitempty"`
}

const defaultProfile = "default"

func profilePath() (string, error) {
	if home := os.Getenv("TANSU_HOME"); home != "" {
		return filepath.Join(home, "profiles.json"), nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("find a place for profiles: %w; set TANSU_HOME", err)
	}
	return filepath.Join(dir, "tansu", "profiles.json"), nil
}

func loadProfiles() (*profiles, error) {
	path, err := profilePath()
	if err != nil {
		return nil, err
	}
	p := &profiles{Profiles: map[string]*profile{}, path: path}
	content, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read profiles: %w", err)
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%s has mode %04o and holds tokens: run chmod 0600 %s", path, info.Mode().Perm(), path)
	}
	if err := json.Unmarshal(content, p); err != nil {
		return nil, fmt.Errorf("%s is damaged (%w): remove it and connect again", path, err)
	}
	return p, nil
}

// save replaces the file whole, never readable by others.
func (p *profiles) save() error {
	content, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return fmt.Errorf("encode profiles: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(p.path), 0o700); err != nil {
		return fmt.Errorf("save profiles: %w", err)
	}
	if err := wholefile.Replace(p.path, 0o600, wholefile.Content(append(content, '\n'))); err != nil {
		return fmt.Errorf("save profiles: %w", err)
	}
	return nil
}

// name of the profile in use.
func (a *app) profileName(p *profiles) string {
	switch {
	case a.profile != "":
		return a.profile
	case p.Current != "":
		return p.Current
	}
	return defaultProfile
}

func (a *app) currentProfile() (*profile, error) {
	all, err := loadProfiles()
	if err != nil {
		return nil, err
	}
	name := a.profileName(all)
	if found := all.Profiles[name]; found != nil {
		return found, nil
	}
	if a.profile == "" {
		return nil, usagef("not connected to a chest yet: tansu connect https://HOST:8267 --authority FILE")
	}
	var names []string
	for known := range all.Profiles {
		names = append(names, known)
	}
	if near := reference.Nearest(name, names); near != "" {
		return nil, usagef("there is no profile %q; did you mean %s?", name, near)
	}
	return nil, usagef("there is no profile %q; make it with: tansu --profile %s connect ADDRESS", name, name)
}

// change loads, changes and saves the profile in use.
func (a *app) changeProfile(change func(*profile)) error {
	all, err := loadProfiles()
	if err != nil {
		return err
	}
	found := all.Profiles[a.profileName(all)]
	if found == nil {
		return usagef("not connected to a chest yet: tansu connect https://HOST:8267 --authority FILE")
	}
	change(found)
	return all.save()
}

func (p *profile) client(reason string, onSteward func()) (*client.Client, error) {
	o := client.Options{Address: p.Address, Authority: []byte(p.Authority), Token: p.Token, App: p.App, Key: []byte(p.Key), Reason: reason,
		OnSteward: onSteward}
	if p.OutsideFile != "" {
		o.Outside = func() (string, error) {
			content, err := os.ReadFile(p.OutsideFile)
			return strings.TrimSpace(string(content)), err
		}
	}
	return client.New(o)
}

func (p *profile) signedIn(s client.Session) {
	p.Subject, p.Token, p.Ends = s.Subject, s.Token, s.Ends
	p.App, p.Key, p.OutsideFile = "", "", ""
	if s.Device != "" {
		p.Device = s.Device
	}
}
