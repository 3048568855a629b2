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
	"tansu/internal/service"
)

// problems gives each code its status and title. Every error of the API passes through [api.fail].
var problems = map[service.Code]struct {
	status int
	title  string
}{
	service.InvalidInput:    {http.StatusBadRequest, "Invalid input"},
	service.TooLarge:        {http.StatusRequestEntityTooLarge, "Too large"},
	service.Unauthenticated: {http.StatusUnauthorized, "Not signed in"},
	service.SignInFailed:    {http.StatusUnauthorized, "Sign-in failed"},
	service.Refused:         {http.StatusForbidden, "Refused"},
	service.NotFound:        {http.StatusNotFound, "Not found"},
	service.Exists:          {http.StatusConflict, "Exists already"},
	service.Stale:           {http.StatusPreconditionFailed, "Changed by somebody else"},
	service.NeedsRevision:   {http.StatusPreconditionRequired, "Needs a revision"},
	service.NotServable:     {http.StatusConflict, "Not servable now"},
	service.NotPossible:     {http.StatusConflict, "Not possible now"},
	service.NotHandedOver:   {http.StatusConflict, "Duties are not handed over"},
	service.Locked:          {http.StatusServiceUnavailable, "The chest is locked"},
	service.AlreadyUnlocked: {http.StatusConflict, "Unlocked already"},
	service.WrongMaterial:   {http.StatusForbidden, "Wrong unlock material"},
	service.Throttled:       {http.StatusTooManyRequests, "Too many attempts"},
	service.NotRecorded:     {http.StatusServiceUnavailable, "The trail cannot be written"},
	service.Internal:        {http.StatusInternalServerError, "Something went wrong"},
	notAllowed:              {http.StatusMethodNotAllowed, "Method not allowed"},
	crossOrigin:             {http.StatusForbidden, "Another site asked"},
}

// Codes that only HTTP has.
const (
	notAllowed  service.Code = "method_not_allowed"
	crossOrigin service.Code = "cross_origin"
)

// fail is the one translation from an error to an answer.
func (a *api) fail(c *echo.Context, err error) {
	if response, unwrapErr := echo.UnwrapResponse(c.Response()); unwrapErr == nil && response.Committed {
		return
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
	if known.Code == service.Unauthenticated {
		header.Set("WWW-Authenticate", `Bearer realm="tansu"`)
	}
	c.Response().WriteHeader(kind.status)
	if err := json.NewEncoder(c.Response()).Encode(problem); err != nil {
		a.log.Debug("answer not sent", "request_id", requestID(c), "error", err)
	}
}

// problem is an error as a document (RFC 9457).
func (a *api) problem(c *echo.Context, known *service.Error) client.Problem {
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
func (a *api) known(c *echo.Context, err error) *service.Error {
	var known *service.Error
	if errors.As(err, &known) {
		if known.Code == service.Internal {
			a.log.Error("request failed", "request_id", requestID(c), "route", c.Path(), "error", known.Err)
		}
		return known
	}
	var status echo.HTTPStatusCoder
	if errors.As(err, &status) {
		switch status.StatusCode() {
		case http.StatusNotFound:
			return &service.Error{Code: service.NotFound, Detail: "there is no such route; the routes are in /api/openapi.yaml"}
		case http.StatusMethodNotAllowed:
			return &service.Error{Code: notAllowed, Detail: c.Request().Method + " is not a method of this route"}
		}
	}
	a.log.Error("request failed", "request_id", requestID(c), "route", c.Path(), "error", err)
	return &service.Error{Code: service.Internal, Detail: "something went wrong inside the chest; its log says what"}
}

func remedyJSON(r *service.Remedy) *client.Remedy {
	if r == nil {
		return nil
	}
	return &client.Remedy{Subject: r.Subject, Role: r.Role, Scope: r.Scope, Command: r.Command()}
}
