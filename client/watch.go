package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// silence is how long a chest that is still there says nothing while it is watched.
const silence = 45 * time.Second

// Watch calls visit with entries as they are recorded and match a query, until the context ends or visit returns an error,
// which it returns.
func (c *Client) Watch(ctx context.Context, query string, visit func(Entry) error) error {
	return follow(ctx, c, http.MethodGet, "/api/trail/watch?"+url.Values{"q": {query}}.Encode(), nil, visit)
}

// Watching is what somebody wants to be told of.
type Watching struct {
	References []string `json:"references"` // up to 100
}

// WatchValues tells of what would come of reading some values: of all of them at first, and then of each whose answer is another
// one. No value is opened for it. It returns when the context ends, with what tell returned, and with [*Unreachable] when the
// chest is not there any more; after that, or when the token has ended, it is called again.
func (c *Client) WatchValues(ctx context.Context, references []string, tell func(Check) error) error {
	return follow(ctx, c, http.MethodPost, "/api/watch", Watching{references}, tell)
}

// follow reads events for as long as they go on.
func follow[T any](ctx context.Context, c *Client, method, path string, in any, visit func(T) error) error {
	token, err := c.bearer(ctx)
	if err != nil {
		return err
	}
	var body io.Reader
	if in != nil {
		encoded, err := json.Marshal(in)
		if err != nil {
			return fmt.Errorf("encode request: %w", err)
		}
		body = bytes.NewReader(encoded)
	}
	listening, quit := context.WithCancel(ctx)
	defer quit()
	request, err := http.NewRequestWithContext(listening, method, c.address+path, body)
	if err != nil {
		return fmt.Errorf("make request: %w", err)
	}
	if in != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	request.Header.Set("Authorization", "Bearer "+token)
	if c.options.Reason != "" {
		request.Header.Set("Tansu-Reason", c.options.Reason)
	}
	quiet := time.AfterFunc(silence, quit)
	defer quiet.Stop()
	patient := *c.http
	patient.Timeout = 0 // it takes as long as it goes on
	response, err := patient.Do(request)
	if err != nil {
		return &Unreachable{Address: c.address, Err: err}
	}
	defer func() { _ = response.Body.Close() }()
	if response.StatusCode != http.StatusOK {
		content, _ := io.ReadAll(io.LimitReader(response.Body, maxProblem))
		if c.options.App != "" && response.StatusCode == http.StatusUnauthorized {
			c.drop(token)
		}
		return problemOf(response, content)
	}
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 8<<20)
	for lines.Scan() {
		quiet.Reset(silence)
		data, found := strings.CutPrefix(lines.Text(), "data: ")
		if !found {
			continue
		}
		var one T
		if err := json.Unmarshal([]byte(data), &one); err != nil {
			return fmt.Errorf("%q sent something that is not the API's", c.address)
		}
		if err := visit(one); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	return &Unreachable{Address: c.address, Err: io.ErrUnexpectedEOF}
}
