package httpapi

import (
	"encoding/base64"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"tansu/internal/core/reference"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/secretvalue"
	"tansu/internal/shelf"
	"tansu/internal/strictjson"
)

// mostInPage is how many elements a page of a list has at most.
const mostInPage = 1000

// page reads which part of a list is asked for: what follows a cursor, at most so many. Without a limit it is all of it.
func page(c *call) (after string, most int, err error) {
	if text := c.QueryParam("limit"); text != "" {
		if most, err = strconv.Atoi(text); err != nil || most < 1 || most > mostInPage {
			return "", 0, chest.Invalid("limit", "limit is between 1 and %d", mostInPage)
		}
	}
	return c.QueryParam("cursor"), most, nil
}

// changes reads the body and the If-Match of a change, which must have both.
func (a *api) changes(c *call) (int64, shelf.Described, error) {
	var body client.Described
	if err := a.decode(c, smallBody, &body); err != nil {
		return 0, shelf.Described{}, err
	}
	revision, err := neededRevision(c)
	changes := shelf.Described{Description: body.Description, Owner: body.Owner, Labels: body.Labels, UseOnly: body.UseOnly,
		DecryptFrom: body.DecryptFrom, KeysOpen: body.KeysOpen}
	if body.Approval != nil {
		changes.Approval = &shelf.Approval{Items: body.Approval.Items, Of: body.Approval.Of}
	}
	return revision, changes, err
}

// neededRevision reads the revision that a change must name.
func neededRevision(c *call) (int64, error) {
	revision, err := ifMatch(c)
	if err == nil && revision == 0 {
		err = &chest.Error{Code: chest.NeedsRevision, Field: "If-Match",
			Detail: "a change needs If-Match with the ETag that was read, so that nobody's change is lost"}
	}
	return revision, err
}

func fromBase64(field, text string) (secretvalue.Value, error) {
	content, err := base64.StdEncoding.Strict().DecodeString(text)
	if err != nil {
		return secretvalue.Value{}, &chest.Error{Code: chest.InvalidInput, Field: field, Detail: field +
			" is not base64 of the standard alphabet with padding"}
	}
	return secretvalue.New(content), nil
}

// ETags (RFC 9110, section 8.8.3) are revisions: "r3".
func setETag(c *call, revision int64) {
	c.Response().Header().Set("ETag", `"r`+strconv.FormatInt(revision, 10)+`"`)
}

// ifMatch returns the revision asked for, 0 when there is none.
func ifMatch(c *call) (int64, error) {
	header := c.Request().Header.Get("If-Match")
	switch header {
	case "":
		return 0, nil
	case "*": // whatever there is (RFC 9110, section 13.1.1)
		return chest.AnyRevision, nil
	}
	text, quoted := strings.CutPrefix(header, `"r`)
	text, closed := strings.CutSuffix(text, `"`)
	revision, err := strconv.ParseInt(text, 10, 64)
	if !quoted || !closed || err != nil || revision < 1 {
		return 0, &chest.Error{Code: chest.InvalidInput, Field: "If-Match", Detail: `If-Match is not an ETag of this chest, such as "r3"`}
	}
	return revision, nil
}

// Limits of a request body. A version's value is 256 KiB, a third more in base64, and room for what is around it.
const (
	smallBody = 16 << 10
	listBody  = 64 << 10 // a hundred references: each has two or three names of up to 64 bytes
	valueBody = 400 << 10
)

// decode reads the body of a call strictly.
func (a *api) decode(c *call, limit int64, into any) error {
	body, err := strictjson.Read(c.Response(), c.Request(), limit)
	if err != nil {
		return err
	}
	return strictjson.Decode(body, into)
}

// queries are what routes take in their query; the others take nothing.
var queries = map[string]string{
	"GET /api/drawers":                             "cursor limit",
	"GET /api/drawers/:drawer":                     "retired cursor",
	"GET /api/drawers/:drawer/items/:item/readers": "since cursor limit",
	"GET /api/search":                              "q cursor",
	"GET /api/find":                                "q",
	"GET /api/due":                                 "hours cursor limit",
	"GET /api/due/access":                          "hours cursor limit",
	"GET /api/values/:drawer/:item":                "field",
	"GET /api/samples":                             "reference",
	"GET /api/identities":                          "kind cursor limit",
	"GET /api/grants":                              "subject cursor limit",
	"GET /api/ask/verdict":                         "subject action target at addr via reason",
	"GET /api/ask/holders":                         "action target cursor limit",
	"GET /api/ask/paths":                           "action target",
	"GET /api/ask/matrix":                          "drawer cursor limit",
	"GET /api/refusals":                            "since cursor limit",
	"GET /api/trail/export":                        "from",
	"GET /api/trail/extension":                     "from",
	"GET /api/ask/reach":                           "subject cursor limit",
	"GET /api/tighten":                             "since cursor limit",
	"GET /api/trail": "subject action target outcome reason grant addr request_id receipt q archive " +
		"since until cursor limit",
	"GET /api/calendars":                 "cursor limit",
	"GET /api/shredded-drawers":          "cursor limit",
	"GET /api/roles":                     "cursor limit",
	"GET /api/identities/:subject/reads": "cursor limit",
	"GET /api/drawers/:drawer/shredded":  "cursor limit",
	"GET /api/requests":                  "cursor limit",
	"GET /api/me/sessions":               "cursor limit",
	"GET /api/me/may":                    "target",
	"GET /api/trail/archives":            "cursor limit",
	"GET /api/unlock-methods":            "cursor limit",
	"GET /api/me/shares":                 "cursor limit",
	"GET /api/trail/watch":               "q after page_of",
	"GET /api/trail/unusual":             "since cursor limit",
	"GET /api/trail/activity":            "since cursor limit",
	"GET /api/trail/checkpoints":         "from cursor limit",
}

// checkQuery refuses what a route does not have in its query, or has once: what is left unread would seem to have been heeded.
func checkQuery(raw string, allowed []string) error {
	query, err := url.ParseQuery(raw)
	if err != nil {
		return &chest.Error{Code: chest.InvalidInput, Field: "query", Detail: "the query of the address is not encoded as RFC 3986 says"}
	}
	for name, values := range query {
		switch {
		case len(allowed) == 0:
			return &chest.Error{Code: chest.InvalidInput, Field: name, Detail: "this route takes no query parameters"}
		case !slices.Contains(allowed, name):
			detail := "this route has no such query parameter; it has " + strings.Join(allowed, ", ")
			if near := reference.Nearest(name, allowed); near != "" {
				detail = "this route has no such query parameter; did you mean " + near + "?"
			}
			return &chest.Error{Code: chest.InvalidInput, Field: name, Detail: detail}
		case len(values) > 1:
			return &chest.Error{Code: chest.InvalidInput, Field: name, Detail: "this query parameter is given more than once"}
		}
	}
	return nil
}
