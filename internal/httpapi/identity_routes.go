package httpapi

import (
	"net/http"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/people"
)

func (a *api) owned(c *call) error {
	l, err := a.service.LeftBehind(c.caller, c.param("subject"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, ownedJSON(l))
}

func (a *api) handOver(c *call) error {
	var body struct {
		To string `json:"to"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	l, err := a.service.HandOver(c.caller, c.param("subject"), body.To)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, ownedJSON(l))
}

func ownedJSON(l people.LeftBehind) client.Owned {
	return client.Owned{Apps: append([]string{}, l.Apps...), Drawers: append([]string{}, l.Drawers...), Items: append([]string{}, l.Items...),
		MasterKeys: append([]string{}, l.Masters...), Grants: grantsJSON(l.Grants)}
}

func (a *api) setStewardsAside(c *call) error {
	aside, err := a.service.SetStewardsAside(c.caller)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"set_aside": aside})
}

func (a *api) listIdentities(c *call) error {
	after, most, err := page(c)
	if err != nil {
		return err
	}
	list, err := a.service.Identities(c.caller, people.IdentityFilter{Kind: c.QueryParam("kind"), After: after, Most: most})
	if err != nil {
		return err
	}
	answer := []client.Identity{}
	for _, d := range list.Identities {
		answer = append(answer, identityJSON(d))
	}
	return c.JSON(http.StatusOK, map[string]any{"identities": answer, "next_cursor": list.Next})
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
	return listed(c, "reads", answer)
}

func (a *api) register(c *call) error {
	var body client.NewIdentity
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	registered, err := a.service.Register(c.caller, people.NewIdentity(body))
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
	changes := people.IdentityChanges{Description: body.Description, Owner: body.Owner, Purpose: body.Purpose, Environment: body.Environment}
	described := changes != people.IdentityChanges{}
	var d people.Identity
	var err error
	switch {
	case described && body.State == nil && !body.Confirmed:
		d, err = a.service.ChangeIdentity(c.caller, c.param("subject"), changes)
	case !described && body.State != nil && !body.Confirmed:
		d, err = a.service.SetState(c.caller, c.param("subject"), *body.State)
	case !described && body.State == nil && body.Confirmed:
		d, err = a.service.Confirm(c.caller, c.param("subject"))
	default:
		err = &chest.Error{Code: chest.InvalidInput, Field: "state",
			Detail: "change the state, or the description, owner or purpose, or confirm it (confirmed: true): one of the three"}
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
	issued, err := a.service.IssueCredential(c.caller, c.param("subject"), people.NewCredential(body))
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

func identityJSON(d people.Identity) client.Identity {
	answer := client.Identity{Subject: d.Subject, Description: d.Description, Owner: d.Owner, State: d.State, Enrolled: d.Enrolled,
		Confirmed: d.Confirmed, MayNotGive: d.MayNotGive,
		Purpose: d.Purpose, Environment: d.Environment, Seen: client.Seen(d.Seen),
		CreatedAt: d.CreatedAt, CreatedBy: d.CreatedBy, Revision: d.Revision, Credentials: []client.Credential{},
		Teams: append([]string{}, d.Teams...), Members: append([]string{}, d.Members...)}
	for _, cr := range d.Credentials {
		answer.Credentials = append(answer.Credentials, client.Credential(cr))
	}
	return answer
}

func issuedJSON(i people.Issued) client.Issued {
	return client.Issued{ID: i.ID, Kind: i.Kind, Secret: string(i.Secret.Reveal()), NotAfter: i.NotAfter}
}
