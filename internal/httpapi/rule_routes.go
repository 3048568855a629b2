package httpapi

import (
	"encoding/base64"
	"net/http"
	"time"

	"tansu/client"
	"tansu/internal/core/credential"
	"tansu/internal/core/importfile"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/service"
)

// rulesOf reads rules as the API has them.
func rulesOf(body client.Rules) (r lifecycle.Rules, err error) {
	r = lifecycle.Rules{NeedsEnd: body.NeedsEnd, Keep: body.Keep, Owner: body.Owner, Recipe: body.Recipe, TwoToShred: body.TwoToShred}
	for _, span := range []struct {
		field, text string
		to          *lifecycle.Span
	}{{"max_age", body.MaxAge, &r.MaxAge}, {"warn", body.Warn, &r.Warn}, {"grace", body.Grace, &r.Grace}, {"idle", body.Idle, &r.Idle}, {"retire_for", body.RetireFor, &r.RetireFor}, {"host_keeps", body.HostKeeps, &r.HostKeeps}} {
		if span.text == "" {
			continue
		}
		if *span.to, err = lifecycle.ParseSpan(span.text); err != nil {
			return r, &service.Error{Code: service.InvalidInput, Field: "rules." + span.field, Detail: err.Error()}
		}
	}
	return r, nil
}

func rulesJSON(r lifecycle.Rules) client.Rules {
	text := func(s lifecycle.Span) string {
		if s == 0 {
			return ""
		}
		return s.String()
	}
	return client.Rules{MaxAge: text(r.MaxAge), NeedsEnd: r.NeedsEnd, Warn: text(r.Warn), Grace: text(r.Grace), Idle: text(r.Idle), Keep: r.Keep,
		Owner: r.Owner, Recipe: r.Recipe, RetireFor: text(r.RetireFor), HostKeeps: text(r.HostKeeps), TwoToShred: r.TwoToShred}
}

func (a *api) setDrawerRules(c *call) error {
	var body client.NewRules
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	revision, err := neededRevision(c)
	if err != nil {
		return err
	}
	rules, err := rulesOf(body.Rules)
	if err != nil {
		return err
	}
	r, err := a.service.SetDrawerRules(c.caller, c.param("drawer"), revision, service.NewRules{Rules: rules, From: body.From, AllowRefusals: body.AllowRefusals, Preview: body.Preview})
	if err != nil {
		return err
	}
	answer := client.RulesReport{Done: r.Done, Drawer: drawerJSON(r.Drawer), Items: []client.RuledItem{}, More: r.More, Stops: r.Stops}
	for _, it := range r.Items {
		answer.Items = append(answer.Items, client.RuledItem{Reference: it.Reference, Stops: it.Stops, Because: string(it.Because), Due: it.Due, Surplus: it.Surplus, NoEnd: it.NoEnd, Ownerless: it.Ownerless})
	}
	setETag(c, r.Revision)
	return c.JSON(http.StatusOK, answer)
}

func (a *api) setItemRules(c *call) error {
	var body struct {
		Rules client.Rules `json:"rules"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	revision, err := neededRevision(c)
	if err != nil {
		return err
	}
	rules, err := rulesOf(body.Rules)
	if err != nil {
		return err
	}
	it, err := a.service.SetItemRules(c.caller, ref, revision, rules)
	if err != nil {
		return err
	}
	setETag(c, it.Revision)
	return c.JSON(http.StatusOK, itemJSON(it))
}

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
	place := service.NewPlace{To: to}
	if body.Alias != "" {
		span, err := lifecycle.ParseSpan(body.Alias)
		if err != nil {
			return &service.Error{Code: service.InvalidInput, Field: "alias", Detail: err.Error()}
		}
		place.Alias = time.Duration(span)
	}
	m, err := a.service.Move(c.caller, ref, place)
	if err != nil {
		return err
	}
	setETag(c, m.Revision)
	return c.JSON(http.StatusOK, client.Moved{Item: itemJSON(m.Item), Old: m.Old, Until: m.Until, Readers: readersJSON(m.Readers)})
}

func readersJSON(list []service.Reader) []client.Reader {
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

// rotationTime is how long one request wraps keys anew; whoever asked asks again until it is done.
const rotationTime = 3 * time.Second

func (a *api) rotateKey(c *call) error {
	r, err := a.service.RotateKey(c.caller, c.param("drawer"), rotationTime)
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
	return c.JSON(http.StatusOK, shreddedDrawerJSON(r))
}

func shreddedDrawerJSON(r service.ShreddedDrawer) client.ShreddedDrawer {
	answer := client.ShreddedDrawer{Name: r.Name, At: r.At, By: r.By, Items: r.Items, Grants: append([]string{}, r.Grants...)}
	for _, old := range r.OldNames {
		answer.OldNames = append(answer.OldNames, client.OldName(old))
	}
	return answer
}

func (a *api) shreddedDrawers(c *call) error {
	list, err := a.service.ShreddedDrawers(c.caller)
	if err != nil {
		return err
	}
	answer := []client.ShreddedDrawer{}
	for _, r := range list {
		answer = append(answer, shreddedDrawerJSON(r))
	}
	return c.JSON(http.StatusOK, map[string]any{"drawers": answer})
}

func (a *api) exportDrawer(c *call) error {
	var body client.NewExport
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	e, err := a.service.ExportDrawer(c.caller, c.param("drawer"), service.NewExport{Format: importfile.Format(body.Format), Recipient: body.Recipient, Clear: body.Clear})
	if err != nil {
		return err
	}
	defer e.Content.Wipe()
	answer := client.Export{Content: base64.StdEncoding.EncodeToString(e.Content.Reveal()), Encoding: "base64", Items: []client.Exported{}}
	for _, it := range e.Items {
		answer.Items = append(answer.Items, client.Exported(it))
	}
	return c.JSON(http.StatusOK, answer)
}

// calendarPath is where calendars are; the private part of an address follows it.
const calendarPath = "/api/calendar/"

func calendarJSON(f service.Calendar) client.Calendar {
	answer := client.Calendar{ID: f.ID, Note: f.Note, NotAfter: f.NotAfter, CreatedAt: f.CreatedAt}
	if f.Address.Len() > 0 {
		answer.Path = calendarPath + string(f.Address.Reveal())
	}
	return answer
}

func (a *api) listCalendars(c *call) error {
	list, err := a.service.Calendars(c.caller)
	if err != nil {
		return err
	}
	answer := []client.Calendar{}
	for _, f := range list {
		answer = append(answer, calendarJSON(f))
	}
	return c.JSON(http.StatusOK, map[string]any{"calendars": answer})
}

func (a *api) newCalendar(c *call) error {
	var body struct {
		Note string `json:"note"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return err
	}
	f, err := a.service.NewCalendar(c.caller, body.Note)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, calendarJSON(f))
}

func (a *api) endCalendar(c *call) error {
	if err := a.service.EndCalendar(c.caller, c.param("calendar")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// calendar gives what is due as iCalendar to who has the private address, which stands in for a sign-in: programs that
// show calendars have no other.
func (a *api) calendar(c *call) error {
	content, err := a.service.Calendar(c.origin, c.param("address"))
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, "text/calendar; charset=utf-8", content)
}

func (a *api) limits(c *call) error {
	return c.JSON(http.StatusOK, client.Limits{Name: reference.MaxName, NamePattern: reference.NamePattern, NameForm: reference.NameForm, Labels: reference.MaxLabels,
		Description: service.MaxDescription, Note: service.MaxNote, Value: secretvalue.MaxSize, Fields: secretvalue.MaxFields, ImportFile: importfile.MaxSize,
		Formats: formatNames(), Password: credential.MinPassword})
}

func formatNames() (names []string) {
	for _, f := range importfile.Formats {
		names = append(names, string(f))
	}
	return names
}
