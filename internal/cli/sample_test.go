package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tansu/internal/chesttest"
)

// Each sample reads the value as an app that the environment names, where the machine has the language; and fails by its exit code, with
// the reason and the receipt, when it is refused.
func TestSamplesRun(t *testing.T) {
	steward, chest := signedIn(t)
	const value = "a value; with 'quotes' and\na second line"
	chest.Fill(t, "gates", "radio-key", value)
	chest.Fill(t, "quay", "radio-key", value)
	secret, _ := chest.App(t, "gate-controller", chesttest.Grant{Role: "consumer", Scope: "gates/**"})
	root, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "secret"), []byte(secret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	// As one that is signed in, for what uses the command.
	steward.ok(t, "", "app", "add", "shell-user")
	steward.ok(t, "", "grant", "give", "app:shell-user", "consumer", "gates/**")
	host := hostOf(t, steward, chest, "shell-user")
	environment := append(os.Environ(), "TANSU_ADDRESS="+chest.URL()+"/",
		"TANSU_AUTHORITY="+filepath.Join(chest.Dir, "chest", "authority.crt"),
		"TANSU_APP=gate-controller",
		"TANSU_SECRET_FILE="+filepath.Join(dir, "secret"), "TANSU_HOME="+host.home, "TANSU_PROFILE=",
		"PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
	for language, run := range map[string][]string{
		"shell": {"sh", "FILE"}, "curl": {"sh", "FILE"}, "go": {"go", "run", "FILE"}, "python": {"python3", "FILE"},
		"javascript": {"node", "FILE"}, "java": {"java", "FILE"},
	} {
		t.Run(language, func(t *testing.T) {
			if _, err := exec.LookPath(run[0]); err != nil {
				t.Skipf("%s is not on this machine", run[0])
			}
			names := map[string]string{"shell": "read.sh", "curl": "read-curl.sh", "go": "main.go", "python": "read.py", "javascript": "read.mjs",
				"java": "Read.java"}
			try := func(reference string) (string, error) {
				file := filepath.Join(t.TempDir(), names[language])
				if err := os.WriteFile(file, []byte(steward.ok(t, "", "sample", reference, language)), 0o600); err != nil {
					t.Fatal(err)
				}
				command := exec.Command(run[0], append(append([]string{}, run[1:len(run)-1]...), file)...)
				command.Dir, command.Env = root, environment
				out, err := command.CombinedOutput()
				return string(out), err
			}
			if out, err := try("quay/radio-key"); err == nil || !strings.Contains(out, "receipt") || strings.Contains(out, "quotes") {
				t.Errorf("refused: %v: %s", err, out)
			}
			out, err := try("gates/radio-key")
			if first, _, _ := strings.Cut(strings.TrimSpace(string(out)), " "); err != nil || first != "40" || len(value) != 40 {
				t.Errorf("%v: %s", err, out)
			}
		})
	}
	if r := steward.run(t, "", "sample", "gates/radio-key", "cobol"); r.code != 2 || !strings.Contains(r.talk, "csharp") {
		t.Errorf("%+v", r)
	}
	if r := steward.run(t, "", "sample", "gates/radio-key@2#pin"); r.code != 0 ||
		!strings.Contains(r.out, "/api/values/gates/radio-key@2?field=pin") {
		t.Errorf("of a version's field: %+v", r)
	}
}
