package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"
)

// Checkpoint is a signed statement of what the trail was.
type Checkpoint struct {
	Size uint64    `json:"size"` // how many entries it had
	At   time.Time `json:"at"`
	Root []byte    `json:"root"` // of the Merkle tree over them (RFC 9162)
	Note string    `json:"note"` // the same as a signed note
}

// Proof shows that an entry is in the trail of a checkpoint.
type Proof struct {
	Seq        uint64   `json:"seq"`
	Entry      string   `json:"entry"` // its bytes
	Checkpoint string   `json:"checkpoint"`
	Hashes     [][]byte `json:"hashes"`
}

// Extension shows that the trail of a checkpoint begins with what it was at a smaller size.
type Extension struct {
	From       uint64   `json:"from"`
	Checkpoint string   `json:"checkpoint"`
	Hashes     [][]byte `json:"hashes"`
}

// TrailKeys are what signatures of a chest are verified with. Keep them: those that are asked for later may be somebody else's.
type TrailKeys struct {
	Verifier string `json:"verifier_key"` // of checkpoints, in the form of signed notes
	Delivery string `json:"delivery_key"` // of what is passed on: an Ed25519 key in base64
}

// TrailKeys returns them.
func (c *Client) TrailKeys(ctx context.Context) (keys TrailKeys, err error) {
	return keys, c.get(ctx, "/api/trail/key", &keys)
}

// VerifierKey is what checkpoints are verified with.
func (c *Client) VerifierKey(ctx context.Context) (string, error) {
	keys, err := c.TrailKeys(ctx)
	return keys.Verifier, err
}

// Checkpoints lists those of a size or a smaller one, the newest first; 0 is all.
func (c *Client) Checkpoints(ctx context.Context, from uint64) ([]Checkpoint, error) {
	path := "/api/trail/checkpoints"
	if from != 0 {
		path += "?from=" + strconv.FormatUint(from, 10)
	}
	return listOf[Checkpoint](ctx, c, path, "checkpoints")
}

// Archive is a file with entries that are not in the database any more.
type Archive struct {
	Name  string `json:"name"`
	First uint64 `json:"first"`
	Last  uint64 `json:"last"`
}

// Archives lists them, oldest first.
func (c *Client) Archives(ctx context.Context) ([]Archive, error) {
	return listOf[Archive](ctx, c, "/api/trail/archives", "archives")
}

// Follower is a witness or an outlet, and how far it is.
type Follower struct {
	Name     string    `json:"name"`
	Position uint64    `json:"position"`           // the newest entry that it was told of
	At       time.Time `json:"at,omitzero"`        // when it last took something since the service started
	Failing  time.Time `json:"failing,omitzero"`   // since when it takes nothing
	Problem  string    `json:"problem,omitempty"`  // why
	Rejected int       `json:"rejected,omitempty"` // entries that it will never take
}

// Upkeep is how long the trail is, and who follows it.
type Upkeep struct {
	Entries   uint64     `json:"entries"`
	Witnesses []Follower `json:"witnesses"`
	Outlets   []Follower `json:"outlets"`
}

// Upkeep tells how far those are who follow the trail.
func (c *Client) Upkeep(ctx context.Context) (u Upkeep, err error) {
	return u, c.get(ctx, "/api/trail/upkeep", &u)
}

// MakeCheckpoint signs what the trail is now.
func (c *Client) MakeCheckpoint(ctx context.Context) (p Checkpoint, err error) {
	return p, c.post(ctx, "/api/trail/checkpoints", nil, &p)
}

// Prove shows that an entry is in the trail.
func (c *Client) Prove(ctx context.Context, seq uint64) (p Proof, err error) {
	return p, c.get(ctx, fmt.Sprintf("/api/trail/entries/%d/proof", seq), &p)
}

// ProveExtends shows that the trail begins with what it was at a smaller size.
func (c *Client) ProveExtends(ctx context.Context, from uint64) (e Extension, err error) {
	return e, c.get(ctx, fmt.Sprintf("/api/trail/extension?from=%d", from), &e)
}

// ExportTrail writes the bytes of all entries from a number on, one to a line, and returns the number of the last one.
func (c *Client) ExportTrail(ctx context.Context, from uint64, w io.Writer) (size uint64, err error) {
	token, err := c.bearer(ctx)
	if err != nil {
		return 0, err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("%s/api/trail/export?from=%d", c.address, from), nil)
	if err != nil {
		return 0, fmt.Errorf("make request: %w", err)
	}
	request.Header.Set("Authorization", "Bearer "+token)
	patient := *c.http
	patient.Timeout = 0 // it takes as long as it goes on
	response, err := patient.Do(request)
	if err != nil {
		return 0, &Unreachable{Address: c.address, Err: err}
	}
	defer func() { _ = response.Body.Close() }()
	if response.StatusCode != http.StatusOK {
		body, _ := io.ReadAll(io.LimitReader(response.Body, maxProblem))
		return 0, problemOf(response, body)
	}
	if _, err := io.Copy(w, response.Body); err != nil {
		return 0, fmt.Errorf("the export broke off: %w", err)
	}
	size, err = strconv.ParseUint(response.Header.Get("Tansu-Trail-Size"), 10, 62)
	return size, err
}
