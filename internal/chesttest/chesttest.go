// Package chesttest stands up real chests for tests: a service on loopback over TLS, a clock of the test's own, and
// calls whose answers are held against the OpenAPI contract.
package chesttest

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/jmoiron/sqlx"

	"tansu/client"
	"tansu/internal/demo"
	"tansu/internal/httpapi"
	"tansu/internal/server"
	"tansu/internal/web"
)

// Password of everybody that a test enrols.
const Password = "a password for tests only"

// Chest is a running chest with an enrolled steward.
type Chest struct {
	*demo.Chest
	Log     *Log
	Steward string // the steward's token
	HTTP    *http.Client
}

// Log is a log that a test can read while it is being written.
type Log struct {
	mu     sync.Mutex
	buffer bytes.Buffer
}

func (l *Log) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buffer.Write(b)
}

func (l *Log) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buffer.String()
}

// Start founds and serves a chest in a new directory, over TLS. It is stopped when the test ends.
func Start(t testing.TB) *Chest { return StartIn(t, filepath.Join(t.TempDir(), "demo"), server.TLS, 0) }

// StartIn is Start in a directory that the test chooses, over the transport that it chooses, and some time ago: a chest's time does not run
// back, so that what is to be old is made first.
func StartIn(t testing.TB, dir string, transport server.Transport, ago time.Duration) *Chest {
	t.Helper()
	c, clock := &Chest{Log: &Log{}}, &demo.Clock{}
	clock.Set(ago)
	console, err := web.Handler()
	if err != nil {
		t.Fatal(err)
	}
	c.Chest, err = demo.Start(demo.Options{Dir: dir, Listen: "127.0.0.1:0", Transport: transport, Console: console, Version: "test",
		Log: slog.New(slog.NewTextHandler(c.Log, &slog.HandlerOptions{Level: slog.LevelDebug}))}, clock)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Stop() })
	authority, err := c.Authority()
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(authority)
	c.HTTP = &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS13},
		MaxIdleConnsPerHost: 64}}
	t.Cleanup(c.HTTP.CloseIdleConnections)
	c.Steward = c.Enrol(t, string(c.Enrolment.Reveal()))
	return c
}

// Restart stops the chest and serves its directory again, as after a restart of the machine. Clients made before it do
// not reach it any more.
func (c *Chest) Restart(t testing.TB) {
	t.Helper()
	if err := c.Reopen(t, nil); err != nil {
		t.Fatal(err)
	}
}

// Reopen is Restart with other options, if change is not nil, and returns why the chest could not be served.
func (c *Chest) Reopen(t testing.TB, change func(*server.Options)) error {
	t.Helper()
	if err := c.Stop(); err != nil {
		t.Errorf("stop: %v", err)
	}
	o := server.Options{Dir: filepath.Join(c.Dir, "chest"), Listen: "127.0.0.1:0", KeyFile: filepath.Join(c.Dir, "unlock.key"),
		Now: c.Clock.Now, Log: slog.New(slog.NewTextHandler(c.Log, nil)), IssuerNetworks: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}
	if change != nil {
		change(&o)
	}
	again, err := server.Start(o)
	if err != nil {
		return err
	}
	t.Cleanup(func() { _ = again.Stop() })
	c.Server = again
	return nil
}

// Edit changes the database file of a chest that is stopped, as somebody with another program would.
func (c *Chest) Edit(t testing.TB, statements ...string) {
	t.Helper()
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(c.Dir, "chest", "chest.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	for _, statement := range statements {
		result, err := db.Exec(statement)
		if err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			t.Fatalf("%s: %d rows, %v", statement, n, err)
		}
	}
}

// Client makes a client with a token.
func (c *Chest) Client(t testing.TB, token string) *client.Client {
	t.Helper()
	authority, err := c.Authority()
	if err != nil {
		t.Fatal(err)
	}
	made, err := client.New(client.Options{Address: c.URL(), Authority: authority, Token: token})
	if err != nil {
		t.Fatal(err)
	}
	return made
}

// Enrol uses a code and returns the session's token.
func (c *Chest) Enrol(t testing.TB, code string) string {
	t.Helper()
	session, err := c.Client(t, "").Enrol(context.Background(), code, Password)
	if err != nil {
		t.Fatal(err)
	}
	return session.Token
}

// Rows reads the database file beside the service, as somebody with a copy of it would.
func (c *Chest) Rows(t testing.TB, query string) (rows [][]any) {
	t.Helper()
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(c.Dir, "chest", "chest.db")+"?mode=ro")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	found, err := db.Queryx(query)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = found.Close() }()
	for found.Next() {
		row, err := found.SliceScan()
		if err != nil {
			t.Fatal(err)
		}
		rows = append(rows, row)
	}
	return rows
}

// SignIn signs a person in again who was enrolled before, and returns a token.
func (c *Chest) SignIn(t testing.TB, name string) string {
	t.Helper()
	session, err := c.Client(t, "").SignIn(context.Background(), name, Password, "")
	if err != nil {
		t.Fatal(err)
	}
	return session.Token
}

// Grant is a role on a scope.
type Grant struct{ Role, Scope string }

// Person registers and enrols a person with grants, and returns a token.
func (c *Chest) Person(t testing.TB, name string, grants ...Grant) string {
	t.Helper()
	issued := c.register(t, client.NewIdentity{Kind: "person", Name: name}, grants)
	return c.Enrol(t, issued.Secret)
}

// App registers an app with grants, and returns its secret and a token.
func (c *Chest) App(t testing.TB, name string, grants ...Grant) (secret, token string) {
	t.Helper()
	issued := c.register(t, client.NewIdentity{Kind: "app", Name: name}, grants)
	token, _, err := c.Client(t, "").AppToken(context.Background(), name, issued.Secret)
	if err != nil {
		t.Fatal(err)
	}
	return issued.Secret, token
}

func (c *Chest) register(t testing.TB, n client.NewIdentity, grants []Grant) client.Issued {
	t.Helper()
	steward := c.Client(t, c.Steward)
	registered, err := steward.Register(context.Background(), n)
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range grants {
		if _, err := steward.Give(context.Background(),
			client.NewGrant{Subject: registered.Identity.Subject, Role: g.Role, Scope: g.Scope}); err != nil {
			t.Fatal(err)
		}
	}
	return registered.Credential
}

// Fill makes a drawer and puts one version of one item in.
func (c *Chest) Fill(t testing.TB, drawer, item, value string) {
	t.Helper()
	steward := c.Client(t, c.Steward)
	if _, err := steward.CreateDrawer(context.Background(), client.NewDrawer{Name: drawer, Environment: "production"}); err != nil &&
		Code(err) != "exists" {
		t.Fatal(err)
	}
	if _, err := steward.CreateItem(context.Background(), drawer,
		client.NewItem{Name: item, Version: client.Content([]byte(value))}); err != nil {
		t.Fatal(err)
	}
}

// Code is the code of a problem, or empty.
func Code(err error) string {
	if problem, ok := err.(*client.Problem); ok {
		return problem.Code
	}
	return ""
}

// Call is a request as any HTTP client would send it.
type Call struct {
	Method, Path string
	Token        string
	Body         string // JSON, unless Header says otherwise
	Header       map[string]string
}

// Answer is what came back.
type Answer struct {
	Status  int
	Header  http.Header
	Body    []byte
	Problem client.Problem // of a problem document
}

// Do sends a call and checks the answer against the contract.
func (c *Chest) Do(t testing.TB, call Call) Answer {
	t.Helper()
	request, err := http.NewRequestWithContext(context.Background(), call.Method, c.URL()+call.Path, strings.NewReader(call.Body))
	if err != nil {
		t.Fatal(err)
	}
	if call.Body != "" {
		request.Header.Set("Content-Type", "application/json")
	}
	if call.Token != "" {
		request.Header.Set("Authorization", "Bearer "+call.Token)
	}
	for name, value := range call.Header {
		request.Header.Set(name, value)
	}
	response, err := c.HTTP.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = response.Body.Close() }()
	body, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	answer := Answer{Status: response.StatusCode, Header: response.Header, Body: body}
	if strings.HasPrefix(response.Header.Get("Content-Type"), "application/problem+json") {
		if err := json.Unmarshal(body, &answer.Problem); err != nil {
			t.Fatal(err)
		}
	}
	checkContract(t, request, answer)
	return answer
}

var contract = sync.OnceValues(func() (routers.Router, error) {
	loader := openapi3.NewLoader()
	document, err := loader.LoadFromData(httpapi.Contract())
	if err != nil {
		return nil, err
	}
	if err := document.Validate(loader.Context); err != nil {
		return nil, err
	}
	asText := func(body io.Reader, _ http.Header, _ *openapi3.SchemaRef, _ openapi3filter.EncodingFn) (any, error) {
		content, err := io.ReadAll(body)
		return string(content), err
	}
	openapi3filter.RegisterBodyDecoder("application/yaml", asText)
	openapi3filter.RegisterBodyDecoder("text/calendar", asText)
	openapi3filter.RegisterBodyDecoder("text/markdown", asText)
	openapi3filter.RegisterBodyDecoder("application/jsonl", asText)
	for _, kind := range []string{"crl", "cert"} {
		openapi3filter.RegisterBodyDecoder("application/pkix-"+kind, asText)
	}
	for _, kind := range []string{"request", "response"} {
		openapi3filter.RegisterBodyDecoder("application/ocsp-"+kind, asText)
	}
	return gorillamux.NewRouter(document)
})

// checkContract fails the test when an answer is not one that the contract describes.
func checkContract(t testing.TB, request *http.Request, answer Answer) {
	t.Helper()
	if !strings.HasPrefix(request.URL.Path, "/api/") || request.Method == http.MethodHead { // which is GET without the content
		return
	}
	router, err := contract()
	if err != nil {
		t.Fatal(err)
	}
	asked := request.Clone(context.Background())
	asked.URL = &url.URL{Path: request.URL.Path, RawPath: request.URL.RawPath, RawQuery: request.URL.RawQuery}
	route, parameters, err := router.FindRoute(asked)
	if err != nil {
		if answer.Status != http.StatusNotFound && answer.Status != http.StatusMethodNotAllowed {
			t.Errorf("%s %s is not in the contract, and was answered with %d", request.Method, request.URL.Path, answer.Status)
		}
		return
	}
	err = openapi3filter.ValidateResponse(context.Background(), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: asked, PathParams: parameters, Route: route},
		Status:                 answer.Status, Header: answer.Header, Body: io.NopCloser(bytes.NewReader(answer.Body)),
		Options: &openapi3filter.Options{IncludeResponseStatus: true},
	})
	if err != nil {
		t.Errorf("%s %s answered %d, which is not in the contract: %v", request.Method, request.URL.Path, answer.Status, err)
	}
}

// Port is one of this machine that is free, and that no connection takes by itself before something listens there: it is below those that
// are handed out to clients (net.ipv4.ip_local_port_range).
func Port(t testing.TB) *net.TCPAddr {
	t.Helper()
	for range 100 {
		l, err := net.ListenTCP("tcp", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 20_000 + rand.IntN(10_000)})
		if err != nil {
			continue
		}
		at := l.Addr().(*net.TCPAddr)
		if err := l.Close(); err != nil {
			t.Fatal(err)
		}
		return at
	}
	t.Fatal("no port is free")
	return nil
}
