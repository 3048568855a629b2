// Package acme gives certificates to clients of ACME (RFC 8555): each profile has a directory of its own. An account is bound to an app
// (section 7.3.4), whose grants decide which profiles it may have certificates of; besides, it proves that it holds each name.
//
// Accounts are stored; orders, their authorizations and nonces are in memory, and a client whose order is gone after a restart begins
// another one. What is issued is recorded as all certificates are.
package acme

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"tansu/internal/certs"
	"tansu/internal/chest"
	"tansu/internal/core/cert"
	"tansu/internal/core/reference"
	"tansu/internal/people"
)

// Path is where the directories are: below it come a drawer, a profile, and "directory".
const Path = "/acme/"

// Options of the service.
type Options struct {
	People *people.People
	Certs  *certs.Certs
	Log    *slog.Logger
	Now    func() time.Time
	// How names are found and reached; the zero value is the machine's resolver, and the ports 80 and 443, as RFC 8555 has them.
	Resolver          *net.Resolver
	HTTPPort, TLSPort int
}

// Server answers ACME clients. It is safe for concurrent use.
type Server struct {
	options Options
	prover  prover

	mu     sync.Mutex
	nonces map[string]time.Time
	orders map[string]*order
}

// New makes a server.
func New(o Options) *Server {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Resolver == nil {
		o.Resolver = net.DefaultResolver
	}
	s := &Server{options: o, nonces: map[string]time.Time{}, orders: map[string]*order{}}
	s.prover = prover{resolver: o.Resolver, http: portOr(o.HTTPPort, 80), tls: portOr(o.TLSPort, 443), slots: make(chan struct{}, mostProofs)}
	return s
}

func portOr(port, usual int) string {
	if port == 0 {
		port = usual
	}
	return fmt.Sprint(port)
}

// Bounds.
const (
	nonceLife  = time.Hour
	mostNonces = 10_000
	mostBody   = 64 << 10
	orderLife  = time.Hour // RFC 8555, section 7.1.3: expires
	mostOrders = 5_000
	mostOfOne  = 200 // orders of one app that are under way
	mostProofs = 8   // names that are being looked at, at once
	mostNames  = 100
)

// call is one request, of a known account unless it makes one.
type call struct {
	s       *Server
	w       http.ResponseWriter
	r       *http.Request
	origin  chest.Origin
	profile reference.Reference
	base    string // the URL of the profile's resources
	rest    []string

	payload []byte
	caller  chest.Caller
	account string          // its id; empty where the request is signed by another key
	key     json.RawMessage // that signed it, as a JWK
}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(strings.TrimPrefix(r.URL.Path, Path), "/")
	if len(parts) < 3 || reference.CheckName(parts[0]) != nil || reference.CheckName(parts[1]) != nil {
		http.NotFound(w, r)
		return
	}
	scheme := "http"
	if r.TLS != nil {
		scheme = "https"
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	c := &call{s: s, w: w, r: r, profile: reference.Reference{Drawer: parts[0], Item: parts[1]}, rest: parts[2:],
		base:   scheme + "://" + r.Host + Path + parts[0] + "/" + parts[1] + "/",
		origin: chest.Origin{Addr: host, RequestID: w.Header().Get("Request-Id"), Asking: r.Context()}}
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Link", "<"+c.base+`directory>;rel="index"`)
	if err := c.serve(); err != nil {
		c.fail(err)
	}
}

func (c *call) serve() error {
	what := c.rest[0]
	switch c.r.Method {
	case http.MethodGet, http.MethodHead:
		switch {
		case what == "directory" && len(c.rest) == 1:
			return c.directory()
		case what == "new-nonce" && len(c.rest) == 1:
			c.w.Header().Set("Replay-Nonce", c.s.nonce())
			if c.r.Method == http.MethodGet {
				c.w.WriteHeader(http.StatusNoContent)
			}
			return nil
		case what == "renewal-info" && len(c.rest) == 2:
			return c.renewalInfo(c.rest[1])
		}
		return problem{http.StatusMethodNotAllowed, "malformed", "this resource is asked for by POST (RFC 8555, section 6.3)"}
	case http.MethodPost:
	default:
		return problem{http.StatusMethodNotAllowed, "malformed", "this method is none of ACME's"}
	}
	c.w.Header().Set("Replay-Nonce", c.s.nonce())
	if err := c.open(what == "new-account" || what == "revoke-cert"); err != nil {
		return err
	}
	id := strings.Join(c.rest[1:], "/")
	switch {
	case what == "new-account" && id == "":
		return c.newAccount()
	case what == "account" && id == c.account:
		return c.ownAccount()
	case what == "key-change" && id == "":
		return c.keyChange()
	case what == "new-order" && id == "":
		return c.newOrder()
	case what == "order" && len(c.rest) == 2:
		return c.showOrder(c.rest[1])
	case what == "order" && len(c.rest) == 3 && c.rest[2] == "finalize":
		return c.finalize(c.rest[1])
	case what == "order" && len(c.rest) == 3 && c.rest[2] == "certificate":
		return c.certificate(c.rest[1])
	case what == "authorization" && len(c.rest) == 3:
		return c.authorization(c.rest[1], c.rest[2])
	case what == "challenge" && len(c.rest) == 4:
		return c.challenge(c.rest[1], c.rest[2], c.rest[3])
	case what == "revoke-cert" && id == "":
		return c.revoke()
	}
	return problem{http.StatusNotFound, "malformed", "there is no such resource, or it is of another account"}
}

// directory lists the resources (section 7.1.1). It says the same of profiles that do not exist.
func (c *call) directory() error {
	return c.answer(http.StatusOK, map[string]any{"newNonce": c.base + "new-nonce", "newAccount": c.base + "new-account",
		"newOrder": c.base + "new-order", "revokeCert": c.base + "revoke-cert", "keyChange": c.base + "key-change",
		"renewalInfo": c.base + "renewal-info", "meta": map[string]any{"externalAccountRequired": true}})
}

func (c *call) answer(status int, body any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	c.w.Header().Set("Content-Type", "application/json")
	c.w.WriteHeader(status)
	_, _ = c.w.Write(text)
	return nil
}

// problem is an error as ACME tells it (section 6.7).
type problem struct {
	status int
	kind   string
	detail string
}

func (p problem) Error() string { return p.detail }

func malformed(format string, arguments ...any) error {
	return problem{http.StatusBadRequest, "malformed", fmt.Sprintf(format, arguments...)}
}

// kinds are ACME's words for the chest's codes.
var kinds = map[chest.Code]problem{
	chest.Refused: {http.StatusForbidden, "unauthorized", ""}, chest.SignInFailed: {http.StatusUnauthorized, "unauthorized", ""},
	chest.NotServable: {http.StatusForbidden, "unauthorized", ""}, chest.NotFound: {http.StatusForbidden, "unauthorized", ""},
	chest.InvalidInput: {http.StatusForbidden, "rejectedIdentifier", ""}, chest.Throttled: {http.StatusTooManyRequests, "rateLimited", ""},
	chest.Exists: {http.StatusConflict, "malformed", ""}, chest.Locked: {http.StatusServiceUnavailable, "serverInternal", ""},
}

func (c *call) fail(err error) {
	var known problem
	var refused *chest.Error
	switch {
	case errors.As(err, &known):
	case errors.As(err, &refused):
		var is bool
		if known, is = kinds[refused.Code]; !is {
			known = problem{http.StatusInternalServerError, "serverInternal", ""}
		}
		known.detail = refused.Detail
		if refused.Refusal != nil && refused.Refusal.Receipt != "" {
			known.detail += " (receipt " + refused.Refusal.Receipt + ")"
		}
		if refused.RetryAfter > 0 {
			c.w.Header().Set("Retry-After", fmt.Sprint(int(refused.RetryAfter.Seconds())+1))
		}
	default:
		known = problem{http.StatusInternalServerError, "serverInternal", "something went wrong; the log of the chest says what"}
		c.s.options.Log.Error("an ACME request failed", "path", c.r.URL.Path, "error", err)
	}
	text, err := json.Marshal(problemJSON(known))
	if err != nil {
		return
	}
	c.w.Header().Set("Content-Type", "application/problem+json")
	c.w.WriteHeader(known.status)
	_, _ = c.w.Write(text)
}

func problemJSON(p problem) map[string]any {
	return map[string]any{"type": "urn:ietf:params:acme:error:" + p.kind, "detail": p.detail, "status": p.status}
}

// nonce makes one that is good once (section 6.5).
func (s *Server) nonce() string {
	text, now := random(), s.options.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.nonces) >= mostNonces {
		for one, made := range s.nonces {
			if now.Sub(made) > nonceLife {
				delete(s.nonces, one)
			}
		}
		for one := range s.nonces { // somebody asks for more than anybody uses
			if len(s.nonces) < mostNonces {
				break
			}
			delete(s.nonces, one)
		}
	}
	s.nonces[text] = now
	return text
}

func (s *Server) takeNonce(text string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	made, known := s.nonces[text]
	delete(s.nonces, text)
	return known && s.options.Now().Sub(made) <= nonceLife
}

func random() string {
	var bytes [16]byte
	_, _ = rand.Read(bytes[:])
	return base64.RawURLEncoding.EncodeToString(bytes[:])
}

// algorithms are those that requests may be signed by (section 6.2: none that is symmetric).
var algorithms = []jose.SignatureAlgorithm{jose.ES256, jose.ES384, jose.RS256, jose.PS256, jose.EdDSA}

// signed is a request as it lies in its JWS.
type signed struct {
	object *jose.JSONWebSignature
	header jose.Header
}

func parse(text string, algorithms []jose.SignatureAlgorithm) (s signed, err error) {
	if s.object, err = jose.ParseSigned(text, algorithms); err != nil || len(s.object.Signatures) != 1 {
		return s, malformed("the request is no JWS in its flattened form, or signed by an algorithm that is not taken here")
	}
	s.header = s.object.Signatures[0].Protected
	if own := s.header.JSONWebKey; own != nil { // a stranger's: to check by one that is very long takes seconds
		if _, err := cert.KeyType(own.Key); err != nil {
			return s, problem{http.StatusBadRequest, "badPublicKey", "the key of the request is none that is good: " + err.Error()}
		}
	}
	return s, nil
}

// url is the URL that a JWS says it is for.
func (s signed) url() string {
	text, _ := s.header.ExtraHeaders["url"].(string)
	return text
}

// open reads a signed request: its nonce, its URL, and whose signature it is. By its own key is how an account is made, and how the holder
// of a certificate's key revokes that.
func (c *call) open(ownKey bool) error {
	if kind := c.r.Header.Get("Content-Type"); kind != "application/jose+json" {
		return problem{http.StatusUnsupportedMediaType, "malformed", "the request is of the type application/jose+json"}
	}
	body, err := io.ReadAll(http.MaxBytesReader(c.w, c.r.Body, mostBody))
	if err != nil {
		return problem{http.StatusRequestEntityTooLarge, "malformed", "the request is too long"}
	}
	request, err := parse(string(body), algorithms)
	if err != nil {
		return err
	}
	if !c.s.takeNonce(request.header.Nonce) {
		return problem{http.StatusBadRequest, "badNonce", "the nonce is not good any more: use that of this answer"}
	}
	if request.url() != c.base+strings.Join(c.rest, "/") {
		return problem{http.StatusUnauthorized, "unauthorized", "the request was signed for another URL"}
	}
	own := request.header.JSONWebKey
	switch {
	case own != nil && request.header.KeyID != "":
		return malformed("the request names a key and an account: it has one of the two")
	case own != nil && ownKey:
		if !own.Valid() || !own.IsPublic() {
			return malformed("the key of the request is no public key")
		}
		if c.key, err = own.MarshalJSON(); err != nil {
			return malformed("the key of the request cannot be read")
		}
	case own != nil:
		return malformed("this request is signed by an account, which its kid names")
	default:
		id, is := strings.CutPrefix(request.header.KeyID, c.base+"account/")
		if !is {
			return problem{http.StatusUnauthorized, "accountDoesNotExist", "there is no such account here"}
		}
		if c.caller, c.account, c.key, err = c.s.options.People.ACMEAccount(c.origin, id, nil); err != nil {
			return accountProblem(err)
		}
	}
	var key jose.JSONWebKey
	if err := key.UnmarshalJSON(c.key); err != nil {
		return malformed("the key of the request cannot be read")
	}
	if c.payload, err = request.object.Verify(key); err != nil {
		return problem{http.StatusUnauthorized, "unauthorized", "the signature of the request is not good"}
	}
	return nil
}

func accountProblem(err error) error {
	var refused *chest.Error
	if errors.As(err, &refused) && refused.Code == chest.SignInFailed {
		return problem{http.StatusUnauthorized, "accountDoesNotExist", "there is no such account here"}
	}
	return err
}

// decode reads the payload as an object of JSON.
func (c *call) decode(into any) error {
	if json.Unmarshal(c.payload, into) != nil {
		return malformed("the payload is not the object of JSON that this takes")
	}
	return nil
}

// background is how long what goes on after an answer may take.
func background() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), 30*time.Second)
}
