package client

import (
	"context"
	"encoding/base64"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// Status asks what anyone may know of the chest.
func (c *Client) Status(ctx context.Context) (s Status, err error) {
	return s, c.get(ctx, "/api/status", &s)
}

// Lock makes the chest forget its keys.
func (c *Client) Lock(ctx context.Context) (s Status, err error) {
	return s, c.post(ctx, "/api/lock", nil, &s)
}

// SignIn checks a person's password; device is what an earlier session gave, or empty.
func (c *Client) SignIn(ctx context.Context, person, password, device string) (s Session, err error) {
	body := map[string]string{"person": person, "password": password, "session": "token", "device": device}
	return s, c.post(ctx, "/api/sign-in", body, &s)
}

// Enrol sets a person's password with an enrolment code, and signs in.
func (c *Client) Enrol(ctx context.Context, code, password string) (s Session, err error) {
	return s, c.post(ctx, "/api/enrol", map[string]string{"code": code, "password": password, "session": "token"}, &s)
}

// ChangePassword gives the caller another password. All sessions of theirs end; the one that is returned takes the place of this one.
func (c *Client) ChangePassword(ctx context.Context, present, password string) (s Session, err error) {
	return s, c.post(ctx, "/api/me/password", map[string]string{"password": present, "new_password": password, "session": "token"}, &s)
}

// Sessions lists the caller's sessions and tokens, newest first.
func (c *Client) Sessions(ctx context.Context) ([]OwnSession, error) {
	return listOf[OwnSession](ctx, c, "/api/me/sessions", "sessions")
}

// EndSession ends one of the caller's sessions.
func (c *Client) EndSession(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/api/me/sessions/"+url.PathEscape(id), nil, nil, nil)
}

// SignOut ends the client's token.
func (c *Client) SignOut(ctx context.Context) error { return c.post(ctx, "/api/sign-out", nil, nil) }

// Me asks who the client is.
func (c *Client) Me(ctx context.Context) (m Me, err error) { return m, c.get(ctx, "/api/me", &m) }

// MayThere says what the caller may do on a drawer or an item.
func (c *Client) MayThere(ctx context.Context, target string) (there There, err error) {
	return there, c.get(ctx, "/api/me/may?target="+url.QueryEscape(target), &there)
}

// Find looks for everything that the caller may know of by words of its name or description: the twenty whose names are nearest.
func (c *Client) Find(ctx context.Context, words string) ([]Found, error) {
	return listOf[Found](ctx, c, "/api/find?q="+url.QueryEscape(words), "found")
}

// Drawers lists the drawers in which the caller may list something.
func (c *Client) Drawers(ctx context.Context) ([]Drawer, error) {
	return listOf[Drawer](ctx, c, "/api/drawers", "drawers")
}

// CreateDrawer makes an empty drawer.
func (c *Client) CreateDrawer(ctx context.Context, n NewDrawer) (d Drawer, err error) {
	return d, c.post(ctx, "/api/drawers", n, &d)
}

// Drawer describes a drawer and all items in it, without those that are retired.
func (c *Client) Drawer(ctx context.Context, name string) (d DrawerContents, err error) {
	return c.drawer(ctx, name, url.Values{})
}

// DrawerWithRetired describes a drawer and all items in it, the retired ones too.
func (c *Client) DrawerWithRetired(ctx context.Context, name string) (d DrawerContents, err error) {
	return c.drawer(ctx, name, url.Values{"retired": {"true"}})
}

// drawer asks for page after page.
func (c *Client) drawer(ctx context.Context, name string, query url.Values) (d DrawerContents, err error) {
	for {
		var page DrawerContents
		if err := c.get(ctx, "/api/drawers/"+url.PathEscape(name)+"?"+query.Encode(), &page); err != nil {
			return d, err
		}
		d.Drawer, d.Items = page.Drawer, append(d.Items, page.Items...)
		if page.NextCursor == "" {
			return d, nil
		}
		query.Set("cursor", page.NextCursor)
	}
}

// SetDrawerRules sets the rules of a drawer that still has the revision, or says what they would do.
func (c *Client) SetDrawerRules(ctx context.Context, name string, revision int64, n NewRules) (r RulesReport, err error) {
	return r, c.do(ctx, http.MethodPut, "/api/drawers/"+url.PathEscape(name)+"/rules", n, &r, IfMatch(revision))
}

// SetItemRules sets what an item that still has the revision demands beyond its drawer's rules; they have no From and no Preview.
func (c *Client) SetItemRules(ctx context.Context, drawer, item string, revision int64, n NewRules) (it Item, err error) {
	return it, c.do(ctx, http.MethodPut, itemPath(drawer, item)+"/rules", n, &it, IfMatch(revision))
}

// Move renames an item, or moves it to another drawer.
func (c *Client) Move(ctx context.Context, drawer, item string, to NewPlace) (m Moved, err error) {
	return m, c.post(ctx, itemPath(drawer, item)+"/move", to, &m)
}

// EndAlias makes an old name of an item stop working.
func (c *Client) EndAlias(ctx context.Context, drawer, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/drawers/"+url.PathEscape(drawer)+"/aliases/"+url.PathEscape(name), nil, nil, nil)
}

// RotateKey gives a drawer another key, for a few seconds; until it is done, ask again to go on. The new key is under the master key that
// has a name, with "" under none, and with nil as the one before.
func (c *Client) RotateKey(ctx context.Context, drawer string, under *string) (r Rotation, err error) {
	var in any
	if under != nil {
		in = map[string]string{"master_key": *under}
	}
	return r, c.post(lengthy(ctx), "/api/drawers/"+url.PathEscape(drawer)+"/key", in, &r)
}

// ShredDrawer destroys a drawer's key; typed is its exact name.
func (c *Client) ShredDrawer(ctx context.Context, name, typed string) (r ShreddedDrawer, err error) {
	return r, c.post(lengthy(ctx), "/api/drawers/"+url.PathEscape(name)+"/shred", map[string]string{"name": typed}, &r)
}

// ShreddedDrawers lists what is left of drawers.
func (c *Client) ShreddedDrawers(ctx context.Context) ([]ShreddedDrawer, error) {
	return listOf[ShreddedDrawer](ctx, c, "/api/shredded-drawers", "drawers")
}

// Export writes the current values of a drawer into one file.
func (c *Client) Export(ctx context.Context, drawer string, n NewExport) (e Export, err error) {
	return e, c.post(lengthy(ctx), "/api/drawers/"+url.PathEscape(drawer)+"/export", n, &e)
}

// Calendars lists the caller's calendar addresses, without their private parts.
func (c *Client) Calendars(ctx context.Context) ([]Calendar, error) {
	return listOf[Calendar](ctx, c, "/api/calendars", "calendars")
}

// NewCalendar makes a private address of a calendar of what is due.
func (c *Client) NewCalendar(ctx context.Context, note string) (made Calendar, err error) {
	return made, c.post(ctx, "/api/calendars", map[string]string{"note": note}, &made)
}

// EndCalendar makes a calendar address stop working.
func (c *Client) EndCalendar(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/api/calendars/"+url.PathEscape(id), nil, nil, nil)
}

// Limits asks for the bounds of what is put in.
func (c *Client) Limits(ctx context.Context) (l Limits, err error) {
	return l, c.get(ctx, "/api/limits", &l)
}

// Search finds items by a query: words, and terms such as owner:person:ticketing-lead or -state:usable. The cursor is the
// NextCursor of the page before, or empty.
func (c *Client) Search(ctx context.Context, query, cursor string) (p SearchPage, err error) {
	return p, c.get(ctx, "/api/search?"+queryOf(map[string]string{"q": query, "cursor": cursor}, nil).Encode(), &p)
}

// Due lists the items of which nothing is served, or the served version ends within a number of hours.
func (c *Client) Due(ctx context.Context, within time.Duration) ([]Due, error) {
	return listOf[Due](ctx, c, "/api/due?hours="+strconv.Itoa(int(within/time.Hour)), "due")
}

// AccessEnds lists what of access ends within a span, and what has ended a moment ago: your own, and what you could renew.
func (c *Client) AccessEnds(ctx context.Context, within time.Duration) ([]AccessEnd, error) {
	return listOf[AccessEnd](ctx, c, "/api/due/access?hours="+strconv.Itoa(int(within/time.Hour)), "ends")
}

// Shredded lists what was shredded in a drawer.
func (c *Client) Shredded(ctx context.Context, drawer string) ([]Shredded, error) {
	return listOf[Shredded](ctx, c, "/api/drawers/"+url.PathEscape(drawer)+"/shredded", "shredded")
}

// Act does something with an item or one of its versions.
func (c *Client) Act(ctx context.Context, drawer, item string, act Act) (h History, err error) {
	return h, c.post(ctx, itemPath(drawer, item)+"/acts", act, &h)
}

// SetWindow changes when a version begins and ends to be served; its value stays as it is.
func (c *Client) SetWindow(ctx context.Context, drawer, item string, w NewWindow) (h History, err error) {
	return h, c.do(ctx, http.MethodPut, itemPath(drawer, item)+"/window", w, &h, nil)
}

// Readers lists who read an item's value since a moment; a zero time means 90 days.
func (c *Client) Readers(ctx context.Context, drawer, item string, since time.Time) ([]Reader, error) {
	return listOf[Reader](ctx, c, itemPath(drawer, item)+"/readers?"+queryOf(nil, map[string]time.Time{"since": since}).Encode(), "readers")
}

// ChangeDrawer changes the description, owner, labels or approval of a drawer that still has the revision.
func (c *Client) ChangeDrawer(ctx context.Context, name string, revision int64, changes Described) (d Drawer, err error) {
	return d, c.do(ctx, http.MethodPatch, "/api/drawers/"+url.PathEscape(name), changes, &d, IfMatch(revision))
}

// Content makes the part of a new version that holds its bytes.
func Content(content []byte) NewVersion {
	return NewVersion{Value: base64.StdEncoding.EncodeToString(content), Encoding: "base64"}
}

// CreateItem adds an item with its first version.
func (c *Client) CreateItem(ctx context.Context, drawer string, n NewItem) (s Stored, err error) {
	return s, c.post(ctx, "/api/drawers/"+url.PathEscape(drawer)+"/items", n, &s)
}

func itemPath(drawer, item string) string {
	return "/api/drawers/" + url.PathEscape(drawer) + "/items/" + url.PathEscape(item)
}

// AddVersion adds a version; with a revision other than 0 the item must still have it.
func (c *Client) AddVersion(ctx context.Context, drawer, item string, revision int64, v NewVersion) (s Stored, err error) {
	var header http.Header
	if revision != 0 {
		header = IfMatch(revision)
	}
	return s, c.do(ctx, http.MethodPost, itemPath(drawer, item)+"/versions", v, &s, header)
}

// History describes an item and its versions, newest first.
func (c *Client) History(ctx context.Context, drawer, item string) (h History, err error) {
	return h, c.get(ctx, itemPath(drawer, item), &h)
}

// ChangeItem changes the description, owner or labels of an item that still has the revision.
func (c *Client) ChangeItem(ctx context.Context, drawer, item string, revision int64, changes Described) (it Item, err error) {
	return it, c.do(ctx, http.MethodPatch, itemPath(drawer, item), changes, &it, IfMatch(revision))
}

// Identities lists persons and apps.
func (c *Client) Identities(ctx context.Context) ([]Identity, error) {
	return listOf[Identity](ctx, c, "/api/identities", "identities")
}

// Identity describes a person or an app.
func (c *Client) Identity(ctx context.Context, subject string) (i Identity, err error) {
	return i, c.get(ctx, "/api/identities/"+url.PathEscape(subject), &i)
}

// Register adds a person or an app.
func (c *Client) Register(ctx context.Context, n NewIdentity) (r Registered, err error) {
	return r, c.post(ctx, "/api/identities", n, &r)
}

// SetState makes an identity "active" or "suspended".
func (c *Client) SetState(ctx context.Context, subject, state string) (i Identity, err error) {
	return i, c.do(ctx, http.MethodPatch, "/api/identities/"+url.PathEscape(subject), map[string]string{"state": state}, &i, nil)
}

// Confirm says that a person is who they are said to be, and that nobody enrolled in their name.
func (c *Client) Confirm(ctx context.Context, subject string) (i Identity, err error) {
	return i, c.do(ctx, http.MethodPatch, "/api/identities/"+url.PathEscape(subject), map[string]bool{"confirmed": true}, &i, nil)
}

// Join puts a person or an app into a team.
func (c *Client) Join(ctx context.Context, team, member string) (i Identity, err error) {
	return i, c.do(ctx, http.MethodPut, memberPath(team, member), nil, &i, nil)
}

// Leave takes a member out of a team.
func (c *Client) Leave(ctx context.Context, team, member string) (i Identity, err error) {
	return i, c.do(ctx, http.MethodDelete, memberPath(team, member), nil, &i, nil)
}

func memberPath(team, member string) string {
	return "/api/identities/" + url.PathEscape(team) + "/members/" + url.PathEscape(member)
}

// IssueCredential gives an identity one more credential.
func (c *Client) IssueCredential(ctx context.Context, subject string, n NewCredential) (i Issued, err error) {
	return i, c.post(ctx, "/api/identities/"+url.PathEscape(subject)+"/credentials", n, &i)
}

// ReportReads tells the chest of the caller's own reads that an agent served. They are in the trail when it returns.
func (c *Client) ReportReads(ctx context.Context, k KeptReads) error {
	return c.post(ctx, "/api/reads", k, nil)
}

// HostKey returns the key under which an agent may keep values of the app that it signs in as on its host's disk. It is the same
// each time for one credential; a chest that gives it no more says so by a [*Problem].
func (c *Client) HostKey(ctx context.Context) ([]byte, error) {
	var answer HostKey
	err := c.post(ctx, "/api/host-key", struct{}{}, &answer)
	return answer.Key, err
}

// Readings lists what somebody has read, the newest first.
func (c *Client) Readings(ctx context.Context, subject string) ([]Reading, error) {
	return listOf[Reading](ctx, c, "/api/identities/"+url.PathEscape(subject)+"/reads", "reads")
}

// RevokeCredential ends a credential and the tokens given for it.
func (c *Client) RevokeCredential(ctx context.Context, subject, id string) error {
	return c.do(ctx, http.MethodDelete, "/api/identities/"+url.PathEscape(subject)+"/credentials/"+url.PathEscape(id), nil, nil, nil)
}

// Roles lists the roles.
func (c *Client) Roles(ctx context.Context) ([]Role, error) {
	return listOf[Role](ctx, c, "/api/roles", "roles")
}

// Grants lists the grants that the caller may see, of one subject if it is not empty.
func (c *Client) Grants(ctx context.Context, subject string) ([]Grant, error) {
	path := "/api/grants"
	if subject != "" {
		path += "?subject=" + url.QueryEscape(subject)
	}
	return listOf[Grant](ctx, c, path, "grants")
}

// Give adds a grant, in force from the moment it returns.
func (c *Client) Give(ctx context.Context, n NewGrant) (g Given, err error) {
	return g, c.post(ctx, "/api/grants", n, &g)
}

// RenewGrant puts the same grant with another end in the place of one.
func (c *Client) RenewGrant(ctx context.Context, id string, r Renewal) (g Given, err error) {
	return g, c.post(ctx, "/api/grants/"+url.PathEscape(id)+"/renewal", r, &g)
}

// EndGrant ends a grant at once.
func (c *Client) EndGrant(ctx context.Context, id string) (g Grant, err error) {
	return g, c.do(ctx, http.MethodDelete, "/api/grants/"+url.PathEscape(id), nil, &g, nil)
}

// Question is a question about access.
type Question struct {
	Subject, Action, Target string
	At                      time.Time // zero for now
	Addr, Via, Reason       string    // the circumstances; empty for none
}

// Ask answers whether a subject may do an action on a target, and why.
func (c *Client) Ask(ctx context.Context, q Question) (v Verdict, err error) {
	query := queryOf(map[string]string{"subject": q.Subject, "action": q.Action, "target": q.Target, "addr": q.Addr, "via": q.Via,
		"reason": q.Reason},
		map[string]time.Time{"at": q.At})
	return v, c.get(ctx, "/api/ask/verdict?"+query.Encode(), &v)
}

// Holders lists who has an action on a target.
func (c *Client) Holders(ctx context.Context, action, target string) ([]Holder, error) {
	return listOf[Holder](ctx, c, "/api/ask/holders?"+queryOf(map[string]string{"action": action, "target": target}, nil).Encode(), "holders")
}

// Paths says who could gain an action on a target, in how many steps, and with whose help.
func (c *Client) Paths(ctx context.Context, action, target string) (p Paths, err error) {
	return p, c.get(ctx, "/api/ask/paths?"+queryOf(map[string]string{"action": action, "target": target}, nil).Encode(), &p)
}

// Reach lists everything that exists and that a subject may do something with.
func (c *Client) Reach(ctx context.Context, subject string) ([]Reach, error) {
	return listOf[Reach](ctx, c, "/api/ask/reach?"+url.Values{"subject": {subject}}.Encode(), "reach")
}

// Refusals lists what was refused since a moment and would be refused now, newest first; a zero time means seven days.
func (c *Client) Refusals(ctx context.Context, since time.Time) ([]RefusalGroup, error) {
	return listOf[RefusalGroup](ctx, c, "/api/refusals?"+queryOf(nil, map[string]time.Time{"since": since}).Encode(), "refusals")
}

// queryOf leaves out what is empty.
func queryOf(texts map[string]string, times map[string]time.Time) url.Values {
	query := url.Values{}
	for name, value := range texts {
		if value != "" {
			query.Set(name, value)
		}
	}
	for name, t := range times {
		if !t.IsZero() {
			query.Set(name, t.UTC().Format(time.RFC3339))
		}
	}
	return query
}

// TrailFilter selects entries; empty fields select all.
type TrailFilter struct {
	Query                                                                     string // in the grammar of searches
	Archive                                                                   string // the name of one; empty for the database
	Subject, Action, Target, Outcome, Reason, Grant, Addr, RequestID, Receipt string

	Since, Until time.Time // Since is included, Until is not
	Cursor       string
	Limit        int // 0 for the chest's own
}

// Trail reads a page of the trail, newest first.
func (c *Client) Trail(ctx context.Context, f TrailFilter) (p TrailPage, err error) {
	query := queryOf(map[string]string{"q": f.Query, "archive": f.Archive, "subject": f.Subject, "action": f.Action, "target": f.Target,
		"outcome": f.Outcome,
		"reason":  f.Reason, "grant": f.Grant, "addr": f.Addr, "request_id": f.RequestID, "receipt": f.Receipt, "cursor": f.Cursor},
		map[string]time.Time{"since": f.Since, "until": f.Until})
	if f.Limit != 0 {
		query.Set("limit", strconv.Itoa(f.Limit))
	}
	return p, c.get(ctx, "/api/trail?"+query.Encode(), &p)
}

// Receipt explains a refusal.
func (c *Client) Receipt(ctx context.Context, id string) (r Receipt, err error) {
	return r, c.get(ctx, "/api/receipts/"+url.PathEscape(id), &r)
}
