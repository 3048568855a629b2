package client

import (
	"context"
	"time"
)

// Backup is one that was made, or was tried.
type Backup struct {
	Number  int       `json:"number"`
	AddsTo  string    `json:"adds_to,omitempty"` // the name of the one that it adds to; left out for a full one
	Name    string    `json:"name,omitempty"`
	Made    time.Time `json:"made"`
	Last    uint64    `json:"last"` // the newest entry of the trail in it
	Size    int64     `json:"size"` // bytes
	Seconds float64   `json:"seconds"`
	Problem string    `json:"problem,omitempty"` // why there is none
}

// Rehearsal is a backup that was restored to see whether that works.
type Rehearsal struct {
	Number   int       `json:"number"` // of the backup
	At       time.Time `json:"at"`
	Seconds  float64   `json:"seconds"`
	Entries  uint64    `json:"entries"` // of the trail, which verified
	Values   int       `json:"values"`  // which opened
	Lost     uint64    `json:"lost"`    // entries that came after the backup
	Problems []string  `json:"problems"`
}

// Backups is what somebody who looks after them sees, newest first. Spans are texts such as "1d".
type Backups struct {
	To         string      `json:"to"` // empty when none are made
	Every      string      `json:"every"`
	FullEvery  string      `json:"full_every"`
	Keep       int         `json:"keep"` // full ones; 0 for all
	Rehearse   string      `json:"rehearse"`
	Next       time.Time   `json:"next,omitzero"`
	Now        string      `json:"now"` // what is going on; empty for nothing
	Backups    []Backup    `json:"backups"`
	Rehearsals []Rehearsal `json:"rehearsals"`
}

// Backups shows them.
func (c *Client) Backups(ctx context.Context) (b Backups, err error) {
	return b, c.get(ctx, "/api/backups", &b)
}

// BackUp makes one now: a full one, or one that adds to the last.
func (c *Client) BackUp(ctx context.Context, full bool) (b Backup, err error) {
	return b, c.post(lengthy(ctx), "/api/backups", map[string]bool{"full": full}, &b)
}

// Rehearse restores a backup, looks at all that is in it, and removes it again; 0 is the newest one.
func (c *Client) Rehearse(ctx context.Context, number int) (r Rehearsal, err error) {
	return r, c.post(lengthy(ctx), "/api/backups/rehearse", map[string]int{"number": number}, &r)
}
