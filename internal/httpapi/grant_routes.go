package httpapi

import (
	"net/http"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/rights"
)

func grantsJSON(list []chest.GrantInfo) []client.Grant {
	answer := []client.Grant{}
	for _, g := range list {
		answer = append(answer, grantJSON(g))
	}
	return answer
}

func (a *api) listRoles(c *call) error {
	list, err := a.service.Roles(c.caller)
	if err != nil {
		return err
	}
	answer := []client.Role{}
	for _, role := range list {
		answer = append(answer, client.Role(role))
	}
	return listed(c, "roles", answer)
}

func (a *api) addRole(c *call) error {
	var body client.NewRole
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	role, notes, err := a.service.AddRole(c.caller, rights.NewRole(body))
	if err != nil {
		return err
	}
	c.Response().Header().Set("Location", "/api/roles/"+role.Name)
	return c.JSON(http.StatusCreated, client.RoleStored{Role: client.Role(role), Notes: append([]string{}, notes...)})
}

func (a *api) changeRole(c *call) error {
	var body client.NewRole
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	if body.Name != c.param("role") {
		return &chest.Error{Code: chest.InvalidInput, Field: "name", Detail: "a role keeps its name: the body and the path differ"}
	}
	role, notes, err := a.service.ChangeRole(c.caller, rights.NewRole(body))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, client.RoleStored{Role: client.Role(role), Notes: append([]string{}, notes...)})
}

func (a *api) removeRole(c *call) error {
	if err := a.service.RemoveRole(c.caller, c.param("role")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func newGrant(n client.NewGrant) rights.NewGrant {
	return rights.NewGrant{Subject: n.Subject, Effect: n.Effect, Role: n.Role, Scope: n.Scope, Reason: n.Reason, NotAfter: n.NotAfter,
		NeverEnds: n.NeverEnds,
		Replaces:  n.Replaces, Conditions: chest.Conditions(n.Conditions)}
}

func newGrantJSON(n rights.NewGrant) client.NewGrant {
	return client.NewGrant{Subject: n.Subject, Effect: n.Effect, Role: n.Role, Scope: n.Scope, Reason: n.Reason, NotAfter: n.NotAfter,
		NeverEnds: n.NeverEnds,
		Replaces:  n.Replaces, Conditions: client.Conditions(n.Conditions)}
}

func (a *api) listGrants(c *call) error {
	after, most, err := page(c)
	if err != nil {
		return err
	}
	list, err := a.service.Grants(c.caller, rights.GrantFilter{Subject: c.QueryParam("subject"), After: after, Most: most})
	if err != nil {
		return err
	}
	answer := []client.Grant{}
	for _, g := range list.Grants {
		answer = append(answer, grantJSON(g))
	}
	return c.JSON(http.StatusOK, map[string]any{"grants": answer, "next_cursor": list.Next})
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

func (a *api) renewGrant(c *call) error {
	var body client.Renewal
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	g, notes, err := a.service.Renew(c.caller, c.param("grant"), rights.Renewal(body))
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

func grantJSON(g chest.GrantInfo) client.Grant {
	return client.Grant{ID: g.ID, Subject: g.Subject, Effect: g.Effect, Role: g.Role, Scope: g.Scope, Reason: g.Reason, InForce: g.InForce,
		NotAfter: g.NotAfter, CreatedAt: g.CreatedAt, CreatedBy: g.CreatedBy, EndedAt: g.EndedAt, EndedBy: g.EndedBy,
		MayEnd: g.MayEnd, MayRenew: g.MayRenew, Conditions: client.Conditions(g.Conditions)}
}
