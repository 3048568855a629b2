package httpapi

import (
	"encoding/base64"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/shelf"
	"tansu/internal/strictjson"
)

// readValue is the hot path. The item may carry a version: db-password@3. With Accept: application/octet-stream the
// answer is the bytes alone.
func (a *api) readValue(c *call) error {
	field := ""
	if c.Request().URL.RawQuery != "" { // parsing nothing costs something, too
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
	body, err := strictjson.Read(c.Response(), c.Request(), listBody)
	if err != nil {
		return err
	}
	var asked struct {
		References []string `json:"references"`
	}
	var plain bool
	if asked.References, plain = strictjson.PlainList(body, "references"); !plain {
		if err := strictjson.Decode(body, &asked); err != nil {
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
		return ref, &chest.Error{Code: chest.InvalidInput, Field: "reference", Detail: err.Error()}
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
		return &chest.Error{Code: chest.InvalidInput, Field: "with",
			Detail: "\"with\" is the other reference, such as ticketing-prod/db-password, instead of a value"}
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
func setValidity(c *call, served shelf.Served) {
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
func appendValue(b []byte, served shelf.Served, content []byte) []byte {
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
	if !served.Access.IsZero() {
		b = append(b, `","access_ends":"`...)
		b = served.Access.AppendFormat(b, time.RFC3339Nano)
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
