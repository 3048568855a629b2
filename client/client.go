// Package client is how a Go program talks to a chest: an application that reads values at run time, or a tool that
// manages one.
//
// An application gives its name and a way to its secret, and reads:
//
//	chest, err := client.New(client.Options{
//		Address:   "https://chest.ferries.example:8267",
//		Authority: authorityPEM,
//		App:       "ticket-api",
//		Secret:    func() (string, error) { return readFile("/run/credentials/ticket-api") },
//	})
//	password, version, err := chest.Read(ctx, "ticketing-prod/db-password")
//
// Access tokens are fetched when they are needed and renewed before they end. Errors from the chest are [*Problem];
// [*Unreachable] means that no answer came. A Client is safe for concurrent use.
package client

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Options of a client.
type Options struct {
	Address   string // "https://host:port", or "http://" on loopback; or "unix:/path" of the agent on this host
	Authority []byte // the chest's authority certificate, PEM; empty for the system's authorities
	Token     string // a token to use as it is
	App       string // or: an app's name,
	Reason    string // stated with every request, for grants that ask for one; at most 200 bytes
	// Secret is called whenever a new access token is needed, so that a replaced secret is picked up.
	Secret func() (string, error)
	// Instead of a secret, in this order: a private key that signs assertions (RFC 7523), PEM; what returns a token of an
	// issuer that the app has registered; a certificate with its key for the connection (RFC 8705).
	Key         []byte
	Outside     func() (string, error)
	Certificate *tls.Certificate
	// OnSteward is called for each answer to a steward, who exists to appoint others; nil for not at all.
	OnSteward func()
}

// Client talks to one chest.
type Client struct {
	address string
	http    *http.Client
	patient *http.Client // for what may take minutes
	options Options

	mu    sync.Mutex // guards token and ends
	token string
	ends  time.Time
}

// Unreachable says that no answer came from the chest.
type Unreachable struct {
	Address string
	Err     error
}

func (e *Unreachable) Error() string { return "no answer from " + e.Address + ": " + plainCause(e.Err) }

func (e *Unreachable) Unwrap() error { return e.Err }

// plainCause leaves out the URL, which is long and known.
func plainCause(err error) string {
	var urlError *url.Error
	if errors.As(err, &urlError) {
		return urlError.Err.Error()
	}
	return err.Error()
}

// What a chest may send, the client takes: an import of 4 MiB answers with a line for each of its entries, an export and a batch of
// values in several encodings of each. A limit is only there so that something that is no chest does not fill memory; what is no
// answer, but a problem, is short.
const (
	maxAnswer  = 1 << 30
	maxProblem = 1 << 20
)

// New makes a client; it does not connect.
func New(o Options) (*Client, error) {
	socket, isAgent := strings.CutPrefix(o.Address, "unix:")
	address, err := url.Parse(o.Address)
	if !isAgent && (err != nil || address.Host == "" || address.Scheme != "https" && address.Scheme != "http") {
		return nil, fmt.Errorf("the address %q is not of the form https://host:port, or unix:/path of an agent", o.Address)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	if isAgent {
		o.Address = "http://agent"
		transport.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", socket)
		}
	}
	transport.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS13}
	transport.ForceAttemptHTTP2 = false // many small answers at once come sooner over connections of their own
	transport.Proxy = nil               // a proxy would see the values
	if len(o.Authority) > 0 {
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(o.Authority) {
			return nil, errors.New("the authority is not a PEM certificate")
		}
		transport.TLSClientConfig.RootCAs = pool
	}
	if o.Certificate != nil {
		// The chest names no authority: it knows each certificate by itself.
		transport.TLSClientConfig.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return o.Certificate, nil }
	}
	within := func(limit time.Duration) *http.Client {
		return &http.Client{Transport: transport, Timeout: limit,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	}
	return &Client{address: strings.TrimSuffix(o.Address, "/"), options: o, token: o.Token, http: within(30 * time.Second),
		patient: within(11 * time.Minute)}, nil
}

// lengthy is a context of what may take minutes: a file of a hundred thousand values, or a policy of as many lines.
func lengthy(ctx context.Context) context.Context { return context.WithValue(ctx, lengthyKey{}, true) }

type lengthyKey struct{}

// Address returns where the chest is.
func (c *Client) Address() string { return c.address }

// Read returns the bytes of a value and the number of the version they are of.
func (c *Client) Read(ctx context.Context, reference string) (content []byte, version int, err error) {
	v, err := c.ReadValue(ctx, reference)
	if err != nil {
		return nil, 0, err
	}
	content, err = base64.StdEncoding.DecodeString(v.Value)
	return content, v.Version, err
}

// ReadValue returns a value as the API gives it.
func (c *Client) ReadValue(ctx context.Context, reference string) (v Value, err error) {
	path, field, err := valuePath(reference)
	if err != nil {
		return v, err
	}
	if field != "" {
		path += "?field=" + url.QueryEscape(field)
	}
	return v, c.get(ctx, path, &v)
}

// Outcome is a value, or why it was not served.
type Outcome struct {
	Reference string   `json:"reference"` // as it was asked for
	Value     *Value   `json:"value,omitempty"`
	Problem   *Problem `json:"problem,omitempty"`
}

// ReadValues reads up to 100 values in one call. Each is decided by itself: look at every outcome.
func (c *Client) ReadValues(ctx context.Context, references ...string) ([]Outcome, error) {
	var answer struct {
		Values []Outcome `json:"values"`
	}
	err := c.post(ctx, "/api/values", map[string]any{"references": references}, &answer)
	return answer.Values, err
}

// valuePath is where the value of a reference is, and the field of it that is meant. All else about its form the chest says.
func valuePath(reference string) (path, field string, err error) {
	drawer, item, found := strings.Cut(strings.TrimPrefix(reference, "tansu:"), "/")
	item, field, hasField := strings.Cut(item, "#")
	if !found || hasField && field == "" {
		return "", "", &Problem{Code: "invalid_input", Field: "reference",
			Detail: fmt.Sprintf("%q is not of the form drawer/item, drawer/item@3 or drawer/item#field", reference)}
	}
	return "/api/values/" + url.PathEscape(drawer) + "/" + url.PathEscape(item), field, nil
}

// Equals asks whether a value, or one field of it, is a certain one, without getting it.
func (c *Client) Equals(ctx context.Context, reference string, content []byte) (bool, error) {
	value := base64.StdEncoding.EncodeToString(content)
	return c.compare(ctx, reference, map[string]string{"value": value, "encoding": "base64"})
}

// Same asks whether two references hold the same value, without getting either.
func (c *Client) Same(ctx context.Context, reference, other string) (bool, error) {
	return c.compare(ctx, reference, map[string]string{"with": other})
}

func (c *Client) compare(ctx context.Context, reference string, with map[string]string) (bool, error) {
	path, field, err := valuePath(reference)
	if err != nil {
		return false, err
	}
	with["field"] = field
	return memberOf[bool](ctx, c, http.MethodPost, path+"/compare", with, "equal")
}

func (c *Client) get(ctx context.Context, path string, out any) error {
	return c.do(ctx, http.MethodGet, path, nil, out, nil)
}

func (c *Client) post(ctx context.Context, path string, in, out any) error {
	return c.do(ctx, http.MethodPost, path, in, out, nil)
}

// creates are the routes that make something, and make it once when they are asked again under the same key.
var creates = regexp.MustCompile(`^/api/(drawers(/[^/]+/items(/[^/]+/versions)?)?|identities(/[^/]+/credentials)?|roles|` +
	`grants(/[^/]+/renewal)?|requests(/[^/]+/answer)?|calendars)$`)

// do sends a request with the client's token. When an app's token turns out to be no good any more, it gets one new
// token and tries once more. So it does when no answer came to what makes something, under a key by which that is made once.
func (c *Client) do(ctx context.Context, method, path string, in, out any, header http.Header) error {
	token, err := c.bearer(ctx)
	if err != nil {
		return err
	}
	if method == http.MethodPost && creates.MatchString(path) {
		if header = header.Clone(); header == nil {
			header = http.Header{}
		}
		header.Set("Idempotency-Key", rand.Text())
	}
	err = c.send(ctx, method, path, token, in, out, header)
	var away *Unreachable
	if header.Get("Idempotency-Key") != "" && errors.As(err, &away) && ctx.Err() == nil { // it may have been done
		err = c.send(ctx, method, path, token, in, out, header)
	}
	var problem *Problem
	if c.options.App != "" && errors.As(err, &problem) && problem.Code == "unauthenticated" {
		c.drop(token)
		if token, err = c.bearer(ctx); err == nil {
			err = c.send(ctx, method, path, token, in, out, header)
		}
	}
	return err
}

func (c *Client) send(ctx context.Context, method, path, token string, in, out any, header http.Header) error {
	var body io.Reader
	if in != nil {
		encoded, err := json.Marshal(in)
		if err != nil {
			return fmt.Errorf("encode request: %w", err)
		}
		body = bytes.NewReader(encoded)
	}
	request, err := http.NewRequestWithContext(ctx, method, c.address+path, body)
	if err != nil {
		return fmt.Errorf("make request: %w", err)
	}
	for name, values := range header {
		request.Header[name] = values
	}
	if in != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	if c.options.Reason != "" {
		request.Header.Set("Tansu-Reason", c.options.Reason)
	}
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	return c.receive(request, out)
}

func (c *Client) receive(request *http.Request, out any) error {
	asks := c.http
	if request.Context().Value(lengthyKey{}) != nil {
		asks = c.patient
	}
	response, err := asks.Do(request)
	if err != nil {
		return &Unreachable{Address: c.address, Err: err}
	}
	defer func() { _ = response.Body.Close() }()
	if response.Header.Get("Tansu-Steward") != "" && c.options.OnSteward != nil {
		c.options.OnSteward()
	}
	if response.StatusCode >= 300 {
		body, err := io.ReadAll(io.LimitReader(response.Body, maxProblem))
		if err != nil {
			return &Unreachable{Address: c.address, Err: err}
		}
		return problemOf(response, body)
	}
	if out == nil {
		_, err := io.Copy(io.Discard, io.LimitReader(response.Body, maxProblem))
		return unreachable(c.address, err)
	}
	return c.decode(response.Body, out)
}

// listOf asks for an answer, and returns the list in it that has a name; memberOf any member, with something that is sent along.
func listOf[T any](ctx context.Context, c *Client, path, name string) ([]T, error) {
	return memberOf[[]T](ctx, c, http.MethodGet, path, nil, name)
}

func memberOf[T any](ctx context.Context, c *Client, method, path string, in any, name string) (member T, err error) {
	var answer map[string]json.RawMessage
	if err := c.do(ctx, method, path, in, &answer, nil); err != nil || answer[name] == nil {
		return member, err
	}
	err = json.Unmarshal(answer[name], &member)
	return member, err
}

// decode reads an answer as it comes.
func (c *Client) decode(body io.Reader, out any) error {
	err := json.NewDecoder(io.LimitReader(body, maxAnswer)).Decode(out)
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case err == nil:
		_, _ = io.Copy(io.Discard, io.LimitReader(body, maxProblem)) // the line break at its end, so that the connection is used again
		return nil
	case errors.As(err, &syntax), errors.As(err, &kind), errors.Is(err, io.EOF):
		return fmt.Errorf("%s answered something that is not the API's: is it a chest?", c.address)
	}
	return unreachable(c.address, err)
}

func unreachable(address string, err error) error {
	if err == nil {
		return nil
	}
	return &Unreachable{Address: address, Err: err}
}

// problemOf reads a problem document, or the error form of OAuth 2.0 (RFC 6749, section 5.2).
func problemOf(response *http.Response, body []byte) error {
	var problem Problem
	if seconds, err := strconv.Atoi(response.Header.Get("Retry-After")); err == nil && seconds > 0 {
		problem.RetryAfter = time.Duration(seconds) * time.Second
	}
	if strings.HasPrefix(response.Header.Get("Content-Type"), "application/problem+json") && json.Unmarshal(body, &problem) == nil &&
		problem.Code != "" {
		return &problem
	}
	var oauth struct {
		Error       string `json:"error"`
		Description string `json:"error_description"`
	}
	if json.Unmarshal(body, &oauth) == nil && oauth.Error != "" {
		return &Problem{Status: response.StatusCode, Code: oauth.Error, Title: "Sign-in failed", Detail: oauth.Description}
	}
	return &Problem{Status: response.StatusCode, Code: "unknown", Detail: "the answer was " + response.Status + " and not a chest's"}
}

// bearer returns the token to use: the one given, or an app's, fetched anew a minute before it ends.
func (c *Client) bearer(ctx context.Context) (string, error) {
	if c.options.App == "" {
		return c.token, nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.token != "" && time.Until(c.ends) > time.Minute {
		return c.token, nil
	}
	token, life, err := c.signIn(ctx)
	if err != nil {
		return "", err
	}
	c.token, c.ends = token, time.Now().Add(life)
	return token, nil
}

func (c *Client) drop(token string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.token == token {
		c.token = ""
	}
}

// IfMatch is the header of a change that must meet a revision.
func IfMatch(revision int64) http.Header {
	return http.Header{"If-Match": {`"r` + strconv.FormatInt(revision, 10) + `"`}}
}
