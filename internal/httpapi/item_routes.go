package httpapi

import (
	"net/http"
	"strconv"
	"time"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/shelf"
	"tansu/internal/usage"
	"tansu/internal/wire"
)

func (a *api) move(c *call) error {
	var body client.NewPlace
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	to, err := itemReference(body.Drawer, body.Name)
	if err != nil {
		return err
	}
	place := shelf.NewPlace{To: to}
	if body.Alias != "" {
		span, err := lifecycle.ParseSpan(body.Alias)
		if err != nil {
			return &chest.Error{Code: chest.InvalidInput, Field: "alias", Detail: err.Error()}
		}
		place.Alias = time.Duration(span)
	}
	m, err := a.service.Move(c.caller, ref, place)
	if err != nil {
		return err
	}
	setETag(c, m.Revision)
	return c.JSON(http.StatusOK, client.Moved{Item: wire.Item(m.Item), Old: m.Old, Until: m.Until, Readers: readersJSON(m.Readers)})
}

func readersJSON(list []usage.Reader) []client.Reader {
	answer := []client.Reader{}
	for _, r := range list {
		answer = append(answer, client.Reader(r))
	}
	return answer
}

func (a *api) endAlias(c *call) error {
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	if err := a.service.EndAlias(c.caller, ref); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (a *api) createItem(c *call) error {
	var body client.NewItem
	if err := a.decode(c, valueBody, &body); err != nil {
		return err
	}
	ref, err := itemReference(c.param("drawer"), body.Name)
	if err != nil {
		return err
	}
	version, err := newVersion("version.", body.Version)
	if err == nil {
		err = a.receive(c, body.Version, &version)
	}
	if err != nil {
		return err
	}
	facts, err := keyFacts(body.Key)
	if err != nil {
		return err
	}
	it, made, err := a.service.CreateItem(c.caller, ref, shelf.NewItem{Description: body.Description, Owner: body.Owner,
		Shape: secretvalue.Shape(body.Shape), UseOnly: body.UseOnly, Key: facts}, version)
	if err != nil {
		return err
	}
	setETag(c, it.Revision)
	c.Response().Header().Set("Location", "/api/drawers/"+ref.Drawer+"/items/"+ref.Item)
	return c.JSON(http.StatusCreated, client.Stored{Item: wire.Item(it), Version: wire.Version(made)})
}

func (a *api) addVersion(c *call) error {
	var body client.NewVersion
	if err := a.decode(c, valueBody, &body); err != nil {
		return err
	}
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	revision, err := ifMatch(c)
	if err != nil {
		return err
	}
	version, err := newVersion("", body)
	if err == nil {
		err = a.receive(c, body, &version)
	}
	if err != nil {
		return err
	}
	it, made, err := a.service.AddVersion(c.caller, ref, revision, version)
	if err != nil {
		return err
	}
	setETag(c, it.Revision)
	return c.JSON(http.StatusCreated, client.Stored{Item: wire.Item(it), Version: wire.Version(made)})
}

// newVersion reads a new version. The cause of a wrong base64 would say which character of the value is wrong, so it is
// not passed on.
func newVersion(prefix string, body client.NewVersion) (v shelf.NewVersion, err error) {
	v = shelf.NewVersion{Note: body.Note, Staged: body.Staged, Merge: body.Merge, Recipe: secretvalue.Recipe(body.Generate),
		Window: lifecycle.Window{NotBefore: body.NotBefore, NotAfter: body.NotAfter}}
	v.Brought = secretvalue.New(body.Brought)
	if body.Value != "" || body.Encoding != "" {
		if body.Encoding != "base64" {
			return v, &chest.Error{Code: chest.InvalidInput, Field: prefix + "encoding", Detail: prefix + `encoding must be "base64"`}
		}
		if v.Content, err = fromBase64(prefix+"value", body.Value); err != nil {
			return v, err
		}
	}
	for _, f := range body.Fields {
		value, err := fromBase64(prefix+"fields", f.Value)
		if err != nil {
			return v, err
		}
		v.Fields = append(v.Fields, shelf.NewField{Name: f.Name, Value: value, Recipe: secretvalue.Recipe(f.Generate), Plain: f.Plain})
	}
	return v, nil
}

func (a *api) getItem(c *call) error {
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	it, versions, err := a.service.History(c.caller, ref)
	if err != nil {
		return err
	}
	setETag(c, it.Revision)
	return c.JSON(http.StatusOK, historyJSON(it, versions))
}

func historyJSON(it shelf.Item, versions []shelf.Version) client.History {
	answer := client.History{Item: wire.Item(it), Versions: []client.Version{}, Aliases: []client.Alias{}}
	for _, alias := range it.Aliases {
		answer.Aliases = append(answer.Aliases,
			client.Alias{Reference: alias.Reference, Until: alias.Until, By: alias.By, Users: readersJSON(alias.Users)})
	}
	for _, v := range versions {
		answer.Versions = append(answer.Versions, wire.Version(v))
	}
	return answer
}

func (a *api) changeItem(c *call) error {
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	revision, changes, err := a.changes(c)
	if err != nil {
		return err
	}
	it, err := a.service.ChangeItem(c.caller, ref, revision, changes)
	if err != nil {
		return err
	}
	setETag(c, it.Revision)
	return c.JSON(http.StatusOK, wire.Item(it))
}

func itemReference(drawer, item string) (reference.Reference, error) {
	for _, part := range []struct{ field, name string }{{"drawer", drawer}, {"name", item}} {
		if err := reference.CheckName(part.name); err != nil {
			return reference.Reference{}, &chest.Error{Code: chest.InvalidInput, Field: part.field, Detail: err.Error()}
		}
	}
	return reference.Reference{Drawer: drawer, Item: item}, nil
}

func (a *api) act(c *call) error {
	var body client.Act
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	ref.Version = body.Version
	it, versions, err := a.service.Act(c.caller, ref, lifecycle.Act(body.Act), body.Name)
	if err != nil {
		return err
	}
	setETag(c, it.Revision)
	return c.JSON(http.StatusOK, historyJSON(it, versions))
}

func (a *api) setWindow(c *call) error {
	var body client.NewWindow
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	if body.NotAfter.IsZero() != body.NeverEnds {
		return chest.Invalid("not_after", "give not_after, or never_ends for none")
	}
	ref.Version = body.Version
	window := lifecycle.Window{NotBefore: body.NotBefore, NotAfter: body.NotAfter}
	it, versions, err := a.service.SetWindow(c.caller, ref, window, body.AllowAgain)
	if err != nil {
		return err
	}
	setETag(c, it.Revision)
	return c.JSON(http.StatusOK, historyJSON(it, versions))
}

// readersSince is how far back readers are looked for when nobody says otherwise.
const readersSince = 90 * 24 * time.Hour

func (a *api) readers(c *call) error {
	since, err := a.sinceOr(c, readersSince)
	if err != nil {
		return err
	}
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	list, err := a.service.Readers(c.caller, ref, since)
	if err != nil {
		return err
	}
	return listed(c, "readers", readersJSON(list))
}

func (a *api) shredded(c *call) error {
	list, err := a.service.Shredded(c.caller, c.param("drawer"))
	if err != nil {
		return err
	}
	answer := []client.Shredded{}
	for _, s := range list {
		answer = append(answer, client.Shredded(s))
	}
	return listed(c, "shredded", answer)
}

// howSoon is the span that is asked for, 14 days if none is.
func howSoon(c *call) (time.Duration, error) {
	hours := 14 * 24
	if text := c.QueryParam("hours"); text != "" {
		var err error
		if hours, err = strconv.Atoi(text); err != nil || hours < 0 || hours > 3660*24 {
			return 0, &chest.Error{Code: chest.InvalidInput, Field: "hours", Detail: "hours is not a whole number from 0 to 87840"}
		}
	}
	return time.Duration(hours) * time.Hour, nil
}

func (a *api) accessEnds(c *call) error {
	within, err := howSoon(c)
	if err != nil {
		return err
	}
	list, err := a.service.AccessEnds(c.caller, within)
	if err != nil {
		return err
	}
	answer := []client.AccessEnd{}
	for _, end := range list {
		answer = append(answer, client.AccessEnd(end))
	}
	return listed(c, "ends", answer)
}

func (a *api) due(c *call) error {
	within, err := howSoon(c)
	if err != nil {
		return err
	}
	list, err := a.service.DueItems(c.caller, within)
	if err != nil {
		return err
	}
	answer := []client.Due{}
	for _, d := range list {
		answer = append(answer, client.Due(d))
	}
	return listed(c, "due", answer)
}

// searchPage is how many items a page of a search has.
const searchPage = 100

func (a *api) search(c *call) error {
	page, err := a.service.Search(c.caller, c.QueryParam("q"), c.QueryParam("cursor"), searchPage)
	if err != nil {
		return err
	}
	answer := client.SearchPage{Items: []client.Item{}, NextCursor: page.Next}
	for _, it := range page.Items {
		answer.Items = append(answer.Items, wire.Item(it))
	}
	return c.JSON(http.StatusOK, answer)
}

func (a *api) find(c *call) error {
	list, err := a.service.Find(c.caller, c.QueryParam("q"))
	if err != nil {
		return err
	}
	answer := []client.Found{}
	for _, f := range list {
		answer = append(answer, client.Found(f))
	}
	return c.JSON(http.StatusOK, map[string]any{"found": answer})
}
