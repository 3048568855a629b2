package certapi_test

import (
	"strings"
	"testing"

	"tansu/client"
)

// A report about an exposed certificate says to revoke it, also when another one is served by now; one about an authority does not say to
// replace what cannot be; and one about a key says who used it.
func TestWhatFollowsWhenAKeyIsExposed(t *testing.T) {
	chest, curator, app := start(t)
	steward := chest.Client(t, chest.Steward)
	made := issue(t, app, "gate-1")
	steps := func(reference string) (commands string, x client.Exposure) {
		x = must[client.Exposure](t)(steward.Exposure(ctx, reference, client.NewExposure{}))
		for _, r := range x.Replace {
			commands += r.Command + "; "
		}
		return commands, x
	}
	revoke := "tansu authority revoke gates/authority " + made.Facts.Serial + " --why key_compromise; "
	if got, _ := steps("gates/gate-1@1"); got != "tansu cert renew gates/gate-1; tansu item suspend gates/gate-1@1; "+revoke {
		t.Errorf("of what is served: %s", got)
	}
	must[client.MadeCertificate](t)(app.RenewCertificate(ctx, "gates", "gate-1", "", false))
	if got, _ := steps("gates/gate-1@1"); !strings.HasSuffix(got, revoke) {
		t.Errorf("of what was replaced: %s", got)
	}
	must[client.IssuedCertificate](t)(curator.RevokeCertificate(ctx, "gates", "authority", made.Facts.Serial, "key_compromise"))
	if got, _ := steps("gates/gate-1@1"); strings.Contains(got, "revoke") {
		t.Errorf("of what is revoked: %s", got)
	}
	other := client.Order{Names: []string{"gate-2.harbour.example"}, Life: "90d"}
	must[client.MadeCertificate](t)(steward.SelfSigned(ctx, "gates", "by-itself", other))
	if got, x := steps("gates/by-itself@1"); strings.Contains(got, "revoke") || !strings.Contains(x.Replace[2].Why, "whoever issued it") {
		t.Errorf("of what was issued elsewhere: %s", got)
	}
	got, x := steps("gates/authority@1")
	if got != "tansu authority create gates/authority-new; tansu authority issued gates/authority --state good; " ||
		!strings.Contains(x.Replace[1].Why, "1 good certificate") || len(x.Holders) != 0 {
		t.Errorf("of an authority: %+v", x)
	}
	if err := signs(t, curator, "pass", "ed25519", ""); err != nil {
		t.Fatal(err)
	}
	must[client.KeyResult](t)(app.Sign(ctx, "gates/pass-key", "", []byte("rota")))
	must[client.Value](t)(app.ReadValue(ctx, "gates/secret"))
	got, x = steps("gates/pass-key@1")
	if got != "tansu key rotate gates/pass-key; tansu item suspend gates/pass-key@1; " || !x.Used || len(x.Readers) != 1 ||
		x.Readers[0].Subject != "app:gate-controller" || len(x.Holders) != 1 || !x.Holders[0].Did {
		t.Errorf("of a key: %s %+v", got, x)
	}
}
