package store

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"maps"
	"math/bits"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
	"golang.org/x/mod/sumdb/tlog"

	"tansu/internal/core/trail"
	"tansu/internal/entryrow"
)

// Use is how often and when something was used: the newest of some entries, and the oldest.
type Use struct {
	Kind    string `db:"kind"`  // what is counted
	Key     string `db:"key"`   // of what
	Other   string `db:"other"` // and by whom or on what; may be empty
	Seq     uint64 `db:"seq"`   // of the newest entry that says so
	At      int64  `db:"at"`    // its time, in microseconds since 1970
	Detail  string `db:"detail"`
	Count   int64  `db:"count"`
	First   uint64 `db:"first_seq"` // of the oldest entry
	FirstAt int64  `db:"first_at"`
}

// index is what is worked out from the entries, in turns: what lets them be found, what is counted, and the hashes of
// the Merkle tree. It follows the trail a little behind, and is brought up to date before it is asked.
type index struct {
	turn sync.Mutex // held while it is brought up to date
	seq  uint64     // the last entry in it; guarded by turn
	goal uint64     // the last entry of the part that is being entered, or was when a crash came; guarded by turn
	tree treeHashes // guarded by turn
	room room       // guarded by turn
	uses func(trail.Entry) []Use

	mu      sync.Mutex
	pending []recorded // rows that the writer has committed and that are not in the index, oldest first
	waiting int        // entries in them
	last    uint64     // the last entry that is committed

	wake  chan struct{} // says that much is waiting
	quit  chan struct{}
	ended chan struct{}
}

// room is memory that each turn uses anew.
type room struct {
	entries []*trail.Entry
	leaves  []trail.Hash
	fresh   []trail.Hash
	encoded []byte
}

// recorded is one row of entries as it was committed, with its lines also when it is packed in the file. The entries are those of the
// works, which nobody changes any more.
type recorded struct {
	entryrow.Row
	entries []*trail.Entry
}

// mostWaiting bounds what is kept in memory for the index. What is beyond it is read from the file.
const mostWaiting = 16 * entryrow.BlockSize

// note takes rows that are committed; it is called by the writer.
func (x *index) note(rows []recorded) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, row := range rows {
		x.last = row.First + uint64(len(row.entries)) - 1
		x.waiting += len(row.entries)
	}
	if x.pending = append(x.pending, rows...); x.waiting > mostWaiting {
		x.pending, x.waiting = nil, 0
	}
	if x.waiting >= entryrow.BlockSize {
		select {
		case x.wake <- struct{}{}:
		default:
		}
	}
}

// forget drops pending rows up to an entry.
func (x *index) forget(seq uint64) {
	x.mu.Lock()
	defer x.mu.Unlock()
	done := 0
	for done < len(x.pending) && x.pending[done].First <= seq {
		x.waiting -= len(x.pending[done].entries)
		done++
	}
	x.pending = slices.Clone(x.pending[done:])
}

// CountUses says what an entry tells about uses. It is set once, before anything is recorded or asked.
func (s *Store) CountUses(uses func(trail.Entry) []Use) { s.index.uses = uses }

func (s *Store) startIndex() error {
	x := &s.index
	x.wake, x.quit, x.ended = make(chan struct{}, 1), make(chan struct{}), make(chan struct{})
	if err := s.read.QueryRow("SELECT seq, goal FROM indexed").Scan(&x.seq, &x.goal); err != nil {
		return fmt.Errorf("read the index of the trail: %w", err)
	}
	x.last, x.tree.store = s.seq, s
	go func() {
		defer close(x.ended)
		for {
			select {
			case <-x.wake:
				_ = s.CatchUp() // who asks next meets the same problem, and is told
			case <-x.quit:
				return
			}
		}
	}()
	return nil
}

func (s *Store) stopIndex() {
	select {
	case <-s.index.quit:
	default:
		close(s.index.quit)
	}
	<-s.index.ended
}

// CatchUp brings the index up to all entries that are recorded when it is called.
func (s *Store) CatchUp() error {
	x := &s.index
	x.turn.Lock()
	defer x.turn.Unlock()
	x.mu.Lock()
	last := x.last // read in the turn: another one may have gone further meanwhile
	x.mu.Unlock()
	if x.seq > last {
		return fmt.Errorf("the trail ends at entry %d, but %d were recorded: its end was cut off", last, x.seq)
	}
	for x.seq < last {
		part, err := s.part(x.seq + 1)
		if err != nil {
			return fmt.Errorf("bring the index of the trail up to date: %w", err)
		}
		if err := s.enter(part); err != nil {
			return fmt.Errorf("bring the index of the trail up to date: %w", err)
		}
		x.seq += uint64(len(part.entries))
		x.forget(x.seq)
	}
	return nil
}

// Reindex forgets the index, so that it is worked out again from the entries that are there.
func (s *Store) Reindex() error {
	x := &s.index
	x.turn.Lock()
	defer x.turn.Unlock()
	var all []statement
	for _, text := range []string{"DELETE FROM postings", "DELETE FROM blocks", "DELETE FROM uses", "DELETE FROM hashes",
		"UPDATE indexed SET seq = 0, goal = 0"} {
		all = append(all, statement{text: text})
	}
	err := s.Submit(&Work{derived: all})
	if err == nil {
		x.seq, x.goal, x.tree.edge = 0, 0, trail.Edge{}
	}
	return err
}

// part is entries that follow each other in one block.
type part struct {
	first   uint64
	entries []*trail.Entry
	leaves  []trail.Hash
}

func (p *part) last() uint64 { return p.first + uint64(len(p.entries)) - 1 }

// endsAt reports whether a part ends here: where a block does, or where it did before a crash.
func (p *part) endsAt(goal uint64) bool {
	return len(p.entries) > 0 && (p.last()%entryrow.BlockSize == 0 || p.last() == goal)
}

// part takes what follows in the trail, at most to the end of a block: from memory, or else from the file.
func (s *Store) part(from uint64) (p part, err error) {
	p.first = from
	x := &s.index
	x.mu.Lock()
	pending := slices.Clone(x.pending)
	x.mu.Unlock()
	if len(pending) > 0 && pending[0].First == from {
		p.entries, p.leaves = x.room.entries[:0], x.room.leaves[:0]
		for _, row := range pending {
			for i, body := range entryrow.Split(row.Bodies) {
				p.leaves, p.entries = append(p.leaves, trail.LeafHash(body)), append(p.entries, row.entries[i])
			}
			if p.endsAt(x.goal) {
				break
			}
		}
		x.room.entries, x.room.leaves = p.entries, p.leaves
		return p, nil
	}
	var bad error
	err = s.Bodies(from, func(seq uint64, body string) bool {
		if len(pending) > 0 && seq == pending[0].First {
			return false
		}
		e, err := trail.Decode([]byte(body))
		switch {
		case err != nil:
			bad = fmt.Errorf("entry %d: %w", seq, err)
		case seq != from+uint64(len(p.entries)) || e.Seq != seq:
			bad = fmt.Errorf("entry %d stands where entry %d should be", e.Seq, from+uint64(len(p.entries)))
		}
		if bad != nil {
			return false
		}
		p.leaves, p.entries = append(p.leaves, trail.LeafHash(body)), append(p.entries, &e)
		return !p.endsAt(x.goal)
	})
	if err == nil && bad == nil && len(p.entries) == 0 {
		bad = fmt.Errorf("entry %d is not there", from)
	}
	if bad != nil {
		err = bad
	}
	return p, err
}

// stepsAtOnce is how many statements, of some rows of the index each, are in one transaction, so that nobody waits for all of them.
const stepsAtOnce = 16

// enter writes what a part of the trail says into the index. Each step may be done twice without harm for the same part,
// because a crash may come between them; the first one says which part it is, and the last one that all is done.
func (s *Store) enter(p part) error {
	groups := p.groups()
	steps, err := s.postingsOf(p, groups)
	if err != nil {
		return err
	}
	steps = append(steps, s.usesOf(groups)...)
	hashes, next, err := s.index.tree.grow(p, &s.index.room)
	if err != nil {
		return err
	}
	last := append(hashes, s.blockOf(p), statement{text: "UPDATE indexed SET seq = ?", arguments: []any{p.last()}})
	if len(steps) > stepsAtOnce {
		s.index.goal = p.last()
		steps = slices.Insert(steps, 0, statement{text: "UPDATE indexed SET goal = ?", arguments: []any{p.last()}})
	}
	for len(steps) > stepsAtOnce {
		if err := s.Submit(&Work{derived: steps[:stepsAtOnce]}); err != nil {
			return err
		}
		steps = steps[stepsAtOnce:]
	}
	if err := s.Submit(&Work{derived: append(steps, last...)}); err != nil {
		return err
	}
	s.index.tree = next
	clear(s.index.room.entries) // the room keeps no entry
	return nil
}

// group is the entries of a part that say the same, in the same hour, but for their number, time and request: what a busy
// app does is most of a part, and is worked out once.
type group struct {
	places []uint16
	oldest *trail.Entry
	newest *trail.Entry
}

// groups sorts the entries of a part into groups, in the order of their oldest ones.
func (p *part) groups() (list []*group) {
	type sameness struct {
		of   trail.Entry
		hour int64
	}
	found := map[sameness]*group{}
	var last sameness // of the entry before
	var g *group
	for i, e := range p.entries {
		same := sameness{of: *e, hour: e.At.Unix() / 3600}
		same.of.Seq, same.of.At, same.of.RequestID = 0, time.Time{}, ""
		if g == nil || same != last { // looking at one entry is much cheaper than looking for one
			if g = found[same]; g == nil {
				g = &group{oldest: e}
				found[same] = g
				list = append(list, g)
			}
			last = same
		}
		g.newest, g.places = e, append(g.places, uint16((p.first-1+uint64(i))%entryrow.BlockSize))
	}
	return list
}

// postingsOf are the lists of a block with the places of a part. Only one part is worked on at a time, so that what is read here is
// what is there when it is written.
func (s *Store) postingsOf(p part, groups []*group) (steps []statement, err error) {
	block, said := entryrow.BlockOf(p.first), map[trail.Key][]uint16{}
	for _, g := range groups {
		for _, key := range g.newest.Keys() {
			said[key] = append(said[key], g.places...)
		}
	}
	keys, rows := slices.Sorted(maps.Keys(said)), [][]any(nil)
	lists := map[trail.Key][]byte{}
	if !entryrow.Begins(p.first) {
		if lists, err = s.postings(keys, block); err != nil {
			return nil, err
		}
	}
	for _, key := range keys {
		slices.Sort(said[key])
		list := lists[key]
		for len(list) >= 2 && binary.BigEndian.Uint16(list[len(list)-2:]) >= said[key][0] {
			list = list[:len(list)-2] // it was written before a crash
		}
		for _, place := range said[key] {
			list = binary.BigEndian.AppendUint16(list, place)
		}
		rows = append(rows, []any{key, block, list})
	}
	return s.writer.derived.setPosting.of(rows), nil
}

// postings reads lists of a block.
func (s *Store) postings(keys []trail.Key, block int64) (lists map[trail.Key][]byte, err error) {
	lists = map[trail.Key][]byte{}
	for part := range slices.Chunk(keys, pageSize) {
		query, arguments, err := sqlx.In("SELECT key, places FROM postings WHERE block = ? AND key IN (?)", block, part)
		if err != nil {
			return nil, err
		}
		var found []struct {
			Key    trail.Key `db:"key"`
			Places []byte    `db:"places"`
		}
		if err := s.read.Select(&found, query, arguments...); err != nil {
			return nil, fmt.Errorf("read postings: %w", err)
		}
		for _, f := range found {
			lists[f.Key] = f.Places
		}
	}
	return lists, nil
}

func (s *Store) usesOf(groups []*group) []statement {
	if s.index.uses == nil {
		return nil
	}
	type id struct{ kind, key, other string }
	uses := map[id]*Use{}
	for _, g := range groups {
		for _, use := range s.index.uses(*g.newest) {
			id := id{use.Kind, use.Key, use.Other}
			all := uses[id]
			if all == nil {
				all = &Use{Kind: use.Kind, Key: use.Key, Other: use.Other, First: g.oldest.Seq, FirstAt: g.oldest.At.UnixMicro()}
				uses[id] = all
			}
			all.Count += int64(len(g.places))
			if g.newest.Seq > all.Seq {
				all.Seq, all.At, all.Detail = g.newest.Seq, g.newest.At.UnixMicro(), use.Detail
			}
		}
	}
	list := slices.SortedFunc(maps.Values(uses), func(x, y *Use) int { // what is side by side in the file is written one after the other
		return cmp.Or(strings.Compare(x.Kind, y.Kind), strings.Compare(x.Key, y.Key), strings.Compare(x.Other, y.Other))
	})
	rows := make([][]any, len(list))
	for i, u := range list {
		rows[i] = []any{u.Kind, u.Key, u.Other, u.Seq, u.At, u.Detail, u.Count, u.First, u.FirstAt}
	}
	return s.writer.derived.use.of(rows)
}

const requestMarkSize = 4

// requestMark is by which a request is looked for; others may have the same.
func requestMark(id string) (mark [requestMarkSize]byte) {
	var small [64]byte
	binary.BigEndian.PutUint32(mark[:], crc32.ChecksumIEEE(append(small[:0], id...)))
	return mark
}

func (s *Store) blockOf(p part) statement {
	earliest, latest := p.entries[0].At.UnixMicro(), p.entries[0].At.UnixMicro()
	marks := make([]byte, 0, requestMarkSize*len(p.entries))
	request, mark := "", requestMark("")
	for _, e := range p.entries {
		earliest, latest = min(earliest, e.At.UnixMicro()), max(latest, e.At.UnixMicro())
		if e.RequestID != request { // entries of one call follow each other
			request, mark = e.RequestID, requestMark(e.RequestID)
		}
		marks = append(marks, mark[:]...)
	}
	return statement{prepared: s.writer.derived.setBlock, arguments: []any{entryrow.BlockOf(p.first), earliest, latest, marks}}
}

// UseFilter selects uses of one kind.
type UseFilter struct {
	Kind  string
	Keys  []string // nil for all
	By    []string // only with one of these as Other; nil for all, and then there may be no Keys
	Since int64    // only those of which the newest is not before; microseconds since 1970
	Began int64    // only those of which the oldest is not before
	Most  int      // 0 for no limit
}

const useColumns = "kind, key, other, seq, at, detail, count, first_seq, first_at"

// Uses lists what is counted, as far as entries are in the index: [Store.CatchUp] comes before it.
func (s *Store) Uses(f UseFilter) (list []Use, err error) {
	query, arguments := "SELECT "+useColumns+" FROM uses WHERE kind = ? AND at >= ? AND first_at >= ?", []any{f.Kind, f.Since, f.Began}
	most := ""
	if f.Most != 0 {
		most = fmt.Sprintf(" LIMIT %d", f.Most)
	}
	if f.By != nil {
		for _, other := range f.By {
			if err == nil {
				err = s.read.Select(&list, query+" AND other = ?"+most, append(slices.Clip(arguments), other)...)
			}
		}
	} else if f.Keys == nil {
		err = s.read.Select(&list, query+most, arguments...)
	}
	for keys := range slices.Chunk(f.Keys, pageSize) {
		in, all, problem := sqlx.In(query+" AND key IN (?)"+most, append(slices.Clip(arguments), keys)...)
		if problem != nil {
			return nil, problem
		}
		if err == nil {
			err = s.read.Select(&list, in, all...)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("read uses: %w", err)
	}
	return list, nil
}

// UseRead and UseReadItem are the kinds of uses that items are completed with: an item by the name it was read by, and by its id, each
// with its reader. Entries from before ids were recorded say the name alone. The other kinds are for the rooms to name.
const (
	UseRead     = "read"
	UseReadItem = "read_item"
)

// addReadAt completes items of a drawer with when they were last read; without its name it does nothing.
func (s *Store) addReadAt(drawer string, list []Shelved) error {
	if drawer == "" || len(list) == 0 {
		return nil
	}
	at := make(map[string]int, 2*len(list))
	names, ids := make([]string, len(list)), make([]string, len(list))
	for i, it := range list {
		names[i], ids[i] = drawer+"/"+it.Item.Name, it.Item.ID
		at[names[i]], at[ids[i]] = i, i
	}
	query, arguments, err := sqlx.In("SELECT key, max(at) AS at FROM uses WHERE kind = ? AND key IN (?) OR kind = ? AND key IN (?) GROUP "+
		"BY kind, key", UseRead, names, UseReadItem, ids)
	if err != nil {
		return err
	}
	var uses []Use
	if err := s.read.Select(&uses, query, arguments...); err != nil {
		return fmt.Errorf("read uses: %w", err)
	}
	for _, use := range uses {
		list[at[use.Key]].ReadAt = max(list[at[use.Key]].ReadAt, use.At)
	}
	return nil
}

// treeHashes is the Merkle tree as far as it is in the index.
type treeHashes struct {
	store *Store
	edge  trail.Edge // the empty one until it is needed
}

// hashesAtOnce is how many hashes are in one row.
const hashesAtOnce = 512

// grow adds the leaves of a part, and returns the steps that write it and the tree as it is then.
func (t treeHashes) grow(p part, r *room) (steps []statement, next treeHashes, err error) {
	size := int64(p.first - 1)
	next = treeHashes{store: t.store, edge: t.edge.Clone()}
	if next.edge.Size != p.first-1 {
		var roots []trail.Hash
		for _, index := range edgeOf(size) {
			root, err := t.store.hash(index)
			if err != nil {
				return nil, next, err
			}
			roots = append(roots, root)
		}
		next.edge = trail.EdgeOf(p.first-1, roots)
	}
	r.fresh, r.encoded = r.fresh[:0], r.encoded[:0]
	for _, leaf := range p.leaves {
		r.fresh = next.edge.Grow(r.fresh, leaf)
	}
	for _, h := range r.fresh {
		r.encoded = append(r.encoded, h[:]...)
	}
	at := tlog.StoredHashIndex(0, size)
	for encoded := range slices.Chunk(r.encoded, hashesAtOnce*tlog.HashSize) {
		first := at
		at += int64(len(encoded) / tlog.HashSize)
		steps = append(steps, statement{prepared: t.store.writer.derived.setHashes, arguments: []any{first, encoded}})
	}
	return steps, next, nil
}

// edgeOf lists where the roots of the whole trees are that make up a tree of some size, the largest first.
func edgeOf(size int64) (indexes []int64) {
	for level := bits.Len64(uint64(size)) - 1; level >= 0; level-- {
		if n := size >> level; n&1 == 1 {
			indexes = append(indexes, tlog.StoredHashIndex(level, n-1))
		}
	}
	return indexes
}

// hash reads one hash of the tree.
func (s *Store) hash(index int64) (h trail.Hash, err error) {
	row, err := s.hashRow(index)
	if err == nil && !row.has(index) {
		err = fmt.Errorf("hash %d of the trail is not there", index)
	}
	if err != nil {
		return h, err
	}
	return row.at(index), nil
}

// hashRow is a row of hashes: the place of the first one, and all of them.
type hashRow struct {
	First  int64  `db:"first"`
	Hashes []byte `db:"hashes"`
}

func (r hashRow) has(index int64) bool {
	return index >= r.First && index < r.First+int64(len(r.Hashes)/tlog.HashSize)
}

func (r hashRow) at(index int64) trail.Hash {
	return trail.Hash(r.Hashes[(index-r.First)*tlog.HashSize:])
}

// hashRow reads the row that a hash of the tree should be in.
func (s *Store) hashRow(index int64) (row hashRow, err error) {
	if err := s.read.Get(&row, "SELECT first, hashes FROM hashes WHERE first <= ? ORDER BY first DESC LIMIT 1", index); err != nil {
		return row, fmt.Errorf("read hash %d of the trail: %w", index, err)
	}
	return row, nil
}
