package store

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/subtle"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"math/bits"
	"reflect"
	"strings"
	"sync"
	"tansu/internal/entity"

	"github.com/jmoiron/sqlx"
)

// sum is a multiset hash of rows: the sum of their shares, as numbers of 256 bits, modulo 2^256. Shares are under a key, so that nobody
// without it finds rows that add up to what is missing; and because they are added, a row that is there twice does not cancel itself
// out, as it does in an exclusive or (D. Clarke et al., "Incremental Multiset Hash Functions", ASIACRYPT 2003, MSet-Add-Hash).
type sum [32]byte

func (s *sum) add(share [32]byte) { s.combine(share, bits.Add64) }
func (s *sum) sub(share [32]byte) { s.combine(share, bits.Sub64) }

func (s *sum) combine(share [32]byte, one func(x, y, carry uint64) (result, carryOut uint64)) {
	carry := uint64(0)
	for at := 24; at >= 0; at -= 8 {
		var word uint64
		word, carry = one(binary.BigEndian.Uint64(s[at:]), binary.BigEndian.Uint64(share[at:]), carry)
		binary.BigEndian.PutUint64(s[at:], word)
	}
}

// tally is the sum of all rows that decide access and are in memory, and of the buckets in which items and versions are summed. It
// changes when any row is changed, added, removed or put back.
type tally struct {
	sum      sum
	revision int64
}

// form is which rows a tally is of. 1: all of them, by exclusive or; 2: those in memory, and buckets; 3: unlock methods, too.
const form = 3

// content is what the tally's own MAC covers.
func (t *tally) content(form int) []byte {
	return fmt.Appendf(nil, "tally %d\x00%d\x00%x", form, t.revision, t.sum)
}

// firstForm is a tally as it was: the exclusive or of the shares of all rows, items and versions among them.
type firstForm struct {
	sum      [32]byte
	revision int64
}

func (t *firstForm) toggle(share [32]byte) { subtle.XORBytes(t.sum[:], t.sum[:], share[:]) }

func (t *firstForm) content() []byte { return fmt.Appendf(nil, "tally\x00%d\x00%x", t.revision, t.sum) }

// bucket is the sum of the items, and their versions, whose ids begin alike.
type bucket struct {
	ID       string `db:"id"`
	Sum      []byte `db:"sum"`
	Revision int64  `db:"revision"`
	MAC      []byte `db:"mac"`
}

func (b bucket) content() []byte {
	return fmt.Appendf(nil, "buckets\x00%s\x00%d\x00%x", b.ID, b.Revision, b.Sum)
}

// bucketOf is the bucket of a row: that of an item, or of a version's item; empty for rows that are in memory. Ids are random, so that
// three of their characters make 32 768 buckets of about the same size: few enough that unlocking reads all their sums in a moment,
// and many enough that a reader who is the first to use one of a million items waits for thirty rows, and not for a thousand.
func bucketOf(row entity.Row) string {
	switch row := row.(type) {
	case entity.Item:
		return bucketOfID(row.ID)
	case entity.Version:
		return bucketOfID(row.Item)
	}
	return ""
}

func bucketOfID(item string) string { return item[:min(len(item), len("it_")+3)] }

// buckets are those of an unlocked chest.
type buckets struct {
	mu      sync.Mutex
	all     map[string]bucket // as committed
	checked map[string]error  // what came of looking at all of one; nil for as it was stored
}

func (b *buckets) reset(all map[string]bucket) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all, b.checked = all, map[string]error{}
}

func (b *buckets) get(id string) bucket {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.all[id]
}

func (b *buckets) copied() map[string]bucket {
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(b.all)
}

// put takes in what was committed.
func (b *buckets) put(fresh map[string]bucket) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for id, one := range fresh {
		b.all[id] = one
	}
}

// inBucket checks that a bucket is as it was stored, the first time that something in it is used. What is wrong is a [*TamperedError].
func (s *Store) inBucket(id string) error {
	s.buckets.mu.Lock()
	err, known := s.buckets.checked[id]
	s.buckets.mu.Unlock()
	if known {
		return err
	}
	bound := s.bound.Load()
	if bound == nil {
		return ErrNotBound
	}
	for {
		err = s.checkBucket(*bound, id)
		now := s.bound.Load()
		if now == nil {
			return ErrNotBound
		}
		if *now == *bound {
			break
		}
		bound = now // the root key was rotated meanwhile
	}
	var tampered *TamperedError
	if err == nil || errors.As(err, &tampered) {
		s.buckets.mu.Lock()
		s.buckets.checked[id] = err
		s.buckets.mu.Unlock()
	}
	return err
}

// checkBucket reads all rows of a bucket at one moment, and compares them with its sum of that moment, which must be no older than the
// one that was committed last when looking began.
func (s *Store) checkBucket(sealer Sealer, id string) error {
	before := s.buckets.get(id)
	tx, err := s.read.Beginx()
	if err != nil {
		return fmt.Errorf("read rows: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	var stored bucket
	if err := tx.Get(&stored, "SELECT id, sum, revision, mac FROM buckets WHERE id = ?", id); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("read the sum of rows: %w", err)
	}
	most, err := mostRows(tx)
	if err != nil {
		return err
	}
	var items []entity.Item
	var versions []entity.Version
	end := id + "\x7f" // no id has a byte that comes after it
	if err := tx.Select(&items, "SELECT "+itemColumns+" FROM items WHERE id >= ? AND id < ? LIMIT ?", id, end, most); err != nil {
		return fmt.Errorf("read items: %w", err)
	}
	if err := tx.Select(&versions, "SELECT "+versionColumns+" FROM versions WHERE item >= ? AND item < ? LIMIT ?", id, end, most); err != nil {
		return fmt.Errorf("read versions: %w", err)
	}
	l := loader{sealer: sealer, touched: &TamperedError{}, sums: map[string]*sum{}}
	for _, row := range items {
		if bucketOf(row) == id {
			l.check(row)
		}
	}
	for _, row := range versions {
		if bucketOf(row) == id {
			l.check(row)
		}
	}
	if !l.sumOf(id).is(stored, sealer) || stored.Revision < before.Revision {
		l.touched.Tally = true
	}
	if l.touched.Tally || len(l.touched.Rows) > 0 {
		return l.touched
	}
	return nil
}

// is reports whether a sum is that of a bucket as it was stored; one without rows may have none stored.
func (s *sum) is(stored bucket, sealer Sealer) bool {
	if stored.Revision == 0 {
		return *s == sum{}
	}
	mac := sealer.RowMAC(stored.content())
	return bytes.Equal(s[:], stored.Sum) && hmac.Equal(mac[:], stored.MAC)
}

// CheckBuckets looks at all buckets that nobody has looked at yet, one after the other, until it is told to stop. It calls found with
// each that is not as it was stored, and returns how many it looked at.
// It calls rest between them.
func (s *Store) CheckBuckets(ctx context.Context, rest func(), found func(error)) (looked int) {
	s.buckets.mu.Lock()
	var ids []string
	for id := range s.buckets.all {
		if _, known := s.buckets.checked[id]; !known {
			ids = append(ids, id)
		}
	}
	s.buckets.mu.Unlock()
	for _, id := range ids {
		if err := s.inBucket(id); errors.Is(err, ErrNotBound) || ctx.Err() != nil {
			return looked
		} else if err != nil {
			found(err)
		}
		looked++
		rest()
	}
	return looked
}

// count takes in what a change does: to rows that are in memory, and by bucket to others.
func (w *writer) count(shares map[string]*sum) {
	for id, share := range shares {
		if id == "" {
			w.tally.sum.add(*share)
			continue
		}
		one, known := w.fresh[id]
		if !known {
			one = w.buckets.get(id)
			one.ID = id
		}
		total := sum{}
		copy(total[:], one.Sum)
		total.add(*share)
		one.Sum = total[:]
		w.fresh[id] = one
	}
}

// writeTally writes the sums that a batch has changed, and the tally over all.
func (w *writer) writeTally(tx *sqlx.Tx) error {
	for id, one := range w.fresh {
		if before := w.buckets.get(id); before.Revision != 0 {
			w.tally.sum.sub(w.sealer.RowTally(before.content()))
		}
		one.Revision++
		mac := w.sealer.RowMAC(one.content())
		one.MAC = mac[:]
		w.tally.sum.add(w.sealer.RowTally(one.content()))
		if _, err := tx.Stmtx(w.setBucket).Exec(one.ID, one.Sum, one.Revision, one.MAC); err != nil {
			return err
		}
		w.fresh[id] = one
	}
	return w.storeTally(tx)
}

func (w *writer) storeTally(tx sqlx.Execer) error {
	w.tally.revision++
	mac := w.sealer.RowMAC(w.tally.content(form))
	_, err := tx.Exec("UPDATE chest SET tally = ?, tally_revision = ?, tally_mac = ?, tally_form = ?", w.tally.sum[:], w.tally.revision,
		mac[:], form)
	return err
}

// storedTally is what the chest's row says of the tally.
type storedTally struct {
	Sum      []byte `db:"tally"`
	Revision int64  `db:"tally_revision"`
	MAC      []byte `db:"tally_mac"`
	Form     int    `db:"tally_form"`
}

// compare notes whether rows together are those that were stored.
func (l *loader) compare(stored storedTally, all map[string]bucket) (t tally) {
	if stored.Form == 1 {
		l.first.revision = stored.Revision
		mac := l.sealer.RowMAC(l.first.content())
		l.touched.Tally = !bytes.Equal(stored.Sum, l.first.sum[:]) || !hmac.Equal(stored.MAC, mac[:])
		return t
	}
	t = tally{sum: *l.sumOf(""), revision: stored.Revision}
	for _, one := range all {
		t.sum.add(l.sealer.RowTally(one.content()))
	}
	mac := l.sealer.RowMAC(t.content(stored.Form))
	l.touched.Tally = !bytes.Equal(stored.Sum, t.sum[:]) || !hmac.Equal(stored.MAC, mac[:])
	return t
}

// upgrade gives a chest that an earlier program wrote, and whose rows are as they were stored, the tally of today.
func (s *Store) upgrade(l *loader, snapshot *Snapshot, stored storedTally, all map[string]bucket) error {
	s.tally = tally{sum: *l.sumOf(""), revision: stored.Revision}
	for _, one := range all {
		s.tally.sum.add(s.sealer.RowTally(one.content()))
	}
	fresh := map[string]bucket{}
	for id, total := range l.sums {
		if id == "" || stored.Form != 1 {
			continue
		}
		one := bucket{ID: id, Sum: bytes.Clone(total[:]), Revision: 1}
		mac := s.sealer.RowMAC(one.content())
		one.MAC = mac[:]
		s.tally.sum.add(s.sealer.RowTally(one.content()))
		fresh[id], all[id] = one, one
	}
	tx, err := s.db.Beginx()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for _, one := range fresh {
		if _, err := tx.Stmtx(s.setBucket).Exec(one.ID, one.Sum, one.Revision, one.MAC); err != nil {
			return fmt.Errorf("write the sums of rows: %w", err)
		}
	}
	for i, slot := range snapshot.Slots {
		slot.Revision = 1
		content := authenticated(slot)
		mac := s.sealer.RowMAC(content)
		slot.MAC = mac[:]
		s.tally.sum.add(s.sealer.RowTally(content))
		if _, err := tx.NamedExec("UPDATE slots SET revision = :revision, mac = :mac WHERE id = :id", slot); err != nil {
			return fmt.Errorf("write the unlock methods: %w", err)
		}
		snapshot.Slots[i] = slot
	}
	if err := s.storeTally(tx); err != nil {
		return fmt.Errorf("write the tally: %w", err)
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("write the tally: %w", err)
	}
	s.buckets.reset(all)
	s.buckets.mu.Lock()
	for id := range fresh {
		s.buckets.checked[id] = nil
	}
	s.buckets.mu.Unlock()
	return nil
}

// turn authenticates all rows that are in memory, and the sums of the others, under another root key, in the transaction that rotates
// it. Their old authentication is checked first: a row put into the file meanwhile must not become a genuine one.
func (w *writer) turn(tx *sqlx.Tx, next Sealer) error {
	if w.sealer == nil {
		return ErrNotBound
	}
	total := sum{}
	for _, kind := range everyKind {
		if _, is := kind.(entity.Item); is {
			continue
		}
		if _, is := kind.(entity.Version); is {
			continue
		}
		if err := w.turnKind(tx, kind, next, &total); err != nil {
			return fmt.Errorf("authenticate %s by another root key: %w", kind.Table(), err)
		}
	}
	w.turned = w.buckets.copied() // all of them: such a work is alone in its transaction
	for id, one := range w.turned {
		one.Revision++
		mac := next.RowMAC(one.content())
		one.MAC = mac[:]
		total.add(next.RowTally(one.content()))
		if _, err := tx.Stmtx(w.setBucket).Exec(one.ID, one.Sum, one.Revision, one.MAC); err != nil {
			return err
		}
		w.turned[id] = one
	}
	w.sealer, w.tally.sum = next, total
	return nil
}

// turnKind is turn for the rows of one table.
func (w *writer) turnKind(tx *sqlx.Tx, kind entity.Row, next Sealer, total *sum) error {
	rows := reflect.New(reflect.SliceOf(reflect.TypeOf(kind)))
	if err := tx.Select(rows.Interface(), "SELECT "+strings.Join(columns(kind), ", ")+" FROM "+kind.Table()); err != nil {
		return err
	}
	set, err := tx.Preparex("UPDATE " + kind.Table() + " SET mac = ? WHERE id = ?")
	if err != nil {
		return err
	}
	defer func() { _ = set.Close() }()
	for i := range rows.Elem().Len() {
		row := rows.Elem().Index(i).Interface().(entity.Row)
		content := authenticated(row)
		if mac := w.sealer.RowMAC(content); !hmac.Equal(mac[:], row.Stamp().MAC) {
			return &TamperedError{Rows: []TouchedRow{{row.Table(), idOf(row)}}}
		}
		mac := next.RowMAC(content)
		total.add(next.RowTally(content))
		if _, err := set.Exec(mac[:], idOf(row)); err != nil {
			return err
		}
	}
	return nil
}
