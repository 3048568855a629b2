package cli_test

import (
	"bytes"
	"errors"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"tansu/internal/chesttest"

	"github.com/google/go-tpm/tpm2"
	"github.com/google/go-tpm/tpm2/transport/linuxudstpm"
)

// softTPM starts a TPM 2.0 in software, with its state in dir, and returns its socket and what switches it off.
func softTPM(t *testing.T, dir string) (socket string, off func()) {
	t.Helper()
	swtpm, err := exec.LookPath("swtpm")
	if err != nil {
		t.Skip("swtpm is not installed: scripts/install.sh test")
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	socket = filepath.Join(dir, "s")
	c := exec.Command(swtpm, "socket", "--tpm2", "--tpmstate", "dir="+dir, "--server", "type=unixio,path="+socket,
		"--ctrl", "type=unixio,path="+socket+".ctrl", "--flags", "startup-clear")
	var talk bytes.Buffer
	c.Stdout, c.Stderr = &talk, &talk
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	off = func() { _ = c.Process.Kill(); _ = c.Wait(); _ = os.Remove(socket); _ = os.Remove(socket + ".ctrl") }
	t.Cleanup(off)
	for deadline := time.Now().Add(10 * time.Second); ; {
		if _, err := os.Stat(socket); err == nil {
			return socket, off
		} else if !errors.Is(err, fs.ErrNotExist) || time.Now().After(deadline) {
			t.Fatalf("swtpm did not start: %v %s", err, talk.String())
		}
	}
}

// extend changes a register, as another boot loader would.
func extend(t *testing.T, socket string, register uint) {
	t.Helper()
	device, err := linuxudstpm.Open(socket)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = device.Close() }()
	_, err = tpm2.PCRExtend{PCRHandle: tpm2.AuthHandle{Handle: tpm2.TPMHandle(register), Auth: tpm2.PasswordAuth(nil)},
		Digests: tpm2.TPMLDigestValues{Digests: []tpm2.TPMTHA{{HashAlg: tpm2.TPMAlgSHA256, Digest: bytes.Repeat([]byte{7}, 32)}}}}.Execute(device)
	if err != nil {
		t.Fatal(err)
	}
}

// boots serves with a key file, and says whether the chest came up open.
func (o *operated) boots(t *testing.T, keyFile string) (open bool) {
	t.Helper()
	c := o.command("serve", "--dir", o.dir, "--listen", "127.0.0.1:0", "--key-file", keyFile)
	log, err := c.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
	said := make([]byte, 0, 1<<16)
	for chunk := make([]byte, 4096); !bytes.Contains(said, []byte("msg=serving")); {
		n, err := log.Read(chunk)
		said = append(said, chunk[:n]...)
		if err != nil {
			t.Fatalf("the service ended before it served: %s", said)
		}
	}
	return bytes.Contains(said, []byte("chest unlocked"))
}

// A chest that a TPM opens: in that machine, as long as it is started as it was, and nowhere else.
func TestATPMOpensAChestOfItsMachineOnly(t *testing.T) {
	o := operate(t)
	base, err := os.MkdirTemp("", "tpm-") // a socket's name is short
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(base) })
	socket, off := softTPM(t, filepath.Join(base, "a"))
	sealed := filepath.Join(base, "boot.sealed")
	by := "tpm:pcrs=7&device=" + url.QueryEscape(socket)
	r := o.run(t, "", "unlock-method", "add", "boot", "--new-key-file", sealed, "--sealed-by", "tpm:pcrs=24", "--key-file", o.key)
	if r.code == 0 || !strings.Contains(r.talk, "is not a register") {
		t.Errorf("a register that there is not: exit %d, %s", r.code, r.talk)
	}
	if r := o.run(t, "", "unlock-method", "add", "boot", "--passphrase", "--sealed-by", by, "--key-file", o.key); r.code != 2 {
		t.Errorf("a sealed passphrase: exit %d, %s", r.code, r.talk)
	}
	o.ok(t, "", "unlock-method", "add", "boot", "--new-key-file", sealed, "--sealed-by", by, "--key-file", o.key)
	r = o.run(t, "", "unlock-method", "end", "founding", "--key-file", sealed)
	if r.code == 0 || !strings.Contains(r.talk, "lost with hardware") {
		t.Errorf("only hardware would be left: exit %d, %s", r.code, r.talk)
	}
	if got := o.ok(t, "", "unlock-method", "list"); !strings.Contains(got, "hardware") {
		t.Errorf("the list: %s", got)
	}
	stop(t, o.process, o.end)

	if !o.boots(t, sealed) {
		t.Error("its own TPM did not open the chest")
	}
	off()
	if o.boots(t, sealed) {
		t.Error("opened without a TPM")
	}
	other, otherOff := softTPM(t, filepath.Join(base, "b"))
	content, err := os.ReadFile(sealed)
	if err != nil {
		t.Fatal(err)
	}
	moved := filepath.Join(base, "moved.sealed")
	content = bytes.ReplaceAll(content, []byte(url.QueryEscape(socket)), []byte(url.QueryEscape(other)))
	if err := os.WriteFile(moved, content, 0o600); err != nil {
		t.Fatal(err)
	}
	if o.boots(t, moved) {
		t.Error("another machine's TPM opened it")
	}
	otherOff()
	socket, _ = softTPM(t, filepath.Join(base, "a")) // started again, as it was
	if !o.boots(t, sealed) {
		t.Error("its own TPM did not open the chest after a restart")
	}
	extend(t, socket, 7)
	if o.boots(t, sealed) {
		t.Error("opened although the machine was started in another way")
	}
	address, _ := o.serve(t, "--dir", o.dir, "--key-file", sealed) // whoever holds another method still reaches it
	o.ok(t, "", "connect", address, "--authority", filepath.Join(o.dir, "authority.crt"))
	if r := o.run(t, "", "status"); r.code != 6 || !strings.Contains(r.out, "did not open the chest") {
		t.Errorf("status: exit %d, %s", r.code, r.out)
	}
	o.ok(t, "", "unlock", "--key-file", o.key)
	if r := o.run(t, "", "status"); r.code == 6 || strings.Contains(r.out, "did not open the chest") {
		t.Errorf("status afterwards: exit %d, %s", r.code, r.out)
	}
}

// softToken makes a PKCS #11 token in software, in a directory, and returns what writes a file there, and the URI of a key in it.
func softToken(t *testing.T, base string) (write func(name, content string) string, uri func(token, object, pin string) string) {
	t.Helper()
	const library = "/usr/lib/softhsm/libsofthsm2.so"
	if _, err := os.Stat(library); err != nil {
		t.Skip("softhsm2 is not installed: scripts/install.sh test")
	}
	write = func(name, content string) string {
		file := filepath.Join(base, name)
		if err := os.WriteFile(file, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	if err := os.Mkdir(filepath.Join(base, "tokens"), 0o700); err != nil {
		t.Fatal(err)
	}
	t.Setenv("SOFTHSM2_CONF", write("softhsm2.conf", "directories.tokendir = "+filepath.Join(base, "tokens")+"\nlog.level = ERROR\n"))
	if out, err := exec.Command("softhsm2-util", "--init-token", "--free", "--label", "harbour office", "--pin", "471100", "--so-pin",
		"471101").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	return write, func(token, object, pin string) string {
		return "pkcs11:token=" + url.PathEscape(token) + ";object=" + object + "?module-path=" + library + "&pin-source=file:" + pin
	}
}

// A master key that a token seals is there after each unlock with the token, and the drawers under it are closed without.
func TestATokenKeepsAMasterKey(t *testing.T) {
	o := operate(t)
	base := t.TempDir()
	write, uri := softToken(t, base)
	pin := write("pin", "471100\n")
	if r := o.run(t, "", "master-key", "make", "strongroom", "--token", "yard"); r.code != 2 || !strings.Contains(r.talk, "--pkcs11-token") {
		t.Errorf("a token that the service does not know: exit %d, %s", r.code, r.talk)
	}
	for _, wrong := range []string{"yard", "yard=/usr/lib/x.so", "=pkcs11:token=x", "Y!=pkcs11:token=x"} {
		if r := o.run(t, "", "serve", "--dir", filepath.Join(base, "none"), "--pkcs11-token", wrong); r.code != 2 {
			t.Errorf("--pkcs11-token %s: exit %d, %s", wrong, r.code, r.talk)
		}
	}
	again := func(more ...string) {
		t.Helper()
		stop(t, o.process, o.end)
		address, process := o.serve(t, append([]string{"--dir", o.dir, "--key-file", o.key, "--backup-to", o.backups, "--backup-recipient",
			o.recipient + ".pub", "--backup-every", "0", "--rehearse-every", "0"}, more...)...)
		o.process, o.end = process, func() error { return process.Process.Signal(syscall.SIGTERM) }
		o.ok(t, "", "connect", address, "--authority", filepath.Join(o.dir, "authority.crt"))
		o.ok(t, chesttest.Password+"\n", "sign-in", "person:steward")
	}
	token := []string{"--pkcs11-token", "yard=" + uri("harbour office", "master", pin)}
	again(token...)
	o.ok(t, "", "master-key", "make", "strongroom", "--token", "yard")
	o.ok(t, "", "drawer", "add", "crew-rota-prod", "--env", "production", "--master-key", "strongroom")
	o.ok(t, "who sails", "put", "crew-rota-prod/rota")
	o.ok(t, "", "grant", "give", "person:steward", "consumer", "**")
	served := func(what string, want int) {
		t.Helper()
		if r := o.run(t, "", "check", "crew-rota-prod/rota"); r.code != want {
			t.Errorf("%s: exit %d, %s", what, r.code, r.talk)
		}
	}
	served("with the token", 0)
	again(token...)
	served("after a restart with the token", 0)
	o.ok(t, "", "backup", "now")
	if r := o.run(t, "", "backup", "rehearse"); r.code != 0 {
		t.Errorf("a rehearsal while the token is there: exit %d, %s%s", r.code, r.out, r.talk)
	}
	o.ok(t, "", "master-key", "withdraw", "strongroom", "--name", "strongroom")
	served("withdrawn", 5)
	again(token...)
	served("withdrawn, after a restart with the token", 5)
	o.ok(t, "", "master-key", "give-back", "strongroom")
	served("given back", 0)

	again()
	served("without the token", 6)
	if r := o.run(t, "", "status"); r.code == 0 || !strings.Contains(r.out, "master key is not at hand") {
		t.Errorf("the status: exit %d, %s", r.code, r.out)
	}
	if r := o.run(t, "", "master-key", "give-back", "strongroom"); r.code != 5 || !strings.Contains(r.talk, "--pkcs11-token yard=") {
		t.Errorf("given back without the token: exit %d, %s", r.code, r.talk)
	}
	if r := o.run(t, "", "backup", "rehearse"); r.code == 0 || !strings.Contains(r.out+r.talk, "not looked at") {
		t.Errorf("a rehearsal that cannot look at everything: exit %d, %s%s", r.code, r.out, r.talk)
	}
	if err := os.Rename(filepath.Join(base, "tokens"), filepath.Join(base, "away")); err != nil {
		t.Fatal(err)
	}
	again(token...)
	served("with a token that is not there", 6)
	if err := os.Rename(filepath.Join(base, "away"), filepath.Join(base, "tokens")); err != nil {
		t.Fatal(err)
	}
	o.ok(t, "", "master-key", "give-back", "strongroom")
	served("with the token again", 0)
	o.ok(t, "", "master-key", "replace", "strongroom", "--no-master-key")
	again()
	served("taken from under it", 0)
}

// A chest that a token opens, by a key that cannot be read out of it.
func TestATokenOpensAChest(t *testing.T) {
	const library = "/usr/lib/softhsm/libsofthsm2.so"
	o := operate(t)
	base := t.TempDir()
	write, keyURI := softToken(t, base)
	uri := func(token, pin string) string { return keyURI(token, "unlock", pin) }
	pin, wrong := write("pin", "471100\n"), write("wrong", "000000\n")
	sealed := filepath.Join(base, "boot.sealed")
	for by, says := range map[string]string{
		uri("harbour office", wrong):                       "PIN is wrong",
		uri("another", pin):                                "0 of the",
		uri("harbour office", pin) + "&pin-value=471100":   "does not belong in the URI",
		"pkcs11:object=unlock":                             "which token",
		strings.ReplaceAll(uri("x", pin), library, "x.so"): "library",
		"floppy:": "neither tpm",
	} {
		r := o.run(t, "", "unlock-method", "add", "boot", "--new-key-file", sealed, "--sealed-by", by, "--key-file", o.key)
		if r.code == 0 || !strings.Contains(r.talk, says) || strings.Contains(r.talk, "471100") {
			t.Errorf("%s: exit %d, %s", by, r.code, r.talk)
		}
		if _, err := os.Stat(sealed); err == nil {
			t.Fatalf("%s left a file", by)
		}
	}
	o.ok(t, "", "unlock-method", "add", "boot", "--new-key-file", sealed, "--sealed-by", uri("harbour office", pin), "--key-file", o.key)
	o.ok(t, "", "root-key", "rotate", "--key-file", sealed)
	stop(t, o.process, o.end)
	if !o.boots(t, sealed) {
		t.Error("the token did not open the chest")
	}
	content, err := os.ReadFile(sealed)
	if err != nil {
		t.Fatal(err)
	}
	changed := write("changed", strings.Replace(string(content), `"ciphertext":"`, `"ciphertext":"AAAA`, 1))
	if o.boots(t, changed) {
		t.Error("something else than what was sealed opened it")
	}
	if err := os.RemoveAll(filepath.Join(base, "tokens")); err != nil {
		t.Fatal(err)
	}
	if o.boots(t, sealed) {
		t.Error("opened without the token")
	}
}
