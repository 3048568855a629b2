package client

import (
	"context"
	"net/url"
	"strings"
	"time"
)

// NewExposure asks what follows when a version got to where it should not be.
type NewExposure struct {
	Since  time.Time `json:"since,omitzero"` // zero for since it was put in
	Reason string    `json:"reason,omitempty"`
	Mark   bool      `json:"mark,omitempty"` // whether the trail says from now on that it is exposed
}

// Exposure is the answer.
type Exposure struct {
	Reference string    `json:"reference"`
	Since     time.Time `json:"since"`
	Reason    string    `json:"reason"`
	Marked    bool      `json:"marked"`
	CreatedAt time.Time `json:"created_at"`
	CreatedBy string    `json:"created_by"`
	Current   bool      `json:"current"`
	Serves    bool      `json:"serves"`
	Partly    bool      `json:"partly"` // there were more reads than were looked at
	Used      bool      `json:"used"`   // of a key that stays in the chest: readers are those who used it
	// Uncompared says what could not be compared with the version, because a drawer is closed; empty for nothing.
	Uncompared string          `json:"uncompared,omitempty"`
	Readers    []ExposedReader `json:"readers"` // those after it was exposed first
	Holders    []ExposedHolder `json:"holders"` // who could have, at some time since
	Replace    []Replacement   `json:"replace"` // in this order
}

// ExposedReader is somebody who read the version.
type ExposedReader struct {
	Subject string    `json:"subject"`
	Count   int       `json:"count"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
	After   int       `json:"after"` // of them, since it was exposed
	Addrs   []string  `json:"addrs"`
}

// ExposedHolder is somebody who could have read the version since it was exposed.
type ExposedHolder struct {
	Subject string   `json:"subject"`
	State   string   `json:"state"`
	Still   bool     `json:"still"` // can now
	Did     bool     `json:"did"`   // did, since then
	Grants  []string `json:"grants"`
}

// Replacement is something to replace.
type Replacement struct {
	Reference string `json:"reference"`
	Why       string `json:"why"`
	Command   string `json:"command"`
}

// Exposure asks who could read a version since it was exposed, who did, and what to replace.
func (c *Client) Exposure(ctx context.Context, reference string, n NewExposure) (x Exposure, err error) {
	drawer, item, _ := strings.Cut(reference, "/")
	return x, c.post(ctx, "/api/drawers/"+url.PathEscape(drawer)+"/items/"+url.PathEscape(item)+"/exposure", n, &x)
}

// Unusual is something that is done for the first time, or far more often than before.
type Unusual struct {
	Kind    string    `json:"kind"` // "first_read", "new_network", "new_hour", "burst", "ending", "gone", "guessing", "clock" or "proof"
	Subject string    `json:"subject"`
	Target  string    `json:"target"`
	At      time.Time `json:"at"`
	Seq     uint64    `json:"seq,omitempty"` // of the entry
	Detail  string    `json:"detail"`
}

// Unusual lists what was unusual since a moment; zero is the last seven days.
func (c *Client) Unusual(ctx context.Context, since time.Time) ([]Unusual, error) {
	return listOf[Unusual](ctx, c, "/api/trail/unusual?"+queryOf(nil, map[string]time.Time{"since": since}).Encode(), "unusual")
}

// Activity is how often somebody read a drawer in an hour.
type Activity struct {
	Hour    time.Time `json:"hour"`
	Drawer  string    `json:"drawer"`
	Subject string    `json:"subject"`
	Count   int64     `json:"count"`
}

// Activity lists reads by hour since a moment; zero is the last seven days.
func (c *Client) Activity(ctx context.Context, since time.Time) ([]Activity, error) {
	return listOf[Activity](ctx, c, "/api/trail/activity?"+queryOf(nil, map[string]time.Time{"since": since}).Encode(), "activity")
}
