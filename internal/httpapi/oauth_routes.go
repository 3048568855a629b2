package httpapi

import (
	"errors"
	"mime"
	"net/http"
	"net/url"
	"time"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/people"
)

// issueToken is the token endpoint of OAuth 2.0 (RFC 6749, section 3.2); its errors have the form of section 5.2.
func (a *api) issueToken(c *call) error {
	form, err := oauthForm(c)
	if err != nil {
		return a.oauthError(c, err)
	}
	proof, problem := proofOf(c, form)
	if problem != nil {
		return c.JSON(http.StatusBadRequest, problem)
	}
	token, err := a.service.IssueToken(c.Request().Context(), c.origin, proof)
	if err != nil {
		return a.oauthError(c, err)
	}
	c.Response().Header().Set("Pragma", "no-cache")
	return c.JSON(http.StatusOK, map[string]any{"access_token": string(token.Token.Reveal()), "token_type": "Bearer",
		"expires_in": int(token.Life / time.Second)})
}

// revokeToken is RFC 7009.
func (a *api) revokeToken(c *call) error {
	return a.aboutToken(c, func(proof people.AppProof, token string) error {
		if err := a.service.RevokeToken(c.Request().Context(), c.origin, proof, token); err != nil {
			return a.oauthError(c, err)
		}
		return c.NoContent(http.StatusOK)
	})
}

// aboutToken reads a form by which an app, which it proves, says something about a token.
func (a *api) aboutToken(c *call, do func(proof people.AppProof, token string) error) error {
	form, err := oauthForm(c)
	if err != nil {
		return a.oauthError(c, err)
	}
	if form.Get("token") == "" {
		return c.JSON(http.StatusBadRequest, oauthProblem{"invalid_request", "token is missing"})
	}
	form.Set("grant_type", clientCredentials)
	proof, problem := proofOf(c, form)
	if problem != nil {
		return c.JSON(http.StatusBadRequest, problem)
	}
	return do(proof, form.Get("token"))
}

type oauthProblem struct {
	Error       string `json:"error"`
	Description string `json:"error_description"`
}

// oauthForm reads a form body; a parameter given twice is an error (RFC 6749, section 3.2), and one in the URL is not
// read at all.
func oauthForm(c *call) (url.Values, error) {
	request := c.Request()
	kind, _, err := mime.ParseMediaType(request.Header.Get("Content-Type"))
	if err != nil || kind != "application/x-www-form-urlencoded" {
		return nil, &chest.Error{Code: chest.InvalidInput, Detail: "the body must be application/x-www-form-urlencoded"}
	}
	request.Body = http.MaxBytesReader(c.Response(), request.Body, smallBody)
	if err := request.ParseForm(); err != nil {
		return nil, &chest.Error{Code: chest.InvalidInput, Detail: "the body is not a form of at most 16 KiB"}
	}
	for name, values := range request.PostForm {
		if len(values) > 1 {
			return nil, &chest.Error{Code: chest.InvalidInput, Field: name, Detail: "a parameter is given twice"}
		}
	}
	return request.PostForm, nil
}

// Kinds of grants and of assertions (RFC 6749, section 4.4; RFC 7523, sections 2.1 and 2.2).
const (
	clientCredentials = "client_credentials"
	outsideToken      = "urn:ietf:params:oauth:grant-type:jwt-bearer"
	ownAssertion      = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
)

// proofOf reads what an app proves itself with.
func proofOf(c *call, form url.Values) (p people.AppProof, problem *oauthProblem) {
	p.App, p.Secret = clientOf(c, form)
	ways := len(c.Request().Header.Values("Authorization"))
	for _, one := range []string{"client_secret", "client_assertion"} {
		if form.Has(one) {
			ways++
		}
	}
	if ways > 1 {
		return p, &oauthProblem{"invalid_request", "a client proves itself in one way at a time (RFC 6749, section 2.3)"}
	}
	if form.Get("scope") != "" {
		return p, &oauthProblem{"invalid_scope", "there are no scopes here: what a token may do is what its app was granted"}
	}
	if form.Has("client_assertion") || form.Has("client_assertion_type") {
		if p.Assertion = form.Get("client_assertion"); p.Assertion == "" || form.Get("client_assertion_type") != ownAssertion {
			return p, &oauthProblem{"invalid_request", "client_assertion comes with client_assertion_type " + ownAssertion}
		}
	}
	switch form.Get("grant_type") {
	case "":
		return p, &oauthProblem{"invalid_request", "grant_type is missing"}
	case clientCredentials:
	case outsideToken:
		if p.Outside = form.Get("assertion"); p.Outside == "" || p.App == "" {
			return p, &oauthProblem{"invalid_request", "this grant needs an assertion, and the app's name as client_id"}
		}
	default:
		return p, &oauthProblem{"unsupported_grant_type", "grant_type must be " + clientCredentials + " or " + outsideToken}
	}
	return p, nil
}

// enrolHost registers a key pair that was made on a host, for a code.
func (a *api) enrolHost(c *call) error {
	var body client.HostEnrolment
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	subject, id, err := a.service.EnrolHost(c.origin, people.HostProof{Code: body.Code, PublicKey: body.PublicKey, Assertion: body.Assertion})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, client.HostEnrolled{Subject: subject, Credential: id})
}

// clientOf takes the client's credentials from the Authorization header or else from the form (RFC 6749, section 2.3.1).
func clientOf(c *call, form url.Values) (id, secret string) {
	if user, password, basic := c.Request().BasicAuth(); basic {
		id, errID := url.QueryUnescape(user)
		secret, errSecret := url.QueryUnescape(password)
		if errID == nil && errSecret == nil {
			return id, secret
		}
		return "", ""
	}
	return form.Get("client_id"), form.Get("client_secret")
}

func (a *api) oauthError(c *call, err error) error {
	var known *chest.Error
	if !errors.As(err, &known) {
		return err
	}
	switch known.Code {
	case chest.SignInFailed:
		c.Response().Header().Set("WWW-Authenticate", `Basic realm="tansu"`)
		return c.JSON(http.StatusUnauthorized, oauthProblem{"invalid_client", known.Detail})
	case chest.InvalidInput:
		return c.JSON(http.StatusBadRequest, oauthProblem{"invalid_request", known.Detail})
	}
	return err
}
