package store

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/trail"
	"tansu/internal/entryrow"
)

// Filter selects entries; empty fields select all. Since is included, Until is not.
type Filter struct {
	Subject   string
	Action    string
	Target    string // a target, or a drawer and everything in it
	Outcome   string
	Reason    string
	Grant     string
	Addr      string
	RequestID string
	Receipt   string
	Item      string    // an item's id, whatever it was called
	Since     time.Time // zero for none
	Until     time.Time // zero for none
	Receipts  bool      // only refusals that have a receipt, or stand for several that had
	Before    uint64    // only entries with a smaller Seq; 0 for the newest
}

// keys are what the index is asked for, what is said of fewest entries first, as a rule.
func (f Filter) keys() (keys []trail.Key) {
	add := func(what, value string) {
		if value != "" {
			keys = append(keys, trail.KeyOf(what, value))
		}
	}
	add(trail.ByReceipt, f.Receipt)
	add(trail.ByGrant, f.Grant)
	add(trail.ByItem, f.Item)
	if strings.Contains(f.Target, "/") {
		add(trail.ByTarget, f.Target)
	} else {
		add(trail.Under, f.Target)
	}
	add(trail.BySubject, f.Subject)
	if f.Receipts {
		add(trail.Receipted, "yes")
	}
	add(trail.ByReason, f.Reason)
	if f.Outcome != string(trail.Allowed) { // of which no list is kept, because nearly all are
		add(trail.ByOutcome, f.Outcome)
	}
	add(trail.ByAddr, f.Addr)
	add(trail.ByAction, f.Action)
	return keys
}

// Selects reports whether a filter selects an entry.
func (f Filter) Selects(e trail.Entry) bool {
	for _, equal := range [][2]string{{f.Subject, e.Subject}, {f.Action, e.Action}, {f.Outcome, string(e.Outcome)}, {f.Reason, e.Reason},
		{f.Grant, e.Grant},
		{f.Addr, e.Addr}, {f.RequestID, e.RequestID}, {f.Receipt, e.Receipt}, {f.Item, e.ItemID}} {
		if equal[0] != "" && equal[0] != equal[1] {
			return false
		}
	}
	return (f.Target == "" || f.Target == e.Target || strings.HasPrefix(e.Target, f.Target+"/")) &&
		(!f.Receipts || e.Receipt != "" || e.Count != 0) &&
		(f.Since.IsZero() || !e.At.Before(f.Since)) && (f.Until.IsZero() || e.At.Before(f.Until)) && (f.Before == 0 || e.Seq < f.Before)
}

// Entries calls visit with entries, newest first, until visit returns false or none is left. It sees all that were
// recorded when it was called.
func (s *Store) Entries(f Filter, visit func(trail.Entry) bool) error {
	if err := s.CatchUp(); err != nil {
		return err
	}
	oldest, newest, err := s.blocksOf(f)
	if err != nil {
		return err
	}
	keys := f.keys()
	rows := entryRows{store: s}
	for newest >= oldest {
		page, err := s.candidates(f, keys, oldest, newest)
		if err != nil || len(page) == 0 {
			return err
		}
		for _, block := range page {
			for _, place := range slices.Backward(block.places) {
				e, err := rows.entry(uint64(block.number)*entryrow.BlockSize + uint64(place) + 1)
				if err != nil {
					return err
				}
				if e.Action == trail.EntryLost && f.Action != e.Action {
					continue
				}
				if f.Selects(e) && !visit(e) {
					return nil
				}
			}
		}
		newest = page[len(page)-1].number - 1
	}
	return nil
}

// blocksOf is the range of blocks in which a filter can select something.
func (s *Store) blocksOf(f Filter) (oldest, newest int64, err error) {
	first, err := s.firstEntry()
	if err != nil {
		return 0, 0, err
	}
	if first > 0 {
		oldest = entryrow.BlockOf(first) // what is older is in archives
	}
	newest = math.MaxInt64
	if f.Before != 0 {
		newest = entryrow.BlockOf(f.Before)
	}
	if !f.Since.IsZero() {
		var since int64
		if err := s.read.Get(&since, "SELECT coalesce(min(number), ?) FROM blocks WHERE latest >= ?", int64(math.MaxInt64),
			f.Since.UnixMicro()); err != nil {
			return 0, 0, fmt.Errorf("read trail: %w", err)
		}
		oldest = max(oldest, since)
	}
	if !f.Until.IsZero() {
		var last int64
		if err := s.read.Get(&last, "SELECT coalesce(max(number), -1) FROM blocks WHERE earliest < ?", f.Until.UnixMicro()); err != nil {
			return 0, 0, fmt.Errorf("read trail: %w", err)
		}
		newest = min(newest, last)
	}
	return oldest, newest, nil
}

// candidate is a block with the places in it at which something selected can be.
type candidate struct {
	number int64
	places []uint16
}

// blocksAtOnce is how many blocks are looked up in one query.
const blocksAtOnce = 32

// candidates is the next page of blocks, newest first; none at the end.
func (s *Store) candidates(f Filter, keys []trail.Key, oldest, newest int64) (page []candidate, err error) {
	var rows []struct {
		Number int64  `db:"number"`
		Places []byte `db:"places"`
	}
	switch {
	case len(keys) > 0:
		err = s.read.Select(&rows, "SELECT block AS number, places FROM postings WHERE key = ? AND block BETWEEN ? AND ? ORDER BY block "+
			"DESC LIMIT ?", keys[0], oldest, newest, blocksAtOnce)
	case f.RequestID != "":
		err = s.read.Select(&rows, "SELECT number, requests AS places FROM blocks WHERE number BETWEEN ? AND ? ORDER BY number DESC LIMIT ?",
			oldest, newest, blocksAtOnce)
	default:
		err = s.read.Select(&rows, "SELECT number, zeroblob(length(requests) / 2) AS places FROM blocks WHERE number BETWEEN ? AND ? ORDER "+
			"BY number DESC LIMIT 1", oldest, newest)
	}
	if err != nil {
		return nil, fmt.Errorf("read trail: %w", err)
	}
	for _, row := range rows {
		c := candidate{number: row.Number}
		switch {
		case len(keys) > 0:
			c.places = places(row.Places)
			if c.places, err = s.intersect(c, keys[1:]); err != nil {
				return nil, err
			}
		case f.RequestID != "":
			want := requestMark(f.RequestID)
			for i := range len(row.Places) / requestMarkSize {
				if [requestMarkSize]byte(row.Places[i*requestMarkSize:]) == want {
					c.places = append(c.places, uint16(i))
				}
			}
		default:
			for i := range len(row.Places) / 2 {
				c.places = append(c.places, uint16(i))
			}
		}
		page = append(page, c)
	}
	return page, nil
}

// intersect keeps the places of a block that further keys have, too.
func (s *Store) intersect(c candidate, keys []trail.Key) ([]uint16, error) {
	left := c.places
	for _, key := range keys {
		if len(left) <= 1 { // which is sooner looked at
			break
		}
		var lists [][]byte
		if err := s.read.Select(&lists, "SELECT places FROM postings WHERE key = ? AND block = ?", key, c.number); err != nil {
			return nil, fmt.Errorf("read trail: %w", err)
		}
		if len(lists) == 0 {
			return nil, nil
		}
		var has [entryrow.BlockSize]bool
		for _, place := range places(lists[0]) {
			has[place] = true
		}
		both := left[:0:0]
		for _, place := range left {
			if has[place] {
				both = append(both, place)
			}
		}
		left = both
	}
	return left, nil
}

func places(encoded []byte) []uint16 {
	list := make([]uint16, len(encoded)/2)
	for i := range list {
		list[i] = binary.BigEndian.Uint16(encoded[2*i:]) % entryrow.BlockSize
	}
	return list
}

// entryRows reads single entries, and keeps the row of the last one, in which the next one often is.
type entryRows struct {
	store  *Store
	first  uint64
	bodies []string
}

func (r *entryRows) entry(seq uint64) (trail.Entry, error) {
	if seq < r.first || seq >= r.first+uint64(len(r.bodies)) {
		var row entryrow.Row
		if err := r.store.read.Get(&row, "SELECT first, bodies, packed FROM entries WHERE first <= ? ORDER BY first DESC LIMIT 1",
			seq); err != nil {
			return trail.Entry{}, fmt.Errorf("read entry %d of the trail: %w", seq, err)
		}
		r.first, r.bodies = row.First, row.Lines()
	}
	if seq < r.first || seq >= r.first+uint64(len(r.bodies)) {
		return trail.Entry{}, fmt.Errorf("entry %d is not in the trail any more", seq)
	}
	return trail.Decode([]byte(r.bodies[seq-r.first]))
}

// rowsAtOnce is how many rows of entries are read in one query.
const rowsAtOnce = 64

// Bodies calls visit with the number and the bytes of the entries from one on, oldest first, until it returns false or
// none is left: from archives as far as they are there, and then from the database, as they are in the files.
func (s *Store) Bodies(from uint64, visit func(seq uint64, body string) bool) error {
	from = max(from, 1)
	first, err := s.firstEntry()
	if err != nil {
		return err
	}
	if from < first {
		archives, err := s.Archives()
		if err != nil {
			return err
		}
		for _, a := range archives {
			if a.Last < from || a.First >= first {
				continue
			}
			stopped := false
			err := a.Read(s.Dir(), func(seq uint64, body string) bool {
				stopped = seq >= from && seq < first && !visit(seq, body)
				return !stopped
			})
			if err != nil || stopped {
				return err
			}
		}
	}
	return s.bodies(max(from, first), visit)
}

// bodies is Bodies with what is in the database.
func (s *Store) bodies(from uint64, visit func(seq uint64, body string) bool) error {
	next, last := max(from, 1), uint64(0)
	query := "SELECT first, bodies, packed FROM entries WHERE first >= coalesce((SELECT max(first) FROM entries WHERE first <= ?), 0) " +
		"ORDER BY first LIMIT ?"
	for {
		var rows []entryrow.Row
		if err := s.read.Select(&rows, query, next, rowsAtOnce); err != nil {
			return fmt.Errorf("read trail: %w", err)
		}
		for _, row := range rows {
			if row.First <= last { // a damaged page can lead to the same rows again, without end
				return fmt.Errorf("read trail: entry %d comes after entry %d", row.First, last)
			}
			last = row.First
			for i, body := range row.Lines() {
				seq := row.First + uint64(i)
				if seq >= from && !visit(seq, body) {
					return nil
				}
				next = seq + 1
			}
		}
		if len(rows) < rowsAtOnce {
			return nil
		}
		query = "SELECT first, bodies, packed FROM entries WHERE first >= ? ORDER BY first LIMIT ?"
	}
}
