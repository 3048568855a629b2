package httpapi

import (
	"net/http"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/secretvalue"
	"tansu/internal/people"
)

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
		return people.ViaCLI, nil
	case asCookie:
		return people.ViaConsole, a.sameOrigin(c.Request())
	}
	return "", &chest.Error{Code: chest.InvalidInput, Field: "session", Detail: `session is neither "cookie" nor "token"`}
}

func (a *api) answerSession(c *call, kind string, session people.Session) error {
	answer := client.Session{Subject: session.Subject, Ends: session.End}
	if kind == asCookie {
		a.cookies.set(c.Response(), string(session.Token.Reveal()), session.Mark, session.End, a.service.Heart.Now())
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
	c.Response().Header().Set("Clear-Site-Data", `"cache", "storage"`) // W3C Clear Site Data; the cookies are taken back above
	return c.NoContent(http.StatusNoContent)
}

func (a *api) me(c *call) error {
	me, err := a.service.Me(c.caller)
	if err != nil {
		return err
	}
	answer := client.Me{Subject: me.Subject, Description: me.Description, Via: c.caller.Via(), Steward: me.Steward, Ends: me.Ends,
		Operate: me.Operate, SharesWaiting: me.Waiting, MasterKeys: me.Masters,
		Grants: []client.Grant{}, May: client.May{Chest: names(me.May.Chest), Somewhere: names(me.May.Somewhere),
			Everything: names(me.May.Everything), Owns: append([]string{}, me.May.Owns...)}}
	for _, g := range me.Grants {
		answer.Grants = append(answer.Grants, grantJSON(g))
	}
	return c.JSON(http.StatusOK, answer)
}

// names are those of actions, as the API has them; an empty list for none.
func names(of access.Action) []string { return append([]string{}, of.Names()...) }

func (a *api) mayThere(c *call) error {
	may, err := a.service.MayThere(c.caller, c.QueryParam("target"))
	if err != nil {
		return err
	}
	answer := client.There{Target: c.QueryParam("target"), Actions: names(may.Actions), NeedReason: names(may.Reason),
		NeedApproval: names(may.Approval), Unmet: []client.Unmet{}, UseOnly: may.UseOnly, Requested: may.Requested}
	for _, u := range may.Unmet {
		answer.Unmet = append(answer.Unmet, client.Unmet{Action: u.Action.String(), Why: u.Why})
	}
	return c.JSON(http.StatusOK, answer)
}

func (a *api) changePassword(c *call) error {
	var body struct {
		Password    string `json:"password"`
		NewPassword string `json:"new_password"`
		Session     string `json:"session"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	via, err := a.sessionKind(c, body.Session)
	if err != nil {
		return err
	}
	session, err := a.service.ChangePassword(c.caller, secretvalue.FromString(body.Password), secretvalue.FromString(body.NewPassword), via)
	if err != nil {
		return err
	}
	return a.answerSession(c, body.Session, session)
}

func (a *api) ownSessions(c *call) error {
	list, err := a.service.Sessions(c.caller)
	if err != nil {
		return err
	}
	answer := []client.OwnSession{}
	for _, s := range list {
		answer = append(answer, client.OwnSession(s))
	}
	return listed(c, "sessions", answer)
}

func (a *api) endSession(c *call) error {
	if err := a.service.EndSession(c.caller, c.param("session")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
