package agent_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// systemd itself, as the first process of namespaces of its own, loads a credential for a unit that may have it, and does not
// start one that may not.
func TestSystemdItselfLoadsCredentials(t *testing.T) {
	const systemd = "/lib/systemd/systemd"
	if _, err := os.Stat("/run/systemd/system"); err == nil || os.Getuid() != 0 {
		t.Skip("it takes root, on a machine that systemd does not run")
	}
	if _, err := os.Stat(systemd); err != nil {
		t.Fatal("systemd is missing: run make test, which installs it")
	}
	h := startHost(t)
	credentials, units, out := filepath.Join(h.dir, "credentials.sock"), filepath.Join(h.dir, "units"), filepath.Join(h.dir, "out")
	h.extra = fmt.Sprintf("credentials: %s\nunits: [{ unit: gate.service, profile: gates, drawer: gates }]\n", credentials)
	h.start()
	for _, dir := range []string{units, out} {
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	const head = "[Unit]\nDefaultDependencies=no\n"
	service := func(name string) string {
		return fmt.Sprintf(head+"[Service]\nType=oneshot\nLoadCredential=pin:%s\nExecStart=/bin/sh -c 'cat $CREDENTIALS_DIRECTORY/pin > "+
			"%[2]s/%[3]s.got'\nExecStopPost=/bin/sh -c 'echo $SERVICE_RESULT > %[2]s/%[3]s.part; mv %[2]s/%[3]s.part %[2]s/%[3]s.ended'\n",
			credentials, out, name)
	}
	for name, content := range map[string]string{"gate.service": service("gate"), "other.service": service("other"), "test.target": head +
		"Wants=gate.service other.service\n"} {
		if err := os.WriteFile(filepath.Join(units, name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	script := "mount --make-rprivate / && mount --make-rshared / && mount -t tmpfs tmpfs /run && mkdir -p /run/systemd/system && cp " +
		units + "/* /run/systemd/system/ && exec " + systemd + " --system --unit=test.target --log-target=null --show-status=no"
	init := exec.Command("unshare", "--fork", "--kill-child", "--pid", "--mount", "--uts", "--ipc", "--cgroup", "--mount-proc", "sh", "-c",
		script)
	init.Env, init.SysProcAttr = append(os.Environ(), "container=test"), &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var said strings.Builder
	init.Stdout, init.Stderr = &said, &said
	if err := init.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() { _ = init.Wait(); close(ended) }()
	defer func() { _ = init.Process.Kill(); <-ended }()
	result := func(name string) string {
		var content []byte
		h.until(name+" has ended", func() bool {
			select {
			case <-ended:
				t.Skipf("systemd cannot be run in namespaces here: %s", &said)
			default:
			}
			var err error
			content, err = os.ReadFile(filepath.Join(out, name+".ended"))
			return err == nil
		})
		return strings.TrimSpace(string(content))
	}
	if got := result("gate"); got != "success" {
		t.Errorf("gate.service: %s", got)
	}
	if content, err := os.ReadFile(filepath.Join(out, "gate.got")); err != nil || string(content) != "4711" {
		t.Errorf("it got %q, %v", content, err)
	}
	if got := result("other"); got == "success" {
		t.Error("other.service was started")
	}
	if content, err := os.ReadFile(filepath.Join(out, "other.got")); err == nil && len(content) > 0 {
		t.Errorf("it got %q", content)
	}
}
