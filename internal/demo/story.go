package demo

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"tansu/client"
)

// story tells what a team goes through with one secret, over the network, and checks each step.
type story struct {
	ctx     context.Context
	chest   *Chest
	out     io.Writer
	number  int
	http    *http.Client
	steward *client.Client
	duty    *client.Client // the security engineer
	auditor *client.Client
	secret  string // of the app
	token   string // of the app
	receipt string
}

// The made-up values of the story. No step prints them.
const (
	firstValue  = "first-made-up-value-of-the-story"
	secondValue = "second-made-up-value-of-the-story\n"
	storyDrawer = "ticketing-prod"
	storyItem   = "db-password"
)

// Tell runs the story against a chest that has just been founded, prints each step with what came back, and returns an
// error at the first step that does not do what it says.
func Tell(ctx context.Context, chest *Chest, out io.Writer) error {
	authority, err := chest.Authority()
	if err != nil {
		return err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(authority)
	s := &story{ctx: ctx, chest: chest, out: out,
		http: &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS13}}}}
	steps := []struct {
		title string
		do    func() (string, error)
	}{
		{"The steward uses the enrolment code that founding the chest printed", s.enrolSteward},
		{"The steward appoints a security engineer and an auditor, who enrol", s.appointOthers},
		{"The security engineer makes a drawer", s.makeDrawer},
		{"The security engineer puts a secret in, and a second version", s.fill},
		{"Putting the same item in again is a conflict, and changes nothing", s.conflict},
		{"The security engineer, who manages all this, may not read it", s.managerRefused},
		{"The security engineer registers an application, without a secret, and grants it one drawer", s.register},
		{"Its owner issues the secret: nobody who gives access has it, and nobody who has it gives access", s.issueSecret},
		{"The application gets a token with its name and secret, with nothing but HTTP", s.appToken},
		{"The application reads the current version, byte for byte", s.readCurrent},
		{"The application reads the older version as bytes alone", s.readOld},
		{"The application is refused on another drawer, with a receipt", s.refusedElsewhere},
		{"The security engineer looks the receipt up and sees the smallest remedy", s.explain},
		{"The remedy is granted, and the question has another answer at once", s.remedy},
		{"The application's token is revoked, and is worth nothing at once", s.revoke},
		{"The auditor sees every read and every refusal in the trail", s.audit},
		{"Nothing in the data directory contains a value", s.nothingOnDisk},
	}
	for _, step := range steps {
		s.number++
		result, err := step.do()
		if err != nil {
			fmt.Fprintf(out, "%2d  %s\n    ✗ %v\n", s.number, step.title, err)
			return fmt.Errorf("step %d did not do what it says: %w", s.number, err)
		}
		fmt.Fprintf(out, "%2d  %s\n    → %s\n", s.number, step.title, result)
	}
	fmt.Fprintf(out, "\nAll %d steps did what they say.\n", s.number)
	return nil
}

func (s *story) client(token string) (*client.Client, error) {
	authority, err := s.chest.Authority()
	if err != nil {
		return nil, err
	}
	return client.New(client.Options{Address: s.chest.URL(), Authority: authority, Token: token})
}

// enrol uses a code and returns the client of the one who now has a password.
func (s *story) enrol(code string) (*client.Client, string, error) {
	c, err := s.client("")
	if err != nil {
		return nil, "", err
	}
	session, err := c.Enrol(s.ctx, code, "a made-up password "+random(10))
	if err != nil {
		return nil, "", err
	}
	c, err = s.client(session.Token)
	return c, session.Subject, err
}

func (s *story) enrolSteward() (string, error) {
	c, subject, err := s.enrol(string(s.chest.Enrolment.Reveal()))
	if err != nil {
		return "", err
	}
	s.steward = c
	if _, _, err := s.enrol(string(s.chest.Enrolment.Reveal())); code(err) != "sign_in_failed" {
		return "", fmt.Errorf("the code could be used twice: %w", err)
	}
	return subject + " is signed in; using the code again was refused", nil
}

func (s *story) appointOthers() (string, error) {
	var err error
	if s.duty, err = s.appoint("security-duty", "curator", "gatekeeper"); err != nil {
		return "", err
	}
	s.auditor, err = s.appoint("audit-desk", "auditor")
	return "person:security-duty is curator and gatekeeper, person:audit-desk is auditor", err
}

func (s *story) appoint(name string, roles ...string) (*client.Client, error) {
	registered, err := s.steward.Register(s.ctx, client.NewIdentity{Kind: "person", Name: name})
	if err != nil {
		return nil, err
	}
	for _, role := range roles {
		if _, err := s.steward.Give(s.ctx, client.NewGrant{Subject: "person:" + name, Role: role, Scope: "**"}); err != nil {
			return nil, err
		}
	}
	c, _, err := s.enrol(registered.Credential.Secret)
	return c, err
}

func (s *story) makeDrawer() (string, error) {
	d, err := s.duty.CreateDrawer(s.ctx, client.NewDrawer{Name: storyDrawer, Environment: "production", Description: "Ticket sales"})
	return fmt.Sprintf("drawer %s, %s, with a key of its own", d.Name, d.Environment), err
}

func (s *story) fill() (string, error) {
	first, err := s.duty.CreateItem(s.ctx, storyDrawer, client.NewItem{Name: storyItem, Version: client.Content([]byte(firstValue))})
	if err != nil {
		return "", err
	}
	second, err := s.duty.AddVersion(s.ctx, storyDrawer, storyItem, first.Item.Revision, client.Content([]byte(secondValue)))
	if err != nil {
		return "", err
	}
	if second.Item.Current != 2 || !second.Version.EndsInNewline {
		return "", fmt.Errorf("current is %d, newline is %v", second.Item.Current, second.Version.EndsInNewline)
	}
	return fmt.Sprintf("%s has %d versions, current is 2, which ends in a newline, and that is pointed out", second.Item.Reference,
		second.Item.Versions), nil
}

func (s *story) conflict() (string, error) {
	_, err := s.duty.CreateItem(s.ctx, storyDrawer, client.NewItem{Name: storyItem, Version: client.Content([]byte("something else"))})
	if code(err) != "exists" {
		return "", fmt.Errorf("expected a conflict, got %w", err)
	}
	return err.Error(), nil
}

func (s *story) managerRefused() (string, error) {
	_, _, err := s.duty.Read(s.ctx, storyDrawer+"/"+storyItem)
	return wantRefused(err)
}

func wantRefused(err error) (string, error) {
	if code(err) != "refused" {
		return "", fmt.Errorf("expected a refusal, got %w", err)
	}
	return err.Error(), nil
}

func (s *story) register() (string, error) {
	if _, err := s.duty.Register(s.ctx, client.NewIdentity{Kind: "app", Name: "ticket-api", Owner: "person:audit-desk",
		NoSecret: true}); err != nil {
		return "", err
	}
	given, err := s.duty.Give(s.ctx, client.NewGrant{Subject: "app:ticket-api", Role: "consumer", Scope: storyDrawer + "/**"})
	if err != nil {
		return "", err
	}
	if !given.Grant.InForce || given.Grant.NotAfter.IsZero() {
		return "", errors.New("the grant is not in force, or has no end")
	}
	return fmt.Sprintf("%s: app:ticket-api consumer on %s/**, in force now, ends by itself", given.Grant.ID, storyDrawer), nil
}

func (s *story) issueSecret() (string, error) {
	_, err := s.duty.IssueCredential(s.ctx, "app:ticket-api", client.NewCredential{})
	if code(err) != "refused" {
		return "", fmt.Errorf("who gives it access got a secret of it, too: %w", err)
	}
	issued, err := s.auditor.IssueCredential(s.ctx, "app:ticket-api", client.NewCredential{})
	s.secret = issued.Secret
	return fmt.Sprintf("%s, shown once to person:audit-desk; person:security-duty was refused one", issued.ID), err
}

func (s *story) appToken() (string, error) {
	form := url.Values{"grant_type": {"client_credentials"}, "client_id": {"ticket-api"}, "client_secret": {s.secret}}
	response, err := s.http.PostForm(s.chest.URL()+"/api/oauth/token", form)
	if err != nil {
		return "", err
	}
	var answer struct {
		Token string `json:"access_token"`
		Type  string `json:"token_type"`
		Life  int    `json:"expires_in"`
	}
	if err := readJSON(response, &answer); err != nil {
		return "", err
	}
	s.token = answer.Token
	return fmt.Sprintf("a %s token that begins with %q and ends in %d seconds", answer.Type, answer.Token[:10], answer.Life), nil
}

func readJSON(response *http.Response, into any) error {
	defer func() { _ = response.Body.Close() }()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("the answer was %s", response.Status)
	}
	return json.NewDecoder(response.Body).Decode(into)
}

// get asks for a value as the application would with any HTTP client.
func (s *story) get(reference, accept string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(s.ctx, http.MethodGet, s.chest.URL()+"/api/values/"+reference, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Authorization", "Bearer "+s.token)
	request.Header.Set("Accept", accept)
	return s.http.Do(request)
}

func (s *story) readCurrent() (string, error) {
	response, err := s.get(storyDrawer+"/"+storyItem, "application/json")
	if err != nil {
		return "", err
	}
	var v struct {
		Version int    `json:"version"`
		Value   []byte `json:"value"` // encoding/json reads base64 into bytes
	}
	if err := readJSON(response, &v); err != nil {
		return "", err
	}
	if v.Version != 2 || string(v.Value) != secondValue {
		return "", fmt.Errorf("got version %d with %d bytes that are not the ones put in", v.Version, len(v.Value))
	}
	return fmt.Sprintf("version %d, %d bytes, the same as were put in", v.Version, len(v.Value)), nil
}

func (s *story) readOld() (string, error) {
	response, err := s.get(storyDrawer+"/"+storyItem+"@1", "application/octet-stream")
	if err != nil {
		return "", err
	}
	defer func() { _ = response.Body.Close() }()
	content, err := io.ReadAll(response.Body)
	if err != nil || response.StatusCode != http.StatusOK || string(content) != firstValue {
		return "", fmt.Errorf("got %s with %d bytes: %w", response.Status, len(content), err)
	}
	return fmt.Sprintf("version %s, %d bytes, the same as were put in first", response.Header.Get("Tansu-Version"), len(content)), nil
}

func (s *story) refusedElsewhere() (string, error) {
	response, err := s.get("fuel-billing-prod/ledger-db-password", "application/json")
	if err != nil {
		return "", err
	}
	defer func() { _ = response.Body.Close() }()
	var problem client.Problem
	if err := json.NewDecoder(response.Body).Decode(&problem); err != nil {
		return "", err
	}
	if response.StatusCode != http.StatusForbidden || problem.Code != "refused" || problem.Receipt == "" {
		return "", fmt.Errorf("the answer was %s with code %q", response.Status, problem.Code)
	}
	s.receipt = problem.Receipt
	return fmt.Sprintf("%s (receipt %s)", problem.Detail, problem.Receipt), nil
}

func (s *story) explain() (string, error) {
	r, err := s.duty.Receipt(s.ctx, s.receipt)
	if err != nil {
		return "", err
	}
	if r.AllowedNow || r.Remedy == nil {
		return "", errors.New("the receipt has no remedy")
	}
	return "still refused; " + r.Remedy.Command, nil
}

func (s *story) remedy() (string, error) {
	r, err := s.duty.Receipt(s.ctx, s.receipt)
	if err != nil {
		return "", err
	}
	if _, err := s.duty.Give(s.ctx, client.NewGrant{Subject: r.Remedy.Subject, Role: r.Remedy.Role, Scope: r.Remedy.Scope}); err != nil {
		return "", err
	}
	if r, err = s.duty.Receipt(s.ctx, s.receipt); err != nil {
		return "", err
	}
	if !r.AllowedNow {
		return "", errors.New("still refused after the grant")
	}
	return "it would be allowed now, by grant " + r.GrantNow, nil
}

func (s *story) revoke() (string, error) {
	form := url.Values{"token": {s.token}, "client_id": {"ticket-api"}, "client_secret": {s.secret}}
	response, err := s.http.PostForm(s.chest.URL()+"/api/oauth/revoke", form)
	if err != nil {
		return "", err
	}
	_ = response.Body.Close()
	if response, err = s.get(storyDrawer+"/"+storyItem, "application/json"); err != nil {
		return "", err
	}
	_ = response.Body.Close()
	if response.StatusCode != http.StatusUnauthorized {
		return "", fmt.Errorf("the answer was %s", response.Status)
	}
	return "the same request is answered with " + response.Status, nil
}

func (s *story) audit() (string, error) {
	page, err := s.auditor.Trail(s.ctx, client.TrailFilter{Subject: "app:ticket-api", Action: "read_value"})
	if err != nil {
		return "", err
	}
	var allowed, refused int
	for _, e := range page.Entries {
		switch e.Outcome {
		case "allowed":
			allowed++
		case "refused":
			refused++
		}
	}
	if allowed != 2 || refused != 1 {
		return "", fmt.Errorf("the trail has %d reads and %d refusals instead of 2 and 1", allowed, refused)
	}
	return fmt.Sprintf("app:ticket-api: %d reads allowed, %d refused, each with time, address, grant and request", allowed, refused), nil
}

func (s *story) nothingOnDisk() (string, error) {
	files := 0
	err := filepath.WalkDir(filepath.Join(s.chest.Dir, "chest"), func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		files++
		for _, value := range []string{firstValue, strings.TrimSpace(secondValue), s.secret, s.token} {
			if bytes.Contains(content, []byte(value)) {
				return fmt.Errorf("%s contains a value", path)
			}
		}
		return nil
	})
	return fmt.Sprintf("%d files searched for both values, the app's secret and its token: none has them", files), err
}

// code is the stable code of a problem, or empty.
func code(err error) string {
	var problem *client.Problem
	if errors.As(err, &problem) {
		return problem.Code
	}
	return ""
}
