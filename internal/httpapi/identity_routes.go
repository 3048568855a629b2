package httpapi

import (
	"errors"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"time"

	"tansu/client"
	"tansu/internal/core/secretvalue"
	"tansu/internal/service"
)

func (a *api) health(c *call) error { return c.JSON(http.StatusOK, map[string]string{"status": "ok"}) }

func (a *api) ready(c *call) error {
	if err := a.service.Ready(); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]string{"status": "ready"})
}

func (a *api) status(c *call) error {
	status := a.service.Status()
	state := "locked"
	if status.Unlocked {
		state = "unlocked"
	}
	return c.JSON(http.StatusOK, client.Status{Chest: status.Chest, State: state, Method: status.Method, Version: a.version, Records: status.Records})
}

func (a *api) openapi(c *call) error { return c.Blob(http.StatusOK, "application/yaml", contract) }

func (a *api) unlock(c *call) error {
	var body struct {
		Material string `json:"material"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	if err := a.service.Unlock(c.origin, secretvalue.FromString(body.Material)); err != nil {
		return err
	}
	return a.status(c)
}

func (a *api) lock(c *call) error {
	if err := a.service.Lock(c.caller); err != nil {
		return err
	}
	return a.status(c)
}

// Kinds of session a sign-in can ask for.
const (
	asCookie = "cookie"
	asToken  = "token"
)

func (a *api) signIn(c *call) error {
	var body struct {
		Person   string `json:"person"`
		Password string `json:"password"`
		Session  string `json:"session"`
		Device   string `json:"device"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	via, err := a.sessionKind(c, body.Session)
	if err != nil {
		return err
	}
	if body.Session == asCookie {
		body.Device = a.cookies.device(c.Request())
	}
	session, err := a.service.SignIn(c.origin, body.Person, secretvalue.FromString(body.Password), body.Device, via)
	if err != nil {
		return err
	}
	return a.answerSession(c, body.Session, session)
}

func (a *api) enrol(c *call) error {
	var body struct {
		Code     string `json:"code"`
		Password string `json:"password"`
		Session  string `json:"session"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	via, err := a.sessionKind(c, body.Session)
	if err != nil {
		return err
	}
	session, err := a.service.Enrol(c.origin, body.Code, secretvalue.FromString(body.Password), via)
	if err != nil {
		return err
	}
	return a.answerSession(c, body.Session, session)
}

// sessionKind checks which kind of session is asked for; another site must not start one in somebody's browser.
func (a *api) sessionKind(c *call, kind string) (via string, err error) {
	switch kind {
	case asToken:
		return service.ViaCLI, nil
	case asCookie:
		return service.ViaConsole, a.sameOrigin(c.Request())
	}
	return "", &service.Error{Code: service.InvalidInput, Field: "session", Detail: `session is neither "cookie" nor "token"`}
}

func (a *api) answerSession(c *call, kind string, session service.Session) error {
	answer := client.Session{Subject: session.Subject, Ends: session.End}
	if kind == asCookie {
		a.cookies.set(c.Response(), string(session.Token.Reveal()), session.Mark, session.End, time.Now())
	} else {
		answer.Token, answer.Device = string(session.Token.Reveal()), session.Mark
	}
	return c.JSON(http.StatusOK, answer)
}

func (a *api) signOut(c *call) error {
	if err := a.service.SignOut(c.caller); err != nil {
		return err
	}
	a.cookies.clear(c.Response())
	return c.NoContent(http.StatusNoContent)
}

func (a *api) me(c *call) error {
	me, err := a.service.Me(c.caller)
	if err != nil {
		return err
	}
	answer := client.Me{Subject: me.Subject, Description: me.Description, Via: c.caller.Via(), Steward: me.Steward, Ends: me.Ends, Grants: []client.Grant{}}
	for _, g := range me.Grants {
		answer.Grants = append(answer.Grants, grantJSON(g))
	}
	return c.JSON(http.StatusOK, answer)
}

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
	return c.JSON(http.StatusOK, map[string]any{"access_token": string(token.Token.Reveal()), "token_type": "Bearer", "expires_in": int(token.Life / time.Second)})
}

// revokeToken is RFC 7009.
func (a *api) revokeToken(c *call) error {
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
	if err := a.service.RevokeToken(c.Request().Context(), c.origin, proof, form.Get("token")); err != nil {
		return a.oauthError(c, err)
	}
	return c.NoContent(http.StatusOK)
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
		return nil, &service.Error{Code: service.InvalidInput, Detail: "the body must be application/x-www-form-urlencoded"}
	}
	request.Body = http.MaxBytesReader(c.Response(), request.Body, smallBody)
	if err := request.ParseForm(); err != nil {
		return nil, &service.Error{Code: service.InvalidInput, Detail: "the body is not a form of at most 16 KiB"}
	}
	for name, values := range request.PostForm {
		if len(values) > 1 {
			return nil, &service.Error{Code: service.InvalidInput, Field: name, Detail: "a parameter is given twice"}
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
func proofOf(c *call, form url.Values) (p service.AppProof, problem *oauthProblem) {
	p.App, p.Secret = clientOf(c, form)
	if form.Has("client_assertion") || form.Has("client_assertion_type") {
		if p.Assertion = form.Get("client_assertion"); p.Assertion == "" || form.Get("client_assertion_type") != ownAssertion {
			return p, &oauthProblem{"invalid_request", "client_assertion comes with client_assertion_type " + ownAssertion}
		}
	}
	switch form.Get("grant_type") {
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
	subject, id, err := a.service.EnrolHost(c.origin, service.HostProof{Code: body.Code, PublicKey: body.PublicKey, Assertion: body.Assertion})
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
	var known *service.Error
	if !errors.As(err, &known) {
		return err
	}
	switch known.Code {
	case service.SignInFailed:
		c.Response().Header().Set("WWW-Authenticate", `Basic realm="tansu"`)
		return c.JSON(http.StatusUnauthorized, oauthProblem{"invalid_client", known.Detail})
	case service.InvalidInput:
		return c.JSON(http.StatusBadRequest, oauthProblem{"invalid_request", known.Detail})
	}
	return err
}

func (a *api) listIdentities(c *call) error {
	list, err := a.service.Identities(c.caller)
	if err != nil {
		return err
	}
	answer := []client.Identity{}
	for _, d := range list {
		answer = append(answer, identityJSON(d))
	}
	return c.JSON(http.StatusOK, map[string]any{"identities": answer})
}

func (a *api) getIdentity(c *call) error {
	d, err := a.service.Identity(c.caller, c.param("subject"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, identityJSON(d))
}

func (a *api) readings(c *call) error {
	list, err := a.service.Readings(c.caller, c.param("subject"))
	if err != nil {
		return err
	}
	answer := []client.Reading{}
	for _, r := range list {
		answer = append(answer, client.Reading(r))
	}
	return c.JSON(http.StatusOK, map[string]any{"reads": answer})
}

func (a *api) register(c *call) error {
	var body client.NewIdentity
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	registered, err := a.service.Register(c.caller, service.NewIdentity(body))
	if err != nil {
		return err
	}
	c.Response().Header().Set("Location", "/api/identities/"+registered.Identity.Subject)
	answer := client.Registered{Identity: identityJSON(registered.Identity), Notes: append([]string{}, registered.Notes...)}
	if registered.Credential.ID != "" {
		answer.Credential = issuedJSON(registered.Credential)
	}
	return c.JSON(http.StatusCreated, answer)
}

func (a *api) changeIdentity(c *call) error {
	var body client.IdentityChanges
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	changes := service.IdentityChanges{Description: body.Description, Owner: body.Owner, Purpose: body.Purpose, Environment: body.Environment}
	described := changes != service.IdentityChanges{}
	if described == (body.State != nil) {
		return &service.Error{Code: service.InvalidInput, Field: "state", Detail: "change the state, or what is said about it: one of the two"}
	}
	var d service.Identity
	var err error
	if described {
		d, err = a.service.ChangeIdentity(c.caller, c.param("subject"), changes)
	} else {
		d, err = a.service.SetState(c.caller, c.param("subject"), *body.State)
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, identityJSON(d))
}

func (a *api) join(c *call) error {
	d, err := a.service.Join(c.caller, c.param("subject"), c.param("member"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, identityJSON(d))
}

func (a *api) leave(c *call) error {
	d, err := a.service.Leave(c.caller, c.param("subject"), c.param("member"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, identityJSON(d))
}

func (a *api) issueCredential(c *call) error {
	var body client.NewCredential
	if c.Request().ContentLength != 0 {
		if err := a.decode(c, 2*smallBody, &body); err != nil {
			return err
		}
	}
	issued, err := a.service.IssueCredential(c.caller, c.param("subject"), service.NewCredential(body))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, issuedJSON(issued))
}

func (a *api) revokeCredential(c *call) error {
	if err := a.service.RevokeCredential(c.caller, c.param("subject"), c.param("credential")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (a *api) listGrants(c *call) error {
	if err := onlyQuery(c, "subject"); err != nil {
		return err
	}
	list, err := a.service.Grants(c.caller, c.QueryParam("subject"))
	if err != nil {
		return err
	}
	answer := []client.Grant{}
	for _, g := range list {
		answer = append(answer, grantJSON(g))
	}
	return c.JSON(http.StatusOK, map[string]any{"grants": answer})
}

func (a *api) give(c *call) error {
	var body client.NewGrant
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	g, notes, err := a.service.Give(c.caller, newGrant(body))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, client.Given{Grant: grantJSON(g), Notes: append([]string{}, notes...)})
}

func (a *api) endGrant(c *call) error {
	g, err := a.service.End(c.caller, c.param("grant"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, grantJSON(g))
}

// decode is the strict decoder for a call.
func (a *api) decode(c *call, limit int64, into any) error {
	return decode(c.Response(), c.Request(), limit, into)
}

// onlyQuery refuses query parameters that a route does not have.
func onlyQuery(c *call, allowed ...string) error {
	for name := range c.QueryParams() {
		if !slices.Contains(allowed, name) {
			return &service.Error{Code: service.InvalidInput, Field: name, Detail: "this route has no such query parameter"}
		}
	}
	return nil
}

func identityJSON(d service.Identity) client.Identity {
	answer := client.Identity{Subject: d.Subject, Description: d.Description, Owner: d.Owner, State: d.State, Enrolled: d.Enrolled,
		Purpose: d.Purpose, Environment: d.Environment, Seen: client.Seen(d.Seen),
		CreatedAt: d.CreatedAt, CreatedBy: d.CreatedBy, Revision: d.Revision, Credentials: []client.Credential{},
		Teams: append([]string{}, d.Teams...), Members: append([]string{}, d.Members...)}
	for _, cr := range d.Credentials {
		answer.Credentials = append(answer.Credentials, client.Credential(cr))
	}
	return answer
}

func issuedJSON(i service.Issued) client.Issued {
	return client.Issued{ID: i.ID, Kind: i.Kind, Secret: string(i.Secret.Reveal()), NotAfter: i.NotAfter}
}

func grantJSON(g service.Grant) client.Grant {
	return client.Grant{ID: g.ID, Subject: g.Subject, Effect: g.Effect, Role: g.Role, Scope: g.Scope, Reason: g.Reason, InForce: g.InForce,
		NotAfter: g.NotAfter, CreatedAt: g.CreatedAt, CreatedBy: g.CreatedBy, EndedAt: g.EndedAt, EndedBy: g.EndedBy, Conditions: client.Conditions(g.Conditions)}
}
