// Package httpapi is the chest's HTTP interface: one table of routes, the shapes of package client in and out, and
// problem documents for every error. openapi.yaml beside this file is the contract; a test holds the two together.
package httpapi

import (
	"cmp"
	"crypto/rand"
	_ "embed" // for the contract
	"encoding/hex"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"tansu/internal/acme"
	"tansu/internal/certapi"
	"tansu/internal/certs"
	"tansu/internal/chest"
	"tansu/internal/masterapi"
	"tansu/internal/masters"
	"tansu/internal/people"
	"tansu/internal/replies"
	apart "tansu/internal/route"
	"tansu/internal/service"
)

//go:embed openapi.yaml
var contract []byte

// Contract returns the OpenAPI document, which the caller must not change.
func Contract() []byte { return contract }

// Options of the interface.
type Options struct {
	Service *service.Service
	Console http.Handler // serves everything outside /api; nil for nothing
	ACME    http.Handler // serves what is below acme.Path
	Log     *slog.Logger
	Version string
	// SecureCookies is for a service behind TLS.
	SecureCookies bool
}

type api struct {
	service *service.Service
	log     *slog.Logger
	version string
	cookies cookies
	origins *http.CrossOriginProtection
	replies *replies.Replies
}

// call is one request to a route.
type call struct {
	*echo.Context
	origin chest.Origin
	caller chest.Caller // set on routes that need an identity
}

// param returns a path parameter, decoded: clients may escape what need not be, such as the ":" of a subject.
func (c *call) param(name string) string {
	raw := c.Param(name)
	if decoded, err := url.PathUnescape(raw); err == nil {
		return decoded
	}
	return raw
}

// route is one row of the table.
type route struct {
	method  string
	path    string // in Echo's form
	who     audience
	handler func(*api, *call) error
}

// audience says whether a route needs an identity.
type audience int

const (
	identified audience = iota
	anyone
	atLength // identified; it does so much that it may take minutes
)

const (
	whoAmI    = "/api/me"
	watchPath = "/api/trail/watch"

	healthPath = "/api/health"
	readyPath  = "/api/ready"

	oauthPath = "/api/oauth/"

	metadataPath = "/.well-known/oauth-authorization-server" // RFC 8414, section 3
)

// routes is the whole interface.
var routes = []route{
	{"GET", healthPath, anyone, (*api).health},
	{"GET", readyPath, anyone, (*api).ready},
	{"GET", "/api/status", anyone, (*api).status},
	{"GET", "/api/openapi.yaml", anyone, (*api).openapi},
	{"GET", "/api/limits", anyone, (*api).limits},
	{"GET", calendarPath + ":address", anyone, (*api).calendar},
	{"POST", "/api/unlock", anyone, (*api).unlock},
	{"POST", "/api/lock", identified, (*api).lock},
	{"GET", "/api/unlock-methods", identified, (*api).unlockMethods},
	{"POST", "/api/unlock-methods", atLength, (*api).addUnlockMethod},
	{"POST", "/api/unlock-methods/:method/end", atLength, (*api).endUnlockMethod},
	{"POST", "/api/root-key/rotate", atLength, (*api).rotateRootKey},
	{"GET", "/api/me/shares", identified, (*api).ownShares},
	{"GET", "/api/backups", identified, (*api).listBackups},
	{"POST", "/api/backups", atLength, (*api).backUp},
	{"POST", "/api/backups/rehearse", atLength, (*api).rehearse},
	{"POST", "/api/me/shares/:share/take", identified, (*api).takeShare},
	{"POST", "/api/me/password", identified, (*api).changePassword},
	{"GET", "/api/me/sessions", identified, (*api).ownSessions},
	{"DELETE", "/api/me/sessions/:session", identified, (*api).endSession},

	{"POST", "/api/enrol", anyone, (*api).enrol},
	{"POST", "/api/enrol-host", anyone, (*api).enrolHost},
	{"POST", "/api/sign-in", anyone, (*api).signIn},
	{"POST", "/api/sign-out", identified, (*api).signOut},
	{"GET", whoAmI, identified, (*api).me},
	{"GET", whoAmI + "/may", identified, (*api).mayThere},
	{"POST", "/api/oauth/token", anyone, (*api).issueToken},
	{"POST", "/api/oauth/revoke", anyone, (*api).revokeToken},
	{"POST", "/api/oauth/introspect", anyone, (*api).introspect},
	{"GET", metadataPath, anyone, (*api).metadata},

	{"GET", "/api/drawers", identified, (*api).listDrawers},
	{"POST", "/api/drawers", identified, (*api).createDrawer},
	{"GET", "/api/search", identified, (*api).search},
	{"GET", "/api/find", identified, (*api).find},
	{"GET", "/api/due", identified, (*api).due},
	{"GET", "/api/due/access", identified, (*api).accessEnds},
	{"GET", "/api/drawers/:drawer", identified, (*api).getDrawer},
	{"PATCH", "/api/drawers/:drawer", identified, (*api).changeDrawer},
	{"POST", "/api/drawers/:drawer/items", identified, (*api).createItem},
	{"GET", "/api/drawers/:drawer/items/:item", identified, (*api).getItem},
	{"PATCH", "/api/drawers/:drawer/items/:item", identified, (*api).changeItem},
	{"POST", "/api/drawers/:drawer/items/:item/versions", identified, (*api).addVersion},
	{"POST", "/api/drawers/:drawer/items/:item/acts", identified, (*api).act},
	{"PUT", "/api/drawers/:drawer/items/:item/window", identified, (*api).setWindow},
	{"GET", "/api/drawers/:drawer/items/:item/readers", identified, (*api).readers},
	{"PUT", "/api/drawers/:drawer/items/:item/rules", identified, (*api).setItemRules},
	{"POST", "/api/drawers/:drawer/items/:item/move", identified, (*api).move},
	{"DELETE", "/api/drawers/:drawer/aliases/:item", identified, (*api).endAlias},
	{"PUT", "/api/drawers/:drawer/rules", identified, (*api).setDrawerRules},
	{"POST", "/api/drawers/:drawer/key", atLength, (*api).rotateKey},
	{"POST", "/api/drawers/:drawer/shred", atLength, (*api).shredDrawer},
	{"GET", "/api/shredded-drawers", identified, (*api).shreddedDrawers},
	{"POST", "/api/drawers/:drawer/export", atLength, (*api).exportDrawer},
	{"GET", "/api/calendars", identified, (*api).listCalendars},
	{"POST", "/api/calendars", identified, (*api).newCalendar},
	{"DELETE", "/api/calendars/:calendar", identified, (*api).endCalendar},
	{"POST", "/api/drawers/:drawer/import", atLength, (*api).importFile},
	{"GET", "/api/drawers/:drawer/shredded", identified, (*api).shredded},
	{"GET", "/api/values/:drawer/:item", identified, (*api).readValue},
	{"POST", "/api/values", identified, (*api).readValues},
	{"GET", "/api/drawers/:drawer/jwks", anyone, (*api).publicKeys},
	{"GET", "/api/key-types", identified, (*api).keyTypes},
	{"POST", "/api/keys/:drawer/:item/use", identified, (*api).useKey},
	{"GET", "/api/keys/:drawer/:item/users", identified, (*api).keyUsers},
	{"GET", "/api/samples", identified, (*api).samples},
	{"POST", "/api/preflight", identified, (*api).preflight},
	{"POST", "/api/manifest", identified, (*api).readManifest},
	{"POST", "/api/reads", identified, (*api).reportReads},
	{"POST", "/api/host-key", identified, (*api).hostKey},
	{"POST", "/api/watch", identified, (*api).watchValues},
	{"POST", "/api/values/:drawer/:item/compare", identified, (*api).compareValue},

	{"GET", "/api/identities", identified, (*api).listIdentities},
	{"POST", "/api/identities", identified, (*api).register},
	{"GET", "/api/identities/:subject", identified, (*api).getIdentity},
	{"PATCH", "/api/identities/:subject", identified, (*api).changeIdentity},
	{"POST", "/api/identities/:subject/credentials", identified, (*api).issueCredential},
	{"DELETE", "/api/identities/:subject/credentials/:credential", identified, (*api).revokeCredential},
	{"PUT", "/api/identities/:subject/members/:member", identified, (*api).join},
	{"DELETE", "/api/identities/:subject/members/:member", identified, (*api).leave},
	{"GET", "/api/identities/:subject/reads", identified, (*api).readings},
	{"GET", "/api/identities/:subject/owned", identified, (*api).owned},
	{"POST", "/api/identities/:subject/hand-over", atLength, (*api).handOver},
	{"GET", "/api/roles", identified, (*api).listRoles},
	{"POST", "/api/roles", identified, (*api).addRole},
	{"PUT", "/api/roles/:role", identified, (*api).changeRole},
	{"DELETE", "/api/roles/:role", identified, (*api).removeRole},
	{"GET", "/api/grants", identified, (*api).listGrants},
	{"POST", "/api/grants", identified, (*api).give},
	{"POST", "/api/grants/:grant/renewal", identified, (*api).renewGrant},
	{"DELETE", "/api/grants/:grant", identified, (*api).endGrant},

	{"GET", "/api/ask/verdict", identified, (*api).askVerdict},
	{"GET", "/api/ask/holders", identified, (*api).askHolders},
	{"GET", "/api/ask/paths", identified, (*api).askPaths},
	{"GET", "/api/ask/reach", identified, (*api).askReach},
	{"GET", "/api/ask/matrix", identified, (*api).askMatrix},
	{"POST", "/api/ask/difference", identified, (*api).askDifference},

	{"GET", "/api/requests", identified, (*api).listRequests},
	{"POST", "/api/requests", identified, (*api).askFor},
	{"POST", "/api/requests/:request/answer", identified, (*api).answerRequest},
	{"DELETE", "/api/requests/:request", identified, (*api).withdraw},
	{"POST", "/api/receipts/:receipt/decline", identified, (*api).declineRefusal},

	{"GET", "/api/policy", identified, (*api).exportPolicy},
	{"POST", "/api/policy/difference", atLength, (*api).diffPolicy},
	{"PUT", "/api/policy", atLength, (*api).applyPolicy},
	{"GET", "/api/tighten", atLength, (*api).tighten},
	{"POST", "/api/steward/set-aside", identified, (*api).setStewardsAside},
	{"POST", "/api/examine", atLength, (*api).examine},

	{"GET", "/api/trail", identified, (*api).trail},
	{"GET", "/api/trail/archives", identified, (*api).archives},
	{"GET", "/api/trail/upkeep", identified, (*api).upkeep},
	{"GET", watchPath, identified, (*api).watch},
	{"GET", "/api/trail/unusual", identified, (*api).unusual},
	{"GET", "/api/trail/activity", identified, (*api).activity},
	{"POST", "/api/drawers/:drawer/items/:item/exposure", identified, (*api).exposure},
	{"GET", "/api/trail/key", anyone, (*api).verifierKey},
	{"GET", "/api/trail/checkpoints", identified, (*api).checkpoints},
	{"POST", "/api/trail/checkpoints", identified, (*api).makeCheckpoint},
	{"GET", "/api/trail/entries/:seq/proof", identified, (*api).prove},
	{"GET", "/api/trail/extension", identified, (*api).proveExtends},
	{"GET", "/api/trail/export", identified, (*api).exportTrail},
	{"GET", "/api/receipts/:receipt", identified, (*api).receipt},
	{"GET", "/api/refusals", identified, (*api).refusals},
}

// all are the routes of the table, and of those that have packages of their own.
func all() []served {
	var list []served
	for _, r := range routes {
		list = append(list, served{r, queries[r.method+" "+r.path]})
	}
	list = append(list, others(certapi.Routes, func(s *service.Service) *certs.Certs { return s.Certs })...)
	return append(list, others(masterapi.Routes, func(s *service.Service) *masters.Masters { return s.Masters })...)
}

// served is a route and what it takes in its query, separated by spaces.
type served struct {
	route
	query string
}

// others are the routes of a table that works in a room of the service.
func others[Room any](table []apart.Route[Room], room func(*service.Service) Room) (list []served) {
	for _, r := range table {
		who := map[bool]audience{true: anyone}[r.Anyone]
		list = append(list, served{route{r.Method, r.Path, who, func(a *api, c *call) error {
			return r.Handle(room(a.service), &apart.Call{Context: c.Context, Caller: c.caller, Path: c.param,
				Revision: func() (int64, error) { return neededRevision(c) }})
		}}, r.Query})
	}
	return list
}

// New returns the handler of a chest's whole HTTP interface.
func New(o Options) http.Handler {
	a := &api{service: o.Service, log: o.Log, version: o.Version, cookies: cookies{secure: o.SecureCookies},
		origins: http.NewCrossOriginProtection(), replies: replies.New(time.Now)}
	if a.log == nil {
		a.log = slog.New(slog.DiscardHandler)
	}
	e := echo.New()
	e.Logger = a.log
	e.IPExtractor = echo.ExtractIPDirect() // no header says where a request came from
	e.HTTPErrorHandler = a.fail
	for _, r := range all() {
		e.Add(r.method, r.path, a.handle(r))
		if r.method == http.MethodGet && r.path != watchPath { // what streams has nothing to say to HEAD
			e.Add(http.MethodHead, r.path, a.handle(r))
		}
	}
	if o.ACME != nil {
		ask := func(c *echo.Context) error {
			c.Response().Header().Set(requestIDHeader, traceID(c.Request().Header.Get("Traceparent")))
			o.ACME.ServeHTTP(c.Response(), c.Request())
			return nil
		}
		for _, method := range []string{"GET", "HEAD", "POST"} {
			e.Add(method, acme.Path+"*", ask)
		}
	}
	if o.Console != nil {
		console := echo.WrapHandler(o.Console)
		page := func(c *echo.Context) error {
			if strings.HasPrefix(c.Request().URL.Path, "/api/") {
				return echo.ErrNotFound
			}
			// RFC 6797: a browser that has been here once comes back by TLS only. It would do so for every port of a host, so that this is
			// not said of the one that every machine has.
			if host, _, _ := strings.Cut(c.Request().Host, ":"); c.Request().TLS != nil && host != "localhost" {
				c.Response().Header().Set("Strict-Transport-Security", "max-age=31536000")
			}
			return console(c)
		}
		e.GET("/*", page)
		e.HEAD("/*", page)
	}
	return recovered{e, a.log}
}

// handle is what every route does around its own work.
func (a *api) handle(r served) echo.HandlerFunc {
	query := strings.Fields(r.query)
	creates, limited := slices.Contains(creating, r.method+" "+r.path), slices.Contains(limits, r.method+" "+r.path)
	return func(c *echo.Context) (err error) {
		request := c.Request()
		id := traceID(request.Header.Get("Traceparent"))
		header := c.Response().Header()
		header[requestIDHeader] = []string{id} // names in their canonical form: Set would look for it at each answer
		header["Cache-Control"], header["X-Content-Type-Options"] = noStore, noSniff
		call := &call{Context: c, origin: chest.Origin{Addr: address(request.RemoteAddr), RequestID: id, Asking: request.Context()}}
		call.origin.Reason = request.Header.Get("Tansu-Reason")
		if limited {
			tellLeft(call)
		}
		if request.TLS != nil && len(request.TLS.PeerCertificates) > 0 {
			call.origin.Certificate = people.CertificateID(request.TLS.PeerCertificates[0].Raw)
		}
		if err := chest.CheckReason(call.origin.Reason); err != nil {
			return err
		}
		if r.who != anyone {
			if call.caller, err = a.authenticate(call); err != nil {
				return err
			}
			if call.caller.Steward() {
				header.Set("Tansu-Steward", "true")
			}
		}
		// OAuth says what an error of its own is, and whoever looks whether the service is there may add to the address what keeps it from
		// being cached.
		if request.URL.RawQuery != "" && !strings.HasPrefix(r.path, oauthPath) && r.path != healthPath && r.path != readyPath {
			if err := checkQuery(request.URL.RawQuery, query); err != nil {
				return err
			}
		}
		if r.who == atLength {
			if err := lengthen(c.Response()); err != nil {
				return err
			}
		}
		key, err := onceKey(request.Header)
		switch {
		case err != nil:
			return err
		case key == "":
			return r.handler(a, call)
		case !creates:
			return &chest.Error{Code: chest.InvalidInput, Field: onceHeader, Detail: onceHeader + " means nothing here: what this route does " +
				"is the same when it is done again"}
		}
		return a.once(call, key, func() error { return r.handler(a, call) })
	}
}

// lengthy is how long a route that does much may take. The client waits a little longer.
const lengthy = 10 * time.Minute

func lengthen(w http.ResponseWriter) error {
	control, until := http.NewResponseController(w), time.Now().Add(lengthy)
	return errors.Join(control.SetReadDeadline(until), control.SetWriteDeadline(until))
}

const requestIDHeader = "Request-Id"

// What every answer says; nobody changes these.
var (
	noStore = []string{"no-store"}
	noSniff = []string{"nosniff"}
)

func requestID(c *echo.Context) string { return c.Response().Header().Get(requestIDHeader) }

// traceID takes the trace-id of a W3C traceparent header, so that the caller's own tracing finds our entries, and
// makes a random one when there is none.
func traceID(traceparent string) string {
	if len(traceparent) == 55 && strings.HasPrefix(traceparent, "00-") && traceparent[35] == '-' {
		id := traceparent[3:35]
		if strings.Trim(id, "0123456789abcdef") == "" && strings.Trim(id, "0") != "" {
			return id
		}
	}
	var random [16]byte
	_, _ = rand.Read(random[:])
	return hex.EncodeToString(random[:])
}

func address(remote string) string {
	host, _, err := net.SplitHostPort(remote)
	if err != nil {
		return remote
	}
	return host
}

// authenticate takes a bearer token (RFC 6750, section 2.1) or else the console's cookie.
func (a *api) authenticate(c *call) (chest.Caller, error) {
	if authorization := c.Request().Header.Get("Authorization"); authorization != "" {
		scheme, token, _ := strings.Cut(authorization, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return chest.Caller{}, a.service.RefuseAnonymous(c.origin, "no_token", "the Authorization header is not of the form: Bearer TOKEN")
		}
		return a.service.Authenticate(c.origin, token)
	}
	token := a.cookies.session(c.Request())
	if token == "" {
		const detail = "this needs a token (Authorization: Bearer) or a console session"
		if c.Path() == whoAmI { // the console asks this to find out; it is no attempt at anything
			return chest.Caller{}, &chest.Error{Code: chest.Unauthenticated, Detail: detail}
		}
		return chest.Caller{}, a.service.RefuseAnonymous(c.origin, "no_token", detail)
	}
	if err := a.sameOrigin(c.Request()); err != nil {
		return chest.Caller{}, err
	}
	caller, err := a.service.Authenticate(c.origin, token)
	if page := cmp.Or(c.Request().Header.Get(pageOf), c.QueryParam("page_of")); err == nil && page != "" && page != caller.Name {
		return chest.Caller{}, &chest.Error{Code: otherSession, Detail: caller.Name + " is signed in in this browser now; nothing was done"}
	}
	return caller, err
}

// pageOf says whom a page of the console shows as signed in. All pages of a browser share one cookie: when somebody else has signed in on
// another one, nobody acts as them by what they press here, or looks on. A stream of events has no headers, and says it in its address.
const pageOf = "Tansu-Page-Of"

// sameOrigin keeps other sites from acting with the console's cookie, which is SameSite=Strict besides. A page on
// another port of the same host counts as the same site, so that reading is held to the same origin too.
func (a *api) sameOrigin(r *http.Request) error {
	site := r.Header.Get("Sec-Fetch-Site")
	if err := a.origins.Check(r); err != nil || site != "" && site != "same-origin" && site != "none" {
		return &chest.Error{Code: crossOrigin, Detail: "a page of another origin may not use the console's session"}
	}
	return nil
}

// recovered turns a panic into a closed connection and a log line without the request.
type recovered struct {
	next http.Handler
	log  *slog.Logger
}

func (h recovered) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	defer func() {
		if cause := recover(); cause != nil {
			if cause == http.ErrAbortHandler {
				panic(cause)
			}
			h.log.Error("panic", "method", r.Method, "cause", cause)
			panic(http.ErrAbortHandler)
		}
	}()
	h.next.ServeHTTP(w, r)
}
