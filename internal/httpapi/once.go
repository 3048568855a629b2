package httpapi

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/replies"
	"tansu/internal/store"
)

// creating are the routes by which something is made that would be made twice if the same were asked for again. They take the header
// Idempotency-Key (draft-ietf-httpapi-idempotency-key-header): who has not heard what came of it asks again under the same key, and
// gets the answer that was given.
var creating = []string{
	"POST /api/drawers", "POST /api/drawers/:drawer/items", "POST /api/drawers/:drawer/items/:item/versions",
	"POST /api/identities", "POST /api/identities/:subject/credentials", "POST /api/roles", "POST /api/grants",
	"POST /api/grants/:grant/renewal", "POST /api/requests", "POST /api/requests/:request/answer", "POST /api/calendars",
}

const (
	onceHeader     = "Idempotency-Key"
	answeredBefore = "Tansu-Answered-Before" // in an answer that was given before
)

// onceKey reads the header: a string as a structured field has it (RFC 9651, section 3.3.3), or the same without quotes.
func onceKey(header http.Header) (key string, err error) {
	values := header[onceHeader] // its canonical form: Values would look for that at each request
	if len(values) == 0 {
		return "", nil
	}
	key = values[0]
	if quoted, is := strings.CutPrefix(key, `"`); is {
		if key, is = strings.CutSuffix(quoted, `"`); !is {
			key = ""
		}
	}
	plain := func(r rune) bool { return r > ' ' && r <= '~' && r != '"' && r != '\\' }
	if len(values) > 1 || len(key) < 8 || len(key) > 128 || strings.ContainsFunc(key, func(r rune) bool { return !plain(r) }) {
		return "", &chest.Error{Code: chest.InvalidInput, Field: onceHeader,
			Detail: onceHeader + " is one key of 8 to 128 printable characters without spaces, such as a UUID"}
	}
	return key, nil
}

// keptHeaders are those of an answer that are kept with it; the request's id is for the entry of an answer that is given again.
var keptHeaders = []string{"Content-Type", "Etag", requestIDHeader}

// once lets a request be answered once: again, it gets the same answer, and nothing is done. The answer is kept in memory for a while, as
// long as what the caller may do stays as it is, and that it was done in the file, for longer.
func (a *api) once(c *call, key string, next func() error) error {
	body, err := io.ReadAll(io.LimitReader(c.Request().Body, valueBody+1)) // what is longer is refused by whoever decodes it
	if err != nil {
		return &chest.Error{Code: chest.InvalidInput, Detail: "the body did not arrive whole"}
	}
	c.Request().Body = io.NopCloser(bytes.NewReader(body))
	id := replies.Of(c.caller.ID, key)
	given, err := a.replies.Begin(id, key, c.Request().Method, c.Request().URL.RequestURI(), string(body))
	switch {
	case errors.Is(err, replies.ErrOther):
		return &chest.Error{Code: keyReused, Field: onceHeader, Detail: err.Error()}
	case errors.Is(err, replies.ErrInProgress):
		return &chest.Error{Code: inProgress, Field: onceHeader, Detail: err.Error(), RetryAfter: time.Second}
	case err != nil:
		return err
	case given != nil:
		defer clear(given)
		return a.replay(c, given)
	}
	kept := false
	defer func() {
		if !kept {
			a.replies.Drop(id)
		}
	}()
	done, err := a.service.Done(id[:])
	if err != nil {
		return err
	}
	if done != nil {
		return errDone("at "+chest.FromMicros(done.At).Format(time.RFC3339), done.Request)
	}
	c.caller.Once = &store.Once{ID: id[:], Request: c.origin.RequestID, At: chest.Micros(a.service.Heart.Now())}
	r := &recorder{ResponseWriter: c.Response()}
	c.SetResponse(r)
	defer c.SetResponse(r.ResponseWriter)
	if err := next(); err != nil || r.status >= http.StatusMultipleChoices {
		return err
	}
	plain := binary.BigEndian.AppendUint64([]byte{byte(r.status - http.StatusOK)}, a.service.Heart.Position())
	plain = append(plain, r.kept.Bytes()...)
	defer clear(plain)
	defer clear(r.kept.Bytes())
	a.replies.Put(id, key, plain)
	kept = true
	return nil
}

// errDone says that something was done, and that the answer is not given again.
func errDone(at, request string) error {
	return &chest.Error{Code: doneBefore, Field: onceHeader, Detail: fmt.Sprintf("it was done before under this key, %s, by request %s, "+
		"whose answer is not kept any more: look at what is there", at, request)}
}

// replay gives an answer again, which may have a secret in it: the trail has that first, and what the caller may do is what it was.
func (a *api) replay(c *call, given []byte) error {
	const head = 1 + 8 // the status, and the position of the chest
	parts := bytes.SplitN(given[head:], []byte("\n"), len(keptHeaders)+1)
	first := string(parts[slices.Index(keptHeaders, requestIDHeader)])
	again := a.service.Heart.Attempt(c.caller, "answer_again", "")
	again.Entry.Detail = "the answer to request " + first
	again.Since(binary.BigEndian.Uint64(given[1:head]))
	if err := again.Done(); errors.Is(err, store.ErrMoved) {
		return errDone("a moment ago", first)
	} else if err != nil {
		return err
	}
	header := c.Response().Header()
	for i, name := range keptHeaders {
		if name != requestIDHeader && len(parts[i]) > 0 {
			header.Set(name, string(parts[i]))
		}
	}
	header.Set(answeredBefore, "true")
	c.Response().WriteHeader(http.StatusOK + int(given[0]))
	_, err := c.Response().Write(parts[len(keptHeaders)])
	return err
}

// recorder passes an answer on, and keeps its headers, a line each, and its body.
type recorder struct {
	http.ResponseWriter
	status int
	kept   bytes.Buffer
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	for _, name := range keptHeaders {
		r.kept.WriteString(r.Header().Get(name) + "\n")
	}
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(b []byte) (int, error) {
	if r.status == 0 {
		r.WriteHeader(http.StatusOK)
	}
	r.kept.Write(b)
	return r.ResponseWriter.Write(b)
}

// Unwrap is for http.ResponseController, and for Echo.
func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }
