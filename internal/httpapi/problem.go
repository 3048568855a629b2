package httpapi

import (
	"encoding/json"
	"errors"
	"math"
	"net/http"
	"strconv"
	"strings"
	"unicode"

	"github.com/labstack/echo/v5"

	"tansu/client"
	"tansu/internal/chest"
)

// problems gives each code its status and title. Every error of the API passes through [api.fail].
var problems = map[chest.Code]struct {
	status int
	title  string
}{
	chest.InvalidInput:    {http.StatusBadRequest, "Invalid input"},
	chest.TooLarge:        {http.StatusRequestEntityTooLarge, "Too large"},
	chest.Unauthenticated: {http.StatusUnauthorized, "Not signed in"},
	chest.SignInFailed:    {http.StatusUnauthorized, "Sign-in failed"},
	chest.Refused:         {http.StatusForbidden, "Refused"},
	chest.NotFound:        {http.StatusNotFound, "Not found"},
	chest.Exists:          {http.StatusConflict, "Exists already"},
	chest.Stale:           {http.StatusPreconditionFailed, "Changed by somebody else"},
	chest.NeedsRevision:   {http.StatusPreconditionRequired, "Needs a revision"},
	chest.NotServable:     {http.StatusConflict, "Not servable now"},
	chest.NotPossible:     {http.StatusConflict, "Not possible now"},
	chest.NotHandedOver:   {http.StatusConflict, "Duties are not handed over"},
	chest.Locked:          {http.StatusServiceUnavailable, "The chest is locked"},
	chest.AlreadyUnlocked: {http.StatusConflict, "Unlocked already"},
	chest.WrongMaterial:   {http.StatusForbidden, "Wrong passphrase or key"},
	chest.Throttled:       {http.StatusTooManyRequests, "Too many attempts"},
	chest.NotRecorded:     {http.StatusServiceUnavailable, "The trail cannot be written"},
	chest.Internal:        {http.StatusInternalServerError, "Something went wrong"},
	keyReused:             {http.StatusUnprocessableEntity, "The key was used before"},
	doneBefore:            {http.StatusConflict, "Done before"},
	inProgress:            {http.StatusConflict, "Not done yet"},
	notAllowed:            {http.StatusMethodNotAllowed, "Method not allowed"},
	crossOrigin:           {http.StatusForbidden, "Cross-origin request refused"},
	otherSession:          {http.StatusConflict, "Somebody else is signed in"},
}

// Codes that only HTTP has.
const (
	notAllowed  chest.Code = "method_not_allowed"
	crossOrigin chest.Code = "cross_origin"
	// The browser's session belongs to somebody else than the page shows: they have signed in on another page.
	otherSession chest.Code = "other_session"
	// Of Idempotency-Key: it was used for another request, what was asked for was done before, or is not done yet.
	keyReused  chest.Code = "key_reused"
	doneBefore chest.Code = "done_before"
	inProgress chest.Code = "in_progress"
)

// fail is the one translation from an error to an answer.
func (a *api) fail(c *echo.Context, err error) {
	if response, unwrapErr := echo.UnwrapResponse(c.Response()); unwrapErr == nil && response.Committed {
		return
	}
	if requestID(c) == "" { // it came to no route
		c.Response().Header().Set(requestIDHeader, traceID(c.Request().Header.Get("Traceparent")))
	}
	known := a.known(c, err)
	kind := problems[known.Code]
	problem := a.problem(c, known)
	header := c.Response().Header()
	header.Set("Content-Type", "application/problem+json")
	header.Set("Cache-Control", "no-store")
	if known.RetryAfter > 0 {
		header.Set("Retry-After", strconv.Itoa(int(math.Ceil(known.RetryAfter.Seconds()))))
	}
	if known.Code == chest.Unauthenticated {
		header.Set("WWW-Authenticate", `Bearer realm="tansu"`)
	}
	if known.Code == notAllowed {
		header.Set("Allow", strings.Join(allowed(c.Request().URL.Path), ", ")) // RFC 9110, section 15.5.6
	}
	c.Response().WriteHeader(kind.status)
	if err := json.NewEncoder(c.Response()).Encode(problem); err != nil {
		a.log.Debug("answer not sent", "request_id", requestID(c), "error", err)
	}
}

// allowed lists the methods that a path of the interface has.
func allowed(path string) (methods []string) {
	parts := strings.Split(path, "/")
	for _, r := range routes {
		names := strings.Split(r.path, "/")
		fits := len(names) == len(parts)
		for i := 0; fits && i < len(names); i++ {
			fits = names[i] == parts[i] || strings.HasPrefix(names[i], ":")
		}
		if fits {
			methods = append(methods, r.method)
		}
		if fits && r.method == http.MethodGet {
			methods = append(methods, http.MethodHead)
		}
	}
	return methods
}

// problem is an error as a document (RFC 9457).
func (a *api) problem(c *echo.Context, known *chest.Error) client.Problem {
	kind := problems[known.Code]
	problem := client.Problem{
		Type: "about:blank", Title: kind.title, Status: kind.status, Detail: printable(known.Detail), Code: string(known.Code),
		RequestID: requestID(c), Field: known.Field, Reason: known.Reason,
	}
	if r := known.Refusal; r != nil {
		problem.Receipt, problem.Subject, problem.Action, problem.Target = r.Receipt, r.Subject, r.Action, r.Target
		problem.Remedy = remedyJSON(r.Remedy)
	}
	return problem
}

// printable writes a dot for what would move a cursor or turn a text around, for whoever shows a detail as it is: some repeat
// what was asked for.
func printable(detail string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) {
			return '·'
		}
		return r
	}, detail)
}

// known finds the service's error, or makes one of what Echo says.
func (a *api) known(c *echo.Context, err error) *chest.Error {
	var known *chest.Error
	if errors.As(err, &known) {
		if known.Code == chest.Internal {
			a.log.Error("request failed", "request_id", requestID(c), "route", c.Path(), "error", known.Err)
		}
		return known
	}
	var status echo.HTTPStatusCoder
	if errors.As(err, &status) {
		switch status.StatusCode() {
		case http.StatusNotFound:
			return &chest.Error{Code: chest.NotFound, Detail: "there is no such route; the routes are in /api/openapi.yaml"}
		case http.StatusMethodNotAllowed:
			return &chest.Error{Code: notAllowed, Detail: c.Request().Method + " is not a method of this route"}
		}
	}
	a.log.Error("request failed", "request_id", requestID(c), "route", c.Path(), "error", err)
	return &chest.Error{Code: chest.Internal, Detail: "something went wrong inside the chest; its log says what"}
}

func remedyJSON(r *chest.Remedy) *client.Remedy {
	if r == nil {
		return nil
	}
	return &client.Remedy{Subject: r.Subject, Role: r.Role, Scope: r.Scope, Command: r.Command()}
}
