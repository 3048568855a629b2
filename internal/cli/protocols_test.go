package cli_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	osuser "os/user"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tansu/client"
	"tansu/internal/chesttest"
)

// tool finds a program of Debian's packages, which scripts/install.sh installs.
func tool(t *testing.T, name string) string {
	t.Helper()
	for _, path := range []string{name, "/usr/sbin/" + name} {
		if found, err := exec.LookPath(path); err == nil {
			return found
		}
	}
	t.Fatalf("%s is missing: run make test, which installs it", name)
	return ""
}

// reads counts what the trail has of an app's reads of an item.
func reads(t *testing.T, chest *chesttest.Chest, target string) int {
	t.Helper()
	page, err := chest.Client(t, chest.Steward).Trail(t.Context(),
		client.TrailFilter{Subject: "app:ticket-api", Action: "read_value", Target: target, Outcome: "allowed", Limit: 500})
	if err != nil {
		t.Fatal(err)
	}
	return len(page.Entries)
}

func TestGitGetsItsPasswordFromTheChest(t *testing.T) {
	steward, chest := signedIn(t)
	steward.ok(t, "", "drawer", "add", "ci", "--env", "staging")
	steward.ok(t, "pass=word; with $signs", "put", "ci/code-login", "--shape", "login", "--plain", "user=ledger-job", "--field", "password")
	chest.Fill(t, "ci", "token", "plain-token")
	u := asApp(t, steward, chest)
	steward.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "ci/**")
	git := func(helper, asked string) (string, error) {
		c := exec.Command(tool(t, "git"), "-c", "credential.helper=", "-c", "credential.helper=!"+program+" git-credential "+helper,
			"credential", "fill")
		c.Env = append(u.command().Env, "GIT_TERMINAL_PROMPT=0", "GIT_ASKPASS=true", "GIT_CONFIG_NOSYSTEM=1", "HOME="+t.TempDir())
		c.Stdin = strings.NewReader(asked)
		out, err := c.Output()
		return string(out), err
	}
	out, err := git("ci/code-login --host code.harbour.example", "protocol=https\nhost=code.harbour.example\n\n")
	if err != nil || !strings.Contains(out, "username=ledger-job\n") || !strings.Contains(out, "password=pass=word; with $signs\n") {
		t.Errorf("%q, %v", out, err)
	}
	if out, err := git("ci/token --host code.harbour.example", "protocol=https\nhost=code.harbour.example\nusername=me\n\n"); err != nil ||
		!strings.Contains(out, "username=me\npassword=plain-token\n") {
		t.Errorf("a text: %q, %v", out, err)
	}
	for what, asked := range map[string]string{"another host": "protocol=https\nhost=code.elsewhere.example\n\n",
		"without TLS": "protocol=http\nhost=code.harbour.example\n\n"} {
		if out, _ := git("ci/code-login --host code.harbour.example", asked); strings.Contains(out, "pass=word") {
			t.Errorf("%s: %q", what, out)
		}
	}
	if n := reads(t, chest, "ci/code-login"); n != 1 {
		t.Errorf("%d reads in the trail", n)
	}
}

// ssh and sshd themselves, with a key that is on no disk: each use is in the trail, and a grant that ends, ends it at once.
func TestAnSSHLoginWithALentKey(t *testing.T) {
	steward, chest := signedIn(t)
	dir := t.TempDir()
	keygen := func(name string) {
		path := filepath.Join(dir, name)
		if out, err := exec.Command(tool(t, "ssh-keygen"), "-q", "-t", "ed25519", "-N", "", "-f", path).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	keygen("host")
	keygen("login")
	public, err := os.ReadFile(filepath.Join(dir, "login.pub"))
	if err != nil {
		t.Fatal(err)
	}
	steward.ok(t, "", "drawer", "add", "gates", "--env", "staging")
	steward.ok(t, "", "put", "gates/ssh", "--shape", "ssh_key", "--field-file", "private="+filepath.Join(dir, "login"))
	if err := os.Remove(filepath.Join(dir, "login")); err != nil {
		t.Fatal(err)
	}
	u := asApp(t, steward, chest)
	var given struct {
		Grant struct{ ID string } `json:"grant"`
	}
	decode(t, steward.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "gates/**", "-o", "json"), &given)
	me, err := osuser.Current()
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string]string{
		"authorized": string(public),
		"sshd.conf": fmt.Sprintf("HostKey %s/host\nAuthorizedKeysFile %s/authorized\nStrictModes no\nUsePAM no\nPasswordAuthentication "+
			"no\nPermitRootLogin yes\nPidFile none\n", dir, dir),
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if os.Getuid() == 0 {
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // sshd's own place, which its package makes at start
			t.Fatal(err)
		}
	}
	login := []string{"lend", "--key", "gates/ssh", "--", "ssh", "-F", "none", "-o", "ProxyCommand=" + tool(t, "sshd") + " -i -f " + dir +
		"/sshd.conf",
		"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "BatchMode=yes", "-o", "LogLevel=ERROR", me.Username +
			"@gate-3.harbour.example", "echo the gate is open; exit 9"}
	if r := u.run(t, "", login...); r.code != 9 || r.out != "the gate is open\n" {
		t.Fatalf("%+v", r)
	}
	if n := reads(t, chest, "gates/ssh"); n != 2 { // for its public half, and for one signature
		t.Errorf("%d reads in the trail", n)
	}
	if r := u.run(t, "", "lend", "--key", "gates/ssh", "--", "ssh-add", "-L"); r.code != 0 ||
		!strings.HasPrefix(r.out, strings.Join(strings.Fields(string(public))[:2], " ")) {
		t.Errorf("ssh-add: %+v", r)
	}
	if r := u.run(t, "", "lend", "--key", "gates/ssh", "--", "ssh-add", "-D"); r.code == 0 {
		t.Errorf("keys were taken out: %+v", r)
	}
	for _, kind := range []string{"ed25519", "ecdsa-p256", "rsa-2048"} { // keys that stay in the chest
		name := "gates/" + kind
		steward.ok(t, "", "key", "create", name, "--type", kind)
		public := steward.ok(t, "", "key", "show", name, "--public", "ssh")
		for file, content := range map[string]string{"authorized": public, "release.tar": "a release", "signers": "release@gates " + public} {
			if err := os.WriteFile(filepath.Join(dir, file), []byte(content), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		stays := slices.Clone(login)
		stays[2] = name
		if r := u.run(t, "", stays...); r.code != 9 || r.out != "the gate is open\n" {
			t.Errorf("%s, which stays in the chest: %+v", kind, r)
		}
		signature := filepath.Join(dir, kind+".sig")
		u.ok(t, "", "key", "sign", name, filepath.Join(dir, "release.tar"), "--ssh", "file", "--out", signature)
		verify := exec.Command(tool(t, "ssh-keygen"), "-Y", "verify", "-f", filepath.Join(dir, "signers"), "-I", "release@gates", "-n", "file",
			"-s", signature)
		for message, good := range map[string]bool{"a release": true, "another release": false} {
			check := *verify
			check.Stdin = strings.NewReader(message)
			if out, err := check.CombinedOutput(); (err == nil) != good {
				t.Errorf("ssh-keygen says of %q and %s: %s", message, kind, out)
			}
		}
	}
	steward.ok(t, "", "grant", "end", given.Grant.ID)
	if r := u.run(t, "", login...); r.code != 3 || strings.Contains(r.out, "open") ||
		!strings.Contains(r.talk, "tansu grant give app:ticket-api") {
		t.Errorf("after the grant was ended: %+v", r)
	}
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "tansu-lent-*"))
	if err != nil || len(left) != 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}

// fakePostgres speaks as much of PostgreSQL's protocol (version 3) as psql needs to sign in with a password and ask one thing.
func fakePostgres(t *testing.T, user, password string) (port int) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			connection, err := listener.Accept()
			if err != nil {
				return
			}
			go servePostgres(connection, user, password)
		}
	}()
	return listener.Addr().(*net.TCPAddr).Port
}

func servePostgres(c net.Conn, user, password string) {
	defer func() { _ = c.Close() }()
	message := func(kind byte, body []byte) {
		framed := append([]byte{kind}, binary.BigEndian.AppendUint32(nil, uint32(len(body)+4))...)
		_, _ = c.Write(append(framed, body...))
	}
	body := func() []byte {
		var size [4]byte
		if _, err := io.ReadFull(c, size[:]); err != nil {
			return nil
		}
		content := make([]byte, binary.BigEndian.Uint32(size[:])-4)
		_, _ = io.ReadFull(c, content)
		return content
	}
	startup := body()
	for len(startup) == 4 { // a question about encryption: no
		_, _ = c.Write([]byte("N"))
		startup = body()
	}
	message('R', []byte{0, 0, 0, 3}) // a password in the clear
	kind := make([]byte, 1)
	_, _ = io.ReadFull(c, kind)
	if given := bytes.TrimRight(body(), "\x00"); string(given) != password || !bytes.Contains(startup, []byte("user\x00"+user+"\x00")) {
		message('E', []byte("SFATAL\x00C28P01\x00Mpassword authentication failed\x00\x00"))
		return
	}
	message('R', []byte{0, 0, 0, 0})
	message('Z', []byte("I"))
	for {
		if _, err := io.ReadFull(c, kind); err != nil {
			return
		}
		body()
		if kind[0] == 'Q' {
			message('T', []byte("\x00\x01answer\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x19\xff\xff\xff\xff\xff\xff\x00\x00"))
			message('D', append([]byte{0, 1, 0, 0, 0, 7}, "ferries"...))
			message('C', []byte("SELECT 1\x00"))
			message('Z', []byte("I"))
		}
	}
}

// psql and libpq sign in with what they are handed: variables, a service file in memory, a password file in memory, a URL.
func TestPsqlSignsInWithWhatItIsHanded(t *testing.T) {
	steward, chest := signedIn(t)
	const password = "it's a \\ nightly; job"
	port := fakePostgres(t, "ledger", password)
	steward.ok(t, "", "drawer", "add", "billing", "--env", "staging")
	steward.ok(t, password, "put", "billing/db", "--shape", "connection", "--plain", "engine=postgresql", "--plain", "host=127.0.0.1",
		"--plain", fmt.Sprint("port=", port), "--plain", "user=ledger", "--plain", "database=bills", "--field", "password")
	chest.Fill(t, "billing", "pgpass", "127.0.0.1:*:*:ledger:"+strings.NewReplacer(`\`, `\\`, ":", `\:`).Replace(password)+"\n")
	chest.Fill(t, "billing", "service", fmt.Sprintf("[bills]\nhost=127.0.0.1\nport=%d\nuser=ledger\ndbname=bills\npassword=%s\n", port,
		password))
	u := asApp(t, steward, chest)
	steward.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "billing/**")
	t.Setenv("PGSSLMODE", "disable")
	target := fmt.Sprintf("host=127.0.0.1 port=%d user=ledger dbname=bills", port)
	psql := []string{tool(t, "psql"), "-w", "-X", "-A", "-t", "-c", "select 'ferries'"}
	for name, c := range map[string]struct {
		need      string
		arguments []string
	}{
		"a variable":      {"{ variable: PGPASSWORD, reference: billing/db#password }", append(psql, target)},
		"a password file": {"{ file: pgpass, variable: PGPASSFILE, reference: billing/pgpass }", append(psql, target)},
		"a service file":  {"{ file: service.conf, variable: PGSERVICEFILE, reference: billing/service }", append(psql, "service=bills")},
		"a URL in a variable": {"{ variable: DATABASE_URL, reference: billing/db }",
			[]string{"sh", "-c", `exec "$0" -w -X -A -t -c "select 'ferries'" "$DATABASE_URL"`, psql[0]}},
	} {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "tansu.yaml"), []byte("manifest: 1\nneeds: ["+c.need+"]\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if r := u.in(t, dir, "", append([]string{"run", "--"}, c.arguments...)...); r.code != 0 || strings.TrimSpace(r.out) != "ferries" {
			t.Errorf("%s: %+v", name, r)
		}
	}
}

// curl takes a header from standard input, so that no token is among its arguments.
func TestCurlTakesItsHeaderFromStandardInput(t *testing.T) {
	steward, chest := signedIn(t)
	chest.Fill(t, "gates", "token", "canary-token")
	u := asApp(t, steward, chest)
	steward.ok(t, "", "grant", "give", "app:ticket-api", "consumer", "gates/**")
	var got string
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r.Header.Get("Authorization")
		_, _ = io.WriteString(w, "you sent "+got)
	}))
	defer service.Close()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "tansu.yaml"),
		[]byte("manifest: 1\nneeds: [{ variable: GATE_TOKEN, reference: gates/token }]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := u.in(t, dir, "", "run", "--", "sh", "-c", `printf 'Authorization: Bearer %s\n' "$GATE_TOKEN" | curl -s -H @- "$0"`,
		service.URL); r.code != 0 || got != "Bearer canary-token" || strings.Contains(r.out, "canary") {
		t.Errorf("%+v; the service got %q", r, got)
	}
}

// What is encrypted to a recipient is JWE that another program reads (José's jose(1)): to keys of its own, and to a key that Tansu made;
// and what that program encrypts, Tansu opens. Of RSA it knows only what Tansu does not use (RFC 8725, section 3.2).
func TestAnotherProgramReadsWhatIsEncrypted(t *testing.T) {
	u := withDrawer(t)
	u.ok(t, "$x and \"y\"\n", "put", "d/odd")
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	jose := func(arguments ...string) string {
		t.Helper()
		out, err := exec.Command("jose", arguments...).CombinedOutput()
		if err != nil {
			t.Fatalf("jose %v: %v: %s", arguments, err, out)
		}
		return string(out)
	}
	jose("jwk", "gen", "-i", `{"kty":"EC","crv":"P-256"}`, "-o", at("ec"))
	jose("jwk", "gen", "-i", `{"alg":"ECDH-ES+A256KW"}`, "-o", at("ec-521"))
	u.ok(t, "", "recipient", at("own"))
	u.ok(t, "", "export", "d", "--in-clear", "--out", at("clear"))
	clear, err := os.ReadFile(at("clear"))
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"ec", "ec-521", "own"} {
		if name != "own" {
			jose("jwk", "pub", "-i", at(name), "-o", at(name+".pub"))
		}
		u.ok(t, "", "export", "d", "--for", at(name+".pub"), "--out", at(name+".jwe"))
		if got := jose("jwe", "dec", "-i", at(name+".jwe"), "-k", at(name)); !strings.Contains(got, `$x and`) || len(got) != len(clear) {
			t.Errorf("%s: it reads %d bytes, and %d were exported", name, len(got), len(clear))
		}
	}
	jose("jwe", "enc", "-I", at("clear"), "-k", at("own.pub"), "-c", "-o", at("theirs.jwe"))
	u.ok(t, "", "open", at("theirs.jwe"), "--key", at("own"), "--out", at("theirs"))
	if theirs, err := os.ReadFile(at("theirs")); err != nil || string(theirs) != string(clear) {
		t.Errorf("what jose encrypted is %d bytes, %v", len(theirs), err)
	}
}
