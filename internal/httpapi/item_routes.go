package httpapi

import (
	"encoding/base64"
	"net/http"
	"strconv"
	"strings"
	"time"

	"tansu/client"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/service"
)

func (a *api) listDrawers(c *call) error {
	list, err := a.service.Drawers(c.caller)
	if err != nil {
		return err
	}
	answer := []client.Drawer{}
	for _, d := range list {
		answer = append(answer, drawerJSON(d))
	}
	return c.JSON(http.StatusOK, map[string]any{"drawers": answer})
}

func (a *api) createDrawer(c *call) error {
	var body client.NewDrawer
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	d, err := a.service.CreateDrawer(c.caller, service.NewDrawer(body))
	if err != nil {
		return err
	}
	setETag(c, d.Revision)
	c.Response().Header().Set("Location", "/api/drawers/"+d.Name)
	return c.JSON(http.StatusCreated, drawerJSON(d))
}

func (a *api) getDrawer(c *call) error {
	if err := onlyQuery(c, "retired"); err != nil {
		return err
	}
	retired := service.WithoutRetired
	switch c.QueryParam("retired") {
	case "", "false":
	case "true":
		retired = service.WithRetired
	default:
		return &service.Error{Code: service.InvalidInput, Field: "retired", Detail: "retired is true or false"}
	}
	d, items, err := a.service.Drawer(c.caller, c.param("drawer"), retired)
	if err != nil {
		return err
	}
	answer := client.DrawerContents{Drawer: drawerJSON(d), Items: []client.Item{}}
	for _, it := range items {
		answer.Items = append(answer.Items, itemJSON(it))
	}
	setETag(c, d.Revision)
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
	return c.JSON(http.StatusOK, drawerJSON(d))
}

// changes reads the body and the If-Match of a change, which must have both.
func (a *api) changes(c *call) (int64, service.Described, error) {
	var body client.Described
	if err := a.decode(c, smallBody, &body); err != nil {
		return 0, service.Described{}, err
	}
	revision, err := ifMatch(c)
	if err == nil && revision == 0 {
		err = &service.Error{Code: service.NeedsRevision, Field: "If-Match", Detail: "a change needs If-Match with the ETag that was read, so that nobody's change is lost"}
	}
	changes := service.Described{Description: body.Description, Owner: body.Owner, Labels: body.Labels}
	if body.Approval != nil {
		changes.Approval = &service.Approval{Items: body.Approval.Items, Of: body.Approval.Of}
	}
	return revision, changes, err
}

func drawerJSON(d service.Drawer) client.Drawer {
	return client.Drawer{Name: d.Name, Environment: d.Environment, Description: d.Description, Owner: d.Owner, Labels: d.Labels,
		Approval:  client.Approval{Items: append([]string{}, d.Approval.Items...), Of: d.Approval.Of},
		CreatedAt: d.CreatedAt, CreatedBy: d.CreatedBy, Revision: d.Revision, Items: d.Items, Due: d.Due, Overdue: d.Overdue}
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
	if err != nil {
		return err
	}
	it, made, err := a.service.CreateItem(c.caller, ref, service.NewItem{Description: body.Description, Owner: body.Owner}, version)
	if err != nil {
		return err
	}
	setETag(c, it.Revision)
	c.Response().Header().Set("Location", "/api/drawers/"+ref.Drawer+"/items/"+ref.Item)
	return c.JSON(http.StatusCreated, client.Stored{Item: itemJSON(it), Version: versionJSON(made)})
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
	if err != nil {
		return err
	}
	it, made, err := a.service.AddVersion(c.caller, ref, revision, version)
	if err != nil {
		return err
	}
	setETag(c, it.Revision)
	return c.JSON(http.StatusCreated, client.Stored{Item: itemJSON(it), Version: versionJSON(made)})
}

func newVersion(prefix string, body client.NewVersion) (v service.NewVersion, err error) {
	if body.Encoding != "base64" {
		return v, &service.Error{Code: service.InvalidInput, Field: prefix + "encoding", Detail: prefix + `encoding must be "base64"`}
	}
	content, err := base64.StdEncoding.Strict().DecodeString(body.Value)
	if err != nil {
		// The cause would say which character of the value is wrong, so it is not passed on.
		return v, &service.Error{Code: service.InvalidInput, Field: prefix + "value", Detail: prefix + "value is not base64 of the standard alphabet with padding"}
	}
	return service.NewVersion{Content: secretvalue.New(content), Note: body.Note, Staged: body.Staged, Window: lifecycle.Window{NotBefore: body.NotBefore, NotAfter: body.NotAfter}}, nil
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

func historyJSON(it service.Item, versions []service.Version) client.History {
	answer := client.History{Item: itemJSON(it), Versions: []client.Version{}}
	for _, v := range versions {
		answer.Versions = append(answer.Versions, versionJSON(v))
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
	return c.JSON(http.StatusOK, itemJSON(it))
}

// readValue is the hot path. The item may carry a version: db-password@3. With Accept: application/octet-stream the
// answer is the bytes alone.
func (a *api) readValue(c *call) error {
	ref, err := reference.Parse(c.param("drawer") + "/" + c.param("item"))
	if err != nil {
		return &service.Error{Code: service.InvalidInput, Field: "reference", Detail: err.Error()}
	}
	served, err := a.service.ReadValue(c.caller, ref)
	if err != nil {
		return err
	}
	defer served.Content.Wipe()
	content := served.Content.Reveal()
	if strings.Contains(c.Request().Header.Get("Accept"), "application/octet-stream") {
		c.Response().Header().Set("Tansu-Version", strconv.Itoa(served.Reference.Version))
		return c.Blob(http.StatusOK, "application/octet-stream", content)
	}
	body := appendValue(make([]byte, 0, 256+base64.StdEncoding.EncodedLen(len(content))), served, content)
	defer clear(body)
	return c.Blob(http.StatusOK, "application/json", body)
}

// appendValue writes a client.Value; by hand, because this is every read's answer and no string in it needs escaping.
func appendValue(b []byte, served service.Served, content []byte) []byte {
	b = append(b, `{"reference":"`...)
	b = append(b, served.Reference.String()...)
	b = append(b, `","version":`...)
	b = strconv.AppendInt(b, int64(served.Reference.Version), 10)
	b = append(b, `,"encoding":"base64","value":"`...)
	b = base64.StdEncoding.AppendEncode(b, content)
	b = append(b, `","size":`...)
	b = strconv.AppendInt(b, int64(len(content)), 10)
	b = append(b, `,"created_at":"`...)
	b = served.CreatedAt.AppendFormat(b, time.RFC3339Nano)
	if !served.NotAfter.IsZero() {
		b = append(b, `","not_after":"`...)
		b = served.NotAfter.AppendFormat(b, time.RFC3339Nano)
	}
	return append(b, `"}`...)
}

func itemReference(drawer, item string) (reference.Reference, error) {
	for _, part := range []struct{ field, name string }{{"drawer", drawer}, {"name", item}} {
		if err := reference.CheckName(part.name); err != nil {
			return reference.Reference{}, &service.Error{Code: service.InvalidInput, Field: part.field, Detail: err.Error()}
		}
	}
	return reference.Reference{Drawer: drawer, Item: item}, nil
}

// ETags (RFC 9110, section 8.8.3) are revisions: "r3".
func setETag(c *call, revision int64) {
	c.Response().Header().Set("ETag", `"r`+strconv.FormatInt(revision, 10)+`"`)
}

// ifMatch returns the revision asked for, 0 when there is none.
func ifMatch(c *call) (int64, error) {
	header := c.Request().Header.Get("If-Match")
	if header == "" {
		return 0, nil
	}
	text, quoted := strings.CutPrefix(header, `"r`)
	text, closed := strings.CutSuffix(text, `"`)
	revision, err := strconv.ParseInt(text, 10, 64)
	if !quoted || !closed || err != nil || revision < 1 {
		return 0, &service.Error{Code: service.InvalidInput, Field: "If-Match", Detail: `If-Match is not an ETag of this chest, such as "r3"`}
	}
	return revision, nil
}

func itemJSON(it service.Item) client.Item {
	return client.Item{Reference: it.Reference, Name: it.Name, Kind: it.Kind, Description: it.Description, Owner: it.Owner, Labels: it.Labels, Approval: it.Approval, Held: it.Held, Suspended: it.Suspended, RetiredAt: it.RetiredAt, State: it.State,
		Current: it.Current, Versions: it.Versions, NotAfter: it.NotAfter, ChangedAt: it.ChangedAt, ChangedBy: it.ChangedBy,
		CreatedAt: it.CreatedAt, CreatedBy: it.CreatedBy, Revision: it.Revision}
}

func versionJSON(v service.Version) client.Version {
	return client.Version{Version: v.Number, State: v.State, Current: v.Current, Size: v.Size, EndsInNewline: v.EndsInNewline, Note: v.Note,
		NotBefore: v.NotBefore, NotAfter: v.NotAfter, CreatedAt: v.CreatedAt, CreatedBy: v.CreatedBy}
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

// readersSince is how far back readers are looked for when nobody says otherwise.
const readersSince = 90 * 24 * time.Hour

func (a *api) readers(c *call) error {
	since, err := sinceOr(c, readersSince)
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
	answer := []client.Reader{}
	for _, r := range list {
		answer = append(answer, client.Reader(r))
	}
	return c.JSON(http.StatusOK, map[string]any{"readers": answer})
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
	return c.JSON(http.StatusOK, map[string]any{"shredded": answer})
}
