package httpapi

import (
	"encoding/base64"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"tansu/client"
	"tansu/internal/core/importfile"
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

// drawerPage is how many items a page of a drawer has.
const drawerPage = 500

func (a *api) getDrawer(c *call) error {
	if err := onlyQuery(c, "retired", "cursor"); err != nil {
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
	p, err := a.service.Drawer(c.caller, c.param("drawer"), retired, c.QueryParam("cursor"), drawerPage)
	if err != nil {
		return err
	}
	answer := client.DrawerContents{Drawer: drawerJSON(p.Drawer), Items: []client.Item{}, NextCursor: p.Next}
	for _, it := range p.Items {
		answer.Items = append(answer.Items, itemJSON(it))
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
	return c.JSON(http.StatusOK, drawerJSON(d))
}

// changes reads the body and the If-Match of a change, which must have both.
func (a *api) changes(c *call) (int64, service.Described, error) {
	var body client.Described
	if err := a.decode(c, smallBody, &body); err != nil {
		return 0, service.Described{}, err
	}
	revision, err := neededRevision(c)
	changes := service.Described{Description: body.Description, Owner: body.Owner, Labels: body.Labels, UseOnly: body.UseOnly}
	if body.Approval != nil {
		changes.Approval = &service.Approval{Items: body.Approval.Items, Of: body.Approval.Of}
	}
	return revision, changes, err
}

// neededRevision reads the revision that a change must name.
func neededRevision(c *call) (int64, error) {
	revision, err := ifMatch(c)
	if err == nil && revision == 0 {
		err = &service.Error{Code: service.NeedsRevision, Field: "If-Match", Detail: "a change needs If-Match with the ETag that was read, so that nobody's change is lost"}
	}
	return revision, err
}

func drawerJSON(d service.Drawer) client.Drawer {
	var next *client.Rules
	if !d.RulesFrom.IsZero() {
		rules := rulesJSON(d.NextRules)
		next = &rules
	}
	return client.Drawer{Notes: d.Notes, Rules: rulesJSON(d.Rules), NextRules: next, RulesFrom: d.RulesFrom, Name: d.Name, Environment: d.Environment, Description: d.Description, Owner: d.Owner, Labels: d.Labels,
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
	it, made, err := a.service.CreateItem(c.caller, ref, service.NewItem{Description: body.Description, Owner: body.Owner, Shape: secretvalue.Shape(body.Shape), UseOnly: body.UseOnly}, version)
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

// newVersion reads a new version. The cause of a wrong base64 would say which character of the value is wrong, so it is
// not passed on.
func newVersion(prefix string, body client.NewVersion) (v service.NewVersion, err error) {
	v = service.NewVersion{Note: body.Note, Staged: body.Staged, Merge: body.Merge, Recipe: secretvalue.Recipe(body.Generate),
		Window: lifecycle.Window{NotBefore: body.NotBefore, NotAfter: body.NotAfter}}
	if body.Value != "" || body.Encoding != "" || body.Generate == "" && len(body.Fields) == 0 && !body.Merge {
		if body.Encoding != "base64" {
			return v, &service.Error{Code: service.InvalidInput, Field: prefix + "encoding", Detail: prefix + `encoding must be "base64"`}
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
		v.Fields = append(v.Fields, service.NewField{Name: f.Name, Value: value, Recipe: secretvalue.Recipe(f.Generate), Plain: f.Plain})
	}
	return v, nil
}

func fromBase64(field, text string) (secretvalue.Value, error) {
	content, err := base64.StdEncoding.Strict().DecodeString(text)
	if err != nil {
		return secretvalue.Value{}, &service.Error{Code: service.InvalidInput, Field: field, Detail: field + " is not base64 of the standard alphabet with padding"}
	}
	return secretvalue.New(content), nil
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
	answer := client.History{Item: itemJSON(it), Versions: []client.Version{}, Aliases: []client.Alias{}}
	for _, alias := range it.Aliases {
		answer.Aliases = append(answer.Aliases, client.Alias{Reference: alias.Reference, Until: alias.Until, By: alias.By, Users: readersJSON(alias.Users)})
	}
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
	field := ""
	if c.Request().URL.RawQuery != "" { // parsing nothing costs something, too
		if err := onlyQuery(c, "field"); err != nil {
			return err
		}
		field = c.QueryParam("field")
	}
	ref, err := valueReference(c, field)
	if err != nil {
		return err
	}
	served, err := a.service.ReadValue(c.caller, ref)
	if err != nil {
		return err
	}
	defer served.Content.Wipe()
	setValidity(c, served)
	content := served.Content.Reveal()
	if strings.Contains(c.Request().Header.Get("Accept"), "application/octet-stream") {
		c.Response().Header().Set("Tansu-Version", strconv.Itoa(served.Reference.Version))
		return c.Blob(http.StatusOK, "application/octet-stream", content)
	}
	body := appendValue(make([]byte, 0, 256+base64.StdEncoding.EncodedLen(len(content))), served, content)
	defer clear(body)
	return c.Blob(http.StatusOK, "application/json", body)
}

// answers are buffers for answers with many values. They hold nothing while nobody has them.
var answers = sync.Pool{New: func() any { room := make([]byte, 0, 8<<10); return &room }}

// readValues reads several values in one call. An answer says for each what came of it.
func (a *api) readValues(c *call) error {
	body, err := readBody(c.Response(), c.Request(), listBody)
	if err != nil {
		return err
	}
	var asked struct {
		References []string `json:"references"`
	}
	var plain bool
	if asked.References, plain = plainList(body, "references"); !plain {
		if err := decodeBody(body, &asked); err != nil {
			return err
		}
	}
	refs, err := parseReferences(asked.References)
	if err != nil {
		return err
	}
	outcomes, err := a.service.ReadValues(c.caller, refs)
	if err != nil {
		return err
	}
	room := answers.Get().(*[]byte)
	answer := append((*room)[:0], `{"values":[`...)
	defer func() {
		clear(answer)
		if cap(answer) <= 64<<10 {
			*room = answer
			answers.Put(room)
		}
	}()
	for i, o := range outcomes {
		if i > 0 {
			answer = append(answer, ',')
		}
		answer = append(refs[i].Append(append(answer, `{"reference":"`...)), '"')
		if o.Err == nil {
			content := o.Served.Content.Reveal()
			// Growing would leave a copy of what is there behind.
			if need := 1024 + base64.StdEncoding.EncodedLen(len(content)) + fieldsRoom(o.Served.Fields); cap(answer)-len(answer) < need {
				larger := append(make([]byte, 0, 2*cap(answer)+need), answer...)
				clear(answer)
				answer = larger
			}
			answer = append(appendValue(append(answer, `,"value":`...), o.Served, content), '}')
			o.Served.Content.Wipe()
			continue
		}
		problem, err := json.Marshal(a.problem(c.Context, a.known(c.Context, o.Err)))
		if err != nil {
			return err
		}
		answer = append(append(append(answer, `,"problem":`...), problem...), '}')
	}
	answer = append(answer, "]}"...)
	return c.Blob(http.StatusOK, "application/json", answer)
}

// fieldsRoom is how many bytes the fields of a value take in an answer, at most.
func fieldsRoom(fields secretvalue.Fields) (room int) {
	for _, f := range fields {
		room += 128 + len(f.Name) + base64.StdEncoding.EncodedLen(len(f.Value.Reveal()))
	}
	return room
}

// valueReference reads which value is meant: an item, perhaps a version of it, perhaps one field.
func valueReference(c *call, field string) (reference.Reference, error) {
	text := c.param("drawer") + "/" + c.param("item")
	if field != "" {
		text += "#" + field
	}
	ref, err := reference.Parse(text)
	if err != nil {
		return ref, &service.Error{Code: service.InvalidInput, Field: "reference", Detail: err.Error()}
	}
	return ref, nil
}

func (a *api) compareValue(c *call) error {
	var body struct {
		Value    string `json:"value"`
		Encoding string `json:"encoding"`
		Field    string `json:"field"`
		With     string `json:"with"` // another reference, instead of a value
	}
	if err := a.decode(c, valueBody, &body); err != nil {
		return err
	}
	ref, err := valueReference(c, body.Field)
	if err != nil {
		return err
	}
	if body.With != "" {
		return a.compareTwo(c, ref, body.With, body.Value)
	}
	given, err := fromBase64("value", body.Value)
	if err != nil {
		return err
	}
	defer given.Wipe()
	equal, err := a.service.Equals(c.caller, ref, given)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]bool{"equal": equal})
}

func (a *api) compareTwo(c *call, ref reference.Reference, with, value string) error {
	other, err := reference.Parse(with)
	if err != nil || value != "" {
		return &service.Error{Code: service.InvalidInput, Field: "with", Detail: "with is the other reference, such as ticketing-prod/db-password, instead of a value"}
	}
	same, err := a.service.Same(c.caller, ref, other)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]bool{"equal": same})
}

// setValidity says how long an answer stays true. Nothing keeps it (no-store, which every answer has); but who holds the
// value itself learns when to ask again: Expires (RFC 9111, section 5.3) is when the same question may have another
// answer, and Sunset (RFC 8594) when this version ends.
func setValidity(c *call, served service.Served) {
	header := c.Response().Header()
	if !served.Changes.IsZero() {
		header["Expires"] = []string{served.Changes.UTC().Format(http.TimeFormat)}
	}
	if !served.NotAfter.IsZero() {
		header["Sunset"] = []string{served.NotAfter.UTC().Format(http.TimeFormat)}
	}
	if served.Grace {
		header["Tansu-Grace"] = []string{"true"}
	}
}

// appendValue writes a client.Value; by hand, because this is every read's answer and no string in it needs escaping.
func appendValue(b []byte, served service.Served, content []byte) []byte {
	b = append(b, `{"reference":"`...)
	b = served.Reference.Append(b)
	b = append(b, `","version":`...)
	b = strconv.AppendInt(b, int64(served.Reference.Version), 10)
	b = append(b, `,"shape":"`...)
	b = append(b, served.Shape...)
	b = append(b, '"')
	if len(served.Fields) > 0 {
		b = appendFields(b, served.Fields)
	}
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
	if !served.Changes.IsZero() {
		b = append(b, `","valid_until":"`...)
		b = served.Changes.AppendFormat(b, time.RFC3339Nano)
	}
	b = append(b, '"')
	if served.KeepFor != 0 {
		b = strconv.AppendInt(append(b, `,"keep_for":`...), int64(served.KeepFor/time.Second), 10)
	}
	if served.Grace {
		b = append(b, `,"grace":true`...)
	}
	return append(b, '}')
}

// appendFields writes the fields of a value; their names need no escaping.
func appendFields(b []byte, fields secretvalue.Fields) []byte {
	b = append(b, `,"fields":[`...)
	for i, f := range fields {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(append(append(b, `{"name":"`...), f.Name...), `","value":"`...)
		b = base64.StdEncoding.AppendEncode(b, f.Value.Reveal())
		b = append(strconv.AppendBool(append(b, `","plain":`...), f.Plain), '}')
	}
	return append(b, ']')
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
	return client.Item{Notes: it.Notes, Reference: it.Reference, Name: it.Name, Kind: it.Kind, Description: it.Description, Owner: it.Owner, Shape: string(it.Shape), Labels: it.Labels, Approval: it.Approval, EndsAt: it.Ends, Rules: rulesJSON(it.Rules), OwnRules: rulesJSON(it.OwnRules), UseOnly: it.UseOnly, Held: it.Held, Suspended: it.Suspended, RetiredAt: it.RetiredAt, State: it.State,
		Current: it.Current, Versions: it.Versions, NotAfter: it.NotAfter, ChangedAt: it.ChangedAt, ChangedBy: it.ChangedBy,
		CreatedAt: it.CreatedAt, CreatedBy: it.CreatedBy, Revision: it.Revision}
}

func versionJSON(v service.Version) client.Version {
	fields := []client.FieldInfo{}
	for _, f := range v.Fields {
		fields = append(fields, client.FieldInfo(f))
	}
	return client.Version{Fields: fields, Notes: v.Notes, Version: v.Number, State: v.State, Current: v.Current, Size: v.Size, EndsInNewline: v.EndsInNewline, Note: v.Note,
		NotBefore: v.NotBefore, NotAfter: v.NotAfter, EndsAt: v.Ends, CreatedAt: v.CreatedAt, CreatedBy: v.CreatedBy}
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
	return c.JSON(http.StatusOK, map[string]any{"readers": readersJSON(list)})
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

func (a *api) due(c *call) error {
	if err := onlyQuery(c, "hours"); err != nil {
		return err
	}
	hours := 14 * 24
	if text := c.QueryParam("hours"); text != "" {
		var err error
		if hours, err = strconv.Atoi(text); err != nil || hours < 0 || hours > 3660*24 {
			return &service.Error{Code: service.InvalidInput, Field: "hours", Detail: "hours is not a whole number from 0 to 87840"}
		}
	}
	list, err := a.service.DueItems(c.caller, time.Duration(hours)*time.Hour)
	if err != nil {
		return err
	}
	answer := []client.Due{}
	for _, d := range list {
		answer = append(answer, client.Due(d))
	}
	return c.JSON(http.StatusOK, map[string]any{"due": answer})
}

// importBody is more than the largest file takes in base64.
const importBody = importfile.MaxSize*4/3 + 1024

func (a *api) importFile(c *call) error {
	var body client.NewImport
	if err := a.decode(c, importBody, &body); err != nil {
		return err
	}
	content, err := fromBase64("content", body.Content)
	if err != nil {
		return err
	}
	defer content.Wipe()
	report, err := a.service.Import(c.caller, c.param("drawer"), service.NewImport{Format: importfile.Format(body.Format), Content: content,
		Replace: body.Replace, Each: body.Each, Preview: body.Preview, Note: body.Note, Window: lifecycle.Window{NotAfter: body.NotAfter}})
	if err != nil {
		return err
	}
	answer := client.ImportReport{Done: report.Done, Items: []client.Imported{}, Problems: []client.ImportProblem{}}
	for _, it := range report.Items {
		answer.Items = append(answer.Items, client.Imported(it))
	}
	for _, p := range report.Problem {
		answer.Problems = append(answer.Problems, client.ImportProblem(p))
	}
	return c.JSON(http.StatusOK, answer)
}

// searchPage is how many items a page of a search has.
const searchPage = 100

func (a *api) search(c *call) error {
	if err := onlyQuery(c, "q", "cursor"); err != nil {
		return err
	}
	page, err := a.service.Search(c.caller, c.QueryParam("q"), c.QueryParam("cursor"), searchPage)
	if err != nil {
		return err
	}
	answer := client.SearchPage{Items: []client.Item{}, NextCursor: page.Next}
	for _, it := range page.Items {
		answer.Items = append(answer.Items, itemJSON(it))
	}
	return c.JSON(http.StatusOK, answer)
}
