package web_test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"tansu/internal/chesttest"
)

// The trail is verified in the viewer's browser, entry by entry, and a trail that was changed in the file is not accepted there.
func TestTheTrailIsVerifiedInTheBrowser(t *testing.T) {
	b := open(t)
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/trail/verify", "Verify without this chest")
	b.do(press("Verify now"), see("Everything is as it was recorded"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.visit("/trail/3", "Proof, checked in this browser")
	b.do(see("It is in the trail as it was recorded"), see("hashes lead from there to the root"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.clean()

	// somebody between the chest and the browser changes an entry
	chest, err := url.Parse(b.chest.URL())
	if err != nil {
		t.Fatal(err)
	}
	liar := httptest.NewServer(&httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(chest)
			r.Out.Host = r.In.Host
			r.Out.Header.Del("Accept-Encoding")
		},
		ModifyResponse: func(r *http.Response) error {
			if !strings.HasPrefix(r.Request.URL.Path, "/api/trail/") {
				return nil
			}
			content, err := io.ReadAll(r.Body)
			for _, outcome := range []string{`"outcome":"%s"`, `\"outcome\":\"%s\"`} {
				content = bytes.Replace(content, fmt.Appendf(nil, outcome, "allowed"), fmt.Appendf(nil, outcome, "refused"), 1)
			}
			r.Body = io.NopCloser(bytes.NewReader(content))
			return err
		},
	})
	defer liar.Close()
	visit := func(path, ready string) { b.do(chromedp.Navigate(liar.URL+path), see(ready)) }
	visit("/trail/verify", "Verify without this chest") // signed in: a cookie is for a host, whatever its port
	b.do(press("Verify now"), see("Something among entries"))
	visit("/trail/3", "Proof, checked in this browser")
	b.do(see("It does not match the checkpoint"))
}

// An auditor watches, asks in the grammar of searches, sees what stands out, and works out what an exposed version means.
func TestTheTrailIsAskedInTheConsole(t *testing.T) {
	b := open(t)
	_, token := b.chest.App(t, "nightly-ledger", chesttest.Grant{Role: "consumer", Scope: "**"})
	app := b.chest.Client(t, token)
	if _, _, err := app.Read(b.ctx, "ticketing-prod/db-password"); err != nil {
		t.Fatal(err)
	}
	b.visit("/", "Sign in")
	b.signIn("steward")
	b.visit("/trail", "Audit trail")
	b.do(press("Live view"), chromedp.WaitVisible(`section[aria-label="Live view"]`), see("Live"))
	if _, _, err := app.Read(b.ctx, "ticketing-prod/none"); err == nil {
		t.Fatal("there is a none")
	}
	b.do(chromedp.WaitVisible(`//section[@aria-label="Live view"]//td[contains(., "ticketing-prod/none")]`))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(chromedp.Click(`//summary[contains(., "By grant")]`), keys(`input[name=q]`, "subject:app:* -outcome:allowed"),
		press("Show"),
		chromedp.WaitNotPresent(`//section[not(@aria-label="Live view")]//td[contains(., "person:steward")]`))
	b.visit("/trail/reads", "Reads and anomalies")
	b.do(see("No anomalies"), chromedp.WaitVisible(`//td[contains(., "app:nightly-ledger")]`))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.visit("/drawers/ticketing-prod/db-password", "Versions")
	b.do(chromedp.Click(`//a[contains(., "Report exposure")]`), see("Where it was seen"),
		keys(`input[name=reason]`, "in a build log"),
		press("Show impact"), see("It is still served"), see("it is what everybody gets now"))
	if found := b.axe(); found != "" {
		t.Error(found)
	}
	b.do(press("Record it in the trail"), see("Recorded in the trail"))
	b.clean()
}
