package httpapi

import (
	"encoding/base64"
	"slices"
	"strconv"
	"strings"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/secretvalue"
	"tansu/internal/shelf"
)

// mostInPage is how many elements a page of a list has at most.
const mostInPage = 1000

// page reads which part of a list is asked for: what follows a cursor, at most so many. Without a limit it is all of it.
func page(c *call, others ...string) (after string, most int, err error) {
	if err := onlyQuery(c, append(others, "cursor", "limit")...); err != nil {
		return "", 0, err
	}
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
	changes := shelf.Described{Description: body.Description, Owner: body.Owner, Labels: body.Labels, UseOnly: body.UseOnly}
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
	if header == "" {
		return 0, nil
	}
	text, quoted := strings.CutPrefix(header, `"r`)
	text, closed := strings.CutSuffix(text, `"`)
	revision, err := strconv.ParseInt(text, 10, 64)
	if !quoted || !closed || err != nil || revision < 1 {
		return 0, &chest.Error{Code: chest.InvalidInput, Field: "If-Match", Detail: `If-Match is not an ETag of this chest, such as "r3"`}
	}
	return revision, nil
}

// decode is the strict decoder for a call.
func (a *api) decode(c *call, limit int64, into any) error {
	return decode(c.Response(), c.Request(), limit, into)
}

// onlyQuery refuses query parameters that a route does not have.
func onlyQuery(c *call, allowed ...string) error {
	for name := range c.QueryParams() {
		if !slices.Contains(allowed, name) {
			return &chest.Error{Code: chest.InvalidInput, Field: name, Detail: "this route has no such query parameter"}
		}
	}
	return nil
}
