package outlet

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"tansu/internal/addressed"
	"tansu/internal/core/trail"
)

// web posts entries as a batch of CloudEvents (version 1.0, JSON format), with a signature over the method, the address, the
// type and the digest of the body (RFC 9421 with Ed25519, RFC 9530).
type web struct {
	address string
	origin  string
	sign    Sign
	to      *addressed.Address
}

// newWeb sends to an address.
func newWeb(named *url.URL, origin string, sign Sign) (*web, error) {
	to, err := addressed.To(named, 20*time.Second)
	if err != nil {
		return nil, err
	}
	return &web{address: to.URL.String(), origin: origin, sign: sign, to: to}, nil
}

// event is a CloudEvent.
type event struct {
	Version     string          `json:"specversion"`
	ID          string          `json:"id"` // the entry's number: the receiver drops what it has
	Source      string          `json:"source"`
	Type        string          `json:"type"`
	Time        string          `json:"time"`
	ContentType string          `json:"datacontenttype"`
	Data        json.RawMessage `json:"data"`
}

func (w *web) send(ctx context.Context, entries []Entry) error {
	var events []event
	var never *rejected // what cannot be told of; the others are
	for _, e := range entries {
		decoded, err := trail.Decode([]byte(e.Body))
		if err != nil {
			never = never.and(e, err)
			continue
		}
		events = append(events, event{"1.0", strconv.FormatUint(e.Seq, 10), w.origin, "tansu.trail.entry.v1", trail.FormatTime(decoded.At),
			"application/json", json.RawMessage(e.Body)})
	}
	if len(events) > 0 {
		if err := w.post(ctx, events); err != nil {
			return err
		}
	}
	if never != nil {
		return never
	}
	return nil
}

func (w *web) post(ctx context.Context, events []event) error {
	var encoded bytes.Buffer
	encoder := json.NewEncoder(&encoded)
	encoder.SetEscapeHTML(false) // the data stays byte for byte what was recorded, and hashes as its leaf does (RFC 9162, section 2.1.1)
	if err := encoder.Encode(events); err != nil {
		return &rejected{err: err}
	}
	body := bytes.TrimRight(encoded.Bytes(), "\n")
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, w.address, bytes.NewReader(body))
	if err != nil {
		return &rejected{err: err}
	}
	request.Header.Set("Content-Type", "application/cloudevents-batch+json")
	if err := w.signed(request, body); err != nil {
		return err
	}
	response, err := w.to.Do(request)
	if err != nil {
		return err
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(response.Body, 1<<16))
	_ = response.Body.Close()
	switch code := response.StatusCode; {
	case code < 300:
		return nil
	case code >= 400 && code < 500 && code != http.StatusRequestTimeout && code != http.StatusTooManyRequests &&
		code != http.StatusUnauthorized && code != http.StatusForbidden:
		return &rejected{err: fmt.Errorf("it answered %s", response.Status)}
	default:
		return fmt.Errorf("it answered %s", response.Status)
	}
}

// signed adds the signature (RFC 9421, section 2.5).
func (w *web) signed(request *http.Request, body []byte) error {
	digest := sha256.Sum256(body)
	request.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(digest[:])+":")
	created := time.Now().Unix()
	base := func(keyID string) (parameters, text string) {
		parameters = fmt.Sprintf(`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid="%s";alg="ed25519"`, created, keyID)
		return parameters, fmt.Sprintf("\"@method\": POST\n\"@target-uri\": %s\n\"content-type\": %s\n\"content-digest\": "+
			"%s\n\"@signature-params\": %s",
			request.URL, request.Header.Get("Content-Type"), request.Header.Get("Content-Digest"), parameters)
	}
	_, keyID, err := w.sign(nil)
	if err != nil {
		return err
	}
	parameters, text := base(keyID)
	signature, _, err := w.sign([]byte(text))
	if err != nil {
		return err
	}
	request.Header.Set("Signature-Input", "tansu="+parameters)
	request.Header.Set("Signature", "tansu=:"+base64.StdEncoding.EncodeToString(signature)+":")
	return nil
}

func (w *web) close() { w.to.CloseIdle() }
