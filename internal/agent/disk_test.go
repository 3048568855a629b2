package agent_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"tansu/client"
)

// shelved is a host whose agent keeps what it keeps on the disk, too.
func shelved(t *testing.T) (h *host, file string) {
	t.Helper()
	if _, err := unix.KeyctlGetKeyringID(unix.KEY_SPEC_USER_KEYRING, true); err != nil {
		t.Skipf("the kernel keeps no keys for this user here: %v", err)
	}
	h = startHost(t)
	h.extra = "shelf: " + filepath.Join(h.dir, "kept") + "\n"
	return h, filepath.Join(h.dir, "kept", "gates.shelf")
}

// keep starts an agent and waits until a value is on the disk.
func (h *host) keep(file string) (stop func() error) {
	h.t.Helper()
	running := h.start()
	h.until("it is kept", func() bool { v, _ := h.read("gates/pin"); return v.Kept })
	h.until("it is on the disk", func() bool { info, err := os.Stat(file); return err == nil && info.Size() > 100 })
	return running.Stop
}

// An agent that starts anew during an outage has what the one before had. On the disk nobody can read it, and what somebody
// changes there is not used.
func TestAnAgentThatStartsDuringAnOutageHasWhatTheOneBeforeHad(t *testing.T) {
	h, file := shelved(t)
	stop := h.keep(file)
	h.away()
	if err := stop(); err != nil {
		t.Fatal(err)
	}
	sealed, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
	for _, clear := range []string{"4711", "NDcxMQ", "gates/pin", "sealed"} {
		if bytes.Contains(sealed, []byte(clear)) {
			t.Errorf("the file has %q", clear)
		}
	}
	stop = h.start().Stop
	if v, code := h.read("gates/pin"); code != "" || !v.Away || !v.Kept || v.Value != "NDcxMQ==" {
		t.Errorf("%+v, %s", v, code)
	}
	if _, code := h.read("strict/pin"); code != "chest_away" {
		t.Errorf("what may not be kept: %s", code)
	}
	if err := stop(); err != nil {
		t.Fatal(err)
	}
	sealed, err = os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	sealed[len(sealed)/2] ^= 1
	if err := os.WriteFile(file, sealed, 0o600); err != nil {
		t.Fatal(err)
	}
	h.start()
	if v, code := h.read("gates/pin"); code != "chest_away" {
		t.Errorf("what was changed: %+v, %s", v, code)
	}
}

// A credential that is ended ends what is kept, in memory and on the disk, as soon as the agent hears of it.
func TestWhatIsKeptEndsWithTheCredential(t *testing.T) {
	h, file := shelved(t)
	stop := h.keep(file)
	page, err := h.steward.Trail(ctx, client.TrailFilter{Action: "host_key", Subject: "app:gate-controller"})
	if err != nil || len(page.Entries) != 1 || page.Entries[0].Outcome != "allowed" ||
		!strings.HasPrefix(page.Entries[0].Detail, "for credential cr_") {
		t.Errorf("the trail has %+v, %v", page.Entries, err)
	}
	copied, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	credential := strings.TrimPrefix(page.Entries[0].Detail, "for credential ")
	if err := h.steward.RevokeCredential(ctx, "app:gate-controller", credential); err != nil {
		t.Fatal(err)
	}
	h.until("the file is gone", func() bool { _, err := os.Stat(file); return err != nil })
	h.away()
	if v, code := h.read("gates/pin"); code == "" {
		t.Errorf("it is still served: %+v", v)
	}
	if err := stop(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, copied, 0o600); err != nil { // by somebody who took a copy before
		t.Fatal(err)
	}
	h.start()
	if v, code := h.read("gates/pin"); code != "chest_away" {
		t.Errorf("from a copy of the file: %+v, %s", v, code)
	}
}

// The key is for hosts of apps, the same each time for a credential, and no other one's.
func TestTheKeyOfAHost(t *testing.T) {
	h := startHost(t)
	if _, err := h.steward.HostKey(ctx); err == nil {
		t.Error("a person got one")
	}
	keys := map[string]bool{}
	for range 2 {
		key, public, err := client.NewKey()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := h.steward.IssueCredential(ctx, "app:gate-controller", client.NewCredential{Kind: "key", PublicKey: public}); err != nil {
			t.Fatal(err)
		}
		authority, err := h.Authority()
		if err != nil {
			t.Fatal(err)
		}
		for range 2 { // each signs in anew
			app, err := client.New(client.Options{Address: h.address, Authority: authority, App: "gate-controller", Key: key})
			if err != nil {
				t.Fatal(err)
			}
			got, err := app.HostKey(ctx)
			if err != nil || len(got) != 32 {
				t.Fatalf("%x, %v", got, err)
			}
			keys[string(got)] = true
		}
	}
	if len(keys) != 2 {
		t.Errorf("%d keys of two credentials", len(keys))
	}
}
