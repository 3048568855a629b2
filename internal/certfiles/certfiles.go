// Package certfiles keeps the files of a certificate new on a host: it has the certificate renewed in time, puts the new one in the place
// of the old one, and tells the program that has it open.
package certfiles

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"tansu/client"
	"tansu/internal/acmeclient"
	"tansu/internal/core/cert"
	"tansu/internal/core/reference"
	"tansu/internal/placefile"
)

// Files is a certificate, and where it goes on this host. It may be changed as long as it is not kept.
type Files struct {
	Certificate string   `yaml:"certificate"`          // DRAWER/CERTIFICATE
	Chain       string   `yaml:"chain_file,omitempty"` // of the certificate with those that it leads to; empty for no such file
	Key         string   `yaml:"key_file,omitempty"`   // of the private key
	Both        string   `yaml:"both_file,omitempty"`  // of all of it
	Owner       string   `yaml:"owner,omitempty"`      // "user", "user:group" or ":group"; empty for whoever runs this
	Mode        string   `yaml:"mode,omitempty"`       // octal; empty for 0400
	Then        []string `yaml:"then,omitempty"`       // a command that is run when the files are new, without a shell
	By          string   `yaml:"by,omitempty"`         // the profile that issues it when there is none yet; empty for none
	Names       []string `yaml:"names,omitempty"`      // for these names
	// Order says how it is had from an authority outside, the first time and again; nil for one of the chest.
	Order *acmeclient.Order `yaml:"order,omitempty"`
}

// Check says what is wrong with it.
func (f *Files) Check() error {
	ref, err := reference.Parse(f.Certificate)
	if err != nil || ref.Item == "" || ref.Version != 0 || ref.Field != "" {
		return fmt.Errorf("certificate %.100q is not of the form DRAWER/CERTIFICATE", f.Certificate)
	}
	if f.Both == "" && (f.Chain == "" || f.Key == "") || f.Both != "" && (f.Chain != "" || f.Key != "") {
		return errors.New("say where it goes: a file for the chain and one for the key, or one for both")
	}
	if (f.By != "" || f.Order != nil) != (len(f.Names) > 0) {
		return errors.New("what issues it, and the names that it is for, come together")
	}
	if f.Order != nil {
		if f.By != "" {
			return errors.New("it is issued by a profile, or ordered from outside, and not both")
		}
		if err := f.Order.Check(); err != nil {
			return err
		}
	}
	if f.By != "" {
		if by, err := reference.Parse(f.By); err != nil || by.Item == "" || by.Version != 0 || by.Field != "" {
			return fmt.Errorf("profile %.100q is not of the form DRAWER/PROFILE", f.By)
		}
	}
	for path := range f.places() {
		if !filepath.IsAbs(path) {
			return fmt.Errorf("%.100q is not an absolute path", path)
		}
	}
	_, err = f.mode()
	return err
}

func (f *Files) mode() (fs.FileMode, error) {
	if f.Mode == "" {
		return 0o400, nil
	}
	bits, err := strconv.ParseUint(f.Mode, 8, 32)
	if err != nil {
		return 0, fmt.Errorf("mode %.20q is not an octal number such as 0440", f.Mode)
	}
	return fs.FileMode(bits), nil
}

// places are the files, each with the fields that go into it.
func (f *Files) places() map[string][]string {
	if f.Both != "" {
		return map[string][]string{f.Both: {"certificate", "private"}}
	}
	return map[string][]string{f.Chain: {"certificate"}, f.Key: {"private"}}
}

// Keeper keeps files.
type Keeper struct {
	Files
	Chest *client.Client
	Log   *slog.Logger
	Now   func() time.Time // nil for the machine's clock
	Ran   func(error)      // is told of each time that the command ran; nil for nobody

	version int  // that is in the files
	told    bool // the command ran for it
	revoked bool // its authority says that it is not to be trusted any more
}

// replaced are the reasons of a revocation after which there is to be another certificate: the holder keeps its names (RFC 5280, section
// 5.3.1).
var replaced = []string{"unspecified", "key_compromise", "superseded"}

// Times. After something did not work it is tried again soon, and then less and less often.
const (
	soonest = time.Minute
	seldom  = 30 * time.Minute
	longest = 24 * time.Hour // between two looks, whatever there is to wait for
)

// Keep keeps the files new until the context ends. What does not work is said in the log, and tried again: what is in the files is good for
// weeks by then.
func (k *Keeper) Keep(ctx context.Context) {
	if k.Now == nil {
		k.Now = time.Now
	}
	pause := soonest
	for ctx.Err() == nil {
		next, err := k.once(ctx)
		switch {
		case err == nil:
			pause = soonest
		case ctx.Err() == nil:
			k.Log.Warn("the files of a certificate are not as they should be", "certificate", k.Certificate, "error", err, "again", pause)
			next, pause = pause, min(2*pause, seldom)
		}
		k.wait(ctx, next)
	}
}

// once looks after the files, and says after how long to look again at the latest.
func (k *Keeper) once(ctx context.Context) (time.Duration, error) {
	value, err := k.Chest.ReadValue(ctx, k.Certificate)
	switch reason := reasonOf(err); {
	case reason == "ended":
		if err = k.renew(ctx); err == nil {
			value, err = k.Chest.ReadValue(ctx, k.Certificate)
		}
	case k.Order != nil && (reason == "not_found" || reason == "staged"): // a key may wait there for its certificate
		if err = k.renew(ctx); err == nil {
			value, err = k.Chest.ReadValue(ctx, k.Certificate)
		}
	case reason == "not_found" && k.By != "":
		if value, err = k.issue(ctx); err == nil {
			k.Log.Info("a certificate was issued", "certificate", k.Certificate, "version", value.Version)
		}
	}
	if err != nil {
		return 0, err
	}
	at, err := renewAt(value)
	if err != nil {
		return 0, err
	}
	due := at.Sub(k.Now())
	if k.revoked && value.Version == k.version {
		k.Log.Warn("the certificate was revoked: another one takes its place", "certificate", k.Certificate, "version", k.version)
		due = 0
	}
	var failed error // to renew: the files get what there is
	if due <= 0 {
		if failed = k.renew(ctx); failed == nil {
			if value, err = k.Chest.ReadValue(ctx, k.Certificate); err != nil {
				return 0, err
			}
			if at, err = renewAt(value); err != nil {
				return 0, err
			}
			if due = at.Sub(k.Now()); due <= 0 { // another one each minute would not help
				due = longest
				k.Log.Warn("the certificate that was just renewed is due already: does the clock of this host go right?", "certificate",
					k.Certificate)
			}
		}
	}
	if err := errors.Join(k.put(ctx, value), failed); err != nil {
		return 0, err
	}
	return min(max(due, soonest), longest), nil
}

// reasonOf is why there is no value: that there is no such item, or a state of its version; empty for anything else.
func reasonOf(err error) string {
	var problem *client.Problem
	switch {
	case !errors.As(err, &problem):
		return ""
	case problem.Code == "not_servable":
		return problem.Reason
	}
	return problem.Code
}

func (k *Keeper) renew(ctx context.Context) error {
	ref, _ := reference.Parse(k.Certificate) // checked
	var err error
	if k.Order != nil {
		_, err = k.Order.Obtain(ctx, k.Chest, k.Certificate, k.Names)
	} else {
		_, err = k.Chest.RenewCertificate(ctx, ref.Drawer, ref.Item, "", false)
	}
	if err == nil {
		k.Log.Info("there is a new certificate", "certificate", k.Certificate)
	}
	return err
}

func (k *Keeper) issue(ctx context.Context) (v client.Value, err error) {
	by, _ := reference.Parse(k.By) // checked
	if _, err = k.Chest.IssueCertificate(ctx, by.Drawer, by.Item, client.Order{Names: k.Names, Into: k.Certificate}); err != nil {
		return v, err
	}
	return k.Chest.ReadValue(ctx, k.Certificate)
}

// renewAt is when the certificate of a value is to be renewed: after two thirds of the time for which it is served, which rules can make
// shorter than its life.
func renewAt(v client.Value) (time.Time, error) {
	chain, _, err := cert.ReadChain(v.Field("certificate"), nil)
	if err != nil {
		return time.Time{}, fmt.Errorf("%s is no certificate: %w", v.Reference, err)
	}
	f := cert.Describe(chain[0])
	if !v.NotAfter.IsZero() && v.NotAfter.Before(f.NotAfter) {
		f.NotBefore, f.NotAfter = v.CreatedAt, v.NotAfter
	}
	return f.RenewAt(rand.Float64()), nil
}

// put puts a value into the files, where they have another one, and runs the command.
func (k *Keeper) put(ctx context.Context, v client.Value) error {
	mode, err := k.mode()
	if err != nil {
		return err
	}
	for path, fields := range k.places() {
		var content []byte
		for _, name := range fields {
			content = append(content, v.Field(name)...)
		}
		if len(content) == 0 {
			return fmt.Errorf("%s is no certificate with its key", k.Certificate)
		}
		there, err := os.ReadFile(path)
		if err == nil && bytes.Equal(there, content) {
			continue
		}
		if err := (placefile.Place{Path: path, Mode: mode, Owner: k.Owner, InRepository: true}).Put(content); err != nil {
			return err
		}
		k.told = false
		clear(content)
	}
	if k.version != 0 && k.version != v.Version {
		k.told = false
	}
	if k.version = v.Version; k.told || len(k.Then) == 0 {
		k.told = true
		return nil
	}
	program := exec.CommandContext(ctx, k.Then[0], k.Then[1:]...)
	output, err := program.CombinedOutput()
	if k.Ran != nil {
		k.Ran(err)
	}
	if err != nil {
		return fmt.Errorf("%s: %w: %.200s", k.Then[0], err, bytes.TrimSpace(output))
	}
	k.told = true
	k.Log.Info("the files are new, and the program was told", "certificate", k.Certificate, "version", v.Version)
	return nil
}

// wait waits for so long, or until the chest says that another version is served.
func (k *Keeper) wait(ctx context.Context, most time.Duration) {
	ctx, stop := context.WithTimeout(ctx, most)
	defer stop()
	for ctx.Err() == nil {
		if k.version != 0 {
			_ = k.Chest.WatchValues(ctx, []string{k.Certificate}, func(ch client.Check) error {
				before := k.revoked // then it is tried again when it is time to
				k.revoked = ch.Version == k.version && slices.Contains(replaced, ch.Revoked)
				if k.revoked && !before || ch.Served && ch.Version != k.version {
					stop()
				}
				return nil
			})
		}
		select { // it ended with the token, or the chest is away
		case <-ctx.Done():
		case <-time.After(soonest / 2):
		}
	}
}
