package server_test

import (
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"testing"
	"unsafe"

	"golang.org/x/sys/unix"

	"tansu/client"
	"tansu/internal/chesttest"
)

// faultyDisk makes every sync of this process fail while failing is set. The kernel asks here about each (seccomp's user
// notification), which takes no rights, holds for all threads, and for as long as the process lives.
func faultyDisk(failing *atomic.Bool) error {
	filter := []unix.SockFilter{
		{Code: unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, K: 0}, // the number of the call
		{Code: unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K, K: unix.SYS_FSYNC, Jt: 2},
		{Code: unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K, K: unix.SYS_FDATASYNC, Jt: 1},
		{Code: unix.BPF_RET | unix.BPF_K, K: unix.SECCOMP_RET_ALLOW},
		{Code: unix.BPF_RET | unix.BPF_K, K: unix.SECCOMP_RET_USER_NOTIF},
	}
	program := unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("no new privileges: %w", err)
	}
	const flags = unix.SECCOMP_FILTER_FLAG_NEW_LISTENER | unix.SECCOMP_FILTER_FLAG_TSYNC | unix.SECCOMP_FILTER_FLAG_TSYNC_ESRCH
	listener, _, errno := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, flags, uintptr(unsafe.Pointer(&program)))
	if errno != 0 {
		return fmt.Errorf("seccomp: %w", errno)
	}
	go func() {
		for {
			var asked struct { // struct seccomp_notif
				id         uint64
				pid, flags uint32
				call       [64]byte
			}
			if _, _, errno := unix.Syscall(unix.SYS_IOCTL, listener, unix.SECCOMP_IOCTL_NOTIF_RECV, uintptr(unsafe.Pointer(&asked))); errno != 0 {
				continue
			}
			answer := struct { // struct seccomp_notif_resp
				id    uint64
				value int64
				errno int32
				flags uint32
			}{id: asked.id, flags: unix.SECCOMP_USER_NOTIF_FLAG_CONTINUE}
			if failing.Load() {
				answer.flags, answer.errno = 0, -int32(unix.EIO)
			}
			_, _, _ = unix.Syscall(unix.SYS_IOCTL, listener, unix.SECCOMP_IOCTL_NOTIF_SEND, uintptr(unsafe.Pointer(&answer)))
		}
	}()
	return nil
}

// When the disk does not confirm what is written, no value comes out and nothing is acknowledged; the chest says so, and
// goes on by itself. What was acknowledged is there after a restart, and the trail verifies. A process of its own runs
// this, because what makes the disk fail cannot be taken off it again.
func TestFailingSyncServesNothingAndRecovers(t *testing.T) {
	if os.Getenv("TANSU_FAULTY_DISK") == "" {
		command := exec.Command(os.Args[0], "-test.run=^TestFailingSyncServesNothingAndRecovers$", "-test.v")
		command.Env = append(os.Environ(), "TANSU_FAULTY_DISK=1")
		out, err := command.CombinedOutput()
		switch {
		case strings.Contains(string(out), "--- SKIP"):
			t.Skipf("%s", out)
		case err != nil || !strings.Contains(string(out), "--- PASS"):
			t.Fatalf("%v\n%s", err, out)
		}
		return
	}
	var failing atomic.Bool
	if err := faultyDisk(&failing); err != nil {
		t.Skipf("the kernel does not let a disk fail here: %v", err)
	}
	chest := chesttest.Start(t)
	const value = "canary of the failing disk"
	chest.Fill(t, "d", "i", value)
	_, token := chest.App(t, "ticket-api", chesttest.Grant{Role: "consumer", Scope: "d/**"})
	steward := chest.Client(t, chest.Steward)
	do := func(method, path, token string) chesttest.Answer {
		return chest.Do(t, chesttest.Call{Method: method, Path: path, Token: token})
	}
	if answer := do("GET", "/api/values/d/i", token); answer.Status != 200 {
		t.Fatalf("before: %d %s", answer.Status, answer.Body)
	}
	before := trailLength(t, steward)

	failing.Store(true)
	for range 20 {
		answer := do("GET", "/api/values/d/i", token)
		if answer.Status != 503 || answer.Problem.Code != "not_recorded" ||
			strings.Contains(string(answer.Body), base64.StdEncoding.EncodeToString([]byte(value))) {
			t.Fatalf("while it fails: %d %s", answer.Status, answer.Body)
		}
	}
	if _, err := steward.AddVersion(ctx, "d", "i", 0, client.Content([]byte("lost"))); chesttest.Code(err) != "not_recorded" {
		t.Errorf("a write while it fails: %v", err)
	}
	if answer := do("GET", "/api/ready", ""); answer.Status != 503 || answer.Problem.Code != "not_recorded" {
		t.Errorf("ready while it fails: %d %s", answer.Status, answer.Body)
	}
	if status, err := steward.Status(ctx); err != nil || status.Records {
		t.Errorf("status while it fails: %+v, %v", status, err)
	}
	if answer := do("GET", "/api/health", ""); answer.Status != 200 {
		t.Errorf("the process answers no more: %d", answer.Status)
	}

	failing.Store(false)
	// it looks by itself: nobody sends anything to a service that is not ready
	if answer := do("GET", "/api/ready", ""); answer.Status != 200 {
		t.Errorf("ready afterwards: %d %s", answer.Status, answer.Body)
	}
	if status, err := steward.Status(ctx); err != nil || !status.Records {
		t.Errorf("status afterwards: %+v, %v", status, err)
	}
	if read, err := chest.Client(t, token).ReadValue(ctx, "d/i"); err != nil || read.Version != 1 {
		t.Errorf("version %d is served, %v: a write that was not acknowledged is there", read.Version, err)
	}
	if after := trailLength(t, steward); after != before+2 { // the looking before, and the read now
		t.Errorf("the trail grew from %d to %d: something that was refused is in it, or something that was served is not", before, after)
	}
	chest.Restart(t)
	if touched, err := chest.Client(t, chest.Steward).Examine(ctx); err != nil || len(touched) != 0 {
		t.Errorf("examined after a restart: %v, %v", touched, err)
	}
	if answer := do("GET", "/api/values/d/i", token); answer.Status != 200 {
		t.Errorf("after a restart: %d", answer.Status)
	}
}

// trailLength is the number of the newest entry before the one that asking makes.
func trailLength(t *testing.T, c *client.Client) uint64 {
	t.Helper()
	page, err := c.Trail(ctx, client.TrailFilter{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	return page.Entries[0].Seq
}
