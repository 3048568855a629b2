package httpapi

import (
	"net/http"
	"time"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/shelf"
	"tansu/internal/wire"
)

// rotationTime is how long one request wraps keys anew; whoever asked asks again until it is done.
const rotationTime = 3 * time.Second

func (a *api) rotateKey(c *call) error {
	var body struct {
		MasterKey *string `json:"master_key"`
	}
	if err := a.decode(c, smallBody, &body); err != nil && c.Request().ContentLength != 0 {
		return err
	}
	r, err := a.service.RotateKey(c.caller, c.param("drawer"), body.MasterKey, rotationTime)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, client.Rotation(r))
}

func (a *api) shredDrawer(c *call) error {
	var body struct {
		Name string `json:"name"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	r, err := a.service.ShredDrawer(c.caller, c.param("drawer"), body.Name)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, wire.ShreddedDrawer(r))
}

func (a *api) shreddedDrawers(c *call) error {
	list, err := a.service.ShreddedDrawers(c.caller)
	if err != nil {
		return err
	}
	answer := []client.ShreddedDrawer{}
	for _, r := range list {
		answer = append(answer, wire.ShreddedDrawer(r))
	}
	return listed(c, "drawers", answer)
}

func (a *api) listDrawers(c *call) error {
	after, most, err := page(c)
	if err != nil {
		return err
	}
	list, err := a.service.Drawers(c.caller, after, most)
	if err != nil {
		return err
	}
	answer := []client.Drawer{}
	for _, d := range list.Drawers {
		answer = append(answer, wire.Drawer(d))
	}
	return c.JSON(http.StatusOK, map[string]any{"drawers": answer, "next_cursor": list.Next})
}

func (a *api) createDrawer(c *call) error {
	var body client.NewDrawer
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	d, err := a.service.CreateDrawer(c.caller, shelf.NewDrawer(body))
	if err != nil {
		return err
	}
	setETag(c, d.Revision)
	c.Response().Header().Set("Location", "/api/drawers/"+d.Name)
	return c.JSON(http.StatusCreated, wire.Drawer(d))
}

// drawerPage is how many items a page of a drawer has.
const drawerPage = 500

func (a *api) getDrawer(c *call) error {
	retired := shelf.WithoutRetired
	switch c.QueryParam("retired") {
	case "", "false":
	case "true":
		retired = shelf.WithRetired
	default:
		return &chest.Error{Code: chest.InvalidInput, Field: "retired", Detail: "retired is true or false"}
	}
	p, err := a.service.Drawer(c.caller, c.param("drawer"), retired, c.QueryParam("cursor"), drawerPage)
	if err != nil {
		return err
	}
	answer := client.DrawerContents{Drawer: wire.Drawer(p.Drawer), Items: []client.Item{}, NextCursor: p.Next}
	for _, it := range p.Items {
		answer.Items = append(answer.Items, wire.Item(it))
	}
	setETag(c, p.Revision)
	return c.JSON(http.StatusOK, answer)
}

func (a *api) changeDrawer(c *call) error {
	revision, changes, err := a.changes(c)
	if err != nil {
		return err
	}
	d, err := a.service.ChangeDrawer(c.caller, c.param("drawer"), revision, changes)
	if err != nil {
		return err
	}
	setETag(c, d.Revision)
	return c.JSON(http.StatusOK, wire.Drawer(d))
}
